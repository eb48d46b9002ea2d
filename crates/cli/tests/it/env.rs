//! A workspace in a temporary folder, and the binary run in it with a clean environment.

use std::fs;
use std::io::Write as _;
use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};
use std::sync::LazyLock;

use serde_json::Value as Json;
use tempfile::TempDir;

/// A workspace whose ledger is told the time.
pub const STEPPED: &str = "name = \"Test\"\ntime_zone = \"Europe/Oslo\"\nclock = \"stepped\"\nholder = \"person\"\n";

pub struct Env {
    folder: TempDir,
}

/// What a run of the binary left behind.
pub struct Ran {
    pub code: i32,
    pub out: String,
    pub err: String,
}

impl Env {
    /// An empty workspace with a stepped clock.
    pub fn new() -> Self {
        let env = Self { folder: tempfile::tempdir().expect("a temporary folder") };
        env.write("fencepost.toml", STEPPED);
        env
    }

    pub fn root(&self) -> &Path {
        self.folder.path()
    }

    pub fn path(&self, name: &str) -> PathBuf {
        self.root().join(name)
    }

    pub fn write(&self, name: &str, text: impl AsRef<[u8]>) {
        let path = self.path(name);
        fs::create_dir_all(path.parent().expect("it lies in the folder")).expect("a folder");
        fs::write(path, text).expect("a file");
    }

    /// Rules for every device, each given as id, grace and requirement.
    pub fn rules(&self, rules: &[(&str, &str, &str)]) {
        let text: String = rules
            .iter()
            .map(|(id, grace, require)| {
                format!("[[rule]]\nid = \"{id}\"\ngroups = [\"every-device\"]\ngrace = \"{grace}\"\nrequire = '{require}'\nfix = \"Mend {id}.\"\n\n")
            })
            .collect();
        self.write("rules/test.toml", text);
    }

    pub fn command(&self, args: &[&str]) -> Command {
        let mut command = Command::new(env!("CARGO_BIN_EXE_fencepost"));
        command
            .args(args)
            .current_dir(self.root())
            .env_clear()
            .env("LC_ALL", "C.UTF-8")
            .env("USER", "tester")
            .env("COLUMNS", "120");
        command
    }

    pub fn run(&self, args: &[&str]) -> Ran {
        Ran::of(self.command(args).stdin(Stdio::null()).output().expect("the binary runs"))
    }

    /// Runs with something on standard input.
    pub fn pipe(&self, args: &[&str], input: &[u8]) -> Ran {
        let mut child = self
            .command(args)
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .expect("the binary runs");
        let mut stdin = child.stdin.take().expect("a pipe");
        std::thread::scope(|scope| {
            scope.spawn(move || {
                // A child that refuses its input at once closes the pipe.
                let _ = stdin.write_all(input);
            });
            Ran::of(child.wait_with_output().expect("the binary ends"))
        })
    }

    /// Runs and returns the command line, what it printed, what it said beside it, and its exit code unless that is 0.
    pub fn shows(&self, args: &[&str]) -> String {
        self.shows_in(120, args)
    }

    /// The same on a terminal of so many columns.
    pub fn shows_in(&self, columns: u32, args: &[&str]) -> String {
        let mut command = self.command(args);
        command.env("COLUMNS", columns.to_string()).stdin(Stdio::null());
        let ran = Ran::of(command.output().expect("the binary runs"));
        let root = self.root().to_string_lossy();
        let words: Vec<String> = args.iter().map(|word| quoted(word)).collect();
        let mut shown = format!("$ fencepost {}\n{}", words.join(" "), ran.out.replace(&*root, "FOLDER"));
        if !ran.err.is_empty() {
            let gap = if shown.ends_with('\n') { "" } else { "\n" };
            shown.push_str(&format!("{gap}------- standard error -------\n{}", ran.err.replace(&*root, "FOLDER")));
        }
        if ran.code != 0 {
            let gap = if shown.ends_with('\n') { "" } else { "\n" };
            shown.push_str(&format!("{gap}[exit {}]\n", ran.code));
        }
        shown.trim_end_matches('\n').to_owned()
    }

    /// Runs and expects success; returns what it printed.
    #[track_caller]
    pub fn ok(&self, args: &[&str]) -> String {
        let ran = self.run(args);
        assert_eq!(ran.code, 0, "{args:?}\n{}\n{}", ran.out, ran.err);
        ran.out
    }

    #[track_caller]
    pub fn json(&self, args: &[&str]) -> Json {
        let mut all = args.to_vec();
        all.extend(["--format", "json"]);
        serde_json::from_str(&self.ok(&all)).expect("JSON")
    }

    /// Runs and expects an error with this code that says each of these.
    #[track_caller]
    pub fn fails(&self, args: &[&str], code: i32, says: &[&str]) {
        let ran = self.run(args);
        assert_eq!(ran.code, code, "{args:?}\n{}\n{}", ran.out, ran.err);
        for text in says {
            assert!(ran.err.contains(text), "{args:?} does not say `{text}`:\n{}", ran.err);
        }
        assert!(!ran.err.contains("panicked"), "{}", ran.err);
    }

    /// Imports documents as of a moment and assesses.
    #[track_caller]
    pub fn morning(&self, at: &str, documents: &[Json]) -> Json {
        let name = format!("state-{}.jsonl", at.replace(':', ""));
        self.write(&name, documents.iter().map(|document| format!("{document}\n")).collect::<String>());
        self.ok(&["import", &name, "--as-of", at]);
        self.json(&["assess", "--as-of", at])
    }
}

impl Ran {
    fn of(output: Output) -> Self {
        Self {
            code: output.status.code().unwrap_or(-1),
            out: String::from_utf8(output.stdout).expect("UTF-8"),
            err: String::from_utf8(output.stderr).expect("UTF-8"),
        }
    }
}

/// A word of a command line as a shell takes it.
fn quoted(word: &str) -> String {
    let is_plain = |byte: u8| byte.is_ascii_alphanumeric() || b"@%+=:,./-_".contains(&byte);
    match !word.is_empty() && word.bytes().all(is_plain) {
        true => word.to_owned(),
        false => format!("'{}'", word.replace('\'', "'\"'\"'")),
    }
}

/// Runs a command in the demo's workspace, which is made once for all tests that only read it.
pub fn shown_by_the_demo(args: &[&str]) -> String {
    shown_by_the_demo_in(120, args)
}

/// The same on a terminal of so many columns.
pub fn shown_by_the_demo_in(columns: u32, args: &[&str]) -> String {
    static DEMO: LazyLock<Env> = LazyLock::new(|| {
        let env = Env::new();
        env.ok(&["demo", "ferry"]);
        env
    });
    let words: Vec<&str> = ["--workspace", "ferry"].iter().chain(args).copied().collect();
    DEMO.shows_in(columns, &words).replacen("fencepost --workspace ferry ", "fencepost ", 1)
}
