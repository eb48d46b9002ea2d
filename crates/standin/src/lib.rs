//! The outside world of Fence Post, simulated: the demo's ferry company with its feeds and its fourteen days,
//! and a generator of fleets of any size. Everything is made up, and the same on every machine and every day.
//!
//! Nothing of the product needs anything here.

mod demo;
mod fleet;
mod json;
mod random;
pub mod services;

pub use demo::{Day, FeedFile, LAST_COMMAND, days, workspace_files};
pub use fleet::{fleet_document, write_fleet};
