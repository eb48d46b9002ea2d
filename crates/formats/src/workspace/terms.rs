//! `terms.toml`: texts that people accept before a service lets them in.

use fencepost_core::{RuleSetSource, TermsSource};

use super::shape::{Key, Kind, Shape};
use super::table::{Reader, Table};

pub(super) static FILE: Shape =
    Shape::new("terms.toml", &[&[Key::new("terms", Kind::Tables(&TERMS), "Terms that access rules ask for.")]]);
static TERMS: Shape = Shape::new(
    "[[terms]]",
    &[&[
        Key::new("id", Kind::Id, "What access rules and acceptances call them."),
        Key::new("title", Kind::Text, "What people call them."),
        Key::new("version", Kind::Text, "The version that has to be accepted; of another one nothing is accepted."),
        Key::new("file", Kind::Text, "Where their text lies, from the workspace's root."),
        Key::new(
            "people",
            Kind::Names,
            "Groups or units of people who have to accept them; everybody, where it is left out.",
        ),
    ]],
)
.needs(&[&["id"], &["version"]]);

pub(super) fn read(reader: &mut Reader<'_>, root: &Table<'_>, into: &mut RuleSetSource) {
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
