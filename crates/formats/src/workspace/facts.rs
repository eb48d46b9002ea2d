//! `facts.toml`: the fact dictionary.

use fencepost_core::{Declaration, Dictionary, FactType};

use super::table::{Reader, Table};

pub(super) fn read(reader: &mut Reader<'_>, root: &Table<'_>, dictionary: &mut Dictionary) {
    reader.known_keys(root, "facts.toml", &["facts"]);
    let Some(facts) = reader.table(root, "facts") else { return };
    for (path, span, value) in facts.entries() {
        let Some(table) = Table::of(value) else {
            reader.error(
                "wrong-type",
                format!("`{path}` is declared by a table"),
                span,
                format!("write \"{path}\" = {{ type = \"text\" }}"),
            );
            continue;
        };
        let known = ["type", "about", "unit", "key", "volatile", "secret", "company_only", "fresh_for", "labels"];
        // Without quotes a dotted key makes tables within tables, and its parts look like unknown keys.
        if table.entries().iter().any(|(key, _, value)| !known.contains(&key.as_str()) && Table::of(value).is_some()) {
            reader.error(
                "unquoted-path",
                format!("the path that starts with `{path}` is not in quotes"),
                span,
                "put the whole path in quotes: \"os.version\" = { .. }",
            );
            continue;
        }
        reader.known_keys(&table, "a fact", &known);
        let mut declaration = Declaration {
            ty: reader.word(&table, "type", &FactType::ALL),
            about: reader.string(&table, "about"),
            unit: reader.string(&table, "unit"),
            key: reader.string(&table, "key"),
            volatile: reader.boolean(&table, "volatile").unwrap_or(false),
            secret: reader.boolean(&table, "secret").unwrap_or(false),
            company_only: reader.boolean(&table, "company_only").unwrap_or(false),
            fresh_for: reader.period(&table, "fresh_for"),
            ..Declaration::default()
        };
        if declaration.secret && declaration.ty.is_some_and(|ty| ty != FactType::Text) {
            let at = table.get("type").map_or(span.clone(), |ty| ty.span());
            let help = "leave `type` out: whatever it was, a digest of it is kept, which is a text";
            reader.error("wrong-type", format!("`{path}` is secret, and so a text"), at, help);
        }
        if let Some(labels) = reader.table(&table, "labels") {
            for (value, _, _) in labels.entries() {
                if let Some(label) = reader.string(&labels, &value) {
                    declaration.labels.insert(value, label);
                }
            }
        }
        dictionary.facts.insert(path, declaration);
    }
}
