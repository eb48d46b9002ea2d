//! What comes in and what is said by hand: sources, corrections, and records that were set aside.

use bumpalo::Bump;
use fencepost_core::{Datum, Layout, SlotId, Value};
use fencepost_formats::{SourceKind, json_of_datum};
use jiff::Timestamp;
use serde_json::{Value as Json, json};

use super::Column;
use super::rows::{RowSink, row};
use crate::error::EngineError;
use crate::ledger_view::reading::Reading;

/// Returns the columns of the list of sources.
pub(super) fn source_columns() -> Vec<Column> {
    super::columns(
        &[
            "source",
            "about",
            "lists",
            "absent",
            "last_import",
            "newest",
            "median",
            "expected_every",
            "late",
            "set_aside",
        ],
        &["format", "file", "fresh_for", "trust", "set_aside_ever"],
    )
}

/// Returns the columns of the list of corrections.
pub(super) fn correction_columns() -> Vec<Column> {
    super::columns(&["device", "fact", "value", "feeds_say", "state", "by", "until", "because"], &[])
}

/// Returns the columns of the list of rejects.
pub(super) fn reject_columns() -> Vec<Column> {
    super::columns(&["imported", "source", "file", "line", "reason"], &["offset", "records"])
}

impl Reading<'_> {
    pub(super) fn list_sources(&self, sink: &mut RowSink) -> Result<(), EngineError> {
        let told = self.reader.sources(self.run)?;
        let (people, accepted) = (self.reader.people(self.run)?, self.reader.acceptances(self.run)?);
        let settings = self.reader.settings(self.run)?;
        let rejects = self.reader.rejects_by_source()?;
        let sources = self.project.sources();
        let mut rows = Vec::new();
        for source in &sources {
            let id = source.id.as_str();
            let imports = self.reader.imports_of(id, self.run, 1)?;
            let last = imports.first();
            let own = told.iter().find(|row| row.source == id);
            let listed = match source.kind {
                SourceKind::State => own.map_or(0, |row| row.devices),
                SourceKind::People => people.iter().filter(|person| person.source == id).count() as i64,
                // Nothing is kept of it.
                SourceKind::SignIns | SourceKind::Commands => 0,
                SourceKind::Settings => settings.iter().filter(|row| row.source == id).count() as i64,
                SourceKind::Acceptances => accepted.iter().filter(|row| row.source == id).count() as i64,
            };
            // What is due and has not come is late; what never came is late from the start.
            let late = source.expected_every.map(|every| match last {
                Some(last) => every.after(last.at, &self.project.config.calendar) < self.at,
                None => true,
            });
            let moment = |moment: Option<Timestamp>| json!(moment.map(|moment| moment.to_string()));
            rows.push(row([
                ("source", json!(id)),
                ("about", json!(source.kind.about())),
                ("format", json!(source.format.as_str())),
                ("lists", json!(listed)),
                ("absent", json!(own.map_or(0, |row| row.absent))),
                ("last_import", moment(last.map(|last| last.at))),
                ("file", json!(last.map(|last| last.path.as_str()))),
                ("newest", moment(own.and_then(|row| row.collected))),
                ("median", moment(own.and_then(|row| row.median))),
                ("expected_every", json!(source.expected_every.map(|every| every.to_string()))),
                ("late", json!(late)),
                ("fresh_for", json!(source.fresh_for.map(|fresh| fresh.to_string()))),
                ("trust", json!(source.trust)),
                ("set_aside", json!(last.map_or(0, |last| last.rejected))),
                ("set_aside_ever", json!(rejects.get(id).copied().unwrap_or(0))),
            ]));
        }
        sink.push_all(rows)
    }

    pub(super) fn list_corrections(&self, sink: &mut RowSink) -> Result<(), EngineError> {
        let judge = self.judge();
        let mut arena = Bump::new();
        let mut rows = Vec::new();
        for correction in &self.project.corrections {
            arena.reset();
            let device = correction.device.as_str();
            let documents = self.documents(device)?;
            let mut layout = Layout::new(&self.project.dictionary);
            let slot: SlotId = layout.want(&correction.fact, &self.project.dictionary);
            let facts = judge.facts(device, &documents, &layout, &arena)?;
            let corrected = correction.value.to_value(&arena);
            let said: Vec<(String, bool)> = facts
                .observations()
                .iter()
                .map(|said| (said.source, said.slots[slot.0 as usize]))
                .filter(|(_, value)| !value.is_missing())
                .map(|(source, value)| (format!("{source}: {}", value.show()), same(&value, &corrected)))
                .collect();
            let state = match (self.at < correction.until, said.as_slice()) {
                (false, _) => "ended",
                (true, []) => "in force",
                (true, said) if said.iter().all(|(_, same)| *same) => "the feeds agree",
                (true, _) => "in force",
            };
            let texts: Vec<&str> = said.iter().map(|(text, _)| text.as_str()).collect();
            rows.push(row([
                ("device", json!(device)),
                ("fact", json!(correction.fact)),
                ("value", json_of_datum(&correction.value)),
                ("feeds_say", if texts.is_empty() { Json::Null } else { json!(texts.join(", ")) }),
                ("state", json!(state)),
                ("by", json!(correction.by)),
                ("until", json!(correction.until.to_string())),
                ("because", json!(correction.because)),
            ]));
        }
        sink.push_all(rows)
    }

    pub(super) fn list_rejects(&self, sink: &mut RowSink) -> Result<(), EngineError> {
        let mut rows = Vec::new();
        for reject in self.reader.rejects()? {
            let imported = self.reader.run(reject.run)?.map(|run| run.as_of.to_string());
            rows.push(row([
                ("imported", json!(imported)),
                ("source", json!(reject.source)),
                ("file", json!(reject.path)),
                ("line", json!(reject.line)),
                ("offset", json!(reject.offset)),
                ("records", json!(reject.count)),
                ("reason", json!(reject.reason)),
            ]));
        }
        sink.push_all(rows)
    }
}

fn same(one: &Value<'_>, other: &Value<'_>) -> bool {
    let (one, other): (Datum, Datum) = (one.to_datum(), other.to_datum());
    one == other
}
