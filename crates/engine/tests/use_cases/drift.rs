//! Drift against a slow and plain model of it, over random fleets with a past; and what the views of it say.

use std::collections::{BTreeMap, BTreeSet};

use fencepost_core::Datum;
use fencepost_core::drift::BeganBy;
use fencepost_engine::{DriftDetail, DriftQuery, DriftSetReport, FiguresPer, FiguresQuery, MemberDifference, Reading};
use fencepost_formats::json_of_datum;
use serde_json::{Map, Value as Json, json};

use crate::bench::{Bench, day, moment};

/// The figures of every assessment.
const EVERY: FiguresQuery = FiguresQuery { most: 100, per: FiguresPer::Assessment };

const DRIFT: &str = r#"
[[drift]]
id = "peers"
groups = ["every-device"]
except = ["person", "since"]
tolerance = { load = "10%" }
"#;

const FACTS: &str = "[facts]\n\"software\" = { type = \"list\", key = \"name\" }\n";

/// A number that looks random, the same in every run.
struct Dice(u64);

impl Dice {
    fn roll(&mut self, sides: u64) -> u64 {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) % sides
    }
}

/// The facts of a device, each at its top; null where it is not reported.
fn rolled_fact(dice: &mut Dice, fact: &str) -> Option<Json> {
    let roll = dice.roll(20);
    match fact {
        "sshd" => match roll {
            0 => None,
            1 => Some(json!("off")),
            2 => Some(json!({ "port": 22 })),
            3..6 => Some(json!({ "port": 2222, "root": "no" })),
            6..8 => Some(json!({ "port": 22, "root": "yes" })),
            _ => Some(json!({ "port": 22, "root": "no" })),
        },
        "queue" => match roll {
            0 => None,
            1 => Some(json!({ "workers": null })),
            2..6 => Some(json!({ "workers": 4 })),
            _ => Some(json!({ "workers": 8 })),
        },
        "tags" => match roll {
            0 => None,
            1 => Some(json!([])),
            2..5 => Some(json!(["a"])),
            5 => Some(json!(["a", "a", "b"])),
            _ => Some(json!(["b", "a"])),
        },
        "software" => {
            let program = |name: &str, version: u64| json!({ "name": name, "version": format!("{version}.0") });
            let mut all = vec![program("guardd", if roll < 4 { 1 } else { 2 })];
            if !roll.is_multiple_of(5) {
                all.push(program("ebbnote", 3));
            }
            if roll == 7 {
                all.push(program("guardd", 1));
            }
            Some(Json::Array(all))
        }
        _ => (roll > 0).then(|| json!(if roll < 4 { 150 } else { 100 + roll })),
    }
}

const TOPS: [&str; 5] = ["sshd", "queue", "tags", "software", "load"];

/// What a device said on a day.
#[derive(Clone)]
struct Said {
    day: u8,
    facts: BTreeMap<&'static str, Json>,
}

/// A fleet and what came in of it, day by day.
struct Fleet {
    devices: Vec<Vec<Said>>,
    days: u8,
}

impl Fleet {
    fn rolled(seed: u64) -> Self {
        let mut dice = Dice(seed);
        let count = 2 + dice.roll(6) as usize;
        let days = 1 + dice.roll(6) as u8;
        let mut devices: Vec<Vec<Said>> = vec![Vec::new(); count];
        for number in 1..=days {
            for (at, said) in devices.iter_mut().enumerate() {
                let reports = (at == 0 || dice.roll(10) < 7) && !(at == 1 && number > 1);
                if !reports {
                    continue;
                }
                let mut facts = said.last().map(|last| last.facts.clone()).unwrap_or_default();
                for top in TOPS {
                    if said.is_empty() || dice.roll(4) == 0 {
                        match rolled_fact(&mut dice, top) {
                            Some(value) => facts.insert(top, value),
                            None => facts.remove(top),
                        };
                    }
                }
                said.push(Said { day: number, facts });
            }
        }
        Self { devices, days }
    }

    fn name(at: usize) -> String {
        format!("d{at}")
    }

    fn import_into(&self, bench: &mut Bench) {
        (1..=self.days).for_each(|number| self.import_day(number, bench));
    }

    fn import_day(&self, number: u8, bench: &mut Bench) {
        let lines: String = self
            .devices
            .iter()
            .enumerate()
            .filter_map(|(at, said)| Some((at, said.iter().find(|said| said.day == number)?)))
            .map(|(at, said)| {
                let mut document: Map<String, Json> =
                    said.facts.iter().map(|(key, value)| ((*key).to_owned(), value.clone())).collect();
                document.insert("device".into(), json!(Self::name(at)));
                document.insert("collected_at".into(), json!(day(number)));
                format!("{}\n", Json::Object(document))
            })
            .collect();
        bench.import("agent", &lines, &day(number)).expect("it is imported");
    }

    /// What is known of each device on a day, and whether it is fresh: for three days.
    fn on(&self, number: u8) -> Vec<Option<(Node, bool)>> {
        let of = |said: &Vec<Said>| {
            let last = said.iter().rfind(|said| said.day <= number)?;
            Some((Node::of_device(last), number - last.day <= 3))
        };
        self.devices.iter().map(of).collect()
    }
}

/// A value taken apart: objects, lists of texts, and lists whose items have names.
#[derive(Clone, Debug, PartialEq)]
enum Node {
    Leaf(Json),
    Parts(&'static str, BTreeMap<String, Node>),
}

impl Node {
    fn of_device(said: &Said) -> Self {
        Self::Parts("{}", said.facts.iter().map(|(top, value)| ((*top).to_owned(), Self::of(top, value))).collect())
    }

    fn of(top: &str, value: &Json) -> Self {
        match value {
            Json::Object(fields) => {
                Self::Parts("{}", fields.iter().map(|(key, value)| (format!(".{key}"), Self::of("", value))).collect())
            }
            Json::Array(items) if !top.is_empty() => {
                let mut named: BTreeMap<String, Vec<Json>> = BTreeMap::new();
                for item in items {
                    let name = item.get("name").unwrap_or(item).as_str().expect("a name").to_owned();
                    named.entry(format!("[{name}]")).or_default().push(item.clone());
                }
                let item = |mut items: Vec<Json>| match items.as_mut_slice() {
                    [Json::Object(one)] => {
                        one.remove("name");
                        Self::of("", &items[0])
                    }
                    [one] => Self::Leaf(one.clone()),
                    _ => {
                        items.sort_by_key(Json::to_string);
                        Self::Leaf(Json::Array(items))
                    }
                };
                Self::Parts("[]", named.into_iter().map(|(name, items)| (name, item(items))).collect())
            }
            other => Self::Leaf(other.clone()),
        }
    }

    fn class(node: Option<&Self>) -> String {
        match node {
            None => "missing".to_owned(),
            Some(Self::Leaf(value)) => value.to_string(),
            Some(Self::Parts(kind, _)) => (*kind).to_owned(),
        }
    }

    /// Returns what is shown of a difference: a value, or that there is something with parts.
    fn shown(node: Option<&Self>) -> String {
        Self::class(node)
    }

    fn at(&self, place: &str) -> Option<&Self> {
        let Self::Parts(_, parts) = self else { return None };
        for (name, node) in parts {
            if name == place {
                return Some(node);
            }
            if let Some(found) = place.strip_prefix(name.as_str()).and_then(|rest| node.at(rest)) {
                return Some(found);
            }
        }
        None
    }
}

/// What the model says of a difference.
#[derive(Clone, Debug, PartialEq)]
struct Found {
    device: usize,
    place: String,
    kind: &'static str,
    observed: String,
    reference: String,
    share: (usize, usize),
}

#[derive(Default)]
struct Model {
    found: Vec<Found>,
    undecided: Vec<String>,
    left_out: Vec<String>,
}

/// The states at one place, and of which devices something is still told.
struct Here<'h> {
    place: String,
    nodes: Vec<Option<Option<&'h Node>>>,
    votes: Vec<bool>,
    told_above: BTreeSet<usize>,
}

impl Model {
    fn of(states: &[Option<(Node, bool)>], leaves_out: bool) -> Self {
        let mut model = Self::default();
        let here = Here {
            place: String::new(),
            nodes: states.iter().map(|state| state.as_ref().map(|(node, _)| Some(node))).collect(),
            votes: states.iter().map(|state| state.as_ref().is_some_and(|(_, fresh)| *fresh)).collect(),
            told_above: BTreeSet::new(),
        };
        model.look(&here, leaves_out);
        model
    }

    fn look(&mut self, here: &Here<'_>, leaves_out: bool) {
        let known: Vec<(usize, Option<&Node>)> =
            here.nodes.iter().enumerate().filter_map(|(at, node)| Some((at, (*node)?))).collect();
        let classes: BTreeSet<String> = known.iter().map(|(_, node)| Node::class(*node)).collect();
        let is_number = here.place == "load";
        if leaves_out && !is_number && known.len() >= 5 && classes.len() * 5 >= known.len() * 4 {
            self.left_out.push(here.place.clone());
            return;
        }
        let voters: Vec<Option<&Node>> =
            known.iter().filter(|(at, _)| here.votes[*at]).map(|(_, node)| *node).collect();
        let number = |node: &Option<&Node>| if let Some(Node::Leaf(value)) = node { value.as_f64() } else { None };
        let mut numbers: Vec<f64> = voters.iter().filter_map(number).collect();
        numbers.sort_by(f64::total_cmp);
        let median = match numbers.len() {
            0 => None,
            n if n % 2 == 1 => Some(numbers[n / 2]),
            n => Some((numbers[n / 2 - 1] + numbers[n / 2]) / 2.0),
        };
        let near = |node: &Option<&Node>, median: f64| {
            is_number && number(node).is_some_and(|number| (number - median).abs() <= median * 0.1 + 1e-9)
        };
        let all_near = median.is_some_and(|median| known.iter().all(|(_, node)| near(node, median)));
        let mut told = here.told_above.clone();
        if classes.len() > 1 && !all_near {
            let common = |holders: usize| voters.len() >= 3 && holders * 10 >= voters.len() * 6;
            let of_median = median.map(|median| (median, voters.iter().filter(|node| near(node, median)).count()));
            let reference = match of_median {
                Some((median, holders)) if is_number && common(holders) => Some((format!("median {median}"), holders)),
                _ => classes
                    .iter()
                    .map(|class| (class.clone(), voters.iter().filter(|node| Node::class(**node) == *class).count()))
                    .find(|(_, holders)| common(*holders)),
            };
            let Some((reference, holders)) = reference else {
                self.undecided.push(here.place.clone());
                return;
            };
            for (at, node) in &known {
                let agrees = match of_median {
                    Some((median, _)) if reference.starts_with("median") => near(node, median),
                    _ => Node::class(*node) == reference,
                };
                if agrees || here.told_above.contains(at) {
                    continue;
                }
                told.insert(*at);
                self.found.push(Found {
                    device: *at,
                    place: here.place.clone(),
                    kind: match (node, reference.as_str()) {
                        (None, _) => "missing",
                        (_, "missing") => "extra",
                        _ => "changed",
                    },
                    observed: Node::shown(*node),
                    reference: reference.clone(),
                    share: (holders, voters.len()),
                });
            }
        }
        let parts: BTreeSet<&String> = known
            .iter()
            .filter_map(|(_, node)| if let Some(Node::Parts(_, parts)) = node { Some(parts.keys()) } else { None })
            .flatten()
            .collect();
        for part in parts {
            self.look(
                &Here {
                    place: format!("{}{part}", here.place),
                    nodes: here.nodes.iter().map(|node| below(*node, part)).collect(),
                    votes: here.votes.clone(),
                    told_above: told.clone(),
                },
                leaves_out,
            );
        }
    }
}

/// Returns what lies in a part of a node; none where nothing is known of the device.
fn below<'n>(node: Option<Option<&'n Node>>, part: &str) -> Option<Option<&'n Node>> {
    node.map(|node| match node {
        Some(Node::Parts(_, parts)) => parts.get(part),
        Some(Node::Leaf(_)) | None => None,
    })
}

/// Returns a value as the model shows it.
fn shown(datum: Option<&Datum>) -> String {
    match datum {
        None => "missing".to_owned(),
        Some(Datum::Object(_)) => "{}".to_owned(),
        // A list of items that have places of their own is no value; one of items that share their name is.
        Some(Datum::List(items)) => {
            let json: Vec<Json> = items.iter().map(json_of_datum).collect();
            let name = |item: &Json| item.get("name").unwrap_or(item).clone();
            let doubled = json.len() > 1 && json.iter().all(|item| name(item) == name(&json[0]));
            if doubled {
                let mut json = json;
                json.sort_by_key(Json::to_string);
                Json::Array(json).to_string()
            } else {
                "[]".to_owned()
            }
        }
        Some(other) => json_of_datum(other).to_string(),
    }
}

fn peers(reading: &Reading<'_>, detail: &DriftDetail) -> DriftSetReport {
    let query = DriftQuery { id: Some("peers".to_owned()), ..DriftQuery::default() };
    let report = reading.drift(&query, detail).expect("it can be read").expect("there is no condition");
    report.sets.into_iter().next().expect("there is one set")
}

fn compared(seed: u64) -> (Fleet, DriftSetReport) {
    let fleet = Fleet::rolled(seed);
    let mut bench = Bench::new();
    bench.edit("facts.toml", FACTS);
    bench.edit("drift.toml", DRIFT);
    fleet.import_into(&mut bench);
    let detail = DriftDetail { beginnings: true, ..DriftDetail::default() };
    let report = bench.read(&day(fleet.days), |reading| peers(reading, &detail));
    (fleet, report)
}

#[test]
fn differences_shares_and_beginnings_agree_with_a_plain_model() {
    let mut told = 0;
    for seed in 0..100 {
        let (fleet, report) = compared(seed);
        let expected = Model::of(&fleet.on(fleet.days), true);
        let places =
            |places: &[fencepost_core::drift::Place]| places.iter().map(ToString::to_string).collect::<Vec<_>>();
        let sorted = |mut places: Vec<String>| {
            places.sort();
            places
        };
        assert_eq!(sorted(places(&report.no_common_value)), sorted(expected.undecided), "seed {seed}");
        assert_eq!(sorted(places(&report.left_out)), sorted(expected.left_out), "seed {seed}");
        let stale: Vec<bool> = report.members.iter().map(|member| member.is_stale).collect();
        let known: Vec<usize> = (0..fleet.devices.len()).filter(|at| !fleet.devices[*at].is_empty()).collect();
        let states = fleet.on(fleet.days);
        assert_eq!(stale, known.iter().map(|at| !states[*at].as_ref().unwrap().1).collect::<Vec<_>>(), "seed {seed}");
        let mut found = Vec::new();
        for (member, at) in report.members.iter().zip(known) {
            assert_eq!(member.device, Fleet::name(at));
            for one in &member.differences {
                told += 1;
                check_beginning(&fleet, at, one, seed);
                let share = one.share.expect("it is held against most");
                let reference = match &one.reference {
                    Some(Datum::Number(number)) if one.place.fact == "load" => format!("median {number}"),
                    other => shown(other.as_ref()),
                };
                found.push(Found {
                    device: at,
                    place: one.place.to_string(),
                    kind: one.kind.as_str(),
                    observed: shown(one.observed.as_ref()),
                    reference,
                    share: (share.holders, share.voters),
                });
            }
        }
        let by_place = |mut all: Vec<Found>| {
            all.sort_by(|a, b| (a.device, &a.place).cmp(&(b.device, &b.place)));
            all
        };
        assert_eq!(by_place(found), by_place(expected.found), "seed {seed}");
    }
    assert!(told > 200, "{told} differences were told");
}

/// Day after day, whoever differs has a finding of the set, whoever does not has none, and of whoever is silent it stays as it was.
#[test]
fn findings_of_a_set_follow_the_comparison_day_by_day() {
    let (mut opened, mut closed) = (0, 0);
    for seed in 0..60 {
        let fleet = Fleet::rolled(seed);
        let mut bench = Bench::new();
        bench.edit("facts.toml", FACTS);
        bench.edit("drift.toml", &DRIFT.replace("groups", "severity = \"low\"\ngrace = \"2d\"\ngroups"));
        let mut expected: BTreeSet<String> = BTreeSet::new();
        let (mut trend, mut events) = (Vec::new(), Vec::new());
        for number in 1..=fleet.days {
            fleet.import_day(number, &mut bench);
            let assessed = bench.assess(&day(number));
            events.push([assessed.opened.len(), assessed.closed.len(), assessed.overdue.len()]);
            let states = fleet.on(number);
            let found = Model::of(&states, true).found;
            let differing: BTreeSet<usize> = found.iter().map(|found| found.device).collect();
            trend.push((states.iter().flatten().count(), differing.len(), found.len()));
            for (at, state) in states.iter().enumerate() {
                let name = Fleet::name(at);
                let differs = found.iter().any(|found| found.device == at);
                match state {
                    Some((_, true)) if differs => opened += usize::from(expected.insert(name)),
                    Some((_, true)) => closed += usize::from(expected.remove(&name)),
                    Some((_, false)) | None => {}
                }
            }
            let running = bench.read(&day(number), |reading| {
                let all = reading.findings(None, false).expect("they can be read").into_values().flatten();
                let of_set = all.filter(|finding| finding.subject.as_str() == "drift/peers");
                of_set.map(|finding| finding.device.to_string()).collect::<BTreeSet<_>>()
            });
            assert_eq!(running, expected, "seed {seed}, day {number}");
        }
        let figures =
            bench.read(&day(fleet.days), |reading| reading.figures(EVERY).expect("they can be read").assessments);
        let counts = figures.iter().map(|one| one.drift_of("peers").expect("it was compared").counts);
        let kept: Vec<_> = counts.map(|counts| (counts.devices, counts.differ, counts.differences)).collect();
        assert_eq!(kept, trend, "seed {seed}");
        let findings = figures.iter().map(|one| one.findings);
        let kept: Vec<[u64; 3]> = findings.map(|one| [one.opened + one.came_back, one.closed, one.fell_due]).collect();
        assert_eq!(kept, events, "seed {seed}");
    }
    assert!(opened > 50 && closed > 20, "{opened} opened, {closed} closed");
}

/// Checks since when a difference lasts by comparing the fleet on every day.
fn check_beginning(fleet: &Fleet, device: usize, one: &MemberDifference, seed: u64) {
    let place = one.place.to_string();
    let differs_on = |number: u8| {
        let found = Model::of(&fleet.on(number), false).found;
        found.iter().any(|found| found.device == device && found.place == place)
    };
    let mut first = fleet.days;
    while first > 1 && differs_on(first - 1) {
        first -= 1;
    }
    let class_on = |number: u8| {
        let state = fleet.on(number)[device].clone();
        state.map(|(node, _)| Node::class(node.at(&place)))
    };
    let said_then = fleet.devices[device].iter().any(|said| said.day == first);
    let by_itself = said_then && (first == 1 || class_on(first - 1) != class_on(first));
    let beginning = one.beginning.as_ref().expect("it was asked for");
    let because = if by_itself { BeganBy::Device } else { BeganBy::Reference };
    assert_eq!((beginning.since, beginning.because), (moment(&day(first)), because), "seed {seed}: {device} {place}");
    let changes = (2..=fleet.days)
        .rev()
        .find(|number| class_on(number - 1).is_some() && class_on(number - 1) != class_on(*number));
    assert_eq!(beginning.changed_at, changes.map(|number| moment(&day(number))), "seed {seed}: {device} {place}");
    if let Some(number) = changes {
        let was = fleet.on(number - 1)[device].clone().map(|(node, _)| Node::shown(node.at(&place)));
        assert_eq!(Some(shown(beginning.was.as_ref())), was, "seed {seed}: {device} {place}");
    }
}
