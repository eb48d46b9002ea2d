//! Lists of what there is, as rows with named columns, filtered by a condition, sorted, or counted.

mod coverage;
mod devices;
mod facts;
mod feeds;
mod people;

use std::cmp::Ordering;
use std::collections::{BTreeMap, BTreeSet};
use std::ops::Index;
use std::sync::Arc;

use bumpalo::Bump;
use fencepost_core::{
    Condition, Diagnostic, Dictionary, DocumentReader, Evaluator, FileId, GroupId, GroupKind, Layout, Place, Severity,
    Subject, Text, Value, Vocabulary, merge,
};
use fencepost_formats::JsonDocuments;
use fencepost_store::SpellKind;
use serde_json::{Value as Json, json};

use crate::error::EngineError;
use crate::project::Project;
use crate::reading::Reading;
use crate::versions::same_since;

/// What can be listed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Kind {
    /// Devices, with their standing.
    Devices,
    /// Facts that devices report.
    Facts,
    /// Rules, with what they came to.
    Rules,
    /// Topics by platform and role, with how many devices they cover.
    Coverage,
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
    /// Feeds, with how they are doing.
    Sources,
    /// Facts set by hand, with what the feeds say.
    Corrections,
    /// Records that imports set aside.
    Rejects,
}

impl Kind {
    /// All kinds: the word for it, what one row and several are called, and what it lists.
    pub const ALL: [(Self, &'static str, [&'static str; 2], &'static str); 12] = [
        (Self::Devices, "devices", ["device", "devices"], "Devices, with their standing"),
        (Self::Facts, "facts", ["fact", "facts"], "Facts that devices report, with their commonest values"),
        (Self::Rules, "rules", ["rule", "rules"], "Rules, with what they came to"),
        (
            Self::Coverage,
            "coverage",
            ["kind of device for one topic", "kinds of devices, topic by topic"],
            "Topics by platform and role: who is covered, and who was left out",
        ),
        (Self::Groups, "groups", ["group", "groups"], "Groups, with how many belong to them"),
        (Self::Findings, "findings", ["finding", "findings"], "Findings that run, the longest overdue first"),
        (Self::People, "people", ["person", "people"], "People, with their devices"),
        (Self::Services, "services", ["service", "services"], "Services, with who reaches them"),
        (Self::Assessments, "assessments", ["assessment", "assessments"], "Assessments, newest first"),
        (Self::Sources, "sources", ["source", "sources"], "Feeds, with when they last came and how old they are"),
        (Self::Corrections, "corrections", ["correction", "corrections"], "Facts set by hand, with what the feeds say"),
        (Self::Rejects, "rejects", ["reject", "rejects"], "Records that imports set aside"),
    ];
}

impl Kind {
    /// Returns whether it is about what came in, and not about what an assessment made of it.
    pub fn is_of_state(self) -> bool {
        match self {
            Self::Facts | Self::Sources | Self::Corrections | Self::Rejects => true,
            Self::Devices
            | Self::Rules
            | Self::Coverage
            | Self::Groups
            | Self::Findings
            | Self::People
            | Self::Services
            | Self::Assessments => false,
        }
    }
}

/// A row: a value for each of its names, which rows of a kind share.
#[derive(Clone, Debug)]
pub struct Row {
    names: Arc<Vec<String>>,
    cells: Vec<Json>,
}

impl Row {
    fn position(&self, name: &str) -> Option<usize> {
        self.names.iter().position(|known| known == name)
    }

    /// Returns the value of a name; none where the row has no such name.
    pub fn get(&self, name: &str) -> Option<&Json> {
        self.position(name).map(|at| &self.cells[at])
    }

    /// Returns its names, in their order.
    pub fn names(&self) -> impl Iterator<Item = &str> {
        self.names.iter().map(String::as_str)
    }

    /// Gives it a value for a name that it does not have.
    fn or_insert(&mut self, name: &str, value: impl FnOnce() -> Json) {
        if self.position(name).is_none() {
            Arc::make_mut(&mut self.names).push(name.to_owned());
            self.cells.push(value());
        }
    }

    fn to_json(&self) -> Json {
        self.names.iter().cloned().zip(self.cells.iter().cloned()).collect()
    }
}

impl Index<&str> for Row {
    type Output = Json;

    /// Returns the value of a name; null where the row has no such name.
    fn index(&self, name: &str) -> &Json {
        self.get(name).unwrap_or(&Json::Null)
    }
}

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
    /// Lists what there is of a kind. `filter` is a condition over the columns, or the facts of devices; `sort` is by what it will
    /// be sorted.
    ///
    /// # Errors
    /// The outer one when the ledger cannot be read; the inner one when the filter has mistakes.
    pub fn list(
        &self,
        kind: Kind,
        filter: Option<&str>,
        columns: &[String],
        sort: Option<&str>,
    ) -> Result<Result<Listing, Vec<Diagnostic>>, EngineError> {
        if kind == Kind::Devices {
            return self.devices(filter, columns, sort);
        }
        let (names, mut rows): (Vec<&str>, Vec<Row>) = match kind {
            Kind::Devices => (Vec::new(), Vec::new()),
            Kind::Facts => self.fact_rows()?,
            Kind::Rules => self.rules()?,
            Kind::Coverage => self.coverage()?,
            Kind::Groups => self.groups()?,
            Kind::Findings => self.finding_rows()?,
            Kind::People => self.people_rows()?,
            Kind::Services => self.services()?,
            Kind::Assessments => self.assessments()?,
            Kind::Sources => self.source_rows()?,
            Kind::Corrections => self.correction_rows()?,
            Kind::Rejects => self.rejects()?,
        };
        let total = rows.len();
        let known: BTreeSet<String> = names
            .iter()
            .map(|name| (*name).to_owned())
            .chain(rows.iter().flat_map(|row| row.names().map(str::to_owned)))
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

    fn rules(&self) -> Result<(Vec<&'static str>, Vec<Row>), EngineError> {
        let counts: BTreeMap<String, crate::assess::RuleCount> = match &self.assessment {
            Some(run) => crate::assess::Assessed::load(self.project, &self.reader, run)?
                .rules
                .into_iter()
                .map(|count| (count.rule.clone(), count))
                .collect(),
            None => BTreeMap::new(),
        };
        let changed = match &self.assessment {
            Some(last) => same_since(self.project, &self.reader, last.as_of, |then, now| then.judges_as(now))?,
            None => vec![None; self.project.rules.rules().len()],
        };
        let rows = self
            .project
            .rules
            .rules()
            .iter()
            .zip(changed)
            .map(|(rule, changed)| {
                let count = counts.get(rule.id.as_str());
                let number = |get: fn(&crate::assess::RuleCount) -> u64| json!(count.map(get));
                row([
                    ("rule", json!(rule.id.as_str())),
                    ("severity", json!(rule.severity.as_str())),
                    ("stage", json!(rule.stage(self.judged_at()).as_str())),
                    ("enforced_from", json!(rule.enforced_from.map(|from| from.to_string()))),
                    ("grace", json!(rule.grace.to_string())),
                    ("reach", number(|count| count.pass + count.fail + count.unknown)),
                    ("pass", number(|count| count.pass)),
                    ("fail", number(|count| count.fail)),
                    ("unknown", number(|count| count.unknown)),
                    ("not_applicable", number(|count| count.not_applicable)),
                    ("changed", json!(changed.map(|moment| moment.to_string()))),
                    ("excepted", number(|count| count.excepted)),
                    ("awaiting", number(|count| count.awaiting)),
                    ("controls", json!(rule.controls().collect::<Vec<_>>())),
                    ("topic", json!(rule.topic)),
                    ("title", json!(rule.title)),
                    ("covers", json!(rule.covers())),
                    ("require", json!(rule.require())),
                ])
            })
            .collect();
        Ok((vec!["rule", "severity", "stage", "grace", "reach", "pass", "fail", "unknown", "changed", "title"], rows))
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
        let listed = self.devices(None, &[], None)?.unwrap_or_else(|_| Listing {
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

    fn services(&self) -> Result<(Vec<&'static str>, Vec<Row>), EngineError> {
        let mut counts: BTreeMap<String, [BTreeSet<String>; 3]> = BTreeMap::new();
        for spell in self.reader.spells(SpellKind::Decision, None, self.run)? {
            let unreadable = || crate::reading::unreadable(self.project, &spell.device, "a decision");
            let key = crate::codec::DecisionKey::read(&spell.subject).ok_or_else(unreadable)?;
            let decision = crate::codec::StoredDecision::read(&spell.value, &spell.detail).ok_or_else(unreadable)?;
            let who = format!("{}\u{1f}{}", spell.device, key.person.unwrap_or_default());
            counts.entry(key.service).or_default()[usize::from(decision.strictness.min(2))].insert(who);
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
}

impl Listing {
    /// Sorts the rows by a column; a `-` before its name turns the order round.
    ///
    /// # Errors
    /// When there is no such column.
    pub fn sort(&mut self, by: &str) -> Result<(), EngineError> {
        let (column, down) = sorted_by(by);
        if let Some(first) = self.rows.first()
            && first.get(column).is_none()
        {
            return Err(unknown_column(column, first.names()));
        }
        self.rows.sort_by(|a, b| {
            let order = compare_cells(&a[column], &b[column]);
            if down { order.reverse() } else { order }
        });
        Ok(())
    }
}

/// Returns the column that is sorted by, and whether it is downwards.
fn sorted_by(by: &str) -> (&str, bool) {
    by.strip_prefix('-').map_or((by, false), |column| (column, true))
}

impl Listing {
    /// Counts the rows by the values of a column, the commonest first; devices also by how they stand.
    ///
    /// A row whose value is a list counts once for each of its items.
    ///
    /// # Errors
    /// When there is no such column.
    pub fn count_by(self, column: &str) -> Result<Self, EngineError> {
        let Some(first) = self.rows.first() else { return Ok(Self { columns: vec![column.to_owned()], ..self }) };
        if first.get(column).is_none() {
            return Err(unknown_column(column, first.names()));
        }
        const STANDINGS: [(&str, &str); 4] = [
            ("compliant", "compliant"),
            ("on_notice", "on-notice"),
            ("unproven", "unproven"),
            ("non_compliant", "non-compliant"),
        ];
        let of_devices = first.get("standing").is_some() && column != "standing";
        let mut groups: BTreeMap<String, (Json, u64, [u64; 4])> = BTreeMap::new();
        for row in &self.rows {
            let values: Vec<&Json> = match &row[column] {
                Json::Array(items) if items.is_empty() => vec![&Json::Null],
                Json::Array(items) => items.iter().collect(),
                one => vec![one],
            };
            let mut seen = BTreeSet::new();
            for value in values.into_iter().filter(|value| seen.insert(value.to_string())) {
                let group = groups.entry(value.to_string()).or_insert_with(|| (value.clone(), 0, [0; 4]));
                group.1 += 1;
                let standing = row.get("standing").and_then(Json::as_str);
                if let Some(at) = STANDINGS.iter().position(|(_, word)| standing == Some(word)) {
                    group.2[at] += 1;
                }
            }
        }
        let mut counted: Vec<(Json, u64, [u64; 4])> = groups.into_values().collect();
        counted.sort_by(|a, b| b.1.cmp(&a.1).then_with(|| compare_cells(&a.0, &b.0)));
        let total = self.rows.len() as u64;
        let rows: Vec<Row> = counted
            .into_iter()
            .map(|(value, count, standings)| {
                let mut out = row([(column, value), ("count", json!(count)), ("share", json!(percent(count, total)))]);
                if of_devices {
                    for ((name, _), count) in STANDINGS.iter().zip(standings) {
                        out.or_insert(name, || json!(count));
                    }
                }
                out
            })
            .collect();
        let columns = rows.first().map(|row| row.names().map(str::to_owned).collect()).unwrap_or_default();
        Ok(Self { columns, rows, ..self })
    }
}

/// A part of a whole in hundredths, rounded.
fn percent(part: u64, whole: u64) -> u64 {
    (part * 100 + whole / 2).checked_div(whole).unwrap_or(0)
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
    let help =
        fencepost_core::did_you_mean(column, known.iter().copied(), || format!("columns are {}", known.join(", ")));
    EngineError::refused(format!("there is no column `{column}`"), help)
}

fn row<const N: usize>(cells: [(&str, Json); N]) -> Row {
    let names = cells.iter().map(|(name, _)| (*name).to_owned()).collect();
    Row { names: Arc::new(names), cells: cells.into_iter().map(|(_, value)| value).collect() }
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
            let text = row.to_json().to_string();
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
