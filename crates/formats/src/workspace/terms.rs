//! `terms.toml`: texts that people accept before a service lets them in.

use fencepost_core::{RuleSetSource, TermsSource};

use super::shape::{KeyKind, TableKey, TableShape};
use super::table::{Table, TableReader};

pub(super) static FILE: TableShape = TableShape::new(
    "terms.toml",
    &[&[TableKey::new("terms", KeyKind::Tables(&TERMS), "Terms that access rules ask for.")]],
);
static TERMS: TableShape = TableShape::new(
    "[[terms]]",
    &[&[
        TableKey::new("id", KeyKind::Id, "What access rules and acceptances call them."),
        TableKey::new("title", KeyKind::Text, "What people call them."),
        TableKey::new(
            "version",
            KeyKind::Text,
            "The version that has to be accepted; of another one nothing is accepted.",
        ),
        TableKey::new("file", KeyKind::Text, "Where their text lies, from the workspace's root."),
        TableKey::new(
            "people",
            KeyKind::Names,
            "Groups or units of people who have to accept them; everybody, where it is left out.",
        ),
    ]],
)
.needs(&[&["id"], &["version"]]);

pub(super) fn read(reader: &mut TableReader<'_>, root: &Table<'_>, into: &mut RuleSetSource) {
    for table in reader.tables(root, "terms") {
        let Some(id) = reader.id(&table, "a [[terms]]") else { continue };
        let version = reader.string(&table, "version");
        if version.is_none() {
            let span = id.span.clone().map_or(table.heading(), |span| span.range);
            let message = format!("terms `{}` have no `version`", id.text);
            reader.error("no-version", message, span, "say which version has to be accepted: version = \"1\"");
        }
        into.terms.push(TermsSource {
            id,
            title: reader.string(&table, "title"),
            version: version.unwrap_or_default(),
            file: reader.named(&table, "file"),
            people: reader.names(&table, "people"),
        });
    }
}
