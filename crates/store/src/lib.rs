//! The ledger of a workspace: one SQLite database with what was imported, assessed and decided.
//!
//! What did not change costs nothing: verdicts, standings and decisions are kept as spells from one run to
//! another, findings as versions. So the ledger can be read as it was at any run. Nothing here decides
//! anything about compliance. Start reading at [`Ledger`].

mod bodies;
mod error;
mod reader;
mod rows;
mod schema;
mod trim;
mod writer;

use std::fs::{self, OpenOptions};
use std::path::{Path, PathBuf};
use std::sync::{Arc, PoisonError};
use std::time::{Duration, Instant};

use rusqlite::config::DbConfig;
use rusqlite::{Connection, OpenFlags, TransactionBehavior};

pub use bodies::{Bodies, BodyPacker, BodyUnpacker, body_hash, train_dictionary};
pub use error::LedgerError;
pub use reader::{Companion, Reader};
pub use rows::{
    AssessedRow, DeviceRow, DueRow, FactsRow, FindingRow, Held, ImportRow, Known, Look, PackedObservation, PersonRow,
    RejectRow, RunKind, RunRow, SourceRow, SpellKind, SpellRow, Stamps, StoredObservation,
};
pub use trim::Trimmed;
pub use writer::{Added, FileRow, NewBody, NewObservation, PackedFacts, Writer};

use bodies::SharedBodies;
use error::doing;

/// An open ledger.
#[derive(Debug)]
pub struct Ledger {
    connection: Connection,
    path: PathBuf,
    /// How it was opened; none in memory.
    access: Option<Access>,
    shared: SharedBodies,
}

/// How a ledger in a file is opened.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Access {
    Write,
    /// It lies where nothing can be written.
    Read,
}

impl Access {
    fn connect(self, path: &Path) -> Result<Connection, LedgerError> {
        let opened = match self {
            Self::Write => {
                Connection::open_with_flags(path, OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_NO_MUTEX)
            }
            Self::Read => {
                let name: String = path.to_string_lossy().replace('%', "%25").replace('?', "%3f").replace('#', "%23");
                let flags =
                    OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_URI | OpenFlags::SQLITE_OPEN_NO_MUTEX;
                Connection::open_with_flags(format!("file:{name}?immutable=1"), flags)
            }
        };
        opened.map_err(doing("open", path))
    }
}

impl Ledger {
    /// Opens the ledger at `path`, made when `create` says so; `wait` is how long a busy one is waited for.
    ///
    /// # Errors
    /// When there is none, it cannot be read, or a newer version of the program wrote it.
    pub fn open(path: &Path, create: bool, wait: Duration) -> Result<Self, LedgerError> {
        if !path.exists() {
            if !create {
                return Err(LedgerError::Missing { path: path.to_owned() });
            }
            make_private(path)?;
        }
        let opened = Access::Write.connect(path).and_then(|connection| {
            connection.busy_timeout(wait).map_err(doing("open", path))?;
            let access = Some(Access::Write);
            let mut ledger = Self { connection, path: path.to_owned(), access, shared: Arc::default() };
            ledger.prepare_patiently(wait)?;
            Ok(ledger)
        });
        match opened {
            Err(LedgerError::ReadOnly { .. }) => Self::open_read_only(path),
            other => other,
        }
    }

    /// Opens a ledger on a file system that takes no writes, where SQLite's own files cannot be made.
    fn open_read_only(path: &Path) -> Result<Self, LedgerError> {
        let mut log = path.as_os_str().to_owned();
        log.push("-wal");
        // What stands only in the write-ahead log would be left out, so the ledger is not whole.
        if fs::metadata(log).is_ok_and(|meta| meta.len() > 0) {
            return Err(LedgerError::ReadOnly { path: path.to_owned() });
        }
        let (connection, access) = (Access::Read.connect(path)?, Some(Access::Read));
        let mut ledger = Self { connection, path: path.to_owned(), access, shared: Arc::default() };
        schema::migrate(&mut ledger.connection, path)?;
        Ok(ledger)
    }

    /// Creates a ledger in memory, for tests.
    ///
    /// # Errors
    /// When SQLite cannot.
    pub fn in_memory() -> Result<Self, LedgerError> {
        let path = PathBuf::from(":memory:");
        let connection = Connection::open_in_memory().map_err(doing("open", &path))?;
        let mut ledger = Self { connection, path, access: None, shared: Arc::default() };
        ledger.prepare()?;
        Ok(ledger)
    }

    /// Prepares a ledger that others may be making at this moment: SQLite does not wait by itself while a new database
    /// takes on its journal.
    fn prepare_patiently(&mut self, wait: Duration) -> Result<(), LedgerError> {
        let started = Instant::now();
        loop {
            match self.prepare() {
                Err(LedgerError::Busy { .. }) if started.elapsed() < wait => {
                    std::thread::sleep(Duration::from_millis(20))
                }
                other => return other,
            }
        }
    }

    fn prepare(&mut self) -> Result<(), LedgerError> {
        schema::migrate(&mut self.connection, &self.path)?;
        // More than there are statements, so that each is prepared once; and not again for the values that it is given.
        self.connection.set_prepared_statement_cache_capacity(128);
        self.connection
            .set_db_config(DbConfig::SQLITE_DBCONFIG_ENABLE_QPSG, true)
            .map_err(doing("open", &self.path))?;
        self.connection
            .execute_batch("PRAGMA foreign_keys = ON; PRAGMA synchronous = FULL; PRAGMA temp_store = MEMORY; PRAGMA cache_size = -16384;")
            .map_err(doing("open", &self.path))
    }

    /// Gives back the room of what was removed, and leaves nothing of it in the files.
    ///
    /// # Errors
    /// When the ledger cannot be written; it is whole all the same.
    pub fn compact(&mut self) -> Result<(), LedgerError> {
        let path = self.path.clone();
        if !self.connection.is_autocommit() {
            self.connection.execute_batch("COMMIT").map_err(doing("read", &path))?;
        }
        self.connection
            .execute_batch("VACUUM; PRAGMA wal_checkpoint(TRUNCATE);")
            .map_err(|error| LedgerError::from_sqlite("write", &path, error))
    }

    /// Lets the ledger grow to no more than this many pages, as a full disk would.
    ///
    /// # Errors
    /// When the ledger cannot be read.
    #[doc(hidden)]
    pub fn limit_size_for_tests(&mut self, pages: u32) -> Result<(), LedgerError> {
        self.connection.pragma_update(None, "max_page_count", pages).map_err(doing("open", &self.path))
    }

    /// Forgets everything that only saves work, so that it is worked out again from what it was made of; findings stay.
    ///
    /// # Errors
    /// When the ledger cannot be written.
    #[doc(hidden)]
    pub fn forget_for_tests(&mut self) -> Result<(), LedgerError> {
        let forget = "UPDATE assessed SET input = x'', until = -9223372036854775808, outcome = x''; DELETE FROM facts; DELETE FROM holder; INSERT OR IGNORE INTO dirty SELECT id FROM device;
            DELETE FROM setting WHERE key IN ('assessed_by', 'assessed_workspace', 'people_until', 'reported');";
        self.connection.execute_batch(forget).map_err(doing("write", &self.path))
    }

    /// Says that the ledger is of another format.
    ///
    /// # Errors
    /// When the ledger cannot be written.
    #[doc(hidden)]
    pub fn set_format_for_tests(&mut self, format: i64) -> Result<(), LedgerError> {
        self.connection.pragma_update(None, "user_version", format).map_err(doing("open", &self.path))
    }

    /// Starts reading: everything read until the ledger is dropped is of one moment.
    ///
    /// # Errors
    /// When the ledger cannot be read.
    pub fn reader(&self) -> Result<Reader<'_>, LedgerError> {
        if self.connection.is_autocommit() {
            self.connection.execute_batch("BEGIN").map_err(doing("read", &self.path))?;
        }
        Ok(Reader::new(&self.connection, &self.path, Arc::clone(&self.shared)).accompanied(self.access))
    }

    /// Starts writing; nothing is seen by others before [`Writer::commit`], and nothing stays without it.
    ///
    /// # Errors
    /// When another process writes for longer than this one waits; the error names it.
    pub fn writer(&mut self, command: &str) -> Result<Writer<'_>, LedgerError> {
        if self.access == Some(Access::Read) {
            return Err(LedgerError::ReadOnly { path: self.path.clone() });
        }
        if !self.connection.is_autocommit() {
            self.connection.execute_batch("COMMIT").map_err(doing("read", &self.path))?;
        }
        let path = self.path.clone();
        // What a writer before this one did not commit is not there.
        *self.shared.lock().unwrap_or_else(PoisonError::into_inner) = None;
        let transaction = self
            .connection
            .transaction_with_behavior(TransactionBehavior::Immediate)
            .map_err(|error| LedgerError::from_sqlite("write", &path, error))?;
        Ok(Writer::new(transaction, path, command, Arc::clone(&self.shared)))
    }
}

/// Makes an empty file, and the folder it lies in, that only their owner can read.
fn make_private(path: &Path) -> Result<(), LedgerError> {
    let failed = |error| LedgerError::Files { act: "make", path: path.to_owned(), error };
    if let Some(folder) = path.parent() {
        fs::create_dir_all(folder).map_err(failed)?;
        #[cfg(unix)]
        {
            use std::os::unix::fs::PermissionsExt;
            fs::set_permissions(folder, fs::Permissions::from_mode(0o700)).map_err(failed)?;
        }
    }
    let mut options = OpenOptions::new();
    options.write(true).create(true).truncate(false);
    #[cfg(unix)]
    {
        use std::os::unix::fs::OpenOptionsExt;
        options.mode(0o600);
    }
    options.open(path).map_err(failed).map(|_| ())
}
