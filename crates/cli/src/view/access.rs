//! Who loses access: the numbers first, then whom to call, then everybody else, one cause once and a line for each person.

use std::collections::BTreeSet;

use fencepost_core::{CauseKind, Effect, Ruling, Strictness};
use fencepost_engine::{
    AccessEntry, AccessReport, CauseGroup, CauseLine, DeniedCount, PersonGroup, ServiceGroup, group_by_cause,
    group_by_person,
};

use super::style::Styles;
use super::table::{Cell, Column, Table, wrap};
use super::text::{count, harmless, without_another_way};
use super::time::Clock;

/// What the entries are grouped by.
#[derive(Clone, Copy, Debug, PartialEq, Eq, clap::ValueEnum)]
pub enum GroupBy {
    /// One heading for each person
    Person,
    /// One heading for each service
    Service,
    /// One heading for each site
    Site,
    /// One heading for each rule that denies access
    Rule,
    /// One heading for each cause
    Cause,
}

/// Which part is shown alone.
#[derive(Clone, Copy, Debug, PartialEq, Eq, clap::ValueEnum)]
pub enum Only {
    /// Who lost a service and has no other way to it
    CallFirst,
    /// Who lost a service
    Lost,
    /// Who is let in with more obligations than before
    Reduced,
    /// Who got a service back
    Restored,
    /// Who will lose a service if nothing changes
    Losing,
    /// Who has terms to accept first
    Terms,
}

impl Only {
    /// Returns whether an entry of a list belongs to this part.
    pub fn shows(self, change: &str, entry: &AccessEntry) -> bool {
        match self {
            Self::CallFirst => change == "lost" && entry.calls_first(),
            Self::Lost => change == "lost",
            Self::Reduced => change == "reduced",
            Self::Restored => change == "restored",
            Self::Losing => change == "losing",
            Self::Terms => change == "terms",
        }
    }
}

/// No more people than this are named in a section, unless it is asked for alone.
const MOST_NAMED: usize = 12;
/// No more counts than this stand in a line of the summary.
const MOST_COUNTED: usize = 6;

pub struct AccessPage<'p> {
    pub clock: &'p Clock,
    pub styles: &'p Styles,
    pub width: usize,
    pub by: Option<GroupBy>,
    pub only: Option<Only>,
    /// Show what is denied now: by an access rule, or also by default.
    pub denied: bool,
    /// What is lost only if devices stay silent, where it was asked for.
    pub silent: &'p [AccessEntry],
}

/// A part of the page.
struct Section<'e> {
    title: &'static str,
    entries: Vec<&'e AccessEntry>,
    /// How to see all of it.
    option: &'static str,
    /// What is told comes in the future.
    ahead: bool,
    /// Whom to call, and how.
    with_contact: bool,
}

impl AccessPage<'_> {
    pub fn render(&self, report: &AccessReport) -> String {
        let mut out = self.summary(report);
        let sections = self.sections(report);
        sections.iter().for_each(|section| self.section(&mut out, section));
        if sections.is_empty() && (self.only.is_some() || self.denied) {
            out.push_str("\nNone\n");
        }
        let DeniedCount { people, devices_of_nobody } = report.denied_now;
        if !self.denied && self.only.is_none() && people + devices_of_nobody > 0 {
            let denied = counted(people, devices_of_nobody, ["is", "are"]);
            out.push_str(&format!("\n{denied} denied a service by an access rule now: fencepost access --denied\n"));
        }
        out
    }

    fn summary(&self, report: &AccessReport) -> String {
        let since = report.since.map_or_else(
            || "nothing earlier to compare with".to_owned(),
            |at| format!("since {}", self.clock.full(at)),
        );
        let mut out = format!("Access as of {} ({}), {since}\n", self.clock.full(report.as_of), self.clock.zone_name());
        let (bad, summary) = (self.styles.bad, &report.summary);
        let lost = people(&report.lost.iter().collect::<Vec<_>>(), "loses", "lose");
        let alone = without_another_way(summary.people, summary.call_first);
        let number = |entries: Vec<&AccessEntry>| group_by_person(entries).len();
        out.push_str(&format!(
            "{bad}{lost} a service{alone}{bad:#}; {} only reduced, {} restored\n",
            number(only_reduced(report)),
            number(report.restored.iter().collect()),
        ));
        let mut line = |word: &str, text: String| {
            let faint = self.styles.faint;
            for (at, part) in wrap(&text, self.width.saturating_sub(11)).into_iter().enumerate() {
                let word = if at == 0 { word } else { "" };
                out.push_str(&format!("  {faint}{word:<8}{faint:#} {part}\n"));
            }
        };
        if summary.people + summary.devices_of_nobody > 0 {
            let causes = summary.by_cause.iter().map(|count| {
                let rule = count.rule.as_deref().map(harmless);
                let name = match count.kind {
                    CauseKind::Finding | CauseKind::Silence | CauseKind::Uncovered => rule,
                    CauseKind::WaiverEnded => rule.map(|rule| format!("{rule} (waiver ended)")),
                    kind => rule.map(|rule| format!("{rule} ({})", kind.as_str())),
                };
                // Devices are counted where nobody holds them.
                let many = if count.people > 0 { count.people } else { count.devices };
                (name.unwrap_or_else(|| in_brief(count.kind).to_owned()), many)
            });
            line("because", counts(causes));
        }
        let many_sites = summary.by_site.len() > 1;
        if many_sites {
            let site = |site: &str| if site.is_empty() { "no site".to_owned() } else { harmless(site) };
            line("where", counts(summary.by_site.iter().map(|(key, people)| (site(key), *people))));
        }
        if summary.by_service.len() > 1 {
            line("what", counts(summary.by_service.iter().map(|(key, people)| (harmless(key), *people))));
        }
        let silent = match summary.only_if_silent {
            0 => String::new(),
            many => format!("{} only if nothing is heard of their devices", count(many, "person", "people")),
        };
        if !summary.terms_open.is_empty() {
            let open = summary.terms_open.iter().map(|(terms, people)| {
                format!("{} yet to accept {}", count(*people, "person has", "people have"), harmless(terms))
            });
            line("terms", open.collect::<Vec<_>>().join(", "));
        }
        match summary.next {
            Some((at, 0)) => line("next", format!("a device that nobody holds on {}", self.clock.both(at))),
            Some((at, people)) => {
                let next = format!("{} on {}", count(people, "person", "people"), self.clock.both(at));
                line("next", if silent.is_empty() { next } else { format!("{next}; {silent}") });
            }
            None if !silent.is_empty() => line("next", silent),
            None => {}
        }
        out
    }

    fn sections<'e>(&'e self, report: &'e AccessReport) -> Vec<Section<'e>> {
        // Everything that somebody loses is told in one place, with what is narrowed together with it.
        let alone: BTreeSet<&str> =
            report.lost.iter().filter(|entry| entry.calls_first()).filter_map(|it| it.person.as_deref()).collect();
        let losers: BTreeSet<&str> = report.lost.iter().filter_map(|it| it.person.as_deref()).collect();
        let is_of = |people: &BTreeSet<&str>, entry: &AccessEntry| {
            entry.person.as_deref().is_some_and(|person| people.contains(person))
        };
        let told = report.lost.iter().chain(report.reduced.iter().filter(|entry| is_of(&losers, entry)));
        let (first, rest): (Vec<&AccessEntry>, Vec<&AccessEntry>) = told.partition(|entry| is_of(&alone, entry));
        let is_nobodys = |entry: &&AccessEntry| entry.person.is_none();
        let lost = match rest.iter().any(is_nobodys) {
            true => "Also lost",
            false => "Lost, with another way to the service",
        };
        let section = |title, entries, option, ahead| Section { title, entries, option, ahead, with_contact: false };
        let mut all = vec![
            Section {
                with_contact: true,
                ..section("Call first: no other way to a service", first, "--only call-first", false)
            },
            section(lost, rest, "--only lost", false),
            section("Only reduced", only_reduced(report), "--only reduced", false),
            section("Restored", report.restored.iter().collect(), "--only restored", false),
            section(
                "Terms to accept",
                if self.only == Some(Only::Terms) { report.terms_open.iter().collect() } else { Vec::new() },
                "--only terms",
                false,
            ),
            section("Will lose, if nothing changes", report.losing.iter().collect(), "--only losing", true),
            section(
                "Will lose, only if nothing is heard of the device",
                self.silent.iter().collect(),
                "--only losing",
                true,
            ),
        ];
        if let Some(only) = self.only {
            let wanted = |section: &Section<'_>| match only {
                Only::CallFirst => section.with_contact,
                Only::Lost => section.with_contact || section.option == "--only lost",
                Only::Reduced => section.option == "--only reduced",
                Only::Restored => section.option == "--only restored",
                Only::Losing => section.option == "--only losing",
                Only::Terms => section.option == "--only terms",
            };
            all.retain(wanted);
            if only == Only::Reduced {
                all[0].entries = report.reduced.iter().collect();
            }
        }
        if self.denied {
            all.push(section("Denied now", report.denied.iter().collect(), "--denied", false));
        }
        all.retain(|section| !section.entries.is_empty());
        all
    }

    fn section(&self, out: &mut String, section: &Section<'_>) {
        let strong = self.styles.strong;
        out.push_str(&format!("\n{strong}{}{strong:#}\n", section.title));
        let Some(by) = self.by else {
            self.groups(out, section, &section.entries, 2);
            return;
        };
        let mut keys: Vec<String> = section.entries.iter().flat_map(|entry| heading(entry, by)).collect();
        keys.sort();
        keys.dedup();
        for key in keys {
            let own: Vec<&AccessEntry> =
                section.entries.iter().copied().filter(|entry| heading(entry, by).contains(&key)).collect();
            out.push_str(&format!("  {strong}{}{strong:#}  {}\n", harmless(&key), number(&own)));
            self.groups(out, section, &own, 4);
        }
    }

    /// One block for each cause: what it is, what to do, and a line for each person.
    fn groups(&self, out: &mut String, section: &Section<'_>, entries: &[&AccessEntry], indent: usize) {
        // A section that was asked for alone is told whole, as is one under headings.
        let whole = self.only.is_some() || self.by.is_some() || self.denied;
        let mut left = if whole { usize::MAX } else { MOST_NAMED };
        let mut kept_back = 0;
        let mut groups = group_by_cause(entries.iter().copied());
        // Of what lies ahead the next comes first.
        if section.ahead {
            groups.sort_by_key(CauseGroup::begins);
        }
        for group in groups {
            let named = group.people.len().min(left);
            kept_back += group.people.len() - named;
            left -= named;
            if named > 0 {
                self.group(out, section, &group, (named, indent));
            }
        }
        if kept_back > 0 {
            let pad = " ".repeat(indent);
            let more = count(kept_back as u64, "more", "more");
            out.push_str(&format!("{pad}and {more}: fencepost access {}\n", section.option));
        }
    }

    fn group(&self, out: &mut String, section: &Section<'_>, group: &CauseGroup<'_>, (named, indent): (usize, usize)) {
        let pad = " ".repeat(indent);
        let faint = self.styles.faint;
        let first = group.people[0].entries[0];
        let is_back = first.decision.strictness() == Strictness::Permitted;
        let because = because(group.causes);
        let because = if is_back { format!("what shut it is over: {because}") } else { because };
        // A heading has said a single cause already.
        let is_said = self.by == Some(GroupBy::Cause) && group.causes.len() == 1 && !is_back;
        let told = if is_said { String::new() } else { harmless(&because) };
        for part in wrap(&told, self.width.saturating_sub(indent)).into_iter().filter(|_| !is_said) {
            out.push_str(&format!("{pad}{part}\n"));
        }
        let mut fixes: Vec<&str> = group.causes.iter().filter_map(|line| line.fix.as_deref()).collect();
        fixes.dedup();
        for fix in fixes.into_iter().filter(|_| !is_back) {
            for (at, part) in wrap(&harmless(fix), self.width.saturating_sub(indent + 4)).into_iter().enumerate() {
                let word = if at == 0 { "do" } else { "" };
                out.push_str(&format!("{pad}{faint}{word:<2}{faint:#}  {part}\n"));
            }
        }
        let columns = [Column::Fixed, Column::Text, Column::Text, Column::Fixed];
        let mut table = Table::new(&columns.map(|column| ("", column))).indent(indent + 2);
        for person in &group.people[..named] {
            table.row(self.person(section, person));
            let contact = contact(person);
            if section.with_contact && !contact.is_empty() {
                table.row(vec![Cell::new(""), Cell::styled(contact, faint), Cell::new(""), Cell::new("")]);
            }
        }
        out.push_str(&table.render(self.width, self.styles));
    }

    fn person(&self, section: &Section<'_>, person: &PersonGroup<'_>) -> Vec<Cell> {
        let first = person.entries[0];
        let name = match person.person {
            Some(id) => person.contact.name.clone().unwrap_or_else(|| id.to_owned()),
            None => "nobody's device".to_owned(),
        };
        let devices: Vec<String> = person
            .devices()
            .into_iter()
            .map(|entry| match &entry.site {
                Some(site) => format!("{} ({site})", entry.device),
                None => entry.device.to_string(),
            })
            .collect();
        let moment = if section.ahead {
            format!("from {}", self.clock.moment(first.moment))
        } else {
            format!("since {}", self.clock.moment(first.moment))
        };
        let style = match first.decision.strictness() {
            Strictness::Permitted => self.styles.good,
            Strictness::Limited => self.styles.notice,
            Strictness::Denied => self.styles.bad,
        };
        vec![
            Cell::styled(name, style),
            Cell::new(what(person).join("; ")),
            Cell::new(devices.join(", ")),
            Cell::new(moment),
        ]
    }
}

/// What becomes of a person's services. Of one that is denied in one way and narrowed in another, the other way says both.
fn what(person: &PersonGroup<'_>) -> Vec<String> {
    let groups = person.by_terms();
    let is_denied = |title: &&str| {
        let mut denied = groups.iter().filter(|group| group.entry.decision.effect == Effect::Deny);
        denied.any(|group| group.titles.contains(title))
    };
    let is_denied_group = |group: &&ServiceGroup<'_>| group.entry.decision.effect == Effect::Deny;
    let told = groups.iter().enumerate().filter_map(|(at, group)| {
        let (titles, clients) = (group.titles.join(", "), group.clients.join(", "));
        // With several devices one way in is enough to be told.
        let mut before = groups[..at].iter().filter(is_denied_group);
        if is_denied_group(&group) && before.any(|it| it.titles == group.titles && it.clients == group.clients) {
            return None;
        }
        match group.entry.decision.strictness() {
            Strictness::Permitted => Some(format!("{titles} ({clients})")),
            Strictness::Limited if group.titles.iter().all(is_denied) => None,
            Strictness::Limited => Some(format!("{titles} ({clients}){}", with_obligations(&group.entry.decision))),
            Strictness::Denied => Some(match &group.entry.other {
                None => format!("{titles} ({clients})"),
                Some(other) => {
                    let way = if *other.device == *group.entry.device {
                        format!("by {}", other.client)
                    } else if group.clients.contains(&other.client.as_str()) {
                        format!("with {}", other.device)
                    } else {
                        format!("by {} on {}", other.client, other.device)
                    };
                    format!("{titles} ({clients}), still in {way}{}", with_obligations(&other.decision))
                }
            }),
        }
    });
    told.collect()
}

/// `charts 3, silence 2 and 4 more kinds`.
fn counts(counts: impl Iterator<Item = (String, u64)>) -> String {
    let all: Vec<String> = counts.map(|(key, people)| format!("{key} {people}")).collect();
    match all.len().checked_sub(MOST_COUNTED) {
        Some(more) if more > 0 => format!("{} and {more} more", all[..MOST_COUNTED].join(", ")),
        _ => all.join(", "),
    }
}

/// How to reach somebody.
fn contact(person: &PersonGroup<'_>) -> String {
    let contact = person.contact;
    let lead = contact.lead_name.as_ref().or(contact.lead.as_ref()).map(|lead| format!("lead {lead}"));
    let parts = [contact.phone.clone(), contact.mail.clone(), lead, contact.unit.clone()];
    parts.into_iter().flatten().collect::<Vec<_>>().join(", ")
}

/// What is narrowed for people who lose nothing.
fn only_reduced(report: &AccessReport) -> Vec<&AccessEntry> {
    let losers: BTreeSet<&str> = report.lost.iter().filter_map(|it| it.person.as_deref()).collect();
    let is_told_there = |entry: &AccessEntry| entry.person.as_deref().is_some_and(|person| losers.contains(person));
    report.reduced.iter().filter(|entry| !is_told_there(entry)).collect()
}

/// `3 people lose`, and the devices that nobody holds beside them.
fn people(entries: &[&AccessEntry], one: &str, many: &str) -> String {
    let groups = group_by_person(entries.iter().copied());
    let number = groups.iter().filter(|group| group.person.is_some()).count() as u64;
    counted(number, groups.len() as u64 - number, [one, many])
}

/// `3 people and 2 devices that nobody holds lose`.
fn counted(number: u64, nobodys: u64, verbs: [&str; 2]) -> String {
    let verb = if number + nobodys == 1 { verbs[0] } else { verbs[1] };
    let people = count(number, "person", "people");
    let devices = count(nobodys, "device that nobody holds", "devices that nobody holds");
    match (number, nobodys) {
        (_, 0) => format!("{people} {verb}"),
        (0, _) => format!("{devices} {verb}"),
        (_, _) => format!("{people} and {devices} {verb}"),
    }
}

/// `3 people, 2 devices of nobody`.
fn number(entries: &[&AccessEntry]) -> String {
    people(entries, "", "").trim_end().to_owned()
}

/// A cause that names no rule, as the summary counts it.
fn in_brief(kind: CauseKind) -> &'static str {
    match kind {
        CauseKind::Membership => "handed on",
        CauseKind::Left => "left the list",
        CauseKind::Retired => "device retired",
        CauseKind::Default => "no access rule",
        CauseKind::RuleChanged => "edited rules",
        CauseKind::WaiverEnded => "waiver ended",
        other => other.as_str(),
    }
}

/// ` with no download`, where access is permitted with obligations.
fn with_obligations(decision: &Ruling) -> String {
    match decision.strictness() {
        Strictness::Limited => format!(" with {}", decision.obligations_in_words()),
        Strictness::Permitted | Strictness::Denied => String::new(),
    }
}

fn heading(entry: &AccessEntry, by: GroupBy) -> Vec<String> {
    match by {
        GroupBy::Person => {
            let name = entry.contact.name.clone().or_else(|| entry.person.as_deref().map(str::to_owned));
            vec![name.unwrap_or_else(|| "nobody's".to_owned())]
        }
        GroupBy::Service => vec![entry.service_title.to_string()],
        GroupBy::Site => vec![entry.site.as_deref().unwrap_or("(none)").to_owned()],
        GroupBy::Rule => {
            let rules = entry.causes.iter().map(|line| line.cause.rule.clone().unwrap_or_else(|| cause(line)));
            rules.collect()
        }
        GroupBy::Cause => entry.causes.iter().map(cause).collect(),
    }
}

/// What shuts the way, without when.
fn because(causes: &[CauseLine]) -> String {
    let said: Vec<String> = causes.iter().map(cause).collect();
    if said.is_empty() { "nothing is known of why".to_owned() } else { said.join("; ") }
}

/// What has to change, in words.
pub fn cause(line: &CauseLine) -> String {
    let cause = &line.cause;
    let rule = cause.access_rule.as_deref().unwrap_or("the access rule");
    let fact = cause.fact.as_deref();
    match cause.kind {
        CauseKind::WaiverEnded => match &cause.rule {
            Some(rule) => format!("the waiver of {rule} ends"),
            None => "a waiver ends".to_owned(),
        },
        CauseKind::Finding | CauseKind::Silence | CauseKind::Uncovered => match (&cause.rule, &line.title) {
            (Some(rule), Some(title)) if rule != title => format!("{rule}: {title}"),
            (Some(rule), _) => rule.clone(),
            (None, Some(title)) => title.clone(),
            (None, None) => cause.kind.as_str().to_owned(),
        },
        CauseKind::Condition => match fact {
            Some(fact) => format!("{rule} asks for {fact}"),
            None => format!("{rule} is never met"),
        },
        CauseKind::Certificate => format!("the device is not managed any more, as {rule} asks"),
        CauseKind::Default => "no access rule is for them".to_owned(),
        CauseKind::Membership => match (fact, &cause.access_rule) {
            (Some("person"), Some(rule)) => format!("it is not known whether they belong to those whom {rule} is for"),
            (Some(group), Some(rule)) => format!("{rule} asks for group {group}"),
            (None, Some(rule)) => format!("they do not belong any more to those whom {rule} is for"),
            (_, None) => "the device is not theirs any more".to_owned(),
        },
        CauseKind::Terms => format!("terms {} are not accepted", fact.unwrap_or("of the access rule")),
        CauseKind::Left => "they are on no list of people any more".to_owned(),
        CauseKind::Retired => "the device was retired".to_owned(),
        CauseKind::RuleChanged => match &cause.access_rule {
            Some(rule) => format!("{rule} was edited"),
            None => "access.toml was edited".to_owned(),
        },
    }
}
