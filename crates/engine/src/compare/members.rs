//! Which devices are compared with one another: the sets and assemblies of the workspace, or sets made for the occasion.

use std::collections::BTreeMap;

use bumpalo::Bump;
use fencepost_core::drift::{FactPattern, FactScope, ReferenceName};
use fencepost_core::{
    AcceptedDifference, ComparedFacts, Condition, Diagnostic, Dictionary, Evaluator, Facts, SlotId, Value, Watch,
};
use fencepost_store::DeviceRow;
use jiff::Timestamp;

use crate::ask::list::devices::compile_filter;
use crate::error::EngineError;
use crate::facts::judge::surroundings;
use crate::ledger_view::batch::Job;
use crate::ledger_view::device_facts::Wanted;
use crate::ledger_view::reading::Reading;
use crate::ledger_view::survey::reported_paths;

/// Which comparison is asked for.
#[derive(Clone, Debug, Default)]
pub struct DriftQuery {
    /// A set or an assembly of the workspace; all, where nothing else says which devices.
    pub id: Option<String>,
    /// The fact by whose values the fleet is parted into sets.
    pub by: Option<String>,
    /// Only devices for which this condition holds.
    pub filter: Option<String>,
    /// What devices are held against, instead of what the workspace says.
    pub against: Option<ReferenceName>,
    /// Patterns of the facts that are compared, instead of what the workspace says.
    pub facts: Vec<String>,
    /// Patterns of facts that are not compared, besides what the workspace says.
    pub except: Vec<String>,
    /// Only the sets that a device belongs to.
    pub device: Option<String>,
}

impl DriftQuery {
    /// Returns whether nothing says which devices are meant.
    pub(super) fn names_no_device(&self) -> bool {
        self.id.is_none() && self.by.is_none() && self.filter.is_none()
    }

    /// Returns whether the sets are made for the occasion.
    fn is_for_the_occasion(&self) -> bool {
        self.by.is_some() || self.filter.is_some() || (self.id.is_none() && self.against.is_some())
    }
}

/// A device of a set.
#[derive(Clone, Debug)]
pub(super) struct SetMember {
    pub row: DeviceRow,
    /// The accepted differences that are for it, by their positions.
    pub accepted: Vec<usize>,
}

/// A set of devices that is to be compared.
#[derive(Clone, Debug)]
pub(super) struct PlannedSet<'r> {
    pub id: String,
    pub title: Option<&'r str>,
    pub reference: ReferenceName,
    pub compared: ComparedFacts,
    /// Paths that part devices, and are no facts that may differ.
    pub parted_by: Vec<String>,
    /// Ascending by name.
    pub members: Vec<SetMember>,
}

/// A device of an assembly.
#[derive(Clone, Debug)]
pub(super) struct AssemblyMember {
    pub whole: String,
    pub role: String,
    pub member: SetMember,
}

/// An assembly that is to be compared.
#[derive(Clone, Debug)]
pub(super) struct PlannedAssembly<'r> {
    pub id: &'r str,
    pub title: Option<&'r str>,
    pub compared: ComparedFacts,
    pub parted_by: Vec<String>,
    /// Ascending by name.
    pub members: Vec<AssemblyMember>,
}

/// What is to be compared.
#[derive(Debug, Default)]
pub(super) struct DriftPlan<'r> {
    pub sets: Vec<PlannedSet<'r>>,
    pub assemblies: Vec<PlannedAssembly<'r>>,
    /// How many devices belong to no set, since what parts the fleet is not known of them.
    pub unparted: usize,
    /// Before when time alone changes nothing of which devices belong to what, and of whom differences are accepted; none where no
    /// device was looked at.
    pub until: Option<Timestamp>,
}

/// Which sets a device belongs to.
struct Membership {
    row: DeviceRow,
    sets: Vec<usize>,
    /// Position of the assembly, whole and role.
    wholes: Vec<WholeAndRole>,
    /// Of a fleet that is parted by a fact: its value; none where that is not known.
    part: Option<Option<String>>,
    accepted: Vec<usize>,
    /// Before when time alone changes none of it.
    until: Timestamp,
}

struct WholeAndRole {
    assembly: usize,
    whole: String,
    role: String,
}

/// What is looked at to tell which sets devices belong to.
struct MembershipSlots {
    /// Of each assembly, whole and role.
    assemblies: Vec<(SlotId, SlotId)>,
    by: Option<SlotId>,
    filter: Option<Condition>,
}

impl<'r> Reading<'r> {
    /// Finds out which devices are to be compared.
    ///
    /// # Errors
    /// The outer one when the ledger cannot be read, or something that was named is not known; the inner one when the condition has
    /// mistakes.
    pub(super) fn plan_drift<'a>(
        &'a self,
        query: &DriftQuery,
    ) -> Result<Result<DriftPlan<'a>, Vec<Diagnostic>>, EngineError> {
        let drift = self.project.rules.drift();
        self.check_id(query)?;
        let device = query.device.as_deref().map(|device| self.device_name(device)).transpose()?;
        let mut layout = self.project.rules.layout().clone();
        let dictionary = &self.project.dictionary;
        let filter = match &query.filter {
            Some(text) => match compile_filter(text, self.project, dictionary, &mut layout) {
                Ok(filter) => filter.condition,
                Err(mistakes) => return Ok(Err(mistakes)),
            },
            None => None,
        };
        let mut want = |path: &str| layout.want(path, dictionary);
        let slots = MembershipSlots {
            assemblies: drift.assemblies.iter().map(|one| (want(&one.whole), want(&one.role))).collect(),
            by: query.by.as_deref().map(&mut want),
            filter,
        };
        let mut plan = self.empty_plan(query);
        let (mut parts, mut unparted): (BTreeMap<String, Vec<SetMember>>, usize) = Default::default();
        self.each_membership(&layout, &slots, query, |found| {
            plan.until = Some(plan.until.map_or(found.until, |until| until.min(found.until)));
            let member = SetMember { row: found.row, accepted: found.accepted };
            for set in found.sets {
                plan.sets[set].members.push(member.clone());
            }
            for WholeAndRole { assembly, whole, role } in found.wholes {
                let member = AssemblyMember { whole, role, member: member.clone() };
                plan.assemblies[assembly].members.push(member);
            }
            match found.part {
                Some(Some(part)) => parts.entry(part).or_default().push(member),
                Some(None) => unparted += 1,
                None => {}
            }
        })?;
        if parts.is_empty() && query.is_for_the_occasion() {
            return Err(self.nobody_fits(query, unparted)?);
        }
        let occasional = parts.into_iter().map(|(id, members)| self.occasional_set(query, id, members));
        plan.sets.extend(occasional);
        plan.unparted = unparted;
        let is_asked = |id: &str| query.id.as_deref().is_none_or(|asked| asked == id);
        let holds_device = |members: &[SetMember]| {
            device.as_ref().is_none_or(|device| members.iter().any(|member| member.row.name == *device))
        };
        plan.sets.retain(|set| (query.is_for_the_occasion() || is_asked(&set.id)) && holds_device(&set.members));
        plan.assemblies.retain(|one| {
            let of_device = |device: &String| one.members.iter().any(|member| member.member.row.name == *device);
            is_asked(one.id) && device.as_ref().is_none_or(of_device)
        });
        Ok(Ok(plan))
    }

    fn check_id(&self, query: &DriftQuery) -> Result<(), EngineError> {
        let drift = self.project.rules.drift();
        let ids =
            || drift.sets.iter().map(|set| set.id.as_str()).chain(drift.assemblies.iter().map(|one| one.id.as_str()));
        if let Some(id) = &query.id
            && !ids().any(|known| known == id)
        {
            let help = fencepost_core::did_you_mean(id, ids(), || match ids().collect::<Vec<_>>() {
                known if known.is_empty() => {
                    "drift.toml names no sets yet; compare without one: fencepost drift --by role".to_owned()
                }
                known => format!("there are {}", known.join(", ")),
            });
            return Err(EngineError::refused(
                format!("nothing is compared under the name `{}`", id.escape_debug()),
                help,
            ));
        }
        if query.id.is_none() && !query.is_for_the_occasion() && ids().next().is_none() {
            return Err(EngineError::refused(
                "the workspace does not say which devices ought to be alike",
                "write a [[drift]] into drift.toml, or compare without one: fencepost drift --by role",
            ));
        }
        Ok(())
    }

    /// Says that no device is in any set made for the occasion, and why that may be.
    fn nobody_fits(&self, query: &DriftQuery, unparted: usize) -> Result<EngineError, EngineError> {
        let reported = reported_paths(&self.reader)?;
        if let (Some(by), true) = (&query.by, unparted > 0) {
            let help = fencepost_core::did_you_mean(by, reported.iter().map(String::as_str), || {
                "see what devices report: fencepost list facts".to_owned()
            });
            return Ok(EngineError::refused(format!("no device reports `{}`", by.escape_debug()), help));
        }
        // A name that no device reports is the likeliest reason.
        let dictionary = Dictionary { reported: Some(reported), ..self.project.dictionary.clone() };
        let mut layout = self.project.rules.layout().clone();
        let filter = query.filter.as_deref().unwrap_or("true");
        let warnings = compile_filter(filter, self.project, &dictionary, &mut layout);
        let reason = warnings.ok().and_then(|filter| filter.warnings.into_iter().next()).map(|warning| warning.message);
        let help = reason.unwrap_or_else(|| "see whom it fits: fencepost list devices --where CONDITION".to_owned());
        Ok(EngineError::refused("no device fits the condition", help))
    }

    /// Returns the comparisons of the workspace that are asked for, without their devices; sets for the occasion come later.
    fn empty_plan(&self, query: &DriftQuery) -> DriftPlan<'_> {
        if query.is_for_the_occasion() {
            return DriftPlan::default();
        }
        let drift = self.project.rules.drift();
        let sets = drift.sets.iter().map(|set| PlannedSet {
            id: set.id.clone(),
            title: set.title.as_deref(),
            reference: query.against.clone().unwrap_or_else(|| set.reference.clone()),
            compared: compared_facts(query, &set.compared),
            parted_by: Vec::new(),
            members: Vec::new(),
        });
        let assemblies = drift.assemblies.iter().map(|one| PlannedAssembly {
            id: &one.id,
            title: one.title.as_deref(),
            compared: compared_facts(query, &one.compared),
            parted_by: vec![one.whole.clone(), one.role.clone()],
            members: Vec::new(),
        });
        DriftPlan { sets: sets.collect(), assemblies: assemblies.collect(), ..DriftPlan::default() }
    }

    fn occasional_set(&self, query: &DriftQuery, id: String, members: Vec<SetMember>) -> PlannedSet<'_> {
        PlannedSet {
            id,
            title: None,
            reference: query.against.clone().unwrap_or_default(),
            compared: compared_facts(query, &ComparedFacts::default()),
            parted_by: query.by.iter().cloned().collect(),
            members,
        }
    }

    /// Hands on which sets each device belongs to, ascending by name.
    fn each_membership(
        &self,
        layout: &fencepost_core::Layout,
        slots: &MembershipSlots,
        query: &DriftQuery,
        mut each: impl FnMut(Membership),
    ) -> Result<(), EngineError> {
        let (project, judge, posture, at) = (self.project, self.judge(), self.posture(), self.at);
        let drift = project.rules.drift();
        let occasional = query.is_for_the_occasion();
        let reads_standing =
            project.rules.groups_read_standing() || slots.filter.as_ref().is_some_and(Condition::reads_standing);
        let of_filter = slots.filter.iter().flat_map(Condition::may_read).copied();
        let of_assemblies = slots.assemblies.iter().flat_map(|(whole, role)| [*whole, *role]);
        let wanted: Vec<SlotId> = of_filter.chain(of_assemblies).chain(slots.by).collect();
        let look = |job: &Job<'_>, facts: &Facts<'_>, arena: &Bump| {
            let device = job.device.name.as_str();
            let watch: &Watch = arena.alloc(Watch::default());
            let facts = &*arena.alloc(facts.watched(watch));
            let judged = judge.judged(device, facts, arena);
            let own = if reads_standing { posture.running(job)? } else { Vec::new() };
            let standing = if reads_standing { posture.standing(job)? } else { None };
            let ambient = surroundings(standing.map(|found| found.standing), &own, at, arena);
            let memberships = project.rules.memberships_of_device(&judged.input, ambient, judge.session(arena));
            let is_in = |group: usize| matches!(memberships[group], Value::Boolean(true));
            let shown = |slot: SlotId| match facts.slot(slot).value {
                Value::Unknown(_) | Value::Null => None,
                value => Some(value.show()),
            };
            let is_for = |one: &AcceptedDifference| {
                one.devices.iter().any(|named| named == device) || one.groups.iter().any(|group| is_in(*group))
            };
            let accepted = drift.accepted.iter().enumerate().filter(|(_, one)| is_for(one)).map(|(at, _)| at).collect();
            let mut found = Membership {
                row: job.device.clone(),
                sets: Vec::new(),
                wholes: Vec::new(),
                part: None,
                accepted,
                until: watch.until(),
            };
            if let Some(retirement) = project.lifecycles.next_retirement(device, at) {
                found.until = found.until.min(retirement.from);
            }
            if !occasional {
                found.sets = (0..drift.sets.len()).filter(|set| is_in(project.rules.group_of_set(*set))).collect();
                found.wholes = slots
                    .assemblies
                    .iter()
                    .enumerate()
                    .filter(|(assembly, _)| is_in(project.rules.group_of_assembly(*assembly)))
                    .filter_map(|(assembly, (whole, role))| {
                        Some(WholeAndRole { assembly, whole: shown(*whole)?, role: shown(*role)? })
                    })
                    .collect();
                return Ok(found);
            }
            let mut evaluator = Evaluator::new(Some(facts), at, &project.config.calendar.zone, arena);
            evaluator.set_groups(memberships);
            evaluator.set_ambient(ambient);
            let holds = match &slots.filter {
                Some(filter) => matches!(evaluator.holds(filter), Value::Boolean(true)),
                None => true,
            };
            if holds {
                found.part = Some(match slots.by {
                    Some(by) => shown(by),
                    None => Some(OCCASIONAL.to_owned()),
                });
            }
            Ok(found)
        };
        self.with_facts(&judge, Wanted::whole(layout, &wanted), look, |found| {
            each(found);
            Ok(())
        })
    }
}

/// What a set is called that was made for the occasion, and is not parted.
const OCCASIONAL: &str = "these devices";

/// Returns which facts are compared: what the command says goes before what the workspace says.
fn compared_facts(query: &DriftQuery, own: &ComparedFacts) -> ComparedFacts {
    let patterns = |texts: &[String]| texts.iter().map(|text| FactPattern::new(text.as_str())).collect::<Vec<_>>();
    let facts = if query.facts.is_empty() { own.scope.facts.clone() } else { patterns(&query.facts) };
    let except = own.scope.except.iter().cloned().chain(patterns(&query.except)).collect();
    ComparedFacts { scope: FactScope { facts, except }, ..own.clone() }
}
