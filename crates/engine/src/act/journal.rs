//! The journal of what was begun to be sent: a file beside the ledger to which each action is added before it goes out. It is not
//! part of the ledger, so that a ledger that was brought back from a backup does not send again what went out since.

use std::collections::BTreeMap;
use std::fs::{self, File, OpenOptions, TryLockError};
use std::io::{self, BufRead as _, BufReader, Write as _};
use std::path::{Path, PathBuf};

use fencepost_core::ActionId;
use jiff::Timestamp;

use crate::error::EngineError;
use crate::workspace::project::Project;

const NAME: &str = "sent.journal";
const LOCK: &str = "send.lock";

/// The actions that were begun, by the journal.
#[derive(Debug, Default)]
pub(crate) struct SentJournal {
    actions: BTreeMap<ActionId, Timestamp>,
}

impl SentJournal {
    /// Reads the journal of a workspace; empty where there is none.
    ///
    /// # Errors
    /// When it cannot be read.
    pub(crate) fn read(project: &Project) -> Result<Self, EngineError> {
        let path = path_of(project);
        let failed = |error| EngineError::File { act: "read", path: path.clone(), error };
        let file = match File::open(&path) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Self::default()),
            other => other.map_err(failed)?,
        };
        let mut actions = BTreeMap::new();
        for line in BufReader::new(file).split(b'\n') {
            // A line that was cut off was not yet whole when its delivery would have begun.
            let line = line.map_err(failed)?;
            actions.extend(std::str::from_utf8(&line).ok().and_then(entry_of));
        }
        Ok(Self { actions })
    }

    /// Returns the actions with when they were begun.
    pub(crate) fn actions(&self) -> impl Iterator<Item = (ActionId, Timestamp)> {
        self.actions.iter().map(|(action, at)| (*action, *at))
    }
}

/// A line of the journal: the action, a space, and the moment.
fn entry_of(line: &str) -> Option<(ActionId, Timestamp)> {
    let (action, at) = line.split_once(' ')?;
    let number = u64::from_str_radix(action, 16).ok().filter(|_| action.len() == 16)?;
    Some((ActionId::of_number(number), at.parse().ok()?))
}

fn path_of(project: &Project) -> PathBuf {
    project.ledger_path().with_file_name(NAME)
}

/// The one process that sends, and the journal that it writes. Nobody else sends before it is dropped.
#[derive(Debug)]
pub(crate) struct Sender {
    journal: File,
    path: PathBuf,
    _lock: File,
}

impl Sender {
    /// Becomes the one that sends for a workspace.
    ///
    /// # Errors
    /// When another process sends, or the files beside the ledger cannot be written.
    pub(crate) fn begin(project: &Project) -> Result<Self, EngineError> {
        let path = path_of(project);
        let lock_path = path.with_file_name(LOCK);
        let failed = |path: &Path| {
            let path = path.to_owned();
            move |error| EngineError::File { act: "write", path, error }
        };
        let lock = private(&lock_path).map_err(failed(&lock_path))?;
        match lock.try_lock() {
            Ok(()) => {}
            Err(TryLockError::WouldBlock) => {
                return Err(EngineError::refused(
                    "another process is sending for this workspace",
                    "wait until it is done; what it sent is in: fencepost list deliveries",
                ));
            }
            Err(TryLockError::Error(error)) => return Err(failed(&lock_path)(error)),
        }
        let mut journal = private(&path).map_err(failed(&path))?;
        // A line that was cut off is ended, so that the next one is a line of its own.
        if fs::metadata(&path).is_ok_and(|meta| meta.len() > 0) {
            journal.write_all(b"\n").map_err(failed(&path))?;
        }
        Ok(Self { journal, path, _lock: lock })
    }

    /// Notes that actions are about to go out; they are on disk when this returns.
    ///
    /// # Errors
    /// When the journal cannot be written; then nothing must go out.
    pub(crate) fn note(&mut self, actions: impl Iterator<Item = ActionId>, at: Timestamp) -> Result<(), EngineError> {
        let lines: String = actions.map(|action| format!("{action} {at}\n")).collect();
        let written = self.journal.write_all(lines.as_bytes()).and_then(|()| self.journal.sync_data());
        written.map_err(|error| EngineError::File { act: "write", path: self.path.clone(), error })
    }
}

/// Returns whether a process sends for a workspace at this moment.
pub(crate) fn is_sending(project: &Project) -> bool {
    let lock = File::open(path_of(project).with_file_name(LOCK));
    lock.is_ok_and(|lock| matches!(lock.try_lock(), Err(TryLockError::WouldBlock)))
}

/// Opens a file for adding to its end, readable by its owner alone.
fn private(path: &Path) -> io::Result<File> {
    let mut options = OpenOptions::new();
    options.append(true).create(true);
    #[cfg(unix)]
    {
        use std::os::unix::fs::OpenOptionsExt;
        options.mode(0o600);
    }
    options.open(path)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_whole_lines_of_the_journal_count() {
        let at = "2027-03-14T06:00:00Z";
        assert_eq!(entry_of(&format!("00000000000000ff {at}")), Some((ActionId::of_number(255), at.parse().unwrap())));
        for line in
            ["", "00000000000000ff", "ff 2027-03-14T06:00:00Z", "00000000000000ff 2027-03-14T06", "00000000000000ff "]
        {
            assert_eq!(entry_of(line), None, "{line}");
        }
    }
}
