//! What happened to devices and their findings, and how the ledger keeps it: the one codec of events.

use fencepost_core::{
    CloseReason, DeviceId, Finding, FindingClock, FindingEvent, FindingId, Phase, Standing, Subject, Transition,
};
use fencepost_store::{EventFinding, EventRow};
use jiff::Timestamp;
use serde_json::{Value as Json, json};

/// Something that happened to a device.
#[derive(Clone, Debug, PartialEq)]
pub struct Event {
    /// The device.
    pub device: DeviceId,
    /// When it happened.
    pub at: Timestamp,
    /// What happened.
    pub kind: EventKind,
}

/// What can happen to a device.
#[derive(Clone, Debug, PartialEq)]
pub enum EventKind {
    /// Something happened to one of its findings.
    Finding(FindingChange),
    /// It stands otherwise than before.
    Standing {
        /// How it stood; none when it was assessed for the first time.
        before: Option<Standing>,
        /// How it stands.
        now: Standing,
    },
    /// A complete export of a source no longer lists it.
    Absent {
        /// The source.
        source: String,
    },
    /// It was retired.
    Retired,
    /// It got another name.
    Renamed {
        /// What it was called.
        from: String,
        /// What it is called since.
        to: String,
        /// Why.
        because: String,
    },
}

/// What happened to a finding, with the finding as it was then.
#[derive(Clone, Debug, PartialEq)]
pub struct FindingChange {
    /// The finding's id for life.
    pub id: FindingId,
    /// Its rule as it was called then, or silence.
    pub subject: Subject,
    /// When it was first seen.
    pub opened: Timestamp,
    /// When its grace ends.
    pub due: Timestamp,
    /// Which time it was failing, from 1.
    pub spell: u32,
    /// What happened.
    pub event: FindingEvent,
}

const STANDING: &str = "standing";
const ABSENT: &str = "absent";
const RETIRED: &str = "retired";
const RENAMED: &str = "renamed";

impl FindingChange {
    /// Creates what happened to a finding as it is now.
    pub(crate) fn of(finding: &Finding, event: FindingEvent) -> Self {
        Self {
            id: finding.id,
            subject: finding.subject.clone(),
            opened: finding.clock.opened,
            due: finding.clock.due,
            spell: finding.spell,
            event,
        }
    }
}

/// Returns what time alone does to a finding after `after` and up to `until`.
pub(crate) fn events_by_clock(
    finding: &Finding,
    after: Timestamp,
    until: Timestamp,
) -> impl Iterator<Item = (Timestamp, FindingEvent)> {
    let clock = FindingClock { closed: None, ..finding.clock.clone() };
    let mut was = clock.waived_at(after).map(|time| time.waiver.clone());
    let mut events = Vec::new();
    for (at, phase) in clock.changes(after, until) {
        let waiver = clock.waived_at(at).map(|time| time.waiver.clone());
        events.extend(
            was.filter(|was| waiver.as_ref() != Some(was)).map(|waiver| (at, FindingEvent::WaiverEnded { waiver })),
        );
        match (phase, &waiver) {
            (Phase::Waived { until }, Some(waiver)) => {
                events.push((at, FindingEvent::Waived { until, waiver: waiver.clone() }));
            }
            (Phase::Overdue { .. }, _) => events.push((at, FindingEvent::FellDue)),
            _ => {}
        }
        was = waiver;
    }
    events.into_iter()
}

impl Event {
    /// Creates the event of something that happened to a finding.
    pub(crate) fn of_finding(finding: &Finding, at: Timestamp, event: FindingEvent) -> Self {
        Self { device: finding.device.clone(), at, kind: EventKind::Finding(FindingChange::of(finding, event)) }
    }

    /// Creates the event of a transition that settling came to.
    pub(crate) fn of_transition(transition: &Transition, findings: &[Finding]) -> Self {
        Self::of_finding(&findings[transition.finding], transition.at, transition.event.clone())
    }

    /// Writes an event as a row.
    pub(crate) fn row(&self) -> EventRow {
        let (what, finding, detail) = match &self.kind {
            EventKind::Finding(change) => {
                let finding = EventFinding {
                    id: change.id.number(),
                    subject: change.subject.as_str().to_owned(),
                    opened: change.opened,
                    due: change.due,
                    spell: change.spell,
                };
                (change.event.as_str(), Some(finding), detail_of(&change.event))
            }
            EventKind::Standing { before, now } => {
                let words = json!([before.map(Standing::as_str), now.as_str()]);
                (STANDING, None, Some(words.to_string()))
            }
            EventKind::Absent { source } => (ABSENT, None, Some(source.clone())),
            EventKind::Retired => (RETIRED, None, None),
            EventKind::Renamed { from, to, because } => {
                (RENAMED, None, Some(json!({ "from": from, "to": to, "because": because }).to_string()))
            }
        };
        EventRow { device: self.device.to_string(), at: self.at, what: what.to_owned(), finding, detail }
    }

    /// Reads an event back; none when the row is not as this program writes it.
    pub(crate) fn of_row(row: EventRow) -> Option<Self> {
        let EventRow { device, at, what, finding, detail } = row;
        let kind = match finding {
            Some(EventFinding { id, subject, opened, due, spell }) => EventKind::Finding(FindingChange {
                id: FindingId::of_number(id),
                subject: Subject::parse(&subject),
                opened,
                due,
                spell,
                event: finding_event(&what, detail)?,
            }),
            None => match what.as_str() {
                STANDING => {
                    let words: [Option<String>; 2] = serde_json::from_str(&detail?).ok()?;
                    let [before, now] = words.map(|word| word.map(|word| Standing::parse(&word)));
                    EventKind::Standing {
                        before: match before {
                            Some(before) => Some(before?),
                            None => None,
                        },
                        now: now??,
                    }
                }
                ABSENT => EventKind::Absent { source: detail? },
                RETIRED => EventKind::Retired,
                RENAMED => {
                    let detail: Json = serde_json::from_str(&detail?).ok()?;
                    let text = |key: &str| detail[key].as_str().map(str::to_owned);
                    EventKind::Renamed { from: text("from")?, to: text("to")?, because: text("because")? }
                }
                _ => return None,
            },
        };
        Some(Self { device: device.as_str().into(), at, kind })
    }
}

/// What a finding's event says besides its word.
fn detail_of(event: &FindingEvent) -> Option<String> {
    match event {
        FindingEvent::Opened | FindingEvent::FellDue | FindingEvent::CameBack => None,
        FindingEvent::Closed(reason) => Some(reason.as_str().to_owned()),
        FindingEvent::DueMoved { from } => Some(from.as_microsecond().to_string()),
        FindingEvent::RuleRenamed { from } => Some(from.as_str().to_owned()),
        FindingEvent::Waived { until, waiver } => Some(json!([until.to_string(), waiver.as_str()]).to_string()),
        FindingEvent::WaiverEnded { waiver } => Some(waiver.as_str().to_owned()),
    }
}

fn finding_event(word: &str, detail: Option<String>) -> Option<FindingEvent> {
    Some(match (word, detail) {
        ("opened", None) => FindingEvent::Opened,
        ("fell-due", None) => FindingEvent::FellDue,
        ("came-back", None) => FindingEvent::CameBack,
        ("closed", Some(reason)) => FindingEvent::Closed(CloseReason::parse(&reason)?),
        ("due-moved", Some(from)) => {
            FindingEvent::DueMoved { from: Timestamp::from_microsecond(from.parse().ok()?).ok()? }
        }
        ("rule-renamed", Some(from)) => FindingEvent::RuleRenamed { from: Subject::parse(&from) },
        ("waived", Some(detail)) => {
            let [until, waiver]: [String; 2] = serde_json::from_str(&detail).ok()?;
            FindingEvent::Waived { until: until.parse().ok()?, waiver: waiver.as_str().into() }
        }
        ("waiver-ended", Some(waiver)) => FindingEvent::WaiverEnded { waiver: waiver.as_str().into() },
        _ => return None,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn moments() -> impl Strategy<Value = Timestamp> {
        (-62_135_596_800_000_000_i64..253_402_200_000_000_000).prop_map(|at| Timestamp::from_microsecond(at).unwrap())
    }

    fn subjects() -> impl Strategy<Value = Subject> {
        prop_oneof![Just(Subject::Silence), "[a-z-]{1,9}(/[a-z]{1,5})?".prop_map(|id| Subject::parse(&id))]
    }

    fn finding_events() -> impl Strategy<Value = FindingEvent> {
        prop_oneof![
            Just(FindingEvent::Opened),
            Just(FindingEvent::FellDue),
            Just(FindingEvent::CameBack),
            prop::sample::select(CloseReason::ALL.to_vec()).prop_map(FindingEvent::Closed),
            moments().prop_map(|from| FindingEvent::DueMoved { from }),
            subjects().prop_map(|from| FindingEvent::RuleRenamed { from }),
            (moments(), "[a-z-]{1,9}")
                .prop_map(|(until, waiver)| FindingEvent::Waived { until, waiver: waiver.as_str().into() }),
            "[a-z-]{1,9}".prop_map(|waiver| FindingEvent::WaiverEnded { waiver: waiver.as_str().into() }),
        ]
    }

    fn kinds() -> impl Strategy<Value = EventKind> {
        let standing = || prop::sample::select(Standing::ALL.to_vec());
        let finding = (any::<u64>(), subjects(), moments(), moments(), any::<u32>(), finding_events());
        prop_oneof![
            4 => finding.prop_map(|(id, subject, opened, due, spell, event)| {
                let id = FindingId::of_number(id);
                EventKind::Finding(FindingChange { id, subject, opened, due, spell, event })
            }),
            1 => (prop::option::of(standing()), standing()).prop_map(|(before, now)| EventKind::Standing { before, now }),
            1 => any::<String>().prop_map(|source| EventKind::Absent { source }),
            1 => Just(EventKind::Retired),
            1 => (any::<String>(), any::<String>(), any::<String>())
                .prop_map(|(from, to, because)| EventKind::Renamed { from, to, because }),
        ]
    }

    proptest! {
        #[test]
        fn events_come_back_as_they_were(device in any::<String>(), at in moments(), kind in kinds()) {
            let event = Event { device: device.as_str().into(), at, kind };
            prop_assert_eq!(Event::of_row(event.row()), Some(event));
        }
    }

    #[test]
    fn rows_that_say_something_else_are_not_events() {
        let row = |what: &str, detail: Option<&str>| EventRow {
            device: "d".into(),
            at: Timestamp::UNIX_EPOCH,
            what: what.into(),
            finding: None,
            detail: detail.map(str::to_owned),
        };
        for (what, detail) in [
            ("opened", None),
            ("standing", None),
            ("standing", Some("[null,null]")),
            ("standing", Some("[\"well\",\"compliant\"]")),
            ("renamed", Some("{}")),
            ("else", None),
        ] {
            assert_eq!(Event::of_row(row(what, detail)), None, "{what} {detail:?}");
        }
    }
}
