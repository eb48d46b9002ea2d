//! Devices held against what a baseline expects: each expectation is one fact.

use bumpalo::Bump;
use fencepost_core::drift::{BeganBy, Beginning, DifferenceKind, Place};
use fencepost_core::{AcceptedValue, Datum, Facts, Layout, Presence, Reason, Rule, SlotId, VerdictOutcome};
use fencepost_store::DeviceRow;
use jiff::Timestamp;

use super::drift::{ComparedSet, DriftDetail, SetPlan};
use super::past::PastReader;
use super::view::{DriftMember, MemberDifference};
use crate::error::EngineError;
use crate::facts::judge::Judge;
use crate::ledger_view::batch::Job;
use crate::ledger_view::device_facts::Wanted;
use crate::ledger_view::reading::Reading;
use crate::workspace::project::Project;

/// What a baseline expects of one fact.
struct ExpectedFact {
    /// The rule that it became.
    rule: usize,
    place: Place,
    /// The slot of the fact, where it is one that devices report.
    slot: Option<SlotId>,
    /// Whether an item of a list must or must not be there; none where it is about a value.
    presence: Option<Presence>,
}

/// What a device holds of an expected fact.
struct Held {
    value: Option<Datum>,
    difference: Option<(DifferenceKind, String)>,
}

impl ExpectedFact {
    /// Returns what a device holds, and how that differs from what is expected.
    fn held<'a>(&self, judge: &'a Judge<'a>, device: &'a str, facts: &'a Facts<'a>, arena: &'a Bump) -> Held {
        let judged = judge.judged(device, facts, arena);
        let rules = &judge.project.rules;
        let (outcome, evidence) = rules.explain_requirement(self.rule, &judged.input, judge.session(arena));
        let headline = evidence.headline_parts();
        let value = match self.slot.map(|slot| facts.slot(slot)) {
            Some(slot) if slot.origin.is_none() => None,
            Some(slot) => Some(slot.raw.to_datum()),
            None => Some(Datum::Text(headline.found.clone())),
        };
        let kind = match (outcome, self.presence) {
            (VerdictOutcome::Unknown(Reason::Missing), _) => Some(DifferenceKind::Missing),
            (VerdictOutcome::Fail, Some(Presence::Must)) => Some(DifferenceKind::Missing),
            (VerdictOutcome::Fail, Some(Presence::Never)) => Some(DifferenceKind::Extra),
            (VerdictOutcome::Fail, _) => Some(DifferenceKind::Changed),
            (VerdictOutcome::Unknown(Reason::Null | Reason::WrongType), _) => Some(DifferenceKind::Changed),
            // What is too old or cannot be worked out is no difference that anybody saw.
            (VerdictOutcome::Pass | VerdictOutcome::NotApplicable | VerdictOutcome::Unknown(_), _) => None,
        };
        let value = value.filter(|_| kind != Some(DifferenceKind::Missing));
        Held { value, difference: kind.map(|kind| (kind, headline.required.unwrap_or_default())) }
    }
}

impl Project {
    /// Returns what a baseline expects, fact by fact.
    fn expected_facts(&self, baseline: &str, plan: &SetPlan<'_>) -> Vec<ExpectedFact> {
        let rules = self.rules.rules().iter().enumerate();
        let own = rules.filter(|(_, rule)| rule.baseline.as_ref().is_some_and(|from| from.baseline == baseline));
        let expected = own.map(|(at, rule)| self.expected_fact(at, rule, baseline));
        expected.filter(|expected| plan.compared.scope.includes(&expected.place)).collect()
    }

    fn expected_fact(&self, at: usize, rule: &Rule, baseline: &str) -> ExpectedFact {
        let id = rule.id.as_str();
        let name = id.strip_prefix(baseline).and_then(|rest| rest.strip_prefix('/')).unwrap_or(id);
        let lists = self.source.baselines.iter().flat_map(|baseline| &baseline.lists);
        let entry = lists
            .filter_map(|list| Some((list, name.strip_prefix(list.name.text.as_str())?.strip_prefix('.')?)))
            .find_map(|(list, entry)| {
                let found = list.entries.iter().find(|known| known.name.text == entry)?;
                Some((list.name.text.clone(), entry.to_owned(), found.presence))
            });
        if let Some((fact, item, presence)) = entry {
            let place = Place { fact, item: Some(item), field: None };
            return ExpectedFact { rule: at, place, slot: None, presence: Some(presence) };
        }
        let layout = self.rules.layout();
        let slot = layout.child(Layout::ROOT, name).and_then(|node| layout.slot(node));
        ExpectedFact { rule: at, place: Place::of_fact(name), slot, presence: None }
    }
}

impl Reading<'_> {
    /// Compares the members of a set with what a baseline expects.
    pub(super) fn compare_with_baseline(
        &self,
        plan: &SetPlan<'_>,
        baseline: &str,
        detail: &DriftDetail,
    ) -> Result<ComparedSet, EngineError> {
        self.project.baseline(baseline, self.at)?;
        let expected = self.project.expected_facts(baseline, plan);
        let judge = self.judge();
        let rows: Vec<DeviceRow> = plan.members.iter().map(|member| member.row.clone()).collect();
        let mut members = Vec::with_capacity(rows.len());
        let look = |job: &Job<'_>, facts: &Facts<'_>, arena: &Bump| {
            let device = job.device.name.as_str();
            let held = |expected: &ExpectedFact| expected.held(&judge, device, facts, arena);
            Ok((device.to_owned(), expected.iter().map(held).collect::<Vec<Held>>(), facts.is_fresh()))
        };
        let layout = self.project.rules.layout();
        let slots: Vec<SlotId> = layout.slots().collect();
        let take = |(device, held, is_fresh): (String, Vec<Held>, bool)| {
            let mut member = DriftMember { device, is_stale: !is_fresh, ..DriftMember::default() };
            for (expected, held) in expected.iter().zip(held) {
                let Some((kind, required)) = held.difference else { continue };
                let beginning = match detail.beginnings {
                    true => Some(self.beginning_against_baseline(&member.device, expected)?),
                    false => None,
                };
                let difference = MemberDifference {
                    place: expected.place.clone(),
                    kind,
                    observed: held.value,
                    reference: Some(Datum::Text(required)),
                    share: None,
                    beginning,
                    accepted_by: None,
                };
                self.sort_in(plan, &mut member, difference);
            }
            members.push(member);
            Ok(())
        };
        self.with_facts(&judge, Wanted::as_read(layout, &slots).of(&rows), look, take)?;
        // What a baseline requires may hang on the clock.
        Ok(ComparedSet { members, valid_until: Timestamp::MIN, ..ComparedSet::default() })
    }

    /// Adds a difference to those of a device: to the accepted ones where somebody accepted it.
    fn sort_in(&self, plan: &SetPlan<'_>, member: &mut DriftMember, difference: MemberDifference) {
        let accepted = &self.project.rules.drift().accepted;
        let of_member = plan.member(&member.device).map_or(&[][..], |known| known.accepted.as_slice());
        let entry = of_member.iter().copied().find(|at| {
            let entry = &accepted[*at];
            entry.drift == plan.id
                && self.at < entry.until
                && entry.fact.fits_place(&difference.place)
                && match &entry.value {
                    AcceptedValue::Any => true,
                    AcceptedValue::Missing => difference.kind == DifferenceKind::Missing,
                    AcceptedValue::Value(value) => difference.observed.as_ref() == Some(value),
                }
        });
        member.add(MemberDifference { accepted_by: entry, ..difference });
    }

    /// Finds since when a device has not been as a baseline expects.
    fn beginning_against_baseline(&self, device: &str, expected: &ExpectedFact) -> Result<Beginning, EngineError> {
        let (mut since, mut changed_at, mut was) = (None, None, None);
        let mut before: Option<Option<Datum>> = None;
        PastReader::new(self)?.each_arrival(device, self.project.rules.layout(), |arrival| {
            let judge = self.judge().as_of(arrival.at);
            let held = expected.held(&judge, device, arrival.facts, arrival.arena);
            since = if held.difference.is_some() { since.or(Some(arrival.collected)) } else { None };
            if let Some(known) = before.as_ref().filter(|known| **known != held.value) {
                (changed_at, was) = (Some(arrival.collected), known.clone());
            }
            before = Some(held.value);
            Ok(())
        })?;
        Ok(Beginning { since: since.unwrap_or(self.at), because: BeganBy::Device, changed_at, was })
    }
}
