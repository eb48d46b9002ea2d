//! What the comparison of a set says of one of its devices, where the workspace makes findings of it.

use super::compare::Share;

/// What a comparison says of a device. Of a device of the set of which nothing is said, it came to no difference.
#[derive(Clone, Debug, PartialEq)]
pub struct DeviceDrift {
    /// The set, by its position among those of the workspace.
    pub set: usize,
    /// What it came to.
    pub outcome: DriftOutcome,
}

/// What a comparison came to that found a device not alike.
#[derive(Clone, Debug, PartialEq)]
pub enum DriftOutcome {
    /// It differs, in something that nobody accepted.
    Differs(NotedDifferences),
    /// Its state is too old to compare.
    Stale,
    /// There was nothing to hold it against.
    NotCompared,
}

impl DriftOutcome {
    /// Returns a word for it.
    pub fn as_str(&self) -> &'static str {
        match self {
            Self::Differs(_) => "differs",
            Self::Stale => "stale",
            Self::NotCompared => "not-compared",
        }
    }
}

/// The differences of a device that nobody accepted.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct NotedDifferences {
    /// The first of them, ascending by place: at most [`Self::MOST`].
    pub first: Vec<NotedDifference>,
    /// How many more there are.
    pub more: usize,
}

impl NotedDifferences {
    /// How many differences of a device are noted; the others are counted.
    pub const MOST: usize = 20;
}

/// How a device differs at a place, as shown.
#[derive(Clone, Debug, PartialEq)]
pub struct NotedDifference {
    /// Where: a fact, or a field of an item of a list, as `software[guardd].version`.
    pub place: String,
    /// What it holds; none where it lacks it.
    pub observed: Option<String>,
    /// What it is held against; none where that is missing.
    pub reference: Option<String>,
    /// How many hold the reference, where it is what most hold.
    pub share: Option<Share>,
}

impl NotedDifference {
    /// Returns what it holds, in words.
    pub fn found(&self) -> &str {
        self.observed.as_deref().unwrap_or("missing")
    }

    /// Returns what it is held against, in words.
    pub fn required(&self) -> String {
        let reference = self.reference.as_deref().unwrap_or("nothing");
        match self.share {
            Some(Share { holders, voters }) => format!("{reference}, as on {holders} of {voters}"),
            None => reference.to_owned(),
        }
    }
}
