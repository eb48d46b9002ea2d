//! The use cases on a small fleet, through the engine alone: what is admitted, what is told of it, and what follows.

mod access;
mod answers;
mod bench;
mod change;
mod draft;
mod drift;
mod drilling;
mod findings;
mod import;
mod lifecycles;
mod lists;
mod model;
mod stateless;
mod waivers;
