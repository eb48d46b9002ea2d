//! Removes history that nobody may or needs to read any more.

use rusqlite::params;

use crate::error::LedgerError;
use crate::reader::KEPT_SINCE;
use crate::writer::Writer;

/// What was removed.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Trimmed {
    /// What sources said of devices, since overtaken.
    pub observations: u64,
    /// Documents that nothing said needs any more.
    pub documents: u64,
    /// Verdicts, standings and decisions that ended.
    pub spells: u64,
    /// Versions of findings, and findings that closed.
    pub findings: u64,
    /// What was listed of people, since overtaken.
    pub people: u64,
    /// Notes of what happened, and of records that were set aside.
    pub events: u64,
}

impl Writer<'_> {
    /// Removes what ended before a run; everything from that run on can be read as before.
    ///
    /// # Errors
    /// When the ledger cannot be written; then nothing is removed.
    pub fn trim(&self, since: i64) -> Result<Trimmed, LedgerError> {
        let remove = |sql: &str| self.run_sql(sql, params![since]).map(|count| count as u64);
        let observations = remove(
            "DELETE FROM observation WHERE run <= ?1 AND (collected, run) <> \
             (SELECT n.collected, n.run FROM observation n WHERE n.device = observation.device AND n.source = observation.source \
             AND n.run <= ?1 ORDER BY n.collected DESC, n.run DESC LIMIT 1) AND NOT EXISTS (SELECT 1 FROM current c \
             WHERE c.device = observation.device AND c.source = observation.source AND c.collected = observation.collected \
             AND c.run = observation.run)",
        )?;
        let documents = self.drop_unused_documents()?;
        let spells = remove("DELETE FROM spell WHERE to_run <= ?1")?;
        // The latest finding of each rule stays, so that a relapse is known as one.
        let findings = remove("DELETE FROM finding WHERE to_run <= ?1")?
            + remove(
                "DELETE FROM finding WHERE closed IS NOT NULL AND from_run <= ?1 AND EXISTS (SELECT 1 FROM finding n \
                 WHERE n.device = finding.device AND n.subject = finding.subject AND n.opened > finding.opened AND n.from_run <= ?1)",
            )?;
        let people = remove("DELETE FROM person WHERE to_run <= ?1")?;
        remove("DELETE FROM absence WHERE to_run <= ?1")?;
        // A finding that is still known keeps its past.
        let events = remove(
            "DELETE FROM event WHERE run < ?1 AND (finding IS NULL OR NOT EXISTS \
             (SELECT 1 FROM finding f WHERE f.device = event.device AND f.id = event.finding))",
        )? + remove("DELETE FROM reject WHERE run < ?1")?;
        remove(
            "DELETE FROM rule_set WHERE digest NOT IN (SELECT rule_set FROM run WHERE rule_set IS NOT NULL AND id >= ?1)",
        )?;
        remove(
            "DELETE FROM setting_state WHERE run < ?1 AND at < (SELECT max(n.at) FROM setting_state n WHERE n.device = setting_state.device \
             AND n.setting = setting_state.setting AND n.source = setting_state.source)",
        )?;
        // That something went out stays known, so that it does not go out again; what it said is history.
        remove(
            "UPDATE delivery SET content = x'' WHERE state <> 'claimed' AND at < (SELECT as_of FROM run WHERE id = ?1)",
        )?;
        self.set_setting(KEPT_SINCE, &since.to_string())?;
        Ok(Trimmed { observations, documents, spells, findings, people, events })
    }
}
