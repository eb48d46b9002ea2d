//! Files that are no ledger, or no longer the one that was written: each is named, and none is taken for a ledger.

use std::path::{Path, PathBuf};
use std::time::Duration;

use fencepost_store::{Ledger, LedgerError, Look, NewBody, NewObservation, NewRun, PackedFacts, Purpose, RunKind};
use jiff::Timestamp;

const DAY: &str = "2027-03-01T06:00:00Z";

/// Writes a ledger with devices enough to fill some pages, and returns where it lies.
fn ledger(folder: &Path) -> PathBuf {
    let path = folder.join(".fencepost/ledger.sqlite");
    let mut ledger = Ledger::open(&path, Purpose::Create, Duration::ZERO).unwrap();
    let mut writer = ledger.writer("test").unwrap();
    let at: Timestamp = DAY.parse().unwrap();
    let run = writer
        .begin_run(&NewRun { kind: RunKind::Import, as_of: at, at, user: "u", version: "0", rule_set: None })
        .unwrap();
    for device in 0..300 {
        let (device, body) = (format!("device-{device}"), format!("{{\"os\":{{\"version\":\"{device}\"}}}}"));
        let facts = PackedFacts { layout_fingerprint: 1, packed: &[7; 40] };
        let body = NewBody::new(body.as_bytes());
        let new = NewObservation {
            device: &device,
            source: "s",
            collected: at,
            body,
            volatile_parts: b"",
            content: 1,
            file: "f",
            facts,
        };
        writer.add_observation(run, &new).unwrap();
    }
    writer.commit().unwrap();
    path
}

/// Reads everything that the ledger of these tests holds.
fn read(path: &Path) -> Result<Vec<String>, LedgerError> {
    let ledger = Ledger::open(path, Purpose::Read, Duration::ZERO)?;
    let reader = ledger.reader()?;
    let mut found = Vec::new();
    for device in reader.devices(Look::All)? {
        for said in reader.observations_of(&device.name, None)? {
            found.push(format!("{device:?} {said:?}"));
        }
    }
    found.push(format!("{:?}", reader.last_run()?));
    Ok(found)
}

fn files(folder: &Path) -> Vec<(PathBuf, Vec<u8>)> {
    let mut files: Vec<_> = std::fs::read_dir(folder)
        .unwrap()
        .map(|entry| entry.unwrap().path())
        .map(|path| (path.clone(), std::fs::read(&path).unwrap()))
        .collect();
    files.sort();
    files
}

#[test]
fn a_changed_bit_is_named_or_changes_nothing() {
    let folder = tempfile::tempdir().unwrap();
    let path = ledger(folder.path());
    let whole = std::fs::read(&path).unwrap();
    let expected = read(&path).unwrap();
    let (mut named, mut alike) = (0, 0);
    // Of every byte of the head and of what begins a page one bit or two, and some of all others.
    let bits = (0..whole.len() * 8).filter(|bit| match bit / 8 {
        0..100 => bit % 5 == 0,
        byte if byte % 8192 < 12 => bit % 11 == 0,
        _ => bit % 40_009 == 0,
    });
    for bit in bits {
        let mut changed = whole.clone();
        changed[bit / 8] ^= 1 << (bit % 8);
        std::fs::write(&path, &changed).unwrap();
        match read(&path) {
            Ok(found) => {
                assert_eq!(found, expected, "bit {bit}");
                alike += 1;
            }
            Err(error) => {
                let is_named = matches!(
                    error,
                    LedgerError::Damaged { .. } | LedgerError::Foreign { .. } | LedgerError::Newer { .. }
                );
                assert!(is_named, "bit {bit}: {error:?}");
                named += 1;
            }
        }
    }
    assert!(named > 100, "{named} named, {alike} alike");
}

#[test]
fn a_shortened_ledger_is_named_and_left_as_it_is() {
    let folder = tempfile::tempdir().unwrap();
    let path = ledger(folder.path());
    let whole = std::fs::read(&path).unwrap();
    for length in [1, 99, 100, 4096, 8192, whole.len() / 2, whole.len() - 8192, whole.len() - 1] {
        std::fs::write(&path, &whole[..length]).unwrap();
        for purpose in [Purpose::Read, Purpose::Write, Purpose::Create] {
            let refused = Ledger::open(&path, purpose, Duration::ZERO);
            let named = matches!(refused, Err(LedgerError::Damaged { .. } | LedgerError::Foreign { .. }));
            assert!(named, "{length} bytes: {refused:?}");
        }
        assert_eq!(std::fs::read(&path).unwrap(), whole[..length]);
    }
}

#[test]
fn empty_and_foreign_files_are_refused_whatever_for() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("ledger.sqlite");
    let other = rusqlite::Connection::open(folder.path().join("other.sqlite")).unwrap();
    other.execute_batch("CREATE TABLE note (text TEXT); PRAGMA user_version = 3;").unwrap();
    drop(other);
    let foreign = std::fs::read(folder.path().join("other.sqlite")).unwrap();
    let text =
        b"this is no database, whatever it is called, and it is long enough to be looked at as one, one would think"
            .to_vec();
    for (held, is_empty) in [(Vec::new(), true), (foreign, false), (text, false)] {
        std::fs::write(&path, &held).unwrap();
        for purpose in [Purpose::Read, Purpose::Write, Purpose::Create] {
            match Ledger::open(&path, purpose, Duration::ZERO) {
                Err(LedgerError::Empty { .. }) if is_empty => {}
                Err(LedgerError::Foreign { .. }) if !is_empty => {}
                other => panic!("{purpose:?}: {other:?}"),
            }
        }
        assert_eq!(std::fs::read(&path).unwrap(), held);
    }
}

#[test]
fn a_reader_changes_no_file_and_leaves_none_behind() {
    let folder = tempfile::tempdir().unwrap();
    let path = ledger(folder.path());
    let before = files(path.parent().unwrap());
    read(&path).unwrap();
    let ledger = Ledger::open(&path, Purpose::Read, Duration::ZERO).unwrap();
    let mut copy = ledger.private_copy().unwrap();
    let mut writer = copy.writer("try").unwrap();
    let at: Timestamp = DAY.parse().unwrap();
    writer
        .begin_run(&NewRun { kind: RunKind::Assess, as_of: at, at, user: "u", version: "0", rule_set: None })
        .unwrap();
    writer.commit().unwrap();
    drop((ledger, copy));
    assert_eq!(files(path.parent().unwrap()), before);
    let mut ledger = Ledger::open(&path, Purpose::Read, Duration::ZERO).unwrap();
    assert!(matches!(ledger.writer("test"), Err(LedgerError::ReadOnly { .. })));
}

#[test]
fn what_a_dead_writer_left_in_the_log_is_read_and_left_there() {
    let folder = tempfile::tempdir().unwrap();
    let path = ledger(folder.path());
    let expected = read(&path).unwrap();
    // A writer that is killed leaves its log; the copy is as it would be found then.
    let alive = Ledger::open(&path, Purpose::Write, Duration::ZERO).unwrap();
    alive.reader().unwrap().last_run().unwrap();
    let elsewhere = folder.path().join("elsewhere");
    std::fs::create_dir(&elsewhere).unwrap();
    for (from, held) in files(path.parent().unwrap()) {
        if !from.to_string_lossy().ends_with("-shm") {
            std::fs::write(elsewhere.join(from.file_name().unwrap()), held).unwrap();
        }
    }
    assert_eq!(read(&elsewhere.join("ledger.sqlite")).unwrap(), expected);
}
