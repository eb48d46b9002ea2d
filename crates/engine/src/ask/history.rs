//! What became of a device, moment by moment: what its sources said anew, how it stood, and what was found.

use std::collections::BTreeMap;

use fencepost_core::Standing;
use fencepost_store::{FindingRow, SpellKind};
use jiff::Timestamp;

use crate::error::EngineError;
use crate::facts::documents::Document;
use crate::import::changes::{Change, changes_between};
use crate::ledger_view::codec;
use crate::ledger_view::damage::unreadable;
use crate::ledger_view::reading::Reading;

/// Something that happened to a device.
#[derive(Clone, Debug, PartialEq)]
pub struct Happening {
    /// When.
    pub at: Timestamp,
    /// What.
    pub what: What,
}

/// What can happen to a device.
#[derive(Clone, Debug, PartialEq)]
pub enum What {
    /// A source spoke of it for the first time.
    FirstSeen {
        /// Which source.
        source: String,
        /// How many facts it told.
        facts: usize,
        /// What it said before was removed from the ledger.
        earlier_removed: bool,
    },
    /// A source said something else than before.
    Changed {
        /// Which source.
        source: String,
        /// What.
        changes: Vec<Change>,
    },
    /// A complete export of a source does not list it any more.
    Absent {
        /// Which source.
        source: String,
    },
    /// The source lists it again.
    ListedAgain {
        /// Which source.
        source: String,
    },
    /// It stands otherwise than before.
    Stood {
        /// How it stood; none when it was assessed for the first time.
        before: Option<Standing>,
        /// How it stands.
        now: Standing,
    },
    /// A finding opened.
    Opened {
        /// Its rule.
        rule: String,
    },
    /// A finding fell due.
    Due {
        /// Its rule.
        rule: String,
    },
    /// A finding that had closed runs again.
    Relapsed {
        /// Its rule.
        rule: String,
    },
    /// A finding closed.
    Closed {
        /// Its rule.
        rule: String,
        /// Why.
        how: String,
    },
    /// It was retired.
    Retired {
        /// Why.
        because: String,
    },
    /// It got its present name, or the one after the former.
    Renamed {
        /// What it was called.
        from: String,
        /// Why.
        because: String,
    },
}

impl What {
    /// Returns the word for it in machine output.
    pub fn as_str(&self) -> &'static str {
        match self {
            Self::FirstSeen { .. } => "first-seen",
            Self::Changed { .. } => "changed",
            Self::Absent { .. } => "absent",
            Self::ListedAgain { .. } => "listed-again",
            Self::Stood { .. } => "standing",
            Self::Opened { .. } => "opened",
            Self::Due { .. } => "due",
            Self::Relapsed { .. } => "relapsed",
            Self::Closed { .. } => "closed",
            Self::Retired { .. } => "retired",
            Self::Renamed { .. } => "renamed",
        }
    }
}

/// The life of a device.
#[derive(Clone, Debug, PartialEq)]
pub struct History {
    /// The device.
    pub device: String,
    /// What happened, oldest first.
    pub happenings: Vec<Happening>,
    /// How often its sources spoke of it.
    pub collections: usize,
}

impl Reading<'_> {
    /// Returns what became of a device up to the moment of reading.
    ///
    /// # Errors
    /// When the ledger cannot be read, or does not know the device.
    pub fn history(&self, device: &str) -> Result<History, EngineError> {
        let device = self.device_name(device)?;
        let mut all = Vec::new();
        let mut tell = |at: Timestamp, what: What| all.push(Happening { at, what });
        let stored = self.reader.history_of(&device, self.run)?;
        let collections = stored.len();
        let trimmed = self.reader.is_trimmed_for(&device)?;
        let mut before: Option<(Document, i64)> = None;
        for said in stored {
            let number = said.document;
            let document = Document::of(&device, said);
            match &before {
                Some((old, _)) if old.source != document.source => before = None,
                Some(_) | None => {}
            }
            let (at, source) = (document.collected, document.source.clone());
            match &before {
                None => {
                    let facts = changes_between(b"{}", &document.json, &self.project.dictionary).len();
                    tell(at, What::FirstSeen { source, facts, earlier_removed: trimmed });
                }
                // The same body says the same.
                Some((_, same)) if *same == number => {}
                Some((old, _)) => {
                    let changes = changes_between(&old.json, &document.json, &self.project.dictionary);
                    if !changes.is_empty() {
                        tell(at, What::Changed { source, changes });
                    }
                }
            }
            before = Some((document, number));
        }
        for (source, from, to) in self.reader.absence_history(&device)? {
            tell(from, What::Absent { source: source.clone() });
            if let Some(to) = to {
                tell(to, What::ListedAgain { source });
            }
        }
        let limit = self.run.unwrap_or(i64::MAX);
        let mut stood = None;
        for spell in self.reader.spell_history(SpellKind::Standing, &device)? {
            let now = Standing::parse(&spell.value).ok_or_else(|| unreadable(self.project, &device, "a standing"))?;
            let Some(run) = self.reader.run(spell.from_run)? else { continue };
            if spell.from_run <= limit {
                if stood != Some(now) {
                    tell(run.as_of, What::Stood { before: stood, now });
                }
                stood = Some(now);
            }
        }
        let mut latest: BTreeMap<(String, Timestamp), FindingRow> = BTreeMap::new();
        for row in self.reader.finding_versions(&device)?.into_iter().filter(|row| row.from_run <= limit) {
            let Some(run) = self.reader.run(row.from_run)? else { continue };
            let key = (row.subject.clone(), row.opened);
            let rule = row.subject.clone();
            match (latest.get(&key).map(|before| before.closed.is_some()), row.closed.is_some()) {
                (None, _) => tell(row.opened, What::Opened { rule }),
                (Some(true), false) => tell(run.as_of, What::Relapsed { rule }),
                (Some(false), true) => {
                    let finding = codec::finding(&row).ok_or_else(|| unreadable(self.project, &device, "a finding"))?;
                    let how = finding.clock.closed.map_or("", |(_, why)| why.as_str());
                    tell(run.as_of, What::Closed { rule, how: how.to_owned() });
                }
                (Some(_), _) => {}
            }
            latest.insert(key, row);
        }
        for row in latest.into_values() {
            let finding = codec::finding(&row).ok_or_else(|| unreadable(self.project, &device, "a finding"))?;
            if let Some(due) = finding.clock.fell_due(self.at) {
                tell(due, What::Due { rule: row.subject });
            }
        }
        for name in std::iter::once(&device).chain(&self.reader.former_names(&device)?) {
            let mut at = self.at;
            while let Some(retirement) = self.project.lifecycles.last_retirement(name, at) {
                tell(retirement.from, What::Retired { because: retirement.because.clone() });
                let Ok(earlier) = retirement.from.checked_sub(jiff::SignedDuration::from_micros(1)) else { break };
                at = earlier;
            }
            for renaming in self.project.lifecycles.renamings(self.at).filter(|one| one.device.as_str() == name) {
                let because = renaming.because.clone();
                tell(renaming.from, What::Renamed { from: name.clone(), because });
            }
        }
        all.retain(|happening| happening.at <= self.at);
        // What is collected comes before what is made of it at the same moment.
        all.sort_by_key(|happening| happening.at);
        Ok(History { device, happenings: all, collections })
    }
}
