//! The ledger of a workspace: one SQLite database with what was imported, assessed and decided.
//!
//! What did not change costs nothing: verdicts, standings and decisions are kept as spells from one run to
//! another, findings as versions. So the ledger can be read as it was at any run. Nothing here decides
//! anything about compliance. Start reading at [`Ledger`].

mod bodies;
mod error;
mod finding_ids;
mod outbox;
mod page_checks;
mod reader;
mod rows;
mod schema;
mod trim;
mod writer;

use std::fs::{self, OpenOptions};
use std::io::{self, Read as _};
use std::path::{Path, PathBuf};
use std::sync::{Arc, PoisonError};
use std::time::{Duration, Instant};

use rusqlite::backup::Backup;
use rusqlite::config::DbConfig;
use rusqlite::{Connection, OpenFlags, TransactionBehavior};

pub use bodies::{Bodies, BodyPacker, BodyUnpacker, body_hash, train_dictionary};
pub use error::LedgerError;
pub use finding_ids::IDS_IN_FRONT;
pub use outbox::{
    ActionKey, ActionRow, ApprovalRow, DeliveryRow, DeliveryState, NewDelivery, SettingRow, SettledDelivery,
    SourcedSetting,
};
use reader::show_names_of_now;
pub use reader::{Reader, SnapshotReader};
pub use rows::{
    Absence, AcceptanceRow, AssessedRow, ComingRow, DecisionRow, DeviceBatch, DeviceRow, EventFinding, EventRow,
    FactsRow, FindingRow, FindingsSince, FormerName, ImportRow, Known, LayoutFingerprints, Look, PackedObservation,
    PersonRow, PersonSpell, RejectRow, RunKind, RunRow, SourceRow, Spell, SpellKind, SpellRow, StoredObservation,
};
pub use trim::Trimmed;
pub use writer::{Added, FileRow, NewBody, NewObservation, NewRun, PackedFacts, Writer};

use bodies::SharedBodies;
use error::doing;
use schema::Age;
use writer::NamePlate;

/// An open ledger.
#[derive(Debug)]
pub struct Ledger {
    connection: Connection,
    path: PathBuf,
    /// How it was opened; none of a private copy, which has one connection.
    access: Option<Access>,
    shared: SharedBodies,
    /// It is a copy that stands in for a ledger that cannot be written.
    read_only: bool,
}

/// What a ledger is opened for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Purpose {
    /// Reading alone: no file is made or changed, and nothing is waited for.
    Read,
    /// Writing to a ledger that is there.
    Write,
    /// Writing to a ledger, which is made where there is none.
    Create,
}

/// How the file of a ledger is opened.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Access {
    Write,
    Read,
    /// It lies where nothing can be written, and nothing is left in its write-ahead log.
    Immutable,
}

impl Access {
    fn connect(self, path: &Path) -> Result<Connection, LedgerError> {
        let failed = doing("open", path);
        page_checks::register().map_err(|code| failed(sqlite_failure(code)))?;
        let opened = match self {
            // A reader too opens it for writing, as SQLite makes the files that readers and writers share; no statement writes.
            Self::Write | Self::Read => Connection::open_with_flags_and_vfs(
                path,
                OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_NO_MUTEX,
                page_checks::VFS,
            ),
            Self::Immutable => {
                let name: String = path.to_string_lossy().replace('%', "%25").replace('?', "%3f").replace('#', "%23");
                let flags =
                    OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_URI | OpenFlags::SQLITE_OPEN_NO_MUTEX;
                Connection::open_with_flags_and_vfs(format!("file:{name}?immutable=1"), flags, page_checks::VFS)
            }
        };
        let connection = opened.map_err(&failed)?;
        if self == Self::Read {
            connection.pragma_update(None, "query_only", true).map_err(&failed)?;
            // What a writer left in the log is its own to bring into the ledger.
            if has_log(path) {
                connection.set_db_config(DbConfig::SQLITE_DBCONFIG_NO_CKPT_ON_CLOSE, true).map_err(&failed)?;
            }
        }
        Ok(connection)
    }
}

fn sqlite_failure(code: i32) -> rusqlite::Error {
    rusqlite::Error::SqliteFailure(rusqlite::ffi::Error::new(code), None)
}

/// Whether something stands in the write-ahead log of a ledger.
fn has_log(path: &Path) -> bool {
    let mut log = path.as_os_str().to_owned();
    log.push("-wal");
    fs::metadata(log).is_ok_and(|meta| meta.len() > 0)
}

impl Ledger {
    fn new(connection: Connection, path: &Path, access: Option<Access>) -> Self {
        Self { connection, path: path.to_owned(), access, shared: Arc::default(), read_only: false }
    }

    /// Opens the ledger at `path`; `wait` is how long a busy one is waited for.
    ///
    /// A ledger of an earlier format is brought up to date where it is opened for writing. A reader works on a private copy of
    /// such a ledger that was brought up to date.
    ///
    /// # Errors
    /// Fails if there is none, if the file is empty, shortened, damaged or no ledger at all, or if a newer version of the
    /// program wrote it.
    pub fn open(path: &Path, purpose: Purpose, wait: Duration) -> Result<Self, LedgerError> {
        if !path.exists() {
            match purpose {
                Purpose::Read | Purpose::Write => return Err(LedgerError::Missing { path: path.to_owned() }),
                Purpose::Create => create(path)?,
            }
        }
        check_file(path)?;
        let access = if purpose == Purpose::Read { Access::Read } else { Access::Write };
        let opened = access.connect(path).and_then(|connection| {
            connection.busy_timeout(wait).map_err(doing("open", path))?;
            Self::new(connection, path, Some(access)).prepare_patiently(wait)
        });
        match opened {
            Err(LedgerError::ReadOnly { .. }) => Self::open_where_nothing_can_be_written(path),
            other => other,
        }
    }

    /// Opens a ledger on a file system that takes no writes, where SQLite's own files cannot be made: a private copy of it, since
    /// SQLite would not notice there what a writer on another system changes.
    fn open_where_nothing_can_be_written(path: &Path) -> Result<Self, LedgerError> {
        const TRIES: usize = 5;
        let failed = |error| LedgerError::Files { act: "open", path: path.to_owned(), error };
        let state = || fs::metadata(path).and_then(|meta| Ok((meta.len(), meta.modified()?))).map_err(failed);
        for _ in 0..TRIES {
            // What stands only in the write-ahead log would be left out, so the ledger is not whole.
            if has_log(path) {
                return Err(LedgerError::ReadOnly { path: path.to_owned() });
            }
            let before = state()?;
            let connection = Access::Immutable.connect(path)?;
            schema::check(&connection, path)?;
            let copy = Self::copy_of(&connection, path);
            // A copy of which parts are of another time is of no use, whatever came of it.
            if state()? == before && !has_log(path) {
                return copy.map(|copy| Self { read_only: true, ..copy });
            }
        }
        Err(LedgerError::Busy { path: path.to_owned(), holder: " by a process on another system".to_owned() })
    }

    /// Returns a private copy of the ledger as it is now, which is forgotten when it is dropped: for trying out what a writing
    /// command would do, without keeping others from writing.
    ///
    /// # Errors
    /// Fails if the ledger cannot be read, or if there is no room for the copy.
    pub fn private_copy(&self) -> Result<Self, LedgerError> {
        Self::copy_of(&self.connection, &self.path)
    }

    fn copy_of(connection: &Connection, path: &Path) -> Result<Self, LedgerError> {
        let failed = doing("copy", path);
        // A database without a name lies in a file that SQLite removes by itself.
        let mut copy = Connection::open("").map_err(&failed)?;
        {
            let backup = Backup::new(connection, &mut copy).map_err(&failed)?;
            backup.run_to_completion(i32::MAX, Duration::ZERO, None).map_err(&failed)?;
        }
        copy.execute_batch("PRAGMA journal_mode = MEMORY;").map_err(&failed)?;
        schema::migrate(&mut copy, path)?;
        let mut ledger = Self::new(copy, path, None);
        ledger.configure()?;
        Ok(ledger)
    }

    /// Creates a ledger in memory, for tests.
    ///
    /// # Errors
    /// When SQLite cannot.
    pub fn in_memory() -> Result<Self, LedgerError> {
        let path = PathBuf::from(":memory:");
        let connection = Connection::open_in_memory().map_err(doing("open", &path))?;
        let mut ledger = Self::new(connection, &path, None);
        schema::create(&mut ledger.connection, &ledger.path)?;
        ledger.configure()?;
        Ok(ledger)
    }

    /// Prepares a ledger that others may be making at this moment: SQLite does not wait by itself while a new database
    /// takes on its journal.
    fn prepare_patiently(mut self, wait: Duration) -> Result<Self, LedgerError> {
        let started = Instant::now();
        loop {
            match self.bring_up_to_date() {
                Err(LedgerError::Busy { .. }) if started.elapsed() < wait => {
                    std::thread::sleep(Duration::from_millis(20))
                }
                Err(error) => return Err(error),
                Ok(None) => {
                    self.configure()?;
                    return Ok(self);
                }
                Ok(Some(copy)) => return Ok(copy),
            }
        }
    }

    /// Brings a ledger of an earlier format to the newest; returns the copy on which that was done where nothing may be written.
    fn bring_up_to_date(&mut self) -> Result<Option<Self>, LedgerError> {
        match (schema::check(&self.connection, &self.path)?, self.access) {
            (Age::Newest, _) => Ok(None),
            (Age::Earlier, Some(Access::Read | Access::Immutable)) => {
                self.private_copy().map(|copy| Some(Self { read_only: true, ..copy }))
            }
            (Age::Earlier, Some(Access::Write) | None) => {
                schema::migrate(&mut self.connection, &self.path)?;
                schema::check_pages(&self.connection, &self.path)?;
                Ok(None)
            }
        }
    }

    fn configure(&mut self) -> Result<(), LedgerError> {
        // More than there are statements, so that each is prepared once; and not again for the values that it is given.
        self.connection.set_prepared_statement_cache_capacity(128);
        self.connection
            .set_db_config(DbConfig::SQLITE_DBCONFIG_ENABLE_QPSG, true)
            .map_err(doing("open", &self.path))?;
        self.connection
            .execute_batch("PRAGMA foreign_keys = ON; PRAGMA synchronous = FULL; PRAGMA temp_store = FILE; PRAGMA cache_size = -16384;")
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
        show_names_of_now(&self.connection).map_err(doing("read", &self.path))?;
        Ok(Reader::new(&self.connection, &self.path, Arc::clone(&self.shared)).accompanied(self.access))
    }

    /// Starts writing; nothing is seen by others before [`Writer::commit`], and nothing stays without it.
    ///
    /// # Errors
    /// When another process writes for longer than this one waits; the error names it.
    pub fn writer(&mut self, command: &str) -> Result<Writer<'_>, LedgerError> {
        if self.read_only || matches!(self.access, Some(Access::Read | Access::Immutable)) {
            return Err(LedgerError::ReadOnly { path: self.path.clone() });
        }
        if !self.connection.is_autocommit() {
            self.connection.execute_batch("COMMIT").map_err(doing("read", &self.path))?;
        }
        show_names_of_now(&self.connection).map_err(doing("write", &self.path))?;
        let path = self.path.clone();
        // What a writer before this one did not commit is not there.
        *self.shared.lock().unwrap_or_else(PoisonError::into_inner) = None;
        let transaction = self
            .connection
            .transaction_with_behavior(TransactionBehavior::Immediate)
            .map_err(|error| LedgerError::from_sqlite("write", &path, error))?;
        // Of a private copy nobody else knows.
        let name = self.access.map(|_| NamePlate::put(&path, command));
        Ok(Writer::new(transaction, path, name, Arc::clone(&self.shared)))
    }
}

/// Creates an empty ledger at `path`, readable by its owner only. It is made beside its place and put there whole, so that
/// nobody finds a part of it; where another process was first, its ledger stays.
fn create(path: &Path) -> Result<(), LedgerError> {
    let failed = |error| LedgerError::Files { act: "make", path: path.to_owned(), error };
    if let Some(folder) = path.parent() {
        fs::create_dir_all(folder).map_err(failed)?;
        #[cfg(unix)]
        {
            use std::os::unix::fs::PermissionsExt;
            fs::set_permissions(folder, fs::Permissions::from_mode(0o700)).map_err(failed)?;
        }
    }
    let beside = path.with_extension(format!("new-{}", std::process::id()));
    // A process of this number may have died here before.
    let _ = fs::remove_file(&beside);
    let mut options = OpenOptions::new();
    options.write(true).create_new(true);
    #[cfg(unix)]
    {
        use std::os::unix::fs::OpenOptionsExt;
        options.mode(0o600);
    }
    options.open(&beside).map_err(failed)?;
    let made = Access::Write.connect(&beside).and_then(|mut connection| schema::create(&mut connection, path));
    let placed = made.and_then(|()| match fs::hard_link(&beside, path) {
        Err(error) if error.kind() == io::ErrorKind::AlreadyExists => Ok(()),
        // Some file systems have no second names.
        Err(_) if !path.exists() => fs::rename(&beside, path).map_err(failed),
        Err(error) => Err(failed(error)),
        Ok(()) => Ok(()),
    });
    for ending in ["", "-wal", "-shm"] {
        let mut name = beside.as_os_str().to_owned();
        name.push(ending);
        let _ = fs::remove_file(name);
    }
    placed
}

/// Checks a file before SQLite opens it, which takes an empty file for a new database, and a shortened one for a whole one.
fn check_file(path: &Path) -> Result<(), LedgerError> {
    let failed = |error| LedgerError::Files { act: "open", path: path.to_owned(), error };
    let mut file = fs::File::open(path).map_err(failed)?;
    let meta = file.metadata().map_err(failed)?;
    if !meta.is_file() {
        return Err(LedgerError::Foreign { path: path.to_owned() });
    }
    if meta.len() == 0 {
        return Err(LedgerError::Empty { path: path.to_owned() });
    }
    let mut head = [0; 100];
    if file.read_exact(&mut head).is_err() || !head.starts_with(b"SQLite format 3\0") {
        return Err(LedgerError::Foreign { path: path.to_owned() });
    }
    // As the file format of SQLite has it: the size of a page, where 1 stands for 65536, and the number of pages.
    let page = match u64::from(u16::from_be_bytes([head[16], head[17]])) {
        1 => 65_536,
        size => size,
    };
    let wanted = page * u64::from(u32::from_be_bytes([head[28], head[29], head[30], head[31]]));
    // A ledger that says that it is one has checksums in its pages.
    let application = u32::from_be_bytes([head[68], head[69], head[70], head[71]]);
    if i64::from(application) == schema::APPLICATION && head[page_checks::RESERVED_AT] == 0 {
        let what = "its pages have lost their checksums".to_owned();
        return Err(LedgerError::Damaged { path: path.to_owned(), what });
    }
    // What stands in the log was perhaps not brought into the file yet.
    if meta.len() < wanted && !has_log(path) {
        let what = format!("{} of its {wanted} bytes are missing", wanted - meta.len());
        return Err(LedgerError::Damaged { path: path.to_owned(), what });
    }
    Ok(())
}
