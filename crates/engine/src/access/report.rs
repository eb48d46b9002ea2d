//! What is told of access: entries for single sign-ins, and what they come to for people, causes and sites.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use fencepost_core::{Cause, CauseKind, Effect, Ruling};
use jiff::Timestamp;

/// One thing that has to change, in words.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct CauseLine {
    /// What it is.
    pub cause: Cause,
    /// Of a finding, what its rule asks for.
    pub title: Option<String>,
    /// What to do about it.
    pub fix: Option<String>,
}

/// What the list of people says of somebody, for whoever calls them.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Contact {
    /// What the person is called.
    pub name: Option<String>,
    /// The person's mail address.
    pub mail: Option<String>,
    /// The person's telephone number.
    pub phone: Option<String>,
    /// Who leads the person.
    pub lead: Option<String>,
    /// What the lead is called, where the lead is on the list.
    pub lead_name: Option<String>,
    /// The unit that the person belongs to.
    pub unit: Option<String>,
}

/// Another way on which a person still gets in.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct OtherWay {
    /// The device; it may be the same one.
    pub device: String,
    /// The sign-in.
    pub client: String,
    /// On which terms.
    pub decision: Ruling,
}

/// One sign-in whose decision is told.
#[derive(Clone, Debug, PartialEq)]
pub struct AccessEntry {
    /// The device.
    pub device: Arc<str>,
    /// The person; none on a device that nobody holds.
    pub person: Option<Arc<str>>,
    /// What is known of the person.
    pub contact: Arc<Contact>,
    /// Where the device belongs, by the fact that parts the fence.
    pub site: Option<Arc<str>>,
    /// The service.
    pub service: Arc<str>,
    /// What people call it.
    pub service_title: Arc<str>,
    /// The usual sign-in, by its id.
    pub client: Arc<str>,
    /// Since when, or from when on.
    pub moment: Timestamp,
    /// The decision.
    pub decision: Ruling,
    /// The access rules that decide; none where the service's default does.
    pub access_rules: Arc<[String]>,
    /// What would have to change for the way to be open; of what was restored, what shut it before.
    pub causes: Arc<[CauseLine]>,
    /// Another way on which the person gets in then.
    pub other: Option<Box<OtherWay>>,
    /// It comes about only if the device says nothing until then.
    pub only_if_silent: bool,
}

impl AccessEntry {
    /// Returns whether the person is shut out of the service altogether at the entry's moment, and so is to be called first.
    pub fn calls_first(&self) -> bool {
        self.person.is_some() && self.decision.effect == Effect::Deny && self.other.is_none() && !self.only_if_silent
    }

    /// Returns another device with which the person gets in.
    pub fn other_device(&self) -> Option<&str> {
        self.other.as_ref().map(|other| other.device.as_str()).filter(|device| *device != &*self.device)
    }

    /// Returns the findings among its causes.
    pub fn because(&self) -> impl Iterator<Item = &CauseLine> {
        self.causes.iter().filter(|line| line.cause.rule.is_some())
    }
}

/// Whom or what a report is narrowed to.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum PersonOrDevice {
    /// A person, by id.
    Person(String),
    /// A device.
    Device(String),
}

/// How many people and devices lose something by one cause.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct CauseCount {
    /// What kind of cause.
    pub kind: CauseKind,
    /// The rule of a finding, or else the access rule.
    pub rule: Option<String>,
    /// How many people.
    pub people: u64,
    /// How many devices.
    pub devices: u64,
}

/// What was lost, in numbers.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct AccessSummary {
    /// How many people lost a way to a service.
    pub people: u64,
    /// How many of them have no other way to it.
    pub call_first: u64,
    /// How many devices that nobody holds lost a service.
    pub devices_of_nobody: u64,
    /// By cause, most people first.
    pub by_cause: Vec<CauseCount>,
    /// How many people and devices that nobody holds, by site, most first.
    pub by_site: Vec<(String, u64)>,
    /// How many people and devices that nobody holds, by service, most first.
    pub by_service: Vec<(String, u64)>,
    /// The next moment at which somebody will certainly lose a service, and how many people then do.
    pub next: Option<(Timestamp, u64)>,
    /// How many people will lose something only if their devices say nothing.
    pub only_if_silent: u64,
    /// How many people have yet to accept terms, by terms.
    pub terms_open: Vec<(String, u64)>,
}

/// How many are denied something.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct DeniedCount {
    /// People.
    pub people: u64,
    /// Devices that nobody holds.
    pub devices_of_nobody: u64,
}

/// Who loses access, and who gets it back.
#[derive(Clone, Debug, PartialEq)]
pub struct AccessReport {
    /// The moment of reading.
    pub as_of: Timestamp,
    /// The assessment that it is compared with.
    pub since: Option<Timestamp>,
    /// What was lost, in numbers.
    pub summary: AccessSummary,
    /// Permit became deny.
    pub lost: Vec<AccessEntry>,
    /// Permit has an obligation more than before.
    pub reduced: Vec<AccessEntry>,
    /// Access came back, or an obligation fell away.
    pub restored: Vec<AccessEntry>,
    /// What the clock will certainly take away if nothing else changes, by moment. What comes only if devices stay silent is read
    /// one by one: [`crate::Reading::silent_losses`].
    pub losing: Vec<AccessEntry>,
    /// Everything that is denied now by an access rule, where it was asked for.
    pub denied: Vec<AccessEntry>,
    /// Ways that are open to whoever accepts terms first.
    pub terms_open: Vec<AccessEntry>,
    /// How many people and devices that nobody holds are denied something now by an access rule.
    pub denied_now: DeniedCount,
    /// Of how many devices time may have changed the verdicts since the assessment.
    pub past_valid_until: u64,
}

impl AccessReport {
    /// Creates one in which nothing is told yet.
    pub(crate) fn empty(as_of: Timestamp) -> Self {
        Self {
            as_of,
            since: None,
            summary: AccessSummary::default(),
            lost: Vec::new(),
            reduced: Vec::new(),
            restored: Vec::new(),
            losing: Vec::new(),
            denied: Vec::new(),
            terms_open: Vec::new(),
            denied_now: DeniedCount::default(),
            past_valid_until: 0,
        }
    }

    /// Returns all its lists.
    pub(crate) fn lists(&mut self) -> [&mut Vec<AccessEntry>; 6] {
        [
            &mut self.lost,
            &mut self.reduced,
            &mut self.restored,
            &mut self.losing,
            &mut self.denied,
            &mut self.terms_open,
        ]
    }

    fn count_terms(&self) -> Vec<(String, u64)> {
        let mut by_terms: BTreeMap<&str, BTreeSet<&str>> = BTreeMap::new();
        for entry in &self.terms_open {
            for terms in entry.decision.open_terms() {
                by_terms.entry(terms).or_default().extend(entry.person.as_deref());
            }
        }
        by_terms.into_iter().map(|(terms, people)| (terms.to_owned(), people.len() as u64)).collect()
    }

    /// Counts what is in the lists; `only_if_silent` people lose something only by silence.
    pub(crate) fn count(&mut self, only_if_silent: u64) {
        let certain = |entry: &&AccessEntry| entry.decision.effect == Effect::Deny && !entry.only_if_silent;
        let next = self.losing.iter().find(certain).map(|entry| entry.moment);
        let then = self.losing.iter().filter(certain).filter(|entry| Some(entry.moment) == next);
        self.summary = AccessSummary {
            people: people(self.lost.iter()),
            call_first: people(self.lost.iter().filter(|entry| entry.calls_first())),
            devices_of_nobody: devices(self.lost.iter().filter(|entry| entry.person.is_none())),
            by_cause: by_cause(&self.lost),
            by_site: count_by(&self.lost, |entry| entry.site.as_deref().unwrap_or_default()),
            by_service: count_by(&self.lost, |entry| &*entry.service_title),
            next: next.map(|next| (next, people(then))),
            only_if_silent,
            terms_open: self.count_terms(),
        };
    }
}

/// Returns how many people the entries are about.
fn people<'e>(entries: impl Iterator<Item = &'e AccessEntry>) -> u64 {
    let who: BTreeSet<&str> = entries.filter_map(|entry| entry.person.as_deref()).collect();
    who.len() as u64
}

fn devices<'e>(entries: impl Iterator<Item = &'e AccessEntry>) -> u64 {
    let devices: BTreeSet<&str> = entries.map(|entry| &*entry.device).collect();
    devices.len() as u64
}

fn by_cause(entries: &[AccessEntry]) -> Vec<CauseCount> {
    let mut by_cause: BTreeMap<(CauseKind, Option<&str>), Vec<&AccessEntry>> = BTreeMap::new();
    for entry in entries {
        for CauseLine { cause, .. } in entry.causes.iter() {
            let rule = cause.rule.as_deref().or(cause.access_rule.as_deref());
            by_cause.entry((cause.kind, rule)).or_default().push(entry);
        }
    }
    let count = |((kind, rule), own): ((CauseKind, Option<&str>), Vec<&AccessEntry>)| CauseCount {
        kind,
        rule: rule.map(str::to_owned),
        people: people(own.iter().copied()),
        devices: devices(own.iter().copied()),
    };
    let mut counts: Vec<CauseCount> = by_cause.into_iter().map(count).collect();
    counts.sort_by_key(|count| std::cmp::Reverse((count.people, count.devices)));
    counts
}

/// Counts by a key the people, and the devices that nobody holds.
fn count_by<'e>(entries: &'e [AccessEntry], key: impl Fn(&'e AccessEntry) -> &'e str) -> Vec<(String, u64)> {
    let mut by_key: BTreeMap<&str, BTreeSet<(Option<&str>, &str)>> = BTreeMap::new();
    for entry in entries {
        // Somebody counts once, whatever the device.
        let who = match entry.person.as_deref() {
            Some(person) => (Some(person), ""),
            None => (None, &*entry.device),
        };
        by_key.entry(key(entry)).or_default().insert(who);
    }
    let mut counts: Vec<(String, u64)> =
        by_key.into_iter().map(|(key, own)| (key.to_owned(), own.len() as u64)).collect();
    counts.sort_by(|one, other| other.1.cmp(&one.1).then_with(|| one.0.cmp(&other.0)));
    counts
}
