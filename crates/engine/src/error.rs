//! What can go wrong in a use case.

use std::io;
use std::path::PathBuf;

use fencepost_core::limits::QUOTED_CHARS;
use fencepost_formats::FileError;
use fencepost_spool::SpoolError;
use fencepost_store::LedgerError;

/// Why a use case could not be carried out.
#[derive(Debug, thiserror::Error)]
pub enum EngineError {
    /// The ledger could not be read or written.
    #[error(transparent)]
    Ledger(#[from] LedgerError),
    /// A file of the user's could not be read or written.
    #[error("could not {act} {path}: {error}", path = .path.display())]
    File {
        /// What was being done.
        act: &'static str,
        /// The file.
        path: PathBuf,
        /// What the system said.
        error: io::Error,
    },
    /// The output could not be written.
    #[error("could not write the output: {0}")]
    Output(io::Error),
    /// A list that is too long for memory could not be put into a temporary file.
    #[error(transparent)]
    TemporaryFile(#[from] SpoolError),
    /// A file cannot be taken as a whole.
    #[error("{path}: {error}")]
    FileRefused {
        /// Its path, as shown.
        path: String,
        /// What is wrong with it.
        error: FileError,
    },
    /// What was asked for cannot be done; the help says what can.
    #[error("{message}")]
    Refused {
        /// What is wrong.
        message: String,
        /// What to do instead.
        help: String,
    },
}

impl EngineError {
    pub(crate) fn refused(message: impl Into<String>, help: impl Into<String>) -> Self {
        Self::Refused { message: message.into(), help: help.into() }
    }

    /// Creates the error for an id that no thing of a kind has, with the nearest that one has.
    pub(crate) fn no_such<'k>(what: &str, id: &str, known: impl Iterator<Item = &'k str>) -> Self {
        let known: Vec<&str> = known.collect();
        let help = fencepost_core::did_you_mean(id, known.iter().copied(), || {
            format!("see all of them with: fencepost list {what}s")
        });
        Self::refused(format!("there is no {what} `{}`", escaped(id)), help)
    }

    /// Returns what a person can do about it.
    pub fn help(&self) -> Option<&str> {
        match self {
            Self::Ledger(error) => Some(error.help()),
            Self::File { .. } | Self::Output(_) => None,
            Self::TemporaryFile(_) => Some("name a folder with room in the environment variable TMPDIR"),
            Self::FileRefused { .. } => Some("nothing of this file was imported"),
            Self::Refused { help, .. } => Some(help),
        }
    }
}

/// Device text inside a message, cut short and without control characters.
pub(crate) fn escaped(text: &str) -> String {
    text.chars()
        .take(QUOTED_CHARS)
        .flat_map(|c| if c.is_control() { c.escape_default().collect::<Vec<_>>() } else { vec![c] })
        .collect()
}
