//! The workspace: its files, compiled; its earlier versions; its ledger, opened for what a command does with it.

pub(crate) mod definition_changes;
pub(crate) mod file_edit;
pub(crate) mod files;
pub(crate) mod gates;
pub(crate) mod ledger;
pub(crate) mod privacy;
pub(crate) mod project;
pub(crate) mod versions;
