//! What the ledger holds of devices, gathered for work that reads no ledger and so can be done on several cores.

use std::collections::BTreeMap;
use std::ops::Range;

use fencepost_core::{Finding, Standing, is_by_waiver, standing_at};
use fencepost_store::{
    AssessedRow, DeviceBatch, DeviceRow, FactsRow, FindingRow, LayoutFingerprints, LedgerError, PackedObservation,
    Reader, SpellKind, SpellRow,
};
use jiff::Timestamp;

use crate::ledger_view::codec;
use crate::ledger_view::damage::unreadable;
use crate::ledger_view::outcome::{Outcome, StandingDetail};
use crate::ledger_view::packed_findings::{RunningCounts, count_running, unpack_findings};
use crate::workspace::project::Project;

/// How many devices are gathered and handed to a worker at once.
pub(crate) const DEVICES: usize = 256;

/// Some devices with what the ledger holds of them. It goes to a worker and comes back to be filled again, so that no memory is
/// taken on one thread and given back on another.
#[derive(Default)]
pub(crate) struct Batch {
    devices: Vec<DeviceRow>,
    held: DeviceBatch,
    /// Documents by the position of their device, where they were asked for.
    documents: BTreeMap<usize, Vec<PackedObservation>>,
    /// Findings by the position of their device, where they are not in what was kept of it before.
    findings: BTreeMap<usize, Vec<FindingRow>>,
    /// Standings by the position of their device, where they were asked for and are not in what was kept of it before.
    standings: BTreeMap<usize, SpellRow>,
}

/// What the ledger holds of a device.
pub(crate) struct Job<'b> {
    pub device: &'b DeviceRow,
    pub facts: Vec<FactsRow<'b>>,
    /// The documents, where they are needed besides the facts.
    pub documents: &'b [PackedObservation],
    pub before: Option<AssessedRow<&'b [u8]>>,
    /// Its findings, where they are not in what was kept of it before.
    pub findings: &'b [FindingRow],
    /// Its standing, where it was asked for and is not in what was kept of it before.
    pub standing: Option<&'b SpellRow>,
}

impl Batch {
    /// Takes the next devices; none when there are no more.
    pub(crate) fn of(mut self, devices: &mut impl Iterator<Item = DeviceRow>) -> Option<Self> {
        self.documents.clear();
        self.findings.clear();
        self.standings.clear();
        self.devices.clear();
        self.devices.extend(devices.by_ref().take(DEVICES));
        (!self.devices.is_empty()).then_some(self)
    }

    /// Gathers what the ledger holds now of its devices, documents of those that `needs_documents` names.
    pub(crate) fn fill(
        &mut self,
        reader: &Reader<'_>,
        layout_fingerprints: LayoutFingerprints,
        needs_documents: impl Fn(&DeviceRow, &DeviceBatch, usize) -> bool,
    ) -> Result<(), LedgerError> {
        reader.hold(&self.devices, layout_fingerprints, &mut self.held)?;
        let needed = |(at, device): (usize, &DeviceRow)| needs_documents(device, &self.held, at).then_some(at);
        let needed: Vec<usize> = self.devices.iter().enumerate().filter_map(needed).collect();
        reader.packed_now(&self.devices, &needed, |at, said| self.documents.entry(at).or_default().push(said))?;
        for (at, device) in self.devices.iter().enumerate() {
            if self.held.assessed(at).is_none() {
                self.findings.insert(at, reader.findings_now(device)?);
            }
        }
        Ok(())
    }

    /// Gathers the documents, running findings and standings of its devices, as of a run.
    pub(crate) fn fill_as_of(&mut self, reader: &Reader<'_>, run: i64) -> Result<(), LedgerError> {
        reader.hold(&[], LayoutFingerprints::default(), &mut self.held)?;
        for (at, device) in self.devices.iter().enumerate() {
            self.documents.insert(at, reader.packed_observations(&device.name, Some(run))?);
            self.findings.insert(at, reader.findings_of(device, Some(run))?);
        }
        self.fill_standings(reader, Some(run))
    }

    /// Gathers the standings of devices of which nothing was kept before.
    pub(crate) fn fill_standings(&mut self, reader: &Reader<'_>, run: Option<i64>) -> Result<(), LedgerError> {
        for (at, device) in self.devices.iter().enumerate() {
            if self.held.assessed(at).is_none() {
                let spell = reader.spells_of(SpellKind::Standing, device, run)?.pop();
                self.standings.extend(spell.map(|spell| (at, spell)));
            }
        }
        Ok(())
    }

    /// Adds what every source now says of a device.
    pub(crate) fn read_documents(&mut self, at: usize, reader: &Reader<'_>) -> Result<(), LedgerError> {
        self.documents.insert(at, reader.packed_observations(&self.devices[at].name, None)?);
        Ok(())
    }

    /// Returns the positions of its devices.
    pub(crate) fn places(&self) -> Range<usize> {
        0..self.devices.len()
    }

    /// Returns what is held of the device at a position.
    pub(crate) fn job(&self, at: usize) -> Job<'_> {
        Job {
            device: &self.devices[at],
            facts: self.held.facts(at).collect(),
            documents: self.documents.get(&at).map_or(&[], Vec::as_slice),
            before: self.held.assessed(at),
            findings: self.findings.get(&at).map_or(&[], Vec::as_slice),
            standing: self.standings.get(&at),
        }
    }

    /// Returns what is held of each device, in their order.
    pub(crate) fn jobs(&self) -> impl Iterator<Item = Job<'_>> {
        self.places().map(|at| self.job(at))
    }
}

impl Job<'_> {
    /// Returns the same device after an assessment that left this of it.
    pub(crate) fn after<'j>(&'j self, before: AssessedRow<&'j [u8]>) -> Job<'j> {
        Job { before: Some(before), facts: self.facts.clone(), ..*self }
    }
}

/// How devices stand and what they are found with: as of an assessment, moved by time since.
pub(crate) struct PostureAt<'p> {
    pub project: &'p Project,
    pub assessed_at: Timestamp,
    pub at: Timestamp,
}

impl PostureAt<'_> {
    /// Returns the findings of a device that run.
    pub(crate) fn running(&self, job: &Job<'_>) -> Result<Vec<Finding>, LedgerError> {
        let all = self.latest(job)?;
        Ok(all.into_iter().filter(Finding::is_running).collect())
    }

    /// Returns the latest finding of a device for each of what it may be found with; of an earlier assessment those that run.
    pub(crate) fn latest(&self, job: &Job<'_>) -> Result<Vec<Finding>, LedgerError> {
        let name = job.device.name.as_str();
        Ok(match &job.before {
            Some(row) => {
                unpack_findings(row.findings, name).ok_or_else(|| unreadable(self.project, name, "the findings"))?
            }
            None => {
                let finding = |row| codec::finding(row).ok_or_else(|| unreadable(self.project, name, "a finding"));
                job.findings.iter().map(finding).collect::<Result<_, _>>()?
            }
        })
    }

    /// Returns how many findings of a device run, and how they stand.
    pub(crate) fn counts(&self, job: &Job<'_>) -> Result<RunningCounts, LedgerError> {
        if let Some(row) = &job.before {
            return count_running(row.findings, self.at)
                .ok_or_else(|| unreadable(self.project, &job.device.name, "the findings"));
        }
        let running = self.running(job)?;
        Ok(RunningCounts::of(running.iter().map(|finding| &finding.clock), self.at))
    }

    /// Returns how a device stands; none where it was not assessed.
    pub(crate) fn standing(&self, job: &Job<'_>) -> Result<Option<DeviceStanding>, LedgerError> {
        let name = job.device.name.as_str();
        let left = match (&job.before, job.standing) {
            (Some(row), _) => {
                let outcome =
                    Outcome::from_bytes(row.outcome).ok_or_else(|| unreadable(self.project, name, "the verdicts"))?;
                let (covered, by_waiver) = (outcome.covered, outcome.by_waiver);
                DeviceStanding { standing: outcome.standing(), covered, by_waiver }
            }
            (None, Some(spell)) => DeviceStanding::of_spell(self.project, spell)?,
            (None, None) => return Ok(None),
        };
        if self.at == self.assessed_at {
            return Ok(Some(left));
        }
        Ok(Some(self.moved(left, &self.running(job)?)))
    }

    /// Returns how a device stands that stood so at the assessment and is found with these.
    pub(crate) fn moved(&self, left: DeviceStanding, findings: &[Finding]) -> DeviceStanding {
        let standing = standing_at(findings, left.covered, self.project.config.uncovered_stands, self.at);
        // What is unknown and waived stays so until the next assessment.
        let had_waived_unknown = left.by_waiver && !is_by_waiver(left.standing, findings, false, self.assessed_at);
        DeviceStanding { standing, by_waiver: is_by_waiver(standing, findings, had_waived_unknown, self.at), ..left }
    }
}

/// How a device stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct DeviceStanding {
    /// The standing.
    pub standing: Standing,
    /// Whether any enforced rule covers it.
    pub covered: bool,
    /// Whether it is compliant, and would not be without a waiver.
    pub by_waiver: bool,
}

impl DeviceStanding {
    /// Reads how an assessment left a device.
    pub(crate) fn of_spell(project: &Project, spell: &SpellRow) -> Result<Self, LedgerError> {
        let standing =
            Standing::parse(&spell.value).ok_or_else(|| unreadable(project, &spell.device, "the standing"))?;
        let StandingDetail { covered, by_waiver } = StandingDetail::parse(&spell.detail);
        Ok(Self { standing, covered, by_waiver })
    }
}
