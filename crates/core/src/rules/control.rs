//! Controls: clauses of laws, norms and contracts that rules answer for.

use crate::diagnostic::Named;

/// A clause.
#[derive(Clone, Debug)]
pub struct Control {
    /// How rules name it.
    pub clause: Named,
    /// What it asks for.
    pub title: Option<String>,
    /// Who or what answers for it, where no rule can.
    pub elsewhere: Option<String>,
}
