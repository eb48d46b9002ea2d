//! What differs between two documents of one device, fact by fact; of lists of named items, item by item.

use std::collections::{BTreeMap, BTreeSet};

use fencepost_core::Dictionary;
use fencepost_formats::stored_json;
use serde_json::Value as Json;

/// A fact that is not what it was.
#[derive(Clone, Debug, PartialEq)]
pub struct Change {
    /// Its path; of an item of a list with the item's name in brackets.
    pub path: String,
    /// What it was; none when it was not there.
    pub before: Option<Json>,
    /// What it is; none when it is not there any more.
    pub after: Option<Json>,
}

/// Returns what changed from one document to another, by path. What changes at every collection is not told, nor are the id
/// and the time.
pub(crate) fn changes_between(before: &[u8], after: &[u8], dictionary: &Dictionary) -> Vec<Change> {
    let (before, after) = (flat_facts(before, dictionary), flat_facts(after, dictionary));
    let paths: BTreeSet<&String> = before.keys().chain(after.keys()).collect();
    paths
        .into_iter()
        .filter(|path| before.get(*path) != after.get(*path))
        .map(|path| Change { path: path.clone(), before: before.get(path).cloned(), after: after.get(path).cloned() })
        .collect()
}

/// Returns the facts of a stored document by path, but for those that always change; lists of named items item by item.
pub(crate) fn flat_facts(document: &[u8], dictionary: &Dictionary) -> BTreeMap<String, Json> {
    let mut facts = BTreeMap::new();
    if let Some(json) = stored_json(document) {
        flatten(&json, String::new(), dictionary, &mut facts);
    }
    facts
}

fn flatten(json: &Json, path: String, dictionary: &Dictionary, into: &mut BTreeMap<String, Json>) {
    let declared = dictionary.facts.get(&path);
    if matches!(path.as_str(), "device" | "collected_at") || declared.is_some_and(|declared| declared.volatile) {
        return;
    }
    match json {
        Json::Object(fields) if path.is_empty() || !fields.is_empty() => {
            for (key, value) in fields {
                let below = if path.is_empty() { key.clone() } else { format!("{path}.{key}") };
                flatten(value, below, dictionary, into);
            }
        }
        Json::Array(items) => {
            let key = declared.and_then(|declared| declared.key.as_deref());
            let named: Option<BTreeMap<&str, &Json>> =
                key.and_then(|key| items.iter().map(|item| Some((item.get(key)?.as_str()?, item))).collect());
            match (named, key) {
                // Items that share a name cannot be told apart, so the list is told as a whole.
                (Some(named), Some(key)) if named.len() == items.len() && !items.is_empty() => {
                    for (name, item) in named {
                        let mut rest = item.clone();
                        if let Json::Object(fields) = &mut rest {
                            fields.shift_remove(key);
                            fields.retain(|field, _| {
                                !dictionary
                                    .facts
                                    .get(&format!("{path}.{field}"))
                                    .is_some_and(|declared| declared.volatile)
                            });
                        }
                        into.insert(format!("{path}[{name}]"), rest);
                    }
                }
                _ => {
                    into.insert(path, json.clone());
                }
            }
        }
        other => {
            into.insert(path, other.clone());
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use fencepost_core::Declaration;

    #[test]
    fn facts_and_items_are_told_by_path_and_what_always_changes_is_not() {
        let mut dictionary = Dictionary::default();
        let keyed = Declaration { key: Some("name".into()), ..Declaration::default() };
        dictionary.facts.insert("software".into(), keyed);
        for path in ["net.address", "software.size"] {
            dictionary.facts.insert(path.into(), Declaration { volatile: true, ..Declaration::default() });
        }
        let before = br#"{"device":"a","os":{"version":"1","kind":"x"},"net":{"address":"1"},"software":[{"name":"p","v":1,"size":3},{"name":"q","v":1}],"tags":["a"]}"#;
        let after = br#"{"device":"b","os.version":"2","os":{"kind":"x"},"net":{"address":"2"},"software":[{"name":"r","v":1},{"name":"p","v":1,"size":4}],"tags":["a","b"],"new":null}"#;
        let shown: Vec<String> = changes_between(before, after, &dictionary)
            .into_iter()
            .map(|change| {
                let show = |json: Option<Json>| json.map_or("-".to_owned(), |json| json.to_string());
                format!("{} {} {}", change.path, show(change.before), show(change.after))
            })
            .collect();
        assert_eq!(
            shown,
            [
                "new - null",
                "os.version \"1\" \"2\"",
                "software[q] {\"v\":1} -",
                "software[r] - {\"v\":1}",
                "tags [\"a\"] [\"a\",\"b\"]"
            ]
        );
    }
}
