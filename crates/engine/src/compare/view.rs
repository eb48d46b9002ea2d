//! What is shown of a comparison.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use fencepost_core::Datum;
use fencepost_core::drift::{Beginning, DifferenceKind, Place, ReferenceName, Share};
use jiff::Timestamp;

/// How a device differs at a place.
#[derive(Clone, Debug, PartialEq)]
pub struct MemberDifference {
    /// Where.
    pub place: Place,
    /// How.
    pub kind: DifferenceKind,
    /// What it holds; none where it lacks it.
    pub observed: Option<Datum>,
    /// What it is held against; none where that is missing.
    pub reference: Option<Datum>,
    /// How many hold the reference, where it is what most hold.
    pub share: Option<Share>,
    /// Since when; none where that was not asked for.
    pub beginning: Option<Beginning>,
    /// Where it is accepted: the position of the entry among those of the workspace.
    pub accepted_by: Option<usize>,
}

/// A device of a set.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct DriftMember {
    /// Its id.
    pub device: String,
    /// Its differences, ascending by place.
    pub differences: Vec<MemberDifference>,
    /// Its differences that somebody accepted, ascending by place.
    pub accepted: Vec<MemberDifference>,
    /// How many differences it has that nobody accepted: they may have been counted and not kept.
    pub differing: usize,
    /// How many were accepted.
    pub accepting: usize,
    /// The entries that accept differences, where these were not kept.
    pub accepted_entries: Vec<usize>,
    /// Its state is too old to count.
    pub is_stale: bool,
    /// Nothing is known of it at the moment of the reference.
    pub has_no_past: bool,
}

/// How much a set differs.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct DriftCounts {
    /// How many devices there are.
    pub devices: usize,
    /// How many of them differ, in something that nobody accepted.
    pub differ: usize,
    /// How many differences there are that nobody accepted.
    pub differences: usize,
    /// How many were accepted.
    pub accepted: usize,
}

/// A fact that differs somewhere in a set: a row beside the devices.
#[derive(Clone, Debug, PartialEq)]
pub struct ComparedRow {
    /// Where.
    pub place: Place,
    /// What devices are held against; none where that is missing, or each has its own.
    pub reference: Option<Datum>,
    /// How many hold the reference, where it is what most hold.
    pub share: Option<Share>,
}

/// Devices with differences that they have in common.
#[derive(Clone, Debug, PartialEq)]
pub struct AlikeDevices {
    /// Which devices, by their positions among the members.
    pub members: Vec<usize>,
    /// The differences, ascending by place.
    pub differences: Vec<MemberDifference>,
}

/// What a value of a fact is, and which devices hold it.
#[derive(Clone, Debug, PartialEq)]
pub struct HeldValue {
    /// The value; none where it is missing.
    pub value: Option<Datum>,
    /// The devices, ascending.
    pub devices: Vec<String>,
}

/// What a set of devices came to.
#[derive(Clone, Debug, PartialEq)]
pub struct DriftSetReport {
    /// Its id.
    pub id: String,
    /// What it is, for people.
    pub title: Option<String>,
    /// What the devices were held against.
    pub reference: ReferenceName,
    /// The devices, ascending by id.
    pub members: Vec<DriftMember>,
    /// Where there is no value that most hold, ascending.
    pub no_common_value: Vec<Place>,
    /// What was left out, since nearly all differ there, ascending.
    pub left_out: Vec<Place>,
    /// Patterns of facts that fit nothing that the devices report.
    pub idle_patterns: Vec<String>,
    /// Facts with a tolerance at which some device holds what is no number.
    pub tolerances_of_texts: Vec<String>,
    /// Not all facts were compared: there are too many.
    pub has_more_facts: bool,
    /// Of the fact that was asked about: which devices hold which value.
    pub values: Vec<HeldValue>,
    /// Facts that are the same everywhere, with their value, where they were asked for.
    pub same: Vec<(Place, Option<Datum>)>,
    /// Time alone changes nothing of this before; the beginning of time where that is not known.
    pub valid_until: Timestamp,
}

/// One thing that was compared.
#[derive(Clone, Debug, PartialEq)]
pub enum DriftPart {
    /// A set.
    Set(DriftSetReport),
    /// An assembly.
    Assembly(AssemblyReport),
}

/// What was compared.
#[derive(Clone, Debug, PartialEq)]
pub struct DriftReport {
    /// As of when.
    pub at: Timestamp,
    /// Sets.
    pub sets: Vec<DriftSetReport>,
    /// Assemblies.
    pub assemblies: Vec<AssemblyReport>,
    /// How many devices belong to no set, since what parts the fleet is not known of them.
    pub unparted: usize,
    /// Accepted differences of what was compared that have ended.
    pub ended: Vec<EndedAcceptance>,
}

/// An accepted difference that has ended.
#[derive(Clone, Debug, PartialEq)]
pub struct EndedAcceptance {
    /// The set or the assembly.
    pub drift: String,
    /// The fact.
    pub fact: String,
    /// When it ended.
    pub until: Timestamp,
}

/// How many devices fill a role of a whole, where that is not as most have it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct CountDifference {
    /// How many do.
    pub observed: usize,
    /// How many do in most wholes.
    pub reference: usize,
    /// How it differs.
    pub kind: DifferenceKind,
    /// In how many wholes it is so.
    pub share: Share,
}

/// The devices of a whole in one role.
#[derive(Clone, Debug, PartialEq)]
pub struct RoleReport {
    /// The role.
    pub role: String,
    /// How many devices fill it, where that differs.
    pub count: Option<CountDifference>,
    /// The devices, ascending by id.
    pub members: Vec<DriftMember>,
}

/// A whole of an assembly.
#[derive(Clone, Debug, PartialEq)]
pub struct WholeReport {
    /// The value of the fact that says which whole a device belongs to.
    pub whole: String,
    /// Its roles, ascending; those that it lacks and others have among them.
    pub roles: Vec<RoleReport>,
}

/// Where the devices of a role have no common value; the place is none for how many devices fill it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct UndecidedInRole {
    /// The role.
    pub role: String,
    /// Where.
    pub place: Option<Place>,
}

/// What became of the differences of devices between two moments.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct DriftMovement {
    /// Differences that were not there before, each with its device.
    pub drifted: Vec<DeviceDifference>,
    /// Differences that are gone, as they were.
    pub came_back: Vec<DeviceDifference>,
}

/// A difference of a device.
#[derive(Clone, Debug, PartialEq)]
pub struct DeviceDifference {
    /// The device.
    pub device: String,
    /// The difference.
    pub difference: MemberDifference,
}

impl DriftMovement {
    /// Tells what became of the differences that nobody accepted, from some devices as they were to them as they are.
    fn between<'m>(before: impl Iterator<Item = &'m DriftMember>, now: impl Iterator<Item = &'m DriftMember>) -> Self {
        let (before, now): (Vec<&DriftMember>, Vec<&DriftMember>) = (before.collect(), now.collect());
        Self { drifted: gained(&before, &now), came_back: gained(&now, &before) }
    }

    /// Returns whether nothing became otherwise.
    pub fn is_empty(&self) -> bool {
        self.drifted.is_empty() && self.came_back.is_empty()
    }
}

/// Returns the differences that some devices have later and not before.
fn gained(before: &[&DriftMember], later: &[&DriftMember]) -> Vec<DeviceDifference> {
    let known: BTreeSet<(&str, &Place)> = before
        .iter()
        .flat_map(|member| member.differences.iter().map(|one| (member.device.as_str(), &one.place)))
        .collect();
    let all = later.iter().flat_map(|member| member.differences.iter().map(|one| (&member.device, one)));
    all.filter(|(device, one)| !known.contains(&(device.as_str(), &one.place)))
        .map(|(device, one)| DeviceDifference { device: device.clone(), difference: one.clone() })
        .collect()
}

impl DriftReport {
    /// Tells what became of the differences of each set, in the order of the sets, since another report of the same comparison.
    pub fn movements_of_sets(&self, before: &DriftReport) -> Vec<DriftMovement> {
        let of = |set: &DriftSetReport| {
            let earlier = before.sets.iter().find(|known| known.id == set.id);
            DriftMovement::between(earlier.into_iter().flat_map(|known| &known.members), set.members.iter())
        };
        self.sets.iter().map(of).collect()
    }

    /// Tells the same of each assembly.
    pub fn movements_of_assemblies(&self, before: &DriftReport) -> Vec<DriftMovement> {
        let of = |one: &AssemblyReport| {
            let earlier = before.assemblies.iter().find(|known| known.id == one.id);
            DriftMovement::between(earlier.into_iter().flat_map(AssemblyReport::members), one.members())
        };
        self.assemblies.iter().map(of).collect()
    }
}

/// What an assembly came to.
#[derive(Clone, Debug, PartialEq)]
pub struct AssemblyReport {
    /// Its id.
    pub id: String,
    /// What it is, for people.
    pub title: Option<String>,
    /// Its wholes, ascending.
    pub wholes: Vec<WholeReport>,
    /// Where there is no value that most hold.
    pub no_common_value: Vec<UndecidedInRole>,
    /// What was left out, by role.
    pub left_out: BTreeMap<String, Vec<Place>>,
    /// Patterns of facts that fit nothing that the devices report.
    pub idle_patterns: Vec<String>,
}

impl DriftMember {
    /// Returns whether it differs in something that nobody accepted.
    pub fn differs(&self) -> bool {
        self.differing > 0
    }

    /// Adds a difference: to the accepted ones, where somebody accepted it.
    pub(super) fn add(&mut self, difference: MemberDifference) {
        if difference.accepted_by.is_some() {
            self.accepting += 1;
            self.accepted.push(difference);
        } else {
            self.differing += 1;
            self.differences.push(difference);
        }
    }

    fn all(&self) -> Vec<&MemberDifference> {
        let mut all: Vec<&MemberDifference> = self.differences.iter().chain(&self.accepted).collect();
        all.sort_by(|a, b| a.place.cmp(&b.place));
        all
    }
}

impl DriftCounts {
    /// Counts the differences of devices.
    pub fn of<'m>(members: impl IntoIterator<Item = &'m DriftMember>) -> Self {
        members.into_iter().fold(Self::default(), |counts, member| Self {
            devices: counts.devices + 1,
            differ: counts.differ + usize::from(member.differs()),
            differences: counts.differences + member.differing,
            accepted: counts.accepted + member.accepting,
        })
    }
}

impl DriftSetReport {
    /// Counts the differences.
    pub fn counts(&self) -> DriftCounts {
        DriftCounts::of(&self.members)
    }

    /// Returns the facts that differ somewhere, ascending.
    pub fn rows(&self) -> Vec<ComparedRow> {
        let has_own = matches!(self.reference, ReferenceName::OwnPast(_));
        let mut rows: HashMap<&Place, ComparedRow> = HashMap::new();
        for one in self.members.iter().flat_map(|member| member.differences.iter().chain(&member.accepted)) {
            rows.entry(&one.place).or_insert_with(|| ComparedRow {
                place: one.place.clone(),
                reference: one.reference.clone().filter(|_| !has_own),
                share: one.share,
            });
        }
        let mut rows: Vec<ComparedRow> = rows.into_values().collect();
        rows.sort_by(|a, b| a.place.cmp(&b.place));
        rows
    }

    /// Groups the devices that differ by all of their differences, those accepted among them: those with the most first, then the fewest devices.
    pub fn alike(&self) -> Vec<AlikeDevices> {
        let mut groups: Vec<AlikeDevices> = Vec::new();
        let mut by_key: HashMap<String, usize> = HashMap::new();
        for (at, member) in self.members.iter().enumerate() {
            let all = member.all();
            if all.is_empty() {
                continue;
            }
            let key: String = all.iter().map(|one| format!("{}\u{0}{:?}\u{0}", one.place, one.observed)).collect();
            let group = *by_key.entry(key).or_insert_with(|| {
                groups.push(AlikeDevices { members: Vec::new(), differences: all.into_iter().cloned().collect() });
                groups.len() - 1
            });
            groups[group].members.push(at);
        }
        groups.sort_by_key(|group| (std::cmp::Reverse(group.differences.len()), group.members.len(), group.members[0]));
        groups
    }

    /// Groups differences by the devices that share them: those that the most devices have first.
    pub fn shared(&self) -> Vec<AlikeDevices> {
        let mut holders: HashMap<(&Place, String), (Vec<usize>, &MemberDifference)> = HashMap::new();
        for (at, member) in self.members.iter().enumerate() {
            for one in &member.differences {
                let key = (&one.place, format!("{:?}", one.observed));
                holders.entry(key).or_insert_with(|| (Vec::new(), one)).0.push(at);
            }
        }
        let mut groups: BTreeMap<Vec<usize>, Vec<MemberDifference>> = BTreeMap::new();
        for (members, one) in holders.into_values() {
            groups.entry(members).or_default().push(one.clone());
        }
        let mut shared: Vec<AlikeDevices> =
            groups.into_iter().map(|(members, differences)| AlikeDevices { members, differences }).collect();
        shared.iter_mut().for_each(|group| group.differences.sort_by(|a, b| a.place.cmp(&b.place)));
        shared.sort_by_key(|group| (std::cmp::Reverse(group.members.len()), group.members[0]));
        shared
    }
}

impl RoleReport {
    /// Returns how many differences there are that nobody accepted, the one in count among them.
    pub fn differences(&self) -> usize {
        DriftCounts::of(&self.members).differences + usize::from(self.count.is_some())
    }
}

impl WholeReport {
    /// Returns how many devices it has.
    pub fn devices(&self) -> usize {
        self.roles.iter().map(|role| role.members.len()).sum()
    }

    /// Returns how many differences there are that nobody accepted, those in count among them.
    pub fn differences(&self) -> usize {
        self.roles.iter().map(RoleReport::differences).sum()
    }
}

impl AssemblyReport {
    /// Returns its devices, whole by whole and role by role.
    pub fn members(&self) -> impl Iterator<Item = &DriftMember> {
        self.wholes.iter().flat_map(|whole| &whole.roles).flat_map(|role| &role.members)
    }

    /// Counts the differences of its devices; those in count are not among them.
    pub fn counts(&self) -> DriftCounts {
        DriftCounts::of(self.members())
    }

    /// Returns how many differences there are that nobody accepted, those in count among them.
    pub fn differences(&self) -> usize {
        self.wholes.iter().map(WholeReport::differences).sum()
    }
}
