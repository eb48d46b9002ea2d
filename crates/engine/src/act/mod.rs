//! What is done about findings: the outbox, what would be sent, and sending it.

pub(crate) mod approve;
pub(crate) mod as_told;
pub(crate) mod brake;
pub(crate) mod bundles;
mod carriers;
pub(crate) mod compose;
pub(crate) mod journal;
pub(crate) mod letter;
pub(crate) mod outbox;
pub(crate) mod plan;
pub(crate) mod records;
pub(crate) mod send;
pub(crate) mod templates;
