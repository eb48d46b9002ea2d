//! Reports that are handed on, as files.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;

use serde_json::{Value as Json, json};

use crate::env::{Env, STEPPED};

const NOW: &str = "2027-03-14T06:00:00Z";

/// Names that try to be markup, a script, an attribute, a formula, and to turn text round.
pub const HOSTILE: [&str; 6] = [
    "<script>alert(1)</script>",
    "\"><img src=x onerror=alert(1)>",
    "=HYPERLINK(\"http://x.example\")",
    "a\u{202e}b\u{200b}",
    "</style></script><!--",
    "x' onmouseover='alert(1)",
];

/// A report of each kind, of what the hostile fleet has.
pub const KINDS: [&[&str]; 7] = [
    &["fleet"],
    &["site", HOSTILE[1]],
    &["group", "every-device"],
    &["rule", "locked"],
    &["device", "<script>alert(1)</script>0"],
    &["person", "p0"],
    &["controls"],
];

/// A fleet whose devices, people, sites and facts have hostile names, some of it failing, waived, excepted and shut out.
pub fn hostile_fleet() -> Env {
    let env = Env::new();
    env.write(
        "fencepost.toml",
        format!(
            "{STEPPED}fence_by = \"site\"\n\n[report]\nname = \"Harbour <b>\"\nlogo = \"\\\"><\"\naccent = \"#c05\u{0031}10\"\nlanguage = \"nb\"\n\n\
             [silence]\ngrace = \"1d\"\n\n[[source]]\nid = \"agents\"\nfiles = [\"state-*.jsonl\"]\nfresh_for = \"4d\"\n\n\
             [[source]]\nid = \"crew\"\nfiles = [\"people.csv\"]\nformat = \"csv\"\nperson = \"id\"\n"
        ),
    );
    env.write(
        "rules/test.toml",
        "[[rule]]\nid = \"locked\"\ntitle = \"<i>Locked</i> & shut\"\ngroups = [\"every-device\"]\nrequire = 'lock'\nseverity = \"high\"\n\
         controls = [\"Order <4>\"]\nfix = \"Lock it </script>\"\n\n\
         [[rule]]\nid = \"named\"\ngroups = [\"every-device\"]\nrequire = 'name = \"ok\"'\ngrace = \"5d\"\n\
         except = [{ device = \"plain\", until = 2027-04-01, because = \"<u>so</u>\" }]\n",
    );
    env.write("controls.toml", "[[control]]\nclause = \"Order <4>\"\ntitle = \"Doors <b>shut</b>\"\n");
    env.write(
        "access.toml",
        "[[service]]\nid = \"mail\"\ntitle = \"Mail <x>\"\ndefault = \"deny\"\nusual = [{ client = \"app\" }]\n\n\
         [[access]]\nid = \"good\"\nservices = [\"mail\"]\nneeds = 'standing in (\"compliant\", \"on-notice\")'\n",
    );
    let mut people = "id,name,mail,phone\n".to_owned();
    let mut before = Vec::new();
    let mut after = Vec::new();
    for (at, name) in HOSTILE.iter().enumerate() {
        people.push_str(&format!("\"p{at}\",\"{}\",p{at}@harbour.example,+47 {at}\n", name.replace('"', "\"\"")));
        let device = |lock: bool, day: &str| {
            json!({
                "device": format!("{name}{at}"), "collected_at": format!("2027-03-{day}T06:00:00Z"), "lock": lock,
                "name": name, "site": name, "person": format!("p{at}"), "platform": name,
            })
        };
        before.push(device(true, "13"));
        after.push(device(at % 2 == 1, "14"));
    }
    after.push(
        json!({ "device": "plain", "collected_at": NOW, "lock": true, "name": "no", "site": "Quay", "person": "p0" }),
    );
    env.write("people.csv", people);
    env.ok(&["import", "people.csv", "--as-of", "2027-03-13T06:00:00Z"]);
    env.morning("2027-03-13T06:00:00Z", &before);
    env.morning(NOW, &after);
    env
}

fn page(env: &Env, args: &[&str]) -> String {
    let mut all = vec!["report"];
    all.extend(args);
    all.extend(["--out", "page.html", "--force", "--quiet"]);
    env.ok(&all);
    fs::read_to_string(env.path("page.html")).expect("a page")
}

#[test]
fn pages_load_nothing_and_hostile_text_is_only_text() {
    let env = hostile_fleet();
    for args in KINDS {
        let page = page(&env, args);
        assert!(page.starts_with("<!DOCTYPE html>"), "{args:?}");
        let policy = "default-src 'none'; base-uri 'none'; form-action 'none'; script-src 'sha256-";
        assert_eq!(page.matches(policy).count(), 1, "{args:?}");
        // One script and one style, and both are ours.
        for tag in ["<script", "</script>", "<style", "</style>"] {
            assert_eq!(page.matches(tag).count(), 1, "{args:?} {tag}");
        }
        // Of what stands in tags; a text may say anything.
        let page_without_code =
            page.replace(page.split("<style>").nth(1).unwrap().split("</style>").next().unwrap(), "");
        let code = page_without_code.split("<script>").nth(1).unwrap().split("</script>").next().unwrap().to_owned();
        let plain = page_without_code.replace(&code, "");
        for tag in plain.split('<').skip(1).map(|rest| rest.split('>').next().unwrap_or_default()) {
            let names = tag.split_whitespace().skip(1).filter_map(|part| part.split_once('=')).map(|(name, _)| name);
            for name in names {
                let bad = name == "src" || name == "style" || name == "srcset" || name.starts_with("on");
                // The value of an attribute may hold what looks like one; quotes cannot be in it.
                assert!(!bad || tag.matches('"').count() % 2 == 0 && tag.contains("aria-label"), "{args:?} <{tag}>");
            }
            assert!(
                !["img", "link", "iframe", "object", "embed", "form", "base"]
                    .contains(&tag.split_whitespace().next().unwrap_or("")),
                "{tag}"
            );
        }
        for text in ["url(", "@import", "fetch(", "XMLHttpRequest"] {
            assert!(!code.contains(text), "{text}");
        }
        assert!(!page.contains('\u{202e}') && !page.contains('\u{200b}'), "{args:?}");
        let links: BTreeSet<&str> = page.split("href=\"").skip(1).filter_map(|rest| rest.split('"').next()).collect();
        for link in links {
            let id = link.strip_prefix('#').unwrap_or_else(|| panic!("{args:?} leads to {link}"));
            assert_eq!(page.matches(&format!(" id=\"{id}\"")).count(), 1, "{args:?} {link}");
        }
        assert!(page.contains("Harbour &lt;b&gt;"), "{args:?}");
    }
}

/// The rows of a table of a page, a text for each cell.
pub fn table_of(page: &str, id: &str) -> Vec<Vec<String>> {
    let Some(table) = page.split(&format!("<table id=\"{id}\"")).nth(1) else { return Vec::new() };
    let body = table.split("<tbody>").nth(1).and_then(|rest| rest.split("</tbody>").next()).expect("a body");
    let cells = |row: &str| {
        let row = row.replace("<th", "<td").replace("</th>", "</td>");
        let cells = row.split("<td").skip(1).map(|cell| {
            let inside =
                cell.split_once('>').map_or("", |(_, inside)| inside).split("</td>").next().unwrap_or_default();
            let mut text = String::new();
            let mut tag = false;
            for c in inside.chars() {
                match c {
                    '<' => tag = true,
                    '>' => tag = false,
                    c if !tag => text.push(c),
                    _ => {}
                }
            }
            text.replace("&lt;", "<").replace("&gt;", ">").replace("&quot;", "\"").replace("&amp;", "&")
        });
        cells.collect::<Vec<String>>()
    };
    body.split("<tr>").skip(1).map(cells).collect()
}

#[test]
fn the_numbers_of_a_page_are_those_of_its_json() {
    let env = hostile_fleet();
    for args in [&["fleet"][..], &["site", HOSTILE[2]], &["group", "every-device"]] {
        let mut asked = vec!["report"];
        asked.extend(args);
        let told = env.json(&asked);
        let page = page(&env, args);
        let figures = &told["figures"];
        assert_eq!(figures["devices"], if args[0] == "site" { 1 } else { 7 }, "{args:?}");
        let words = if figures["devices"] == 1 { "device is" } else { "devices are" };
        assert!(
            page.contains(&format!("<h1>{} of {} {words} in order ", figures["in_order"], figures["devices"])),
            "{args:?}"
        );
        let rules = table_of(&page, "t-rules");
        assert_eq!(rules.len(), told["rules"].as_array().unwrap().len());
        for (row, rule) in rules.iter().zip(told["rules"].as_array().unwrap()) {
            let numbers = ["fail", "unknown", "waived", "excepted"].map(|key| rule[key].to_string());
            assert_eq!((&row[0], &row[5..9]), (&rule["rule"].as_str().unwrap().to_owned(), &numbers[..]), "{args:?}");
        }
        let findings = told["findings"].as_array().unwrap();
        let shown: BTreeSet<(String, String)> =
            table_of(&page, "t-findings").into_iter().map(|row| (row[0].clone(), row[1].clone())).collect();
        let expected: BTreeSet<(String, String)> =
            findings.iter().map(|row| (shown_text(&row["device"]), shown_text(&row["rule"]))).collect();
        assert_eq!(shown, expected, "{args:?}");
        assert_eq!(figures["findings"].as_u64(), Some(findings.len() as u64));
        let overdue = findings.iter().filter(|row| row["phase"] == "overdue").count() as u64;
        assert_eq!(figures["overdue"].as_u64(), Some(overdue));
        let by_site: u64 =
            told["sites"].as_array().unwrap().iter().map(|site| site["in_order"].as_u64().unwrap()).sum();
        assert_eq!(figures["in_order"].as_u64(), Some(by_site), "{args:?}");
    }
    // A part says of itself what the whole says of it.
    let fleet = env.json(&["report"]);
    let site = env.json(&["report", "site", HOSTILE[0]]);
    let own: Vec<&Json> =
        fleet["findings"].as_array().unwrap().iter().filter(|row| row["site"] == HOSTILE[0]).collect();
    assert_eq!(site["findings"].as_array().unwrap().iter().collect::<Vec<_>>(), own);
    let listed = env.json(&["list", "findings"]);
    let count = listed["rows"].as_array().map(Vec::len);
    assert_eq!(count, fleet["findings"].as_array().map(Vec::len), "{listed}");
}

/// A value of a row as a page shows it.
fn shown_text(value: &Json) -> String {
    value.as_str().unwrap_or_default().replace('\u{202e}', "\\u{202e}").replace('\u{200b}', "\\u{200b}")
}

#[test]
fn a_letter_names_nobody_who_has_no_part_in_it() {
    let env = hostile_fleet();
    let letter = page(&env, &["person", "p2"]);
    assert!(letter.contains("=HYPERLINK"), "the own device");
    for other in [0, 1, 3, 4, 5] {
        assert!(!letter.contains(&format!("p{other}@harbour.example")), "{other}");
    }
    assert!(!letter.contains("plain"), "another's device");
    let well = page(&env, &["person", "p1"]);
    assert!(well.contains("time left"), "{well}");
}

#[test]
fn the_same_report_is_the_same_file() {
    let env = hostile_fleet();
    for (what, format) in [
        ("fleet", "html"),
        ("fleet", "xlsx"),
        ("fleet", "csv"),
        ("fleet", "json"),
        ("fleet", "oscal"),
        ("fleet", "ics"),
        ("controls", "html"),
        ("controls", "oscal"),
    ] {
        let files = ["one", "two"].map(|name| {
            env.ok(&["report", what, "--format", format, "--out", name, "--force", "--as-of", NOW]);
            fs::read(env.path(name)).expect("a file")
        });
        assert!(files[0] == files[1] && !files[0].is_empty(), "{what} {format}");
    }
}

#[test]
fn assessment_results_have_what_the_standard_asks_for() {
    let env = hostile_fleet();
    env.ok(&["report", "controls", "--format", "oscal", "--out", "results.json"]);
    let read: Json = serde_json::from_slice(&fs::read(env.path("results.json")).unwrap()).unwrap();
    let root = &read["assessment-results"];
    let text = |value: &Json| value.as_str().filter(|text| !text.is_empty() && text.trim() == *text).map(str::to_owned);
    let uuid = |value: &Json| {
        let text = value.as_str().unwrap_or_else(|| panic!("{value} is no uuid"));
        let parts: Vec<&str> = text.split('-').collect();
        assert_eq!(parts.iter().map(|part| part.len()).collect::<Vec<_>>(), [8, 4, 4, 4, 12], "{text}");
        assert!(parts[2].starts_with('5') && text.chars().all(|c| c == '-' || c.is_ascii_hexdigit()), "{text}");
        text.to_owned()
    };
    uuid(&root["uuid"]);
    for key in ["title", "version", "oscal-version", "last-modified"] {
        assert!(text(&root["metadata"][key]).is_some(), "{key}");
    }
    assert_eq!(root["metadata"]["oscal-version"], "1.1.3");
    let plan = root["import-ap"]["href"].as_str().unwrap().strip_prefix('#').unwrap();
    assert_eq!(root["back-matter"]["resources"][0]["uuid"], plan);
    let result = &root["results"][0];
    for key in ["title", "description", "start"] {
        assert!(text(&result[key]).is_some(), "{key}");
    }
    let items: BTreeSet<String> = result["local-definitions"]["inventory-items"]
        .as_array()
        .unwrap()
        .iter()
        .map(|item| uuid(&item["uuid"]))
        .collect();
    let mut observations = BTreeSet::new();
    for one in result["observations"].as_array().unwrap() {
        observations.insert(uuid(&one["uuid"]));
        assert!(
            text(&one["description"]).is_some()
                && one["methods"] == json!(["TEST"])
                && text(&one["collected"]).is_some()
        );
        for subject in one["subjects"].as_array().unwrap() {
            assert!(items.contains(&uuid(&subject["subject-uuid"])), "{subject}");
        }
        assert!(one["relevant-evidence"].as_array().unwrap().iter().all(|one| text(&one["description"]).is_some()));
    }
    let findings = result["findings"].as_array().unwrap();
    assert_eq!(findings.len(), 1);
    for finding in findings {
        uuid(&finding["uuid"]);
        let target = finding["target"]["target-id"].as_str().unwrap();
        assert!(target.starts_with(|c: char| c.is_alphabetic() || c == '_'), "{target}");
        assert!(target.chars().all(|c| c.is_alphanumeric() || "._-".contains(c)), "{target}");
        assert_eq!(finding["target"]["status"]["state"], "not-satisfied");
        for related in finding["related-observations"].as_array().unwrap() {
            assert!(observations.contains(&uuid(&related["observation-uuid"])));
        }
    }
}

#[test]
fn waived_failures_are_risks_that_somebody_accepted() {
    let env = hostile_fleet();
    env.write(
        "waivers.toml",
        "[[waiver]]\nid = \"late\"\ngroups = [\"every-device\"]\nrules = [\"locked\"]\nbecause = \"in dock\"\napproved_by = \"the master\"\n\
         from = 2027-03-14\nuntil = 2027-03-20\n",
    );
    env.ok(&["assess", "--as-of", "2027-03-14T07:00:00Z"]);
    env.ok(&["report", "controls", "--format", "oscal", "--out", "results.json"]);
    let read: Json = serde_json::from_slice(&fs::read(env.path("results.json")).unwrap()).unwrap();
    let result = &read["assessment-results"]["results"][0];
    let risk = &result["risks"][0];
    assert_eq!((&risk["status"], &risk["title"]), (&json!("deviation-approved"), &json!("late")));
    let finding = &result["findings"][0];
    assert_eq!(finding["target"]["status"]["state"], "not-satisfied", "what is waived is not met");
    assert_eq!(finding["related-risks"][0]["risk-uuid"], risk["uuid"]);
    let waivers = |site: &str| env.json(&["report", "site", site])["waivers"].as_array().map(Vec::len);
    assert_eq!((waivers(HOSTILE[0]), waivers(HOSTILE[1])), (Some(1), Some(0)), "where nothing is waived none is told");
    let clauses = env.json(&["report", "controls"]);
    assert_eq!(clauses["clauses"][0]["waivers"][0]["approved_by"], "the master");
}

/// The events of a calendar: properties by name, by id.
fn events(text: &str) -> BTreeMap<String, BTreeMap<String, String>> {
    let unfolded = text.replace("\r\n ", "");
    let events = unfolded.split("BEGIN:VEVENT\r\n").skip(1).map(|event| {
        let lines = event.lines().take_while(|line| *line != "END:VEVENT").filter_map(|line| line.split_once(':'));
        let properties: BTreeMap<String, String> =
            lines.map(|(key, value)| (key.to_owned(), value.to_owned())).collect();
        (properties["UID"].clone(), properties)
    });
    events.collect()
}

#[test]
fn a_new_calendar_updates_the_old_one() {
    let env = hostile_fleet();
    let calendar = |name: &str| {
        env.ok(&["report", "--format", "ics", "--out", name]);
        events(&fs::read_to_string(env.path(name)).unwrap())
    };
    let first = calendar("one.ics");
    let due = |event: &&BTreeMap<String, String>| event["SUMMARY"].contains("named due");
    assert!(first.values().filter(due).count() > 3);
    let last = |event: &&BTreeMap<String, String>| event.get("DTSTART;VALUE=DATE").is_some_and(|day| day == "20270401");
    assert_eq!(first.values().filter(last).count(), 1, "the exception is a day");
    // A day later one of them is in order.
    let name = HOSTILE[1];
    let mended = json!({
        "device": format!("{name}1"), "collected_at": "2027-03-15T06:00:00Z", "lock": true, "name": "ok", "site": name,
        "person": "p1", "platform": name,
    });
    env.morning("2027-03-15T06:00:00Z", &[mended]);
    let second = calendar("two.ics");
    let cancelled: Vec<&String> =
        second.iter().filter(|(_, event)| event["STATUS"] == "CANCELLED").map(|(id, _)| id).collect();
    assert_eq!(cancelled.len(), 1);
    assert_eq!(first[cancelled[0]]["STATUS"], "CONFIRMED", "it was there before, and keeps its id");
    for (id, event) in &first {
        let sequence = |event: &BTreeMap<String, String>| event["SEQUENCE"].parse::<u32>().unwrap();
        assert!(sequence(event) < sequence(&second[id]), "{event:?}");
    }
}

#[test]
fn what_cannot_be_written_is_said_and_what_was_there_stays() {
    let env = hostile_fleet();
    env.write("there.html", "mine");
    env.fails(&["report", "--out", "there.html"], 2, &["there.html exists", "--force"]);
    assert_eq!(fs::read_to_string(env.path("there.html")).unwrap(), "mine");
    fs::create_dir(env.path("folder")).unwrap();
    env.fails(&["report", "--out", "folder", "--force"], 2, &["folder is a folder"]);
    env.fails(&["report", "--out", "none/x.html"], 2, &["there is no folder none"]);
    env.fails(&["report"], 2, &["written to a file", "--out fleet.html"]);
    env.fails(&["report", "rule", "locked", "--format", "xlsx", "--out", "x"], 2, &["not written as xlsx", "html"]);
    env.fails(&["report", "site", "--out", "x"], 2, &["which site?"]);
    env.fails(&["report", "site", "Quai", "--out", "x"], 2, &["no site `Quai`", "did you mean `Quay`?"]);
    env.fails(&["report", "group", "crwe", "--out", "x"], 2, &["no group `crwe`"]);
    env.fails(&["report", "person", "nobody", "--out", "x"], 2, &["no device and no person `nobody`"]);
    env.fails(&["report", "--as-of", "2027-03-01T00:00:00Z", "--out", "x"], 2, &["nothing was assessed at or before"]);
    env.fails(&["report", "--since", "2027-03-01T00:00:00Z", "--out", "x"], 2, &["nothing was assessed at or before"]);
    // A file that may not grow is as good as a full disk.
    let ran = std::process::Command::new("sh")
        .args(["-c", "ulimit -f 8; exec \"$0\" report --out there.html --force", env!("CARGO_BIN_EXE_fencepost")])
        .current_dir(env.root())
        .output()
        .expect("a shell");
    assert_eq!(ran.status.code(), Some(4), "{}", String::from_utf8_lossy(&ran.stderr));
    assert_eq!(fs::read_to_string(env.path("there.html")).unwrap(), "mine");
    let left: Vec<_> =
        fs::read_dir(env.root()).unwrap().filter_map(|entry| entry.ok()?.file_name().into_string().ok()).collect();
    assert!(!left.iter().any(|name| name.starts_with(".fencepost-report-")), "{left:?}");
}

#[test]
fn an_earlier_moment_is_told_as_it_was() {
    let env = hostile_fleet();
    let then = env.json(&["report", "--as-of", "2027-03-13T06:00:00Z"]);
    assert_eq!((&then["assessment"], &then["figures"]["devices"], &then["since"]), (&json!(1), &json!(6), &Json::Null));
    assert_eq!(then["ending"], json!([]));
    let now = env.json(&["report"]);
    assert_eq!(
        (&now["since"], &now["figures"]["compared_with"]),
        (&json!("2027-03-13T06:00:00Z"), &json!("2027-03-13T06:00:00Z"))
    );
}

#[test]
fn the_look_of_reports_is_a_setting() {
    let env = Env::new();
    env.write(
        "fencepost.toml",
        format!("{STEPPED}\n[report]\naccent = \"blue\"\nlanguage = \"xx\"\nlogo = \"{}\"\n", "x".repeat(30)),
    );
    env.rules(&[("fine", "0", "ok")]);
    let words = ["`blue` is no colour", "#0b5e8a", "a logo of more than 24 characters", "`language` cannot be `xx`"];
    let ran = env.run(&["vet"]);
    assert_eq!(ran.code, 1);
    assert!(words.iter().all(|word| ran.out.contains(word)), "{}", ran.out);
}
