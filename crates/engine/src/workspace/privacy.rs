//! The files of a workspace that only their owner may read: the ledger with SQLite's files beside it, the key, and their folder.

use std::fs;
use std::path::PathBuf;

use crate::error::EngineError;
use crate::workspace::project::Project;

/// The bits of a mode by which others than the owner may do anything.
#[cfg(unix)]
const OTHERS: u32 = 0o077;

impl Project {
    /// Returns which private files others than their owner may read or write.
    pub fn exposed_files(&self) -> Vec<PathBuf> {
        #[cfg(unix)]
        {
            use std::os::unix::fs::PermissionsExt;
            let ledger = self.ledger_path();
            let beside = |ending: &str| {
                let mut name = ledger.as_os_str().to_owned();
                name.push(ending);
                PathBuf::from(name)
            };
            let folder = ledger.parent().map(PathBuf::from);
            let files = [ledger.clone(), beside("-wal"), beside("-shm"), ledger.with_file_name("key")];
            let is_exposed =
                |path: &PathBuf| fs::metadata(path).is_ok_and(|meta| meta.permissions().mode() & OTHERS != 0);
            folder.into_iter().chain(files).filter(is_exposed).collect()
        }
        #[cfg(not(unix))]
        Vec::new()
    }

    /// Takes from everybody but the owner what they may do with private files; returns with which ones that was so.
    ///
    /// # Errors
    /// Fails if a mode cannot be changed, as of a file that belongs to somebody else.
    pub fn close_exposed_files(&self) -> Result<Vec<PathBuf>, EngineError> {
        let exposed = self.exposed_files();
        #[cfg(unix)]
        for path in &exposed {
            use std::os::unix::fs::PermissionsExt;
            let failed = |error| EngineError::File { act: "close to others", path: path.clone(), error };
            let mode = fs::metadata(path).map_err(failed)?.permissions().mode();
            fs::set_permissions(path, fs::Permissions::from_mode(mode & !OTHERS)).map_err(failed)?;
        }
        Ok(exposed)
    }
}
