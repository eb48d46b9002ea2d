//! Brings ledgers from before the seventh format to it: gives findings the ids that they keep for life, and their events the finding
//! and the device that they are of.

use fencepost_core::{DeviceId, FindingId, Subject};
use rusqlite::{Connection, params};

use crate::rows::moment;

/// A version of a finding, as it was written.
struct Version {
    from_run: i64,
    seq: i64,
    to_run: Option<i64>,
    subject: String,
    opened: i64,
    id: FindingId,
}

/// Fills in what the step to the seventh format leaves empty.
pub(crate) fn fill(connection: &Connection) -> rusqlite::Result<()> {
    let mut devices = connection.prepare("SELECT id, name FROM device ORDER BY id")?;
    let mut rows = devices.query([])?;
    while let Some(row) = rows.next()? {
        identify(connection, row.get(0)?, &row.get::<_, String>(1)?)?;
    }
    connection.execute_batch(MOVE_EVENTS)
}

/// Gives the findings of a device their ids, those among them that are packed beside the device, too.
fn identify(connection: &Connection, device: i64, name: &str) -> rusqlite::Result<()> {
    let mut select = connection.prepare_cached(
        "SELECT from_run, seq, to_run, subject, opened FROM finding WHERE device = ?1 ORDER BY from_run, seq",
    )?;
    let of_device = DeviceId::from(name);
    let rows = select.query_map([device], |row| {
        let (subject, opened): (String, i64) = (row.get(3)?, row.get(4)?);
        let id = FindingId::new(&of_device, &Subject::parse(&subject), moment(opened));
        Ok(Version { from_run: row.get(0)?, seq: row.get(1)?, to_run: row.get(2)?, subject, opened, id })
    })?;
    let mut versions: Vec<Version> = rows.collect::<Result<_, _>>()?;
    for at in 1..versions.len() {
        let (before, after) = versions.split_at(at);
        let now = &after[0];
        let is_same = |other: &&Version| (&other.subject, other.opened) == (&now.subject, now.opened);
        // What ended in the run in which another began that had opened at the same moment got another name in it.
        let is_renamed = |other: &&Version| {
            other.opened == now.opened
                && other.to_run == Some(now.from_run)
                && !after.iter().any(|later| (&later.subject, later.opened) == (&other.subject, other.opened))
        };
        let known = before.iter().rev().find(is_same).or_else(|| before.iter().rev().find(is_renamed));
        if let Some(id) = known.map(|known| known.id) {
            versions[at].id = id;
        }
    }
    let mut update =
        connection.prepare_cached("UPDATE finding SET id = ?4 WHERE device = ?1 AND from_run = ?2 AND seq = ?3")?;
    for version in &versions {
        update.execute(params![device, version.from_run, version.seq, version.id.number().cast_signed()])?;
    }
    mark_packed(connection, device, &versions)
}

/// Puts the ids before the findings that are packed beside a device, with what they are found by.
fn mark_packed(connection: &Connection, device: i64, versions: &[Version]) -> rusqlite::Result<()> {
    let mut head = vec![IDS_IN_FRONT];
    let now: Vec<&Version> = versions.iter().filter(|version| version.to_run.is_none()).collect();
    head.extend(u32::try_from(now.len()).unwrap_or(u32::MAX).to_le_bytes());
    for version in now {
        head.extend(u32::try_from(version.subject.len()).unwrap_or(u32::MAX).to_le_bytes());
        head.extend(version.subject.as_bytes());
        head.extend(version.opened.to_le_bytes());
        head.extend(version.id.number().to_le_bytes());
    }
    let sql = "UPDATE assessed SET findings = CAST(?2 || findings AS BLOB) WHERE device = ?1 AND length(findings) > 0";
    connection.prepare_cached(sql)?.execute(params![device, head]).map(|_| ())
}

/// What packed findings begin with whose ids stand before them, and not in each of them.
pub const IDS_IN_FRONT: u8 = 254;

/// Moves events to their new table, but for those of whole runs, which have a summary. What happened to a finding is of the version
/// that the same run wrote. When findings fell due was told by the clock alone, and becomes an event of the first assessment that
/// came after it; it stands before what that assessment found.
const MOVE_EVENTS: &str = "
    CREATE TEMP TABLE moving AS
        SELECT b.run, b.seq, b.what, b.body, r.as_of, coalesce(d.id, n.device) AS device FROM event_before b
        JOIN run r ON r.id = b.run
        LEFT JOIN device d ON d.name = coalesce(b.body ->> 'to', b.body ->> 'device')
        LEFT JOIN former_name n ON n.name = b.body ->> 'device'
        WHERE coalesce(d.id, n.device) IS NOT NULL;

    INSERT OR IGNORE INTO event (run, seq, device, at, what, finding, subject, opened, due, spell, detail)
        SELECT m.run, m.seq, m.device, m.as_of, iif(m.what = 'relapsed', 'came-back', m.what), f.id, f.subject, f.opened, f.due,
            f.body ->> 'spell',
            CASE m.what
                WHEN 'closed' THEN m.body ->> 'how'
                WHEN 'due-moved' THEN (SELECT b.due FROM finding b WHERE b.device = f.device AND b.id = f.id
                    AND b.from_run < m.run ORDER BY b.from_run DESC LIMIT 1)
            END
        FROM moving m JOIN finding f ON f.device = m.device AND f.from_run = m.run AND f.subject = m.body ->> 'rule'
        WHERE m.what IN ('opened', 'relapsed', 'closed', 'due-moved');
    INSERT INTO event (run, seq, device, at, what, detail)
        SELECT run, seq, device, as_of, what, json_array(lag(body ->> 'standing') OVER (PARTITION BY device ORDER BY run, seq),
            body ->> 'standing') FROM moving WHERE what = 'standing';
    INSERT INTO event (run, seq, device, at, what, detail)
        SELECT run, seq, device, as_of, what, CASE what
                WHEN 'absent' THEN body ->> 'source'
                WHEN 'renamed' THEN json_object('from', body ->> 'device', 'to', body ->> 'to', 'because', body ->> 'because')
            END
        FROM moving WHERE what IN ('absent', 'renamed', 'retired');

    INSERT INTO event (run, seq, device, at, what, finding, subject, opened, due, spell)
        SELECT run, -row_number() OVER (PARTITION BY run ORDER BY device, subject), device, due, 'fell-due', id, subject, opened,
            due, body ->> 'spell'
        FROM (SELECT f.*, (SELECT r.id FROM run r WHERE r.kind = 'assess' AND r.as_of >= f.due ORDER BY r.id LIMIT 1) AS run
            FROM finding f WHERE f.closed IS NULL AND f.due > f.opened) o
        WHERE from_run < run AND (to_run IS NULL OR to_run > run OR to_run = run AND EXISTS (SELECT 1 FROM finding c
            WHERE c.device = o.device AND c.id = o.id AND c.from_run = o.run AND c.due = o.due));
    INSERT INTO event (run, seq, device, at, what, finding, subject, opened, due, spell)
        SELECT run, seq + 1000000000, device, at, 'fell-due', finding, subject, opened, due, spell
        FROM event WHERE what = 'came-back' AND due <= at;

    DROP TABLE moving;
    DROP TABLE event_before;
";
