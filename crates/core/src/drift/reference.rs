//! What devices are held against, as it is written: `majority`, a device, a device at a moment, each device's own past, a baseline.

use std::fmt;

use jiff::civil::Date;
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};

use crate::facts::dictionary::parse_collected;

/// What devices are held against.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub enum ReferenceName {
    /// For each fact, the value that most of them hold.
    #[default]
    Majority,
    /// A device, as it is, or as it was at a moment.
    Device {
        /// Its id.
        device: String,
        /// The moment.
        at: Option<Timestamp>,
    },
    /// Each device's own state at a moment.
    OwnPast(Timestamp),
    /// What a baseline expects.
    Baseline(String),
}

impl ReferenceName {
    /// The word for what most hold.
    pub const MAJORITY: &str = "majority";
    const OWN: &str = "self";
    const BASELINE: &str = "baseline:";

    /// Reads a reference. A device whose id has an `@` in it may be named too, as long as no moment follows the last one.
    ///
    /// # Errors
    /// Says in words what is wrong with it.
    pub fn parse(text: &str, zone: &TimeZone) -> Result<Self, String> {
        let device = |text: &str| Self::Device { device: text.to_owned(), at: None };
        match text.trim() {
            "" => Err("write majority, a device, device@2027-02-01, self@2027-02-01 or baseline:ID".to_owned()),
            Self::MAJORITY => Ok(Self::Majority),
            Self::OWN => Err("say of when, such as self@2027-02-01".to_owned()),
            text => match (text.strip_prefix(Self::BASELINE), text.rsplit_once('@')) {
                (Some(baseline), _) => Ok(Self::Baseline(baseline.to_owned())),
                (None, None) => Ok(device(text)),
                (None, Some((name, moment))) => match (moment_of_past(moment, zone), name) {
                    (Some(at), Self::OWN) => Ok(Self::OwnPast(at)),
                    (Some(at), name) => Ok(Self::Device { device: name.to_owned(), at: Some(at) }),
                    (None, Self::OWN) => Err(format!("`{moment}` is no moment; write self@2027-02-01")),
                    (None, _) => Ok(device(text)),
                },
            },
        }
    }
}

impl fmt::Display for ReferenceName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Majority => f.write_str(Self::MAJORITY),
            Self::Device { device, at: None } => f.write_str(device),
            Self::Device { device, at: Some(at) } => write!(f, "{device}@{at}"),
            Self::OwnPast(at) => write!(f, "{}@{at}", Self::OWN),
            Self::Baseline(id) => write!(f, "{}{id}", Self::BASELINE),
        }
    }
}

/// Reads a moment that is looked back at: a day means its last moment.
pub fn moment_of_past(text: &str, zone: &TimeZone) -> Option<Timestamp> {
    let text = text.trim();
    match text.parse::<Date>().ok().filter(|_| text.len() == 10) {
        Some(day) => {
            let next = zone.to_timestamp(day.tomorrow().ok()?.at(0, 0, 0, 0)).ok()?;
            next.checked_sub(SignedDuration::from_nanos(1)).ok()
        }
        None => parse_collected(text, zone),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn references_are_told_apart() {
        let zone = TimeZone::get("Europe/Oslo").unwrap();
        let parse = |text: &str| ReferenceName::parse(text, &zone);
        let device = |device: &str, at: Option<&str>| {
            Ok(ReferenceName::Device { device: device.into(), at: at.map(|at| at.parse().unwrap()) })
        };
        assert_eq!(parse("majority"), Ok(ReferenceName::Majority));
        assert_eq!(parse("tern-tickets"), device("tern-tickets", None));
        assert_eq!(parse("tern-tickets@2027-02-01"), device("tern-tickets", Some("2027-02-01T22:59:59.999999999Z")));
        assert_eq!(parse("t@2027-02-01T08:00:00Z"), device("t", Some("2027-02-01T08:00:00Z")));
        assert_eq!(parse("a@b"), device("a@b", None));
        assert_eq!(parse("a@b@2027-02-01 08:00"), device("a@b", Some("2027-02-01T07:00:00Z")));
        assert_eq!(
            parse("self@2027-02-01T08:00:00Z"),
            Ok(ReferenceName::OwnPast("2027-02-01T08:00:00Z".parse().unwrap()))
        );
        assert_eq!(parse("baseline:x"), Ok(ReferenceName::Baseline("x".into())));
        assert!(parse("self").is_err() && parse("self@then").is_err() && parse(" ").is_err());
    }
}
