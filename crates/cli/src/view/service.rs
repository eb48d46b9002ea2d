//! One service, as `show` tells of it.

use fencepost_core::{Effect, Stage};
use fencepost_engine::{AccessEntry, AccessUse, ServiceReport, group_by_person};
use serde_json::{Value as Json, json};

use super::Page;
use super::access::cause;
use super::json::{self, SCHEMA};
use super::table::{Cell, Column, Table, labelled};
use super::text::{count, harmless};

/// So many rows of a table are read one by one; the rest is left to the other formats.
const MOST_ROWS: usize = 40;

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
        let by_default =
            if counts.by_default > 0 { format!(", {} of them by default", counts.by_default) } else { String::new() };
        let all =
            count(counts.permit + counts.limited + counts.deny, "device with its person", "devices with their people");
        out.push_str(&format!(
            "\n{all}: {} get in, {} with obligations, {} do not{by_default}\n",
            counts.permit, counts.limited, counts.deny
        ));
        let told: Vec<&AccessEntry> = report
            .decisions
            .iter()
            .filter(|one| one.decision.strictness() != fencepost_core::Strictness::Permitted)
            .collect();
        if told.is_empty() {
            return out;
        }
        let mut table = Table::new(&[
            ("DEVICE", Column::Fixed),
            ("PERSON", Column::Text),
            ("SIGN-IN", Column::Fixed),
            ("DECISION", Column::Text),
            ("BECAUSE", Column::Text),
        ]);
        for one in told.iter().take(MOST_ROWS) {
            let person = one.contact.name.as_deref().or(one.person.as_deref()).unwrap_or("nobody");
            let style = if one.decision.effect == Effect::Deny { self.styles.bad } else { self.styles.notice };
            let because: Vec<String> = one.causes.iter().map(cause).collect();
            table.row(vec![
                Cell::new(&*one.device),
                Cell::new(person),
                Cell::new(&*one.client),
                Cell::styled(one.decision.in_words(), style),
                Cell::new(because.join("; ")),
            ]);
        }
        out.push_str(&self.section("Not simply let in"));
        out.push_str(&table.render(self.width, self.styles));
        if told.len() > MOST_ROWS {
            let more = told.len() - MOST_ROWS;
            out.push_str(&format!("and {more} more; all of them with --format csv\n"));
        }
        let denied = told.iter().copied().filter(|one| one.calls_first());
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

/// The page of a service as JSON.
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
        "decisions": report.decisions.iter().map(row).collect::<Vec<_>>(),
    })
}

/// The columns of a sign-in.
pub const COLUMNS: [&str; 9] =
    ["service", "device", "person", "name", "client", "decision", "obligations", "since", "other"];

/// A sign-in as JSON.
pub fn row(entry: &AccessEntry) -> Json {
    let mut row = json::ruling(&entry.decision);
    row.insert("device".to_owned(), json!(&*entry.device));
    row.insert("person".to_owned(), json!(entry.person.as_deref()));
    row.insert("name".to_owned(), json!(entry.contact.name));
    row.insert("client".to_owned(), json!(&*entry.client));
    row.insert("since".to_owned(), json!(entry.moment.to_string()));
    row.insert("access_rules".to_owned(), json!(&*entry.access_rules));
    row.insert("causes".to_owned(), entry.causes.iter().map(json::cause).collect());
    row.insert("other".to_owned(), json!(entry.other.as_ref().map(|other| &other.device)));
    Json::Object(row)
}
