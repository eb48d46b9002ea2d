//! The decision for one sign-in, with what became of every access rule.

use std::borrow::Cow;

use super::service::{Effect, SignIn};
use crate::condition::evidence::Blame;
use crate::facts::value::Value;
use crate::findings::standing::Standing;
use crate::fleet::people::Holder;
use crate::rules::rule::Stage;
use crate::rules::verdict::DeviceInput;

/// A sign-in to be decided: who, with which device, to what, and how.
#[derive(Clone, Copy, Debug)]
pub struct Attempt<'a> {
    /// The device.
    pub input: DeviceInput<'a>,
    /// How the device stands.
    pub state: AccessState<'a>,
    /// The person; none on a device that nobody holds.
    pub holder: Option<&'a Holder<'a>>,
    /// The service, by index.
    pub service: usize,
    /// The sign-in.
    pub sign_in: &'a SignIn,
}

/// How a device stands, as access rules ask about it.
#[derive(Clone, Copy, Debug)]
pub struct AccessState<'a> {
    /// The device's standing; none if the ledger does not know the device.
    pub standing: Option<Standing>,
    /// The rules that have a running finding on it; none if the ledger does not know the device.
    pub failing: Option<&'a [&'a str]>,
    /// The device's memberships, one value a group, worked out with its standing known.
    pub memberships: &'a [Value<'a>],
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
    Unmet,
    /// It applies, and it is unknown whether `needs` holds; the rule acts as if it did not.
    NeedsUnknown,
    /// It is not known whether it applies; it counts where that is the stricter.
    Uncertain(Vec<Blame>),
}

impl StepResult {
    /// Returns the word used in JSON.
    pub fn as_str(&self) -> &'static str {
        match self {
            Self::NotEnforced | Self::NotNow => "not-applicable",
            Self::OtherService | Self::OtherPeople => "not-targeted",
            Self::Excused => "excused",
            Self::Met => "met",
            Self::Unmet => "unmet",
            Self::NeedsUnknown | Self::Uncertain(_) => "unknown",
        }
    }
}

/// One access rule in the explanation of a decision.
#[derive(Clone, Debug, PartialEq)]
pub struct Step {
    /// The rule, by index.
    pub rule: usize,
    /// How far it is in force.
    pub stage: Stage,
    /// The result; for a rule that is not enforced, the result it would have, if the caller asked for it.
    pub result: StepResult,
    /// Whether the rule contributed to the decision.
    pub counts: bool,
}

/// What a decision asks of whoever is let in.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Obligation {
    /// Something may not be done, such as `no download`.
    Limit(String),
    /// The person must prove themselves again, more strongly (RFC 9470).
    StepUp,
    /// The person has to accept terms, by id.
    Terms(String),
}

impl Obligation {
    /// Returns it in words.
    pub fn in_words(&self) -> Cow<'_, str> {
        match self {
            Self::Limit(limit) => Cow::Borrowed(limit),
            Self::StepUp => Cow::Borrowed("step-up"),
            Self::Terms(terms) => Cow::Owned(format!("terms {terms}")),
        }
    }

    /// Returns whether it takes something away. Terms do not: whoever accepts them gets in as before.
    fn takes_away(&self) -> bool {
        !matches!(self, Self::Terms(_))
    }
}

/// How strict a decision is, mildest first.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Strictness {
    /// Access is permitted.
    Permitted,
    /// It opens with obligations.
    Limited,
    /// It stays shut.
    Denied,
}

/// How one decision compares with an earlier one about the same sign-in, the worst first.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum AccessChange {
    /// Permitted before, denied now.
    Lost,
    /// Permitted before and now, with an obligation now that was not there before.
    Reduced,
    /// Denied before, or permitted with more obligations.
    Restored,
}

/// The effect of a decision with its obligations.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Ruling {
    /// Whether access is permitted.
    pub effect: Effect,
    /// What is asked of whoever is let in; empty where access is denied.
    pub obligations: Vec<Obligation>,
}

impl AccessChange {
    /// Returns the word used in JSON.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Lost => "lost",
            Self::Reduced => "reduced",
            Self::Restored => "restored",
        }
    }
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

    /// Returns what has changed since `earlier`: nothing where the two ask for the same.
    pub fn change_since(&self, earlier: &Self) -> Option<AccessChange> {
        let is_more = |one: &Self, other: &Self| {
            one.obligations.iter().any(|asked| asked.takes_away() && !other.obligations.contains(asked))
        };
        match (earlier.effect, self.effect) {
            (Effect::Permit, Effect::Deny) => Some(AccessChange::Lost),
            (Effect::Deny, Effect::Permit) => Some(AccessChange::Restored),
            (Effect::Permit, Effect::Permit) if is_more(self, earlier) => Some(AccessChange::Reduced),
            (Effect::Permit, Effect::Permit) if is_more(earlier, self) => Some(AccessChange::Restored),
            (Effect::Permit, Effect::Permit) | (Effect::Deny, Effect::Deny) => None,
        }
    }

    /// Returns whether it takes something away that an earlier decision gave.
    pub fn is_stricter_than(&self, earlier: &Self) -> bool {
        matches!(self.change_since(earlier), Some(AccessChange::Lost | AccessChange::Reduced))
    }

    /// Returns it in words: `permit`, `deny`, `permit with no download, step-up`.
    pub fn in_words(&self) -> String {
        match self.strictness() {
            Strictness::Permitted | Strictness::Denied => self.effect.as_str().to_owned(),
            Strictness::Limited => format!("{} with {}", self.effect.as_str(), self.obligations_in_words()),
        }
    }

    /// Returns the terms that are yet to be accepted.
    pub fn open_terms(&self) -> impl Iterator<Item = &str> {
        self.obligations.iter().filter_map(|one| match one {
            Obligation::Terms(terms) => Some(terms.as_str()),
            Obligation::Limit(_) | Obligation::StepUp => None,
        })
    }

    /// Returns its obligations in words: `no download, step-up`.
    pub fn obligations_in_words(&self) -> String {
        self.obligations.iter().map(Obligation::in_words).collect::<Vec<_>>().join(", ")
    }
}

/// The decision for one sign-in.
#[derive(Clone, Debug, PartialEq)]
pub struct Decision {
    /// Whether access is permitted, and what is asked then.
    pub ruling: Ruling,
    /// The access rules that make it so, by index: those that deny where it denies, those that add obligations where it has some,
    /// else those that are met. Empty where the service's default decides.
    pub rules: Vec<usize>,
    /// What became of every rule.
    pub steps: Vec<Step>,
}
