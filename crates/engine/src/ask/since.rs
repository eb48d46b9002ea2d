//! What is otherwise than at an earlier moment: findings, access, and the rules, with what an edit of them alone did.

use std::collections::{BTreeMap, BTreeSet};

use bumpalo::Bump;
use fencepost_core::{Finding, FindingId, Rule, VerdictOutcome, Verdicts, rule_of_set};
use fencepost_store::{FindingRow, FindingsSince, RunRow};
use jiff::Timestamp;

use crate::access::losses::AccessQuery;
use crate::access::report::AccessEntry;
use crate::ask::figures::AssessmentFigures;
use crate::compare::results::DriftResults;
use crate::error::EngineError;
use crate::facts::documents::Document;
use crate::facts::judge::Judge;
use crate::facts::people::People;
use crate::ledger_view::codec;
use crate::ledger_view::damage::unreadable;
use crate::ledger_view::device_facts::Devices;
use crate::ledger_view::event::{Event, EventKind};
use crate::ledger_view::reading::Reading;
use crate::workspace::definition_changes::{DefinitionChange, definition_changes};
use crate::workspace::project::Project;

/// A definition that differs from what it was, with what that did.
#[derive(Clone, Debug, PartialEq)]
pub struct EditedDefinition {
    /// The definition, and the keys that differ.
    pub change: DefinitionChange,
    /// How many verdicts are others than they would be by the earlier rules, on the same state; none where verdicts are not what it is
    /// about.
    pub verdicts_turned: Option<u64>,
}

/// What is otherwise than at an earlier assessment.
#[derive(Clone, Debug)]
pub struct Since {
    /// The figures of the earlier assessment.
    pub from: AssessmentFigures,
    /// The figures of the one that is read.
    pub to: AssessmentFigures,
    /// Findings that run and did not, for the first time.
    pub opened: Vec<Finding>,
    /// Findings that run and did not, and had run before.
    pub came_back: Vec<Finding>,
    /// Findings that ran and do not any more.
    pub closed: Vec<Finding>,
    /// How many findings opened and closed in between, or closed and came back.
    pub came_and_went: u64,
    /// Ways into services that are shut and were open.
    pub lost: Vec<AccessEntry>,
    /// Ways that ask for more than they did.
    pub reduced: Vec<AccessEntry>,
    /// Ways that are open again, or ask for less.
    pub regained: Vec<AccessEntry>,
    /// What was edited.
    pub edited: Vec<EditedDefinition>,
    /// How many verdicts all of that turned; nothing but it.
    pub verdicts_turned: u64,
}

impl Reading<'_> {
    /// Compares the present with the last assessment at or before a moment.
    ///
    /// # Errors
    /// When the ledger cannot be read, nothing was assessed so early, or the moment is not in the past.
    pub fn since(&self, since: Timestamp) -> Result<Since, EngineError> {
        let access = self.access(&AccessQuery { since: Some(since), ..AccessQuery::default() })?;
        let nothing = || EngineError::refused("nothing has been assessed yet", "run: fencepost assess");
        let now = self.assessment.as_ref().ok_or_else(nothing)?;
        let then = self.reader.assessments(Some(since), 1)?.into_iter().next().ok_or_else(nothing)?;
        // What is as it was then tells nothing.
        let FindingsSince { then: before, now: after } = self.reader.findings_since(then.id, self.run)?;
        let (before, latest) = (self.by_id(&before)?, self.by_id(&after)?);
        let ran = |id: &FindingId| before.get(id).is_some_and(Finding::is_running);
        let runs = |id: &FindingId| latest.get(id).is_some_and(Finding::is_running);
        let is_over = |(id, _): &(&FindingId, &Finding)| ran(id) && !runs(id);
        let mut since = Since {
            from: self.figures_of(&then)?,
            to: self.figures_of(now)?,
            opened: Vec::new(),
            came_back: Vec::new(),
            closed: before.iter().filter(is_over).map(|(id, it)| latest.get(id).unwrap_or(it).clone()).collect(),
            came_and_went: self.came_and_went(&then, now, &|id| ran(id) == runs(id))?,
            lost: access.lost,
            reduced: access.reduced,
            regained: access.restored,
            edited: Vec::new(),
            verdicts_turned: 0,
        };
        self.add_edited(&then, &mut since)?;
        for (id, finding) in latest.iter().filter(|(_, finding)| finding.is_running()) {
            if !ran(id) {
                let is_new = finding.clock.opened > then.as_of;
                (if is_new { &mut since.opened } else { &mut since.came_back }).push(finding.clone());
            }
        }
        let place = |finding: &Finding| (finding.device.clone(), finding.subject.clone());
        for list in [&mut since.opened, &mut since.came_back, &mut since.closed] {
            list.sort_by_key(place);
        }
        Ok(since)
    }

    fn by_id(&self, rows: &[FindingRow]) -> Result<BTreeMap<FindingId, Finding>, EngineError> {
        let read = |row: &FindingRow| {
            let finding = codec::finding(row).ok_or_else(|| unreadable(self.project, &row.device, "a finding"))?;
            Ok((finding.id, finding))
        };
        rows.iter().map(read).collect()
    }

    /// Returns how many findings opened or closed between two assessments, of those that are now as they were.
    fn came_and_went(
        &self,
        then: &RunRow,
        now: &RunRow,
        is_as_it_was: &dyn Fn(&FindingId) -> bool,
    ) -> Result<u64, EngineError> {
        let mut moved: BTreeSet<FindingId> = BTreeSet::new();
        let between = self.reader.assessments(Some(now.as_of), u32::MAX)?;
        for run in between.iter().filter(|run| run.id > then.id && run.id <= now.id) {
            self.reader.each_event(run.id, |row| {
                if let Some(Event { kind: EventKind::Finding(change), .. }) = Event::of_row(row)
                    && change.event.moves_in_or_out()
                    && is_as_it_was(&change.id)
                {
                    moved.insert(change.id);
                }
                Ok::<_, EngineError>(())
            })?;
        }
        Ok(moved.len() as u64)
    }

    /// Adds what was edited since an assessment, with how many verdicts that alone turned.
    fn add_edited(&self, then: &RunRow, since: &mut Since) -> Result<(), EngineError> {
        let now = self.assessment.as_ref().and_then(|run| run.rule_set.as_deref());
        let digest = then.rule_set.as_deref().filter(|digest| Some(*digest) != now);
        let text = digest.map(|digest| self.reader.rule_set(digest)).transpose()?.flatten();
        let Some(earlier) = text.and_then(|text| Project::from_text(&self.project.root, &text)) else {
            return Ok(());
        };
        let changes = definition_changes(&earlier.files, &self.project.files);
        let turned = self.verdicts_turned(&earlier)?;
        since.verdicts_turned = turned.by_rule.values().sum();
        since.edited.extend(changes.into_iter().map(|change| {
            let verdicts_turned = turned.of(self.project, &change);
            EditedDefinition { change, verdicts_turned }
        }));
        Ok(())
    }

    /// Returns how many verdicts of each rule are others by the rules of the assessment than by earlier ones, on the same state.
    fn verdicts_turned(&self, earlier: &Project) -> Result<TurnedVerdicts, EngineError> {
        self.load_comparisons()?;
        let at = self.judged_at();
        let kept = DriftResults::kept(&self.reader, self.run, earlier)?;
        let people = People::load(&self.reader, self.run, earlier, at)?;
        let then = Judge::new(earlier, &people, at).with_comparisons(&kept);
        let (now, newer) = (self.assessing_judge(), self.changed_since_assessment()?);
        let rules = PairedRules::of(earlier, self.project);
        let look = |device: &str, documents: &[Document], arena: &Bump| {
            if newer.contains(device) {
                return Ok(None);
            }
            let by = |judge: &Judge<'_>| {
                let judged = judge.device(device, documents, arena)?;
                Ok::<_, EngineError>(judge.verdicts(&judged.input, arena))
            };
            Ok(Some(rules.turned(&by(&then)?, &by(&now)?)))
        };
        let mut turned = TurnedVerdicts::default();
        self.with_documents_of(&now, Devices::All, look, |of_device: Option<Vec<String>>| {
            turned.add(of_device.unwrap_or_default());
            Ok(())
        })?;
        for device in &newer {
            let (documents, arena) = (self.assessed_documents(device)?, Bump::new());
            if documents.is_empty() {
                continue;
            }
            let by = |judge: &Judge<'_>| {
                let judged = judge.device(device, &documents, &arena)?;
                Ok::<_, EngineError>(judge.verdicts(&judged.input, &arena))
            };
            turned.add(rules.turned(&by(&then)?, &by(&now)?));
        }
        Ok(turned)
    }

    /// Returns the devices of which something came in since the assessment.
    fn changed_since_assessment(&self) -> Result<BTreeSet<String>, EngineError> {
        if self.run.is_some() {
            return Ok(BTreeSet::new());
        }
        let changed = self.reader.changed_devices()?;
        let devices = self.reader.devices(fencepost_store::Look::All)?;
        Ok(devices.into_iter().filter(|device| changed.contains(&device.number)).map(|device| device.name).collect())
    }
}

/// The rules of two rule sets, each with what it is in the other.
struct PairedRules<'p> {
    /// Of each rule of the later set its id, and its position in the earlier one.
    later: Vec<(&'p str, Option<usize>)>,
    /// Of each rule of the earlier set that is gone its id and position.
    gone: Vec<(&'p str, usize)>,
}

impl<'p> PairedRules<'p> {
    fn of(earlier: &'p Project, later: &'p Project) -> Self {
        let then = |rule: &Rule| {
            let ids = std::iter::once(&rule.id).chain(&rule.was);
            ids.filter_map(|id| earlier.rules.position(id.as_str())).next()
        };
        let paired: Vec<(&str, Option<usize>)> =
            later.rules.rules().iter().map(|rule| (rule.id.as_str(), then(rule))).collect();
        let stay: BTreeSet<usize> = paired.iter().filter_map(|(_, at)| *at).collect();
        let all = earlier.rules.rules().iter().enumerate();
        let gone = all.filter(|(at, _)| !stay.contains(at)).map(|(at, rule)| (rule.id.as_str(), at)).collect();
        Self { later: paired, gone }
    }

    /// Returns the rules that say something else of a device; of one that is new or gone what it says counts against nothing.
    fn turned(&self, then: &Verdicts, now: &Verdicts) -> Vec<String> {
        let said = |verdicts: &Verdicts, rule: usize| {
            let found = verdicts.all.iter().find(|verdict| verdict.rule == rule).map(|verdict| verdict.outcome);
            found.unwrap_or(VerdictOutcome::NotApplicable)
        };
        let of_later = self.later.iter().enumerate().filter(|(at, (_, then_at))| {
            said(now, *at).as_str() != then_at.map_or(VerdictOutcome::NotApplicable, |at| said(then, at)).as_str()
        });
        let of_gone = self.gone.iter().filter(|(_, at)| said(then, *at) != VerdictOutcome::NotApplicable);
        of_later.map(|(_, (id, _))| (*id).to_owned()).chain(of_gone.map(|(id, _)| (*id).to_owned())).collect()
    }
}

/// How many verdicts an edit turned, by rule.
#[derive(Default)]
struct TurnedVerdicts {
    by_rule: BTreeMap<String, u64>,
}

impl TurnedVerdicts {
    fn add(&mut self, rules: Vec<String>) {
        rules.into_iter().for_each(|rule| *self.by_rule.entry(rule).or_default() += 1);
    }

    /// Returns how many verdicts a definition may have turned: of a rule its own, of a baseline those of its rules, of a group those of
    /// the rules that ask about it; none where it is not about verdicts.
    fn of(&self, project: &Project, change: &DefinitionChange) -> Option<u64> {
        let id = change.definition.id.as_str();
        let is_below = |rule: &str| rule == id || rule.strip_prefix(id).is_some_and(|rest| rest.starts_with('/'));
        let sum = |is_its: &dyn Fn(&str) -> bool| {
            self.by_rule.iter().filter(|(rule, _)| is_its(rule)).map(|(_, turned)| turned).sum()
        };
        match change.definition.kind.as_str() {
            "rule" | "baseline" => Some(sum(&is_below)),
            "group" => {
                let group = project.rules.groups().position(|group| group.id.as_str() == id)?;
                let asks = |rule: &str| {
                    let found = project.rules.position(rule).map(|at| &project.rules.rules()[at]);
                    found.is_some_and(|rule| rule.asks_about_group(group))
                };
                Some(sum(&asks))
            }
            "drift" => {
                let own = rule_of_set(id);
                Some(sum(&|rule: &str| rule == own))
            }
            _ => None,
        }
    }
}
