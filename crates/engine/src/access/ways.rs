//! The ways on which people reach services: with which device and sign-in, and until when.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use fencepost_core::{Effect, Ruling};
use fencepost_store::{DeviceRow, SpellKind};
use jiff::Timestamp;

use super::report::{AccessEntry, AccessReport, OtherWay};
use crate::assess::outlook::ComingDecision;
use crate::error::EngineError;
use crate::ledger_view::codec::{DecisionKey, StoredDecision};
use crate::ledger_view::damage::unreadable;
use crate::ledger_view::reading::Reading;

/// A person and a service, by id.
pub(super) type PersonAndService = (String, String);

/// A way to a service.
struct Way {
    device: String,
    client: String,
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

fn person_and_service(entry: &AccessEntry) -> Option<PersonAndService> {
    entry.person.as_ref().map(|person| (person.clone(), entry.service.clone()))
}

impl Reading<'_> {
    /// Says of every entry on which other way the person gets in at the entry's moment: another device comes before another sign-in
    /// with the same one, and a way without obligations before one with.
    pub(super) fn add_other_ways(&self, report: &mut AccessReport) -> Result<(), EngineError> {
        let mut ways_of: BTreeMap<PersonAndService, Vec<Way>> = BTreeMap::new();
        for entry in report.lists().into_iter().flatten() {
            ways_of.extend(person_and_service(entry).map(|of| (of, Vec::new())));
        }
        if ways_of.is_empty() {
            return Ok(());
        }
        self.reader.each_spell(SpellKind::Decision, self.run, |row| {
            let unreadable = || unreadable(self.project, &row.device, "a decision");
            let key = DecisionKey::read(&row.subject).ok_or_else(unreadable)?;
            let Some(person) = &key.person else { return Ok(()) };
            let Some(ways) = ways_of.get_mut(&(person.clone(), key.service.clone())) else { return Ok(()) };
            let ruling = StoredDecision::ruling_of(&row.value).ok_or_else(unreadable)?;
            ways.push(Way { device: row.device, client: key.client, ruling, changes: Vec::new() });
            Ok::<_, EngineError>(())
        })?;
        // What time alone changes is asked only where it may matter: of what lies ahead, and of all when time has passed.
        let ahead: BTreeSet<PersonAndService> = report.losing.iter().filter_map(person_and_service).collect();
        let has_moved = self.at > self.judged_at();
        self.add_changes(ways_of.iter_mut().filter(|(of, _)| has_moved || ahead.contains(*of)))?;
        let as_of = report.as_of;
        for entry in report.lists().into_iter().flatten() {
            let Some(person) = entry.person.clone() else { continue };
            let at = entry.moment.max(as_of);
            let ways = ways_of.get(&(person, entry.service.clone())).into_iter().flatten();
            let open = ways.filter(|way| {
                way.ruling_at(at).effect == Effect::Permit
                    && (&way.device, &way.client) != (&entry.device, &entry.client)
            });
            let found = open.min_by_key(|way| (way.device == entry.device, way.ruling_at(at).strictness()));
            entry.other = found.map(|way| OtherWay {
                device: way.device.clone(),
                client: way.client.clone(),
                decision: way.ruling_at(at).clone(),
            });
        }
        Ok(())
    }

    /// Says of ways what time alone makes of them.
    fn add_changes<'d>(
        &self,
        ways_of: impl Iterator<Item = (&'d PersonAndService, &'d mut Vec<Way>)>,
    ) -> Result<(), EngineError> {
        let mut known: HashMap<String, Vec<ComingDecision>> = HashMap::new();
        for ((person, service), ways) in ways_of {
            for way in ways.iter_mut() {
                if !known.contains_key(&way.device) {
                    let number = self.reader.device_number(&way.device)?.unwrap_or_default();
                    let row = DeviceRow { number, name: way.device.clone(), dirty: false };
                    known.insert(way.device.clone(), self.current_decisions(&row)?.coming);
                }
                let own = known.get(&way.device).into_iter().flatten().filter(|it| {
                    it.key.person.as_ref() == Some(person) && it.key.service == *service && it.key.client == way.client
                });
                way.changes = own.map(|it| (it.at, it.decision.ruling.clone())).collect();
            }
        }
        Ok(())
    }
}
