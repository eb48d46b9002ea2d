//! Findings: rules that fail on a device over time, and the standing that follows from them.

#[expect(clippy::module_inception, reason = "the folder holds findings and what follows from them")]
pub(crate) mod finding;
pub(crate) mod standing;
