//! Mistakes as data: what is wrong, where, and what to write instead. Rendering is the caller's.

use std::collections::{BTreeMap, HashSet};
use std::ops::Range;
use std::sync::Arc;

use crate::limits::MISTAKES_SHOWN;

/// A workspace file, by its index in the list that was loaded.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct FileId(pub u32);

/// A place in a workspace file, in bytes.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Span {
    /// Which file.
    pub file: FileId,
    /// Byte offsets in it.
    pub range: Range<usize>,
}

/// How bad a diagnostic is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Severity {
    /// Nothing runs until it is mended.
    Error,
    /// It runs, but probably not as meant.
    Warning,
    /// Worth a look; nothing need be wrong.
    Note,
}

/// A second place that helps to understand the first.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Note {
    /// Where.
    pub span: Span,
    /// What is there.
    pub label: String,
}

/// One mistake in what a person wrote.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
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

impl Severity {
    /// Returns the word used in JSON.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Error => "error",
            Self::Warning => "warning",
            Self::Note => "note",
        }
    }
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

    /// Creates a remark at a place.
    pub fn remark(code: &'static str, message: impl Into<String>, span: Option<Span>) -> Self {
        Self { severity: Severity::Note, ..Self::error(code, message, span) }
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

/// Returns the diagnostics without those that repeat an earlier one at the same place, as several rules of one baseline do.
pub(crate) fn each_once(mut diagnostics: Vec<Diagnostic>) -> Vec<Diagnostic> {
    let mut seen = HashSet::new();
    diagnostics.retain(|one| one.span.is_none() || seen.insert(one.clone()));
    diagnostics
}

/// Returns at most [`MISTAKES_SHOWN`] diagnostics of each file, the most severe first, and for each file that has more one
/// diagnostic that counts the rest. The order is that of `diagnostics`.
pub fn few_of_each_file(diagnostics: Vec<Diagnostic>) -> Vec<Diagnostic> {
    let file = |one: &Diagnostic| one.span.as_ref().map(|span| span.file);
    let mut counts: BTreeMap<(FileId, Severity), usize> = BTreeMap::new();
    for one in &diagnostics {
        if let Some(file) = file(one) {
            *counts.entry((file, one.severity)).or_default() += 1;
        }
    }
    // How many of each severity are shown: what is left after the more severe ones.
    let mut room: BTreeMap<(FileId, Severity), usize> = BTreeMap::new();
    let mut hidden: BTreeMap<FileId, (Severity, usize)> = BTreeMap::new();
    let mut left: BTreeMap<FileId, usize> = BTreeMap::new();
    for ((file, severity), count) in counts {
        let left = left.entry(file).or_insert(MISTAKES_SHOWN);
        let shown = count.min(*left);
        *left -= shown;
        room.insert((file, severity), shown);
        if count > shown {
            hidden.entry(file).or_insert((severity, 0)).1 += count - shown;
        }
    }
    if hidden.is_empty() {
        return diagnostics;
    }
    let mut last_of: BTreeMap<FileId, usize> = BTreeMap::new();
    let mut kept: Vec<Diagnostic> = Vec::new();
    for one in diagnostics {
        if let Some(file) = file(&one) {
            let room = room.entry((file, one.severity)).or_default();
            let Some(less) = room.checked_sub(1) else { continue };
            *room = less;
            last_of.insert(file, kept.len());
        }
        kept.push(one);
    }
    // Behind the last of its file, from the end, so that the places stay right.
    let mut places: Vec<(usize, FileId)> = last_of.into_iter().map(|(file, at)| (at, file)).collect();
    places.sort_unstable_by(|a, b| b.cmp(a));
    for (at, file) in places {
        if let Some((severity, count)) = hidden.get(&file) {
            let (what, verb) = if *count == 1 { ("mistake", "is") } else { ("mistakes", "are") };
            let more = Diagnostic {
                severity: *severity,
                ..Diagnostic::error("more", format!("{count} more {what} in this file {verb} not shown"), None)
            };
            let span = kept[at].span.clone();
            kept.insert(at + 1, Diagnostic { span, ..more }.help("mend the first ones, and look again"));
        }
    }
    kept
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

    /// Creates a text that stands for something else that is written at a place.
    pub fn at(text: impl Into<Arc<str>>, span: Option<&Span>) -> Self {
        let text = text.into();
        let Some(Span { file, range }) = span else { return Self::loose(text) };
        let piece = TextPiece { decoded: 0..text.len(), file: range.clone(), verbatim: false };
        Self::new(text, *file, vec![piece], range.clone())
    }

    /// Puts texts together; those that were not written anywhere, or in another file than the first, lie at the end of the one
    /// before.
    pub fn joined(parts: impl IntoIterator<Item = Self>) -> Self {
        let parts: Vec<Self> = parts.into_iter().collect();
        let whole: String = parts.iter().map(|part| &*part.text).collect();
        let Some(first) = parts.iter().find(|part| part.known) else { return Self::loose(whole) };
        let is_there = |part: &Self| part.known && part.file == first.file;
        let last = parts.iter().rfind(|part| is_there(part)).unwrap_or(first);
        let (mut pieces, mut from, mut end) = (Vec::new(), 0, first.inner.start);
        for part in &parts {
            let decoded = |range: &Range<usize>| range.start + from..range.end + from;
            if is_there(part) {
                pieces.extend(
                    part.pieces.iter().map(|piece| TextPiece { decoded: decoded(&piece.decoded), ..piece.clone() }),
                );
                end = part.inner.end;
            } else {
                pieces.push(TextPiece { decoded: decoded(&(0..part.text.len())), file: end..end, verbatim: false });
            }
            from += part.text.len();
        }
        Self::new(whole, first.file, pieces, first.inner.start..last.inner.end)
    }

    /// Returns a part of the text.
    #[must_use]
    pub fn slice(&self, range: Range<usize>) -> Self {
        let clipped = |piece: &TextPiece| {
            let decoded = piece.decoded.start.max(range.start)..piece.decoded.end.min(range.end);
            let file = match piece.verbatim {
                true => {
                    let from = piece.file.start + (decoded.start.saturating_sub(piece.decoded.start));
                    from..from + decoded.len()
                }
                false => piece.file.clone(),
            };
            (!decoded.is_empty()).then(|| TextPiece {
                decoded: decoded.start - range.start..decoded.end - range.start,
                file,
                verbatim: piece.verbatim,
            })
        };
        let pieces: Vec<TextPiece> = self.pieces.iter().filter_map(clipped).collect();
        let inner = match (pieces.first(), pieces.last()) {
            (Some(first), Some(last)) => first.file.start..last.file.end,
            _ => self.inner.clone(),
        };
        let mut slice = Self::new(&self.text[range.clone()], self.file, pieces, inner);
        slice.known = self.known;
        slice
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
    /// Nobody mistypes a word as long as this, and comparing takes the product of both lengths.
    const LONGEST: usize = 200;
    if typed.len() > LONGEST {
        return None;
    }
    let lower = typed.to_lowercase();
    candidates
        .into_iter()
        .filter(|candidate| *candidate != typed && candidate.len() <= LONGEST)
        .map(|candidate| (strsim::damerau_levenshtein(&lower, &candidate.to_lowercase()), candidate))
        // A third of the letters may differ: more than that is another word.
        .filter(|(distance, candidate)| {
            *distance <= candidate.chars().count().max(lower.chars().count()).div_ceil(3).min(4)
        })
        .min()
        .map(|(_, candidate)| candidate)
}

/// Returns what to say of a word that nothing is called: what was probably meant, or else what `otherwise` says.
pub fn did_you_mean<'a>(
    typed: &str,
    candidates: impl IntoIterator<Item = &'a str>,
    otherwise: impl FnOnce() -> String,
) -> String {
    nearest(typed, candidates).map_or_else(otherwise, |near| format!("did you mean `{near}`?"))
}

/// A word someone wrote, with its place.
#[derive(Clone, Debug)]
pub struct Named {
    /// The word.
    pub text: String,
    /// Where it stands.
    pub span: Option<Span>,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn near_names_are_found_and_far_ones_are_not() {
        assert_eq!(nearest("disk.encryptd", ["disk.encrypted", "os.version"]), Some("disk.encrypted"));
        assert_eq!(nearest("Severty", ["severity", "stage"]), Some("severity"));
        assert_eq!(nearest("bananas", ["severity", "stage"]), None);
    }

    #[test]
    fn of_each_file_the_worst_are_shown_and_the_rest_counted() {
        let at = |file: u32, start: usize| Some(Span { file: FileId(file), range: start..start + 1 });
        let mut all: Vec<Diagnostic> = Vec::new();
        for n in 0..MISTAKES_SHOWN {
            all.push(Diagnostic::warning("w", format!("warning {n}"), at(0, n)));
            all.push(Diagnostic::error("e", format!("error {n}"), at(0, n)));
        }
        all.push(Diagnostic::warning("w", "elsewhere", at(1, 0)));
        all.push(Diagnostic::warning("w", "nowhere", None));
        let few = few_of_each_file(all.clone());
        assert_eq!(few.len(), MISTAKES_SHOWN + 3);
        assert!(few[..MISTAKES_SHOWN].iter().all(|one| one.code == "e"));
        let more = &few[MISTAKES_SHOWN];
        assert_eq!(
            (more.severity, more.message.as_str()),
            (Severity::Warning, "100 more mistakes in this file are not shown")
        );
        assert_eq!(few[MISTAKES_SHOWN + 1].message, "elsewhere");
        assert_eq!(few_of_each_file(all[..4].to_vec()), all[..4]);
        assert_eq!(each_once([&all[..4], &all[..4]].concat()), all[..4]);
    }

    #[test]
    fn texts_put_together_and_cut_lead_back_to_where_they_were_written() {
        let file = |at: u32| FileId(at);
        // 0123456789: `ab` is written at 2, `cd` at 6.
        let piece = |decoded: std::ops::Range<usize>, from: usize| TextPiece {
            file: from..from + decoded.len(),
            decoded,
            verbatim: true,
        };
        let one = Text::new("ab", file(1), vec![piece(0..2, 2)], 2..4);
        let two = Text::new("cd", file(1), vec![piece(0..2, 6)], 6..8);
        let elsewhere = Text::at("ef", Some(&Span { file: file(2), range: 90..99 }));
        let whole = Text::joined([Text::loose("<"), one, Text::loose(" + "), two, elsewhere, Text::loose(">")]);
        assert_eq!(whole.as_str(), "<ab + cdef>");
        let at = |range| whole.span(range).map(|span| (span.file.0, span.range));
        assert_eq!(at(1..3), Some((1, 2..4)));
        assert_eq!(at(2..3), Some((1, 3..4)));
        assert_eq!(at(6..8), Some((1, 6..8)));
        // What stands in no file, or in another, lies at the end of what came before.
        assert_eq!((at(0..1), at(4..5), at(9..10)), (Some((1, 2..2)), Some((1, 4..4)), Some((1, 8..8))));
        assert_eq!(whole.whole_span().map(|span| span.range), Some(2..8));
        let cut = whole.slice(2..7);
        assert_eq!((cut.as_str(), cut.span(4..5).map(|span| span.range)), ("b + c", Some(6..7)));
        assert!(Text::joined([Text::loose("a"), Text::loose("b")]).span(0..1).is_none());
    }
}
