//! Twenty rules on a generated fleet, against a second evaluator: slow, plain, over `serde_json::Value`, and
//! written without a line of the first. Stateless and through the ledger alike.

use std::collections::BTreeMap;
use std::time::Duration;

use fencepost_standin::fleet_document;
use fencepost_store::{Ledger, Purpose, SpellKind};
use rust_decimal::Decimal;
use serde_json::Value as Json;

use crate::env::Env;

const AT: &str = "2027-03-14T06:00:00Z";
const DEVICES: u64 = 400;

/// True, false, or why it is not known.
type Truth = Result<bool, &'static str>;

/// A rule of the measuring workspace in plain Rust.
struct Plain {
    id: &'static str,
    scope: fn(&Json) -> bool,
    holds: fn(&Json) -> Truth,
}

fn at<'j>(document: &'j Json, path: &str) -> Option<&'j Json> {
    path.split('.').try_fold(document, |json, part| json.get(part))
}

fn number(document: &Json, path: &str) -> Result<Decimal, &'static str> {
    match at(document, path) {
        None => Err("missing"),
        Some(Json::Number(number)) => Ok(number.to_string().parse().unwrap()),
        Some(_) => Err("wrong-type"),
    }
}

fn text<'j>(document: &'j Json, path: &str) -> Result<&'j str, &'static str> {
    at(document, path).ok_or("missing")?.as_str().ok_or("wrong-type")
}

fn boolean(document: &Json, path: &str) -> Truth {
    at(document, path).ok_or("missing")?.as_bool().ok_or("wrong-type")
}

fn list<'j>(document: &'j Json, path: &str) -> Result<&'j Vec<Json>, &'static str> {
    at(document, path).ok_or("missing")?.as_array().ok_or("wrong-type")
}

/// Versions of numbers only, which is all that the fleet has.
fn parts(version: &str) -> Vec<u64> {
    let mut parts: Vec<u64> = version.split('.').map(|part| part.parse().unwrap()).collect();
    while parts.last() == Some(&0) {
        parts.pop();
    }
    parts
}

fn at_least(version: &str, least: &str) -> bool {
    parts(version) >= parts(least)
}

fn and(a: Truth, b: Truth) -> Truth {
    match (a, b) {
        (Ok(false), _) | (_, Ok(false)) => Ok(false),
        (Ok(true), b) => b,
        (unknown, _) => unknown,
    }
}

fn or(a: Truth, b: Truth) -> Truth {
    match (a, b) {
        (Ok(true), _) | (_, Ok(true)) => Ok(true),
        (Ok(false), b) => b,
        (unknown, _) => unknown,
    }
}

fn names(document: &Json) -> Result<Vec<&str>, &'static str> {
    Ok(list(document, "software")?.iter().map(|item| item["name"].as_str().unwrap()).collect())
}

fn days_since(moment: &str) -> i64 {
    let now: jiff::Timestamp = AT.parse().unwrap();
    let then: jiff::Timestamp = moment.parse().unwrap();
    now.duration_since(then).as_secs()
}

fn desktop(document: &Json) -> bool {
    matches!(text(document, "platform"), Ok("windows" | "macos" | "linux"))
}

fn rules() -> Vec<Plain> {
    let all: fn(&Json) -> bool = |_| true;
    vec![
        Plain { id: "locks-soon", scope: all, holds: |d| Ok(number(d, "lock.idle_minutes")? <= 15.into()) },
        Plain {
            id: "long-password",
            scope: all,
            holds: |d| number(d, "password.length").map(|n| n >= 10.into() && n <= 64.into()),
        },
        Plain {
            id: "locks-behind-password",
            scope: all,
            holds: |d| {
                and(
                    number(d, "lock.idle_minutes").map(|n| n <= 15.into()),
                    number(d, "password.length").map(|n| n >= 8.into()),
                )
            },
        },
        Plain {
            id: "lock-or-firewall",
            scope: all,
            holds: |d| or(number(d, "lock.idle_minutes").map(|n| n <= 5.into()), boolean(d, "firewall.enabled")),
        },
        Plain { id: "firewall", scope: desktop, holds: |d| boolean(d, "firewall.enabled") },
        Plain {
            id: "disks-encrypted",
            scope: all,
            holds: |d| Ok(list(d, "disks")?.iter().all(|disk| disk["writable"] == false || disk["encrypted"] == true)),
        },
        Plain {
            id: "some-large-disk",
            scope: all,
            holds: |d| Ok(list(d, "disks")?.iter().any(|disk| disk["size_bytes"].as_u64().unwrap() > 500_000_000_000)),
        },
        Plain { id: "few-disks", scope: all, holds: |d| Ok((1..=2).contains(&list(d, "disks")?.len())) },
        Plain {
            id: "forbidden",
            scope: |d| text(d, "ownership") == Ok("company"),
            holds: |d| Ok(!names(d)?.iter().any(|name| matches!(*name, "seedpool" | "peepcam"))),
        },
        Plain {
            id: "no-forbidden-either",
            scope: all,
            holds: |d| Ok(!names(d)?.iter().any(|name| matches!(*name, "seedpool" | "peepcam"))),
        },
        Plain {
            id: "guardd",
            scope: desktop,
            holds: |d| Ok(list(d, "processes")?.iter().any(|process| process["name"] == "guardd")),
        },
        Plain { id: "supported", scope: all, holds: |d| Ok(at_least(text(d, "os.version")?, "12")) },
        Plain {
            id: "supported-by-platform",
            scope: all,
            holds: |d| {
                Ok(at_least(text(d, "os.version")?, if text(d, "platform")? == "macos" { "13" } else { "11.5" }))
            },
        },
        Plain {
            id: "seen",
            scope: all,
            holds: |d| match days_since(text(d, "agent.last_seen")?) {
                seconds if seconds < 0 => Err("clock"),
                seconds => Ok(seconds <= 7 * 86_400),
            },
        },
        Plain {
            id: "agent-build",
            scope: all,
            holds: |d| text(d, "agent.version").map(|v| v.starts_with("5.2.") && !v.ends_with(".3")),
        },
        Plain {
            id: "build-number",
            scope: all,
            holds: |d| {
                text(d, "os.build").map(|b| b.chars().count() >= 4 && b.starts_with(|c: char| ('1'..='9').contains(&c)))
            },
        },
        Plain {
            id: "site-name",
            scope: all,
            holds: |d| text(d, "site").map(|s| s.contains("-0") || s == "site-10" || s == "site-11"),
        },
        Plain {
            id: "lock-known",
            scope: |d| text(d, "ownership") == Ok("company"),
            holds: |d| Ok(at(d, "lock.idle_minutes").is_some() && at(d, "firewall.enabled").is_some()),
        },
        Plain {
            id: "lock-sum",
            scope: all,
            holds: |d| {
                let lock = number(d, "lock.idle_minutes")?;
                Ok(lock + number(d, "password.length")? * Decimal::TWO < 50.into())
            },
        },
        Plain {
            id: "shore-phones",
            scope: |d| {
                text(d, "site").is_ok_and(|site| matches!(site, "site-01" | "site-02" | "site-03"))
                    && text(d, "platform") == Ok("android")
            },
            holds: |d| Ok(at_least(text(d, "os.version")?, "11")),
        },
    ]
}

fn workspace() -> Env {
    let env = Env::new();
    for name in ["fencepost.toml", "facts.toml", "groups.toml", "rules/twenty.toml"] {
        let path = format!("{}/../../benches/workspace/{name}", env!("CARGO_MANIFEST_DIR"));
        env.write(name, std::fs::read(path).expect("the measuring workspace"));
    }
    let fleet: String = (0..DEVICES).map(|at| format!("{}\n", fleet_document(at, "oracle"))).collect();
    env.write("fleet.jsonl", fleet);
    env
}

/// What the plain evaluator says: outcome and reason of every rule that neither passes nor is not applicable.
fn expected() -> BTreeMap<String, BTreeMap<String, (String, Option<String>)>> {
    (0..DEVICES)
        .map(|at| {
            let document: Json = serde_json::from_str(&fleet_document(at, "oracle")).unwrap();
            let verdicts = rules()
                .iter()
                .filter(|rule| (rule.scope)(&document))
                .filter_map(|rule| match (rule.holds)(&document) {
                    Ok(true) => None,
                    Ok(false) => Some((rule.id.to_owned(), ("fail".to_owned(), None))),
                    Err(reason) => Some((rule.id.to_owned(), ("unknown".to_owned(), Some(reason.to_owned())))),
                })
                .collect();
            (document["device"].as_str().unwrap().to_owned(), verdicts)
        })
        .collect()
}

#[test]
fn a_plain_evaluator_agrees_on_every_device_and_rule() {
    let env = workspace();
    let listed = env.path("rules/twenty.toml");
    assert_eq!((rules().len(), std::fs::read_to_string(listed).unwrap().matches("[[rule]]").count()), (20, 20));
    let expected = expected();
    // The fleet has something of everything in it.
    let kinds = |kind: &str| expected.values().flatten().filter(|(_, (outcome, _))| outcome == kind).count();
    assert!(kinds("fail") > 100 && kinds("unknown") > 20, "{} fails, {} unknown", kinds("fail"), kinds("unknown"));

    let out = env.ok(&["assess", "--state", "fleet.jsonl", "--as-of", AT, "--format", "jsonl"]);
    let mut stateless = BTreeMap::new();
    for (line, document) in out.lines().zip(0..) {
        let row: Json = serde_json::from_str(line).unwrap();
        assert_eq!(row["device"], format!("unit-{document:07}"));
        let verdicts: BTreeMap<String, (String, Option<String>)> = row["verdicts"]
            .as_array()
            .unwrap()
            .iter()
            .map(|verdict| {
                let word = |key: &str| verdict[key].as_str().map(str::to_owned);
                (word("rule").unwrap(), (word("outcome").unwrap(), word("reason")))
            })
            .collect();
        stateless.insert(row["device"].as_str().unwrap().to_owned(), verdicts);
    }
    assert_eq!(stateless, expected);

    env.ok(&["import", "fleet.jsonl", "--as-of", AT]);
    env.ok(&["assess", "--as-of", AT]);
    let ledger = Ledger::open(&env.path(".fencepost/ledger.sqlite"), Purpose::Read, Duration::ZERO).unwrap();
    let mut stored: BTreeMap<String, BTreeMap<String, (String, Option<String>)>> =
        expected.keys().map(|device| (device.clone(), BTreeMap::new())).collect();
    for spell in ledger.reader().unwrap().spells(SpellKind::Verdict, None, None).unwrap() {
        let detail: Json = serde_json::from_str(&spell.detail).unwrap();
        let verdict = (spell.value, detail["reason"].as_str().map(str::to_owned));
        stored.get_mut(&spell.device).unwrap().insert(spell.subject, verdict);
    }
    assert_eq!(stored, expected);
}

#[test]
fn the_stateless_run_and_the_import_refuse_the_same_lines() {
    let env = workspace();
    let mut lines: Vec<String> = (0..60).map(|at| fleet_document(at, "oracle")).collect();
    for (at, line) in lines.iter_mut().enumerate() {
        match at % 6 {
            0 => line.truncate(line.len() / 2),
            1 => *line = line.replacen('{', "{\"device\":\"twice\",", 1),
            2 => {
                *line = line.replacen(
                    "\"settings\":{",
                    &format!("\"deep\":{}1{},\"settings\":{{", "[".repeat(at * 5), "]".repeat(at * 5)),
                    1,
                )
            }
            3 => *line = line.replace("value-1", "value-\u{1}"),
            _ => {}
        }
    }
    env.write("mixed.jsonl", lines.join("\n"));
    let ran = env.run(&["assess", "--state", "mixed.jsonl", "--as-of", AT, "--format", "jsonl"]);
    let refused: Vec<String> = ran
        .err
        .lines()
        .filter(|line| line.starts_with("line "))
        .map(|line| line.split(':').next().unwrap().to_owned())
        .collect();
    env.ok(&["import", "mixed.jsonl", "--as-of", AT]);
    let rejects = env.json(&["list", "rejects"]);
    let set_aside: Vec<String> =
        rejects["rows"].as_array().unwrap().iter().map(|row| format!("line {}", row["line"])).collect();
    assert!(refused.len() > 25 && refused.len() < 60, "{}", refused.len());
    assert_eq!(set_aside, refused);
}

#[test]
fn lists_hold_what_a_plain_search_of_the_documents_finds() {
    let env = workspace();
    env.ok(&["import", "fleet.jsonl", "--as-of", AT]);
    env.ok(&["assess", "--as-of", AT]);
    let documents: Vec<Json> =
        (0..DEVICES).map(|at| serde_json::from_str(&fleet_document(at, "oracle")).unwrap()).collect();
    let idle = |document: &Json| number(document, "lock.idle_minutes").ok();
    let forbidden = |document: &Json| names(document).is_ok_and(|names| names.contains(&"seedpool"));
    type Search<'s> = &'s dyn Fn(&Json) -> bool;
    let searches: [(&str, Search<'_>); 3] = [
        // What the rules read, what they read in lists, and what none of them reads.
        ("lock.idle_minutes > 10", &|document| idle(document).is_some_and(|idle| idle > Decimal::TEN)),
        ("some s in software satisfies s.name = \"seedpool\"", &forbidden),
        ("lock.method = \"pin\"", &|document| text(document, "lock.method") == Ok("pin")),
    ];
    for (condition, search) in searches {
        let columns = "device,lock.idle_minutes";
        let listed = env.ok(&["list", "devices", "--where", condition, "--format", "csv", "--columns", columns]);
        let found = documents.iter().filter(|document| search(document)).map(|document| {
            let idle = at(document, "lock.idle_minutes").and_then(|_| idle(document));
            format!(
                "{},{}",
                document["device"].as_str().unwrap(),
                idle.map(|idle| idle.to_string()).unwrap_or_default()
            )
        });
        let expected: Vec<String> = std::iter::once(columns.to_owned()).chain(found).collect();
        assert!(expected.len() > 20 && expected.len() < documents.len(), "{condition}: {}", expected.len());
        assert_eq!(listed.lines().collect::<Vec<_>>(), expected, "{condition}");
    }
}
