//! Drafts of sources: whatever a file holds, the draft is a workspace file without mistakes of form.
use fencepost_core::{Dictionary, Severity};
use fencepost_formats::{DraftFor, FileText, draft_source, load_workspace};

/// Runs the target on one input.
///
/// # Panics
/// If what the target promises does not hold.
pub fn run(bytes: &[u8]) {
    let dictionary = Dictionary::default();
    let zone = jiff::tz::TimeZone::UTC;
    let context = DraftFor { path: "feeds/x-1.csv", dictionary: &dictionary, zone: &zone, taken: &[] };
    let Ok(text) = draft_source(bytes, true, &context) else { return };
    let facts: String = text
        .lines()
        .skip_while(|line| !line.starts_with("# For facts.toml"))
        .skip(1)
        .map(|line| format!("{}\n", line.trim_start_matches("# ")))
        .collect();
    let files = vec![
        FileText { path: "fencepost.toml".to_owned(), text: text.clone() },
        FileText { path: "facts.toml".to_owned(), text: format!("[facts]\n{facts}") },
    ];
    let mistakes = load_workspace(files).mistakes;
    let errors: Vec<_> = mistakes.iter().filter(|mistake| mistake.severity == Severity::Error).collect();
    assert!(errors.is_empty(), "{errors:?}\n{text}");
}
