//! Adds entries to `facts.toml`; everything else in it stays as it is, comments too.

use toml_edit::{DocumentMut, Item, Table, Value};

use crate::draft::FactLine;

/// Adds facts to the text of `facts.toml`; one that is declared there already is left as it is.
///
/// # Errors
/// When the text is no TOML, or `facts` in it is no table.
pub fn add_facts(text: &str, facts: &[FactLine]) -> Result<String, String> {
    let mut document: DocumentMut = text.parse().map_err(|error: toml_edit::TomlError| error.message().to_owned())?;
    let table = document.entry("facts").or_insert_with(|| Item::Table(Table::new()));
    let table = table.as_table_like_mut().ok_or("`facts` is no table")?;
    for FactLine { path, entry } in facts {
        let value: Value = entry.parse().map_err(|error: toml_edit::TomlError| error.message().to_owned())?;
        // Items of a list may be declared under either name.
        if !table.contains_key(path) && !table.contains_key(&path.replace("[]", "")) {
            table.insert(path, Item::Value(value));
        }
    }
    Ok(document.to_string())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn facts_are_added_and_what_stands_there_stays() {
        let line = |path: &str, entry: &str| FactLine { path: path.to_owned(), entry: entry.to_owned() };
        let facts = [line("os.version", "{ type = \"version\" }"), line("free", "{ type = \"number\", unit = \"B\" }")];
        let added = add_facts("# ours\n[facts]\n\"os.version\" = { type = \"text\" } # as it is\n", &facts).unwrap();
        assert_eq!(
            added,
            "# ours\n[facts]\n\"os.version\" = { type = \"text\" } # as it is\nfree = { type = \"number\", unit = \"B\" }\n"
        );
        assert!(add_facts("", &facts).unwrap().starts_with("[facts]\n\"os.version\" = { type = \"version\" }\n"));
        assert!(add_facts("facts = 3", &facts).is_err());
        assert!(add_facts("x = ", &facts).is_err());
    }
}
