//! Reads INI and key=value files: one setting a line.
//!
//! Our own few lines, since a key that is given twice must be seen, and every line that says nothing be named.

use std::io::BufRead;

use fencepost_core::limits::{self, FIELDS, RECORD_BYTES};
use thiserror::Error;

use super::chunks::{Chunk, Chunks, Line};
use crate::padded::RawDocument;

/// A line that is no setting.
#[derive(Debug, Error)]
#[error("line {line}: {message}")]
pub(crate) struct BadSetting {
    /// Its number, from 1.
    pub line: u64,
    /// What is wrong, and the remedy.
    pub message: String,
}

/// The settings of a file as path and value; a key given twice stands here twice.
///
/// Of INI the section stands before the key. An empty value is none. Comments begin with `#` or `;`.
///
/// # Errors
/// The first line that is no setting, with its number and remedy.
pub(crate) fn read_settings(input: impl BufRead, sections: bool) -> Result<Vec<(String, Option<String>)>, BadSetting> {
    let (mut chunks, mut chunk, mut before) = (Chunks::new(input), Chunk::default(), 0);
    let (mut settings, mut section) = (Vec::new(), String::new());
    let mut bytes = 0;
    while chunks.read_into(&mut chunk).map_err(|error| BadSetting { line: before + 1, message: error.to_string() })? {
        let mut lines = chunk.lines();
        while let Some(line) = lines.next_line() {
            let number = before + line.number;
            bytes += line.content.map_or(0, |content| content.bytes().len());
            setting(line, sections, &mut section, &mut settings)
                .and_then(|()| within_limits(bytes, settings.len()))
                .map_err(|message| BadSetting { line: number, message })?;
        }
        before += lines.passed();
    }
    Ok(settings)
}

/// Checks that the settings of a file are not too much for one record.
fn within_limits(bytes: usize, settings: usize) -> Result<(), String> {
    if bytes > RECORD_BYTES {
        return Err(format!("the settings of a file may not be longer than {}", limits::size(RECORD_BYTES as u64)));
    }
    if settings > FIELDS {
        return Err(format!("more than {FIELDS} settings in one file"));
    }
    Ok(())
}

/// Reads one line; the error is what is wrong with it.
fn setting(
    line: Line<'_>,
    sections: bool,
    section: &mut String,
    settings: &mut Vec<(String, Option<String>)>,
) -> Result<(), String> {
    let bytes = line
        .content
        .map(RawDocument::bytes)
        .ok_or_else(|| format!("a line is longer than {}", limits::size(RECORD_BYTES as u64)))?;
    let text = std::str::from_utf8(bytes)
        .map_err(|error| format!("byte {}: not UTF-8", line.offset + error.valid_up_to() as u64))?
        .trim();
    if text.starts_with(['#', ';']) {
        return Ok(());
    }
    if sections && let Some(rest) = text.strip_prefix('[') {
        let name = rest.strip_suffix(']').map(str::trim).filter(|name| !name.is_empty());
        *section = name.ok_or("a section is written [name]")?.to_owned();
        return Ok(());
    }
    let cut = if sections { text.find(['=', ':']) } else { text.find('=') };
    let cut = cut.ok_or("no `=` in it; comments begin with # or ;")?;
    let (key, value) = (text[..cut].trim(), unquoted(text[cut + 1..].trim()));
    if key.is_empty() {
        return Err(format!("nothing before `{}`", &text[cut..=cut]));
    }
    let path = if section.is_empty() { key.to_owned() } else { format!("{section}.{key}") };
    settings.push((path, (!value.is_empty()).then(|| value.to_owned())));
    Ok(())
}

fn unquoted(value: &str) -> &str {
    for quote in ['"', '\''] {
        if let Some(inner) = value.strip_prefix(quote).and_then(|rest| rest.strip_suffix(quote)) {
            return inner;
        }
    }
    value
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(text: &str, sections: bool) -> Result<String, String> {
        let shown = read_settings(text.as_bytes(), sections)
            .map_err(|error| error.to_string())?
            .into_iter()
            .map(|(path, value)| format!("{path}={}", value.as_deref().unwrap_or("(none)")));
        Ok(shown.collect::<Vec<_>>().join("|"))
    }

    #[test]
    fn sections_quotes_comments_and_empty_values() {
        let text = "\u{feff}; a\nname = tern\r\n[disk]\nfree = \"12 GB\"\n# b\nempty=\nurl: x=y\n[a.b]\nc='d'\nc=e\n";
        assert_eq!(
            read(text, true).unwrap(),
            "name=tern|disk.free=12 GB|disk.empty=(none)|disk.url=x=y|a.b.c=d|a.b.c=e"
        );
        assert_eq!(read("a.b=1:2\nC = \"x\ny=\"\n", false).unwrap(), "a.b=1:2|C=\"x|y=\"");
    }

    #[test]
    fn a_line_that_says_nothing_is_named() {
        assert!(read("a=1\n\nfoo\n", true).unwrap_err().starts_with("line 3: no `=`"));
        assert!(read("[a\n", true).unwrap_err().starts_with("line 1: a section"));
        assert!(read(" = 1\n", false).unwrap_err().contains("nothing before `=`"));
        assert!(read_settings(&b"a=1\nb=\xff\n"[..], true).unwrap_err().to_string().contains("line 2: byte 6"));
    }
}
