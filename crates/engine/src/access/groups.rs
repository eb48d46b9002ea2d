//! Entries of access put together as they are read out: one cause once, with the people whom it shuts out.

use std::collections::{BTreeSet, HashMap};

use fencepost_core::{CauseKind, Effect, Ruling};
use jiff::Timestamp;

use super::report::{AccessEntry, CauseLine, Contact, OtherWay};

/// People of whom the same cause is told.
#[derive(Debug)]
pub struct CauseGroup<'e> {
    /// What would have to change, of the first of them: devices differ in when their findings were opened.
    pub causes: &'e [CauseLine],
    /// The people, those first who lose most.
    pub people: Vec<PersonGroup<'e>>,
}

/// What is told of one person, or of one device that nobody holds.
#[derive(Debug)]
pub struct PersonGroup<'e> {
    /// The person.
    pub person: Option<&'e str>,
    /// What is known of the person.
    pub contact: &'e Contact,
    /// The entries, in their order.
    pub entries: Vec<&'e AccessEntry>,
}

/// Services that are reached on the same terms, and how.
#[derive(Debug)]
pub struct ServiceGroup<'e> {
    /// What people call the services.
    pub titles: Vec<&'e str>,
    /// The sign-ins.
    pub clients: Vec<&'e str>,
    /// One of the entries, for the decision.
    pub entry: &'e AccessEntry,
}

/// What tells causes apart, whatever device they are of.
#[derive(PartialEq, Eq, Hash)]
struct CauseIdentity<'e> {
    kind: CauseKind,
    rule: Option<&'e str>,
    fact: Option<&'e str>,
}

fn identity(entry: &AccessEntry) -> Vec<CauseIdentity<'_>> {
    let parts = entry.causes.iter().map(|line| {
        let cause = &line.cause;
        // Of a finding it is the same whichever access rule asks for it.
        let rule = cause.rule.as_deref().or(cause.access_rule.as_deref());
        CauseIdentity { kind: cause.kind, rule, fact: cause.fact.as_deref() }
    });
    parts.collect()
}

/// Groups entries by what causes them, and under each cause by person; those first by whom most people are hit.
pub fn group_by_cause<'e>(entries: impl IntoIterator<Item = &'e AccessEntry>) -> Vec<CauseGroup<'e>> {
    let mut groups: Vec<CauseGroup<'e>> = Vec::new();
    let mut places: HashMap<Vec<CauseIdentity<'e>>, usize> = HashMap::new();
    let mut entries_of: Vec<Vec<&'e AccessEntry>> = Vec::new();
    for entry in entries {
        let identity = identity(entry);
        let at = *places.entry(identity).or_insert_with(|| {
            groups.push(CauseGroup { causes: &entry.causes, people: Vec::new() });
            entries_of.push(Vec::new());
            groups.len() - 1
        });
        entries_of[at].push(entry);
    }
    for (group, entries) in groups.iter_mut().zip(entries_of) {
        group.people = group_by_person(entries);
        group.people.sort_by_key(|person| std::cmp::Reverse(person.services()));
    }
    groups.sort_by_key(|group| std::cmp::Reverse(group.people.len()));
    groups
}

/// Groups entries by person, in their order.
pub fn group_by_person<'e>(entries: impl IntoIterator<Item = &'e AccessEntry>) -> Vec<PersonGroup<'e>> {
    let mut people: Vec<PersonGroup<'e>> = Vec::new();
    // A device without a holder forms a group of its own.
    let mut places: HashMap<(Option<&'e str>, &'e str), usize> = HashMap::new();
    for entry in entries {
        let person = entry.person.as_deref();
        let key = (person, if person.is_some() { "" } else { &*entry.device });
        let at = *places.entry(key).or_insert_with(|| {
            people.push(PersonGroup { person, contact: &entry.contact, entries: Vec::new() });
            people.len() - 1
        });
        people[at].entries.push(entry);
    }
    people
}

/// What has to be the same for services to be told together.
fn terms(entry: &AccessEntry) -> (&Ruling, Option<&OtherWay>) {
    // Another way matters to who is denied this one.
    (&entry.decision, entry.other.as_deref().filter(|_| entry.decision.effect == Effect::Deny))
}

impl CauseGroup<'_> {
    /// Returns since when, or from when on, the first of the people is hit.
    pub fn begins(&self) -> Option<Timestamp> {
        self.people.iter().flat_map(|person| &person.entries).map(|entry| entry.moment).min()
    }
}

impl<'e> PersonGroup<'e> {
    /// Returns how many services it is about.
    pub fn services(&self) -> usize {
        self.entries.iter().map(|entry| &entry.service).collect::<BTreeSet<_>>().len()
    }

    /// Returns the devices that it is about, each once.
    pub fn devices(&self) -> Vec<&'e AccessEntry> {
        let mut seen = BTreeSet::new();
        self.entries.iter().copied().filter(|entry| seen.insert(&entry.device)).collect()
    }

    /// Returns the services, those together that are reached in the same ways on the same terms.
    pub fn by_terms(&self) -> Vec<ServiceGroup<'e>> {
        let mut by_service: Vec<ServiceGroup<'e>> = Vec::new();
        for entry in &self.entries {
            let is_same = |group: &&mut ServiceGroup<'_>| {
                group.entry.service == entry.service && terms(group.entry) == terms(entry)
            };
            match by_service.iter_mut().find(is_same) {
                Some(group) if group.clients.contains(&&*entry.client) => {}
                Some(group) => group.clients.push(&entry.client),
                None => by_service.push(ServiceGroup {
                    titles: vec![&entry.service_title],
                    clients: vec![&entry.client],
                    entry,
                }),
            }
        }
        let mut groups: Vec<ServiceGroup<'e>> = Vec::new();
        for group in by_service {
            let is_same = |known: &&mut ServiceGroup<'_>| {
                known.clients == group.clients && terms(known.entry) == terms(group.entry)
            };
            match groups.iter_mut().find(is_same) {
                Some(known) => known.titles.extend(group.titles),
                None => groups.push(group),
            }
        }
        groups
    }
}
