//! Documents of the ledger, put together, and the key of its secrets.

use std::fs::{self, OpenOptions};
use std::io::{self, Write as _};
use std::path::Path;

use bumpalo::Bump;
use fencepost_core::{DeviceLife, Dictionary, Layout, LifeStatement, PathWords};
use fencepost_formats::{DocumentSplitter, RawDocument, SecretKey, Source, assemble, assemble_in};
use fencepost_store::{LedgerError, StoredObservation, Writer};
use jiff::Timestamp;
use serde_json::json;

use crate::error::EngineError;
use crate::workspace::project::Project;

/// What a source said of a device.
#[derive(Clone, Debug, PartialEq)]
pub struct Document {
    /// The source's id.
    pub source: String,
    /// When it was collected.
    pub collected: Timestamp,
    /// The document, as JSON; of an earlier one volatile facts may be left out, for readers of stored documents.
    pub json: Vec<u8>,
}

impl Document {
    pub(crate) fn of(device: &str, stored: StoredObservation) -> Self {
        let json = assemble(&stored.body, device, stored.collected, stored.volatile_parts.as_deref());
        Self { source: stored.source, collected: stored.collected, json }
    }
}

impl Project {
    /// Puts what the ledger holds of a device together: what speaks for its life at a moment.
    pub(crate) fn documents(&self, device: &str, stored: Vec<StoredObservation>, at: Timestamp) -> Vec<Document> {
        let life = self.life_of(device, stored.iter().map(|said| (said.source.as_str(), said.collected)), at);
        let of_this_life = stored.into_iter().filter(|said| life.includes(said.collected));
        of_this_life.map(|said| Document::of(device, said)).collect()
    }

    /// Returns which of the current statements about a device, each a source and when it was collected, speak for its life at a moment.
    pub(crate) fn life_of<'s>(
        &self,
        device: &str,
        current: impl Iterator<Item = (&'s str, Timestamp)>,
        at: Timestamp,
    ) -> DeviceLife {
        let trust = |source| self.sources.get(source).map_or(0, |known: &Source| known.trust);
        let said = current.map(|(source, collected)| LifeStatement { trust: trust(source), collected });
        self.lifecycles.life_of(device, said, at)
    }

    fn key_path(&self) -> std::path::PathBuf {
        self.ledger_path().with_file_name("key")
    }

    /// Returns the key of the workspace's secrets, made when there is none.
    ///
    /// # Errors
    /// When it can be neither read nor made.
    pub(crate) fn secret_key(&self) -> Result<SecretKey, EngineError> {
        let path = self.key_path();
        if let Some(key) = self.known_key()? {
            return Ok(key);
        }
        let key = random_key()?;
        let text: String = key.iter().map(|byte| format!("{byte:02x}")).collect();
        match write_private(&path, &text) {
            Ok(()) => Ok(SecretKey::new(key)),
            // Another process was here first; its key is the workspace's.
            Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {
                self.known_key()?.ok_or_else(|| EngineError::File { act: "read", path, error })
            }
            Err(error) => Err(EngineError::File { act: "make", path, error }),
        }
    }

    /// Returns the key of the workspace's secrets, or where there is none one that is forgotten with the process.
    ///
    /// # Errors
    /// When it cannot be read.
    pub(crate) fn key_for_reading(&self) -> Result<SecretKey, EngineError> {
        self.known_key()?.map_or_else(|| random_key().map(SecretKey::new), Ok)
    }

    pub(crate) fn known_key(&self) -> Result<Option<SecretKey>, EngineError> {
        let path = self.key_path();
        let text = match fs::read_to_string(&path) {
            Ok(text) => text,
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(None),
            Err(error) => return Err(EngineError::File { act: "read", path, error }),
        };
        let text = text.trim();
        let byte = |at: usize| u8::from_str_radix(text.get(2 * at..2 * at + 2)?, 16).ok();
        let bytes: Option<Vec<u8>> = (text.len() == 64).then(|| (0..32).map(byte).collect()).flatten();
        match bytes.and_then(|bytes| <[u8; 32]>::try_from(bytes).ok()) {
            Some(bytes) => Ok(Some(SecretKey::new(bytes))),
            None => Err(EngineError::refused(
                format!("{} is no key: it holds 64 hexadecimal digits", path.display()),
                "put the right one back; without it, secrets that are stored can no longer be compared with new ones: remove the file to go on with a new key",
            )),
        }
    }
}

fn random_key() -> Result<[u8; 32], EngineError> {
    let mut key = [0; 32];
    getrandom::fill(&mut key)
        .map_err(|error| EngineError::refused(format!("the system gives no random key: {error}"), "try again"))?;
    Ok(key)
}

/// Writes a file that only its owner may read; it is there whole, or not at all.
fn write_private(path: &Path, text: &str) -> io::Result<()> {
    let mut suffix = [0; 8];
    getrandom::fill(&mut suffix).map_err(io::Error::other)?;
    let beside = path.with_extension(format!("{:016x}", u64::from_le_bytes(suffix)));
    let mut options = OpenOptions::new();
    options.write(true).create_new(true);
    #[cfg(unix)]
    {
        use std::os::unix::fs::OpenOptionsExt;
        options.mode(0o600);
    }
    let written = options.open(&beside)?.write_all(format!("{text}\n").as_bytes());
    let named = written.and_then(|()| match fs::hard_link(&beside, path) {
        // Not every file system has links.
        Err(error) if error.kind() != io::ErrorKind::AlreadyExists && !path.exists() => fs::rename(&beside, path),
        linked => linked,
    });
    let _ = fs::remove_file(&beside);
    named
}

/// The name of the setting that says what was secret when the ledger was last written.
const SECRETS: &str = "secrets";

/// Counts the ways in which paths were told to name secrets: documents that were kept by an earlier one are gone through again.
const WAY_OF_TELLING: u64 = 2;

/// Everything that decides what is a secret, as one text: the same text, the same documents kept.
fn secrets_of(dictionary: &Dictionary) -> String {
    let named: Vec<_> = dictionary
        .facts
        .iter()
        .filter(|(path, declared)| declared.secret || PathWords::of(path).name_a_secret())
        .map(|(path, declared)| json!([path, declared.secret]))
        .collect();
    json!([WAY_OF_TELLING, named]).to_string()
}

/// Hides what is secret now and lies in the ledger as it came; returns how many documents and records of people held such a thing.
pub(crate) fn hide_new_secrets(
    writer: &mut Writer<'_>,
    project: &Project,
    key: &SecretKey,
) -> Result<u64, LedgerError> {
    let now = secrets_of(&project.dictionary);
    if writer.reader().setting(SECRETS)?.as_ref() == Some(&now) {
        return Ok(0);
    }
    let layout = Layout::new(&project.dictionary);
    let splitter = DocumentSplitter { layout: &layout, key, people: false };
    let mut arena = Bump::new();
    let hidden = writer.rewrite_documents(|device, collected, body, volatile_parts| {
        arena.reset();
        let kept = splitter.keep_again(assemble_in(body, device, collected, volatile_parts, &arena), &arena).ok()?;
        kept.hidden.then_some((kept.body, (!kept.volatile_parts.is_empty()).then_some(kept.volatile_parts)))
    })?;
    let splitter = DocumentSplitter { people: true, ..splitter };
    let people = writer.rewrite_people(|body| {
        arena.reset();
        let kept = splitter.keep_again(RawDocument::copy(body.as_bytes(), &arena), &arena).ok()?;
        kept.hidden.then(|| String::from_utf8_lossy(&kept.body).into_owned())
    })?;
    writer.set_setting(SECRETS, &now)?;
    Ok(hidden + people)
}
