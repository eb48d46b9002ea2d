//! Who loses access: one block a change, and for each person and device what shut the door and what to do.

use std::collections::BTreeSet;

use fencepost_core::{Effect, LossCause, Ruling, Strictness};
use fencepost_engine::{AccessEntry, AccessReport};

use super::gather::Gathered;
use super::style::Styles;
use super::table::wrap;
use super::text::{count, harmless};
use super::time::Clock;

/// What the rows are grouped by.
#[derive(Clone, Copy, Debug, PartialEq, Eq, clap::ValueEnum)]
pub enum By {
    /// One heading for each person
    Person,
    /// One heading for each service
    Service,
    /// One heading for each site
    Site,
    /// One heading for each rule that shuts the door
    Rule,
}

pub struct AccessPage<'p> {
    pub clock: &'p Clock,
    pub styles: &'p Styles,
    pub width: usize,
    pub by: Option<By>,
    pub denied: bool,
}

impl AccessPage<'_> {
    pub fn render(&self, report: &AccessReport) -> String {
        let mut out = String::new();
        let since = report.since.map_or_else(
            || "nothing earlier to compare with".to_owned(),
            |at| format!("since {}", self.clock.full(at)),
        );
        out.push_str(&format!(
            "Access as of {} ({}), {since}\n",
            self.clock.full(report.as_of),
            self.clock.zone_name()
        ));
        let bad = self.styles.bad;
        let lost = people(&report.lost, "loses", "lose");
        let losing = people(&report.losing, "is", "are");
        out.push_str(&format!(
            "{bad}{lost} a service{bad:#}; {} reduced, {} restored; {losing} about to lose one\n",
            number_of_people(&report.reduced),
            number_of_people(&report.restored),
        ));
        // What is narrowed together with a loss is told with it.
        let told = |entry: &AccessEntry| (entry.device.clone(), entry.moment, entry.cause, entry.because.clone());
        let (with_lost, reduced): (Vec<AccessEntry>, Vec<AccessEntry>) =
            report.reduced.iter().cloned().partition(|entry| report.lost.iter().any(|lost| told(lost) == told(entry)));
        let lost: Vec<AccessEntry> = report.lost.iter().cloned().chain(with_lost).collect();
        let sections: [(&str, &[AccessEntry], bool); 4] = [
            ("Lost", &lost, false),
            ("Reduced", &reduced, false),
            ("Restored", &report.restored, false),
            ("Will lose, if nothing changes", &report.losing, true),
        ];
        for (title, entries, ahead) in sections {
            self.section(&mut out, title, entries, ahead);
        }
        if self.denied {
            self.section(&mut out, "Denied now", &report.denied, false);
        } else if !report.denied.is_empty() {
            let denied = people(&report.denied, "is", "are");
            out.push_str(&format!("\n{denied} denied a service by an access rule now: fencepost access --denied\n"));
        }
        out
    }

    fn section(&self, out: &mut String, title: &str, entries: &[AccessEntry], ahead: bool) {
        if entries.is_empty() {
            return;
        }
        let strong = self.styles.strong;
        out.push_str(&format!("\n{strong}{title}{strong:#}\n"));
        let Some(by) = self.by else {
            self.blocks(out, &entries.iter().collect::<Vec<_>>(), ahead, 2);
            return;
        };
        let mut keys: Vec<String> = entries.iter().flat_map(|entry| heading(entry, by)).collect();
        keys.sort();
        keys.dedup();
        for key in keys {
            let own: Vec<&AccessEntry> = entries.iter().filter(|entry| heading(entry, by).contains(&key)).collect();
            out.push_str(&format!("  {strong}{}{strong:#}\n", harmless(&key)));
            self.blocks(out, &own, ahead, 4);
        }
    }

    /// One block for each device and cause: who loses what, because of what, and what to do.
    fn blocks(&self, out: &mut String, entries: &[&AccessEntry], ahead: bool, indent: usize) {
        let told = |entry: &AccessEntry| (entry.device.clone(), entry.moment, entry.cause, entry.because.clone());
        for (_, block) in Gathered::of(entries.iter().map(|entry| (told(entry), *entry))) {
            self.block(out, &block, ahead, indent);
        }
    }

    fn block(&self, out: &mut String, block: &[&AccessEntry], ahead: bool, indent: usize) {
        let first = block[0];
        let pad = " ".repeat(indent);
        let place = first.place.as_ref().map(|place| format!(" ({})", harmless(place))).unwrap_or_default();
        let moment = if ahead {
            format!("from {}", self.clock.both(first.moment))
        } else {
            format!("since {}", self.clock.both(first.moment))
        };
        let style =
            if first.decision.strictness() == Strictness::Permitted { self.styles.good } else { self.styles.bad };
        out.push_str(&format!("{pad}{style}{}{style:#}{place}, {moment}\n", harmless(&first.device)));
        let mut line = |word: &str, text: &str| {
            let faint = self.styles.faint;
            for (at, part) in wrap(text, self.width.saturating_sub(indent + 11)).into_iter().enumerate() {
                let word = if at == 0 { word } else { "" };
                out.push_str(&format!("{pad}  {faint}{word:<8}{faint:#} {part}\n"));
            }
        };
        for (people, what) in who_and_what(block) {
            line("who", &format!("{}: {what}", people.join(", ")));
        }
        line("because", &harmless(&because(first, self.clock)));
        let mut fixes: Vec<&String> = first.because.iter().filter_map(|because| because.fix.as_ref()).collect();
        fixes.dedup();
        for fix in fixes {
            line("do", &harmless(fix));
        }
        for told in others(block) {
            line(told.0, &told.1);
        }
    }
}

fn number_of_people(entries: &[AccessEntry]) -> u64 {
    let people: BTreeSet<&String> = entries.iter().filter_map(|entry| entry.person.as_ref()).collect();
    people.len() as u64
}

/// `3 people lose`, and the devices that nobody holds beside them.
fn people(entries: &[AccessEntry], one: &str, many: &str) -> String {
    let nobodys: BTreeSet<&String> =
        entries.iter().filter(|entry| entry.person.is_none()).map(|entry| &entry.device).collect();
    let number = number_of_people(entries);
    let verb = if number + nobodys.len() as u64 == 1 { one } else { many };
    match nobodys.len() as u64 {
        0 => format!("{} {verb}", count(number, "person", "people")),
        devices => {
            let devices = count(devices, "device that nobody holds", "devices that nobody holds");
            if number == 0 {
                format!("{devices} {verb}")
            } else {
                format!("{} and {devices} {verb}", count(number, "person", "people"))
            }
        }
    }
}

/// People of whom the same is told, each with the services in question.
fn who_and_what(block: &[&AccessEntry]) -> Vec<(Vec<String>, String)> {
    let people = Gathered::of(block.iter().map(|entry| (&entry.person, *entry)));
    let told = people.into_iter().map(|(_, own)| {
        let by_terms = Gathered::of(own.iter().map(|entry| {
            let terms = (entry.client.as_str(), &entry.decision);
            (terms, harmless(&entry.service_title))
        }));
        // Clients that reach the same services on the same terms stand together.
        let by_services =
            Gathered::of(by_terms.into_iter().map(|((client, decision), titles)| ((decision, titles), client)));
        let what: Vec<String> = by_services
            .into_iter()
            .map(|((decision, titles), clients)| {
                let terms = with_obligations(decision);
                format!("{} ({}){terms}", titles.join(", "), clients.join(", "))
            })
            .collect();
        (what.join("; "), person_of(own[0]))
    });
    Gathered::of(told).into_iter().map(|(what, people)| (people, what)).collect()
}

/// ` with no download`, where a door opens with obligations.
fn with_obligations(decision: &Ruling) -> String {
    match decision.strictness() {
        Strictness::Limited => format!(" with {}", decision.obligations_in_words()),
        Strictness::Permitted | Strictness::Denied => String::new(),
    }
}

fn person_of(entry: &AccessEntry) -> String {
    entry.person_name.as_deref().or(entry.person.as_deref()).map_or_else(|| "nobody's device".to_owned(), harmless)
}

/// Who is shut out altogether, to be called first; and who still gets in with another device.
fn others(block: &[&AccessEntry]) -> Vec<(&'static str, String)> {
    let shut: Vec<&&AccessEntry> =
        block.iter().filter(|entry| entry.decision.effect == Effect::Deny && entry.person.is_some()).collect();
    let alone = Gathered::of(
        shut.iter()
            .filter(|entry| entry.other.is_none())
            .map(|entry| (person_of(entry), harmless(&entry.service_title))),
    );
    let helped = Gathered::of(shut.iter().filter_map(|entry| {
        let with = harmless(&entry.other.as_ref()?.device);
        Some((format!("{} with {with}", person_of(entry)), harmless(&entry.service_title)))
    }));
    let told = |all: Gathered<String, String>| {
        all.into_iter().map(|(who, titles)| format!("{who} ({})", titles.join(", "))).collect::<Vec<_>>().join("; ")
    };
    let mut lines = Vec::new();
    if !alone.is_empty() {
        lines.push(("call", format!("first, having no other device that gets in: {}", told(alone))));
    }
    if !helped.is_empty() {
        lines.push(("still in", told(helped)));
    }
    lines
}

fn heading(entry: &AccessEntry, by: By) -> Vec<String> {
    match by {
        By::Person => {
            vec![entry.person_name.clone().or_else(|| entry.person.clone()).unwrap_or_else(|| "nobody's".to_owned())]
        }
        By::Service => vec![entry.service_title.clone()],
        By::Site => vec![entry.place.clone().unwrap_or_else(|| "(none)".to_owned())],
        By::Rule if entry.because.is_empty() => vec![cause(entry)],
        By::Rule => entry.because.iter().map(|because| because.rule.clone()).collect(),
    }
}

fn cause(entry: &AccessEntry) -> String {
    let rule = entry.access_rule.clone().unwrap_or_default();
    match entry.cause {
        Some(LossCause::Finding) => "a finding".to_owned(),
        Some(LossCause::Silence) => "silence".to_owned(),
        Some(LossCause::Uncovered) => "no enforced rule covers the device".to_owned(),
        Some(LossCause::Membership) => "no access rule lets them in".to_owned(),
        Some(LossCause::Condition) => format!("{rule} asks for more"),
        Some(LossCause::RuleChanged) => "the rules were changed".to_owned(),
        None => String::new(),
    }
}

fn because(entry: &AccessEntry, clock: &Clock) -> String {
    if entry.decision.strictness() == Strictness::Permitted {
        return format!("what shut it is over: {}", cause(entry));
    }
    if entry.because.is_empty() {
        return cause(entry);
    }
    let said: Vec<String> = entry
        .because
        .iter()
        .map(|because| {
            format!(
                "{}: {} (since {}, due {})",
                because.rule,
                because.title,
                clock.moment(because.opened),
                clock.moment(because.due)
            )
        })
        .collect();
    said.join("; ")
}
