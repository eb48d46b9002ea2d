//! The proof of a verdict, as lines.

use std::fmt::Write as _;

use fencepost_core::{Dictionary, Evidence, FactUse, ItemEvidence, Outcome, Reason};
use fencepost_engine::FactLine;

use super::style::Styles;
use super::text::harmless;
use super::time::Clock;

/// A proof, with what else is known of the facts in it.
pub struct Proof<'p> {
    pub evidence: &'p Evidence,
    pub dictionary: &'p Dictionary,
    /// The device's facts, for what other sources say of them; none where there is no device.
    pub facts: &'p [FactLine],
    pub clock: &'p Clock,
    pub styles: &'p Styles,
}

impl Proof<'_> {
    /// Renders the proof as indented lines: observed, required, and where each fact came from.
    pub fn render(&self, indent: usize) -> String {
        let mut out = String::new();
        let Self { evidence, dictionary, facts, clock, styles } = *self;
        EvidenceLines { dictionary, known: facts, clock, styles, out: &mut out }.part(evidence, indent);
        out
    }
}

struct EvidenceLines<'l> {
    dictionary: &'l Dictionary,
    known: &'l [FactLine],
    clock: &'l Clock,
    styles: &'l Styles,
    out: &'l mut String,
}

impl EvidenceLines<'_> {
    fn line(&mut self, indent: usize, word: &str, text: &str) {
        let faint = self.styles.faint;
        let _ = writeln!(self.out, "{}{faint}{word:<9}{faint:#} {text}", " ".repeat(indent));
    }

    fn part(&mut self, evidence: &Evidence, indent: usize) {
        match evidence {
            Evidence::Comparison { subject, path: _, observed, required, outcome, facts, blame } => {
                let subject = harmless(subject.trim());
                let observed = harmless(observed);
                let label = self.dictionary.facts.get(&subject).and_then(|declared| declared.labels.get(&observed));
                let label = label.map(|label| format!(" ({label})")).unwrap_or_default();
                let said =
                    if subject == observed { subject.clone() } else { format!("{subject} is {observed}{label}") };
                let style = if *outcome == Outcome::False { self.styles.strong } else { anstyle::Style::new() };
                self.line(indent, "observed", &format!("{style}{said}{style:#}"));
                self.line(indent, "required", &harmless(required));
                if let (Outcome::Unknown(reason), Some(blame)) = (outcome, blame)
                    && !blame.fact.is_empty()
                    // A fact that is simply not there has been said to be so.
                    && !(blame.fact == subject && *reason == Reason::Missing)
                {
                    self.line(indent, "to blame", &format!("{}: {}", harmless(&blame.fact), in_words(*reason)));
                }
                for fact in facts.iter().filter(|fact| {
                    fact.path != subject && fact.source.is_some() && !fact.value.starts_with("a list of ")
                }) {
                    self.line(indent, "reading", &format!("{} is {}", harmless(&fact.path), harmless(&fact.value)));
                }
                self.sources(facts, indent);
            }
            Evidence::All { outcome, parts } => self.parts("each of these had to hold", *outcome, parts, indent),
            Evidence::Any { outcome, parts } => self.parts("one of these had to hold", *outcome, parts, indent),
            Evidence::Items { list, every, outcome, total, decided, items, facts, blame } => {
                let list = harmless(list.trim());
                if let Some(blame) = blame {
                    self.line(indent, "to blame", &format!("{}: {}", harmless(&blame.fact), in_words(blame.reason)));
                } else {
                    let said = match (every, outcome) {
                        (true, Outcome::False) => format!("{decided} of {total} in {list} break it"),
                        (false, Outcome::True) => format!("{decided} of {total} in {list} meet it"),
                        (_, Outcome::Unknown(_)) => format!("{decided} of {total} in {list} cannot be told"),
                        (true, Outcome::True) => format!("all {total} in {list} meet it"),
                        (false, Outcome::False) => format!("none of {total} in {list} meets it"),
                    };
                    self.line(indent, "observed", &said);
                }
                self.sources(facts, indent);
                if let Some(allowed) = names_allowed(items) {
                    let names: Vec<String> = items.iter().map(|item| harmless(&item.label)).collect();
                    let more = match decided.saturating_sub(items.len()) {
                        0 => String::new(),
                        more => format!(", and {more} more"),
                    };
                    let _ = writeln!(self.out, "{}named by nobody: {}{more}", " ".repeat(indent), names.join(", "));
                    self.line(indent, "required", &format!("one of the {allowed} that are named"));
                    return;
                }
                for item in items {
                    let strong = self.styles.strong;
                    let _ = writeln!(self.out, "{}{strong}{}{strong:#}", " ".repeat(indent + 2), harmless(&item.label));
                    for part in &item.parts {
                        self.part(part, indent + 4);
                    }
                }
                if decided > &items.len() {
                    let _ = writeln!(self.out, "{}and {} more", " ".repeat(indent + 2), decided - items.len());
                }
            }
            Evidence::NothingToCheck { list, facts, .. } => {
                self.line(
                    indent,
                    "observed",
                    &format!("{} is empty: there was nothing to check", harmless(list.trim())),
                );
                self.sources(facts, indent);
            }
        }
    }

    fn parts(&mut self, heading: &str, outcome: Outcome, parts: &[Evidence], indent: usize) {
        if parts.len() > 1 {
            let said = match outcome {
                Outcome::True => "all met",
                Outcome::False => "not met",
                Outcome::Unknown(_) => "cannot be told",
            };
            let _ = writeln!(self.out, "{}{heading} ({said}):", " ".repeat(indent));
        }
        for part in parts {
            self.part(part, if parts.len() > 1 { indent + 2 } else { indent });
        }
    }

    fn sources(&mut self, facts: &[FactUse], indent: usize) {
        let mut told: Vec<String> = Vec::new();
        for fact in facts {
            let said = if let Some((by, because)) = &fact.corrected {
                format!("corrected by {}: {}", harmless(by), harmless(because))
            } else if let Some(source) = &fact.source {
                let age = fact
                    .collected
                    .map_or_else(|| "at an unknown time".to_owned(), |at| format!("collected {}", self.clock.both(at)));
                format!("{}, {age}", harmless(source))
            } else {
                format!("no source reports {}", harmless(&fact.path))
            };
            if !told.contains(&said) {
                self.line(indent, "from", &said);
                told.push(said);
            }
        }
        for fact in facts {
            let known = self.known;
            for other in known.iter().filter(|known| known.path == fact.path).flat_map(|known| &known.losers) {
                let age = other.collected.map_or_else(String::new, |at| format!(", collected {}", self.clock.both(at)));
                let said = format!("{} says {}{age}", harmless(&other.source), harmless(&other.value));
                if !told.contains(&said) {
                    self.line(indent, "but", &said);
                    told.push(said);
                }
            }
        }
    }
}

/// From so many on, the names that a list may hold are counted.
const MANY_NAMES: usize = 4;

/// Returns how many names were allowed, where each of some items is called by none of many.
fn names_allowed(items: &[ItemEvidence]) -> Option<usize> {
    let mut allowed = items.iter().map(|item| match item.parts.as_slice() {
        [Evidence::Any { outcome: Outcome::False, parts }] if parts.len() >= MANY_NAMES => {
            let is_name = |part: &Evidence| matches!(part, Evidence::Comparison { .. });
            parts.iter().all(is_name).then_some(parts.len())
        }
        _ => None,
    });
    let first = allowed.next()??;
    allowed.all(|other| other == Some(first)).then_some(first)
}

/// Why something is not known, to a person.
pub fn in_words(reason: Reason) -> &'static str {
    match reason {
        Reason::Missing => "not collected",
        Reason::Null => "collected, and empty",
        Reason::WrongType => "not of the type it should be",
        Reason::Stale => "too old to count",
        Reason::Clock => "dated after this assessment",
        Reason::Scope => "whether the rule covers the device cannot be told",
        Reason::Error => "could not be worked out",
    }
}
