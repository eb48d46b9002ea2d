//! Who loses access: what began since another assessment, what the clock has done since, and what it will do.

pub(crate) mod current;
mod entries;
pub(crate) mod explain;
pub(crate) mod fleet;
pub(crate) mod groups;
pub(crate) mod losses;
pub(crate) mod readiness;
pub(crate) mod replay;
pub(crate) mod report;
pub(crate) mod service_counts;
mod ways;
