//! Exports of many kinds, each read to facts that were worked out by hand; and what is wrong in others, told with its place.

use std::collections::BTreeMap;

use rust_xlsxwriter::{ExcelDateTime, Format, Workbook};

use crate::env::{Env, STEPPED};

const AT: &str = "2027-03-14T08:00:00Z";

const FACTS: &str = r#"
[facts]
"os.version"         = { type = "version" }
"disk.free_bytes"    = { type = "number", unit = "B" }
"disk.encrypted"     = { type = "boolean" }
"memory_bytes"       = { type = "number", unit = "B" }
"bought"             = { type = "date" }
"seen"               = { type = "instant" }
"disks"              = { type = "list", key = "mount" }
"disks[].size_bytes" = { type = "number", unit = "B" }
"#;

/// A workspace with one source, given by its keys behind the id.
fn workspace(source: &str) -> Env {
    let env = Env::new();
    env.write("fencepost.toml", format!("{STEPPED}[[source]]\nid = \"it\"\nfiles = [\"in/*\"]\n{source}"));
    env.write("facts.toml", FACTS);
    env
}

/// The facts of a device, each with its value; one of the wrong type says so.
fn facts(env: &Env, device: &str) -> BTreeMap<String, String> {
    let shown = env.json(&["show", device]);
    let facts = shown["facts"].as_array().unwrap().iter();
    let told = facts.map(|fact| {
        let (value, ty) = (fact["value"].as_str().unwrap(), fact["type"].as_str().unwrap());
        let value = if ty == "wrong-type" { format!("{value} ({ty})") } else { value.to_owned() };
        (fact["fact"].as_str().unwrap().to_owned(), value)
    });
    let collected = shown["collected_at"].as_str().map(|moment| ("collected".to_owned(), moment.to_owned()));
    told.chain(collected).collect()
}

#[track_caller]
fn assert_facts(env: &Env, device: &str, expected: &[(&str, &str)]) {
    let expected: BTreeMap<String, String> =
        expected.iter().map(|(fact, value)| ((*fact).to_owned(), (*value).to_owned())).collect();
    assert_eq!(facts(env, device), expected, "{device}");
}

#[test]
fn a_desk_writes_days_and_times_apart_and_numbers_with_commas() {
    let env = workspace(
        r#"
format = "csv"
device = "Host"
collected = ["Day", "Time"]
time_format = "%d.%m.%Y %H:%M"
missing_when = ["k. A."]
decimal = ","
thousands = "."
[source.fields]
"Free (GB)" = { fact = "disk.free_bytes", unit = "GB" }
"Memory" = "memory_bytes"
"Owner" = { fact = "ownership", case = "lower", values = { "corporate" = "company" } }
"Bought" = { fact = "bought", time_format = "%d.%m.%y" }
"Admins" = { fact = "admins", split = "," }
"#,
    );
    env.write("in/desk.csv", "Host;Day;Time;Free (GB);Memory;Owner;Bought;Admins\nh-1;14.03.2027;06:00;1.234,5;7,5 GiB;CORPORATE;15.01.21;\"root, ops\"\nh-2;28.03.2027;02:30;k. A.;;Own;;\nh-3;13.03.2027;06:00;12.5;8 GiB;Own;31.02.21;root\n");
    let out = env.ok(&["import", "in", "--as-of", "2027-03-29T08:00:00Z"]);
    assert!(out.contains("disk.free_bytes: 1 value is no number, such as 12.5"), "{out}");
    assert_facts(
        &env,
        "h-1",
        &[
            ("collected", "2027-03-14T05:00:00Z"),
            ("disk.free_bytes", "1234500000000"),
            ("memory_bytes", "8053063680"),
            ("ownership", "company"),
            ("bought", "2021-01-15"),
            ("admins", "[root, ops]"),
        ],
    );
    // Half past two is not there on the day the clocks go forward in Oslo: the later of the two.
    assert_facts(&env, "h-2", &[("collected", "2027-03-28T01:30:00Z"), ("ownership", "own")]);
    assert_facts(
        &env,
        "h-3",
        &[
            ("collected", "2027-03-13T05:00:00Z"),
            ("disk.free_bytes", "12.5 (wrong-type)"),
            ("memory_bytes", "8589934592"),
            ("ownership", "own"),
            ("bought", "31.02.21 (wrong-type)"),
            ("admins", "[root]"),
        ],
    );
}

#[test]
fn an_inventory_has_a_row_for_each_program() {
    let env = workspace(
        r#"
format = "csv"
device = { field = "Host", case = "lower" }
collected = "Scanned"
complete = true
rows = { list = "software", key = "Program" }
[source.fields]
"Program" = "software[].name"
"Version" = "software[].version"
"OS" = "os.version"
"#,
    );
    env.write("in/a.csv", "Host,Scanned,OS,Program,Version\nH-1,2027-03-14T05:00:00Z,13.0,b,2\nh-2,2027-03-14T05:00:00Z,12,,\nh-1,2027-03-14T06:00:00Z,13.0,a,\nh-1,2027-03-14T05:30:00Z,,b,2\n");
    let out = env.ok(&["import", "in", "--as-of", AT]);
    assert!(out.contains("4 rows, 2 new devices"), "{out}");
    let list = "[{name: b, version: 2}, {name: a}, {name: b, version: 2}]";
    assert_facts(&env, "h-1", &[("collected", "2027-03-14T06:00:00Z"), ("os.version", "13.0"), ("software", list)]);
    assert_facts(&env, "h-2", &[("collected", "2027-03-14T05:00:00Z"), ("os.version", "12"), ("software", "[]")]);
}

#[test]
fn a_table_has_a_row_for_each_property() {
    let env = workspace(
        r#"
format = "csv"
device = "Device"
collected_from = "file name %d-%m-%Y"
time_zone = "UTC"
rows = { fact = "Property", value = "Value" }
[source.fields]
"OS ver." = "os.version"
"Encrypted" = { fact = "disk.encrypted", true_when = "sim", false_when = "não" }
"#,
    );
    env.write(
        "in/props 14-03-2027.csv",
        "Device|Property|Value\nd|OS ver.|13.0\nd|Encrypted|Não\ne|OS ver.|12\ne|OS ver.|13\nd|Colour|blue\n",
    );
    let out = env.ok(&["import", "in", "--as-of", AT]);
    assert!(out.contains("os.version: the rows of 1 device say different things, such as 12 and 13"), "{out}");
    assert!(!out.contains("no version"), "it is told once: {out}");
    let collected = ("collected", "2027-03-14T00:00:00Z");
    assert_facts(&env, "d", &[collected, ("os.version", "13.0"), ("disk.encrypted", "false"), ("Colour", "blue")]);
    assert!(facts(&env, "e")["os.version"].ends_with("(wrong-type)"));
}

#[test]
fn a_report_has_lines_around_its_table_and_an_encoding_of_its_own() {
    let source = r#"
format = "csv"
encoding = "windows-1252"
skip_rows = 3
until_row = "Summe"
device = "Gerät"
collected_from = "file name %Y-%m-%d"
time_zone = "UTC"
[source.fields]
"OS version" = { fact = "os.version", also = ["OS ver.", "Version"] }
"#;
    let env = workspace(source);
    let report = |heading: &str| -> Vec<u8> {
        let text =
            format!("Bericht\n\nf\u{fc}r den Hafen\nGer\u{e4}t;{heading};Ort\nK-1;13.0;K\u{f6}ln\nSumme;1;\nK-9;9;x\n");
        text.chars().map(|symbol| u8::try_from(u32::from(symbol)).unwrap()).collect()
    };
    env.write("in/report-2027-03-13.csv", report("OS ver."));
    env.write("in/report-2027-03-14.csv", report("Version"));
    let out = env.ok(&["import", "in", "--as-of", AT]);
    assert!(out.contains("2 rows were left out"), "{out}");
    assert_facts(&env, "K-1", &[("collected", "2027-03-14T00:00:00Z"), ("os.version", "13.0"), ("Ort", "Köln")]);
    let draft = env.ok(&["source", "draft", "in/report-2027-03-14.csv"]);
    assert!(draft.contains("skip_rows        = 3") && draft.contains("delimiter        = \";\""), "{draft}");
    env.write("in/report-2027-03-15.csv", report("OS-Version"));
    let says = ["column `OS version` is gone; `OS-Version` is new"];
    env.fails(&["import", "in/report-2027-03-15.csv", "--as-of", "2027-03-15T08:00:00Z"], 2, &says);
}

#[test]
fn a_tool_writes_utf_16_with_tabs_quotes_and_any_ends_of_lines() {
    let env = workspace(
        "format = \"csv\"\ndevice = \"Host\"\ncollected = \"Seen\"\n[source.fields]\n\"OS ver.\" = \"os.version\"\n",
    );
    let text = "Host\tSeen\tOS ver.\t\"Note\t1\"\r\nh-1\t2027-03-14T05:00:00Z\t13\t\"a\tb\"\nh-2\t2027-03-14T05:00:00Z\t12\t\"two\r\nlines\"\rh-3\t2027-03-14T05:00:00Z\t11\t\"\"\"x\"\"\"";
    let units = std::iter::once(0xfeff_u16).chain(text.encode_utf16());
    env.write("in/tool.csv", units.flat_map(u16::to_be_bytes).collect::<Vec<u8>>());
    env.ok(&["import", "in", "--as-of", AT]);
    let collected = ("collected", "2027-03-14T05:00:00Z");
    assert_facts(&env, "h-1", &[collected, ("os.version", "13"), ("Note\t1", "a\tb")]);
    assert_facts(&env, "h-2", &[collected, ("os.version", "12"), ("Note\t1", "two\r\nlines")]);
    assert_facts(&env, "h-3", &[collected, ("os.version", "11"), ("Note\t1", "\"x\"")]);
}

#[test]
fn an_object_of_devices_holds_lists_of_its_own() {
    let env = workspace(
        r#"
format = "json"
records = "hosts.*"
device = { field = "@key", case = "lower", before = "." }
collected = "at"
[source.fields]
"hw.drives[].path" = "disks[].mount"
"hw.drives[].gb" = { fact = "disks[].size_bytes", unit = "GB" }
"hw.drives[].sn" = { leave_out = true }
"procs[].pid" = { leave_out = true }
"#,
    );
    env.write("in/hosts.json", r#"{"n":2,"hosts":{"TERN-1.yard.example":{"at":1804000000,"hw":{"cpu":4,"drives":[{"path":"/","gb":"512","sn":"1"},{"path":"/home","gb":2}]},"procs":[{"pid":7,"name":"guardd"}]},"gull-2":{"at":"2027-03-02T00:00:00Z"}}}"#);
    env.ok(&["import", "in", "--as-of", AT]);
    assert_facts(
        &env,
        "tern-1",
        &[
            ("collected", "2027-03-02T15:06:40Z"),
            ("hw.cpu", "4"),
            ("disks", "[{mount: /, size_bytes: 512000000000}, {mount: /home, size_bytes: 2000000000}]"),
            ("procs", "[{name: guardd}]"),
        ],
    );
    assert_facts(&env, "gull-2", &[("collected", "2027-03-02T00:00:00Z")]);
}

#[test]
fn a_workbook_keeps_the_types_of_its_cells() {
    let mut workbook = Workbook::new();
    workbook.add_worksheet().set_name("Cover").unwrap().write(0, 0, "Register").unwrap();
    let sheet = workbook.add_worksheet();
    sheet.set_name("Devices").unwrap().write(0, 0, "as of today").unwrap();
    for (column, heading) in ["Host", "Seen", "Bought", "Free", "Locked", "Extension"].into_iter().enumerate() {
        sheet.write(1, column as u16, heading).unwrap();
    }
    let (day, moment) = (Format::new().set_num_format("dd/mm/yyyy"), Format::new().set_num_format("dd/mm/yyyy hh:mm"));
    let seen = ExcelDateTime::from_ymd(2027, 3, 14).unwrap().and_hms(6, 30, 0).unwrap();
    for (row, host) in [(2, "yard-1"), (4, "yard-2")] {
        sheet.write(row, 0, host).unwrap();
        sheet.write_with_format(row, 1, &seen, &moment).unwrap();
        sheet.write_with_format(row, 2, ExcelDateTime::from_ymd(2021, 1, 15).unwrap(), &day).unwrap();
    }
    sheet.write(2, 3, 1.5).unwrap();
    sheet.write(2, 4, true).unwrap();
    sheet.write(2, 5, "0012").unwrap();
    sheet.write(4, 3, "n/a").unwrap();
    sheet.write(5, 0, "Sum").unwrap();
    let env = workspace(
        r#"
format = "xlsx"
sheet = "Devices"
skip_rows = 1
until_row = "Sum"
device = "Host"
collected = "Seen"
[source.fields]
"Free" = { fact = "disk.free_bytes", unit = "GB", missing_when = "n/a" }
"Bought" = "bought"
"Locked" = "disk.encrypted"
"#,
    );
    env.write("in/register.xlsx", workbook.save_to_buffer().unwrap());
    let out = env.ok(&["import", "in", "--as-of", AT]);
    assert!(out.contains("2 records, 2 new devices"), "{out}");
    let (collected, bought) = (("collected", "2027-03-14T05:30:00Z"), ("bought", "2021-01-15"));
    let free = ("disk.free_bytes", "1500000000");
    assert_facts(&env, "yard-1", &[collected, bought, free, ("disk.encrypted", "true"), ("Extension", "0012")]);
    assert_facts(&env, "yard-2", &[collected, bought]);
    let draft = env.ok(&["source", "draft", "in/register.xlsx"]);
    for line in [
        "format           = \"xlsx\"",
        "sheet            = \"Devices\"",
        "skip_rows        = 1",
        "device           = \"Host\"",
    ] {
        assert!(draft.contains(line), "{line}: {draft}");
    }
}

#[test]
fn lists_of_software_come_in_open_formats() {
    let env = workspace("format = \"cyclonedx\"\n");
    env.write("in/a.json", r#"{"bomFormat":"CycloneDX","specVersion":"1.5","metadata":{"timestamp":"2027-03-14T05:00:00Z","component":{"type":"device","name":"k-1"}},"components":[{"type":"application","name":"hullplan","version":"4.2","supplier":{"name":"Quaymark"},"purl":"pkg:generic/hullplan@4.2"}],"other":{"x":1}}"#);
    env.ok(&["import", "in", "--as-of", AT]);
    let one = |supplier: &str| {
        format!("[{{name: hullplan, version: 4.2, supplier: {supplier}, purl: pkg:generic/hullplan@4.2}}]")
    };
    assert_facts(&env, "k-1", &[("collected", "2027-03-14T05:00:00Z"), ("software", &one("Quaymark"))]);
    let env = workspace("format = \"spdx\"\ndevice_from = \"file-name\"\n");
    env.write("in/k-2.json", r#"{"spdxVersion":"SPDX-2.3","name":"anything","creationInfo":{"created":"2027-03-14T05:00:00Z"},"packages":[{"name":"hullplan","versionInfo":"4.2","supplier":"Organization: Quaymark","externalRefs":[{"referenceCategory":"PACKAGE-MANAGER","referenceType":"purl","referenceLocator":"pkg:generic/hullplan@4.2"}]}]}"#);
    env.ok(&["import", "in", "--as-of", AT]);
    assert_facts(&env, "k-2", &[("collected", "2027-03-14T05:00:00Z"), ("software", &one("Quaymark"))]);
    env.write("in/k-3.json", "{\"bomFormat\":\"CycloneDX\"}");
    env.fails(&["import", "in/k-3.json", "--as-of", AT], 2, &["this is no SPDX document", "nothing of this file"]);
}

#[test]
fn agents_leave_a_file_for_each_device_and_ids_are_joined() {
    let env = workspace("format = \"ini\"\ndevice_from = \"file-name\"\ncollected = \"when\"\n");
    env.write("in/tern-galley-1.ini", "when = 2027-03-14T05:00:00Z\n[os]\nversion = 13.0\n");
    env.ok(&["import", "in", "--as-of", AT]);
    assert_facts(&env, "tern-galley-1", &[("collected", "2027-03-14T05:00:00Z"), ("os.version", "13.0")]);
    let env =
        workspace("format = \"csv\"\ndevice = { join = [\"Site\", \"No\"], with = \"/\" }\ncollected = \"Seen\"\n");
    env.write("in/tills.csv", "Site,No,Seen,x\nness,7,2027-03-14T05:00:00Z,1\n");
    env.ok(&["import", "in", "--as-of", AT]);
    assert_facts(&env, "ness/7", &[("collected", "2027-03-14T05:00:00Z"), ("x", "1")]);
    // A pipe has no name: its source is said.
    let piped =
        env.pipe(&["import", "-", "--source", "it", "--as-of", AT], b"Site,No,Seen\nness,8,2027-03-14T05:00:00Z\n");
    assert!(piped.out.contains("1 new device"), "{}", piped.out);
}

#[test]
fn what_is_wrong_with_an_export_is_told_with_its_place() {
    let plain = "format = \"csv\"\ndevice = \"Host\"\ncollected = \"Seen\"\n[source.fields]\n\"OS\" = \"os.version\"\n";
    let wide = format!("Host,Seen,OS{}\n", ",x".repeat(10_000_000));
    let cases: [(&str, Vec<u8>, &[&str]); 9] = [
        (plain, b"Host,Seen,Os ver\n".to_vec(), &["column `OS` is gone; `Os ver` is new"]),
        (
            plain,
            b"Host,Seen,Platform\n".to_vec(),
            &["column `OS` is missing", "the file has `Host`, `Seen`, `Platform`"],
        ),
        (plain, wide.into_bytes(), &["line 1: the row is longer than 16 MiB"]),
        (plain, b"\xff\xfeH\0o".to_vec(), &["UTF-16"]),
        (
            plain,
            b"Host,Seen,OS\na,2027-03-14T05:00:00Z,13\nb\xf6,x,y\n".to_vec(),
            &["line 3: these bytes are not UTF-8"],
        ),
        (plain, b"".to_vec(), &["the file is empty"]),
        (plain, b"PK\x03\x04".to_vec(), &["format = \"xlsx\""]),
        (
            "format = \"csv\"\nskip_rows = 9\ndevice = \"Host\"\n",
            b"Host\na\n".to_vec(),
            &["has 2 lines, and skip_rows passes over 9"],
        ),
        (
            "format = \"csv\"\ndevice = \"Host\"\ncollected_from = \"file name %Y-%m-%d\"\n",
            b"Host\na\n".to_vec(),
            &["no date like %Y-%m-%d in the file's name"],
        ),
    ];
    for (source, bytes, says) in cases {
        let env = workspace(source);
        env.write("in/x.csv", bytes);
        env.fails(&["import", "in/x.csv", "--as-of", AT], 2, says);
    }
    // A row of sums has no time; a heading twice is numbered, and a quote that is not closed spoils its own row.
    let env = workspace(plain);
    env.write("in/x.csv", "Host,Seen,OS,Site,Site\na,2027-03-14T05:00:00Z,13,x,y\nb,2027-03-14T05:00:00Z,\"12,x,y\nTotal,,2,,\nc,2027-03-14T05:00:00Z,11,x\n");
    let out = env.ok(&["import", "in/x.csv", "--as-of", AT]);
    for says in [
        "4 records, 1 new device",
        "3 bad records were set aside",
        "line 3: a quote that is not closed",
        "line 4: no `Seen`: the record does not say when it was collected",
        "line 5: this row has 4 cells under 5 headings",
    ] {
        assert!(out.contains(says), "{says}: {out}");
    }
    assert_eq!(facts(&env, "a")["Site (2)"], "y");
    let mistakes = [
        ("format = \"jsonl\"\nskip_rows = 2\n", "`skip_rows` has no meaning here"),
        ("format = \"csv\"\nencoding = \"klingon\"\n", "unknown encoding `klingon`"),
        ("format = \"csv\"\nrows = { list = \"software\" }\n", "`list` needs `key` beside it"),
        ("format = \"csv\"\ndevice = { case = \"lower\" }\n", "the id needs field or join"),
        ("format = \"csv\"\ncollected_from = \"name\"\n", "`collected_from` says not where the date is"),
        (
            "format = \"csv\"\ndevice = \"h\"\n[source.fields]\n\"V\" = \"software[].v\"\n",
            "`V` is no field of a list's items",
        ),
        ("format = \"json\"\n[source.fields]\n\"a[].b[].c\" = \"a[].c\"\n", "is a field of a list in a list"),
        (
            "format = \"json\"\n[source.fields]\n\"a[].b\" = \"x[].b\"\n\"a[].c\" = \"y[].c\"\n",
            "makes two lists of one",
        ),
    ];
    for (source, says) in mistakes {
        workspace(source).fails(&["list", "sources"], 2, &[says]);
    }
}
