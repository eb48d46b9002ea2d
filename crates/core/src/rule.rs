//! Rules, compiled into one rule set that evaluates a device at a time.
//!
//! Every command that needs a verdict comes through [`RuleSet::evaluate`], and every proof through
//! [`RuleSet::explain`], which runs the same compiled condition with its trace on.

mod compile;
mod proof;
mod reach;

use std::collections::BTreeSet;

use bumpalo::Bump;
use jiff::Timestamp;
use jiff::tz::TimeZone;

use crate::access::{AccessRule, AccessSet, AccessSource, ServiceSource};
use crate::baseline::{self, BaselineSource, FromBaseline, ScopeSource, Settings, YieldSource};
use crate::condition::{Ambient, Condition, Evaluator, Uses, Vocabulary};
use crate::diagnostic::{Diagnostic, Span, Text, each_once};
use crate::dictionary::Dictionary;
use crate::facts::Facts;
use crate::group::{GroupKind, GroupSource, Groups, Membership, any, group_ids};
use crate::id::{DeviceId, GroupId, RuleId};
use crate::layout::{Layout, SlotId};
use crate::people::Person;
use crate::period::Period;
use crate::value::{Reason, Value};
use crate::verdict::{DeviceInput, Verdict, VerdictOutcome, Verdicts};
use crate::watch::Watch;
use compile::{compile_rules, rule_ids};

/// A word someone wrote, with its place.
#[derive(Clone, Debug)]
pub struct Named {
    /// The word.
    pub text: String,
    /// Where it stands.
    pub span: Option<Span>,
}

/// How bad a failure is. Orders lists and picks responses; it does not change the standing.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Severity {
    /// Worth knowing.
    Low,
    /// Worth doing.
    Medium,
    /// To be done soon.
    High,
    /// To be done now.
    Critical,
}

impl Severity {
    /// All severities, mildest first.
    pub const ALL: [Self; 4] = [Self::Low, Self::Medium, Self::High, Self::Critical];

    /// Returns the word used in files and JSON.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Low => "low",
            Self::Medium => "medium",
            Self::High => "high",
            Self::Critical => "critical",
        }
    }
}

/// How far a rule is in force.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Stage {
    /// Only previewed.
    Draft,
    /// Evaluated and shown, without consequence.
    Trial,
    /// Counts.
    Enforced,
}

impl Stage {
    /// All stages.
    pub const ALL: [Self; 3] = [Self::Draft, Self::Trial, Self::Enforced];

    /// Returns the word used in files and JSON.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Draft => "draft",
            Self::Trial => "trial",
            Self::Enforced => "enforced",
        }
    }
}

/// A rule as written.
#[derive(Clone, Debug)]
pub struct RuleSource {
    /// Its id.
    pub id: Named,
    /// What it asks for, in a sentence.
    pub title: Option<String>,
    /// Groups of devices it covers.
    pub groups: Vec<Named>,
    /// A condition on the devices it covers.
    pub covers: Option<Text>,
    /// Groups or devices it does not cover, whatever else says so.
    pub except: Vec<ExceptSource>,
    /// What a covered device must meet.
    pub require: Option<Text>,
    /// Named conditions that each become a rule of their own.
    pub checks: Vec<(Named, Text)>,
    /// What else is said of it; it is of medium severity, enforced and without grace where that is not said.
    pub settings: Settings,
    /// What to do instead where a condition holds; the first that does is said.
    pub fix_when: Vec<FixSource>,
    /// Earlier ids, whose findings follow.
    pub was: Vec<Named>,
    /// The baseline that it comes from.
    pub baseline: Option<FromBaseline>,
    /// Baselines that judge a device instead, where they cover it.
    pub yields_to: Vec<YieldSource>,
}

/// What a rule does not cover, as written.
#[derive(Clone, Debug)]
pub struct ExceptSource {
    /// The group or device.
    pub name: Named,
    /// Whether it is said to be a group, or a device; where it is not said, a group of that name comes first.
    pub group: Option<bool>,
    /// Why.
    pub because: Option<String>,
    /// Up to when, exclusively.
    pub until: Option<Timestamp>,
}

impl From<Named> for ExceptSource {
    fn from(name: Named) -> Self {
        Self { name, group: None, because: None, until: None }
    }
}

/// What to do about a failure where a condition holds, as written.
#[derive(Clone, Debug)]
pub struct FixSource {
    /// The condition.
    pub when: Text,
    /// What to do.
    pub say: String,
    /// The device is on its way: what was asked for is done, and takes effect by itself or with what is said.
    pub awaiting: bool,
}

/// Everything that is compiled together.
#[derive(Clone, Debug, Default)]
pub struct RuleSetSource {
    /// Rules.
    pub rules: Vec<RuleSource>,
    /// Baselines, which become rules.
    pub baselines: Vec<BaselineSource>,
    /// Groups.
    pub groups: Vec<GroupSource>,
    /// Services.
    pub services: Vec<ServiceSource>,
    /// Access rules.
    pub access: Vec<AccessSource>,
}

/// What a rule does not cover.
#[derive(Clone, Debug)]
pub struct Exception {
    whom: Excepted,
    /// The group or the device, as written.
    pub name: String,
    /// Why.
    pub because: Option<String>,
    /// Up to when, exclusively.
    pub until: Option<Timestamp>,
    /// Where it is written.
    pub place: Option<Span>,
}

#[derive(Clone, Debug, PartialEq, Eq)]
enum Excepted {
    /// A group, by index.
    Group(usize),
    Device(DeviceId),
}

impl Exception {
    fn excepts<'a>(&self, id: &str, memberships: &'a [Value<'a>]) -> Value<'a> {
        match &self.whom {
            Excepted::Group(group) => memberships[*group],
            Excepted::Device(device) => Value::Boolean(device.as_str() == id),
        }
    }

    /// Returns whether it holds at a moment.
    pub fn holds_at(&self, at: Timestamp) -> bool {
        self.until.is_none_or(|until| at < until)
    }

    fn group(&self) -> Option<usize> {
        match self.whom {
            Excepted::Group(group) => Some(group),
            Excepted::Device(_) => None,
        }
    }
}

#[derive(Clone, Debug)]
struct FixWhen {
    when: Condition,
    say: String,
    awaiting: bool,
}

/// What to do about a failure.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Fix<'r> {
    /// What to do, where somebody said so.
    pub say: Option<&'r str>,
    /// The device is on its way, and needs no whole fix again.
    pub awaiting: bool,
}

/// A rule, ready to be evaluated. A rule with several checks has become several of these.
#[derive(Clone, Debug)]
pub struct Rule {
    /// Its id; of a check `rule/check`.
    pub id: RuleId,
    /// What it asks for.
    pub title: String,
    /// What it is about.
    pub topic: Option<String>,
    /// How bad a failure is.
    pub severity: Severity,
    stage: Stage,
    /// From when on it is enforced, where that is written.
    pub enforced_from: Option<Timestamp>,
    /// How long a failure may last.
    pub grace: Period,
    /// Why it exists.
    pub because: Option<String>,
    /// What to do about a failure, where nothing more fitting is known.
    pub fix: Option<String>,
    fix_when: Vec<FixWhen>,
    /// Clauses of standards and orders that it answers for.
    controls: Vec<Named>,
    /// Earlier ids.
    pub was: Vec<RuleId>,
    /// Changes when scope or requirement do: the same for the same words.
    pub fingerprint: u64,
    /// Where its id is written.
    pub place: Option<Span>,
    /// The baseline that it comes from.
    pub baseline: Option<FromBaseline>,
    scope: Scope,
    yields: Vec<Yield>,
    require: Condition,
}

/// Whom something covers.
#[derive(Clone, Debug)]
struct Scope {
    groups: Vec<usize>,
    except: Vec<Exception>,
    covers: Option<Condition>,
}

impl Scope {
    /// Returns the groups that it names or asks about.
    fn asks(&self) -> impl Iterator<Item = usize> {
        let asked = self.covers.iter().flat_map(Condition::groups);
        self.groups.iter().chain(asked).copied().chain(self.except.iter().filter_map(Exception::group))
    }
}

/// A baseline that judges a device instead.
#[derive(Clone, Debug)]
struct Yield {
    baseline: String,
    scope: Scope,
    stage: Stage,
    enforced_from: Option<Timestamp>,
}

/// How far something is in force at a moment.
fn stage_at(stage: Stage, enforced_from: Option<Timestamp>, at: Timestamp) -> Stage {
    match stage {
        Stage::Enforced if enforced_from.is_some_and(|from| at < from) => Stage::Trial,
        stage => stage,
    }
}

impl Rule {
    /// Returns the clauses of standards and orders that it answers for.
    pub fn controls(&self) -> impl ExactSizeIterator<Item = &str> {
        self.controls.iter().map(|clause| clause.text.as_str())
    }

    /// Returns the requirement as written.
    pub fn require(&self) -> &str {
        self.require.as_str().trim()
    }

    /// Returns how far it is in force at a moment.
    pub fn stage(&self, at: Timestamp) -> Stage {
        stage_at(self.stage, self.enforced_from, at)
    }

    /// Returns whether another rule judges as this one does: the same devices by the same words, as strictly.
    pub fn judges_as(&self, other: &Self) -> bool {
        let print = |rule: &Self| (rule.fingerprint, rule.stage, rule.enforced_from, rule.grace, rule.severity);
        print(self) == print(other)
    }

    /// Returns whether nothing that verdicts, and what follows from them, may hang on is another in another rule; both are of
    /// workspaces with the same groups and facts.
    pub fn is_same_as(&self, other: &Self) -> bool {
        let own = |rule: &Self| {
            (rule.id.clone(), rule.severity, rule.stage, rule.enforced_from, rule.grace, rule.was.clone())
        };
        let exception = |one: &Exception| (one.whom.clone(), one.because.clone(), one.until);
        let scope = |scope: &Scope| {
            let covers = scope.covers.as_ref().map(|condition| condition.as_str().to_owned());
            (scope.groups.clone(), covers, scope.except.iter().map(exception).collect::<Vec<_>>())
        };
        let heir = |heir: &Yield| (heir.baseline.clone(), scope(&heir.scope), heir.stage, heir.enforced_from);
        let fix = |fix: &FixWhen| (fix.when.as_str().to_owned(), fix.say.clone(), fix.awaiting);
        let judging = |rule: &Self| {
            let heirs: Vec<_> = rule.yields.iter().map(heir).collect();
            let fixes: Vec<_> = rule.fix_when.iter().map(fix).collect();
            (rule.require.as_str().to_owned(), scope(&rule.scope), heirs, fixes)
        };
        own(self) == own(other) && judging(self) == judging(other)
    }

    /// Returns whether it is a draft, which nobody is judged by.
    pub fn is_draft(&self) -> bool {
        self.stage == Stage::Draft
    }

    /// Returns what it does not cover, in the order in which it is written.
    pub fn exceptions(&self) -> &[Exception] {
        &self.scope.except
    }

    /// Returns whether what to do about a failure hangs on the device.
    pub fn asks_what_to_say(&self) -> bool {
        !self.fix_when.is_empty()
    }

    /// Returns what to do where it fails.
    fn said<'a>(&'a self, evaluator: &mut Evaluator<'a>) -> Fix<'a> {
        let found = self.fix_when.iter().find(|fix| matches!(evaluator.holds(&fix.when), Value::Boolean(true)));
        match found {
            Some(fix) => Fix { say: Some(&fix.say), awaiting: fix.awaiting },
            None => Fix { say: self.fix.as_deref(), awaiting: false },
        }
    }

    /// Returns the moments at which it becomes another rule by itself.
    fn moments(&self) -> impl Iterator<Item = Timestamp> {
        let begin = self.enforced_from.into_iter().chain(self.yields.iter().filter_map(|heir| heir.enforced_from));
        begin.chain(self.scopes().flat_map(|scope| &scope.except).filter_map(|exception| exception.until))
    }

    /// Returns its scope, and those of whoever judges instead.
    fn scopes(&self) -> impl Iterator<Item = &Scope> {
        std::iter::once(&self.scope).chain(self.yields.iter().map(|heir| &heir.scope))
    }

    /// Returns all its conditions.
    fn conditions(&self) -> impl Iterator<Item = &Condition> {
        let scopes = self.scopes().filter_map(|scope| scope.covers.as_ref());
        scopes.chain([&self.require]).chain(self.fix_when.iter().map(|fix| &fix.when))
    }

    /// Returns the groups that it names or asks about.
    fn asks(&self) -> impl Iterator<Item = usize> {
        let conditions = std::iter::once(&self.require).chain(self.fix_when.iter().map(|fix| &fix.when));
        self.scopes().flat_map(Scope::asks).chain(conditions.flat_map(Condition::groups).copied())
    }

    /// Returns the condition of its scope as written.
    pub fn covers(&self) -> Option<&str> {
        self.scope.covers.as_ref().map(|condition| condition.as_str().trim())
    }
}

/// All rules, groups and access rules of a workspace, compiled.
#[derive(Clone, Debug)]
pub struct RuleSet {
    rules: Vec<Rule>,
    pub(crate) groups: Groups,
    layout: Layout,
    people_layout: Layout,
    access: AccessSet,
    /// The moments at which some rule becomes another by itself, ascending.
    moments: Vec<Timestamp>,
}

impl RuleSet {
    /// Compiles everything a workspace says, and reports every mistake in it.
    ///
    /// The rule set is none when there is an error among the diagnostics; warnings do not keep it back.
    /// `extra` paths are wanted of every document besides those that conditions name.
    pub fn compile(source: &RuleSetSource, dictionary: &Dictionary, extra: &[&str]) -> (Option<Self>, Vec<Diagnostic>) {
        let mut mistakes = Vec::new();
        let mut layout = Layout::new(dictionary);
        for path in extra {
            layout.want(path, dictionary);
        }
        let mut people_layout = Layout::new(&Dictionary::default());
        let ids = group_ids(&source.groups);
        let mut sources = source.rules.clone();
        sources.extend(baseline::expand(&source.baselines, &mut mistakes));
        let rule_ids = rule_ids(&sources);
        let mut vocabulary =
            Vocabulary { dictionary, layout: &mut layout, people: &mut people_layout, groups: &ids, rules: &rule_ids };
        let groups = Groups::compile(&source.groups, &mut vocabulary, &mut mistakes);
        let rules = compile_rules(&sources, &groups, &mut vocabulary, &mut mistakes);
        let access = AccessSet::compile(&source.services, &source.access, &groups, &mut vocabulary, &mut mistakes);
        let mistakes = each_once(mistakes);
        let failed = mistakes.iter().any(|mistake| mistake.severity == crate::diagnostic::Severity::Error);
        let moments: BTreeSet<Timestamp> = rules.iter().flat_map(Rule::moments).collect();
        let moments = moments.into_iter().collect();
        let set = (!failed).then_some(Self { rules, groups, layout, people_layout, access, moments });
        let set = set.map(|mut set| {
            let mut uses = Uses::default();
            set.conditions().for_each(|condition| uses.note(condition));
            for path in extra {
                uses.note_whole(set.layout.want(path, dictionary));
            }
            set.layout.narrow(uses.into_facts());
            set
        });
        (set, mistakes)
    }

    /// Returns the rules in the order in which they are written.
    pub fn rules(&self) -> &[Rule] {
        &self.rules
    }

    /// Returns the index of a rule.
    pub fn position(&self, id: &str) -> Option<usize> {
        self.rules.iter().position(|rule| rule.id.as_str() == id)
    }

    /// Returns the slots that documents of devices fill.
    pub fn layout(&self) -> &Layout {
        &self.layout
    }

    /// Returns the slots of every device fact that some condition names, ascending.
    pub fn named_slots(&self) -> BTreeSet<SlotId> {
        self.conditions().flat_map(Condition::slots).copied().collect()
    }

    /// Returns the slots of every device fact that may say which groups hold a device, ascending.
    pub fn slots_of_groups(&self) -> BTreeSet<SlotId> {
        let conditions = self.groups.all.iter().filter_map(|group| group.condition.as_ref());
        conditions.flat_map(Condition::may_read).copied().collect()
    }

    fn conditions(&self) -> impl Iterator<Item = &Condition> {
        let rules = self.rules.iter().flat_map(Rule::conditions);
        let groups = self.groups.all.iter().filter_map(|group| group.condition.as_ref());
        rules.chain(groups).chain(self.access.rules().iter().flat_map(AccessRule::conditions))
    }

    /// Returns the services and access rules.
    pub fn access(&self) -> &AccessSet {
        &self.access
    }

    /// Returns the groups: id, title, kind.
    pub fn groups(&self) -> impl Iterator<Item = (&GroupId, Option<&str>, GroupKind)> {
        self.groups.all.iter().map(|group| (&group.id, group.title.as_deref(), group.kind))
    }

    /// Returns whether some group of devices asks how its members stand, or which rules fail on them.
    pub fn groups_read_standing(&self) -> bool {
        self.groups.all.iter().any(|group| group.reads_standing)
    }

    /// Returns whether some rule hangs on the people that hold a device.
    pub fn reads_people(&self) -> bool {
        self.rules.iter().any(|rule| rule.asks().any(|group| self.groups.reads_people(group)))
    }

    /// Returns the facts that say whether a group holds a device and are older than promised, by path: in what they decide,
    /// their last known values count. `group` is an index into [`Self::groups`].
    pub fn last_known_of_group<'f>(&'f self, group: usize, facts: &Facts<'_>) -> BTreeSet<&'f str> {
        let slots = self.groups.reads(group).into_iter().flat_map(Condition::slots);
        self.too_old(slots, facts)
    }

    /// Returns the facts that say whether a rule covers a device and are older than promised, by path.
    pub fn last_known_of_scope<'f>(&'f self, rule: usize, facts: &Facts<'_>) -> BTreeSet<&'f str> {
        let rule = &self.rules[rule];
        let groups = rule.scopes().flat_map(Scope::asks);
        let own = rule.scopes().filter_map(|scope| scope.covers.as_ref());
        let conditions = own.chain(groups.flat_map(|group| self.groups.reads(group)));
        self.too_old(conditions.flat_map(Condition::slots), facts)
    }

    fn too_old<'f, 's>(&'f self, slots: impl Iterator<Item = &'s SlotId>, facts: &Facts<'_>) -> BTreeSet<&'f str> {
        slots.filter(|slot| facts.slot(**slot).stale).map(|slot| self.layout.slot_path(*slot)).collect()
    }

    /// Returns the facts of a person, slot by slot, as conditions read them.
    pub fn person_values<'a>(&'a self, person: &Person, arena: &'a Bump) -> &'a [Value<'a>] {
        arena.alloc_slice_fill_iter(self.people_layout.slot_paths().map(|path| match path {
            "id" => Value::Text(arena.alloc_str(person.id.as_str())),
            _ => person.facts.at(path).map_or(Value::missing(""), |datum| datum.to_value(arena)),
        }))
    }

    /// Works out which groups a person belongs to, one membership a group; notes until when that holds.
    pub fn memberships_of_person(
        &self,
        person: &Person,
        at: Timestamp,
        zone: &TimeZone,
        watch: &Watch,
    ) -> Vec<Membership> {
        let arena = Bump::new();
        let facts = self.person_values(person, &arena);
        let mut evaluator = Evaluator::new(None, at, zone, &arena);
        evaluator.set_watch(watch);
        self.groups.of_person(person, facts, &mut evaluator, &arena)
    }

    /// Works out which groups a device belongs to, one value a group; `ambient` says standing and findings where
    /// they are known already.
    pub fn memberships_of_device<'a>(
        &'a self,
        input: &DeviceInput<'a>,
        ambient: Ambient<'a>,
        at: Timestamp,
        zone: &'a TimeZone,
        arena: &'a Bump,
    ) -> &'a [Value<'a>] {
        let mut evaluator = Evaluator::new(Some(input.facts), at, zone, arena);
        evaluator.set_ambient(ambient);
        self.groups.of_device(input.id, input.holders, &mut evaluator, arena)
    }

    /// Returns the verdict of every rule on trial or enforced.
    pub fn evaluate<'a>(
        &'a self,
        input: &DeviceInput<'a>,
        at: Timestamp,
        zone: &'a TimeZone,
        arena: &'a Bump,
    ) -> Verdicts {
        let mut evaluator = Evaluator::new(Some(input.facts), at, zone, arena);
        let memberships = self.groups.of_device(input.id, input.holders, &mut evaluator, arena);
        if let Some(watch) = input.facts.watch()
            && let Some(next) = self.moments.get(self.moments.partition_point(|moment| *moment <= at))
        {
            watch.note(*next);
        }
        let mut all = Vec::with_capacity(self.rules.len());
        all.extend(self.rules.iter().enumerate().filter(|(_, rule)| !rule.is_draft()).map(|(index, rule)| {
            let (scope, excepted) = self.scope(rule, input.id, at, memberships, &mut evaluator);
            evaluator.take_vacuous();
            let outcome = match scope {
                Value::Boolean(false) => VerdictOutcome::NotApplicable,
                Value::Boolean(true) => outcome(evaluator.meets(&rule.require)),
                _ => VerdictOutcome::Unknown(Reason::Scope),
            };
            let vacuous = evaluator.take_vacuous() && outcome == VerdictOutcome::Pass;
            let awaiting = outcome == VerdictOutcome::Fail && rule.said(&mut evaluator).awaiting;
            Verdict { rule: index, outcome, vacuous, excepted, awaiting }
        }));
        Verdicts { all }
    }

    /// Returns what to do about a failure of a rule on a device: the first of what is to be said when a condition holds, or
    /// else what the rule says for all.
    pub fn fix<'a>(
        &'a self,
        rule: usize,
        input: &DeviceInput<'a>,
        at: Timestamp,
        zone: &'a TimeZone,
        arena: &'a Bump,
    ) -> Fix<'a> {
        let mut evaluator = Evaluator::new(Some(input.facts), at, zone, arena);
        self.groups.of_device(input.id, input.holders, &mut evaluator, arena);
        self.rules[rule].said(&mut evaluator)
    }

    /// Returns the exception by which a rule does not cover a device.
    pub fn exception<'a>(
        &'a self,
        rule: usize,
        input: &DeviceInput<'a>,
        at: Timestamp,
        zone: &'a TimeZone,
        arena: &'a Bump,
    ) -> Option<&'a Exception> {
        let mut evaluator = Evaluator::new(Some(input.facts), at, zone, arena);
        let memberships = self.groups.of_device(input.id, input.holders, &mut evaluator, arena);
        let holds = |exception: &&Exception| {
            exception.holds_at(at) && matches!(exception.excepts(input.id, memberships), Value::Boolean(true))
        };
        self.rules[rule].scope.except.iter().find(holds)
    }

    /// Returns whether a rule covers a device, and whether it would but for an exception.
    fn scope<'a>(
        &'a self,
        rule: &'a Rule,
        id: &str,
        at: Timestamp,
        memberships: &'a [Value<'a>],
        evaluator: &mut Evaluator<'a>,
    ) -> (Value<'a>, bool) {
        let scope = self.covered(&rule.scope, id, at, memberships, evaluator);
        if rule.yields.is_empty() || matches!(scope.0, Value::Boolean(false)) {
            return scope;
        }
        match self.judged_instead(rule, id, at, memberships, evaluator).map(|(_, covers)| covers) {
            Some(Value::Boolean(true)) => (Value::Boolean(false), false),
            Some(unknown) => (unknown, false),
            None => scope,
        }
    }

    /// Returns the baseline that judges a device in the place of a rule's, and whether it surely does.
    fn judged_instead<'a>(
        &'a self,
        rule: &'a Rule,
        id: &str,
        at: Timestamp,
        memberships: &'a [Value<'a>],
        evaluator: &mut Evaluator<'a>,
    ) -> Option<(&'a Yield, Value<'a>)> {
        let mut perhaps = None;
        for heir in &rule.yields {
            // Who counts for less does not take the place of who counts for more.
            if stage_at(heir.stage, heir.enforced_from, at) < rule.stage(at) {
                continue;
            }
            match self.covered(&heir.scope, id, at, memberships, evaluator).0 {
                covers @ Value::Boolean(true) => return Some((heir, covers)),
                Value::Boolean(false) => {}
                unknown => perhaps = perhaps.or(Some((heir, unknown))),
            }
        }
        perhaps
    }

    /// Returns whether a scope covers a device, and whether it would but for an exception.
    fn covered<'a>(
        &'a self,
        scope: &'a Scope,
        id: &str,
        at: Timestamp,
        memberships: &'a [Value<'a>],
        evaluator: &mut Evaluator<'a>,
    ) -> (Value<'a>, bool) {
        if let ([group], None, []) = (&*scope.groups, &scope.covers, &*scope.except)
            && let covered @ Value::Boolean(_) = memberships[*group]
        {
            return (covered, false);
        }
        let in_force = scope.except.iter().filter(|exception| exception.holds_at(at));
        let excepted = any(in_force.map(|exception| exception.excepts(id, memberships)));
        let grouped = if scope.groups.is_empty() {
            Value::Boolean(true)
        } else {
            any(scope.groups.iter().map(|group| memberships[*group]))
        };
        let covered = match (grouped, &scope.covers) {
            (Value::Boolean(false), _) => Value::Boolean(false),
            (grouped, None) => grouped,
            (grouped, Some(condition)) => match (grouped, evaluator.holds(condition)) {
                (_, Value::Boolean(false)) => Value::Boolean(false),
                (Value::Boolean(true), held) => held,
                (unknown, _) => unknown,
            },
        };
        match (covered, excepted) {
            (Value::Boolean(false), _) => (covered, false),
            (_, Value::Boolean(true)) => (Value::Boolean(false), true),
            (_, Value::Boolean(false)) => (covered, false),
            (_, unknown) => (unknown, false),
        }
    }
}

fn outcome(value: Value<'_>) -> VerdictOutcome {
    match value {
        Value::Boolean(true) => VerdictOutcome::Pass,
        Value::Boolean(false) => VerdictOutcome::Fail,
        Value::Unknown(unknown) => VerdictOutcome::Unknown(unknown.reason),
        Value::Null => VerdictOutcome::Unknown(Reason::Null),
        _ => VerdictOutcome::Unknown(Reason::WrongType),
    }
}

#[cfg(test)]
mod tests;
