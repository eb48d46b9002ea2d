//! Ways into services, put together by what shuts or narrows them.

use std::collections::BTreeSet;

use fencepost_core::Effect;
use fencepost_engine::{AccessEntry, PersonGroup, group_by_cause};

use super::Page;
use super::access::cause;
use super::table::{Cell, Column, Table, wrap};
use super::text::{count, harmless};

/// So many people are told of below a cause.
const MOST_PEOPLE: usize = 20;

/// How many people, and devices that nobody holds, entries are about: `4 people and 1 device of nobody`.
pub fn whose<'e>(entries: impl Iterator<Item = &'e AccessEntry> + Clone) -> String {
    let people: BTreeSet<&str> = entries.clone().filter_map(|entry| entry.person.as_deref()).collect();
    let devices: BTreeSet<&str> = entries.filter(|entry| entry.person.is_none()).map(|entry| &*entry.device).collect();
    let said = [(people.len(), "person", "people"), (devices.len(), "device of nobody", "devices of nobody")];
    let said = said.into_iter().filter(|(number, ..)| *number > 0);
    said.map(|(number, one, many)| count(number as u64, one, many)).collect::<Vec<_>>().join(" and ")
}

impl Page<'_> {
    /// Each cause once, and below it the people with what it does to them.
    pub fn ways<'e>(&self, entries: impl Iterator<Item = &'e AccessEntry>) -> String {
        let mut out = String::new();
        for group in group_by_cause(entries) {
            let causes: Vec<String> = group.causes.iter().map(cause).collect();
            for line in wrap(&harmless(&causes.join("; ")), self.width.saturating_sub(2)) {
                out.push_str(&format!("  {line}\n"));
            }
            let mut table = Table::new(&[("", Column::Text); 3]).indent(4);
            for alike in alike(group.people.iter().take(MOST_PEOPLE)) {
                let devices = Cell::styled(alike.devices, self.styles.faint);
                table.row(vec![Cell::new(alike.people.join(", ")), Cell::new(alike.terms), devices]);
            }
            out.push_str(&table.render(self.width, self.styles));
            if let more @ 1.. = group.people.len().saturating_sub(MOST_PEOPLE) {
                out.push_str(&format!("    and {more} more; all of them with --format json\n"));
            }
        }
        out
    }
}

/// People whom the same cause hits in the same ways on the same devices.
struct Alike<'e> {
    people: Vec<&'e str>,
    terms: String,
    devices: String,
}

/// Puts people together whose rows would say the same, in their order.
fn alike<'e>(people: impl Iterator<Item = &'e PersonGroup<'e>>) -> Vec<Alike<'e>> {
    let mut all: Vec<Alike<'e>> = Vec::new();
    for person in people {
        let who = person.contact.name.as_deref().or(person.person).unwrap_or("nobody");
        let devices: Vec<&str> = person.devices().into_iter().map(|entry| &*entry.device).collect();
        let (terms, devices) = (terms(person), devices.join(", "));
        match all.iter_mut().find(|known| known.terms == terms && known.devices == devices) {
            Some(known) => known.people.push(who),
            None => all.push(Alike { people: vec![who], terms, devices }),
        }
    }
    all
}

/// The services, each with its sign-ins and, where it is not shut, the terms: `Mail (app), Roster (browser): permit with terms`.
fn terms(person: &PersonGroup<'_>) -> String {
    let said = person.by_terms().into_iter().map(|group| {
        let ways = format!("{} ({})", group.titles.join(", "), group.clients.join(", "));
        match group.entry.decision.effect {
            Effect::Deny => ways,
            Effect::Permit => format!("{ways}: {}", group.entry.decision.in_words()),
        }
    });
    said.collect::<Vec<_>>().join("; ")
}
