//! Lists of what there is, as rows with named columns, filtered by a condition, sorted, or counted.

mod access;
mod assessments;
mod baselines;
mod coverage;
pub(crate) mod devices;
mod disagreements;
mod facts;
mod feeds;
mod findings;
mod groups;
mod items;
mod meanings;
pub(crate) mod outbox;
mod people;
pub(crate) mod rows;
mod rules;
mod services;
mod verdicts;
mod waivers;

use fencepost_core::Diagnostic;
use serde_json::Value as Json;

use crate::ask::baselines::RulesTogether;
use crate::error::EngineError;
use crate::ledger_view::reading::Reading;
use fencepost_spool::Spool;
pub use rows::UntoldRows;
use rows::{RowFilter, RowSink};

/// What can be listed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Kind {
    /// Devices, with their standing.
    Devices,
    /// Facts that devices report.
    Facts,
    /// Items of a list over the fleet.
    Items,
    /// Devices counted by where they belong.
    Sites,
    /// Rules, with how many devices pass and fail them.
    Rules,
    /// Baselines, with how much of them devices meet.
    Baselines,
    /// Families of rules, with the same.
    Families,
    /// Topics by platform and role, with how many devices they cover.
    Coverage,
    /// Groups, with how many belong to them.
    Groups,
    /// Verdicts of the assessment.
    Verdicts,
    /// Findings that run.
    Findings,
    /// Waivers, with what they cover.
    Waivers,
    /// Actions that findings set off.
    Actions,
    /// Deliveries that carried them.
    Deliveries,
    /// Sets of settings, with how many devices should have them.
    Bundles,
    /// Who enters bundles, and who leaves them.
    BundleChanges,
    /// Settings that another tool was asked to apply, with how far they got.
    Settings,
    /// People, with their devices.
    People,
    /// Services, with who reaches them.
    Services,
    /// Access rules, with whom they hit.
    Access,
    /// Assessments, newest first.
    Assessments,
    /// Feeds, with how they are doing.
    Sources,
    /// Facts set by hand, with what the feeds say.
    Corrections,
    /// Records that imports set aside.
    Rejects,
    /// On what feeds do not agree.
    Disagreements,
}

impl Kind {
    /// All kinds: the word for it, what one row and several are called, and what it lists.
    pub const ALL: [(Self, &'static str, [&'static str; 2], &'static str); 25] = [
        (Self::Devices, "devices", ["device", "devices"], "Devices, with their standing"),
        (Self::Facts, "facts", ["fact", "facts"], "Facts that devices report, with their commonest values"),
        (Self::Items, "items", ["item", "items"], "Items of a list over the fleet: how many devices have each"),
        (Self::Sites, "sites", ["device", "devices"], "Where devices belong, with how many are compliant"),
        (Self::Rules, "rules", ["rule", "rules"], "Rules, with what they came to"),
        (
            Self::Baselines,
            "baselines",
            ["baseline", "baselines"],
            "Baselines, with how many devices meet all, some or none of them",
        ),
        (
            Self::Families,
            "families",
            ["family of rules", "families of rules"],
            "Families of rules, which share what stands before the slash, with the same",
        ),
        (
            Self::Coverage,
            "coverage",
            ["kind of device for one topic", "kinds of devices, topic by topic"],
            "Topics by platform and role: who is covered, and who was left out",
        ),
        (Self::Groups, "groups", ["group", "groups"], "Groups, with how many belong to them"),
        (Self::Verdicts, "verdicts", ["verdict", "verdicts"], "Verdicts, device by device, with what was observed"),
        (Self::Findings, "findings", ["finding", "findings"], "Findings that run, the longest overdue first"),
        (Self::Waivers, "waivers", ["waiver", "waivers"], "Waivers, with what they cover and until when"),
        (Self::Actions, "actions", ["action", "actions"], "Actions that findings set off, and how far they have come"),
        (
            Self::Deliveries,
            "deliveries",
            ["delivery", "deliveries"],
            "Messages, tickets and commands that went out, newest first",
        ),
        (Self::Bundles, "bundles", ["bundle", "bundles"], "Sets of settings, with how many devices should have them"),
        (
            Self::BundleChanges,
            "bundle-changes",
            ["change of a bundle", "changes of bundles"],
            "Who enters bundles, and who leaves them",
        ),
        (
            Self::Settings,
            "settings",
            ["setting of a device", "settings of devices"],
            "Settings that another tool was asked to apply, and how far they got",
        ),
        (Self::People, "people", ["person", "people"], "People, with their devices"),
        (Self::Services, "services", ["service", "services"], "Services, with who reaches them"),
        (Self::Access, "access", ["access rule", "access rules"], "Access rules, with whom they hit"),
        (Self::Assessments, "assessments", ["assessment", "assessments"], "Assessments, newest first"),
        (Self::Sources, "sources", ["source", "sources"], "Feeds, with when they last came and how old they are"),
        (Self::Corrections, "corrections", ["correction", "corrections"], "Facts set by hand, with what the feeds say"),
        (Self::Rejects, "rejects", ["reject", "rejects"], "Records that imports set aside"),
        (
            Self::Disagreements,
            "disagreements",
            ["disagreement", "disagreements"],
            "On what feeds do not agree: ids, holders, facts; since when",
        ),
    ];
}

impl Kind {
    /// Returns its word.
    pub fn as_str(self) -> &'static str {
        Self::ALL.iter().find(|(kind, ..)| *kind == self).map_or("", |(_, word, ..)| word)
    }

    /// Returns whether it goes by the workspace as it is written now, and not as it was at the assessment.
    pub fn is_of_current_rules(self) -> bool {
        matches!(self, Self::Actions | Self::Bundles | Self::BundleChanges)
    }

    /// Returns whether it is about what came in, and not about what an assessment made of it.
    pub fn is_of_state(self) -> bool {
        match self {
            Self::Facts
            | Self::Sources
            | Self::Corrections
            | Self::Waivers
            | Self::Deliveries
            | Self::Settings
            | Self::Rejects
            | Self::Disagreements => true,
            Self::Devices
            | Self::Items
            | Self::Sites
            | Self::Rules
            | Self::Baselines
            | Self::Families
            | Self::Coverage
            | Self::Groups
            | Self::Verdicts
            | Self::Findings
            | Self::Actions
            | Self::Bundles
            | Self::BundleChanges
            | Self::People
            | Self::Services
            | Self::Access
            | Self::Assessments => false,
        }
    }
}

/// A column of a list.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Column {
    name: String,
    /// It is shown where no columns are asked for.
    is_usual: bool,
    /// Its cells are moments, and compare as such.
    is_moment: bool,
}

/// Columns whose cells are moments, in every list but where they are counts.
const MOMENTS: [&str; 12] = [
    "at",
    "as_of",
    "opened",
    "due",
    "from",
    "until",
    "imported",
    "last_import",
    "newest",
    "changed",
    "enforced_from",
    "since",
];

impl Column {
    /// Creates a column that is not shown unless it is asked for.
    fn named(name: &str) -> Self {
        Self { name: name.to_owned(), is_usual: false, is_moment: MOMENTS.contains(&name) }
    }
}

/// Columns that are shown unless others are asked for, and those that are shown only then.
fn columns(usual: &[&str], others: &[&str]) -> Vec<Column> {
    let column = |name: &&str, is_usual| Column { is_usual, ..Column::named(name) };
    let usual = usual.iter().map(|name| column(name, true));
    usual.chain(others.iter().map(|name| column(name, false))).collect()
}

/// What is to be listed, and how.
#[derive(Clone, Copy, Debug)]
pub struct ListQuery<'q> {
    /// The kind.
    pub kind: Kind,
    /// A condition over the columns, or the facts of devices.
    pub filter: Option<&'q str>,
    /// The columns to be shown; empty for the usual ones.
    pub columns: &'q [String],
    /// The column by which rows are sorted; `-` before it turns the order round.
    pub sort: Option<&'q str>,
    /// The columns by whose values rows are counted; empty where they are listed.
    pub by: &'q [String],
    /// Of verdicts: also those of rules that do not cover the device.
    pub not_applicable: bool,
    /// Of items: of which list.
    pub fact: Option<&'q str>,
    /// Of items: only those that no baseline names.
    pub unnamed: bool,
}

impl<'q> ListQuery<'q> {
    /// Creates the query for everything of a kind, with the usual columns.
    pub fn of(kind: Kind) -> Self {
        Self {
            kind,
            filter: None,
            columns: &[],
            sort: None,
            by: &[],
            not_applicable: false,
            fact: None,
            unnamed: false,
        }
    }

    /// Returns the column that is sorted by, and whether it is downwards.
    fn sorted_by(&self) -> Option<(&'q str, bool)> {
        let sort = self.sort?;
        Some(sort.strip_prefix('-').map_or((sort, false), |column| (column, true)))
    }
}

/// Rows with named columns; they may be more than fit into memory.
#[derive(Debug)]
pub struct Listing {
    /// The columns, in order.
    pub columns: Vec<String>,
    /// The rows: a value for each column.
    pub rows: Spool<Vec<Json>>,
    /// How many there were before the filter.
    pub total: u64,
    /// How many the filter left, before they were counted by a column.
    pub matched: u64,
    /// Of how many others it could not be told whether they pass the filter, and why.
    pub untold: UntoldRows,
    /// Rows were counted by the items of lists.
    pub by_items: bool,
    /// The path by which a condition on devices names the items that are listed, where it can.
    pub item_path: Option<String>,
    /// What is probably not as meant in the filter; it stands in a file of its own.
    pub warnings: Vec<Diagnostic>,
}

impl Reading<'_> {
    /// Lists what there is of a kind.
    ///
    /// # Errors
    /// The outer one when the ledger cannot be read, or there is no column of a name; the inner one when the filter has mistakes.
    pub fn list(&self, query: ListQuery<'_>) -> Result<Result<Listing, Vec<Diagnostic>>, EngineError> {
        match query.kind {
            Kind::Devices => return self.list_devices(query),
            Kind::Sites => return self.list_sites(query),
            _ => {}
        }
        let columns = match query.kind {
            Kind::People => self.people_columns(),
            kind => columns_of(kind),
        };
        let filter = match query.filter {
            Some(filter) => match RowFilter::compile(filter, &columns, self) {
                Ok(filter) => Some(filter),
                Err(mistakes) => return Ok(Err(mistakes)),
            },
            None => None,
        };
        let mut sink = RowSink::new(query, columns, filter)?;
        let mut item_path = None;
        match query.kind {
            Kind::Devices | Kind::Sites => {}
            Kind::Items => item_path = self.list_items(&mut sink, query)?,
            Kind::Facts => self.list_facts(&mut sink)?,
            Kind::Rules => self.list_rules(&mut sink)?,
            Kind::Baselines => self.list_rules_together(&mut sink, RulesTogether::Baselines)?,
            Kind::Families => self.list_rules_together(&mut sink, RulesTogether::Families)?,
            Kind::Coverage => self.list_coverage(&mut sink)?,
            Kind::Groups => self.list_groups(&mut sink)?,
            Kind::Verdicts => self.list_verdicts(&mut sink, query.not_applicable)?,
            Kind::Findings => self.list_findings(&mut sink)?,
            Kind::Waivers => self.list_waivers(&mut sink)?,
            Kind::Actions => self.list_actions(&mut sink)?,
            Kind::Deliveries => self.list_deliveries(&mut sink)?,
            Kind::Settings => self.list_settings(&mut sink)?,
            Kind::Bundles => self.list_bundles(&mut sink)?,
            Kind::BundleChanges => self.list_bundle_changes(&mut sink)?,
            Kind::People => self.list_people(&mut sink)?,
            Kind::Services => self.list_services(&mut sink)?,
            Kind::Access => self.list_access(&mut sink)?,
            Kind::Assessments => self.list_assessments(&mut sink)?,
            Kind::Sources => self.list_sources(&mut sink)?,
            Kind::Corrections => self.list_corrections(&mut sink)?,
            Kind::Rejects => self.list_rejects(&mut sink)?,
            Kind::Disagreements => self.list_disagreements(&mut sink)?,
        }
        Ok(Ok(Listing { item_path, ..sink.finish()? }))
    }
}

/// Returns the columns of a kind of list, as far as they are the same in every workspace.
fn columns_of(kind: Kind) -> Vec<Column> {
    match kind {
        Kind::Devices | Kind::Sites => devices::own_columns(),
        Kind::Facts => facts::columns(),
        Kind::Items => items::columns(),
        Kind::Rules => rules::columns(),
        Kind::Baselines => baselines::columns("baseline"),
        Kind::Families => baselines::columns("family"),
        Kind::Coverage => coverage::columns(),
        Kind::Groups => groups::columns(),
        Kind::Verdicts => verdicts::columns(),
        Kind::Findings => findings::columns(),
        Kind::Waivers => waivers::columns(),
        Kind::Actions => outbox::action_columns(),
        Kind::Deliveries => outbox::delivery_columns(),
        Kind::Settings => outbox::setting_columns(),
        Kind::Bundles => outbox::bundle_columns(),
        Kind::BundleChanges => outbox::bundle_change_columns(),
        Kind::People => people::columns(),
        Kind::Services => services::columns(),
        Kind::Access => access::columns(),
        Kind::Assessments => assessments::columns(),
        Kind::Sources => feeds::source_columns(),
        Kind::Corrections => feeds::correction_columns(),
        Kind::Rejects => feeds::reject_columns(),
        Kind::Disagreements => disagreements::columns(),
    }
}

/// A column of a list, for its help.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ColumnHelp {
    /// Its name.
    pub name: String,
    /// It is shown where no columns are asked for.
    pub is_usual: bool,
    /// Its cells are moments.
    pub is_moment: bool,
    /// What it means; none of a fact, which the dictionary describes.
    pub about: Option<&'static str>,
}

impl Reading<'_> {
    /// Returns the columns that a list of a kind has; of devices those besides their facts.
    pub fn column_help(&self, kind: Kind) -> Vec<ColumnHelp> {
        let mut columns = match kind {
            Kind::People => self.people_columns(),
            kind => columns_of(kind),
        };
        if kind == Kind::Devices {
            let usual = devices::usual_columns(self.project);
            columns.iter_mut().for_each(|column| column.is_usual = usual.contains(&column.name));
        }
        let help = |Column { name, is_usual, is_moment }| ColumnHelp {
            about: meanings::meaning(kind, &name),
            name,
            is_usual,
            is_moment,
        };
        columns.into_iter().map(help).collect()
    }
}

/// A part of a whole in hundredths, rounded.
fn percent(part: u64, whole: u64) -> u64 {
    (part * 100 + whole / 2).checked_div(whole).unwrap_or(0)
}
