//! `groups.toml`: groups of devices and people.

use fencepost_core::{GroupKind, GroupSource, Named, RuleSetSource};

use super::shape::{KeyKind, TableKey, TableShape, words};
use super::table::{Table, TableReader};

pub(super) static FILE: TableShape = TableShape::new(
    "groups.toml",
    &[&[TableKey::new("group", KeyKind::Tables(&GROUP), "A named set of devices, or of people.")]],
);
static GROUP: TableShape = TableShape::new(
    "[[group]]",
    &[
        &[
            TableKey::new("id", KeyKind::Id, "Its name."),
            TableKey::new("title", KeyKind::Text, "What it is, for people."),
            TableKey::new(
                "of",
                KeyKind::Word(|| words(&KINDS)),
                "What it is made of: devices, where nothing else is said.",
            ),
        ],
        &MEMBERS,
        &[TableKey::new("units", KeyKind::Names, "Units, whose people belong to it.")],
    ],
)
.needs(&[&["id"]]);
/// Who belongs to a group.
pub(super) static MEMBERS: [TableKey; 5] = [
    TableKey::new("members", KeyKind::Names, "Ids of devices or people that belong to it."),
    TableKey::new("where", KeyKind::Condition, "Those belong to it for which this holds."),
    TableKey::new("held_by", KeyKind::Names, "Groups or units of people, whose devices belong to it."),
    TableKey::new("groups", KeyKind::Names, "Other groups, whose members belong to it."),
    TableKey::new("except", KeyKind::Names, "Members or groups that do not belong to it, whatever else says so."),
];

const KINDS: [(&str, GroupKind); 2] = [("devices", GroupKind::Devices), ("people", GroupKind::People)];

pub(super) fn read(reader: &mut TableReader<'_>, root: &Table<'_>, into: &mut RuleSetSource) {
    for table in reader.tables(root, "group") {
        let Some(id) = reader.id(&table, "a [[group]]") else { continue };
        into.groups.push(GroupSource {
            title: reader.string(&table, "title"),
            kind: reader.word(&table, "of", &KINDS).unwrap_or(GroupKind::Devices),
            units: reader.names(&table, "units"),
            ..members_of(reader, &table, id)
        });
    }
}

/// Reads who belongs to a group of devices.
pub(super) fn members_of(reader: &mut TableReader<'_>, table: &Table<'_>, id: Named) -> GroupSource {
    GroupSource {
        id,
        title: None,
        kind: GroupKind::Devices,
        members: reader.names(table, "members"),
        condition: reader.text(table, "where"),
        held_by: reader.names(table, "held_by"),
        units: Vec::new(),
        groups: reader.names(table, "groups"),
        except: reader.names(table, "except"),
    }
}
