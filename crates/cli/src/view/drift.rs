//! Devices that ought to be alike, and how they differ.

use fencepost_core::drift::{BeganBy, Place, ReferenceName};
use fencepost_core::{Datum, Dictionary, DriftDefinitions, Standing};
use fencepost_engine::{
    AlikeDevices, AssemblyReport, ComparedRow, DriftMember, DriftMovement, DriftReport, DriftSetReport,
    MemberDifference, Post, RoleReport, WholeReport,
};
use unicode_width::UnicodeWidthStr;

use super::drift_json::Movements;
use super::fence::{PostLine, render_lines};
use super::style::Styles;
use super::table::{Cell, Column, Table, labelled};
use super::text::{count, harmless, in_unit, percent};
use super::time::Clock;

/// So much of a value is shown beside others, in characters.
const MOST_OF_A_VALUE: usize = 28;
/// So many devices are named where several are alike.
const NAMED_DEVICES: usize = 4;
/// So many groups of devices that share their differences are told.
const GROUPS_SHOWN: usize = 30;

pub struct DriftPage<'p> {
    pub clock: &'p Clock,
    pub styles: &'p Styles,
    pub width: usize,
    pub unicode: bool,
    /// What the workspace says of comparisons, for what it accepts.
    pub definitions: &'p DriftDefinitions,
    /// What it says of facts, for their units.
    pub dictionary: &'p Dictionary,
    /// Accepted differences are told one by one.
    pub shows_accepted: bool,
}

impl DriftPage<'_> {
    /// A value in the unit of its fact.
    fn shown(&self, place: &Place, datum: Option<&Datum>) -> String {
        let unit = || self.dictionary.facts.get(&place.dictionary_path())?.unit.as_deref();
        match datum {
            Some(Datum::Number(_)) => in_unit(value(datum), unit()),
            other => value(other),
        }
    }

    /// What most hold instead, with how many they are: `most have 35 d (89 %)`.
    fn most(&self, one: &MemberDifference) -> String {
        let held = match &one.reference {
            None => "do not have it".to_owned(),
            Some(Datum::Object(_)) => "have it".to_owned(),
            reference => format!("have {}", self.shown(&one.place, reference.as_ref())),
        };
        format!("most {held} ({})", percent(one.share.map(|share| share.fraction())))
    }

    /// Tells every set and every assembly in a line.
    pub fn all(&self, report: &DriftReport) -> String {
        let counts: Vec<_> = report.sets.iter().map(DriftSetReport::counts).collect();
        let sets: Vec<Vec<Post>> = report.sets.iter().map(|set| set.members.iter().map(post).collect()).collect();
        let wholes: Vec<Vec<Post>> =
            report.assemblies.iter().map(|one| one.wholes.iter().map(post_of_whole).collect()).collect();
        let of_sets = report.sets.iter().zip(&sets).zip(&counts).map(|((set, posts), counts)| {
            let differ = match (counts.differ, counts.devices) {
                (_, 1) => "alone: nothing to hold it against".to_owned(),
                (0, _) => "all alike".to_owned(),
                (differ, _) => {
                    let facts = count(counts.differences as u64, "difference", "differences");
                    format!("{differ} {}, {facts}", if differ == 1 { "differs" } else { "differ" })
                }
            };
            let accepted = if counts.accepted > 0 { format!("  {} accepted", counts.accepted) } else { String::new() };
            let undecided = match set.no_common_value.len() {
                0 => String::new(),
                facts => format!("  {} without a common value", count(facts as u64, "fact", "facts")),
            };
            PostLine {
                label: &set.id,
                posts,
                says: [format!("{differ}{accepted}{undecided}"), format!("{differ}{accepted}")],
                of: "devices",
            }
        });
        let of_assemblies = report.assemblies.iter().zip(&wholes).map(|(one, posts)| {
            let differing = one.wholes.iter().filter(|whole| whole.differences() > 0).count();
            let says = match differing {
                0 => "wholes, all alike".to_owned(),
                _ => {
                    let verb = if differing == 1 { "differs" } else { "differ" };
                    let facts = count(one.differences() as u64, "difference", "differences");
                    format!("wholes, {differing} {verb}, {facts}")
                }
            };
            PostLine { label: &one.id, posts, says: [says.clone(), says], of: "wholes" }
        });
        let lines: Vec<PostLine<'_>> = of_sets.chain(of_assemblies).collect();
        let mut out = render_lines(&lines, self.width, self.unicode, self.styles);
        if self.shows_accepted {
            let members = report.sets.iter().flat_map(|set| &set.members);
            let of_assemblies = report.assemblies.iter().flat_map(AssemblyReport::members);
            self.accepted(members.chain(of_assemblies), &mut out);
        }
        out.push_str(&self.ended(report));
        if report.unparted > 0 {
            let devices = count(report.unparted as u64, "device belongs", "devices belong");
            out.push_str(&format!("\n{devices} to no set, since the fact that parts them is not known.\n"));
        }
        out
    }

    /// Tells what is no longer accepted.
    pub fn ended(&self, report: &DriftReport) -> String {
        let mut out = String::new();
        for one in &report.ended {
            out.push_str(&format!(
                "\n{} of {} was accepted until {}; it is not any more.\n",
                harmless(&one.fact),
                harmless(&one.drift),
                self.clock.end_of_day(one.until)
            ));
        }
        out
    }

    /// Tells what became of differences, set by set and assembly by assembly.
    pub fn movements(&self, report: &DriftReport, movements: &Movements) -> String {
        let sets = report.sets.iter().map(|set| set.id.as_str()).zip(&movements.sets);
        let assemblies = report.assemblies.iter().map(|one| one.id.as_str()).zip(&movements.assemblies);
        sets.chain(assemblies).map(|(id, movement)| self.movement(id, movement)).collect()
    }

    /// Tells the differences of one device in each of what was compared.
    pub fn device_everywhere(&self, report: &DriftReport, device: &str) -> String {
        let sets = report.sets.iter().flat_map(|set| set.members.iter().map(|member| (set.id.as_str(), member)));
        let assemblies = report.assemblies.iter().flat_map(|one| one.members().map(|member| (one.id.as_str(), member)));
        let own = sets.chain(assemblies).filter(|(_, member)| member.device == device);
        own.map(|(id, member)| self.device(id, member)).collect::<Vec<String>>().join("\n")
    }

    /// Tells one set: what differs side by side, and who differs in the same way.
    pub fn set(&self, set: &DriftSetReport) -> String {
        let mut out = String::new();
        self.heading(set, &mut out);
        self.side_by_side(set, &mut out);
        self.remarks(set, &mut out);
        out
    }

    fn heading(&self, set: &DriftSetReport, out: &mut String) {
        let strong = self.styles.strong;
        let title = set.title.as_ref().map(|title| format!("  {}", harmless(title))).unwrap_or_default();
        out.push_str(&format!("{strong}{}{strong:#}{title}\n", harmless(&set.id)));
        let counts = set.counts();
        let devices = count(counts.devices as u64, "device", "devices");
        let held = match &set.reference {
            ReferenceName::Majority => "against what most of them hold".to_owned(),
            ReferenceName::Device { device, at: None } => format!("against {}", harmless(device)),
            ReferenceName::Device { device, at: Some(at) } => {
                format!("against {} as of {}", harmless(device), self.clock.full(*at))
            }
            ReferenceName::OwnPast(at) => format!("each against itself as of {}", self.clock.full(*at)),
            ReferenceName::Baseline(id) => format!("against what the baseline {} expects", harmless(id)),
        };
        let found = match (counts.devices, counts.differ) {
            (0, _) => "no device is in it".to_owned(),
            (1, _) if set.reference == ReferenceName::Majority => {
                "nothing to hold it against; with --against DEVICE or self@DATE there is".to_owned()
            }
            (_, 0) => "all are alike".to_owned(),
            (_, differ) => {
                let verb = if differ == 1 { "differs" } else { "differ" };
                format!("{differ} {verb}, {}", count(counts.differences as u64, "difference", "differences"))
            }
        };
        out.push_str(&format!("{devices}, {held}: {found}.\n"));
    }

    fn side_by_side(&self, set: &DriftSetReport, out: &mut String) {
        let alike = set.alike();
        if alike.is_empty() {
            self.same(set, out);
            return;
        }
        let rows = set.rows();
        let names: Vec<String> = alike.iter().enumerate().map(|(at, group)| column_name(set, at, group)).collect();
        let shown = self.columns_that_fit(&rows, &alike, &names);
        let of_majority = set.reference == ReferenceName::Majority;
        let each_own = matches!(set.reference, ReferenceName::OwnPast(_));
        let mut columns = vec![("FACT", Column::Fixed)];
        if !each_own {
            columns.push((if of_majority { "MOST" } else { "REFERENCE" }, Column::Fixed));
        }
        if of_majority {
            columns.push(("OF", Column::Number));
        }
        columns.extend(names[..shown].iter().map(|name| (name.as_str(), Column::Fixed)));
        let mut table = Table::new(&columns);
        for row in &rows {
            let of_row: Vec<Option<&MemberDifference>> = alike[..shown]
                .iter()
                .map(|group| group.differences.iter().find(|one| one.place == row.place))
                .collect();
            if of_row.iter().all(Option::is_none) {
                continue;
            }
            let mut cells = vec![Cell::new(row.place.to_string())];
            if !each_own {
                cells.push(Cell::styled(self.shown(&row.place, row.reference.as_ref()), self.styles.faint));
            }
            if of_majority {
                cells.push(Cell::styled(percent(row.share.map(|share| share.fraction())), self.styles.faint));
            }
            cells.extend(of_row.into_iter().map(|one| self.cell(one, each_own)));
            table.row(cells);
        }
        if !table.is_empty() {
            out.push('\n');
            out.push_str(&table.render(self.width, self.styles));
        }
        self.legend(set, &alike[..shown], &names, out);
        let others = set.members.len() - alike.iter().map(|group| group.members.len()).sum::<usize>();
        if others > 0 && !set.members.is_empty() {
            let devices = count(others as u64, "device does not differ", "devices do not differ");
            out.push_str(&format!("{devices}.\n"));
        }
        if shown < alike.len() {
            self.shared(set, out);
        }
        self.same(set, out);
    }

    /// Returns how many columns of devices fit beside the facts and what they are held against.
    fn columns_that_fit(&self, rows: &[ComparedRow], alike: &[AlikeDevices], names: &[String]) -> usize {
        let widest = |texts: &mut dyn Iterator<Item = usize>| texts.max().unwrap_or(0);
        let facts = widest(&mut rows.iter().map(|row| harmless(&row.place.to_string()).width()));
        let references = widest(&mut rows.iter().map(|row| self.shown(&row.place, row.reference.as_ref()).width()));
        let mut room = self.width.saturating_sub(facts + 2 + references.max(9) + 2 + 5 + 2);
        let mut shown = 0;
        for (group, name) in alike.iter().zip(names) {
            let cells = widest(&mut group.differences.iter().map(|one| self.cell_text(one, false).width()));
            let needed = cells.max(name.width()) + 2;
            if shown > 0 && needed > room {
                break;
            }
            room = room.saturating_sub(needed);
            shown += 1;
        }
        shown
    }

    fn cell_text(&self, one: &MemberDifference, with_reference: bool) -> String {
        let accepted = if one.accepted_by.is_some() { " (accepted)" } else { "" };
        let was = if with_reference {
            format!(", was {}", self.shown(&one.place, one.reference.as_ref()))
        } else {
            String::new()
        };
        format!("{}{was}{accepted}", self.shown(&one.place, one.observed.as_ref()))
    }

    fn cell(&self, one: Option<&MemberDifference>, with_reference: bool) -> Cell {
        let quiet = if self.unicode { "·" } else { "." };
        match one {
            None => Cell::styled(quiet, self.styles.faint),
            Some(one) => {
                let style = if one.accepted_by.is_some() { self.styles.good } else { self.styles.bad };
                Cell::styled(self.cell_text(one, with_reference), style)
            }
        }
    }

    /// Names the devices of columns that stand for several.
    fn legend(&self, set: &DriftSetReport, alike: &[AlikeDevices], names: &[String], out: &mut String) {
        out.push('\n');
        for (group, name) in alike.iter().zip(names).filter(|(group, _)| group.members.len() > 1) {
            out.push_str(&labelled_devices(name, &devices_of(set, &group.members), self.width));
        }
    }

    /// Tells differences by the devices that share them: how a large set is read.
    fn shared(&self, set: &DriftSetReport, out: &mut String) {
        let shared = set.shared();
        out.push_str("\nDifferences, by the devices that share them:\n");
        for group in shared.iter().take(GROUPS_SHOWN) {
            let strong = self.styles.strong;
            let devices = count(group.members.len() as u64, "device", "devices");
            let named = devices_of(set, &group.members);
            out.push_str(&format!("\n{strong}{devices}{strong:#}  {named}\n"));
            let mut table = Table::new(&[("", Column::Fixed), ("", Column::Fixed), ("", Column::Fixed)]).indent(2);
            for one in &group.differences {
                let reference = match one.share {
                    Some(_) => self.most(one),
                    None => self.shown(&one.place, one.reference.as_ref()),
                };
                table.row(vec![
                    Cell::new(one.place.to_string()),
                    Cell::styled(self.shown(&one.place, one.observed.as_ref()), self.styles.bad),
                    Cell::styled(reference, self.styles.faint),
                ]);
            }
            out.push_str(&table.render(self.width, self.styles));
        }
        if shared.len() > GROUPS_SHOWN {
            let more = count((shared.len() - GROUPS_SHOWN) as u64, "group", "groups");
            out.push_str(&format!("\n{more} more; all of them: --format csv\n"));
        }
    }

    fn same(&self, set: &DriftSetReport, out: &mut String) {
        if set.same.is_empty() {
            return;
        }
        out.push_str("\nThe same on all:\n");
        let mut table = Table::new(&[("", Column::Fixed), ("", Column::Fixed)]).indent(2);
        for (place, held) in &set.same {
            table.row(vec![
                Cell::new(place.to_string()),
                Cell::styled(self.shown(place, held.as_ref()), self.styles.faint),
            ]);
        }
        out.push_str(&table.render(self.width, self.styles));
    }

    /// Tells what was not compared, who did not count, and what is accepted.
    fn remarks(&self, set: &DriftSetReport, out: &mut String) {
        let mut remarks: Vec<(&str, String)> = Vec::new();
        let named = |is: fn(&DriftMember) -> bool| {
            let names: Vec<&str> =
                set.members.iter().filter(|member| is(member)).map(|member| member.device.as_str()).collect();
            (!names.is_empty()).then(|| names.iter().map(|name| harmless(name)).collect::<Vec<_>>().join(", "))
        };
        let places = |places: &[Place]| {
            (!places.is_empty())
                .then(|| places.iter().map(|place| harmless(&place.to_string())).collect::<Vec<_>>().join(", "))
        };
        let no_common =
            places(&set.no_common_value).map(|facts| format!("no value is common to most of them: {facts}"));
        let left_out = places(&set.left_out).map(|facts| format!("since nearly all differ: {facts}"));
        let stale = named(|member| member.is_stale).map(|names| format!("too old to count: {names}"));
        let no_past = named(|member| member.has_no_past).map(|names| format!("without a past at that moment: {names}"));
        remarks.extend(no_common.map(|text| ("undecided", text)));
        remarks.extend(left_out.map(|text| ("left out", text)));
        remarks.extend(stale.map(|text| ("stale", text)));
        remarks.extend(no_past.map(|text| ("no past", text)));
        let accepted = set.counts().accepted;
        if accepted > 0 && !self.shows_accepted {
            let differences = count(accepted as u64, "difference is", "differences are");
            remarks.push(("accepted", format!("{differences} accepted by somebody: --accepted tells them")));
        }
        for pattern in &set.idle_patterns {
            remarks.push(("idle", format!("nothing that these devices report fits {}", harmless(pattern))));
        }
        for fact in &set.tolerances_of_texts {
            remarks
                .push(("tolerance", format!("{} is no number everywhere; a tolerance is for numbers", harmless(fact))));
        }
        if set.has_more_facts {
            remarks.push((
                "bounded",
                "there are too many different facts to compare all; name some with --facts".to_owned(),
            ));
        }
        if !remarks.is_empty() {
            out.push('\n');
        }
        for (word, text) in remarks {
            out.push_str(&labelled(word, &text, self.width, self.styles));
        }
        if self.shows_accepted {
            self.accepted(set.members.iter(), out);
        }
    }

    /// Tells the differences that somebody accepted, with why and until when.
    fn accepted<'m>(&self, members: impl Iterator<Item = &'m DriftMember>, out: &mut String) {
        let mut table = Table::new(&[
            ("DEVICE", Column::Fixed),
            ("FACT", Column::Fixed),
            ("HAS", Column::Fixed),
            ("ACCEPTED UNTIL", Column::Fixed),
            ("BECAUSE", Column::Text),
        ]);
        for member in members {
            for one in &member.accepted {
                let entry = one.accepted_by.and_then(|at| self.definitions.accepted.get(at));
                table.row(vec![
                    Cell::new(&member.device),
                    Cell::new(one.place.to_string()),
                    Cell::new(self.shown(&one.place, one.observed.as_ref())),
                    Cell::new(entry.map(|entry| self.clock.end_of_day(entry.until)).unwrap_or_default()),
                    Cell::new(entry.map(|entry| entry.because.as_str()).unwrap_or_default()),
                ]);
            }
        }
        if !table.is_empty() {
            out.push_str("\nAccepted differences:\n");
            out.push_str(&table.render(self.width, self.styles));
        }
    }

    /// Tells the differences of one device, with since when they last and what it held before.
    fn device(&self, id: &str, member: &DriftMember) -> String {
        let mut out = String::new();
        let strong = self.styles.strong;
        let differences = match member.differing {
            0 => "no difference that nobody accepted".to_owned(),
            many => count(many as u64, "difference", "differences"),
        };
        out.push_str(&format!("{strong}{}{strong:#} in {}: {differences}\n", harmless(&member.device), harmless(id)));
        let mut table = Table::new(&[
            ("FACT", Column::Fixed),
            ("HAS", Column::Fixed),
            ("INSTEAD OF", Column::Fixed),
            ("OF", Column::Number),
            ("SINCE", Column::Fixed),
            ("BEFORE", Column::Fixed),
            ("", Column::Text),
        ]);
        for one in member.differences.iter().chain(&member.accepted) {
            let since = one.beginning.as_ref();
            let moved = since.is_some_and(|since| since.because == BeganBy::Reference);
            let remark = match (one.accepted_by.and_then(|at| self.definitions.accepted.get(at)), moved) {
                (Some(entry), _) => format!("accepted until {}", self.clock.end_of_day(entry.until)),
                (None, true) => "the others changed".to_owned(),
                (None, false) => String::new(),
            };
            let style = if one.accepted_by.is_some() { self.styles.good } else { self.styles.bad };
            let before = since
                .filter(|since| since.changed_at.is_some())
                .map(|since| self.shown(&one.place, since.was.as_ref()));
            table.row(vec![
                Cell::new(one.place.to_string()),
                Cell::styled(self.shown(&one.place, one.observed.as_ref()), style),
                Cell::new(self.shown(&one.place, one.reference.as_ref())),
                Cell::styled(percent(one.share.map(|share| share.fraction())), self.styles.faint),
                Cell::new(since.map(|since| self.clock.moment(since.since)).unwrap_or_default()),
                Cell::new(before.unwrap_or_default()),
                Cell::styled(remark, self.styles.faint),
            ]);
        }
        if !table.is_empty() {
            out.push_str(&table.render(self.width, self.styles));
        }
        if member.is_stale {
            out.push_str("Its state is older than its source promises, so it does not count towards what most hold.\n");
        }
        if member.has_no_past {
            out.push_str("Nothing is known of it at that moment.\n");
        }
        out
    }

    /// Tells which devices hold which value of a fact.
    pub fn values(&self, set: &DriftSetReport, fact: &str) -> String {
        let strong = self.styles.strong;
        let mut out = format!("{strong}{}{strong:#} in {}\n", harmless(fact), harmless(&set.id));
        let mut table = Table::new(&[("VALUE", Column::Fixed), ("DEVICES", Column::Number), ("", Column::Text)]);
        for held in &set.values {
            let names: Vec<&str> = held.devices.iter().map(String::as_str).collect();
            table.row(vec![
                Cell::new(value(held.value.as_ref())),
                Cell::new(names.len().to_string()),
                Cell::styled(some_of(&names, 12), self.styles.faint),
            ]);
        }
        out.push_str(&table.render(self.width, self.styles));
        out
    }

    /// Tells what became of differences between two moments.
    fn movement(&self, id: &str, movement: &DriftMovement) -> String {
        let strong = self.styles.strong;
        let mut out = format!("{strong}{}{strong:#}\n", harmless(id));
        if movement.is_empty() {
            out.push_str("  as it was\n");
            return out;
        }
        let mut table =
            Table::new(&[("", Column::Fixed), ("", Column::Fixed), ("", Column::Fixed), ("", Column::Fixed)]).indent(2);
        let all =
            movement.drifted.iter().map(|one| (true, one)).chain(movement.came_back.iter().map(|one| (false, one)));
        for (drifted, one) in all {
            let (word, style) = if drifted { ("drifted", self.styles.bad) } else { ("came back", self.styles.good) };
            let difference = &one.difference;
            let held = match drifted {
                true => format!(
                    "{} instead of {}",
                    self.shown(&difference.place, difference.observed.as_ref()),
                    self.shown(&difference.place, difference.reference.as_ref())
                ),
                false => format!("no longer {}", self.shown(&difference.place, difference.observed.as_ref())),
            };
            table.row(vec![
                Cell::styled(word, style),
                Cell::new(&one.device),
                Cell::new(difference.place.to_string()),
                Cell::new(held),
            ]);
        }
        out.push_str(&table.render(self.width, self.styles));
        out
    }

    /// Tells an assembly as a tree: whole, role, device, fact, with how many differences lie below each.
    pub fn assembly(&self, assembly: &AssemblyReport, only: Option<&str>) -> String {
        let strong = self.styles.strong;
        let title = assembly.title.as_ref().map(|title| format!("  {}", harmless(title))).unwrap_or_default();
        let mut out = format!("{strong}{}{strong:#}{title}\n", harmless(&assembly.id));
        let differing = assembly.wholes.iter().filter(|whole| whole.differences() > 0).count();
        let wholes = count(assembly.wholes.len() as u64, "whole", "wholes");
        let found = match differing {
            0 => "all are alike".to_owned(),
            _ => format!("{differing} {}", if differing == 1 { "differs" } else { "differ" }),
        };
        out.push_str(&format!("{wholes}, role by role against what most hold: {found}.\n\n"));
        for whole in assembly.wholes.iter().filter(|whole| only.is_none_or(|only| only == whole.whole)) {
            self.whole(whole, only.is_some(), &mut out);
        }
        self.assembly_remarks(assembly, &mut out);
        out
    }

    fn whole(&self, whole: &WholeReport, in_full: bool, out: &mut String) {
        let strong = self.styles.strong;
        let devices = count(whole.devices() as u64, "device", "devices");
        let differences = match whole.differences() {
            0 => "as the others".to_owned(),
            many => count(many as u64, "difference", "differences"),
        };
        out.push_str(&format!("{strong}{}{strong:#}  {devices}, {differences}\n", harmless(&whole.whole)));
        for role in whole.roles.iter().filter(|role| in_full || role.differences() > 0) {
            self.role(role, in_full, out);
        }
    }

    fn role(&self, role: &RoleReport, in_full: bool, out: &mut String) {
        let bad = self.styles.bad;
        let count_of = match &role.count {
            Some(found) => format!(
                "  {bad}{} of them, most have {}{bad:#} ({})",
                if found.observed == 0 { "none".to_owned() } else { found.observed.to_string() },
                found.reference,
                percent(Some(found.share.fraction()))
            ),
            None => String::new(),
        };
        let differences = match role.differences() {
            0 => "as the others".to_owned(),
            many => count(many as u64, "difference", "differences"),
        };
        out.push_str(&format!("  {}  {differences}{count_of}\n", harmless(&role.role)));
        for member in role.members.iter().filter(|member| in_full || member.differs()) {
            let differences = match member.differences.len() {
                0 => "as the others".to_owned(),
                many => count(many as u64, "difference", "differences"),
            };
            out.push_str(&format!("    {}  {differences}\n", harmless(&member.device)));
            let mut table = Table::new(&[("", Column::Fixed), ("", Column::Fixed), ("", Column::Fixed)]).indent(6);
            for one in &member.differences {
                table.row(vec![
                    Cell::new(one.place.to_string()),
                    Cell::styled(self.shown(&one.place, one.observed.as_ref()), self.styles.bad),
                    Cell::styled(self.most(one), self.styles.faint),
                ]);
            }
            if !table.is_empty() {
                out.push_str(&table.render(self.width, self.styles));
            }
        }
    }

    fn assembly_remarks(&self, assembly: &AssemblyReport, out: &mut String) {
        let mut remarks: Vec<(&str, String)> = Vec::new();
        let undecided: Vec<String> = assembly
            .no_common_value
            .iter()
            .map(|one| match &one.place {
                Some(place) => harmless(&format!("{place} of {}", one.role)),
                None => harmless(&format!("how many {} there are", one.role)),
            })
            .collect();
        if !undecided.is_empty() {
            remarks.push(("undecided", format!("no value is common to most: {}", undecided.join(", "))));
        }
        for (role, places) in &assembly.left_out {
            let facts: Vec<String> = places.iter().map(|place| harmless(&place.to_string())).collect();
            let text = format!("of {}, since nearly all differ: {}", harmless(role), facts.join(", "));
            remarks.push(("left out", text));
        }
        let accepted = assembly.counts().accepted;
        if accepted > 0 && !self.shows_accepted {
            let differences = count(accepted as u64, "difference is", "differences are");
            remarks.push(("accepted", format!("{differences} accepted by somebody: --accepted tells them")));
        }
        for pattern in &assembly.idle_patterns {
            remarks.push(("idle", format!("nothing that these devices report fits {}", harmless(pattern))));
        }
        if !remarks.is_empty() {
            out.push('\n');
        }
        for (word, text) in remarks {
            out.push_str(&labelled(word, &text, self.width, self.styles));
        }
        if self.shows_accepted {
            self.accepted(assembly.members(), out);
        }
    }
}

/// The post of a device of a set.
fn post(member: &DriftMember) -> Post {
    let standing = match (member.differs(), member.is_stale || member.has_no_past) {
        (true, _) => Standing::NonCompliant,
        (false, true) => Standing::Unproven,
        (false, false) => Standing::Compliant,
    };
    Post { standing, by_waiver: standing == Standing::Compliant && member.accepting > 0 }
}

fn post_of_whole(whole: &WholeReport) -> Post {
    let accepted = whole.roles.iter().flat_map(|role| &role.members).any(|member| member.accepting > 0);
    let standing = if whole.differences() > 0 { Standing::NonCompliant } else { Standing::Compliant };
    Post { standing, by_waiver: standing == Standing::Compliant && accepted }
}

/// A value as it stands beside others; a long one is cut, and of an object it is told only that it is there.
pub fn value(datum: Option<&Datum>) -> String {
    let datum = match datum {
        None => return "missing".to_owned(),
        Some(Datum::Object(_)) => return "there".to_owned(),
        Some(datum) => datum,
    };
    let shown = harmless(&datum.show());
    match shown.char_indices().nth(MOST_OF_A_VALUE) {
        Some((end, _)) => format!("{}..", &shown[..end]),
        None => shown,
    }
}

/// What stands above the column of devices that differ in the same way.
fn column_name(set: &DriftSetReport, at: usize, group: &AlikeDevices) -> String {
    match group.members.as_slice() {
        [only] => harmless(&set.members[*only].device),
        many => format!("{} devices ({})", many.len(), at + 1),
    }
}

fn devices_of(set: &DriftSetReport, members: &[usize]) -> String {
    let names: Vec<&str> = members.iter().map(|at| set.members[*at].device.as_str()).collect();
    some_of(&names, NAMED_DEVICES)
}

/// The first few of several names, with how many more there are.
fn some_of(names: &[&str], most: usize) -> String {
    let shown: Vec<String> = names.iter().take(most).map(|name| harmless(name)).collect();
    match names.len().saturating_sub(most) {
        0 => shown.join(", "),
        more => format!("{} and {more} more", shown.join(", ")),
    }
}

fn labelled_devices(name: &str, devices: &str, width: usize) -> String {
    let indent = name.width() + 2;
    let lines = super::table::wrap(devices, width.saturating_sub(indent));
    let line = |(at, part): (usize, String)| {
        let head = if at == 0 { format!("{name}: ") } else { " ".repeat(indent) };
        format!("{head}{part}\n")
    };
    lines.into_iter().enumerate().map(line).collect()
}
