//! What an assessment at a later moment would decide about the sign-ins with a device if nothing came in until then.
//!
//! The same functions settle and decide as in an assessment; only the moment is another.

use std::collections::{BTreeMap, BTreeSet};

use bumpalo::Bump;
use fencepost_core::{
    CauseKind, DeviceId, Finding, Observation, Posture, Ruling, SettleContext, SettleInput, Strictness, Watch,
    moments_ahead,
};
use fencepost_store::{ComingRow, Spell};
use jiff::{SignedDuration, Timestamp};

use crate::assess::decisions::{UsualDecision, UsualSignIns};
use crate::facts::judge::{Judge, Judged};
use crate::ledger_view::codec::{DecisionKey, StoredDecision};

/// Moments further ahead than this are not looked at.
const HORIZON: SignedDuration = SignedDuration::from_hours(400 * 24);
/// No more moments than this are looked at of a device.
const MOST_MOMENTS: usize = 48;

/// A device as an assessment left it.
pub(crate) struct Outlook<'o, 'a> {
    /// Judges as of the assessment.
    pub judge: &'a Judge<'a>,
    pub device: &'a str,
    /// What each source said of it.
    pub observations: &'o [Observation<'a>],
    /// Its findings as the assessment left them.
    pub findings: &'o [Finding],
}

/// A device as an assessment at a moment would find it.
pub(crate) struct DeviceAt<'a> {
    /// Judges as of the moment.
    pub judge: &'a Judge<'a>,
    pub judged: Judged<'a>,
    /// Its findings.
    pub findings: Vec<Finding>,
    /// Whether any enforced rule covers it.
    pub covered: bool,
    /// Notes until when what is read of it holds.
    watch: &'a Watch,
    /// Until when its waivers are the same.
    waivers_until: Option<Timestamp>,
}

impl DeviceAt<'_> {
    /// Returns its findings that run.
    pub(crate) fn running(&self) -> Vec<&Finding> {
        self.findings.iter().filter(|finding| finding.is_running()).collect()
    }

    /// Returns what its standing follows from.
    pub(crate) fn posture<'f>(&self, running: &'f [&'f Finding]) -> Posture<'f> {
        Posture { running, covered: self.covered, uncovered: self.judge.project.config.uncovered_stands }
    }

    /// Returns the first moment after `at` at which time alone may change what was read of it.
    pub(crate) fn until(&self, at: Timestamp) -> Timestamp {
        let next_due = moments_ahead(&self.findings, at).into_iter().next();
        let retired = self.judge.project.lifecycles.next_retirement(self.judged.input.id, at).map(|one| one.from);
        // What may change at any moment has no next one.
        let watched = self.watch.until();
        [Some(watched), next_due, retired, self.waivers_until].into_iter().flatten().min().unwrap_or(Timestamp::MAX)
    }
}

/// What an assessment at a moment would decide.
struct Then {
    is_retired: bool,
    /// What it would decide otherwise than is held.
    changed: Vec<(DecisionKey, StoredDecision)>,
    /// Everybody whose sign-ins it would decide about.
    keys: BTreeSet<DecisionKey>,
    /// The first moment after this one at which time alone may change any of it.
    until: Timestamp,
}

/// Decisions by what they are about.
type Rulings = BTreeMap<DecisionKey, Ruling>;

/// A decision that time alone will bring about.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct ComingDecision {
    pub at: Timestamp,
    pub key: DecisionKey,
    pub decision: StoredDecision,
    /// It comes about only if the device stays silent until then.
    pub only_if_silent: bool,
}

impl ComingDecision {
    /// Returns it as the ledger keeps it.
    pub(crate) fn row(&self) -> ComingRow {
        let Spell { subject, value, detail } = self.decision.spell(&self.key);
        ComingRow { at: self.at, subject, value, detail, only_if_silent: self.only_if_silent }
    }

    /// Reads it back; none when it was not written by [`ComingDecision::row`].
    pub(crate) fn read(row: &ComingRow) -> Option<Self> {
        Some(Self {
            at: row.at,
            key: DecisionKey::read(&row.subject)?,
            decision: StoredDecision::read(&row.value, &row.detail)?,
            only_if_silent: row.only_if_silent,
        })
    }
}

/// Whether what a source said grows old.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Freshness {
    /// As the source promises.
    AsPromised,
    /// Not after the assessment: as if the device kept saying the same.
    Kept,
}

impl<'a> Outlook<'_, 'a> {
    /// Returns the device as an assessment at `at` would find it if nothing came in until then; none where it is retired.
    pub(crate) fn device_at(&self, at: Timestamp, arena: &'a Bump) -> Option<DeviceAt<'a>> {
        self.found_at(at, Freshness::AsPromised, arena)
    }

    fn found_at(&self, at: Timestamp, freshness: Freshness, arena: &'a Bump) -> Option<DeviceAt<'a>> {
        let project = self.judge.project;
        let judge: &Judge<'_> = arena.alloc(self.judge.as_of(at));
        let current = self.observations.iter().filter_map(|said| Some((said.source, said.collected?)));
        let life = project.life_of(self.device, current, at);
        let is_of_this_life = |said: &&Observation<'a>| said.collected.is_none_or(|collected| life.includes(collected));
        // What was too old already stays so.
        let is_kept = |said: &Observation<'a>| freshness == Freshness::Kept && said.is_fresh(self.judge.at);
        let fresh_for = |said: &Observation<'a>| said.fresh_for.filter(|_| !is_kept(said));
        let said = self.observations.iter().filter(is_of_this_life);
        let observations: Vec<Observation<'a>> =
            said.map(|said| Observation { fresh_for: fresh_for(said), ..*said }).collect();
        if observations.is_empty() {
            return None;
        }
        let watch: &Watch = arena.alloc(Watch::default());
        let facts = judge.merged(self.device, &observations, project.rules.layout(), arena).watched(watch);
        let judged = judge.judged(arena.alloc_str(self.device), arena.alloc(facts), arena);
        let verdicts = judge.verdicts(&judged.input, arena);
        let settings = &project.config.settle_settings();
        let context = SettleContext { rules: project.rules.rules(), settings, at, before: Some(self.judge.at) };
        let device = DeviceId::from(self.device);
        let waivers = judge.waivers(&judged.input, arena);
        let settled = context.settle(
            SettleInput {
                device: &device,
                verdicts: &verdicts,
                newest: judged.input.facts.collected(),
                has_corrections: judge.corrections_of(self.device).next().is_some(),
                waivers: &waivers,
            },
            self.findings.to_vec(),
            &mut |verdict| judge.evidence_summary(verdict, &judged.input, arena),
        );
        let (findings, covered) = (settled.findings, settled.covered);
        Some(DeviceAt { judge, judged, findings, covered, watch, waivers_until: waivers.next_change(at) })
    }

    /// Returns the first moment after `at` from which on a finding that closed comes back with a new clock, and not with its old one.
    fn next_relapse(&self, at: Timestamp) -> Option<Timestamp> {
        let mut closed = self.findings.iter().filter(|finding| !finding.is_running()).peekable();
        closed.peek()?;
        let settings = self.judge.project.config.settle_settings();
        closed.filter_map(|finding| settings.relapse_ends(finding)).filter(|end| *end > at).min()
    }

    /// Returns what an assessment at `at` would decide otherwise than `held` if nothing came in until then.
    fn then(&self, at: Timestamp, freshness: Freshness, held: &Rulings, arena: &'a Bump) -> Then {
        let Some(found) = self.found_at(at, freshness, arena) else {
            return Then { is_retired: true, changed: Vec::new(), keys: BTreeSet::new(), until: Timestamp::MAX };
        };
        let project = self.judge.project;
        let until_retired = project.lifecycles.next_retirement(self.device, at).map(|retirement| retirement.from);
        let running = found.running();
        let sign_ins = UsualSignIns::new(found.judge, found.judged, found.posture(&running), arena);
        let decided = sign_ins.decide();
        let differs = |one: &&UsualDecision<'a>| held.get(&one.key) != Some(one.ruling());
        let changed = decided.iter().filter(differs).map(|one| (one.key.clone(), sign_ins.with_causes(one))).collect();
        let keys = decided.into_iter().map(|one| one.key).collect();
        // What an assessment then would open falls due only after it; another one later would open it later.
        let next_due = moments_ahead(self.findings, at).into_iter().next();
        // What may change at any moment has no next one.
        let watched = Some(found.watch.until()).filter(|until| *until > at);
        let moments = [watched, next_due, until_retired, found.waivers_until, self.next_relapse(at)];
        let until = moments.into_iter().flatten().min().unwrap_or(Timestamp::MAX);
        Then { is_retired: false, changed, keys, until }
    }

    /// Returns the decisions that time alone will bring about after the assessment, by moment. `now` are those of the assessment.
    pub(crate) fn coming(&self, now: &[(DecisionKey, StoredDecision)], arena: &'a Bump) -> Vec<ComingDecision> {
        if self.judge.project.rules.access().services().is_empty() {
            return Vec::new();
        }
        let mut coming = self.changes(now, Freshness::AsPromised, arena);
        let gets_stricter = coming.iter().any(|it| it.decision.strictness() > Strictness::Permitted);
        if gets_stricter && self.observations.iter().any(|said| said.fresh_for.is_some()) {
            let certain = self.changes(now, Freshness::Kept, arena);
            let is_certain = |one: &ComingDecision| {
                // What is as strict by then without silence does not come of it.
                let by_then = certain.iter().rfind(|it| it.at <= one.at && it.key == one.key);
                let before = now.iter().find(|(key, _)| *key == one.key).map(|(_, decision)| decision);
                let then = by_then.map(|it| &it.decision).or(before);
                then.is_some_and(|then| !one.decision.ruling.is_stricter_than(&then.ruling))
            };
            for one in &mut coming {
                one.only_if_silent = !is_certain(one);
            }
            // Only what gets stricter is lost.
            let mut held: Rulings = now.iter().map(|(key, decision)| (key.clone(), decision.ruling.clone())).collect();
            for one in &mut coming {
                let before = held.insert(one.key.clone(), one.decision.ruling.clone());
                one.only_if_silent &= before.is_some_and(|before| one.decision.ruling.is_stricter_than(&before));
            }
            // A certain change that follows one that silence would have brought before.
            let silently = |one: &ComingDecision| {
                one.decision.strictness() > Strictness::Permitted
                    && coming
                        .iter()
                        .rfind(|it| it.at <= one.at && it.key == one.key)
                        .is_some_and(|it| it.only_if_silent)
            };
            let later: Vec<ComingDecision> = certain.iter().filter(|one| silently(one)).cloned().collect();
            coming.extend(later);
            coming.sort_by(|one, other| (one.at, &one.key).cmp(&(other.at, &other.key)));
        }
        coming
    }

    fn changes(
        &self,
        now: &[(DecisionKey, StoredDecision)],
        freshness: Freshness,
        arena: &'a Bump,
    ) -> Vec<ComingDecision> {
        let mut held: Rulings = now.iter().map(|(key, decision)| (key.clone(), decision.ruling.clone())).collect();
        let mut changes = Vec::new();
        let mut at = self.then(self.judge.at, freshness, &held, arena).until;
        let last = self.judge.at.checked_add(HORIZON).unwrap_or(Timestamp::MAX);
        for _ in 0..MOST_MOMENTS {
            if at > last || at == Timestamp::MAX {
                break;
            }
            let then = self.then(at, freshness, &held, arena);
            let cause = if then.is_retired { CauseKind::Retired } else { CauseKind::Membership };
            let left: Vec<DecisionKey> = held.keys().filter(|key| !then.keys.contains(key)).cloned().collect();
            let ended = left.into_iter().map(|key| (key, StoredDecision::gone(cause)));
            for (key, decision) in then.changed.into_iter().chain(ended) {
                if held.get(&key) != Some(&decision.ruling) {
                    held.insert(key.clone(), decision.ruling.clone());
                    changes.push(ComingDecision { at, key, decision, only_if_silent: false });
                }
            }
            if then.until <= at {
                break;
            }
            at = then.until;
        }
        changes
    }
}
