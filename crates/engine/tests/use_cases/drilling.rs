//! From every summary down to its rows: totals are those of the rows below, over random workspaces, reckoned slowly and plainly.

use std::collections::{BTreeMap, BTreeSet};

use fencepost_core::Standing;
use fencepost_engine::{
    FiguresPer, FiguresQuery, GroupMembers, Kind, ListQuery, PageKind, PageOf, Project, Reading, RuleBasis,
};
use jiff::Timestamp;
use proptest::prelude::*;
use serde_json::{Value as Json, json};

use crate::bench::{Bench, CONFIG, all, day, moment};

const RULES: &str = r#"
[[rule]]
id = "encrypted"
groups = ["every-device"]
except = [{ group = "spare", because = "They lie in a drawer.", until = 2027-03-05T00:00:00Z }]
require = "disk.encrypted"
grace = "1d"
severity = "high"
controls = ["Order 4"]

[[rule]]
id = "patched"
covers = 'platform != "ios"'
require = 'os.version >= version("5")'
grace = "2d"
fix = "Bring it up to date."

[[rule]]
id = "screen"
groups = ["phones"]
stage = "trial"
[rule.checks]
lock = "lock.minutes <= 5"
length = "lock.length >= 6"

[[rule]]
id = "nobody"
covers = 'platform = "none such"'
require = "disk.encrypted"

[[rule]]
id = "planned"
groups = ["phones"]
stage = "draft"
require = "lock.minutes <= 2"
"#;

const GROUPS: &str = r#"
[[group]]
id = "phones"
where = 'platform in ("ios", "android")'

[[group]]
id = "spare"
members = ["d0", "d3"]

[[group]]
id = "troubled"
where = 'standing != "compliant"'
"#;

const BASELINE: &str = r#"
id = "phone"
title = "Phones"
groups = ["phones"]
severity = "low"
grace = "3d"

[expect]
"lock.length" = { value = 8 }

[apps]
from = "apps.name"
must = ["guard"]
never = ["leak*"]
"#;

const ACCESS: &str = r#"
[[service]]
id = "mail"
title = "Mail"
default = "deny"
usual = [{ client = "app" }, { client = "browser" }]

[[service]]
id = "wiki"
title = "Wiki"
default = "permit"
usual = [{ client = "browser" }]

[[access]]
id = "in-order"
services = ["mail"]
people = ["every-person"]
needs = 'standing in ("compliant", "on-notice")'
"#;

/// What a device says on a day.
#[derive(Clone, Debug)]
struct Said {
    platform: u8,
    encrypted: Option<bool>,
    version: u8,
    minutes: Option<u8>,
    length: u8,
    apps: Vec<(u8, u8)>,
    person: u8,
}

const APPS: [&str; 4] = ["guard", "leaker", "notes", "maps"];
const PLATFORMS: [&str; 3] = ["ios", "android", "linux"];

impl Said {
    fn document(&self, device: usize, at: &str) -> Json {
        let apps = self
            .apps
            .iter()
            .map(|(name, version)| json!({ "name": APPS[usize::from(*name)], "version": format!("1.{version}") }));
        let mut said = json!({
            "device": format!("d{device}"), "collected_at": at, "platform": PLATFORMS[usize::from(self.platform)],
            "site": format!("s{}", device % 2), "os": { "version": self.version.to_string() },
            "lock": { "length": self.length }, "apps": apps.collect::<Vec<_>>(), "person": format!("p{}", self.person),
        });
        if let Some(encrypted) = self.encrypted {
            said["disk"] = json!({ "encrypted": encrypted });
        }
        if let Some(minutes) = self.minutes {
            said["lock"]["minutes"] = json!(minutes);
        }
        said
    }
}

fn said() -> impl Strategy<Value = Said> {
    let apps = prop::collection::vec((0u8..4, 0u8..3), 0..4);
    let encrypted = prop_oneof![3 => Just(Some(true)), 2 => Just(Some(false)), 1 => Just(None)];
    (0u8..3, encrypted, 4u8..7, prop::option::of(1u8..9), 4u8..10, apps, 0u8..3).prop_map(
        |(platform, encrypted, version, minutes, length, apps, person)| Said {
            platform,
            encrypted,
            version,
            minutes,
            length,
            apps,
            person,
        },
    )
}

/// The devices that report on one day after the other; and whether a waiver is written from the third day on.
fn fleets() -> impl Strategy<Value = (Vec<BTreeMap<usize, Said>>, bool)> {
    (prop::collection::vec(prop::collection::btree_map(0usize..7, said(), 1..6), 2..6), any::<bool>())
}

const WAIVER: &str = "[[waiver]]\nid = \"w\"\ndevices = [\"d1\", \"d2\"]\nrules = [\"encrypted\", \"patched\"]\nbecause = \"so\"\n\
                      approved_by = \"us\"\nfrom = 2027-03-01\nuntil = 2027-03-04\n";

fn bench() -> Bench {
    let mut bench = Bench::new();
    bench.edit("fencepost.toml", &CONFIG.replace("holder =", "fence_by = \"site\"\nholder ="));
    for (file, text) in [
        ("rules/test.toml", RULES),
        ("groups.toml", GROUPS),
        ("baselines/phone.toml", BASELINE),
        ("access.toml", ACCESS),
        (
            "facts.toml",
            "[facts]\n\"os.version\" = { type = \"version\" }\napps = { type = \"list\", key = \"name\" }\n",
        ),
    ] {
        bench.edit(file, text);
    }
    bench
}

/// Rows of a list as objects.
fn rows(reading: &Reading<'_>, query: ListQuery<'_>, columns: &[&str]) -> Vec<Json> {
    let columns: Vec<String> = columns.iter().map(|column| (*column).to_owned()).collect();
    let listing = reading.list(ListQuery { columns: &columns, ..query }).unwrap().unwrap();
    let object = |row: Vec<Json>| Json::Object(listing.columns.iter().cloned().zip(row).collect());
    listing.rows.iter().map(|row| object(row.unwrap())).collect()
}

fn text<'j>(row: &'j Json, key: &str) -> &'j str {
    row[key].as_str().unwrap_or_default()
}

/// What a rule comes to by its rows.
fn tally<'r>(rows: impl Iterator<Item = &'r Json> + Clone) -> Json {
    let count = |is: &dyn Fn(&Json) -> bool| rows.clone().filter(|row| is(row)).count();
    let outcome = |word: &'static str| count(&|row| row["outcome"] == word);
    let (pass, fail, unknown) = (outcome("pass"), outcome("fail"), outcome("unknown"));
    let waived = count(&|row| row["waived"] == true);
    let judged = pass + fail + unknown;
    json!({
        "pass": pass, "fail": fail, "unknown": unknown, "not_applicable": outcome("not-applicable"), "waived": waived,
        "excepted": count(&|row| row["excepted"] == true),
        "share": (judged > 0).then(|| (pass + waived) as f64 / judged as f64),
    })
}

const VERDICT: [&str; 14] = [
    "device", "holder", "rule", "family", "outcome", "stage", "observed", "required", "age", "awaiting", "due",
    "waived", "excepted", "phase",
];

fn verdicts(reading: &Reading<'_>) -> Vec<Json> {
    rows(reading, ListQuery { not_applicable: true, ..all(Kind::Verdicts) }, &VERDICT)
}

/// Walks from the rules to each verdict.
fn check_rules(reading: &Reading<'_>, verdicts: &[Json]) {
    let columns = ["rule", "pass", "fail", "unknown", "not_applicable", "waived", "excepted", "share"];
    for rule in rows(reading, all(Kind::Rules), &columns).iter().filter(|rule| !rule["pass"].is_null()) {
        let id = text(rule, "rule");
        let own = || verdicts.iter().filter(|row| row["rule"] == id);
        let mut expected = tally(own());
        expected["rule"] = json!(id);
        assert_eq!(*rule, expected);
    }
}

/// Walks from the page of a rule to its devices.
fn check_rule_page(
    reading: Reading<'_>,
    now: &Project,
    id: &str,
    verdicts: &[Json],
    platforms: &BTreeMap<String, String>,
) {
    let page = reading.rule(id, now).unwrap();
    let own = || verdicts.iter().filter(|row| row["rule"] == id);
    let counts = &page.counts;
    let told = json!({
        "pass": counts.pass, "fail": counts.fail, "unknown": counts.unknown, "not_applicable": counts.not_applicable,
        "waived": counts.waived, "excepted": counts.excepted, "share": counts.share(),
    });
    assert_eq!(told, tally(own()), "{id}");
    let unmet: BTreeMap<&str, Json> = page
        .unmet
        .iter()
        .map(|one| {
            let proof = json!([one.proof.observed, one.proof.required, one.proof.age, one.holder]);
            let due = one.due.map(|due| due.to_string());
            (one.device.as_str(), json!([one.outcome.as_str(), proof, due, one.awaiting, one.waiver.is_some()]))
        })
        .collect();
    let expected: BTreeMap<&str, Json> = own()
        .filter(|row| matches!(text(row, "outcome"), "fail" | "unknown"))
        .map(|row| {
            let proof = json!([row["observed"], row["required"], row["age"], row["holder"]]);
            (text(row, "device"), json!([row["outcome"], proof, row["due"], row["awaiting"], row["waived"]]))
        })
        .collect();
    assert_eq!(unmet, expected, "{id}");
    let excepted: BTreeSet<&str> = page.excepted.iter().map(|one| one.device.as_str()).collect();
    assert_eq!(excepted, own().filter(|row| row["excepted"] == true).map(|row| text(row, "device")).collect(), "{id}");
    let mut by_platform: BTreeMap<Option<&str>, u64> = BTreeMap::new();
    for row in own().filter(|row| row["outcome"] != "not-applicable") {
        *by_platform.entry(platforms.get(text(row, "device")).map(String::as_str)).or_default() += 1;
    }
    let told: BTreeMap<Option<&str>, u64> =
        page.by_platform.iter().map(|part| (part.name.as_deref(), part.counts.judged())).collect();
    assert_eq!(told, by_platform, "{id}");
}

/// How much of some rules is met, device by device.
fn met_by_rows(verdicts: &[Json], is_its: &dyn Fn(&Json) -> bool) -> Json {
    let mut by_device: BTreeMap<&str, Vec<&str>> = BTreeMap::new();
    let own = verdicts.iter().filter(|row| row["stage"] == "enforced" && row["outcome"] != "not-applicable");
    for row in own.filter(|row| is_its(row)) {
        by_device.entry(text(row, "device")).or_default().push(text(row, "outcome"));
    }
    let [mut every, mut some, mut none, mut untold] = [0; 4];
    for outcomes in by_device.values() {
        let has = |word: &str| outcomes.contains(&word);
        match (has("fail"), has("pass"), has("unknown")) {
            (true, true, _) => some += 1,
            (true, false, _) => none += 1,
            (false, _, true) => untold += 1,
            (false, _, false) => every += 1,
        }
    }
    json!([by_device.len(), every, some, none, untold])
}

fn check_baselines(reading: &Reading<'_>, verdicts: &[Json]) {
    let columns = ["devices", "all_met", "some_met", "none_met", "unknown"];
    for (kind, key) in [(Kind::Baselines, "baseline"), (Kind::Families, "family")] {
        let named: Vec<&str> = [key].into_iter().chain(columns).collect();
        for row in rows(reading, all(kind), &named) {
            let family = json!(text(&row, key));
            let expected = met_by_rows(verdicts, &|row| row["family"] == family);
            assert_eq!(json!(columns.map(|column| &row[column])), expected, "{key} {family}");
            if kind == Kind::Baselines {
                let page = reading.baseline_counts(text(&row, key)).unwrap().unwrap();
                assert_eq!(json!(page.met.devices), row["devices"]);
                for count in &page.rules {
                    let told = json!([count.pass, count.fail, count.unknown]);
                    let own = tally(verdicts.iter().filter(|row| row["rule"] == json!(count.rule)));
                    assert_eq!(told, json!([own["pass"], own["fail"], own["unknown"]]), "{}", count.rule);
                }
            }
        }
    }
}

/// Walks from groups, sites and counts two ways to the devices.
fn check_devices(reading: &Reading<'_>) {
    let columns = ["device", "standing", "waived", "site", "platform"];
    let devices = rows(reading, all(Kind::Devices), &columns);
    let counted = |own: &[&Json]| {
        let standings =
            Standing::ALL.map(|standing| own.iter().filter(|row| row["standing"] == standing.as_str()).count());
        let share = (!own.is_empty()).then(|| standings[0] as f64 / own.len() as f64);
        json!([own.len(), standings, share])
    };
    for group in rows(reading, all(Kind::Groups), &["group", "of", "members", "share"]) {
        let id = text(&group, "group");
        let filter = format!("in group(\"{id}\")");
        let own = rows(reading, ListQuery { filter: Some(&filter), ..all(Kind::Devices) }, &["device", "standing"]);
        let page = reading.group(id).unwrap();
        let (GroupMembers::Devices(members), "devices") = (page.members, text(&group, "of")) else { continue };
        let told: Vec<Json> = members
            .iter()
            .map(|(device, post)| json!({ "device": device, "standing": post.standing.as_str() }))
            .collect();
        assert_eq!(told, own, "{id}");
        let own: Vec<&Json> = own.iter().collect();
        let expected = counted(&own);
        assert_eq!(json!([page.counts.all, page.counts.standings, page.counts.share()]), expected, "{id}");
        assert_eq!(json!([group["members"], group["share"]]), json!([expected[0], expected[2]]), "{id}");
    }
    let of_rows = |by: &[&str], row: &Json| by.iter().map(|key| row[*key].clone()).collect::<Vec<Json>>();
    for by in [&["site"][..], &["platform"], &["platform", "site"]] {
        let names: Vec<String> = by.iter().map(|name| (*name).to_owned()).collect();
        let listing = reading.list(ListQuery { by: &names, ..all(Kind::Devices) }).unwrap().unwrap();
        for row in listing.rows.iter().map(Result::unwrap) {
            let own: Vec<&Json> = devices.iter().filter(|device| of_rows(by, device) == row[..by.len()]).collect();
            let expected = counted(&own);
            let part = own.len() as f64 / devices.len() as f64;
            let told = &row[by.len()..];
            assert_eq!(json!([told[0], told[3..7], told[1]]), expected, "{by:?}");
            assert_eq!(told[2], json!(part), "{by:?}");
        }
        if by == ["site"] {
            let sites = reading.list(all(Kind::Sites)).unwrap().unwrap();
            let again: Vec<Vec<Json>> = sites.rows.iter().map(Result::unwrap).collect();
            assert_eq!(again, listing.rows.iter().map(Result::unwrap).collect::<Vec<_>>());
        }
    }
}

/// Walks from the services to the sign-ins.
fn check_services(reading: &Reading<'_>) {
    for row in rows(reading, all(Kind::Services), &["service", "permit", "limited", "deny"]) {
        let page = reading.service(text(&row, "service"), true).unwrap();
        let mut best: BTreeMap<(String, Option<String>), u8> = BTreeMap::new();
        for entry in &page.decisions {
            let pair = (entry.device.to_string(), entry.person.as_deref().map(str::to_owned));
            let strictness = entry.decision.strictness() as u8;
            let known = best.entry(pair).or_insert(strictness);
            *known = (*known).min(strictness);
        }
        let count = |wanted: u8| best.values().filter(|strictness| **strictness == wanted).count() as u64;
        let told = page.counts;
        assert_eq!([count(0), count(1), count(2)], [told.permit, told.limited, told.deny - told.by_default]);
        assert_eq!(json!([row["permit"], row["limited"], row["deny"]]), json!([told.permit, told.limited, told.deny]));
    }
}

fn check_items(reading: &Reading<'_>, latest: &BTreeMap<usize, Said>, first: &BTreeMap<&str, String>) {
    let listing = rows(
        reading,
        ListQuery { fact: Some("apps"), ..all(Kind::Items) },
        &["item", "devices", "share", "versions", "first_seen", "named", "named_by"],
    );
    let mut expected: BTreeMap<&str, (usize, BTreeSet<String>)> = BTreeMap::new();
    for said in latest.values() {
        let names: BTreeSet<&str> = said.apps.iter().map(|(name, _)| APPS[usize::from(*name)]).collect();
        names.into_iter().for_each(|name| expected.entry(name).or_default().0 += 1);
        for (name, version) in &said.apps {
            expected.entry(APPS[usize::from(*name)]).or_default().1.insert(format!("1.{version}"));
        }
    }
    let told: BTreeMap<&str, (usize, BTreeSet<String>)> = listing
        .iter()
        .map(|row| {
            let versions =
                row["versions"].as_array().unwrap().iter().map(|version| version.as_str().unwrap().to_owned());
            (text(row, "item"), (usize::try_from(row["devices"].as_u64().unwrap()).unwrap(), versions.collect()))
        })
        .collect();
    assert_eq!(told, expected);
    for row in &listing {
        assert_eq!(row["share"], json!(row["devices"].as_f64().unwrap() / latest.len() as f64));
        assert_eq!(text(row, "first_seen"), first[text(row, "item")]);
        let named = match text(row, "item") {
            "guard" => json!(["must", ["phone"]]),
            "leaker" => json!(["never", ["phone"]]),
            _ => json!(["none", []]),
        };
        assert_eq!(json!([row["named"], row["named_by"]]), named);
    }
    let unnamed = rows(reading, ListQuery { fact: Some("apps"), unnamed: true, ..all(Kind::Items) }, &["item"]);
    assert_eq!(unnamed.len(), listing.iter().filter(|row| row["named"] == "none").count());
}

const EVERY: FiguresQuery = FiguresQuery { most: 99, per: FiguresPer::Assessment };

/// What each assessment kept of the rules is what its verdicts said.
fn check_history(bench: &Bench, days: u8, then: &[Vec<Json>]) {
    bench.read(&day(days), |reading| {
        for id in ["encrypted", "patched", "phone/lock.length", "screen/lock"] {
            let history = reading.rule_history(id, EVERY).unwrap();
            assert_eq!(history.len(), then.len());
            for (row, verdicts) in history.iter().zip(then) {
                let counts = row.counts.as_ref().unwrap();
                let own = tally(verdicts.iter().filter(|row| row["rule"] == id));
                let told =
                    json!([counts.pass, counts.fail, counts.unknown, counts.waived, counts.excepted, counts.share()]);
                let keys = ["pass", "fail", "unknown", "waived", "excepted", "share"];
                assert_eq!(told, json!(keys.map(|key| &own[key])), "{id} as of {}", row.as_of);
            }
        }
        // How long fixes took, from the events one by one.
        let (mut fixed, mut relapsed): (BTreeMap<String, BTreeMap<u64, i64>>, BTreeMap<String, u64>) =
            Default::default();
        for run in reading.reader.runs().unwrap() {
            reading
                .reader
                .each_event::<fencepost_store::LedgerError>(run.id, |event| {
                    let Some(finding) = event.finding else { return Ok(()) };
                    if event.what == "closed" && event.detail.as_deref() == Some("fixed") {
                        let seconds = event.at.duration_since(finding.opened).as_secs();
                        fixed.entry(finding.subject).or_default().insert(finding.id, seconds);
                    } else if event.what == "came-back" {
                        *relapsed.entry(finding.subject).or_default() += 1;
                    }
                    Ok(())
                })
                .unwrap();
        }
        let expected: BTreeMap<String, (i64, i64, u64, u64)> = fixed
            .into_iter()
            .map(|(rule, own)| {
                let mut own: Vec<i64> = own.into_values().collect();
                own.sort_unstable();
                let (low, high) = (own[(own.len() - 1) / 2], own[own.len() / 2]);
                let again = relapsed.get(&rule).copied().unwrap_or(0);
                (rule, ((low + high) / 2, *own.last().unwrap(), own.len() as u64, again))
            })
            .collect();
        let told: BTreeMap<String, (i64, i64, u64, u64)> = reading
            .figures(EVERY)
            .unwrap()
            .fix_times
            .into_iter()
            .map(|one| (one.rule, (one.median.as_secs(), one.longest.as_secs(), one.fixed, one.relapsed)))
            .collect();
        assert_eq!(told, expected);
    });
}

type FindingKey = (String, String, String);

fn running(reading: &Reading<'_>) -> BTreeSet<FindingKey> {
    let key = |row: &Json| ["device", "rule", "opened"].map(|column| text(row, column).to_owned()).into();
    rows(reading, all(Kind::Findings), &["device", "rule", "opened"]).iter().map(key).collect()
}

/// What is otherwise than on an earlier day is the difference of what was listed on both.
fn check_since(bench: &Bench, days: u8) {
    for earlier in 1..days {
        let before = bench.read_past(&day(earlier), running);
        let now = bench.read(&day(days), running);
        let since = bench.read(&day(days), |reading| reading.since(moment(&day(earlier))).unwrap());
        let keys = |findings: &[fencepost_core::Finding]| -> BTreeSet<FindingKey> {
            let key = |one: &fencepost_core::Finding| {
                (one.device.to_string(), one.subject.as_str().to_owned(), one.clock.opened.to_string())
            };
            findings.iter().map(key).collect()
        };
        let came: BTreeSet<FindingKey> = keys(&since.opened).into_iter().chain(keys(&since.came_back)).collect();
        assert_eq!(came, &now - &before, "since day {earlier}");
        assert_eq!(keys(&since.closed), &before - &now, "since day {earlier}");
        let is_late = |(.., opened): &FindingKey| opened.parse::<Timestamp>().unwrap() > moment(&day(earlier));
        assert!(keys(&since.opened).iter().all(is_late) && !keys(&since.came_back).iter().any(is_late));
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 12, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn every_summary_is_what_its_rows_come_to((fleet, is_waived) in fleets()) {
        let mut bench = bench();
        let (mut latest, mut first): (BTreeMap<usize, Said>, BTreeMap<&str, String>) = Default::default();
        let mut then: Vec<Vec<Json>> = Vec::new();
        let mut number = 0;
        for devices in fleet {
            number += 1;
            let at = day(number);
            if is_waived && number == 3 {
                bench.edit("waivers.toml", WAIVER);
            }
            let lines: String =
                devices.iter().map(|(device, said)| format!("{}\n", said.document(*device, &at))).collect();
            bench.import("agent", &lines, &at).unwrap();
            for said in devices.values() {
                said.apps.iter().for_each(|(name, _)| { first.entry(APPS[usize::from(*name)]).or_insert(at.clone()); });
            }
            latest.extend(devices);
            bench.assess(&at);
            let platforms: BTreeMap<String, String> = latest
                .iter()
                .map(|(device, said)| (format!("d{device}"), PLATFORMS[usize::from(said.platform)].to_owned()))
                .collect();
            let told = bench.read(&at, |reading| {
                let verdicts = verdicts(reading);
                check_rules(reading, &verdicts);
                check_baselines(reading, &verdicts);
                check_devices(reading);
                check_services(reading);
                check_items(reading, &latest, &first);
                verdicts
            });
            for id in ["encrypted", "patched", "screen/lock", "nobody", "phone/lock.length", "phone/apps.guard"] {
                let project = bench.project();
                bench.with_reading(&at, |reading| check_rule_page(reading, &project, id, &told, &platforms));
            }
            then.push(told);
        }
        check_history(&bench, number, &then);
        check_since(&bench, number);
    }
}

#[test]
fn a_page_is_found_by_its_id_and_asked_about_where_several_have_it() {
    let mut bench = bench();
    let groups = format!("{GROUPS}\n[[group]]\nid = \"patched\"\nmembers = [\"d1\"]\n");
    bench.edit("groups.toml", &groups);
    let said =
        Said { platform: 0, encrypted: Some(true), version: 5, minutes: None, length: 8, apps: Vec::new(), person: 1 };
    bench.import("agent", &format!("{}\n", said.document(1, &day(1))), &day(1)).unwrap();
    bench.assess(&day(1));
    let project = bench.project();
    bench.read(&day(1), |reading| {
        let page = |id: &str, kind| reading.page_of(id, kind, &project);
        let found = |id: &str| page(id, None).unwrap();
        for (id, kind) in [
            ("d1", PageKind::Device),
            ("p1", PageKind::Person),
            ("encrypted", PageKind::Rule),
            ("planned", PageKind::Rule),
            ("phone", PageKind::Baseline),
            ("wiki", PageKind::Service),
            ("troubled", PageKind::Group),
        ] {
            assert_eq!(found(id), PageOf { kind, id: id.to_owned() });
        }
        let several = page("patched", None).unwrap_err();
        assert_eq!(several.to_string(), "`patched` is the id of a rule and of a group");
        assert_eq!(several.help(), Some("say which is meant: --kind rule, --kind group"));
        assert_eq!(page("patched", Some(PageKind::Group)).unwrap().kind, PageKind::Group);
        let family = page("screen", None).unwrap_err();
        assert!(family.help().unwrap().contains("family = \"screen\""), "{family:?}");
        assert_eq!(page("encryptet", None).unwrap_err().help(), Some("did you mean `encrypted`?"));
        let no_group = page("encrypted", Some(PageKind::Group)).unwrap_err();
        assert_eq!(no_group.to_string(), "there is no group `encrypted`");
    });
}

#[test]
fn a_draft_and_a_rule_that_is_newer_than_the_assessment_are_told_as_they_would_be() {
    let mut bench = bench();
    let said = |minutes| Said {
        platform: 0,
        encrypted: Some(true),
        version: 5,
        minutes: Some(minutes),
        length: 8,
        apps: Vec::new(),
        person: 1,
    };
    let lines: String =
        [(1, 1), (2, 4)].map(|(at, minutes)| format!("{}\n", said(minutes).document(at, &day(1)))).concat();
    bench.import("agent", &lines, &day(1)).unwrap();
    bench.assess(&day(1));
    let newer = format!("{RULES}\n[[rule]]\nid = \"newer\"\ngroups = [\"phones\"]\nrequire = \"lock.length > 8\"\n");
    bench.edit("rules/test.toml", &newer);
    let project = bench.project();
    for (id, basis, counts) in [("planned", RuleBasis::Draft, [1, 1]), ("newer", RuleBasis::New, [0, 2])] {
        bench.with_reading(&day(1), |reading| {
            let page = reading.rule(id, &project).unwrap();
            assert_eq!((page.basis, [page.counts.pass, page.counts.fail]), (basis, counts), "{id}");
            assert!(page.trend.iter().all(|then| then.counts.is_none()));
        });
    }
    assert!(bench.read(&day(1), |reading| reading.knows_rule("newer", &project)));
}

#[test]
fn what_an_edit_alone_turned_is_told_rule_by_rule() {
    let mut bench = bench();
    let said = |version, encrypted| Said {
        platform: 2,
        encrypted: Some(encrypted),
        version,
        minutes: None,
        length: 8,
        apps: Vec::new(),
        person: 1,
    };
    let lines = |at: &str, all: &[Said]| -> String {
        all.iter().enumerate().map(|(device, said)| format!("{}\n", said.document(device, at))).collect()
    };
    bench.import("agent", &lines(&day(1), &[said(5, true), said(5, true), said(6, true)]), &day(1)).unwrap();
    bench.assess(&day(1));
    // One device is not encrypted any more, and the version that is asked for is a later one.
    bench.import("agent", &lines(&day(2), &[said(5, true), said(5, false), said(6, true)]), &day(2)).unwrap();
    bench.edit("rules/test.toml", &RULES.replace("version(\"5\")", "version(\"6\")"));
    bench.assess(&day(2));
    // What came in since is nothing that the edit did.
    bench.import("agent", &lines(&day(3), &[said(4, true), said(6, true), said(6, true)]), &day(3)).unwrap();
    let since = bench.read(&day(3), |reading| reading.since(moment(&day(1))).unwrap());
    let edited: Vec<(&str, &str, &str, Option<u64>)> = since
        .edited
        .iter()
        .map(|one| {
            let definition = &one.change.definition;
            (definition.kind.as_str(), definition.id.as_str(), one.change.change(), one.verdicts_turned)
        })
        .collect();
    assert_eq!(edited, [("rule", "patched", "edited", Some(2))]);
    assert_eq!(since.verdicts_turned, 2);
    assert_eq!((since.opened.len(), since.closed.len(), since.came_and_went), (3, 0, 0));
}
