//! Decisions about everybody's usual sign-ins with a device, by the one function of the core.

use bumpalo::Bump;
use fencepost_core::{Attempt, Holder, Posture, decide, find_causes};

use crate::facts::judge::{Judge, Judged};
use crate::ledger_view::codec::{DecisionKey, StoredDecision};

/// Decides every usual sign-in with a device of this posture, at the judge's moment.
pub(crate) fn usual_decisions<'a>(
    judge: &'a Judge<'_>,
    judged: &Judged<'a>,
    posture: Posture<'_>,
    arena: &'a Bump,
) -> Vec<(DecisionKey, StoredDecision)> {
    let (rules, session, input) = (&judge.project.rules, judge.session(arena), judged.input);
    if rules.access().services().is_empty() {
        return Vec::new();
    }
    let state = rules.access_state(&input, posture, session);
    let holders: Vec<Option<&Holder<'a>>> =
        if input.holders.is_empty() { vec![None] } else { input.holders.iter().map(Some).collect() };
    let mut decisions = Vec::new();
    for holder in holders {
        for (service, about) in rules.access().services().iter().enumerate() {
            for sign_in in &about.usual {
                let attempt = Attempt { input, state, holder, service, sign_in };
                let decision = decide(rules, &attempt, session);
                let causes = find_causes(rules, &attempt, &decision, posture, session);
                let key = DecisionKey {
                    person: holder.map(|holder| holder.id.to_owned()),
                    service: about.id.to_string(),
                    client: sign_in.id.clone(),
                };
                let access_rules = decision.rules.iter().map(|rule| rules.access().rules()[*rule].id.to_string());
                let access_rules = access_rules.collect();
                decisions.push((key, StoredDecision { ruling: decision.ruling, access_rules, causes, since: None }));
            }
        }
    }
    decisions
}
