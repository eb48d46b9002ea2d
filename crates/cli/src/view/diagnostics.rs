//! Mistakes in files, with the line and a caret.

use std::ops::Range;

use annotate_snippets::{AnnotationKind, Group, Level, Renderer, Snippet};
use fencepost_core::{Diagnostic, Severity, harmless, mask_in_place};
use fencepost_formats::FileText;

use crate::ui::Ui;

/// Prints every mistake to stderr and returns how many of them are errors.
pub fn print(ui: &mut Ui, files: &[FileText], mistakes: &[Diagnostic]) -> usize {
    for mistake in mistakes {
        let text = render(files, mistake, ui.width, ui.err_styles.is_plain());
        ui.complain(text);
        ui.complain("");
    }
    mistakes.iter().filter(|mistake| mistake.severity == Severity::Error).count()
}

/// Renders a mistake as lines, the last without its end.
pub fn render(files: &[FileText], mistake: &Diagnostic, width: usize, plain: bool) -> String {
    let renderer = if plain { Renderer::plain() } else { Renderer::styled() };
    let (files, mistake) = (harmless_files(files, mistake), harmless_words(mistake));
    renderer.term_width(width).render(&[group(&files, &mistake)]).to_string()
}

/// The files that a mistake points into, with nothing in them that steers a terminal; places in them stay right. Files that it
/// does not point into are left empty.
fn harmless_files(files: &[FileText], mistake: &Diagnostic) -> Vec<FileText> {
    let places = || mistake.span.iter().chain(mistake.notes.iter().map(|note| &note.span));
    let shown = |at: usize| places().any(|span| span.file.0 as usize == at);
    let file = |(at, file): (usize, &FileText)| match shown(at) {
        true => FileText { path: harmless(&file.path), text: mask_in_place(&file.text).into_owned() },
        false => FileText { path: String::new(), text: String::new() },
    };
    files.iter().enumerate().map(file).collect()
}

/// A mistake whose words hold nothing that steers a terminal.
fn harmless_words(mistake: &Diagnostic) -> Diagnostic {
    let mut mistake = mistake.clone();
    mistake.message = harmless(&mistake.message);
    mistake.label = harmless(&mistake.label);
    mistake.help = mistake.help.as_deref().map(harmless);
    mistake.notes.iter_mut().for_each(|note| note.label = harmless(&note.label));
    mistake
}

/// The whole lines of a file that hold some places, so that rendering a mistake costs no more in a large file than in a small
/// one.
struct Window {
    range: Range<usize>,
    /// The number of its first line, from 1.
    first_line: usize,
}

impl Window {
    fn around<'r>(text: &str, places: impl IntoIterator<Item = &'r Range<usize>>) -> Self {
        let (mut start, mut end) = (text.len(), 0);
        for place in places {
            start = start.min(place.start);
            end = end.max(place.end);
        }
        // The line break belongs to the window, as a place may stand behind the last character of its line.
        let (start, end) = (floor(text, start), floor(text, end.max(start)));
        let start = text[..start].rfind('\n').map_or(0, |at| at + 1);
        let end = text[end..].find('\n').map_or(text.len(), |at| end + at + 1);
        let first_line = 1 + text[..start].bytes().filter(|byte| *byte == b'\n').count();
        Self { range: start..end, first_line }
    }

    /// Returns a place in the file as one in the window.
    fn range(&self, place: &Range<usize>) -> Range<usize> {
        let within = |at: usize| at.clamp(self.range.start, self.range.end) - self.range.start;
        within(place.start)..within(place.end)
    }

    fn snippet<'f, T: Clone>(&self, file: &'f FileText) -> Snippet<'f, T> {
        Snippet::source(&file.text[self.range.clone()]).line_start(self.first_line).path(file.path.as_str())
    }
}

/// Returns the nearest end of a character at or before a place.
fn floor(text: &str, at: usize) -> usize {
    let at = at.min(text.len());
    (0..=at).rev().find(|at| text.is_char_boundary(*at)).unwrap_or(0)
}

fn group<'a>(files: &'a [FileText], mistake: &'a Diagnostic) -> Group<'a> {
    let level = match mistake.severity {
        Severity::Error => Level::ERROR,
        Severity::Warning => Level::WARNING,
        Severity::Note => Level::NOTE,
    };
    let mut group = level
        .primary_title(mistake.message.as_str())
        .id(mistake.code)
        .elements(std::iter::empty::<annotate_snippets::Message<'a>>());
    if let Some(span) = &mistake.span
        && let Some(file) = files.get(span.file.0 as usize)
    {
        let here = || mistake.notes.iter().filter(|note| note.span.file == span.file);
        let window = Window::around(&file.text, here().map(|note| &note.span.range).chain([&span.range]));
        let mut primary = AnnotationKind::Primary.span(window.range(&span.range));
        if !mistake.label.is_empty() {
            primary = primary.label(mistake.label.as_str());
        }
        let notes =
            here().map(|note| AnnotationKind::Context.span(window.range(&note.span.range)).label(note.label.as_str()));
        group = group.element(window.snippet(file).annotation(primary).annotations(notes));
        for note in mistake.notes.iter().filter(|note| note.span.file != span.file) {
            if let Some(file) = files.get(note.span.file.0 as usize) {
                let window = Window::around(&file.text, [&note.span.range]);
                let place = AnnotationKind::Context.span(window.range(&note.span.range)).label(note.label.as_str());
                group = group.element(window.snippet(file).annotation(place));
            }
        }
    }
    if let Some(help) = &mistake.help {
        group = group.element(Level::HELP.message(help.as_str()));
    }
    group
}
