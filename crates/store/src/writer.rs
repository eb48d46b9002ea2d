//! One transaction that changes the ledger: all of it, or nothing.

use std::collections::HashMap;
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::{Arc, PoisonError};

use jiff::Timestamp;
use rusqlite::{OptionalExtension, Transaction, params};

use crate::bodies::{SharedBodies, body_hash};
use crate::error::{LedgerError, doing, holder_file};
use crate::reader::{COMMITS, Reader};
use crate::rows::{
    AcceptanceRow, AssessedRow, ComingRow, EventRow, FindingRow, FormerName, RejectRow, RunKind, Spell, SpellKind,
    micros, moment,
};

const LEVEL: i32 = 3;

/// A file that was imported.
#[derive(Clone, Debug)]
pub struct FileRow<'f> {
    /// The digest of what it holds.
    pub digest: &'f str,
    /// The source it belongs to.
    pub source: &'f str,
    /// The digest of how its records are read.
    pub mapping: &'f str,
    /// Where it was.
    pub path: &'f str,
    /// How many records went in.
    pub records: i64,
    /// How many were set aside.
    pub rejected: i64,
    /// How many devices or people were missing in it and kept all the same.
    pub kept_missing: i64,
}

/// A record of state as it goes in.
#[derive(Clone, Copy, Debug)]
pub struct NewObservation<'o> {
    /// The device.
    pub device: &'o str,
    /// Who says so.
    pub source: &'o str,
    /// When it was collected.
    pub collected: Timestamp,
    /// The document's body.
    pub body: NewBody<'o>,
    /// What stood in its placeholders.
    pub volatile_parts: &'o [u8],
    /// A keyed digest of the record as it came.
    pub content: i64,
    /// The digest of the file it came in.
    pub file: &'o str,
    /// What the rules read of it.
    pub facts: PackedFacts<'o>,
}

/// A body as it goes in.
#[derive(Clone, Copy, Debug)]
pub struct NewBody<'o> {
    /// What it is known by: its [`body_hash`].
    pub hash: [u8; 32],
    /// The body itself.
    pub plain: &'o [u8],
    /// The body compressed, where that was done already.
    pub packed: Option<&'o [u8]>,
}

impl<'o> NewBody<'o> {
    /// Creates a body that is compressed where it is new.
    pub fn new(plain: &'o [u8]) -> Self {
        Self { hash: body_hash(plain), plain, packed: None }
    }
}

/// A run that begins.
#[derive(Clone, Copy, Debug)]
pub struct NewRun<'r> {
    /// What kind of command it is.
    pub kind: RunKind,
    /// The moment that it judges by.
    pub as_of: Timestamp,
    /// The moment at which it runs.
    pub at: Timestamp,
    /// Who runs it.
    pub user: &'r str,
    /// The program's version.
    pub version: &'r str,
    /// The digest of the rule set, where one is gone by.
    pub rule_set: Option<&'r str>,
}

/// What the rules read of what a source says.
#[derive(Clone, Copy, Debug)]
pub struct PackedFacts<'o> {
    /// Names the paths that they read.
    pub layout_fingerprint: i64,
    /// The facts.
    pub packed: &'o [u8],
}

/// What became of an observation, or of an entry of a list of people.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Added {
    /// It is what its source now says of the device.
    Current {
        /// The device or person was not known before.
        new_device: bool,
        /// What the source says differs from what it said before.
        changed: bool,
    },
    /// It is older than what its source said already: history.
    Older,
    /// It was there already.
    Known,
    /// Something else was collected at the very same moment.
    Conflict,
}

/// Writes a ledger, in one transaction.
#[derive(Debug)]
pub struct Writer<'l> {
    transaction: Transaction<'l>,
    path: PathBuf,
    shared: SharedBodies,
    devices: HashMap<String, i64>,
    sources: HashMap<String, i64>,
    events: i64,
    /// Spells and versions of findings that were written.
    rows: i64,
    _name: Option<NamePlate>,
}

/// The name that a writer leaves for those who wait; taken away when it is done, well or not.
#[derive(Debug)]
pub(crate) struct NamePlate(PathBuf);

impl NamePlate {
    pub(crate) fn put(ledger: &Path, command: &str) -> Self {
        let path = holder_file(ledger);
        // Without it others wait just as well, and only cannot say for whom.
        let _ = fs::write(&path, format!("process {} (fencepost {command})\n", std::process::id()));
        Self(path)
    }
}

impl Drop for NamePlate {
    fn drop(&mut self) {
        let _ = fs::remove_file(&self.0);
    }
}

impl<'l> Writer<'l> {
    pub(crate) fn new(
        transaction: Transaction<'l>,
        path: PathBuf,
        _name: Option<NamePlate>,
        shared: SharedBodies,
    ) -> Self {
        Self { transaction, path, shared, devices: HashMap::new(), sources: HashMap::new(), events: 0, rows: 0, _name }
    }

    fn failed(&self) -> impl Fn(rusqlite::Error) -> LedgerError + use<> {
        doing("write", &self.path)
    }

    pub(crate) fn run_sql(&self, sql: &str, params: impl rusqlite::Params) -> Result<usize, LedgerError> {
        let failed = self.failed();
        self.transaction.prepare_cached(sql).and_then(|mut statement| statement.execute(params)).map_err(failed)
    }

    /// Returns the id of the row that was put in last.
    pub(crate) fn last_id(&self) -> i64 {
        self.transaction.last_insert_rowid()
    }

    /// Returns a reader that sees what was written here.
    pub fn reader(&self) -> Reader<'_> {
        Reader::new(&self.transaction, &self.path, Arc::clone(&self.shared))
    }

    /// Makes everything written here permanent.
    ///
    /// # Errors
    /// When the ledger cannot be written; then nothing of it stays. So for every function here.
    pub fn commit(self) -> Result<(), LedgerError> {
        let failed = self.failed();
        self.run_sql(
            "INSERT INTO setting (key, value) VALUES (?1, '1') ON CONFLICT DO UPDATE SET value = value + 1",
            [COMMITS],
        )?;
        self.transaction.commit().map_err(failed)
    }

    /// Sets a setting of the ledger.
    pub fn set_setting(&self, key: &str, value: &str) -> Result<(), LedgerError> {
        self.run_sql(
            "INSERT INTO setting (key, value) VALUES (?1, ?2) ON CONFLICT DO UPDATE SET value = ?2",
            [key, value],
        )
        .map(|_| ())
    }

    /// Begins a run and returns its id.
    pub fn begin_run(&mut self, new: &NewRun<'_>) -> Result<i64, LedgerError> {
        let number = match new.kind {
            RunKind::Import | RunKind::Trim | RunKind::Send => None,
            RunKind::Assess => Some(
                self.transaction
                    .query_row("SELECT coalesce(max(number), 0) + 1 FROM run WHERE kind = 'assess'", [], |row| {
                        row.get::<_, i64>(0)
                    })
                    .map_err(self.failed())?,
            ),
        };
        self.run_sql(
            "INSERT INTO run (kind, number, as_of, at, user, version, rule_set) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)",
            params![new.kind.as_str(), number, micros(new.as_of), micros(new.at), new.user, new.version, new.rule_set],
        )?;
        Ok(self.transaction.last_insert_rowid())
    }

    /// Writes what a run came to, as JSON.
    pub fn end_run(&self, run: i64, summary: &str) -> Result<(), LedgerError> {
        self.run_sql("UPDATE run SET summary = ?2 WHERE id = ?1", params![run, summary]).map(|_| ())
    }

    /// Keeps the text of a rule set.
    pub fn keep_rule_set(&self, digest: &str, text: &[u8]) -> Result<(), LedgerError> {
        let known: Option<i64> = self
            .transaction
            .query_row("SELECT 1 FROM rule_set WHERE digest = ?1", [digest], |row| row.get(0))
            .optional()
            .map_err(self.failed())?;
        if known.is_some() {
            return Ok(());
        }
        let body = self.pack(text)?;
        self.run_sql("INSERT INTO rule_set (digest, body) VALUES (?1, ?2)", params![digest, body]).map(|_| ())
    }

    pub(crate) fn pack(&self, text: &[u8]) -> Result<Vec<u8>, LedgerError> {
        zstd::encode_all(text, LEVEL).map_err(|error| LedgerError::Files {
            act: "write",
            path: self.path.clone(),
            error,
        })
    }

    /// Notes an imported file.
    pub fn add_file(&self, run: i64, file: &FileRow<'_>) -> Result<(), LedgerError> {
        self.run_sql(
            "INSERT INTO file (digest, source, mapping, run, path, records, rejected, kept_missing) \
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8) ON CONFLICT DO UPDATE SET kept_missing = ?8",
            params![
                file.digest,
                file.source,
                file.mapping,
                run,
                file.path,
                file.records,
                file.rejected,
                file.kept_missing
            ],
        )
        .map(|_| ())
    }

    /// Notes a record that was set aside.
    pub fn add_reject(&self, reject: &RejectRow) -> Result<(), LedgerError> {
        self.run_sql(
            "INSERT INTO reject (run, source, path, line, offset, reason, count) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)",
            params![reject.run, reject.source, reject.path, reject.line, reject.offset, reject.reason, reject.count],
        )
        .map(|_| ())
    }

    pub(crate) fn one<T>(
        &self,
        sql: &str,
        params: impl rusqlite::Params,
        map: impl FnOnce(&rusqlite::Row<'_>) -> rusqlite::Result<T>,
    ) -> Result<Option<T>, LedgerError> {
        let failed = self.failed();
        let mut statement = self.transaction.prepare_cached(sql).map_err(&failed)?;
        statement.query_row(params, map).optional().map_err(&failed)
    }

    /// Returns the number of a body, kept when it is new.
    fn document(&self, body: &NewBody<'_>) -> Result<i64, LedgerError> {
        if let Some(known) = self.one("SELECT id FROM document WHERE hash = ?1", [body.hash], |row| row.get(0))? {
            return Ok(known);
        }
        let now;
        let packed = match body.packed {
            Some(packed) => packed,
            None => {
                now = self.reader().bodies()?.packer()?.pack(body.plain)?;
                &now
            }
        };
        self.run_sql("INSERT INTO document (hash, body) VALUES (?1, ?2)", params![body.hash, packed])?;
        Ok(self.transaction.last_insert_rowid())
    }

    /// Compresses bodies with a dictionary from now on.
    pub fn add_dictionary(&self, bytes: &[u8]) -> Result<(), LedgerError> {
        self.run_sql("INSERT INTO dictionary (bytes) VALUES (?1)", [bytes])?;
        *self.shared.lock().unwrap_or_else(PoisonError::into_inner) = None;
        Ok(())
    }

    /// Adds an observation. What the same file says anew, since it is read in another way, takes the place of what
    /// it said.
    pub fn add_observation(&mut self, run: i64, new: &NewObservation<'_>) -> Result<Added, LedgerError> {
        let (device, new_device) = self.device(run, new.device)?;
        let source = self.source(new.source)?;
        let document = self.document(&new.body)?;
        let (collected, volatile_parts) =
            (micros(new.collected), (!new.volatile_parts.is_empty()).then_some(new.volatile_parts));
        let there: Option<(i64, Option<i64>, bool)> = if new_device {
            None
        } else {
            self.one(
                "SELECT o.document, o.content, EXISTS (SELECT 1 FROM file f WHERE f.run = o.run AND f.digest = ?4) \
             FROM observation o WHERE o.device = ?1 AND o.source = ?2 AND o.collected = ?3 ORDER BY o.run DESC LIMIT 1",
                params![device, source, collected, new.file],
                |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?)),
            )?
        };
        if let Some((old, content, same_file)) = there {
            let same_content = content.map_or(old == document, |content| content == new.content);
            match (old == document, same_content || same_file) {
                (true, true) => return Ok(Added::Known),
                (false, true) => {}
                (_, false) => return Ok(Added::Conflict),
            }
        }
        self.run_sql(
            "INSERT OR REPLACE INTO observation (device, source, collected, run, document, content) VALUES (?1, ?2, ?3, ?4, ?5, ?6)",
            params![device, source, collected, run, document, new.content],
        )?;
        let before: Option<(i64, i64)> = if new_device {
            None
        } else {
            self.one(
                "SELECT collected, document FROM current WHERE device = ?1 AND source = ?2",
                params![device, source],
                |row| Ok((row.get(0)?, row.get(1)?)),
            )?
        };
        if before.is_some_and(|(newest, _)| newest > collected) {
            return Ok(Added::Older);
        }
        self.run_sql(
            "INSERT INTO current (device, source, collected, run, document, apart) VALUES (?1, ?2, ?3, ?4, ?5, ?6) \
             ON CONFLICT DO UPDATE SET collected = ?3, run = ?4, document = ?5, apart = ?6",
            params![device, source, collected, run, document, volatile_parts],
        )?;
        self.set_facts(device, source, new.facts)?;
        self.run_sql("INSERT OR IGNORE INTO dirty (device) VALUES (?1)", [device])?;
        if !new_device {
            self.run_sql(
                "UPDATE absence SET to_run = ?3 WHERE device = ?1 AND source = ?2 AND to_run IS NULL",
                params![device, source, run],
            )?;
        }
        Ok(Added::Current { new_device, changed: before.is_none_or(|(_, old)| old != document) })
    }

    /// Keeps what the rules read of what a source now says of a device, both by their numbers.
    pub fn set_facts(&self, device: i64, source: i64, facts: PackedFacts<'_>) -> Result<(), LedgerError> {
        self.run_sql(
            "INSERT INTO facts (device, source, stamp, packed) VALUES (?1, ?2, ?3, ?4) \
             ON CONFLICT DO UPDATE SET stamp = ?3, packed = ?4",
            params![device, source, facts.layout_fingerprint, facts.packed],
        )
        .map(|_| ())
    }

    /// Keeps what an assessment came to on a device, of which it is known until when the one before held; nothing where the device
    /// is retired.
    pub fn set_assessed(
        &self,
        device: i64,
        until_before: Option<Timestamp>,
        now: Option<&AssessedRow>,
    ) -> Result<(), LedgerError> {
        match now {
            // Its place in the index stays.
            Some(now) if until_before.is_some_and(|before| micros(before) == micros(now.until)) => self.run_sql(
                "UPDATE assessed SET input = ?2, collected = ?3, outcome = ?4, findings = ?5, valid_until = ?6 WHERE device = ?1",
                params![
                    device,
                    now.input,
                    now.collected.map(micros),
                    now.outcome,
                    now.findings,
                    micros(now.valid_until)
                ],
            ),
            Some(now) => self.run_sql(
                "INSERT INTO assessed (device, input, until, collected, outcome, findings, valid_until) \
                 VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7) ON CONFLICT DO UPDATE \
                 SET input = ?2, until = ?3, collected = ?4, outcome = ?5, findings = ?6, valid_until = ?7",
                params![
                    device,
                    now.input,
                    micros(now.until),
                    now.collected.map(micros),
                    now.outcome,
                    now.findings,
                    micros(now.valid_until)
                ],
            ),
            None => self.run_sql("DELETE FROM assessed WHERE device = ?1", [device]),
        }
        .map(|_| ())
    }

    /// Sets whom an assessment took for the holders of a device, those among them who may hold it later by time alone.
    pub fn set_holders(&self, device: i64, people: &[String]) -> Result<(), LedgerError> {
        self.run_sql("DELETE FROM holder WHERE device = ?1", [device])?;
        for person in people {
            self.run_sql("INSERT OR IGNORE INTO holder (person, device) VALUES (?1, ?2)", params![person, device])?;
        }
        Ok(())
    }

    /// Notes that everything that came in has been assessed.
    pub fn clear_dirty(&self) -> Result<(), LedgerError> {
        self.run_sql("DELETE FROM dirty", []).map(|_| ())
    }

    /// Makes the next assessment look at the devices that a person holds.
    fn touch_devices_of(&self, person: &str) -> Result<(), LedgerError> {
        self.run_sql("INSERT OR IGNORE INTO dirty (device) SELECT device FROM holder WHERE person = ?1", [person])
            .map(|_| ())
    }

    /// Notes that a complete export of a source no longer lists a device.
    pub fn set_absent(&mut self, run: i64, source: &str, device: &str) -> Result<(), LedgerError> {
        let (device, _) = self.device(run, device)?;
        let source = self.source(source)?;
        self.run_sql("INSERT INTO absence (device, source, from_run) VALUES (?1, ?2, ?3)", params![device, source, run])
            .map(|_| ())
    }

    /// Notes that an export of a source lists a device again.
    ///
    /// # Errors
    /// Fails if the ledger cannot be written.
    pub fn end_absence(&mut self, run: i64, source: &str, device: &str) -> Result<(), LedgerError> {
        let (device, _) = self.device(run, device)?;
        let source = self.source(source)?;
        self.run_sql(
            "UPDATE absence SET to_run = ?3 WHERE device = ?1 AND source = ?2 AND to_run IS NULL",
            params![device, source, run],
        )
        .map(|_| ())
    }

    /// Takes back that this run ended absences from a source: it read an older export.
    ///
    /// # Errors
    /// Fails if the ledger cannot be written.
    pub fn keep_absences(&mut self, run: i64, source: &str) -> Result<(), LedgerError> {
        let source = self.source(source)?;
        self.run_sql("UPDATE absence SET to_run = NULL WHERE source = ?1 AND to_run = ?2", params![source, run])
            .map(|_| ())
    }

    /// Keeps with what a source now says of a device those of its volatile facts that an assessment read.
    pub fn keep_volatile_parts(
        &mut self,
        run: i64,
        source: &str,
        device: &str,
        volatile_parts: &[u8],
    ) -> Result<(), LedgerError> {
        let (device, _) = self.device(run, device)?;
        let source = self.source(source)?;
        self.run_sql(
            "UPDATE observation SET apart = ?3 WHERE apart IS NOT ?3 AND (device, source, collected, run) = \
             (SELECT device, source, collected, run FROM current WHERE device = ?1 AND source = ?2)",
            params![device, source, volatile_parts],
        )
        .map(|_| ())
    }

    fn source(&mut self, name: &str) -> Result<i64, LedgerError> {
        if let Some(id) = self.sources.get(name) {
            return Ok(*id);
        }
        let id = match self.one("SELECT id FROM source WHERE name = ?1", [name], |row| row.get(0))? {
            Some(id) => id,
            None => {
                self.run_sql("INSERT INTO source (name) VALUES (?1)", [name])?;
                self.transaction.last_insert_rowid()
            }
        };
        self.sources.insert(name.to_owned(), id);
        Ok(id)
    }

    /// Writes every document again as `rewrite` gives it, with what is kept apart of each observation: for when facts are
    /// declared secret that lie in the ledger as they came. `rewrite` is given the device, the moment of collection, a
    /// body and what stood in its placeholders, and returns none for what stays as it is; returns how many did not.
    pub fn rewrite_documents(
        &mut self,
        mut rewrite: impl FnMut(&str, Timestamp, &[u8], Option<&[u8]>) -> Option<(Vec<u8>, Option<Vec<u8>>)>,
    ) -> Result<u64, LedgerError> {
        let failed = self.failed();
        let mut count = 0;
        for table in ["observation", "current"] {
            let keys: Vec<[i64; 4]> = {
                let sql = format!("SELECT device, source, collected, run FROM {table}");
                let mut statement = self.transaction.prepare(&sql).map_err(&failed)?;
                let rows = statement
                    .query_map([], |row| Ok([row.get(0)?, row.get(1)?, row.get(2)?, row.get(3)?]))
                    .map_err(&failed)?;
                rows.collect::<Result<_, _>>().map_err(&failed)?
            };
            let of_key = "WHERE o.device = ?1 AND o.source = ?2 AND o.collected = ?3 AND o.run = ?4";
            for key in keys {
                let found: Option<(String, Vec<u8>, Option<Vec<u8>>)> = self.one(
                    &format!(
                        "SELECT d.name, b.body, o.apart FROM {table} o JOIN document b ON b.id = o.document \
                         JOIN device d ON d.id = o.device {of_key}"
                    ),
                    key,
                    |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?)),
                )?;
                let Some((device, body, volatile_parts)) = found else { continue };
                let body = self.reader().unpack(&body)?;
                let Some((body, volatile_parts)) = rewrite(&device, moment(key[2]), &body, volatile_parts.as_deref())
                else {
                    continue;
                };
                let document = self.document(&NewBody::new(&body))?;
                let [device, source, collected, run] = key;
                self.run_sql(
                    &format!("UPDATE {table} AS o SET document = ?5, apart = ?6 {of_key}"),
                    params![device, source, collected, run, document, volatile_parts],
                )?;
                count += 1;
            }
        }
        if count > 0 {
            self.run_sql("DELETE FROM facts", [])?;
            self.run_sql("INSERT OR IGNORE INTO dirty (device) SELECT id FROM device", [])?;
            self.drop_unused_documents()?;
        }
        Ok(count)
    }

    /// Puts what `rewrite` makes of what is kept of people in its place, everything of the past too; returns how many rows that
    /// changed.
    pub fn rewrite_people(&mut self, mut rewrite: impl FnMut(&str) -> Option<String>) -> Result<u64, LedgerError> {
        let failed = self.failed();
        let rows: Vec<(i64, String)> = {
            let mut statement = self.transaction.prepare("SELECT rowid, body FROM person").map_err(&failed)?;
            let rows = statement.query_map([], |row| Ok((row.get(0)?, row.get(1)?))).map_err(&failed)?;
            rows.collect::<Result<_, _>>().map_err(&failed)?
        };
        let mut count = 0;
        for (row, body) in rows {
            if let Some(body) = rewrite(&body) {
                self.run_sql("UPDATE person SET body = ?2 WHERE rowid = ?1", params![row, body])?;
                count += 1;
            }
        }
        Ok(count)
    }

    /// Removes documents that no observation needs any more; returns how many.
    pub fn drop_unused_documents(&self) -> Result<u64, LedgerError> {
        self.run_sql(
            "DELETE FROM document WHERE id NOT IN (SELECT document FROM observation UNION SELECT document FROM current)",
            [],
        )
        .map(|count| count as u64)
    }

    /// Calls a device by another name from now on, with all that is known of it; returns whether anything was to be done.
    ///
    /// Where the new name is known already, both become one: of what both have, the older finding goes on.
    pub fn rename_device(&mut self, run: i64, old: &str, new: &str) -> Result<bool, LedgerError> {
        let number = |name: &str| self.one("SELECT id FROM device WHERE name = ?1", [name], |row| row.get::<_, i64>(0));
        let (Some(from), into) = (number(old)?, number(new)?) else { return Ok(false) };
        self.devices.clear();
        let Some(into) = into else {
            self.run_sql("UPDATE device SET name = ?2 WHERE id = ?1", params![from, new])?;
            // Its own name is among what was packed.
            self.run_sql("DELETE FROM facts WHERE device = ?1", [from])?;
            self.run_sql("INSERT OR IGNORE INTO dirty (device) VALUES (?1)", [from])?;
            return self.note_former_name(run, old, from, false);
        };
        self.run_sql("UPDATE OR IGNORE observation SET device = ?2 WHERE device = ?1", [from, into])?;
        self.run_sql("DELETE FROM observation WHERE device = ?1", [from])?;
        // The newer of both is current.
        self.run_sql(
            "DELETE FROM current WHERE device = ?2 AND EXISTS (SELECT 1 FROM current o WHERE o.device = ?1 \
             AND o.source = current.source AND o.collected > current.collected)",
            [from, into],
        )?;
        self.run_sql("UPDATE OR IGNORE current SET device = ?2 WHERE device = ?1", [from, into])?;
        self.run_sql("DELETE FROM current WHERE device = ?1", [from])?;
        self.run_sql("UPDATE absence SET device = ?2 WHERE device = ?1", [from, into])?;
        // What held under the old name ends; the next assessment says what holds.
        self.run_sql("UPDATE spell SET to_run = ?2 WHERE device = ?1 AND to_run IS NULL", [from, run])?;
        self.run_sql("UPDATE spell SET device = ?2 WHERE device = ?1", [from, into])?;
        self.run_sql(
            "UPDATE finding SET to_run = ?3 WHERE device = ?2 AND to_run IS NULL AND closed IS NULL AND EXISTS \
             (SELECT 1 FROM finding o WHERE o.device = ?1 AND o.subject = finding.subject AND o.to_run IS NULL AND o.closed IS NULL)",
            [from, into, run],
        )?;
        self.run_sql("UPDATE finding SET device = ?2 WHERE device = ?1", [from, into])?;
        self.run_sql("UPDATE event SET device = ?2 WHERE device = ?1", [from, into])?;
        self.run_sql("UPDATE former_name SET device = ?2 WHERE device = ?1", [from, into])?;
        self.run_sql("UPDATE action SET device = ?2 WHERE device = ?1", [from, into])?;
        self.run_sql("UPDATE OR IGNORE setting_state SET device = ?2 WHERE device = ?1", [from, into])?;
        self.run_sql("DELETE FROM setting_state WHERE device = ?1", [from])?;
        self.run_sql(
            "UPDATE device SET first_run = min(first_run, (SELECT first_run FROM device WHERE id = ?1)) WHERE id = ?2",
            [from, into],
        )?;
        self.run_sql("DELETE FROM facts WHERE device IN (?1, ?2)", [from, into])?;
        for table in ["holder", "dirty", "coming_decision"] {
            self.run_sql(&format!("DELETE FROM {table} WHERE device = ?1"), [from])?;
        }
        self.run_sql("DELETE FROM assessed WHERE device IN (?1, ?2)", [from, into])?;
        self.run_sql("INSERT OR IGNORE INTO dirty (device) VALUES (?1)", [into])?;
        self.run_sql("DELETE FROM device WHERE id = ?1", [from])?;
        // What was one with another name before is not told apart from this one any more either.
        self.run_sql("UPDATE former_name SET merged = 1 WHERE device = ?1", [into])?;
        self.note_former_name(run, old, into, true)
    }

    fn note_former_name(&self, run: i64, old: &str, device: i64, merged: bool) -> Result<bool, LedgerError> {
        self.run_sql(
            "INSERT OR REPLACE INTO former_name (name, device, run, merged) VALUES (?1, ?2, ?3, ?4)",
            params![old, device, run, merged],
        )?;
        Ok(true)
    }

    /// Gives a device the name back that it had before a renaming that is taken back. Nothing is done where another device has
    /// that name now.
    pub fn take_renaming_back(&mut self, of: &FormerName) -> Result<bool, LedgerError> {
        let is_taken = self.one("SELECT 1 FROM device WHERE name = ?1", [&of.name], |_| Ok(()))?.is_some();
        if of.merged || is_taken {
            return Ok(false);
        }
        self.devices.clear();
        self.run_sql("UPDATE device SET name = ?2 WHERE id = ?1", params![of.device, of.name])?;
        self.run_sql("DELETE FROM former_name WHERE device = ?1 AND run >= ?2", params![of.device, of.run])?;
        self.run_sql("DELETE FROM facts WHERE device = ?1", [of.device])?;
        self.run_sql("INSERT OR IGNORE INTO dirty (device) VALUES (?1)", [of.device])?;
        Ok(true)
    }

    /// Returns the number of a device, made when it is new.
    fn device(&mut self, run: i64, name: &str) -> Result<(i64, bool), LedgerError> {
        if let Some(id) = self.devices.get(name) {
            return Ok((*id, false));
        }
        let failed = self.failed();
        let found: Option<i64> = {
            let mut statement =
                self.transaction.prepare_cached("SELECT id FROM device WHERE name = ?1").map_err(&failed)?;
            statement.query_row([name], |row| row.get(0)).optional().map_err(&failed)?
        };
        let (id, new) = match found {
            Some(id) => (id, false),
            None => {
                self.run_sql("INSERT INTO device (name, first_run) VALUES (?1, ?2)", params![name, run])?;
                (self.transaction.last_insert_rowid(), true)
            }
        };
        self.devices.insert(name.to_owned(), id);
        Ok((id, new))
    }

    /// Sets what a source says of a person.
    pub fn set_person(&self, run: i64, source: &str, id: &str, body: &str) -> Result<Added, LedgerError> {
        let before: Option<String> = self
            .transaction
            .query_row(
                "SELECT body FROM person WHERE id = ?1 AND source = ?2 AND to_run IS NULL",
                [id, source],
                |row| row.get(0),
            )
            .optional()
            .map_err(self.failed())?;
        if before.as_deref() == Some(body) {
            return Ok(Added::Known);
        }
        self.end_person(run, source, id)?;
        self.run_sql(
            "INSERT INTO person (id, source, body, from_run) VALUES (?1, ?2, ?3, ?4)",
            params![id, source, body, run],
        )?;
        self.touch_devices_of(id)?;
        Ok(Added::Current { new_device: before.is_none(), changed: true })
    }

    /// Keeps that somebody accepted terms; returns whether that is new.
    pub fn add_acceptance(&self, run: i64, row: &AcceptanceRow) -> Result<bool, LedgerError> {
        let known: Option<i64> = self
            .transaction
            .query_row(
                "SELECT 1 FROM acceptance WHERE person = ?1 AND device = ?2 AND terms = ?3 AND version = ?4",
                params![row.person, row.device, row.terms, row.version],
                |row| row.get(0),
            )
            .optional()
            .map_err(self.failed())?;
        if known.is_some() {
            return Ok(false);
        }
        self.run_sql(
            "INSERT INTO acceptance (person, device, terms, version, source, from_run) VALUES (?1, ?2, ?3, ?4, ?5, ?6)",
            params![row.person, row.device, row.terms, row.version, row.source, run],
        )?;
        self.touch_devices_of(&row.person)?;
        Ok(true)
    }

    /// Ends what a source says of a person.
    pub fn end_person(&self, run: i64, source: &str, id: &str) -> Result<(), LedgerError> {
        self.touch_devices_of(id)?;
        self.run_sql(
            "UPDATE person SET to_run = ?3 WHERE id = ?1 AND source = ?2 AND to_run IS NULL",
            params![id, source, run],
        )
        .map(|_| ())
    }

    /// Makes the spells of a kind on a device be `now`; returns whether any began or ended. A spell goes on while its value is the same, that of a standing or a decision while its detail is,
    /// too.
    pub fn set_spells(&mut self, run: i64, kind: SpellKind, device: &str, now: &[Spell]) -> Result<bool, LedgerError> {
        let failed = self.failed();
        let (device, _) = self.device(run, device)?;
        let before: Vec<([i64; 2], Spell)> = {
            let mut statement = self
                .transaction
                .prepare_cached(
                    "SELECT from_run, seq, subject, value, detail FROM spell \
                     WHERE device = ?1 AND kind = ?2 AND to_run IS NULL",
                )
                .map_err(&failed)?;
            let rows = statement
                .query_map(params![device, kind.as_str()], |row| {
                    let spell = Spell { subject: row.get(2)?, value: row.get(3)?, detail: row.get(4)? };
                    Ok(([row.get(0)?, row.get(1)?], spell))
                })
                .map_err(&failed)?;
            rows.collect::<Result<_, _>>().map_err(&failed)?
        };
        let mut changed = false;
        let same = |one: &Spell, other: &Spell| {
            one.subject == other.subject
                && one.value == other.value
                && (kind == SpellKind::Verdict || one.detail == other.detail)
        };
        for ([from_run, seq], held) in &before {
            if !now.iter().any(|holds| same(holds, held)) {
                self.run_sql(
                    "UPDATE spell SET to_run = ?5 WHERE device = ?1 AND kind = ?2 AND from_run = ?3 AND seq = ?4",
                    params![device, kind.as_str(), from_run, seq, run],
                )?;
                changed = true;
            }
        }
        for holds in now.iter().filter(|holds| !before.iter().any(|(_, held)| same(holds, held))) {
            self.add_spell(run, kind, device, holds)?;
            changed = true;
        }
        Ok(changed)
    }

    /// Makes the decisions about a device that time alone will bring about be `coming`, in this order.
    pub fn set_coming_decisions(&mut self, device: i64, coming: &[ComingRow]) -> Result<(), LedgerError> {
        self.run_sql("DELETE FROM coming_decision WHERE device = ?1", [device])?;
        for (seq, row) in coming.iter().enumerate() {
            self.run_sql(
                "INSERT INTO coming_decision (device, seq, at, subject, value, detail, only_if_silent) \
                 VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)",
                params![
                    device,
                    i64::try_from(seq).unwrap_or(i64::MAX),
                    micros(row.at),
                    row.subject,
                    row.value,
                    row.detail,
                    row.only_if_silent
                ],
            )?;
        }
        Ok(())
    }

    /// Makes the spells of a kind on a device be `now`, of which no spell of that kind is known.
    pub fn add_spells(&mut self, run: i64, kind: SpellKind, device: i64, now: &[Spell]) -> Result<(), LedgerError> {
        now.iter().try_for_each(|holds| self.add_spell(run, kind, device, holds))
    }

    fn add_spell(
        &mut self,
        run: i64,
        kind: SpellKind,
        device: i64,
        Spell { subject, value, detail }: &Spell,
    ) -> Result<(), LedgerError> {
        self.rows += 1;
        self.run_sql(
            "INSERT INTO spell (device, kind, from_run, seq, subject, value, detail) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)",
            params![device, kind.as_str(), run, self.rows, subject, value, detail],
        )
        .map(|_| ())
    }

    /// Writes a new version of a finding, unless it is as it was.
    pub fn set_finding(&mut self, run: i64, finding: &FindingRow) -> Result<(), LedgerError> {
        let (device, _) = self.device(run, &finding.device)?;
        let (id, due, closed) = (finding.id.cast_signed(), micros(finding.due), finding.closed.map(micros));
        let before = self.one(
            "SELECT from_run, seq, subject = ?3 AND due = ?4 AND closed IS ?5 AND body = ?6 FROM finding \
             WHERE device = ?1 AND id = ?2 AND to_run IS NULL",
            params![device, id, finding.subject, due, closed, finding.body],
            |row| Ok(([row.get(0)?, row.get(1)?], row.get(2)?)),
        )?;
        match before {
            Some((_, true)) => return Ok(()),
            Some(([from_run, seq], false)) => {
                self.run_sql(
                    "UPDATE finding SET to_run = ?4 WHERE device = ?1 AND from_run = ?2 AND seq = ?3",
                    [device, from_run, seq, run],
                )?;
            }
            None => {}
        }
        self.add_finding(run, finding)
    }

    /// Writes the first version of a finding.
    pub fn add_finding(&mut self, run: i64, finding: &FindingRow) -> Result<(), LedgerError> {
        let (device, _) = self.device(run, &finding.device)?;
        let (opened, due, closed) = (micros(finding.opened), micros(finding.due), finding.closed.map(micros));
        self.rows += 1;
        self.run_sql(
            "INSERT INTO finding (device, from_run, seq, subject, opened, due, closed, body, id) \
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9)",
            params![
                device,
                run,
                self.rows,
                finding.subject,
                opened,
                due,
                closed,
                finding.body,
                finding.id.cast_signed()
            ],
        )
        .map(|_| ())
    }

    /// Writes the body of a finding's version anew, for what is of no version: how new its evidence is.
    pub fn touch_finding(&mut self, run: i64, finding: &FindingRow) -> Result<(), LedgerError> {
        let (device, _) = self.device(run, &finding.device)?;
        self.run_sql(
            "UPDATE finding SET body = ?3 WHERE device = ?1 AND to_run IS NULL AND id = ?2",
            params![device, finding.id.cast_signed(), finding.body],
        )
        .map(|_| ())
    }

    /// Adds an event.
    pub fn add_event(&mut self, run: i64, event: &EventRow) -> Result<(), LedgerError> {
        let (device, _) = self.device(run, &event.device)?;
        let finding = event.finding.as_ref();
        self.events += 1;
        self.run_sql(
            "INSERT INTO event (run, seq, device, at, what, finding, subject, opened, due, spell, detail) \
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11)",
            params![
                run,
                self.events,
                device,
                micros(event.at),
                event.what,
                finding.map(|finding| finding.id.cast_signed()),
                finding.map(|finding| finding.subject.as_str()),
                finding.map(|finding| micros(finding.opened)),
                finding.map(|finding| micros(finding.due)),
                finding.map(|finding| finding.spell),
                event.detail
            ],
        )
        .map(|_| ())
    }
}
