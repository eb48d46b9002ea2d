//! An assessment that looks only at what may have changed comes to the same as one that remembers nothing of how it came to what
//! it came to before, whatever was brought in or edited and at moments around every edge.

use std::cell::OnceCell;
use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::time::Duration;

use bumpalo::Bump;
use fencepost_engine::{
    AssessOptions, FiguresPer, FiguresQuery, ForecastEvent, ForecastQuery, ImportOptions, Importer, Kind, ListQuery,
    Moment, Project, Reading, assess, forecast, open_ledger, preview,
};
use fencepost_store::{DeviceRow, EventRow, Ledger, LedgerError, Look, Purpose, Reader, SpellKind};
use jiff::{SignedDuration, Timestamp};
use proptest::prelude::*;
use serde_json::{Value as Json, json};

const CONFIG: &str = r#"
name = "Test"
time_zone = "Europe/Oslo"
clock = "stepped"
holder = "person"
relapse = "2d"

[silence]
grace = "1d"

[[source]]
id = "agent"
files = ["agent-*.jsonl"]
trust = 10
fresh_for = "3d"

[[source]]
id = "list"
files = ["list-*.jsonl"]
trust = 1
fresh_for = "5d"

[[source]]
id = "people"
files = ["people-*.csv"]
format = "csv"
person = "No"
complete = true
[source.fields]
"Unit" = "unit"
"Since" = "since"
"#;

const FACTS: &str = r#"
[facts]
"os.version" = { type = "version", fresh_for = "2d" }
"seen" = { type = "instant", volatile = true }
"scan" = { type = "instant" }
"#;

const GROUPS: &str = r#"
[[group]]
id = "crew"
of = "people"
units = ["ships"]

[[group]]
id = "new-crew"
of = "people"
where = 'age(date and time(since)) < duration("P4D")'

[[group]]
id = "crewed"
held_by = ["crew"]

[[group]]
id = "new-hands"
held_by = ["new-crew"]
where = 'kind = "tablet"'
"#;

const ACCESS: &str = r#"
[[service]]
id = "mail"
default = "deny"
usual = [{ client = "app" }]

[[access]]
id = "good"
services = ["mail"]
people = ["crew"]
needs = 'standing in ("compliant", "on-notice") and age(device.scan) < duration("P6D")'
"#;

/// Findings of what most devices agree on, and of what differs from one of them.
const DRIFT: &str = r#"
[[drift]]
id = "alike"
groups = ["every-device"]
facts = ["kind", "ok", "os.*", "tag.*"]
severity = "low"
grace = "1d"

[[drift]]
id = "as-the-first"
peers = 'kind = "tablet"'
reference = "d0"
except = ["seen", "scan", "person"]
severity = "low"
grace = "2d"
stage = "trial"

[[accepted]]
drift = "alike"
groups = ["new-hands"]
fact = "os.version"
because = "They come as they are."
until = 2027-03-11
"#;

fn rules(edition: usize) -> String {
    let version = ["4.1", "4.2", "5"][edition % 3];
    let stage = ["enforced", "trial"][edition / 3 % 2];
    let rules = [
        ("patched", "every-device", format!("os.version >= version(\"{version}\")"), "2d", "enforced"),
        ("seen-lately", "every-device", "age(seen) <= duration(\"P2DT12H\")".to_owned(), "1d", "enforced"),
        ("scanned", "crewed", "scan > now() - duration(\"P4D\")".to_owned(), "0", "enforced"),
        ("in-season", "every-device", "today() < date(\"2027-03-12\") or ok".to_owned(), "36h", stage),
        ("new-hands-only", "new-hands", "ok = true".to_owned(), "0", "enforced"),
        (
            "apps",
            "every-device",
            "every a in apps satisfies age(date and time(a.at)) < duration(\"P9D\")".to_owned(),
            "0",
            "trial",
        ),
    ];
    // One that comes into force by itself, an exception that ends, and what to do that hangs on the clock.
    let dated = r#"[[rule]]
id = "dated"
groups = ["every-device"]
require = 'kind = "laptop"'
enforced_from = 2027-03-10
grace = "1d"
except = [{ device = "d1", until = 2027-03-09, because = "in dry dock" }, { group = "new-hands" }]
fix_when = [{ when = 'age(seen) < duration("P3D")', say = "restart it", awaiting = true }]
"#;
    let mut rules = rules.to_vec();
    // The same rules in another order, fewer, more (also such as read other paths), and one that covers others.
    match edition / 6 % 6 {
        1 => rules.reverse(),
        2 => drop(rules.remove(0)),
        3 => rules.insert(2, ("more", "crewed", "kind != \"laptop\" or ok".to_owned(), "1d", "enforced")),
        4 => rules.push((
            "tagged",
            "every-device",
            "present(tag.color) or kind = \"laptop\"".to_owned(),
            "0",
            "enforced",
        )),
        5 => rules[3].1 = "crewed",
        _ => {}
    }
    let plain: String = rules
        .iter()
        .map(|(id, group, require, grace, stage)| {
            format!("[[rule]]\nid = \"{id}\"\ngroups = [\"{group}\"]\ngrace = \"{grace}\"\nstage = \"{stage}\"\nrequire = '{require}'\n\n")
        })
        .collect();
    format!("# Edition {edition}.\n{plain}{dated}")
}

/// One thing that happens before an assessment.
#[derive(Clone, Debug)]
enum Step {
    /// A source speaks of some devices: by which, and how old what it says is.
    State {
        list: bool,
        devices: Vec<(usize, u8, i64)>,
    },
    People(Vec<(usize, bool, i64)>),
    Rules(usize),
    Corrections(Vec<(usize, i64)>),
    Waivers(Vec<WaiverStep>),
    /// Devices are retired, and one may be called by another name, which another device may have.
    Devices(Vec<(usize, i64)>, Option<(usize, usize, i64)>),
    Nothing,
}

/// A waiver: for which device, or for a group; of which rules; from how many hours ago, for how many hours; and its clock.
#[derive(Clone, Debug)]
struct WaiverStep {
    device: Option<usize>,
    rules: &'static str,
    ago: i64,
    hours: i64,
    clock: &'static str,
}

impl WaiverStep {
    fn text(&self, number: usize, at: Timestamp) -> String {
        let Self { device, rules, ago, hours, clock } = self;
        let whom = match device {
            Some(device) => format!("devices = \"d{device}\""),
            None => "groups = \"crewed\"".to_owned(),
        };
        let from = at - SignedDuration::from_hours(*ago);
        let until = from + SignedDuration::from_hours(*hours);
        format!(
            "[[waiver]]\nid = \"w{number}\"\n{whom}\nrules = \"{rules}\"\nbecause = \"so\"\napproved_by = \"us\"\n\
             from = {from}\nuntil = {until}\nclock = \"{clock}\"\n\n"
        )
    }
}

/// When the next assessment is.
#[derive(Clone, Debug)]
enum Next {
    /// So many hours later.
    Hours(i64),
    /// At the first edge ahead, and so many microseconds beside it.
    Edge(i64),
}

fn start() -> Timestamp {
    "2027-03-08T06:00:00Z".parse().unwrap()
}

/// A workspace and its ledger.
struct Side {
    folder: tempfile::TempDir,
    how: How,
}

/// Verdicts by device and rule, and standings by device.
#[derive(Default)]
struct Says(BTreeMap<(String, String), &'static str>, BTreeMap<String, &'static str>);

/// How a side assesses.
#[derive(Clone, Copy, PartialEq)]
enum How {
    /// What may have changed.
    Changed,
    /// Everything, having forgotten all that only saves work.
    Forgetful,
    /// Everything, on request.
    Anew,
}

impl Side {
    fn new(how: How) -> Self {
        let side = Self { folder: tempfile::tempdir().unwrap(), how };
        side.write("fencepost.toml", CONFIG);
        side.write("facts.toml", FACTS);
        side.write("groups.toml", GROUPS);
        side.write("access.toml", ACCESS);
        side.write("drift.toml", DRIFT);
        side.write("rules/test.toml", &rules(0));
        side
    }

    fn write(&self, name: &str, text: &str) {
        let path = self.folder.path().join(name);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, text).unwrap();
    }

    fn project(&self) -> Project {
        match Project::open(self.folder.path()) {
            Ok(project) => project,
            Err(fencepost_engine::ProjectError::Mistakes { mistakes, .. }) => panic!("{mistakes:?}"),
            Err(other) => panic!("{other:?}"),
        }
    }

    /// Takes out the renamings that are refused, since both devices live.
    fn take_out_refused(&self) {
        let Ok(text) = fs::read_to_string(self.folder.path().join("devices.toml")) else { return };
        if !self.folder.path().join(".fencepost/ledger.sqlite").exists() {
            return;
        }
        let ledger = open_ledger(&self.project(), Purpose::Read, Duration::ZERO).unwrap();
        let reader = ledger.reader().unwrap();
        let value = |entry: &str, key: &str| {
            let line = entry.lines().find_map(|line| line.strip_prefix(key))?.strip_prefix(" = \"")?;
            Some(line.trim_end_matches('"').to_owned())
        };
        let is_refused = |entry: &&str| match (value(entry, "id"), value(entry, "renamed_to")) {
            (Some(device), Some(to)) => reader.collecting_both(&device, &to).unwrap().is_some(),
            _ => false,
        };
        let kept: String = text.split_inclusive("\n\n").filter(|entry| !is_refused(entry)).collect();
        drop(ledger);
        self.write("devices.toml", &kept);
    }

    fn bring_in(&self, name: &str, text: &str, at: Timestamp) {
        self.take_out_refused();
        self.write(name, text);
        let project = self.project();
        let mut ledger = open_ledger(&project, Purpose::Create, Duration::ZERO).unwrap();
        let path = self.folder.path().join(name);
        Importer {
            project: &project,
            options: &ImportOptions { accept_missing: true, ..ImportOptions::default() },
            moment: &moment(at),
        }
        .file(&mut ledger, &path, &mut |_| {})
        .unwrap();
    }

    fn apply(&self, step: &Step, number: usize, at: Timestamp) {
        match step {
            Step::State { list, devices } => {
                let lines: Vec<String> = devices
                    .iter()
                    .map(|(device, bits, hours)| {
                        document(*device, *bits, at - SignedDuration::from_hours(*hours)).to_string()
                    })
                    .collect();
                let source = if *list { "list" } else { "agent" };
                self.bring_in(&format!("{source}-{number}.jsonl"), &lines.join("\n"), at);
            }
            Step::People(people) => {
                let mut text = "No,Unit,Since\n".to_owned();
                let mut listed = Vec::new();
                for (person, crew, hours) in people {
                    if !listed.contains(person) {
                        listed.push(*person);
                        let unit = if *crew { "ships/tern" } else { "office" };
                        text += &format!("p{person},{unit},{}\n", at - SignedDuration::from_hours(*hours));
                    }
                }
                self.bring_in(&format!("people-{number}.csv"), &text, at);
            }
            Step::Rules(edition) => self.write("rules/test.toml", &rules(*edition)),
            Step::Corrections(all) => {
                let text = all.iter().map(|(device, hours)| {
                    let until = at + SignedDuration::from_hours(*hours);
                    format!("[[correction]]\ndevice = \"d{device}\"\nfact = \"ok\"\nvalue = true\nbecause = \"seen\"\nby = \"us\"\nuntil = {until}\n\n")
                });
                self.write("corrections.toml", &text.collect::<String>());
            }
            Step::Waivers(all) => {
                let text = all.iter().enumerate().map(|(number, waiver)| waiver.text(number, at));
                self.write("waivers.toml", &text.collect::<String>());
            }
            Step::Devices(all, renamed) => {
                let text = all.iter().map(|(device, hours)| {
                    let from = at + SignedDuration::from_hours(*hours);
                    format!("[[device]]\nid = \"d{device}\"\nretired = {from}\nbecause = \"sold\"\n\n")
                });
                let mut text = text.collect::<String>();
                if let Some((device, to, hours)) = renamed
                    && device != to
                    && all.iter().all(|(retired, _)| retired != device)
                {
                    let from = at + SignedDuration::from_hours(*hours);
                    text += &format!(
                        "[[device]]\nid = \"d{device}\"\nrenamed_to = \"d{to}\"\nfrom = {from}\nbecause = \"refit\"\n\n"
                    );
                }
                self.write("devices.toml", &text);
            }
            Step::Nothing => {}
        }
    }

    /// A side of its own that has come as far as this one.
    fn copy(&self) -> Self {
        let copy = Self { folder: tempfile::tempdir().unwrap(), how: How::Changed };
        for name in [
            "fencepost.toml",
            "facts.toml",
            "groups.toml",
            "access.toml",
            "drift.toml",
            "rules/test.toml",
            "corrections.toml",
            "devices.toml",
            "waivers.toml",
        ] {
            if let Ok(text) = fs::read_to_string(self.folder.path().join(name)) {
                copy.write(name, &text);
            }
        }
        fs::create_dir_all(copy.folder.path().join(".fencepost")).unwrap();
        for name in [".fencepost/ledger.sqlite", ".fencepost/key"] {
            fs::copy(self.folder.path().join(name), copy.folder.path().join(name)).unwrap();
        }
        copy
    }

    /// What the last assessment said, rule by rule, and how devices stood.
    fn says(&self, at: Timestamp) -> Says {
        let project = self.project();
        let ledger = open_ledger(&project, Purpose::Read, Duration::ZERO).unwrap();
        let earlier = OnceCell::new();
        let reading = Reading::open(&project, &earlier, &ledger, at, false).unwrap();
        let mut says = Says::default();
        for device in reading.reader.device_names().unwrap() {
            if reading.documents(&device).unwrap().is_empty() {
                continue;
            }
            let report = reading.device(&device).unwrap();
            for verdict in report.verdicts {
                says.0.insert((device.clone(), verdict.rule.id.to_string()), verdict.outcome.as_str());
            }
            if let Some(standing) = report.standing {
                says.1.insert(device, standing.as_str());
            }
        }
        says
    }

    /// Assesses; returns everything that the ledger then says, and the edges ahead.
    fn assess(&self, at: Timestamp) -> (Json, Vec<Timestamp>) {
        self.take_out_refused();
        let project = self.project();
        let mut ledger = open_ledger(&project, Purpose::Create, Duration::ZERO).unwrap();
        if self.how == How::Forgetful {
            ledger.forget_for_tests().unwrap();
        }
        let options = AssessOptions { anew: self.how == How::Anew, workers: Some(2), verdicts: None };
        let assessed = assess(&project, &mut ledger, &moment(at), options, &mut |_, _| {}).unwrap();
        let reader = ledger.reader().unwrap();
        let mut edges: Vec<Timestamp> = Vec::new();
        for device in reader.devices(Look::All).unwrap() {
            edges.extend(reader.assessed(device.number).unwrap().map(|row| row.until));
        }
        edges.retain(|edge| *edge > at && *edge < at + SignedDuration::from_hours(400));
        edges.sort();
        let spells = |kind| {
            let spells = reader.spells(kind, None, None).unwrap();
            spells
                .into_iter()
                .map(|spell| json!([spell.device, spell.subject, spell.value, spell.detail, spell.from_run]))
                .collect::<Vec<_>>()
        };
        let findings = reader.findings(None, None, true).unwrap();
        let findings: Vec<String> = findings.iter().map(|finding| format!("{finding:?}")).collect();
        let mut events = Vec::new();
        let note = |event| {
            events.push(format!("{event:?}"));
            Ok::<_, LedgerError>(())
        };
        reader.each_event(assessed.run, note).unwrap();
        let coming = |device: &DeviceRow| {
            let rows = reader.coming_decisions(device.number).unwrap();
            rows.into_iter().map(|row| format!("{} {row:?}", device.name)).collect::<Vec<_>>()
        };
        let coming: Vec<String> = reader.devices(Look::All).unwrap().iter().flat_map(coming).collect();
        let told = json!({
            "figures": kept_figures(&project, &ledger, at),
            "verdicts": spells(SpellKind::Verdict), "standings": spells(SpellKind::Standing),
            "decisions": spells(SpellKind::Decision), "findings": findings,
            "coming": coming, "events": events, "assessed": format!("{assessed:?}"),
        });
        check_verdicts(&project, &ledger, at);
        (told, edges)
    }
}

/// Returns who has no way into which service, since an access rule denies one: by the decisions that hold, one by one.
fn shut_out(reader: &Reader<'_>) -> BTreeSet<(String, String)> {
    let mut ways: BTreeMap<(String, String), (bool, bool)> = BTreeMap::new();
    for spell in reader.spells(SpellKind::Decision, None, None).unwrap() {
        let key: Json = serde_json::from_str(&spell.subject).unwrap();
        let detail: Json = serde_json::from_str(&spell.detail).unwrap();
        let (Some(person), Some(service)) = (key[0].as_str(), key[1].as_str()) else { continue };
        let (is_open, by_rule) = ways.entry((person.to_owned(), service.to_owned())).or_default();
        *is_open |= spell.value != "deny";
        *by_rule |= spell.value == "deny" && detail["access_rules"] != json!([]);
    }
    ways.into_iter().filter(|(_, (is_open, by_rule))| !is_open && *by_rule).map(|(key, _)| key).collect()
}

const LAST: FiguresQuery = FiguresQuery { most: 1, per: FiguresPer::Assessment };

/// Returns what an assessment kept of its counts, after comparing it with what is counted plainly.
fn kept_figures(project: &Project, ledger: &Ledger, at: Timestamp) -> String {
    let earlier = OnceCell::new();
    let reading = Reading::open(project, &earlier, ledger, at, false).unwrap();
    let history = reading.figures(LAST).unwrap();
    let figures = &history.assessments[0];
    let shut_out = shut_out(&ledger.reader().unwrap());
    let people: BTreeSet<&String> = shut_out.iter().map(|(person, _)| person).collect();
    assert_eq!(figures.shut_out, Some(people.len() as u64), "shut out at {at}");
    let listed = |kind: Kind, columns: &[&str]| {
        let columns: Vec<String> = columns.iter().map(|column| (*column).to_owned()).collect();
        let listing = reading.list(ListQuery { columns: &columns, ..ListQuery::of(kind) }).unwrap().unwrap();
        listing.rows.iter().map(|row| row.unwrap()).collect::<Vec<_>>()
    };
    // Of two devices that became one, it is the latest finding of each subject that counts.
    let overdue = listed(Kind::Findings, &["phase"]).iter().filter(|row| row[0] == "overdue").count();
    assert_eq!(figures.overdue, Some(overdue as u64), "overdue at {at}");
    let mut kept = format!("{history:?}");
    let standings = ["group", "of", "members", "compliant", "on_notice", "unproven", "non_compliant", "waived"];
    for row in listed(Kind::Groups, &standings).iter().filter(|row| row[1] == "devices") {
        let id = row[0].as_str().unwrap();
        let counts = reading.group_history(id, LAST).unwrap()[0].counts.unwrap();
        let [a, b, c, d] = counts.standings;
        assert_eq!(json!([id, "devices", counts.all, a, b, c, d, counts.by_waiver]), json!(row), "group {id} at {at}");
    }
    for row in listed(Kind::Services, &["service", "permit", "limited", "deny"]) {
        let id = row[0].as_str().unwrap();
        let figures = reading.service_history(id, LAST).unwrap()[0].counts.unwrap();
        let counts = figures.counts;
        assert_eq!(json!([id, counts.permit, counts.limited, counts.deny]), json!(row), "service {id} at {at}");
        let of_service = shut_out.iter().filter(|(_, service)| service == id).count();
        assert_eq!(figures.shut_out, of_service as u64, "shut out of {id} at {at}");
        let page = reading.service(id, true).unwrap();
        assert_eq!(page.counts, counts, "the page of {id} at {at}");
        kept.push_str(&format!("{figures:?}"));
    }
    kept
}

/// Works every verdict out from the documents, and compares it with the ledger's.
fn check_verdicts(project: &Project, ledger: &Ledger, at: Timestamp) {
    let earlier = OnceCell::new();
    let reading = Reading::open(project, &earlier, ledger, at, false).unwrap();
    let reader = ledger.reader().unwrap();
    reading.load_comparisons().unwrap();
    let (judge, arena) = (reading.judge(), Bump::new());
    for device in reader.device_names().unwrap() {
        let documents = reading.documents(&device).unwrap();
        let mut expected: Vec<(String, String)> = Vec::new();
        if !documents.is_empty() {
            let judged = judge.device(&device, &documents, &arena).unwrap();
            for verdict in judge.verdicts(&judged.input, &arena).all {
                if !matches!(verdict.outcome.as_str(), "pass" | "not-applicable") {
                    expected.push((
                        project.rules.rules()[verdict.rule].id.to_string(),
                        verdict.outcome.as_str().to_owned(),
                    ));
                }
            }
        }
        expected.sort();
        let kept: Vec<(String, String)> = reader
            .spells(SpellKind::Verdict, Some(&device), None)
            .unwrap()
            .into_iter()
            .map(|spell| (spell.subject, spell.value))
            .collect();
        assert_eq!(kept, expected, "{device} at {at}");
    }
}

fn moment(at: Timestamp) -> Moment {
    Moment { as_of: at, wall: start(), user: "tester".to_owned() }
}

fn document(device: usize, bits: u8, collected: Timestamp) -> Json {
    let hours = |hours: i64| (collected - SignedDuration::from_hours(hours)).to_string();
    let mut document = json!({
        "device": format!("d{device}"), "collected_at": collected.to_string(), "person": format!("p{}", bits % 3),
        "kind": if bits & 1 == 0 { "tablet" } else { "laptop" }, "ok": bits & 2 == 0,
        "os": { "version": (["4.0", "4.1", "4.2.1", "5"][usize::from(bits >> 2 & 3)]) },
        "seen": hours(i64::from(bits & 7) * 5), "scan": hours(i64::from(bits >> 3) * 3),
        "apps": [{ "at": hours(i64::from(bits)) }, { "at": hours(1) }],
    });
    if bits & 0x70 == 0x70 {
        document.as_object_mut().unwrap().remove("ok");
    }
    document
}

fn steps() -> impl Strategy<Value = (Step, Next)> {
    let devices = prop::collection::btree_map(0usize..4, (any::<u8>(), 0i64..30), 1..4);
    let few = prop::collection::btree_map(0usize..4, 1i64..90, 0..3);
    let rules = vec!["patched", "seen-lately", "scanned", "in-season", "dated", "silence", "uncovered"];
    let waiver = (
        prop::option::of(0usize..4),
        prop::sample::select(rules),
        -40i64..40,
        1i64..120,
        prop::sample::select(vec!["keep", "afresh"]),
    );
    let waivers = waiver.prop_map(|(device, rules, ago, hours, clock)| WaiverStep { device, rules, ago, hours, clock });
    let step = prop_oneof![
        3 => prop::collection::vec(waivers, 0..4).prop_map(Step::Waivers),
        4 => (any::<bool>(), devices).prop_map(|(list, devices)| {
            let devices = devices.into_iter().map(|(device, (bits, hours))| (device, bits, hours)).collect();
            Step::State { list, devices }
        }),
        1 => prop::collection::vec((0usize..3, any::<bool>(), 0i64..120), 1..4).prop_map(Step::People),
        2 => (0usize..36).prop_map(Step::Rules),
        1 => few.clone().prop_map(|few| Step::Corrections(few.into_iter().collect())),
        1 => (few, prop::option::of((0usize..4, 0usize..6, -9i64..30)))
            .prop_map(|(few, renamed)| Step::Devices(few.into_iter().collect(), renamed)),
        3 => Just(Step::Nothing),
    ];
    let next =
        prop_oneof![(1i64..60).prop_map(Next::Hours), prop::sample::select(vec![-1i64, 0, 1]).prop_map(Next::Edge)];
    (step, next)
}

/// What a preview of edited rules foresees is what comes of assessing by the old ones and by the new ones, and it keeps nothing.
fn foreseen(edited: &Side, before: &Side, at: Timestamp) -> Result<(), TestCaseError> {
    let file = edited.folder.path().join(".fencepost/ledger.sqlite");
    let kept = fs::read(&file).unwrap();
    let project = edited.project();
    let candidate = project.candidate(project.files.clone()).unwrap();
    let found = {
        let ledger = open_ledger(&project, Purpose::Create, Duration::ZERO).unwrap();
        preview(&project, &candidate, &ledger, &moment(at)).unwrap()
    };
    prop_assert!(kept == fs::read(&file).unwrap(), "a preview wrote something");
    let after = edited.copy();
    for side in [before, &after] {
        side.assess(at);
    }
    let [before, after] = [before, &after].map(|side| side.says(at));
    let mut expected: Vec<(String, String, Option<&str>, Option<&str>)> = Vec::new();
    for key in before.0.keys().chain(after.0.keys()).collect::<std::collections::BTreeSet<_>>() {
        let [was, is] = [&before, &after].map(|says| says.0.get(key).copied());
        let quiet = |word: Option<&str>| word.is_none_or(|word| word == "not-applicable");
        if was != is && !(quiet(was) && quiet(is)) {
            expected.push((key.1.clone(), key.0.clone(), was, is));
        }
    }
    expected.sort();
    let flips = found.verdicts.iter().filter(|flips| flips.before != flips.after).flat_map(|flips| {
        flips.devices.iter().map(|device| (flips.rule.clone(), device.clone(), flips.before, flips.after))
    });
    let mut flips: Vec<_> = flips.collect();
    flips.sort();
    prop_assert_eq!(flips, expected, "verdicts at {}", at);
    let stands = |says: &Says, device: &String| says.1.get(device).copied();
    let otherwise = after.1.keys().filter(|device| stands(&before, device) != stands(&after, device));
    let otherwise: Vec<&String> = otherwise.collect();
    prop_assert_eq!(
        found.standings.iter().map(|flip| &flip.device).collect::<Vec<_>>(),
        otherwise,
        "standings at {}",
        at
    );
    Ok(())
}

/// What happened at an assessment, by kind: the findings that opened, closed and fell due, and the sign-ins that were lost and
/// regained.
type Happened = BTreeSet<(&'static str, String, String)>;

/// What an assessment left: decisions by device and sign-in, and findings that are overdue, as device and rule.
struct Left {
    decisions: BTreeMap<(String, String), String>,
    overdue: BTreeSet<(String, String)>,
}

impl Side {
    /// Returns the decisions about sign-ins, and the findings that are overdue, as the last assessment left them.
    fn left(&self, at: Timestamp) -> Left {
        let project = self.project();
        let ledger = open_ledger(&project, Purpose::Read, Duration::ZERO).unwrap();
        let reader = ledger.reader().unwrap();
        let decisions = reader.spells(SpellKind::Decision, None, None).unwrap();
        let decisions = decisions.into_iter().map(|spell| ((spell.device, spell.subject), spell.value)).collect();
        let earlier = OnceCell::new();
        let reading = Reading::open(&project, &earlier, &ledger, at, false).unwrap();
        let overdue = reading.findings(None, false).unwrap().into_values().flatten();
        let overdue = overdue.filter(|finding| finding.clock.is_overdue(at));
        let overdue =
            overdue.map(|finding| (finding.device.to_string(), finding.subject.as_str().to_owned())).collect();
        Left { decisions, overdue }
    }

    /// Assesses, and returns what happened that was not so at `before`.
    fn happened(&self, before: Timestamp, at: Timestamp) -> Happened {
        let Left { decisions: decided, overdue: was_overdue } = self.left(before);
        let project = self.project();
        let mut ledger = open_ledger(&project, Purpose::Create, Duration::ZERO).unwrap();
        let assessed = assess(&project, &mut ledger, &moment(at), AssessOptions::default(), &mut |_, _| {}).unwrap();
        let mut happened = Happened::new();
        let run = assessed.run;
        let note = |event: EventRow| {
            let kind = match event.what.as_str() {
                "opened" | "came-back" => "opening",
                "closed" => "closing",
                _ => return Ok::<_, LedgerError>(()),
            };
            happened.insert((kind, event.device, event.finding.unwrap().subject));
            Ok(())
        };
        ledger.reader().unwrap().each_event(run, note).unwrap();
        drop(ledger);
        let Left { decisions, overdue } = self.left(at);
        let due = overdue.difference(&was_overdue).map(|(device, rule)| ("due", device.clone(), rule.clone()));
        happened.extend(due);
        for key in decided.keys().chain(decisions.keys()) {
            let [was, is] = [&decided, &decisions].map(|all| all.get(key).map_or("deny", String::as_str));
            if was != is {
                let kind = if is == "deny" { "losing" } else { "returning" };
                happened.insert((kind, key.0.clone(), key.1.clone()));
            }
        }
        happened
    }
}

/// What a forecast says of the days to come is what the assessments of those days say if nothing comes in; between the moments that it
/// names nothing happens. It keeps nothing.
fn comes_as_foretold(side: &Side, at: Timestamp, between: i64) -> Result<(), TestCaseError> {
    let file = side.folder.path().join(".fencepost/ledger.sqlite");
    let kept = fs::read(&file).unwrap();
    let project = side.project();
    let told = {
        let ledger = open_ledger(&project, Purpose::Create, Duration::ZERO).unwrap();
        forecast(&project, &ledger, &moment(at), &ForecastQuery { days: 9, devices: None, endings_only: false })
            .unwrap()
    };
    prop_assert!(kept == fs::read(&file).unwrap(), "a forecast wrote something");
    prop_assert_eq!(told.unsteady, 0);
    let mut expected: BTreeMap<Timestamp, Happened> = BTreeMap::new();
    for entry in told.entries.iter() {
        let entry = entry.unwrap();
        let (kind, subject) = match &entry.what {
            ForecastEvent::Opening { rule, .. } => ("opening", rule.clone()),
            ForecastEvent::Closing { rule, .. } => ("closing", rule.clone()),
            ForecastEvent::Due { rule } => ("due", rule.clone()),
            ForecastEvent::Losing(it) => ("losing", json!([it.person, it.service, it.client]).to_string()),
            ForecastEvent::Returning(it) => ("returning", json!([it.person, it.service, it.client]).to_string()),
            ForecastEvent::Stale { .. } | ForecastEvent::Action(_) | ForecastEvent::Ending(_) => continue,
        };
        expected.entry(entry.at).or_default().insert((kind, entry.device.unwrap(), subject));
    }
    let then = side.copy();
    then.happened(at, at);
    let mut last = at;
    for (next, expected) in expected {
        // A second before it, and somewhere on the way there.
        for at in [last + SignedDuration::from_secs(between), next - SignedDuration::from_secs(1)] {
            if at > last && at < next {
                prop_assert_eq!(then.happened(last, at), Happened::new(), "between {} and {}, at {}", last, next, at);
                last = at;
            }
        }
        prop_assert_eq!(then.happened(last, next), expected, "at {}", next);
        last = next;
    }
    Ok(())
}

/// A case takes a second or two; more of them are asked for in the environment.
fn cases() -> u32 {
    std::env::var("PROPTEST_CASES").ok().and_then(|cases| cases.parse().ok()).unwrap_or(12)
}

proptest! {
    #![proptest_config(ProptestConfig { cases: cases(), failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn looking_at_what_changed_is_looking_at_everything(steps in prop::collection::vec(steps(), 4..14)) {
        let sides = [How::Changed, How::Forgetful, How::Anew].map(Side::new);
        let first = Step::State { list: false, devices: vec![(0, 9, 1), (1, 78, 20), (2, 131, 2)] };
        let mut at = start();
        for side in &sides {
            side.apply(&first, 0, at);
            side.assess(at);
        }
        let mut edges: Vec<Timestamp> = Vec::new();
        for (number, (step, next)) in steps.iter().enumerate() {
            let later = match next {
                Next::Hours(hours) => at + SignedDuration::from_hours(*hours),
                Next::Edge(beside) => match edges.first() {
                    Some(edge) => *edge + SignedDuration::from_micros(*beside),
                    None => at + SignedDuration::from_hours(7),
                },
            };
            at = later.max(at + SignedDuration::from_micros(1));
            let before = matches!(step, Step::Rules(_) | Step::Waivers(_)).then(|| sides[0].copy());
            sides.iter().for_each(|side| side.apply(step, number + 1, at));
            if let Some(before) = before {
                foreseen(&sides[0], &before, at)?;
            }
            let [changed, everything, anew] = [0, 1, 2].map(|which| sides[which].assess(at));
            for (part, expected) in everything.0.as_object().unwrap() {
                prop_assert_eq!(&changed.0[part], expected, "{} after step {} at {}", part, number, at);
                prop_assert_eq!(&anew.0[part], expected, "{} anew, after step {} at {}", part, number, at);
            }
            edges = changed.1;
        }
    }

    #[test]
    fn what_is_foretold_comes(
        steps in prop::collection::vec(steps(), 1..6),
        between in 1i64..90_000,
    ) {
        let side = Side::new(How::Changed);
        let first = Step::State { list: false, devices: vec![(0, 9, 1), (1, 78, 20), (2, 131, 2)] };
        let mut at = start();
        side.apply(&first, 0, at);
        side.assess(at);
        for (number, (step, next)) in steps.iter().enumerate() {
            // That a device will be called otherwise is not foretold.
            let step = match step {
                Step::Devices(retired, _) => Step::Devices(retired.clone(), None),
                other => other.clone(),
            };
            at += SignedDuration::from_hours(match next {
                Next::Hours(hours) => *hours,
                Next::Edge(_) => 7,
            });
            side.apply(&step, number + 1, at);
            if number % 2 == 0 {
                side.assess(at);
            }
        }
        comes_as_foretold(&side, at, between)?;
    }
}

#[test]
fn nothing_is_evaluated_when_nothing_changed() {
    let side = Side::new(How::Changed);
    let all = (0..4).map(|device| (device, 64, 1)).collect();
    side.apply(&Step::State { list: false, devices: all }, 0, start());
    let looked_at = |at: Timestamp| {
        let project = side.project();
        let mut ledger = open_ledger(&project, Purpose::Create, Duration::ZERO).unwrap();
        let mut most = 0;
        assess(&project, &mut ledger, &moment(at), AssessOptions::default(), &mut |_, of| most = of).unwrap();
        most
    };
    assert_eq!(looked_at(start()), 4);
    assert_eq!(looked_at(start() + SignedDuration::from_mins(1)), 0);
    let one = Step::State { list: false, devices: vec![(2, 65, 0)] };
    side.apply(&one, 1, start() + SignedDuration::from_mins(2));
    assert_eq!(looked_at(start() + SignedDuration::from_mins(2)), 1);
    // Here midnight is an edge of every device, since a rule asks for the day.
    assert_eq!(looked_at("2027-03-08T22:59:59Z".parse().unwrap()), 0);
    assert_eq!(looked_at("2027-03-08T23:00:00Z".parse().unwrap()), 4);
}

#[test]
fn what_is_listed_of_somebody_counts_for_a_device_that_comes_to_them_by_time_alone() {
    let sides = [How::Changed, How::Forgetful].map(Side::new);
    // A list names p1 for d1, which is believed once what the device itself said has grown old.
    let steps = [
        (0, Step::State { list: false, devices: vec![(1, 78, 20)] }),
        (24, Step::Rules(0)),
        (41, Step::State { list: true, devices: vec![(1, 67, 0)] }),
        (47, Step::People(vec![(1, true, 79)])),
    ];
    for (number, (hours, step)) in steps.iter().enumerate() {
        let at = start() + SignedDuration::from_hours(*hours);
        sides.iter().for_each(|side| side.apply(step, number, at));
        let [changed, everything] = [0, 1].map(|which| sides[which].assess(at).0);
        assert_eq!(changed, everything, "after step {number}");
    }
}

#[test]
fn devices_that_became_one_are_counted_once() {
    let side = Side::new(How::Changed);
    let none = || Step::Waivers(Vec::new());
    let steps = [
        (0, Step::State { list: false, devices: vec![(0, 9, 1), (1, 78, 20), (2, 131, 2)] }),
        (13, none()),
        (53, none()),
        (54, Step::Devices(Vec::new(), Some((1, 0, 0)))),
        (111, Step::State { list: false, devices: vec![(0, 0, 12)] }),
    ];
    for (number, (hours, step)) in steps.iter().enumerate() {
        let at = start() + SignedDuration::from_hours(*hours);
        side.apply(step, number, at);
        side.assess(at);
    }
}
