//! Secrets that channels need: read from the environment or a file, never printed.

use std::fmt;
use std::fs;
use std::path::Path;

/// A secret; its debug form hides it.
#[derive(Clone, PartialEq, Eq)]
pub struct Secret(String);

impl Secret {
    /// Returns the secret itself.
    pub(crate) fn reveal(&self) -> &str {
        &self.0
    }
}

impl fmt::Debug for Secret {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("(a secret)")
    }
}

/// A secret that was read, with what there is to be said of its place.
#[derive(Clone, Debug)]
pub struct ReadSecret {
    /// The secret.
    pub secret: Secret,
    /// Whether others than its owner can read the file.
    pub is_exposed: bool,
}

/// Reads a secret from a variable of the environment.
///
/// # Errors
/// Says in words why it cannot be had.
pub fn secret_of_environment(name: &str) -> Result<ReadSecret, String> {
    match std::env::var(name) {
        Ok(text) => checked(&text).map(|secret| ReadSecret { secret, is_exposed: false }),
        Err(_) => Err(format!("the variable {name} is not set")),
    }
}

/// Reads a secret from the first line of a file.
///
/// # Errors
/// Says in words why it cannot be had.
pub fn secret_of_file(path: &Path) -> Result<ReadSecret, String> {
    const MOST_BYTES: u64 = 64 << 10;
    let failed = |error: std::io::Error| format!("{}: {error}", path.display());
    let meta = fs::metadata(path).map_err(failed)?;
    if !meta.is_file() || meta.len() > MOST_BYTES {
        return Err(format!("{} is no file that holds a secret", path.display()));
    }
    let text = fs::read_to_string(path).map_err(failed)?;
    let secret = checked(text.lines().next().unwrap_or_default())?;
    #[cfg(unix)]
    let is_exposed = {
        use std::os::unix::fs::PermissionsExt;
        meta.permissions().mode() & 0o077 != 0
    };
    #[cfg(not(unix))]
    let is_exposed = false;
    Ok(ReadSecret { secret, is_exposed })
}

/// A secret goes into headers, so that it is printable and one line.
fn checked(text: &str) -> Result<Secret, String> {
    let text = text.trim_end_matches(['\r', '\n']);
    match text.is_empty() || text.chars().any(char::is_control) {
        true => Err("the secret is empty, or has characters that no secret has".to_owned()),
        false => Ok(Secret(text.to_owned())),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_secret_is_read_from_the_first_line_and_never_shown() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("token");
        fs::write(&path, "s3cret\r\nmore\n").unwrap();
        let read = secret_of_file(&path).unwrap();
        assert_eq!((read.secret.reveal(), format!("{:?}", read.secret)), ("s3cret", "(a secret)".to_owned()));
        #[cfg(unix)]
        {
            use std::os::unix::fs::PermissionsExt;
            for (mode, is_exposed) in [(0o600, false), (0o640, true), (0o604, true)] {
                fs::set_permissions(&path, fs::Permissions::from_mode(mode)).unwrap();
                assert_eq!(secret_of_file(&path).unwrap().is_exposed, is_exposed, "{mode:o}");
            }
        }
        fs::write(&path, "\n").unwrap();
        assert!(secret_of_file(&path).is_err());
        assert!(secret_of_file(folder.path()).is_err());
        assert!(secret_of_environment("FENCEPOST_NO_SUCH_VARIABLE").unwrap_err().contains("not set"));
    }
}
