//! What edited rules would change, what time will, and mistakes before they do harm.

pub(crate) mod access_flips;
mod by_hand;
pub(crate) mod examples;
pub(crate) mod forecast;
pub(crate) mod preview;
pub(crate) mod saved;
pub(crate) mod vet;
pub(crate) mod vet_drift;
mod vet_responses;
pub(crate) mod waive;
