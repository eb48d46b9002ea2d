//! Everything that a device is judged by, as a digest: the same digest, the same verdicts, until time changes them.

use fencepost_core::Observation;
use jiff::Timestamp;
use jiff::tz::TimeZone;

use crate::judge::{Judge, Judged};
use crate::project::Project;

/// What all devices are judged by together.
#[derive(Debug)]
pub(super) struct Inputs {
    /// A digest of the rules, of the program and of what it knows of time zones.
    pub rules: String,
    /// A digest of the whole workspace.
    pub workspace: String,
    /// Names the paths that the rules read.
    pub stamp: i64,
    paths: Vec<String>,
}

impl Inputs {
    pub(super) fn of(project: &Project) -> Self {
        let mut hash = blake3::Hasher::new();
        for part in [env!("CARGO_PKG_VERSION"), &project.rules_digest(), &clock_changes(&project.config.zone)] {
            hash.update(part.as_bytes());
            hash.update(&[0]);
        }
        Self {
            rules: hash.finalize().to_hex().to_string(),
            workspace: project.digest.clone(),
            stamp: project.facts_stamp(),
            paths: project.rules.layout().slot_paths().map(str::to_owned).collect(),
        }
    }

    /// Whether the rules read something at a path, above it or below it.
    pub(super) fn reads(&self, path: &str) -> bool {
        self.paths.iter().any(|wanted| is_above_or_below(wanted, path))
    }

    /// Returns the digest of what a device is judged by besides the rules: `packed` is what each of its observations says. What a
    /// device came to is kept with it, and by which rules once for all devices.
    pub(super) fn of_device(
        &self,
        judge: &Judge<'_>,
        judged: &Judged<'_>,
        observations: &[Observation<'_>],
        packed: &[&[u8]],
    ) -> Vec<u8> {
        let mut hash = blake3::Hasher::new();
        let mut feed = |part: &[u8]| {
            hash.update(&part.len().to_le_bytes());
            hash.update(part);
        };
        for (said, packed) in observations.iter().zip(packed) {
            feed(said.source.as_bytes());
            feed(&said.collected.map_or(i64::MIN, Timestamp::as_microsecond).to_le_bytes());
            feed(packed);
        }
        let id = judged.input.id;
        for correction in judge.corrections_of(id) {
            feed(format!("{correction:?}").as_bytes());
        }
        if let Some(retirement) = judge.project.lives.last_retirement(id, judge.at) {
            feed(format!("{retirement:?}").as_bytes());
        }
        if let Some(retirement) = judge.project.lives.next_retirement(id, judge.at) {
            feed(format!("{retirement:?}").as_bytes());
        }
        for holder in judged.holder_ids() {
            feed(holder.as_bytes());
            feed(judge.people.digest(holder));
        }
        hash.finalize().as_bytes()[..16].to_vec()
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
