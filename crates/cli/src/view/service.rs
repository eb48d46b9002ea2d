//! One service, as `show` tells of it.

use fencepost_core::{Stage, Strictness};
use fencepost_engine::{AccessEntry, AccessUse, ServiceReport, group_by_person};
use serde_json::{Value as Json, json};

use super::Page;
use super::json::{self, SCHEMA};
use super::table::labelled;
use super::text::{count, harmless};
use super::ways::whose;

impl Page<'_> {
    /// On which terms people reach a service, and who does not.
    pub fn service(&self, report: &ServiceReport) -> String {
        let (service, strong) = (&report.service, self.styles.strong);
        let mut out = format!("{strong}{}{strong:#}  {}\n", harmless(service.id.as_str()), harmless(&service.title));
        let mut line = |word: &str, text: &str| out.push_str(&labelled(word, &harmless(text), self.width, self.styles));
        let usual: Vec<&str> = service.usual.iter().map(|usual| usual.id.as_str()).collect();
        line("sign-ins", &usual.join(", "));
        line("default", &format!("{} where no access rule applies", service.default.as_str()));
        for rule in &report.access_rules {
            let stage = if rule.stage == Stage::Enforced { "" } else { " (on trial)" };
            line("rule", &format!("{}{stage}", rule.id));
        }
        let counts = report.counts;
        let by_default = match counts.by_default {
            0 => String::new(),
            all if all == counts.deny => ", all of them by default".to_owned(),
            some => format!(", {some} of them by default"),
        };
        let all =
            count(counts.permit + counts.limited + counts.deny, "device with its person", "devices with their people");
        out.push_str(&format!(
            "\n{all}: {} get in, {} with obligations, {} do not{by_default}\n",
            counts.permit, counts.limited, counts.deny
        ));
        let told = || {
            let told = |entry: &&AccessEntry| entry.decision.strictness() != Strictness::Permitted;
            report.decisions.iter().filter(told)
        };
        if told().next().is_none() {
            return out;
        }
        out.push_str(&self.section(&format!("Not simply let in: {}", whose(told()))));
        out.push_str(&self.ways(told()));
        let denied = told().filter(|one| one.calls_first());
        let people = group_by_person(denied).len() as u64;
        if people > 0 {
            out.push_str(&format!("\n{} no way into it at all\n", count(people, "person has", "people have")));
        }
        out
    }
}

/// An access rule as JSON.
pub fn access_use(rule: &AccessUse) -> Json {
    json!({ "access_rule": rule.id, "stage": rule.stage.as_str(), "services": rule.services })
}

/// The page of a service as JSON, without the decisions.
pub fn document(report: &ServiceReport, at: jiff::Timestamp) -> Json {
    let (service, counts) = (&report.service, report.counts);
    json!({
        "schema": SCHEMA, "service": service.id.as_str(), "as_of": at.to_string(), "title": service.title,
        "default": service.default.as_str(),
        "usual": service.usual.iter().map(|usual| usual.id.as_str()).collect::<Vec<_>>(),
        "counts": {
            "permit": counts.permit, "limited": counts.limited, "deny": counts.deny, "by_default": counts.by_default,
        },
        "access_rules": report.access_rules.iter().map(access_use).collect::<Vec<_>>(),
    })
}

/// The columns of a sign-in.
pub const COLUMNS: [&str; 10] = [
    "service",
    "device",
    "person",
    "person_name",
    "client",
    "decision",
    "obligations",
    "since",
    "call_first",
    "other_device",
];

/// A sign-in as JSON.
pub fn row(entry: &AccessEntry) -> Json {
    json::entry(entry, "since")
}
