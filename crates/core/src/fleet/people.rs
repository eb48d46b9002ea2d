//! People, and who of them holds a device.

use crate::facts::value::Datum;
use crate::fleet::group::Membership;
use crate::id::PersonId;

/// A person of the people list.
#[derive(Clone, Debug, PartialEq)]
pub struct Person {
    /// The id that devices name their holders by.
    pub id: PersonId,
    /// Whatever the list says: name, mail, team, lead, unit. An object.
    pub facts: Datum,
}

impl Person {
    /// Returns a text of the list, if it is there and not empty.
    pub fn text(&self, field: &str) -> Option<&str> {
        self.facts.at(field).and_then(Datum::as_text).filter(|text| !text.is_empty())
    }

    /// Returns whether the list says yes in a field; a CSV file knows no types, so that words count too.
    pub fn says_yes(&self, field: &str) -> bool {
        match self.facts.at(field) {
            Some(Datum::Boolean(truth)) => *truth,
            Some(Datum::Text(word)) => matches!(word.to_lowercase().as_str(), "true" | "yes" | "1"),
            _ => false,
        }
    }

    /// Returns the person's name, or the id where the list has none.
    pub fn name(&self) -> &str {
        self.text("name").unwrap_or(self.id.as_str())
    }

    /// Returns whether the person's unit is `branch` or lies below it; none where no unit of the person is known.
    pub fn is_in_unit(&self, branch: &str) -> Option<bool> {
        let branch = branch.trim_end_matches('/');
        let unit = self.text("unit")?;
        Some(unit == branch || unit.strip_prefix(branch).is_some_and(|rest| rest.starts_with('/')))
    }
}

/// That somebody accepted terms, in a version, on a device.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Acceptance {
    /// The device.
    pub device: String,
    /// The terms, by id.
    pub terms: String,
    /// The version.
    pub version: String,
}

/// A person who uses a device.
#[derive(Clone, Copy, Debug)]
pub struct Holder<'a> {
    /// The id that the device's holder fact names.
    pub id: &'a str,
    /// The person, when the people list knows the id.
    pub person: Option<&'a Person>,
    /// The person's memberships, one a group of the rule set.
    pub memberships: &'a [Membership],
    /// The terms that the person accepted.
    pub accepted: &'a [Acceptance],
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_branch_reaches_the_units_below_it_and_no_namesake() {
        let person = Person {
            id: "p1".into(),
            facts: Datum::Object(vec![("unit".into(), Datum::Text("ships/tern/deck".into()))]),
        };
        let is_in = |branch: &str| person.is_in_unit(branch);
        assert_eq!(["ships/tern", "ships/tern/deck", "ships/"].map(is_in), [Some(true); 3]);
        assert_eq!(["ships/ter", "terminals"].map(is_in), [Some(false); 2]);
        let nowhere = Person { id: "p2".into(), facts: Datum::Object(Vec::new()) };
        assert_eq!(nowhere.is_in_unit("ships"), None);
        assert_eq!(person.name(), "p1");
    }
}
