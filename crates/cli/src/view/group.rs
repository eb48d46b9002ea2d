//! One group, as `show` tells of it.

use fencepost_core::Standing;
use fencepost_engine::{GroupCounts, GroupMembers, GroupReport, Post};
use serde_json::{Value as Json, json};

use super::Page;
use super::fence::{PostLine, post_of, render_lines, spaced};
use super::json::SCHEMA;
use super::table::{Cell, Column, Table, labelled};
use super::text::{count, harmless, percent};

impl Page<'_> {
    /// All that is known of a group.
    pub fn group(&self, report: &GroupReport) -> String {
        let strong = self.styles.strong;
        let title = report.title.as_ref().map(|title| format!("  {}", harmless(title))).unwrap_or_default();
        let mut out = format!("{strong}{}{strong:#}{title}\n", harmless(&report.id));
        let mut line = |word: &str, text: &str| out.push_str(&labelled(word, &harmless(text), self.width, self.styles));
        report.says.iter().for_each(|(word, text)| line(word, text));
        if let Some(place) = &report.place {
            line("written", &place.to_string());
        }
        if !report.used_by.is_empty() {
            line("used by", &report.used_by.join(", "));
        }
        out.push('\n');
        match &report.members {
            GroupMembers::Devices(devices) => out.push_str(&self.group_devices(&report.counts, devices)),
            GroupMembers::People(people) => {
                out.push_str(&format!("{}\n", count(people.len() as u64, "person", "people")));
                let mut table = Table::new(&[("", Column::Fixed), ("", Column::Text)]).indent(2);
                people.iter().for_each(|(id, name)| table.row(vec![Cell::new(id), Cell::new(name)]));
                out.push_str(&table.render(self.width, self.styles));
            }
        }
        out
    }

    /// How many devices stand how, drawn, and those one by one that are not simply compliant.
    fn group_devices(&self, counts: &GroupCounts, devices: &[(String, Post)]) -> String {
        if devices.is_empty() {
            return "no device belongs to it\n".to_owned();
        }
        let compliant = counts.standings[Standing::Compliant as usize];
        let by_waiver =
            if counts.by_waiver > 0 { format!(", {} of them by waiver", counts.by_waiver) } else { String::new() };
        let all = count(counts.all, "device", "devices");
        let mut out = format!("{compliant} of {all} compliant ({}){by_waiver}", percent(counts.share()));
        let others = Standing::ALL.into_iter().filter(|standing| *standing != Standing::Compliant);
        for standing in others {
            let number = counts.standings[standing as usize];
            if number > 0 {
                out.push_str(&format!("; {number} {}", spaced(standing)));
            }
        }
        out.push_str("\n\n");
        let posts: Vec<Post> = devices.iter().map(|(_, post)| *post).collect();
        let line = PostLine { label: "", posts: &posts, says: Default::default(), of: "devices" };
        out.push_str(&render_lines(&[line], self.width, self.unicode, self.styles));
        let odd = |(_, post): &&(String, Post)| post.standing != Standing::Compliant || post.by_waiver;
        let mut table = Table::new(&[("", Column::Fixed), ("", Column::Fixed)]).indent(2);
        for (device, post) in devices.iter().filter(odd) {
            let by_waiver = if post.by_waiver { " by waiver" } else { "" };
            let stands = format!("{} {}{by_waiver}", post_of(*post, self.unicode), spaced(post.standing));
            table.row(vec![Cell::new(device), Cell::styled(stands, self.styles.standing(post.standing))]);
        }
        if !table.is_empty() {
            out.push('\n');
            out.push_str(&table.render(self.width, self.styles));
        }
        out
    }
}

/// The page of a group as JSON, without its members.
pub fn document(report: &GroupReport, at: jiff::Timestamp) -> Json {
    let says: serde_json::Map<String, Json> =
        report.says.iter().map(|(word, text)| (word.replace(' ', "_"), json!(text))).collect();
    let counts = report.counts;
    let standing = |standing: Standing| counts.standings[standing as usize];
    let mut document = json!({
        "schema": SCHEMA, "group": report.id, "as_of": at.to_string(), "title": report.title,
        "place": report.place.as_ref().map(ToString::to_string), "says": says, "used_by": report.used_by,
    });
    match &report.members {
        GroupMembers::Devices(_) => {
            document["of"] = "devices".into();
            document["standings"] = json!({
                "devices": counts.all, "compliant": standing(Standing::Compliant),
                "on_notice": standing(Standing::OnNotice), "unproven": standing(Standing::Unproven),
                "non_compliant": standing(Standing::NonCompliant), "waived": counts.by_waiver,
            });
            document["share"] = json!(counts.share());
        }
        GroupMembers::People(_) => document["of"] = "people".into(),
    }
    document
}

fn device((device, post): &(String, Post)) -> Json {
    json!({ "device": device, "standing": post.standing.as_str(), "by_waiver": post.by_waiver })
}

fn person((id, name): &(String, String)) -> Json {
    json!({ "person": id, "name": name })
}

/// The members as rows.
pub struct MemberRows<'r> {
    /// What the list of them is called.
    pub list: &'static str,
    pub columns: &'static [&'static str],
    pub rows: Box<dyn Iterator<Item = Json> + 'r>,
}

/// The members as rows, with the columns of a sheet.
pub fn rows(report: &GroupReport) -> MemberRows<'_> {
    match &report.members {
        GroupMembers::Devices(devices) => MemberRows {
            list: "devices",
            columns: &["device", "standing", "by_waiver"],
            rows: Box::new(devices.iter().map(device)),
        },
        GroupMembers::People(people) => {
            MemberRows { list: "people", columns: &["person", "name"], rows: Box::new(people.iter().map(person)) }
        }
    }
}
