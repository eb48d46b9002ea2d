//! Facts that tell when something of a device ends: those of which the dictionary says so, and those that enforced rules compare with
//! the present moment.

use std::collections::BTreeMap;
use std::sync::Arc;

use jiff::Timestamp;
use jiff::tz::TimeZone;

use super::RuleSet;
use crate::condition::deadlines::Deadline;
use crate::facts::dictionary::{Dictionary, Expiring};
use crate::facts::layout::{Layout, SlotId};
use crate::facts::merge::Facts;
use crate::facts::temporal::parse_date_time;
use crate::facts::value::{DateTime, Value};
use crate::rules::rule::Stage;

/// A fact that tells when something ends.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ExpiringFact {
    /// The fact's slot.
    pub slot: SlotId,
    /// The field of its items, where it is a list that is read whole.
    pub field: Option<Arc<str>>,
    /// What ends.
    pub what: Expiring,
    /// Its path.
    pub path: String,
}

impl RuleSet {
    /// Returns the facts that tell when something ends. What an enforced rule compares with the present moment, and the dictionary
    /// says nothing of, counts as a certificate.
    pub fn expiring_facts(&self, dictionary: &Dictionary, at: Timestamp) -> Vec<ExpiringFact> {
        let mut found: BTreeMap<String, ExpiringFact> = BTreeMap::new();
        let declared = dictionary.facts.iter().filter_map(|(path, declared)| Some((path, declared.ends?)));
        for (path, what) in declared {
            let node = self.layout.child(Layout::ROOT, path);
            if let Some(slot) = node.and_then(|node| self.layout.slot(node)) {
                found.insert(path.clone(), ExpiringFact { slot, field: None, what, path: path.clone() });
            }
        }
        let enforced = self.rules.iter().filter(|rule| rule.stage(at) == Stage::Enforced);
        for Deadline { slot, field } in enforced.flat_map(|rule| rule.deadlines()) {
            let own = self.layout.slot_path(slot);
            let path = field.as_ref().map_or_else(|| own.to_owned(), |field| format!("{own}.{field}"));
            let what = Expiring::Certificate;
            found.entry(path.clone()).or_insert(ExpiringFact { slot, field, what, path });
        }
        found.into_values().collect()
    }
}

impl ExpiringFact {
    /// Returns the moments that a device's facts tell, ascending; a day ends with its last moment in `zone`.
    pub fn moments(&self, facts: &Facts<'_>, zone: &TimeZone) -> Vec<Timestamp> {
        let value = facts.slot(self.slot).value;
        let mut moments: Vec<Timestamp> = match (&value, &self.field) {
            (Value::List(list), Some(field)) => {
                let fields = list.items.iter().filter_map(|item| match item {
                    Value::Object(object) => Some(object.get(field)),
                    _ => None,
                });
                fields.filter_map(|value| moment_of(&value, zone)).collect()
            }
            (Value::List(list), None) => list.items.iter().filter_map(|value| moment_of(value, zone)).collect(),
            (one, _) => moment_of(one, zone).into_iter().collect(),
        };
        moments.sort_unstable();
        moments.dedup();
        moments
    }
}

fn moment_of(value: &Value<'_>, zone: &TimeZone) -> Option<Timestamp> {
    match value {
        Value::DateTime(moment) => moment.moment(),
        Value::Text(text) => parse_date_time(text).as_ref().and_then(DateTime::moment),
        Value::Date(day) => zone.to_timestamp(day.tomorrow().ok()?.at(0, 0, 0, 0)).ok(),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;
    use crate::facts::dictionary::{Declaration, FactType};
    use crate::rule_set::RuleSetSource;
    use crate::testing::{moment, on_device, rule};

    const NOW: &str = "2027-03-01T06:00:00Z";

    #[test]
    fn what_the_dictionary_or_an_enforced_rule_says_is_found() {
        let mut dictionary = Dictionary::default();
        let declared = |ends| Declaration { ty: Some(FactType::Instant), ends, ..Declaration::default() };
        dictionary.facts.insert("agent.key_until".into(), declared(Some(Expiring::Key)));
        dictionary.facts.insert("cert.not_after".into(), declared(None));
        dictionary.facts.insert("lists.until".into(), declared(None));
        let rules = vec![
            rule("cert", "cert.not_after > now() + duration(\"P14D\")"),
            rule("lists", "every one in lists satisfies one.until > now()"),
            rule("age", "age(seen) <= duration(\"P14D\")"),
        ];
        let source = RuleSetSource { rules, ..RuleSetSource::default() };
        let (set, mistakes) = RuleSet::compile(&source, &dictionary, &[]);
        let set = set.unwrap_or_else(|| panic!("{mistakes:?}"));
        let found = set.expiring_facts(&dictionary, moment(NOW));
        let told: Vec<(&str, &str)> = found.iter().map(|one| (one.path.as_str(), one.what.as_str())).collect();
        assert_eq!(
            told,
            [("agent.key_until", "key"), ("cert.not_after", "certificate"), ("lists.until", "certificate")]
        );

        let document = json!({
            "agent": { "key_until": "2027-05-02T00:00:00Z" },
            "cert": { "not_after": "2027-04-01T00:00:00Z" },
            "lists": [{ "until": "2027-05-01T00:00:00Z" }, { "until": "2027-04-01T00:00:00Z" }, { "until": null }],
        });
        on_device(&set, &document, None, |_, input, zone, _| {
            let moments =
                |at: usize| found[at].moments(input.facts, zone).iter().map(ToString::to_string).collect::<Vec<_>>();
            assert_eq!(moments(0), ["2027-05-02T00:00:00Z"]);
            assert_eq!(moments(1), ["2027-04-01T00:00:00Z"]);
            assert_eq!(moments(2), ["2027-04-01T00:00:00Z", "2027-05-01T00:00:00Z"]);
        });
        // A day ends with its last moment.
        let day = Value::Date(jiff::civil::date(2027, 3, 31));
        let zone = TimeZone::fixed(jiff::tz::offset(1));
        assert_eq!(moment_of(&day, &zone), Some(moment("2027-03-31T23:00:00Z")));
    }
}
