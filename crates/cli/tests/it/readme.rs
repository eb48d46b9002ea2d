//! What the README shows is what the program prints.

use crate::env::Env;

/// Splits a command line as a shell does, as far as the README needs it.
fn words(line: &str) -> Vec<String> {
    let mut words = vec![String::new()];
    let mut quoted = false;
    for c in line.chars() {
        match c {
            '\'' => quoted = !quoted,
            ' ' if !quoted => words.push(String::new()),
            c => words.last_mut().expect("there is a word").push(c),
        }
    }
    words
}

#[test]
fn every_output_in_the_readme_is_true() {
    let env = Env::new();
    env.ok(&["demo", "ferry"]);
    let readme = std::fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../../README.md")).expect("the README");
    let mut checked = 0;
    for block in readme.split("```console\n").skip(1) {
        let block = block.split("```").next().unwrap_or_default();
        let Some((line, shown)) = block.strip_prefix("$ fencepost ").and_then(|block| block.split_once('\n')) else {
            continue;
        };
        let words = words(line);
        let mut args = vec!["--workspace", "ferry"];
        args.extend(words.iter().map(String::as_str));
        let output = env.command(&args).env("COLUMNS", "110").output().expect("the binary runs");
        assert_eq!(String::from_utf8_lossy(&output.stdout), shown, "fencepost {line}");
        checked += 1;
    }
    assert!(checked >= 5, "only {checked} outputs were found");
}
