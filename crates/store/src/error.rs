//! What can go wrong with a ledger, and what a person can do about it.

use std::io;
use std::path::{Path, PathBuf};

use rusqlite::{ErrorCode, ffi};

use crate::page_checks;

/// Why a ledger could not be read or written.
#[derive(Debug, thiserror::Error)]
pub enum LedgerError {
    /// There is none.
    #[error("there is no ledger at {path}", path = .path.display())]
    Missing {
        /// Where it should be.
        path: PathBuf,
    },
    /// The file holds nothing.
    #[error("the ledger at {path} is an empty file", path = .path.display())]
    Empty {
        /// Where it lies.
        path: PathBuf,
    },
    /// The file is no ledger.
    #[error("{path} is not a ledger of this program", path = .path.display())]
    Foreign {
        /// Where it lies.
        path: PathBuf,
    },
    /// Another process writes.
    #[error("the ledger at {path} is in use{holder}", path = .path.display())]
    Busy {
        /// The ledger.
        path: PathBuf,
        /// Who holds it, from a space on; empty when nobody knows.
        holder: String,
    },
    /// A newer version of the program wrote it.
    #[error("the ledger at {path} was written by a newer version (format {found}, this one knows {known})", path = .path.display())]
    Newer {
        /// The ledger.
        path: PathBuf,
        /// Its format.
        found: i64,
        /// The newest format this program knows.
        known: i64,
    },
    /// Nothing can be written where it lies.
    #[error("the ledger at {path} can only be read, not written", path = .path.display())]
    ReadOnly {
        /// The ledger.
        path: PathBuf,
    },
    /// The disk is full.
    #[error("the disk is full: could not {act} the ledger at {path}; nothing was changed", path = .path.display())]
    Full {
        /// What was being done.
        act: &'static str,
        /// The ledger.
        path: PathBuf,
    },
    /// The system did not let a file grow or change.
    #[error("could not write the ledger at {path}: the system refused it, because of a limit on the size of files, a quota, or a failing disk; nothing was changed", path = .path.display())]
    Unwritten {
        /// The ledger.
        path: PathBuf,
    },
    /// The file system refused it.
    #[error("could not {act} the ledger at {path}: {error}", path = .path.display())]
    Files {
        /// What was being done.
        act: &'static str,
        /// The ledger.
        path: PathBuf,
        /// What the system said.
        error: io::Error,
    },
    /// SQLite refused it.
    #[error("could not {act} the ledger at {path}: {error}", path = .path.display())]
    Database {
        /// What was being done.
        act: &'static str,
        /// The ledger.
        path: PathBuf,
        /// What SQLite said.
        error: rusqlite::Error,
    },
    /// Something in it is not as this program writes it.
    #[error("the ledger at {path} is damaged: {what}", path = .path.display())]
    Damaged {
        /// The ledger.
        path: PathBuf,
        /// What is wrong.
        what: String,
    },
}

impl LedgerError {
    /// Turns an error of SQLite into what a person can act on.
    pub(crate) fn from_sqlite(act: &'static str, path: &Path, error: rusqlite::Error) -> Self {
        let path = path.to_owned();
        match error.sqlite_error_code() {
            Some(ErrorCode::DatabaseBusy | ErrorCode::DatabaseLocked) => {
                let holder = std::fs::read_to_string(holder_file(&path))
                    .map(|text| format!(" by {}", text.trim()))
                    .unwrap_or_default();
                Self::Busy { path, holder }
            }
            Some(ErrorCode::ReadOnly | ErrorCode::CannotOpen) => Self::ReadOnly { path },
            Some(ErrorCode::DiskFull) => Self::Full { act, path },
            Some(ErrorCode::SystemIoFailure)
                if error.sqlite_error().is_some_and(|error| error.extended_code == ffi::SQLITE_IOERR_DATA) =>
            {
                let what = format!("page {} is not as it was written", page_checks::last_changed_page());
                Self::Damaged { path, what }
            }
            Some(ErrorCode::SystemIoFailure)
                if error.sqlite_error().is_some_and(|error| is_write(error.extended_code)) =>
            {
                Self::Unwritten { path }
            }
            Some(ErrorCode::NotADatabase) => Self::Foreign { path },
            Some(ErrorCode::DatabaseCorrupt) => Self::Damaged { path, what: error.to_string() },
            _ => Self::Database { act, path, error },
        }
    }

    /// Returns what a person can do about it.
    pub fn help(&self) -> &'static str {
        match self {
            Self::Missing { .. } => "bring state in first: fencepost import FILE",
            Self::Busy { .. } => "wait until it is done, or give --wait a longer time",
            Self::ReadOnly { .. } => "copy the workspace to a folder that you may write, or have it made writable",
            Self::Newer { .. } => "use the newer version; the ledger was not touched",
            Self::Unwritten { .. } => "raise the limit (ulimit -f), make room, and run the command again",
            Self::Full { .. } => "make room on the disk and run the command again",
            Self::Files { .. } | Self::Database { .. } => {
                "check that the folder .fencepost may be read and written by you, and that the disk works"
            }
            Self::Empty { .. } | Self::Foreign { .. } => {
                "nothing was changed; put a copy of the ledger there, or take the file away to begin with a new one"
            }
            Self::Damaged { .. } => "restore the folder .fencepost from a copy, or set it aside and import again",
        }
    }
}

/// Whether an extended code of SQLite says that writing, syncing or shortening a file failed.
fn is_write(code: i32) -> bool {
    matches!(
        code,
        ffi::SQLITE_IOERR_WRITE
            | ffi::SQLITE_IOERR_FSYNC
            | ffi::SQLITE_IOERR_DIR_FSYNC
            | ffi::SQLITE_IOERR_TRUNCATE
            | ffi::SQLITE_IOERR_SHMSIZE
            | ffi::SQLITE_IOERR_SHMOPEN
    )
}

/// Where the process that writes leaves its name.
pub(crate) fn holder_file(ledger: &Path) -> PathBuf {
    ledger.with_extension("writer")
}

/// Says what was being done when SQLite failed.
pub(crate) fn doing(act: &'static str, path: &Path) -> impl Fn(rusqlite::Error) -> LedgerError + use<> {
    let path = path.to_owned();
    move |error| LedgerError::from_sqlite(act, &path, error)
}
