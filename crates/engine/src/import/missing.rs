//! Devices and people that a complete list does not name any more.

use std::collections::HashSet;

use fencepost_store::Writer;
use jiff::Timestamp;

use super::{ImportOptions, Imported};
use crate::error::EngineError;
use crate::ledger_view::event::{Event, EventKind};

/// Whom a complete list does not name.
pub(super) struct Missing<'m> {
    pub run: i64,
    /// The moment of the import.
    pub at: Timestamp,
    pub source: &'m str,
    pub people: bool,
    pub listed: &'m HashSet<String>,
    pub newest: Option<Timestamp>,
    /// The newest moment of collection that was known of the source before.
    pub newest_before: Option<Timestamp>,
}

impl Missing<'_> {
    /// Takes back whom the list names again, marks devices as absent from the feed, and ends people, unless they are too many to be
    /// believed. An older list than one that was read changes nothing.
    pub(super) fn mark(
        &self,
        writer: &mut Writer<'_>,
        options: &ImportOptions,
        imported: &mut Imported,
    ) -> Result<(), EngineError> {
        if !self.people {
            if self.newest < self.newest_before && self.newest.is_some() {
                return Ok(writer.keep_absences(self.run, self.source)?);
            }
            for device in writer.reader().absent_from(self.source)? {
                if self.listed.contains(&device) {
                    writer.end_absence(self.run, self.source, &device)?;
                }
            }
        }
        let before: Vec<String> = if self.people {
            let all = writer.reader().people(None)?;
            all.into_iter().filter(|person| person.source == self.source).map(|person| person.id).collect()
        } else {
            // What is known from a newer file than this one, this one cannot miss.
            let all = writer.reader().listed_by(self.source)?;
            all.into_iter()
                .filter(|(_, collected)| self.newest.is_none_or(|newest| *collected <= newest))
                .map(|(device, _)| device)
                .collect()
        };
        let missing: Vec<&String> = before.iter().filter(|id| !self.listed.contains(id.as_str())).collect();
        if missing.is_empty() {
            return Ok(());
        }
        imported.kept_because = match (imported.rejects.count(), missing.len() * 5 > before.len()) {
            _ if options.accept_missing => None,
            (0, false) => None,
            (_, true) => Some("more than a fifth of the feed"),
            (_, false) => Some("and records were set aside, which may be theirs"),
        };
        if imported.kept_because.is_some() {
            imported.kept_missing = missing.len() as u64;
            return Ok(());
        }
        for id in &missing {
            if self.people {
                writer.end_person(self.run, self.source, id)?;
            } else {
                writer.set_absent(self.run, self.source, id)?;
                let kind = EventKind::Absent { source: self.source.to_owned() };
                let event = Event { device: id.as_str().into(), at: self.at, kind };
                writer.add_event(self.run, &event.row())?;
            }
        }
        imported.missing = missing.len() as u64;
        Ok(())
    }
}
