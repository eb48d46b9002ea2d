//! Errors about what the ledger keeps and this program cannot read.

use fencepost_store::LedgerError;

use crate::error::escaped;
use crate::workspace::project::Project;

/// Says that something the ledger keeps of a device is not as this program writes it.
pub(crate) fn unreadable(project: &Project, device: &str, what: &str) -> LedgerError {
    LedgerError::Damaged {
        path: project.ledger_path(),
        what: format!("{what} of `{}` cannot be read", escaped(device)),
    }
}

/// Says that a document of a device cannot be read.
pub(crate) fn damaged(project: &Project, device: &str, message: &str) -> LedgerError {
    LedgerError::Damaged {
        path: project.ledger_path(),
        what: format!("a document of `{}`: {message}", escaped(device)),
    }
}

/// What of a run does not fit: what it came to.
pub(crate) fn unreadable_summary(project: &Project, run: i64) -> LedgerError {
    LedgerError::Damaged { path: project.ledger_path(), what: format!("the summary of run {run}") }
}
