//! Access: services, the rules about who reaches them, and the decision for one attempt.
//!
//! Every enforced access rule that targets the service and the person, and whose `when` holds and `unless`
//! does not, yields permit, permit with obligations, or deny. Deny overrides, obligations add up, and where
//! no rule applies the service's default holds. What is unknown never permits access.

pub(crate) mod cause;
pub(crate) mod decision;
pub(crate) mod service;
pub(crate) mod terms;
