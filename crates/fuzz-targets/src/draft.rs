//! Drafts of sources: whatever a file holds, the draft is a workspace file without mistakes of form.

use std::collections::HashSet;

use fencepost_core::{Dictionary, Severity};
use fencepost_formats::{DraftFor, FileText, add_facts, draft_source, load_workspace};
use jiff::Timestamp;

/// Runs the target on one input.
///
/// # Panics
/// If what the target promises does not hold.
pub fn run(bytes: &[u8]) {
    let dictionary = Dictionary::default();
    let zone = jiff::tz::TimeZone::UTC;
    let nobody = HashSet::new();
    let context = DraftFor {
        path: "feeds/x-1.csv",
        dictionary: &dictionary,
        zone: &zone,
        taken: &[],
        now: Timestamp::MAX,
        devices: &nobody,
        holder: None,
        holders: &nobody,
        people: &[],
    };
    let Ok(draft) = draft_source(bytes, true, &context) else { return };
    let facts = add_facts("", &draft.facts).expect("facts that are drafted are TOML");
    let text = draft.text();
    let files = vec![
        FileText { path: "fencepost.toml".to_owned(), text: text.clone() },
        FileText { path: "facts.toml".to_owned(), text: facts },
    ];
    let mistakes = load_workspace(files).mistakes;
    let errors: Vec<_> = mistakes.iter().filter(|mistake| mistake.severity == Severity::Error).collect();
    assert!(errors.is_empty(), "{errors:?}\n{text}");
}
