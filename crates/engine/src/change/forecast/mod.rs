//! What comes next if nothing comes in: findings that open and fall due, facts that become too old, access that is lost and comes
//! back, what will be sent, and what ends.
//!
//! Every device goes through the assessments of the days to come, by the same functions as in [`crate::assess()`] and from what the last
//! assessment left of it; nothing of it is kept.

mod device;
mod entry;
mod view;

use std::collections::{BTreeMap, BTreeSet};

use fencepost_core::{ActionState, CauseKind, Ruling, SlotId, StepAnchor, WaiverState};
use fencepost_store::{DeviceRow, LayoutFingerprints, Ledger, Look, SpellKind};
use jiff::Timestamp;
use serde_json::json;

pub use entry::{
    EndingKind, ForecastAction, ForecastDecision, ForecastEnding, ForecastEntry, ForecastEvent, ForecastKind,
};
pub use view::{Forecast, ForecastBy, ForecastCounts, ForecastDay, ForecastLine, ForecastSubject};

use super::preview::reading_of;
use crate::act::outbox::Outbox;
use crate::act::records::OutboxRecords;
use crate::assess::inputs::Inputs;
use crate::assess::weigh::needs_documents;
use crate::assess::{AssessOptions, UncommittedAssessment, assess_within, summary_of};
use crate::compare::results::{Comparisons, DriftResults, Since};
use crate::error::EngineError;
use crate::ledger_view::batch::{Batch, DEVICES};
use crate::ledger_view::codec::{DecisionKey, StoredDecision};
use crate::ledger_view::damage::unreadable;
use crate::ledger_view::reading::Reading;
use crate::workers::{AHEAD, Workers, cores, handed_out};
use crate::workspace::ledger::Moment;
use crate::workspace::project::Project;
use device::{ComparedFrom, DeviceForecast, DeviceForecaster, ForecastScratch, whole_second};
use view::ForecastBuilder;

/// What is asked about the time to come.
#[derive(Clone, Debug)]
pub struct ForecastQuery {
    /// How many days of the calendar are looked at, the one of the moment among them.
    pub days: u16,
    /// Restricts the forecast to these devices; what is about the workspace as a whole is then left out.
    pub devices: Option<BTreeSet<String>>,
    /// Only what ends is told.
    pub endings_only: bool,
}

/// Says what comes about by time alone after a moment, in whole days of the workspace's calendar.
///
/// # Errors
/// When the ledger cannot be read, nothing was collected yet, or the moment lies before the last assessment.
pub fn forecast(
    project: &Project,
    ledger: &Ledger,
    moment: &Moment,
    query: &ForecastQuery,
) -> Result<Forecast, EngineError> {
    let mut copy = ledger.private_copy()?;
    // What came in since the last assessment counts.
    let writer = copy.writer("forecast")?;
    let UncommittedAssessment { writer, assessed, .. } =
        assess_within(project, writer, moment, AssessOptions::default(), &mut |_, _| {})?;
    let reading = reading_of(project, writer.reader(), assessed.run, moment.as_of)?;
    reading.forecast(query)
}

impl Reading<'_> {
    /// Says what comes about after the assessment that is read, which is the latest.
    fn forecast(&self, query: &ForecastQuery) -> Result<Forecast, EngineError> {
        let (project, at) = (self.project, self.at);
        let until = last_moment(project, at, query.days);
        let inputs = Inputs::of(project);
        let rules = &project.rules;
        let compared = if query.endings_only { Vec::new() } else { self.comparisons_ahead(until)? };
        self.load_comparisons()?;
        let has_ladders = !rules.responses().ladders().is_empty();
        let records = has_ladders.then(|| OutboxRecords::read(self)).transpose()?;
        let announces = rules.rules().iter().any(|rule| {
            let ladder = rules.responses().of_rule(rule).filter(|it| it.counts_from(StepAnchor::Enforced));
            ladder.is_some() && rule.enforced_from.is_some_and(|from| from > at)
        });
        let (expiring, read): (Vec<_>, Vec<_>) =
            (rules.expiring_facts(&project.dictionary, at), rules.named_slots().into_iter().collect());
        let is_volatile = |slot: &SlotId| {
            let declared = project.dictionary.facts.get(rules.layout().slot_path(*slot));
            declared.is_some_and(|declared| declared.volatile)
        };
        let reads_volatile = rules.rules().iter().filter(|rule| rule.required_slots().iter().any(is_volatile));
        let reads_volatile: BTreeSet<String> = reads_volatile.map(|rule| rule.id.to_string()).collect();
        let forecaster = DeviceForecaster {
            judge: self.judge(),
            inputs: &inputs,
            compared: &compared,
            announces,
            records: records.as_ref(),
            expiring: &expiring,
            reads_volatile: &reads_volatile,
            read: &read,
            endings_only: query.endings_only,
            until,
        };
        let mut builder = ForecastBuilder::new(project, at, until);
        if query.devices.is_none() {
            self.add_endings(until, &mut builder)?;
        }
        self.add_corrections(query, until, &mut builder)?;
        if let Some(records) = records.as_ref().filter(|_| !query.endings_only) {
            self.add_actions_of_losses(records, query, until, &mut builder)?;
        }
        self.add_devices(&forecaster, query, &mut builder)?;
        builder.finish(|id| self.name_of_person(id).unwrap_or_else(|| id.to_owned()))
    }

    /// Compares the sets that make findings at every moment at which time alone changes what is said of them.
    fn comparisons_ahead(&self, until: Timestamp) -> Result<Vec<ComparedFrom>, EngineError> {
        let mut ahead: Vec<ComparedFrom> = Vec::new();
        if !self.project.rules.has_rules_of_sets() {
            return Ok(ahead);
        }
        let first = DriftResults::kept(&self.reader, None, self.project)?;
        let mut summary = self.assessment.as_ref().and_then(summary_of).unwrap_or_default();
        let mut at = self.at;
        loop {
            // Sets of which it is not known until when they are the same are compared every day.
            let known = |kept: Timestamp| if kept < at { next_midnight(self.project, at) } else { kept };
            let next = Comparisons::kept_until(&summary).map(known).min().unwrap_or(Timestamp::MAX);
            let after = at.checked_add(jiff::SignedDuration::from_nanos(1)).unwrap_or(Timestamp::MAX);
            let from = whole_second(next.max(after));
            if from > until {
                return Ok(ahead);
            }
            at = from;
            let results = ahead.last().map_or(&first, |last| &last.results);
            let then = Reading::of_now(self.project, self.reader.clone(), from)?;
            let since = Since { summary: Some(&summary), changed: &[], results: Some(results) };
            let comparisons = then.comparisons(&since)?;
            summary = json!({ "drift": comparisons.to_json() });
            let changed = comparisons.changed.iter().map(|device| device.name.clone()).collect();
            ahead.push(ComparedFrom { from, results: comparisons.results, changed });
        }
    }

    /// Goes through the devices on the workers.
    fn add_devices(
        &self,
        forecaster: &DeviceForecaster<'_>,
        query: &ForecastQuery,
        builder: &mut ForecastBuilder<'_>,
    ) -> Result<(), EngineError> {
        let is_asked = |device: &DeviceRow| query.devices.as_ref().is_none_or(|asked| asked.contains(&device.name));
        let devices: Vec<DeviceRow> = self.reader.devices(Look::All)?.into_iter().filter(is_asked).collect();
        let workers = if devices.len() <= DEVICES { 1 } else { cores(None) };
        let (mut devices, bodies) = (devices.into_iter(), self.reader.bodies()?);
        let fingerprints = LayoutFingerprints { now: forecaster.inputs.layout_fingerprint, earlier: None };
        handed_out(
            builder,
            Workers { count: workers, ahead: AHEAD, prepare: || ForecastScratch::new(&bodies) },
            |_| {
                let mut batch = Batch::default().of(&mut devices);
                if let Some(batch) = &mut batch {
                    batch.fill(&self.reader, fingerprints, needs_documents)?;
                }
                Ok(batch)
            },
            |scratch, batch: Batch| {
                let told: Vec<_> =
                    batch.jobs().map(|job| (job.device.clone(), forecaster.forecast(scratch, &job))).collect();
                told
            },
            |builder, told| {
                told.into_iter().try_for_each(|(device, told)| self.add_device(forecaster, &device, told?, builder))
            },
        )
    }

    fn add_device(
        &self,
        forecaster: &DeviceForecaster<'_>,
        device: &DeviceRow,
        told: DeviceForecast,
        builder: &mut ForecastBuilder<'_>,
    ) -> Result<(), EngineError> {
        builder.note_unsteady(told.is_unsteady);
        let entry = |at: Timestamp, people: Vec<String>, what: ForecastEvent, only_if_silent: bool| ForecastEntry {
            at,
            device: Some(told.device.clone()),
            site: told.site.clone(),
            people,
            what,
            only_if_silent,
        };
        for event in &told.events {
            let people = match &event.what {
                ForecastEvent::Action(action) => action.person.iter().cloned().collect(),
                _ => told.holders.clone(),
            };
            builder.add(&entry(event.at, people, event.what.clone(), event.only_if_silent))?;
        }
        if told.decisions.is_empty() {
            return Ok(());
        }
        let mut held = self.rulings(device)?;
        let gone = StoredDecision::gone(CauseKind::Membership);
        for then in &told.decisions {
            let now: BTreeMap<&DecisionKey, &StoredDecision> =
                then.all.iter().map(|(key, decision)| (key, decision)).collect();
            let keys = held.keys().cloned().chain(now.keys().map(|key| (*key).clone()));
            for key in keys.collect::<BTreeSet<_>>() {
                let decided = now.get(&key).map_or(&gone, |decision| *decision);
                let before = held.get(&key).unwrap_or(&gone.ruling);
                if decided.ruling == *before {
                    continue;
                }
                let decision = ForecastDecision::of(&key, &decided.ruling);
                let people = key.person.iter().cloned().collect();
                let by_silence = forecaster.is_decided_by_silence(&told, then, &decided.causes);
                let what = match decided.ruling.is_stricter_than(before) {
                    true => ForecastEvent::Losing(decision),
                    false => ForecastEvent::Returning(decision),
                };
                builder.add(&entry(then.at, people, what, by_silence))?;
                held.insert(key, decided.ruling.clone());
            }
        }
        Ok(())
    }

    /// Returns what the assessment decided about sign-ins with a device.
    fn rulings(&self, device: &DeviceRow) -> Result<BTreeMap<DecisionKey, Ruling>, EngineError> {
        let mut rulings = BTreeMap::new();
        for row in self.reader.spells_of(SpellKind::Decision, device, None)? {
            let read = DecisionKey::read(&row.subject).zip(StoredDecision::read(&row.value, &row.detail));
            let (key, decision) = read.ok_or_else(|| unreadable(self.project, &device.name, "a decision"))?;
            rulings.insert(key, decision.ruling);
        }
        Ok(rulings)
    }

    /// Adds the ends of waivers and of exceptions.
    fn add_endings(&self, until: Timestamp, builder: &mut ForecastBuilder<'_>) -> Result<(), EngineError> {
        let rules = &self.project.rules;
        let of_workspace = |at, ending| ForecastEntry {
            at: whole_second(at),
            device: None,
            site: None,
            people: Vec::new(),
            what: ForecastEvent::Ending(ending),
            only_if_silent: false,
        };
        for waiver in rules.waivers().iter().filter(|waiver| waiver.state(self.at) != WaiverState::Over) {
            let ending = ForecastEnding { kind: EndingKind::Waiver, id: waiver.id.to_string(), rule: None };
            if whole_second(waiver.ends()) <= until {
                builder.add(&of_workspace(waiver.ends(), ending))?;
            }
        }
        for rule in rules.rules().iter().filter(|rule| !rule.is_draft()) {
            for exception in rule.exceptions() {
                let Some(end) = exception.until.filter(|end| *end > self.at && whole_second(*end) <= until) else {
                    continue;
                };
                let (kind, rule) = (EndingKind::Exception, Some(rule.id.to_string()));
                builder.add(&of_workspace(end, ForecastEnding { kind, id: exception.name.clone(), rule }))?;
            }
        }
        Ok(())
    }

    /// Adds the ends of facts that were set by hand.
    fn add_corrections(
        &self,
        query: &ForecastQuery,
        until: Timestamp,
        builder: &mut ForecastBuilder<'_>,
    ) -> Result<(), EngineError> {
        for correction in &self.project.corrections {
            let device = self.project.lifecycles.name(correction.device.as_str(), self.at).to_owned();
            let is_asked = query.devices.as_ref().is_none_or(|asked| asked.contains(&device));
            if is_asked && correction.until > self.at && whole_second(correction.until) <= until {
                let (kind, id) = (EndingKind::Correction, correction.fact.clone());
                builder.add(&ForecastEntry {
                    at: whole_second(correction.until),
                    device: Some(device),
                    site: None,
                    people: Vec::new(),
                    what: ForecastEvent::Ending(ForecastEnding { kind, id, rule: None }),
                    only_if_silent: false,
                })?;
            }
        }
        Ok(())
    }

    /// Adds what will be sent about access that is lost without a finding.
    fn add_actions_of_losses(
        &self,
        records: &OutboxRecords,
        query: &ForecastQuery,
        until: Timestamp,
        builder: &mut ForecastBuilder<'_>,
    ) -> Result<(), EngineError> {
        let Some(response) = self.project.rules.responses().access() else { return Ok(()) };
        for line in (Outbox { reading: self, records }).losses(response)?.into_iter().flatten() {
            let ActionState::Waiting { until: Some(at), .. } = line.action.state else { continue };
            let device = line.finding.device.to_string();
            let is_asked = query.devices.as_ref().is_none_or(|asked| asked.contains(&device));
            if is_asked && at > self.at && whole_second(at) <= until {
                let action = ForecastAction::of(&line, false);
                let people = action.person.iter().cloned().collect();
                let (device, what) = (Some(device), ForecastEvent::Action(action));
                builder.add(&ForecastEntry {
                    at: whole_second(at),
                    device,
                    site: None,
                    people,
                    what,
                    only_if_silent: false,
                })?;
            }
        }
        Ok(())
    }
}

/// Returns when the next day of the calendar begins.
fn next_midnight(project: &Project, at: Timestamp) -> Timestamp {
    let zone = &project.config.calendar.zone;
    let tomorrow = zone.to_datetime(at).date().tomorrow();
    tomorrow.and_then(|day| zone.to_timestamp(day.at(0, 0, 0, 0))).unwrap_or(Timestamp::MAX)
}

/// Returns the last whole second of so many days of the calendar, that of a moment among them.
fn last_moment(project: &Project, at: Timestamp, days: u16) -> Timestamp {
    let zone = &project.config.calendar.zone;
    let end = zone.to_datetime(at).date().checked_add(jiff::Span::new().days(i64::from(days)));
    let end = end.and_then(|day| zone.to_timestamp(day.at(0, 0, 0, 0)));
    end.ok().and_then(|end| end.checked_sub(jiff::SignedDuration::from_secs(1)).ok()).unwrap_or(Timestamp::MAX)
}
