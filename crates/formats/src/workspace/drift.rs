//! `drift.toml`: devices that ought to be alike, wholes made of devices in roles, and differences that somebody accepted.

use std::str::FromStr as _;

use fencepost_core::drift::{FactPattern, FactScope, IgnoreInTexts, ReferenceName, Tolerance};
use fencepost_core::{
    AcceptedSource, AcceptedValue, AssemblySource, ComparedFacts, Datum, DriftSetSource, DriftSource, EVERY_DEVICE,
    GroupKind, GroupSource, Named, Settings, Span,
};
use jiff::tz::TimeZone;
use rust_decimal::Decimal;

use super::rules::{SETTINGS, settings};
use super::shape::{KeyKind, TableKey, TableShape};
use super::table::{Entry, Table, TableReader};

pub(super) static FILE: TableShape = TableShape::new(
    "drift.toml",
    &[&[
        TableKey::new("drift", KeyKind::Tables(&SET), "Devices that ought to be alike."),
        TableKey::new("accepted", KeyKind::Tables(&ACCEPTED), "A difference that somebody answers for, up to a day."),
        TableKey::new(
            "assembly",
            KeyKind::Tables(&ASSEMBLY),
            "Wholes made of devices in roles, held against one another.",
        ),
    ]],
);
/// Which facts are compared, and how.
static COMPARED: [TableKey; 4] = [
    TableKey::new("facts", KeyKind::Names, "Facts that are compared, with * for any text: all, where nothing is said."),
    TableKey::new("except", KeyKind::Names, "Facts that are not compared, with * for any text."),
    TableKey::new(
        "tolerance",
        KeyKind::Table(&TOLERANCE),
        "How far the number of a fact may be from the reference: in its unit, or as a part of it, \"10%\".",
    ),
    TableKey::new("ignore", KeyKind::Names, "What counts for nothing in texts: case, space."),
];
static SET: TableShape = TableShape::new(
    "[[drift]]",
    &[
        &[
            TableKey::new("id", KeyKind::Id, "What it is called."),
            TableKey::new("title", KeyKind::Text, "What it is, for people."),
            TableKey::new("peers", KeyKind::Condition, "The devices for which this holds."),
            TableKey::new("groups", KeyKind::Names, "Or the devices of these groups."),
            TableKey::new(
                "reference",
                KeyKind::Text,
                "What they are held against: majority (where nothing is said), a device, device@2027-02-01, self@2027-02-01, baseline:ID.",
            ),
        ],
        &COMPARED,
        &SETTINGS,
    ],
)
.needs(&[&["id"], &["peers", "groups"]]);
static TOLERANCE: TableShape = TableShape::new("tolerance", &[]).others(KeyKind::Scalar);
static ACCEPTED: TableShape = TableShape::new(
    "[[accepted]]",
    &[&[
        TableKey::new("drift", KeyKind::Text, "The [[drift]] or [[assembly]] that it is about."),
        TableKey::new("devices", KeyKind::Names, "The devices that it is for."),
        TableKey::new("groups", KeyKind::Names, "Groups of devices that it is for."),
        TableKey::new(
            "fact",
            KeyKind::Text,
            "The fact, such as queue.workers or software[guardd].version, with * for any text.",
        ),
        TableKey::new("value", KeyKind::Scalar, "The value that is accepted; any, where nothing is said."),
        TableKey::new("missing", KeyKind::Boolean, "Whether it is accepted that there is none."),
        TableKey::new("because", KeyKind::Text, "Why."),
        TableKey::new("until", KeyKind::Moment, "The last day on which it is accepted."),
    ]],
)
.needs(&[&["drift"], &["devices", "groups"], &["fact"], &["because"], &["until"]]);
static ASSEMBLY: TableShape = TableShape::new(
    "[[assembly]]",
    &[
        &[
            TableKey::new("id", KeyKind::Id, "What it is called."),
            TableKey::new("title", KeyKind::Text, "What it is, for people."),
            TableKey::new("whole", KeyKind::Text, "The fact that says which whole a device belongs to."),
            TableKey::new(
                "role",
                KeyKind::Text,
                "The fact that says which devices of two wholes are held against one another.",
            ),
            TableKey::new(
                "where",
                KeyKind::Condition,
                "Only devices for which this holds; all, where nothing is said.",
            ),
        ],
        &COMPARED,
    ],
)
.needs(&[&["id"], &["whole"], &["role"]]);

/// Reads the file.
pub(super) fn read(reader: &mut TableReader<'_>, root: &Table<'_>, zone: &TimeZone, into: &mut DriftSource) {
    for table in reader.tables(root, "drift") {
        into.sets.extend(set(reader, &table, zone));
    }
    for table in reader.tables(root, "assembly") {
        into.assemblies.extend(assembly(reader, &table));
    }
    for table in reader.tables(root, "accepted") {
        into.accepted.extend(accepted(reader, &table, zone));
    }
}

fn set(reader: &mut TableReader<'_>, table: &Table<'_>, zone: &TimeZone) -> Option<DriftSetSource> {
    let id = reader.id(table, "a [[drift]]")?;
    match (table.get("peers"), table.get("groups")) {
        (None, None) => {
            let help = "say which devices ought to be alike: peers = '..' or groups = [..]";
            reader.error("incomplete", format!("drift `{}` is of no device", id.text), table.heading(), help);
        }
        (Some(_), Some(groups)) => {
            let help = "name the groups inside the condition: peers = 'in group(\"..\") and ..'";
            reader.error("two-of-one", "a [[drift]] has either `peers` or `groups`", groups.span(), help);
        }
        _ => {}
    }
    let mut reference = ReferenceName::Majority;
    if let Some(named) = reader.named(table, "reference") {
        match ReferenceName::parse(&named.text, zone) {
            Ok(found) => reference = found,
            Err(help) => {
                let span = table.get("reference").map_or(0..0, |value| value.span());
                reader.error(
                    "bad-reference",
                    format!("`{}` is nothing to hold devices against", named.text),
                    span,
                    help,
                );
            }
        }
    }
    let (compared, tolerance_places) = compared(reader, table);
    let title = reader.string(table, "title");
    let settings = settings(reader, table, zone);
    check_findings(reader, table, &settings);
    let group = GroupSource {
        condition: reader.text(table, "peers"),
        groups: reader.names(table, "groups"),
        ..devices(id.clone())
    };
    Some(DriftSetSource { id, title, reference, compared, group, settings, tolerance_places })
}

/// Returns whether the text of the file makes findings of the differences within some set.
pub(super) fn makes_findings(text: &str) -> bool {
    let Ok(root) = text.parse::<toml::Table>() else { return false };
    let sets = root.get("drift").and_then(toml::Value::as_array);
    sets.is_some_and(|sets| sets.iter().any(|set| set.get("severity").is_some()))
}

/// Differences are findings where it is said how bad they are and how long they may last; what else is said of findings needs both.
fn check_findings(reader: &mut TableReader<'_>, table: &Table<'_>, settings: &Settings) {
    if settings.severity.is_some() && settings.grace.is_some() {
        return;
    }
    let written = SETTINGS.iter().find_map(|key| Some((key.name, table.get(key.name)?)));
    if let Some((key, value)) = written {
        let message = format!("`{key}` is said of findings, and this set makes none");
        let help = "differences become findings with both severity = \"low\" and grace = \"7d\"; without them they are only seen";
        reader.error("no-findings", message, value.span(), help);
    }
}

fn assembly(reader: &mut TableReader<'_>, table: &Table<'_>) -> Option<AssemblySource> {
    let id = reader.id(table, "an [[assembly]]")?;
    if !reader.is_complete(table, "an assembly", "say by which facts: whole = \"site\", role = \"role\"") {
        return None;
    }
    let (whole, role) = (reader.string(table, "whole")?, reader.string(table, "role")?);
    let (compared, tolerance_places) = compared(reader, table);
    let title = reader.string(table, "title");
    let condition = reader.text(table, "where");
    let every_device = Named { text: EVERY_DEVICE.to_owned(), span: id.span.clone() };
    let groups = if condition.is_none() { vec![every_device] } else { Vec::new() };
    let group = GroupSource { condition, groups, ..devices(id.clone()) };
    Some(AssemblySource { id, title, whole, role, compared, group, tolerance_places })
}

/// Returns a group of devices that holds nobody.
fn devices(id: Named) -> GroupSource {
    GroupSource {
        id,
        title: None,
        kind: GroupKind::Devices,
        members: Vec::new(),
        condition: None,
        held_by: Vec::new(),
        units: Vec::new(),
        groups: Vec::new(),
        except: Vec::new(),
    }
}

/// Reads which facts are compared and how, and where each tolerance is written.
fn compared(reader: &mut TableReader<'_>, table: &Table<'_>) -> (ComparedFacts, Vec<Option<Span>>) {
    let patterns = |names: Vec<String>| names.into_iter().map(FactPattern::new).collect();
    let scope = FactScope {
        facts: patterns(reader.strings(table, "facts")),
        except: patterns(reader.strings(table, "except")),
    };
    let mut ignore = IgnoreInTexts::default();
    for named in reader.names(table, "ignore") {
        match named.text.as_str() {
            "case" => ignore.case = true,
            "space" => ignore.space = true,
            other => {
                let message = format!("`{other}` is nothing that can be ignored in texts");
                let mistake = fencepost_core::Diagnostic::error("bad-ignore", message, named.span);
                reader.report(mistake.help("write ignore = [\"case\", \"space\"]"));
            }
        }
    }
    let (mut tolerances, mut places) = (Vec::new(), Vec::new());
    if let Some(written) = reader.table(table, "tolerance") {
        for Entry { key, value, .. } in written.entries() {
            let help = format!("write \"{key}\" = \"10%\", or a number in its unit");
            let Some(datum) = reader.datum(&key, value, &help) else { continue };
            match amount(&datum) {
                Some((amount, of_reference)) => {
                    tolerances.push(Tolerance { facts: FactPattern::new(key), amount, of_reference });
                    places.push(Some(reader.span(value.span())));
                }
                None => {
                    reader.error("bad-tolerance", format!("the tolerance of `{key}` is no number"), value.span(), help)
                }
            }
        }
    }
    (ComparedFacts { scope, tolerances, ignore }, places)
}

/// Reads how far a number may be from the reference, and whether that is a part of the reference.
fn amount(written: &Datum) -> Option<(Decimal, bool)> {
    let (amount, of_reference) = match written {
        Datum::Number(number) => (*number, false),
        Datum::Text(text) => {
            let percent = text.trim().strip_suffix('%')?;
            (Decimal::from_str(percent.trim()).ok()?.checked_div(Decimal::ONE_HUNDRED)?, true)
        }
        _ => return None,
    };
    (!amount.is_sign_negative()).then_some((amount, of_reference))
}

fn accepted(reader: &mut TableReader<'_>, table: &Table<'_>, zone: &TimeZone) -> Option<AcceptedSource> {
    let help = "it says of which comparison, for which devices, which fact, why, and up to which day";
    if !reader.is_complete(table, "an accepted difference", help) {
        return None;
    }
    let (devices, groups) = (reader.names(table, "devices"), reader.names(table, "groups"));
    if devices.is_empty() && groups.is_empty() {
        reader.error("incomplete", "this is for no device", table.heading(), "name `devices` or `groups`");
    }
    let missing = reader.boolean(table, "missing").unwrap_or(false);
    let value = match table.get("value") {
        Some(value) if missing => {
            reader.error(
                "two-of-one",
                "either a `value` is accepted, or that it is `missing`",
                value.span(),
                "take one of them out",
            );
            return None;
        }
        Some(value) => AcceptedValue::Value(reader.datum("value", value, "write value = 4")?),
        None if missing => AcceptedValue::Missing,
        None => AcceptedValue::Any,
    };
    // A day ends with the day.
    let (_, until) = reader.moment(table, "until", zone)?;
    Some(AcceptedSource {
        drift: reader.named(table, "drift")?,
        devices,
        groups,
        fact: reader.named(table, "fact")?,
        value,
        because: reader.string(table, "because")?,
        until,
        place: Some(reader.span(table.heading())),
    })
}
