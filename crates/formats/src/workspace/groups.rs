//! `groups.toml`: groups of devices and people.

use fencepost_core::{GroupKind, GroupSource, RuleSetSource};

use super::table::{Reader, Table};

pub(super) fn read(reader: &mut Reader<'_>, root: &Table<'_>, into: &mut RuleSetSource) {
    reader.known_keys(root, "groups.toml", &["group"]);
    for table in reader.tables(root, "group") {
        let known = ["id", "title", "of", "members", "where", "held_by", "units", "groups", "except"];
        reader.known_keys(&table, "[[group]]", &known);
        let Some(id) = reader.id(&table, "a [[group]]") else { continue };
        let kinds = [("devices", GroupKind::Devices), ("people", GroupKind::People)];
        into.groups.push(GroupSource {
            id,
            title: reader.string(&table, "title"),
            kind: reader.word(&table, "of", &kinds).unwrap_or(GroupKind::Devices),
            members: reader.names(&table, "members"),
            condition: reader.text(&table, "where"),
            held_by: reader.names(&table, "held_by"),
            units: reader.names(&table, "units"),
            groups: reader.names(&table, "groups"),
            except: reader.names(&table, "except"),
        });
    }
}
