//! Mistakes in files, with the line and a caret.

use annotate_snippets::{AnnotationKind, Group, Level, Renderer, Snippet};
use fencepost_core::{Diagnostic, Severity};
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
    renderer.term_width(width).render(&[group(files, mistake)]).to_string()
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
        let mut primary = AnnotationKind::Primary.span(span.range.clone());
        if !mistake.label.is_empty() {
            primary = primary.label(mistake.label.as_str());
        }
        let here = mistake.notes.iter().filter(|note| note.span.file == span.file);
        let snippet = Snippet::source(file.text.as_str()).path(file.path.as_str()).annotation(primary).annotations(
            here.map(|note| AnnotationKind::Context.span(note.span.range.clone()).label(note.label.as_str())),
        );
        group = group.element(snippet);
        for note in mistake.notes.iter().filter(|note| note.span.file != span.file) {
            if let Some(file) = files.get(note.span.file.0 as usize) {
                let place = AnnotationKind::Context.span(note.span.range.clone()).label(note.label.as_str());
                group = group.element(Snippet::source(file.text.as_str()).path(file.path.as_str()).annotation(place));
            }
        }
    }
    if let Some(help) = &mistake.help {
        group = group.element(Level::HELP.message(help.as_str()));
    }
    group
}
