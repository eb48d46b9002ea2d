//! JSON Schemas (2020-12) of workspace files, made from the shapes that their reader goes by. TOML's dates are texts in them.

use serde_json::{Map, Value as Json, json};

use super::WorkspaceFile;
use super::shape::{KeyKind, TableKey, TableShape};

pub(super) fn of_file(file: WorkspaceFile) -> Json {
    let mut schema = Map::new();
    schema.insert("$schema".to_owned(), json!("https://json-schema.org/draft/2020-12/schema"));
    schema.insert("$id".to_owned(), json!(format!("urn:fencepost:schema:1:{}", file.name())));
    schema.insert("title".to_owned(), json!(file.path()));
    schema.insert("description".to_owned(), json!(file.about()));
    schema.extend(of_table(file.shape()));
    Json::Object(schema)
}

fn of_table(shape: &'static TableShape) -> Map<String, Json> {
    let properties: Map<String, Json> =
        shape.keys().map(|key| (key.name.to_owned(), Json::Object(of_key(key)))).collect();
    let mut schema = Map::new();
    schema.insert("type".to_owned(), json!("object"));
    schema.insert("properties".to_owned(), Json::Object(properties));
    let others = shape.others.map_or(json!(false), |kind| Json::Object(of_kind(kind)));
    schema.insert("additionalProperties".to_owned(), others);
    let (one, several): (Vec<_>, Vec<_>) = shape.needs.iter().partition(|any| any.len() == 1);
    if !one.is_empty() {
        schema.insert("required".to_owned(), json!(one.into_iter().copied().flatten().collect::<Vec<_>>()));
    }
    if !several.is_empty() {
        let any = |keys: &&[&str]| json!({ "anyOf": keys.iter().map(|key| json!({ "required": [key] })).collect::<Vec<_>>() });
        schema.insert("allOf".to_owned(), several.into_iter().map(any).collect());
    }
    if !shape.with.is_empty() {
        let with: Map<String, Json> =
            shape.with.iter().map(|(one, other)| ((*one).to_owned(), json!([other]))).collect();
        schema.insert("dependentRequired".to_owned(), Json::Object(with));
    }
    schema
}

fn of_key(key: &TableKey) -> Map<String, Json> {
    let mut schema = Map::new();
    schema.insert("description".to_owned(), json!(key.about));
    schema.extend(of_kind(key.kind));
    schema
}

fn of_kind(kind: KeyKind) -> Map<String, Json> {
    let table = |shape| Json::Object(of_table(shape));
    let schema = match kind {
        KeyKind::Text => json!({ "type": "string" }),
        KeyKind::Condition => json!({ "type": "string", "minLength": 1 }),
        KeyKind::Id => json!({ "type": "string", "maxLength": 100, "pattern": "^[a-z0-9_.]+(-[a-z0-9_.]+)*$" }),
        KeyKind::Names => one_or_more(json!({ "type": "string" })),
        KeyKind::NamesAndTables(shape) => one_or_more(json!({ "anyOf": [{ "type": "string" }, table(shape)] })),
        KeyKind::Boolean => json!({ "type": "boolean" }),
        KeyKind::Integer => json!({ "type": "integer" }),
        KeyKind::Scalar => json!({ "type": ["string", "number", "boolean"] }),
        KeyKind::Period => json!({ "anyOf": [{ "const": 0 }, { "type": "string", "pattern": PERIOD }] }),
        KeyKind::Moment => json!({ "type": "string", "minLength": 10 }),
        KeyKind::Days => json!({ "type": "array", "items": { "type": "string", "minLength": 10 } }),
        KeyKind::Word(words) => json!({ "enum": words() }),
        KeyKind::Table(shape) => table(shape),
        KeyKind::Tables(shape) => json!({ "type": "array", "items": table(shape) }),
        KeyKind::Or(short, shape) => json!({ "anyOf": [of_kind(*short), table(shape)] }),
        KeyKind::Facts => json!({ "type": "object" }),
    };
    match schema {
        Json::Object(schema) => schema,
        _ => Map::new(),
    }
}

fn one_or_more(item: Json) -> Json {
    json!({ "anyOf": [item, { "type": "array", "items": item }] })
}

/// What [`fencepost_core::Period`] reads.
const PERIOD: &str = "^ *(0|([0-9]+ *(w|weeks?|d|days?|h|hours?|min|minutes?|s|seconds?) *)+)$";

#[cfg(test)]
mod tests {
    use fencepost_core::{RuleSet, Severity};
    use toml::{Table, Value};

    use super::*;
    use crate::workspace::{FileText, load_workspace};

    const WORKSPACE: [(WorkspaceFile, &str); 13] = [
        (
            WorkspaceFile::Config,
            r##"name = "Ferries"
time_zone = "Europe/Oslo"
clock = "stepped"
holder = "user"
fence_by = "site"
company_device = 'platform = "linux"'
uncovered = "unproven"
relapse = 0
silence = { grace = "3d", response = "ladder" }
history = { keep = "1w 2 days" }
report = { name = "Bredesound", logo = "⚓", accent = "#0b5e8a", language = "nb" }
[responses]
default = "ladder"
by_severity = { low = "ladder", critical = "ladder" }
mail = "mail"
commands = "station"
fallback = "desk"
brake = "5%"
approval_for = "12h"
quiet = { from = "20:00", until = "06:30", days_off = true }
[[channel]]
id = "mail"
kind = "smtp"
server = "mail.example:587"
tls = "starttls"
from = "desk@company.example"
user = "env:USER"
password = "file:secret"
[[channel]]
id = "tickets"
kind = "webhook"
url = "https://desk.example/tickets"
token = "env:TOKEN"
[[channel]]
id = "station"
kind = "commands"
url = "http://127.0.0.1:8090/commands"
[[channel]]
id = "files"
kind = "folder"
path = "outbox"
longest_text = 160
[[recipient]]
id = "desk"
channel = "tickets"
[[recipient]]
id = "team"
mail = "team@company.example"
[[source]]
id = "handhelds"
files = "handhelds-*.csv"
format = "csv"
delimiter = ";"
device = "Asset"
collected = "Seen"
time_zone = "UTC"
time_format = "%d.%m.%Y %H:%M"
under = "handheld"
speaks_for = 'platform = "android"'
expected_every = "24h"
trust = -3
fresh_for = "1 week"
complete = true
fields = { Model = "model", Free = { fact = "disk.free", unit = "GB" }, Own = { leave_out = true }, Lock = { fact = "lock", true_when = ["on"], false_when = "off" } }
[[source]]
id = "crew"
person = "badge"
format = "csv"
[[source]]
id = "folders"
format = "ini"
device_from = "folder-name"
[[source]]
id = "programs"
format = "csv"
encoding = "windows-1252"
skip_rows = 3
until_row = "Total"
device = { join = ["Site", "Nr"], with = "-", case = "lower", before = "." }
collected_from = "file name %Y-%m-%d"
missing_when = "-"
empty = "null"
decimal = ","
thousands = "."
rows = { list = "software", key = "Name" }
fields = { Version = { fact = "software[].version", also = ["Ver."] }, Site = { fact = "site", values = { ness = "Ness" }, case = "upper", empty = "missing", split = ";" } }
[[source]]
id = "properties"
format = "xlsx"
sheet = "All"
device = { field = "Host", before = "." }
rows = { fact = "Property", value = "Value" }
[[source]]
id = "disks"
format = "json"
records = "hosts.*"
device = "@key"
fields = { "disks[].enc" = "disks[].encrypted", "disks[].n" = { leave_out = true } }
"##,
        ),
        (
            WorkspaceFile::Facts,
            r#"[facts]
"disk.free" = { type = "number", about = "What is free.", unit = "GB", volatile = true, fresh_for = "3d" }
"key.until" = { type = "date", ends = "key" }
"software" = { type = "list", key = "name" }
"owner" = { secret = true, company_only = true, labels = { x = "Somebody" } }
"#,
        ),
        (
            WorkspaceFile::Groups,
            r#"[[group]]
id = "shore"
title = "On shore"
of = "devices"
members = ["a", "b"]
where = 'site = "quay"'
held_by = "crew"
groups = ["hulls"]
except = "c"
[[group]]
id = "hulls"
members = ["d"]
[[group]]
id = "crew"
of = "people"
units = ["deck"]
"#,
        ),
        (
            WorkspaceFile::Access,
            r#"[[service]]
id = "tickets"
title = "Tickets"
default = "deny"
usual = [{ client = "app" }]
[[access]]
id = "tickets-for-crew"
services = ["tickets"]
stage = "trial"
people = ["crew"]
except = ["someone"]
when = 'platform = "linux"'
unless = 'lock = true'
needs = 'standing = "compliant"'
otherwise = { limits = ["no download"], step_up = true }
tell = "Come by."
[[access]]
id = "tickets-for-all"
services = "tickets"
needs = 'standing = "compliant"'
otherwise = "deny"
"#,
        ),
        (
            WorkspaceFile::Corrections,
            r#"[[correction]]
device = "a"
fact = "site"
value = "quay"
because = "It was moved."
by = "Mate"
until = 2027-04-01
"#,
        ),
        (
            WorkspaceFile::Devices,
            r#"[[device]]
id = "z"
retired = 2027-03-01
because = "Sunk."
[[device]]
id = "y"
renamed_to = "x"
from = "2027-03-01"
because = "Painted."
"#,
        ),
        (
            WorkspaceFile::Responses,
            r#"[[response]]
id = "ladder"
steps = [
  { id = "word", at = "opened", do = "notify", to = ["holder", "lead", "team", "a@b.example"], template = "first-word" },
  { id = "ticket", at = "due - 1d", do = "raise", to = "desk" },
  { id = "lock", at = "due + 2 working days", do = "command", command = "lock", on = "account", approve = true },
  { id = "unlock", at = "closed", do = "command", command = "unlock", undo = "lock" },
]
[command.lock]
allowed_when = 'platform = "linux"'
"#,
        ),
        (
            WorkspaceFile::Bundles,
            r#"[[bundle]]
id = "limits"
title = "Limits"
where = 'standing = "compliant"'
members = ["d-1"]
held_by = "crew"
groups = "shore"
except = ["d-2"]
to = "files"
"#,
        ),
        (
            WorkspaceFile::Drift,
            r#"[[drift]]
id = "servers"
title = "Servers"
peers = 'platform = "linux"'
reference = "self@2027-02-01"
facts = ["sshd.*", "software"]
except = "agent.*"
tolerance = { "disk.free_bytes" = "10%", load = 0.5 }
ignore = ["case", "space"]
[[drift]]
id = "scanners"
groups = "shore"
[[accepted]]
drift = "servers"
devices = ["d-1"]
groups = ["shore"]
fact = "queue.workers"
value = 4
because = "Half the memory."
until = 2027-06-01
[[accepted]]
drift = "ship"
devices = "d-1"
fact = "software[guardd]"
missing = true
because = "No room."
until = 2027-06-01
[[assembly]]
id = "ship"
title = "Ships"
whole = "site"
role = "role"
where = 'site != "Holm Quay"'
facts = "sshd"
"#,
        ),
        (
            WorkspaceFile::Rules,
            r#"[[rule]]
id = "locked"
title = "Locked"
covers = 'platform = "linux"'
groups = ["shore"]
except = ["hulls", { group = "hulls", because = "At sea.", until = 2027-04-01T12:00:00Z }, { device = "a" }]
require = 'lock = true'
fix_when = [{ when = 'lock = false', say = "Lock it.", awaiting = true }]
was = ["lock"]
topic = "lock"
severity = "high"
stage = "enforced"
enforced_from = 2027-04-01
grace = "3d"
because = "Hands off."
fix = "Lock it."
controls = ["Order 12"]
[[rule]]
id = "room"
groups = "every-device"
checks = { free = 'disk.free > 3' }
"#,
        ),
        (
            WorkspaceFile::Baselines,
            r#"id = "hull"
title = "Hulls"
extends = "any"
groups = "hulls"
topic = "build"
grace = 0
[expect]
"disk.size" = 3
"site" = { value = "sea", severity = "low" }
"sshd.port" = { test = "> 3" }
"lamp" = { drop = true, because = "No lamps." }
[apps]
from = "software.name"
must = ["guard", { name = "log", version = ">= 2", fix = "Install it." }]
never = "seed*"
may = { name = "note" }
others = "note"
stage = "trial"
[[rule]]
id = "quiet"
groups = ["hulls"]
require = 'noise = 0'
"#,
        ),
        (
            WorkspaceFile::Controls,
            "[[control]]\nclause = \"Order 12\"\ntitle = \"Locks\"\nelsewhere = \"The harbour watch.\"\n",
        ),
        (
            WorkspaceFile::Examples,
            r#"[[example]]
title = "Open"
rule = "locked"
device = "a"
as_of = 2027-03-01
collected_at = 2027-02-01
facts = { platform = "linux", lock = false, "disk.free" = 3.5, software = [{ name = "x", seen = 2027-01-01 }] }
expect = "fail"
"#,
        ),
    ];

    /// The baseline that the one above starts from.
    const ANY: &str = "id = \"any\"\n[expect]\nlamp = true\n";

    fn json(value: &Value) -> Json {
        match value {
            Value::Datetime(moment) => json!(moment.to_string()),
            Value::Array(items) => items.iter().map(json).collect(),
            Value::Table(table) => Json::Object(table.iter().map(|(key, value)| (key.clone(), json(value))).collect()),
            Value::String(text) => json!(text),
            Value::Integer(number) => json!(number),
            Value::Float(number) => json!(number),
            Value::Boolean(truth) => json!(truth),
        }
    }

    /// Returns the codes of the errors in a workspace, one file of which was written otherwise.
    fn errors(file: WorkspaceFile, text: &str) -> Vec<&'static str> {
        let mut files: Vec<FileText> = WORKSPACE
            .iter()
            .map(|(kind, own)| FileText {
                path: kind.path().replace('*', "one"),
                text: (if *kind == file { text } else { own }).to_owned(),
            })
            .collect();
        files.insert(10, FileText { path: "baselines/two.toml".to_owned(), text: ANY.to_owned() });
        let workspace = load_workspace(files);
        let (_, meaning) = RuleSet::compile(&workspace.rules, &workspace.dictionary, &[]);
        let all = workspace.mistakes.iter().chain(&meaning);
        all.filter(|mistake| mistake.severity == Severity::Error).map(|mistake| mistake.code).collect()
    }

    /// Returns the ways to every value in a tree.
    fn ways(value: &Value, here: &[String], into: &mut Vec<Vec<String>>) {
        let inner: Vec<(String, &Value)> = match value {
            Value::Array(items) => items.iter().enumerate().map(|(at, item)| (at.to_string(), item)).collect(),
            Value::Table(table) => table.iter().map(|(key, value)| (key.clone(), value)).collect(),
            _ => Vec::new(),
        };
        for (step, value) in inner {
            let way = [here, &[step]].concat();
            // What is said of made-up devices is their own.
            if way.last().is_some_and(|key| key == "facts") && value.get("platform").is_some() {
                continue;
            }
            into.push(way.clone());
            ways(value, &way, into);
        }
    }

    /// Changes what stands at the end of a way, in the table or list that holds it.
    fn change(root: &mut Value, way: &[String], by: impl FnOnce(&mut Value, &str)) {
        let (last, above) = way.split_last().expect("a way has steps");
        let holder = above.iter().fold(root, |value, step| match value {
            Value::Array(items) => &mut items[step.parse::<usize>().expect("a position")],
            value => value.get_mut(step.as_str()).expect("a key"),
        });
        by(holder, last);
    }

    #[test]
    fn a_schema_refuses_only_what_is_refused_and_every_mistake_of_form() {
        let others = [
            Value::String("Oh dear".to_owned()),
            Value::Integer(7),
            Value::Boolean(true),
            Value::Array(vec![Value::String("x".to_owned())]),
            Value::Array(vec![Value::Integer(3)]),
            Value::Table(Table::new()),
            Value::Table(Table::from_iter([("oddly".to_owned(), Value::Integer(1))])),
        ];
        let of_form = ["unknown-key", "wrong-type", "bad-word", "bad-period", "bad-id", "no-id", "incomplete"];
        for (file, text) in WORKSPACE {
            let schema = file.schema();
            let schema = jsonschema::draft202012::new(&schema).expect("a schema");
            let root: Value = Value::Table(text.parse().expect("TOML"));
            assert_eq!(errors(file, text), Vec::<&str>::new(), "{file:?}");
            assert!(schema.is_valid(&json(&root)), "{file:?} {:?}", schema.iter_errors(&json(&root)).next());
            let mut all = Vec::new();
            ways(&root, &[], &mut all);
            assert!(all.len() > 2);
            let mut wrong = Vec::new();
            let mut check = |changed: &Value, what: &str| {
                let text = toml::to_string(changed).expect("TOML");
                let (refused, codes) = (!schema.is_valid(&json(changed)), errors(file, &text));
                let by_form = codes.iter().any(|code| of_form.contains(code));
                if !refused && by_form {
                    wrong.push(format!("the schema takes what is refused as {codes:?}: {what}\n{text}"));
                }
                if refused && codes.is_empty() {
                    wrong.push(format!("the schema refuses what is taken: {what}\n{text}"));
                }
            };
            for way in &all {
                let mut without = root.clone();
                change(&mut without, way, |holder, step| match holder {
                    Value::Array(items) => _ = items.remove(step.parse().expect("a position")),
                    value => _ = value.as_table_mut().expect("a table").remove(step),
                });
                check(&without, &format!("without {}", way.join(".")));
                for other in &others {
                    let mut changed = root.clone();
                    change(&mut changed, way, |holder, step| match holder {
                        Value::Array(items) => items[step.parse::<usize>().expect("a position")] = other.clone(),
                        value => value[step] = other.clone(),
                    });
                    check(&changed, &format!("{} as {other}", way.join(".")));
                }
            }
            assert!(wrong.is_empty(), "{}", wrong.join("\n\n"));
        }
    }
}
