//! Comparisons worth keeping: sets of devices that ought to be alike, wholes made of devices in roles, and the differences that
//! somebody accepted.

use jiff::Timestamp;

use super::responses::check_ids;
use crate::condition::Condition;
use crate::diagnostic::{Diagnostic, Named, Span, Text, did_you_mean};
use crate::drift::{FactPattern, FactScope, IgnoreInTexts, ReferenceName, Tolerance};
use crate::facts::dictionary::{Dictionary, FactType};
use crate::facts::fingerprint::Fingerprint;
use crate::facts::period::Period;
use crate::facts::value::Datum;
use crate::fleet::group::{GroupKind, GroupSource, Groups, unknown_group};
use crate::id::RuleId;
use crate::rules::baseline::Settings;
use crate::rules::rule::{Rule, RuleSeverity, Scope, Stage};

/// Which facts of devices are compared, and how.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ComparedFacts {
    /// Which facts.
    pub scope: FactScope,
    /// How far numbers may be from the reference.
    pub tolerances: Vec<Tolerance>,
    /// What counts for nothing in texts.
    pub ignore: IgnoreInTexts,
}

/// Devices that ought to be alike, as written.
#[derive(Clone, Debug)]
pub struct DriftSetSource {
    /// Its id.
    pub id: Named,
    /// What it is, for people.
    pub title: Option<String>,
    /// What they are held against.
    pub reference: ReferenceName,
    /// Which facts, and how.
    pub compared: ComparedFacts,
    /// Who belongs to it.
    pub group: GroupSource,
    /// What a device that differs comes to: findings, where it says how bad that is and how long it may last.
    pub settings: Settings,
    /// Where each of its tolerances is written.
    pub tolerance_places: Vec<Option<Span>>,
}

/// Wholes made of devices in roles, as written.
#[derive(Clone, Debug)]
pub struct AssemblySource {
    /// Its id.
    pub id: Named,
    /// What it is, for people.
    pub title: Option<String>,
    /// The fact that says which whole a device belongs to.
    pub whole: String,
    /// The fact that says which devices of two wholes are held against one another.
    pub role: String,
    /// Which facts, and how.
    pub compared: ComparedFacts,
    /// Who belongs to some whole.
    pub group: GroupSource,
    /// Where each of its tolerances is written.
    pub tolerance_places: Vec<Option<Span>>,
}

/// Which value is accepted.
#[derive(Clone, Debug, PartialEq)]
pub enum AcceptedValue {
    /// Whatever it is.
    Any,
    /// That there is none.
    Missing,
    /// This one.
    Value(Datum),
}

/// A difference that somebody accepted, as written.
#[derive(Clone, Debug)]
pub struct AcceptedSource {
    /// The set or the assembly.
    pub drift: Named,
    /// The devices.
    pub devices: Vec<Named>,
    /// Groups of devices.
    pub groups: Vec<Named>,
    /// The fact, or a pattern of facts.
    pub fact: Named,
    /// Which value.
    pub value: AcceptedValue,
    /// Why.
    pub because: String,
    /// When it ends, exclusively.
    pub until: Timestamp,
    /// Where it is written.
    pub place: Option<Span>,
}

/// What `drift.toml` says.
#[derive(Clone, Debug, Default)]
pub struct DriftSource {
    /// Sets.
    pub sets: Vec<DriftSetSource>,
    /// Assemblies.
    pub assemblies: Vec<AssemblySource>,
    /// Accepted differences.
    pub accepted: Vec<AcceptedSource>,
}

/// Devices that ought to be alike.
#[derive(Clone, Debug, PartialEq)]
pub struct DriftSet {
    /// Its id.
    pub id: String,
    /// What it is, for people.
    pub title: Option<String>,
    /// What they are held against.
    pub reference: ReferenceName,
    /// Which facts, and how.
    pub compared: ComparedFacts,
    /// Where it is written.
    pub place: Option<Span>,
}

/// Wholes made of devices in roles.
#[derive(Clone, Debug, PartialEq)]
pub struct Assembly {
    /// Its id.
    pub id: String,
    /// What it is, for people.
    pub title: Option<String>,
    /// The fact that says which whole a device belongs to.
    pub whole: String,
    /// The fact that says which devices of two wholes are held against one another.
    pub role: String,
    /// Which facts, and how.
    pub compared: ComparedFacts,
    /// Where it is written.
    pub place: Option<Span>,
}

/// A difference that somebody accepted.
#[derive(Clone, Debug, PartialEq)]
pub struct AcceptedDifference {
    /// The id of the set or the assembly.
    pub drift: String,
    /// The ids of the devices.
    pub devices: Vec<String>,
    /// Groups of devices, by index.
    pub groups: Vec<usize>,
    /// The fact, or a pattern of facts.
    pub fact: FactPattern,
    /// Which value.
    pub value: AcceptedValue,
    /// Why.
    pub because: String,
    /// When it ends, exclusively.
    pub until: Timestamp,
    /// Where it is written.
    pub place: Option<Span>,
}

/// What a workspace compares.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct DriftDefinitions {
    /// Sets, in the order in which they are written.
    pub sets: Vec<DriftSet>,
    /// Assemblies, in the order in which they are written.
    pub assemblies: Vec<Assembly>,
    /// Accepted differences, in the order in which they are written.
    pub accepted: Vec<AcceptedDifference>,
}

impl DriftSetSource {
    /// Returns whether differences within it are findings.
    fn makes_findings(&self) -> bool {
        self.settings.severity.is_some() && self.settings.grace.is_some()
    }

    /// Returns the id of the rule that no device of it differs.
    fn rule_id(&self) -> String {
        rule_of_set(&self.id.text)
    }
}

/// Returns the id of the rule that no device of a set differs from what it is held against.
pub fn rule_of_set(set: &str) -> String {
    format!("drift/{set}")
}

impl DriftSource {
    /// Returns the ids of the rules of sets whose differences are findings.
    pub(super) fn rule_ids(&self) -> impl Iterator<Item = String> {
        self.sets.iter().filter(|set| set.makes_findings()).map(DriftSetSource::rule_id)
    }

    /// Returns the groups of the devices of sets and assemblies, in that order, under names that no group of the workspace can have.
    pub(super) fn hidden_groups(&self) -> impl Iterator<Item = GroupSource> {
        let sets = self.sets.iter().map(|set| (&set.id, &set.group));
        let assemblies = self.assemblies.iter().map(|assembly| (&assembly.id, &assembly.group));
        sets.chain(assemblies).map(|(id, group)| {
            let id = Named { text: format!("drift:{}", id.text), span: id.span.clone() };
            GroupSource { id, ..group.clone() }
        })
    }

    /// Returns the facts that part devices into wholes and roles.
    pub(super) fn parting_facts(&self) -> impl Iterator<Item = &str> {
        self.assemblies.iter().flat_map(|assembly| [assembly.whole.as_str(), assembly.role.as_str()])
    }
}

/// Compiles what is compared, and reports every mistake in it.
pub(super) fn compile_drift(
    source: &DriftSource,
    baselines: &[String],
    groups: &Groups,
    dictionary: &Dictionary,
    mistakes: &mut Vec<Diagnostic>,
) -> DriftDefinitions {
    let ids = || source.sets.iter().map(|set| &set.id).chain(source.assemblies.iter().map(|assembly| &assembly.id));
    check_ids(ids(), "two comparisons are", mistakes);
    for set in &source.sets {
        check_tolerances(&set.compared, &set.tolerance_places, dictionary, mistakes);
        if let ReferenceName::Baseline(id) = &set.reference
            && !baselines.contains(id)
        {
            let help =
                did_you_mean(id, baselines.iter().map(String::as_str), || "name a baseline of baselines/".to_owned());
            let message = format!("there is no baseline `{id}`");
            mistakes.push(Diagnostic::error("unknown-baseline", message, set.id.span.clone()).help(help));
        }
    }
    for assembly in &source.assemblies {
        check_tolerances(&assembly.compared, &assembly.tolerance_places, dictionary, mistakes);
    }
    let known: Vec<&str> = ids().map(|id| id.text.as_str()).collect();
    let accepted =
        source.accepted.iter().map(|accepted| compile_accepted(accepted, &known, groups, mistakes)).collect();
    let set = |set: &DriftSetSource| DriftSet {
        id: set.id.text.clone(),
        title: set.title.clone(),
        reference: set.reference.clone(),
        compared: set.compared.clone(),
        place: set.id.span.clone(),
    };
    let assembly = |assembly: &AssemblySource| Assembly {
        id: assembly.id.text.clone(),
        title: assembly.title.clone(),
        whole: assembly.whole.clone(),
        role: assembly.role.clone(),
        compared: assembly.compared.clone(),
        place: assembly.id.span.clone(),
    };
    DriftDefinitions {
        sets: source.sets.iter().map(set).collect(),
        assemblies: source.assemblies.iter().map(assembly).collect(),
        accepted,
    }
}

/// Makes a rule of each set whose differences are findings: no device of it differs in a fact that nobody accepted. `written` are
/// the rules that somebody wrote.
pub(super) fn rules_of_sets(
    source: &DriftSource,
    groups: &Groups,
    written: &[Rule],
    mistakes: &mut Vec<Diagnostic>,
) -> Vec<Rule> {
    let first_group = groups.all.len() - source.sets.len() - source.assemblies.len();
    let sets = source.sets.iter().enumerate().filter(|(_, set)| set.makes_findings());
    let rule = |(at, set): (usize, &DriftSetSource)| {
        let (id, group, place) = (set.rule_id(), first_group + at, &set.id.span);
        if let Some(known) = written.iter().find(|rule| rule.id.as_str() == id) {
            let message = format!("a rule is called `{id}`, and so are the findings of this set");
            mistakes.push(
                Diagnostic::error("doubled-id", message, place.clone())
                    .note(known.place.clone(), "the rule")
                    .help("give one of them another id"),
            );
        }
        if groups.all[group].reads_standing {
            let message = format!("who belongs to `{}` hangs on the standing, which its findings change", set.id.text);
            mistakes.push(
                Diagnostic::error("own-tail", message, place.clone())
                    .label("would chase its own tail")
                    .help("say whose devices they are without `standing`, or leave out `severity` and `grace`"),
            );
        }
        let settings = set.settings.clone();
        let text = Text::at(format!("like the reference of drift `{}`, or accepted", set.id.text), place.as_ref());
        let requirement_fingerprint = source.requirement_fingerprint(set);
        Rule {
            id: RuleId::new(id.as_str()),
            title: set.title.as_ref().map_or(id, |title| format!("{title}: alike")),
            topic: settings.topic,
            severity: settings.severity.unwrap_or(RuleSeverity::Medium),
            stage: settings.stage.unwrap_or(Stage::Enforced),
            enforced_from: settings.enforced_from,
            grace: settings.grace.unwrap_or(Period::ZERO),
            because: settings.because,
            fix: settings.fix,
            fix_when: Vec::new(),
            controls: settings.controls,
            response: settings.response,
            was: Vec::new(),
            fingerprint: set.scope_fingerprint(requirement_fingerprint),
            requirement_fingerprint,
            text_fingerprint: requirement_fingerprint,
            place: place.clone(),
            baseline: None,
            scope: Scope { groups: vec![group], except: Vec::new(), covers: None },
            overrides: Vec::new(),
            require: Condition::alike(at, text),
        }
    };
    sets.map(rule).collect()
}

impl DriftSource {
    /// Returns what changes when a set is compared otherwise, or another difference is accepted.
    fn requirement_fingerprint(&self, set: &DriftSetSource) -> u64 {
        let mut print = Fingerprint::new();
        print.text(&set.reference.to_string());
        for (kind, patterns) in [("facts", &set.compared.scope.facts), ("except", &set.compared.scope.except)] {
            print.text(kind);
            patterns.iter().for_each(|pattern| print.text(pattern.as_str()));
        }
        for tolerance in &set.compared.tolerances {
            print.text(tolerance.facts.as_str());
            print.text(&format!("{} {}", tolerance.amount.normalize(), tolerance.of_reference));
        }
        print.text(&format!("{} {}", set.compared.ignore.case, set.compared.ignore.space));
        for accepted in self.accepted.iter().filter(|accepted| accepted.drift.text == set.id.text) {
            print.text(&accepted.fact.text);
            print.text(&match &accepted.value {
                AcceptedValue::Any => "any".to_owned(),
                AcceptedValue::Missing => "missing".to_owned(),
                AcceptedValue::Value(value) => format!("is {}", value.show()),
            });
            accepted.devices.iter().chain(&accepted.groups).for_each(|named| print.text(&named.text));
        }
        print.value()
    }
}

impl DriftSetSource {
    /// Returns what changes with the requirement and with whom it covers.
    fn scope_fingerprint(&self, requirement: u64) -> u64 {
        let mut print = Fingerprint::new();
        print.bytes(&requirement.to_le_bytes());
        print.text(self.group.condition.as_ref().map_or("", Text::as_str));
        self.group.groups.iter().for_each(|named| print.text(&named.text));
        print.value()
    }
}

/// Reports tolerances for facts that are declared to be no numbers.
fn check_tolerances(
    compared: &ComparedFacts,
    places: &[Option<Span>],
    dictionary: &Dictionary,
    mistakes: &mut Vec<Diagnostic>,
) {
    for (tolerance, place) in compared.tolerances.iter().zip(places) {
        let fact = tolerance.facts.as_str();
        let Some(ty) = dictionary.type_of(fact).filter(|ty| *ty != FactType::Number) else { continue };
        let message = format!("`{fact}` is declared as {}, and a tolerance is for numbers", ty.as_str());
        mistakes.push(
            Diagnostic::error("tolerance-of-no-number", message, place.clone())
                .help("take it out, or declare the fact as a number in facts.toml"),
        );
    }
}

fn compile_accepted(
    source: &AcceptedSource,
    known: &[&str],
    groups: &Groups,
    mistakes: &mut Vec<Diagnostic>,
) -> AcceptedDifference {
    if !known.contains(&source.drift.text.as_str()) {
        let help = did_you_mean(&source.drift.text, known.iter().copied(), || {
            "name a [[drift]] or an [[assembly]] of this file".to_owned()
        });
        let message = format!("nothing is compared under the name `{}`", source.drift.text);
        mistakes.push(Diagnostic::error("unknown-drift", message, source.drift.span.clone()).help(help));
    }
    let mut indexes = Vec::new();
    for named in &source.groups {
        match groups.all.iter().position(|group| group.id.as_str() == named.text) {
            Some(at) if groups.all[at].kind == GroupKind::Devices => indexes.push(at),
            Some(_) => {
                let message = format!("`{}` is a group of people, and differences are of devices", named.text);
                let help = "name a group of devices; one with `held_by` follows its holders";
                mistakes.push(Diagnostic::error("wrong-kind", message, named.span.clone()).help(help));
            }
            None => mistakes.push(unknown_group(named, groups.all.iter().map(|group| group.id.as_str()))),
        }
    }
    AcceptedDifference {
        drift: source.drift.text.clone(),
        devices: source.devices.iter().map(|named| named.text.clone()).collect(),
        groups: indexes,
        fact: FactPattern::new(source.fact.text.as_str()),
        value: source.value.clone(),
        because: source.because.clone(),
        until: source.until,
        place: source.place.clone(),
    }
}
