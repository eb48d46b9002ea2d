//! The file that a report is written to: whole or not at all.

use std::fs::{self, File};
use std::path::{Path, PathBuf};

use crate::error::CommandError;

/// A file that may be written.
pub struct Target {
    path: PathBuf,
    /// What is there may be replaced.
    force: bool,
}

impl Target {
    /// Refuses what cannot be written, or is not to be.
    pub fn new(path: &Path, force: bool) -> Result<Self, CommandError> {
        let named = path.display();
        match fs::symlink_metadata(path) {
            Ok(found) if found.is_dir() => {
                return Err(CommandError::usage(format!("{named} is a folder"), "name a file in it"));
            }
            Ok(_) if !force => {
                let help = "name another file, or replace it with --force";
                return Err(CommandError::usage(format!("{named} exists"), help));
            }
            Ok(_) | Err(_) => {}
        }
        let target = Self { path: path.to_owned(), force };
        if !target.folder().is_dir() {
            let folder = target.folder().display().to_string();
            return Err(CommandError::usage(format!("there is no folder {folder}"), "make it first"));
        }
        Ok(target)
    }

    /// The path as it was named.
    pub fn path(&self) -> &Path {
        &self.path
    }

    fn folder(&self) -> &Path {
        self.path.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."))
    }

    /// Writes the file: what was there stays until all of it is written.
    pub fn write(&self, write: impl FnOnce(File) -> Result<(), CommandError>) -> Result<(), CommandError> {
        let mut builder = tempfile::Builder::new();
        builder.prefix(".fencepost-report-");
        #[cfg(unix)]
        {
            use std::os::unix::fs::PermissionsExt as _;
            // As open as what is written there otherwise; the process's mask takes from it.
            builder.permissions(fs::Permissions::from_mode(0o666));
        }
        let file = builder.tempfile_in(self.folder())?;
        write(file.as_file().try_clone()?)?;
        file.as_file().sync_all()?;
        match self.force {
            true => file.persist(&self.path).map_err(|error| error.error)?,
            false => file.persist_noclobber(&self.path).map_err(|error| error.error)?,
        };
        Ok(())
    }
}
