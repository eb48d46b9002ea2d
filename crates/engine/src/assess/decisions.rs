//! Decisions about everybody's usual sign-ins with a device, by the one function of the core.

use bumpalo::Bump;
use fencepost_core::{Attempt, Finding, Holder, Standing, decide};
use jiff::Timestamp;

use crate::facts::judge::{Judge, Judged, surroundings};
use crate::ledger_view::codec::{DecisionKey, StoredDecision};

/// How a device stands at a moment.
#[derive(Clone, Copy)]
pub(crate) struct StandsAt<'f> {
    pub standing: Standing,
    pub findings: &'f [Finding],
    pub at: Timestamp,
}

/// Decides every usual sign-in with a device that stands like this.
pub(crate) fn usual_decisions<'a>(
    judge: &'a Judge<'_>,
    judged: &Judged<'a>,
    stands: StandsAt<'_>,
    arena: &'a Bump,
) -> Vec<(DecisionKey, StoredDecision)> {
    let StandsAt { standing, findings, at } = stands;
    let rules = &judge.project.rules;
    let input = &judged.input;
    let ambient = surroundings(Some(standing), findings, arena);
    let failing = ambient.failing.unwrap_or_default();
    let memberships = rules.memberships_of_device(input, ambient, judge.session(arena));
    let holders: Vec<Option<&Holder<'a>>> =
        if input.holders.is_empty() { vec![None] } else { input.holders.iter().map(Some).collect() };
    let mut decisions = Vec::new();
    for holder in holders {
        for (service, about) in rules.access().services().iter().enumerate() {
            for client in &about.usual {
                let attempt = Attempt { facts: input.facts, memberships, holder, standing, failing, service, client };
                let decision = decide(rules, &attempt, judge.session(arena));
                let key = DecisionKey {
                    person: holder.map(|holder| holder.id.to_owned()),
                    service: about.id.to_string(),
                    client: client.clone(),
                };
                decisions.push((key, StoredDecision::of(&decision, rules, findings, at)));
            }
        }
    }
    decisions
}
