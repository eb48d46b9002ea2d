//! The fleet as the fence draws it: how devices stand, parted by groups or by the values of a fact.

use std::collections::BTreeMap;

use bumpalo::Bump;
use fencepost_core::{EVERY_DEVICE, Facts, SlotId, Standing, Value};

use super::batch::{DeviceStanding, Job};
use super::device_facts::Wanted;
use super::reading::Reading;
use crate::error::EngineError;
use crate::facts::judge::surroundings;

/// How a device stands, as the fence draws it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Post {
    /// The standing.
    pub standing: Standing,
    /// It is compliant only by a waiver.
    pub by_waiver: bool,
}

impl Post {
    /// Returns the post of a device of which so much is waived.
    pub fn of_counts(standing: Standing, waived: u64) -> Self {
        Self { standing, by_waiver: standing == Standing::Compliant && waived > 0 }
    }

    /// Returns the post of a device that stands so.
    pub(crate) fn of(DeviceStanding { standing, by_waiver, .. }: DeviceStanding) -> Self {
        Self { standing, by_waiver }
    }
}

/// One line of the fence.
#[derive(Clone, Debug, PartialEq)]
pub struct FenceLine {
    /// The group, or the value that its devices share.
    pub label: String,
    /// How its devices stand, in their order.
    pub posts: Vec<Post>,
}

impl Reading<'_> {
    /// Parts the fleet into the lines of the fence: by groups, or by the values of a fact.
    ///
    /// `by` is `groups`, a fact, or none for what the workspace says.
    ///
    /// # Errors
    /// Fails if the ledger cannot be read.
    pub fn fence(&self, by: Option<&str>) -> Result<Vec<FenceLine>, EngineError> {
        self.fence_of(by, &|_| true)
    }

    /// Does the same with some devices.
    pub(crate) fn fence_of(
        &self,
        by: Option<&str>,
        is_meant: &dyn Fn(&str) -> bool,
    ) -> Result<Vec<FenceLine>, EngineError> {
        let Some(by) = by.or(self.project.config.fence_by.as_deref()) else {
            let own = self.standings()?.into_iter().filter(|(device, _)| is_meant(device));
            let posts = own.map(|(_, standing)| Post::of(standing)).collect();
            return Ok(vec![FenceLine { label: "every device".to_owned(), posts }]);
        };
        let mut lines: BTreeMap<String, Vec<Post>> = BTreeMap::new();
        self.each_post(by, |label, device, post| {
            if is_meant(device) {
                lines.entry(label).or_default().push(post);
            }
        })?;
        Ok(lines.into_iter().map(|(label, posts)| FenceLine { label, posts }).collect())
    }

    /// Hands on the value of a fact of every device, as shown, with its name, ascending by name; none where it is not known.
    ///
    /// # Errors
    /// Fails if the ledger cannot be read.
    pub(crate) fn each_label(&self, fact: &str, mut each: impl FnMut(Option<String>, &str)) -> Result<(), EngineError> {
        let judge = self.judge();
        let mut layout = self.project.rules.layout().clone();
        let slot = layout.want(fact, &self.project.dictionary);
        let wanted = [slot];
        let look = |job: &Job<'_>, facts: &Facts<'_>, _: &Bump| {
            let label = match facts.slot(slot).value {
                Value::Unknown(_) | Value::Null => None,
                value => Some(value.show()),
            };
            Ok((label, job.device.name.clone()))
        };
        self.with_facts(&judge, Wanted::whole(&layout, &wanted), look, |(label, device)| {
            each(label, &device);
            Ok(())
        })
    }

    /// Hands on the label, name and post of every assessed device, ascending by name; once for each of its labels: its
    /// groups, or the value of a fact.
    ///
    /// # Errors
    /// Fails if the ledger cannot be read.
    pub(crate) fn each_post(&self, by: &str, mut each: impl FnMut(String, &str, Post)) -> Result<(), EngineError> {
        let judge = self.judge();
        let asks_for_findings = by == "groups" && self.project.rules.groups_read_standing();
        let mut layout = self.project.rules.layout().clone();
        let slot = (by != "groups").then(|| layout.want(by, &self.project.dictionary));
        let groups: Vec<String> = self.project.rules.groups().map(|group| group.id.to_string()).collect();
        let wanted: Vec<SlotId> = slot.into_iter().collect();
        let (project, posture) = (self.project, self.posture());
        let look = |job: &Job<'_>, facts: &Facts<'_>, arena: &Bump| {
            let device = job.device.name.as_str();
            let Some(standing) = posture.standing(job)? else { return Ok(None) };
            let post = |labels: Vec<String>| Ok(Some((labels, device.to_owned(), Post::of(standing))));
            let Some(slot) = slot else {
                let judged = judge.judged(device, facts, arena);
                let own = if asks_for_findings { posture.running(job)? } else { Vec::new() };
                let ambient = surroundings(Some(standing.standing), &own, judge.at, arena);
                let memberships = project.rules.memberships_of_device(&judged.input, ambient, judge.session(arena));
                let is_line = |(group, value): (&String, &Value<'_>)| {
                    (matches!(value, Value::Boolean(true)) && group != EVERY_DEVICE).then(|| group.clone())
                };
                return post(groups.iter().zip(memberships).filter_map(is_line).collect());
            };
            let label = match facts.slot(slot).value {
                Value::Unknown(_) | Value::Null => "(none)".to_owned(),
                value => value.show(),
            };
            post(vec![label])
        };
        self.with_facts(&judge, Wanted::whole(&layout, &wanted), look, |found| {
            let Some((labels, device, post)) = found else { return Ok(()) };
            labels.into_iter().for_each(|label| each(label, &device, post));
            Ok(())
        })
    }
}
