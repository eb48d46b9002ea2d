//! Answers about devices, people, baselines and lists, ready for any output.

pub(crate) mod baseline;
pub(crate) mod baselines;
pub(crate) mod calendar;
pub(crate) mod controls;
pub(crate) mod device;
pub(crate) mod disagreements;
pub(crate) mod figures;
pub(crate) mod group;
pub(crate) mod history;
pub(crate) mod list;
pub(crate) mod person;
pub(crate) mod reach;
pub(crate) mod report;
pub(crate) mod rule;
pub(crate) mod service;
pub(crate) mod shown;
pub(crate) mod since;
pub(crate) mod tried;
pub(crate) mod verdicts;
