//! Groups: named sets of devices or people, by list, by condition, by unit, by holder, or by other groups.
//!
//! What a group names adds up; what it excepts is taken away and wins over everything. Groups name each
//! other in no circle, so each is worked out once, after those it names.

use crate::canonical::{Canonical, Encode};
use std::collections::HashMap;

use bumpalo::Bump;

use crate::condition::{Condition, Evaluator, Place, Vocabulary};
use crate::diagnostic::Named;
use crate::diagnostic::{Diagnostic, Span, Text, did_you_mean, nearest};
use crate::facts::value::{Reason, Unknown, Value};
use crate::fleet::people::{Holder, Person};
use crate::id::GroupId;

/// What a group is made of.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum GroupKind {
    /// Devices.
    Devices,
    /// People.
    People,
}

/// A group as written.
#[derive(Clone, Debug)]
pub struct GroupSource {
    /// Its id.
    pub id: Named,
    /// What it is, for people.
    pub title: Option<String>,
    /// Devices or people.
    pub kind: GroupKind,
    /// Ids of devices or people.
    pub members: Vec<Named>,
    /// A condition over the device's facts, or the person's.
    pub condition: Option<Text>,
    /// Groups or branches of people whose devices belong to it.
    pub held_by: Vec<Named>,
    /// Branches of units whose people belong to it.
    pub units: Vec<Named>,
    /// Other groups whose members belong to it.
    pub groups: Vec<Named>,
    /// Ids or groups that do not belong to it, whatever else says so.
    pub except: Vec<Named>,
}

/// Whether somebody belongs to a group.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Membership {
    /// Yes.
    In,
    /// No.
    Out,
    /// Not known.
    Unknown(Reason),
}

impl Membership {
    fn of(value: Value<'_>) -> Self {
        match value {
            Value::Boolean(true) => Self::In,
            Value::Boolean(false) => Self::Out,
            Value::Unknown(unknown) => Self::Unknown(unknown.reason),
            _ => Self::Unknown(Reason::Null),
        }
    }

    fn value<'a>(self, fact: &'a str) -> Value<'a> {
        match self {
            Self::In => Value::Boolean(true),
            Self::Out => Value::Boolean(false),
            Self::Unknown(reason) => Value::Unknown(Unknown { reason, fact }),
        }
    }
}

/// Whom `held_by` and an access rule's `people` mean.
#[derive(Clone, Debug)]
pub(crate) enum Whom {
    Group(usize),
    Branch(String),
}

impl Whom {
    /// Returns whether a holder is meant.
    pub(crate) fn includes(&self, holder: &Holder<'_>) -> Membership {
        match self {
            Self::Group(index) => {
                holder.memberships.get(*index).copied().unwrap_or(Membership::Unknown(Reason::Missing))
            }
            // A person may be named as well as a branch of units.
            Self::Branch(branch) if holder.id == branch => Membership::In,
            Self::Branch(branch) => {
                let is_in = holder.person.and_then(|person| person.is_in_unit(branch));
                is_in.map_or(Membership::Unknown(Reason::Missing), |is_in| Membership::of(Value::Boolean(is_in)))
            }
        }
    }
}

/// What is shown of a group.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct GroupSummary<'g> {
    /// The id.
    pub id: &'g GroupId,
    /// What people call it.
    pub title: Option<&'g str>,
    /// What it is made of.
    pub kind: GroupKind,
}

/// A group, ready to be asked.
#[derive(Clone, Debug)]
pub(crate) struct Group {
    pub id: GroupId,
    pub title: Option<String>,
    pub kind: GroupKind,
    members: Vec<String>,
    pub condition: Option<Condition>,
    held_by: Vec<Whom>,
    units: Vec<String>,
    groups: Vec<usize>,
    except_ids: Vec<String>,
    except_groups: Vec<usize>,
    /// It, or a group it names, asks for the standing.
    pub reads_standing: bool,
}

/// The groups of a rule set in the order in which they can be worked out.
#[derive(Clone, Debug)]
pub(crate) struct Groups {
    pub all: Vec<Group>,
    order: Vec<usize>,
}

/// The id of the group that every device belongs to.
pub const EVERY_DEVICE: &str = "every-device";

/// Returns the ids that conditions may name: those written, and the one that always exists.
pub(crate) fn group_ids(sources: &[GroupSource]) -> Vec<GroupId> {
    std::iter::once(GroupId::from(EVERY_DEVICE))
        .chain(sources.iter().map(|source| GroupId::new(source.id.text.as_str())))
        .collect()
}

impl Groups {
    /// Returns a group and all those that it names or asks for.
    fn behind(&self, group: usize) -> Vec<&Group> {
        let (mut asked, mut seen) = (vec![group], Vec::new());
        while let Some(at) = asked.pop() {
            if seen.contains(&at) {
                continue;
            }
            seen.push(at);
            let group = &self.all[at];
            asked.extend(group.groups.iter().chain(&group.except_groups));
            asked.extend(group.condition.iter().flat_map(Condition::groups));
        }
        seen.into_iter().map(|at| &self.all[at]).collect()
    }

    /// Returns the groups that a group names, by index.
    pub fn needs(&self, group: usize) -> Vec<usize> {
        self.all[group].needs()
    }

    /// Returns the conditions that say whether a group holds something: its own, and those of the groups it names.
    pub fn reads(&self, group: usize) -> Vec<&Condition> {
        self.behind(group).into_iter().filter_map(|group| group.condition.as_ref()).collect()
    }

    /// Returns whether who belongs to a group hangs on people.
    pub fn reads_people(&self, group: usize) -> bool {
        self.behind(group).iter().any(|group| group.kind == GroupKind::People || !group.held_by.is_empty())
    }

    /// Compiles the groups; index 0 is [`EVERY_DEVICE`].
    pub fn compile(sources: &[GroupSource], vocabulary: &mut Vocabulary<'_>, mistakes: &mut Vec<Diagnostic>) -> Self {
        let mut index: HashMap<&str, usize> = HashMap::from([(EVERY_DEVICE, 0)]);
        let mut places: Vec<Option<Span>> = vec![None];
        for (at, source) in sources.iter().enumerate() {
            if let Some(first) = index.insert(&source.id.text, at + 1) {
                mistakes.push(
                    Diagnostic::error(
                        "doubled-id",
                        format!("two groups are called `{}`", source.id.text),
                        source.id.span.clone(),
                    )
                    .label("the second")
                    .note(places[first].clone(), "the first")
                    .help("give one of them another id"),
                );
            }
            places.push(source.id.span.clone());
        }
        let mut all = vec![Group {
            id: GroupId::from(EVERY_DEVICE),
            title: Some("Every device".to_owned()),
            kind: GroupKind::Devices,
            members: Vec::new(),
            condition: None,
            held_by: Vec::new(),
            units: Vec::new(),
            groups: Vec::new(),
            except_ids: Vec::new(),
            except_groups: Vec::new(),
            reads_standing: false,
        }];
        let kinds: Vec<GroupKind> =
            std::iter::once(GroupKind::Devices).chain(sources.iter().map(|source| source.kind)).collect();
        for source in sources {
            let group = Self::compile_one(source, &index, &kinds, vocabulary, mistakes);
            all.push(group);
        }
        let order = Self::sort(&mut all, sources, mistakes);
        Self { all, order }
    }

    fn compile_one(
        source: &GroupSource,
        index: &HashMap<&str, usize>,
        kinds: &[GroupKind],
        vocabulary: &mut Vocabulary<'_>,
        mistakes: &mut Vec<Diagnostic>,
    ) -> Group {
        let place = match source.kind {
            GroupKind::Devices => Place::Devices,
            GroupKind::People => Place::People,
        };
        let says_something = source.condition.is_some()
            || [&source.members, &source.held_by, &source.units, &source.groups].iter().any(|list| !list.is_empty());
        if !says_something {
            mistakes.push(
                Diagnostic::error(
                    "empty-group",
                    format!("group `{}` can have no member", source.id.text),
                    source.id.span.clone(),
                )
                .help("give it `members`, `where`, `held_by` or `groups`"),
            );
        }
        let misplaced = match source.kind {
            GroupKind::Devices => source
                .units
                .first()
                .map(|named| (named, "`units` belongs to groups of people; for their devices write `held_by`")),
            GroupKind::People => source
                .held_by
                .first()
                .map(|named| (named, "`held_by` belongs to groups of devices; for people write `units` or `groups`")),
        };
        if let Some((named, help)) = misplaced {
            mistakes.push(
                Diagnostic::error("wrong-kind", "this key does not fit the kind of group", named.span.clone())
                    .help(help),
            );
        }
        let named_group = |named: &Named, mistakes: &mut Vec<Diagnostic>| -> Option<usize> {
            match index.get(named.text.as_str()) {
                Some(found) if kinds[*found] == source.kind => Some(*found),
                Some(_) => {
                    mistakes.push(
                        Diagnostic::error(
                            "wrong-kind",
                            format!("`{}` is not a group of the same kind", named.text),
                            named.span.clone(),
                        )
                        .help("a group of devices reaches people with `held_by`"),
                    );
                    None
                }
                None => {
                    mistakes.push(unknown_group(named, index.keys().copied()));
                    None
                }
            }
        };
        let groups: Vec<usize> = source.groups.iter().filter_map(|named| named_group(named, mistakes)).collect();
        let (mut except_ids, mut except_groups) = (Vec::new(), Vec::new());
        for named in &source.except {
            match index.get(named.text.as_str()) {
                Some(_) => except_groups.extend(named_group(named, mistakes)),
                None => except_ids.push(named.text.clone()),
            }
        }
        let condition =
            source.condition.as_ref().and_then(|text| Condition::compile(text, place, vocabulary, mistakes));
        let reads_standing = condition.as_ref().is_some_and(Condition::reads_standing);
        Group {
            id: GroupId::new(source.id.text.as_str()),
            title: source.title.clone(),
            kind: source.kind,
            members: source.members.iter().map(|named| named.text.clone()).collect(),
            condition,
            held_by: source.held_by.iter().map(|named| resolve_whom(named, index, kinds, mistakes)).collect(),
            units: source.units.iter().map(|named| named.text.clone()).collect(),
            groups,
            except_ids,
            except_groups,
            reads_standing,
        }
    }

    /// Orders groups so that each comes after those it names, and reports circles.
    fn sort(all: &mut [Group], sources: &[GroupSource], mistakes: &mut Vec<Diagnostic>) -> Vec<usize> {
        let needs: Vec<Vec<usize>> = all.iter().map(Group::needs).collect();
        let (mut order, mut done) = (Vec::new(), vec![false; all.len()]);
        loop {
            let ready: Vec<usize> =
                (0..all.len()).filter(|at| !done[*at] && needs[*at].iter().all(|need| done[*need])).collect();
            if ready.is_empty() {
                break;
            }
            for at in ready {
                done[at] = true;
                all[at].reads_standing |= needs[at].iter().any(|need| all[*need].reads_standing);
                order.push(at);
            }
        }
        // What is left names itself, directly or through others, or something that does.
        if let Some(start) = (0..all.len()).find(|at| !done[*at]) {
            let mut walk = vec![start];
            let circle = loop {
                let last = walk[walk.len() - 1];
                let Some(next) = needs[last].iter().copied().find(|need| !done[*need]) else { break walk };
                if let Some(at) = walk.iter().position(|seen| *seen == next) {
                    break walk.split_off(at);
                }
                walk.push(next);
            };
            let names: Vec<&str> = circle.iter().chain(circle.first()).map(|at| all[*at].id.as_str()).collect();
            let place = circle.first().and_then(|at| sources[at - 1].id.span.clone());
            mistakes.push(
                Diagnostic::error(
                    "group-circle",
                    format!("groups name each other in a circle: {}", names.join(" -> ")),
                    place,
                )
                .help("take one of them out of the other's `groups`, `except` or `where`"),
            );
        }
        order
    }

    /// Works out a device's memberships, one value a group; those of its holders for groups of people.
    pub fn of_device<'a>(
        &'a self,
        id: &str,
        holders: &[Holder<'a>],
        evaluator: &mut Evaluator<'a>,
        arena: &'a Bump,
    ) -> &'a [Value<'a>] {
        let mut known: Vec<Value<'a>> = vec![Value::Boolean(false); self.all.len()];
        for &at in &self.order {
            let group = &self.all[at];
            known[at] = match group.kind {
                GroupKind::People => any(holders.iter().map(|holder| Whom::Group(at).includes(holder).value("holder"))),
                GroupKind::Devices if at == 0 => Value::Boolean(true),
                GroupKind::Devices => {
                    evaluator.set_groups(arena.alloc_slice_copy(&known));
                    let condition = group.condition.as_ref().map(|condition| evaluator.holds(condition));
                    let held = group
                        .held_by
                        .iter()
                        .flat_map(|whom| holders.iter().map(|holder| whom.includes(holder).value("holder")));
                    group.weigh(id, &known, condition, held)
                }
            };
        }
        let known: &'a [Value<'a>] = arena.alloc_slice_copy(&known);
        evaluator.set_groups(known);
        known
    }

    /// Works out a person's memberships, one a group; out of every group of devices.
    pub fn of_person<'a>(
        &'a self,
        person: &Person,
        facts: &'a [Value<'a>],
        evaluator: &mut Evaluator<'a>,
        arena: &'a Bump,
    ) -> Vec<Membership> {
        let mut known: Vec<Value<'a>> = vec![Value::Boolean(false); self.all.len()];
        evaluator.set_person(facts);
        for &at in &self.order {
            let group = &self.all[at];
            if group.kind == GroupKind::People {
                evaluator.set_groups(arena.alloc_slice_copy(&known));
                let condition = group.condition.as_ref().map(|condition| evaluator.holds(condition));
                let units = group
                    .units
                    .iter()
                    .map(|branch| person.is_in_unit(branch).map_or(Value::missing("person.unit"), Value::Boolean));
                known[at] = group.weigh(person.id.as_str(), &known, condition, units);
            }
        }
        known.into_iter().map(Membership::of).collect()
    }
}

impl Group {
    fn needs(&self) -> Vec<usize> {
        let asked = self.condition.iter().flat_map(Condition::groups).copied();
        let held = self.held_by.iter().filter_map(|whom| match whom {
            Whom::Group(index) => Some(*index),
            Whom::Branch(_) => None,
        });
        self.groups.iter().chain(&self.except_groups).copied().chain(asked).chain(held).collect()
    }

    fn weigh<'a>(
        &self,
        id: &str,
        known: &[Value<'a>],
        condition: Option<Value<'a>>,
        others: impl Iterator<Item = Value<'a>>,
    ) -> Value<'a> {
        let listed = Value::Boolean(self.members.iter().any(|member| member == id));
        let included =
            any(std::iter::once(listed).chain(condition).chain(others).chain(self.groups.iter().map(|at| known[*at])));
        let excepted_id = Value::Boolean(self.except_ids.iter().any(|except| except == id));
        let excepted = any(std::iter::once(excepted_id).chain(self.except_groups.iter().map(|at| known[*at])));
        match (included, excepted) {
            (Value::Boolean(false), _) | (_, Value::Boolean(true)) => Value::Boolean(false),
            (included, Value::Boolean(false)) => included,
            (_, unknown) => unknown,
        }
    }
}

/// `or` over many, by Kleene.
pub(crate) fn any<'a>(values: impl Iterator<Item = Value<'a>>) -> Value<'a> {
    let mut result = Value::Boolean(false);
    for value in values {
        match value {
            Value::Boolean(true) => return value,
            Value::Boolean(false) => {}
            Value::Unknown(_) if matches!(result, Value::Boolean(false)) => result = value,
            Value::Unknown(_) => {}
            _ => result = Value::Unknown(Unknown { reason: Reason::Null, fact: "" }),
        }
    }
    result
}

pub(crate) fn unknown_group<'a>(named: &Named, known: impl Iterator<Item = &'a str>) -> Diagnostic {
    let help = did_you_mean(&named.text, known, || "define it in groups.toml".to_owned());
    Diagnostic::error("unknown-group", format!("unknown group `{}`", named.text), named.span.clone()).help(help)
}

/// Resolves the name of a group of people, or a branch of units.
pub(crate) fn resolve_whom(
    named: &Named,
    index: &HashMap<&str, usize>,
    kinds: &[GroupKind],
    mistakes: &mut Vec<Diagnostic>,
) -> Whom {
    match index.get(named.text.as_str()) {
        Some(at) if kinds[*at] == GroupKind::People => Whom::Group(*at),
        Some(_) => {
            mistakes.push(
                Diagnostic::error("wrong-kind", format!("`{}` is a group of devices", named.text), named.span.clone())
                    .help("name a group of people, or a branch of units such as ships/tern"),
            );
            Whom::Branch(named.text.clone())
        }
        None => {
            let people = index.iter().filter(|(_, at)| kinds[**at] == GroupKind::People).map(|(id, _)| *id);
            if let Some(near) = nearest(&named.text, people)
                && !named.text.contains('/')
            {
                mistakes.push(
                    Diagnostic::warning(
                        "unknown-group",
                        format!("`{}` is no group of people, and is taken for a unit", named.text),
                        named.span.clone(),
                    )
                    .help(format!("did you mean the group `{near}`?")),
                );
            }
            Whom::Branch(named.text.clone())
        }
    }
}

impl Encode for Membership {
    fn encode(&self, to: &mut Canonical) {
        match self {
            Self::In => to.tag(b'y'),
            Self::Out => to.tag(b'n'),
            Self::Unknown(reason) => {
                to.tag(b'?');
                reason.as_str().encode(to);
            }
        }
    }
}
