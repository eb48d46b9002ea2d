//! What baselines came to: the expectations of one, or all that is expected of a device, each with where it is written.

use fencepost_core::{Expected, Period, Rule, RuleSeverity, Stage, VerdictOutcome, did_you_mean};
use jiff::Timestamp;

use crate::error::EngineError;
use crate::ledger_view::reading::Reading;
use crate::workspace::project::{FilePlace, Project};

/// One thing that is expected.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Expectation {
    /// The rule that it became.
    pub rule: String,
    /// What is expected, in words.
    pub says: String,
    /// The condition.
    pub require: String,
    /// How bad a failure is.
    pub severity: RuleSeverity,
    /// How far it is in force.
    pub stage: Stage,
    /// How long a failure may last.
    pub grace: Period,
    /// Why it exists.
    pub because: Option<String>,
    /// What to do about a failure.
    pub fix: Option<String>,
    /// The baseline it belongs to; none where it is a rule of its own.
    pub baseline: Option<String>,
    /// The baseline in which it is written; none where it is a rule of its own.
    pub written_in: Option<String>,
    /// The file and line in which it is written.
    pub place: Option<FilePlace>,
    /// What it says of the device that was asked about.
    pub outcome: Option<VerdictOutcome>,
}

/// What a baseline came to.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct BaselineReport {
    /// Its id.
    pub id: String,
    /// What it describes.
    pub title: Option<String>,
    /// The baselines that it starts from.
    pub extends: Vec<String>,
    /// The baselines that start from it.
    pub extended_by: Vec<String>,
    /// Whom it covers: a condition, and groups.
    pub covers: Option<String>,
    /// The groups that it covers.
    pub groups: Vec<String>,
    /// All that it expects, inherited or its own; nothing where it only describes what others have in common.
    pub expectations: Vec<Expectation>,
    /// What it dropped of what it inherits, and why.
    pub dropped: Vec<(String, String)>,
}

impl Project {
    fn expectation(&self, rule: &Rule, at: Timestamp, outcome: Option<VerdictOutcome>) -> Expectation {
        let place = self.place_of(rule.place.as_ref());
        let from = rule.baseline.as_ref();
        Expectation {
            rule: rule.id.to_string(),
            says: from.map_or_else(|| rule.title.clone(), |from| from.says.clone()),
            require: rule.require().to_owned(),
            severity: rule.severity,
            stage: rule.stage(at),
            grace: rule.grace,
            because: rule.because.clone(),
            fix: rule.fix.clone(),
            baseline: from.map(|from| from.baseline.clone()),
            written_in: from.map(|from| from.written_in.clone()),
            place,
            outcome,
        }
    }

    /// Returns what a baseline came to, as of a moment.
    ///
    /// # Errors
    /// When there is no such baseline.
    pub fn baseline(&self, id: &str, at: Timestamp) -> Result<BaselineReport, EngineError> {
        let all = &self.source.baselines;
        let Some(source) = all.iter().find(|source| source.id.text == id) else {
            let known: Vec<&str> = all.iter().map(|source| source.id.text.as_str()).collect();
            let help = did_you_mean(id, known.iter().copied(), || match known.is_empty() {
                true => "this workspace has none; they are files in the folder baselines".to_owned(),
                false => format!("there is {}", known.join(", ")),
            });
            return Err(EngineError::refused(format!("there is no baseline `{id}`"), help));
        };
        let is_its = |rule: &&Rule| rule.baseline.as_ref().is_some_and(|from| from.baseline == id);
        let facts = source.expect.iter().filter_map(|expect| match &expect.what {
            Expected::Dropped(because) => Some((expect.fact.text.clone(), because.clone())),
            Expected::Value(..) | Expected::Test(_) => None,
        });
        let entries = source.lists.iter().flat_map(|list| {
            let name = |entry: &str| format!("{}.{entry}", list.name.text);
            list.entries.iter().filter_map(move |entry| Some((name(&entry.name.text), entry.dropped.clone()?)))
        });
        let extends = |other: &&fencepost_core::BaselineSource| other.extends.iter().any(|named| named.text == id);
        Ok(BaselineReport {
            id: id.to_owned(),
            title: source.title.clone(),
            extends: source.extends.iter().map(|named| named.text.clone()).collect(),
            extended_by: all.iter().filter(extends).map(|other| other.id.text.clone()).collect(),
            covers: source.scope.covers.as_ref().map(|text| text.as_str().trim().to_owned()),
            groups: source.scope.groups.iter().map(|named| named.text.clone()).collect(),
            expectations: self
                .rules
                .rules()
                .iter()
                .filter(is_its)
                .map(|rule| self.expectation(rule, at, None))
                .collect(),
            dropped: facts.chain(entries).collect(),
        })
    }

    /// Returns the ids of all baselines.
    pub fn baselines(&self) -> impl Iterator<Item = &str> {
        self.source.baselines.iter().map(|source| source.id.text.as_str())
    }
}

impl Reading<'_> {
    /// Returns all that is expected of a device, from baselines and rules of their own; of one baseline only where it is named.
    ///
    /// # Errors
    /// When the ledger cannot be read, or does not know the device.
    pub fn expectations(&self, device: &str, baseline: Option<&str>) -> Result<Vec<Expectation>, EngineError> {
        let at = self.judged_at();
        let verdicts = self.device(device)?.verdicts;
        let applies = verdicts.iter().filter(|verdict| verdict.outcome != VerdictOutcome::NotApplicable);
        let all = applies.map(|verdict| self.project.expectation(&verdict.rule, at, Some(verdict.outcome)));
        Ok(all.filter(|found| baseline.is_none() || found.baseline.as_deref() == baseline).collect())
    }
}
