//! `facts.toml`: the fact dictionary.

use fencepost_core::{Declaration, Dictionary, Expiring, FactType};

use toml::de::DeValue;

use super::shape::{KeyKind, TableKey, TableShape, words};
use super::table::{Entry, Table, TableReader, Value};

pub(super) static FILE: TableShape = TableShape::new(
    "facts.toml",
    &[&[TableKey::new("facts", KeyKind::Table(&FACTS), "Facts by their paths, each path in quotes.")]],
);
static FACTS: TableShape = TableShape::new("[facts]", &[]).others(KeyKind::Table(&FACT));
static FACT: TableShape = TableShape::new(
    "a fact",
    &[&[
        TableKey::new(
            "type",
            KeyKind::Word(|| words(&FactType::ALL)),
            "What it is read as; what was collected decides, where it is left out.",
        ),
        TableKey::new("about", KeyKind::Text, "What it says."),
        TableKey::new("unit", KeyKind::Text, "The unit of a number."),
        TableKey::new("key", KeyKind::Text, "The field that names the items of a list."),
        TableKey::new(
            "ordered",
            KeyKind::Boolean,
            "Of a list: the order of its items counts, so that it is compared as a whole.",
        ),
        TableKey::new(
            "volatile",
            KeyKind::Boolean,
            "It changes all the time, and says nothing of how a machine is set up.",
        ),
        TableKey::new("secret", KeyKind::Boolean, "Only a digest of it is kept."),
        TableKey::new("company_only", KeyKind::Boolean, "It is kept of the company's own devices alone."),
        TableKey::new("fresh_for", KeyKind::Period, "How long it may be relied on."),
        TableKey::new(
            "ends",
            KeyKind::Word(|| words(&Expiring::ALL)),
            "What ends at the moment that it tells, so that the end is foretold.",
        ),
        TableKey::new("labels", KeyKind::Table(&LABELS), "What its values are called, for people."),
    ]],
);
static LABELS: TableShape = TableShape::new("[facts.labels]", &[]).others(KeyKind::Text);

/// Without quotes a dotted path makes tables within tables.
fn is_unquoted(value: &Value<'_>) -> bool {
    let DeValue::Table(inner) = value.get_ref() else { return false };
    inner.iter().any(|(key, value)| FACT.kind(key.get_ref()).is_none() && matches!(value.get_ref(), DeValue::Table(_)))
}

pub(super) fn read(reader: &mut TableReader<'_>, root: &Table<'_>, dictionary: &mut Dictionary) {
    let Some(facts) = reader.table(root, "facts") else { return };
    for Entry { key: path, span, value } in facts.entries() {
        if is_unquoted(value) {
            reader.error(
                "unquoted-path",
                format!("the path that starts with `{path}` is not in quotes"),
                span,
                "put the whole path in quotes: \"os.version\" = { .. }",
            );
            continue;
        }
        let Some(table) = reader.inner(&facts, &path, value) else {
            reader.error(
                "wrong-type",
                format!("`{path}` is declared by a table"),
                span,
                format!("write \"{path}\" = {{ type = \"text\" }}"),
            );
            continue;
        };
        let mut declaration = Declaration {
            ty: reader.word(&table, "type", &FactType::ALL),
            about: reader.string(&table, "about"),
            unit: reader.string(&table, "unit"),
            key: reader.string(&table, "key"),
            ordered: reader.boolean(&table, "ordered").unwrap_or(false),
            volatile: reader.boolean(&table, "volatile").unwrap_or(false),
            secret: reader.boolean(&table, "secret").unwrap_or(false),
            company_only: reader.boolean(&table, "company_only").unwrap_or(false),
            fresh_for: reader.period(&table, "fresh_for"),
            ends: reader.word(&table, "ends", &Expiring::ALL),
            ..Declaration::default()
        };
        if declaration.ends.is_some() && !matches!(declaration.ty, Some(FactType::Instant | FactType::Date)) {
            let at = table.get("ends").map_or(span.clone(), |ends| ends.span());
            let help = "write type = \"instant\", or type = \"date\" where it ends with its day";
            reader.error("no-moment", format!("`{path}` says when something ends, and is no moment"), at, help);
        }
        if declaration.secret && declaration.ty.is_some_and(|ty| ty != FactType::Text) {
            let at = table.get("type").map_or(span.clone(), |ty| ty.span());
            let help = "leave `type` out: whatever it was, a digest of it is kept, which is a text";
            reader.error("wrong-type", format!("`{path}` is secret, and so a text"), at, help);
        }
        if let Some(labels) = reader.table(&table, "labels") {
            for Entry { key: value, .. } in labels.entries() {
                if let Some(label) = reader.string(&labels, &value) {
                    declaration.labels.insert(value, label);
                }
            }
        }
        // A field of a list's items may be named so, `software[].version`.
        dictionary.facts.insert(path.replace("[]", ""), declaration);
    }
}
