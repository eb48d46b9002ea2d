//! Findings: rules that fail on a device over time, and the standing that follows from them.

pub(crate) mod clock;
pub(crate) mod event;
pub(crate) mod finding;
pub(crate) mod outbox;
pub(crate) mod response;
pub(crate) mod standing;
#[cfg(test)]
mod story;
mod waived;
pub(crate) mod waiver;
