//! How much of each baseline, and of each family of rules, the devices meet that it covers.

use std::collections::BTreeMap;

use fencepost_core::{Rule, Stage, VerdictOutcome};

use crate::ask::figures::Summary;
use crate::ask::verdicts::{DeviceVerdictsAt, VerdictSource, VerdictsWanted};
use crate::assess::RuleCount;
use crate::error::EngineError;
use crate::ledger_view::reading::Reading;

/// By what enforced rules are put together.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum RulesTogether {
    /// By the baseline that they come from.
    Baselines,
    /// By family: what stands before the slash of their ids.
    Families,
}

impl RulesTogether {
    /// Returns what a rule is put together by; none where it stands alone.
    fn of(self, rule: &Rule) -> Option<&str> {
        match self {
            Self::Baselines => rule.baseline.as_ref().map(|from| from.baseline.as_str()),
            Self::Families => Some(rule.family()),
        }
    }
}

/// How much of some rules the devices meet that they cover.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct TogetherCounts {
    /// The baseline or the family.
    pub id: String,
    /// Devices that some of the rules cover.
    pub devices: u64,
    /// Every rule that covers them passes.
    pub all_met: u64,
    /// Some fail and some pass.
    pub some_met: u64,
    /// Some fail and none passes.
    pub none_met: u64,
    /// None fails, and some are unknown.
    pub unknown: u64,
    /// Devices on which a waiver covers a failure or an unknown.
    pub waived: u64,
}

impl TogetherCounts {
    /// Returns the part of the devices that meet all of it, from 0 to 1; none where it covers no device.
    pub fn share(&self) -> Option<f64> {
        (self.devices > 0).then(|| self.all_met as f64 / self.devices as f64)
    }

    fn add(&mut self, device: Met) {
        if device.pass + device.fail + device.unknown == 0 {
            return;
        }
        self.devices += 1;
        self.waived += u64::from(device.waived > 0);
        *match (device.pass, device.fail, device.unknown) {
            (0, 1.., _) => &mut self.none_met,
            (_, 1.., _) => &mut self.some_met,
            (_, 0, 1..) => &mut self.unknown,
            (_, 0, 0) => &mut self.all_met,
        } += 1;
    }
}

/// How much of some rules a device meets.
#[derive(Clone, Copy, Debug, Default)]
struct Met {
    pass: u64,
    fail: u64,
    unknown: u64,
    waived: u64,
}

/// What a baseline came to on the devices that it covers.
#[derive(Clone, Debug, PartialEq)]
pub struct BaselineCounts {
    /// How much of it they meet.
    pub met: TogetherCounts,
    /// Each of its rules that is on trial or enforced.
    pub rules: Vec<RuleCount>,
}

impl Reading<'_> {
    /// Returns how much of each baseline, or family, the devices meet; what is on trial is left out. In the order of the rules.
    pub(crate) fn rules_together(&self, together: RulesTogether) -> Result<Vec<TogetherCounts>, EngineError> {
        let rules = self.project.rules.rules();
        let mut ids: Vec<&str> = Vec::new();
        let mut place_of: BTreeMap<usize, usize> = BTreeMap::new();
        for (at, rule) in rules.iter().enumerate() {
            let Some(id) = together.of(rule).filter(|_| rule.stage(self.judged_at()) == Stage::Enforced) else {
                continue;
            };
            let place = ids.iter().position(|known| *known == id).unwrap_or_else(|| {
                ids.push(id);
                ids.len() - 1
            });
            place_of.insert(at, place);
        }
        let mut counts: Vec<TogetherCounts> =
            ids.iter().map(|id| TogetherCounts { id: (*id).to_owned(), ..TogetherCounts::default() }).collect();
        let met = |device: &DeviceVerdictsAt<'_>| {
            let mut met = vec![Met::default(); ids.len()];
            for verdict in &device.verdicts {
                let Some(place) = place_of.get(&verdict.rule) else { continue };
                let own = &mut met[*place];
                match verdict.outcome {
                    VerdictOutcome::Pass => own.pass += 1,
                    VerdictOutcome::Fail => own.fail += 1,
                    VerdictOutcome::Unknown(_) => own.unknown += 1,
                    VerdictOutcome::NotApplicable => {}
                }
                own.waived += u64::from(verdict.waived);
            }
            met
        };
        let layout = self.project.rules.layout();
        let wanted =
            VerdictsWanted { source: VerdictSource::AssessmentWithNewerFacts, of_rule: None, layout, slots: &[] };
        self.each_with_verdicts(wanted, met, |met| {
            counts.iter_mut().zip(met).for_each(|(counts, met)| counts.add(met));
            Ok(())
        })?;
        Ok(counts)
    }

    /// Returns what a baseline came to on the devices that it covers; none before the first assessment.
    ///
    /// # Errors
    /// When the ledger cannot be read.
    pub fn baseline_counts(&self, id: &str) -> Result<Option<BaselineCounts>, EngineError> {
        let Some(counts) = self.rule_counts()? else { return Ok(None) };
        let rules = self.project.rules.rules();
        let is_its = |rule: &&Rule| rule.baseline.as_ref().is_some_and(|from| from.baseline == id);
        let own = rules.iter().filter(is_its).filter_map(|rule| counts.get(rule.id.as_str()).cloned());
        let met = self.rules_together(RulesTogether::Baselines)?.into_iter().find(|counts| counts.id == id);
        Ok(Some(BaselineCounts {
            met: met.unwrap_or_else(|| TogetherCounts { id: id.to_owned(), ..TogetherCounts::default() }),
            rules: own.collect(),
        }))
    }

    /// Returns what the assessment counted of each rule, by its id; none before the first.
    pub(crate) fn rule_counts(&self) -> Result<Option<BTreeMap<String, RuleCount>>, EngineError> {
        let Some(run) = &self.assessment else { return Ok(None) };
        let summary = Summary::of(self.project, run)?;
        Ok(Some(summary.rule_counts().map(|count| (count.rule.clone(), count)).collect()))
    }
}
