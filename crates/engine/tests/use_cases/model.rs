//! A slow and plain model of findings, held against the engine over random runs: devices report, fall silent, are renamed, retired
//! and begin anew; rules are edited, renamed, put on trial and taken away; facts are corrected and devices excepted.

use std::collections::BTreeMap;

use fencepost_core::{FindingEvent, Subject};
use fencepost_engine::{Happened, LinePhase};
use jiff::{SignedDuration, Timestamp};
use serde_json::json;

use crate::bench::{Bench, moment};

const FACTS: [&str; 3] = ["f0", "f1", "f2"];
const DAY: i64 = 24;
const FRESH_FOR: i64 = 3 * DAY;
const RELAPSE: i64 = 2 * DAY;
const SILENCE_GRACE: i64 = 2 * DAY;

fn hours(many: i64) -> SignedDuration {
    SignedDuration::from_hours(many)
}

/// A generator of the numbers 0..n, the same in every run.
struct Random(u64);

impl Random {
    fn below(&mut self, n: u64) -> usize {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        usize::try_from((self.0 >> 33) % n).expect("a small number")
    }

    fn one_in(&mut self, n: u64) -> bool {
        self.below(n) == 0
    }
}

#[derive(Clone)]
struct Rule {
    ids: Vec<String>,
    fact: usize,
    wants: bool,
    grace_days: i64,
    enforced: bool,
    excepts: Vec<String>,
}

impl Rule {
    fn id(&self) -> &str {
        self.ids.last().expect("it has an id")
    }

    fn text(&self) -> String {
        let was: Vec<&String> = self.ids[..self.ids.len() - 1].iter().collect();
        format!(
            "[[rule]]\nid = \"{}\"\nwas = {}\ngroups = [\"every-device\"]\nrequire = '{} = {}'\ngrace = \"{}d\"\nstage = \"{}\"\nexcept = {}\n",
            self.id(),
            json!(was),
            FACTS[self.fact],
            self.wants,
            self.grace_days,
            if self.enforced { "enforced" } else { "trial" },
            json!(self.excepts),
        )
    }
}

/// A waiver as it is written.
#[derive(Clone)]
struct Waiver {
    device: String,
    /// A rule by one of its names, or a lack of evidence.
    subject: String,
    from: Timestamp,
    until: Timestamp,
    afresh: bool,
}

impl Waiver {
    fn text(&self, number: usize) -> String {
        let Self { device, subject, from, until, afresh } = self;
        let clock = if *afresh { "afresh" } else { "keep" };
        format!(
            "[[waiver]]\nid = \"w{number}\"\ndevices = \"{device}\"\nrules = \"{subject}\"\nbecause = \"so\"\napproved_by = \"us\"\n\
             from = {from}\nuntil = {until}\nclock = \"{clock}\"\n"
        )
    }
}

/// A time during which a finding is waived, with what follows for its clock.
#[derive(Clone)]
struct Time {
    from: Timestamp,
    until: Timestamp,
    afresh: bool,
    due_after: Timestamp,
}

/// What a device said last.
#[derive(Clone)]
struct Said {
    collected: Timestamp,
    facts: [Option<bool>; 3],
}

#[derive(Clone)]
struct Finding {
    opened: Timestamp,
    due: Timestamp,
    grace: i64,
    spell: u32,
    evidence_at: Option<Timestamp>,
    wanted: (usize, bool),
    corrected: bool,
    closed: Option<(Timestamp, &'static str)>,
    /// The times during which it is waived, as the last assessment knew them; of those that were over then the last.
    times: Vec<Time>,
}

impl Finding {
    /// `waived`, or since when it is overdue, or nothing while its grace runs.
    fn phase(&self, at: Timestamp) -> (bool, Option<Timestamp>) {
        if self.times.iter().any(|time| time.from <= at && at < time.until) {
            return (true, None);
        }
        let over = self.times.iter().rfind(|time| time.until <= at);
        let due = over.map_or(self.due, |time| time.due_after);
        (false, (due <= at).then(|| over.map_or(due, |time| due.max(time.until))))
    }

    /// What the clock alone does after a moment and up to another.
    fn by_clock(&self, after: Timestamp, until: Timestamp, subject: &str) -> Vec<(Timestamp, String)> {
        let of_times = self.times.iter().flat_map(|time| [time.from, time.until, time.due_after]);
        let mut moments: Vec<Timestamp> =
            of_times.chain([self.due]).filter(|moment| after < *moment && *moment <= until).collect();
        moments.sort();
        moments.dedup();
        let mut told = Vec::new();
        let mut last = self.phase(after);
        for moment in moments {
            let now = self.phase(moment);
            if last.0 && !now.0 {
                told.push((moment, format!("waiver-ended {subject}")));
            }
            if !last.0 && now.0 {
                told.push((moment, format!("waived {subject}")));
            }
            if last.1.is_none() && now.1.is_some() {
                told.push((moment, format!("fell-due {subject}")));
            }
            last = now;
        }
        told
    }
}

#[derive(Default)]
struct Device {
    names: Vec<String>,
    /// From when on it has each of its names but the first.
    renamed_at: Vec<Timestamp>,
    retired_at: Option<Timestamp>,
    said: Option<Said>,
    findings: BTreeMap<String, Finding>,
    /// The rules that its silence leaves without an answer.
    unanswered: Vec<String>,
    standing: Option<&'static str>,
    log: Vec<String>,
}

impl Device {
    fn name(&self) -> &str {
        self.names.last().expect("it has a name")
    }
}

struct World {
    rules: Vec<Rule>,
    devices: Vec<Device>,
    corrections: Vec<(String, usize, bool)>,
    waivers: Vec<Waiver>,
    before: Option<Timestamp>,
}

/// True, false or unknown, and when it was collected; a correction has no such moment.
struct Known {
    value: Option<bool>,
    collected: Option<Timestamp>,
    corrected: bool,
}

impl World {
    fn known(&self, device: &Device, fact: usize, at: Timestamp) -> Known {
        let own = |name: &String| device.names.contains(name);
        if let Some((.., value)) = self.corrections.iter().find(|(name, of, _)| own(name) && *of == fact) {
            return Known { value: Some(*value), collected: None, corrected: true };
        }
        let said = device.said.as_ref().expect("it has said something");
        let fresh = at <= said.collected + hours(FRESH_FOR);
        Known { value: said.facts[fact].filter(|_| fresh), collected: Some(said.collected), corrected: false }
    }

    /// Settles one device as the lifecycle of findings says, and notes what happened in its log.
    fn assess(&mut self, which: usize, at: Timestamp) {
        let mut device = std::mem::take(&mut self.devices[which]);
        self.settle(&mut device, at);
        self.devices[which] = device;
    }

    fn settle(&self, device: &mut Device, at: Timestamp) {
        let mut log: Vec<(Timestamp, String)> = Vec::new();
        let alive = device.said.as_ref().is_some_and(|said| device.retired_at.is_none_or(|end| said.collected > end));
        if device.retired_at.is_some_and(|end| self.before.is_none_or(|before| end > before)) {
            let end = device.retired_at.expect("just looked at");
            for (subject, finding) in &mut device.findings {
                if finding.closed.is_none() {
                    if let Some(before) = self.before {
                        log.extend(finding.by_clock(before, end, subject));
                    }
                    log.push((end, format!("closed {subject} retired")));
                }
            }
            device.findings.clear();
            // Who is back before anybody looked stands on.
            device.standing = device.standing.filter(|_| alive);
        }
        if alive {
            self.settle_rules(device, at, &mut log);
            let standing = standing(device, at);
            if device.standing != Some(standing) {
                log.push((at, format!("stood {standing}")));
                device.standing = Some(standing);
            }
        }
        device.log.extend(log.into_iter().map(|(at, what)| format!("{at} {what}")));
    }

    fn settle_rules(&self, device: &mut Device, at: Timestamp, log: &mut Vec<(Timestamp, String)>) {
        let overdue_before: Vec<String> = device
            .findings
            .iter()
            .filter(|(_, finding)| {
                self.before.is_some_and(|before| finding.phase(before).1.is_some()) && finding.closed.is_none()
            })
            .map(|(subject, _)| self.name_now(subject))
            .collect();
        // Findings follow their rules to new names.
        let mut events: BTreeMap<String, Vec<String>> = BTreeMap::new();
        let mut findings = BTreeMap::new();
        for (subject, finding) in std::mem::take(&mut device.findings) {
            let now = self.name_now(&subject);
            if now != subject && finding.closed.is_none() {
                events.entry(now.clone()).or_default().push(format!("renamed {now}"));
            }
            findings.insert(now, finding);
        }
        device.findings = findings;
        let mut unanswered = Vec::new();
        let mut judged = Vec::new();
        for rule in self.rules.iter().filter(|rule| rule.enforced) {
            let subject = rule.id().to_owned();
            judged.push(subject.clone());
            let known = self.known(device, rule.fact, at);
            let noted = events.entry(subject.clone()).or_default();
            if rule.excepts.iter().any(|name| device.names.contains(name)) {
                close(device.findings.get_mut(&subject), at, "not-applicable", noted, &subject);
                continue;
            }
            match known.value {
                None => {
                    regrace(device.findings.get_mut(&subject), rule.grace_days * DAY, at, noted, &subject);
                    let waived = self.spans(device, &subject).iter().any(|span| span.from <= at && at < span.until);
                    if !waived {
                        unanswered.push(subject);
                    }
                }
                Some(value) if value == rule.wants => {
                    let reason = device.findings.get(&subject).map_or("", |finding| {
                        if known.corrected || finding.corrected {
                            "corrected"
                        } else if finding.wanted != (rule.fact, rule.wants) {
                            "rule-changed"
                        } else if known.collected > finding.evidence_at {
                            "fixed"
                        } else {
                            "revised"
                        }
                    });
                    close(device.findings.get_mut(&subject), at, reason, noted, &subject);
                }
                Some(_) => {
                    run(&mut device.findings, &subject, rule.grace_days * DAY, at, noted);
                    let finding = device.findings.get_mut(&subject).expect("it runs");
                    finding.wanted = (rule.fact, rule.wants);
                    finding.corrected = known.corrected;
                    finding.evidence_at = finding.evidence_at.max(known.collected);
                    regrace(Some(finding), rule.grace_days * DAY, at, noted, &subject);
                }
            }
        }
        let silence = Subject::SILENCE.to_owned();
        let uncovered = Subject::UNCOVERED.to_owned();
        for (subject, finding) in &mut device.findings {
            if ![&silence, &uncovered].contains(&subject) && !judged.contains(subject) {
                close(Some(finding), at, "withdrawn", events.entry(subject.clone()).or_default(), subject);
            }
        }
        let noted = events.entry(silence.clone()).or_default();
        if unanswered.is_empty() {
            let left_open = |rule: &&Rule| rule.enforced && rule.ids.iter().any(|id| device.unanswered.contains(id));
            let mut of_silence = self.rules.iter().filter(left_open).peekable();
            let reason = if of_silence.peek().is_none() {
                "withdrawn"
            } else if of_silence.all(|rule| rule.excepts.iter().any(|name| device.names.contains(name))) {
                "not-applicable"
            } else {
                "answered"
            };
            close(device.findings.get_mut(&silence), at, reason, noted, &silence);
        } else {
            run(&mut device.findings, &silence, SILENCE_GRACE, at, noted);
            device.unanswered = unanswered;
        }
        let noted = events.entry(uncovered.clone()).or_default();
        let is_excepted = |rule: &Rule| rule.excepts.iter().any(|name| device.names.contains(name));
        if self.rules.iter().any(|rule| rule.enforced && !is_excepted(rule)) {
            close(device.findings.get_mut(&uncovered), at, "answered", noted, &uncovered);
        } else {
            run(&mut device.findings, &uncovered, 0, at, noted);
        }
        let subjects: Vec<String> = device.findings.keys().cloned().collect();
        for subject in &subjects {
            let closed = device.findings[subject].closed;
            if closed.is_some_and(|(closed, _)| closed != at) {
                continue;
            }
            let noted = events.entry(subject.clone()).or_default();
            let begins = noted.iter().any(|what| what.starts_with("opened") || what.starts_with("came-back"));
            let spans = self.spans(device, subject);
            let finding = device.findings.get_mut(subject).expect("it is there");
            log.extend(waive(finding, spans, self.before.filter(|_| !begins), at, subject));
            let Some(since) = finding.phase(at).1 else { continue };
            if finding.opened == at && finding.spell == 1 || overdue_before.contains(subject) {
                continue;
            }
            let moved = noted.iter().any(|what| what.starts_with("came-back") || what.starts_with("due-moved"));
            log.push((if moved { at } else { since }, format!("fell-due {subject}")));
        }
        log.extend(events.into_values().flatten().map(|what| (at, what)));
    }

    /// Returns the times during which something is waived on a device, as it is written, those that meet as one.
    fn spans(&self, device: &Device, subject: &str) -> Vec<Waiver> {
        let ids = self.rules.iter().find(|rule| rule.id() == subject).map_or(Vec::new(), |rule| rule.ids.clone());
        let is_meant = |waiver: &&Waiver| {
            device.names.contains(&waiver.device) && (waiver.subject == subject || ids.contains(&waiver.subject))
        };
        let mut all: Vec<Waiver> = self.waivers.iter().filter(is_meant).cloned().collect();
        all.sort_by_key(|waiver| (waiver.from, waiver.until));
        let mut united: Vec<Waiver> = Vec::new();
        for waiver in all {
            match united.last_mut().filter(|last| waiver.from <= last.until) {
                Some(last) if waiver.until >= last.until => *last = Waiver { from: last.from, ..waiver },
                Some(_) => {}
                None => united.push(waiver),
            }
        }
        united
    }

    fn name_now(&self, subject: &str) -> String {
        if self.rules.iter().any(|rule| rule.id() == subject) {
            return subject.to_owned();
        }
        let rule = self.rules.iter().find(|rule| rule.ids.iter().any(|id| id == subject));
        rule.map_or_else(|| subject.to_owned(), |rule| rule.id().to_owned())
    }

    fn write(&self, bench: &mut Bench) {
        bench.edit("rules/test.toml", &self.rules.iter().map(Rule::text).collect::<String>());
        let corrections: String = self
            .corrections
            .iter()
            .map(|(device, fact, value)| {
                format!("[[correction]]\ndevice = \"{device}\"\nfact = \"{}\"\nvalue = {value}\nbecause = \"seen\"\nby = \"desk\"\nuntil = 2028-01-01\n", FACTS[*fact])
            })
            .collect();
        bench.edit("corrections.toml", &corrections);
        let waivers = self.waivers.iter().enumerate().map(|(number, waiver)| waiver.text(number));
        bench.edit("waivers.toml", &waivers.collect::<String>());
        let mut devices = String::new();
        for device in &self.devices {
            for (pair, from) in device.names.windows(2).zip(&device.renamed_at) {
                let [old, new] = pair else { unreachable!("windows of two") };
                devices.push_str(&format!(
                    "[[device]]\nid = \"{old}\"\nrenamed_to = \"{new}\"\nfrom = {from}\nbecause = \"refit\"\n"
                ));
            }
            if let Some(end) = device.retired_at {
                devices.push_str(&format!(
                    "[[device]]\nid = \"{}\"\nretired = {end}\nbecause = \"sold\"\n",
                    device.name()
                ));
            }
        }
        bench.edit("devices.toml", &devices);
    }
}

/// Closes a finding that runs.
fn close(finding: Option<&mut Finding>, at: Timestamp, reason: &'static str, noted: &mut Vec<String>, subject: &str) {
    if let Some(finding) = finding.filter(|finding| finding.closed.is_none()) {
        finding.closed = Some((at, reason));
        noted.push(format!("closed {subject} {reason}"));
    }
}

/// Moves the clock of a finding by the waivers that are written, and returns what began and ended; `before` is the assessment
/// before, none where the finding opens or comes back now.
fn waive(
    finding: &mut Finding,
    written: Vec<Waiver>,
    before: Option<Timestamp>,
    at: Timestamp,
    subject: &str,
) -> Vec<(Timestamp, String)> {
    let mut log = Vec::new();
    let known = std::mem::take(&mut finding.times);
    let since = before.unwrap_or(at).max(finding.opened);
    // What is over stays over.
    if let Some(over) = known.iter().rfind(|time| time.until <= since) {
        if before.is_none() {
            finding.due = over.due_after;
        }
        finding.times.push(Time { due_after: finding.due, ..over.clone() });
    }
    let meet = |one: (Timestamp, Timestamp), other: (Timestamp, Timestamp)| one.0 < other.1 && other.0 < one.1;
    let mut ahead: Vec<(Timestamp, Timestamp, bool)> =
        written.iter().filter(|span| span.until > since).map(|span| (span.from, span.until, span.afresh)).collect();
    for time in known.iter().filter(|time| time.from <= at && time.until > since) {
        let goes_on = ahead.iter().any(|span| span.0 <= at && meet((span.0, span.1), (time.from, time.until)));
        if !goes_on {
            // Of a finding that closes nobody needs to take a waiver out.
            let until = if finding.closed.is_some() { time.until } else { time.until.min(at) };
            ahead.push((time.from, until, time.afresh));
        }
    }
    ahead.sort();
    let mut due = finding.due;
    for (from, until, asked) in ahead {
        let seen_first = from <= finding.opened
            && finding.opened < until
            && (finding.opened == at
                || known.iter().any(|time| time.afresh && time.from <= finding.opened && finding.opened < time.until));
        let afresh = asked || seen_first;
        due = if afresh { until + hours(finding.grace) } else { due };
        let was =
            known.iter().find(|time| before.is_some() && time.from <= since && since < time.until && time.from < until);
        match was {
            Some(was) if was.until != until && until > at => log.push((at, format!("waived {subject}"))),
            None if from <= at => log.push((if from > since { from } else { at }, format!("waived {subject}"))),
            _ => {}
        }
        if until <= at {
            log.push((until, format!("waiver-ended {subject}")));
            finding.due = due;
            finding.times.clear();
        }
        finding.times.push(Time { from, until, afresh, due_after: due });
    }
    log
}

/// Opens a finding, or has it run again, unless it runs.
fn run(findings: &mut BTreeMap<String, Finding>, subject: &str, grace: i64, at: Timestamp, noted: &mut Vec<String>) {
    match findings.get_mut(subject) {
        Some(finding) if finding.closed.is_none() => {}
        Some(finding)
            if finding.closed.is_some_and(|(closed, reason)| reason != "withdrawn" && at < closed + hours(RELAPSE)) =>
        {
            finding.closed = None;
            finding.spell += 1;
            finding.evidence_at = None;
            noted.push(format!("came-back {subject}"));
        }
        Some(_) | None => {
            let finding = Finding {
                opened: at,
                due: at + hours(grace),
                grace,
                spell: 1,
                evidence_at: None,
                wanted: (0, false),
                corrected: false,
                closed: None,
                times: Vec::new(),
            };
            findings.insert(subject.to_owned(), finding);
            noted.push(format!("opened {subject}"));
        }
    }
}

/// Moves what is due when the grace was edited: longer counts from the opening, shorter from now, but never later than before.
fn regrace(finding: Option<&mut Finding>, grace: i64, at: Timestamp, noted: &mut Vec<String>, subject: &str) {
    let Some(finding) = finding.filter(|finding| finding.closed.is_none() && finding.grace != grace) else { return };
    let begins =
        finding.times.iter().rfind(|time| time.afresh && time.until <= at).map_or(finding.opened, |time| time.until);
    let from_opening = begins + hours(grace);
    let due = if from_opening >= finding.due { from_opening } else { finding.due.min(at + hours(grace)) };
    finding.grace = grace;
    if due != finding.due {
        noted.push(format!("due-moved {subject}"));
        finding.due = due;
    }
}

fn standing(device: &Device, at: Timestamp) -> &'static str {
    let running = || device.findings.iter().filter(|(_, finding)| finding.closed.is_none() && !finding.phase(at).0);
    let is_lack = |subject: &str| [Subject::SILENCE, Subject::UNCOVERED].contains(&subject);
    if running().any(|(subject, finding)| !is_lack(subject) && finding.phase(at).1.is_some()) {
        "non-compliant"
    } else if running().any(|(subject, finding)| is_lack(subject) && finding.phase(at).1.is_some()) {
        "unproven"
    } else if running().next().is_some() {
        "on-notice"
    } else {
        "compliant"
    }
}

/// What the engine tells of a device, in the words of the model's log.
fn told(bench: &Bench, name: &str, at: Timestamp) -> Vec<String> {
    let happened = bench.read(&at.to_string(), |reading| reading.history(name).expect("it is known").happenings);
    let line = |at: Timestamp, what: &Happened| match what {
        Happened::Finding(change) => {
            let subject = change.subject.as_str();
            Some(match &change.event {
                FindingEvent::Closed(reason) => format!("{at} closed {subject} {}", reason.as_str()),
                FindingEvent::RuleRenamed { .. } => format!("{at} renamed {subject}"),
                FindingEvent::DueMoved { .. } => format!("{at} due-moved {subject}"),
                event => format!("{at} {} {subject}", event.as_str()),
            })
        }
        Happened::Stood { now, .. } => Some(format!("{at} stood {}", now.as_str())),
        _ => None,
    };
    happened.iter().filter_map(|one| line(one.at, &one.what)).collect()
}

/// Changes something, or nothing.
fn change(world: &mut World, random: &mut Random, step: usize, at: Timestamp) {
    let which = random.below(3);
    let rule = random.below(world.rules.len() as u64);
    match random.below(24) {
        0 => world.rules[rule].grace_days = [0, 1, 2, 4][random.below(4)],
        1 => world.rules[rule].wants = !world.rules[rule].wants,
        2 => world.rules[rule].enforced = !world.rules[rule].enforced,
        3 if world.rules.len() > 1 => drop(world.rules.remove(rule)),
        3 | 4 => world.rules.push(Rule {
            ids: vec![format!("r{step}")],
            fact: random.below(3),
            wants: true,
            grace_days: 1,
            enforced: true,
            excepts: Vec::new(),
        }),
        5 => world.rules[rule].ids.push(format!("n{step}")),
        6 => {
            let name = world.devices[which].names[0].clone();
            let excepts = &mut world.rules[rule].excepts;
            match excepts.iter().position(|known| *known == name) {
                Some(known) => drop(excepts.remove(known)),
                None => excepts.push(name),
            }
        }
        7 if world.corrections.is_empty() => {
            let name = world.devices[which].name().to_owned();
            world.corrections.push((name, random.below(3), random.one_in(2)));
        }
        7 | 8 => world.corrections.clear(),
        9 if world.devices[which].retired_at.is_none() => {
            let device = &mut world.devices[which];
            device.names.push(format!("d{which}x{step}"));
            device.renamed_at.push(at);
        }
        16..=22 => {
            let device = &world.devices[which];
            let names = world.rules.iter().flat_map(|rule| rule.ids.iter().map(String::as_str));
            // Mostly what there is to waive.
            let running = device.findings.iter().filter(|(_, finding)| finding.closed.is_none());
            let mut subjects: Vec<&str> = running.map(|(subject, _)| subject.as_str()).collect();
            if subjects.is_empty() || random.one_in(3) {
                subjects = names.chain([Subject::SILENCE, Subject::UNCOVERED]).collect();
            }
            let from = at + hours(random.below(60) as i64 - 30);
            world.waivers.push(Waiver {
                device: device.names[random.below(device.names.len() as u64)].clone(),
                subject: subjects[random.below(subjects.len() as u64)].to_owned(),
                from,
                until: from + hours(1 + random.below(120) as i64),
                afresh: random.one_in(2),
            });
        }
        23 if !world.waivers.is_empty() => {
            let which = random.below(world.waivers.len() as u64);
            world.waivers.remove(which);
        }
        10 if random.one_in(3) && world.devices[which].retired_at.is_none() => {
            world.devices[which].retired_at = Some(at - hours(1));
        }
        _ => {}
    }
}

/// Returns how many waivers began, and how many ended, on the devices of the run.
fn one_run(seed: u64, assessments: usize) -> [usize; 2] {
    let mut random = Random(seed * 7919 + 13);
    let rule = |number: usize| Rule {
        ids: vec![format!("rule-{number}")],
        fact: number,
        wants: true,
        grace_days: [0, 1, 3][number],
        enforced: true,
        excepts: Vec::new(),
    };
    let device = |number: usize| Device { names: vec![format!("d{number}")], ..Device::default() };
    let mut world = World {
        rules: (0..3).map(rule).collect(),
        devices: (0..3).map(device).collect(),
        corrections: Vec::new(),
        waivers: Vec::new(),
        before: None,
    };
    let mut bench = Bench::new();
    bench.edit("access.toml", "");
    bench.edit(
        "facts.toml",
        "[facts]\nf0 = { type = \"boolean\" }\nf1 = { type = \"boolean\" }\nf2 = { type = \"boolean\" }\n",
    );
    let mut at = moment("2027-03-01T06:00:00Z");
    for step in 0..assessments {
        let mut lines = String::new();
        for device in &mut world.devices {
            if step > 0 && random.one_in(3) {
                continue;
            }
            let facts =
                std::array::from_fn(|_| [Some(true), Some(true), Some(true), Some(false), None][random.below(5)]);
            let said = Said { collected: at - SignedDuration::from_mins(30), facts };
            if device.retired_at.is_some_and(|end| said.collected <= end) {
                continue;
            }
            let mut json = json!({ "device": device.name(), "collected_at": said.collected.to_string() });
            for (name, value) in FACTS.iter().zip(facts) {
                if let Some(value) = value {
                    json[*name] = json!(value);
                }
            }
            lines.push_str(&format!("{json}\n"));
            device.said = Some(said);
        }
        if step > 0 {
            change(&mut world, &mut random, step, at);
        }
        world.write(&mut bench);
        if !lines.is_empty() {
            bench.import("agent", &lines, &at.to_string()).expect("it is imported");
        }
        let assessed = bench.assess(&at.to_string());
        for which in 0..world.devices.len() {
            world.assess(which, at);
            let device = &world.devices[which];
            let (mut model, mut engine) = (device.log.clone(), told(&bench, device.name(), at));
            assert!(engine.is_sorted_by_key(|line| line.split(' ').next().map(moment)), "seed {seed}: {engine:#?}");
            model.sort();
            engine.sort();
            let only = |one: &[String], other: &[String]| -> Vec<String> {
                one.iter().filter(|line| !other.contains(line)).cloned().collect()
            };
            let (only_model, only_engine) = (only(&model, &engine), only(&engine, &model));
            assert!(
                model == engine,
                "seed {seed}, step {step}, {} at {at}: the model alone {only_model:#?}, the engine alone {only_engine:#?}, of {engine:#?}",
                device.name()
            );
            check_findings(&bench, device, at, seed);
        }
        let living = world.devices.iter().filter(|device| device.standing.is_some());
        assert_eq!(assessed.devices.total, living.count() as u64, "seed {seed}, step {step}");
        let overdue = assessed.overdue.iter().map(|line| line.expect("a line").phase);
        assert!(overdue.into_iter().all(|phase| phase == LinePhase::Overdue), "seed {seed}, step {step}");
        world.before = Some(at);
        at += hours([6, 20, 24, 24, 30, 80][random.below(6)]);
    }
    ["waived", "waiver-ended"].map(|what| {
        let log = world.devices.iter().flat_map(|device| &device.log);
        log.filter(|line| line.split(' ').nth(1) == Some(what)).count()
    })
}

/// Compares the findings of a device and how it stands with those of the model.
fn check_findings(bench: &Bench, device: &Device, at: Timestamp, seed: u64) {
    let report = bench.read(&at.to_string(), |reading| reading.device(device.name()).expect("it is known"));
    assert_eq!(
        report.standing.map(|standing| standing.as_str()),
        device.standing,
        "seed {seed}, {} at {at}",
        device.name()
    );
    let mut engine: Vec<(String, Timestamp, Timestamp, u32)> = report
        .findings
        .iter()
        .filter(|finding| finding.is_running())
        .map(|finding| (finding.subject.as_str().to_owned(), finding.clock.opened, finding.clock.due, finding.spell))
        .collect();
    engine.sort();
    let model: Vec<_> = device
        .findings
        .iter()
        .filter(|(_, finding)| finding.closed.is_none())
        .map(|(subject, finding)| (subject.clone(), finding.opened, finding.due, finding.spell))
        .collect();
    assert_eq!(engine, model, "seed {seed}, {} at {at}", device.name());
}

#[test]
fn a_plain_model_agrees_on_findings_standings_and_history() {
    let runs = std::env::var("FENCEPOST_MODEL_RUNS").ok().and_then(|text| text.parse().ok()).unwrap_or(10);
    let counts: Vec<[usize; 2]> = (0..runs).map(|seed| one_run(seed, 30)).collect();
    let [began, ended] = [0, 1].map(|which| counts.iter().map(|count| count[which]).sum::<usize>());
    assert!(began > runs as usize && ended > runs as usize, "{began} waivers began and {ended} ended in {runs} runs");
}
