//! What happens to findings, and the ids by which they are known for life.

use jiff::Timestamp;

use crate::facts::fingerprint::Fingerprint;
use crate::findings::clock::CloseReason;
use crate::findings::finding::Subject;
use crate::id::{DeviceId, FindingId, WaiverId};

impl FindingId {
    /// Returns the id of the finding of a subject on a device that opened at a moment: the same wherever it is worked out.
    pub fn new(device: &DeviceId, subject: &Subject, opened: Timestamp) -> Self {
        let mut id = Fingerprint::new();
        id.text(device.as_str());
        id.text(subject.as_str());
        // As the ledger keeps moments.
        id.bytes(&opened.as_microsecond().to_le_bytes());
        Self::of_number(id.value())
    }

    /// Returns the id of a finding that opened at the same moment as this one, after it had closed.
    pub fn next(self) -> Self {
        let mut id = Fingerprint::new();
        id.bytes(&self.number().to_le_bytes());
        Self::of_number(id.value())
    }
}

/// What happens to a finding.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum FindingEvent {
    /// An assessment saw it for the first time.
    Opened,
    /// Its grace ended. Not told of a finding that opens without grace.
    FellDue,
    /// It fails again soon after it closed, and goes on with its old clock.
    CameBack,
    /// It is over.
    Closed(CloseReason),
    /// Its grace was edited, and it is due at another moment.
    DueMoved {
        /// The due moment before.
        from: Timestamp,
    },
    /// Its rule took another id.
    RuleRenamed {
        /// What it was about before.
        from: Subject,
    },
    /// A waiver covers it, or covers it up to another moment than before.
    Waived {
        /// Up to when.
        until: Timestamp,
        /// The waiver.
        waiver: WaiverId,
    },
    /// No waiver covers it any more.
    WaiverEnded {
        /// The waiver that did.
        waiver: WaiverId,
    },
}

impl FindingEvent {
    /// Returns whether a finding runs after it that did not before, or the other way round.
    pub fn moves_in_or_out(&self) -> bool {
        matches!(self, Self::Opened | Self::CameBack | Self::Closed(_))
    }

    /// Returns the word used in the ledger and in JSON.
    pub fn as_str(&self) -> &'static str {
        match self {
            Self::Opened => "opened",
            Self::FellDue => "fell-due",
            Self::CameBack => "came-back",
            Self::Closed(_) => "closed",
            Self::DueMoved { .. } => "due-moved",
            Self::RuleRenamed { .. } => "rule-renamed",
            Self::Waived { .. } => "waived",
            Self::WaiverEnded { .. } => "waiver-ended",
        }
    }
}

/// A change of one finding in an assessment.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Transition {
    /// Which finding, by its index in [`Settled::findings`](crate::Settled::findings).
    pub finding: usize,
    /// When it happened: at the assessment, or when the clock alone did it.
    pub at: Timestamp,
    /// What happened.
    pub event: FindingEvent,
}
