//! Definitions that differ between two states of a workspace.

use std::collections::BTreeSet;

use fencepost_formats::{DefinitionId, FileText, WorkspaceFile, definitions};

/// A definition that differs.
#[derive(Clone, Debug, PartialEq)]
pub struct DefinitionChange {
    /// Which.
    pub definition: DefinitionId,
    /// The keys that differ, as they are by the last assessment's rules; none where it is new.
    pub before: Option<serde_json::Map<String, serde_json::Value>>,
    /// The same keys as they would be; none where it is gone.
    pub after: Option<serde_json::Map<String, serde_json::Value>>,
}

impl DefinitionChange {
    /// Returns the word used in JSON.
    pub fn change(&self) -> &'static str {
        match (&self.before, &self.after) {
            (None, _) => "added",
            (_, None) => "removed",
            _ => "edited",
        }
    }
}

/// Returns the definitions that differ, of those that do in part the keys that do.
pub(crate) fn definition_changes(before: &[FileText], after: &[FileText]) -> Vec<DefinitionChange> {
    // Of other files the ledger keeps nothing.
    let judging = |files: &[FileText]| {
        let is_judging = |file: &&FileText| WorkspaceFile::of(&file.path).is_some_and(WorkspaceFile::is_judged_by);
        definitions(&files.iter().filter(is_judging).cloned().collect::<Vec<_>>())
    };
    let (before, after) = (judging(before), judging(after));
    let ids: BTreeSet<&DefinitionId> = before.keys().chain(after.keys()).collect();
    let change = |id: &DefinitionId| match (before.get(id), after.get(id)) {
        (Some(one), Some(other)) if one != other => {
            let keys = |own: &serde_json::Map<_, _>, others: &serde_json::Map<String, _>| {
                let differ = own.iter().filter(|(key, value)| others.get(*key) != Some(*value));
                differ.map(|(key, value): (&String, &serde_json::Value)| (key.clone(), value.clone())).collect()
            };
            let (before, after) = (Some(keys(one, other)), Some(keys(other, one)));
            Some(DefinitionChange { definition: id.clone(), before, after })
        }
        (Some(_), Some(_)) => None,
        (one, other) => Some(DefinitionChange { definition: id.clone(), before: one.cloned(), after: other.cloned() }),
    };
    ids.into_iter().filter_map(change).collect()
}
