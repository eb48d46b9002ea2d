//! What a device costs, part by part. Run it with `cargo bench -p fencepost-benches`.

use std::fs;
use std::hint::black_box;
use std::path::Path;

use bumpalo::Bump;
use fencepost_benches::measure;
use fencepost_core::{
    AccessState, Ambient, Attempt, DeviceId, DeviceInput, DeviceWaivers, DocumentReader, Facts, Finding, Observation,
    Packer, RuleSet, Session, SettleContext, SettleInput, SettleSettings, Standing, Verdict, Verdicts, decide, merge,
    unpack,
};
use fencepost_formats::{FileText, JsonDocuments, SecretKey, Workspace, load_workspace};
use fencepost_standin::fleet_document;
use jiff::Timestamp;
use jiff::tz::TimeZone;

const DEVICES: usize = 2_000;

const ACCESS: &str = r#"
[[service]]
id = "mail"
default = "deny"
usual = [{ client = "app" }]

[[access]]
id = "good-device"
services = ["mail"]
needs = 'standing in ("compliant", "on-notice") and device.ownership = "company"'
"#;

fn workspace() -> Workspace {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("workspace");
    let names = ["fencepost.toml", "facts.toml", "groups.toml", "rules/twenty.toml"];
    let files: Vec<FileText> = names
        .iter()
        .map(|name| {
            let text = fs::read_to_string(folder.join(name)).unwrap_or_else(|error| panic!("{name}: {error}"));
            FileText { path: (*name).to_owned(), text }
        })
        .collect();
    load_workspace(
        files.into_iter().chain([FileText { path: "access.toml".to_owned(), text: ACCESS.to_owned() }]).collect(),
    )
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
    measure("reader, of one document", DEVICES, || {
        for document in &fleet {
            arena.reset();
            let mut reader = JsonDocuments::with_secrets(&key);
            black_box(reader.read(document.as_bytes(), rules.layout(), &arena).is_ok());
        }
    });
    let mut reader = JsonDocuments::with_secrets(&key);
    measure("reader", DEVICES, || {
        for document in &fleet {
            arena.reset();
            black_box(reader.read(document.as_bytes(), rules.layout(), &arena).is_ok());
        }
    });
    let arena = Bump::new();
    let facts: Vec<&Facts<'_>> = fleet
        .iter()
        .map(|document| {
            let read = JsonDocuments::with_secrets(&key).read(document.as_bytes(), rules.layout(), &arena);
            let slots = read.map_or(&[][..], |read| read.slots);
            let said =
                Observation { source: "agents", trust: 0, collected: Some(at), fresh_for: None, calendar: None, slots };
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
            let input = DeviceInput { id: "unit", facts, holders: &[], drift: None };
            black_box(rules.evaluate(&input, Session::new(at, &zone, &scratch)));
        }
    });
    let mut packs: Vec<Vec<u8>> = vec![Vec::new(); DEVICES];
    let mut packer = Packer::default();
    measure("pack what the rules read", DEVICES, || {
        for (facts, pack) in facts.iter().zip(&mut packs) {
            pack.clear();
            black_box(packer.pack(facts.observations()[0].slots, rules.layout(), pack));
        }
    });
    let mut scratch = Bump::new();
    measure("unpack", DEVICES, || {
        for pack in &packs {
            scratch.reset();
            black_box(unpack(pack, rules.layout(), &scratch).is_some());
        }
    });
    settling(&rules, &facts, at, &zone);
    deciding(&rules, &facts, at, &zone);
}

/// What each device came to, by the rules.
fn verdicts<'a>(
    rules: &'a RuleSet,
    facts: &[&'a Facts<'a>],
    at: Timestamp,
    zone: &'a TimeZone,
    arena: &'a Bump,
) -> Vec<Verdicts> {
    let judged = facts.iter().map(|facts| {
        rules.evaluate(&DeviceInput { id: "unit", facts, holders: &[], drift: None }, Session::new(at, zone, arena))
    });
    judged.collect()
}

/// Settles devices that were never settled before, and those same devices again.
fn settling<'a>(rules: &'a RuleSet, facts: &[&'a Facts<'a>], at: Timestamp, zone: &'a TimeZone) {
    let (arena, settings, id) = (Bump::new(), SettleSettings::default(), DeviceId::from("unit"));
    let verdicts = verdicts(rules, facts, at, zone, &arena);
    let context = SettleContext { rules: rules.rules(), settings: &settings, at, before: Some(at) };
    let mut scratch = Bump::new();
    let mut settled: Vec<Vec<Finding>> = vec![Vec::new(); facts.len()];
    for (what, later) in [("settle, the first time", false), ("settle again, nothing new", true)] {
        let earlier: Vec<Vec<Finding>> = if later { settled.clone() } else { vec![Vec::new(); facts.len()] };
        measure(what, DEVICES, || {
            for (place, facts) in facts.iter().enumerate() {
                scratch.reset();
                let input = DeviceInput { id: "unit", facts, holders: &[], drift: None };
                let mut evidence_summary =
                    |verdict: &Verdict| rules.evidence_summary(verdict, &input, Session::new(at, zone, &scratch));
                let before = earlier[place].clone();
                let newest = facts.collected();
                let of = SettleInput {
                    device: &id,
                    verdicts: &verdicts[place],
                    newest,
                    has_corrections: false,
                    waivers: &DeviceWaivers::default(),
                };
                settled[place] = context.settle(of, before, &mut evidence_summary).findings;
            }
        });
    }
    let open = settled.iter().map(Vec::len).sum::<usize>();
    println!("{:<34} {:>9.3} a device", "findings", open as f64 / DEVICES as f64);
}

/// Decides one sign-in with each device.
fn deciding<'a>(rules: &'a RuleSet, facts: &[&'a Facts<'a>], at: Timestamp, zone: &'a TimeZone) {
    let mut scratch = Bump::new();
    let standings = [Standing::Compliant, Standing::NonCompliant];
    measure("decide one sign-in", DEVICES, || {
        for (place, facts) in facts.iter().enumerate() {
            scratch.reset();
            let standing = standings[place % 2];
            let ambient = Ambient { standing: Some(standing.as_str()), ..Ambient::default() };
            let input = DeviceInput { id: "unit", facts, holders: &[], drift: None };
            let memberships = rules.memberships_of_device(&input, ambient, Session::new(at, zone, &scratch));
            let state = AccessState { standing: Some(standing), failing: Some(&[]), memberships };
            let sign_in = &rules.access().services()[0].usual[0];
            let attempt = Attempt { input, state, holder: None, service: 0, sign_in };
            black_box(decide(rules, &attempt, Session::new(at, zone, &scratch)));
        }
    });
}
