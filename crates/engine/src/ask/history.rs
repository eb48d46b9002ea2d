//! What became of a device, moment by moment: what its sources said anew, how it stood, and what was found.

use fencepost_core::{FindingEvent, Standing};
use fencepost_store::Absence;
use jiff::Timestamp;

use crate::error::EngineError;
use crate::facts::documents::Document;
use crate::import::changes::{Change, changes_between};
use crate::ledger_view::damage::unreadable;
use crate::ledger_view::event::{Event, EventKind, FindingChange, events_by_clock};
use crate::ledger_view::reading::Reading;

/// Something that happened to a device.
#[derive(Clone, Debug, PartialEq)]
pub struct Happening {
    /// When.
    pub at: Timestamp,
    /// What.
    pub what: Happened,
    /// The number of the assessment that noted it, if one did.
    pub assessment: Option<i64>,
}

/// What can happen to a device.
#[derive(Clone, Debug, PartialEq)]
pub enum Happened {
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
    /// Something happened to one of its findings.
    Finding(FindingChange),
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

impl Happened {
    /// Returns the word for it in machine output.
    pub fn as_str(&self) -> &'static str {
        match self {
            Self::FirstSeen { .. } => "first-seen",
            Self::Changed { .. } => "changed",
            Self::Absent { .. } => "absent",
            Self::ListedAgain { .. } => "listed-again",
            Self::Stood { .. } => "standing",
            Self::Finding(change) => match change.event {
                FindingEvent::FellDue => "due",
                FindingEvent::CameBack => "relapsed",
                _ => change.event.as_str(),
            },
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
        let mut tell = |at: Timestamp, what: Happened| all.push(Happening { at, what, assessment: None });
        let mut noted = Vec::new();
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
                    tell(at, Happened::FirstSeen { source, facts, earlier_removed: trimmed });
                }
                // The same body says the same.
                Some((_, same)) if *same == number => {}
                Some((old, _)) => {
                    let changes = changes_between(&old.json, &document.json, &self.project.dictionary);
                    if !changes.is_empty() {
                        tell(at, Happened::Changed { source, changes });
                    }
                }
            }
            before = Some((document, number));
        }
        for Absence { source, from, until } in self.reader.absence_history(&device)? {
            tell(from, Happened::Absent { source: source.clone() });
            if let Some(until) = until {
                tell(until, Happened::ListedAgain { source });
            }
        }
        for (row, assessment) in self.reader.events_of(&device, self.run)? {
            let Event { at, kind, .. } =
                Event::of_row(row).ok_or_else(|| unreadable(self.project, &device, "what happened to it"))?;
            let what = match kind {
                EventKind::Finding(change) => Happened::Finding(change),
                EventKind::Standing { before, now } => Happened::Stood { before, now },
                EventKind::Renamed { from, because, .. } => Happened::Renamed { from, because },
                // Told with its reason, or with its end.
                EventKind::Retired | EventKind::Absent { .. } => continue,
            };
            noted.push(Happening { at, what, assessment });
        }
        // What the clock alone has done since the assessment.
        let assessed = self.reader.assessments(Some(self.at), 1)?.pop().map_or(self.at, |run| run.as_of);
        for finding in self.findings(Some(&device), false)?.into_values().flatten() {
            for (at, event) in events_by_clock(&finding, assessed, self.at) {
                tell(at, Happened::Finding(FindingChange::of(&finding, event)));
            }
        }
        for name in std::iter::once(&device).chain(&self.reader.former_names(&device)?) {
            let mut at = self.at;
            while let Some(retirement) = self.project.lifecycles.last_retirement(name, at) {
                tell(retirement.from, Happened::Retired { because: retirement.because.clone() });
                let Ok(earlier) = retirement.from.checked_sub(jiff::SignedDuration::from_micros(1)) else { break };
                at = earlier;
            }
        }
        all.extend(noted);
        all.retain(|happening| happening.at <= self.at);
        // What is collected comes before what is made of it at the same moment.
        all.sort_by_key(|happening| happening.at);
        Ok(History { device, happenings: all, collections })
    }
}
