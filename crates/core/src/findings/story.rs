//! A device and one rule over several assessments, for tests.

use jiff::Timestamp;

use crate::condition::evidence::{Blame, EvidenceSummary};
use crate::facts::period::Period;
use crate::facts::value::Reason;
use crate::findings::event::FindingEvent;
use crate::findings::finding::{Finding, LackSettings, SettleContext, SettleInput, SettleSettings};
use crate::findings::standing::Standing;
use crate::findings::waiver::{DeviceWaivers, Waiver};
use crate::id::DeviceId;
use crate::rule_set::RuleSetSource;
use crate::rules::baseline::Settings;
use crate::rules::rule::{Rule, RuleSource};
use crate::rules::verdict::{Verdict, VerdictOutcome, Verdicts};
use crate::testing::{compile, moment, rule};

/// A device and one rule over several assessments.
pub(super) struct Story {
    pub(super) rules: Vec<Rule>,
    pub(super) settings: SettleSettings,
    pub(super) waivers: Vec<Waiver>,
    pub(super) findings: Vec<Finding>,
    /// The moment of the last assessment.
    last: Option<Timestamp>,
}

pub(super) fn compiled(source: RuleSource) -> Vec<Rule> {
    compile(&RuleSetSource { rules: vec![source], ..RuleSetSource::default() }).rules().to_vec()
}

pub(super) fn with_grace(grace: &str) -> RuleSource {
    RuleSource {
        settings: Settings { grace: Some(Period::parse(grace).unwrap()), ..Settings::default() },
        ..rule("r", "ok")
    }
}

impl Story {
    pub(super) fn new(grace: &str) -> Self {
        let silence = LackSettings { grace: Period::days(3), relapse: Period::days(7) };
        let settings = SettleSettings { silence, ..SettleSettings::default() };
        Self { rules: compiled(with_grace(grace)), settings, waivers: Vec::new(), findings: Vec::new(), last: None }
    }

    /// Assesses at `at` with evidence collected at `collected`; returns what happened, and the standing.
    pub(super) fn assess(
        &mut self,
        at: &str,
        outcome: VerdictOutcome,
        collected: &str,
        corrected: bool,
    ) -> (Vec<&'static str>, Standing) {
        let verdicts = Verdicts {
            all: vec![Verdict { rule: 0, outcome, vacuous: false, excepted: false, awaiting: false, waived: false }],
        };
        let blames = vec![Blame { fact: "ok".into(), reason: Reason::Missing }];
        let mut evidence_summary =
            |_: &Verdict| EvidenceSummary { collected: Some(moment(collected)), corrected, blames: blames.clone() };
        let earlier = std::mem::take(&mut self.findings);
        let context = SettleContext { rules: &self.rules, settings: &self.settings, at: moment(at), before: self.last };
        let device = DeviceId::from("d");
        let newest = Some(moment(collected));
        let waivers = &DeviceWaivers { all: self.waivers.iter().collect() };
        let of = SettleInput { device: &device, verdicts: &verdicts, newest, has_corrections: corrected, waivers };
        let settled = context.settle(of, earlier, &mut evidence_summary);
        (self.findings, self.last) = (settled.findings, Some(moment(at)));
        let what = settled
            .transitions
            .iter()
            .map(|transition| match &transition.event {
                FindingEvent::Closed(reason) => reason.as_str(),
                other => other.as_str(),
            })
            .collect();
        (what, settled.standing)
    }

    pub(super) fn phase(&self, at: &str) -> &'static str {
        self.findings[0].phase(moment(at)).as_str()
    }
}
