//! `[report]` in `fencepost.toml`: how reports look.

use super::shape::{KeyKind, TableKey, TableShape, words};
use super::table::{Table, TableReader};

/// The language in which dates are written.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum DateLanguage {
    /// English.
    #[default]
    English,
    /// Danish.
    Danish,
    /// Dutch.
    Dutch,
    /// Finnish.
    Finnish,
    /// French.
    French,
    /// German.
    German,
    /// Italian.
    Italian,
    /// Norwegian, as most write it.
    Norwegian,
    /// Portuguese.
    Portuguese,
    /// Spanish.
    Spanish,
    /// Swedish.
    Swedish,
}

impl DateLanguage {
    /// All languages, by the tags of ISO 639 by which files name them.
    pub const ALL: [(&'static str, Self); 11] = [
        ("en", Self::English),
        ("da", Self::Danish),
        ("nl", Self::Dutch),
        ("fi", Self::Finnish),
        ("fr", Self::French),
        ("de", Self::German),
        ("it", Self::Italian),
        ("nb", Self::Norwegian),
        ("pt", Self::Portuguese),
        ("es", Self::Spanish),
        ("sv", Self::Swedish),
    ];

    /// Returns the tag of ISO 639.
    pub fn as_str(self) -> &'static str {
        Self::ALL.iter().find(|(_, one)| *one == self).map_or("", |(tag, _)| tag)
    }
}

/// How reports look.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ReportSettings {
    /// What stands above them, instead of the name of the workspace.
    pub name: Option<String>,
    /// A logo as text: a character or a few.
    pub logo: Option<String>,
    /// The accent colour: red, green and blue.
    pub accent: Option<[u8; 3]>,
    /// The language in which dates are written.
    pub language: DateLanguage,
}

pub(super) static REPORT: TableShape = TableShape::new(
    "[report]",
    &[&[
        TableKey::new(
            "name",
            KeyKind::Text,
            "What stands above reports: the name of the workspace, where it is left out.",
        ),
        TableKey::new("logo", KeyKind::Text, "A logo as text: a character or a few."),
        TableKey::new("accent", KeyKind::Text, "The colour of accents, such as \"#0b5e8a\"."),
        TableKey::new(
            "language",
            KeyKind::Word(|| words(&DateLanguage::ALL)),
            "The language in which dates are written: English, where it is left out.",
        ),
    ]],
);

/// A logo is no longer than this.
const MOST_LOGO: usize = 24;

pub(super) fn read(reader: &mut TableReader<'_>, root: &Table<'_>) -> ReportSettings {
    let Some(table) = reader.table(root, "report") else { return ReportSettings::default() };
    let mut settings = ReportSettings {
        name: reader.string(&table, "name"),
        logo: reader.string(&table, "logo"),
        accent: None,
        language: reader.word(&table, "language", &DateLanguage::ALL).unwrap_or_default(),
    };
    let place = |key: &str| table.get(key).map_or(0..0, |value| value.span());
    if settings.logo.as_ref().is_some_and(|logo| logo.chars().count() > MOST_LOGO) {
        let what = format!("a logo of more than {MOST_LOGO} characters is none");
        reader.error("bad-logo", what, place("logo"), "write a character or a short word");
        settings.logo = None;
    }
    if let Some(text) = reader.string(&table, "accent") {
        settings.accent = colour(&text);
        if settings.accent.is_none() {
            let help = "write six digits of base 16 behind a hash, such as \"#0b5e8a\"";
            reader.error("bad-colour", format!("`{text}` is no colour"), place("accent"), help);
        }
    }
    settings
}

/// Reads `#0b5e8a`.
fn colour(text: &str) -> Option<[u8; 3]> {
    let digits = text
        .strip_prefix('#')
        .filter(|digits| digits.len() == 6 && digits.bytes().all(|byte| byte.is_ascii_hexdigit()))?;
    let part = |at: usize| u8::from_str_radix(&digits[at..at + 2], 16).ok();
    Some([part(0)?, part(2)?, part(4)?])
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn colours_are_six_digits_behind_a_hash() {
        assert_eq!(colour("#0b5E8a"), Some([11, 94, 138]));
        for text in ["0b5e8a", "#0b5e8", "#0b5e8aa", "#0b5eé8", "#0b5e+8", "blue"] {
            assert_eq!(colour(text), None, "{text}");
        }
    }
}
