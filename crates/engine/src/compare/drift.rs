//! Drift: sets of devices that ought to be alike, held against what most of them hold, against a device, or against their past.

use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::sync::{Mutex, PoisonError};

use fencepost_core::drift::{
    Beginning, CompareSettings, Comparison, Difference, DifferenceKind, FactPattern, FactScope, Member, Past,
    PastReference, Place, PlaceId, Reference, ReferenceName, Snapshot, TableSettings, common_state, compare,
};
use fencepost_core::{AcceptedDifference, AcceptedValue, ComparedFacts, Datum, Diagnostic, Value};
use fencepost_formats::json_of_datum;
use fencepost_store::DeviceRow;
use jiff::Timestamp;
use serde_json::Value as Json;

use super::load::LoadedSet;
use super::members::{DriftQuery, PlannedAssembly, PlannedSet, SetMember};
use super::reference::{HeldReference, held_reference, reference_datum};
use super::view::{DriftMember, DriftPart, DriftReport, DriftSetReport, EndedAcceptance, HeldValue, MemberDifference};
use crate::error::EngineError;
use crate::ledger_view::reading::Reading;
use crate::ledger_view::survey::reported_paths;
use crate::workers::{Workers, cores, handed_out};

/// What of a comparison is shown.
#[derive(Clone, Debug, Default)]
pub struct DriftDetail {
    /// Since when each difference lasts; it takes the past of every device to tell.
    pub beginnings: bool,
    /// Differences are counted and not kept: enough for a line a set.
    pub counts_only: bool,
    /// Sets and assemblies of more devices are passed over.
    pub most_devices: Option<usize>,
    /// The facts that are the same everywhere too.
    pub same: bool,
    /// A fact of which it is told which devices hold which value.
    pub fact: Option<String>,
}

/// How far a device is from its peers.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PeerDistance {
    /// The set.
    pub set: String,
    /// How many others there are.
    pub peers: usize,
    /// How many differences it has that nobody accepted.
    pub differences: usize,
    /// How many were accepted.
    pub accepted: usize,
}

/// How a set is compared.
pub(super) struct SetPlan<'p> {
    /// What it is called, in the workspace's accepted differences.
    pub id: &'p str,
    pub reference: &'p ReferenceName,
    pub compared: &'p ComparedFacts,
    /// Paths that part devices, and are no facts that may differ.
    pub parted_by: &'p [String],
    /// Ascending by name.
    pub members: &'p [SetMember],
}

/// A set that was read and compared.
struct ComparedLoaded<'c> {
    loaded: &'c LoadedSet<'c>,
    reference: &'c HeldReference,
    found: &'c Comparison,
    /// Since when each difference lasts, where that was asked for.
    beginnings: Option<Vec<Beginning>>,
}

impl<'p> SetPlan<'p> {
    fn of(set: &'p PlannedSet<'_>) -> Self {
        Self {
            id: &set.id,
            reference: &set.reference,
            compared: &set.compared,
            parted_by: &set.parted_by,
            members: &set.members,
        }
    }

    /// Returns the member of a name.
    pub(super) fn member(&self, name: &str) -> Option<&'p SetMember> {
        let at = self.members.binary_search_by(|member| member.row.name.as_str().cmp(name)).ok()?;
        Some(&self.members[at])
    }
}

/// One thing that is to be compared.
#[derive(Clone, Copy)]
enum PlannedPart<'p> {
    Set(&'p PlannedSet<'p>),
    Assembly(&'p PlannedAssembly<'p>),
}

/// A set that was compared.
#[derive(Default)]
pub(super) struct ComparedSet {
    pub members: Vec<DriftMember>,
    pub no_common_value: Vec<Place>,
    pub left_out: Vec<Place>,
    pub idle_patterns: Vec<String>,
    pub tolerances_of_texts: Vec<String>,
    pub has_more_facts: bool,
    pub values: Vec<HeldValue>,
    pub same: Vec<(Place, Option<Datum>)>,
    pub valid_until: Timestamp,
}

impl Reading<'_> {
    /// Compares devices that ought to be alike, and hands on set after set and then assembly after assembly: no more than one of them
    /// is in memory. Returns what is said of all together, without any of them.
    ///
    /// # Errors
    /// As for [`Self::drift`], or with the first error of `take`.
    pub fn each_drift(
        &self,
        query: &DriftQuery,
        detail: &DriftDetail,
        take: impl FnMut(DriftPart) -> Result<(), EngineError>,
    ) -> Result<Result<DriftReport, Vec<Diagnostic>>, EngineError> {
        let plan = match self.plan_drift(query)? {
            Ok(plan) => plan,
            Err(mistakes) => return Ok(Err(mistakes)),
        };
        let is_wanted = |devices: usize| detail.most_devices.is_none_or(|most| devices <= most);
        let sets = plan.sets.iter().filter(|set| is_wanted(set.members.len())).map(PlannedPart::Set);
        let assemblies = plan.assemblies.iter().filter(|assembly| is_wanted(assembly.members.len()));
        let parts: Vec<PlannedPart<'_>> = sets.chain(assemblies.map(PlannedPart::Assembly)).collect();
        self.compare_each(&parts, &|reading, part| reading.compare_part(part, detail), take)?;
        let sets = plan.sets.iter().map(|set| set.id.as_str());
        let compared: HashSet<&str> = sets.chain(plan.assemblies.iter().map(|one| one.id)).collect();
        let ended = self.project.rules.drift().accepted.iter().filter(|one| one.until <= self.at);
        let ended = ended.filter(|one| compared.contains(one.drift.as_str())).map(|one| EndedAcceptance {
            drift: one.drift.clone(),
            fact: one.fact.as_str().to_owned(),
            until: one.until,
        });
        let (ended, unparted) = (ended.collect(), plan.unparted);
        Ok(Ok(DriftReport { at: self.at, sets: Vec::new(), assemblies: Vec::new(), unparted, ended }))
    }

    /// Compares devices that ought to be alike.
    ///
    /// # Errors
    /// The outer one when the ledger cannot be read, or something that was named is not known; the inner one when the condition has
    /// mistakes.
    pub fn drift(
        &self,
        query: &DriftQuery,
        detail: &DriftDetail,
    ) -> Result<Result<DriftReport, Vec<Diagnostic>>, EngineError> {
        let (mut sets, mut assemblies) = (Vec::new(), Vec::new());
        let said = self.each_drift(query, detail, |part| {
            match part {
                DriftPart::Set(set) => sets.push(set),
                DriftPart::Assembly(assembly) => assemblies.push(assembly),
            }
            Ok(())
        })?;
        if let Some(fact) = &detail.fact
            && said.is_ok()
            && sets.iter().all(|set| set.values.is_empty())
        {
            let paths = reported_paths(&self.reader)?;
            let help = fencepost_core::did_you_mean(fact, paths.iter().map(String::as_str), || {
                "see what devices report: fencepost list facts".to_owned()
            });
            return Err(EngineError::refused(format!("none of these devices reports `{}`", fact.escape_debug()), help));
        }
        Ok(said.map(|said| DriftReport { sets, assemblies, ..said }))
    }

    fn compare_part(&self, part: PlannedPart<'_>, detail: &DriftDetail) -> Result<DriftPart, EngineError> {
        Ok(match part {
            PlannedPart::Set(set) => DriftPart::Set(self.compare_set(set, detail)?),
            PlannedPart::Assembly(assembly) => DriftPart::Assembly(self.compare_assembly(assembly, detail)?),
        })
    }

    /// Does something with each of several things that are to be compared, on several cores where the ledger can be read on
    /// several connections, and hands on what comes of them in their order.
    pub(super) fn compare_each<P: Copy + Send + Sync, T: Send>(
        &self,
        parts: &[P],
        compare: &(impl Fn(&Reading<'_>, P) -> Result<T, EngineError> + Sync),
        mut take: impl FnMut(T) -> Result<(), EngineError>,
    ) -> Result<(), EngineError> {
        let workers = cores(None).min(parts.len());
        let readers = if workers > 1 { self.reader.snapshot_readers(workers) } else { Vec::new() };
        if readers.is_empty() {
            return parts.iter().try_for_each(|part| take(compare(self, *part)?));
        }
        let (readers, state) = (Mutex::new(readers), self.state());
        let prepare = || {
            let reader = readers.lock().unwrap_or_else(PoisonError::into_inner).pop();
            (reader.expect("there is one for each worker"), state.clone())
        };
        handed_out(
            &mut parts.iter(),
            Workers { count: workers, ahead: 1, prepare },
            |parts| Ok(parts.next().copied()),
            |(reader, state), part| compare(&state.on(reader.reader()), part),
            |_, made| take(made?),
        )
    }

    pub(super) fn compare_set(
        &self,
        set: &PlannedSet<'_>,
        detail: &DriftDetail,
    ) -> Result<DriftSetReport, EngineError> {
        let plan = SetPlan::of(set);
        let found = self.compare_members(&plan, detail)?;
        Ok(DriftSetReport {
            id: set.id.clone(),
            title: set.title.map(str::to_owned),
            reference: set.reference.clone(),
            members: found.members,
            no_common_value: found.no_common_value,
            left_out: found.left_out,
            idle_patterns: found.idle_patterns,
            tolerances_of_texts: found.tolerances_of_texts,
            has_more_facts: found.has_more_facts,
            values: found.values,
            same: found.same,
            valid_until: found.valid_until,
        })
    }

    /// Compares the members of a set.
    pub(super) fn compare_members(&self, plan: &SetPlan<'_>, detail: &DriftDetail) -> Result<ComparedSet, EngineError> {
        if let ReferenceName::Baseline(baseline) = plan.reference {
            return self.compare_with_baseline(plan, baseline, detail);
        }
        let of_reference = self.states_of_reference(plan)?;
        // A device that the members are held against may be none of them; it is read with them.
        let mut rows: Vec<DeviceRow> = plan.members.iter().map(|member| member.row.clone()).collect();
        rows.extend(of_reference.other.iter().cloned());
        rows.sort_by(|a, b| a.name.cmp(&b.name));
        let settings = table_settings(plan, detail);
        let mut loaded = LoadedSet::load(self, &rows, settings, &plan.compared.tolerances, &of_reference.past)?;
        let reference = held_reference(plan, &mut loaded, &of_reference)?;
        let settings = CompareSettings {
            tolerances: &plan.compared.tolerances,
            leave_out_distinct: !matches!(reference, HeldReference::Each(_)),
        };
        let found = compare_loaded(&loaded, &reference, settings);
        let valid_until = self.valid_until(plan, &loaded);
        let beginnings = match detail.beginnings {
            true => Some(beginnings(&mut loaded, &reference, settings, &found.differences)?),
            false => None,
        };
        let mut members = self.members_with_differences(
            plan,
            detail,
            &ComparedLoaded { loaded: &loaded, reference: &reference, found: &found, beginnings },
        );
        let values = detail.fact.as_deref().map(|fact| held_values(&loaded, fact)).unwrap_or_default();
        let same = if detail.same { same_facts(&loaded, &found) } else { Vec::new() };
        let places = |ids: &[PlaceId]| ids.iter().map(|id| loaded.table.place(*id).clone()).collect();
        let no_common_value = places(&found.no_common_value);
        let left_out = places(&found.left_out);
        if let Some(other) = of_reference.other {
            members.retain(|member| member.device != other.name);
        }
        Ok(ComparedSet {
            members,
            no_common_value,
            left_out,
            idle_patterns: loaded.idle_patterns,
            tolerances_of_texts: loaded.tolerances_of_texts,
            has_more_facts: loaded.has_more_facts,
            values,
            same,
            valid_until,
        })
    }

    /// Returns before when time alone changes nothing of what a set came to; the beginning of time where that is not known.
    fn valid_until(&self, plan: &SetPlan<'_>, loaded: &LoadedSet<'_>) -> Timestamp {
        match plan.reference {
            // The past may become known later.
            ReferenceName::OwnPast(_) | ReferenceName::Device { at: Some(_), .. } | ReferenceName::Baseline(_) => {
                Timestamp::MIN
            }
            ReferenceName::Majority | ReferenceName::Device { at: None, .. } => {
                let accepted = self.project.rules.drift().accepted.iter().filter(|one| one.drift == plan.id);
                let ends = accepted.map(|one| one.until).filter(|until| *until > self.at);
                loaded.devices.iter().map(|device| device.valid_until).chain(ends).min().unwrap_or(Timestamp::MAX)
            }
        }
    }

    /// Returns the devices of a set, each with its differences or how many they are.
    fn members_with_differences(
        &self,
        plan: &SetPlan<'_>,
        detail: &DriftDetail,
        compared: &ComparedLoaded<'_>,
    ) -> Vec<DriftMember> {
        let ComparedLoaded { loaded, reference, found, beginnings } = compared;
        let rules = self.project.rules.drift();
        let accepting = Accepting { drift: plan.id, all: &rules.accepted, at: self.at };
        let mut members: Vec<DriftMember> = loaded
            .devices
            .iter()
            .enumerate()
            .map(|(at, device)| DriftMember {
                device: device.name.clone(),
                is_stale: !device.is_fresh,
                has_no_past: matches!(reference, HeldReference::Each(states) if states[at].is_none()),
                ..DriftMember::default()
            })
            .collect();
        for (at, one) in found.differences.iter().enumerate() {
            let accepted_by = accepting.entry(plan, loaded, one);
            if detail.counts_only {
                let member = &mut members[one.member];
                *(if accepted_by.is_some() { &mut member.accepting } else { &mut member.differing }) += 1;
                member.accepted_entries.extend(accepted_by);
                continue;
            }
            let difference = MemberDifference {
                place: loaded.table.place(one.place).clone(),
                kind: one.kind(),
                observed: loaded.table.datum(&loaded.devices[one.member].snapshot, one.place),
                reference: reference_datum(loaded, reference, one),
                share: one.share,
                beginning: beginnings.as_ref().and_then(|all| all.get(at).cloned()),
                accepted_by,
            };
            members[one.member].add(difference);
        }
        members
    }

    /// Returns how far a device is from the peers of each set of the workspace that it belongs to.
    ///
    /// # Errors
    /// When the ledger cannot be read.
    pub fn distances_from_peers(&self, device: &str) -> Result<Vec<PeerDistance>, EngineError> {
        let drift = self.project.rules.drift();
        if drift.sets.is_empty() {
            return Ok(Vec::new());
        }
        let name = self.device_name(device)?;
        let documents = self.documents(&name)?;
        let (judge, arena) = (self.judge(), bumpalo::Bump::new());
        // Whoever is in no set is told so without a look at the fleet.
        let judged = judge.device(&name, &documents, &arena)?;
        let memberships = self.project.rules.memberships_of_device(
            &judged.input,
            fencepost_core::Ambient::default(),
            judge.session(&arena),
        );
        let may_be_in =
            |set: usize| !matches!(memberships[self.project.rules.group_of_set(set)], Value::Boolean(false));
        if documents.is_empty() || !(0..drift.sets.len()).any(may_be_in) {
            return Ok(Vec::new());
        }
        let query = DriftQuery { device: Some(name.clone()), ..DriftQuery::default() };
        let Ok(plan) = self.plan_drift(&query)? else { return Ok(Vec::new()) };
        let mut distances = Vec::new();
        for set in &plan.sets {
            let counts = DriftDetail { counts_only: true, ..DriftDetail::default() };
            let found = self.compare_set(set, &counts)?;
            let own = found.members.iter().find(|member| member.device == name);
            distances.extend(own.map(|own| PeerDistance {
                set: set.id.clone(),
                peers: found.members.len() - 1,
                differences: own.differing,
                accepted: own.accepting,
            }));
        }
        Ok(distances)
    }

    /// Returns what most devices of a set hold, as a document, and how many devices it has.
    ///
    /// # Errors
    /// When there is no such set, no device is in it, or the ledger cannot be read.
    pub(crate) fn common_document(&self, id: &str) -> Result<(Json, usize), EngineError> {
        let query = DriftQuery { id: Some(id.to_owned()), ..DriftQuery::default() };
        let plan = self.plan_drift(&query)?.unwrap_or_default();
        let Some(set) = plan.sets.first().filter(|set| !set.members.is_empty()) else {
            return Err(EngineError::refused(
                format!("`{}` is no set of devices that ought to be alike", id.escape_debug()),
                "name a [[drift]] of drift.toml that has devices",
            ));
        };
        let rows: Vec<DeviceRow> = set.members.iter().map(|member| member.row.clone()).collect();
        let plan = SetPlan::of(set);
        let settings = table_settings(&plan, &DriftDetail::default());
        let loaded = LoadedSet::load(self, &rows, settings, &set.compared.tolerances, &[])?;
        let members: Vec<Member<'_>> = members_of(&loaded);
        let settings = CompareSettings { tolerances: &set.compared.tolerances, leave_out_distinct: true };
        let common = common_state(&loaded.table, &members, settings);
        let tops = loaded.table.places().filter(|(_, place)| place.item.is_none() && !place.fact.contains('.'));
        let mut document = serde_json::Map::new();
        for (top, place) in tops {
            document.extend(loaded.table.datum(&common, top).map(|datum| (place.fact.clone(), json_of_datum(&datum))));
        }
        Ok((Json::Object(document), rows.len()))
    }
}

/// Which facts are read, and how.
fn table_settings(plan: &SetPlan<'_>, detail: &DriftDetail) -> TableSettings {
    let scope = match &detail.fact {
        // Who asks about a fact means it, whatever the set compares.
        Some(fact) => FactScope { facts: vec![FactPattern::new(fact.as_str())], except: Vec::new() },
        None => plan.compared.scope.clone(),
    };
    let exact = |pattern: &&FactPattern| pattern.is_exact();
    let named =
        scope.facts.iter().filter(exact).chain(plan.compared.tolerances.iter().map(|one| &one.facts).filter(exact));
    let named = named.map(|pattern| pattern.as_str().to_owned()).chain(detail.fact.clone()).collect();
    let never = plan.parted_by.iter().cloned().collect();
    TableSettings { scope, named, never, ignore: plan.compared.ignore, ..TableSettings::default() }
}

fn members_of<'l>(loaded: &'l LoadedSet<'_>) -> Vec<Member<'l>> {
    loaded.devices.iter().map(|device| Member { snapshot: Some(&device.snapshot), votes: device.is_fresh }).collect()
}

fn compare_loaded(loaded: &LoadedSet<'_>, reference: &HeldReference, settings: CompareSettings<'_>) -> Comparison {
    let members = members_of(loaded);
    let each: Vec<Option<&Snapshot>> = match reference {
        HeldReference::Each(states) => states.iter().map(Option::as_ref).collect(),
        _ => Vec::new(),
    };
    let against = match reference {
        HeldReference::Majority => Reference::Majority,
        HeldReference::Member(at) => Reference::State(&loaded.devices[*at].snapshot),
        HeldReference::Other(_, state) | HeldReference::State(state) => Reference::State(state),
        HeldReference::Each(_) => Reference::Each(&each),
    };
    compare(&loaded.table, &members, against, settings)
}

/// Finds since when differences last, from all that the ledger keeps of the devices.
fn beginnings(
    loaded: &mut LoadedSet<'_>,
    reference: &HeldReference,
    settings: CompareSettings<'_>,
    differences: &[Difference],
) -> Result<Vec<Beginning>, EngineError> {
    if differences.is_empty() {
        return Ok(Vec::new());
    }
    let tops: BTreeSet<String> = differences
        .iter()
        .map(|one| loaded.table.place(one.place).fact.split('.').next().unwrap_or_default().to_owned())
        .collect();
    let names: Vec<String> = loaded.devices.iter().map(|device| device.name.clone()).collect();
    let (timelines, runs) = loaded.timelines(&names, &tops)?;
    let each: Vec<Option<&Snapshot>> = match reference {
        HeldReference::Each(states) => states.iter().map(Option::as_ref).collect(),
        _ => Vec::new(),
    };
    let against = match reference {
        HeldReference::Majority => PastReference::Majority,
        HeldReference::Member(at) => PastReference::Member(*at),
        HeldReference::Other(name, _) => {
            PastReference::Member(names.iter().position(|known| known == name).unwrap_or(0))
        }
        HeldReference::State(state) => PastReference::State(state),
        HeldReference::Each(_) => PastReference::Each(&each),
    };
    let past = Past { table: &loaded.table, timelines: &timelines, reference: against, settings, runs: &runs };
    Ok(past.beginnings(differences))
}

/// What somebody accepted of a set.
struct Accepting<'a> {
    drift: &'a str,
    all: &'a [AcceptedDifference],
    at: Timestamp,
}

impl Accepting<'_> {
    /// Returns the entry that accepts a difference, by its position.
    fn entry(&self, plan: &SetPlan<'_>, loaded: &LoadedSet<'_>, one: &Difference) -> Option<usize> {
        let member = plan.member(&loaded.devices[one.member].name)?;
        member.accepted.iter().copied().find(|at| {
            let entry = &self.all[*at];
            entry.drift == self.drift
                && self.at < entry.until
                && entry.fact.fits_place(loaded.table.place(one.place))
                && match &entry.value {
                    AcceptedValue::Any => true,
                    AcceptedValue::Missing => one.kind() == DifferenceKind::Missing,
                    AcceptedValue::Value(written) => one.observed.is_some_and(|observed| {
                        loaded.table.class_of_written(one.place, written) == Some(loaded.table.class(observed))
                    }),
                }
        })
    }
}

/// Returns which devices hold which value at a place, the value that most hold first; nothing where none of them reports it.
fn held_values(loaded: &LoadedSet<'_>, fact: &str) -> Vec<HeldValue> {
    let Some((id, _)) = loaded.table.places().find(|(_, place)| place.to_string() == fact) else { return Vec::new() };
    let mut held: BTreeMap<Option<u32>, HeldValue> = BTreeMap::new();
    for device in &loaded.devices {
        let class = device.snapshot.at(id).map(|value| loaded.table.class(value));
        held.entry(class)
            .or_insert_with(|| HeldValue { value: loaded.table.datum(&device.snapshot, id), devices: Vec::new() })
            .devices
            .push(device.name.clone());
    }
    let mut held: Vec<HeldValue> = held.into_values().collect();
    held.sort_by_key(|one| (std::cmp::Reverse(one.devices.len()), one.devices.first().cloned()));
    held
}

/// Returns the facts that are the same everywhere, with their value.
fn same_facts(loaded: &LoadedSet<'_>, found: &Comparison) -> Vec<(Place, Option<Datum>)> {
    let other: BTreeSet<PlaceId> = found
        .differences
        .iter()
        .map(|one| one.place)
        .chain(found.no_common_value.iter().copied())
        .chain(found.left_out.iter().copied())
        .collect();
    let Some(first) = loaded.devices.first() else { return Vec::new() };
    let mut same: Vec<(Place, Option<Datum>)> = first
        .snapshot
        .cells()
        .filter(|(place, value)| !loaded.table.is_container(*value) && !other.contains(place))
        .filter(|(place, value)| {
            let class = loaded.table.class(*value);
            let has_it = |value| loaded.table.class(value) == class;
            loaded.devices.iter().all(|device| device.snapshot.at(*place).is_some_and(has_it))
        })
        .map(|(place, _)| (loaded.table.place(place).clone(), loaded.table.datum(&first.snapshot, place)))
        .collect();
    same.sort_by(|a, b| a.0.cmp(&b.0));
    same
}
