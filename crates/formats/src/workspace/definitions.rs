//! What a workspace's files define, one definition after another, so that two workspaces can be compared.

use std::collections::BTreeMap;

use serde_json::{Map, Value as Json, json};
use toml::Value as Toml;

use super::{FileText, WorkspaceFile};

/// What is defined: a kind, such as `rule` or `service`, and an id.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct DefinitionId {
    /// The kind.
    pub kind: String,
    /// The id; of settings their name.
    pub id: String,
}

/// Returns what the files define, each definition with its keys as JSON. A file that is no TOML defines nothing.
///
/// A baseline is one definition, a fact of the dictionary is one, and so is every setting in `fencepost.toml`.
pub fn definitions(files: &[FileText]) -> BTreeMap<DefinitionId, Map<String, Json>> {
    let mut all = BTreeMap::new();
    for file in files {
        let Ok(table) = file.text.parse::<toml::Table>() else { continue };
        let file = WorkspaceFile::of(&file.path);
        if file == Some(WorkspaceFile::Baselines) {
            add(&mut all, "baseline", &table);
            continue;
        }
        for (key, value) in &table {
            match value {
                Toml::Array(list) if list.iter().all(Toml::is_table) => {
                    list.iter().filter_map(Toml::as_table).for_each(|one| add(&mut all, key, one));
                }
                Toml::Table(facts) if file == Some(WorkspaceFile::Facts) => {
                    for (path, fact) in facts {
                        let keys = fact.as_table().map(map_of).unwrap_or_else(|| single("type", json_of(fact)));
                        all.insert(DefinitionId { kind: "fact".to_owned(), id: path.clone() }, keys);
                    }
                }
                other => {
                    let keys = other.as_table().map(map_of).unwrap_or_else(|| single("value", json_of(other)));
                    all.insert(DefinitionId { kind: "setting".to_owned(), id: key.clone() }, keys);
                }
            }
        }
    }
    all
}

/// The keys that say which definition it is, where it has no `id`.
const NAMES: [&str; 5] = ["clause", "title", "device", "fact", "rule"];

fn add(all: &mut BTreeMap<DefinitionId, Map<String, Json>>, kind: &str, table: &toml::Table) {
    let text = |key: &str| table.get(key).and_then(Toml::as_str).map(str::to_owned);
    let named = || NAMES.iter().filter_map(|key| text(key)).collect::<Vec<_>>().join(" ");
    let id = text("id").unwrap_or_else(named);
    let free = |id: &String| !all.contains_key(&DefinitionId { kind: kind.to_owned(), id: id.clone() });
    // Several corrections may be of one fact.
    let id = std::iter::once(id.clone()).chain((2..).map(|number| format!("{id} ({number})"))).find(free);
    all.insert(DefinitionId { kind: kind.to_owned(), id: id.unwrap_or_default() }, map_of(table));
}

fn single(key: &str, value: Json) -> Map<String, Json> {
    Map::from_iter([(key.to_owned(), value)])
}

fn map_of(table: &toml::Table) -> Map<String, Json> {
    table.iter().map(|(key, value)| (key.clone(), json_of(value))).collect()
}

fn json_of(value: &Toml) -> Json {
    match value {
        Toml::String(text) => json!(text),
        Toml::Integer(number) => json!(number),
        Toml::Float(number) => json!(number),
        Toml::Boolean(truth) => json!(truth),
        Toml::Datetime(moment) => json!(moment.to_string()),
        Toml::Array(list) => list.iter().map(json_of).collect(),
        Toml::Table(table) => Json::Object(map_of(table)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_kind_of_file_is_taken_apart() {
        let file = |path: &str, text: &str| FileText { path: path.to_owned(), text: text.to_owned() };
        let files = [
            file("fencepost.toml", "name = \"x\"\n[silence]\ngrace = \"4d\"\n[[source]]\nid = \"agents\"\n"),
            file("facts.toml", "[facts]\n\"os.version\" = { type = \"version\" }\n"),
            file("rules/a.toml", "[[rule]]\nid = \"r\"\nrequire = 'ok'\n"),
            file("baselines/b.toml", "id = \"b\"\n[expect]\nok = true\n"),
            file(
                "corrections.toml",
                "[[correction]]\ndevice = \"d\"\nfact = \"f\"\nvalue = 1\n[[correction]]\ndevice = \"d\"\nfact = \"f\"\nvalue = 2\n",
            ),
        ];
        let all = definitions(&files);
        let named: Vec<String> = all.keys().map(|it| format!("{} {}", it.kind, it.id)).collect();
        assert_eq!(
            named,
            [
                "baseline b",
                "correction d f",
                "correction d f (2)",
                "fact os.version",
                "rule r",
                "setting name",
                "setting silence",
                "source agents",
            ]
        );
        let rule = &all[&DefinitionId { kind: "rule".into(), id: "r".into() }];
        assert_eq!(Json::Object(rule.clone()), json!({ "id": "r", "require": "ok" }));
        assert_eq!(definitions(&[file("rules/a.toml", "[[")]).len(), 0);
    }
}
