//! One person, as `show` tells of them.

use fencepost_engine::{PersonReport, Post, ReachGroup, Remark, group_reach};

use super::fence::{post_of, spaced};
use super::reach;
use super::style::Styles;
use super::table::{Cell, Column, Table};
use super::text::{count, harmless};
use super::time::Clock;

/// All that is known of a person.
pub fn show(person: &PersonReport, clock: &Clock, width: usize, styles: &Styles, unicode: bool) -> String {
    let (strong, faint) = (styles.strong, styles.faint);
    let mut out = format!("{strong}{}{strong:#}", harmless(person.name.as_deref().unwrap_or(&person.id)));
    if person.name.is_some() {
        out.push_str(&format!("  {}", harmless(&person.id)));
    }
    match &person.remark {
        Some(Remark::Left(at)) => out.push_str(&format!(", no longer listed since {}", clock.both(*at))),
        Some(Remark::Unlisted) => out.push_str(", named by a device and on no list of people"),
        Some(Remark::Inactive) => out.push_str(", not active"),
        None => {}
    }
    out.push('\n');
    if let Some((id, name)) = &person.lead {
        let name = name.as_ref().map_or_else(|| format!("{} (on no list)", harmless(id)), |name| harmless(name));
        out.push_str(&format!("led by {name}\n"));
    }
    if !person.leads.is_empty() {
        let names: Vec<String> = person.leads.iter().map(|(_, name)| harmless(name)).collect();
        out.push_str(&format!("leads {}\n", names.join(", ")));
    }
    if !person.groups.is_empty() {
        out.push_str(&format!("in {}\n", harmless(&person.groups.join(", "))));
    }
    let section = |out: &mut String, title: &str| out.push_str(&format!("\n{faint}{title}{faint:#}\n"));
    section(&mut out, "Devices");
    if person.devices.is_empty() {
        out.push_str("  none\n");
    }
    for held in &person.devices {
        let (stands, style) = match held.standing {
            Some(standing) => {
                let drawn = post_of(Post { standing, by_waiver: held.by_waiver }, unicode);
                let by_waiver = if held.by_waiver { " by waiver" } else { "" };
                (format!("{drawn} {}{by_waiver}", spaced(standing)), styles.standing(standing))
            }
            None => ("not assessed yet".to_owned(), styles.faint),
        };
        let collected = held.collected.map(|at| clock.distance(at)).unwrap_or_default();
        let shared = match held.shared_with.len() {
            0 => String::new(),
            _ => format!(", shared with {}", harmless(&held.shared_with.join(", "))),
        };
        out.push_str(&format!(
            "  {strong}{}{strong:#}  {style}{stands}{style:#}  {faint}collected {collected}{shared}{faint:#}\n",
            harmless(&held.device)
        ));
        let mut table = Table::new(&[("", Column::Fixed), ("", Column::Text)]).indent(4);
        for ReachGroup { line, clients, .. } in group_reach(&held.reach) {
            let decision = format!("{} ({})", reach::in_words(line, clock), clients.join(", "));
            table.row(vec![Cell::new(&line.title), Cell::styled(decision, reach::style(line, styles))]);
        }
        out.push_str(&table.render(width, styles));
    }
    section(&mut out, "Facts");
    let mut table = Table::new(&[("", Column::Fixed), ("", Column::Text)]).indent(2);
    for (path, value) in &person.facts {
        table.row(vec![Cell::new(path), Cell::new(value)]);
    }
    out.push_str(&if table.is_empty() { "  none\n".to_owned() } else { table.render(width, styles) });
    if !person.sources.is_empty() {
        let lists = count(person.sources.len() as u64, "list", "lists");
        out.push_str(&format!("  {faint}from {lists}: {}{faint:#}\n", harmless(&person.sources.join(", "))));
    }
    out
}
