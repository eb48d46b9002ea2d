//! What goes one level deeper from a list: the command, with a row of it.

use fencepost_engine::{Kind, ListQuery, Listing};
use serde_json::Value as Json;

use super::next_step::NextStep;
use super::text::quoted;

/// A row of a list, by the names of its columns.
struct Row<'r> {
    columns: &'r [String],
    cells: Vec<Json>,
}

impl Row<'_> {
    fn cell(&self, name: &str) -> Option<&Json> {
        let at = self.columns.iter().position(|column| column == name)?;
        self.cells.get(at)
    }

    fn text(&self, name: &str) -> Option<&str> {
        self.cell(name)?.as_str()
    }

    fn number(&self, name: &str) -> f64 {
        self.cell(name).and_then(Json::as_f64).unwrap_or(0.0)
    }
}

/// Only so many rows are looked through for the one that is most worth a look.
const MOST_ROWS: usize = 10_000;

/// Returns the command that goes one level deeper from a list, as it is typed; none where there is nothing below.
pub fn command(listing: &Listing, query: &ListQuery<'_>) -> Option<String> {
    let rows = listing.rows.iter().take(MOST_ROWS).map_while(Result::ok);
    let all: Vec<Row<'_>> = rows.map(|cells| Row { columns: &listing.columns, cells }).collect();
    if !query.by.is_empty() || query.kind == Kind::Sites {
        return counted(listing, query, &all);
    }
    let mut rows = all.iter();
    let first = |name: &str| all.iter().find_map(|row| row.text(name));
    let highest = |count: &str, name: &str| all.iter().rev().max_by_key(|row| row.number(count) as u64)?.text(name);
    let rule_on_device = |row: &Row<'_>| {
        let (device, rule) = (row.text("device")?, row.text("rule")?);
        let step = match rule {
            "silence" | "uncovered" => NextStep::Why(device),
            rule => NextStep::WhyRule { device, rule },
        };
        Some(step.in_words())
    };
    let show = |id: &str| NextStep::Show(id).in_words();
    match query.kind {
        Kind::Devices => {
            let is_odd = |row: &&Row<'_>| row.text("standing").is_some_and(|standing| standing != "compliant");
            rows.find(is_odd).and_then(|row| Some(NextStep::Why(row.text("device")?).in_words()))
        }
        Kind::Rules => highest("fail", "rule").map(show),
        Kind::Baselines => lowest(&all, "baseline").map(show),
        Kind::Families => lowest(&all, "family").map(|family| {
            NextStep::List { kind: "verdicts", filter: &format!("family = \"{family}\" and outcome = \"fail\"") }
                .in_words()
        }),
        Kind::Groups => first("group").map(show),
        Kind::Services => highest("deny", "service").map(show),
        Kind::People => first("person").map(show),
        Kind::Findings => rows.next().and_then(rule_on_device),
        Kind::Verdicts => {
            let is_unmet = |row: &&Row<'_>| matches!(row.text("outcome"), Some("fail" | "unknown"));
            rows.find(is_unmet).and_then(rule_on_device)
        }
        Kind::Items => {
            let (path, item) = (listing.item_path.as_ref()?, first("item")?);
            let filter = format!("some name in {path} satisfies name = {}", Json::from(item));
            Some(NextStep::List { kind: "devices", filter: &filter }.in_words())
        }
        Kind::Facts => first("fact").map(|fact| format!("fencepost list devices --by {}", quoted(fact))),
        Kind::Coverage => rows.find_map(|row| {
            let (platform, role) = (row.text("platform")?, row.text("role")?);
            let filter = format!("platform = \"{platform}\" and role = \"{role}\"");
            Some(NextStep::List { kind: "devices", filter: &filter }.in_words())
        }),
        Kind::Waivers => first("waiver")
            .map(|waiver| NextStep::List { kind: "findings", filter: &format!("waiver = \"{waiver}\"") }.in_words()),
        Kind::Assessments => Some("fencepost history".to_owned()),
        Kind::Access => Some("fencepost access".to_owned()),
        Kind::Actions => Some("fencepost send --dry-run".to_owned()),
        Kind::Bundles => Some("fencepost list bundles --changes".to_owned()),
        Kind::Disagreements => rows.next().map(|_| "fencepost list disagreements --fix".to_owned()),
        Kind::Sites
        | Kind::Deliveries
        | Kind::BundleChanges
        | Kind::Settings
        | Kind::Sources
        | Kind::Corrections
        | Kind::Rejects => None,
    }
}

/// Returns the id of the row with the lowest share.
fn lowest<'r>(rows: &'r [Row<'_>], name: &str) -> Option<&'r str> {
    let share = |row: &Row<'_>| row.number("share");
    rows.iter().min_by(|a, b| share(a).total_cmp(&share(b)))?.text(name)
}

/// Returns the command that lists the rows that were counted in the first row whose values can be named.
fn counted(listing: &Listing, query: &ListQuery<'_>, rows: &[Row<'_>]) -> Option<String> {
    // Of a list each item counts, and a condition on the whole list is another.
    if listing.by_items {
        return None;
    }
    let kind = if query.kind == Kind::Sites { Kind::Devices } else { query.kind };
    let by = listing.columns.iter().take_while(|column| *column != "count");
    let by: Vec<&String> = by.collect();
    let can_be_named = |value: &Json| matches!(value, Json::String(_) | Json::Bool(_) | Json::Number(_));
    let row = rows.iter().find(|row| row.cells.iter().take(by.len()).all(can_be_named))?;
    let parts = by.iter().zip(&row.cells).map(|(column, value)| format!("{column} = {value}"));
    let own = query.filter.map(|filter| format!("({filter})"));
    let filter = own.into_iter().chain(parts).collect::<Vec<_>>().join(" and ");
    Some(NextStep::List { kind: kind.as_str(), filter: &filter }.in_words())
}
