//! The fleet: people who hold devices, groups of devices and people, and devices that were retired or renamed.

pub(crate) mod group;
pub(crate) mod lifecycles;
pub(crate) mod people;
