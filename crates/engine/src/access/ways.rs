//! The ways on which people reach services: with which device and sign-in, and until when.

use std::collections::HashMap;
use std::collections::hash_map::Entry;
use std::sync::Arc;

use fencepost_core::{Effect, Ruling};
use fencepost_store::{DecisionRow, DeviceRow, Look};
use jiff::Timestamp;

use super::report::{AccessEntry, AccessReport, OtherWay};
use crate::assess::outlook::ComingDecision;
use crate::error::EngineError;
use crate::ledger_view::codec::{DecisionKey, StoredDecision};
use crate::ledger_view::damage::unreadable;
use crate::ledger_view::reading::Reading;

/// The ways to one service.
struct WaysToService {
    service: Arc<str>,
    /// Whether it has to be known what time alone makes of them.
    with_changes: bool,
    ways: Vec<Way>,
}

/// The ways of people to the services that are asked about, by person.
type WaysOfPeople = HashMap<Arc<str>, Vec<WaysToService>>;

/// A way to a service.
struct Way {
    /// The device's number in the ledger.
    device: i64,
    client: Box<str>,
    ruling: Ruling,
    /// What time alone makes of it after the assessment, in order.
    changes: Vec<(Timestamp, Ruling)>,
}

impl Way {
    fn ruling_at(&self, at: Timestamp) -> &Ruling {
        let last = self.changes.iter().rfind(|(moment, _)| *moment <= at);
        last.map_or(&self.ruling, |(_, ruling)| ruling)
    }
}

impl Reading<'_> {
    /// Says of every entry on which other way the person gets in at the entry's moment: another device comes before another sign-in
    /// with the same one, and a way without obligations before one with.
    pub(super) fn add_other_ways(&self, report: &mut AccessReport) -> Result<(), EngineError> {
        let mut ways_of = self.asked_ways(report);
        if ways_of.is_empty() {
            return Ok(());
        }
        let mut devices: HashMap<i64, String> = HashMap::new();
        self.reader.each_decision(self.run, |DecisionRow { device, subject, value, .. }| {
            let unreadable = || unreadable(self.project, &format!("number {device}"), "a decision");
            let key = DecisionKey::read(subject).ok_or_else(unreadable)?;
            let of_person = key.person.as_deref().and_then(|person| ways_of.get_mut(person));
            let asked = of_person.into_iter().flatten().find(|to| *to.service == *key.service);
            let Some(to) = asked else { return Ok(()) };
            let ruling = StoredDecision::ruling_of(value).ok_or_else(unreadable)?;
            // What is shut and stays so is no way.
            if ruling.effect == Effect::Permit || to.with_changes {
                to.ways.push(Way { device, client: Box::from(key.client), ruling, changes: Vec::new() });
                devices.entry(device).or_default();
            }
            Ok::<_, EngineError>(())
        })?;
        for device in self.reader.devices(Look::All)? {
            devices.entry(device.number).and_modify(|name| *name = device.name);
        }
        self.add_changes(&devices, &mut ways_of)?;
        let as_of = report.as_of;
        for entry in report.lists().into_iter().flatten() {
            let Some(person) = entry.person.as_deref() else { continue };
            let at = entry.moment.max(as_of);
            let to_services = ways_of.get(person).into_iter().flatten();
            let ways = to_services.filter(|to| to.service == entry.service).flat_map(|to| &to.ways);
            let open = ways.filter(|way| way.ruling_at(at).effect == Effect::Permit);
            let open = open.map(|way| (devices[&way.device].as_str(), way));
            let others = open.filter(|(device, way)| (*device, &*way.client) != (&*entry.device, &*entry.client));
            let found = others.min_by_key(|(device, way)| {
                (*device == &*entry.device, way.ruling_at(at).strictness(), *device, &*way.client)
            });
            entry.other = found.map(|(device, way)| {
                Box::new(OtherWay {
                    device: device.to_owned(),
                    client: String::from(&*way.client),
                    decision: way.ruling_at(at).clone(),
                })
            });
        }
        Ok(())
    }

    /// Returns whose ways to which services the entries ask about, without the ways.
    fn asked_ways(&self, report: &mut AccessReport) -> WaysOfPeople {
        let mut ways_of = WaysOfPeople::new();
        let mut ask = |entry: &AccessEntry, with_changes: bool| {
            let Some(person) = &entry.person else { return };
            let to_services = ways_of.entry(Arc::clone(person)).or_default();
            match to_services.iter_mut().find(|to| to.service == entry.service) {
                Some(known) => known.with_changes |= with_changes,
                None => {
                    let service = Arc::clone(&entry.service);
                    to_services.push(WaysToService { service, with_changes, ways: Vec::new() });
                }
            }
        };
        // What time alone changes is asked only where it may matter: of what lies ahead, and of all when time has passed.
        let has_moved = self.at > self.judged_at();
        report.losing.iter().for_each(|entry| ask(entry, true));
        report.lists().into_iter().flatten().for_each(|entry| ask(entry, has_moved));
        ways_of
    }

    /// Says of ways what time alone makes of them, where that has to be known.
    fn add_changes(&self, devices: &HashMap<i64, String>, ways_of: &mut WaysOfPeople) -> Result<(), EngineError> {
        let mut known: HashMap<i64, Vec<ComingDecision>> = HashMap::new();
        for (person, to_services) in ways_of {
            for to in to_services.iter_mut().filter(|to| to.with_changes) {
                for way in &mut to.ways {
                    let coming = match known.entry(way.device) {
                        Entry::Occupied(known) => known.into_mut(),
                        Entry::Vacant(new) => {
                            let name = devices[&way.device].clone();
                            let row = DeviceRow { number: way.device, name, dirty: false };
                            new.insert(self.current_decisions(&row)?.coming)
                        }
                    };
                    let own = coming.iter().filter(|it| {
                        it.key.person.as_deref() == Some(&**person)
                            && *it.key.service == *to.service
                            && *it.key.client == *way.client
                    });
                    way.changes = own.map(|it| (it.at, it.decision.ruling.clone())).collect();
                }
            }
        }
        Ok(())
    }
}
