//! `devices.toml`: devices that were retired or renamed.

use fencepost_core::{DeviceLifecycles, Renaming, Retirement};
use jiff::tz::TimeZone;

use super::shape::{KeyKind, TableKey, TableShape};
use super::table::{Table, TableReader};

pub(super) static FILE: TableShape = TableShape::new(
    "devices.toml",
    &[&[TableKey::new("device", KeyKind::Tables(&DEVICE), "A device that was retired or renamed.")]],
);
static DEVICE: TableShape = TableShape::new(
    "[[device]]",
    &[&[
        TableKey::new("id", KeyKind::Text, "The device."),
        TableKey::new("retired", KeyKind::Moment, "From when on it is no device any more."),
        TableKey::new("renamed_to", KeyKind::Text, "What it is called now."),
        TableKey::new("from", KeyKind::Moment, "From when on it is called so."),
        TableKey::new("because", KeyKind::Text, "Why."),
    ]],
)
.needs(&[&["id"], &["because"], &["retired", "renamed_to"]])
.with(&[("renamed_to", "from")]);

pub(super) fn read(reader: &mut TableReader<'_>, root: &Table<'_>, zone: &TimeZone) -> DeviceLifecycles {
    let (mut retirements, mut renamings) = (Vec::new(), Vec::new());
    let tables = reader.tables(root, "device");
    for table in &tables {
        let (id, because) = (reader.string(table, "id"), reader.string(table, "because"));
        let (Some(id), Some(because)) = (id, because) else {
            let help = "it says which device, what became of it, from when on, and why";
            reader.error("incomplete", "a [[device]] needs id and because", table.heading(), help);
            continue;
        };
        match (table.get("retired").is_some(), reader.string(table, "renamed_to")) {
            (true, None) => {
                if let Some((from, last)) = reader.moment(table, "retired", zone) {
                    let place = Some(reader.span(table.heading()));
                    retirements.push(Retirement { device: id.as_str().into(), from, last, because, place });
                }
            }
            (false, Some(to)) => match (table.get("from").is_some(), reader.moment(table, "from", zone)) {
                (true, Some((from, _))) => {
                    let (device, to) = (id.as_str().into(), to.as_str().into());
                    let place = Some(reader.span(table.heading()));
                    renamings.push(Renaming { device, to, from, because, place });
                }
                (true, None) => {}
                (false, _) => {
                    let help = "write from = 2027-03-08: the day on which it got its new name";
                    reader.error("incomplete", "a renaming needs `from`", table.heading(), help);
                }
            },
            _ => {
                let help = "write retired = 2027-03-10, or renamed_to = \"...\" and from = 2027-03-10";
                reader.error("incomplete", "a [[device]] is retired or renamed", table.heading(), help);
            }
        }
    }
    let lifecycles = DeviceLifecycles::new(retirements, renamings);
    if let Some(renaming) = lifecycles.circle() {
        let message = format!("`{}` is renamed in a circle", renaming.device);
        let at = tables
            .iter()
            .find(|table| {
                table.get("renamed_to").is_some()
                    && reader.string(table, "id").as_deref() == Some(renaming.device.as_str())
            })
            .map_or(0..0, Table::heading);
        reader.error("renaming-circle", message, at, "the last name in the chain is what it is called now");
    }
    lifecycles
}
