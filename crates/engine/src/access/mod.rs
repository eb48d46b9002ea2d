//! Who loses access, since when, and why.

pub(crate) mod losses;
