//! The use cases on a small fleet, through the engine alone: what is admitted, what is told of it, and what follows.

use std::cell::OnceCell;
use std::path::Path;

use fencepost_core::{FindingEvent, Standing};
use fencepost_engine::{
    AccessQuery, AssessOptions, Assessed, EngineError, ImportOptions, Imported, Importer, Kind, LinePhase, ListQuery,
    Moment, Project, Reading, What, assess, preview,
};
use fencepost_formats::FileText;
use fencepost_store::Ledger;
use jiff::Timestamp;
use serde_json::{Value as Json, json};
use tempfile::TempDir;

const CONFIG: &str = r#"
time_zone = "UTC"
clock = "stepped"
holder = "person"
relapse = "2d"

[silence]
grace = "2d"

[[source]]
id = "agent"
files = ["agent-*.jsonl"]
trust = 10
fresh_for = "3d"

[[source]]
id = "list"
files = ["list-*.csv"]
format = "csv"
device = "Id"
collected = "Seen"
complete = true
[source.fields]
"Site" = "site"
"#;

const RULES: &str = r#"
[[rule]]
id = "encrypted"
groups = ["every-device"]
require = "disk.encrypted"
grace = "1d"
severity = "high"

[[rule]]
id = "patched"
groups = ["every-device"]
require = 'os.version >= version("5")'
grace = "0"
"#;

const ACCESS: &str = r#"
[[service]]
id = "mail"
title = "Mail"
default = "deny"
usual = [{ client = "app" }]

[[access]]
id = "in-order"
services = ["mail"]
needs = 'standing in ("compliant", "on-notice")'
"#;

fn moment(text: &str) -> Timestamp {
    text.parse().expect("a moment")
}

fn day(day: u8) -> String {
    format!("2027-03-{day:02}T06:00:00Z")
}

/// A workspace whose ledger lies in memory.
struct Bench {
    folder: TempDir,
    files: Vec<(String, String)>,
    ledger: Ledger,
}

impl Bench {
    fn new() -> Self {
        let file = |name: &str, text: &str| (name.to_owned(), text.to_owned());
        let files = vec![
            file("fencepost.toml", CONFIG),
            file("facts.toml", "[facts]\n\"os.version\" = { type = \"version\" }\n"),
            file("access.toml", ACCESS),
            file("rules/test.toml", RULES),
        ];
        let folder = tempfile::tempdir().expect("a folder");
        std::fs::create_dir_all(folder.path().join(".fencepost")).expect("a folder");
        Self { folder, files, ledger: Ledger::in_memory().expect("a ledger") }
    }

    fn with(&self, name: &str, text: &str) -> Project {
        let others = self.files.iter().filter(|(path, _)| path != name);
        let mut files: Vec<FileText> =
            others.map(|(path, text)| FileText { path: path.clone(), text: text.clone() }).collect();
        files.push(FileText { path: name.to_owned(), text: text.to_owned() });
        Project::from_files(Path::new(self.folder.path()), files).unwrap_or_else(|error| panic!("{error:?}"))
    }

    fn edit(&mut self, name: &str, text: &str) {
        self.files.retain(|(path, _)| path != name);
        self.files.push((name.to_owned(), text.to_owned()));
    }

    fn project(&self) -> Project {
        let (name, text) = self.files.last().expect("there are files");
        self.with(name, text)
    }

    fn moment(at: &str) -> Moment {
        Moment { as_of: moment(at), wall: moment(at), user: "tester".to_owned() }
    }

    fn import(&mut self, source: &str, text: &str, at: &str) -> Result<Imported, EngineError> {
        let options = ImportOptions { source: Some(source.to_owned()), ..ImportOptions::default() };
        Importer { project: &self.project(), options: &options, moment: &Self::moment(at) }
            .stream(&mut self.ledger, text.as_bytes())
    }

    fn assess(&mut self, at: &str) -> Assessed {
        self.try_assess(at).unwrap_or_else(|error| panic!("{at}: {error}"))
    }

    fn try_assess(&mut self, at: &str) -> Result<Assessed, EngineError> {
        assess(&self.project(), &mut self.ledger, &Self::moment(at), AssessOptions::default(), &mut |_, _| {})
    }

    /// Imports what the agent says of devices, and assesses.
    fn morning(&mut self, at: &str, devices: &[(&str, bool, &str)]) -> Assessed {
        let lines: String = devices.iter().map(|(id, encrypted, version)| agent(id, at, *encrypted, version)).collect();
        self.import("agent", &lines, at).expect("it is imported");
        self.assess(at)
    }

    fn read<T>(&self, at: &str, ask: impl FnOnce(&Reading<'_>) -> T) -> T {
        let (project, earlier) = (self.project(), OnceCell::new());
        ask(&Reading::open(&project, &earlier, &self.ledger, moment(at), false).expect("it can be read"))
    }

    fn list(&self, at: &str, query: ListQuery<'_>) -> (Vec<String>, Vec<Vec<Json>>) {
        self.read(at, |reading| {
            let listing = reading.list(query).expect("it can be read").expect("the condition is right");
            (listing.columns.clone(), listing.rows.iter().map(|row| row.expect("a row")).collect())
        })
    }
}

/// Everything of a kind, in its usual columns and order.
fn all(kind: Kind) -> ListQuery<'static> {
    ListQuery { kind, filter: None, columns: &[], sort: None, by: None }
}

/// What the agent says of a device, as a line.
fn agent(id: &str, at: &str, encrypted: bool, version: &str) -> String {
    let said = json!({
        "device": id, "collected_at": at, "disk": { "encrypted": encrypted }, "os": { "version": version },
        "person": format!("p-{id}"), "tags": ["all", id],
    });
    format!("{said}\n")
}

/// A complete list of devices, made on a day.
fn listed(number: u8, ids: &[impl AsRef<str>]) -> String {
    let rows: String = ids.iter().map(|id| format!("{},x,{}\n", id.as_ref(), day(number))).collect();
    format!("Id,Site,Seen\n{rows}")
}

fn lines(list: &fencepost_engine::Spool<fencepost_engine::FindingLine>) -> Vec<(String, String, LinePhase)> {
    list.iter().map(|line| line.expect("a line")).map(|line| (line.device, line.rule, line.phase)).collect()
}

#[test]
fn a_record_is_new_changed_unchanged_or_older_and_a_bad_one_is_set_aside_with_its_line() {
    let mut bench = Bench::new();
    let first = bench.import("agent", &(agent("a", &day(2), true, "5") + &agent("b", &day(2), true, "5")), &day(2));
    let first = first.unwrap();
    assert_eq!((first.records, first.listed, first.new, first.changed), (2, 2, 2, 0));
    let text = agent("a", &day(3), false, "5")
        + &agent("b", &day(3), true, "5")
        + "{\"device\":\n"
        + &agent("c", &day(9), true, "5");
    let second = bench.import("agent", &text, &day(3)).unwrap();
    assert_eq!((second.new, second.changed, second.unchanged), (0, 1, 1));
    let set_aside: Vec<u64> = second.rejects.first().iter().map(|reject| reject.line as u64).collect();
    // The third line is no document; the fourth was collected in the future.
    assert_eq!(set_aside, [3, 4], "{:?}", second.rejects.first());
    let late = bench.import("agent", &agent("a", &day(1), true, "4"), &day(4)).unwrap();
    assert_eq!((late.older, late.changed), (1, 0));
    // What came late is history, and not what is known now.
    bench.assess(&day(4));
    assert_eq!(bench.read(&day(4), |reading| reading.device("a").unwrap().collected), Some(moment(&day(3))));
}

#[test]
fn a_device_that_a_complete_list_leaves_out_is_absent_until_it_is_listed_again() {
    let mut bench = Bench::new();
    let ids: Vec<String> = (0..20).map(|n| format!("d{n:02}")).collect();
    bench.import("list", &listed(2, &ids), &day(2)).unwrap();
    bench.assess(&day(2));
    let gone = bench.import("list", &listed(3, &ids[..19]), &day(3)).unwrap();
    assert_eq!((gone.missing, gone.kept_missing), (1, 0));
    bench.assess(&day(3));
    let columns = ["device".to_owned(), "absent".to_owned()];
    let absent = |bench: &Bench, at: &str| bench.list(at, ListQuery { columns: &columns, ..all(Kind::Devices) }).1;
    assert_eq!(absent(&bench, &day(3))[19], [json!("d19"), json!("list")]);
    bench.import("list", &listed(4, &ids), &day(4)).unwrap();
    bench.assess(&day(4));
    assert_eq!(absent(&bench, &day(4))[19], [json!("d19"), Json::Null]);
    let happened = bench.read(&day(4), |reading| reading.history("d19").unwrap().happenings);
    let told: Vec<&What> = happened.iter().map(|happening| &happening.what).collect();
    assert!(told.contains(&&What::Absent { source: "list".into() }), "{told:?}");
    assert!(told.contains(&&What::ListedAgain { source: "list".into() }), "{told:?}");
}

#[test]
fn most_of_a_list_missing_at_once_is_not_believed_unless_told_to() {
    let mut bench = Bench::new();
    let all: Vec<String> = (0..20).map(|n| format!("d{n}")).collect();
    bench.import("list", &listed(2, &all), &day(2)).unwrap();
    let cut = bench.import("list", &listed(3, &["d1"]), &day(3)).unwrap();
    assert_eq!((cut.missing, cut.kept_missing), (0, 19));
    assert!(cut.kept_because.is_some());
    let options = ImportOptions { source: Some("list".into()), accept_missing: true, ..ImportOptions::default() };
    let believed = Importer { project: &bench.project(), options: &options, moment: &Bench::moment(&day(4)) }
        .stream(&mut bench.ledger, listed(3, &["d1"]).as_bytes());
    assert_eq!(believed.unwrap().missing, 19);
}

#[test]
fn findings_open_fall_due_close_and_relapse_with_their_old_clock() {
    let mut bench = Bench::new();
    let first = bench.morning(&day(1), &[("a", false, "5"), ("b", true, "4")]);
    let opened = [("a", "encrypted", LinePhase::Open), ("b", "patched", LinePhase::Overdue)];
    let opened = opened.map(|(device, rule, phase)| (device.to_owned(), rule.to_owned(), phase));
    assert_eq!(lines(&first.opened), opened);
    let second = bench.morning(&day(2), &[("a", false, "5"), ("b", true, "5")]);
    assert_eq!(lines(&second.overdue), [("a".into(), "encrypted".into(), LinePhase::Overdue)]);
    assert_eq!(lines(&second.closed), [("b".into(), "patched".into(), LinePhase::Closed)]);
    let third = bench.morning(&day(3), &[("a", true, "5"), ("b", true, "4")]);
    let relapsed = third.opened.first().unwrap().unwrap();
    assert_eq!((relapsed.how.as_deref(), relapsed.opened), (Some("relapsed"), moment(&day(1))));
    let told = bench.read(&day(3), |reading| reading.history("a").unwrap().happenings);
    let findings: Vec<String> = told
        .iter()
        .filter_map(|happening| match &happening.what {
            What::Finding(change) => {
                let how = match &change.event {
                    FindingEvent::Closed(reason) => format!(" {}", reason.as_str()),
                    _ => String::new(),
                };
                Some(format!("{} {} {}{how}", happening.at, change.event.as_str(), change.subject.as_str()))
            }
            _ => None,
        })
        .collect();
    let at = |number| moment(&day(number));
    let expected = [
        format!("{} opened encrypted", at(1)),
        format!("{} fell-due encrypted", at(2)),
        format!("{} closed encrypted fixed", at(3)),
    ];
    assert_eq!(findings, expected);
}

#[test]
fn an_assessment_stands_where_nothing_is_new_and_never_goes_back() {
    let mut bench = Bench::new();
    let first = bench.morning(&day(2), &[("a", true, "5")]);
    let again = bench.assess(&day(2));
    assert!(again.existing && again.number == first.number);
    let refused = bench.try_assess(&day(1)).unwrap_err().to_string();
    assert!(refused.contains("never go back in time"), "{refused}");
    let empty = Bench::new().try_assess(&day(1)).unwrap_err().to_string();
    assert_eq!(empty, "there is no device to assess");
}

#[test]
fn a_retired_device_closes_its_findings_and_a_new_life_begins_afresh() {
    let mut bench = Bench::new();
    bench.morning(&day(1), &[("a", false, "5"), ("b", true, "5")]);
    bench.edit("devices.toml", "[[device]]\nid = \"a\"\nretired = 2027-03-02T00:00:00Z\nbecause = \"sold\"\n");
    let retired = bench.assess(&day(2));
    let closed = retired.closed.first().unwrap().unwrap();
    assert_eq!((closed.device.as_str(), closed.how.as_deref(), retired.devices.total), ("a", Some("retired"), 1));
    assert_eq!(
        bench.read(&day(2), |reading| reading.device("a").unwrap().retired.map(|(_, why)| why)),
        Some("sold".into())
    );
    let back = bench.morning(&day(3), &[("a", false, "5")]);
    let opened = back.opened.first().unwrap().unwrap();
    assert_eq!((opened.opened, opened.how, back.devices.total), (moment(&day(3)), None, 2));
}

#[test]
fn a_renamed_device_keeps_its_findings_and_answers_to_both_names() {
    let mut bench = Bench::new();
    bench.morning(&day(1), &[("a", false, "5"), ("b", true, "5")]);
    bench.edit(
        "devices.toml",
        "[[device]]\nid = \"a\"\nrenamed_to = \"z\"\nfrom = 2027-03-02T00:00:00Z\nbecause = \"refit\"\n",
    );
    let renamed = bench.assess(&day(2));
    assert_eq!((lines(&renamed.opened), lines(&renamed.closed)), (Vec::new(), Vec::new()));
    for name in ["a", "z"] {
        let report = bench.read(&day(2), |reading| reading.device(name).unwrap());
        assert_eq!((report.device.as_str(), report.former_names), ("z", vec!["a".to_owned()]));
        assert_eq!(report.findings[0].clock.opened, moment(&day(1)));
    }
}

#[test]
fn lists_filter_sort_count_and_name_what_they_do_not_have() {
    let mut bench = Bench::new();
    bench.morning(&day(1), &[("a", false, "4"), ("b", true, "5"), ("c", true, "10")]);
    let at = day(1);
    let columns = ["device".to_owned(), "os.version".to_owned()];
    let devices = |filter, sort| {
        let (_, rows) = bench.list(&at, ListQuery { columns: &columns, filter, sort, ..all(Kind::Devices) });
        rows.iter().map(|row| row[0].as_str().unwrap().to_owned()).collect::<Vec<_>>().join(" ")
    };
    assert_eq!(devices(None, None), "a b c");
    assert_eq!(devices(Some("os.version >= version(\"5\")"), Some("-device")), "c b");
    assert_eq!(devices(Some("standing = \"non-compliant\""), None), "a");
    let (columns, rows) = bench.list(&at, ListQuery { by: Some("tags"), ..all(Kind::Devices) });
    assert_eq!(columns[..3], ["tags", "count", "share"]);
    // A row counts for each item of a list, and shares are of the rows.
    assert_eq!(rows[0][..3], [json!("all"), json!(3), json!(100)]);
    assert_eq!(rows.len(), 4);
    let (_, findings) = bench.list(&at, ListQuery { filter: Some("phase = \"overdue\""), ..all(Kind::Findings) });
    assert_eq!(findings.len(), 1);
    assert_eq!(findings[0][..3], [json!("a"), json!("patched"), json!("overdue")]);
    bench.read(&at, |reading| {
        let columns = ["pss".to_owned()];
        let wrong = ListQuery { columns: &columns, ..all(Kind::Rules) };
        let refused = reading.list(wrong).unwrap_err();
        assert_eq!(refused.to_string(), "there is no column `pss`");
        assert_eq!(refused.help(), Some("did you mean `pass`?"));
        let broken = ListQuery { filter: Some("device ="), ..all(Kind::Rules) };
        assert_eq!(reading.list(broken).unwrap().unwrap_err().len(), 1);
    });
}

#[test]
fn a_list_without_rows_knows_its_columns_all_the_same() {
    let mut bench = Bench::new();
    bench.morning(&day(1), &[("a", true, "5")]);
    let columns = ["device".to_owned(), "blame".to_owned()];
    let (shown, rows) = bench.list(&day(1), ListQuery { columns: &columns, ..all(Kind::Findings) });
    assert_eq!((shown, rows.len()), (columns.to_vec(), 0));
}

#[test]
fn a_preview_tells_what_the_edited_rules_then_do() {
    let mut bench = Bench::new();
    bench.morning(&day(1), &[("a", true, "5"), ("b", true, "6"), ("c", false, "6")]);
    let stricter = RULES.replace("version(\"5\")", "version(\"6\")");
    let candidate = bench.with("rules/test.toml", &stricter);
    let told = preview(&bench.project(), &candidate, &bench.ledger, &Bench::moment(&day(1))).unwrap();
    let flips: Vec<_> = told.standings.iter().map(|flip| (flip.device.as_str(), flip.before, flip.after)).collect();
    assert_eq!(flips, [("a", Some(Standing::Compliant), Some(Standing::NonCompliant))]);
    assert_eq!((told.opened, told.closed, told.same), (1, 0, false));
    bench.edit("rules/test.toml", &stricter);
    let after = bench.assess(&day(1));
    assert_eq!(after.opened.len(), told.opened);
    assert_eq!(bench.read(&day(1), |reading| reading.device("a").unwrap().standing), Some(Standing::NonCompliant));
    assert!(preview(&bench.project(), &bench.project(), &bench.ledger, &Bench::moment(&day(1))).unwrap().same);
}

#[test]
fn who_loses_access_is_told_with_the_other_device_that_still_gets_in() {
    let mut bench = Bench::new();
    let shared = |encrypted: bool, at: &str| {
        let devices = [("a", encrypted), ("b", true)];
        let line = |(id, encrypted): (&str, bool)| agent(id, at, encrypted, "5").replace(&format!("p-{id}"), "ada");
        devices.map(line).concat()
    };
    for (number, encrypted) in [(1, true), (2, false), (3, false)] {
        bench.import("agent", &shared(encrypted, &day(number)), &day(number)).unwrap();
        bench.assess(&day(number));
    }
    let report = bench.read(&day(3), |reading| reading.access(&AccessQuery::default()).unwrap());
    let [lost] = report.lost.as_slice() else { panic!("{:?}", report.lost) };
    assert_eq!((lost.device.as_str(), lost.person.as_deref(), lost.service.as_str()), ("a", Some("ada"), "mail"));
    assert_eq!((lost.moment, lost.causes[0].cause.rule.as_deref()), (moment(&day(3)), Some("encrypted")));
    assert_eq!(lost.other.as_ref().map(|other| other.device.as_str()), Some("b"));
    // A day before it is only about to be lost.
    let ahead = bench.read(&day(3), |reading| {
        reading.access(&AccessQuery { since: Some(moment(&day(2))), ..AccessQuery::default() }).unwrap()
    });
    assert_eq!((ahead.lost.len(), ahead.restored.len()), (1, 0));
}
