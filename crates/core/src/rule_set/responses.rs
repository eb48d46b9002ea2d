//! Responses as written, compiled: which ladder a finding sets off, and on which devices a command is allowed.

use std::collections::BTreeMap;

use crate::condition::{Condition, Place, Vocabulary};
use crate::diagnostic::{Diagnostic, Named, Text, did_you_mean};
use crate::findings::finding::Subject;
use crate::findings::response::{Addressee, Response, ResponseStep, StepAction, StepAnchor, StepMoment};
use crate::id::{ResponseId, StepId};
use crate::rules::rule::{Rule, RuleSeverity};

/// What a workspace says of responses, as written.
#[derive(Clone, Debug, Default)]
pub struct ResponsesSource {
    /// The ladders.
    pub ladders: Vec<ResponseSource>,
    /// On which devices commands are allowed.
    pub commands: Vec<CommandSource>,
    /// The ids of the workspace's recipients.
    pub recipients: Vec<String>,
    /// The ladder of rules that name none.
    pub default: Option<Named>,
    /// The ladders of rules that name none, by their severity.
    pub by_severity: Vec<(RuleSeverity, Named)>,
    /// The ladder of silence.
    pub silence: Option<Named>,
    /// The ladder of devices that no enforced rule covers.
    pub uncovered: Option<Named>,
    /// The ladder of people who are about to lose a service without a finding.
    pub access: Option<Named>,
}

/// A ladder as written.
#[derive(Clone, Debug)]
pub struct ResponseSource {
    /// Its id.
    pub id: Named,
    /// Its steps.
    pub steps: Vec<StepSource>,
}

/// A step as written.
#[derive(Clone, Debug)]
pub struct StepSource {
    /// Its id.
    pub id: Named,
    /// When it is to be taken.
    pub at: StepMoment,
    /// What is to be done.
    pub action: StepAction,
    /// Whom it names, with their places.
    pub to: Vec<Named>,
    /// The step that it undoes, with its place.
    pub undo: Option<Named>,
}

/// On which devices a command is allowed, as written.
#[derive(Clone, Debug)]
pub struct CommandSource {
    /// The command's name.
    pub name: Named,
    /// Where it is allowed; everywhere, where nothing is said.
    pub allowed_when: Option<Text>,
}

/// The responses of a workspace.
#[derive(Clone, Debug, Default)]
pub struct Responses {
    ladders: Vec<Response>,
    /// By the command's name.
    allowed_when: BTreeMap<String, Condition>,
    default: Option<usize>,
    by_severity: Vec<(RuleSeverity, usize)>,
    silence: Option<usize>,
    uncovered: Option<usize>,
    access: Option<usize>,
}

impl Responses {
    /// Compiles what is written, and reports every mistake in it.
    pub(super) fn compile(
        source: &ResponsesSource,
        rules: &[Rule],
        vocabulary: &mut Vocabulary<'_>,
        mistakes: &mut Vec<Diagnostic>,
    ) -> Self {
        check_ids(source.ladders.iter().map(|ladder| &ladder.id), "two responses are", mistakes);
        check_ids(source.commands.iter().map(|command| &command.name), "two [command] tables are", mistakes);
        let mut ladders = Vec::new();
        for ladder in &source.ladders {
            check_ladder(ladder, source, mistakes);
            let steps = ladder.steps.iter().map(|step| ResponseStep {
                id: StepId::new(step.id.text.as_str()),
                at: step.at,
                action: step.action.clone(),
                place: step.id.span.clone(),
            });
            ladders.push(Response {
                id: ResponseId::new(ladder.id.text.as_str()),
                steps: steps.collect(),
                place: ladder.id.span.clone(),
            });
        }
        let mut allowed_when = BTreeMap::new();
        for command in &source.commands {
            let condition = command.allowed_when.as_ref();
            let compiled = condition.and_then(|text| Condition::compile(text, Place::Devices, vocabulary, mistakes));
            allowed_when.extend(compiled.map(|condition| (command.name.text.clone(), condition)));
        }
        let all = Self { ladders, allowed_when, ..Self::default() };
        let mut find = |named: &Named| {
            let found = all.ladders.iter().position(|ladder| ladder.id.as_str() == named.text);
            if found.is_none() {
                mistakes.push(unknown_response(named, &all.ladders));
            }
            found
        };
        let default = source.default.as_ref().and_then(&mut find);
        let silence = source.silence.as_ref().and_then(&mut find);
        let uncovered = source.uncovered.as_ref().and_then(&mut find);
        let access = source.access.as_ref().and_then(&mut find);
        let by_severity: Vec<_> =
            source.by_severity.iter().filter_map(|(severity, named)| Some((*severity, find(named)?))).collect();
        let named_by_rules: Vec<&Named> = rules.iter().filter_map(|rule| rule.response.as_ref()).collect();
        named_by_rules.into_iter().for_each(|named| {
            find(named);
        });
        Self { default, silence, uncovered, access, by_severity, ..all }
    }

    /// Returns the ladders, in the order in which they are written.
    pub fn ladders(&self) -> &[Response] {
        &self.ladders
    }

    /// Returns the conditions on which commands are allowed, by the command's name.
    pub fn allowed_when(&self) -> &BTreeMap<String, Condition> {
        &self.allowed_when
    }

    /// Returns the ladder that a finding sets off; none where nothing is to be done about it.
    pub(super) fn of(&self, subject: &Subject, rules: &[Rule]) -> Option<&Response> {
        let rule = match subject {
            Subject::Silence => return self.silence.map(|at| &self.ladders[at]),
            Subject::Uncovered => return self.uncovered.map(|at| &self.ladders[at]),
            Subject::Rule(id) => rules.iter().find(|rule| rule.id == *id)?,
        };
        self.of_rule(rule)
    }

    /// Returns the ladder of people who are about to lose a service without a finding.
    pub fn access(&self) -> Option<&Response> {
        self.access.map(|at| &self.ladders[at])
    }

    /// Returns the ladder of a rule: its own, or else the one for its severity, or else the default.
    pub fn of_rule(&self, rule: &Rule) -> Option<&Response> {
        if let Some(named) = &rule.response {
            return self.ladders.iter().find(|ladder| ladder.id.as_str() == named.text);
        }
        let by_severity = self.by_severity.iter().find(|(severity, _)| *severity == rule.severity);
        by_severity.map(|(_, at)| *at).or(self.default).map(|at| &self.ladders[at])
    }

    /// Returns the ladders that some rule of a kind, silence or being covered by nothing sets off.
    pub(crate) fn in_use<'r>(&'r self, rules: &'r [Rule]) -> impl Iterator<Item = &'r Response> {
        let by_rules = rules.iter().filter_map(|rule| self.of_rule(rule));
        by_rules.chain([self.silence, self.uncovered, self.access].into_iter().flatten().map(|at| &self.ladders[at]))
    }
}

fn unknown_response(named: &Named, ladders: &[Response]) -> Diagnostic {
    let help = did_you_mean(&named.text, ladders.iter().map(|ladder| ladder.id.as_str()), || {
        "write it as a [[response]] in responses.toml".to_owned()
    });
    Diagnostic::error("unknown-response", format!("there is no response `{}`", named.text), named.span.clone())
        .help(help)
}

/// Reports ids that are given twice.
pub(super) fn check_ids<'s>(ids: impl Iterator<Item = &'s Named>, what: &str, mistakes: &mut Vec<Diagnostic>) {
    let mut seen: Vec<&Named> = Vec::new();
    for id in ids {
        if let Some(first) = seen.iter().find(|first| first.text == id.text) {
            let message = format!("{what} called `{}`", id.text);
            mistakes.push(
                Diagnostic::error("doubled-id", message, id.span.clone())
                    .label("the second")
                    .note(first.span.clone(), "the first")
                    .help("give one of them another id"),
            );
        }
        seen.push(id);
    }
}

/// Checks whom the steps of a ladder name, and what they undo.
fn check_ladder(ladder: &ResponseSource, source: &ResponsesSource, mistakes: &mut Vec<Diagnostic>) {
    let what = format!("two steps of `{}` are", ladder.id.text);
    check_ids(ladder.steps.iter().map(|step| &step.id), &what, mistakes);
    for step in &ladder.steps {
        for to in &step.to {
            let is_unknown = |id: &String| !source.recipients.contains(id);
            if matches!(Addressee::parse(&to.text), Addressee::Recipient(id) if is_unknown(&id)) {
                let known = source.recipients.iter().map(String::as_str).chain(["holder", "lead"]);
                let help = did_you_mean(&to.text, known, || {
                    "write holder, lead, a mail address, or name it as a [[recipient]] in fencepost.toml".to_owned()
                });
                let message = format!("there is no recipient `{}`", to.text);
                mistakes.push(Diagnostic::error("unknown-recipient", message, to.span.clone()).help(help));
            }
        }
        let Some(undo) = &step.undo else { continue };
        let undone = ladder.steps.iter().find(|other| other.id.text == undo.text);
        let is_command = |other: &StepSource| {
            matches!(other.action, StepAction::Command { undo: None, .. }) && other.at.anchor != StepAnchor::Closed
        };
        if !undone.is_some_and(is_command) {
            let commands = ladder.steps.iter().filter(|other| is_command(other)).map(|other| other.id.text.as_str());
            let help = did_you_mean(&undo.text, commands, || {
                "name a step of this response that commands something while the finding runs".to_owned()
            });
            let message = format!("`{}` is no step that can be undone", undo.text);
            mistakes.push(Diagnostic::error("unknown-step", message, undo.span.clone()).help(help));
        } else if step.at.anchor != StepAnchor::Closed {
            let message = format!("`{}` undoes `{}` while the finding still runs", step.id.text, undo.text);
            mistakes.push(
                Diagnostic::error("undone-too-soon", message, step.id.span.clone())
                    .help("a command is undone at = \"closed\""),
            );
        }
    }
}
