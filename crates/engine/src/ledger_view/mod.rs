//! The ledger as of a moment, and how what it keeps is written and read.

pub(crate) mod batch;
pub(crate) mod codec;
pub(crate) mod damage;
pub(crate) mod device_facts;
pub(crate) mod event;
pub(crate) mod fence;
pub(crate) mod outcome;
pub(crate) mod packed_findings;
pub(crate) mod reading;
pub(crate) mod renames;
pub(crate) mod survey;
pub(crate) mod trim;
pub(crate) mod verify;
