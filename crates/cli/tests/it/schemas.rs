//! The JSON Schemas of workspace files: what ships is what the program prints, and takes the files that the program takes.

use std::fs;
use std::path::Path;

use serde_json::{Value as Json, json};
use toml::Value;

use crate::env::Env;

const NAMES: [&str; 15] = [
    "drift",
    "fencepost",
    "facts",
    "groups",
    "access",
    "terms",
    "corrections",
    "devices",
    "waivers",
    "responses",
    "bundles",
    "rules",
    "baselines",
    "controls",
    "examples",
];

fn json_of(value: &Value) -> Json {
    match value {
        Value::Datetime(moment) => json!(moment.to_string()),
        Value::Array(items) => items.iter().map(json_of).collect(),
        Value::Table(table) => Json::Object(table.iter().map(|(key, value)| (key.clone(), json_of(value))).collect()),
        Value::String(text) => json!(text),
        Value::Integer(number) => json!(number),
        Value::Float(number) => json!(number),
        Value::Boolean(truth) => json!(truth),
    }
}

/// Holds every workspace file in a folder to its schema, and returns how many there are.
fn check(env: &Env, folder: &Path) -> usize {
    let mut seen = 0;
    for name in NAMES {
        let schema: Json = serde_json::from_str(&env.ok(&["schema", name])).expect("JSON");
        let schema = jsonschema::draft202012::new(&schema).expect("a schema");
        let one = folder.join(format!("{name}.toml"));
        let several = fs::read_dir(folder.join(name)).into_iter().flatten().map(|entry| entry.expect("a file").path());
        for path in
            several.chain(one.exists().then_some(one)).filter(|path| path.extension().is_some_and(|end| end == "toml"))
        {
            let text = fs::read_to_string(&path).expect("a file");
            let json = json_of(&Value::Table(text.parse().expect("TOML")));
            assert!(schema.is_valid(&json), "{}: {:?}", path.display(), schema.iter_errors(&json).next());
            seen += 1;
        }
    }
    seen
}

#[test]
fn shipped_schemas_are_those_that_are_printed_and_written() {
    let env = Env::new();
    let listed = env.ok(&["schema"]);
    env.ok(&["schema", "--into", "schemas"]);
    let shipped = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/schemas");
    assert_eq!(fs::read_dir(&shipped).expect("a folder").count(), NAMES.len());
    for name in NAMES {
        assert!(listed.contains(&format!("{name} ")), "{name}");
        let file = format!("{name}.json");
        let written = fs::read_to_string(env.path("schemas").join(&file)).expect("a file");
        assert_eq!(env.ok(&["schema", name]), written);
        assert_eq!(fs::read_to_string(shipped.join(&file)).expect("a file"), written, "docs/schemas/{file}");
    }
}

#[test]
fn schemas_take_the_starter_and_the_demo() {
    let env = Env::new();
    env.ok(&["init", "fleet", "--with", "laptops,phones,servers"]);
    assert!(check(&env, &env.path("fleet")) >= 8);
    let demo = Path::new(env!("CARGO_MANIFEST_DIR")).join("../standin/demo");
    assert!(check(&env, &demo) >= 8);
}
