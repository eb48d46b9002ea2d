//! Which facts documents report.

use std::collections::{BTreeMap, BTreeSet};

use serde_json::Value as Json;

use fencepost_formats::stored_json;
use fencepost_store::{LedgerError, Reader};

use crate::facts::documents::Document;
use crate::ledger_view::reading::Reading;

/// More different paths than this are not looked at: where ids stand in the keys, every device has its own.
const MOST_PATHS: usize = 20_000;

/// What stands at the end of a path.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct LeafKind {
    /// The type that JSON gives it.
    pub kind: &'static str,
    /// It is a field of a list's items.
    pub in_list: bool,
}

/// Adds the paths of everything in a document that is no object, and of the fields of lists' items.
pub(crate) fn leaves(json: &Json, into: &mut BTreeMap<String, LeafKind>) {
    walk(json, &mut String::new(), false, into);
}

fn walk(json: &Json, path: &mut String, in_list: bool, into: &mut BTreeMap<String, LeafKind>) {
    let kind = match json {
        Json::Object(fields) if !fields.is_empty() || path.is_empty() || in_list => {
            for (key, value) in fields {
                let length = path.len();
                if !path.is_empty() {
                    path.push('.');
                }
                path.push_str(key);
                walk(value, path, in_list, into);
                path.truncate(length);
            }
            return;
        }
        Json::Null => "null",
        Json::Bool(_) => "boolean",
        Json::Number(_) => "number",
        Json::String(_) => "text",
        Json::Array(items) => {
            for item in items.iter().filter(|item| item.is_object()) {
                walk(item, path, true, into);
            }
            "list"
        }
        Json::Object(_) => "object",
    };
    let leaf = LeafKind { kind, in_list };
    match into.get_mut(path.as_str()) {
        // A null says nothing of the type.
        Some(known) if known.kind == "null" => *known = leaf,
        Some(_) => {}
        None => {
            into.insert(path.clone(), leaf);
        }
    }
}

/// Of more devices than this, so many are asked what they report, spread over the fleet.
const MOST_DEVICES: usize = 500;

/// Returns the paths that devices of the ledger report now; of a large fleet what some of them do.
pub(crate) fn reported_paths(reader: &Reader<'_>) -> Result<BTreeSet<String>, LedgerError> {
    let mut all = BTreeSet::new();
    let mut seen = BTreeSet::new();
    let names = reader.device_names()?;
    for device in names.iter().step_by(names.len().div_ceil(MOST_DEVICES).max(1)) {
        for said in reader.observations_of(device, None)? {
            // Documents that share a body report the same.
            if all.len() < MOST_PATHS && seen.insert(said.document) {
                let mut own = BTreeMap::new();
                if let Some(json) = stored_json(&Document::of(device, said).json) {
                    leaves(&json, &mut own);
                }
                all.extend(own.into_keys());
            }
        }
    }
    Ok(all)
}

/// What devices give at one path.
#[derive(Clone, Debug, Default)]
pub(crate) struct PathSeen {
    /// The types, each with how many devices.
    pub kinds: BTreeMap<&'static str, u64>,
    /// It is a field of a list's items.
    pub in_list: bool,
}

impl Reading<'_> {
    /// Returns every path that devices report, with what is there.
    pub(crate) fn paths(&self) -> Result<BTreeMap<String, PathSeen>, LedgerError> {
        let mut all: BTreeMap<String, PathSeen> = BTreeMap::new();
        self.for_each_device(|_, documents| {
            let mut own = BTreeMap::new();
            for document in documents {
                if let Some(json) = stored_json(&document.json) {
                    leaves(&json, &mut own);
                }
            }
            for (path, leaf) in own {
                if all.len() < MOST_PATHS || all.contains_key(&path) {
                    let seen = all.entry(path).or_default();
                    *seen.kinds.entry(leaf.kind).or_default() += 1;
                    seen.in_list |= leaf.in_list;
                }
            }
            Ok(())
        })?;
        Ok(all)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paths_end_at_values_and_at_fields_of_items() {
        let json = serde_json::json!({
            "os": { "version": "1" }, "a.b": null, "disks": [{ "mount": "/", "size": { "n": 1 } }, { "mount": null }],
            "tags": ["x"], "nothing": {}, "none": [],
        });
        let mut found = BTreeMap::new();
        leaves(&json, &mut found);
        let shown: Vec<String> = found
            .iter()
            .map(|(path, leaf)| format!("{path} {}{}", leaf.kind, if leaf.in_list { " of items" } else { "" }))
            .collect();
        assert_eq!(
            shown,
            [
                "a.b null",
                "disks list",
                "disks.mount text of items",
                "disks.size.n number of items",
                "none list",
                "nothing object",
                "os.version text",
                "tags list"
            ]
        );
    }
}
