//! The ways on which people reach services: with which device and sign-in, and until when.

use std::collections::BTreeMap;

use fencepost_core::Effect;
use fencepost_store::SpellKind;
use jiff::Timestamp;

use super::losses::ComingByDevice;
use super::report::{AccessReport, OtherWay};
use crate::error::EngineError;
use crate::ledger_view::codec::{DecisionKey, StoredDecision};
use crate::ledger_view::damage::unreadable;
use crate::ledger_view::reading::Reading;

/// A person and a service.
type Door = (String, String);

/// A way to a service.
struct Way {
    device: String,
    client: String,
    is_open: bool,
    /// When time alone opens or shuts it, after the assessment, in order.
    changes: Vec<(Timestamp, bool)>,
}

impl Way {
    fn is_open_at(&self, at: Timestamp) -> bool {
        let last = self.changes.iter().rfind(|(moment, _)| *moment <= at);
        last.map_or(self.is_open, |(_, is_open)| *is_open)
    }
}

impl Reading<'_> {
    /// Says of every entry on which other way the person gets in at the entry's moment; another device comes before another sign-in
    /// with the same one.
    pub(super) fn add_other_ways(&self, report: &mut AccessReport, coming: &ComingByDevice) -> Result<(), EngineError> {
        let mut doors: BTreeMap<Door, Vec<Way>> = BTreeMap::new();
        for entry in report.lists().into_iter().flatten() {
            if let Some(person) = &entry.person {
                doors.entry((person.clone(), entry.service.clone())).or_default();
            }
        }
        if doors.is_empty() {
            return Ok(());
        }
        self.reader.each_spell(SpellKind::Decision, self.run, |row| {
            let unreadable = || unreadable(self.project, &row.device, "a decision");
            let key = DecisionKey::read(&row.subject).ok_or_else(unreadable)?;
            let Some(person) = &key.person else { return Ok(()) };
            let Some(ways) = doors.get_mut(&(person.clone(), key.service.clone())) else { return Ok(()) };
            let decision = StoredDecision::read(&row.value, &row.detail).ok_or_else(unreadable)?;
            let own = coming.get(&row.device).into_iter().flatten().filter(|it| it.key == key);
            let changes = own.map(|it| (it.at, it.decision.ruling.effect == Effect::Permit)).collect();
            let is_open = decision.ruling.effect == Effect::Permit;
            ways.push(Way { device: row.device, client: key.client, is_open, changes });
            Ok::<_, EngineError>(())
        })?;
        let as_of = report.as_of;
        for entry in report.lists().into_iter().flatten() {
            let Some(person) = entry.person.clone() else { continue };
            let at = entry.moment.max(as_of);
            let ways = doors.get(&(person, entry.service.clone())).into_iter().flatten();
            let open =
                ways.filter(|way| way.is_open_at(at) && (&way.device, &way.client) != (&entry.device, &entry.client));
            let found = open.min_by_key(|way| way.device == entry.device);
            entry.other = found.map(|way| OtherWay { device: way.device.clone(), client: way.client.clone() });
        }
        Ok(())
    }
}
