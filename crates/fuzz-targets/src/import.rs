//! The whole import of a file into a ledger, and an assessment of what came of it: nothing that a file holds stops either.
use std::path::Path;

use fencepost_engine::{AssessOptions, ImportOptions, Importer, Moment, Project, assess};
use fencepost_formats::FileText;
use fencepost_store::Ledger;

const FORMATS: [&str; 6] = ["jsonl", "json", "csv", "plist", "ini", "key-value"];
const RULES: &str = r#"
[[rule]]
id = "a"
groups = ["every-device"]
require = 'every x in software satisfies x.n > limit'
[[rule]]
id = "b"
groups = ["every-device"]
require = 'age(seen) < duration("P1D") or a - b > duration(c)'
"#;

/// Runs the target on one input.
///
/// # Panics
/// If what the target promises does not hold.
pub fn run(bytes: &[u8]) {
    let Some((first, rest)) = bytes.split_first() else { return };
    let format = FORMATS[usize::from(*first) % FORMATS.len()];
    let name = if first & 0x80 != 0 { "device = \"id\"\n" } else { "device_from = \"file-name\"\n" };
    let config = format!("clock = \"stepped\"\n[[source]]\nid = \"s\"\nfiles = [\"x\"]\nformat = \"{format}\"\n{name}");
    let file = |path: &str, text: String| FileText { path: path.to_owned(), text };
    let files = vec![file("fencepost.toml", config), file("rules/r.toml", RULES.to_owned())];
    let folder = std::env::temp_dir().join(format!("fencepost-fuzz-import-{}", std::process::id()));
    let _ = std::fs::create_dir_all(folder.join(".fencepost"));
    let Ok(project) = Project::from_files(Path::new(&folder), files) else { return };
    let mut ledger = Ledger::in_memory().expect("a ledger in memory");
    let at: jiff::Timestamp = "2027-03-01T06:00:00Z".parse().expect("a moment");
    let moment = Moment { as_of: at, wall: at, user: "fuzz".to_owned() };
    let options = ImportOptions { source: Some("s".to_owned()), ..ImportOptions::default() };
    let imported = Importer { project: &project, options: &options, moment: &moment }.stream(&mut ledger, rest);
    if imported.is_ok_and(|imported| imported.new > 0) {
        let assessed = assess(&project, &mut ledger, &moment, AssessOptions::default(), &mut |_, _| {});
        assert!(assessed.is_ok(), "{:?}", assessed.err());
    }
}
