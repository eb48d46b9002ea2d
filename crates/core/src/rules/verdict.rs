//! Verdicts: the outcome of one rule on one device.

use crate::drift::DeviceDrift;
use crate::facts::merge::Facts;
use crate::facts::value::Reason;
use crate::fleet::people::Holder;

/// What a rule says of a device.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum VerdictOutcome {
    /// The requirement is met.
    Pass,
    /// It is not met.
    Fail,
    /// It cannot be told.
    Unknown(Reason),
    /// The rule does not cover the device.
    NotApplicable,
}

impl VerdictOutcome {
    /// Returns whether there is nothing to find: the requirement is met, or not asked of the device.
    pub fn is_quiet(self) -> bool {
        matches!(self, Self::Pass | Self::NotApplicable)
    }

    /// Returns whether the rule surely covers the device.
    pub fn surely_covers(self) -> bool {
        !matches!(self, Self::NotApplicable | Self::Unknown(Reason::Scope))
    }

    /// Returns the word used in files and JSON.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Pass => "pass",
            Self::Fail => "fail",
            Self::Unknown(_) => "unknown",
            Self::NotApplicable => "not-applicable",
        }
    }
}

/// The outcome of one rule on one device.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Verdict {
    /// The rule, by its index in the rule set.
    pub rule: usize,
    /// What it says.
    pub outcome: VerdictOutcome,
    /// It passed because a list was empty: there was nothing to check.
    pub vacuous: bool,
    /// It does not apply because the device is excepted.
    pub excepted: bool,
    /// It fails, and what was asked for is on its way.
    pub awaiting: bool,
    /// It fails or is unknown, and a waiver covers that; known once the verdict was settled.
    pub waived: bool,
}

/// The verdicts of all rules that are on trial or enforced, in the order of the rule set.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Verdicts {
    /// One verdict a rule.
    pub all: Vec<Verdict>,
}

/// One device, as rules see it.
#[derive(Clone, Copy, Debug)]
pub struct DeviceInput<'a> {
    /// Its id.
    pub id: &'a str,
    /// Its merged facts.
    pub facts: &'a Facts<'a>,
    /// The people who use it.
    pub holders: &'a [Holder<'a>],
    /// What comparisons say of it; none where nothing was compared, and the rules of sets have no verdict.
    pub drift: Option<&'a [DeviceDrift]>,
}
