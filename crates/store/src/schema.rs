//! The tables, and how an older ledger becomes a newer one: in one transaction, or not at all.

use std::path::Path;

use rusqlite::{Connection, TransactionBehavior};

use crate::bodies::{body_hash, decompress_plain};
use crate::error::{LedgerError, doing};
use crate::finding_ids;
use crate::{page_checks, sqlite_failure};

/// Each step takes a ledger from one format to the next.
const STEPS: [&str; 11] = [FIRST, SECOND, THIRD, FOURTH, FIFTH, SIXTH, SEVENTH, EIGHTH, NINTH, TENTH, ELEVENTH];

/// What SQLite's `application_id` says of a ledger: `FPst` in ASCII. Ledgers have it since the sixth format.
pub(crate) const APPLICATION: i64 = 0x4650_7374;

const FIRST: &str = "
    CREATE TABLE setting (key TEXT PRIMARY KEY, value TEXT NOT NULL) STRICT;

    -- Every writing command; times are microseconds since 1970.
    CREATE TABLE run (
        id INTEGER PRIMARY KEY,
        kind TEXT NOT NULL,
        number INTEGER,                  -- of an assessment
        as_of INTEGER NOT NULL,
        at INTEGER NOT NULL,
        user TEXT NOT NULL,
        version TEXT NOT NULL,
        rule_set TEXT,
        summary TEXT NOT NULL DEFAULT '{}'
    ) STRICT;
    CREATE INDEX run_kind ON run (kind, id);

    CREATE TABLE rule_set (digest TEXT PRIMARY KEY, body BLOB NOT NULL) STRICT;

    CREATE TABLE file (
        digest TEXT NOT NULL,
        source TEXT NOT NULL,
        mapping TEXT NOT NULL,
        run INTEGER NOT NULL REFERENCES run (id),
        path TEXT NOT NULL,
        records INTEGER NOT NULL,
        rejected INTEGER NOT NULL,
        PRIMARY KEY (digest, source, mapping)
    ) STRICT;
    CREATE TABLE reject (
        run INTEGER NOT NULL REFERENCES run (id),
        path TEXT NOT NULL,
        line INTEGER NOT NULL,
        offset INTEGER NOT NULL,
        reason TEXT NOT NULL
    ) STRICT;

    CREATE TABLE device (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE, first_run INTEGER NOT NULL) STRICT;
    CREATE TABLE document (id INTEGER PRIMARY KEY, hash BLOB NOT NULL UNIQUE, body BLOB NOT NULL) STRICT;
    CREATE TABLE observation (
        device INTEGER NOT NULL REFERENCES device (id),
        source TEXT NOT NULL,
        collected INTEGER NOT NULL,
        run INTEGER NOT NULL REFERENCES run (id),
        document INTEGER NOT NULL REFERENCES document (id),
        PRIMARY KEY (device, source, collected)
    ) STRICT, WITHOUT ROWID;
    CREATE TABLE current (
        device INTEGER NOT NULL REFERENCES device (id),
        source TEXT NOT NULL,
        collected INTEGER NOT NULL,
        document INTEGER NOT NULL REFERENCES document (id),
        PRIMARY KEY (device, source)
    ) STRICT, WITHOUT ROWID;

    CREATE TABLE person (
        id TEXT NOT NULL,
        source TEXT NOT NULL,
        body TEXT NOT NULL,
        from_run INTEGER NOT NULL REFERENCES run (id),
        to_run INTEGER REFERENCES run (id)
    ) STRICT;
    CREATE INDEX person_id ON person (id, source, to_run);

    -- What held from one run up to, and not including, another.
    CREATE TABLE spell (
        id INTEGER PRIMARY KEY,
        kind TEXT NOT NULL,
        device INTEGER NOT NULL REFERENCES device (id),
        subject TEXT NOT NULL,
        value TEXT NOT NULL,
        detail TEXT NOT NULL,
        from_run INTEGER NOT NULL REFERENCES run (id),
        to_run INTEGER REFERENCES run (id)
    ) STRICT;
    CREATE INDEX spell_device ON spell (device, kind, subject, from_run);
    CREATE INDEX spell_from ON spell (kind, from_run);

    -- Versions of findings, each from one run up to another.
    CREATE TABLE finding (
        row INTEGER PRIMARY KEY,
        device INTEGER NOT NULL REFERENCES device (id),
        subject TEXT NOT NULL,
        opened INTEGER NOT NULL,
        due INTEGER NOT NULL,
        closed INTEGER,
        body TEXT NOT NULL,
        from_run INTEGER NOT NULL REFERENCES run (id),
        to_run INTEGER REFERENCES run (id)
    ) STRICT;
    CREATE INDEX finding_device ON finding (device, subject, from_run);
    CREATE INDEX finding_closed ON finding (closed, to_run);

    CREATE TABLE event (
        run INTEGER NOT NULL REFERENCES run (id),
        seq INTEGER NOT NULL,
        what TEXT NOT NULL,
        body TEXT NOT NULL,
        PRIMARY KEY (run, seq)
    ) STRICT, WITHOUT ROWID;
";

/// Documents around what changes at every collection; sources by number; who is no longer listed; former names.
const SECOND: &str = "
    CREATE TABLE source (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE) STRICT;
    INSERT INTO source (name) SELECT DISTINCT source FROM observation ORDER BY source;

    CREATE TABLE said (
        device INTEGER NOT NULL REFERENCES device (id),
        source INTEGER NOT NULL REFERENCES source (id),
        collected INTEGER NOT NULL,
        run INTEGER NOT NULL REFERENCES run (id),
        document INTEGER NOT NULL REFERENCES document (id),
        content INTEGER,                 -- a keyed digest of the record as it came
        apart BLOB,                      -- of the volatile facts those that an assessment read
        PRIMARY KEY (device, source, collected, run)
    ) STRICT, WITHOUT ROWID;
    INSERT INTO said SELECT o.device, s.id, o.collected, o.run, o.document, NULL, NULL
        FROM observation o JOIN source s ON s.name = o.source;
    CREATE TABLE latest (
        device INTEGER NOT NULL REFERENCES device (id),
        source INTEGER NOT NULL REFERENCES source (id),
        collected INTEGER NOT NULL,
        run INTEGER NOT NULL REFERENCES run (id),
        document INTEGER NOT NULL REFERENCES document (id),
        apart BLOB,                      -- all volatile facts
        PRIMARY KEY (device, source)
    ) STRICT, WITHOUT ROWID;
    INSERT INTO latest SELECT c.device, s.id, c.collected, o.run, c.document, NULL FROM current c
        JOIN source s ON s.name = c.source
        JOIN observation o ON o.device = c.device AND o.source = c.source AND o.collected = c.collected;
    DROP TABLE current;
    DROP TABLE observation;
    ALTER TABLE said RENAME TO observation;
    ALTER TABLE latest RENAME TO current;

    -- Devices that a complete export of a source no longer lists.
    CREATE TABLE absence (
        device INTEGER NOT NULL REFERENCES device (id),
        source INTEGER NOT NULL REFERENCES source (id),
        from_run INTEGER NOT NULL REFERENCES run (id),
        to_run INTEGER REFERENCES run (id)
    ) STRICT;
    CREATE INDEX absence_device ON absence (device, source, to_run);

    CREATE TABLE former_name (
        name TEXT PRIMARY KEY,
        device INTEGER NOT NULL REFERENCES device (id),
        run INTEGER NOT NULL REFERENCES run (id)
    ) STRICT, WITHOUT ROWID;

    ALTER TABLE file ADD COLUMN kept_missing INTEGER NOT NULL DEFAULT 0;
    ALTER TABLE reject ADD COLUMN source TEXT NOT NULL DEFAULT '';
";

/// What assessments read and what they came to, so that the next one looks only at what may have changed.
const THIRD: &str = "
    -- What the rules read of what a source now says, packed; the stamp tells by which paths.
    CREATE TABLE facts (
        device INTEGER NOT NULL REFERENCES device (id),
        source INTEGER NOT NULL REFERENCES source (id),
        stamp INTEGER NOT NULL,
        packed BLOB NOT NULL,
        PRIMARY KEY (device, source)
    ) STRICT, WITHOUT ROWID;

    -- What the last assessment came to, of every device that is not retired.
    CREATE TABLE assessed (
        device INTEGER PRIMARY KEY REFERENCES device (id),
        input BLOB NOT NULL,             -- a digest of everything that it was judged by
        until INTEGER NOT NULL,          -- from then on time alone may change it
        collected INTEGER,               -- the newest moment of collection
        outcome BLOB NOT NULL,
        findings BLOB NOT NULL           -- the latest of each rule, as the next assessment starts from them; how new
                                         -- their evidence is, is kept here alone as long as nothing else changes
    ) STRICT;
    CREATE INDEX assessed_until ON assessed (until);
    CREATE INDEX assessed_collected ON assessed (collected);

    -- What bodies of documents are compressed with; each names its own in its head.
    CREATE TABLE dictionary (id INTEGER PRIMARY KEY, bytes BLOB NOT NULL) STRICT;

    -- The digests of records are of another kind now.
    UPDATE observation SET content = NULL;

    -- Devices about which something changed since.
    CREATE TABLE dirty (device INTEGER PRIMARY KEY REFERENCES device (id)) STRICT;
    INSERT INTO dirty SELECT id FROM device;

    -- Whom the last assessment took for the holders of a device.
    CREATE TABLE holder (
        person TEXT NOT NULL,
        device INTEGER NOT NULL REFERENCES device (id),
        PRIMARY KEY (person, device)
    ) STRICT, WITHOUT ROWID;
    CREATE INDEX holder_device ON holder (device);

    -- What holds now is found by its device. (An index of a part of the rows would have statements prepared again and again.)
    DROP INDEX spell_device;
    CREATE INDEX spell_device ON spell (device, kind, to_run);
    DROP INDEX finding_device;
    CREATE INDEX finding_device ON finding (device, to_run, subject);
    CREATE INDEX finding_due ON finding (due);
";

/// What is known of a device lies together, so that what changes of it is written to few pages.
const FOURTH: &str = "
    CREATE TABLE spell_of_device (
        device INTEGER NOT NULL REFERENCES device (id),
        kind TEXT NOT NULL,
        from_run INTEGER NOT NULL REFERENCES run (id),
        seq INTEGER NOT NULL,            -- tells apart what began in one run
        subject TEXT NOT NULL,
        value TEXT NOT NULL,
        detail TEXT NOT NULL,
        to_run INTEGER REFERENCES run (id),
        PRIMARY KEY (device, kind, from_run, seq)
    ) STRICT, WITHOUT ROWID;
    INSERT INTO spell_of_device SELECT device, kind, from_run, id, subject, value, detail, to_run FROM spell
        ORDER BY device, kind, from_run, id;
    DROP TABLE spell;
    ALTER TABLE spell_of_device RENAME TO spell;
    CREATE INDEX spell_from ON spell (kind, from_run);

    CREATE TABLE finding_of_device (
        device INTEGER NOT NULL REFERENCES device (id),
        from_run INTEGER NOT NULL REFERENCES run (id),
        seq INTEGER NOT NULL,            -- tells apart what was written in one run
        subject TEXT NOT NULL,
        opened INTEGER NOT NULL,
        due INTEGER NOT NULL,
        closed INTEGER,
        body TEXT NOT NULL,
        to_run INTEGER REFERENCES run (id),
        PRIMARY KEY (device, from_run, seq)
    ) STRICT, WITHOUT ROWID;
    INSERT INTO finding_of_device SELECT device, from_run, row, subject, opened, due, closed, body, to_run FROM finding
        ORDER BY device, from_run, row;
    DROP TABLE finding;
    ALTER TABLE finding_of_device RENAME TO finding;
    CREATE INDEX finding_closed ON finding (closed);
    CREATE INDEX finding_due ON finding (due);
";

/// Findings beside their device are packed closer; those that are there already are marked as packed the earlier way. Indexes that
/// cost more than they save are gone.
const FIFTH: &str = "
    UPDATE assessed SET findings = CAST(x'ff' || findings AS BLOB) WHERE length(findings) > 0;
    DROP INDEX assessed_collected;
    DROP INDEX finding_closed;
";

/// The ledger says that it is one, by a mark that is set with the format. Of the records that a file had set aside, those beyond
/// the first are counted by reason.
const SIXTH: &str = "
    ALTER TABLE reject ADD COLUMN count INTEGER NOT NULL DEFAULT 1;
";

/// Decisions that time alone will bring about are kept beside their device. Those of devices that are there already are found by the
/// next assessment, which looks at every device again.
const EIGHTH: &str = "
    CREATE TABLE coming_decision (
        device INTEGER NOT NULL REFERENCES device (id),
        seq INTEGER NOT NULL,
        at INTEGER NOT NULL,
        subject TEXT NOT NULL,           -- person, service and sign-in, as in a spell
        value TEXT NOT NULL,
        detail TEXT NOT NULL,
        only_if_silent INTEGER NOT NULL, -- only if the device says nothing until then
        PRIMARY KEY (device, seq)
    ) STRICT, WITHOUT ROWID;
    CREATE INDEX coming_at ON coming_decision (at, only_if_silent);
    -- Terms that people accepted.
    CREATE TABLE acceptance (
        person TEXT NOT NULL,
        device TEXT NOT NULL,
        terms TEXT NOT NULL,
        version TEXT NOT NULL,
        source TEXT NOT NULL,
        from_run INTEGER NOT NULL REFERENCES run (id),
        PRIMARY KEY (person, device, terms, version)
    ) STRICT, WITHOUT ROWID;
    UPDATE setting SET value = '' WHERE key = 'assessed_by';
";

/// Findings may be waived, which an earlier version cannot read: in their rows, and packed beside their device.
const NINTH: &str = "";

/// What is done about findings: deliveries, each claimed before it is made; the actions that they carry; approvals.
const TENTH: &str = "
    CREATE TABLE delivery (
        id INTEGER PRIMARY KEY,
        key TEXT NOT NULL UNIQUE,        -- what the receiver knows it by, however often it is tried
        channel TEXT NOT NULL,
        recipient TEXT NOT NULL,
        state TEXT NOT NULL,             -- claimed, delivered, failed, given-up
        answer TEXT,                     -- what the receiver of a command last said of it
        attempts INTEGER NOT NULL,
        at INTEGER NOT NULL,             -- of the last attempt
        because TEXT,
        content BLOB NOT NULL            -- what goes out, compressed
    ) STRICT;
    CREATE INDEX delivery_state ON delivery (state, answer);
    CREATE INDEX delivery_at ON delivery (at);
    CREATE TABLE action (
        id INTEGER NOT NULL,
        delivery INTEGER NOT NULL REFERENCES delivery (id),
        finding INTEGER NOT NULL,
        device INTEGER NOT NULL REFERENCES device (id),
        step TEXT NOT NULL,
        PRIMARY KEY (id, delivery)
    ) STRICT, WITHOUT ROWID;
    CREATE INDEX action_delivery ON action (delivery);
    CREATE INDEX action_device ON action (device);
    -- How far settings got that another tool was asked to apply: what each source last said, and what it said before.
    CREATE TABLE setting_state (
        device INTEGER NOT NULL REFERENCES device (id),
        setting TEXT NOT NULL,
        source TEXT NOT NULL,
        at INTEGER NOT NULL,
        state TEXT NOT NULL,
        because TEXT,
        run INTEGER NOT NULL REFERENCES run (id),
        PRIMARY KEY (device, setting, source, at)
    ) STRICT, WITHOUT ROWID;
    CREATE TABLE approval (
        action INTEGER PRIMARY KEY,
        at INTEGER NOT NULL,
        evidence_at INTEGER,
        by_whom TEXT NOT NULL,
        because TEXT NOT NULL
    ) STRICT;
";

/// Findings have ids, and events are found by their device. The ids of findings that are there already, and their events, are filled
/// in by [`finding_ids`].
const SEVENTH: &str = "
    ALTER TABLE finding ADD COLUMN id INTEGER NOT NULL DEFAULT 0;   -- the finding's for life, the same in all its versions
    DROP INDEX finding_due;
    -- What time changes by itself besides clocks of findings; of those before it is not told apart.
    ALTER TABLE assessed ADD COLUMN valid_until INTEGER NOT NULL DEFAULT 0;
    UPDATE assessed SET valid_until = until;
    -- Whether another device became one with it then, which cannot be undone; of those before nobody knows.
    ALTER TABLE former_name ADD COLUMN merged INTEGER NOT NULL DEFAULT 0;
    UPDATE former_name SET merged = 1;
    CREATE TEMP TABLE event_before AS SELECT * FROM event;
    DROP TABLE event;
    CREATE TABLE event (
        run INTEGER NOT NULL REFERENCES run (id),
        seq INTEGER NOT NULL,
        device INTEGER NOT NULL REFERENCES device (id),
        at INTEGER NOT NULL,
        what TEXT NOT NULL,
        finding INTEGER,                 -- the id of the finding to which it happened
        subject TEXT,                    -- the rule of the finding, as it was called then
        opened INTEGER,
        due INTEGER,
        spell INTEGER,
        detail TEXT,
        PRIMARY KEY (run, seq)
    ) STRICT, WITHOUT ROWID;
    CREATE INDEX event_device ON event (device);
";

/// Beside each device it is kept which groups it belongs to, and summaries count groups, services and fixes. Tables stay as they are;
/// earlier versions of the program would misread what is kept.
const ELEVENTH: &str = "";

/// How a ledger's format compares to what this program writes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Age {
    Newest,
    Earlier,
}

fn pragma(connection: &Connection, name: &str) -> rusqlite::Result<i64> {
    connection.query_row(&format!("PRAGMA {name}"), [], |row| row.get(0))
}

/// Returns the number of the newest format.
fn newest() -> i64 {
    i64::try_from(STEPS.len()).unwrap_or(i64::MAX)
}

/// Checks that a database is a ledger of a format that this program knows.
///
/// # Errors
/// Fails if it is empty, another program's, of a newer format, or contradicts itself.
pub(crate) fn check(connection: &Connection, path: &Path) -> Result<Age, LedgerError> {
    let failed = doing("open", path);
    let (application, format) =
        (pragma(connection, "application_id").map_err(&failed)?, pragma(connection, "user_version").map_err(&failed)?);
    let path = || path.to_owned();
    match (application, format) {
        (APPLICATION, format) if format > newest() => {
            Err(LedgerError::Newer { path: path(), found: format, known: newest() })
        }
        (APPLICATION, format) if format == newest() => Ok(Age::Newest),
        (APPLICATION, 6..) => Ok(Age::Earlier),
        (APPLICATION, format) => Err(LedgerError::Damaged {
            path: path(),
            what: format!("it says that it is of format {format}, which had no mark"),
        }),
        // Before the sixth format nothing but its tables says that it is a ledger; the mark comes last, with the checksums.
        (0, 1..=7)
            if has_tables(connection, &["device", "document", "observation", "run", "setting"]).map_err(&failed)? =>
        {
            Ok(Age::Earlier)
        }
        (0, 0) if pragma(connection, "schema_version").map_err(&failed)? == 0 => {
            Err(LedgerError::Empty { path: path() })
        }
        _ => Err(LedgerError::Foreign { path: path() }),
    }
}

fn has_tables(connection: &Connection, names: &[&str]) -> rusqlite::Result<bool> {
    let mut found = connection.prepare("SELECT 1 FROM sqlite_schema WHERE type = 'table' AND name = ?1")?;
    names.iter().try_fold(true, |all, name| Ok(all && found.exists([name])?))
}

/// Makes the tables of a new ledger.
pub(crate) fn create(connection: &mut Connection, path: &Path) -> Result<(), LedgerError> {
    let failed = doing("make", path);
    page_checks::reserve(connection).map_err(|code| failed(sqlite_failure(code)))?;
    connection.execute_batch("PRAGMA page_size = 8192; PRAGMA journal_mode = WAL;").map_err(&failed)?;
    let transaction = connection.transaction_with_behavior(TransactionBehavior::Immediate).map_err(&failed)?;
    STEPS.iter().try_for_each(|step| transaction.execute_batch(step)).map_err(&failed)?;
    finding_ids::fill(&transaction).map_err(&failed)?;
    transaction.pragma_update(None, "user_version", newest()).map_err(&failed)?;
    transaction.pragma_update(None, "application_id", APPLICATION).map_err(&failed)?;
    transaction.commit().map_err(&failed)?;
    // The steps leave pages that nothing uses, and what nothing uses is not checked.
    connection.execute_batch("VACUUM").map_err(&failed)
}

/// Brings a ledger of an earlier format to the newest, in one transaction.
pub(crate) fn migrate(connection: &mut Connection, path: &Path) -> Result<(), LedgerError> {
    let failed = doing("open", path);
    let transaction = connection.transaction_with_behavior(TransactionBehavior::Immediate).map_err(&failed)?;
    // Another process may have been here while this one waited.
    if check(&transaction, path)? == Age::Newest {
        return Ok(());
    }
    let found = pragma(&transaction, "user_version").map_err(&failed)?;
    for step in STEPS.iter().skip(usize::try_from(found).unwrap_or(0)) {
        transaction.execute_batch(step).map_err(|error| match (&error, error.sqlite_error_code()) {
            // What the step names is there already, or is not there.
            (rusqlite::Error::SqlInputError { .. }, _) | (_, Some(rusqlite::ErrorCode::Unknown)) => {
                LedgerError::Damaged {
                    path: path.to_owned(),
                    what: format!("its tables are not those of format {found}, which it says it is of"),
                }
            }
            _ => failed(error),
        })?;
    }
    if (1..3).contains(&found) {
        hash_again(&transaction).map_err(&failed)?;
    }
    if found < 7 {
        finding_ids::fill(&transaction).map_err(&failed)?;
    }
    transaction.pragma_update(None, "user_version", newest()).map_err(&failed)?;
    transaction.commit().map_err(&failed)
}

/// Gives the pages of a ledger that was brought to the sixth format their checksums, and marks it as a ledger. Until both is
/// done it is taken for one of an earlier format, so that what is left is done by the next who opens it for writing.
pub(crate) fn check_pages(connection: &Connection, path: &Path) -> Result<(), LedgerError> {
    let failed = doing("open", path);
    // A database that has a write-ahead log cannot change how its pages are divided.
    connection.execute_batch("PRAGMA journal_mode = DELETE;").map_err(&failed)?;
    page_checks::reserve(connection).map_err(|code| failed(sqlite_failure(code)))?;
    connection.execute_batch("VACUUM; PRAGMA journal_mode = WAL;").map_err(&failed)?;
    connection.pragma_update(None, "application_id", APPLICATION).map_err(&failed)
}

/// Gives every document the hash that it is known by since the third format.
fn hash_again(connection: &Connection) -> rusqlite::Result<()> {
    let mut bodies = connection.prepare("SELECT id, body FROM document")?;
    let mut update = connection.prepare("UPDATE document SET hash = ?2 WHERE id = ?1")?;
    let mut rows = bodies.query([])?;
    while let Some(row) = rows.next()? {
        // What cannot be unpacked is told when it is read.
        if let Ok(body) = decompress_plain(row.get_ref(1)?.as_blob().unwrap_or_default()) {
            update.execute(rusqlite::params![row.get::<_, i64>(0)?, body_hash(&body)])?;
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::rows::SpellKind;
    use std::sync::Arc;

    #[test]
    fn a_ledger_of_the_first_format_keeps_what_it_holds() {
        let mut connection = Connection::open_in_memory().unwrap();
        connection.execute_batch(FIRST).unwrap();
        let body = zstd::encode_all(&b"{\"device\":\"a\"}"[..], 3).unwrap();
        let other = zstd::encode_all(&b"{\"device\":\"b\"}"[..], 3).unwrap();
        connection
            .execute_batch(
                "PRAGMA user_version = 1;
                 INSERT INTO run (id, kind, as_of, at, user, version) VALUES (1, 'import', 5, 5, 'u', '0'), (2, 'import', 9, 9, 'u', '0');
                 INSERT INTO device VALUES (1, 'a', 1);",
            )
            .unwrap();
        connection.execute("INSERT INTO document VALUES (1, x'01', ?1), (2, x'02', ?2)", [&body, &other]).unwrap();
        connection
            .execute_batch(
                "INSERT INTO observation VALUES (1, 's', 4, 1, 1), (1, 's', 8, 2, 2);
                 INSERT INTO current VALUES (1, 's', 8, 2);",
            )
            .unwrap();
        migrate(&mut connection, Path::new("ledger")).unwrap();
        let reader = crate::reader::Reader::new(&connection, Path::new("ledger"), Arc::default());
        let now = reader.observations_of("a", None).unwrap();
        assert_eq!((now[0].source.as_str(), now[0].document, now[0].volatile_parts.as_ref()), ("s", 2, None));
        assert_eq!(now[0].body, b"{\"device\":\"b\"}");
        let hash: Vec<u8> =
            connection.query_row("SELECT hash FROM document WHERE id = 2", [], |row| row.get(0)).unwrap();
        assert_eq!(hash, body_hash(&now[0].body));
        assert_eq!(reader.observations_of("a", Some(1)).unwrap()[0].document, 1);
        assert_eq!(reader.history_of("a", None).unwrap().len(), 2);
    }

    /// A ledger file of the fifth format, as it was written before ledgers were marked.
    fn fifth(path: &Path) {
        let connection = Connection::open(path).unwrap();
        connection.execute_batch("PRAGMA page_size = 8192; PRAGMA journal_mode = WAL;").unwrap();
        for step in &STEPS[..5] {
            connection.execute_batch(step).unwrap();
        }
        connection
            .execute_batch(
                "PRAGMA user_version = 5;
                 INSERT INTO run (id, kind, as_of, at, user, version) VALUES (1, 'import', 5, 5, 'u', '0');
                 INSERT INTO device VALUES (1, 'a', 1);
                 INSERT INTO reject (run, path, line, offset, reason, source) VALUES (1, 'f', 3, 9, 'why', 's');",
            )
            .unwrap();
    }

    #[test]
    fn an_unmarked_ledger_is_read_as_it_is_and_marked_when_it_is_written() {
        use crate::{Ledger, Look, Purpose};
        use std::time::Duration;
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("ledger.sqlite");
        fifth(&path);
        let before = std::fs::read(&path).unwrap();
        let rejects = |ledger: &Ledger| {
            let reader = ledger.reader().unwrap();
            assert_eq!(reader.devices(Look::All).unwrap().len(), 1);
            reader.rejects().unwrap().iter().map(|row| (row.line, row.count)).collect::<Vec<_>>()
        };
        let ledger = Ledger::open(&path, Purpose::Read, Duration::ZERO).unwrap();
        assert_eq!(rejects(&ledger), [(3, 1)]);
        drop(ledger);
        assert_eq!(std::fs::read(&path).unwrap(), before, "reading leaves it as it is");
        let ledger = Ledger::open(&path, Purpose::Write, Duration::ZERO).unwrap();
        assert_eq!(rejects(&ledger), [(3, 1)]);
        drop(ledger);
        let after = std::fs::read(&path).unwrap();
        assert_eq!((&after[68..72], after[page_checks::RESERVED_AT]), (&b"FPst"[..], 8));
        let mut changed = after.clone();
        *changed.last_mut().unwrap() ^= 1;
        std::fs::write(&path, &changed).unwrap();
        // Whether opening the ledger reads the last page depends on what the page holds.
        let is_found = match Ledger::open(&path, Purpose::Read, Duration::ZERO) {
            Ok(ledger) => !matches!(ledger.reader().unwrap().integrity(), Ok(None)),
            Err(error) => matches!(error, LedgerError::Damaged { .. }),
        };
        assert!(is_found, "its pages are checked from now on");
    }

    #[test]
    fn a_format_that_the_tables_are_not_of_is_named() {
        use crate::{Ledger, Purpose};
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("ledger.sqlite");
        for claimed in [0, 1, 2, 3, 4, 8] {
            let _ = std::fs::remove_file(&path);
            fifth(&path);
            Connection::open(&path).unwrap().pragma_update(None, "user_version", claimed).unwrap();
            for purpose in [Purpose::Read, Purpose::Write] {
                match Ledger::open(&path, purpose, std::time::Duration::ZERO) {
                    Err(LedgerError::Damaged { what, .. }) => assert!(what.contains("its tables are not"), "{what}"),
                    Err(LedgerError::Foreign { .. }) if matches!(claimed, 0 | 8) => {}
                    other => panic!("{claimed}: {other:?}"),
                }
            }
        }
    }

    #[test]
    fn a_ledger_of_the_third_format_keeps_its_spells_and_findings_in_their_order_and_marks_what_is_packed() {
        let mut connection = Connection::open_in_memory().unwrap();
        for step in [FIRST, SECOND, THIRD] {
            connection.execute_batch(step).unwrap();
        }
        connection
            .execute_batch(
                "PRAGMA user_version = 3;
                 INSERT INTO run (id, kind, number, as_of, at, user, version)
                    VALUES (1, 'assess', 1, 5, 5, 'u', '0'), (2, 'assess', 2, 9, 9, 'u', '0');
                 INSERT INTO device VALUES (1, 'b', 1), (2, 'a', 1);
                 INSERT INTO spell (kind, device, subject, value, detail, from_run, to_run) VALUES
                    ('verdict', 1, 'r', 'fail', '{}', 1, 2), ('verdict', 2, 'r', 'fail', '{}', 1, NULL),
                    ('verdict', 1, 's', 'fail', '{}', 1, NULL), ('verdict', 1, 'r', 'unknown', '{}', 2, NULL);
                 INSERT INTO assessed (device, input, until, collected, outcome, findings) VALUES
                    (1, x'01', 9, NULL, x'02', x'00ff80'), (2, x'01', 9, NULL, x'02', x'');
                 INSERT INTO finding (device, subject, opened, due, closed, body, from_run, to_run) VALUES
                    (1, 's', 5, 7, NULL, '{}', 1, NULL), (1, 'r', 5, 7, NULL, '{}', 1, 2), (1, 'r', 5, 7, 9, '{}', 2, NULL);",
            )
            .unwrap();
        migrate(&mut connection, Path::new("ledger")).unwrap();
        let reader = crate::reader::Reader::new(&connection, Path::new("ledger"), Arc::default());
        let spells = |run| {
            let spells = reader.spells(SpellKind::Verdict, Some("b"), run).unwrap();
            spells.into_iter().map(|spell| (spell.subject, spell.value)).collect::<Vec<_>>()
        };
        let pair = |one: &str, other: &str| (one.to_owned(), other.to_owned());
        assert_eq!(spells(Some(1)), [pair("r", "fail"), pair("s", "fail")]);
        assert_eq!(spells(None), [pair("r", "unknown"), pair("s", "fail")]);
        assert_eq!(reader.spells(SpellKind::Verdict, None, None).unwrap().len(), 3);
        let versions = reader.finding_versions("b").unwrap();
        let versions: Vec<_> = versions.iter().map(|row| (row.from_run, row.subject.as_str())).collect();
        assert_eq!(versions, [(1, "r"), (1, "s"), (2, "r")]);
        let running = reader.findings(None, None, false).unwrap();
        assert_eq!(running.iter().map(|row| row.subject.as_str()).collect::<Vec<_>>(), ["s"]);
        let packed = |device| reader.assessed(device).unwrap().unwrap().findings;
        // The ids stand before what is packed: here of two findings of one letter each.
        let ids = 1 + 4 + 2 * (4 + 1 + 8 + 8);
        assert_eq!((packed(1)[0], &packed(1)[ids..], packed(2)), (0xfe, &[0xff, 0, 0xff, 0x80][..], Vec::new()));
    }
}
