//! Output that is written as it is made is the document that it would be if it were made whole.

use serde_json::{Value as Json, json};

use crate::env::Env;

const AT: &str = "2027-03-01T06:00:00Z";

#[test]
fn the_json_of_a_stateless_run_is_one_indented_document_whatever_the_number_of_devices() {
    let env = Env::new();
    env.rules(&[("fine", "0", "ok")]);
    for count in [0, 1, 3, 2_500] {
        let text: String = (0..count)
            .map(|n| format!("{}\n", json!({"device": format!("d{n}\u{202e}"), "collected_at": AT, "ok": n % 2 == 0})))
            .collect();
        env.write("s.jsonl", text);
        let out = env.ok(&["assess", "--state", "s.jsonl", "--format", "json", "--evidence", "--as-of", AT]);
        let read: Json = serde_json::from_str(&out).unwrap();
        assert_eq!(read["devices"].as_array().unwrap().len(), count);
        let whole = serde_json::to_string_pretty(&read).unwrap().replace('\u{202e}', "\\u202e");
        assert!(out == format!("{whole}\n"), "{count}");
    }
}
