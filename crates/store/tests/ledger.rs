//! The ledger as its users rely on it: all or nothing, spells, versions, and formats.

use std::path::PathBuf;
use std::time::Duration;

use fencepost_store::{Added, FindingRow, Ledger, LedgerError, RunKind, SpellKind, Writer};
use jiff::Timestamp;

fn moment(text: &str) -> Timestamp {
    text.parse().unwrap()
}

fn begin(writer: &mut Writer<'_>, kind: RunKind, at: &str) -> i64 {
    writer.begin_run(kind, moment(at), moment(at), "tester", "0", Some("rules")).unwrap()
}

fn open(folder: &tempfile::TempDir) -> (Ledger, PathBuf) {
    let path = folder.path().join(".fencepost/ledger.sqlite");
    (Ledger::open(&path, true, Duration::ZERO).unwrap(), path)
}

const D1: &str = "2027-03-01T06:00:00Z";
const D2: &str = "2027-03-02T06:00:00Z";

#[test]
fn nothing_stays_without_a_commit() {
    let mut ledger = Ledger::in_memory().unwrap();
    let mut writer = ledger.writer("test").unwrap();
    let run = begin(&mut writer, RunKind::Import, D1);
    writer.add_observation(run, "a", "s", moment(D1), b"{}").unwrap();
    drop(writer);
    assert_eq!(ledger.reader().unwrap().device_count().unwrap(), 0);
    assert!(ledger.reader().unwrap().last_run().unwrap().is_none());
}

#[test]
fn observations_are_current_older_known_or_in_conflict() {
    let mut ledger = Ledger::in_memory().unwrap();
    let mut writer = ledger.writer("test").unwrap();
    let run = begin(&mut writer, RunKind::Import, D2);
    let mut add =
        |at: &str, document: &str| writer.add_observation(run, "a", "s", moment(at), document.as_bytes()).unwrap();
    assert_eq!(add(D2, "{\"x\":1}"), Added::Current { new_device: true, changed: true });
    assert_eq!(add(D2, "{\"x\":1}"), Added::Known);
    assert_eq!(add(D2, "{\"x\":2}"), Added::Conflict);
    assert_eq!(add(D1, "{\"x\":0}"), Added::Older);
    assert_eq!(add("2027-03-03T06:00:00Z", "{\"x\":1}"), Added::Current { new_device: false, changed: false });
    writer.commit().unwrap();
    let said = ledger.reader().unwrap().observations_of("a", None).unwrap();
    assert_eq!((said.len(), said[0].collected), (1, moment("2027-03-03T06:00:00Z")));
    // As it was known at the run, whatever came in later.
    assert_eq!(ledger.reader().unwrap().observations_of("a", Some(run)).unwrap(), said);
    assert!(ledger.reader().unwrap().observations_of("a", Some(0)).unwrap().is_empty());
}

#[test]
fn spells_go_on_while_their_value_is_the_same() {
    let mut ledger = Ledger::in_memory().unwrap();
    let spell = |subject: &str, value: &str| (subject.to_owned(), value.to_owned(), "{}".to_owned());
    let mut writer = ledger.writer("test").unwrap();
    let first = begin(&mut writer, RunKind::Assess, D1);
    assert!(writer.set_spells(first, SpellKind::Verdict, "a", &[spell("r", "fail"), spell("s", "fail")]).unwrap());
    let second = begin(&mut writer, RunKind::Assess, D2);
    assert!(writer.set_spells(second, SpellKind::Verdict, "a", &[spell("r", "fail"), spell("s", "unknown")]).unwrap());
    let third = begin(&mut writer, RunKind::Assess, D2);
    assert!(!writer.set_spells(third, SpellKind::Verdict, "a", &[spell("r", "fail"), spell("s", "unknown")]).unwrap());
    writer.commit().unwrap();
    let reader = ledger.reader().unwrap();
    let at = |run| -> Vec<(String, i64)> {
        reader
            .spells(SpellKind::Verdict, Some("a"), run)
            .unwrap()
            .into_iter()
            .map(|spell| (spell.value, spell.from_run))
            .collect()
    };
    assert_eq!(at(Some(first)), [("fail".to_owned(), first), ("fail".to_owned(), first)]);
    assert_eq!(at(None), [("fail".to_owned(), first), ("unknown".to_owned(), second)]);
    let numbers: Vec<Option<i64>> = reader.assessments(None, 9).unwrap().into_iter().map(|run| run.number).collect();
    assert_eq!(numbers, [Some(3), Some(2), Some(1)]);
}

#[test]
fn findings_are_kept_in_versions() {
    let mut ledger = Ledger::in_memory().unwrap();
    let finding = |closed: Option<&str>, body: &str, run| FindingRow {
        device: "a".into(),
        subject: "r".into(),
        opened: moment(D1),
        due: moment(D2),
        closed: closed.map(moment),
        body: body.into(),
        from_run: run,
    };
    let mut writer = ledger.writer("test").unwrap();
    let first = begin(&mut writer, RunKind::Assess, D1);
    writer.set_finding(first, &finding(None, "{}", first)).unwrap();
    let second = begin(&mut writer, RunKind::Assess, D2);
    writer.set_finding(second, &finding(None, "{}", second)).unwrap();
    let third = begin(&mut writer, RunKind::Assess, D2);
    writer.set_finding(third, &finding(Some(D2), "{}", third)).unwrap();
    writer.commit().unwrap();
    let reader = ledger.reader().unwrap();
    let versions = |run, closed_too| reader.findings(None, run, closed_too).unwrap();
    assert_eq!(versions(Some(second), false)[0].from_run, first, "what did not change costs nothing");
    assert!(versions(None, false).is_empty());
    assert_eq!((versions(None, true)[0].closed, versions(Some(first), true)[0].closed), (Some(moment(D2)), None));
}

#[test]
fn a_full_disk_is_told_and_leaves_the_ledger_as_it_was() {
    let folder = tempfile::tempdir().unwrap();
    let (mut ledger, path) = open(&folder);
    let mut writer = ledger.writer("test").unwrap();
    let run = begin(&mut writer, RunKind::Import, D1);
    writer.add_observation(run, "kept", "s", moment(D1), b"{}").unwrap();
    writer.commit().unwrap();
    ledger.limit_size_for_tests(40).unwrap();
    let mut writer = ledger.writer("test").unwrap();
    let run = begin(&mut writer, RunKind::Import, D2);
    let full = (0_u32..4000).find_map(|at| {
        // Numbers that no compression makes small.
        let noise: String =
            (0..600_u32).map(|n| format!("{:x}", (at * 7919 + n).wrapping_mul(2_654_435_761))).collect();
        writer.add_observation(run, &format!("d{at}"), "s", moment(D2), noise.as_bytes()).err()
    });
    assert!(matches!(full, Some(LedgerError::Full { act: "write", .. })), "{full:?}");
    drop(writer);
    drop(ledger);
    let mut ledger = Ledger::open(&path, false, Duration::ZERO).unwrap();
    assert_eq!(ledger.reader().unwrap().device_names().unwrap(), ["kept"]);
    assert_eq!(ledger.reader().unwrap().integrity().unwrap(), None);
    // With room again, the next run works.
    let mut writer = ledger.writer("test").unwrap();
    let run = begin(&mut writer, RunKind::Import, D2);
    writer.add_observation(run, "next", "s", moment(D2), b"{}").unwrap();
    writer.commit().unwrap();
    assert_eq!(ledger.reader().unwrap().device_count().unwrap(), 2);
}

#[test]
fn a_newer_ledger_is_refused_and_not_touched() {
    let folder = tempfile::tempdir().unwrap();
    let (mut ledger, path) = open(&folder);
    ledger.set_format_for_tests(99).unwrap();
    drop(ledger);
    let before = std::fs::read(&path).unwrap();
    let refused = Ledger::open(&path, true, Duration::ZERO);
    assert!(matches!(refused, Err(LedgerError::Newer { found: 99, .. })), "{refused:?}");
    assert_eq!(std::fs::read(&path).unwrap(), before);
}

#[test]
fn one_writes_at_a_time_and_readers_see_what_was_before() {
    let folder = tempfile::tempdir().unwrap();
    let (mut first, path) = open(&folder);
    let mut second = Ledger::open(&path, false, Duration::ZERO).unwrap();
    let mut writer = first.writer("first").unwrap();
    let run = begin(&mut writer, RunKind::Import, D1);
    writer.add_observation(run, "a", "s", moment(D1), b"{}").unwrap();
    assert!(
        matches!(second.writer("second"), Err(LedgerError::Busy { holder, .. }) if holder.contains("fencepost first"))
    );
    assert_eq!(second.reader().unwrap().device_count().unwrap(), 0);
    writer.commit().unwrap();
    drop(second);
    let second = Ledger::open(&path, false, Duration::ZERO).unwrap();
    assert_eq!(second.reader().unwrap().device_count().unwrap(), 1);
}
