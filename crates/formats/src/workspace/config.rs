//! `fencepost.toml`: the clock, the holder, defaults, and the sources.

use fencepost_core::{
    Conversion, Diagnostic, Dictionary, LackSettings, Named, Period, ResponsesSource, SettleSettings, Text, Uncovered,
    WorkCalendar, day_of_week,
};
use std::collections::BTreeSet;

use jiff::tz::TimeZone;

use super::channels::{self, SendSettings};
use super::report::{self, ReportSettings};
use super::shape::{KeyKind, TableKey, TableShape, words};
use super::source::{self, FieldUnit, Source};
use super::table::{Table, TableReader};
use super::{FileText, holidays};

/// Whose clock the ledger goes by.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum ClockMode {
    /// The machine's.
    #[default]
    Wall,
    /// The moments that writing commands are given: for demonstrations and trials.
    Stepped,
}

/// What `fencepost.toml` says.
#[derive(Clone, Debug)]
pub struct Config {
    /// What the workspace is called.
    pub name: Option<String>,
    /// The zone in which days are counted and times shown.
    pub calendar: WorkCalendar,
    /// The iCalendar file that lists days on which nobody works, and where it is named.
    pub holidays_file: Option<Named>,
    /// Whose clock the ledger goes by.
    pub clock: ClockMode,
    /// The fact that names who uses a device.
    pub holder: Option<String>,
    /// The fact whose values part the fence into lines.
    pub fence_by: Option<String>,
    /// Of which devices the company may keep everything.
    pub company_device: Option<Text>,
    /// What makes a device managed, for access rules that ask; a fresh observation, where nothing is said.
    pub managed: Option<Text>,
    /// How long history is kept; for ever when none.
    pub keep_history: Option<Period>,
    /// What a device is that nothing covers, once its grace is over.
    pub uncovered_stands: Uncovered,
    /// How long a device may be covered by nothing.
    pub uncovered: LackSettings,
    /// A finding that fails again sooner than this keeps its old clock.
    pub relapse: Period,
    /// How long a device may be silent.
    pub silence: LackSettings,
    /// How often the fleet is to be assessed; none where nothing says how often state comes.
    pub assess_every: Option<Period>,
    /// The feeds, in the order in which they are written.
    pub sources: Vec<Source>,
    /// How what is to be said or done leaves the house.
    pub send: SendSettings,
    /// How reports look.
    pub report: ReportSettings,
    /// The ladder of steps that silence sets off.
    pub silence_response: Option<Named>,
    /// The ladder of steps that a device sets off which nothing covers.
    pub uncovered_response: Option<Named>,
}

impl Default for Config {
    fn default() -> Self {
        let settle = SettleSettings::default();
        Self {
            name: None,
            calendar: settle.calendar,
            holidays_file: None,
            clock: ClockMode::Wall,
            holder: None,
            fence_by: None,
            company_device: None,
            managed: None,
            keep_history: None,
            uncovered_stands: settle.uncovered_stands,
            uncovered: settle.uncovered,
            relapse: settle.relapse,
            silence: settle.silence,
            assess_every: None,
            sources: Vec::new(),
            send: SendSettings::default(),
            report: ReportSettings::default(),
            silence_response: None,
            uncovered_response: None,
        }
    }
}

impl Config {
    /// Returns the settings by which findings are weighed.
    pub fn settle_settings(&self) -> SettleSettings {
        SettleSettings {
            relapse: self.relapse,
            silence: self.silence,
            uncovered: self.uncovered,
            uncovered_stands: self.uncovered_stands,
            calendar: self.calendar.clone(),
        }
    }

    /// Adds the days on which nobody works from the file that lists them.
    pub(super) fn read_holidays(&mut self, files: &[FileText], mistakes: &mut Vec<Diagnostic>) {
        let Some(Named { text: name, span }) = &self.holidays_file else { return };
        let mut tell = |what: String, help: &str| {
            mistakes.push(Diagnostic::error("bad-holidays", what, span.clone()).help(help));
        };
        let Some(file) = files.iter().find(|file| file.path == *name) else {
            return tell(
                format!("there is no file `{name}`"),
                "put an .ics file beside fencepost.toml, and name it here",
            );
        };
        match holidays::days_of(&file.text) {
            Ok((days, unread)) => {
                self.calendar.holidays.extend(days);
                for why in unread {
                    let what = format!("`{name}` has an event that is no day off: {why}");
                    mistakes.push(Diagnostic::warning("unread-holiday", what, span.clone()).help(
                        "write it as a whole day, DTSTART;VALUE=DATE:20270517, yearly ones with RRULE:FREQ=YEARLY",
                    ));
                }
            }
            Err(why) => tell(format!("`{name}`: {why}"), "export the calendar again, as iCalendar (RFC 5545)"),
        }
    }

    /// Checks the units of fields against those that facts are declared in.
    pub(super) fn check_units(&self, dictionary: &Dictionary, mistakes: &mut Vec<Diagnostic>) {
        for FieldUnit { fact, unit, span } in self.sources.iter().flat_map(|source| &source.units) {
            let problem = match dictionary.facts.get(fact).and_then(|declared| declared.unit.as_deref()) {
                Some(to) => Conversion::between(unit, to).err(),
                None => Some(format!(
                    "declare its own unit first, in facts.toml: \"{fact}\" = {{ type = \"number\", unit = \"{}\" }}",
                    if unit.ends_with('B') { "B" } else { unit }
                )),
            };
            if let Some(help) = problem {
                mistakes.push(
                    Diagnostic::error(
                        "bad-unit",
                        format!("`{unit}` cannot be turned into the unit of `{fact}`"),
                        Some(span.clone()),
                    )
                    .help(help),
                );
            }
        }
    }
}

pub(super) static FILE: TableShape = TableShape::new(
    "fencepost.toml",
    &[&[
        TableKey::new("name", KeyKind::Text, "What the workspace is called."),
        TableKey::new(
            "time_zone",
            KeyKind::Text,
            "The IANA time zone in which days are counted and times shown: UTC, where it is left out.",
        ),
        TableKey::new(
            "clock",
            KeyKind::Word(|| words(&CLOCKS)),
            "Whose clock the ledger goes by: the machine's, or for trials the moments that commands are given.",
        ),
        TableKey::new("holder", KeyKind::Text, "The fact that names who uses a device."),
        TableKey::new("fence_by", KeyKind::Text, "The fact whose values part the fence into lines."),
        TableKey::new("company_device", KeyKind::Condition, "Of which devices the company may keep everything."),
        TableKey::new(
            "uncovered",
            KeyKind::Or(&KeyKind::Word(|| words(&UNCOVERED)), &UNCOVERED_TABLE),
            "What a device is that no enforced rule covers: unproven, where nothing else is said.",
        ),
        TableKey::new("relapse", KeyKind::Period, "A finding that fails again sooner than this keeps its old clock."),
        TableKey::new(
            "working_days",
            KeyKind::Names,
            "The days on which people work, such as \"mon\": Monday to Friday, where nothing is said.",
        ),
        TableKey::new("holidays", KeyKind::Days, "Days on which nobody works."),
        TableKey::new(
            "holidays_file",
            KeyKind::Text,
            "An iCalendar file beside this one that lists days on which nobody works.",
        ),
        TableKey::new("access", KeyKind::Table(&ACCESS), "What access rules go by."),
        TableKey::new("assess", KeyKind::Table(&ASSESS), "When the fleet is to be assessed."),
        TableKey::new("silence", KeyKind::Table(&SILENCE), "What holds of devices that say nothing."),
        TableKey::new("history", KeyKind::Table(&HISTORY), "What is kept of earlier times."),
        TableKey::new("report", KeyKind::Table(&report::REPORT), "How reports look."),
        TableKey::new("source", KeyKind::Tables(&source::SOURCE), "A feed of state, or of people."),
        TableKey::new(
            "channel",
            KeyKind::Tables(&channels::CHANNEL),
            "A way on which messages, tickets or commands go out.",
        ),
        TableKey::new("recipient", KeyKind::Tables(&channels::RECIPIENT), "A desk or a team that is told."),
        TableKey::new("responses", KeyKind::Table(&channels::RESPONSES), "What holds for all responses."),
    ]],
);
static SILENCE: TableShape = TableShape::new(
    "[silence]",
    &[&[
        TableKey::new("grace", KeyKind::Period, "How long enforced rules may stay unknown on a device."),
        TableKey::new("relapse", KeyKind::Period, "A silence that comes back sooner than this keeps its old clock."),
        TableKey::new("response", KeyKind::Text, "The response, of responses.toml, that silence sets off."),
    ]],
);
static UNCOVERED_TABLE: TableShape = TableShape::new(
    "[uncovered]",
    &[&[
        TableKey::new("stands", KeyKind::Word(|| words(&UNCOVERED)), "What the device is when its grace is over."),
        TableKey::new("grace", KeyKind::Period, "How long a device may be covered by no enforced rule."),
        TableKey::new(
            "relapse",
            KeyKind::Period,
            "One that is covered by nothing again sooner than this keeps its old clock.",
        ),
        TableKey::new("response", KeyKind::Text, "The response, of responses.toml, that such a device sets off."),
    ]],
);
static ACCESS: TableShape = TableShape::new(
    "[access]",
    &[&[TableKey::new(
        "managed",
        KeyKind::Condition,
        "What makes a device managed, such as a certificate that is valid: fresh state, where nothing is said.",
    )]],
);
static ASSESS: TableShape = TableShape::new(
    "[assess]",
    &[&[TableKey::new(
        "expected_every",
        KeyKind::Period,
        "How often: as often as the shortest of the sources, where nothing is said.",
    )]],
);
static HISTORY: TableShape = TableShape::new(
    "[history]",
    &[&[TableKey::new("keep", KeyKind::Period, "How long history is kept; for ever, where it is left out.")]],
);

const CLOCKS: [(&str, ClockMode); 2] = [("wall", ClockMode::Wall), ("stepped", ClockMode::Stepped)];
const UNCOVERED: [(&str, Uncovered); 3] = [
    ("compliant", Uncovered::Compliant),
    ("unproven", Uncovered::Unproven),
    ("non-compliant", Uncovered::NonCompliant),
];

pub(super) fn read(reader: &mut TableReader<'_>, root: &Table<'_>) -> Config {
    let mut config = Config {
        name: reader.string(root, "name"),
        holder: reader.string(root, "holder"),
        fence_by: reader.string(root, "fence_by"),
        ..Config::default()
    };
    if let Some(zone) = zone(reader, root) {
        config.calendar.zone = zone;
    }
    config.clock = reader.word(root, "clock", &CLOCKS).unwrap_or_default();
    calendar_days(reader, root, &mut config.calendar);
    config.holidays_file = reader.named(root, "holidays_file");
    config.relapse = reader.period(root, "relapse").unwrap_or(config.relapse);
    (config.silence.relapse, config.uncovered.relapse) = (config.relapse, config.relapse);
    if let Some(silence) = reader.table(root, "silence") {
        lack(reader, &silence, &mut config.silence);
        config.silence_response = reader.named(&silence, "response");
    }
    if let Some(value) = root.get("uncovered") {
        match reader.inner(root, "uncovered", value) {
            Some(uncovered) => {
                config.uncovered_stands = reader.word(&uncovered, "stands", &UNCOVERED).unwrap_or_default();
                lack(reader, &uncovered, &mut config.uncovered);
                config.uncovered_response = reader.named(&uncovered, "response");
            }
            None => config.uncovered_stands = reader.word(root, "uncovered", &UNCOVERED).unwrap_or_default(),
        }
    }
    if let Some(assess) = reader.table(root, "assess") {
        config.assess_every = reader.period(&assess, "expected_every");
    }
    config.company_device = reader.text(root, "company_device");
    if let Some(access) = reader.table(root, "access") {
        config.managed = reader.text(&access, "managed");
    }
    if let Some(history) = reader.table(root, "history") {
        config.keep_history = reader.period(&history, "keep");
    }
    config.send = channels::read(reader, root);
    config.report = report::read(reader, root);
    for table in reader.tables(root, "source") {
        if let Some(source) = source::read(reader, &table) {
            if config.sources.iter().any(|other| other.id == source.id) {
                reader.error(
                    "doubled-id",
                    format!("two sources are called `{}`", source.id),
                    table.get("id").map_or(0..0, |id| id.span()),
                    "give one of them another id",
                );
            }
            config.sources.push(source);
        }
    }
    config.assess_every = config
        .assess_every
        .or_else(|| config.sources.iter().filter_map(|source| source.expected_every).min_by_key(|every| every.exact()));
    config
}

impl Config {
    /// Says which responses the workspace's settings name.
    pub(super) fn name_responses(&self, into: &mut ResponsesSource) {
        into.recipients = self.send.recipients.iter().map(|recipient| recipient.id.clone()).collect();
        into.default = self.send.default.clone();
        into.access = self.send.access.clone();
        into.by_severity = self.send.by_severity.clone();
        into.silence = self.silence_response.clone();
        into.uncovered = self.uncovered_response.clone();
    }
}

/// Reads the clock of a lack of evidence.
fn lack(reader: &mut TableReader<'_>, table: &Table<'_>, settings: &mut LackSettings) {
    settings.grace = reader.period(table, "grace").unwrap_or(settings.grace);
    settings.relapse = reader.period(table, "relapse").unwrap_or(settings.relapse);
}

/// Reads on which days people work.
fn calendar_days(reader: &mut TableReader<'_>, root: &Table<'_>, calendar: &mut WorkCalendar) {
    let named = reader.names(root, "working_days");
    if root.get("working_days").is_some() {
        let mut days = BTreeSet::new();
        for Named { text, span } in named {
            match day_of_week(&text) {
                Some(day) => {
                    days.insert(day);
                }
                None => reader.report(
                    Diagnostic::error("bad-day", format!("`{text}` is no day of the week"), span)
                        .help("write mon, tue, wed, thu, fri, sat or sun"),
                ),
            }
        }
        if days.is_empty() {
            let span = root.get("working_days").map_or(0..0, |value| value.span());
            reader.error("no-working-day", "nobody ever works", span, "name a day, or leave working_days out");
        } else {
            calendar.working_days = days;
        }
    }
    calendar.holidays = reader.days(root, "holidays").into_iter().collect();
}

pub(super) fn zone(reader: &mut TableReader<'_>, table: &Table<'_>) -> Option<TimeZone> {
    let named = reader.named(table, "time_zone")?;
    let zone = TimeZone::get(&named.text).ok();
    if zone.is_none() {
        let message = format!("unknown time zone `{}`", named.text);
        reader.report(
            Diagnostic::error("bad-zone", message, named.span)
                .help("write the name of an IANA zone, such as \"Europe/Oslo\" or \"UTC\""),
        );
    }
    zone
}
