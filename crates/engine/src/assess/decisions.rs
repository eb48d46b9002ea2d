//! Decisions about everybody's usual sign-ins with a device, by the one function of the core.

use bumpalo::Bump;
use fencepost_core::{
    AccessState, Attempt, Decision, Holder, Posture, Ruling, decide, decide_and_explain, find_causes,
};

use crate::facts::judge::{Judge, Judged};
use crate::ledger_view::codec::{DecisionKey, StoredDecision};

/// Decides about everybody's usual sign-ins with a device of a posture, at the judge's moment.
pub(crate) struct UsualSignIns<'s, 'a> {
    judge: &'a Judge<'a>,
    judged: Judged<'a>,
    posture: Posture<'s>,
    state: AccessState<'a>,
    arena: &'a Bump,
}

/// A decision of which the causes can be asked for.
pub(crate) struct UsualDecision<'a> {
    pub key: DecisionKey,
    pub attempt: Attempt<'a>,
    pub decision: Decision,
}

impl UsualDecision<'_> {
    pub(crate) fn ruling(&self) -> &Ruling {
        &self.decision.ruling
    }
}

impl<'s, 'a> UsualSignIns<'s, 'a> {
    pub(crate) fn new(judge: &'a Judge<'a>, judged: Judged<'a>, posture: Posture<'s>, arena: &'a Bump) -> Self {
        let state = judge.project.rules.access_state(&judged.input, posture, judge.session(arena));
        Self { judge, judged, posture, state, arena }
    }

    /// Decides all of them, by holder, service and sign-in.
    pub(crate) fn decide(&self) -> Vec<UsualDecision<'a>> {
        self.decide_by(&|attempt| decide(&self.judge.project.rules, attempt, self.judge.session(self.arena)))
    }

    /// As [`Self::decide`]; says also of rules that are not enforced what would become of them.
    pub(crate) fn decide_and_explain(&self) -> Vec<UsualDecision<'a>> {
        self.decide_by(&|attempt| {
            decide_and_explain(&self.judge.project.rules, attempt, self.judge.session(self.arena))
        })
    }

    fn decide_by(&self, decide: &dyn Fn(&Attempt<'a>) -> Decision) -> Vec<UsualDecision<'a>> {
        let (rules, input) = (&self.judge.project.rules, self.judged.input);
        let holders: Vec<Option<&'a Holder<'a>>> =
            if input.holders.is_empty() { vec![None] } else { input.holders.iter().map(Some).collect() };
        let mut decisions = Vec::new();
        let mut stranger = None;
        for holder in holders {
            for (service, about) in rules.access().services().iter().enumerate() {
                for sign_in in &about.usual {
                    let (input, state) = match sign_in.is_strange() {
                        false => (input, self.state),
                        true => *stranger.get_or_insert_with(|| self.judge.stranger(self.arena)),
                    };
                    let attempt = Attempt { input, state, holder, service, sign_in };
                    let decision = decide(&attempt);
                    let key = DecisionKey {
                        person: holder.map(|holder| holder.id.to_owned()),
                        service: about.id.to_string(),
                        client: sign_in.id.clone(),
                    };
                    decisions.push(UsualDecision { key, attempt, decision });
                }
            }
        }
        decisions
    }

    /// Returns a decision with its causes, as the ledger keeps it.
    pub(crate) fn with_causes(&self, decided: &UsualDecision<'a>) -> StoredDecision {
        let rules = &self.judge.project.rules;
        let UsualDecision { attempt, decision, .. } = decided;
        let causes = find_causes(rules, attempt, decision, self.posture, self.judge.session(self.arena));
        let access_rules = decision.rules.iter().map(|rule| rules.access().rules()[*rule].id.to_string()).collect();
        StoredDecision { ruling: decision.ruling.clone(), access_rules, causes, since: None }
    }
}

/// Decides every usual sign-in with a device of this posture, at the judge's moment, with causes.
pub(crate) fn usual_decisions<'a>(
    judge: &'a Judge<'a>,
    judged: &Judged<'a>,
    posture: Posture<'_>,
    arena: &'a Bump,
) -> Vec<(DecisionKey, StoredDecision)> {
    if judge.project.rules.access().services().is_empty() {
        return Vec::new();
    }
    let sign_ins = UsualSignIns::new(judge, *judged, posture, arena);
    let decided = sign_ins.decide();
    decided.into_iter().map(|one| (one.key.clone(), sign_ins.with_causes(&one))).collect()
}
