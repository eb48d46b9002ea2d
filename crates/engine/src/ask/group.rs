//! One group: who belongs to it, how its devices stand, and what it is a part of.

use std::collections::BTreeSet;

use fencepost_core::{EVERY_DEVICE, GroupKind, GroupSource, Membership, Named};

use crate::assess::GroupCounts;
use crate::error::EngineError;
use crate::ledger_view::fence::Post;
use crate::ledger_view::reading::Reading;
use crate::workspace::project::FilePlace;

/// Who belongs to a group.
#[derive(Clone, Debug, PartialEq)]
pub enum GroupMembers {
    /// Devices, ascending, each with how it stands.
    Devices(Vec<(String, Post)>),
    /// People, ascending by id, each with the name.
    People(Vec<(String, String)>),
}

/// All that is known of a group.
#[derive(Clone, Debug, PartialEq)]
pub struct GroupReport {
    /// Its id.
    pub id: String,
    /// What it is, for people.
    pub title: Option<String>,
    /// Where it is written; none of the group of all devices, which is always there.
    pub place: Option<FilePlace>,
    /// Who belongs to it, as written: the key, and what it says.
    pub says: Vec<(&'static str, String)>,
    /// The members.
    pub members: GroupMembers,
    /// How the devices among them stand.
    pub counts: GroupCounts,
    /// Rules and baselines that name it, or ask who belongs to it.
    pub used_by: Vec<String>,
}

impl Reading<'_> {
    /// Returns all that is known of a group.
    ///
    /// # Errors
    /// When the ledger cannot be read, or there is no such group.
    pub fn group(&self, id: &str) -> Result<GroupReport, EngineError> {
        let rules = &self.project.rules;
        let Some((at, summary)) = rules.groups().enumerate().find(|(_, group)| group.id.as_str() == id) else {
            return Err(EngineError::no_such("group", id, rules.groups().map(|group| group.id.as_str())));
        };
        let members = match summary.kind {
            GroupKind::Devices => GroupMembers::Devices(self.posts_of_group(id)?),
            GroupKind::People => {
                let is_in = |id: &str| self.people.memberships(id, self.project)[at] == Membership::In;
                let own = self.people.all().filter(|person| is_in(person.id.as_str()));
                GroupMembers::People(own.map(|person| (person.id.to_string(), person.name().to_owned())).collect())
            }
        };
        let mut counts = GroupCounts::default();
        if let GroupMembers::Devices(devices) = &members {
            devices.iter().for_each(|(_, post)| counts.add(*post));
        }
        let using = rules.rules().iter().filter(|rule| rule.asks_about_group(at));
        let used_by: BTreeSet<String> = using
            .map(|rule| rule.baseline.as_ref().map_or(rule.id.to_string(), |from| from.baseline.clone()))
            .collect();
        let source = self.project.source.groups.iter().find(|group| group.id.text == id);
        Ok(GroupReport {
            id: id.to_owned(),
            title: summary.title.map(str::to_owned),
            place: self.project.place_of(source.and_then(|source| source.id.span.as_ref())),
            says: source.map(says).unwrap_or_default(),
            members,
            counts,
            used_by: used_by.into_iter().collect(),
        })
    }

    /// Returns the assessed devices of a group with how they stand, ascending.
    fn posts_of_group(&self, id: &str) -> Result<Vec<(String, Post)>, EngineError> {
        if id == EVERY_DEVICE {
            return Ok(self.standings()?.into_iter().map(|(device, stands)| (device, Post::of(stands))).collect());
        }
        let mut own = Vec::new();
        self.each_post("groups", |group, device, post| {
            if group == id {
                own.push((device.to_owned(), post));
            }
        })?;
        Ok(own)
    }
}

/// Returns who belongs to a group, as written.
fn says(source: &GroupSource) -> Vec<(&'static str, String)> {
    let list = |names: &[Named]| names.iter().map(|named| named.text.as_str()).collect::<Vec<_>>().join(", ");
    let lists = [
        ("members", list(&source.members)),
        ("held by", list(&source.held_by)),
        ("units", list(&source.units)),
        ("groups", list(&source.groups)),
        ("except", list(&source.except)),
    ];
    let condition = source.condition.iter().map(|text| ("where", text.as_str().trim().to_owned()));
    condition.chain(lists.into_iter().filter(|(_, names)| !names.is_empty())).collect()
}
