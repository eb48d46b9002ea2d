//! Mistakes as data: what is wrong, where, and what to write instead. Rendering is the caller's.

use std::ops::Range;
use std::sync::Arc;

/// A workspace file, by its index in the list that was loaded.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct FileId(pub u32);

/// A place in a workspace file, in bytes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Span {
    /// Which file.
    pub file: FileId,
    /// Byte offsets in it.
    pub range: Range<usize>,
}

/// How bad a diagnostic is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Severity {
    /// Nothing runs until it is mended.
    Error,
    /// It runs, but probably not as meant.
    Warning,
}

/// A second place that helps to understand the first.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Note {
    /// Where.
    pub span: Span,
    /// What is there.
    pub label: String,
}

/// One mistake in what a person wrote.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Diagnostic {
    /// Error or warning.
    pub severity: Severity,
    /// A stable short name, `unknown-fact`.
    pub code: &'static str,
    /// What is wrong: lower case, no full stop.
    pub message: String,
    /// Where it is wrong; none when it is about a file or the whole workspace.
    pub span: Option<Span>,
    /// Points at the place; may be empty.
    pub label: String,
    /// What to write instead.
    pub help: Option<String>,
    /// Other places.
    pub notes: Vec<Note>,
}

impl Diagnostic {
    /// Creates an error at a place.
    pub fn error(code: &'static str, message: impl Into<String>, span: Option<Span>) -> Self {
        Self {
            severity: Severity::Error,
            code,
            message: message.into(),
            span,
            label: String::new(),
            help: None,
            notes: Vec::new(),
        }
    }

    /// Creates a warning at a place.
    pub fn warning(code: &'static str, message: impl Into<String>, span: Option<Span>) -> Self {
        Self { severity: Severity::Warning, ..Self::error(code, message, span) }
    }

    /// Adds the text that stands at the caret.
    #[must_use]
    pub fn label(mut self, label: impl Into<String>) -> Self {
        self.label = label.into();
        self
    }

    /// Adds the line that says what to write instead.
    #[must_use]
    pub fn help(mut self, help: impl Into<String>) -> Self {
        self.help = Some(help.into());
        self
    }

    /// Adds a second place.
    #[must_use]
    pub fn note(mut self, span: Option<Span>, label: impl Into<String>) -> Self {
        if let Some(span) = span {
            self.notes.push(Note { span, label: label.into() });
        }
        self
    }
}

/// How a stretch of a decoded text relates to the file it was written in.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TextPiece {
    /// Bytes in the decoded text.
    pub decoded: Range<usize>,
    /// Bytes in the file.
    pub file: Range<usize>,
    /// The same bytes in both; otherwise one escaped character.
    pub verbatim: bool,
}

/// A text with the way back to where it was written, character by character.
#[derive(Clone, Debug)]
pub struct Text {
    text: Arc<str>,
    file: FileId,
    pieces: Arc<[TextPiece]>,
    /// Where the text inside the quotes starts and ends in the file.
    inner: Range<usize>,
    known: bool,
}

impl Text {
    /// Creates a text read from a file. `pieces` cover `text` in order; `inner` is its place inside the quotes.
    pub fn new(text: impl Into<Arc<str>>, file: FileId, pieces: Vec<TextPiece>, inner: Range<usize>) -> Self {
        Self { text: text.into(), file, pieces: pieces.into(), inner, known: true }
    }

    /// Creates a text that stands in a file on its own, from its first byte on.
    pub fn whole(text: impl Into<Arc<str>>, file: FileId) -> Self {
        let text = text.into();
        let range = 0..text.len();
        let piece = TextPiece { decoded: range.clone(), file: range.clone(), verbatim: true };
        Self::new(text, file, vec![piece], range)
    }

    /// Creates a text that was not written in any file.
    pub fn loose(text: impl Into<Arc<str>>) -> Self {
        let mut made = Self::whole(text, FileId(0));
        made.known = false;
        made
    }

    /// Returns the decoded text.
    pub fn as_str(&self) -> &str {
        &self.text
    }

    /// Returns the place of a range of the decoded text in its file; an escape in it is covered whole.
    pub fn span(&self, range: Range<usize>) -> Option<Span> {
        if !self.known {
            return None;
        }
        let start = self.offset(range.start);
        let end = if range.is_empty() { start } else { self.end_of(range.end).max(start) };
        Some(Span { file: self.file, range: start..end })
    }

    /// Returns the place of the whole text.
    pub fn whole_span(&self) -> Option<Span> {
        self.known.then(|| Span { file: self.file, range: self.inner.clone() })
    }

    fn offset(&self, at: usize) -> usize {
        self.pieces.iter().find(|piece| piece.decoded.contains(&at)).map_or_else(
            || self.end_of(self.text.len()),
            |piece| piece.file.start + if piece.verbatim { at - piece.decoded.start } else { 0 },
        )
    }

    fn end_of(&self, at: usize) -> usize {
        self.pieces.iter().rfind(|piece| piece.decoded.start < at && at <= piece.decoded.end).map_or(
            self.inner.start,
            |piece| {
                if piece.verbatim { piece.file.start + (at - piece.decoded.start) } else { piece.file.end }
            },
        )
    }
}

/// Returns the candidate that `typed` was probably meant to be, if one is near enough.
pub fn nearest<'a>(typed: &str, candidates: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    let lower = typed.to_lowercase();
    candidates
        .into_iter()
        .filter(|candidate| *candidate != typed)
        .map(|candidate| (strsim::damerau_levenshtein(&lower, &candidate.to_lowercase()), candidate))
        // A third of the letters may differ: more than that is another word.
        .filter(|(distance, candidate)| {
            *distance <= candidate.chars().count().max(lower.chars().count()).div_ceil(3).min(4)
        })
        .min()
        .map(|(_, candidate)| candidate)
}

#[cfg(test)]
mod tests {
    use super::nearest;

    #[test]
    fn near_names_are_found_and_far_ones_are_not() {
        assert_eq!(nearest("disk.encryptd", ["disk.encrypted", "os.version"]), Some("disk.encrypted"));
        assert_eq!(nearest("Severty", ["severity", "stage"]), Some("severity"));
        assert_eq!(nearest("bananas", ["severity", "stage"]), None);
    }
}
