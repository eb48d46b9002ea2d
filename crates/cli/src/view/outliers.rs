//! Whose number is unusual among its peers.

use fencepost_core::{Dictionary, Value as Fact};
use fencepost_engine::{OutlierSet, OutlyingDevice};
use fencepost_formats::json_of_value;
use rust_decimal::Decimal;
use serde_json::{Value as Json, json};

use super::json::SCHEMA;
use super::style::Styles;
use super::table::{Cell, Column, Table};
use super::text::{count, harmless, in_unit};

pub struct OutlierPage<'p> {
    pub dictionary: &'p Dictionary,
    pub styles: &'p Styles,
    pub width: usize,
}

/// Tells set by set what is usual, and the devices that are the farthest from it.
pub fn render(fact: &str, sets: &[OutlierSet], worst: usize, page: &OutlierPage<'_>) -> String {
    let strong = page.styles.strong;
    let unit = page.dictionary.facts.get(fact).and_then(|declared| declared.unit.as_deref());
    let shown = |number: Decimal| in_unit(number.normalize().to_string(), unit);
    let mut out = String::new();
    for set in sets {
        let Some(found) = &set.found else { continue };
        let devices = count(set.devices as u64, "device", "devices");
        let [low, high] = found.usual.map(shown);
        out.push_str(&format!(
            "{strong}{}{strong:#} in {strong}{}{strong:#}, {devices}: median {}, usual from {low} to {high}\n",
            harmless(fact),
            harmless(&set.id),
            shown(found.median)
        ));
        if set.outliers.is_empty() {
            out.push_str("  none is unusual\n");
        }
        let mut table = Table::new(&[("", Column::Fixed), ("", Column::Number), ("", Column::Fixed)]).indent(2);
        for OutlyingDevice { device, outlier } in set.outliers.iter().take(worst) {
            let distance = match outlier.distance {
                Some(distance) => format!("{distance:.1} deviations from the median"),
                None => "the others are all alike".to_owned(),
            };
            table.row(vec![
                Cell::new(device),
                Cell::styled(shown(outlier.value), page.styles.bad),
                Cell::styled(distance, page.styles.faint),
            ]);
        }
        out.push_str(&table.render(page.width, page.styles));
        if set.outliers.len() > worst {
            let more = count((set.outliers.len() - worst) as u64, "more", "more");
            out.push_str(&format!("  {more}: --worst {}\n", set.outliers.len()));
        }
    }
    out
}

fn number(number: Decimal) -> Json {
    json_of_value(&Fact::Number(number))
}

fn row(one: &OutlyingDevice) -> Json {
    json!({ "device": one.device, "value": number(one.outlier.value), "distance": one.outlier.distance })
}

pub fn json(fact: &str, sets: &[OutlierSet], worst: usize) -> Json {
    let set = |set: &OutlierSet| {
        json!({
            "set": set.id, "devices": set.devices,
            "median": set.found.as_ref().map(|found| number(found.median)),
            "mad": set.found.as_ref().map(|found| number(found.mad)),
            "usual": set.found.as_ref().map(|found| found.usual.map(number)),
            "outliers": set.outliers.iter().take(worst).map(row).collect::<Vec<_>>(),
        })
    };
    json!({ "schema": SCHEMA, "fact": fact, "sets": sets.iter().map(set).collect::<Vec<_>>() })
}

/// The columns of outliers as rows.
pub const COLUMNS: [&str; 5] = ["set", "device", "fact", "value", "distance"];

pub fn rows(fact: &str, sets: &[OutlierSet], worst: usize) -> Vec<Json> {
    let of_set = |set: &OutlierSet| {
        let id = set.id.clone();
        let rows: Vec<Json> = set.outliers.iter().take(worst).map(row).collect();
        rows.into_iter().map(move |mut row| {
            row["schema"] = SCHEMA.into();
            row["set"] = json!(id);
            row["fact"] = json!(fact);
            row
        })
    };
    sets.iter().flat_map(of_set).collect()
}
