//! What edited rules have in common with those of the last assessment, so that a device of which they say the same need not be
//! settled again.

use fencepost_core::{Rule, Stage, VerdictOutcome};
use fencepost_formats::WorkspaceFile;
use jiff::Timestamp;

use crate::ledger_view::outcome::{Outcome, verdict_of};
use crate::workspace::project::Project;

/// How a project's rules compare with those of the last assessment.
#[derive(Debug)]
pub(crate) struct RuleSetDiff {
    /// Of each rule that is judged by: whether it counts, where its verdict stands among those of before, and whether nothing
    /// about it has changed.
    rules: Vec<(bool, Option<(usize, bool)>)>,
    /// Where the verdicts of rules stand that are no more.
    gone: Vec<usize>,
    /// How many verdicts there were.
    before: usize,
    /// The rules that are still there stand in the order in which they stood: what a device owes is told in it.
    pub in_order: bool,
    /// Names the paths that the rules read.
    pub layout_fingerprint: i64,
}

impl RuleSetDiff {
    /// Compares a project with that of the last assessment; none where more than rules and baselines differ, or a rule was renamed.
    pub(super) fn of(earlier: &Project, now: &Project, at: Timestamp) -> Option<Self> {
        let others = |project: &Project| -> Vec<(String, String)> {
            let is_other = |path: &str| {
                use WorkspaceFile::{Baselines, Bundles, Corrections, Devices, Responses, Rules};
                let kind = WorkspaceFile::of(path);
                // What is said of single devices by hand is part of what each is judged by.
                !matches!(kind, Some(Baselines | Bundles | Corrections | Devices | Responses | Rules))
                    && kind.is_none_or(WorkspaceFile::is_judged_by)
            };
            let files = project.files.iter().filter(|file| is_other(&file.path));
            files.map(|file| (file.path.clone(), file.text.clone())).collect()
        };
        if others(earlier) != others(now) {
            return None;
        }
        let judged = |project: &'_ Project| -> Vec<Rule> {
            project.rules.rules().iter().filter(|rule| !rule.is_draft()).cloned().collect()
        };
        let (before, rules) = (judged(earlier), judged(now));
        let place = |all: &[Rule], rule: &Rule| all.iter().position(|known| known.id == rule.id);
        // What was found by a rule follows it to another name.
        if rules.iter().any(|rule| !rule.was.is_empty() && place(&before, rule).is_none()) {
            return None;
        }
        let of_rule = |rule: &Rule| {
            let was = place(&before, rule).map(|at| (at, before[at].is_same_as(rule)));
            (rule.stage(at) == Stage::Enforced, was)
        };
        let rules_now: Vec<_> = rules.iter().map(of_rule).collect();
        let places = rules_now.iter().filter_map(|(_, was)| was.map(|(at, _)| at));
        Some(Self {
            in_order: places.is_sorted(),
            rules: rules_now,
            gone: (0..before.len()).filter(|at| place(&rules, &before[*at]).is_none()).collect(),
            before: before.len(),
            layout_fingerprint: earlier.layout_fingerprint(),
        })
    }

    /// Returns whether a device of which the same is known stays as it was settled before: the rules that changed find nothing on
    /// it, and found nothing.
    pub(super) fn keeps_as_settled(&self, before: &Outcome<&[u8]>, codes: &[u8]) -> bool {
        if before.verdicts.len() != self.before || codes.len() != self.rules.len() {
            return false;
        }
        let outcome = |code: u8| verdict_of(0, code).outcome;
        let is_quiet = |code: u8| outcome(code).is_quiet();
        let mut covered = false;
        for ((counts, was), code) in self.rules.iter().zip(codes) {
            covered |= *counts && outcome(*code) != VerdictOutcome::NotApplicable;
            let stays = match was {
                Some((at, true)) => before.verdicts[*at] == *code,
                Some((at, false)) => is_quiet(before.verdicts[*at]) && is_quiet(*code),
                None => is_quiet(*code),
            };
            if !stays {
                return false;
            }
        }
        covered == before.covered && self.gone.iter().all(|at| is_quiet(before.verdicts[*at]))
    }
}
