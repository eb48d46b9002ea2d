//! Tests of mapping.

use fencepost_core::Declaration;
use proptest::prelude::*;
use serde_json::json;

use super::numbers::plain_number;
use super::*;
use crate::workspace::{CellRules, LetterCase};

fn texts(all: &[&str]) -> Vec<String> {
    all.iter().map(|text| (*text).to_owned()).collect()
}

fn field(fact: &str, cells: CellRules) -> Field {
    Field { cells, ..Field::of(fact.to_owned()) }
}

/// Maps the cells of one record, in which every field is called as its fact.
fn mapped(source: &Source, dictionary: &Dictionary, cells: Json) -> (Json, Vec<UnknownWord>) {
    let zone = TimeZone::get("Europe/Oslo").unwrap();
    let with = Mapped { dictionary, zone: &zone, file_time: None, path: None };
    let Json::Object(mut members) = cells else { panic!("cells are an object") };
    members.insert("device".to_owned(), json!("d"));
    members.insert("collected_at".to_owned(), json!("2027-03-01T05:00:00Z"));
    let mapped = map_record(members.into(), source, &with).unwrap();
    let mut document: Json = serde_json::from_str(&mapped.document).unwrap();
    document.as_object_mut().unwrap().retain(|key, _| !matches!(key.as_str(), "device" | "collected_at"));
    (document, mapped.doubts.unknown_words)
}

fn declared(facts: &[(&str, FactType, Option<&str>)]) -> Dictionary {
    let declare = |(path, ty, unit): &(&str, FactType, Option<&str>)| {
        let unit = unit.map(str::to_owned);
        ((*path).to_owned(), Declaration { ty: Some(*ty), unit, ..Declaration::default() })
    };
    Dictionary { facts: facts.iter().map(declare).collect(), reported: None }
}

#[test]
fn cells_are_left_out_put_into_letters_and_named_in_this_order() {
    let values = vec![("corporate".to_owned(), "company".to_owned()), ("byod".to_owned(), "personal".to_owned())];
    let rules =
        CellRules { missing_when: texts(&["n/a"]), case: Some(LetterCase::Lower), values, ..CellRules::default() };
    let source = Source {
        fields: vec![("owner".to_owned(), field("owner", rules)), ("state".to_owned(), Field::of("state".to_owned()))],
        missing_when: texts(&["-", "-1"]),
        ..Source::native()
    };
    let dictionary = Dictionary::default();
    let owner = |cell: Json| mapped(&source, &dictionary, json!({ "owner": cell }));
    assert_eq!(owner(json!(" Corporate ")), (json!({ "owner": "company" }), Vec::new()));
    assert_eq!(owner(json!("BYOD")).0, json!({ "owner": "personal" }));
    let word = UnknownWord { field: "owner".to_owned(), word: "loan".to_owned() };
    assert_eq!(owner(json!("Loan")), (json!({ "owner": "loan" }), vec![word]));
    for missing in [json!("n/a"), json!(" - "), json!(-1)] {
        assert_eq!(owner(missing.clone()), (json!({}), Vec::new()), "{missing}");
    }
    // What is not mapped has the source's words alone, and stands as it came.
    assert_eq!(
        mapped(&source, &dictionary, json!({ "note": "n/a", "state": "-", "x": " A " })).0,
        json!({ "note": "n/a", "x": " A " })
    );
}

#[test]
fn numbers_are_read_as_the_export_writes_them() {
    let german = NumberMarks { decimal: Some(','), thousands: Some('.') };
    let spaced = NumberMarks { decimal: Some(','), thousands: Some(' ') };
    let plain = NumberMarks::default();
    let thousands = NumberMarks { decimal: None, thousands: Some('\'') };
    for (text, marks, number) in [
        ("1.234,5", german, Some("1234.5")),
        ("1.234.567", german, Some("1234567")),
        ("-12,50", german, Some("-12.50")),
        ("12.34", german, None),
        ("1234.567", german, None),
        ("12,", german, None),
        (",5", german, None),
        ("1 234,5", spaced, Some("1234.5")),
        ("1\u{a0}234\u{202f}567", spaced, Some("1234567")),
        ("1.5", spaced, None),
        ("1.5", plain, Some("1.5")),
        ("1,5", plain, None),
        ("1'234.5", thousands, Some("1234.5")),
        ("1'23", thousands, None),
        ("many", german, None),
        ("", german, None),
    ] {
        let read = plain_number(text, marks).map(|number| number.to_string());
        assert_eq!(read.as_deref(), number, "{text}");
    }
}

#[test]
fn a_number_that_names_its_unit_is_read_in_the_unit_that_is_declared() {
    let marks = NumberMarks { decimal: Some(','), thousands: None };
    let source = Source {
        fields: vec![("free".to_owned(), field("free", CellRules { numbers: marks, ..CellRules::default() }))],
        ..Source::native()
    };
    let dictionary = declared(&[("free", FactType::Number, Some("B"))]);
    let free = |cell: &str| mapped(&source, &dictionary, json!({ "free": cell })).0["free"].clone();
    assert_eq!(free("7,5 GiB"), json!(8_053_063_680_u64));
    assert_eq!(free("2 kB"), json!(2000));
    assert_eq!(free("12"), json!(12));
    // Of another kind, or no number at all: it stands as it came, and is of the wrong type.
    for odd in ["3 d", "7.5 GiB", "GiB", "lots"] {
        assert_eq!(free(odd), json!(odd));
    }
}

#[test]
fn times_of_facts_are_read_by_their_own_format_and_zone() {
    let of = |format: &str, zone: Option<&str>| CellRules {
        time_format: Some(format.to_owned()),
        time_zone: zone.map(|zone| TimeZone::get(zone).unwrap()),
        ..CellRules::default()
    };
    let source = Source {
        fields: vec![
            ("seen".to_owned(), field("seen", of("%d.%m.%Y %H:%M", Some("America/New_York")))),
            ("bought".to_owned(), field("bought", of("%d.%m.%y", None))),
        ],
        ..Source::native()
    };
    let dictionary = declared(&[("seen", FactType::Instant, None), ("bought", FactType::Date, None)]);
    let read = |key: &str, cell: Json| {
        let mut cells = serde_json::Map::new();
        cells.insert(key.to_owned(), cell);
        mapped(&source, &dictionary, Json::Object(cells)).0[key].clone()
    };
    assert_eq!(read("seen", json!("01.02.2027 08:00")), json!("2027-02-01T13:00:00Z"));
    assert_eq!(read("seen", json!("2027-02-01T08:00:00+01:00")), json!("2027-02-01T08:00:00+01:00"));
    for since_1970 in [json!(1_800_000_000), json!("1800000000"), json!(1_800_000_000_000_u64)] {
        assert_eq!(read("seen", since_1970), json!("2027-01-15T08:00:00Z"));
    }
    // A year of two digits is none of four.
    assert_eq!(read("seen", json!("01.02.27 08:00")), json!("01.02.27 08:00"));
    // In a gap the later, in an overlap the first.
    assert_eq!(read("seen", json!("14.03.2027 02:30")), json!("2027-03-14T07:30:00Z"));
    assert_eq!(read("seen", json!("07.11.2027 01:30")), json!("2027-11-07T05:30:00Z"));
    assert_eq!(read("bought", json!("15.01.69")), json!("1969-01-15"));
    assert_eq!(read("bought", json!("15.01.21")), json!("2021-01-15"));
    assert_eq!(read("bought", json!("2021-01-15")), json!("2021-01-15"));
    assert_eq!(read("bought", json!("31.02.21")), json!("31.02.21"));
}

#[test]
fn a_day_and_a_time_of_two_columns_are_one_moment() {
    let source = Source {
        collected_field: Some("Day".to_owned()),
        collected_further: texts(&["Time"]),
        time_format: Some("%d.%m.%Y %H:%M".to_owned()),
        ..Source::native()
    };
    let dictionary = Dictionary::default();
    let zone = TimeZone::get("Europe/Oslo").unwrap();
    let with = Mapped { dictionary: &dictionary, zone: &zone, file_time: None, path: None };
    let read = |cells: Json| {
        let Json::Object(members) = cells else { panic!("cells are an object") };
        map_record(members.into(), &source, &with).map(|mapped| mapped.document)
    };
    let document = read(json!({ "device": "d", "Day": "01.03.2027 ", "Time": " 07:30" })).unwrap();
    assert_eq!(document, r#"{"device":"d","collected_at":"2027-03-01T06:30:00Z"}"#);
    let refused = read(json!({ "device": "d", "Day": "01.03.2027" })).unwrap_err();
    assert_eq!((refused.kind, refused.reason.contains("`Day` with `Time`")), (RejectKind::NoTime, true));
    assert_eq!(
        read(json!({ "device": "d", "Day": "01.03.2027", "Time": "25:00" })).unwrap_err().kind,
        RejectKind::NoTime
    );
}

#[test]
fn one_cell_may_be_a_list() {
    let rules = CellRules {
        split: Some(";".to_owned()),
        missing_when: texts(&["none"]),
        case: Some(LetterCase::Lower),
        ..CellRules::default()
    };
    let source = Source { fields: vec![("admins".to_owned(), field("admins", rules))], ..Source::native() };
    let admins = |cell: Json| mapped(&source, &Dictionary::default(), json!({ "admins": cell })).0;
    assert_eq!(admins(json!("Root; OPS ;;none")), json!({ "admins": ["root", "ops"] }));
    assert_eq!(admins(json!("one")), json!({ "admins": ["one"] }));
    assert_eq!(admins(json!("none")), json!({}));
    assert_eq!(admins(json!(["A", "b"])), json!({ "admins": ["A", "b"] }));
}

proptest! {
    #[test]
    fn any_text_is_read_without_harm(text in any::<String>(), decimal in any::<char>(), thousands in any::<char>()) {
        let marks = NumberMarks { decimal: Some(decimal), thousands: Some(thousands) };
        plain_number(&text, marks);
    }

    #[test]
    fn numbers_come_back_from_the_marks_that_they_were_written_with(whole in 0u64..10_000_000_000, fraction in 0u32..1000) {
        let mut grouped = String::new();
        let digits = whole.to_string();
        for (at, digit) in digits.chars().enumerate() {
            if at > 0 && (digits.len() - at) % 3 == 0 {
                grouped.push('.');
            }
            grouped.push(digit);
        }
        let marks = NumberMarks { decimal: Some(','), thousands: Some('.') };
        let read = plain_number(&format!("{grouped},{fraction:03}"), marks);
        prop_assert_eq!(read, format!("{whole}.{fraction:03}").parse().ok());
    }
}

static UTC: TimeZone = TimeZone::UTC;

fn with_path<'m>(dictionary: &'m Dictionary, path: &'m str) -> Mapped<'m> {
    Mapped { dictionary, zone: &UTC, file_time: None, path: Some(path) }
}

/// All documents and reasons of a file, with their lines, and what was odd.
fn read_all(text: &str, source: &Source, dictionary: &Dictionary) -> (Vec<String>, RecordDoubts) {
    let (mut all, mut doubts) = (Vec::new(), RecordDoubts::default());
    let with = with_path(dictionary, "exports/hosts-2027-03-14.csv");
    let read = crate::records::read_records(text.as_bytes(), source, &with, |record| {
        let shown = match record.document {
            Ok(document) => String::from_utf8(document.bytes().to_vec()).unwrap(),
            Err(error) => format!("{} of {:?}: {error}", error.kind.as_str(), error.id),
        };
        all.push(format!("{} {shown}", record.place.line));
        doubts.unknown_words.extend(record.doubts.unknown_words);
        doubts.contradictions.extend(record.doubts.contradictions);
        Ok(())
    });
    read.unwrap();
    (all, doubts)
}

/// Reads the first source of a `fencepost.toml`.
fn source_of(text: &str) -> Source {
    let file = |path: &str, text: &str| crate::workspace::FileText { path: path.to_owned(), text: text.to_owned() };
    let facts = "[facts]\n\"disks[].bytes\" = { type = \"number\", unit = \"B\" }\n\"disk.free_bytes\" = { type = \"number\", unit = \"B\" }\n";
    let files = vec![file("fencepost.toml", text), file("facts.toml", facts)];
    let mut workspace = crate::workspace::load_workspace(files);
    assert!(workspace.mistakes.is_empty(), "{:?}", workspace.mistakes);
    workspace.config.sources.remove(0)
}

#[test]
fn ids_are_joined_cut_and_put_into_letters() {
    let ids = |device: &str, rows: &str| {
        let text = format!(
            "[[source]]\nid = \"s\"\nformat = \"csv\"\ncollected_from = \"file name %Y-%m-%d\"\ndevice = {device}\n"
        );
        let read = read_all(&format!("Host;Site;Nr\n{rows}"), &source_of(&text), &Dictionary::default()).0;
        read.iter().map(|shown| shown.split(',').next().unwrap().to_owned()).collect::<Vec<_>>()
    };
    let device = |line: u64, id: &str| format!("{line} {{\"device\":\"{id}\"");
    let plain = ids("{ field = \"Host\", case = \"lower\", before = \".\" }", "TERN-1.Ferry.example;;\n.x;;\nGull;;\n");
    assert_eq!([&plain[0], &plain[2]], [&device(2, "tern-1"), &device(4, "gull")]);
    assert!(plain[1].starts_with("3 names nobody of None: nothing stands before `.` in `Host`"), "{plain:?}");
    let joined = ids("{ join = [\"Site\", \"Nr\"], with = \"-\" }", "x;Ness;7\ny;Ness;\n");
    assert_eq!(joined[0], device(2, "Ness-7"));
    assert!(joined[1].starts_with("3 names nobody of None: no `Nr`"), "{joined:?}");
}

#[test]
fn fields_of_list_items_are_mapped_and_left_out() {
    let source = source_of(
        r#"
[[source]]
id = "s"
format = "json"
records = "hosts.*"
device = "@key"
collected = "at"
[source.fields]
"hw.disks[].enc" = { fact = "disks[].encrypted", true_when = "Yes" }
"hw.disks[].bytes" = { fact = "disks[].bytes", unit = "GB", also = "size" }
"hw.disks[].serial" = { leave_out = true }
"procs[].pid" = { leave_out = true }
"nets" = "networks"
"nets[].key" = { leave_out = true }
"#,
    );
    let dictionary =
        declared(&[("disks.bytes", FactType::Number, Some("B")), ("disks.mounted", FactType::Instant, None)]);
    let text = r#"{"hosts":{"tern-1":{"at":"2027-03-14T05:00:00Z","hw":{"cpu":4,"disks":[
        {"enc":"yes","size":"2","serial":"77","mount":"/","mounted":1800000000},"odd"]},"procs":[{"pid":7,"name":"guardd"}],"nets":[{"key":"k","ssid":"quay"}]},"gull-2":7}}"#;
    let (all, _) = read_all(text, &source, &dictionary);
    assert_eq!(
        all[0],
        r#"1 {"device":"tern-1","collected_at":"2027-03-14T05:00:00Z","networks":[{"ssid":"quay"}],"disks":[{"encrypted":true,"bytes":2000000000,"mount":"/","mounted":"2027-01-15T08:00:00Z"},"odd"],"procs":[{"name":"guardd"}],"hw":{"cpu":4}}"#
    );
    assert!(all[1].starts_with("2 cannot be read of Some(\"gull-2\"): byte 0: a document is a JSON object"), "{all:?}");
}

const PROGRAMS: &str = r#"
[[source]]
id = "programs"
format = "csv"
device = "Host"
collected = "Seen"
time_zone = "UTC"
rows = { list = "software", key = "Program" }
[source.fields]
"Program" = "software[].name"
"Version" = "software[].version"
"OS" = "os.version"
"User" = { leave_out = true }
"#;

#[test]
fn rows_of_a_device_make_a_list_wherever_they_stand() {
    let text = "Host;Seen;OS;Program;Version;User\n\
        tern-1;2027-03-14 05:00;13.0;hullplan;4.2;ann\n\
        gull-2;2027-03-14 05:00;12.4;guardd;1.0;bob\n\
        tern-1;2027-03-14 05:30;13.0;guardd;;cy\n\
        skua-3;2027-03-14 05:00;11;;;\n\
        tern-1;2027-03-14 05:10;;hullplan;4.2;\n\
        gull-2;2027-03-14 05:00;12.5;guardd;1.0;\n\
        gull-2;yesterday;12.4;x;1.0;\n\
        ;2027-03-14 05:00;12.4;x;1.0;\n\
        gull-2;2027-03-14 05:00;12.4\n";
    let tern = r#"2 {"device":"tern-1","collected_at":"2027-03-14T05:30:00Z","os.version":"13.0","software":[{"name":"hullplan","version":"4.2"},{"name":"guardd"},{"name":"hullplan","version":"4.2"}]}"#;
    // Two versions of one device are given twice, and so of the wrong type.
    let gull = r#"3 {"device":"gull-2","collected_at":"2027-03-14T05:00:00Z","os.version":"12.4","os.version":"12.4","software":[{"name":"guardd","version":"1.0"},{"name":"guardd","version":"1.0"}]}"#;
    for (complete, list) in [(false, ""), (true, r#","software":[]"#)] {
        let source = Source { complete, ..source_of(PROGRAMS) };
        let (all, doubts) = read_all(text, &source, &Dictionary::default());
        let skua = format!(r#"5 {{"device":"skua-3","collected_at":"2027-03-14T05:00:00Z","os.version":"11"{list}}}"#);
        let good: Vec<&String> = all.iter().filter(|shown| shown.contains('{')).collect();
        assert_eq!(good, [tern, gull, skua.as_str()]);
        let bad: Vec<&str> = all.iter().filter(|shown| !shown.contains('{')).map(String::as_str).collect();
        assert_eq!(bad.len(), 3, "{bad:?}");
        assert!(bad[0].starts_with("8 does not say when it was collected of Some(\"gull-2\")"), "{bad:?}");
        assert!(bad[1].starts_with("10 cannot be read of Some(\"gull-2\"): this row has 3 cells"), "{bad:?}");
        assert!(bad[2].starts_with("9 names nobody of None"), "{bad:?}");
        let values = ["12.4".to_owned(), "12.5".to_owned()];
        assert_eq!(doubts.contradictions, [Contradiction { fact: "os.version".to_owned(), values }]);
    }
}

#[test]
fn a_row_that_names_no_item_is_none_though_empty_cells_are_empty_values() {
    let source = Source { empty_is_null: true, ..source_of(PROGRAMS) };
    let text = "Host,Seen,OS,Program,Version,User\na,2027-03-14 05:00,13,,2,\na,2027-03-14 05:00,13,x,,\n";
    let (all, _) = read_all(text, &source, &Dictionary::default());
    let document = r#"2 {"device":"a","collected_at":"2027-03-14T05:00:00Z","os.version":"13","software":[{"name":"x","version":null}]}"#;
    assert_eq!(all, [document]);
}

#[test]
fn rows_may_tell_a_fact_each() {
    let source = source_of(
        r#"
[[source]]
id = "properties"
format = "csv"
device = { field = "Host", case = "lower" }
collected_from = "file name %Y-%m-%d"
rows = { fact = "Property", value = "Value" }
empty = "null"
[source.fields]
"OS ver." = "os.version"
"Free (GB)" = { fact = "disk.free_bytes", unit = "GB" }
"#,
    );
    let dictionary = declared(&[("disk.free_bytes", FactType::Number, Some("B"))]);
    let text = "Host,Property,Value,Site\nTERN-1,OS ver.,13.0,Tern\nTERN-1,,x,Tern\nTERN-1,Free (GB),2.5,Tern\ntern-1,Owner,,Tern\n";
    let (all, doubts) = read_all(text, &source, &dictionary);
    assert_eq!(
        all,
        [
            r#"2 {"device":"tern-1","collected_at":"2027-03-14T00:00:00Z","os.version":"13.0","disk.free_bytes":2500000000,"Site":"Tern","Owner":null}"#
        ]
    );
    assert_eq!(doubts, RecordDoubts::default());
}

#[test]
fn empty_cells_are_missing_or_empty_as_the_source_says() {
    let read = |keys: &str, field: &str| {
        let text = format!(
            "[[source]]\nid = \"s\"\nformat = \"csv\"\ndevice = \"Host\"\ncollected_from = \"file name %Y-%m-%d\"\n{keys}\n[source.fields]\nOwner = {field}\n"
        );
        read_all("Host,Owner,Site\na,,\n", &source_of(&text), &Dictionary::default()).0.remove(0)
    };
    let rest = |document: String| document.split_once("Z\"").unwrap().1.to_owned();
    assert_eq!(rest(read("", "\"owner\"")), "}");
    assert_eq!(rest(read("empty = \"null\"", "\"owner\"")), r#","owner":null,"Site":null}"#);
    assert_eq!(rest(read("", "{ fact = \"owner\", empty = \"null\" }")), r#","owner":null}"#);
}

#[test]
fn a_row_ends_the_table_and_what_follows_is_counted() {
    let source = source_of(
        "[[source]]\nid = \"s\"\nformat = \"csv\"\nskip_rows = 1\nuntil_row = \"Total\"\ndevice = \"Host\"\ncollected_from = \"file name %Y-%m-%d\"\n",
    );
    let dictionary = Dictionary::default();
    let with = with_path(&dictionary, "hosts-2027-03-14.csv");
    let mut count = 0;
    let text = "Hosts of the yard\nHost;OS\na;13\n Total ;1\nb;12\nprinted by the desk\n";
    let read = crate::records::read_records(text.as_bytes(), &source, &with, |record| {
        assert!(record.document.is_ok());
        count += 1;
        Ok(())
    });
    assert_eq!((count, read.unwrap().left_out), (1, 3));
    let undated =
        crate::records::read_records(text.as_bytes(), &source, &with_path(&dictionary, "hosts.csv"), |_| Ok(()));
    assert!(undated.unwrap_err().message.contains("no date like %Y-%m-%d in the file's name"));
}

proptest! {
    /// Whatever the order of the rows, each device has those of its own, in their order; bad ones are told and no others.
    #[test]
    fn rows_come_to_the_device_that_they_name(
        rows in prop::collection::vec((0_usize..4, "[a-c]{0,2}", 0_u8..3, 0_u8..8), 0..60),
    ) {
        let source = source_of(PROGRAMS);
        let mut text = String::from("Host,Seen,OS,Program,Version,User\n");
        let mut expected: std::collections::BTreeMap<String, Vec<Json>> = std::collections::BTreeMap::new();
        let mut bad = 0;
        for (device, program, version, kind) in &rows {
            let (id, seen) = match kind {
                // One row in eight names nobody, and one has no time.
                0 => (String::new(), "2027-03-14 05:00"),
                1 => (format!("d-{device}"), "never"),
                _ => (format!("d-{device}"), "2027-03-14 05:00"),
            };
            text.push_str(&format!("{id},{seen},13,{program},{version},x\n"));
            if *kind < 2 {
                bad += 1;
                continue;
            }
            let items = expected.entry(id).or_default();
            if !program.is_empty() {
                items.push(json!({ "name": program, "version": version.to_string() }));
            }
        }
        let (all, doubts) = read_all(&text, &source, &Dictionary::default());
        let mut found = std::collections::BTreeMap::new();
        let mut refused = 0;
        for shown in &all {
            match shown.split_once(' ').map(|(_, document)| serde_json::from_str::<Json>(document)) {
                Some(Ok(document)) => {
                    let items = document["software"].as_array().cloned().unwrap_or_default();
                    let known = found.insert(document["device"].as_str().unwrap().to_owned(), items);
                    prop_assert!(known.is_none(), "each device once: {all:?}");
                }
                _ => refused += 1,
            }
        }
        prop_assert_eq!((found, refused), (expected, bad));
        prop_assert_eq!(doubts, RecordDoubts::default());
    }
}
