//! The proof of a verdict: the comparisons that decided it, each with the fact, what was required, its
//! source and its moment. Built by the evaluator itself while it decides.

use jiff::Timestamp;

use crate::facts::value::Reason;

/// How a part of a condition came out.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Outcome {
    /// It holds.
    True,
    /// It does not hold.
    False,
    /// It is not known whether it holds.
    Unknown(Reason),
}

/// A fact that was read.
#[derive(Clone, Debug, PartialEq)]
pub struct FactUse {
    /// Its path.
    pub path: String,
    /// Its value, as shown to a person.
    pub value: String,
    /// The source that won; none when nobody reports it or a correction set it.
    pub source: Option<String>,
    /// When it was collected.
    pub collected: Option<Timestamp>,
    /// Who corrected it and why, when somebody did.
    pub corrected: Option<(String, String)>,
}

/// The fact to blame for something unknown.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Blame {
    /// Its path; of a list's item, the list's path and the field's.
    pub fact: String,
    /// Why it is not known.
    pub reason: Reason,
}

/// One item of a list that decided.
#[derive(Clone, Debug, PartialEq)]
pub struct ItemEvidence {
    /// The item's name, or its number in the list.
    pub label: String,
    /// What about it decided.
    pub parts: Vec<Evidence>,
}

/// Why a condition came out as it did; only the parts that decided.
#[derive(Clone, Debug, PartialEq)]
pub enum Evidence {
    /// One comparison.
    Comparison {
        /// What was looked at, as written: `os.version`.
        subject: String,
        /// The whole path of the fact that was looked at, where it is one: `disks[].encrypted` for `d.encrypted` of an item.
        path: Option<String>,
        /// What was found.
        observed: String,
        /// What was asked for: `>= 12.0`.
        required: String,
        /// Whether it was met.
        outcome: Outcome,
        /// The facts read for it.
        facts: Vec<FactUse>,
        /// The fact to blame, when the outcome is unknown.
        blame: Option<Blame>,
    },
    /// Several that had to hold together.
    All {
        /// Whether they did.
        outcome: Outcome,
        /// Those that decided.
        parts: Vec<Evidence>,
    },
    /// Several of which one was enough.
    Any {
        /// Whether one held.
        outcome: Outcome,
        /// Those that decided; every branch when none held.
        parts: Vec<Evidence>,
    },
    /// The items of a list.
    Items {
        /// The list, as written.
        list: String,
        /// All had to hold, not just one.
        every: bool,
        /// How it came out.
        outcome: Outcome,
        /// How many items the list has.
        total: usize,
        /// How many of them decided.
        decided: usize,
        /// The first of those.
        items: Vec<ItemEvidence>,
        /// The facts read for the list itself.
        facts: Vec<FactUse>,
        /// The fact to blame, when the list itself is unknown.
        blame: Option<Blame>,
    },
    /// A list that is empty, so that every item of it meets anything.
    NothingToCheck {
        /// The list, as written.
        list: String,
        /// That every item of nothing meets it, or below a `not` breaks it.
        outcome: Outcome,
        /// The facts read for the list.
        facts: Vec<FactUse>,
    },
}

/// What the clock of a finding goes by, of the evidence of a verdict.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct EvidenceSummary {
    /// The newest moment at which any fact of the evidence was collected.
    pub collected: Option<Timestamp>,
    /// A fact of it was set by a correction.
    pub corrected: bool,
    /// The facts to blame for what is unknown, each once, in order.
    pub blames: Vec<Blame>,
}

impl EvidenceSummary {
    /// Of evidence that was gathered.
    pub fn of(evidence: &Evidence) -> Self {
        let mut blames = Vec::new();
        evidence.blames(&mut blames);
        blames.sort();
        blames.dedup();
        Self { collected: evidence.collected(), corrected: evidence.is_corrected(), blames }
    }
}

impl Evidence {
    /// Returns the same proof with every value of a device put through `shown`.
    pub fn map_values(mut self, shown: &dyn Fn(&str) -> String) -> Self {
        let uses = |facts: &mut Vec<FactUse>| facts.iter_mut().for_each(|fact| fact.value = shown(&fact.value));
        let all = |parts: Vec<Self>| parts.into_iter().map(|part| part.map_values(shown)).collect();
        match &mut self {
            Self::Comparison { observed, facts, .. } => {
                *observed = shown(observed);
                uses(facts);
            }
            Self::All { parts, .. } | Self::Any { parts, .. } => *parts = all(std::mem::take(parts)),
            Self::Items { items, facts, .. } => {
                for item in items {
                    item.label = shown(&item.label);
                    item.parts = all(std::mem::take(&mut item.parts));
                }
                uses(facts);
            }
            Self::NothingToCheck { facts, .. } => uses(facts),
        }
        self
    }

    /// Returns how this part came out.
    pub fn outcome(&self) -> Outcome {
        match self {
            Self::Comparison { outcome, .. }
            | Self::All { outcome, .. }
            | Self::Any { outcome, .. }
            | Self::Items { outcome, .. }
            | Self::NothingToCheck { outcome, .. } => *outcome,
        }
    }

    /// Calls `visit` for every fact that was read.
    pub fn for_each_fact<'e>(&'e self, visit: &mut impl FnMut(&'e FactUse)) {
        match self {
            Self::Comparison { facts, .. } | Self::NothingToCheck { facts, .. } => facts.iter().for_each(visit),
            Self::All { parts, .. } | Self::Any { parts, .. } => {
                parts.iter().for_each(|part| part.for_each_fact(visit))
            }
            Self::Items { items, facts, .. } => {
                facts.iter().for_each(&mut *visit);
                items.iter().flat_map(|item| &item.parts).for_each(|part| part.for_each_fact(visit));
            }
        }
    }

    /// Collects the facts to blame for what is unknown.
    pub fn blames(&self, into: &mut Vec<Blame>) {
        match self {
            Self::Comparison { blame, .. } => into.extend(blame.clone()),
            Self::All { parts, .. } | Self::Any { parts, .. } => parts.iter().for_each(|part| part.blames(into)),
            Self::Items { items, blame, .. } => {
                into.extend(blame.clone());
                items.iter().flat_map(|item| &item.parts).for_each(|part| part.blames(into));
            }
            Self::NothingToCheck { .. } => {}
        }
    }

    /// Returns the newest moment at which any fact of this evidence was collected.
    pub fn collected(&self) -> Option<Timestamp> {
        let mut newest = None;
        self.for_each_fact(&mut |fact| newest = newest.max(fact.collected));
        newest
    }

    /// Returns whether a fact of this path is among the evidence.
    pub fn names_fact(&self, path: &str) -> bool {
        let mut is_named = false;
        self.for_each_fact(&mut |fact| is_named |= fact.path == path);
        is_named
    }

    /// Returns whether any fact of this evidence was set by a correction.
    pub fn is_corrected(&self) -> bool {
        let mut corrected = false;
        self.for_each_fact(&mut |fact| corrected |= fact.corrected.is_some());
        corrected
    }

    /// Returns the short form for a line of a table: the first comparison that decided, and how many more.
    pub fn headline(&self) -> String {
        let Headline { item, subject, found, required, more } = self.headline_parts();
        let item = item.map(|item| format!("{item}: ")).unwrap_or_default();
        let observed = if subject.is_empty() { found } else { format!("{subject} is {found}") };
        let required = required.map(|required| format!(", required {required}")).unwrap_or_default();
        let more = if more > 0 { format!(" (and {more} more)") } else { String::new() };
        format!("{item}{observed}{required}{more}")
    }

    /// Returns the first comparison that decided, in its parts.
    pub fn headline_parts(&self) -> Headline {
        let only = |found: String| Headline { found, ..Headline::default() };
        match self {
            Self::Comparison { subject, observed, required, .. } => Headline {
                subject: subject.clone(),
                found: observed.clone(),
                required: Some(required.clone()),
                ..Headline::default()
            },
            Self::All { parts, .. } | Self::Any { parts, .. } => match parts.as_slice() {
                [] => Headline::default(),
                [first, rest @ ..] => {
                    let first = first.headline_parts();
                    Headline { more: first.more + rest.len(), ..first }
                }
            },
            Self::Items { list, decided, total, items, blame, .. } => match (items.first(), blame) {
                (Some(first), _) => {
                    let detail = first.parts.first().map(Self::headline_parts).unwrap_or_default();
                    let more = detail.more + decided.saturating_sub(1);
                    Headline { item: Some(first.label.clone()), more, ..detail }
                }
                (None, Some(blame)) => only(format!("{} is {}", blame.fact, blame.reason.as_str())),
                (None, None) => only(format!("{decided} of {total} in {list}")),
            },
            Self::NothingToCheck { list, .. } => only(format!("nothing to check: {list} is empty")),
        }
    }
}

/// A proof in a line.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Headline {
    /// The item of a list that it is about.
    pub item: Option<String>,
    /// What was looked at, as written; empty where `found` says it all.
    pub subject: String,
    /// What was found.
    pub found: String,
    /// What was asked for, where that can be said.
    pub required: Option<String>,
    /// How much else decided.
    pub more: usize,
}

impl Headline {
    /// Returns what was found, for somebody who does not know the rule: `os.version is 11.0`, `encrypted is false (C:)`, `seedpool`.
    pub fn observed(&self) -> String {
        let Self { item, subject, found, more, .. } = self;
        let said = match item {
            // What a quantifier calls its items means nothing outside of it.
            Some(item) if found == item => item.clone(),
            Some(item) => {
                format!("{} is {found} ({item})", subject.split_once('.').map_or(&**subject, |(_, rest)| rest))
            }
            None if subject.is_empty() => found.clone(),
            None => format!("{subject} is {found}"),
        };
        match more {
            0 => said,
            more => format!("{said}, and {more} more"),
        }
    }
}
