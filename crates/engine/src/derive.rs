//! Writes a baseline from devices that are as they should be: what all of them agree on, for a person to finish.

use std::collections::{BTreeMap, BTreeSet};

use bumpalo::Bump;
use fencepost_core::{FactType, Standing, VerdictOutcome, is_slug, parse_date_time};
use fencepost_formats::{json_of_value, stored_json, toml_string};
use serde_json::Value as Json;

use crate::error::EngineError;
use crate::reading::{Reading, damaged};
use crate::survey::leaves;

/// How to derive.
#[derive(Clone, Debug, Default)]
pub struct DeriveOptions {
    /// The id of the baseline.
    pub id: String,
    /// Patterns of the paths of facts to look at, with `*`; all where there are none.
    pub only: Vec<String>,
}

/// What was derived.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Derived {
    /// What the devices say, against the workspace's baseline of this id, where it has one; otherwise a file.
    pub what: DerivedAs,
    /// Why one of the devices may be no good example.
    pub doubts: Vec<String>,
}

/// See [`Derived`].
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum DerivedAs {
    /// The text of a file of baselines.
    File(String),
    /// How the devices differ from the baseline that is there.
    Differences(Vec<Difference>),
}

/// A difference between a baseline and the devices that it was derived from.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Difference {
    /// All of the devices agree on something that it does not mention.
    Agreed(String),
    /// Something that it expects is not so on some of them: the rule, what it expects, and the devices.
    Broken(String, String, Vec<String>),
}

/// What all devices say of a list.
struct Names {
    /// What the section is called, and where the names lie.
    section: String,
    from: String,
    /// Names, each with how many of the devices have it.
    seen: BTreeMap<String, usize>,
}

/// What the devices agree on, and what was left out.
#[derive(Default)]
struct Findings {
    agreed: Vec<(String, Json)>,
    lists: Vec<Names>,
    /// Facts that are left out, by why.
    left_out: BTreeMap<&'static str, Vec<String>>,
}

const CHANGES: &str = "since they change anyway, or are each device's own";
const DIFFERS: &str = "since the devices differ";
const SECRET: &str = "since they are secret";
const ODD: &str = "since nothing can be expected of what they hold";

/// Words in the names of facts that are each device's own, or count on.
const OWN: [&str; 22] = [
    "id",
    "uuid",
    "guid",
    "serial",
    "mac",
    "address",
    "addresses",
    "ip",
    "host",
    "hostname",
    "fqdn",
    "asset",
    "uptime",
    "counter",
    "count",
    "seen",
    "boot",
    "pid",
    "session",
    "used",
    "free",
    "at",
];

/// Keys of a baseline that a list cannot be called.
const KEYS: [&str; 16] = [
    "id",
    "title",
    "extends",
    "covers",
    "groups",
    "except",
    "expect",
    "rule",
    "topic",
    "severity",
    "stage",
    "enforced_from",
    "grace",
    "because",
    "fix",
    "controls",
];

impl Reading<'_> {
    /// Derives a baseline from devices; where the workspace has one of that id, tells the differences instead.
    ///
    /// # Errors
    /// When the ledger cannot be read, a device is not known, or an option says nothing that can be.
    pub fn derive(&self, devices: &[String], options: &DeriveOptions) -> Result<Derived, EngineError> {
        if !is_slug(&options.id) {
            return Err(EngineError::refused(
                format!("`{}` is not an id", options.id.escape_debug()),
                "ids are lower-case words with hyphens, such as ticket-server",
            ));
        }
        let only = options.only.iter().map(|text| glob::Pattern::new(text)).collect::<Result<Vec<_>, _>>().map_err(
            |error| EngineError::refused(format!("a pattern cannot be read: {error}"), "write --only 'sshd.*'"),
        )?;
        let mut names = Vec::new();
        for device in devices {
            let name = self.device_name(device)?;
            if !names.contains(&name) {
                names.push(name);
            }
        }
        let mut doubts = Vec::new();
        for name in &names {
            let report = self.device(name)?;
            if let Some(standing) = report.standing.filter(|standing| *standing != Standing::Compliant) {
                doubts.push(format!("{name} is {}, so it may be no good example", standing.as_str()));
            }
            let stale = report.facts.iter().filter(|fact| fact.stale).count();
            if stale > 0 {
                doubts.push(format!("{stale} facts of {name} are older than their source promises"));
            }
        }
        let found = self.agreements(&names, &only)?;
        let what = if self.project.baselines().any(|id| id == options.id) {
            DerivedAs::Differences(self.differences(&names, &options.id, &found)?)
        } else {
            DerivedAs::File(self.file(&names, &options.id, &found))
        };
        Ok(Derived { what, doubts })
    }

    /// What devices say of every fact, by path.
    fn said(&self, devices: &[String]) -> Result<BTreeMap<String, Vec<Option<Json>>>, EngineError> {
        let mut paths = BTreeMap::new();
        let mut all = Vec::new();
        for device in devices {
            let documents = self.documents(device)?;
            if documents.is_empty() {
                return Err(EngineError::refused(
                    format!("`{}` is retired, and says nothing", device.escape_debug()),
                    "name devices that are in use",
                ));
            }
            for document in &documents {
                if let Some(json) = stored_json(&document.json) {
                    leaves(&json, &mut paths);
                }
            }
            all.push(documents);
        }
        let mut layout = self.project.rules.layout().clone();
        let slots: Vec<_> = paths
            .into_iter()
            .filter(|(path, leaf)| !leaf.in_list && !matches!(path.as_str(), "device" | "collected_at"))
            .map(|(path, _)| (layout.want(&path, &self.project.dictionary), path))
            .collect();
        let judge = self.judge();
        let mut said: BTreeMap<String, Vec<Option<Json>>> = BTreeMap::new();
        for (device, documents) in devices.iter().zip(&all) {
            let arena = Bump::new();
            let facts = judge
                .facts(device, documents, &layout, &arena)
                .map_err(|error| damaged(self.project, device, &error.message))?;
            for (slot, path) in &slots {
                let found = facts.slot(*slot);
                let value = found.origin.map(|_| json_of_value(&found.raw)).filter(|value| !value.is_null());
                said.entry(path.clone()).or_default().push(value);
            }
        }
        Ok(said)
    }

    fn agreements(&self, devices: &[String], only: &[glob::Pattern]) -> Result<Findings, EngineError> {
        let mut found = Findings::default();
        let config = &self.project.config;
        for (path, values) in self.said(devices)? {
            let whom = [&config.holder, &config.fence_by].into_iter().flatten().any(|of| *of == path);
            if whom
                || SCOPE.contains(&path.as_str())
                || !only.is_empty() && !only.iter().any(|only| only.matches(&path))
            {
                continue;
            }
            let declared = self.project.dictionary.facts.get(&path);
            let mut leave = |why: &'static str, more: String| {
                found.left_out.entry(why).or_default().push(format!("{}{more}", path.escape_debug()));
            };
            if declared.is_some_and(|declared| declared.secret) {
                leave(SECRET, String::new());
                continue;
            }
            let volatile = declared.is_some_and(|declared| declared.volatile || declared.ty == Some(FactType::Instant));
            if volatile || is_its_own(&path, &values) {
                leave(CHANGES, String::new());
                continue;
            }
            let is_list = |value: &Option<Json>| matches!(value, Some(Json::Array(_)));
            if values.iter().any(is_list) {
                let key = declared.and_then(|declared| declared.key.as_deref()).unwrap_or("name");
                match names_of(&path, key, &values).filter(|_| can_be_named(&path)) {
                    Some(names) => found.lists.push(names),
                    None => leave(ODD, String::new()),
                }
                continue;
            }
            let is_plain = |value: &Json| {
                !value.is_object() && !value.as_str().is_some_and(|text| text.contains(char::is_control))
            };
            match &values[0] {
                Some(first) if values.iter().all(|value| value.as_ref() == Some(first)) => {
                    if is_plain(first) && can_be_named(&path) {
                        found.agreed.push((path, first.clone()));
                    } else {
                        leave(ODD, String::new());
                    }
                }
                _ => leave(DIFFERS, format!(" ({})", spread(&values))),
            }
        }
        Ok(found)
    }

    /// The text of a file of a baseline.
    fn file(&self, devices: &[String], id: &str, found: &Findings) -> String {
        let count = devices.len();
        let from: Vec<String> = devices.iter().map(|device| device.escape_debug().to_string()).collect();
        let at = self.project.config.zone.to_datetime(self.at).strftime("%Y-%m-%d %H:%M").to_string();
        let mut out = format!(
            "# Derived from {count} device{} on {at}: {}.\n\
             # Read it, take out what does not matter, say why what matters does, and take `stage` out: until then it is on trial.\n",
            if count == 1 { "" } else { "s" },
            from.join(", "),
        );
        for (why, facts) in &found.left_out {
            out.push_str(&format!("# Left out, {why}: {}.\n", facts.join(", ")));
        }
        out.push_str(&format!(
            "\nid     = {}\n# title =\ncovers = {}\nstage  = \"trial\"\n",
            toml_string(id),
            toml_string(&self.covers(devices))
        ));
        if !found.agreed.is_empty() {
            out.push_str("\n[expect]\n");
            let keys: Vec<String> = found.agreed.iter().map(|(path, _)| toml_string(path)).collect();
            let width = keys.iter().map(|key| key.chars().count()).max().unwrap_or(0);
            for (key, (_, value)) in keys.iter().zip(&found.agreed) {
                let value = value.as_str().map_or_else(|| value.to_string(), toml_string);
                out.push_str(&format!("{key:<width$} = {value}\n"));
            }
        }
        for names in &found.lists {
            let plain =
                names.section.chars().all(|symbol| symbol.is_ascii_alphanumeric() || matches!(symbol, '_' | '-'));
            let section = if plain { names.section.clone() } else { toml_string(&names.section) };
            out.push_str(&format!("\n[{section}]\nfrom   = {}\n", toml_string(&names.from)));
            for (key, all) in [("must", true), ("may", false)] {
                let own: Vec<_> = names.seen.iter().filter(|(_, seen)| (**seen == count) == all).collect();
                if own.is_empty() {
                    continue;
                }
                out.push_str(&format!("{key:<6} = [\n"));
                for (name, seen) in own {
                    let remark = if all { String::new() } else { format!("   # seen on {seen} of {count}") };
                    out.push_str(&format!("  {},{remark}\n", toml_string(name)));
                }
                out.push_str("]\n");
            }
            out.push_str("others = \"note\"\n");
        }
        out
    }

    /// A condition on devices that are of the same kind as these.
    fn covers(&self, devices: &[String]) -> String {
        let quoted = |text: &str| format!("\"{}\"", text.replace('\\', "\\\\").replace('"', "\\\""));
        let said = self.said(devices).unwrap_or_default();
        let shared: Vec<String> = SCOPE
            .iter()
            .filter_map(|path| {
                let values = said.get(*path)?;
                let first = values.first()?.as_ref()?.as_str()?;
                let same = values.iter().all(|value| value.as_ref().and_then(Json::as_str) == Some(first));
                (same && !first.contains(char::is_control)).then(|| format!("{path} = {}", quoted(first)))
            })
            .collect();
        if shared.is_empty() {
            let all: Vec<String> = devices.iter().map(|device| quoted(device)).collect();
            return format!("device in ({})", all.join(", "));
        }
        shared.join(" and ")
    }

    fn differences(&self, devices: &[String], id: &str, found: &Findings) -> Result<Vec<Difference>, EngineError> {
        let source = self.project.source.baselines.iter().find(|source| source.id.text == id);
        let report = self.project.baseline(id, self.at)?;
        let mut known: BTreeSet<String> = report.dropped.iter().map(|(name, _)| name.clone()).collect();
        let below = |rule: &str| rule.split_once('/').map(|(_, below)| below.to_owned());
        known.extend(report.expectations.iter().filter_map(|found| below(&found.rule)));
        for list in source.iter().flat_map(|source| &source.lists) {
            known.extend(list.entries.iter().map(|entry| format!("{}.{}", list.name.text, entry.name.text)));
        }
        let mut out = Vec::new();
        for (path, value) in found.agreed.iter().filter(|(path, _)| !known.contains(path)) {
            out.push(Difference::Agreed(format!("{path} is {}", shown(value))));
        }
        for names in &found.lists {
            let all = names.seen.iter().filter(|(_, seen)| **seen == devices.len());
            for (name, _) in all.filter(|(name, _)| !known.contains(&format!("{}.{name}", names.section))) {
                out.push(Difference::Agreed(format!("{name} is in {}", names.section)));
            }
        }
        let mut broken: BTreeMap<(String, String), Vec<String>> = BTreeMap::new();
        for device in devices {
            for verdict in self.device(device)?.verdicts {
                let Some(from) = verdict.rule.baseline.as_ref().filter(|from| from.baseline == id) else { continue };
                if matches!(verdict.outcome, VerdictOutcome::Fail | VerdictOutcome::Unknown(_)) {
                    let key = (verdict.rule.id.to_string(), from.says.clone());
                    broken.entry(key).or_default().push(device.clone());
                }
            }
        }
        out.extend(broken.into_iter().map(|((rule, says), devices)| Difference::Broken(rule, says, devices)));
        Ok(out)
    }
}

/// Facts that say what kind of machine it is.
const SCOPE: [&str; 2] = ["platform", "role"];

/// Whether a fact is each device's own or goes on by itself, by its name and by what it holds.
fn is_its_own(path: &str, values: &[Option<Json>]) -> bool {
    let last = path.rsplit_once('.').map_or(path, |(_, last)| last).to_lowercase();
    let words = last.split(|symbol: char| !symbol.is_alphanumeric());
    let is_moment = |value: &Json| value.as_str().is_some_and(|text| parse_date_time(text).is_some());
    words.into_iter().any(|word| OWN.contains(&word)) || values.iter().flatten().any(is_moment)
}

/// Whether a path can stand in a baseline.
fn can_be_named(path: &str) -> bool {
    path.split('.').all(|part| !part.is_empty() && !part.contains('`') && !part.contains(char::is_control))
}

/// The names that lists hold, and on how many devices; none where they have no names.
fn names_of(path: &str, key: &str, values: &[Option<Json>]) -> Option<Names> {
    let mut seen: BTreeMap<String, usize> = BTreeMap::new();
    let mut of_objects = None;
    for value in values.iter().flatten() {
        let mut own = BTreeSet::new();
        for item in value.as_array()? {
            let (name, is_object) = match item {
                Json::String(text) => (text.as_str(), false),
                item => (item.get(key)?.as_str()?, true),
            };
            if *of_objects.get_or_insert(is_object) != is_object
                || name.trim().is_empty()
                || name.contains(char::is_control)
            {
                return None;
            }
            own.insert(name.to_owned());
        }
        own.into_iter().for_each(|name| *seen.entry(name).or_default() += 1);
    }
    let section = if KEYS.contains(&path) { format!("list-of-{path}") } else { path.to_owned() };
    let from = if of_objects == Some(false) { path.to_owned() } else { format!("{path}.{key}") };
    Some(Names { section, from, seen })
}

/// What devices say that differ, the commonest first.
fn spread(values: &[Option<Json>]) -> String {
    let mut counts: BTreeMap<String, usize> = BTreeMap::new();
    for value in values {
        *counts.entry(value.as_ref().map_or_else(|| "nothing".to_owned(), shown)).or_default() += 1;
    }
    let mut counts: Vec<_> = counts.into_iter().collect();
    counts.sort_by(|a, b| b.1.cmp(&a.1).then_with(|| a.0.cmp(&b.0)));
    let more = counts.len().saturating_sub(3);
    let told: Vec<String> = counts.iter().take(3).map(|(value, count)| format!("{value} on {count}")).collect();
    format!("{}{}", told.join(", "), if more > 0 { format!(", {more} more") } else { String::new() })
}

fn shown(value: &Json) -> String {
    value.as_str().map_or_else(|| value.to_string(), |text| text.escape_debug().to_string())
}
