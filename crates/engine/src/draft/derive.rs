//! Writes a baseline from devices that are as they should be, or from a file of settings: what all of them agree on, for a person to finish.

use std::collections::{BTreeMap, BTreeSet};
use std::fs::File;
use std::io::{BufReader, Read as _};
use std::path::Path;

use bumpalo::Bump;
use fencepost_core::{FactType, Standing, VerdictOutcome, is_slug, parse_date_time};
use fencepost_formats::{
    Mapped, SAMPLE, SourceKind, decompress, holds_secret, is_baseline_key, is_fact_path, json_of_value, read_records,
    records_of_unknown, stored_json, toml_string,
};
use serde_json::Value as Json;

use crate::error::EngineError;
use crate::facts::documents::Document;
use crate::ledger_view::reading::Reading;
use crate::ledger_view::survey::leaves;
use crate::workspace::files::{shown_path, source_of};

/// How to derive.
#[derive(Clone, Debug, Default)]
pub struct DeriveOptions {
    /// The id of the baseline.
    pub id: String,
    /// Patterns of the paths of facts to look at, with `*`; all where there are none.
    pub only: Vec<String>,
}

/// A good example to derive from.
#[derive(Clone, Debug, PartialEq)]
pub struct Pattern {
    /// The device, or what the file calls it.
    pub name: String,
    documents: Vec<Document>,
    /// Of what most devices of a set hold: how many devices, and the condition that makes the set.
    of_set: Option<(usize, Option<String>)>,
}

/// What was derived: what the examples say, against the workspace's baseline of this id where it has one; otherwise a file.
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
struct CommonFacts {
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

impl Reading<'_> {
    /// Finds examples to derive from, devices or files, and says why one of them may be no good one. What the ledger knows is a
    /// device, whatever file is called like it.
    ///
    /// # Errors
    /// When the ledger or a file cannot be read, or a device is not known or retired.
    pub fn examples(&self, named: &[String]) -> Result<(Vec<Pattern>, Vec<String>), EngineError> {
        let (mut patterns, mut doubts): (Vec<Pattern>, Vec<String>) = Default::default();
        for name in named {
            let path = Path::new(name);
            let found = match !self.knows_device(name)? && path.is_file() {
                true => self.patterns_of_file(path)?,
                false => vec![self.pattern_of_device(name, &mut doubts)?],
            };
            for pattern in found {
                if patterns.iter().all(|known| known.name != pattern.name) {
                    patterns.push(pattern);
                }
            }
        }
        Ok((patterns, doubts))
    }

    /// Returns what most devices of a set of `drift.toml` hold, as an example to derive from.
    ///
    /// # Errors
    /// When there is no such set, or the ledger cannot be read.
    pub fn majority_example(&self, set: &str) -> Result<Pattern, EngineError> {
        let (mut json, devices) = self.common_document(set)?;
        json["device"] = set.into();
        json["collected_at"] = self.at.to_string().into();
        let document =
            Document { source: "majority".to_owned(), collected: self.at, json: json.to_string().into_bytes() };
        let source = self.project.source.drift.sets.iter().find(|source| source.id.text == set);
        let peers =
            source.and_then(|source| source.group.condition.as_ref()).map(|text| text.as_str().trim().to_owned());
        Ok(Pattern { name: set.to_owned(), documents: vec![document], of_set: Some((devices, peers)) })
    }

    fn pattern_of_device(&self, device: &str, doubts: &mut Vec<String>) -> Result<Pattern, EngineError> {
        let name = self.device_name(device)?;
        let documents = self.documents(&name)?;
        if documents.is_empty() {
            return Err(EngineError::refused(
                format!("`{}` is retired, and says nothing", name.escape_debug()),
                "name devices that are in use",
            ));
        }
        let report = self.device(&name)?;
        if let Some(standing) = report.standing.filter(|standing| *standing != Standing::Compliant) {
            doubts.push(format!("{name} is {}, so it may be no good example", standing.as_str()));
        }
        let stale = report.facts.iter().filter(|fact| fact.stale).count();
        if stale > 0 {
            doubts.push(format!("{stale} facts of {name} are older than their source promises"));
        }
        Ok(Pattern { name, documents, of_set: None })
    }

    /// Reads what a file holds to derive from: by the source that it fits, and otherwise setting by setting as it comes, for a machine
    /// that is called like the file.
    fn patterns_of_file(&self, path: &Path) -> Result<Vec<Pattern>, EngineError> {
        let failed = |error| EngineError::File { act: "read", path: path.to_owned(), error };
        let refused = |message: String| {
            EngineError::refused(
                format!("{}: {message}", path.display()),
                "known formats are jsonl, json, csv, plist, ini and key-value",
            )
        };
        let mut bytes = Vec::new();
        let file = File::open(path).map_err(failed)?;
        decompress(BufReader::new(file))
            .map_err(failed)?
            .take(SAMPLE as u64 + 1)
            .read_to_end(&mut bytes)
            .map_err(failed)?;
        if bytes.len() > SAMPLE {
            return Err(refused(format!("it is longer than {} MiB", SAMPLE >> 20)));
        }
        let mut records: Vec<(String, Json)> = Vec::new();
        let claim =
            (!self.project.config.sources.is_empty()).then(|| source_of(self.project, path, None).ok()).flatten();
        match claim.filter(|claim| claim.source.kind == SourceKind::State) {
            Some(claim) => {
                let shown = shown_path(self.project, path);
                let zone = &self.project.config.calendar.zone;
                let with =
                    Mapped { dictionary: &self.project.dictionary, zone, file_time: Some(self.at), path: Some(&shown) };
                read_records(&bytes[..], &claim.source, &with, |record| {
                    let document = record.document.map_err(|error| error.to_string())?;
                    let json: Json = serde_json::from_slice(document.bytes()).map_err(|error| error.to_string())?;
                    let device = json["device"].as_str().unwrap_or_default().to_owned();
                    records.push((device, json));
                    Ok(())
                })
                .map_err(|error| refused(error.message))?;
            }
            None => {
                let stem = path.file_stem().map(|stem| stem.to_string_lossy().into_owned()).unwrap_or_default();
                for (at, record) in records_of_unknown(&bytes).map_err(refused)?.into_iter().enumerate() {
                    let name = if at == 0 { stem.clone() } else { format!("{stem}-{}", at + 1) };
                    let name = record.get("device").and_then(Json::as_str).map_or(name, str::to_owned);
                    records.push((name, self.as_declared(Json::Object(record), "")));
                }
            }
        }
        let patterns = records.into_iter().map(|(name, mut json)| {
            json["device"] = name.clone().into();
            json["collected_at"] = self.at.to_string().into();
            let document =
                Document { source: "file".to_owned(), collected: self.at, json: json.to_string().into_bytes() };
            Pattern { name, documents: vec![document], of_set: None }
        });
        let patterns: Vec<Pattern> = patterns.collect();
        if patterns.is_empty() { Err(refused("it holds no record".to_owned())) } else { Ok(patterns) }
    }

    /// Reads texts of a file that has no types of its own as what the dictionary declares.
    fn as_declared(&self, json: Json, path: &str) -> Json {
        match json {
            Json::Object(fields) => {
                let below = |key: &str| if path.is_empty() { key.to_owned() } else { format!("{path}.{key}") };
                fields.into_iter().map(|(key, value)| (key.clone(), self.as_declared(value, &below(&key)))).collect()
            }
            Json::String(text) => {
                let declared = self.project.dictionary.facts.get(path).and_then(|declared| declared.ty);
                let number = || text.trim().parse::<serde_json::Number>().ok().map(Json::Number);
                let truth = || match text.trim().to_lowercase().as_str() {
                    "true" | "yes" | "on" | "1" => Some(Json::Bool(true)),
                    "false" | "no" | "off" | "0" => Some(Json::Bool(false)),
                    _ => None,
                };
                let read = match declared {
                    Some(FactType::Number) => number(),
                    Some(FactType::Boolean) => truth(),
                    _ => None,
                };
                read.unwrap_or(Json::String(text))
            }
            other => other,
        }
    }

    /// Derives a baseline from good examples; where the workspace has one of that id, tells the differences instead.
    ///
    /// # Errors
    /// When an option says nothing that can be, or what the examples say cannot be read.
    pub fn derive(&self, patterns: &[Pattern], options: &DeriveOptions) -> Result<DerivedAs, EngineError> {
        if !is_slug(&options.id) {
            return Err(EngineError::refused(
                format!("`{}` is not an id", options.id.escape_debug()),
                "ids are lower-case words with hyphens, such as ticket-server",
            ));
        }
        let only = options.only.iter().map(|text| glob::Pattern::new(text)).collect::<Result<Vec<_>, _>>().map_err(
            |error| EngineError::refused(format!("a pattern cannot be read: {error}"), "write --only 'sshd.*'"),
        )?;
        let found = self.agreements(patterns, &only)?;
        Ok(if self.project.baselines().any(|id| id == options.id) {
            DerivedAs::Differences(self.differences(patterns, &options.id, &only, &found)?)
        } else {
            DerivedAs::File(self.file(patterns, &options.id, &found)?)
        })
    }

    /// What the examples say of every fact, by path.
    fn said(&self, patterns: &[Pattern]) -> Result<BTreeMap<String, Vec<Option<Json>>>, EngineError> {
        let mut paths = BTreeMap::new();
        for document in patterns.iter().flat_map(|pattern| &pattern.documents) {
            if let Some(json) = stored_json(&document.json) {
                leaves(&json, &mut paths);
            }
        }
        let mut layout = self.project.rules.layout().clone();
        let slots: Vec<_> = paths
            .into_iter()
            .filter(|(path, leaf)| !leaf.in_list && !matches!(path.as_str(), "device" | "collected_at"))
            .map(|(path, _)| (layout.want(&path, &self.project.dictionary), path))
            .collect();
        let judge = self.judge();
        let mut said: BTreeMap<String, Vec<Option<Json>>> = BTreeMap::new();
        for Pattern { name, documents, .. } in patterns {
            let arena = Bump::new();
            let facts = judge.facts(name, documents, &layout, &arena)?;
            for (slot, path) in &slots {
                let found = facts.slot(*slot);
                let value = found.origin.map(|_| json_of_value(&found.raw)).filter(|value| !value.is_null());
                said.entry(path.clone()).or_default().push(value);
            }
        }
        Ok(said)
    }

    fn agreements(&self, patterns: &[Pattern], only: &[glob::Pattern]) -> Result<CommonFacts, EngineError> {
        let mut found = CommonFacts::default();
        let config = &self.project.config;
        for (path, values) in self.said(patterns)? {
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
            let words = self.project.dictionary.words_of(&path);
            let is_declared = declared.is_some_and(|declared| declared.secret);
            if is_declared || values.iter().flatten().any(|value| holds_secret(words, value)) {
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
                match names_of(&path, key, &values).filter(|_| is_fact_path(&path)) {
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
                    if is_plain(first) && is_fact_path(&path) {
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
    fn file(&self, patterns: &[Pattern], id: &str, found: &CommonFacts) -> Result<String, EngineError> {
        let count = patterns.len();
        let from: Vec<String> = patterns.iter().map(|pattern| pattern.name.escape_debug().to_string()).collect();
        let at = self.project.config.calendar.zone.to_datetime(self.at).strftime("%Y-%m-%d %H:%M").to_string();
        let derived = match patterns {
            [Pattern { name, of_set: Some((devices, _)), .. }] => {
                format!("# Derived on {at} from what most of the {devices} devices of {name} hold.")
            }
            _ => {
                let plural = if count == 1 { "" } else { "s" };
                format!("# Derived from {count} device{plural} on {at}: {}.", from.join(", "))
            }
        };
        let mut out = format!(
            "{derived}\n\
             # Read it, take out what does not matter, say why what matters does, and take `stage` out: until then it is on trial.\n"
        );
        for (why, facts) in &found.left_out {
            out.push_str(&format!("# Left out, {why}: {}.\n", facts.join(", ")));
        }
        out.push_str(&format!(
            "\nid     = {}\n# title =\ncovers = {}\nstage  = \"trial\"\n",
            toml_string(id),
            toml_string(&self.covers(patterns)?)
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
        Ok(out)
    }

    /// A condition on devices that are of the same kind as these.
    fn covers(&self, patterns: &[Pattern]) -> Result<String, EngineError> {
        let quoted = |text: &str| format!("\"{}\"", text.replace('\\', "\\\\").replace('"', "\\\""));
        if let [Pattern { of_set: Some((_, Some(peers))), .. }] = patterns {
            return Ok(peers.clone());
        }
        let said = self.said(patterns)?;
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
            let all: Vec<String> = patterns.iter().map(|pattern| quoted(&pattern.name)).collect();
            return Ok(format!("device in ({})", all.join(", ")));
        }
        Ok(shared.join(" and "))
    }

    fn differences(
        &self,
        patterns: &[Pattern],
        id: &str,
        only: &[glob::Pattern],
        found: &CommonFacts,
    ) -> Result<Vec<Difference>, EngineError> {
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
            let all = names.seen.iter().filter(|(_, seen)| **seen == patterns.len());
            for (name, _) in all.filter(|(name, _)| !known.contains(&format!("{}.{name}", names.section))) {
                out.push(Difference::Agreed(format!("{name} is in {}", names.section)));
            }
        }
        let mut broken: BTreeMap<(String, String), Vec<String>> = BTreeMap::new();
        let judge = self.judge();
        for Pattern { name, documents, .. } in patterns {
            let arena = Bump::new();
            let judged = judge.device(name, documents, &arena)?;
            for verdict in judge.verdicts(&judged.input, &arena).all {
                let rule = &self.project.rules.rules()[verdict.rule];
                let Some(from) = rule.baseline.as_ref().filter(|from| from.baseline == id) else { continue };
                // An entry of a list is about the list.
                let about = below(rule.id.as_str()).unwrap_or_default();
                let parts = about.match_indices('.').map(|(at, _)| &about[..at]).chain([about.as_str()]);
                if !only.is_empty() && !parts.into_iter().any(|part| only.iter().any(|only| only.matches(part))) {
                    continue;
                }
                if matches!(verdict.outcome, VerdictOutcome::Fail | VerdictOutcome::Unknown(_)) {
                    let key = (rule.id.to_string(), from.says.clone());
                    broken.entry(key).or_default().push(name.clone());
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
    let section = if is_baseline_key(path) { format!("list-of-{path}") } else { path.to_owned() };
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
