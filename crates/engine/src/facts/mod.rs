//! The facts of a device, from the documents that sources said of it, and what the rules say of them.

pub(crate) mod documents;
pub(crate) mod judge;
pub(crate) mod nested;
pub(crate) mod people;
