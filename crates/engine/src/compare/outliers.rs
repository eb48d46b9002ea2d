//! Odd ones out in the numbers of a fact, set by set.

use bumpalo::Bump;
use fencepost_core::drift::{Outlier, Outliers, outliers};
use fencepost_core::{Diagnostic, EVERY_DEVICE, Facts, Value};
use fencepost_store::DeviceRow;
use rust_decimal::Decimal;

use super::members::DriftQuery;
use crate::error::EngineError;
use crate::ledger_view::batch::Job;
use crate::ledger_view::device_facts::Wanted;
use crate::ledger_view::reading::Reading;

/// A device whose number is unusual.
#[derive(Clone, Debug, PartialEq)]
pub struct OutlyingDevice {
    /// The device.
    pub device: String,
    /// Its number, and how far that is from the median.
    pub outlier: Outlier,
}

/// What is usual in a set of devices, and who is not.
#[derive(Clone, Debug, PartialEq)]
pub struct OutlierSet {
    /// The set.
    pub id: String,
    /// How many devices report a number that is not too old.
    pub devices: usize,
    /// What is usual; none where no device reports a number.
    pub found: Option<Outliers>,
    /// The unusual devices, the farthest first.
    pub outliers: Vec<OutlyingDevice>,
}

/// What a device holds of the fact.
enum Held {
    Number(String, Decimal),
    Other,
    Nothing,
}

impl Reading<'_> {
    /// Finds the devices whose number of a fact is unusual among the peers of their set; without a set, among all devices.
    ///
    /// # Errors
    /// The outer one when the ledger cannot be read, or no device reports a number there; the inner one when the condition has
    /// mistakes.
    pub fn outliers(
        &self,
        fact: &str,
        query: &DriftQuery,
    ) -> Result<Result<Vec<OutlierSet>, Vec<Diagnostic>>, EngineError> {
        let sets: Vec<(String, Vec<DeviceRow>)> = if query.names_no_device() {
            let every = DriftQuery { filter: Some("true".to_owned()), ..query.clone() };
            match self.plan_drift(&every)? {
                Ok(plan) => plan.sets.into_iter().map(|set| (EVERY_DEVICE.to_owned(), rows_of(set.members))).collect(),
                Err(mistakes) => return Ok(Err(mistakes)),
            }
        } else {
            match self.plan_drift(query)? {
                Ok(plan) => plan.sets.into_iter().map(|set| (set.id, rows_of(set.members))).collect(),
                Err(mistakes) => return Ok(Err(mistakes)),
            }
        };
        let (mut found, mut others) = (Vec::new(), 0_usize);
        for (id, rows) in sets {
            let (held, other) = self.numbers_of(fact, &rows)?;
            others += other;
            let numbers: Vec<Decimal> = held.iter().map(|(_, number)| *number).collect();
            let usual = outliers(&numbers);
            let outlying = usual.iter().flat_map(|usual| &usual.outliers);
            let outlying = outlying
                .map(|outlier| OutlyingDevice { device: held[outlier.at].0.clone(), outlier: outlier.clone() })
                .collect();
            found.push(OutlierSet { id, devices: held.len(), found: usual, outliers: outlying });
        }
        if found.iter().all(|set| set.found.is_none()) {
            let fact = fact.escape_debug();
            return Err(match others {
                0 => EngineError::refused(
                    format!("none of these devices reports `{fact}`"),
                    "see what devices report: fencepost list facts",
                ),
                _ => EngineError::refused(
                    format!("`{fact}` is no number on any of these devices"),
                    "numbers alone have a usual range; for other facts see: fencepost drift --fact",
                ),
            });
        }
        Ok(Ok(found))
    }

    /// Returns the numbers that devices hold of a fact, those that are too old left out; and how many hold something else.
    fn numbers_of(&self, fact: &str, rows: &[DeviceRow]) -> Result<(Vec<(String, Decimal)>, usize), EngineError> {
        let judge = self.judge();
        let mut layout = self.project.rules.layout().clone();
        let slot = layout.want(fact, &self.project.dictionary);
        let wanted = [slot];
        let look = |job: &Job<'_>, facts: &Facts<'_>, _: &Bump| {
            let held = facts.slot(slot);
            Ok(match held.value {
                _ if held.stale || held.origin.is_none() => Held::Nothing,
                Value::Number(number) => Held::Number(job.device.name.clone(), number),
                Value::Unknown(_) | Value::Null => Held::Nothing,
                _ => Held::Other,
            })
        };
        let (mut numbers, mut others) = (Vec::new(), 0);
        self.with_facts(&judge, Wanted::whole(&layout, &wanted).of(rows), look, |held| {
            match held {
                Held::Number(device, number) => numbers.push((device, number)),
                Held::Other => others += 1,
                Held::Nothing => {}
            }
            Ok(())
        })?;
        Ok((numbers, others))
    }
}

fn rows_of(members: Vec<super::members::SetMember>) -> Vec<DeviceRow> {
    members.into_iter().map(|member| member.row).collect()
}
