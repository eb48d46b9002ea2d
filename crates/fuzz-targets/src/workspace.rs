//! Workspace files: any text is read or refused, with places inside it.
use fencepost_core::RuleSet;
use fencepost_formats::{FileText, load_workspace};

/// Runs the target on one input.
///
/// # Panics
/// If what the target promises does not hold.
pub fn run(bytes: &[u8]) {
    let Some((first, rest)) = bytes.split_first() else { return };
    let Ok(input) = std::str::from_utf8(rest) else { return };
    const NAMES: [&str; 10] = [
        "fencepost.toml",
        "facts.toml",
        "groups.toml",
        "access.toml",
        "corrections.toml",
        "devices.toml",
        "rules/r.toml",
        "baselines/b.toml",
        "controls.toml",
        "examples/e.toml",
    ];
    let path = NAMES[usize::from(*first) % NAMES.len()].to_owned();
    let text = input.to_owned();
    let workspace = load_workspace(vec![FileText { path, text }]);
    let (_, meaning) = RuleSet::compile(&workspace.rules, &workspace.dictionary, &[]);
    for mistake in workspace.mistakes.iter().chain(&meaning) {
        if let Some(span) = &mistake.span {
            assert!(span.range.start <= span.range.end && span.range.end <= input.len(), "{mistake:?}");
        }
    }
}
