//! `bundles.toml`: sets of settings that another tool applies, and which devices should have them.

use fencepost_core::{BundleSource, Named};

use super::groups;
use super::shape::{KeyKind, TableKey, TableShape};
use super::table::{Table, TableReader};

pub(super) static FILE: TableShape = TableShape::new(
    "bundles.toml",
    &[&[TableKey::new(
        "bundle",
        KeyKind::Tables(&BUNDLE),
        "A set of settings that another tool applies, and which devices should have it.",
    )]],
);
static BUNDLE: TableShape = TableShape::new(
    "[[bundle]]",
    &[
        &[
            TableKey::new("id", KeyKind::Id, "What the tool that applies it calls it."),
            TableKey::new("title", KeyKind::Text, "What it is, for people."),
            TableKey::new("to", KeyKind::Text, "The channel that is told who enters and who leaves."),
        ],
        &groups::MEMBERS,
    ],
)
.needs(&[&["id"], &["members", "where", "held_by", "groups"]]);

pub(super) fn all(reader: &mut TableReader<'_>, root: &Table<'_>, channels: &[String]) -> Vec<BundleSource> {
    let mut bundles = Vec::new();
    for table in reader.tables(root, "bundle") {
        let Some(id) = reader.id(&table, "a [[bundle]]") else { continue };
        let members = ["members", "where", "held_by", "groups"];
        if members.iter().all(|key| table.get(key).is_none()) {
            let help = "say which devices should have it: where = '..', groups = [..] or members = [..]";
            let message = format!("bundle `{}` is for nobody", id.text);
            reader.error("incomplete", message, table.heading(), help);
        }
        let to = reader.named(&table, "to");
        if let Some(Named { text, span }) = to.as_ref().filter(|to| !channels.contains(&to.text)) {
            let message = format!("there is no channel `{text}`");
            let help = fencepost_core::did_you_mean(text, channels.iter().map(String::as_str), || {
                "write it as a [[channel]] in fencepost.toml".to_owned()
            });
            reader.report(fencepost_core::Diagnostic::error("unknown-channel", message, span.clone()).help(help));
        }
        let title = reader.string(&table, "title");
        let group = groups::members_of(reader, &table, id.clone());
        bundles.push(BundleSource { id, title, to: to.map(|to| to.text), group });
    }
    bundles
}
