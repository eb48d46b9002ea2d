//! Conditions: a documented subset of FEEL, the expression language of OMG's DMN standard (1.5).
//!
//! Stages, each with its own type: text -> [`lexer`] -> [`syntax`] tree ([`parser`]) -> compiled
//! [`Condition`] ([`check`]) -> value and evidence ([`eval`]). Mistakes of every stage are
//! [`Diagnostic`](crate::Diagnostic)s with offsets in the text.
//!
//! The deliberate difference to the standard: whatever is computed from a fact that was not collected,
//! is too old or of the wrong type stays *unknown*, and neither passes nor fails.

mod bounds;
mod budget;
mod check;
mod compiled;
pub(crate) mod deadlines;
mod eval;
pub(crate) mod evidence;
mod evidence_summary;
mod fast_predicate;
mod functions;
mod implies;
mod lexer;
mod operate;
mod parser;
mod print;
mod requirement;
mod syntax;
#[cfg(test)]
mod tests;
mod types;
mod uses;
mod words;

pub use check::{Place, Vocabulary};
pub use compiled::Condition;
pub use eval::{Ambient, Evaluator};
pub(crate) use implies::Threshold;
pub(crate) use lexer::condition_words;
pub(crate) use parser::is_reserved;
pub(crate) use requirement::{Part, Requirement};
pub(crate) use uses::Uses;
