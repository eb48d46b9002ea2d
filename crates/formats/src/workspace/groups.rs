//! `groups.toml`: groups of devices and people.

use fencepost_core::{GroupKind, GroupSource, RuleSetSource};

use super::shape::{Key, Kind, Shape, words};
use super::table::{Reader, Table};

pub(super) static FILE: Shape =
    Shape::new("groups.toml", &[&[Key::new("group", Kind::Tables(&GROUP), "A named set of devices, or of people.")]]);
static GROUP: Shape = Shape::new(
    "[[group]]",
    &[&[
        Key::new("id", Kind::Id, "Its name."),
        Key::new("title", Kind::Text, "What it is, for people."),
        Key::new("of", Kind::Word(|| words(&KINDS)), "What it is made of: devices, where nothing else is said."),
        Key::new("members", Kind::Names, "Ids of devices or people that belong to it."),
        Key::new("where", Kind::Condition, "Those belong to it for which this holds."),
        Key::new("held_by", Kind::Names, "Groups or units of people, whose devices belong to it."),
        Key::new("units", Kind::Names, "Units, whose people belong to it."),
        Key::new("groups", Kind::Names, "Other groups, whose members belong to it."),
        Key::new("except", Kind::Names, "Members or groups that do not belong to it, whatever else says so."),
    ]],
)
.needs(&[&["id"]]);

const KINDS: [(&str, GroupKind); 2] = [("devices", GroupKind::Devices), ("people", GroupKind::People)];

pub(super) fn read(reader: &mut Reader<'_>, root: &Table<'_>, into: &mut RuleSetSource) {
    for table in reader.tables(root, "group") {
        let Some(id) = reader.id(&table, "a [[group]]") else { continue };
        into.groups.push(GroupSource {
            id,
            title: reader.string(&table, "title"),
            kind: reader.word(&table, "of", &KINDS).unwrap_or(GroupKind::Devices),
            members: reader.names(&table, "members"),
            condition: reader.text(&table, "where"),
            held_by: reader.names(&table, "held_by"),
            units: reader.names(&table, "units"),
            groups: reader.names(&table, "groups"),
            except: reader.names(&table, "except"),
        });
    }
}
