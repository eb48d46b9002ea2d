//! Compares devices that ought to be alike: sets of them, wholes made of them, groups, numbers.

mod assembly;
mod baseline;
pub(crate) mod contrast;
pub(crate) mod drift;
mod load;
pub(crate) mod members;
pub(crate) mod outliers;
mod past;
mod reference;
pub(crate) mod results;
pub(crate) mod view;
