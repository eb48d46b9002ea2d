//! What can go wrong in a command, and the one place that turns it into words and an exit code.

use std::io;
use std::process::ExitCode;

use fencepost_core::Diagnostic;
use fencepost_engine::{EngineError, ProjectError, SpoolError};
use fencepost_formats::FileText;
use fencepost_store::LedgerError;

use crate::ui::Ui;
use crate::view::diagnostics;

/// Exit code of usage and workspace errors.
pub const USAGE: u8 = 2;
/// Exit code when the ledger could not be read or written, or the output not written.
pub const LEDGER: u8 = 4;

#[derive(Debug)]
pub enum CommandError {
    /// What was asked for cannot be done.
    Usage { message: String, help: Option<String> },
    /// There are mistakes in files, or in an expression that stands in for one.
    Mistakes { files: Vec<FileText>, mistakes: Vec<Diagnostic> },
    /// A use case failed.
    Engine(EngineError),
    /// The output could not be written.
    Output(io::Error),
}

impl CommandError {
    pub fn usage(message: impl Into<String>, help: impl Into<String>) -> Self {
        Self::Usage { message: message.into(), help: Some(help.into()) }
    }

    /// Says what went wrong and returns the exit code.
    pub fn report(self, ui: &mut Ui) -> ExitCode {
        let (message, help, code) = match self {
            // A reader that has seen enough is no error.
            Self::Output(error) if error.kind() == io::ErrorKind::BrokenPipe => return ExitCode::SUCCESS,
            Self::Output(error) => (format!("could not write the output: {error}"), None, LEDGER),
            Self::Usage { message, help } => (message, help, USAGE),
            Self::Mistakes { files, mistakes } => {
                let errors = diagnostics::print(ui, &files, &mistakes);
                let noun = if errors == 1 { "mistake" } else { "mistakes" };
                (format!("{errors} {noun} in the workspace; nothing was done"), None, USAGE)
            }
            Self::Engine(EngineError::Output(error)) if error.kind() == io::ErrorKind::BrokenPipe => {
                return ExitCode::SUCCESS;
            }
            Self::Engine(error) => {
                let code = match &error {
                    EngineError::Output(_) | EngineError::TemporaryFile(_) => LEDGER,
                    EngineError::Ledger(LedgerError::Missing { .. })
                    | EngineError::Refused { .. }
                    | EngineError::FileRefused { .. }
                    | EngineError::File { .. } => USAGE,
                    EngineError::Ledger(_) => LEDGER,
                };
                (error.to_string(), error.help().map(str::to_owned), code)
            }
        };
        ui.error(&message, help.as_deref());
        ExitCode::from(code)
    }
}

impl From<io::Error> for CommandError {
    fn from(error: io::Error) -> Self {
        Self::Output(error)
    }
}

impl From<SpoolError> for CommandError {
    fn from(error: SpoolError) -> Self {
        EngineError::from(error).into()
    }
}

impl From<EngineError> for CommandError {
    fn from(error: EngineError) -> Self {
        Self::Engine(error)
    }
}

impl From<LedgerError> for CommandError {
    fn from(error: LedgerError) -> Self {
        Self::Engine(EngineError::Ledger(error))
    }
}

impl From<ProjectError> for CommandError {
    fn from(error: ProjectError) -> Self {
        match error {
            ProjectError::NotFound { from } => Self::usage(
                format!("there is no workspace in {} or above it", from.display()),
                "make one with: fencepost init, look at one with: fencepost demo, or name one with --workspace DIR",
            ),
            ProjectError::Read(error) => {
                Self::Usage { message: format!("could not read the workspace: {error}"), help: None }
            }
            ProjectError::Mistakes { files, mistakes } => Self::Mistakes { files, mistakes },
        }
    }
}
