//! What edited rules would change, and mistakes before they bite.

mod by_hand;
pub(crate) mod examples;
pub(crate) mod preview;
pub(crate) mod vet;
