//! What a forecast says: one thing that will come about at a moment.

use fencepost_core::{Effect, Expiring, Ruling};
use jiff::Timestamp;
use jiff::civil::Date;
use serde::{Deserialize, Serialize};

use crate::ledger_view::codec::DecisionKey;

/// Something that will come about if nothing comes in until then.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct ForecastEntry {
    /// The first whole second at which it is so.
    pub at: Timestamp,
    /// The device that it is about; none where it is about the workspace.
    pub device: Option<String>,
    /// Where the device belongs, by the fact that parts the fence.
    pub site: Option<String>,
    /// Who is concerned, by id: who loses or regains access or is told something, else who holds the device.
    pub people: Vec<String>,
    /// What comes about.
    pub what: ForecastEvent,
    /// It comes about only if the device, which is heard of now, says nothing until then.
    pub only_if_silent: bool,
}

/// What can come about by time alone.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum ForecastEvent {
    /// A finding opens, or comes back.
    Opening {
        /// The rule, or the word for silence or for being covered by nothing.
        rule: String,
        /// When its grace ends.
        due: Timestamp,
    },
    /// A finding closes.
    Closing {
        /// The rule.
        rule: String,
        /// Why, in the word of the history.
        because: String,
    },
    /// A finding falls due.
    Due {
        /// The rule.
        rule: String,
    },
    /// A fact becomes older than its source promises.
    Stale {
        /// The fact.
        fact: String,
        /// Who last said something of it.
        source: String,
    },
    /// A sign-in is denied, or let in with more obligations than before.
    Losing(ForecastDecision),
    /// A sign-in is let in again, or with fewer obligations.
    Returning(ForecastDecision),
    /// An action may be carried out, or waits for somebody's approval.
    Action(ForecastAction),
    /// Something that holds until a day ends.
    Ending(ForecastEnding),
}

/// A decision about a sign-in.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct ForecastDecision {
    /// Who signs in; none on a device that nobody holds.
    pub person: Option<String>,
    /// The service.
    pub service: String,
    /// The sign-in, by its id.
    pub client: String,
    /// Access is denied.
    pub is_denied: bool,
    /// Otherwise what is asked for, in words.
    pub obligations: Vec<String>,
}

impl ForecastDecision {
    /// Returns the word of the decision.
    pub fn effect(&self) -> &'static str {
        if self.is_denied { Effect::Deny.as_str() } else { Effect::Permit.as_str() }
    }

    pub(super) fn of(key: &DecisionKey, ruling: &Ruling) -> Self {
        Self {
            person: key.person.clone(),
            service: key.service.clone(),
            client: key.client.clone(),
            is_denied: ruling.effect == Effect::Deny,
            obligations: ruling.obligations.iter().map(|one| one.in_words().into_owned()).collect(),
        }
    }
}

/// An action of the outbox.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct ForecastAction {
    /// The action's id.
    pub id: String,
    /// The rule of its finding.
    pub rule: String,
    /// The step of the ladder.
    pub step: String,
    /// What it does: notify, raise, command.
    pub deed: String,
    /// Whom or what it is for, in a word.
    pub to: String,
    /// The person whom it is for, by id.
    pub person: Option<String>,
    /// Somebody has to do something before it is carried out.
    pub is_held: bool,
}

/// The end of something.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct ForecastEnding {
    /// What ends.
    pub kind: EndingKind,
    /// What it is called: the waiver's id, whom an exception is for, the fact of a correction or a certificate, the action that was
    /// approved.
    pub id: String,
    /// The rule that it is about, where it is about one.
    pub rule: Option<String>,
}

/// What can end.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub enum EndingKind {
    /// A waiver.
    Waiver,
    /// An exception of a rule.
    Exception,
    /// A fact that was set by hand.
    Correction,
    /// What somebody approved.
    Approval,
    /// A certificate.
    Certificate,
    /// A key.
    Key,
}

impl EndingKind {
    /// Returns the word used in JSON.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Waiver => "waiver",
            Self::Exception => "exception",
            Self::Correction => "correction",
            Self::Approval => "approval",
            Self::Certificate => Expiring::Certificate.as_str(),
            Self::Key => Expiring::Key.as_str(),
        }
    }
}

impl From<Expiring> for EndingKind {
    fn from(what: Expiring) -> Self {
        match what {
            Expiring::Certificate => Self::Certificate,
            Expiring::Key => Self::Key,
        }
    }
}

/// A kind of event, in the order in which a day is told.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum ForecastKind {
    /// Findings that open.
    Opening,
    /// Findings that close.
    Closing,
    /// Findings that fall due.
    Due,
    /// Facts that become too old.
    Stale,
    /// Access that is lost or reduced.
    Losing,
    /// Access that comes back.
    Returning,
    /// Actions that may be carried out.
    Action,
    /// What ends.
    Ending,
}

impl ForecastKind {
    /// All kinds, what matters most first.
    pub const BY_WEIGHT: [Self; 8] = [
        Self::Due,
        Self::Losing,
        Self::Opening,
        Self::Returning,
        Self::Closing,
        Self::Ending,
        Self::Action,
        Self::Stale,
    ];

    /// All kinds, in their order.
    pub const ALL: [Self; 8] = [
        Self::Opening,
        Self::Closing,
        Self::Due,
        Self::Stale,
        Self::Losing,
        Self::Returning,
        Self::Action,
        Self::Ending,
    ];

    /// Returns the key used in JSON.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Opening => "opening",
            Self::Closing => "closing",
            Self::Due => "due",
            Self::Stale => "stale",
            Self::Losing => "losing",
            Self::Returning => "returning",
            Self::Action => "actions",
            Self::Ending => "ending",
        }
    }
}

impl ForecastEvent {
    /// Returns its kind.
    pub fn kind(&self) -> ForecastKind {
        match self {
            Self::Opening { .. } => ForecastKind::Opening,
            Self::Closing { .. } => ForecastKind::Closing,
            Self::Due { .. } => ForecastKind::Due,
            Self::Stale { .. } => ForecastKind::Stale,
            Self::Losing(_) => ForecastKind::Losing,
            Self::Returning(_) => ForecastKind::Returning,
            Self::Action(_) => ForecastKind::Action,
            Self::Ending(_) => ForecastKind::Ending,
        }
    }

    /// Returns what tells it from others of its kind, device and moment: the rule, the fact, the sign-in.
    fn subject(&self) -> String {
        match self {
            Self::Opening { rule, .. } | Self::Closing { rule, .. } | Self::Due { rule } => rule.clone(),
            Self::Stale { fact, .. } => fact.clone(),
            Self::Losing(it) | Self::Returning(it) => {
                format!("{}\0{}\0{}", it.person.as_deref().unwrap_or_default(), it.service, it.client)
            }
            Self::Action(it) => format!("{}\0{}\0{}", it.rule, it.step, it.id),
            Self::Ending(it) => format!("{}\0{}\0{}", it.kind.as_str(), it.id, it.rule.as_deref().unwrap_or_default()),
        }
    }
}

impl ForecastEntry {
    /// Returns the key by which entries are put in order: by day, kind, moment, device and subject.
    pub(super) fn sort_key(&self, date: Date) -> Vec<u8> {
        // Times before 1970 come first.
        let at = (self.at.as_second() as u64) ^ (1 << 63);
        let mut key = date.to_string().into_bytes();
        key.push(self.what.kind() as u8);
        key.extend(at.to_be_bytes());
        key.extend(self.device.as_deref().unwrap_or_default().as_bytes());
        key.push(0);
        key.extend(self.what.subject().into_bytes());
        key
    }
}
