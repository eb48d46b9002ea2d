//! Reads the ledger: as it is, or as it was at an earlier run.

use std::cell::Cell;
use std::collections::{BTreeMap, HashSet};
use std::path::{Path, PathBuf};
use std::sync::{Arc, PoisonError};

use jiff::Timestamp;
use rusqlite::{Connection, OptionalExtension, Row, Statement, params};

use crate::Access;
use crate::bodies::{Bodies, SharedBodies, body_hash};
use crate::error::{LedgerError, doing};
use crate::rows::{
    Absence, AcceptanceRow, AssessedRow, BatchFacts, ComingRow, DecisionRow, DeviceBatch, DeviceRow, EventFinding,
    EventRow, FindingRow, FindingsSince, FormerName, ImportRow, Known, LayoutFingerprints, Look, PackedObservation,
    PersonRow, PersonSpell, RejectRow, RunRow, SourceRow, SpellKind, SpellRow, StoredObservation, micros, moment,
};

/// Reads a ledger.
#[derive(Clone, Debug)]
pub struct Reader<'c> {
    pub(crate) connection: &'c Connection,
    path: PathBuf,
    shared: SharedBodies,
    access: Option<Access>,
    /// Devices go by the names that they had at an earlier run.
    former_names_shown: bool,
}

/// Another connection to a ledger, which sees what the reader saw that it was made beside: for reading on another core.
#[derive(Debug)]
pub struct SnapshotReader {
    connection: Connection,
    path: PathBuf,
    shared: SharedBodies,
}

impl SnapshotReader {
    /// Reads the ledger.
    pub fn reader(&self) -> Reader<'_> {
        Reader::new(&self.connection, &self.path, Arc::clone(&self.shared))
    }
}

/// Devices whose numbers are no further apart than this are read together: a few rows that nobody asked for cost less than
/// looking for the next.
const CLOSE: i64 = 4;

/// The setting that counts what was committed, so that two connections can tell whether they see the same.
pub(crate) const COMMITS: &str = "commits";

/// The view that stands before the table of devices while they go by the names of an earlier run.
const FORMER_NAMES: &str = "
    CREATE TABLE temp.name_then (device INTEGER PRIMARY KEY, name TEXT NOT NULL) STRICT;
    INSERT INTO temp.name_then (device, name) SELECT device, name FROM
        (SELECT device, name, min(run) FROM main.former_name WHERE run > {run} AND merged = 0 GROUP BY device);
    CREATE VIEW temp.device AS SELECT d.id AS id, d.first_run AS first_run,
        coalesce((SELECT n.name FROM temp.name_then n WHERE n.device = d.id), d.name) AS name FROM main.device d;";

/// Lets devices go by the names that they have now.
pub(crate) fn show_names_of_now(connection: &Connection) -> rusqlite::Result<()> {
    let is_shown = "SELECT EXISTS (SELECT 1 FROM sqlite_temp_schema WHERE name = 'name_then')";
    if connection.query_row(is_shown, [], |row| row.get(0))? {
        change_temporary_schema(connection, "DROP VIEW temp.device; DROP TABLE temp.name_then;")?;
    }
    Ok(())
}

/// Runs statements that change nothing but the temporary schema, also on a connection that is for queries alone.
fn change_temporary_schema(connection: &Connection, sql: &str) -> rusqlite::Result<()> {
    let queries_only: bool = connection.pragma_query_value(None, "query_only", |row| row.get(0))?;
    connection.pragma_update(None, "query_only", false)?;
    let changed = connection.execute_batch(sql);
    connection.pragma_update(None, "query_only", queries_only)?;
    changed
}

/// Every run there will ever be: "as it is now".
const LATEST: i64 = i64::MAX;

impl<'c> Reader<'c> {
    pub(crate) fn new(connection: &'c Connection, path: &Path, shared: SharedBodies) -> Self {
        Self { connection, path: path.to_owned(), shared, access: None, former_names_shown: false }
    }

    /// Lets it open snapshot readers, where the ledger can be opened a second time.
    pub(crate) fn accompanied(self, access: Option<Access>) -> Self {
        Self { access, ..self }
    }

    /// Opens more connections that see what this one sees; none where that cannot be: of a ledger in memory, while it is being
    /// written here, when somebody else has written it since this reader began, or while devices go by the names of an earlier run.
    pub fn snapshot_readers(&self, count: usize) -> Vec<SnapshotReader> {
        let Some(access) = self.access else { return Vec::new() };
        if self.former_names_shown {
            return Vec::new();
        }
        let Ok(commits) = self.setting(COMMITS) else { return Vec::new() };
        let open = || {
            let connection = access.connect(&self.path).ok()?;
            connection.execute_batch("BEGIN; PRAGMA cache_size = -4096;").ok()?;
            let snapshot_reader =
                SnapshotReader { connection, path: self.path.clone(), shared: Arc::clone(&self.shared) };
            let sees = snapshot_reader.reader().setting(COMMITS).ok()?;
            (sees == commits).then_some(snapshot_reader)
        };
        let opened: Option<Vec<SnapshotReader>> = (0..count).map(|_| open()).collect();
        opened.unwrap_or_default()
    }

    /// Has every function of this reader, until the next reader of the ledger is made, call devices by the names that they had
    /// at a run. Two devices that became one by a renaming after it cannot be told apart and keep the name of now.
    ///
    /// # Errors
    /// When the ledger cannot be read.
    pub fn with_names_at(mut self, run: i64) -> Result<Self, LedgerError> {
        let renamed_since = "SELECT 1 FROM main.former_name WHERE run > ?1 AND merged = 0 LIMIT 1";
        if self.all(renamed_since, [run], |_| Ok(()))?.is_empty() {
            return Ok(self);
        }
        // A view of the temporary schema stands before the table of the same name in every query.
        show_names_of_now(self.connection)
            .and_then(|()| change_temporary_schema(self.connection, &FORMER_NAMES.replace("{run}", &run.to_string())))
            .map_err(self.failed())?;
        self.former_names_shown = true;
        Ok(self)
    }

    pub(crate) fn failed(&self) -> impl Fn(rusqlite::Error) -> LedgerError + use<> {
        doing("read", &self.path)
    }

    pub(crate) fn all<T>(
        &self,
        sql: &str,
        params: impl rusqlite::Params,
        map: impl FnMut(&Row<'_>) -> rusqlite::Result<T>,
    ) -> Result<Vec<T>, LedgerError> {
        let failed = self.failed();
        let mut statement = self.connection.prepare_cached(sql).map_err(&failed)?;
        let rows = statement.query_map(params, map).map_err(&failed)?;
        rows.collect::<Result<_, _>>().map_err(&failed)
    }

    /// Returns a setting of the ledger.
    ///
    /// # Errors
    /// When the ledger cannot be read; so for every function here.
    pub fn setting(&self, key: &str) -> Result<Option<String>, LedgerError> {
        self.connection
            .query_row("SELECT value FROM setting WHERE key = ?1", [key], |row| row.get(0))
            .optional()
            .map_err(self.failed())
    }

    /// Returns the last run of any kind.
    pub fn last_run(&self) -> Result<Option<RunRow>, LedgerError> {
        Ok(self.all(&format!("{RUN} ORDER BY id DESC LIMIT 1"), [], run_row)?.pop())
    }

    /// Returns the last run that may have changed what is known of the fleet: any but one that sent something.
    pub fn last_change(&self) -> Result<Option<RunRow>, LedgerError> {
        Ok(self.all(&format!("{RUN} WHERE kind <> 'send' ORDER BY id DESC LIMIT 1"), [], run_row)?.pop())
    }

    /// Returns the assessments, newest first, no more than `most`; those after `before` are left out.
    pub fn assessments(&self, before: Option<Timestamp>, most: u32) -> Result<Vec<RunRow>, LedgerError> {
        let limit = before.map_or(i64::MAX, micros);
        self.all(
            &format!(
                "{RUN} WHERE kind = 'assess' AND as_of <= ?1 AND id >= \
                 coalesce((SELECT CAST(value AS INTEGER) FROM setting WHERE key = '{KEPT_SINCE}'), 0) ORDER BY id DESC LIMIT ?2"
            ),
            params![limit, most],
            run_row,
        )
    }

    /// Returns the newest moment at which anything that is current was collected.
    pub fn newest_collected(&self) -> Result<Option<Timestamp>, LedgerError> {
        let found: Option<i64> = self
            .connection
            .query_row("SELECT max(collected) FROM current", [], |row| row.get(0))
            .map_err(self.failed())?;
        Ok(found.map(moment))
    }

    /// Returns a run by its id.
    pub fn run(&self, id: i64) -> Result<Option<RunRow>, LedgerError> {
        Ok(self.all(&format!("{RUN} WHERE id = ?1"), [id], run_row)?.pop())
    }

    /// Returns the imports after a run: how many, and the last one's id.
    pub fn imports_after(&self, run: i64) -> Result<i64, LedgerError> {
        self.connection
            .query_row("SELECT count(*) FROM run WHERE kind = 'import' AND id > ?1", [run], |row| row.get(0))
            .map_err(self.failed())
    }

    /// Returns when state was last imported, up to a run.
    pub fn last_import(&self, run: i64) -> Result<Option<Timestamp>, LedgerError> {
        let found: Option<i64> = self
            .connection
            .query_row("SELECT max(as_of) FROM run WHERE kind = 'import' AND id <= ?1", [run], |row| row.get(0))
            .map_err(self.failed())?;
        Ok(found.map(moment))
    }

    /// Returns the text of a rule set that was stored with an assessment.
    pub fn rule_set(&self, digest: &str) -> Result<Option<Vec<u8>>, LedgerError> {
        let body: Option<Vec<u8>> = self
            .connection
            .query_row("SELECT body FROM rule_set WHERE digest = ?1", [digest], |row| row.get(0))
            .optional()
            .map_err(self.failed())?;
        body.map(|body| self.unpack(&body)).transpose()
    }

    /// Returns what unpacks the bodies of documents.
    pub fn bodies(&self) -> Result<Arc<Bodies>, LedgerError> {
        let mut shared = self.shared.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(bodies) = &*shared {
            return Ok(Arc::clone(bodies));
        }
        let dictionaries = self.all("SELECT bytes FROM dictionary ORDER BY id", [], |row| row.get(0))?;
        let bodies = Arc::new(Bodies::new(self.path.clone(), &dictionaries));
        *shared = Some(Arc::clone(&bodies));
        Ok(bodies)
    }

    /// Returns the first bytes of the hashes of all bodies: those that are not among them are new.
    pub fn known_bodies(&self) -> Result<HashSet<[u8; 8]>, LedgerError> {
        let beginning = |row: &Row<'_>| {
            let hash = row.get_ref(0)?.as_blob()?;
            Ok(std::array::from_fn(|at| hash.get(at).copied().unwrap_or(0)))
        };
        Ok(self.all("SELECT hash FROM document", [], beginning)?.into_iter().collect())
    }

    pub(crate) fn unpack(&self, body: &[u8]) -> Result<Vec<u8>, LedgerError> {
        self.bodies()?.unpacker().unpack(body)
    }

    /// Returns whether a file was imported before, with the same mapping.
    pub fn known_file(&self, digest: &str, source: &str, mapping: &str) -> Result<Option<Known>, LedgerError> {
        self.connection
            .query_row(
                "SELECT run, kept_missing FROM file WHERE digest = ?1 AND source = ?2 AND mapping = ?3",
                [digest, source, mapping],
                |row| Ok(Known { run: row.get(0)?, kept_missing: row.get::<_, i64>(1)? > 0 }),
            )
            .optional()
            .map_err(self.failed())
    }

    /// Returns whether older observations of a device were removed, or may have been.
    pub fn is_trimmed_for(&self, device: &str) -> Result<bool, LedgerError> {
        self.connection
            .query_row(
                &format!(
                    "SELECT EXISTS (SELECT 1 FROM setting WHERE key = '{KEPT_SINCE}' AND CAST(value AS INTEGER) > \
                     (SELECT first_run FROM device WHERE name = ?1))"
                ),
                [device],
                |row| row.get(0),
            )
            .map_err(self.failed())
    }

    /// Returns whether there is any device.
    pub fn has_devices(&self) -> Result<bool, LedgerError> {
        self.connection.query_row("SELECT EXISTS (SELECT 1 FROM device)", [], |row| row.get(0)).map_err(self.failed())
    }

    /// Returns the devices that an assessment looks at, ascending by id.
    pub fn devices(&self, look: Look) -> Result<Vec<DeviceRow>, LedgerError> {
        match look {
            Look::All => {
                let dirty: Vec<i64> = self.all("SELECT device FROM dirty ORDER BY device", [], |row| row.get(0))?;
                // The index of names tells all of it.
                self.all("SELECT id, name FROM device ORDER BY name", [], |row| {
                    let number = row.get(0)?;
                    Ok(DeviceRow { number, name: row.get(1)?, dirty: dirty.binary_search(&number).is_ok() })
                })
            }
            Look::Changed(by) => self.all(CHANGED, [micros(by)], |row| {
                Ok(DeviceRow { number: row.get(0)?, name: row.get(1)?, dirty: row.get(2)? })
            }),
        }
    }

    /// Returns the numbers of the devices about which something came in since the last assessment.
    ///
    /// # Errors
    /// Fails if the ledger cannot be read.
    pub fn changed_devices(&self) -> Result<HashSet<i64>, LedgerError> {
        Ok(self.all("SELECT device FROM dirty", [], |row| row.get(0))?.into_iter().collect())
    }

    /// Returns so many of all devices, those whose ids come next after `name`; nothing is said of what came in.
    pub fn devices_after(&self, name: &str, most: usize) -> Result<Vec<DeviceRow>, LedgerError> {
        self.all(
            "SELECT id, name FROM device WHERE name > ?1 ORDER BY name LIMIT ?2",
            params![name, i64::try_from(most).unwrap_or(i64::MAX)],
            |row| Ok(DeviceRow { number: row.get(0)?, name: row.get(1)?, dirty: false }),
        )
    }

    /// Takes what is held of devices into buffers; the layout fingerprints name the paths that the rules read, now and perhaps earlier. Devices
    /// whose numbers lie close together are read in one go.
    pub fn hold(
        &self,
        devices: &[DeviceRow],
        layout_fingerprints: LayoutFingerprints,
        into: &mut DeviceBatch,
    ) -> Result<(), LedgerError> {
        into.clear(devices.len());
        let mut order: Vec<(i64, usize)> = devices.iter().enumerate().map(|(at, device)| (device.number, at)).collect();
        order.sort_unstable();
        let failed = self.failed();
        let prepare = |sql: &str| self.connection.prepare_cached(sql).map_err(&failed);
        let sources = self.source_names()?;
        let mut current =
            prepare("SELECT device, source, collected, apart IS NOT NULL FROM current WHERE device BETWEEN ?1 AND ?2")?;
        let mut facts = prepare("SELECT device, source, stamp, packed FROM facts WHERE device BETWEEN ?1 AND ?2")?;
        let mut assessed = prepare(
            "SELECT device, until, collected, input, outcome, findings, valid_until FROM assessed WHERE device BETWEEN ?1 AND ?2",
        )?;
        for close in order.chunk_by(|a, b| b.0 - a.0 <= CLOSE) {
            let (first, last) = (close[0].0, close[close.len() - 1].0);
            let next = Cell::new(into.facts.len());
            let mut fill =
                |statement: &mut Statement<'_>,
                 each: &dyn Fn(&mut DeviceBatch, usize, &Row<'_>) -> rusqlite::Result<()>| {
                    let mut rows = statement.query([first, last])?;
                    while let Some(row) = rows.next()? {
                        let number: i64 = row.get(0)?;
                        if let Ok(at) = close.binary_search_by_key(&number, |(number, _)| *number) {
                            each(into, close[at].1, row)?;
                        }
                    }
                    Ok(())
                };
            fill(&mut current, &|held, at, row| {
                let number = row.get(1)?;
                let source = sources.get(&number).cloned().unwrap_or_default();
                let (collected, has_volatile_parts) = (moment(row.get(2)?), row.get(3)?);
                let (packed, earlier) = (None, None);
                held.facts.push(BatchFacts {
                    device: at,
                    number,
                    source,
                    collected,
                    packed,
                    earlier,
                    has_volatile_parts,
                });
                Ok(())
            })
            .and_then(|()| {
                fill(&mut facts, &|held, at, row| {
                    let source: i64 = row.get(1)?;
                    let layout_fingerprint: i64 = row.get(2)?;
                    if layout_fingerprint == layout_fingerprints.now
                        || Some(layout_fingerprint) == layout_fingerprints.earlier
                    {
                        let packed = held.keep(row, 3)?;
                        // Both come in the same order.
                        let is_its_own = |said: &BatchFacts| (said.device, said.number) == (at, source);
                        if let Some(more) = held.facts[next.get()..].iter().position(is_its_own) {
                            next.set(next.get() + more);
                            let said = &mut held.facts[next.get()];
                            let place = if layout_fingerprint == layout_fingerprints.now {
                                &mut said.packed
                            } else {
                                &mut said.earlier
                            };
                            *place = Some(packed);
                        }
                    }
                    Ok(())
                })
            })
            .and_then(|()| {
                fill(&mut assessed, &|held, at, row| {
                    held.assessed[at] = Some(assessed_row(row, |row, column| held.keep(row, column))?);
                    Ok(())
                })
            })
            .map_err(&failed)?;
        }
        into.facts.sort_by(|a, b| (a.device, &a.source).cmp(&(b.device, &b.source)));
        Ok(())
    }

    /// Hands on what every source now says of some devices, by their positions among `devices`, bodies as they are kept; by
    /// source. Devices whose numbers lie close together are read in one go.
    pub fn packed_now(
        &self,
        devices: &[DeviceRow],
        wanted: &[usize],
        mut each: impl FnMut(usize, PackedObservation),
    ) -> Result<(), LedgerError> {
        let mut order: Vec<(i64, usize)> = wanted.iter().map(|at| (devices[*at].number, *at)).collect();
        if order.is_empty() {
            return Ok(());
        }
        order.sort_unstable();
        let failed = self.failed();
        let sources = self.source_names()?;
        let mut statement = self
            .connection
            .prepare_cached(
                "SELECT c.device, c.source, c.collected, b.body, c.apart, c.document FROM current c \
                 JOIN document b ON b.id = c.document WHERE c.device BETWEEN ?1 AND ?2",
            )
            .map_err(&failed)?;
        let mut found: Vec<(usize, PackedObservation)> = Vec::new();
        let mut read = |close: &[(i64, usize)]| {
            let mut rows = statement.query([close[0].0, close[close.len() - 1].0])?;
            while let Some(row) = rows.next()? {
                let number: i64 = row.get(0)?;
                if let Ok(at) = close.binary_search_by_key(&number, |(number, _)| *number) {
                    let source = sources.get(&row.get(1)?).map_or_else(String::new, |name| name.to_string());
                    let (collected, body) = (moment(row.get(2)?), row.get(3)?);
                    let said = PackedObservation {
                        source,
                        collected,
                        body,
                        volatile_parts: row.get(4)?,
                        document: row.get(5)?,
                    };
                    found.push((close[at].1, said));
                }
            }
            Ok(())
        };
        order.chunk_by(|a, b| b.0 - a.0 <= CLOSE).try_for_each(&mut read).map_err(&failed)?;
        found.sort_by(|(a, one), (b, other)| (a, &one.source).cmp(&(b, &other.source)));
        found.into_iter().for_each(|(at, said)| each(at, said));
        Ok(())
    }

    /// Returns the ids of the sources, by their numbers.
    fn source_names(&self) -> Result<BTreeMap<i64, Arc<str>>, LedgerError> {
        let rows =
            self.all("SELECT id, name FROM source", [], |row| Ok((row.get(0)?, Arc::from(row.get_ref(1)?.as_str()?))))?;
        Ok(rows.into_iter().collect())
    }

    /// Returns whether there is anything that an assessment came to.
    pub fn has_assessed(&self) -> Result<bool, LedgerError> {
        self.connection.query_row("SELECT EXISTS (SELECT 1 FROM assessed)", [], |row| row.get(0)).map_err(self.failed())
    }

    /// Returns whether anything ever held of any device.
    pub fn has_spells(&self) -> Result<bool, LedgerError> {
        self.connection.query_row("SELECT EXISTS (SELECT 1 FROM spell)", [], |row| row.get(0)).map_err(self.failed())
    }

    /// Returns what the last assessment came to on a device.
    pub fn assessed(&self, device: i64) -> Result<Option<AssessedRow>, LedgerError> {
        let found = self.all(
            "SELECT device, until, collected, input, outcome, findings, valid_until FROM assessed WHERE device = ?1",
            [device],
            |row| assessed_row(row, |row, column| row.get(column)),
        )?;
        Ok(found.into_iter().next())
    }

    /// Returns of how many devices time may have changed the verdicts since the last assessment, at a moment.
    pub fn past_valid_until(&self, at: Timestamp) -> Result<u64, LedgerError> {
        // Both moments are that one, or the first is earlier.
        let sql = "SELECT count(*) FROM assessed INDEXED BY assessed_until WHERE until <= ?1 AND valid_until <= ?1";
        let mut statement = self.connection.prepare_cached(sql).map_err(self.failed())?;
        let count = statement.query_row([micros(at)], |row| row.get::<_, i64>(0));
        Ok(count.map_err(self.failed())?.unsigned_abs())
    }

    /// Hands on when each of the assessed devices was last collected.
    pub fn each_assessed_collected(&self, mut each: impl FnMut(Timestamp)) -> Result<(), LedgerError> {
        let failed = self.failed();
        let sql = "SELECT collected FROM assessed WHERE collected IS NOT NULL";
        let mut statement = self.connection.prepare_cached(sql).map_err(&failed)?;
        let rows = statement.query_map([], |row| row.get(0)).map_err(&failed)?;
        rows.into_iter().try_for_each(|row| row.map(|at| each(moment(at)))).map_err(&failed)
    }

    /// Returns the findings of a device that are in effect, closed ones among them, by subject and moment of opening.
    pub fn findings_now(&self, device: &DeviceRow) -> Result<Vec<FindingRow>, LedgerError> {
        self.all(
            "SELECT ?2, subject, opened, due, closed, body, from_run, id FROM finding \
             WHERE device = ?1 AND to_run IS NULL ORDER BY subject, opened",
            params![device.number, device.name],
            finding_row,
        )
    }

    /// Returns the findings of a device that ran as of a run, by subject and opening.
    ///
    /// # Errors
    /// Fails if the ledger cannot be read.
    pub fn findings_of(&self, device: &DeviceRow, run: Option<i64>) -> Result<Vec<FindingRow>, LedgerError> {
        self.all(
            "SELECT ?2, subject, opened, due, closed, body, from_run, id FROM finding \
             WHERE device = ?1 AND from_run <= ?3 AND (to_run IS NULL OR to_run > ?3) AND closed IS NULL \
             ORDER BY subject, opened",
            params![device.number, device.name, run.unwrap_or(LATEST)],
            finding_row,
        )
    }

    /// Returns the spells of a kind on a device as of a run, by subject.
    ///
    /// # Errors
    /// Fails if the ledger cannot be read.
    pub fn spells_of(
        &self,
        kind: SpellKind,
        device: &DeviceRow,
        run: Option<i64>,
    ) -> Result<Vec<SpellRow>, LedgerError> {
        self.all(
            "SELECT ?2, subject, value, detail, from_run, to_run FROM spell \
             WHERE device = ?1 AND kind = ?3 AND +from_run <= ?4 AND (to_run IS NULL OR to_run > ?4) ORDER BY subject",
            params![device.number, device.name, kind.as_str(), run.unwrap_or(LATEST)],
            spell_row,
        )
    }

    /// Returns the decisions about a device that time alone will bring about, as the last assessment that looked at it found, by
    /// moment.
    pub fn coming_decisions(&self, device: i64) -> Result<Vec<ComingRow>, LedgerError> {
        self.all(
            "SELECT at, subject, value, detail, only_if_silent FROM coming_decision WHERE device = ?1 ORDER BY seq",
            [device],
            |row| {
                Ok(ComingRow {
                    at: moment(row.get(0)?),
                    subject: row.get(1)?,
                    value: row.get(2)?,
                    detail: row.get(3)?,
                    only_if_silent: row.get(4)?,
                })
            },
        )
    }

    /// Returns the devices about which something may be told of access, by name: a decision changed after the run `since`, time alone
    /// changes one at or before `at` or certainly later, terms are yet to be accepted, or something is denied now, by an access rule or,
    /// where `by_default`, anyhow.
    ///
    /// # Errors
    /// Fails if the ledger cannot be read; so for every function here.
    pub fn devices_with_access_news(
        &self,
        since: Option<i64>,
        at: Timestamp,
        by_default: bool,
    ) -> Result<Vec<DeviceRow>, LedgerError> {
        self.all(
            "SELECT id, name FROM device WHERE id IN ( \
                 SELECT device FROM spell WHERE +kind = 'decision' AND (from_run > ?1 OR to_run > ?1 \
                     OR to_run IS NULL AND (value = 'deny' AND (?3 OR instr(detail, '\"access_rules\":[]') = 0) \
                         OR instr(value, 'terms ') > 0)) \
                 UNION SELECT device FROM coming_decision WHERE only_if_silent = 0 OR at <= ?2) \
             ORDER BY name",
            params![since.unwrap_or(LATEST), micros(at), by_default],
            |row| Ok(DeviceRow { number: row.get(0)?, name: row.get(1)?, dirty: false }),
        )
    }

    /// Returns the devices of which time alone changes a decision up to a moment, by name.
    pub fn devices_with_decisions_until(&self, at: Timestamp) -> Result<Vec<DeviceRow>, LedgerError> {
        self.all(
            "SELECT id, name FROM device WHERE id IN (SELECT device FROM coming_decision WHERE at <= ?1) ORDER BY name",
            [micros(at)],
            |row| Ok(DeviceRow { number: row.get(0)?, name: row.get(1)?, dirty: false }),
        )
    }

    /// Returns how many people lose something after `at` only if a device says nothing until then; of one person or device alone,
    /// where one is named.
    pub fn people_who_lose_by_silence(
        &self,
        at: Timestamp,
        person: Option<&str>,
        device: Option<&str>,
    ) -> Result<u64, LedgerError> {
        let count: Vec<i64> = self.all(
            "SELECT count(DISTINCT subject ->> 0) FROM coming_decision WHERE only_if_silent = 1 AND at > ?1 \
                 AND (?2 IS NULL OR subject ->> 0 = ?2) \
                 AND (?3 IS NULL OR device = (SELECT id FROM device WHERE name = ?3))",
            params![micros(at), person, device],
            |row| row.get(0),
        )?;
        Ok(count.first().copied().map_or(0, i64::unsigned_abs))
    }

    /// Returns the number of the device that has a name now.
    pub fn device_number(&self, name: &str) -> Result<Option<i64>, LedgerError> {
        Ok(self.all("SELECT id FROM device WHERE name = ?1", [name], |row| row.get(0))?.pop())
    }

    /// Returns the ids of all devices, ascending.
    pub fn device_names(&self) -> Result<Vec<String>, LedgerError> {
        self.all("SELECT name FROM device ORDER BY name", [], |row| row.get(0))
    }

    /// Returns what every source last said of a device, as known at a run; by source.
    pub fn observations_of(&self, device: &str, run: Option<i64>) -> Result<Vec<StoredObservation>, LedgerError> {
        self.observation_rows(device, run)?.into_iter().map(|row| self.observation(row)).collect()
    }

    /// Returns the same with bodies as they are kept.
    pub fn packed_observations(&self, device: &str, run: Option<i64>) -> Result<Vec<PackedObservation>, LedgerError> {
        self.observation_rows(device, run)
    }

    fn observation_rows(&self, device: &str, run: Option<i64>) -> Result<Vec<PackedObservation>, LedgerError> {
        match run {
            None => self.all(CURRENT, [device], observation_row),
            // What is still current has all its volatile facts; of what was, those remain that an assessment read.
            Some(run) => self.all(
                "SELECT s.name, o.collected, b.body, coalesce(c.apart, o.apart), o.document FROM device d \
                 JOIN observation o ON o.device = d.id JOIN source s ON s.id = o.source JOIN document b ON b.id = o.document \
                 LEFT JOIN current c ON c.device = o.device AND c.source = o.source AND c.collected = o.collected AND c.run = o.run \
                 WHERE d.name = ?1 AND (o.collected, o.run) = \
                 (SELECT n.collected, n.run FROM observation n WHERE n.device = o.device AND n.source = o.source AND n.run <= ?2 \
                 ORDER BY n.collected DESC, n.run DESC LIMIT 1) ORDER BY s.name",
                params![device, run],
                observation_row,
            ),
        }
    }

    fn observation(&self, packed: PackedObservation) -> Result<StoredObservation, LedgerError> {
        let PackedObservation { source, collected, body, volatile_parts, document } = packed;
        Ok(StoredObservation { source, collected, body: self.unpack(&body)?, volatile_parts, document })
    }

    /// Returns everything that was ever said of a device up to a run, by source and moment of collection; of what was
    /// collected at one moment what was read last.
    pub fn history_of(&self, device: &str, run: Option<i64>) -> Result<Vec<StoredObservation>, LedgerError> {
        let rows = self.all(
            "SELECT s.name, o.collected, b.body, coalesce(c.apart, o.apart), o.document FROM device d \
             JOIN observation o ON o.device = d.id JOIN source s ON s.id = o.source JOIN document b ON b.id = o.document \
             LEFT JOIN current c ON c.device = o.device AND c.source = o.source AND c.collected = o.collected AND c.run = o.run \
             WHERE d.name = ?1 AND o.run = (SELECT max(n.run) FROM observation n WHERE n.device = o.device AND n.source = o.source \
             AND n.collected = o.collected AND n.run <= ?2) ORDER BY s.name, o.collected",
            params![device, run.unwrap_or(LATEST)],
            observation_row,
        )?;
        rows.into_iter().map(|row| self.observation(row)).collect()
    }

    /// Returns everything that was ever said of a device up to a run, in the order in which it came in, each with the run that
    /// brought it; bodies as they are kept.
    pub fn arrivals_of(&self, device: &str, run: Option<i64>) -> Result<Vec<(i64, PackedObservation)>, LedgerError> {
        self.all(
            "SELECT s.name, o.collected, b.body, coalesce(c.apart, o.apart), o.document, o.run FROM device d \
             JOIN observation o ON o.device = d.id JOIN source s ON s.id = o.source JOIN document b ON b.id = o.document \
             LEFT JOIN current c ON c.device = o.device AND c.source = o.source AND c.collected = o.collected AND c.run = o.run \
             WHERE d.name = ?1 AND o.run <= ?2 ORDER BY o.run, o.collected, s.name",
            params![device, run.unwrap_or(LATEST)],
            |row| Ok((row.get(5)?, observation_row(row)?)),
        )
    }

    /// Returns the sources that no longer list a device at a run, each with when that began.
    pub fn absences_of(&self, device: &str, run: Option<i64>) -> Result<Vec<(String, Timestamp)>, LedgerError> {
        self.all(
            "SELECT s.name, r.as_of FROM absence a JOIN device d ON d.id = a.device JOIN source s ON s.id = a.source \
             JOIN run r ON r.id = a.from_run WHERE d.name = ?1 AND a.from_run <= ?2 AND (a.to_run IS NULL OR a.to_run > ?2) \
             ORDER BY s.name",
            params![device, run.unwrap_or(LATEST)],
            |row| Ok((row.get(0)?, moment(row.get(1)?))),
        )
    }

    /// Returns the devices that sources no longer list at a run, each with the sources, by id.
    pub fn absences(&self, run: Option<i64>) -> Result<BTreeMap<String, Vec<String>>, LedgerError> {
        let mut by_device: BTreeMap<String, Vec<String>> = BTreeMap::new();
        let rows: Vec<(String, String)> = self.all(
            "SELECT d.name, s.name FROM absence a JOIN device d ON d.id = a.device JOIN source s ON s.id = a.source \
             WHERE a.from_run <= ?1 AND (a.to_run IS NULL OR a.to_run > ?1) ORDER BY d.name, s.name",
            [run.unwrap_or(LATEST)],
            |row| Ok((row.get(0)?, row.get(1)?)),
        )?;
        for (device, source) in rows {
            by_device.entry(device).or_default().push(source);
        }
        Ok(by_device)
    }

    /// Returns how the sources are doing that speak of devices at a run, by id.
    pub fn sources(&self, run: Option<i64>) -> Result<Vec<SourceRow>, LedgerError> {
        self.all(
            "WITH latest AS (SELECT device, source, max(collected) AS collected FROM observation WHERE run <= ?1 GROUP BY device, source), \
             now AS (SELECT l.source, l.collected, EXISTS (SELECT 1 FROM absence a WHERE a.device = l.device \
             AND a.source = l.source AND a.from_run <= ?1 AND (a.to_run IS NULL OR a.to_run > ?1)) AS gone, \
             row_number() OVER (PARTITION BY l.source ORDER BY l.collected) AS at, count(*) OVER (PARTITION BY l.source) AS n FROM latest l) \
             SELECT s.name, count(*) - sum(gone), sum(gone), max(collected), \
             max(CASE WHEN at = (n + 1) / 2 THEN collected END) FROM now JOIN source s ON s.id = now.source \
             GROUP BY s.name ORDER BY s.name",
            [run.unwrap_or(LATEST)],
            |row| {
                Ok(SourceRow {
                    source: row.get(0)?,
                    devices: row.get(1)?,
                    absent: row.get(2)?,
                    collected: row.get::<_, Option<i64>>(3)?.map(moment),
                    median: row.get::<_, Option<i64>>(4)?.map(moment),
                })
            },
        )
    }

    /// Returns the imports of a source up to a run, newest first, no more than `most`.
    pub fn imports_of(&self, source: &str, run: Option<i64>, most: u32) -> Result<Vec<ImportRow>, LedgerError> {
        self.all(
            // A file of which records lie in the future is no known file, and was imported all the same.
            "SELECT as_of, summary ->> 'path', coalesce(summary ->> 'records', 0), coalesce(summary ->> 'rejected', 0) FROM run \
             WHERE kind = 'import' AND summary ->> 'source' = ?1 AND id <= ?2 ORDER BY id DESC LIMIT ?3",
            params![source, run.unwrap_or(LATEST), most],
            |row| {
                Ok(ImportRow {
                    at: moment(row.get(0)?),
                    path: row.get(1)?,
                    records: row.get(2)?,
                    rejected: row.get(3)?,
                })
            },
        )
    }

    /// Returns the devices that a source spoke of and does not list any more.
    ///
    /// # Errors
    /// Fails if the ledger cannot be read.
    pub fn absent_from(&self, source: &str) -> Result<Vec<String>, LedgerError> {
        self.all(
            "SELECT DISTINCT d.name FROM absence a JOIN device d ON d.id = a.device JOIN source s ON s.id = a.source \
             WHERE s.name = ?1 AND a.to_run IS NULL ORDER BY d.name",
            [source],
            |row| row.get(0),
        )
    }

    /// Returns when the newest of what a source says of any device was collected.
    ///
    /// # Errors
    /// Fails if the ledger cannot be read.
    pub fn newest_of(&self, source: &str) -> Result<Option<Timestamp>, LedgerError> {
        let newest = self.all(
            "SELECT max(c.collected) FROM current c JOIN source s ON s.id = c.source WHERE s.name = ?1",
            [source],
            |row| row.get::<_, Option<i64>>(0),
        )?;
        Ok(newest.into_iter().flatten().next().map(moment))
    }

    /// Returns the devices that a source speaks of and still lists, with when each was last collected.
    pub fn listed_by(&self, source: &str) -> Result<Vec<(String, Timestamp)>, LedgerError> {
        self.all(
            "SELECT d.name, c.collected FROM current c JOIN device d ON d.id = c.device JOIN source s ON s.id = c.source \
             WHERE s.name = ?1 AND NOT EXISTS (SELECT 1 FROM absence a WHERE a.device = c.device AND a.source = c.source \
             AND a.to_run IS NULL) ORDER BY d.name",
            [source],
            |row| Ok((row.get(0)?, moment(row.get(1)?))),
        )
    }

    /// Returns what a device is called, as this reader names devices, that is named by another of its names.
    pub fn renamed(&self, name: &str) -> Result<Option<String>, LedgerError> {
        let sql = "SELECT d.name FROM former_name f JOIN device d ON d.id = f.device WHERE f.name = ?1 \
            UNION ALL SELECT d.name FROM main.device m JOIN device d ON d.id = m.id WHERE m.name = ?1 AND d.name <> ?1";
        Ok(self.all(sql, [name], |row| row.get(0))?.into_iter().next())
    }

    /// Returns the names that devices had before.
    pub fn all_former_names(&self) -> Result<Vec<String>, LedgerError> {
        self.all("SELECT name FROM former_name", [], |row| row.get(0))
    }

    /// Returns the names that devices had before, the latest renaming first.
    pub fn renamings(&self) -> Result<Vec<FormerName>, LedgerError> {
        self.all(
            "SELECT f.name, f.device, d.name, f.run, f.merged FROM former_name f JOIN device d ON d.id = f.device \
             ORDER BY f.run DESC, f.name",
            [],
            |row| {
                Ok(FormerName {
                    name: row.get(0)?,
                    device: row.get(1)?,
                    now: row.get(2)?,
                    run: row.get(3)?,
                    merged: row.get(4)?,
                })
            },
        )
    }

    /// Returns the source that collected each of two devices after it had first collected the other, if there is one: they are two
    /// machines.
    pub fn collecting_both(&self, one: &str, other: &str) -> Result<Option<String>, LedgerError> {
        let sql = "SELECT s.name FROM (SELECT source, min(collected) AS first, max(collected) AS last FROM observation o \
             JOIN device d ON d.id = o.device WHERE d.name = ?1 GROUP BY source) a \
             JOIN (SELECT source, min(collected) AS first, max(collected) AS last FROM observation o \
             JOIN device d ON d.id = o.device WHERE d.name = ?2 GROUP BY source) b ON b.source = a.source \
             JOIN source s ON s.id = a.source WHERE a.last > b.first AND b.last > a.first ORDER BY s.name LIMIT 1";
        Ok(self.all(sql, [one, other], |row| row.get(0))?.pop())
    }

    /// Returns the names that a device had before.
    pub fn former_names(&self, name: &str) -> Result<Vec<String>, LedgerError> {
        self.all(
            "SELECT f.name FROM former_name f JOIN device d ON d.id = f.device WHERE d.name = ?1 ORDER BY f.run, f.name",
            [name],
            |row| row.get(0),
        )
    }

    /// Returns every entry of a person, oldest first.
    pub fn person_history(&self, id: &str) -> Result<Vec<PersonSpell>, LedgerError> {
        self.all(
            "SELECT id, source, body, from_run, to_run FROM person WHERE id = ?1 ORDER BY from_run, source",
            [id],
            |row| {
                let entry = PersonRow { id: row.get(0)?, source: row.get(1)?, body: row.get(2)? };
                Ok(PersonSpell { entry, from_run: row.get(3)?, to_run: row.get(4)? })
            },
        )
    }

    /// Returns what the lists say of a person now, by source.
    pub fn person_entries(&self, id: &str) -> Result<Vec<PersonRow>, LedgerError> {
        self.all("SELECT id, source, body FROM person WHERE id = ?1 AND to_run IS NULL ORDER BY source", [id], |row| {
            Ok(PersonRow { id: row.get(0)?, source: row.get(1)?, body: row.get(2)? })
        })
    }

    /// Returns the people as listed at a run, by id and source.
    pub fn people(&self, run: Option<i64>) -> Result<Vec<PersonRow>, LedgerError> {
        self.all(
            "SELECT id, source, body FROM person WHERE from_run <= ?1 AND (to_run IS NULL OR to_run > ?1) ORDER BY id, source",
            [run.unwrap_or(LATEST)],
            |row| Ok(PersonRow { id: row.get(0)?, source: row.get(1)?, body: row.get(2)? }),
        )
    }

    /// Hands on each entry of the people as listed at a run, the id and what it says as JSON; by id and source.
    ///
    /// # Errors
    /// Fails if the ledger cannot be read.
    pub fn each_person(&self, run: Option<i64>, mut each: impl FnMut(&str, &str)) -> Result<(), LedgerError> {
        let failed = self.failed();
        let sql =
            "SELECT id, body FROM person WHERE from_run <= ?1 AND (to_run IS NULL OR to_run > ?1) ORDER BY id, source";
        let mut statement = self.connection.prepare_cached(sql).map_err(&failed)?;
        let mut rows = statement.query([run.unwrap_or(LATEST)]).map_err(&failed)?;
        while let Some(row) = rows.next().map_err(&failed)? {
            let text = |at: usize| Ok(row.get_ref(at)?.as_str()?);
            each(text(0).map_err(&failed)?, text(1).map_err(&failed)?);
        }
        Ok(())
    }

    /// Returns the last run, up to one, that changed what lists say of people or which terms were accepted; 0 where none did.
    pub fn last_change_of_people(&self, run: i64) -> Result<i64, LedgerError> {
        let last: Vec<Option<i64>> = self.all(
            "SELECT max(run) FROM (SELECT max(from_run) AS run FROM person WHERE from_run <= ?1 \
             UNION ALL SELECT max(to_run) FROM person WHERE to_run <= ?1 \
             UNION ALL SELECT max(from_run) FROM acceptance WHERE from_run <= ?1)",
            [run],
            |row| row.get(0),
        )?;
        Ok(last.first().copied().flatten().unwrap_or(0))
    }

    /// Returns which terms were accepted as of a run.
    pub fn acceptances(&self, run: Option<i64>) -> Result<Vec<AcceptanceRow>, LedgerError> {
        self.all(
            "SELECT person, device, terms, version, source FROM acceptance WHERE from_run <= ?1 \
             ORDER BY person, device, terms, version",
            [run.unwrap_or(LATEST)],
            |row| {
                Ok(AcceptanceRow {
                    person: row.get(0)?,
                    device: row.get(1)?,
                    terms: row.get(2)?,
                    version: row.get(3)?,
                    source: row.get(4)?,
                })
            },
        )
    }

    /// Returns the spells of a kind that held at a run, by device and subject; of one device when named.
    pub fn spells(
        &self,
        kind: SpellKind,
        device: Option<&str>,
        run: Option<i64>,
    ) -> Result<Vec<SpellRow>, LedgerError> {
        // All that a run began may be very many, so a device's own are looked for at the device.
        let (from_run, filter) = match device {
            Some(_) => ("+s.from_run", "AND d.name = ?3"),
            None => ("s.from_run", "AND ?3 IS NULL"),
        };
        self.all(
            &format!(
                "SELECT d.name, s.subject, s.value, s.detail, s.from_run, s.to_run FROM spell s JOIN device d ON d.id = s.device \
                 WHERE s.kind = ?1 AND {from_run} <= ?2 AND (s.to_run IS NULL OR s.to_run > ?2) {filter} ORDER BY d.name, s.subject"
            ),
            params![kind.as_str(), run.unwrap_or(LATEST), device],
            spell_row,
        )
    }

    /// Returns the spells of a kind that are about one subject, as of a run, by device.
    ///
    /// # Errors
    /// Fails if the ledger cannot be read.
    pub fn spells_about(&self, kind: SpellKind, subject: &str, run: Option<i64>) -> Result<Vec<SpellRow>, LedgerError> {
        self.all(
            "SELECT d.name, s.subject, s.value, s.detail, s.from_run, s.to_run FROM spell s JOIN device d ON d.id = s.device \
             WHERE s.kind = ?1 AND s.from_run <= ?2 AND (s.to_run IS NULL OR s.to_run > ?2) AND s.subject = ?3 ORDER BY d.name",
            params![kind.as_str(), run.unwrap_or(LATEST), subject],
            spell_row,
        )
    }

    /// Hands on the spells of a kind as of a run, by device and subject.
    ///
    /// # Errors
    /// Fails if the ledger cannot be read, or with the first error of `each`.
    pub fn each_spell<E: From<LedgerError>>(
        &self,
        kind: SpellKind,
        run: Option<i64>,
        mut each: impl FnMut(SpellRow) -> Result<(), E>,
    ) -> Result<(), E> {
        let failed = self.failed();
        let sql = "SELECT d.name, s.subject, s.value, s.detail, s.from_run, s.to_run FROM device d CROSS JOIN spell s ON s.device = d.id \
             WHERE s.kind = ?1 AND s.from_run <= ?2 AND (s.to_run IS NULL OR s.to_run > ?2) ORDER BY d.name, s.subject";
        let mut statement = self.connection.prepare_cached(sql).map_err(&failed)?;
        let mut rows = statement.query(params![kind.as_str(), run.unwrap_or(LATEST)]).map_err(&failed)?;
        while let Some(row) = rows.next().map_err(&failed)? {
            each(spell_row(row).map_err(&failed)?)?;
        }
        Ok(())
    }

    /// Hands on every decision as of a run, in no order.
    ///
    /// # Errors
    /// Fails if the ledger cannot be read, or with the first error of `each`.
    pub fn each_decision<E: From<LedgerError>>(
        &self,
        run: Option<i64>,
        mut each: impl FnMut(DecisionRow<'_>) -> Result<(), E>,
    ) -> Result<(), E> {
        let failed = self.failed();
        // Nearly all rows are wanted, so the table is read through as it lies instead of by an index.
        let sql = "SELECT device, subject, value, instr(detail, '\"access_rules\":[]') = 0 FROM spell \
             WHERE +kind = 'decision' AND +from_run <= ?1 AND (to_run IS NULL OR to_run > ?1)";
        let mut statement = self.connection.prepare_cached(sql).map_err(&failed)?;
        let mut rows = statement.query([run.unwrap_or(LATEST)]).map_err(&failed)?;
        while let Some(row) = rows.next().map_err(&failed)? {
            let text = |at: usize| row.get_ref(at).and_then(|value| Ok(value.as_str()?)).map_err(&failed);
            let (device, by_rule) = (row.get(0).map_err(&failed)?, row.get(3).map_err(&failed)?);
            each(DecisionRow { device, subject: text(1)?, value: text(2)?, by_rule })?;
        }
        Ok(())
    }

    /// Returns every spell of a kind on a device, oldest first.
    pub fn spell_history(&self, kind: SpellKind, device: &str) -> Result<Vec<SpellRow>, LedgerError> {
        self.all(
            "SELECT d.name, s.subject, s.value, s.detail, s.from_run, s.to_run FROM spell s JOIN device d ON d.id = s.device \
             WHERE s.kind = ?1 AND d.name = ?2 ORDER BY s.from_run, s.subject",
            params![kind.as_str(), device],
            spell_row,
        )
    }

    /// Returns every absence of a device from a source, oldest first.
    pub fn absence_history(&self, device: &str) -> Result<Vec<Absence>, LedgerError> {
        self.all(
            "SELECT s.name, r.as_of, e.as_of FROM absence a JOIN device d ON d.id = a.device JOIN source s ON s.id = a.source \
             JOIN run r ON r.id = a.from_run LEFT JOIN run e ON e.id = a.to_run WHERE d.name = ?1 ORDER BY a.from_run",
            [device],
            |row| {
                let until = row.get::<_, Option<i64>>(2)?.map(moment);
                Ok(Absence { source: row.get(0)?, from: moment(row.get(1)?), until })
            },
        )
    }

    /// Returns the last run at or before a moment.
    pub fn run_before(&self, at: Timestamp) -> Result<Option<RunRow>, LedgerError> {
        Ok(self.all(&format!("{RUN} WHERE as_of <= ?1 ORDER BY id DESC LIMIT 1"), [micros(at)], run_row)?.pop())
    }

    /// Returns the spell that held just before another began, of the same device and subject.
    pub fn spell_before(
        &self,
        kind: SpellKind,
        device: &str,
        subject: &str,
        from_run: i64,
    ) -> Result<Option<SpellRow>, LedgerError> {
        Ok(self
            .all(
                "SELECT d.name, s.subject, s.value, s.detail, s.from_run, s.to_run FROM spell s JOIN device d ON d.id = s.device \
                 WHERE s.kind = ?1 AND d.name = ?2 AND s.subject = ?3 AND s.to_run <= ?4 ORDER BY s.from_run DESC LIMIT 1",
                params![kind.as_str(), device, subject, from_run],
                spell_row,
            )?
            .pop())
    }

    /// Returns the findings as they were at a run, the latest of each device and subject; running ones only,
    /// or also those that have closed.
    pub fn findings(
        &self,
        device: Option<&str>,
        run: Option<i64>,
        closed_too: bool,
    ) -> Result<Vec<FindingRow>, LedgerError> {
        let filter = if device.is_some() { "AND d.name = ?2" } else { "AND ?2 IS NULL" };
        let running = if closed_too { "" } else { "AND f.closed IS NULL" };
        self.all(
            &format!(
                "SELECT d.name, f.subject, f.opened, f.due, f.closed, f.body, f.from_run, f.id FROM finding f JOIN device d ON d.id = f.device \
                 WHERE f.from_run <= ?1 AND (f.to_run IS NULL OR f.to_run > ?1) {filter} {running} ORDER BY d.name, f.subject, f.opened"
            ),
            params![run.unwrap_or(LATEST), device],
            finding_row,
        )
    }

    /// Returns the findings that are otherwise as of a run, or now, than as of an earlier run `since`: as they were, and as they are.
    pub fn findings_since(&self, since: i64, run: Option<i64>) -> Result<FindingsSince, LedgerError> {
        let with = |condition: &str| {
            let sql = format!(
                "SELECT d.name, f.subject, f.opened, f.due, f.closed, f.body, f.from_run, f.id FROM finding f JOIN device d ON d.id = f.device \
                 WHERE {condition} ORDER BY d.name, f.subject, f.opened"
            );
            self.all(&sql, params![since, run.unwrap_or(LATEST)], finding_row)
        };
        Ok(FindingsSince {
            then: with("f.from_run <= ?1 AND f.to_run > ?1 AND f.to_run <= ?2")?,
            now: with("f.from_run > ?1 AND f.from_run <= ?2 AND (f.to_run IS NULL OR f.to_run > ?2)")?,
        })
    }

    /// Returns every version of every finding of a device, in the order in which they were written.
    pub fn finding_versions(&self, device: &str) -> Result<Vec<FindingRow>, LedgerError> {
        self.all(
            "SELECT d.name, f.subject, f.opened, f.due, f.closed, f.body, f.from_run, f.id FROM finding f JOIN device d ON d.id = f.device \
             WHERE d.name = ?1 ORDER BY f.from_run, f.subject, f.seq",
            [device],
            finding_row,
        )
    }

    /// Hands on what happened in a run, in order.
    ///
    /// # Errors
    /// Fails if the ledger cannot be read, or with the first error of `each`.
    pub fn each_event<E: From<LedgerError>>(
        &self,
        run: i64,
        mut each: impl FnMut(EventRow) -> Result<(), E>,
    ) -> Result<(), E> {
        let failed = self.failed();
        let sql = format!("{EVENT} WHERE e.run = ?1 ORDER BY e.seq");
        let mut statement = self.connection.prepare_cached(&sql).map_err(&failed)?;
        let mut rows = statement.query_map([run], event_row).map_err(&failed)?;
        rows.try_for_each(|row| each(row.map_err(&failed)?))
    }

    /// Returns what happened to a device up to a run, in order; each with the number of the assessment that noted it, if it was one.
    pub fn events_of(&self, device: &str, run: Option<i64>) -> Result<Vec<(EventRow, Option<i64>)>, LedgerError> {
        let sql = format!("{EVENT_OF_RUN} WHERE d.name = ?1 AND e.run <= ?2 ORDER BY e.run, e.seq");
        self.all(&sql, params![device, run.unwrap_or(LATEST)], |row| Ok((event_row(row)?, row.get(9)?)))
    }

    /// Returns the records that were set aside, newest import first.
    pub fn rejects(&self) -> Result<Vec<RejectRow>, LedgerError> {
        self.all(
            "SELECT run, source, path, line, offset, reason, count FROM reject ORDER BY run DESC, path, line, rowid",
            [],
            |row| {
                Ok(RejectRow {
                    run: row.get(0)?,
                    source: row.get(1)?,
                    path: row.get(2)?,
                    line: row.get(3)?,
                    offset: row.get(4)?,
                    reason: row.get(5)?,
                    count: row.get(6)?,
                })
            },
        )
    }

    /// Returns how many records of each source were set aside.
    pub fn rejects_by_source(&self) -> Result<BTreeMap<String, i64>, LedgerError> {
        let sql = "SELECT source, sum(count) FROM reject GROUP BY source";
        Ok(self.all(sql, [], |row| Ok((row.get(0)?, row.get(1)?)))?.into_iter().collect())
    }

    /// Returns whether the database is whole, in SQLite's own words when it is not.
    pub fn integrity(&self) -> Result<Option<String>, LedgerError> {
        let found = self.all("PRAGMA integrity_check(20)", [], |row| row.get::<_, String>(0))?;
        let whole = matches!(found.as_slice(), [only] if only == "ok");
        Ok((!whole).then(|| found.join("; ")))
    }

    /// Returns the tables in which rows name others that are not there, with how many.
    pub fn dangling(&self) -> Result<BTreeMap<String, u64>, LedgerError> {
        let mut tables = BTreeMap::new();
        for table in self.all("PRAGMA foreign_key_check", [], |row| row.get::<_, String>(0))? {
            *tables.entry(table).or_default() += 1;
        }
        Ok(tables)
    }

    /// Checks every document that is kept against the hash that it is known by. Hands on the number of each that does not fit or
    /// cannot be decompressed, and returns how many there are.
    pub fn check_documents(&self, mut bad: impl FnMut(i64, &str)) -> Result<u64, LedgerError> {
        let (failed, bodies) = (self.failed(), self.bodies()?);
        let mut unpacker = bodies.unpacker();
        let mut statement = self.connection.prepare("SELECT id, hash, body FROM document").map_err(&failed)?;
        let mut rows = statement.query([]).map_err(&failed)?;
        let mut count = 0;
        while let Some(row) = rows.next().map_err(&failed)? {
            count += 1;
            let id = row.get(0).map_err(&failed)?;
            let blob = |column| row.get_ref(column).and_then(|value| Ok(value.as_blob()?)).map_err(&failed);
            match unpacker.unpack(blob(2)?) {
                Ok(body) if body_hash(&body) == blob(1)? => {}
                Ok(_) => bad(id, "it is not what its hash says"),
                Err(_) => bad(id, "it cannot be decompressed"),
            }
        }
        Ok(count)
    }

    /// Returns the digests of all rule sets that are kept.
    pub fn rule_set_digests(&self) -> Result<Vec<String>, LedgerError> {
        self.all("SELECT digest FROM rule_set ORDER BY digest", [], |row| row.get(0))
    }

    /// Returns all runs, oldest first.
    pub fn runs(&self) -> Result<Vec<RunRow>, LedgerError> {
        self.all(&format!("{RUN} ORDER BY id"), [], run_row)
    }
}

/// What came in is few and is gone through first; what time may have changed is found by the index. Nothing scans the fleet.
const CHANGED: &str = "SELECT d.id, d.name, w.dirty FROM (SELECT device, 1 AS dirty FROM dirty UNION ALL \
    SELECT device, 0 FROM assessed INDEXED BY assessed_until WHERE until <= ?1 AND device NOT IN (SELECT device FROM dirty)) w \
    CROSS JOIN device d ON d.id = w.device ORDER BY d.name";

/// The setting that names the first run whose history was not removed.
pub(crate) const KEPT_SINCE: &str = "kept_since";

const CURRENT: &str = "SELECT s.name, c.collected, b.body, c.apart, c.document FROM device d JOIN current c ON c.device = d.id \
    JOIN source s ON s.id = c.source JOIN document b ON b.id = c.document WHERE d.name = ?1 ORDER BY s.name";

const RUN: &str = "SELECT id, number, as_of, at, user, version, rule_set, summary FROM run";

const EVENT: &str = "SELECT d.name, e.at, e.what, e.finding, e.subject, e.opened, e.due, e.spell, e.detail \
    FROM event e JOIN device d ON d.id = e.device";
const EVENT_OF_RUN: &str = "SELECT d.name, e.at, e.what, e.finding, e.subject, e.opened, e.due, e.spell, e.detail, r.number \
    FROM event e JOIN device d ON d.id = e.device JOIN run r ON r.id = e.run";

fn observation_row(row: &Row<'_>) -> rusqlite::Result<PackedObservation> {
    Ok(PackedObservation {
        source: row.get(0)?,
        collected: moment(row.get(1)?),
        body: row.get(2)?,
        volatile_parts: row.get(3)?,
        document: row.get(4)?,
    })
}

fn assessed_row<B>(
    row: &Row<'_>,
    mut keep: impl FnMut(&Row<'_>, usize) -> rusqlite::Result<B>,
) -> rusqlite::Result<AssessedRow<B>> {
    Ok(AssessedRow {
        until: moment(row.get(1)?),
        valid_until: moment(row.get(6)?),
        collected: row.get::<_, Option<i64>>(2)?.map(moment),
        input: keep(row, 3)?,
        outcome: keep(row, 4)?,
        findings: keep(row, 5)?,
    })
}

fn finding_row(row: &Row<'_>) -> rusqlite::Result<FindingRow> {
    Ok(FindingRow {
        device: row.get(0)?,
        subject: row.get(1)?,
        opened: moment(row.get(2)?),
        due: moment(row.get(3)?),
        closed: row.get::<_, Option<i64>>(4)?.map(moment),
        body: row.get(5)?,
        from_run: row.get(6)?,
        id: row.get::<_, i64>(7)?.cast_unsigned(),
    })
}

fn event_row(row: &Row<'_>) -> rusqlite::Result<EventRow> {
    let finding = match row.get::<_, Option<i64>>(3)? {
        Some(id) => Some(EventFinding {
            id: id.cast_unsigned(),
            subject: row.get(4)?,
            opened: moment(row.get(5)?),
            due: moment(row.get(6)?),
            spell: row.get(7)?,
        }),
        None => None,
    };
    Ok(EventRow { device: row.get(0)?, at: moment(row.get(1)?), what: row.get(2)?, finding, detail: row.get(8)? })
}

fn run_row(row: &Row<'_>) -> rusqlite::Result<RunRow> {
    Ok(RunRow {
        id: row.get(0)?,
        number: row.get(1)?,
        as_of: moment(row.get(2)?),
        at: moment(row.get(3)?),
        user: row.get(4)?,
        version: row.get(5)?,
        rule_set: row.get(6)?,
        summary: row.get(7)?,
    })
}

fn spell_row(row: &Row<'_>) -> rusqlite::Result<SpellRow> {
    Ok(SpellRow {
        device: row.get(0)?,
        subject: row.get(1)?,
        value: row.get(2)?,
        detail: row.get(3)?,
        from_run: row.get(4)?,
        to_run: row.get(5)?,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Ledger;

    #[test]
    fn looking_for_what_changed_does_not_scan_the_fleet() {
        let ledger = Ledger::in_memory().unwrap();
        let reader = ledger.reader().unwrap();
        let plan = reader.all(&format!("EXPLAIN QUERY PLAN {CHANGED}"), [0], |row| row.get::<_, String>(3)).unwrap();
        let scans: Vec<&String> = plan.iter().filter(|step| step.starts_with("SCAN")).collect();
        assert!(
            scans.iter().all(|step| ["SCAN dirty", "SCAN w"].iter().any(|fine| step.starts_with(fine))),
            "{plan:#?}"
        );
        assert!(plan.iter().any(|step| step.contains("assessed_until (until<?)")), "{plan:#?}");
    }
}
