//! The types of the language.

/// What a value is known to be before anything runs.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Type {
    Any,
    Null,
    Boolean,
    Number,
    Text,
    Version,
    Date,
    DateTime,
    Time,
    Duration,
    Months,
    List,
    Object,
    Range,
}

impl Type {
    pub(super) fn as_str(self) -> &'static str {
        match self {
            Self::Any => "anything",
            Self::Null => "null",
            Self::Boolean => "a boolean",
            Self::Number => "a number",
            Self::Text => "a text",
            Self::Version => "a version",
            Self::Date => "a date",
            Self::DateTime => "a date and time",
            Self::Time => "a time",
            Self::Duration => "a duration",
            Self::Months => "a duration of months",
            Self::List => "a list",
            Self::Object => "an object",
            Self::Range => "a range",
        }
    }
}
