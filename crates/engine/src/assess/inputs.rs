//! Everything that a device is judged by, as a digest: the same digest, the same verdicts, until time changes them.

use fencepost_core::{Canonical, Observation};
use fencepost_formats::SecretKey;
use jiff::Timestamp;
use jiff::tz::TimeZone;

use crate::compare::results::differences_json;
use crate::facts::judge::{Judge, Judged};
use crate::workspace::project::Project;

/// What all devices are judged by together.
#[derive(Debug)]
pub(crate) struct Inputs {
    /// A digest of the rules, of the program and of what it knows of time zones.
    pub rules: String,
    /// A digest of the whole workspace.
    pub workspace: String,
    /// Names the paths that the rules read.
    pub layout_fingerprint: i64,
    reads_people: bool,
    paths: Vec<String>,
}

/// What a device was judged by.
#[derive(Clone, Copy)]
pub(crate) struct JudgedState<'s, 'a> {
    pub judge: &'s Judge<'s>,
    pub judged: &'s Judged<'a>,
    pub observations: &'s [Observation<'a>],
    /// What each of the observations says, packed.
    pub packed: &'s [&'s [u8]],
}

impl Inputs {
    pub(crate) fn of(project: &Project) -> Self {
        let mut hash = blake3::Hasher::new();
        for part in [env!("CARGO_PKG_VERSION"), &project.rules_digest(), &clock_changes(&project.config.calendar.zone)]
        {
            hash.update(part.as_bytes());
            hash.update(&[0]);
        }
        Self {
            rules: hash.finalize().to_hex().to_string(),
            workspace: project.digest.clone(),
            layout_fingerprint: project.layout_fingerprint(),
            reads_people: project.rules.reads_people(),
            paths: project.rules.layout().slot_paths().map(str::to_owned).collect(),
        }
    }

    /// Whether the rules read something at a path, above it or below it.
    pub(crate) fn reads(&self, path: &str) -> bool {
        self.paths.iter().any(|wanted| is_above_or_below(wanted, path))
    }

    /// Returns the digest of what a device is judged by besides the rules: `packed` is what each of its observations says. What a
    /// device came to is kept with it, and by which rules once for all devices.
    pub(crate) fn of_device(&self, state: &JudgedState<'_, '_>) -> Vec<u8> {
        let JudgedState { judge, judged, .. } = *state;
        let mut hash = blake3::Hasher::new();
        let mut feed = |part: &[u8]| {
            hash.update(&part.len().to_le_bytes());
            hash.update(part);
        };
        let id = judged.input.id;
        feed_state(state, &mut feed);
        for one in judged.input.drift.unwrap_or_default() {
            feed(&one.set.to_le_bytes());
            feed(one.outcome.as_str().as_bytes());
            feed(differences_json(&one.outcome).unwrap_or_default().to_string().as_bytes());
        }
        if let Some(retirement) = judge.project.lifecycles.last_retirement(id, judge.at) {
            feed(&Canonical::of(retirement));
        }
        if let Some(retirement) = judge.project.lifecycles.next_retirement(id, judge.at) {
            feed(&Canonical::of(retirement));
        }
        let holders = judge.possible_holders(judged, state.observations);
        feed_people(judge, holders.iter().map(|id| &**id), &mut feed);
        hash.finalize().as_bytes()[..16].to_vec()
    }

    /// Returns the seal of a device's verdicts: whoever has the key of the workspace and comes to the same seal would come to the
    /// same verdicts, at every moment from `as_of` to before `until`.
    pub(crate) fn seal(
        &self,
        key: &SecretKey,
        state: &JudgedState<'_, '_>,
        (as_of, until): (Timestamp, Option<Timestamp>),
        codes: &[u8],
    ) -> String {
        let JudgedState { judge, judged, .. } = *state;
        let mut whole = Vec::with_capacity(1024);
        let mut feed = |part: &[u8]| {
            whole.extend(part.len().to_le_bytes());
            whole.extend(part);
        };
        feed(self.rules.as_bytes());
        feed(judged.input.id.as_bytes());
        feed_state(state, &mut feed);
        feed(&as_of.as_nanosecond().to_le_bytes());
        feed(&until.map_or(i128::MAX, Timestamp::as_nanosecond).to_le_bytes());
        feed(codes);
        if self.reads_people {
            feed_people(judge, judged.input.holders.iter().map(|holder| holder.id), &mut feed);
        }
        key.seal(&whole)
    }
}

/// What is known of a device.
fn feed_state(state: &JudgedState<'_, '_>, feed: &mut impl FnMut(&[u8])) {
    let JudgedState { judge, judged, observations, packed } = *state;
    for (said, packed) in observations.iter().zip(packed) {
        feed(said.source.as_bytes());
        feed(&said.collected.map_or(i64::MIN, Timestamp::as_microsecond).to_le_bytes());
        feed(packed);
    }
    for correction in judge.corrections_of(judged.input.id) {
        feed(&Canonical::of(correction));
    }
}

/// Who holds a device, and what is known of them.
fn feed_people<'i>(judge: &Judge<'_>, ids: impl Iterator<Item = &'i str>, feed: &mut impl FnMut(&[u8])) {
    for id in ids {
        feed(id.as_bytes());
        feed(judge.people.digest(id, judge.project));
    }
}

/// When the clock of a zone is put forward and back: what the time-zone data of this machine say.
fn clock_changes(zone: &TimeZone) -> String {
    let changes = zone.following(Timestamp::UNIX_EPOCH).take(300);
    changes.map(|change| format!("{} {};", change.timestamp().as_second(), change.offset())).collect()
}

/// Whether one path is the other, or leads to it.
fn is_above_or_below(one: &str, other: &str) -> bool {
    let (short, long) = if one.len() <= other.len() { (one, other) } else { (other, one) };
    long.strip_prefix(short).is_some_and(|rest| rest.is_empty() || rest.starts_with('.'))
}
