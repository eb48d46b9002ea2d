//! Clauses of laws, norms and contracts: which rules answer for each, how far they are met, who is excepted and what shows it.

use std::collections::BTreeMap;

use fencepost_core::{Rule, Stage, VerdictOutcome};
use jiff::Timestamp;

use crate::ask::report::ReportException;
use crate::ask::rule::UnmetOn;
use crate::ask::verdicts::{DeviceVerdictsAt, VerdictSource, VerdictsWanted};
use crate::assess::RuleCount;
use crate::error::EngineError;
use crate::ledger_view::reading::Reading;

/// So many devices of a clause are told.
const MOST_EVIDENCE: usize = 500;

/// A rule that answers for a clause.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ClauseRule {
    /// The rule.
    pub rule: String,
    /// What it asks for.
    pub title: String,
    /// It is enforced; others are on trial, or drafts, and do not count.
    pub is_enforced: bool,
    /// What it says of the devices.
    pub counts: RuleCount,
}

/// A device that does not meet a rule of a clause, or of which that is not known.
#[derive(Clone, Debug, PartialEq)]
pub struct ClauseEvidence {
    /// The rule.
    pub rule: String,
    /// The device, and what was found on it.
    pub unmet: UnmetOn,
}

/// A waiver that covers something of a clause.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ClauseWaiver {
    /// The waiver.
    pub waiver: String,
    /// Why.
    pub because: String,
    /// Who answers for it.
    pub approved_by: String,
    /// Up to when, exclusively.
    pub until: Timestamp,
    /// How many verdicts it covers.
    pub covers: u64,
}

/// A clause, with what answers for it.
#[derive(Clone, Debug, PartialEq)]
pub struct ClauseReport {
    /// How it is called.
    pub clause: String,
    /// What it asks for.
    pub title: Option<String>,
    /// Who or what answers for it where no rule can.
    pub elsewhere: Option<String>,
    /// The rules that answer for it.
    pub rules: Vec<ClauseRule>,
    /// What the enforced ones say together, a verdict for each rule and device.
    pub counts: RuleCount,
    /// Exceptions of its rules that have not ended.
    pub exceptions: Vec<ReportException>,
    /// Waivers that cover something of it.
    pub waivers: Vec<ClauseWaiver>,
    /// What is not met, or not known: the first of it.
    pub evidence: Vec<ClauseEvidence>,
    /// How much of that there is.
    pub evidence_in_all: u64,
}

impl ClauseReport {
    /// Returns whether everything that enforced rules ask for it is met on every device, without a waiver; none where no enforced rule
    /// answers for it.
    pub fn is_satisfied(&self) -> Option<bool> {
        let answered = self.rules.iter().any(|rule| rule.is_enforced);
        answered.then_some(self.counts.fail == 0 && self.counts.unknown == 0)
    }
}

/// What counts as clauses.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ClausesOf {
    /// Those of laws, norms and contracts that the workspace lists or rules name.
    Controls,
    /// Every enforced rule is one.
    Rules,
}

/// All clauses.
#[derive(Clone, Debug, PartialEq)]
pub struct ControlsReport {
    /// The moment of reading.
    pub as_of: Timestamp,
    /// The number of the assessment.
    pub assessment: i64,
    /// The moment that it judged by.
    pub assessed_at: Timestamp,
    /// The digest of the rules that it went by.
    pub rule_set: String,
    /// The clauses in the order in which they are listed, then those that rules name and no list has.
    pub clauses: Vec<ClauseReport>,
}

/// What is found of a device for the rules of clauses.
struct Found {
    unmet: Vec<(usize, UnmetOn)>,
}

impl Reading<'_> {
    /// Returns what is told of the clauses that rules answer for.
    ///
    /// # Errors
    /// When the ledger cannot be read, or nothing was assessed.
    pub fn controls_report(&self, of: ClausesOf) -> Result<ControlsReport, EngineError> {
        let Some(assessment) = &self.assessment else {
            return Err(EngineError::refused("nothing has been assessed yet", "run: fencepost assess"));
        };
        let rules = self.project.rules.rules();
        let mut clauses: Vec<ClauseReport> = Vec::new();
        if of == ClausesOf::Rules {
            // Each rule is a clause of its own.
            let judged = rules.iter().filter(|rule| rule.stage(self.judged_at()) == Stage::Enforced);
            clauses.extend(
                judged.map(|rule| ClauseReport {
                    title: Some(rule.title.clone()),
                    ..ClauseReport::named(rule.id.as_str())
                }),
            );
        }
        for control in self.project.controls.iter().filter(|_| of == ClausesOf::Controls) {
            let (title, elsewhere) = (control.title.clone(), control.elsewhere.clone());
            clauses.push(ClauseReport { title, elsewhere, ..ClauseReport::named(&control.clause.text) });
        }
        for clause in rules.iter().filter(|_| of == ClausesOf::Controls).flat_map(Rule::controls) {
            if !clauses.iter().any(|known| known.clause == clause) {
                clauses.push(ClauseReport::named(clause));
            }
        }
        let counts = self.rule_counts()?.unwrap_or_default();
        for clause in &mut clauses {
            self.add_rules(clause, of, &counts);
        }
        self.add_evidence(&mut clauses)?;
        Ok(ControlsReport {
            as_of: self.at,
            assessment: assessment.number.unwrap_or(0),
            assessed_at: assessment.as_of,
            rule_set: assessment.rule_set.clone().unwrap_or_default(),
            clauses,
        })
    }

    fn add_rules(&self, clause: &mut ClauseReport, of: ClausesOf, counts: &BTreeMap<String, RuleCount>) {
        let exceptions = self.exceptions();
        for rule in self.project.rules.rules() {
            let answers = match of {
                ClausesOf::Controls => rule.controls().any(|named| named == clause.clause),
                ClausesOf::Rules => rule.id.as_str() == clause.clause,
            };
            if !answers {
                continue;
            }
            let of_rule = counts.get(rule.id.as_str()).cloned();
            let is_enforced = of_rule.is_some() && rule.stage(self.judged_at()) == Stage::Enforced;
            let of_rule = of_rule.unwrap_or_else(|| RuleCount::of(rule, self.judged_at()));
            if is_enforced {
                clause.counts.merge(&of_rule);
            }
            let own = exceptions.iter().filter(|exception| exception.rule == rule.id.as_str());
            clause.exceptions.extend(own.cloned());
            let (rule, title) = (rule.id.to_string(), rule.title.clone());
            clause.rules.push(ClauseRule { rule, title, is_enforced, counts: of_rule });
        }
    }

    /// Counts what a waiver covers of a clause.
    fn count_waiver(&self, clause: &mut ClauseReport, waiver: &str) {
        if let Some(known) = clause.waivers.iter_mut().find(|known| known.waiver == waiver) {
            known.covers += 1;
            return;
        }
        let written = self.project.rules.waivers().iter().find(|written| written.id.as_str() == waiver);
        clause.waivers.extend(written.map(|written| ClauseWaiver {
            waiver: waiver.to_owned(),
            because: written.because.clone(),
            approved_by: written.approved_by.clone(),
            until: written.ends(),
            covers: 1,
        }));
    }

    /// Adds what is not met on which device, and what of it is waived.
    fn add_evidence(&self, clauses: &mut [ClauseReport]) -> Result<(), EngineError> {
        let rules = self.project.rules.rules();
        let is_asked: Vec<bool> = rules
            .iter()
            .map(|rule| {
                clauses
                    .iter()
                    .any(|clause| clause.rules.iter().any(|own| own.is_enforced && own.rule == rule.id.as_str()))
            })
            .collect();
        if !is_asked.contains(&true) {
            return Ok(());
        }
        let gather = |device: &DeviceVerdictsAt<'_>| {
            let unmet = device.verdicts.iter().filter(|verdict| is_asked[verdict.rule] && !verdict.outcome.is_quiet());
            Found { unmet: unmet.map(|verdict| (verdict.rule, UnmetOn::of(device, verdict))).collect() }
        };
        let layout = self.project.rules.layout();
        let wanted = VerdictsWanted { source: VerdictSource::Assessment, of_rule: None, layout, slots: &[] };
        self.each_with_verdicts(wanted, gather, |found| {
            for (rule, unmet) in found.unmet {
                let rule = rules[rule].id.as_str();
                let own = clauses.iter_mut().filter(|clause| clause.rules.iter().any(|one| one.rule == rule));
                for clause in own {
                    clause.evidence_in_all += 1;
                    if let Some((waiver, _)) = &unmet.waiver {
                        self.count_waiver(clause, waiver);
                    }
                    if clause.evidence.len() < MOST_EVIDENCE {
                        clause.evidence.push(ClauseEvidence { rule: rule.to_owned(), unmet: unmet.clone() });
                    }
                }
            }
            Ok(())
        })?;
        for clause in clauses {
            // What fails comes before what is not known, and both before what is waived.
            clause.evidence.sort_by_key(|one| (one.unmet.waiver.is_some(), one.unmet.outcome != VerdictOutcome::Fail));
        }
        Ok(())
    }
}

impl ClauseReport {
    fn named(clause: &str) -> Self {
        Self {
            clause: clause.to_owned(),
            title: None,
            elsewhere: None,
            rules: Vec::new(),
            counts: RuleCount::default(),
            exceptions: Vec::new(),
            waivers: Vec::new(),
            evidence: Vec::new(),
            evidence_in_all: 0,
        }
    }
}
