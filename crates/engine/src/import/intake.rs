//! Takes prepared records into the ledger, in the order of the file.

use std::collections::HashSet;

use bumpalo::Bump;
use fencepost_channels::CommandState;
use fencepost_core::limits::ID_BYTES;
use fencepost_formats::{
    DocumentSplitter, RawDocument, Record, RecordPlace, RejectKind, SecretKey, SourceKind, assemble, mask_secrets,
};
use fencepost_store::{
    AcceptanceRow, Added, DeliveryState, LedgerError, NewBody, NewObservation, PackedFacts, RejectRow, SettingRow,
    SettledDelivery, Writer,
};
use jiff::Timestamp;

use super::doubts::OtherName;
use super::prepare::{Prepared, Preparer, Refusal, Unprepared, WorkerScratch};
use super::{ChangedDevice, Imported, SHOWN};
use crate::error::escaped;
use crate::facts::documents::Document;
use crate::import::changes::changes_between;
use crate::workspace::project::Project;

/// A file on its way into the ledger.
pub(super) struct Intake<'i, 'l> {
    pub project: &'i Project,
    pub source: &'i str,
    pub key: &'i SecretKey,
    pub writer: Writer<'l>,
    pub imported: Imported,
    pub run: i64,
    /// Names the paths that the rules read.
    pub layout_fingerprint: i64,
    /// The file's digest.
    pub file: String,
    /// The file, as shown.
    pub path: String,
    /// The moment of the import.
    pub at: Timestamp,
    pub dry_run: bool,
    /// Other sources list people, too.
    pub has_other_lists: bool,
    /// Ids of devices or people seen, those of bad records among them.
    pub listed: HashSet<String>,
    /// The ids of all people, where records may name some that no list has.
    pub people: Option<HashSet<String>>,
    /// Devices that were not known before.
    pub new_devices: Vec<String>,
    /// The newest moment of collection.
    pub newest: Option<Timestamp>,
    /// The newest moment of collection that was known of the source before.
    pub newest_before: Option<Timestamp>,
}

impl<'i> Intake<'i, '_> {
    /// Takes what a record of state was prepared to; the error is that the ledger could not be written.
    pub(super) fn take(
        &mut self,
        place: RecordPlace,
        prepared: Result<Prepared, Unprepared>,
        preparer: &Preparer<'i>,
        scratch: &mut WorkerScratch<'i>,
    ) -> Result<(), LedgerError> {
        self.imported.records += 1;
        if let Some(rows) = &mut self.imported.rows {
            *rows += place.rows;
        }
        let taken = match prepared {
            Ok(prepared) => self.device(prepared, preparer, scratch),
            Err(unprepared) => Err(unprepared),
        };
        self.unless_refused(place, taken)
    }

    /// Sets a record aside that was refused; the error is that the ledger could not be written.
    fn unless_refused(&mut self, place: RecordPlace, taken: Result<(), Unprepared>) -> Result<(), LedgerError> {
        let RecordPlace { line, offset, .. } = place;
        let Refusal { kind, reason, id, collected } = match taken {
            Ok(()) => return Ok(()),
            Err(Unprepared::Failed(failure)) => return Err(failure),
            Err(Unprepared::Refused(refusal)) => refusal,
        };
        let is_state = self.imported.kind == SourceKind::State;
        let name = |id: String| match is_state {
            true => self.project.lifecycles.name(&id, self.at).to_owned(),
            false => id,
        };
        self.listed.extend(id.map(name));
        self.newest = self.newest.max(collected);
        let row = RejectRow {
            run: self.run,
            source: self.source.to_owned(),
            path: self.path.clone(),
            line: i64::try_from(line).unwrap_or(i64::MAX),
            offset: i64::try_from(offset).unwrap_or(i64::MAX),
            reason,
            count: 1,
        };
        self.imported.rejects.add(kind, row);
        Ok(())
    }

    fn device(
        &mut self,
        mut prepared: Prepared,
        preparer: &Preparer<'i>,
        scratch: &mut WorkerScratch<'i>,
    ) -> Result<(), Unprepared> {
        if let Some(document) = prepared.undecided.take() {
            // Whether the device is the company's may be known from other sources.
            let stored = self.writer.reader().observations_of(&prepared.device, None).map_err(Unprepared::Failed)?;
            let others = self.project.documents(&prepared.device, stored, self.at);
            prepared = preparer.document(scratch, RawDocument::copy(&document, &Bump::new()), Some(&others))?;
        }
        let Prepared { device, collected, kept, hash, compressed, packed, content, oddities, .. } = prepared;
        self.newest = self.newest.max(Some(collected));
        for path in &kept.secrets {
            if !self.imported.secrets.contains(path) {
                self.imported.secrets.push(path.clone());
            }
        }
        self.imported.left_out += u64::from(kept.left_out);
        if self.dry_run {
            self.preview(&device, collected, &kept.body, &kept.volatile_parts);
        }
        let new = NewObservation {
            device: &device,
            source: self.source,
            collected,
            body: NewBody { hash, plain: &kept.body, packed: compressed.as_deref() },
            volatile_parts: &kept.volatile_parts,
            content,
            file: &self.file,
            facts: PackedFacts { layout_fingerprint: self.layout_fingerprint, packed: &packed },
        };
        let added = self.writer.add_observation(self.run, &new).map_err(Unprepared::Failed)?;
        match added {
            Added::Current { new_device: true, .. } => {
                self.imported.new += 1;
                self.new_devices.push(device.clone());
            }
            Added::Current { changed: true, .. } => self.imported.changed += 1,
            Added::Current { .. } | Added::Known => self.imported.unchanged += 1,
            Added::Older => self.imported.older += 1,
            Added::Conflict => {
                let reason =
                    format!("`{}` was collected twice at {collected}, with different content", escaped(&device));
                return Err(Unprepared::Refused(Refusal::new(RejectKind::Contradiction, reason, Some(device))));
            }
        }
        self.imported.doubts.add(oddities, self.people.as_ref());
        let retirement = self.project.lifecycles.last_retirement(&device, self.at);
        if retirement.is_some_and(|retirement| collected > retirement.last) {
            let stored = self.writer.reader().observations_of(&device, None).map_err(Unprepared::Failed)?;
            let current = stored.iter().map(|said| (said.source.as_str(), said.collected));
            if self.project.life_of(&device, current, self.at).is_over() {
                self.imported.doubts.add_retired(&device);
            }
        }
        self.listed.insert(device);
        Ok(())
    }

    /// Notes what a dry run shows of a record.
    fn preview(&mut self, device: &str, collected: Timestamp, body: &[u8], volatile_parts: &[u8]) {
        let document = assemble(body, device, collected, Some(volatile_parts));
        if self.imported.first.len() < SHOWN {
            self.imported.first.push(mask_secrets(&String::from_utf8_lossy(&document).replace('\u{3}', "null")));
        }
        if self.imported.first_changed.len() < SHOWN
            && let Ok(stored) = self.writer.reader().observations_of(device, None)
            && let Some(before) = stored.into_iter().find(|said| said.source == self.source)
            && before.body != body
            && before.collected < collected
        {
            let before = Document::of(device, before);
            let changes = changes_between(&before.json, &document, &self.project.dictionary);
            self.imported.first_changed.push(ChangedDevice { device: device.to_owned(), changes });
        }
    }

    /// Takes one record of the list of people; the error is that the ledger could not be written.
    pub(super) fn take_person(&mut self, record: Record<'_>) -> Result<(), LedgerError> {
        self.imported.records += 1;
        let place = record.place;
        let taken = self.person(place.line, record);
        self.unless_refused(place, taken)
    }

    /// Returns what another list says of a person whose name there differs from `name`.
    fn other_name(&self, line: u64, id: &str, name: &str) -> Result<Option<OtherName>, LedgerError> {
        for row in self.writer.reader().person_entries(id)? {
            let said: serde_json::Value = serde_json::from_str(&row.body).unwrap_or_default();
            if row.source != self.source
                && let Some(other) = said["name"].as_str().filter(|other| !other.is_empty() && *other != name)
            {
                let (person, name, other) = (id.to_owned(), name.to_owned(), other.to_owned());
                return Ok(Some(OtherName { line, person, name, source: row.source, other }));
            }
        }
        Ok(None)
    }

    fn person(&mut self, line: u64, record: Record<'_>) -> Result<(), Unprepared> {
        let refused = |kind, reason: String, id| Unprepared::Refused(Refusal::new(kind, reason, id));
        let document = record.document.map_err(|error| refused(error.kind, error.reason, error.id))?;
        self.imported.doubts.add_words(record.doubts.unknown_words);
        let splitter = DocumentSplitter { layout: &self.project.gates.layout, key: self.key, people: true };
        let kept = splitter
            .keep(document, true, &Bump::new())
            .map_err(|error| Unprepared::Refused(Refusal::unreadable(&error, None)))?;
        let text = String::from_utf8_lossy(&kept.body);
        let json: serde_json::Value =
            serde_json::from_str(&text).map_err(|error| refused(RejectKind::Unreadable, error.to_string(), None))?;
        let Some(id) = json["id"].as_str().filter(|id| !id.is_empty() && id.len() <= ID_BYTES) else {
            return Err(refused(RejectKind::NoId, "the record names no person".to_owned(), None));
        };
        if !self.listed.insert(id.to_owned()) {
            let reason = format!("`{}` is listed twice", escaped(id));
            return Err(refused(RejectKind::Contradiction, reason, Some(id.to_owned())));
        }
        for path in kept.secrets {
            if !self.imported.secrets.contains(&path) {
                self.imported.secrets.push(path);
            }
        }
        if self.dry_run && self.imported.first.len() < SHOWN {
            self.imported.first.push(mask_secrets(&text));
        }
        if self.has_other_lists
            && let Some(name) = json["name"].as_str().filter(|name| !name.is_empty())
            && let Some(found) = self.other_name(line, id, name).map_err(Unprepared::Failed)?
        {
            self.imported.doubts.add_other_name(found);
        }
        let added = self.writer.set_person(self.run, self.source, id, &text).map_err(Unprepared::Failed)?;
        match added {
            Added::Current { new_device: true, .. } => self.imported.new += 1,
            Added::Current { changed: true, .. } => self.imported.changed += 1,
            _ => self.imported.unchanged += 1,
        }
        Ok(())
    }

    /// Takes one record of terms that were accepted; the error is that the ledger could not be written.
    pub(super) fn take_acceptance(&mut self, record: Record<'_>) -> Result<(), LedgerError> {
        self.imported.records += 1;
        let place = record.place;
        let taken = self.acceptance(record);
        self.unless_refused(place, taken)
    }

    fn acceptance(&mut self, record: Record<'_>) -> Result<(), Unprepared> {
        let refused = |kind, reason: String, id| Unprepared::Refused(Refusal::new(kind, reason, id));
        let fields = RecordFields::read(record, "person, device, terms and version are all needed")?;
        let text = |key: &str| fields.needed(key);
        let (person, device, terms, version) = (text("person")?, text("device")?, text("terms")?, text("version")?);
        if !self.project.rules.access().terms().iter().any(|known| known.id.as_str() == terms) {
            let reason = format!("there are no terms `{}` in terms.toml", escaped(&terms));
            return Err(refused(RejectKind::Unreadable, reason, Some(person)));
        }
        self.listed.insert(person.clone());
        let row = AcceptanceRow { person, device, terms, version, source: self.source.to_owned() };
        match self.writer.add_acceptance(self.run, &row).map_err(Unprepared::Failed)? {
            true => self.imported.new += 1,
            false => self.imported.unchanged += 1,
        }
        Ok(())
    }

    /// Takes one record of how far a setting got; the error is that the ledger could not be written.
    pub(super) fn take_setting(&mut self, record: Record<'_>) -> Result<(), LedgerError> {
        self.imported.records += 1;
        let place = record.place;
        let taken = self.setting(record);
        self.unless_refused(place, taken)
    }

    fn setting(&mut self, record: Record<'_>) -> Result<(), Unprepared> {
        const STATES: [&str; 4] = ["asked", "carried-out", "refused", "not-meant"];
        let fields = RecordFields::read(record, "device, setting, state and at are all needed")?;
        let (device, setting, at) = (fields.needed("device")?, fields.needed("setting")?, fields.moment("at")?);
        let state = fields.word("state", &STATES)?;
        let because = fields.optional("because");
        let row = SettingRow { device: device.clone(), setting, state, because, at };
        match self.writer.add_setting(self.run, self.source, &row).map_err(Unprepared::Failed)? {
            Some(Added::Current { new_device: true, .. }) => self.imported.new += 1,
            Some(Added::Current { .. }) => self.imported.changed += 1,
            Some(Added::Older) => self.imported.older += 1,
            Some(Added::Known | Added::Conflict) => self.imported.unchanged += 1,
            None => {
                let reason = format!("no device `{}` is known", escaped(&device));
                return Err(Unprepared::Refused(Refusal::new(RejectKind::NoId, reason, Some(device))));
            }
        }
        Ok(())
    }

    /// Takes one record of how far a command got; the error is that the ledger could not be written.
    pub(super) fn take_command_state(&mut self, record: Record<'_>) -> Result<(), LedgerError> {
        self.imported.records += 1;
        let place = record.place;
        let taken = self.command_state(record);
        self.unless_refused(place, taken)
    }

    fn command_state(&mut self, record: Record<'_>) -> Result<(), Unprepared> {
        let fields = RecordFields::read(record, "delivery, state and at are all needed")?;
        let key = fields.needed("delivery")?;
        fields.moment("at")?;
        let states = CommandState::ALL.map(CommandState::as_str);
        let state = fields.word("state", &states)?;
        let because = fields.optional("because");
        let known = self.writer.reader().delivery_of_key(&key).map_err(Unprepared::Failed)?;
        let Some(known) = known else {
            let reason = format!("there is no delivery `{}`", escaped(&key));
            return Err(Unprepared::Refused(Refusal::new(RejectKind::NoId, reason, Some(key))));
        };
        if known.answer.as_deref() == Some(state.as_str()) && known.because == because {
            self.imported.unchanged += 1;
            return Ok(());
        }
        // Whoever says how far it got has got it.
        let settled =
            SettledDelivery { state: DeliveryState::Delivered, answer: Some(&state), because: because.as_deref() };
        self.writer.settle_delivery(known.id, &settled).map_err(Unprepared::Failed)?;
        self.imported.changed += 1;
        Ok(())
    }
}

/// The fields of a record that is no state of a device and no person.
struct RecordFields {
    json: serde_json::Value,
    /// Which of them are needed, in words.
    needed: &'static str,
}

impl RecordFields {
    fn read(record: Record<'_>, needed: &'static str) -> Result<Self, Unprepared> {
        let refused = |kind, reason: String, id| Unprepared::Refused(Refusal::new(kind, reason, id));
        let document = record.document.map_err(|error| refused(error.kind, error.reason, error.id))?;
        let json = serde_json::from_slice(document.bytes())
            .map_err(|error| refused(RejectKind::Unreadable, error.to_string(), None))?;
        Ok(Self { json, needed })
    }

    fn refusal(kind: RejectKind, reason: String) -> Unprepared {
        Unprepared::Refused(Refusal::new(kind, reason, None))
    }

    /// Returns a text that has to be there.
    fn needed(&self, key: &str) -> Result<String, Unprepared> {
        self.optional(key)
            .filter(|text| text.len() <= ID_BYTES)
            .ok_or_else(|| Self::refusal(RejectKind::NoId, format!("no `{key}`: {}", self.needed)))
    }

    /// Returns a text, or a number as one; none where there is none.
    fn optional(&self, key: &str) -> Option<String> {
        match &self.json[key] {
            serde_json::Value::String(text) if !text.is_empty() => Some(text.clone()),
            serde_json::Value::Number(number) => Some(number.to_string()),
            _ => None,
        }
    }

    /// Returns one of a few words.
    fn word(&self, key: &str, words: &[&str]) -> Result<String, Unprepared> {
        let word = self.needed(key)?;
        match words.contains(&word.as_str()) {
            true => Ok(word),
            false => {
                let reason = format!("`{key}` is `{}`, and none of {}", escaped(&word), words.join(", "));
                Err(Self::refusal(RejectKind::Unreadable, reason))
            }
        }
    }

    /// Returns a moment, as the mapping wrote it.
    fn moment(&self, key: &str) -> Result<Timestamp, Unprepared> {
        let text = self.needed(key)?;
        text.parse().map_err(|_| Self::refusal(RejectKind::Unreadable, format!("`{}` is no moment", escaped(&text))))
    }
}
