//! What stands in the sheets of a workbook: the lists of the fleet or a part of it.

use std::io;

use fencepost_engine::{AccessEntry, FleetReport, Kind, ListQuery, Listing, Reading, ReportScope};
use fencepost_report::{Sheet, SheetColumn};
use serde_json::{Value as Json, json};

use crate::error::CommandError;
use crate::view::json::access_row;

/// Columns of the sheet about access.
const ACCESS: [&str; 17] = [
    "change",
    "person_name",
    "person",
    "device",
    "service",
    "client",
    "moment",
    "decision",
    "title",
    "do",
    "other_device",
    "call_first",
    "site",
    "unit",
    "mail",
    "phone",
    "lead",
];
/// Columns of the sheets of findings and of verdicts.
const FINDINGS: [&str; 13] = [
    "device", "rule", "phase", "severity", "opened", "due", "holder", "site", "mail", "lead", "waiver", "blame",
    "spell",
];
const VERDICTS: [&str; 14] = [
    "device", "holder", "rule", "family", "outcome", "reason", "stage", "severity", "observed", "required", "source",
    "age", "phase", "due",
];
const DRIFT: [&str; 5] = ["set", "devices", "differ", "differences", "accepted"];

/// The lists of a workbook, read before any of them is written.
pub struct Lists {
    listings: Vec<(&'static str, Listing, Vec<SheetColumn>)>,
}

impl Lists {
    /// Reads the lists; `all` also has the verdicts that are well.
    pub fn read(reading: &Reading<'_>, all: bool) -> Result<Self, CommandError> {
        let of_devices = device_columns(reading);
        let verdicts = VERDICTS.map(str::to_owned);
        let findings = FINDINGS.map(str::to_owned);
        let asked = [
            ("devices", ListQuery { columns: &of_devices, ..ListQuery::of(Kind::Devices) }),
            ("findings", ListQuery { columns: &findings, ..ListQuery::of(Kind::Findings) }),
            (
                "verdicts",
                ListQuery {
                    columns: &verdicts,
                    filter: (!all).then_some("outcome in (\"fail\", \"unknown\")"),
                    not_applicable: all,
                    ..ListQuery::of(Kind::Verdicts)
                },
            ),
        ];
        let mut listings = Vec::new();
        for (name, query) in asked {
            let help = reading.column_help(query.kind);
            if let Ok(listing) = reading.list(query)? {
                let is_moment = |name: &String| help.iter().any(|column| column.name == *name && column.is_moment);
                let kind = |name: &String| {
                    if is_moment(name) || name == "collected_at" { SheetColumn::Moment } else { SheetColumn::Any }
                };
                let kinds = listing.columns.iter().map(kind).collect();
                listings.push((name, listing, kinds));
            }
        }
        Ok(Self { listings })
    }

    /// Returns the sheets, with the devices that the report is of.
    pub fn sheets<'s>(&'s self, report: &'s FleetReport) -> Vec<Sheet<'s>> {
        let mut sheets: Vec<Sheet<'s>> = self
            .listings
            .iter()
            .map(|(name, listing, kinds)| {
                let rows = listing.rows.iter().map(|row| row.map_err(io::Error::other));
                let is_own = |row: &io::Result<Vec<Json>>| match (&report.devices, row) {
                    (Some(own), Ok(row)) => row[0].as_str().is_some_and(|device| own.contains(device)),
                    _ => true,
                };
                Sheet {
                    name,
                    columns: listing.columns.iter().cloned().zip(kinds.iter().copied()).collect(),
                    rows: Box::new(rows.filter(is_own)),
                }
            })
            .collect();
        sheets.push(access_sheet(report));
        let moments = ["from", "until"];
        let waivers = report.waivers.columns.iter().map(|name| {
            (name.clone(), if moments.contains(&name.as_str()) { SheetColumn::Moment } else { SheetColumn::Any })
        });
        sheets.push(Sheet {
            name: "waivers",
            columns: waivers.collect(),
            rows: Box::new(report.waivers.rows.iter().map(|row| row.map_err(io::Error::other))),
        });
        if report.scope == ReportScope::Fleet {
            sheets.push(drift_sheet(report));
        }
        sheets
    }
}

/// The columns of devices: those that are shown, with everything else that is counted of each.
fn device_columns(reading: &Reading<'_>) -> Vec<String> {
    let help = reading.column_help(Kind::Devices);
    let usual = help.iter().filter(|column| column.is_usual);
    let others = help.iter().filter(|column| !column.is_usual);
    let mut columns: Vec<String> = Vec::new();
    for name in usual.chain(others).map(|column| column.name.clone()).chain(reading.project.config.fence_by.clone()) {
        if !columns.contains(&name) {
            columns.push(name);
        }
    }
    // The device names its row.
    columns.sort_by_key(|name| name != "device");
    columns
}

fn access_sheet(report: &FleetReport) -> Sheet<'_> {
    let access = &report.access;
    let lists: [(&str, &[AccessEntry]); 4] = [
        ("lost", &access.lost),
        ("reduced", &access.reduced),
        ("restored", &access.restored),
        ("losing", &access.losing),
    ];
    let cells = |change: &str, entry: &AccessEntry| {
        let row = access_row(change, entry);
        ACCESS.iter().map(|column| row[*column].clone()).collect::<Vec<Json>>()
    };
    let rows = lists.into_iter().flat_map(move |(change, own)| own.iter().map(move |entry| Ok(cells(change, entry))));
    let kind = |name: &str| if name == "moment" { SheetColumn::Moment } else { SheetColumn::Any };
    let columns = ACCESS.iter().map(|name| ((*name).to_owned(), kind(name))).collect();
    Sheet { name: "access", columns, rows: Box::new(rows) }
}

fn drift_sheet(report: &FleetReport) -> Sheet<'_> {
    let rows = report.drift.iter().map(|trend| {
        let counts = &trend.counts;
        let numbers = [counts.devices, counts.differ, counts.differences, counts.accepted].map(|number| json!(number));
        Ok(std::iter::once(json!(trend.set)).chain(numbers).collect())
    });
    let columns = DRIFT.iter().map(|name| ((*name).to_owned(), SheetColumn::Any)).collect();
    Sheet { name: "drift", columns, rows: Box::new(rows) }
}
