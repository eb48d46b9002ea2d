//! Drafts: sources and dictionaries of unknown files, and baselines derived from devices.

pub(crate) mod derive;
pub(crate) mod sources;
