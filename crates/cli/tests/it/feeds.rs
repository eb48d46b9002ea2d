//! Feeds in every format: read as meant, drafted when unknown, shown before they go in.

use std::io::Write as _;

use serde_json::Value as Json;

use crate::env::{Env, STEPPED};

const AT: &str = "2027-03-01T06:00:00Z";
const DAY2: &str = "2027-03-02T06:00:00Z";

fn with_sources(sources: &str) -> Env {
    let env = Env::new();
    env.write("fencepost.toml", format!("{STEPPED}{sources}"));
    env
}

/// The value of a fact as `show` tells it.
#[track_caller]
fn fact(env: &Env, device: &str, path: &str) -> String {
    let shown = env.json(&["show", device]);
    let facts = shown["facts"].as_array().unwrap();
    let fact = facts.iter().find(|fact| fact["fact"] == path).unwrap_or_else(|| panic!("no {path} in {facts:?}"));
    let wrong = if fact["wrong_type"] == true { " (wrong type)" } else { "" };
    format!("{}{wrong}", fact["value"].as_str().unwrap())
}

const CSV_SOURCE: &str = r#"
[[source]]
id = "handhelds"
files = ["*.csv*"]
format = "csv"
device = "Asset tag"
collected = "Exported at"
[source.fields]
"Name (2)" = "owner.name"
"Free (GB)" = { fact = "disk.free_bytes", unit = "GB" }
"#;

const CSV: &str = "Asset tag,Exported at,Name,Free (GB),Name,Long heading, with spaces\r\nt1,2027-03-01 06:30,tablet,2.5,\"two\r\nlines; \"\"quoted\"\"\",x\r\n";

fn free_bytes(env: &Env) {
    env.write("facts.toml", "[facts]\n\"disk.free_bytes\" = { type = \"number\", unit = \"B\" }\n");
}

#[test]
fn csv_with_doubled_headings_quoted_newlines_and_every_wrapping() {
    let csv = CSV.replace("Long heading, with spaces", "\"Long heading, with spaces\"");
    let utf16 = |big: bool| -> Vec<u8> {
        let units = std::iter::once(0xfeff).chain(csv.encode_utf16());
        units.flat_map(|unit| if big { unit.to_be_bytes() } else { unit.to_le_bytes() }).collect()
    };
    let gzip = |bytes: &[u8]| {
        let mut encoder = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
        encoder.write_all(bytes).unwrap();
        encoder.finish().unwrap()
    };
    let files: [(&str, Vec<u8>); 6] = [
        ("plain.csv", csv.clone().into_bytes()),
        ("mark.csv", format!("\u{feff}{csv}").into_bytes()),
        ("little.csv", utf16(false)),
        ("big.csv", utf16(true)),
        ("packed.csv.gz", gzip(csv.as_bytes())),
        ("packed.csv.zst", zstd::encode_all(csv.as_bytes(), 3).unwrap()),
    ];
    for (name, bytes) in files {
        let env = with_sources(CSV_SOURCE);
        free_bytes(&env);
        env.write(name, bytes);
        let out = env.ok(&["import", name, "--as-of", AT]);
        assert!(out.contains("1 record, 1 new device"), "{name}: {out}");
        assert_eq!(fact(&env, "t1", "Name"), "tablet", "{name}");
        assert_eq!(fact(&env, "t1", "owner.name"), "two\r\nlines; \"quoted\"", "{name}");
        assert_eq!(fact(&env, "t1", "disk.free_bytes"), "2500000000", "{name}");
        assert_eq!(fact(&env, "t1", "Long heading, with spaces"), "x", "{name}");
    }
}

#[test]
fn a_broken_wrapping_says_so_and_leaves_nothing_behind() {
    let env = with_sources(CSV_SOURCE);
    free_bytes(&env);
    let mut encoder = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    encoder.write_all(CSV.repeat(500).as_bytes()).unwrap();
    let packed = encoder.finish().unwrap();
    env.write("cut.csv.gz", &packed[..packed.len() / 2]);
    env.fails(&["import", "cut.csv.gz", "--as-of", AT], 2, &["nothing of this file was imported"]);
    env.write("half.csv", [0xff, 0xfe, b'A', 0, b'B']);
    env.fails(&["import", "half.csv", "--as-of", AT], 2, &["UTF-16", "nothing of this file"]);
    let latin =
        b"Asset tag,Exported at,Free (GB),Name,Name\nt2,2027-03-01 06:30,2.5 MB,b,b\nt1,2027-03-01 06:30,2,a,bl\xe5\n";
    env.write("latin.csv", latin);
    let says = ["line 3: these bytes are not UTF-8", "encoding = \"windows-1252\"", "nothing of this file"];
    env.fails(&["import", "latin.csv", "--as-of", AT], 2, &says);
    let said = CSV_SOURCE.replace("format = \"csv\"", "format = \"csv\"\nencoding = \"windows-1252\"");
    env.write("fencepost.toml", format!("{STEPPED}{said}"));
    assert!(env.ok(&["import", "latin.csv", "--as-of", AT]).contains("2 new devices"));
    assert_eq!(fact(&env, "t1", "owner.name"), "blå");
    // A cell that names its own unit is taken at its word.
    assert_eq!(fact(&env, "t2", "disk.free_bytes"), "2500000");
}

#[test]
fn json_as_a_list_an_object_and_a_list_inside_an_object() {
    let env = with_sources(
        r#"
[[source]]
id = "list"
files = ["list*.json"]
format = "json"
[[source]]
id = "inside"
files = ["inside*.json"]
format = "json"
records = "data.items"
device = "meta.name"
collected = "seen"
[source.fields]
"OS" = "os.version"
"#,
    );
    env.write("list.json", "[\n {\"device\":\"a\",\"collected_at\":\"2027-03-01T05:00:00Z\",\"x\":1},\n {\"device\":\"b\",\"x\":2},\n {\"device\":\"c\",\"collected_at\":\"2027-03-01T05:00:00Z\",\"x\":01}\n]");
    let out = env.ok(&["import", "list.json", "--as-of", AT]);
    assert!(
        out.contains("1 new device") && out.contains("line 3: no `collected_at`") && out.contains("line 4: byte"),
        "{out}"
    );
    env.write("inside.json", r#"{"page":1,"data":{"total":2,"items":[{"meta":{"name":"d"},"seen":1803877200,"OS":"13"},{"meta":{"name":"e"},"seen":1803877200000,"OS":"9","OS":"10"}]}}"#);
    assert!(env.ok(&["import", "inside.json", "--as-of", AT]).contains("2 new devices"));
    assert_eq!(fact(&env, "d", "os.version"), "13");
    assert_eq!(env.json(&["show", "d"])["collected_at"], "2027-03-01T05:00:00Z");
    // A key that is given twice is of the wrong type after mapping as before.
    assert_eq!(fact(&env, "e", "os.version"), "wrong type (wrong type)");
    env.write("list-one.json", r#"{"device":"f","collected_at":"2027-03-01T05:00:00Z","x":3}"#);
    assert!(env.ok(&["import", "list-one.json", "--as-of", AT]).contains("1 new device"));
    env.write("inside-cut.json", r#"{"data":{"items":[{"meta":{"name":"g"},"seen":1803877200}"#);
    env.fails(&["import", "inside-cut.json", "--as-of", AT], 2, &["ends before its list of records"]);
    env.write("inside-other.json", r#"{"rows":[]}"#);
    env.fails(&["import", "inside-other.json", "--as-of", AT], 2, &["there is no `data.items`", "`rows`"]);
    env.write("list-lines.json", "{\"device\":\"h\"}\n{\"device\":\"i\"}\n");
    env.fails(&["import", "list-lines.json", "--as-of", AT], 2, &["format = \"jsonl\""]);
    assert!(!env.ok(&["list", "devices"]).contains("g "));
}

#[test]
fn one_file_a_device_in_property_lists_ini_and_settings() {
    let env = with_sources(
        r#"
[[source]]
id = "lists"
files = ["lists/*.plist"]
format = "plist"
device = "Name"
[source.fields]
"System.Version" = "os.version"

[[source]]
id = "dumps"
files = ["dumps/*.ini*"]
format = "ini"
device_from = "file-name"

[[source]]
id = "sysctl"
files = ["hosts/*/settings.conf"]
format = "key-value"
device_from = "folder-name"
collected = "taken"
under = "settings"
"#,
    );
    env.write(
        "facts.toml",
        "[facts]\n\"os.version\" = { type = \"version\" }\n\"log.days\" = { type = \"number\" }\n\"settings.port\" = { type = \"number\" }\n\"agent.seen\" = { type = \"instant\" }\n",
    );
    env.write("lists/a.plist", "<?xml version=\"1.0\"?><plist version=\"1.0\"><dict><key>Name</key><string>mac-1</string><key>System</key><dict><key>Version</key><string>14.4</string></dict><key>Disks</key><array><dict><key>free</key><integer>5</integer></dict></array></dict></plist>");
    env.write("dumps/kiosk-7.ini", "[log]\ndays = 35\nlevel=info\n[agent]\nseen=2027-02-28 10:00\n; note\n");
    env.write("dumps/kiosk-8.ini", "[log]\ndays = 35\nnonsense\n");
    env.write("dumps/kiosk-9.ini", "[log]\ndays = 35\ndays = 7\n");
    env.write("hosts/tern-tickets/settings.conf", "taken=2027-03-01 06:59\nport=22\nmain.timeout = \"30 s\"\nempty=\n");
    let out = env.ok(&["import", "lists", "dumps", "hosts", "--as-of", "2099-01-01T00:00:00Z"]);
    assert!(out.contains("as lists: 1 record, 1 new device"), "{out}");
    assert!(out.contains("    line 3: no `=` in it"), "{out}");
    assert_eq!(fact(&env, "mac-1", "os.version"), "14.4");
    assert_eq!(fact(&env, "mac-1", "Disks"), "[{free: 5}]");
    assert_eq!((fact(&env, "kiosk-7", "log.days"), fact(&env, "kiosk-7", "log.level")), ("35".into(), "info".into()));
    // A moment without an offset is in the source's zone, or the workspace's.
    assert_eq!(fact(&env, "kiosk-7", "agent.seen"), "2027-02-28T09:00:00Z");
    assert_eq!(fact(&env, "kiosk-9", "log.days"), "wrong type (wrong type)");
    assert_eq!(env.json(&["show", "tern-tickets"])["collected_at"], "2027-03-01T05:59:00Z");
    // Under a path, keys stay as they were written, for `get value`.
    let tried = env.json(&["try", "get value(settings, \"main.timeout\")", "--device", "tern-tickets"]);
    assert_eq!(tried["value"], "30 s");
    assert_eq!(fact(&env, "tern-tickets", "settings.port"), "22");
    let empty = env.json(&["try", "settings.empty = null", "--device", "tern-tickets"]);
    assert_eq!(empty["outcome"], "pass");
}

#[test]
fn binary_property_lists_are_read_as_well() {
    let env = with_sources("[[source]]\nid = \"lists\"\nfiles = [\"*.plist\"]\nformat = \"plist\"\ndevice = \"n\"\n");
    // {"n": "b1", "x": 7} as a binary property list.
    let binary: &[u8] = b"bplist00\xd2\x01\x02\x03\x04\x51n\x51x\x52b1\x10\x07\x08\x0d\x0f\x11\x14\x00\x00\x00\x00\x00\x00\x01\x01\x00\x00\x00\x00\x00\x00\x00\x05\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x16";
    env.write("b.plist", binary);
    assert!(env.ok(&["import", "b.plist", "--as-of", "2099-01-01T00:00:00Z"]).contains("1 new device"));
    assert_eq!(fact(&env, "b1", "x"), "7");
}

#[test]
fn times_are_read_as_their_source_writes_them() {
    let env = with_sources(
        "[[source]]\nid = \"h\"\nfiles = [\"*.csv\"]\nformat = \"csv\"\ndevice = \"Tag\"\ncollected = \"When\"\ntime_format = \"%d.%m.%Y %H:%M\"\ntime_zone = \"America/Lima\"\n",
    );
    env.write("facts.toml", "[facts]\n\"seen\" = { type = \"instant\" }\n");
    env.write("a.csv", "Tag,When,seen\na,28.02.2027 20:00,27.02.2027 08:00\nb,2027-02-28,x\n");
    let out = env.ok(&["import", "a.csv", "--as-of", AT]);
    assert!(out.contains("line 3: `When` is no moment: it does not read as time_format"), "{out}");
    assert_eq!(env.json(&["show", "a"])["collected_at"], "2027-03-01T01:00:00Z");
    assert_eq!(fact(&env, "a", "seen"), "2027-02-27T13:00:00Z");
}

#[test]
fn a_dry_run_shows_what_would_come_of_each_file_and_does_none_of_it() {
    let env = with_sources(CSV_SOURCE);
    free_bytes(&env);
    env.write(
        "one.csv",
        "Asset tag,Exported at,Free (GB),Name,Name\nt1,2027-03-01 06:30,2,old,\nt2,2027-03-01 06:30,2,same,\n",
    );
    let before = env.run(&["import", "--dry-run", "one.csv", "--as-of", AT]);
    assert!(before.out.contains("handhelds, read as csv, because its path fits \"*.csv*\""), "{}", before.out);
    assert!(
        before.out.contains("2 records of 2 devices") && before.out.contains("make 2 new devices"),
        "{}",
        before.out
    );
    assert!(before.out.contains("device=t1, collected_at=2027-03-01T05:30:00Z"), "{}", before.out);
    assert!(before.err.contains("Nothing was imported"));
    assert!(!env.path(".fencepost").exists(), "a dry run makes no ledger");
    env.ok(&["import", "one.csv", "--as-of", AT]);
    env.write("two.csv", "Asset tag,Exported at,Free (GB),Name,Name\nt1,2027-03-02 06:30,2,new,\nt2,2027-03-02 06:30,3,same,\n,2027-03-02 06:30,2,x,\n");
    let out = env.ok(&["import", "--dry-run", "two.csv", "--as-of", DAY2]);
    assert!(out.contains("t1: Name old -> new") && out.contains("1 bad record would be set aside"), "{out}");
    assert_eq!(env.json(&["list", "rejects"])["rows"], Json::Array(Vec::new()));
    assert_eq!(fact(&env, "t1", "Name"), "old");
    // What it said is what happens.
    assert!(env.ok(&["import", "two.csv", "--as-of", DAY2]).contains("0 new devices, 2 changed, 0 unchanged"));
}

#[test]
fn the_same_file_read_in_another_way_takes_the_place_of_what_it_said() {
    let env = with_sources(CSV_SOURCE);
    free_bytes(&env);
    env.write("one.csv", "Asset tag,Exported at,Free (GB),Name,Name\nt1,2027-03-01 06:30,2,tablet,\n");
    env.ok(&["import", "one.csv", "--as-of", AT]);
    env.write(
        "fencepost.toml",
        format!("{STEPPED}{}", CSV_SOURCE.replace("[source.fields]", "[source.fields]\n\"Name\" = \"kind\"")),
    );
    let out = env.ok(&["import", "one.csv", "--as-of", AT]);
    assert!(out.contains("0 new devices, 1 changed"), "{out}");
    assert_eq!(fact(&env, "t1", "kind"), "tablet");
    assert!(env.ok(&["import", "one.csv", "--as-of", AT]).contains("nothing to do"));
}

#[test]
fn a_stream_is_known_again_as_a_file_is() {
    let env = with_sources(CSV_SOURCE);
    free_bytes(&env);
    let csv = b"Asset tag,Exported at,Free (GB),Name,Name\nt1,2027-03-01 06:30,2,tablet,\n";
    let first = env.pipe(&["import", "-", "--as-of", AT], csv);
    assert!(first.out.contains("1 new device"), "{}{}", first.out, first.err);
    assert!(env.pipe(&["import", "-", "--as-of", AT], csv).out.contains("nothing to do"));
    env.write("one.csv", csv);
    assert!(env.ok(&["import", "one.csv", "--as-of", AT]).contains("nothing to do"));
}

#[test]
fn a_draft_is_a_source_that_reads_the_file_it_was_made_from() {
    let csv = "Asset tag;Scanned;OS ver.;Encrypted?;Free (GB);Passcode;Site\n".to_owned()
        + &(1..=12)
            .map(|n| {
                format!(
                    "S-{n};{n:02}.02.2027 08:00;13.{}.1;{};{n},5;pin{n};Ness Pier\n",
                    n % 3,
                    if n % 2 == 0 { "Ja" } else { "Nei" }
                )
            })
            .collect::<String>();
    let csv = csv.replace(",5;pin", ".5;pin");
    let jsonl: String = (1..=3)
        .map(|n| format!("{{\"hostname\":\"h{n}\",\"reported_at\":\"2027-02-2{n}T08:00:00Z\",\"software\":[{{\"name\":\"a\",\"v\":\"1\"}}],\"up\":true}}\n"))
        .collect();
    let wrapped = format!("{{\"page\":1,\"machines\":[{}]}}", jsonl.lines().collect::<Vec<_>>().join(","));
    for (name, text, device, path, value) in [
        ("scans-2027-02.csv", csv.as_str(), "S-2", "encrypted", "true"),
        ("hosts.jsonl", jsonl.as_str(), "h2", "up", "true"),
        ("all.json", wrapped.as_str(), "h3", "up", "true"),
        ("kiosk-3.ini", "[log]\ndays=35\n", "kiosk-3", "log.days", "35"),
        ("kiosk-4.conf", "a.b=35\n", "kiosk-4", "a.b", "35"),
        (
            "m.plist",
            "<plist version=\"1.0\"><dict><key>hostname</key><string>m-1</string><key>x</key><true/></dict></plist>",
            "m-1",
            "x",
            "true",
        ),
    ] {
        let env = Env::new();
        env.write(name, text);
        let draft = env.ok(&["source", "draft", name]);
        env.write("fencepost.toml", format!("{STEPPED}\n{draft}"));
        let facts: String = draft
            .lines()
            .skip_while(|line| !line.starts_with("# For facts.toml"))
            .skip(1)
            .map(|line| format!("{}\n", line.trim_start_matches("# ")))
            .collect();
        env.write("facts.toml", format!("[facts]\n{facts}"));
        let out = env.ok(&["import", name, "--as-of", "2099-01-01T00:00:00Z"]);
        assert!(!out.contains("bad record") && out.contains("new device"), "{name}: {out}\n{draft}");
        assert_eq!(fact(&env, device, path), value, "{name}: {draft}");
        assert!(!draft.contains("pin1"), "a draft shows no secret: {draft}");
    }
}

#[test]
fn a_draft_says_what_it_could_not_tell() {
    let env = Env::new();
    env.write("x.csv", "Alpha,Beta\n1,2\n1,2\n");
    let draft = env.ok(&["source", "draft", "x.csv"]);
    assert!(draft.contains("# device") && draft.contains("could not tell: which field names the device?"), "{draft}");
    assert!(draft.contains("could not tell: which field says when?"), "{draft}");
    env.write("dates.csv", "Asset,Scan date\na,02/03/2027\nb,04/05/2027\n");
    assert!(env.ok(&["source", "draft", "dates.csv"]).contains("could not tell day from month"));
    env.write("y.xml", "<other/>");
    env.fails(&["source", "draft", "y.xml"], 2, &["only property lists are read"]);
    env.write("z.csv", "");
    env.fails(&["source", "draft", "z.csv"], 2, &["empty"]);
    let people = env.pipe(
        &["source", "draft", "-"],
        b"No.,Name,E-mail,Department\n7,Bro,bro@x.example,ships/tern\n8,Dra,dra@x.example,office\n",
    );
    assert!(people.out.contains("person") && people.out.contains("\"E-mail\"     = \"mail\""), "{}", people.out);
    // One machine's settings are no list of people, even if they name nothing but somebody's address.
    let settings = env.pipe(&["source", "draft", "-"], b"owner=bro@x.example\n");
    assert!(settings.out.contains("key-value") && !settings.out.contains("person "), "{}", settings.out);
}

/// An export as a German office keeps it: commas in numbers, days in columns of their own, words of its own.
const OFFICE: &str = "Gerätename;Seriennummer;Benutzer;Zuletzt gesehen;Betriebssystem-Version;Verschlüsselt;Freier Speicher (GB);Akku (%);IP-Adresse;Gekauft;Durchwahl;BitLocker-Kennwort;Menge\n\
WS-1;4711000001;p1;12.02.2027 06:10;14.1;Ja;1.234,5;81;10.0.0.12;15.01.21;0012;geheim1;1.234\n\
WS-2;4711000002;p2;12.02.2027 06:11;13.6;Nein;12,25;k. A.;10.0.0.13;02.11.19;0417;geheim2;2.500\n\
WS-3;4711000003;p3;12.02.2027 06:12;14.1;Ja;99,5;44;10.0.0.14;28.02.22;0418;geheim3;1.000\n\
WS-4;4711000004;p4;13.02.2027 06:12;14.1;Ja;7;44;10.0.0.15;28.02.22;0419;geheim4;3.000\n\
WS-5;4711000005;p1;12.02.2027 06:12;12.0;Nein;8;44;10.0.0.16;28.02.22;0420;geheim5;4.000\n";

#[test]
fn a_draft_is_right_or_asks_and_goes_into_the_workspace_with_what_the_dictionary_needs() {
    let env =
        with_sources("# ours\n[[source]]\nid = \"crew\"\nfiles = [\"crew.csv\"]\nformat = \"csv\"\nperson = \"No.\"\n");
    env.write("facts.toml", "# known\n[facts]\n\"os.version\" = { type = \"version\" } # of the system\n");
    env.write(
        "crew.csv",
        "No.,Name,mail\np1,Ann,ann@x.example\np2,Bob,bob@x.example\np3,Cem,c@x.example\np4,Dan,d@x.example\n",
    );
    env.ok(&["import", "crew.csv", "--as-of", AT]);
    env.write("exports/2027-02-13/office.csv", OFFICE);
    let draft = env.ok(&["source", "draft", "exports/2027-02-13/office.csv"]);
    insta::assert_snapshot!(draft, @r#"
    # A draft for exports/2027-02-13/office.csv: 5 records, 13 fields looked at. Read it, finish it, and put it into fencepost.toml;
    # then see what would come of it: fencepost import --dry-run exports/2027-02-13/office.csv

    [[source]]
    id               = "office"
    files            = ["exports/*/office*.csv"]  # which files are this feed
    format           = "csv"
    delimiter        = ";"
    device           = "Gerätename"           # 5 different in 5 records: WS-1; or "Seriennummer"
    collected        = "Zuletzt gesehen"      # when the state was collected: 12.02.2027 06:10
    time_format      = "%d.%m.%Y %H:%M"
    # time_zone      = "Europe/Oslo"          # the times name no offset: the workspace's zone, unless another is said
    # trust          = 10                     # could not tell: where feeds disagree, the higher wins
    # fresh_for      = "3d"                   # could not tell: after how long do its facts prove nothing?
    # complete       = true                   # could not tell: does each file list the whole feed?
    # expected_every = "1d"                   # could not tell: how often does it come?

    [source.fields]
    "Seriennummer"           = "seriennummer"           # 4711000001, 4711000002, 4711000003, .. (5 different)
    "Benutzer"               = "person"                 # p1, p2, p3, .. (4 different); 5 of 5 are people of crew
    "Betriebssystem-Version" = "os.version"             # all versions: 14.1, 13.6, 12.0
    "Verschlüsselt"          = { fact = "verschlüsselt", true_when = ["Ja"], false_when = ["Nein"] }  # all yes or no: Ja, Nein
    "Freier Speicher (GB)"   = { fact = "freier_speicher", unit = "GB", decimal = ",", thousands = "." }  # all numbers: 1.234,5, 12,25, 99,5, .. (5 different)
    "Akku (%)"               = { fact = "akku", unit = "%", missing_when = ["k. A."] }  # 4 of 5 numbers: 81, 44; 1 of 5 say that it was not collected
    "IP-Adresse"             = "ip_adresse"             # all addresses: 10.0.0.12, 10.0.0.13, 10.0.0.14, .. (5 different)
    "Gekauft"                = { fact = "gekauft", time_format = "%d.%m.%y" }  # all days: 15.01.21, 02.11.19, 28.02.22
    "Durchwahl"              = "durchwahl"              # 0012, 0417, 0418, .. (5 different)
    "BitLocker-Kennwort"     = "bit_locker_kennwort"    # its name says that it is a secret: kept as a digest alone
    # "Menge"                = "menge"                  # could not tell: the mark stands before three digits: thousandths or thousands (decimal = ",", thousands = "."); all numbers: 1.234, 2.500, 1.000, .. (5 different)

    # For facts.toml, below [facts]; a field with a unit needs its line there:
    # "verschlüsselt" = { type = "boolean" }
    # "freier_speicher" = { type = "number", unit = "B" }
    # "akku" = { type = "number", unit = "%" }
    # "gekauft" = { type = "date" }
    # "bit_locker_kennwort" = { secret = true }
    "#);
    let checked = env.ok(&["source", "draft", "exports/2027-02-13/office.csv", "--check", "--as-of", AT]);
    assert!(checked.contains("make 5 new devices"), "{checked}");
    assert!(env.json(&["list", "devices"])["rows"].as_array().unwrap().is_empty(), "nothing is imported");
    let into = env.ok(&["source", "draft", "exports/2027-02-13/office.csv", "--into"]);
    assert!(into.contains("`office` stands in fencepost.toml and facts.toml"), "{into}");
    let (config, facts) =
        (std::fs::read_to_string(env.path("fencepost.toml")), std::fs::read_to_string(env.path("facts.toml")));
    assert!(config.unwrap().contains("# ours\n") && facts.unwrap().contains("# of the system\n"), "comments stay");
    let out = env.ok(&["import", "exports", "--as-of", AT]);
    assert!(out.contains("as office: 5 records, 5 new devices") && !out.contains("is no "), "{out}");
    for (path, value) in [
        ("os.version", "14.1"),
        ("verschlüsselt", "true"),
        ("freier_speicher", "1234500000000"),
        ("akku", "81"),
        ("gekauft", "2021-01-15"),
        ("durchwahl", "0012"),
        ("person", "p1"),
    ] {
        assert_eq!(fact(&env, "WS-1", path), value);
    }
    let shown = env.ok(&["show", "WS-1"]);
    assert!(!shown.contains("geheim") && !draft.contains("geheim"), "{shown}");
}

#[test]
fn drafts_of_other_kinds_read_the_files_they_were_made_from() {
    let sbom = r#"{"bomFormat":"CycloneDX","specVersion":"1.5","metadata":{"timestamp":"2027-02-13T05:00:00Z","component":{"type":"device","name":"kiosk-9"}},"components":[{"type":"application","name":"hullplan","version":"4.2"}]}"#;
    let keyed = r#"{"made":"x","hosts":{"a-1":{"os":"13","site":"Ness","seen":"2027-02-13T05:00:00Z"},"a-2":{"os":"12","site":"Holm","seen":"2027-02-13T05:00:00Z"},"a-3":{"os":"13","site":"Holm","seen":"2027-02-13T05:00:00Z"}}}"#;
    let programs = "Host,Scanned at,Site,Program,Version\na-1,2027-02-13T05:00:00Z,Ness,hullplan,4.2.1\na-1,2027-02-13T05:00:00Z,Ness,guardd,1.0.1\na-2,2027-02-13T05:00:00Z,Holm,hullplan,4.2.0\na-2,2027-02-13T05:00:00Z,Holm,guardd,1.0.1\n";
    let properties = "Host,Seen,Property,Value\na-1,2027-02-13T05:00:00Z,site,Ness\na-1,2027-02-13T05:00:00Z,colour,blue\na-2,2027-02-13T05:00:00Z,site,Holm\na-2,2027-02-13T05:00:00Z,colour,red\n";
    for (name, text, device, path, value) in [
        ("kiosk-9.json", sbom, "kiosk-9", "software", "[{name: hullplan, version: 4.2}]"),
        ("hosts.json", keyed, "a-2", "site", "Holm"),
        (
            "programs.csv",
            programs,
            "a-1",
            "software",
            "[{name: hullplan, version: 4.2.1}, {name: guardd, version: 1.0.1}]",
        ),
        ("properties.csv", properties, "a-2", "colour", "red"),
    ] {
        let env = Env::new();
        env.write(name, text);
        env.ok(&["source", "draft", name, "--into"]);
        let out = env.ok(&["import", name, "--as-of", AT]);
        assert!(out.contains("new device") && !out.contains("bad record"), "{name}: {out}");
        assert_eq!(fact(&env, device, path), value, "{name}");
    }
}

#[test]
fn what_a_draft_cannot_tell_keeps_it_from_being_checked() {
    let env = Env::new();
    env.write("x.csv", "Alpha,Beta\n1,2\n1,2\n");
    env.fails(
        &["source", "draft", "x.csv", "--check"],
        2,
        &["no record could be read by this draft yet", "could not tell"],
    );
    env.write("latin.csv", b"Host;Ort\na;K\xf6ln\nb;Bonn\n");
    let draft = env.ok(&["source", "draft", "latin.csv"]);
    assert!(draft.contains("# encoding") && draft.contains("windows-1252"), "{draft}");
    env.fails(&["source", "draft", "-", "--check"], 2, &["standard input cannot be read twice"]);
    let piped = env.pipe(&["source", "draft", "-"], b"Host,Seen\na,2027-02-01T05:00:00Z\n");
    assert!(piped.out.contains("device") && piped.code == 0, "{}", piped.out);
}

#[test]
fn of_many_files_only_the_first_bad_ones_are_told_in_full() {
    let env = with_sources(
        "[[source]]\nid = \"dumps\"\nfiles = [\"dumps/*.ini\"]\nformat = \"ini\"\ndevice_from = \"file-name\"\ncollected = \"when\"\n",
    );
    for number in 0..60 {
        let when = if number < 25 { "" } else { "when = 2027-03-01T05:00:00Z\n" };
        env.write(&format!("dumps/d{number:02}.ini"), format!("{when}[os]\nbuild = {number}\n"));
    }
    let would = env.ok(&["import", "dumps", "--dry-run", "--as-of", AT]);
    assert!(
        would.contains("60 records, would make 35 new devices") && would.contains("25 bad records to set aside"),
        "{would}"
    );
    let done = env.ok(&["import", "dumps", "--as-of", AT]);
    assert_eq!(done.matches("line 1: no `when`").count(), 20, "{done}");
    for told in ["60 files as dumps: 60 records, 35 new devices", "25 bad records set aside", "5 files have remarks"] {
        assert!(done.contains(told), "{told} in {done}");
    }
    assert_eq!(env.json(&["list", "rejects"])["rows"].as_array().unwrap().len(), 25);
}

/// An export as a German spreadsheet writes it: a day and a time, decimal commas, words of its own, several things in one cell.
#[test]
fn a_spreadsheet_is_read_as_it_is_written() {
    let env = Env::new();
    let source = r#"
[[source]]
id = "inventory"
files = ["inventory*.csv"]
format = "csv"
delimiter = ";"
device = "Host"
collected = ["Datum", "Zeit"]
time_format = "%d.%m.%Y %H:%M"
time_zone = "Europe/Berlin"
missing_when = ["k. A.", "-"]
decimal = ","
thousands = "."
[source.fields]
"Frei (GB)" = { fact = "disk.free_bytes", unit = "GB" }
"Platte" = "disk.size_bytes"
"Besitz" = { fact = "ownership", case = "lower", values = { "firma" = "company", "privat" = "personal" } }
"Gekauft" = { fact = "bought", time_format = "%d.%m.%y" }
"Gesehen" = { fact = "seen", time_format = "%m/%d/%Y %H:%M", time_zone = "America/New_York" }
"Admins" = { fact = "admins", split = "," }
"#;
    env.write("fencepost.toml", format!("{STEPPED}{source}"));
    env.write(
        "facts.toml",
        "[facts]\n\"disk.free_bytes\" = { type = \"number\", unit = \"B\" }\n\"disk.size_bytes\" = { type = \"number\", unit = \"B\" }\nbought = { type = \"date\" }\nseen = { type = \"instant\" }\n",
    );
    env.rules(&[("roomy", "1d", "disk.free_bytes >= 1000000000 and seen < now() and bought > date(\"2020-01-01\")")]);
    env.write(
        "inventory1.csv",
        "Host;Datum;Zeit;Frei (GB);Platte;Besitz;Gekauft;Gesehen;Admins;Raum\n\
         a;01.03.2027;06:30;1.234,5;7,5 GiB;FIRMA;15.01.21;02/28/2027 20:00;root, ops;-\n\
         b;01.03.2027;06:30;12.5;500 GB;Leihe;k. A.;28.02.2027;-;2\n\
         c;01.03.2027;06:30;k. A.;-;Privat;31.02.21;1803855600;root;k. A.\n\
         d;01.03.2027;;3;1 GB;Firma;01.01.21;-;-;4\n\
         e;01.03.1989;06:30;3;1 GB;Firma;01.01.21;-;-;4\n",
    );
    let said = env.run(&["import", "inventory1.csv", "--as-of", "2027-03-01T06:00:00Z"]);
    assert_eq!(said.code, 0, "{}", said.err);
    for told in [
        "3 new devices",
        "`leihe` is not in its table of values",
        "no `Datum` with `Zeit`",
        "which is before 1990",
        "disk.free_bytes: 1 value is no number, such as 12.5",
        "bought: 1 value is no date, such as 31.02.21",
        "seen: 1 value is no instant, such as 28.02.2027",
    ] {
        assert!(said.out.contains(told) || said.err.contains(told), "{told}: {}{}", said.out, said.err);
    }
    for (device, path, value) in [
        ("a", "disk.free_bytes", "1234500000000"),
        ("a", "disk.size_bytes", "8053063680"),
        ("a", "ownership", "company"),
        ("a", "bought", "2021-01-15"),
        ("a", "seen", "2027-03-01T01:00:00Z"),
        ("a", "admins", "[root, ops]"),
        ("b", "disk.free_bytes", "12.5 (wrong type)"),
        ("b", "disk.size_bytes", "500000000000"),
        ("b", "ownership", "leihe"),
        ("b", "Raum", "2"),
        ("c", "ownership", "personal"),
        ("c", "seen", "2027-02-28T23:00:00Z"),
        ("c", "bought", "31.02.21 (wrong type)"),
    ] {
        assert_eq!(fact(&env, device, path), value, "{path} of {device}");
    }
    let known = env.json(&["show", "c"]);
    let facts: Vec<&str> = known["facts"].as_array().unwrap().iter().map(|row| row["fact"].as_str().unwrap()).collect();
    assert!(["disk.free_bytes", "disk.size_bytes", "Raum"].iter().all(|missing| !facts.contains(missing)), "{facts:?}");
    assert_eq!(known["collected_at"], "2027-03-01T05:30:00Z");
    // A mark that cannot be one is a mistake, with its place.
    for (wrong, told) in [
        ("decimal = \",,\"", "`decimal` is one mark"),
        ("decimal = \".\"\nthousands = \".\"", "one mark cannot be both"),
        ("decimal = \"5\"", "`decimal` is one mark"),
    ] {
        let edited = source.replace("decimal = \",\"\nthousands = \".\"", wrong);
        env.write("fencepost.toml", format!("{STEPPED}{edited}"));
        let vetted = env.run(&["vet"]);
        assert_eq!(vetted.code, 1);
        assert!(vetted.out.contains(told) && vetted.out.contains("fencepost.toml:"), "{}", vetted.out);
    }
    let edited = source.replace("split = \",\"", "split = \"\"");
    env.write("fencepost.toml", format!("{STEPPED}{edited}"));
    assert!(env.run(&["vet"]).out.contains("nothing stands between the items"));
}
