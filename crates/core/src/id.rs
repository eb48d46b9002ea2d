//! Identifiers as types, so that a rule's id cannot be passed where a device's is meant.

use std::fmt;
use std::sync::Arc;

/// The name of the finding of a silent device, which no rule may have.
pub(crate) const SILENCE: &str = "silence";

/// The name of the finding of a device that no enforced rule covers, which no rule may have either.
pub(crate) const UNCOVERED: &str = "uncovered";

macro_rules! id_type {
    ($(#[$doc:meta])* $name:ident) => {
        $(#[$doc])*
        #[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
        pub struct $name(Arc<str>);

        impl $name {
            /// Creates the id from its text, unchecked.
            pub fn new(text: impl Into<Arc<str>>) -> Self {
                Self(text.into())
            }

            /// Returns the id as text.
            pub fn as_str(&self) -> &str {
                &self.0
            }
        }

        impl fmt::Debug for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                write!(f, "{:?}", &*self.0)
            }
        }

        impl fmt::Display for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.pad(&self.0)
            }
        }

        impl From<&str> for $name {
            fn from(text: &str) -> Self {
                Self::new(text)
            }
        }
    };
}

/// Declares an id that is a number worked out from what it names: the same wherever it is worked out. Shown as sixteen hexadecimal
/// digits.
macro_rules! number_id_type {
    ($(#[$doc:meta])* $name:ident) => {
        $(#[$doc])*
        #[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
        pub struct $name(u64);

        impl $name {
            /// Returns the id as a number.
            pub fn number(self) -> u64 {
                self.0
            }

            /// Returns the id that a number stands for.
            pub fn of_number(number: u64) -> Self {
                Self(number)
            }
        }

        impl fmt::Display for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                write!(f, "{:016x}", self.0)
            }
        }

        impl fmt::Debug for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                fmt::Display::fmt(self, f)
            }
        }
    };
}

number_id_type!(
    /// Names a finding for life, whatever its device and its rule are called later.
    FindingId
);
number_id_type!(
    /// Names an action for life: one step for one finding. Notices are given once, whatever comes back; tickets and commands once each
    /// time that the finding fails.
    ActionId
);

id_type!(
    /// A device, by the id its sources give it. Any text; unique in the workspace.
    DeviceId
);
id_type!(
    /// A person, by the id of the people list.
    PersonId
);
id_type!(
    /// A rule, `disk-encrypted`, or a check of one, `disk-encrypted/macos`.
    RuleId
);
id_type!(
    /// A group of devices or people.
    GroupId
);
id_type!(
    /// A named feed of state or people.
    SourceId
);
id_type!(
    /// Something people reach with a device.
    ServiceId
);
id_type!(
    /// A rule about who may reach a service.
    AccessRuleId
);

id_type!(
    /// Terms that people accept.
    TermsId
);

id_type!(
    /// A waiver.
    WaiverId
);

id_type!(
    /// A ladder of steps.
    ResponseId
);

id_type!(
    /// A step of a ladder.
    StepId
);

/// Returns whether `text` is a well-formed workspace id: lower-case words with hyphens.
pub fn is_slug(text: &str) -> bool {
    !text.is_empty()
        && text.len() <= 100
        && text.split('-').all(|word| {
            !word.is_empty()
                && word.bytes().all(|b| b.is_ascii_lowercase() || b.is_ascii_digit() || b == b'_' || b == b'.')
        })
}

#[cfg(test)]
mod tests {
    use super::is_slug;

    #[test]
    fn ids_are_lower_case_words_with_hyphens() {
        for good in ["a", "disk-encrypted", "os.version", "v2-rule"] {
            assert!(is_slug(good), "{good}");
        }
        for bad in ["", "Disk", "disk encrypted", "-a", "a--b", "a-", "é"] {
            assert!(!is_slug(bad), "{bad}");
        }
    }
}
