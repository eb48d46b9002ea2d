//! The decision for one attempt to reach a service, with what became of every access rule.

use jiff::Timestamp;

use super::service::{AccessSet, Effect};
use crate::condition::evidence::{Blame, Evidence};
use crate::facts::merge::Facts;
use crate::facts::value::Value;
use crate::findings::finding::{Finding, Phase, Subject};
use crate::findings::standing::Standing;
use crate::fleet::people::Holder;

/// One attempt to reach a service.
#[derive(Clone, Copy, Debug)]
pub struct Attempt<'a> {
    /// The device's facts.
    pub facts: &'a Facts<'a>,
    /// The device's memberships, worked out with its standing known.
    pub memberships: &'a [Value<'a>],
    /// The person; none on a device that nobody holds.
    pub holder: Option<&'a Holder<'a>>,
    /// How the device stands.
    pub standing: Standing,
    /// The rules that have a running finding on it.
    pub failing: &'a [&'a str],
    /// The service, by index.
    pub service: usize,
    /// The kind of client.
    pub client: &'a str,
}

/// What became of one access rule in a decision.
#[derive(Clone, Debug, PartialEq)]
pub enum StepResult {
    /// It is a draft or on trial.
    NotEnforced,
    /// It is about other services.
    OtherService,
    /// It does not target the person.
    OtherPeople,
    /// Its `when` does not hold.
    NotNow,
    /// Its `unless` holds.
    Excused,
    /// What it needs is met.
    Met,
    /// What it needs is not met.
    Unmet(Evidence),
    /// It is not known whether it applies; it counts where that is the stricter.
    Uncertain(Vec<Blame>),
}

/// One access rule in the explanation of a decision.
#[derive(Clone, Debug, PartialEq)]
pub struct Step {
    /// The rule, by index.
    pub rule: usize,
    /// What became of it.
    pub result: StepResult,
}

/// What a decision asks of whoever is let in.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Obligation {
    /// Something may not be done, such as `no download`.
    Limit(String),
    /// The person must prove themselves again, more strongly (RFC 9470).
    StepUp,
}

impl Obligation {
    /// Returns it in words.
    pub fn as_str(&self) -> &str {
        match self {
            Self::Limit(limit) => limit,
            Self::StepUp => "step-up",
        }
    }
}

/// How strict a decision is, mildest first.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Strictness {
    /// The door opens.
    Permitted,
    /// It opens with obligations.
    Limited,
    /// It stays shut.
    Denied,
}

/// The effect of a decision with its obligations.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Ruling {
    /// Whether the door opens.
    pub effect: Effect,
    /// What is asked of whoever is let in; empty where the door stays shut.
    pub obligations: Vec<Obligation>,
}

impl Ruling {
    /// Returns how strict it is.
    pub fn strictness(&self) -> Strictness {
        match self.effect {
            Effect::Deny => Strictness::Denied,
            Effect::Permit if self.obligations.is_empty() => Strictness::Permitted,
            Effect::Permit => Strictness::Limited,
        }
    }

    /// Returns it in words: `permit`, `deny`, `permit with no download, step-up`.
    pub fn in_words(&self) -> String {
        match self.strictness() {
            Strictness::Permitted | Strictness::Denied => self.effect.as_str().to_owned(),
            Strictness::Limited => format!("{} with {}", self.effect.as_str(), self.obligations_in_words()),
        }
    }

    /// Returns its obligations in words: `no download, step-up`.
    pub fn obligations_in_words(&self) -> String {
        self.obligations.iter().map(Obligation::as_str).collect::<Vec<_>>().join(", ")
    }
}

/// The decision for one attempt.
#[derive(Clone, Debug, PartialEq)]
pub struct Decision {
    /// Whether the door opens, and what is asked then.
    pub ruling: Ruling,
    /// The access rule that decided, by index; none when the default did.
    pub by: Option<usize>,
    /// What became of every rule.
    pub steps: Vec<Step>,
}

/// What shuts a door, in a word of the contract.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum LossCause {
    /// A finding is overdue.
    Finding,
    /// A silence is overdue.
    Silence,
    /// No enforced rule covers the device.
    Uncovered,
    /// The person belongs, or no longer belongs, to those whom a rule targets.
    Membership,
    /// A fact that the access rule asks for itself.
    Condition,
    /// The access rules or the rules were changed.
    RuleChanged,
}

impl LossCause {
    /// All causes.
    pub const ALL: [Self; 6] =
        [Self::Finding, Self::Silence, Self::Uncovered, Self::Membership, Self::Condition, Self::RuleChanged];

    /// Returns the word used in JSON.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Finding => "finding",
            Self::Silence => "silence",
            Self::Uncovered => "uncovered",
            Self::Membership => "membership",
            Self::Condition => "condition",
            Self::RuleChanged => "rule-changed",
        }
    }

    /// Reads the word back.
    pub fn parse(text: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|cause| cause.as_str() == text)
    }

    /// Returns what shut the door of a decision on a device with these findings.
    pub fn of<'f>(
        decision: &Decision,
        access: &AccessSet,
        findings: impl IntoIterator<Item = &'f Finding>,
        at: Timestamp,
    ) -> Self {
        let Some(by) = decision.by else { return Self::Membership };
        if !access.rules()[by].needs.reads_standing() {
            return Self::Condition;
        }
        let (mut fails, mut silent) = (false, false);
        for finding in findings {
            if matches!(finding.phase(at), Phase::Overdue { .. }) {
                match finding.subject {
                    Subject::Rule(_) => fails = true,
                    Subject::Silence => silent = true,
                    Subject::Uncovered => {}
                }
            }
        }
        match (fails, silent) {
            (true, _) => Self::Finding,
            (false, true) => Self::Silence,
            (false, false) => Self::Uncovered,
        }
    }
}
