//! The ledger as its users rely on it: all or nothing, spells, versions, and formats.

use std::path::PathBuf;
use std::time::Duration;

use fencepost_store::{
    ActionKey, Added, ApprovalRow, AssessedRow, DeliveryState, DeviceBatch, FileRow, FindingRow, LayoutFingerprints,
    Ledger, LedgerError, Look, NewBody, NewDelivery, NewObservation, NewRun, PackedFacts, Purpose, Reader, RunKind,
    SettingRow, SettledDelivery, Spell, SpellKind, Writer,
};
use jiff::Timestamp;

fn moment(text: &str) -> Timestamp {
    text.parse().unwrap()
}

fn begin(writer: &mut Writer<'_>, kind: RunKind, at: &str) -> i64 {
    writer
        .begin_run(&NewRun {
            kind,
            as_of: moment(at),
            at: moment(at),
            user: "tester",
            version: "0",
            rule_set: Some("rules"),
        })
        .unwrap()
}

/// What source `s` says of a device, its content told by what it says.
fn said<'o>(device: &'o str, at: &str, body: &'o str, volatile_parts: &'o str) -> NewObservation<'o> {
    let content =
        body.bytes().chain(volatile_parts.bytes()).fold(7_i64, |sum, byte| sum.wrapping_mul(31) + i64::from(byte));
    NewObservation {
        device,
        source: "s",
        collected: moment(at),
        body: NewBody::new(body.as_bytes()),
        volatile_parts: volatile_parts.as_bytes(),
        content,
        file: "file",
        facts: PackedFacts { layout_fingerprint: 1, packed: b"" },
    }
}

fn open(folder: &tempfile::TempDir) -> (Ledger, PathBuf) {
    let path = folder.path().join(".fencepost/ledger.sqlite");
    (Ledger::open(&path, Purpose::Create, Duration::ZERO).unwrap(), path)
}

const D1: &str = "2027-03-01T06:00:00Z";
const D2: &str = "2027-03-02T06:00:00Z";

#[test]
fn nothing_stays_without_a_commit() {
    let mut ledger = Ledger::in_memory().unwrap();
    let mut writer = ledger.writer("test").unwrap();
    let run = begin(&mut writer, RunKind::Import, D1);
    writer.add_observation(run, &said("a", D1, "{}", "")).unwrap();
    drop(writer);
    assert_eq!(ledger.reader().unwrap().devices(Look::All).unwrap().len(), 0);
    assert!(ledger.reader().unwrap().last_run().unwrap().is_none());
}

#[test]
fn observations_are_current_older_known_or_in_conflict() {
    let mut ledger = Ledger::in_memory().unwrap();
    let mut writer = ledger.writer("test").unwrap();
    let run = begin(&mut writer, RunKind::Import, D2);
    let mut add = |at: &str, document: &str| writer.add_observation(run, &said("a", at, document, "")).unwrap();
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
fn what_is_held_of_devices_is_found_by_their_place_in_any_order_and_with_gaps() {
    let mut ledger = Ledger::in_memory().unwrap();
    let mut writer = ledger.writer("test").unwrap();
    let run = begin(&mut writer, RunKind::Import, D1);
    let names: Vec<String> = (0..40).map(|at| format!("d{:02}", at * 7 % 40)).collect();
    for (at, name) in names.iter().enumerate() {
        let pack = format!("facts of {name}");
        for source in if at % 3 == 0 { &["t", "s"][..] } else { &["s"] } {
            // One source's facts were packed by other paths.
            let facts = PackedFacts { layout_fingerprint: if *source == "t" { 2 } else { 1 }, packed: pack.as_bytes() };
            writer.add_observation(run, &NewObservation { source, facts, ..said(name, D1, "{}", "") }).unwrap();
        }
        if at % 4 == 0 {
            let number = writer.reader().device_number(name).unwrap().unwrap();
            let [input, outcome, findings] = ["i", "o", "f"].map(|part| format!("{part}{name}").into_bytes());
            let row =
                AssessedRow { input, until: moment(D2), valid_until: moment(D2), collected: None, outcome, findings };
            writer.set_assessed(number, None, Some(&row)).unwrap();
        }
    }
    writer.commit().unwrap();
    let reader = ledger.reader().unwrap();
    let all = reader.devices(Look::All).unwrap();
    let mut held = DeviceBatch::default();
    // Filled again and again, with fewer and fewer devices.
    for step in [1, 2, 5, 11] {
        let asked: Vec<_> = all.iter().rev().step_by(step).cloned().collect();
        reader.hold(&asked, LayoutFingerprints { now: 1, earlier: None }, &mut held).unwrap();
        for (at, device) in asked.iter().enumerate() {
            let imported = names.iter().position(|name| *name == device.name).unwrap();
            let pack = format!("facts of {}", device.name);
            let facts: Vec<_> = held.facts(at).map(|said| (said.source, said.packed)).collect();
            let mut expected = vec![("s", Some(pack.as_bytes()))];
            expected.extend((imported % 3 == 0).then_some(("t", None)));
            assert_eq!(facts, expected, "{device:?}");
            let assessed = held.assessed(at).map(|row| [row.input, row.outcome, row.findings].concat());
            let expected = (imported % 4 == 0).then(|| format!("i{0}o{0}f{0}", device.name).into_bytes());
            assert_eq!(assessed, expected, "{device:?}");
        }
        assert!(held.facts(asked.len()).next().is_none() && held.assessed(asked.len()).is_none());
        // What was packed by the paths of before is held as that.
        reader.hold(&asked, LayoutFingerprints { now: 2, earlier: Some(1) }, &mut held).unwrap();
        let said = held.facts(0).next().unwrap();
        assert_eq!((said.packed, said.earlier), (None, Some(format!("facts of {}", asked[0].name).as_bytes())));
        // Documents of some come in one go, as they come one device at a time.
        let wanted: Vec<usize> = (0..asked.len()).step_by(3).collect();
        let mut together = Vec::new();
        reader.packed_now(&asked, &wanted, |at, said| together.push((at, said))).unwrap();
        let mut alone = Vec::new();
        for at in wanted {
            let said = reader.packed_observations(&asked[at].name, None).unwrap();
            alone.extend(said.into_iter().map(|said| (at, said)));
        }
        assert_eq!(together, alone);
    }
}

#[test]
fn spells_go_on_while_their_value_is_the_same() {
    // The first are looked for, or known to be the first.
    [false, true].into_iter().for_each(spells_go_on);
}

fn spells_go_on(known_first: bool) {
    let mut ledger = Ledger::in_memory().unwrap();
    let spell = |subject: &str, value: &str| Spell {
        subject: subject.to_owned(),
        value: value.to_owned(),
        detail: "{}".to_owned(),
    };
    let mut writer = ledger.writer("test").unwrap();
    let brought = begin(&mut writer, RunKind::Import, D1);
    writer.add_observation(brought, &said("a", D1, "{}", "")).unwrap();
    let first = begin(&mut writer, RunKind::Assess, D1);
    let began = [spell("r", "fail"), spell("s", "fail")];
    assert!(!writer.reader().has_spells().unwrap());
    if known_first {
        let number = writer.reader().device_number("a").unwrap().unwrap();
        writer.add_spells(first, SpellKind::Verdict, number, &began).unwrap();
    } else {
        assert!(writer.set_spells(first, SpellKind::Verdict, "a", &began).unwrap());
    }
    assert!(writer.reader().has_spells().unwrap());
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
        id: 7,
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
    writer.add_observation(run, &said("kept", D1, "{}", "")).unwrap();
    writer.commit().unwrap();
    ledger.limit_size_for_tests(40).unwrap();
    let mut writer = ledger.writer("test").unwrap();
    let run = begin(&mut writer, RunKind::Import, D2);
    let full = (0_u32..4000).find_map(|at| {
        // Numbers that no compression makes small.
        let noise: String =
            (0..600_u32).map(|n| format!("{:x}", (at * 7919 + n).wrapping_mul(2_654_435_761))).collect();
        writer.add_observation(run, &said(&format!("d{at}"), D2, &noise, "")).err()
    });
    assert!(matches!(full, Some(LedgerError::Full { act: "write", .. })), "{full:?}");
    drop(writer);
    drop(ledger);
    let mut ledger = Ledger::open(&path, Purpose::Write, Duration::ZERO).unwrap();
    assert_eq!(ledger.reader().unwrap().device_names().unwrap(), ["kept"]);
    assert_eq!(ledger.reader().unwrap().integrity().unwrap(), None);
    // With room again, the next run works.
    let mut writer = ledger.writer("test").unwrap();
    let run = begin(&mut writer, RunKind::Import, D2);
    writer.add_observation(run, &said("next", D2, "{}", "")).unwrap();
    writer.commit().unwrap();
    assert_eq!(ledger.reader().unwrap().devices(Look::All).unwrap().len(), 2);
}

#[test]
fn a_newer_ledger_is_refused_and_not_touched() {
    let folder = tempfile::tempdir().unwrap();
    let (mut ledger, path) = open(&folder);
    ledger.set_format_for_tests(99).unwrap();
    drop(ledger);
    let before = std::fs::read(&path).unwrap();
    let refused = Ledger::open(&path, Purpose::Create, Duration::ZERO);
    assert!(matches!(refused, Err(LedgerError::Newer { found: 99, .. })), "{refused:?}");
    assert_eq!(std::fs::read(&path).unwrap(), before);
}

#[test]
fn one_writes_at_a_time_and_readers_see_what_was_before() {
    let folder = tempfile::tempdir().unwrap();
    let (mut first, path) = open(&folder);
    let mut second = Ledger::open(&path, Purpose::Write, Duration::ZERO).unwrap();
    let mut writer = first.writer("first").unwrap();
    let run = begin(&mut writer, RunKind::Import, D1);
    writer.add_observation(run, &said("a", D1, "{}", "")).unwrap();
    assert!(
        matches!(second.writer("second"), Err(LedgerError::Busy { holder, .. }) if holder.contains("fencepost first"))
    );
    assert_eq!(second.reader().unwrap().devices(Look::All).unwrap().len(), 0);
    writer.commit().unwrap();
    drop(second);
    let second = Ledger::open(&path, Purpose::Write, Duration::ZERO).unwrap();
    assert_eq!(second.reader().unwrap().devices(Look::All).unwrap().len(), 1);
}

#[test]
fn companions_see_what_their_reader_sees_or_are_not_there() {
    let add = |ledger: &mut Ledger, device: &str| {
        let mut writer = ledger.writer("test").unwrap();
        let run = begin(&mut writer, RunKind::Import, D1);
        writer.add_observation(run, &said(device, D1, "{}", "")).unwrap();
        assert!(writer.reader().snapshot_readers(1).is_empty(), "nobody else sees what is not committed");
        writer.commit().unwrap();
    };
    let count = |reader: &Reader<'_>| reader.devices_after("", 9).unwrap().len();
    let folder = tempfile::tempdir().unwrap();
    let (mut ledger, path) = open(&folder);
    add(&mut ledger, "a");
    let reader = ledger.reader().unwrap();
    let snapshot_readers = reader.snapshot_readers(2);
    assert_eq!(
        snapshot_readers.iter().map(|snapshot_reader| count(&snapshot_reader.reader())).collect::<Vec<_>>(),
        [1, 1]
    );
    let mut other = Ledger::open(&path, Purpose::Write, Duration::ZERO).unwrap();
    add(&mut other, "b");
    assert_eq!([count(&reader), count(&snapshot_readers[1].reader())], [1, 1]);
    assert!(reader.snapshot_readers(1).is_empty(), "a new one would see more");
    let reader = other.reader().unwrap();
    assert_eq!(count(&reader.snapshot_readers(1)[0].reader()), 2);
    let mut passing = Ledger::in_memory().unwrap();
    add(&mut passing, "a");
    assert!(passing.reader().unwrap().snapshot_readers(1).is_empty());
}

#[test]
fn devices_come_some_at_a_time_in_the_order_of_their_ids() {
    let mut ledger = Ledger::in_memory().unwrap();
    let mut writer = ledger.writer("test").unwrap();
    let run = begin(&mut writer, RunKind::Import, D1);
    for device in ["c", "a", "é", "b", "a b"] {
        writer.add_observation(run, &said(device, D1, "{}", "")).unwrap();
    }
    writer.commit().unwrap();
    let reader = ledger.reader().unwrap();
    let (mut found, mut last) = (Vec::new(), String::new());
    loop {
        let next = reader.devices_after(&last, 2).unwrap();
        let Some(device) = next.last() else { break };
        last = device.name.clone();
        found.extend(next.into_iter().map(|device| (device.number, device.name)));
    }
    let all = reader.devices(Look::All).unwrap();
    assert!(all.iter().all(|device| device.dirty));
    assert_eq!(found, all.into_iter().map(|device| (device.number, device.name)).collect::<Vec<_>>());
    assert_eq!(found.iter().map(|(_, name)| name.as_str()).collect::<Vec<_>>(), ["a", "a b", "b", "c", "é"]);
}

#[test]
fn what_a_device_came_to_is_kept_with_its_time_moved_or_not() {
    let mut ledger = Ledger::in_memory().unwrap();
    let mut writer = ledger.writer("test").unwrap();
    let run = begin(&mut writer, RunKind::Import, D1);
    writer.add_observation(run, &said("a", D1, "{}", "")).unwrap();
    let number = writer.reader().device_number("a").unwrap().unwrap();
    writer.clear_dirty().unwrap();
    let row = |until: &str, input: &[u8]| AssessedRow {
        valid_until: moment(until),
        input: input.to_vec(),
        until: moment(until),
        collected: Some(moment(until)),
        outcome: input.to_vec(),
        findings: input.to_vec(),
    };
    let found_by = |writer: &Writer<'_>, by: &str| writer.reader().devices(Look::Changed(moment(by))).unwrap().len();
    for (before, now) in [(None, row(D2, b"1")), (Some(moment(D2)), row(D2, b"2")), (Some(moment(D2)), row(D1, b"3"))] {
        writer.set_assessed(number, before, Some(&now)).unwrap();
        assert_eq!(writer.reader().assessed(number).unwrap().as_ref(), Some(&now));
        let mut collected = Vec::new();
        writer.reader().each_assessed_collected(|at| collected.push(at)).unwrap();
        assert_eq!(collected, Vec::from_iter(now.collected));
        assert_eq!(found_by(&writer, D1), usize::from(now.until == moment(D1)));
        assert_eq!(found_by(&writer, D2), 1);
    }
    writer.set_assessed(number, Some(moment(D1)), None).unwrap();
    assert_eq!((writer.reader().assessed(number).unwrap(), found_by(&writer, D2)), (None, 0));
}

#[test]
fn a_document_is_kept_once_around_what_changes_at_every_collection() {
    let mut ledger = Ledger::in_memory().unwrap();
    let mut writer = ledger.writer("test").unwrap();
    let run = begin(&mut writer, RunKind::Import, D1);
    assert_eq!(
        writer.add_observation(run, &said("a", D1, "{\u{3}}", "1")).unwrap(),
        Added::Current { new_device: true, changed: true }
    );
    assert_eq!(
        writer.add_observation(run, &said("b", D1, "{\u{3}}", "2")).unwrap(),
        Added::Current { new_device: true, changed: true }
    );
    // The same, said once more; and something else at the same moment, though only what always changes differs.
    assert_eq!(writer.add_observation(run, &said("a", D1, "{\u{3}}", "1")).unwrap(), Added::Known);
    assert_eq!(writer.add_observation(run, &said("a", D1, "{\u{3}}", "9")).unwrap(), Added::Conflict);
    writer.keep_volatile_parts(run, "s", "a", b"1").unwrap();
    let later = begin(&mut writer, RunKind::Import, D2);
    assert_eq!(
        writer.add_observation(later, &said("a", D2, "{\u{3}}", "3")).unwrap(),
        Added::Current { new_device: false, changed: false }
    );
    assert_eq!(
        writer.add_observation(later, &said("b", D2, "{\u{3}}", "4")).unwrap(),
        Added::Current { new_device: false, changed: false }
    );
    writer.commit().unwrap();
    let reader = ledger.reader().unwrap();
    let volatile_parts =
        |device: &str, run: Option<i64>| reader.observations_of(device, run).unwrap().remove(0).volatile_parts;
    assert_eq!(
        (volatile_parts("a", None).unwrap(), volatile_parts("b", None).unwrap()),
        (b"3".to_vec(), b"4".to_vec())
    );
    // Of what is no longer current that is kept which an assessment read.
    assert_eq!((volatile_parts("a", Some(run)), volatile_parts("b", Some(run))), (Some(b"1".to_vec()), None));
    let document = |device: &str| reader.observations_of(device, None).unwrap()[0].document;
    assert_eq!(document("a"), document("b"));
}

#[test]
fn what_a_file_says_anew_takes_the_place_of_what_it_said() {
    let mut ledger = Ledger::in_memory().unwrap();
    let mut writer = ledger.writer("test").unwrap();
    let file =
        |mapping| FileRow { digest: "file", source: "s", mapping, path: "p", records: 1, rejected: 0, kept_missing: 0 };
    let first = begin(&mut writer, RunKind::Import, D1);
    writer.add_observation(first, &said("a", D1, "{1}", "")).unwrap();
    writer.add_file(first, &file("old")).unwrap();
    let second = begin(&mut writer, RunKind::Import, D2);
    let again = said("a", D1, "{2}", "");
    assert_eq!(writer.add_observation(second, &again).unwrap(), Added::Current { new_device: false, changed: true });
    // Another file that says otherwise of the same moment contradicts it.
    let other = NewObservation { file: "other", ..said("a", D1, "{3}", "") };
    assert_eq!(writer.add_observation(second, &other).unwrap(), Added::Conflict);
    writer.commit().unwrap();
    let reader = ledger.reader().unwrap();
    let body = |run| reader.observations_of("a", run).unwrap().remove(0).body;
    assert_eq!(
        (body(None), body(Some(first)), body(Some(second))),
        (b"{2}".to_vec(), b"{1}".to_vec(), b"{2}".to_vec())
    );
    assert_eq!(reader.history_of("a", None).unwrap().len(), 1);
}

#[test]
fn a_renamed_device_keeps_what_is_known_of_it_and_two_become_one() {
    let mut ledger = Ledger::in_memory().unwrap();
    let mut writer = ledger.writer("test").unwrap();
    let finding = |device: &str, opened: &str| FindingRow {
        id: moment(opened).as_second().cast_unsigned(),
        device: device.into(),
        subject: "rule".into(),
        opened: moment(opened),
        due: moment(D2),
        closed: None,
        body: "{}".into(),
        from_run: 0,
    };
    let run = begin(&mut writer, RunKind::Import, D1);
    writer.add_observation(run, &said("old", D1, "{1}", "")).unwrap();
    writer.set_finding(run, &finding("old", D1)).unwrap();
    assert!(writer.rename_device(run, "old", "new").unwrap());
    assert!(!writer.rename_device(run, "old", "new").unwrap());
    assert_eq!(writer.reader().device_names().unwrap(), ["new"]);
    // A feed goes on under a third name, and is assessed, before anybody says that it is the same device.
    let run = begin(&mut writer, RunKind::Import, D2);
    writer.add_observation(run, &said("third", D2, "{2}", "")).unwrap();
    writer.set_finding(run, &finding("third", D2)).unwrap();
    assert!(writer.rename_device(run, "new", "third").unwrap());
    writer.commit().unwrap();
    let reader = ledger.reader().unwrap();
    assert_eq!(reader.device_names().unwrap(), ["third"]);
    assert_eq!(reader.observations_of("third", None).unwrap()[0].body, b"{2}");
    assert_eq!(reader.history_of("third", None).unwrap().len(), 2);
    assert_eq!(
        (reader.renamed("old").unwrap(), reader.renamed("new").unwrap()),
        (Some("third".into()), Some("third".into()))
    );
    assert_eq!(reader.former_names("third").unwrap(), ["old", "new"]);
    // The clock that ran first runs on.
    let findings = reader.findings(Some("third"), None, false).unwrap();
    assert_eq!((findings.len(), findings[0].opened), (1, moment(D1)));
}

#[test]
fn absence_lasts_until_the_feed_lists_the_device_again() {
    let mut ledger = Ledger::in_memory().unwrap();
    let mut writer = ledger.writer("test").unwrap();
    let run = begin(&mut writer, RunKind::Import, D1);
    writer.add_observation(run, &said("a", D1, "{}", "")).unwrap();
    writer.add_observation(run, &said("b", D1, "{}", "")).unwrap();
    let second = begin(&mut writer, RunKind::Import, D2);
    writer.set_absent(second, "s", "b").unwrap();
    let row = writer.reader().sources(None).unwrap().remove(0);
    assert_eq!((row.devices, row.absent, row.collected), (1, 1, Some(moment(D1))));
    assert_eq!(writer.reader().listed_by("s").unwrap(), [("a".to_owned(), moment(D1))]);
    let third = begin(&mut writer, RunKind::Import, "2027-03-03T06:00:00Z");
    writer.add_observation(third, &said("b", "2027-03-03T06:00:00Z", "{}", "")).unwrap();
    writer.commit().unwrap();
    let reader = ledger.reader().unwrap();
    assert!(reader.absences_of("b", None).unwrap().is_empty());
    assert_eq!(reader.absences_of("b", Some(second)).unwrap(), [("s".to_owned(), moment(D2))]);
}

#[test]
fn documents_that_are_written_again_leave_nothing_of_what_they_were() {
    let folder = tempfile::tempdir().unwrap();
    let (mut ledger, path) = open(&folder);
    let mut writer = ledger.writer("test").unwrap();
    let run = begin(&mut writer, RunKind::Import, D1);
    writer.add_observation(run, &said("a", D1, "{\"k\":\"hunter2-hunter2-hunter2\"}", "apart")).unwrap();
    writer.add_observation(run, &said("b", D1, "{\"k\":1}", "")).unwrap();
    writer.commit().unwrap();
    let mut writer = ledger.writer("test").unwrap();
    let hidden = writer
        .rewrite_documents(|device, collected, body, _| {
            assert_eq!(collected, moment(D1));
            (device == "a").then(|| {
                assert!(body.starts_with(b"{\"k\":\"hunter2"));
                (b"{\"k\":\"gone\"}".to_vec(), None)
            })
        })
        .unwrap();
    // Once as history, once as current.
    assert_eq!(hidden, 2);
    writer.commit().unwrap();
    ledger.compact().unwrap();
    assert_eq!(ledger.reader().unwrap().observations_of("a", Some(run)).unwrap()[0].body, b"{\"k\":\"gone\"}");
    drop(ledger);
    for file in std::fs::read_dir(path.parent().unwrap()).unwrap() {
        let bytes = std::fs::read(file.unwrap().path()).unwrap();
        assert!(!bytes.windows(15).any(|window| window == b"hunter2-hunter2"));
    }
}

#[test]
fn a_delivery_is_claimed_before_it_is_settled_and_is_the_same_however_often_it_is_tried() {
    let mut ledger = Ledger::in_memory().unwrap();
    let mut writer = ledger.writer("test").unwrap();
    let run = begin(&mut writer, RunKind::Import, D1);
    writer.add_observation(run, &said("a", D1, "{}", "")).unwrap();
    writer.commit().unwrap();
    // Ids use all of their bits.
    let action = ActionKey { action: u64::MAX - 1, finding: u64::MAX, device: "a".to_owned(), step: "lock".to_owned() };
    let actions = [action.clone()];
    let delivery = |content: &'static [u8]| NewDelivery {
        key: "k1",
        channel: "commands",
        recipient: "a",
        content,
        actions: &actions,
    };
    let settle = |state, answer, because| SettledDelivery { state, answer, because };

    let mut writer = ledger.writer("test").unwrap();
    let id = writer.claim_delivery(&delivery(b"first"), moment(D1)).unwrap();
    writer.commit().unwrap();
    {
        let reader = ledger.reader().unwrap();
        let doubtful = reader.deliveries_in_doubt().unwrap();
        assert_eq!(doubtful.iter().map(|row| (row.id, row.attempts)).collect::<Vec<_>>(), [(id, 1)]);
        assert_eq!(reader.devices_acted_on_after(moment("2027-02-28T06:00:00Z")).unwrap(), ["a"]);
    }

    let mut writer = ledger.writer("test").unwrap();
    writer.settle_delivery(id, &settle(DeliveryState::Failed, None, Some("it hung up"))).unwrap();
    assert_eq!(writer.claim_delivery(&delivery(b"second"), moment(D2)).unwrap(), id);
    writer.settle_delivery(id, &settle(DeliveryState::Delivered, Some("accepted"), None)).unwrap();
    let approval = |because: &str| ApprovalRow {
        action: action.action,
        at: moment(D1),
        evidence_at: Some(moment(D1)),
        by: "tester".to_owned(),
        because: because.to_owned(),
    };
    for because in ["first", "second"] {
        writer.add_approval(&approval(because)).unwrap();
    }
    writer.commit().unwrap();

    let reader = ledger.reader().unwrap();
    assert!(reader.deliveries_in_doubt().unwrap().is_empty());
    assert_eq!(reader.delivery_content(id).unwrap(), b"second");
    let row = reader.delivery_of_key("k1").unwrap().unwrap();
    assert_eq!((row.state, row.attempts, row.at, row.because), (DeliveryState::Delivered, 2, moment(D2), None));
    assert_eq!(reader.commands_under_way().unwrap().len(), 1);
    assert_eq!(
        reader.actions_of(id).unwrap().into_iter().map(|row| row.key).collect::<Vec<_>>(),
        std::slice::from_ref(&action)
    );
    assert_eq!(reader.approvals().unwrap(), [approval("second")]);
    assert!(reader.devices_acted_on_after(moment(D2)).unwrap().is_empty());
    assert_eq!(reader.last_delivery().unwrap(), Some(moment(D2)));
}

#[test]
fn of_a_setting_counts_what_each_feed_said_last_as_of_a_run() {
    let mut ledger = Ledger::in_memory().unwrap();
    let mut writer = ledger.writer("test").unwrap();
    let run = begin(&mut writer, RunKind::Import, D1);
    writer.add_observation(run, &said("a", D1, "{}", "")).unwrap();
    let row = |state: &str, at: &str| SettingRow {
        device: "a".to_owned(),
        setting: "lock".to_owned(),
        state: state.to_owned(),
        because: None,
        at: moment(at),
    };
    assert_eq!(
        writer.add_setting(run, "setup", &row("pending", D1)).unwrap(),
        Some(Added::Current { new_device: true, changed: false })
    );
    assert_eq!(writer.add_setting(run, "setup", &row("pending", D1)).unwrap(), Some(Added::Known));
    let unknown = SettingRow { device: "z".to_owned(), ..row("pending", D1) };
    assert_eq!(writer.add_setting(run, "setup", &unknown).unwrap(), None);
    let next = begin(&mut writer, RunKind::Import, D2);
    assert_eq!(
        writer.add_setting(next, "setup", &row("applied", D2)).unwrap(),
        Some(Added::Current { new_device: false, changed: true })
    );
    assert_eq!(writer.add_setting(next, "setup", &row("failed", "2027-03-01T12:00:00Z")).unwrap(), Some(Added::Older));
    writer.commit().unwrap();
    let reader = ledger.reader().unwrap();
    let states = |run| reader.settings(run).unwrap().into_iter().map(|said| said.row.state).collect::<Vec<_>>();
    assert_eq!((states(Some(run)), states(None)), (vec!["pending".to_owned()], vec!["applied".to_owned()]));
    let of_device: Vec<_> = reader.settings_of("a", None).unwrap();
    assert_eq!(of_device.iter().map(|said| said.source.as_str()).collect::<Vec<_>>(), ["setup"]);
}
