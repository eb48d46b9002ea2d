//! A workspace of a few devices whose ledger lies in memory.

use std::cell::OnceCell;
use std::path::Path;

use fencepost_engine::{
    AssessOptions, Assessed, EngineError, FindingLine, ImportOptions, Imported, Importer, Kind, LinePhase, ListQuery,
    Moment, Project, Reading, Spool, assess,
};
use fencepost_formats::FileText;
use fencepost_store::Ledger;
use jiff::Timestamp;
use serde_json::{Value as Json, json};
use tempfile::TempDir;

pub const CONFIG: &str = r#"
time_zone = "UTC"
clock = "stepped"
holder = "person"
relapse = "2d"

[silence]
grace = "2d"

[[source]]
id = "agent"
files = ["agent-*.jsonl"]
trust = 10
fresh_for = "3d"

[[source]]
id = "list"
files = ["list-*.csv"]
format = "csv"
device = "Id"
collected = "Seen"
complete = true
[source.fields]
"Site" = "site"

[[source]]
id = "crew"
files = ["crew-*.csv"]
format = "csv"
person = "Id"
complete = true
[source.fields]
"Name" = "name"
"Unit" = "unit"
"Lead" = "lead"
"#;

pub const RULES: &str = r#"
[[rule]]
id = "encrypted"
groups = ["every-device"]
require = "disk.encrypted"
grace = "1d"
severity = "high"

[[rule]]
id = "patched"
groups = ["every-device"]
require = 'os.version >= version("5")'
grace = "0"
"#;

pub const ACCESS: &str = r#"
[[service]]
id = "mail"
title = "Mail"
default = "deny"
usual = [{ client = "app" }]

[[access]]
id = "in-order"
services = ["mail"]
needs = 'standing in ("compliant", "on-notice")'
"#;

pub fn moment(text: &str) -> Timestamp {
    text.parse().expect("a moment")
}

pub fn day(day: u8) -> String {
    format!("2027-03-{day:02}T06:00:00Z")
}

/// A workspace whose ledger lies in memory.
pub struct Bench {
    pub folder: TempDir,
    files: Vec<(String, String)>,
    pub ledger: Ledger,
}

impl Bench {
    pub fn new() -> Self {
        let file = |name: &str, text: &str| (name.to_owned(), text.to_owned());
        let files = vec![
            file("fencepost.toml", CONFIG),
            file("facts.toml", "[facts]\n\"os.version\" = { type = \"version\" }\n"),
            file("access.toml", ACCESS),
            file("rules/test.toml", RULES),
        ];
        let folder = tempfile::tempdir().expect("a folder");
        std::fs::create_dir_all(folder.path().join(".fencepost")).expect("a folder");
        Self { folder, files, ledger: Ledger::in_memory().expect("a ledger") }
    }

    pub fn with(&self, name: &str, text: &str) -> Project {
        let others = self.files.iter().filter(|(path, _)| path != name);
        let mut files: Vec<FileText> =
            others.map(|(path, text)| FileText { path: path.clone(), text: text.clone() }).collect();
        files.push(FileText { path: name.to_owned(), text: text.to_owned() });
        Project::from_files(Path::new(self.folder.path()), files).unwrap_or_else(|error| panic!("{error:?}"))
    }

    pub fn edit(&mut self, name: &str, text: &str) {
        self.files.retain(|(path, _)| path != name);
        self.files.push((name.to_owned(), text.to_owned()));
    }

    pub fn project(&self) -> Project {
        let (name, text) = self.files.last().expect("there are files");
        self.with(name, text)
    }

    pub fn moment(at: &str) -> Moment {
        Moment { as_of: moment(at), wall: moment(at), user: "tester".to_owned() }
    }

    pub fn import(&mut self, source: &str, text: &str, at: &str) -> Result<Imported, EngineError> {
        let options = ImportOptions { source: Some(source.to_owned()), ..ImportOptions::default() };
        Importer { project: &self.project(), options: &options, moment: &Self::moment(at) }
            .stream(&mut self.ledger, text.as_bytes())
    }

    pub fn assess(&mut self, at: &str) -> Assessed {
        self.try_assess(at).unwrap_or_else(|error| panic!("{at}: {error}"))
    }

    pub fn try_assess(&mut self, at: &str) -> Result<Assessed, EngineError> {
        assess(&self.project(), &mut self.ledger, &Self::moment(at), AssessOptions::default(), &mut |_, _| {})
    }

    /// Imports what the agent says of devices, and assesses.
    pub fn morning(&mut self, at: &str, devices: &[(&str, bool, &str)]) -> Assessed {
        let lines: String = devices.iter().map(|(id, encrypted, version)| agent(id, at, *encrypted, version)).collect();
        self.import("agent", &lines, at).expect("it is imported");
        self.assess(at)
    }

    pub fn read<T>(&self, at: &str, ask: impl FnOnce(&Reading<'_>) -> T) -> T {
        let (project, earlier) = (self.project(), OnceCell::new());
        ask(&Reading::open(&project, &earlier, &self.ledger, moment(at), false).expect("it can be read"))
    }

    /// Hands the reading on, for what takes it whole.
    pub fn with_reading(&self, at: &str, ask: impl FnOnce(Reading<'_>)) {
        let (project, earlier) = (self.project(), OnceCell::new());
        ask(Reading::open(&project, &earlier, &self.ledger, moment(at), false).expect("it can be read"));
    }

    /// Reads the past: what was known then.
    pub fn read_past<T>(&self, at: &str, ask: impl FnOnce(&Reading<'_>) -> T) -> T {
        let (project, earlier) = (self.project(), OnceCell::new());
        ask(&Reading::open(&project, &earlier, &self.ledger, moment(at), true).expect("it can be read"))
    }

    pub fn list(&self, at: &str, query: ListQuery<'_>) -> (Vec<String>, Vec<Vec<Json>>) {
        self.read(at, |reading| {
            let listing = reading.list(query).expect("it can be read").expect("the condition is right");
            (listing.columns.clone(), listing.rows.iter().map(|row| row.expect("a row")).collect())
        })
    }
}

/// Everything of a kind, in its usual columns and order.
pub fn all(kind: Kind) -> ListQuery<'static> {
    ListQuery::of(kind)
}

/// What the agent says of a device, as a line.
pub fn agent(id: &str, at: &str, encrypted: bool, version: &str) -> String {
    let said = json!({
        "device": id, "collected_at": at, "disk": { "encrypted": encrypted }, "os": { "version": version },
        "person": format!("p-{id}"), "tags": ["all", id],
    });
    format!("{said}\n")
}

/// A complete list of devices, made on a day.
pub fn listed(number: u8, ids: &[impl AsRef<str>]) -> String {
    let rows: String = ids.iter().map(|id| format!("{},x,{}\n", id.as_ref(), day(number))).collect();
    format!("Id,Site,Seen\n{rows}")
}

pub fn lines(list: &Spool<FindingLine>) -> Vec<(String, String, LinePhase)> {
    list.iter().map(|line| line.expect("a line")).map(|line| (line.device, line.rule, line.phase)).collect()
}
