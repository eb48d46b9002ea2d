//! `controls.toml`: clauses of laws, norms and contracts that rules answer for.

use fencepost_core::{Control, Diagnostic};

use super::shape::{KeyKind, TableKey, TableShape};
use super::table::{Table, TableReader};

pub(super) static FILE: TableShape = TableShape::new(
    "controls.toml",
    &[&[TableKey::new("control", KeyKind::Tables(&CONTROL), "A clause of a law, a norm or a contract.")]],
);
static CONTROL: TableShape = TableShape::new(
    "[[control]]",
    &[&[
        TableKey::new("clause", KeyKind::Text, "How `controls` of rules name it."),
        TableKey::new("title", KeyKind::Text, "What it asks for."),
        TableKey::new("elsewhere", KeyKind::Text, "Who or what answers for it, where no rule can."),
    ]],
)
.needs(&[&["clause"]]);

pub(super) fn read(reader: &mut TableReader<'_>, root: &Table<'_>) -> Vec<Control> {
    let mut found: Vec<Control> = Vec::new();
    for table in reader.tables(root, "control") {
        if !reader.is_complete(&table, "a [[control]]", "write clause = \"ISO 27001 A.8.1\"") {
            continue;
        }
        let Some(clause) = reader.named(&table, "clause") else { continue };
        if let Some(first) = found.iter().find(|other| other.clause.text == clause.text) {
            let message = format!("`{}` stands here twice", clause.text);
            let mistake = Diagnostic::error("doubled-id", message, clause.span.clone())
                .label("the second")
                .note(first.clause.span.clone(), "the first")
                .help("keep one of them");
            reader.report(mistake);
            continue;
        }
        let (title, elsewhere) = (reader.string(&table, "title"), reader.string(&table, "elsewhere"));
        found.push(Control { clause, title, elsewhere });
    }
    found
}
