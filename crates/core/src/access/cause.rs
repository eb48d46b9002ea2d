//! What shuts or narrows the way to a service: what would have to change for it to be open.

use jiff::Timestamp;

use crate::findings::finding::Subject;

/// The kind of a cause, in a word of the machine-readable contract.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum CauseKind {
    /// A finding of a rule.
    Finding,
    /// The silence of the device.
    Silence,
    /// No enforced rule covers the device.
    Uncovered,
    /// A fact that the access rule asks for itself.
    Condition,
    /// The device is not managed any more, as the workspace defines it.
    Certificate,
    /// No access rule is for this person.
    Default,
    /// The person does not belong any more to those whom an access rule is for, or does not hold the device any more.
    Membership,
    /// The person is on no list any more.
    Left,
    /// The device was retired.
    Retired,
    /// Terms that the person has not accepted on this device, in this version.
    Terms,
    /// An access rule, or the service, was edited.
    RuleChanged,
    /// A finding that a waiver covered until it ended.
    WaiverEnded,
}

impl CauseKind {
    /// All kinds.
    pub const ALL: [Self; 12] = [
        Self::Finding,
        Self::Silence,
        Self::Uncovered,
        Self::Condition,
        Self::Certificate,
        Self::Default,
        Self::Membership,
        Self::Left,
        Self::Retired,
        Self::Terms,
        Self::RuleChanged,
        Self::WaiverEnded,
    ];

    /// Returns the word used in JSON.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Finding => "finding",
            Self::Silence => "silence",
            Self::Uncovered => "uncovered",
            Self::Condition => "condition",
            Self::Certificate => "certificate",
            Self::Default => "default",
            Self::Membership => "membership",
            Self::Left => "left",
            Self::Retired => "retired",
            Self::Terms => "terms",
            Self::RuleChanged => "rule-changed",
            Self::WaiverEnded => "waiver-ended",
        }
    }

    /// Returns whether a finding is the cause, or its silence, or the end of its waiver.
    pub fn is_of_finding(self) -> bool {
        matches!(self, Self::Finding | Self::Silence | Self::Uncovered | Self::WaiverEnded)
    }

    /// Reads the word back.
    pub fn parse(text: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|cause| cause.as_str() == text)
    }
}

impl Subject {
    /// Returns the kind of cause that a finding about this is.
    pub fn cause_kind(&self) -> CauseKind {
        match self {
            Self::Rule(_) => CauseKind::Finding,
            Self::Silence => CauseKind::Silence,
            Self::Uncovered => CauseKind::Uncovered,
        }
    }
}

/// One thing that has to change for the way to a service to be open again.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Cause {
    /// What kind of thing it is.
    pub kind: CauseKind,
    /// The access rule that asks for it; none where no access rule does.
    pub access_rule: Option<String>,
    /// Of a finding the rule, or the word for what the finding is of.
    pub rule: Option<String>,
    /// The fact, or the group, that has to be another.
    pub fact: Option<String>,
    /// Of a finding when it was opened.
    pub opened: Option<Timestamp>,
    /// Of a finding when its grace ends.
    pub due: Option<Timestamp>,
}

impl Cause {
    /// Creates a cause of a kind, without any detail.
    pub fn of_kind(kind: CauseKind) -> Self {
        Self { kind, access_rule: None, rule: None, fact: None, opened: None, due: None }
    }

    /// Returns the kind of what has to change: where a waiver ended, that of the finding that it covered.
    pub fn underlying_kind(&self) -> CauseKind {
        match (self.kind, self.rule.as_deref().map(Subject::parse)) {
            (CauseKind::WaiverEnded, Some(subject)) => subject.cause_kind(),
            (kind, _) => kind,
        }
    }
}
