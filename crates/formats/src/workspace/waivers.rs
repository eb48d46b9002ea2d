//! `waivers.toml`: failures and gaps in the evidence that somebody answers for, up to a day.

use fencepost_core::{ClockAfterwards, EndedEarly, WaiverSource};
use jiff::tz::TimeZone;

use super::shape::{KeyKind, TableKey, TableShape};
use super::table::{Table, TableReader};

pub(super) static FILE: TableShape = TableShape::new(
    "waivers.toml",
    &[&[TableKey::new(
        "waiver",
        KeyKind::Tables(&WAIVER),
        "Rules that devices need not meet up to a day, since somebody answers for it.",
    )]],
);
static WAIVER: TableShape = TableShape::new(
    "[[waiver]]",
    &[&[
        TableKey::new("id", KeyKind::Id, "What it is called."),
        TableKey::new("devices", KeyKind::Names, "The devices that it is for."),
        TableKey::new("groups", KeyKind::Names, "Groups of devices that it is for."),
        TableKey::new(
            "rules",
            KeyKind::Names,
            "The rules that it is for: a rule, a check, everything below one as in \"kiosk/*\", \"silence\" or \"uncovered\".",
        ),
        TableKey::new("because", KeyKind::Text, "Why."),
        TableKey::new("approved_by", KeyKind::Text, "Who answers for it."),
        TableKey::new("from", KeyKind::Moment, "The first day on which it holds."),
        TableKey::new("until", KeyKind::Moment, "The last day on which it holds, within a year of the first."),
        TableKey::new(
            "clock",
            KeyKind::Word(clocks),
            "What happens when it ends: the old due moment stands (keep, where nothing is said), or the grace begins afresh.",
        ),
        TableKey::new("ended", KeyKind::Moment, "When it was ended before its time."),
        TableKey::new("ended_because", KeyKind::Text, "Why it was ended before its time."),
    ]],
)
.needs(&[
    &["id"],
    &["devices", "groups"],
    &["rules"],
    &["because"],
    &["approved_by"],
    &["from"],
    &["until"],
])
.with(&[("ended", "ended_because")]);

fn clocks() -> Vec<&'static str> {
    ClockAfterwards::ALL.map(ClockAfterwards::as_str).to_vec()
}

pub(super) fn all(reader: &mut TableReader<'_>, root: &Table<'_>, zone: &TimeZone) -> Vec<WaiverSource> {
    let mut waivers = Vec::new();
    for table in reader.tables(root, "waiver") {
        let Some(id) = reader.id(&table, "a [[waiver]]") else { continue };
        if !reader.is_complete(&table, "a waiver", "it says for what, why, who answers for it, and up to which day") {
            continue;
        }
        let (because, approved_by) = (reader.string(&table, "because"), reader.string(&table, "approved_by"));
        let until_place = table.get("until").map(|value| reader.span(value.span()));
        let from = reader.moment(&table, "from", zone).map(|(start, _)| start);
        let until = reader.moment(&table, "until", zone).map(|(_, end)| end);
        let ended_at = reader.moment(&table, "ended", zone).map(|(start, _)| start);
        let ended_because = reader.string(&table, "ended_because").unwrap_or_default();
        let clock = reader.word(&table, "clock", &ClockAfterwards::ALL.map(|clock| (clock.as_str(), clock)));
        let (devices, groups) = (reader.names(&table, "devices"), reader.names(&table, "groups"));
        let rules = reader.names(&table, "rules");
        if let (Some(because), Some(approved_by), Some(from), Some(until)) = (because, approved_by, from, until) {
            waivers.push(WaiverSource {
                id,
                devices,
                groups,
                rules,
                because,
                approved_by,
                from,
                until,
                until_place,
                ended: ended_at.map(|at| EndedEarly { at, because: ended_because }),
                clock: clock.unwrap_or_default(),
            });
        }
    }
    waivers
}
