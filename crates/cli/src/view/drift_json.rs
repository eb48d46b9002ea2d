//! Comparisons for machines.

use fencepost_core::drift::Place;
use fencepost_engine::{
    AssemblyReport, DeviceDifference, DriftMember, DriftMovement, DriftPart, DriftReport, DriftSetReport,
    MemberDifference,
};
use fencepost_formats::json_of_datum;
use serde_json::{Value as Json, json};

use super::json::SCHEMA;

/// The columns of differences as rows.
pub const COLUMNS: [&str; 16] = [
    "set",
    "whole",
    "role",
    "device",
    "fact",
    "item",
    "field",
    "kind",
    "observed",
    "reference",
    "share",
    "since",
    "because",
    "changed_at",
    "was",
    "accepted",
];

fn place(place: &Place) -> Json {
    json!({ "fact": place.fact, "item": place.item, "field": place.field })
}

pub fn difference(one: &MemberDifference) -> Json {
    let beginning = one.beginning.as_ref();
    let mut out = place(&one.place);
    out["observed"] = json!(one.observed.as_ref().map(json_of_datum));
    out["reference"] = json!(one.reference.as_ref().map(json_of_datum));
    out["kind"] = json!(one.kind.as_str());
    out["share"] = json!(one.share.map(|share| share.fraction()));
    out["since"] = json!(beginning.map(|found| found.since.to_string()));
    out["because"] = json!(beginning.map(|found| found.because.as_str()));
    out["changed_at"] = json!(beginning.and_then(|found| found.changed_at).map(|at| at.to_string()));
    out["was"] = json!(beginning.and_then(|found| found.was.as_ref()).map(json_of_datum));
    out
}

fn member(one: &DriftMember) -> Json {
    json!({
        "device": one.device,
        "differences": one.differences.iter().map(difference).collect::<Vec<_>>(),
        "accepted": one.accepted.iter().map(difference).collect::<Vec<_>>(),
    })
}

fn moved(all: &[DeviceDifference]) -> Json {
    let one = |one: &DeviceDifference| {
        let mut out = difference(&one.difference);
        out["device"] = json!(one.device);
        out
    };
    all.iter().map(one).collect()
}

pub fn set(report: &DriftSetReport, movement: Option<&DriftMovement>, with_values: bool) -> Json {
    let counts = report.counts();
    let named = |is: fn(&DriftMember) -> bool| {
        report.members.iter().filter(|member| is(member)).map(|member| member.device.clone()).collect::<Vec<String>>()
    };
    let mut out = json!({
        "set": report.id,
        "reference": report.reference.to_string(),
        "counts": {
            "devices": counts.devices, "differ": counts.differ, "differences": counts.differences, "accepted": counts.accepted,
        },
        "left_out": report.left_out.iter().map(Place::to_string).collect::<Vec<_>>(),
        "stale": named(|member| member.is_stale),
        "no_past": named(|member| member.has_no_past),
        "members": report.members.iter().map(member).collect::<Vec<_>>(),
        "no_common_value": report.no_common_value.iter().map(place).collect::<Vec<_>>(),
    });
    if with_values {
        let value = |held: &fencepost_engine::HeldValue| {
            json!({
                "value": held.value.as_ref().map(json_of_datum), "missing": held.value.is_none(), "devices": held.devices,
            })
        };
        out["values"] = report.values.iter().map(value).collect();
    }
    if let Some(movement) = movement {
        out["drifted"] = moved(&movement.drifted);
        out["came_back"] = moved(&movement.came_back);
    }
    out
}

pub fn assembly(report: &AssemblyReport, movement: Option<&DriftMovement>) -> Json {
    let wholes = report.wholes.iter().map(|whole| {
        let roles = whole.roles.iter().map(|role| {
            let count = role.count.as_ref().map(|count| {
                json!({
                    "observed": count.observed, "reference": count.reference, "kind": count.kind.as_str(),
                    "share": count.share.fraction(),
                })
            });
            json!({
                "role": role.role, "devices": role.members.len(), "count": count, "differences": role.differences(),
                "members": role.members.iter().map(member).collect::<Vec<_>>(),
            })
        });
        json!({
            "whole": whole.whole, "devices": whole.devices(), "differences": whole.differences(),
            "roles": roles.collect::<Vec<_>>(),
        })
    });
    let undecided = report.no_common_value.iter().map(|one| {
        let mut out = one.place.as_ref().map_or_else(|| json!({ "fact": null, "item": null, "field": null }), place);
        out["role"] = json!(one.role);
        out
    });
    let mut out = json!({
        "assembly": report.id, "wholes": wholes.collect::<Vec<_>>(), "no_common_value": undecided.collect::<Vec<_>>(),
    });
    if let Some(movement) = movement {
        out["drifted"] = moved(&movement.drifted);
        out["came_back"] = moved(&movement.came_back);
    }
    out
}

/// What became of sets and assemblies since another moment, in their order.
pub struct Movements {
    pub sets: Vec<DriftMovement>,
    pub assemblies: Vec<DriftMovement>,
}

pub fn report(report: &DriftReport, movements: Option<&Movements>, with_values: bool) -> Json {
    let sets = report.sets.iter().enumerate();
    let sets = sets.map(|(at, one)| set(one, movements.map(|all| &all.sets[at]), with_values));
    let assemblies = report.assemblies.iter().enumerate();
    let assemblies = assemblies.map(|(at, one)| assembly(one, movements.map(|all| &all.assemblies[at])));
    json!({
        "schema": SCHEMA, "as_of": report.at.to_string(), "sets": sets.collect::<Vec<_>>(),
        "assemblies": assemblies.collect::<Vec<_>>(),
    })
}

/// The differences as rows, those accepted among them.
pub fn rows(report: &DriftReport) -> Vec<Json> {
    let sets = report.sets.iter().flat_map(rows_of_set);
    sets.chain(report.assemblies.iter().flat_map(rows_of_assembly)).collect()
}

/// The differences of a set or an assembly as rows.
pub fn rows_of(part: &DriftPart) -> Vec<Json> {
    match part {
        DriftPart::Set(set) => rows_of_set(set),
        DriftPart::Assembly(assembly) => rows_of_assembly(assembly),
    }
}

fn rows_of_set(set: &DriftSetReport) -> Vec<Json> {
    set.members.iter().flat_map(|member| rows_of_member(&set.id, None, member)).collect()
}

fn rows_of_assembly(assembly: &AssemblyReport) -> Vec<Json> {
    let mut rows = Vec::new();
    for whole in &assembly.wholes {
        for role in &whole.roles {
            let part = Some([whole.whole.as_str(), &role.role]);
            rows.extend(role.members.iter().flat_map(|member| rows_of_member(&assembly.id, part, member)));
        }
    }
    rows
}

/// Rows of a device; `part` is its whole and role, where it is of an assembly.
fn rows_of_member(id: &str, part: Option<[&str; 2]>, member: &DriftMember) -> Vec<Json> {
    let row = |one: &MemberDifference| {
        let mut row = difference(one);
        row["schema"] = SCHEMA.into();
        row["set"] = json!(id);
        row["whole"] = json!(part.map(|[whole, _]| whole));
        row["role"] = json!(part.map(|[_, role]| role));
        row["device"] = json!(member.device);
        row["accepted"] = json!(one.accepted_by.is_some());
        row
    };
    member.differences.iter().chain(&member.accepted).map(row).collect()
}
