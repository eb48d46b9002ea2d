//! The tables, and how an older ledger becomes a newer one: in one transaction, or not at all.

use std::path::Path;

use rusqlite::{Connection, TransactionBehavior};

use crate::error::{LedgerError, doing};

/// Each step takes a ledger from one format to the next.
const STEPS: [&str; 1] = ["
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
"];

/// Brings a ledger to the newest format.
pub(crate) fn migrate(connection: &mut Connection, path: &Path) -> Result<(), LedgerError> {
    let failed = doing("open", path);
    let version = |connection: &Connection| connection.query_row("PRAGMA user_version", [], |row| row.get::<_, i64>(0));
    let known = i64::try_from(STEPS.len()).unwrap_or(i64::MAX);
    let found = version(connection).map_err(&failed)?;
    if found > known {
        return Err(LedgerError::Newer { path: path.to_owned(), found, known });
    }
    if found == known {
        return Ok(());
    }
    connection.execute_batch("PRAGMA journal_mode = WAL; PRAGMA page_size = 16384;").map_err(&failed)?;
    let transaction = connection.transaction_with_behavior(TransactionBehavior::Immediate).map_err(&failed)?;
    // Another process may have been here while this one waited.
    let found = version(&transaction).map_err(&failed)?;
    for step in STEPS.iter().skip(usize::try_from(found).unwrap_or(0)) {
        transaction.execute_batch(step).map_err(&failed)?;
    }
    transaction.pragma_update(None, "user_version", known).map_err(&failed)?;
    transaction.commit().map_err(&failed)
}
