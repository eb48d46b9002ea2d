//! What a device costs, part by part. Run it with `cargo bench -p fencepost-benches`.

use std::fs;
use std::hint::black_box;
use std::path::Path;

use bumpalo::Bump;
use fencepost_benches::measure;
use fencepost_core::{DeviceInput, DocumentReader, Facts, Observation, RuleSet, merge};
use fencepost_formats::{FileText, JsonDocuments, SecretKey, Workspace, load_workspace};
use fencepost_standin::fleet_document;
use jiff::Timestamp;
use jiff::tz::TimeZone;

const DEVICES: usize = 2_000;

fn workspace() -> Workspace {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("workspace");
    let names = ["fencepost.toml", "facts.toml", "groups.toml", "rules/twenty.toml"];
    let files = names
        .iter()
        .map(|name| {
            let text = fs::read_to_string(folder.join(name)).unwrap_or_else(|error| panic!("{name}: {error}"));
            FileText { path: (*name).to_owned(), text }
        })
        .collect();
    load_workspace(files)
}

fn main() {
    let workspace = workspace();
    let (rules, mistakes) = RuleSet::compile(&workspace.rules, &workspace.dictionary, &["person"]);
    let rules = rules.unwrap_or_else(|| panic!("{mistakes:?}"));
    let fleet: Vec<String> = (0..DEVICES as u64).map(|at| fleet_document(at, "parts")).collect();
    let key = SecretKey::new([7; 32]);
    let at: Timestamp = "2027-03-14T06:00:00Z".parse().unwrap_or_default();
    let zone = TimeZone::UTC;
    println!("each of {DEVICES} devices, {} bytes in the mean", fleet.iter().map(String::len).sum::<usize>() / DEVICES);

    measure("serde_json into nothing", DEVICES, || {
        for document in &fleet {
            black_box(serde_json::from_str::<serde::de::IgnoredAny>(document).is_ok());
        }
    });
    let mut arena = Bump::new();
    measure("reader", DEVICES, || {
        for document in &fleet {
            arena.reset();
            let mut reader = JsonDocuments { secrets: Some(&key) };
            black_box(reader.read(document.as_bytes(), rules.layout(), &arena).is_ok());
        }
    });
    let arena = Bump::new();
    let facts: Vec<&Facts<'_>> = fleet
        .iter()
        .map(|document| {
            let read = JsonDocuments { secrets: Some(&key) }.read(document.as_bytes(), rules.layout(), &arena);
            let slots = read.map_or(&[][..], |read| read.slots);
            let said = Observation { source: "agents", trust: 0, collected: Some(at), fresh_for: None, slots };
            let said: &[Observation<'_>] = arena.alloc_slice_copy(&[said]);
            &*arena.alloc(merge(said, std::iter::empty(), rules.layout(), at, &arena))
        })
        .collect();
    // Several times over, as what was just read lies at hand.
    const AGAIN: usize = 8;
    let mut scratch = Bump::new();
    measure("merge", DEVICES * AGAIN, || {
        for facts in facts.iter().flat_map(|facts| [facts; AGAIN]) {
            scratch.reset();
            black_box(merge(facts.observations(), std::iter::empty(), rules.layout(), at, &scratch));
        }
    });
    let mut scratch = Bump::new();
    measure("evaluate", DEVICES * AGAIN, || {
        for facts in facts.iter().flat_map(|facts| [facts; AGAIN]) {
            scratch.reset();
            let input = DeviceInput { id: "unit", facts, holders: &[] };
            black_box(rules.evaluate(&input, at, &zone, &scratch));
        }
    });
}
