//! Answers about devices, people, baselines and lists, ready for any output.

pub(crate) mod baseline;
pub(crate) mod device;
pub(crate) mod figures;
pub(crate) mod history;
pub(crate) mod list;
pub(crate) mod person;
pub(crate) mod reach;
pub(crate) mod tried;
