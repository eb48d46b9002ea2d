//! Lists of what there is, as rows with named columns, filtered by a condition.

use std::cmp::Ordering;
use std::collections::{BTreeMap, BTreeSet};

use bumpalo::Bump;
use fencepost_core::{
    Condition, Diagnostic, Dictionary, DocumentReader, Evaluator, FileId, GroupId, GroupKind, Layout, Place, Severity,
    SlotId, Subject, Text, Value, Vocabulary, merge,
};
use fencepost_formats::{JsonDocuments, json_of_datum, json_of_value};
use fencepost_store::SpellKind;
use serde_json::{Map, Value as Json, json};

use crate::assess::reported_paths;
use crate::error::EngineError;
use crate::judge::surroundings;
use crate::project::Project;
use crate::reading::{Reading, damaged};

/// What can be listed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Kind {
    /// Devices, with their standing.
    Devices,
    /// Facts that devices report.
    Facts,
    /// Rules, with what they came to.
    Rules,
    /// Groups, with how many belong to them.
    Groups,
    /// Findings that run.
    Findings,
    /// People, with their devices.
    People,
    /// Services, with who reaches them.
    Services,
    /// Assessments, newest first.
    Assessments,
    /// Records that imports set aside.
    Rejects,
}

impl Kind {
    /// All kinds: the word for it, what one row is called, and what it lists.
    pub const ALL: [(Self, &'static str, &'static str, &'static str); 9] = [
        (Self::Devices, "devices", "device", "Devices, with their standing"),
        (Self::Facts, "facts", "fact", "Facts that devices report"),
        (Self::Rules, "rules", "rule", "Rules, with what they came to"),
        (Self::Groups, "groups", "group", "Groups, with how many belong to them"),
        (Self::Findings, "findings", "finding", "Findings that run, the longest overdue first"),
        (Self::People, "people", "person", "People, with their devices"),
        (Self::Services, "services", "service", "Services, with who reaches them"),
        (Self::Assessments, "assessments", "assessment", "Assessments, newest first"),
        (Self::Rejects, "rejects", "reject", "Records that imports set aside"),
    ];
}

type Row = Map<String, Json>;

/// Rows with named columns.
#[derive(Clone, Debug)]
pub struct Listing {
    /// The columns, in order.
    pub columns: Vec<String>,
    /// The rows; each has every column.
    pub rows: Vec<Row>,
    /// How many there were before the filter.
    pub total: usize,
    /// What is probably not as meant in the filter; it stands in a file of its own.
    pub warnings: Vec<Diagnostic>,
}

/// How to list.
#[derive(Clone, Debug, Default)]
pub(crate) struct Filter {
    condition: Option<Condition>,
    warnings: Vec<Diagnostic>,
}

impl Reading<'_> {
    /// Lists what there is of a kind. `filter` is a condition over the columns, or the facts of devices.
    ///
    /// # Errors
    /// The outer one when the ledger cannot be read; the inner one when the filter has mistakes.
    pub fn list(
        &self,
        kind: Kind,
        filter: Option<&str>,
        columns: &[String],
    ) -> Result<Result<Listing, Vec<Diagnostic>>, EngineError> {
        if kind == Kind::Devices {
            return self.devices(filter, columns);
        }
        let (names, mut rows): (Vec<&str>, Vec<Row>) = match kind {
            Kind::Devices => (Vec::new(), Vec::new()),
            Kind::Facts => self.facts()?,
            Kind::Rules => self.rules()?,
            Kind::Groups => self.groups()?,
            Kind::Findings => self.finding_rows()?,
            Kind::People => self.people_rows()?,
            Kind::Services => self.services()?,
            Kind::Assessments => self.assessments()?,
            Kind::Rejects => self.rejects()?,
        };
        let total = rows.len();
        let known: BTreeSet<String> = names
            .iter()
            .map(|name| (*name).to_owned())
            .chain(rows.iter().flat_map(|row| row.keys().cloned()))
            .collect();
        let mut warnings = Vec::new();
        if let Some(filter) = filter {
            match filter_rows(self.project, rows, filter, &known, self.at) {
                Ok((kept, said)) => {
                    rows = kept;
                    warnings = said;
                }
                Err(mistakes) => return Ok(Err(mistakes)),
            }
        }
        let columns =
            if columns.is_empty() { names.iter().map(|name| (*name).to_owned()).collect() } else { columns.to_vec() };
        if let Some(unknown) = columns.iter().find(|column| !known.contains(*column)) {
            return Err(unknown_column(unknown, known.iter().map(String::as_str)));
        }
        Ok(Ok(Listing { columns, rows, total, warnings }))
    }

    fn devices(
        &self,
        filter: Option<&str>,
        columns: &[String],
    ) -> Result<Result<Listing, Vec<Diagnostic>>, EngineError> {
        let project = self.project;
        let mut layout = project.rules.layout().clone();
        let mut people = Layout::new(&Dictionary::default());
        let groups: Vec<GroupId> = project.rules.groups().map(|(id, ..)| id.clone()).collect();
        let rules: Vec<String> = project.rules.rules().iter().map(|rule| rule.id.to_string()).collect();
        let mut compiled = Filter::default();
        if let Some(filter) = filter {
            let dictionary = &project.dictionary;
            let mut vocabulary =
                Vocabulary { dictionary, layout: &mut layout, people: &mut people, groups: &groups, rules: &rules };
            match compile_filter(filter, &mut vocabulary) {
                Ok(done) => compiled = done,
                Err(mistakes) => return Ok(Err(mistakes)),
            }
        }
        let mut unseen: BTreeSet<SlotId> =
            compiled.condition.iter().flat_map(|condition| condition.slots()).copied().collect();
        const OWN: [&str; 7] = ["device", "standing", "holder", "open", "overdue", "collected_at", "groups"];
        let extra: Vec<(String, _)> = columns
            .iter()
            .chain(&project.config.fence_by)
            .filter(|column| !OWN.contains(&column.as_str()))
            .map(|column| (column.clone(), layout.want(column, &project.dictionary)))
            .collect();
        let standings = self.standings()?;
        let findings = self.findings(None, false)?;
        let judge = self.judge();
        let (mut rows, mut total) = (Vec::new(), 0);
        let mut arena = Bump::new();
        self.for_each_device(|device, documents| {
            arena.reset();
            total += 1;
            let facts = judge
                .facts(device, documents, &layout, &arena)
                .map_err(|error| damaged(project, device, &error.message))?;
            let judged = judge.judged(device, facts, &arena);
            let own = findings.get(device).map_or(&[][..], Vec::as_slice);
            let ambient = surroundings(standings.get(device).map(|(standing, _)| *standing), own, &arena);
            let standing = ambient.standing;
            let zone = &project.config.zone;
            let memberships = project.rules.memberships_of_device(&judged.input, ambient, judge.at, zone, &arena);
            if let Some(condition) = &compiled.condition {
                unseen.retain(|slot| facts.slot(*slot).origin.is_none());
                let mut evaluator = Evaluator::new(Some(facts), self.at, zone, &arena);
                evaluator.set_groups(memberships);
                evaluator.set_ambient(ambient);
                if !matches!(evaluator.holds(condition), Value::Boolean(true)) {
                    return Ok(());
                }
            }
            let overdue = own.iter().filter(|finding| finding.due <= self.at).count();
            let holders: Vec<&str> = judged
                .input
                .holders
                .iter()
                .map(|holder| holder.person.map_or(holder.id, |person| person.name()))
                .collect();
            let mut row = Row::new();
            row.insert("device".into(), json!(device));
            row.insert("standing".into(), json!(standing));
            row.insert("holder".into(), if holders.is_empty() { Json::Null } else { json!(holders.join(", ")) });
            row.insert("open".into(), json!(own.len() - overdue));
            row.insert("overdue".into(), json!(overdue));
            row.insert("collected_at".into(), json!(facts.collected().map(|moment| moment.to_string())));
            let member: Vec<&str> = groups
                .iter()
                .zip(memberships)
                .filter(|(id, value)| matches!(value, Value::Boolean(true)) && id.as_str() != "every-device")
                .map(|(id, _)| id.as_str())
                .collect();
            row.insert("groups".into(), json!(member.join(", ")));
            for (column, slot) in &extra {
                row.insert(column.clone(), json_of_value(&facts.slot(*slot).value));
            }
            rows.push(row);
            Ok(())
        })?;
        if let (Some(filter), false) = (filter, unseen.is_empty()) {
            // Only a name that no device reports is worth looking through all of them for what was meant.
            let reported = Some(reported_paths(&self.reader)?.into_keys().collect());
            let dictionary = Dictionary { reported, ..project.dictionary.clone() };
            let mut vocabulary = Vocabulary {
                dictionary: &dictionary,
                layout: &mut layout.clone(),
                people: &mut people,
                groups: &groups,
                rules: &rules,
            };
            if let Ok(again) = compile_filter(filter, &mut vocabulary) {
                compiled.warnings = again.warnings;
            }
        }
        let columns = if columns.is_empty() {
            let mut names = vec!["device".to_owned(), "standing".to_owned()];
            names.extend(project.config.fence_by.clone());
            names.extend(["holder", "open", "overdue", "collected_at"].map(str::to_owned));
            names
        } else {
            columns.to_vec()
        };
        Ok(Ok(Listing { columns, rows, total, warnings: compiled.warnings }))
    }

    fn facts(&self) -> Result<(Vec<&'static str>, Vec<Row>), EngineError> {
        let devices = self.reader.device_count()?;
        let mut rows: BTreeMap<String, Row> = BTreeMap::new();
        for (path, kinds) in reported_paths(&self.reader)? {
            let mut types: Vec<(&str, u64)> = kinds.into_iter().collect();
            types.sort_by_key(|(name, count)| (std::cmp::Reverse(*count), *name));
            let reported: u64 = types.iter().map(|(_, count)| count).sum();
            let types: Vec<&str> = types.iter().map(|(name, _)| *name).collect();
            rows.insert(
                path.clone(),
                row([("fact", json!(path)), ("seen_as", json!(types.join(", "))), ("devices", json!(reported))]),
            );
        }
        for path in self.project.dictionary.facts.keys() {
            rows.entry(path.clone())
                .or_insert_with(|| row([("fact", json!(path)), ("seen_as", Json::Null), ("devices", json!(0))]));
        }
        let rows = rows
            .into_iter()
            .map(|(path, mut row)| {
                let declared = self.project.dictionary.facts.get(&path);
                let count = row["devices"].as_u64().unwrap_or(0);
                row.insert("share".into(), json!((count * 100 + devices / 2).checked_div(devices).unwrap_or(0)));
                row.insert("declared".into(), json!(declared.and_then(|declared| declared.ty).map(|ty| ty.as_str())));
                row.insert("unit".into(), json!(declared.and_then(|declared| declared.unit.clone())));
                row.insert("about".into(), json!(declared.and_then(|declared| declared.about.clone())));
                row
            })
            .collect();
        Ok((vec!["fact", "declared", "seen_as", "devices", "share", "unit", "about"], rows))
    }

    fn rules(&self) -> Result<(Vec<&'static str>, Vec<Row>), EngineError> {
        let counts: BTreeMap<String, crate::assess::RuleCount> = match &self.assessment {
            Some(run) => crate::assess::Assessed::load(self.project, &self.reader, run)?
                .rules
                .into_iter()
                .map(|count| (count.rule.clone(), count))
                .collect(),
            None => BTreeMap::new(),
        };
        let rows = self
            .project
            .rules
            .rules()
            .iter()
            .map(|rule| {
                let count = counts.get(rule.id.as_str());
                let number = |get: fn(&crate::assess::RuleCount) -> u64| json!(count.map(get));
                row([
                    ("rule", json!(rule.id.as_str())),
                    ("severity", json!(rule.severity.as_str())),
                    ("stage", json!(rule.stage.as_str())),
                    ("grace", json!(rule.grace.to_string())),
                    ("pass", number(|count| count.pass)),
                    ("fail", number(|count| count.fail)),
                    ("unknown", number(|count| count.unknown)),
                    ("not_applicable", number(|count| count.not_applicable)),
                    ("excepted", number(|count| count.excepted)),
                    ("topic", json!(rule.topic)),
                    ("title", json!(rule.title)),
                    ("covers", json!(rule.covers())),
                    ("require", json!(rule.require())),
                ])
            })
            .collect();
        Ok((vec!["rule", "severity", "stage", "grace", "pass", "fail", "unknown", "not_applicable", "title"], rows))
    }

    fn groups(&self) -> Result<(Vec<&'static str>, Vec<Row>), EngineError> {
        let mut devices: BTreeMap<String, [u64; 5]> = BTreeMap::new();
        for line in self.fence(Some("groups"))? {
            let counts = devices.entry(line.label).or_default();
            for (_, standing) in line.posts {
                counts[standing as usize] += 1;
                counts[4] += 1;
            }
        }
        let every = self.standings()?;
        let all = devices.entry("every-device".to_owned()).or_default();
        for (standing, _) in every.values() {
            all[*standing as usize] += 1;
            all[4] += 1;
        }
        let mut people: BTreeMap<usize, u64> = BTreeMap::new();
        for person in self.people.all() {
            for (at, membership) in self.people.memberships(&person.id).iter().enumerate() {
                *people.entry(at).or_default() += u64::from(*membership == fencepost_core::Membership::In);
            }
        }
        let rows = self
            .project
            .rules
            .groups()
            .enumerate()
            .map(|(at, (id, title, kind))| {
                let counts = devices.get(id.as_str()).copied().unwrap_or_default();
                let of_devices = kind == GroupKind::Devices;
                let count = |at: usize| if of_devices { json!(counts[at]) } else { Json::Null };
                row([
                    ("group", json!(id.as_str())),
                    ("of", json!(if of_devices { "devices" } else { "people" })),
                    (
                        "members",
                        if of_devices { json!(counts[4]) } else { json!(people.get(&at).copied().unwrap_or(0)) },
                    ),
                    ("compliant", count(0)),
                    ("on_notice", count(1)),
                    ("unproven", count(2)),
                    ("non_compliant", count(3)),
                    ("title", json!(title)),
                ])
            })
            .collect();
        Ok((vec!["group", "of", "members", "compliant", "on_notice", "unproven", "non_compliant", "title"], rows))
    }

    fn finding_rows(&self) -> Result<(Vec<&'static str>, Vec<Row>), EngineError> {
        let mut findings: Vec<fencepost_core::Finding> = self.findings(None, false)?.into_values().flatten().collect();
        // What is longest overdue comes first.
        findings.sort_by(|a, b| (a.due, &a.device, &a.subject).cmp(&(b.due, &b.device, &b.subject)));
        let mut holders: BTreeMap<String, Json> = BTreeMap::new();
        let listed = self.devices(None, &[])?.unwrap_or_else(|_| Listing {
            columns: Vec::new(),
            rows: Vec::new(),
            total: 0,
            warnings: Vec::new(),
        });
        for row in listed.rows {
            if let Some(device) = row["device"].as_str() {
                holders.insert(device.to_owned(), row["holder"].clone());
            }
        }
        let rows = findings
            .iter()
            .map(|finding| {
                let rule =
                    self.project.rules.position(finding.subject.as_str()).map(|at| &self.project.rules.rules()[at]);
                let blames: Vec<String> =
                    finding.blames.iter().map(|blame| format!("{} {}", blame.fact, blame.reason.as_str())).collect();
                let leaves: Vec<&str> = finding.leaves_open.iter().map(fencepost_core::RuleId::as_str).collect();
                row([
                    ("device", json!(finding.device.as_str())),
                    ("rule", json!(finding.subject.as_str())),
                    ("phase", json!(finding.phase(self.at).as_str())),
                    ("severity", json!(rule.map(|rule| rule.severity.as_str()))),
                    ("opened", json!(finding.opened.to_string())),
                    ("due", json!(finding.due.to_string())),
                    ("spell", json!(finding.spell)),
                    ("holder", holders.get(finding.device.as_str()).cloned().unwrap_or(Json::Null)),
                    (
                        "leaves_open",
                        if finding.subject == Subject::Silence { json!(leaves.join(", ")) } else { Json::Null },
                    ),
                    ("blame", if blames.is_empty() { Json::Null } else { json!(blames.join(", ")) }),
                ])
            })
            .collect();
        Ok((vec!["device", "rule", "phase", "severity", "opened", "due", "holder"], rows))
    }

    fn people_rows(&self) -> Result<(Vec<&'static str>, Vec<Row>), EngineError> {
        let mut devices: BTreeMap<String, Vec<String>> = BTreeMap::new();
        let judge = self.judge();
        let mut arena = Bump::new();
        self.for_each_device(|device, documents| {
            arena.reset();
            let judged = judge
                .device(device, documents, &arena)
                .map_err(|error| damaged(self.project, device, &error.message))?;
            for holder in judged.input.holders {
                devices.entry(holder.id.to_owned()).or_default().push(device.to_owned());
            }
            Ok(())
        })?;
        let mut denied: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
        if self.assessment.is_some() {
            for entry in self.access(None)?.denied {
                denied.entry(entry.person.unwrap_or_default()).or_default().insert(entry.service);
            }
        }
        let rows = self
            .people
            .all()
            .map(|person| {
                let held = devices.get(person.id.as_str()).cloned().unwrap_or_default();
                let shut: Vec<String> = denied.get(person.id.as_str()).into_iter().flatten().cloned().collect();
                let mut row = row([
                    ("person", json!(person.id.as_str())),
                    ("name", json!(person.name())),
                    ("unit", json!(person.text("unit"))),
                    ("mail", json!(person.text("mail"))),
                    ("devices", json!(held.join(", "))),
                    ("denied", json!(shut.join(", "))),
                ]);
                if let fencepost_core::Datum::Object(fields) = &person.facts {
                    for (key, value) in fields {
                        row.entry(key.clone()).or_insert_with(|| json_of_datum(value));
                    }
                }
                row
            })
            .collect();
        Ok((vec!["person", "name", "unit", "devices", "denied"], rows))
    }

    fn services(&self) -> Result<(Vec<&'static str>, Vec<Row>), EngineError> {
        let mut counts: BTreeMap<String, [BTreeSet<String>; 3]> = BTreeMap::new();
        for spell in self.reader.spells(SpellKind::Decision, None, self.run)? {
            let key = crate::codec::DecisionKey::read(&spell.subject);
            let decision = crate::codec::StoredDecision::read(&spell.value, &spell.detail);
            if let (Some(key), Some(decision)) = (key, decision) {
                let who = format!("{}\u{1f}{}", spell.device, key.person.unwrap_or_default());
                counts.entry(key.service).or_default()[usize::from(decision.strictness.min(2))].insert(who);
            }
        }
        let rows = self
            .project
            .rules
            .access()
            .services()
            .iter()
            .map(|service| {
                let count = |at: usize| json!(counts.get(service.id.as_str()).map_or(0, |sets| sets[at].len()));
                row([
                    ("service", json!(service.id.as_str())),
                    ("default", json!(service.default.as_str())),
                    ("usual", json!(service.usual.join(", "))),
                    ("permit", count(0)),
                    ("limited", count(1)),
                    ("deny", count(2)),
                    ("title", json!(service.title)),
                ])
            })
            .collect();
        Ok((vec!["service", "default", "usual", "permit", "limited", "deny", "title"], rows))
    }

    fn assessments(&self) -> Result<(Vec<&'static str>, Vec<Row>), EngineError> {
        let mut rows = Vec::new();
        for run in self.reader.assessments(None, u32::MAX)? {
            let assessed = crate::assess::Assessed::load(self.project, &self.reader, &run)?;
            let d = assessed.devices;
            rows.push(row([
                ("assessment", json!(assessed.number)),
                ("as_of", json!(run.as_of.to_string())),
                ("devices", json!(d.total)),
                ("compliant", json!(d.compliant)),
                ("on_notice", json!(d.on_notice)),
                ("unproven", json!(d.unproven)),
                ("non_compliant", json!(d.non_compliant)),
                ("opened", json!(assessed.opened.len())),
                ("closed", json!(assessed.closed.len())),
                ("overdue", json!(assessed.overdue.len())),
                ("user", json!(run.user)),
                ("version", json!(run.version)),
                ("rule_set", json!(run.rule_set)),
            ]));
        }
        Ok((
            vec![
                "assessment",
                "as_of",
                "devices",
                "compliant",
                "on_notice",
                "unproven",
                "non_compliant",
                "opened",
                "closed",
                "overdue",
            ],
            rows,
        ))
    }

    fn rejects(&self) -> Result<(Vec<&'static str>, Vec<Row>), EngineError> {
        let mut rows = Vec::new();
        for reject in self.reader.rejects()? {
            let imported = self.reader.run(reject.run)?.map(|run| run.as_of.to_string());
            rows.push(row([
                ("imported", json!(imported)),
                ("file", json!(reject.path)),
                ("line", json!(reject.line)),
                ("offset", json!(reject.offset)),
                ("reason", json!(reject.reason)),
            ]));
        }
        Ok((vec!["imported", "file", "line", "reason"], rows))
    }
}

impl Listing {
    /// Sorts the rows by a column; a `-` before its name turns the order round.
    ///
    /// # Errors
    /// When there is no such column.
    pub fn sort(&mut self, by: &str) -> Result<(), EngineError> {
        let (column, down) = by.strip_prefix('-').map_or((by, false), |column| (column, true));
        if let Some(first) = self.rows.first()
            && !first.contains_key(column)
        {
            return Err(unknown_column(column, first.keys().map(String::as_str)));
        }
        self.rows.sort_by(|a, b| {
            let order = compare_cells(&a[column], &b[column]);
            if down { order.reverse() } else { order }
        });
        Ok(())
    }
}

fn compare_cells(a: &Json, b: &Json) -> Ordering {
    match (a, b) {
        (Json::Number(a), Json::Number(b)) => a.as_f64().partial_cmp(&b.as_f64()).unwrap_or(Ordering::Equal),
        (Json::String(a), Json::String(b)) => a.cmp(b),
        (Json::Null, Json::Null) => Ordering::Equal,
        // What has no value comes last.
        (Json::Null, _) => Ordering::Greater,
        (_, Json::Null) => Ordering::Less,
        (a, b) => a.to_string().cmp(&b.to_string()),
    }
}

fn unknown_column<'a>(column: &str, known: impl Iterator<Item = &'a str>) -> EngineError {
    let known: Vec<&str> = known.collect();
    let help = match fencepost_core::nearest(column, known.iter().copied()) {
        Some(near) => format!("did you mean `{near}`?"),
        None => format!("columns are {}", known.join(", ")),
    };
    EngineError::refused(format!("there is no column `{column}`"), help)
}

fn row<const N: usize>(cells: [(&str, Json); N]) -> Row {
    cells.into_iter().map(|(name, value)| (name.to_owned(), value)).collect()
}

fn compile_filter(filter: &str, vocabulary: &mut Vocabulary<'_>) -> Result<Filter, Vec<Diagnostic>> {
    let mut mistakes = Vec::new();
    let condition = Condition::compile(&Text::whole(filter, FileId(0)), Place::Devices, vocabulary, &mut mistakes);
    if condition.is_none() || mistakes.iter().any(|mistake| mistake.severity == Severity::Error) {
        return Err(mistakes);
    }
    Ok(Filter { condition, warnings: mistakes })
}

/// Keeps the rows for which a condition over their columns holds.
fn filter_rows(
    project: &Project,
    rows: Vec<Row>,
    filter: &str,
    known: &BTreeSet<String>,
    at: jiff::Timestamp,
) -> Result<(Vec<Row>, Vec<Diagnostic>), Vec<Diagnostic>> {
    let dictionary = Dictionary { reported: Some(known.clone()), ..Dictionary::default() };
    let (mut layout, mut people) = (Layout::new(&dictionary), Layout::new(&dictionary));
    let (groups, rules): (Vec<GroupId>, Vec<String>) = (Vec::new(), Vec::new());
    let mut vocabulary = Vocabulary {
        dictionary: &dictionary,
        layout: &mut layout,
        people: &mut people,
        groups: &groups,
        rules: &rules,
    };
    let compiled = compile_filter(filter, &mut vocabulary)?;
    let Some(condition) = &compiled.condition else { return Ok((rows, compiled.warnings)) };
    let zone = &project.config.zone;
    let mut arena = Bump::new();
    let kept = rows
        .into_iter()
        .filter(|row| {
            arena.reset();
            let text = Json::Object(row.clone()).to_string();
            let Ok(read) = JsonDocuments::default().read(text.as_bytes(), &layout, &arena) else { return false };
            let observation = [fencepost_core::Observation {
                source: "row",
                trust: 0,
                collected: None,
                fresh_for: None,
                slots: read.slots,
            }];
            let facts = merge(&observation, std::iter::empty(), &layout, at, &arena);
            let mut evaluator = Evaluator::new(Some(&facts), at, zone, &arena);
            matches!(evaluator.holds(condition), Value::Boolean(true))
        })
        .collect();
    Ok((kept, compiled.warnings))
}
