//! What belongs into a calendar: due moments and what ends, and for a while what no longer holds of that.

use std::collections::{BTreeMap, BTreeSet};

use fencepost_core::{FindingEvent, WaiverState};
use jiff::civil::Date;
use jiff::{SignedDuration, Timestamp};

use crate::ask::list::{Kind, ListQuery};
use crate::change::forecast::{Forecast, ForecastEvent};
use crate::error::EngineError;
use crate::ledger_view::event::{Event, EventKind};
use crate::ledger_view::reading::Reading;

/// What no longer holds stays for so long.
const KEPT: SignedDuration = SignedDuration::from_hours(30 * 24);
/// So many due moments are told, those first that come first.
const MOST_DUE: usize = 5_000;

/// When an event is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum CalendarMoment {
    /// At a moment.
    At(Timestamp),
    /// For a whole day.
    Day(Date),
}

/// An event of a calendar.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct CalendarEvent {
    /// What it is about, for its id: the same in every file.
    pub key: String,
    /// When it is.
    pub moment: CalendarMoment,
    /// What it is.
    pub summary: String,
    /// More about it, line by line.
    pub description: Vec<String>,
    /// It no longer holds.
    pub is_cancelled: bool,
}

/// A calendar.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct CalendarReport {
    /// The moment of reading.
    pub as_of: Timestamp,
    /// The number of the assessment.
    pub assessment: i64,
    /// The events, by moment.
    pub events: Vec<CalendarEvent>,
    /// How many due moments are left out for want of room.
    pub left_out: u64,
}

/// What is due on a device at one moment.
#[derive(Default)]
struct DueTogether {
    rules: Vec<String>,
    holder: Option<String>,
}

/// Due moments by moment and device.
type DueMoments = BTreeMap<(Timestamp, String), DueTogether>;

impl Reading<'_> {
    /// Returns what belongs into the calendar of some devices, or of all. `endings` is a forecast of what ends, where there is one.
    ///
    /// # Errors
    /// When the ledger cannot be read, or nothing was assessed.
    pub fn calendar(
        &self,
        devices: Option<&BTreeSet<String>>,
        endings: Option<&Forecast>,
    ) -> Result<CalendarReport, EngineError> {
        let Some(assessment) = &self.assessment else {
            return Err(EngineError::refused("nothing has been assessed yet", "run: fencepost assess"));
        };
        let is_own = |device: &str| devices.is_none_or(|own| own.contains(device));
        let since = self.at.checked_sub(KEPT).unwrap_or(Timestamp::MIN);
        let due = self.due_moments(since, &is_own)?;
        let over = self.moments_no_longer_due(since, &due, &is_own)?;
        let left_out = due.len().saturating_sub(MOST_DUE) as u64;
        let mut events: Vec<CalendarEvent> = over;
        events.extend(due.into_iter().take(MOST_DUE).map(|((at, device), together)| due_event(at, &device, together)));
        if let Some(endings) = endings {
            self.add_endings_to(&mut events, endings)?;
        }
        if devices.is_none() {
            self.add_ended_waivers(since, &mut events);
        }
        events.sort_by(|one, other| (one.moment, &one.key).cmp(&(other.moment, &other.key)));
        Ok(CalendarReport { as_of: self.at, assessment: assessment.number.unwrap_or(0), events, left_out })
    }

    fn due_moments(&self, since: Timestamp, is_own: &dyn Fn(&str) -> bool) -> Result<DueMoments, EngineError> {
        let columns = ["device", "rule", "due", "holder"].map(str::to_owned);
        let mut due = DueMoments::new();
        let Ok(listing) = self.list(ListQuery { columns: &columns, ..ListQuery::of(Kind::Findings) })? else {
            return Ok(due);
        };
        for row in listing.rows.iter() {
            let row = row?;
            let (Some(device), Some(rule)) = (row[0].as_str(), row[1].as_str()) else { continue };
            let Some(at) = row[2].as_str().and_then(|at| at.parse::<Timestamp>().ok()) else { continue };
            if at >= since && is_own(device) {
                let together = due.entry((at, device.to_owned())).or_default();
                together.rules.push(rule.to_owned());
                together.holder = row[3].as_str().map(str::to_owned);
            }
        }
        Ok(due)
    }

    /// Returns the due moments of findings that closed lately, or were put off, where nothing else is due then.
    fn moments_no_longer_due(
        &self,
        since: Timestamp,
        due: &DueMoments,
        is_own: &dyn Fn(&str) -> bool,
    ) -> Result<Vec<CalendarEvent>, EngineError> {
        let mut over: DueMoments = DueMoments::new();
        let lately = self.reader.assessments(Some(self.at), u32::MAX)?.into_iter().take_while(|run| run.as_of >= since);
        for run in lately {
            self.reader.each_event(run.id, |row| {
                let Some(Event { device, kind: EventKind::Finding(change), .. }) = Event::of_row(row) else {
                    return Ok::<_, EngineError>(());
                };
                let at = match change.event {
                    FindingEvent::Closed(_) => change.due,
                    FindingEvent::DueMoved { from } => from,
                    _ => return Ok(()),
                };
                let key = (at, device.to_string());
                if at >= since && is_own(device.as_str()) && !due.contains_key(&key) && over.len() < MOST_DUE {
                    let together = over.entry(key).or_default();
                    let rule = change.subject.as_str().to_owned();
                    if !together.rules.contains(&rule) {
                        together.rules.push(rule);
                    }
                }
                Ok(())
            })?;
        }
        let event = |((at, device), together): ((Timestamp, String), DueTogether)| CalendarEvent {
            is_cancelled: true,
            ..due_event(at, &device, together)
        };
        Ok(over.into_iter().map(event).collect())
    }

    fn add_endings_to(&self, events: &mut Vec<CalendarEvent>, endings: &Forecast) -> Result<(), EngineError> {
        let zone = &self.project.config.calendar.zone;
        for entry in endings.entries.iter() {
            let entry = entry?;
            let ForecastEvent::Ending(ending) = &entry.what else { continue };
            let kind = ending.kind.as_str();
            let device = entry.device.as_deref().unwrap_or_default();
            let rule = ending.rule.as_deref().unwrap_or_default();
            // What holds for days ends with its last day.
            let last = entry.at.checked_sub(SignedDuration::from_secs(1)).unwrap_or(entry.at);
            let last_day = CalendarMoment::Day(zone.to_datetime(last).date());
            let (moment, summary) = match (kind, device.is_empty()) {
                ("waiver", _) => (last_day, format!("The waiver {} ends", ending.id)),
                ("exception", _) => (last_day, format!("The exception of {} from {rule} ends", ending.id)),
                ("correction", _) => (last_day, format!("The correction of {} on {device} ends", ending.id)),
                ("approval", _) => {
                    (CalendarMoment::At(entry.at), format!("An approval about {rule} on {device} lapses"))
                }
                _ => (CalendarMoment::At(entry.at), format!("The {kind} of {device} ends")),
            };
            let description =
                if device.is_empty() || kind == "correction" { Vec::new() } else { vec![ending.id.clone()] };
            events.push(CalendarEvent {
                key: format!("{kind}\0{device}\0{}\0{rule}", ending.id),
                moment,
                summary,
                description,
                is_cancelled: false,
            });
        }
        Ok(())
    }

    /// Adds the ends of waivers that were ended before their time.
    fn add_ended_waivers(&self, since: Timestamp, events: &mut Vec<CalendarEvent>) {
        let zone = &self.project.config.calendar.zone;
        for waiver in self.project.rules.waivers().iter().filter(|waiver| waiver.state(self.at) == WaiverState::Over) {
            let Some(ended) = waiver.ended.as_ref().filter(|ended| ended.at >= since && ended.at < waiver.until) else {
                continue;
            };
            let last = waiver.until.checked_sub(SignedDuration::from_secs(1)).unwrap_or(waiver.until);
            events.push(CalendarEvent {
                key: format!("waiver\0\0{}\0", waiver.id),
                moment: CalendarMoment::Day(zone.to_datetime(last).date()),
                summary: format!("The waiver {} ends", waiver.id),
                description: vec![format!("It was ended before: {}", ended.because)],
                is_cancelled: true,
            });
        }
    }
}

fn due_event(at: Timestamp, device: &str, together: DueTogether) -> CalendarEvent {
    let DueTogether { rules, holder } = together;
    let description = holder.map(|holder| format!("Held by {holder}")).into_iter().collect();
    CalendarEvent {
        key: format!("due\0{device}\0{at}"),
        moment: CalendarMoment::At(at),
        summary: format!("{device}: {} due", rules.join(", ")),
        description,
        is_cancelled: false,
    }
}
