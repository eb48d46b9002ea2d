//! What comes next, asked for on the command line.

use std::fs;

use serde_json::{Value as Json, json};

use crate::env::{Env, STEPPED};

const NOW: &str = "2027-03-14T06:00:00Z";

const RULES: &str = r#"
[[rule]]
id = "certificate"
groups = ["every-device"]
require = 'certificate.not_after > now() + duration("P2D")'
grace = "1d"
except = [{ device = "d2", until = 2027-03-17, because = "renewed by hand" }]

[[rule]]
id = "patched"
groups = ["every-device"]
require = 'os.version >= version("5")'
grace = "3d"

[[rule]]
id = "locked"
groups = ["every-device"]
require = "lock"
enforced_from = 2027-03-18
"#;

const ACCESS: &str = r#"
[[service]]
id = "mail"
title = "Mail"
default = "deny"
usual = [{ client = "app" }, { client = "web" }]

[[access]]
id = "in-shape"
services = ["mail"]
needs = 'standing in ("compliant", "on-notice")'

[[access]]
id = "web-limits"
services = ["mail"]
when = 'signin.client = "web"'
needs = "present(lock)"
otherwise = { limits = ["no download"] }
"#;

/// Two devices: the certificate of the first ends in three days, the second is excepted, and one whose name is hostile.
fn workspace() -> Env {
    let env = Env::new();
    env.write(
        "fencepost.toml",
        format!(
            "{STEPPED}fence_by = \"site\"\n\n[silence]\ngrace = \"1d\"\n\n[responses]\ndefault = \"usual\"\n\n\
            [[source]]\nid = \"agents\"\nfiles = [\"state-*.jsonl\"]\nfresh_for = \"4d\"\n\n\
            [[source]]\nid = \"crew\"\nfiles = [\"people.csv\"]\nformat = \"csv\"\nperson = \"id\"\n\
            [source.fields]\nname = \"name\"\n"
        ),
    );
    env.write(
        "facts.toml",
        "[facts]\n\"os.version\" = { type = \"version\" }\n\"certificate.not_after\" = { type = \"instant\" }\n\
         \"disk.key_until\" = { type = \"instant\", ends = \"key\" }\n",
    );
    env.write("rules/test.toml", RULES);
    env.write("access.toml", ACCESS);
    env.write(
        "responses.toml",
        "[[response]]\nid = \"usual\"\nsteps = [{ id = \"word\", at = \"due - 1d\", do = \"notify\", to = [\"holder\"] }]\n",
    );
    env.write(
        "waivers.toml",
        "[[waiver]]\nid = \"old-os\"\ndevices = [\"d1\"]\nrules = [\"patched\"]\nbecause = \"in dock\"\n\
         approved_by = \"us\"\nfrom = 2027-03-14\nuntil = 2027-03-18\n",
    );
    env.write(
        "corrections.toml",
        "[[correction]]\ndevice = \"d2\"\nfact = \"lock\"\nvalue = true\nbecause = \"seen\"\nby = \"us\"\nuntil = 2027-03-15\n",
    );
    env.write("people.csv", "id,name,mail\np1,Åse =Lunde,ase@bredesound.example\np2,Bo Vik,bo@bredesound.example\n");
    let device = |id: &str, person: &str, os: &str, lock: bool, ends: &str| {
        json!({
            "device": id, "collected_at": NOW, "person": person, "site": "Tern", "os": { "version": os }, "lock": lock,
            "certificate": { "not_after": ends }, "disk": { "key_until": "2027-03-16T00:00:00Z" },
        })
        .to_string()
    };
    let lines = [
        device("d1", "p1", "4", true, "2027-03-17T12:00:00Z"),
        device("d2", "p2", "5", false, "2027-03-15T00:00:00Z"),
        device("=d3\u{1b}[2J\u{202e}", "p2", "5", true, "2028-03-15T00:00:00Z"),
    ];
    env.write("state-1.jsonl", lines.join("\n"));
    env.ok(&["import", "people.csv", "state-1.jsonl", "--as-of", NOW]);
    env.ok(&["assess", "--as-of", NOW]);
    env
}

#[test]
fn the_days_to_come_are_told_for_people() {
    let env = workspace();
    insta::assert_snapshot!(env.shows(&["forecast", "--days", "6"]), @r"
    $ fencepost forecast --days 6
    6 days, up to Fri 19 Mar, by time alone: 3 findings fall due, 2 people lose access, 3 findings open, 3 actions come up, 8 things end

    Sun 14 Mar: nothing

    Mon 15 Mar  1 finding opens, 1 action comes up, 1 thing ends
      13:00  opens    certificate                 d1
      01:00  ends     certificate.not_after       d2
      13:00  to send  notify holder: certificate  d1

    Tue 16 Mar  1 finding falls due, 1 person loses access, 4 things end
      13:00  falls due  certificate      d1
      13:00  lost       Mail             Åse =Lunde
      01:00  ends       disk.key_until   =d3\u{1b}[2J\u{202e}, d1, d2
      00:00  ends       correction lock  d2

    Wed 17 Mar  1 thing ends
      13:00  ends  certificate.not_after  d1

    Thu 18 Mar  1 finding falls due, 1 person loses access, 2 findings open, 2 actions come up, 1 thing ends
      00:00  falls due  locked                            d2
      00:00  lost       Mail                              Bo Vik
      00:00  opens      certificate                       d2
      00:00  opens      locked                            d2
      00:00  ends       exception of d2 from certificate
      00:00  to send    notify holder: certificate        d2
      00:00  to send    notify holder: locked             d2
      where devices stay silent: 3 findings open, 3 statements become too old

    Fri 19 Mar  1 finding falls due, 1 thing ends
      00:00  falls due  certificate    d2
      00:00  ends       waiver old-os
      where devices stay silent: 3 findings fall due, 1 person loses access
    ");
    insta::assert_snapshot!(env.shows(&["forecast", "--days", "6", "--by", "site"]), @r"
    $ fencepost forecast --days 6 --by site
    site  open  fall due  lose access  to send  end
    Tern     3         3            2        3    5
    -        0         0            0        0    3
    ");
    insta::assert_snapshot!(env.shows(&["forecast", "--days", "6", "--by", "person"]), @r"
    $ fencepost forecast --days 6 --by person
    person           open  fall due  lose access  to send  end
    Bo Vik (p2)         2         2            1        2    3
    Åse =Lunde (p1)     1         1            1        1    2
    -                   0         0            0        0    3
    ");
    insta::assert_snapshot!(env.shows(&["forecast", "--days", "2", "--where", "device = \"d2\"", "--with-silence"]), @r#"
    $ fencepost forecast --days 2 --where 'device = "d2"' --with-silence
    2 days, up to Mon 15 Mar, by time alone: 1 thing ends

    Sun 14 Mar: nothing

    Mon 15 Mar  1 thing ends
      01:00  ends  certificate.not_after  d2
    "#);
}

#[test]
fn every_entry_has_its_keys_and_its_day() {
    let env = workspace();
    let ledger = env.path(".fencepost/ledger.sqlite");
    let before = fs::read(&ledger).unwrap();
    let told = env.json(&["forecast", "--days", "6"]);
    assert_eq!(before, fs::read(&ledger).unwrap(), "a forecast writes nothing");
    assert_eq!(
        (&told["schema"], &told["as_of"], &told["until"]),
        (&json!(1), &json!(NOW), &json!("2027-03-19T22:59:59Z"))
    );
    let days = told["days"].as_array().unwrap();
    let dates: Vec<&str> = days.iter().map(|day| day["date"].as_str().unwrap()).collect();
    assert_eq!(dates, ["2027-03-14", "2027-03-15", "2027-03-16", "2027-03-17", "2027-03-18", "2027-03-19"]);
    let kinds = ["opening", "closing", "due", "stale", "losing", "returning", "actions", "ending"];
    for day in days {
        assert!(kinds.iter().all(|kind| day[*kind].is_array()), "{day}");
    }
    let of = |date: &str, kind: &str, device: &str| -> Vec<Json> {
        let day = days.iter().find(|day| day["date"] == date).unwrap();
        let own = day[kind].as_array().unwrap().iter().filter(|one| one["device"] == device);
        own.map(|one| {
            let mut one = one.clone();
            one.as_object_mut().unwrap().remove("device");
            one
        })
        .collect()
    };
    // The certificate ends at noon of the 17th, and has to hold for two days more.
    assert_eq!(
        of("2027-03-15", "opening", "d1"),
        [
            json!({ "rule": "certificate", "at": "2027-03-15T12:00:00Z", "due": "2027-03-16T12:00:00Z", "only_if_silent": false })
        ]
    );
    assert_eq!(
        of("2027-03-16", "due", "d1"),
        [json!({ "rule": "certificate", "at": "2027-03-16T12:00:00Z", "only_if_silent": false })]
    );
    let lost = |client: &str| {
        json!({
            "person": "p1", "service": "mail", "client": client, "decision": "deny", "obligations": [],
            "at": "2027-03-16T12:00:00Z", "only_if_silent": false,
        })
    };
    assert_eq!(of("2027-03-16", "losing", "d1"), ["app", "web"].map(lost));
    // Of the silence that begins after four days it is said that it need not come.
    let opened = of("2027-03-18", "opening", "d1");
    assert!(opened.contains(&json!({
        "rule": "silence", "at": "2027-03-18T06:00:01Z", "due": "2027-03-19T06:00:01Z", "only_if_silent": true,
    })));
    let ends: Vec<(String, String, String)> = days
        .iter()
        .flat_map(|day| day["ending"].as_array().unwrap())
        .map(|one| ["at", "kind", "id"].map(|key| one[key].as_str().unwrap().to_owned()).into())
        .collect();
    let expected = [
        ("2027-03-15T00:00:00Z", "certificate", "certificate.not_after"),
        ("2027-03-15T23:00:00Z", "correction", "lock"),
        ("2027-03-16T00:00:00Z", "key", "disk.key_until"),
        ("2027-03-16T00:00:00Z", "key", "disk.key_until"),
        ("2027-03-16T00:00:00Z", "key", "disk.key_until"),
        ("2027-03-17T12:00:00Z", "certificate", "certificate.not_after"),
        ("2027-03-17T23:00:00Z", "exception", "d2"),
        ("2027-03-18T23:00:00Z", "waiver", "old-os"),
    ];
    assert_eq!(ends, expected.map(|(at, kind, id)| (at.to_owned(), kind.to_owned(), id.to_owned())));

    let rows = env.ok(&["forecast", "--days", "6", "--format", "jsonl"]);
    let entries: usize =
        days.iter().flat_map(|day| kinds.iter().map(|kind| day[*kind].as_array().unwrap().len())).sum();
    assert_eq!(rows.lines().count(), entries);
    assert!(!rows.contains('\u{1b}') && !rows.contains('\u{202e}'));
    let table = env.ok(&["forecast", "--days", "6", "--format", "csv"]);
    assert_eq!(table.lines().count(), entries + 1);
    assert!(table.contains("'=d3"), "no cell of a spreadsheet is a formula: {table}");
}

#[test]
fn what_cannot_be_foretold_is_said() {
    let env = workspace();
    insta::assert_snapshot!(env.shows(&["forecast", "--as-of", "2027-03-13T06:00:00Z"]), @r"
    $ fencepost forecast --as-of 2027-03-13T06:00:00Z
    ------- standard error -------
    error: nothing was assessed at or before 2027-03-13T06:00:00Z
      help: the last assessment is as of 2027-03-14T06:00:00Z; see them all with: fencepost list assessments
    [exit 2]
    ");
    insta::assert_snapshot!(env.shows(&["forecast", "--days", "0"]), @r"
    $ fencepost forecast --days 0
    ------- standard error -------
    error: invalid value '0' for '--days <N>': 0 is not in 1..=400

    For more information, try '--help'.
    [exit 2]
    ");
    insta::assert_snapshot!(env.shows(&["forecast", "--group", "crwe"]), @r#"
    $ fencepost forecast --group crwe
    ------- standard error -------
    error[unknown-group]: unknown group `crwe`
     --> --where:1:10
      |
    1 | in group("crwe")
      |          ^^^^^^
      |
      = help: define it in groups.toml

    error: 1 mistake in the condition
    [exit 2]
    "#);
    let empty = Env::new();
    insta::assert_snapshot!(empty.shows(&["forecast"]), @r"
    $ fencepost forecast
    ------- standard error -------
    error: there is no ledger at FOLDER/.fencepost/ledger.sqlite
      help: bring state in first: fencepost import FILE
    [exit 2]
    ");
}
