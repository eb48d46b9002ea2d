//! Writes a workspace file that was edited, whole or not at all.

use std::fs;
use std::io::{self, Write as _};
use std::path::Path;

use crate::error::EngineError;

/// A workspace file before and after an edit.
pub(crate) struct FileEdit<'e> {
    /// Its name in the workspace.
    pub name: &'e str,
    /// What it held when it was read; nothing where it was not there.
    pub before: &'e str,
    /// What it is to hold.
    pub after: &'e str,
}

impl FileEdit<'_> {
    /// Writes the file.
    ///
    /// # Errors
    /// When somebody else has edited it since it was read, or it cannot be written.
    pub(crate) fn write(&self, root: &Path) -> Result<(), EngineError> {
        let path = root.join(self.name);
        let failed = |error| EngineError::File { act: "write", path: path.clone(), error };
        let there = match fs::read_to_string(&path) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => String::new(),
            read => read.map_err(failed)?,
        };
        if there != self.before {
            return Err(EngineError::refused(
                format!("{} was edited in the meantime", self.name),
                "run the command again",
            ));
        }
        let mut file = tempfile::NamedTempFile::new_in(root).map_err(failed)?;
        // Who may read the file may read it afterwards.
        if let Ok(known) = fs::metadata(&path) {
            file.as_file().set_permissions(known.permissions()).map_err(failed)?;
        }
        file.write_all(self.after.as_bytes()).and_then(|()| file.as_file().sync_all()).map_err(failed)?;
        file.persist(&path).map(drop).map_err(|error| failed(error.error))
    }
}
