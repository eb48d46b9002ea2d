//! Rules, compiled into one rule set that evaluates a device at a time.
//!
//! Every command that needs a verdict comes through [`RuleSet::evaluate`], and every proof through
//! [`RuleSet::explain`], which runs the same compiled condition with its trace on.

mod bundles;
mod causes;
mod decide;
mod drift;
pub(crate) mod expiring;
mod proof;
mod reach;
mod responses;
mod session;
pub(crate) mod vet;

pub use bundles::{Bundle, BundleSource, bundle_number};
pub use causes::{find_causes, find_causes_of_rule};
pub use decide::{AccessCondition, Posture, decide, decide_and_explain, failing_rules, step_evidence};
pub use drift::{
    AcceptedDifference, AcceptedSource, AcceptedValue, Assembly, AssemblySource, ComparedFacts, DriftDefinitions,
    DriftSet, DriftSetSource, DriftSource, rule_of_set,
};
pub use responses::{CommandSource, ResponseSource, Responses, ResponsesSource, StepSource};
use session::Member;
pub use session::Session;

use std::collections::BTreeSet;

use bumpalo::Bump;
use jiff::Timestamp;
use jiff::tz::TimeZone;

use crate::access::service::{AccessRule, AccessSet, AccessSource, AccessSources, ServiceSource};
use crate::access::terms::TermsSource;
use crate::condition::{Ambient, Condition, Evaluator, Uses, Vocabulary};
use crate::diagnostic::{Diagnostic, Text, each_once};
use crate::facts::dictionary::Dictionary;
use crate::facts::layout::{Layout, SlotId};
use crate::facts::merge::Facts;
use crate::facts::validity::Watch;
use crate::facts::value::{Reason, Value};
use crate::findings::finding::Subject;
use crate::findings::response::Response;
use crate::findings::waiver::{DeviceWaivers, Waiver, WaiverSource, compile_waivers, is_held};
use crate::fleet::group::{GroupKind, GroupSource, GroupSummary, Groups, Membership, any, group_ids};
use crate::fleet::people::Person;
use crate::rules::baseline::{self, BaselineSource};
use crate::rules::compile::{compile_rules, rule_ids};
use crate::rules::rule::{Exception, Fix, Override, Rule, RuleSource, Scope, stage_at};
use crate::rules::verdict::{DeviceInput, Verdict, VerdictOutcome, Verdicts};

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
    /// Terms that access rules may ask for.
    pub terms: Vec<TermsSource>,
    /// What makes a device managed; a fresh observation, where nothing is said.
    pub managed: Option<Text>,
    /// Waivers.
    pub waivers: Vec<WaiverSource>,
    /// Responses.
    pub responses: ResponsesSource,
    /// Bundles.
    pub bundles: Vec<BundleSource>,
    /// What is compared.
    pub drift: DriftSource,
}

/// All rules, groups and access rules of a workspace, compiled.
#[derive(Clone, Debug)]
pub struct RuleSet {
    /// Those that somebody wrote, then those of sets whose differences are findings.
    rules: Vec<Rule>,
    pub(crate) groups: Groups,
    layout: Layout,
    people_layout: Layout,
    access: AccessSet,
    waivers: Vec<Waiver>,
    responses: Responses,
    /// Their groups come behind those that somebody wrote, in their order.
    bundles: Vec<Bundle>,
    /// Its groups come last of all: those of sets, then those of assemblies.
    drift: DriftDefinitions,
    /// The moments at which time alone changes some rule's stage or exceptions, ascending.
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
        let mut people_layout = Layout::new(&Dictionary::default());
        let bundles = bundles::compile_bundles(&source.bundles, &mut mistakes);
        let of_bundles = source.bundles.iter().map(BundleSource::hidden_group);
        let all_groups: Vec<GroupSource> =
            source.groups.iter().cloned().chain(of_bundles).chain(source.drift.hidden_groups()).collect();
        // With those by which devices are parted, and those that tell when something ends, so that no document has to be read for them.
        let ends = dictionary.facts.iter().filter(|(_, declared)| declared.ends.is_some());
        let ends = ends.map(|(path, _)| path.as_str());
        let extra: Vec<&str> = extra.iter().copied().chain(source.drift.parting_facts()).chain(ends).collect();
        for path in &extra {
            layout.want(path, dictionary);
        }
        let ids = group_ids(&all_groups);
        let mut sources = source.rules.clone();
        sources.extend(baseline::expand(&source.baselines, &mut mistakes));
        let mut rule_ids = rule_ids(&sources);
        rule_ids.extend(source.drift.rule_ids());
        let mut vocabulary =
            Vocabulary { dictionary, layout: &mut layout, people: &mut people_layout, groups: &ids, rules: &rule_ids };
        let groups = Groups::compile(&all_groups, &mut vocabulary, &mut mistakes);
        let mut rules = compile_rules(&sources, &groups, &mut vocabulary, &mut mistakes);
        rules.extend(drift::rules_of_sets(&source.drift, &groups, &rules, &mut mistakes));
        let written = AccessSources {
            services: &source.services,
            rules: &source.access,
            terms: &source.terms,
            managed: source.managed.as_ref(),
        };
        let access = AccessSet::compile(written, &groups, &mut vocabulary, &mut mistakes);
        let responses = Responses::compile(&source.responses, &rules, &mut vocabulary, &mut mistakes);
        let waivers = compile_waivers(&source.waivers, &groups, &rules, &mut mistakes);
        let baselines: Vec<String> = source.baselines.iter().map(|baseline| baseline.id.text.clone()).collect();
        let drift = drift::compile_drift(&source.drift, &baselines, &groups, dictionary, &mut mistakes);
        let mistakes = each_once(mistakes);
        let failed = mistakes.iter().any(|mistake| mistake.severity == crate::diagnostic::Severity::Error);
        let moments: BTreeSet<Timestamp> = rules
            .iter()
            .flat_map(Rule::moments)
            .chain(access.rules().iter().filter_map(AccessRule::enforced_from))
            .collect();
        let moments = moments.into_iter().collect();
        let set = (!failed).then_some(Self {
            rules,
            groups,
            layout,
            people_layout,
            access,
            waivers,
            responses,
            bundles,
            drift,
            moments,
        });
        let set = set.map(|mut set| {
            let mut uses = Uses::default();
            set.conditions().for_each(|condition| uses.note(condition));
            for path in &extra {
                uses.note_whole(set.layout.want(path, dictionary));
            }
            for slot in set.layout.slots() {
                // Evidence names items by it.
                if let Some(key) = set.layout.item_key(slot) {
                    uses.note_key(slot, key);
                }
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

    /// Makes the selected rules enforced from now on without grace, and the selected access rules enforced from now on.
    pub fn enforce_now(&mut self, is_meant: impl Fn(&Rule) -> bool, is_access_meant: impl Fn(&AccessRule) -> bool) {
        self.rules.iter_mut().filter(|rule| is_meant(rule)).for_each(Rule::enforce_now);
        self.access.enforce_now(is_access_meant);
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
        let commands = self.responses.allowed_when().values();
        rules.chain(groups).chain(self.access.conditions()).chain(commands)
    }

    /// Returns the services and access rules.
    pub fn access(&self) -> &AccessSet {
        &self.access
    }

    /// Returns how many groups there are, those of bundles and comparisons among them.
    pub fn group_count(&self) -> usize {
        self.groups.all.len()
    }

    /// Returns the bundles, each with the index of the group of its devices.
    pub fn bundles(&self) -> impl ExactSizeIterator<Item = (usize, &Bundle)> {
        let first = self.first_of_drift() - self.bundles.len();
        self.bundles.iter().enumerate().map(move |(at, bundle)| (first + at, bundle))
    }

    /// Returns what is compared.
    pub fn drift(&self) -> &DriftDefinitions {
        &self.drift
    }

    /// Returns the index of the first group of a set; those of the other sets follow, then those of assemblies.
    fn first_of_drift(&self) -> usize {
        self.groups.all.len() - self.drift.sets.len() - self.drift.assemblies.len()
    }

    /// Returns the index of the group of the devices of a set, by its position.
    pub fn group_of_set(&self, set: usize) -> usize {
        self.first_of_drift() + set
    }

    /// Returns the index of the group of the devices of an assembly, by its position.
    pub fn group_of_assembly(&self, assembly: usize) -> usize {
        self.first_of_drift() + self.drift.sets.len() + assembly
    }

    /// Returns the groups that somebody wrote, in the order of their indexes.
    pub fn groups(&self) -> impl Iterator<Item = GroupSummary<'_>> {
        let written = self.first_of_drift() - self.bundles.len();
        self.groups.all[..written].iter().map(|group| GroupSummary {
            id: &group.id,
            title: group.title.as_deref(),
            kind: group.kind,
        })
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

    /// Returns the facts that say whether a group holds a device, by path. `group` is an index into [`Self::groups`].
    pub fn facts_of_group(&self, group: usize) -> BTreeSet<&str> {
        let slots = self.groups.reads(group).into_iter().flat_map(Condition::slots);
        slots.map(|slot| self.layout.slot_path(*slot)).collect()
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

    /// Returns whether who belongs to some group of people hangs on the moment.
    pub fn people_groups_read_clock(&self) -> bool {
        let mut of_people = self.groups.all.iter().filter(|group| group.kind == GroupKind::People);
        of_people.any(|group| group.condition.as_ref().is_some_and(Condition::reads_clock))
    }

    /// Returns the responses.
    pub fn responses(&self) -> &Responses {
        &self.responses
    }

    /// Returns the ladder that a finding sets off; none where nothing is to be done about it.
    pub fn response(&self, subject: &Subject) -> Option<&Response> {
        self.responses.of(subject, &self.rules)
    }

    /// Returns whether the workspace allows a command on a device: true where it says nothing of the command.
    pub fn allows<'a>(&'a self, command: &str, input: &DeviceInput<'a>, session: Session<'a>) -> Value<'a> {
        let Some(condition) = self.responses.allowed_when().get(command) else { return Value::Boolean(true) };
        let mut evaluator = session.evaluator(input.facts);
        self.groups.of_device(input.id, input.holders, &mut evaluator, session.arena);
        evaluator.holds(condition)
    }

    /// Returns the waivers in the order in which they are written.
    pub fn waivers(&self) -> &[Waiver] {
        &self.waivers
    }

    /// Returns the waivers that are for a device: those that name it, and those for a group that surely holds it.
    pub fn waivers_of<'a>(&'a self, input: &DeviceInput<'a>, session: Session<'a>) -> DeviceWaivers<'a> {
        if self.waivers.is_empty() {
            return DeviceWaivers::default();
        }
        let memberships = match self.waivers.iter().all(|waiver| waiver.groups().is_empty()) {
            true => &[],
            false => self.memberships_of_device(input, Ambient::default(), session),
        };
        let names_it = |waiver: &Waiver| waiver.devices.iter().any(|device| device.as_str() == input.id);
        let all = self.waivers.iter().filter(|waiver| names_it(waiver) || is_held(waiver, memberships)).collect();
        DeviceWaivers { all }
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
        session: Session<'a>,
    ) -> &'a [Value<'a>] {
        let mut evaluator = session.evaluator(input.facts);
        evaluator.set_ambient(ambient);
        self.groups.of_device(input.id, input.holders, &mut evaluator, session.arena)
    }

    /// Returns the verdict of every rule on trial or enforced.
    pub fn evaluate<'a>(&'a self, input: &DeviceInput<'a>, session: Session<'a>) -> Verdicts {
        if let Some(watch) = input.facts.watch()
            && let Some(next) = self.moments.get(self.moments.partition_point(|moment| *moment <= session.at))
        {
            watch.note(*next);
        }
        self.verdicts_of(input, session, |rule| input.drift.is_some() || rule.compared_set().is_none())
    }

    /// Returns the verdicts of the rules of sets alone: they come last of all in those that [`Self::evaluate`] gives.
    pub fn evaluate_drift<'a>(&'a self, input: &DeviceInput<'a>, session: Session<'a>) -> Verdicts {
        if !self.has_rules_of_sets() {
            return Verdicts::default();
        }
        self.verdicts_of(input, session, |rule| input.drift.is_some() && rule.compared_set().is_some())
    }

    /// Returns whether differences within some set are findings, or on trial to be.
    pub fn has_rules_of_sets(&self) -> bool {
        self.rules.iter().any(|rule| rule.compared_set().is_some() && !rule.is_draft())
    }

    fn verdicts_of<'a>(
        &'a self,
        input: &DeviceInput<'a>,
        session: Session<'a>,
        is_asked: impl Fn(&Rule) -> bool,
    ) -> Verdicts {
        let mut evaluator = session.evaluator(input.facts);
        let memberships = self.groups.of_device(input.id, input.holders, &mut evaluator, session.arena);
        evaluator.set_ambient(Ambient { drift: input.drift, ..Ambient::default() });
        let mut all = Vec::with_capacity(self.rules.len());
        let asked = self.rules.iter().enumerate().filter(|(_, rule)| !rule.is_draft() && is_asked(rule));
        all.extend(asked.map(|(index, rule)| {
            let (scope, excepted) =
                self.scope(rule, Member { id: input.id, memberships, at: session.at }, &mut evaluator);
            evaluator.take_vacuous();
            let outcome = match scope {
                Value::Boolean(false) => VerdictOutcome::NotApplicable,
                Value::Boolean(true) => outcome(evaluator.meets(&rule.require)),
                _ => VerdictOutcome::Unknown(Reason::Scope),
            };
            let vacuous = evaluator.take_vacuous() && outcome == VerdictOutcome::Pass;
            let awaiting = outcome == VerdictOutcome::Fail && rule.said(&mut evaluator).awaiting;
            Verdict { rule: index, outcome, vacuous, excepted, awaiting, waived: false }
        }));
        Verdicts { all }
    }

    /// Returns what to do about a failure of a rule on a device: the first of what is to be said when a condition holds, or
    /// else what the rule says for all.
    pub fn fix<'a>(&'a self, rule: usize, input: &DeviceInput<'a>, session: Session<'a>) -> Fix<'a> {
        let mut evaluator = session.evaluator(input.facts);
        self.groups.of_device(input.id, input.holders, &mut evaluator, session.arena);
        self.rules[rule].said(&mut evaluator)
    }

    /// Returns the exception by which a rule does not cover a device.
    pub fn exception<'a>(
        &'a self,
        rule: usize,
        input: &DeviceInput<'a>,
        session: Session<'a>,
    ) -> Option<&'a Exception> {
        let mut evaluator = session.evaluator(input.facts);
        let memberships = self.groups.of_device(input.id, input.holders, &mut evaluator, session.arena);
        let holds = |exception: &&Exception| {
            exception.holds_at(session.at) && matches!(exception.excepts(input.id, memberships), Value::Boolean(true))
        };
        self.rules[rule].scope.except.iter().find(holds)
    }

    /// Returns whether a rule covers a device, and whether it would but for an exception.
    fn scope<'a>(&'a self, rule: &'a Rule, member: Member<'a>, evaluator: &mut Evaluator<'a>) -> (Value<'a>, bool) {
        let scope = self.covered(&rule.scope, member, evaluator);
        if rule.overrides.is_empty() || matches!(scope.0, Value::Boolean(false)) {
            return scope;
        }
        match self.judged_instead(rule, member, evaluator).map(|(_, covers)| covers) {
            Some(Value::Boolean(true)) => (Value::Boolean(false), false),
            Some(unknown) => (unknown, false),
            None => scope,
        }
    }

    /// Returns the baseline that judges a device in the place of a rule's, and whether it surely does.
    fn judged_instead<'a>(
        &'a self,
        rule: &'a Rule,
        member: Member<'a>,
        evaluator: &mut Evaluator<'a>,
    ) -> Option<(&'a Override, Value<'a>)> {
        let mut perhaps = None;
        for other in &rule.overrides {
            // Who counts for less does not take the place of who counts for more.
            if stage_at(other.stage, other.enforced_from, member.at) < rule.stage(member.at) {
                continue;
            }
            match self.covered(&other.scope, member, evaluator).0 {
                covers @ Value::Boolean(true) => return Some((other, covers)),
                Value::Boolean(false) => {}
                unknown => perhaps = perhaps.or(Some((other, unknown))),
            }
        }
        perhaps
    }

    /// Returns whether a scope covers a device, and whether it would but for an exception.
    fn covered<'a>(&'a self, scope: &'a Scope, member: Member<'a>, evaluator: &mut Evaluator<'a>) -> (Value<'a>, bool) {
        if let ([group], None, []) = (&*scope.groups, &scope.covers, &*scope.except)
            && let covered @ Value::Boolean(_) = member.memberships[*group]
        {
            return (covered, false);
        }
        let in_force = scope.except.iter().filter(|exception| exception.holds_at(member.at));
        let excepted = any(in_force.map(|exception| exception.excepts(member.id, member.memberships)));
        let grouped = if scope.groups.is_empty() {
            Value::Boolean(true)
        } else {
            any(scope.groups.iter().map(|group| member.memberships[*group]))
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
