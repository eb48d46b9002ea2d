//! Drift: how devices differ that ought to be alike, and what sets two groups of them apart.
//!
//! The facts of a set of devices are read into a [`FactTable`], which turns each device into a [`Snapshot`]; [`compare`] holds
//! the snapshots against a reference.

mod compare;
mod contrast;
mod outliers;
mod place;
mod reference;
mod since;
mod statistics;
mod table;
mod verdict;

pub use compare::{
    CompareSettings, Comparison, Difference, DifferenceKind, Member, Reference, ReferenceValue, Share, Tolerance,
    common_state, compare, median,
};
pub use contrast::{CHANCE, Contrast, ContrastBy, ContrastFact, LEAST_DEVICES, contrast};
pub use outliers::{Outlier, Outliers, outliers};
pub use place::{FactPattern, FactScope, Place};
pub use reference::{ReferenceName, moment_of_past};
pub use since::{BeganBy, Beginning, Past, PastReference, PastState, RunMoment, Timeline};
pub use statistics::{TwoByTwo, false_discovery_rates, fisher, mann_whitney};
pub use table::{FactId, FactTable, IgnoreInTexts, PlaceId, Snapshot, TableSettings, ValueId, value_class};
pub use verdict::{DeviceDrift, DriftOutcome, NotedDifference, NotedDifferences};
