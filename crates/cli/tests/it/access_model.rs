//! A slow and plain model of access, held against the program over random runs: who may what, who lost, regained and will lose it,
//! while devices change hands, people move and leave, rules are edited, devices are retired, and time passes.

use std::collections::{BTreeMap, BTreeSet};

use jiff::{SignedDuration, Timestamp};
use serde_json::{Value as Json, json};

use crate::env::{Env, STEPPED};

const SOURCES: &str = "[[source]]\nid = \"agents\"\nfiles = [\"*.jsonl\"]\nfresh_for = \"5d\"\n[[source]]\nid = \"people\"\nfiles = [\"people.csv\"]\nformat = \"csv\"\nperson = \"id\"\ncomplete = true\n";
const DEVICES: [&str; 5] = ["a", "b", "c", "d", "e"];
const PEOPLE: [&str; 4] = ["p1", "p2", "p3", "p4"];

/// A generator of the numbers 0..n, the same in every run.
struct Random(u64);

impl Random {
    fn below(&mut self, n: u64) -> u64 {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) % n
    }

    fn one_in(&mut self, n: u64) -> bool {
        self.below(n) == 0
    }
}

fn moment(day: i64, hour: i64) -> Timestamp {
    let first: Timestamp = "2027-03-01T00:00:00Z".parse().unwrap();
    first + SignedDuration::from_hours(day * 24 + hour)
}

/// What a device said last.
#[derive(Clone)]
struct Said {
    collected: Timestamp,
    ok: bool,
    ends: Option<Timestamp>,
    person: &'static str,
}

/// How the access rules are written at the moment.
#[derive(Clone, Copy, PartialEq)]
struct Rules {
    /// The certificate is asked for as well.
    asks_certificate: bool,
    /// From when on the handbook asks for what is fine.
    handbook_from: Timestamp,
}

impl Rules {
    fn text(self) -> String {
        let certificate = if self.asks_certificate { " and ends > now()" } else { "" };
        format!(
            r#"
[[service]]
id = "mail"
default = "deny"
usual = [{{ client = "app" }}]

[[service]]
id = "wiki"
default = "permit"
usual = [{{ client = "browser" }}]

[[access]]
id = "good"
services = ["mail"]
people = ["ships"]
needs = 'ok{certificate}'

[[access]]
id = "managed"
services = ["wiki"]
needs = 'device.managed'
otherwise = {{ step_up = true }}

[[access]]
id = "fine"
services = ["wiki"]
enforced_from = {}
needs = 'ok'
otherwise = {{ limits = ["no download"] }}
"#,
            self.handbook_from
        )
    }
}

#[derive(Clone)]
struct World {
    said: BTreeMap<&'static str, Said>,
    /// The unit of everybody on the list.
    units: BTreeMap<&'static str, &'static str>,
    retired: BTreeMap<&'static str, Timestamp>,
    rules: Rules,
}

/// Device, person, service.
type Key = (String, String, String);

/// `deny`, or what a permit asks for; the more the stricter.
type Ruling = Option<BTreeSet<&'static str>>;

fn is_stricter(one: &Ruling, other: &Ruling) -> bool {
    match (one, other) {
        (None, Some(_)) => true,
        (Some(one), Some(other)) => !one.is_subset(other),
        (_, None) => false,
    }
}

impl World {
    /// Decides everything at a moment; facts that were fresh at `kept` stay so, where that is said.
    fn decide(&self, at: Timestamp, kept: Option<Timestamp>) -> BTreeMap<Key, Ruling> {
        let mut all = BTreeMap::new();
        for (device, said) in &self.said {
            if self.retired.get(device).is_some_and(|from| *from <= at) {
                continue;
            }
            let is_fresh_at = |at: Timestamp| at <= said.collected + SignedDuration::from_hours(5 * 24);
            let is_fresh = is_fresh_at(at) || kept.is_some_and(is_fresh_at);
            let is_ok = is_fresh && said.ok;
            let certified = !self.rules.asks_certificate || said.ends.is_some_and(|ends| ends > at);
            let is_crew = self.units.get(said.person).is_some_and(|unit| unit.starts_with("ships"));
            let mail = (is_crew && is_ok && certified).then(BTreeSet::new);
            let mut asked = BTreeSet::new();
            if !is_fresh {
                asked.insert("step-up");
            }
            if at >= self.rules.handbook_from && !is_ok {
                asked.insert("no download");
            }
            let key = |service: &str| ((*device).to_owned(), said.person.to_owned(), service.to_owned());
            all.insert(key("mail"), mail);
            all.insert(key("wiki"), Some(asked));
        }
        all
    }

    /// The moments after `at` at which anything may change by itself.
    fn moments(&self, at: Timestamp) -> BTreeSet<Timestamp> {
        let just_after = SignedDuration::from_micros(1);
        let stale = self.said.values().map(|said| said.collected + SignedDuration::from_hours(5 * 24) + just_after);
        let ends = self.said.values().filter_map(|said| said.ends);
        let all = stale.chain(ends).chain(self.retired.values().copied()).chain([self.rules.handbook_from]);
        all.filter(|moment| *moment > at).collect()
    }

    /// What time alone makes stricter after `at`: key, moment, what it is then, and whether only silence brings it about.
    fn losing(&self, at: Timestamp) -> BTreeSet<(Key, i64, String, bool)> {
        let mut losing = BTreeSet::new();
        let (mut any, mut certain) = (self.decide(at, None), self.decide(at, None));
        for moment in self.moments(at) {
            let (then, kept) = (self.decide(moment, None), self.decide(moment, Some(at)));
            for key in any.keys().cloned().collect::<Vec<_>>() {
                let one = then.get(&key).cloned().unwrap_or(None);
                let sure = kept.get(&key).cloned().unwrap_or(None);
                if is_stricter(&sure, &certain[&key]) {
                    losing.insert((key.clone(), moment.as_second(), words(&sure), false));
                }
                if is_stricter(&one, &any[&key]) && is_stricter(&one, &sure) {
                    losing.insert((key.clone(), moment.as_second(), words(&one), true));
                }
                any.insert(key.clone(), one);
                certain.insert(key, sure);
            }
        }
        losing
    }
}

fn words(ruling: &Ruling) -> String {
    match ruling {
        None => "deny".to_owned(),
        Some(asked) => asked.iter().copied().collect::<Vec<_>>().join("+"),
    }
}

fn told_words(entry: &Json) -> String {
    let asked: BTreeSet<&str> = entry["obligations"].as_array().unwrap().iter().filter_map(Json::as_str).collect();
    match entry["decision"].as_str().unwrap() {
        "deny" => "deny".to_owned(),
        _ => asked.into_iter().collect::<Vec<_>>().join("+"),
    }
}

fn told_key(entry: &Json) -> Key {
    let text = |key: &str| entry[key].as_str().unwrap_or_default().to_owned();
    (text("device"), text("person"), text("service"))
}

fn told(report: &Json, list: &str) -> BTreeSet<(Key, String)> {
    report[list].as_array().unwrap().iter().map(|entry| (told_key(entry), told_words(entry))).collect()
}

/// What changed between two moments, as the program's lists have it.
fn changes(
    before: &BTreeMap<Key, Ruling>,
    now: &BTreeMap<Key, Ruling>,
) -> BTreeMap<&'static str, BTreeSet<(Key, String)>> {
    let mut lists: BTreeMap<&'static str, BTreeSet<(Key, String)>> =
        ["lost", "reduced", "restored"].into_iter().map(|list| (list, BTreeSet::new())).collect();
    for (key, was) in before {
        let is = now.get(key).cloned().unwrap_or(None);
        let list = match (was, &is) {
            (Some(_), None) => "lost",
            (Some(was), Some(is)) if !is.is_subset(was) => "reduced",
            (Some(was), Some(is)) if !was.is_subset(is) => "restored",
            (None, Some(_)) => "restored",
            _ => continue,
        };
        lists.get_mut(list).unwrap().insert((key.clone(), words(&is)));
    }
    lists
}

/// Whether whoever lost a way to a service has another one.
fn has_other_way(now: &BTreeMap<Key, Ruling>, key: &Key) -> bool {
    now.iter().any(|(other, ruling)| (&other.1, &other.2) == (&key.1, &key.2) && other.0 != key.0 && ruling.is_some())
}

fn write_workspace(env: &Env, world: &World, day: i64) {
    env.write("access.toml", world.rules.text());
    let people: String = world.units.iter().map(|(id, unit)| format!("{id},{id},{unit},{day}\n")).collect();
    // The same bytes again would be a file that is in already.
    env.write("people.csv", format!("id,name,unit,day\n{people}"));
    let retired = world
        .retired
        .iter()
        .map(|(device, from)| format!("[[device]]\nid = \"{device}\"\nretired = {from}\nbecause = \"sold\"\n\n"));
    env.write("devices.toml", retired.collect::<String>());
}

/// Changes something, and returns the devices that say something that day.
fn step(world: &mut World, random: &mut Random, day: i64) -> Vec<&'static str> {
    let mut reporting = Vec::new();
    for device in DEVICES {
        let is_retired = world.retired.contains_key(device);
        if is_retired || !(day == 0 || random.one_in(3)) {
            continue;
        }
        let before = world.said.get(device);
        let keeps = before.is_some() && !random.one_in(4);
        let person = before.filter(|_| keeps).map_or(PEOPLE[random.below(4) as usize], |said| said.person);
        let ends = (!random.one_in(5)).then(|| moment(day + random.below(9) as i64, 12));
        let said = Said { collected: moment(day, 5), ok: !random.one_in(4), ends, person };
        world.said.insert(device, said);
        reporting.push(device);
    }
    if random.one_in(3) {
        let person = PEOPLE[random.below(4) as usize];
        match random.below(3) {
            0 => {
                world.units.remove(person);
            }
            1 => {
                world.units.insert(person, "office");
            }
            _ => {
                world.units.insert(person, "ships/tern");
            }
        }
        // An empty list is no list.
        world.units.entry("p9").or_insert("office");
    }
    if day > 0 && random.one_in(4) {
        world.rules.asks_certificate ^= true;
    }
    if day > 0 && random.one_in(6) {
        world.rules.handbook_from = moment(random.below(12) as i64, 9);
    }
    if day > 1 && random.one_in(5) {
        let device = DEVICES[random.below(5) as usize];
        world.retired.entry(device).or_insert(moment(day + 1 + random.below(3) as i64, 3));
    }
    reporting
}

fn one_run(seed: u64) {
    let mut random = Random(seed);
    let env = Env::new();
    env.write("facts.toml", "[facts]\n\"ends\" = { type = \"instant\" }\n");
    env.write("fencepost.toml", format!("{STEPPED}{SOURCES}"));
    env.write("groups.toml", "");
    let mut world = World {
        said: BTreeMap::new(),
        units: [("p1", "ships/tern"), ("p2", "ships/tern"), ("p3", "office"), ("p9", "office")].into(),
        retired: BTreeMap::new(),
        rules: Rules { asks_certificate: true, handbook_from: moment(6, 9) },
    };
    let mut before: Option<BTreeMap<Key, Ruling>> = None;
    for day in 0..7 {
        let reporting = step(&mut world, &mut random, day);
        write_workspace(&env, &world, day);
        let at = moment(day, 6);
        env.ok(&["import", "people.csv", "--as-of", &moment(day, 5).to_string(), "--accept-missing"]);
        let lines: Vec<Json> = reporting
            .iter()
            .map(|device| {
                let said = &world.said[device];
                json!({"device": device, "collected_at": said.collected.to_string(), "ok": said.ok, "ends": said.ends.map(|ends| ends.to_string()), "person": said.person})
            })
            .collect();
        env.morning(&at.to_string(), &lines);
        let now = world.decide(at, None);
        let report = env.json(&["access", "--denied", "--all"]);
        let context = format!("seed {seed}, day {day}");
        let denied: BTreeSet<(Key, String)> = now
            .iter()
            .filter(|(_, ruling)| ruling.is_none())
            .map(|(key, ruling)| (key.clone(), words(ruling)))
            .collect();
        assert_eq!(told(&report, "denied"), denied, "{context}: denied");
        if let Some(before) = &before {
            for (list, expected) in changes(before, &now) {
                assert_eq!(told(&report, list), expected, "{context}: {list}");
            }
            for entry in report["lost"].as_array().unwrap() {
                let alone = !has_other_way(&now, &told_key(entry));
                assert_eq!(entry["call_first"], alone, "{context}: {entry}");
            }
        }
        let losing: BTreeSet<(Key, i64, String, bool)> = report["losing"]
            .as_array()
            .unwrap()
            .iter()
            .map(|entry| {
                let at: Timestamp = entry["at"].as_str().unwrap().parse().unwrap();
                (told_key(entry), at.as_second(), told_words(entry), entry["only_if_silent"].as_bool().unwrap())
            })
            .collect();
        assert_eq!(losing, world.losing(at), "{context}: losing");
        // As of a later moment it is what an assessment would say then.
        let later = at + SignedDuration::from_hours(1 + random.below(20) as i64);
        let then = env.json(&["access", "--denied", "--all", "--as-of", &later.to_string()]);
        let denied: BTreeSet<Key> =
            world.decide(later, None).into_iter().filter(|(_, ruling)| ruling.is_none()).map(|(key, _)| key).collect();
        let told_denied: BTreeSet<Key> = told(&then, "denied").into_iter().map(|(key, _)| key).collect();
        // What is retired by then is told as denied until an assessment has seen it.
        let left = |key: &&Key| world.retired.get(key.0.as_str()).is_none_or(|from| *from > later);
        assert_eq!(told_denied.iter().filter(left).cloned().collect::<BTreeSet<_>>(), denied, "{context}: at {later}");
        before = Some(now);
    }
}

#[test]
fn a_plain_model_agrees_on_who_loses_what() {
    // More runs for whoever changes what decides: FENCEPOST_ACCESS_RUNS=500 cargo test a_plain_model
    let runs = std::env::var("FENCEPOST_ACCESS_RUNS").ok().and_then(|runs| runs.parse().ok()).unwrap_or(12);
    (1..=runs).for_each(one_run);
}
