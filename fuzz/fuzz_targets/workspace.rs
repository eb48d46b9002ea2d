//! Workspace files: any text is read or refused, with places inside it.
#![no_main]

use fencepost_core::RuleSet;
use fencepost_formats::{FileText, load_workspace};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|input: (u8, &str)| {
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
    let path = NAMES[usize::from(input.0) % NAMES.len()].to_owned();
    let text = input.1.to_owned();
    let workspace = load_workspace(vec![FileText { path, text }]);
    let (_, meaning) = RuleSet::compile(&workspace.rules, &workspace.dictionary, &[]);
    for mistake in workspace.mistakes.iter().chain(&meaning) {
        if let Some(span) = &mistake.span {
            assert!(span.range.start <= span.range.end && span.range.end <= input.1.len(), "{mistake:?}");
        }
    }
});
