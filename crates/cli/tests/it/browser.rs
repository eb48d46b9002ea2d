//! Report pages in a real browser, where there is one: nothing is asked for, nothing complains, no dialog opens, and the numbers are those of
//! the JSON; with the page's script and without.

use std::io::{BufRead as _, BufReader, Write as _};
use std::path::PathBuf;
use std::process::{Child, ChildStdin, ChildStdout, Command, Stdio};

use serde_json::{Value as Json, json};

use crate::env::Env;
use crate::report::{KINDS, hostile_fleet};

/// Returns Chromium: what the variable names, or what is found.
fn chromium() -> Option<PathBuf> {
    if let Some(named) = std::env::var_os("FENCEPOST_CHROMIUM") {
        return Some(PathBuf::from(named));
    }
    let folders: Vec<PathBuf> = std::env::split_paths(&std::env::var_os("PATH")?).collect();
    let names = ["chromium", "chromium-browser", "google-chrome"];
    names.iter().flat_map(|name| folders.iter().map(move |folder| folder.join(name))).find(|path| path.is_file())
}

/// A browser without a window, spoken to by the Chrome DevTools Protocol over two pipes.
struct Browser {
    process: Child,
    to: ChildStdin,
    from: BufReader<ChildStdout>,
    last: u64,
    /// What it told that was not an answer.
    events: Vec<Json>,
    _profile: tempfile::TempDir,
}

impl Browser {
    /// Starts it; none where what is called so is no browser. One that hangs is ended after some minutes, and ends when its pipe does.
    fn start(program: &std::path::Path) -> Option<Self> {
        let profile = tempfile::tempdir().expect("a folder");
        // The protocol is spoken on the file descriptors 3 and 4.
        let mut process = Command::new("sh")
            .args(["-c", "exec timeout 300 \"$0\" \"$@\" 3<&0 4>&1 </dev/null >/dev/null 2>&1"])
            .arg(program)
            .args(["--headless", "--no-sandbox", "--disable-gpu", "--no-first-run", "--disable-background-networking"])
            .args(["--disable-component-update", "--disable-sync", "--remote-debugging-pipe"])
            .arg(format!("--user-data-dir={}", profile.path().display()))
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .spawn()
            .expect("a shell");
        let (to, from) = (process.stdin.take().expect("a pipe"), process.stdout.take().expect("a pipe"));
        let mut browser =
            Self { process, to, from: BufReader::new(from), last: 0, events: Vec::new(), _profile: profile };
        browser.to.write_all(b"{\"id\":0,\"method\":\"Browser.getVersion\"}\0").ok()?;
        let mut answer = Vec::new();
        browser.from.read_until(0, &mut answer).ok().filter(|length| *length > 0)?;
        Some(browser)
    }

    fn read(&mut self) -> Json {
        let mut message = Vec::new();
        self.from.read_until(0, &mut message).expect("a message");
        message.pop();
        serde_json::from_slice(&message).expect("the browser speaks JSON")
    }

    /// Gives a command, and returns its result.
    fn call(&mut self, session: Option<&str>, method: &str, params: Json) -> Json {
        self.last += 1;
        let mut message = json!({ "id": self.last, "method": method, "params": params });
        if let Some(session) = session {
            message["sessionId"] = session.into();
        }
        let mut bytes = message.to_string().into_bytes();
        bytes.push(0);
        self.to.write_all(&bytes).expect("the browser listens");
        loop {
            let answer = self.read();
            if answer["id"] == self.last {
                assert!(answer["error"].is_null(), "{method}: {answer}");
                return answer["result"].clone();
            }
            self.events.push(answer);
        }
    }

    /// Opens a page, and returns its text and what happened on the way.
    fn open(&mut self, url: &str, with_script: bool) -> Opened {
        self.events.clear();
        let target = self.call(None, "Target.createTarget", json!({ "url": "about:blank" }));
        let attach = json!({ "targetId": target["targetId"], "flatten": true });
        let session =
            self.call(None, "Target.attachToTarget", attach)["sessionId"].as_str().expect("a session").to_owned();
        for domain in ["Page", "Network", "Runtime", "Log", "Accessibility"] {
            self.call(Some(&session), &format!("{domain}.enable"), json!({}));
        }
        if !with_script {
            self.call(Some(&session), "Emulation.setScriptExecutionDisabled", json!({ "value": true }));
        }
        self.events.clear();
        self.call(Some(&session), "Page.navigate", json!({ "url": url }));
        while !self.events.iter().any(|event| event["method"] == "Page.loadEventFired") {
            let event = self.read();
            self.events.push(event);
        }
        let root = self.call(Some(&session), "DOM.getDocument", json!({ "depth": 0 }));
        let html = self.call(Some(&session), "DOM.getOuterHTML", json!({ "nodeId": root["root"]["nodeId"] }));
        let tree = self.call(Some(&session), "Accessibility.getFullAXTree", json!({}));
        let opened = Opened {
            html: html["outerHTML"].as_str().expect("a page").to_owned(),
            tree: tree["nodes"].as_array().cloned().unwrap_or_default(),
            events: std::mem::take(&mut self.events),
        };
        self.call(None, "Target.closeTarget", json!({ "targetId": target["targetId"] }));
        opened
    }
}

impl Drop for Browser {
    fn drop(&mut self) {
        let _ = self.process.kill();
        let _ = self.process.wait();
    }
}

/// A page that was opened.
struct Opened {
    html: String,
    /// The tree that a screen reader is given.
    tree: Vec<Json>,
    events: Vec<Json>,
}

impl Opened {
    fn check(&self, url: &str, what: &str) {
        for event in &self.events {
            let method = event["method"].as_str().unwrap_or_default();
            let asked = &event["params"]["request"]["url"];
            assert!(method != "Network.requestWillBeSent" || asked == url, "{what} asks for {asked}");
            let bad = [
                "Runtime.exceptionThrown",
                "Runtime.consoleAPICalled",
                "Log.entryAdded",
                "Page.javascriptDialogOpening",
            ];
            assert!(!bad.contains(&method), "{what}: {event}");
        }
    }

    /// The names of everything of a role in the tree.
    fn names(&self, role: &str) -> Vec<String> {
        let own = self.tree.iter().filter(|node| node["role"]["value"] == role && node["ignored"] != true);
        own.map(|node| node["name"]["value"].as_str().unwrap_or_default().to_owned()).collect()
    }
}

fn written(env: &Env, args: &[&str]) -> String {
    let mut all = vec!["report"];
    all.extend(args);
    all.extend(["--out", "page.html", "--force"]);
    env.ok(&all);
    format!("file://{}", env.path("page.html").canonicalize().expect("a page").display())
}

#[test]
fn pages_ask_for_nothing_and_say_in_a_browser_what_their_json_says() {
    let Some(program) = chromium() else {
        eprintln!("skipped: no Chromium was found; name one with FENCEPOST_CHROMIUM");
        return;
    };
    let Some(mut browser) = Browser::start(&program) else {
        eprintln!("skipped: {} is no browser that can be spoken to", program.display());
        return;
    };
    let env = hostile_fleet();
    for args in KINDS {
        let url = written(&env, args);
        for with_script in [true, false] {
            let what = format!("{args:?} {}", if with_script { "with script" } else { "without" });
            let opened = browser.open(&url, with_script);
            opened.check(&url, &what);
            assert!(opened.names("heading").first().is_some_and(|name| !name.is_empty()), "{what}");
            assert!(opened.names("table").iter().all(|name| !name.is_empty()), "{what}: {:?}", opened.names("table"));
            assert!(opened.names("button").iter().all(|name| with_script || name.is_empty()), "{what}");
            if matches!(args[0], "fleet" | "site" | "group") {
                let mut asked = vec!["report"];
                asked.extend(args);
                let told = env.json(&asked);
                let figures = &told["figures"];
                let heading = &opened.names("heading")[0];
                assert!(
                    heading.starts_with(&format!("{} of {} ", figures["in_order"], figures["devices"])),
                    "{what}: {heading}"
                );
                for (table, list) in [("t-rules", "rules"), ("t-findings", "findings")] {
                    let rows =
                        opened.html.split(&format!("<table id=\"{table}\"")).nth(1).map_or(0, |rest| {
                            rest.split("</table>").next().unwrap_or_default().matches("<tr").count() - 1
                        });
                    assert_eq!(rows, told[list].as_array().expect("a list").len(), "{what} {table}");
                }
            }
        }
    }
}
