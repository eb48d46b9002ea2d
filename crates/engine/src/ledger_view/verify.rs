//! Reads the whole ledger and says what in it does not fit: pages, rows that name others, documents and rule sets against their
//! digests, and everything that is kept of devices.

use fencepost_core::Standing;
use fencepost_store::{DeviceBatch, LayoutFingerprints, Look, SpellKind};

use crate::error::EngineError;
use crate::ledger_view::batch::DEVICES;
use crate::ledger_view::codec::{self, DecisionKey, StoredDecision};
use crate::ledger_view::event::Event;
use crate::ledger_view::outcome::Outcome;
use crate::ledger_view::packed_findings::unpack_findings;
use crate::ledger_view::reading::Reading;
use crate::workspace::project::Project;

/// What was read, and what of it does not fit.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Verified {
    /// Writing commands that are kept.
    pub runs: u64,
    /// Devices.
    pub devices: u64,
    /// Documents.
    pub documents: u64,
    /// Rule sets.
    pub rule_sets: u64,
    /// Versions of findings.
    pub findings: u64,
    /// Times in which something held.
    pub spells: u64,
    /// What does not fit, in sentences.
    pub problems: Vec<String>,
}

impl Reading<'_> {
    /// Reads everything that the ledger holds.
    ///
    /// # Errors
    /// Fails where the ledger cannot be read at all; what can be read and does not fit is told.
    pub fn verify(&self) -> Result<Verified, EngineError> {
        let reader = &self.reader;
        let mut found = Verified::default();
        if let Some(said) = reader.integrity()? {
            found.problems.push(format!("the database is not whole: {said}"));
        }
        for (table, count) in reader.dangling()? {
            found.problems.push(format!("{count} rows of the table {table} name others that are not there"));
        }
        let problems = &mut found.problems;
        found.documents = reader.check_documents(|id, what| problems.push(format!("document {id}: {what}")))?;
        for digest in reader.rule_set_digests()? {
            found.rule_sets += 1;
            let text = reader.rule_set(&digest)?;
            if text.as_deref().and_then(Project::digest_of_text).as_ref() != Some(&digest) {
                found.problems.push(format!("rule set {digest}: it is not what its digest says"));
            }
        }
        for run in reader.runs()? {
            found.runs += 1;
            if serde_json::from_str::<serde_json::Value>(&run.summary).is_err() {
                found.problems.push(format!("run {}: its summary cannot be read", run.id));
            }
        }
        self.verify_devices(&mut found)?;
        Ok(found)
    }

    /// Reads what is kept of each device.
    fn verify_devices(&self, found: &mut Verified) -> Result<(), EngineError> {
        let reader = &self.reader;
        let (all, mut held) = (reader.devices(Look::All)?, DeviceBatch::default());
        for devices in all.chunks(DEVICES) {
            reader.hold(devices, LayoutFingerprints::default(), &mut held)?;
            for (at, device) in devices.iter().enumerate() {
                found.devices += 1;
                let mut problem = |what: &str| {
                    found
                        .problems
                        .push(format!("device {}: {what} cannot be read", crate::error::escaped(&device.name)));
                };
                if let Some(row) = held.assessed(at) {
                    if Outcome::from_bytes(row.outcome).is_none() {
                        problem("its verdicts");
                    }
                    if unpack_findings(row.findings, &device.name).is_none() {
                        problem("its packed findings");
                    }
                }
                let versions = reader.finding_versions(&device.name)?;
                found.findings += versions.len() as u64;
                if versions.iter().any(|row| codec::finding(row).is_none()) {
                    problem("a finding");
                }
                if reader.events_of(&device.name, None)?.into_iter().any(|(row, _)| Event::of_row(row).is_none()) {
                    problem("what happened to it");
                }
                let standings = reader.spell_history(SpellKind::Standing, &device.name)?;
                let decisions = reader.spell_history(SpellKind::Decision, &device.name)?;
                found.spells += (standings.len() + decisions.len()) as u64;
                if standings.iter().any(|spell| Standing::parse(&spell.value).is_none()) {
                    problem("a standing");
                }
                let is_read = |subject: &str, value: &str, detail: &str| {
                    DecisionKey::read(subject).is_some() && StoredDecision::read(value, detail).is_some()
                };
                if !decisions.iter().all(|spell| is_read(&spell.subject, &spell.value, &spell.detail)) {
                    problem("a decision");
                }
            }
        }
        Ok(())
    }
}
