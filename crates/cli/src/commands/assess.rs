use std::fs::File;
use std::io::{BufRead, BufReader};
use std::num::NonZeroU16;
use std::path::{Path, PathBuf};
use std::process::ExitCode;

use clap::{Args, ValueEnum};
use fencepost_core::Standing;
use fencepost_core::limits::REJECTS_KEPT;
use fencepost_engine::{
    AccessQuery, AssessOptions, Assessed, DeviceVerdicts, EngineError, FenceLine, FindingLine, LinePhase, Post,
    Reading, RefusedLine, RuleCount, SealedVerdicts, StandingCounts, StateInput, Stateless, assess, assess_file,
};
use fencepost_store::Purpose;
use jiff::Timestamp;

use super::{
    Common, JsonList, OutputFormat, open_project, parse_moment, warn, write_json, write_rows, writing_ledger,
    writing_moment,
};
use crate::error::CommandError;
use crate::ui::Ui;
use crate::view::fence::{self, spaced};
use crate::view::json;
use crate::view::next_step::NextStep;
use crate::view::style::Styles;
use crate::view::table::{Cell, Column, Table, wrap};
use crate::view::text::{count, harmless};
use crate::view::time::Clock;
use crate::view::verdict_lines::VerdictLines;

/// Evaluate the devices that may have changed, move the findings, and decide who reaches what
///
/// With --state FILE it evaluates the documents of a file instead, without reading or writing a ledger.
#[derive(Args, Debug)]
#[command(after_help = "Examples:
  fencepost assess
  fencepost assess --by groups                        the fence by groups
  fencepost assess --fail-on overdue --quiet          for a script: exit 1 when something is overdue
  fencepost assess --state fleet.jsonl --format jsonl verdicts for each device of a file
  collect | fencepost assess --state - --format jsonl the same in a pipe
  fencepost assess --verdicts verdicts.jsonl          with what --state FILE --all wrote elsewhere")]
pub struct AssessArgs {
    /// Evaluate the documents of FILE (- for standard input) without a ledger
    #[arg(long, value_name = "FILE", group = "input")]
    state: Option<PathBuf>,
    /// With --state: the source that the file belongs to
    #[arg(long, value_name = "ID", requires = "state")]
    source: Option<String>,
    /// With --state: give every rule's verdict, passes too
    #[arg(long, requires = "state")]
    all: bool,
    /// With --state: give the proof of each verdict
    #[arg(long, requires = "state")]
    evidence: bool,
    /// Work on so many cores, instead of on all
    #[arg(long, value_name = "COUNT")]
    workers: Option<NonZeroU16>,
    /// Evaluate every device, and not only those about which something may have changed
    #[arg(long, conflicts_with = "state")]
    anew: bool,
    /// Take over the verdicts of FILE (- for standard input) that were made of the same state by the same rules
    ///
    /// FILE is what assess --state wrote elsewhere, with --all and as JSON Lines, in a copy of this workspace with its key
    /// (.fencepost/key). What does not bear the seal that belongs to a device's state is evaluated here.
    #[arg(long, value_name = "FILE", group = "input", conflicts_with = "anew")]
    verdicts: Option<PathBuf>,
    /// Fail when a line of the input was refused
    #[arg(long, requires = "input")]
    strict: bool,
    /// Draw the fence by the values of a fact, or by `groups`
    #[arg(long, value_name = "FACT", conflicts_with = "state")]
    by: Option<String>,
    /// Exit with 1 when this was found
    #[arg(long, value_enum, value_name = "WHAT")]
    fail_on: Option<FailOn>,
    /// Judge as of TIME; with a ledger only in a workspace with a stepped clock
    #[arg(long, value_name = "TIME")]
    as_of: Option<String>,
    /// Go by --as-of although it lies more than a year after the newest state
    #[arg(long, requires = "as_of")]
    far_ahead: bool,
    /// How to write the result
    #[arg(long, value_enum, default_value_t)]
    format: OutputFormat,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
enum FailOn {
    /// A device is non-compliant or unproven
    Overdue,
    /// A device is not compliant
    Any,
    /// Somebody lost access since the assessment before
    LostAccess,
}

impl FailOn {
    fn found(self, counts: &StandingCounts) -> bool {
        match self {
            Self::Overdue => counts.non_compliant + counts.unproven > 0,
            Self::Any => counts.compliant < counts.total,
            Self::LostAccess => false,
        }
    }
}

pub fn cmd_assess(ui: &mut Ui, common: &Common, args: &AssessArgs) -> Result<ExitCode, CommandError> {
    if let Some(path) = &args.state {
        return stateless(ui, common, args, path);
    }
    let project = open_project(ui, common)?;
    let mut verdicts = None;
    if let Some(path) = &args.verdicts {
        let (read, refused) = SealedVerdicts::read(&project, open_input(path)?)?;
        tell_refused(ui, &refused, 0);
        if args.strict && !refused.is_empty() {
            ui.complain("nothing was assessed, since lines were refused");
            return Ok(ExitCode::from(2));
        }
        verdicts = Some(read);
    }
    let mut ledger = writing_ledger(ui, &project, common, Purpose::Write)?;
    let moment = writing_moment(&project, &ledger, args.as_of.as_ref(), (!args.far_ahead).then_some(1))?;
    let bar = ui.progress(0, "assessing", false);
    let options = AssessOptions {
        anew: args.anew,
        workers: args.workers.map(|workers| workers.get().into()),
        verdicts: verdicts.as_ref(),
    };
    let assessed = assess(&project, &mut ledger, &moment, options, &mut |done, of| {
        bar.set_length(of);
        bar.set_position(done);
    });
    bar.finish_and_clear();
    let assessed = assessed?;
    warn(ui, &project.files, &assessed.warnings);
    if let Some((taken, of)) = assessed.taken {
        ui.note(taken_over(taken, of));
    }
    let earlier = std::cell::OnceCell::new();
    let reading = Reading::open(&project, &earlier, &ledger, assessed.as_of, false)?;
    let mut found = args.fail_on.is_some_and(|what| what.found(&assessed.devices));
    if args.fail_on == Some(FailOn::LostAccess) {
        found = !reading.access(&AccessQuery::default())?.lost.is_empty();
    }
    match args.format {
        OutputFormat::Json => write_json(ui, &json::AssessedJson(&assessed))?,
        OutputFormat::Jsonl | OutputFormat::Csv => {
            write_rows(ui, args.format, &RULE_COLUMNS, json::rule_rows(&assessed))?;
        }
        OutputFormat::Table => {
            if assessed.existing {
                ui.note("Nothing is new since this assessment, so it stands.");
            }
            let lines = reading.fence(args.by.as_deref())?;
            let clock = Clock { now: assessed.as_of, zone: project.config.calendar.zone.clone() };
            let page = AssessmentPage { ui_width: ui.width, unicode: ui.unicode, styles: ui.styles, clock };
            let imported = reading.reader.last_import(assessed.run)?;
            ui.raw(&page.assessed(&assessed, imported, &lines)?)?;
            let worst = worst_device(&assessed)?;
            ui.next_step(NextStep::AfterAssessment { worst: worst.as_deref() });
        }
    }
    Ok(if found { ExitCode::from(1) } else { ExitCode::SUCCESS })
}

/// How much of a file of verdicts was of use.
fn taken_over(taken: u64, of: u64) -> String {
    let were = |number: u64| if number == 1 { "1 was".to_owned() } else { format!("{number} were") };
    match of - taken {
        _ if of == 0 => "No device had to be looked at, so no verdict was needed.".to_owned(),
        0 => format!("The verdicts of {} were taken over.", count(of, "device", "devices")),
        rest if taken == 0 => format!(
            "No verdict was taken over; {} evaluated here. Only those are taken that were made with --all of the same state, rules and key, and still hold.",
            were(rest)
        ),
        rest => format!(
            "The verdicts of {taken} of {} were taken over; {} evaluated here.",
            count(of, "device", "devices"),
            were(rest)
        ),
    }
}

/// Says which lines were refused, as long as they are few; `before` is how many there were before these.
fn tell_refused(ui: &mut Ui, lines: &[RefusedLine], before: u64) {
    let room = REJECTS_KEPT.saturating_sub(before);
    for line in lines.iter().take(usize::try_from(room).unwrap_or(usize::MAX)) {
        ui.complain(format!("line {}: {}", line.line, harmless(&line.reason)));
    }
    if room > 0 && lines.len() as u64 > room {
        ui.complain("further lines that are refused are counted, and not named");
    }
}

/// Opens a file to be read, or standard input.
fn open_input(path: &Path) -> Result<Box<dyn BufRead + Send>, CommandError> {
    if path.as_os_str() == "-" {
        return Ok(Box::new(BufReader::new(std::io::stdin())));
    }
    let file = File::open(path).map_err(|error| {
        CommandError::usage(
            format!("could not read {}: {error}", path.display()),
            "check the name, or write - for standard input",
        )
    })?;
    Ok(Box::new(BufReader::new(file)))
}

/// Returns the first device of which something fell due, else of which something was opened.
fn worst_device(assessed: &Assessed) -> Result<Option<String>, EngineError> {
    let worst = match assessed.overdue.first()? {
        Some(line) => Some(line),
        None => assessed.opened.first()?,
    };
    Ok(worst.map(|line| line.device))
}

fn stateless(ui: &mut Ui, common: &Common, args: &AssessArgs, path: &Path) -> Result<ExitCode, CommandError> {
    if args.fail_on == Some(FailOn::LostAccess) {
        return Err(CommandError::usage(
            "--fail-on lost-access compares with the assessment before, and --state reads no ledger",
            "with --state write --fail-on overdue or --fail-on any",
        ));
    }
    let project = open_project(ui, common)?;
    let at = parse_moment(&project, args.as_of.as_ref())?.unwrap_or_else(Timestamp::now);
    let input = open_input(path)?;
    let rule_set = project.rules.rules();
    let lines = VerdictLines::new(rule_set, at);
    let mut whole = Told { rules: rule_set.iter().map(|rule| RuleCount::of(rule, at)).collect(), ..Told::default() };
    let mut refused = 0_u64;
    let mut list = None;
    match args.format {
        OutputFormat::Csv => write_rows(ui, OutputFormat::Csv, &DEVICE_COLUMNS, [])?,
        OutputFormat::Json => {
            list = Some(JsonList::begin(ui, serde_json::json!({ "schema": json::SCHEMA }), "devices")?)
        }
        OutputFormat::Table | OutputFormat::Jsonl => {}
    }
    let options = Stateless {
        all: args.all || args.format == OutputFormat::Table,
        sealed: args.all && matches!(args.format, OutputFormat::Json | OutputFormat::Jsonl),
        evidence: args.evidence,
        workers: args.workers.map(|workers| workers.get().into()),
    };
    let each = |told: &mut Told, device: &DeviceVerdicts| {
        told.counts.add(device.standing);
        match args.format {
            OutputFormat::Jsonl => lines.write(device, &mut told.text),
            OutputFormat::Json => JsonList::add_to(&json::device_verdicts(device, rule_set, at), &mut told.text),
            OutputFormat::Csv => {
                let row = json::device_verdicts(device, rule_set, at);
                let c = &row["counts"];
                let cells = [
                    &row["device"],
                    &row["standing"],
                    &c["pass"],
                    &c["fail"],
                    &c["unknown"],
                    &c["not_applicable"],
                    &c["trial"],
                    &row["collected_at"],
                ];
                told.text.extend_from_slice(fencepost_formats::csv_line(cells).as_bytes());
            }
            OutputFormat::Table => {
                told.rules.resize_with(rule_set.len(), RuleCount::default);
                device.verdicts.iter().for_each(|verdict| told.rules[verdict.rule].add(verdict));
            }
        }
    };
    let of = StateInput { project: &project, path, source: args.source.as_deref(), at, options };
    assess_file(of, input, each, |told, refused_lines| {
        tell_refused(ui, &refused_lines, refused);
        refused += refused_lines.len() as u64;
        whole.counts.merge(&told.counts);
        whole.rules.iter_mut().zip(&told.rules).for_each(|(sum, rule)| sum.merge(rule));
        match &mut list {
            Some(list) => list.write(ui, &told.text),
            None => {
                let text = std::str::from_utf8(&told.text).map_err(std::io::Error::other)?;
                if args.format == OutputFormat::Csv { ui.csv(text) } else { ui.json(text) }
            }
        }
    })?;
    let Told { counts, rules, .. } = whole;
    match args.format {
        OutputFormat::Json => list.map_or(Ok(()), |list| list.end(ui))?,
        OutputFormat::Table => {
            let clock = Clock { now: at, zone: project.config.calendar.zone.clone() };
            let page = AssessmentPage { ui_width: ui.width, unicode: ui.unicode, styles: ui.styles, clock };
            ui.raw(&page.stateless(&counts, &rules))?;
        }
        OutputFormat::Jsonl | OutputFormat::Csv => {}
    }
    if refused > 0 {
        ui.complain(format!("{} refused", count(refused, "line was", "lines were")));
    }
    let found = args.fail_on.is_some_and(|what| what.found(&counts));
    Ok(match (args.strict && refused > 0, found) {
        (true, _) => ExitCode::from(2),
        (false, true) => ExitCode::from(1),
        (false, false) => ExitCode::SUCCESS,
    })
}

/// What is told of a piece of the input, or of all of it.
#[derive(Default)]
struct Told {
    text: Vec<u8>,
    counts: StandingCounts,
    rules: Vec<RuleCount>,
}

const RULE_COLUMNS: [&str; 9] =
    ["rule", "stage", "pass", "fail", "unknown", "not_applicable", "nothing_to_check", "excepted", "awaiting"];

const DEVICE_COLUMNS: [&str; 8] =
    ["device", "standing", "pass", "fail", "unknown", "not_applicable", "trial", "collected_at"];

/// How an assessment looks to a person.
pub struct AssessmentPage {
    pub ui_width: usize,
    pub unicode: bool,
    pub styles: Styles,
    pub clock: Clock,
}

/// How many findings of a kind are told.
const LINES_SHOWN: usize = 8;

impl AssessmentPage {
    /// The standings, and the fence that draws them.
    pub fn fence(&self, assessed: &Assessed, lines: &[FenceLine]) -> String {
        let clock = &self.clock;
        let strong = self.styles.strong;
        let moment = format!("as of {} ({})", clock.full(assessed.as_of), clock.zone_name());
        let posts = fence::render(lines, self.ui_width, self.unicode, &self.styles);
        let standings = self.standings(&assessed.devices);
        format!("{strong}Assessment {}{strong:#}, {moment}\n{standings}\n{posts}", assessed.number)
    }

    pub fn assessed(
        &self,
        assessed: &Assessed,
        imported: Option<Timestamp>,
        lines: &[FenceLine],
    ) -> Result<String, EngineError> {
        let clock = &self.clock;
        let mut out = self.fence(assessed, lines);
        out.push('\n');
        if let Some((oldest, newest)) = assessed.collected {
            let imported = imported.map(|at| format!(", imported {}", clock.moment(at))).unwrap_or_default();
            let (from, to) = (clock.both(oldest), clock.moment(newest));
            let sentence = format!("State collected between {from}, and {to}{imported}");
            out.push_str(&wrap(&sentence, self.ui_width).join("\n"));
            out.push('\n');
        }
        out.push('\n');
        out.push_str(&self.rules(&assessed.rules));
        let since = assessed.before.map_or_else(
            || "; this is the first assessment".to_owned(),
            |before| format!(" since {}", clock.full(before)),
        );
        out.push_str(&format!(
            "\n{} opened, {} closed, {} fell due{since}\n",
            assessed.opened.len(),
            assessed.closed.len(),
            assessed.overdue.len()
        ));
        let mut table =
            Table::new(&[("", Column::Fixed), ("", Column::Fixed), ("", Column::Fixed), ("", Column::Text)]).indent(2);
        for (word, lines, style) in [
            ("fell due", &assessed.overdue, self.styles.bad),
            ("opened", &assessed.opened, self.styles.notice),
            ("closed", &assessed.closed, self.styles.good),
        ] {
            for line in lines.iter().take(LINES_SHOWN) {
                let line = line?;
                table.row(vec![
                    Cell::styled(word, style),
                    Cell::new(&line.device),
                    Cell::new(&line.rule),
                    Cell::new(self.when(&line)),
                ]);
            }
            if lines.len() > LINES_SHOWN as u64 {
                table.row(vec![
                    Cell::styled(word, style),
                    Cell::new(format!("and {} more", lines.len() - LINES_SHOWN as u64)),
                    Cell::new(""),
                    Cell::new(""),
                ]);
            }
        }
        out.push_str(&table.render(self.ui_width, &self.styles));
        Ok(out)
    }

    fn when(&self, line: &FindingLine) -> String {
        let clock = &self.clock;
        match (line.phase, line.how.as_deref()) {
            (LinePhase::Closed, Some(how)) => how.replace('-', " "),
            (LinePhase::Overdue, Some("relapsed")) => format!("relapsed; due since {}", clock.both(line.due)),
            (LinePhase::Overdue, _) if line.due == line.opened => "due at once".to_owned(),
            (LinePhase::Overdue, _) => format!("due since {}", clock.both(line.due)),
            (LinePhase::Open, Some("relapsed")) => {
                format!("relapsed; due {}", clock.both(line.due))
            }
            (LinePhase::Waived, _) => "waived".to_owned(),
            (LinePhase::Open | LinePhase::Closed, _) => format!("due {}", clock.both(line.due)),
        }
    }

    fn standings(&self, counts: &StandingCounts) -> String {
        let number = |standing| match standing {
            Standing::Compliant => counts.compliant,
            Standing::OnNotice => counts.on_notice,
            Standing::Unproven => counts.unproven,
            Standing::NonCompliant => counts.non_compliant,
        };
        let heading = format!("{}:", count(counts.total, "device", "devices"));
        let said =
            |standing| format!("{} {} {}", fence::post(standing, self.unicode), number(standing), spaced(standing));
        let all = Standing::ALL.map(|standing| said(standing).chars().count() + 3).iter().sum::<usize>();
        // Where it is narrow, what no device is goes without saying.
        let narrow = heading.len() + all > self.ui_width;
        let parts: Vec<String> = Standing::ALL
            .into_iter()
            .filter(|standing| !narrow || number(*standing) > 0)
            .map(|standing| {
                let style = self.styles.standing(standing);
                format!("{style}{}{style:#}", said(standing))
            })
            .collect();
        let mut out = format!("{heading}  {}\n", parts.join("   "));
        let mut hidden = Vec::new();
        if counts.waived > 0 {
            let post = fence::post_of(Post { standing: Standing::Compliant, by_waiver: true }, self.unicode);
            hidden.push(format!("{post} {} compliant by waiver", counts.waived));
        }
        if counts.uncovered > 0 {
            hidden.push(format!("{} covered by no enforced rule", counts.uncovered));
        }
        if counts.stale > 0 {
            hidden.push(format!("{} with nothing fresh", counts.stale));
        }
        if !hidden.is_empty() {
            out.push_str(&format!("among them {}\n", hidden.join(", ")));
        }
        out
    }

    fn rules(&self, rules: &[RuleCount]) -> String {
        let mut table = Table::new(&[
            ("RULE", Column::Fixed),
            ("FAIL", Column::Number),
            ("UNKNOWN", Column::Number),
            ("PASS", Column::Number),
            ("NOT COVERED", Column::Number),
            ("", Column::Text),
        ]);
        // What counts before what is on trial, the worst first; equal ones as they are written. What is waived counts as met.
        let mut sorted: Vec<&RuleCount> = rules.iter().filter(|rule| rule.stage != "draft").collect();
        sorted.sort_by_key(|rule| {
            (rule.stage == "trial", std::cmp::Reverse(rule.unwaived_fail()), std::cmp::Reverse(rule.unknown))
        });
        for rule in sorted {
            let mut notes = Vec::new();
            if rule.stage == "trial" {
                notes.push("on trial".to_owned());
            }
            if rule.vacuous > 0 {
                notes.push(format!("{} passed with nothing to check", rule.vacuous));
            }
            if rule.awaiting > 0 {
                notes.push(format!("{} on the way", rule.awaiting));
            }
            if rule.waived > 0 {
                notes.push(format!("{} waived", rule.waived));
            }
            if rule.excepted > 0 {
                notes.push(format!("{} excepted", rule.excepted));
            }
            if rule.pass + rule.fail + rule.unknown == 0 {
                notes.push("covers no device".to_owned());
            }
            let number = |value: u64, style| {
                if value == 0 { Cell::styled("0", self.styles.faint) } else { Cell::styled(value.to_string(), style) }
            };
            let fail = match (rule.stage.as_str(), rule.unwaived_fail()) {
                ("trial", _) => self.styles.notice,
                (_, 0) => self.styles.good,
                _ => self.styles.bad,
            };
            table.row(vec![
                Cell::new(&rule.rule),
                number(rule.fail, fail),
                number(rule.unknown, self.styles.unproven),
                Cell::new(rule.pass.to_string()),
                Cell::styled(rule.not_applicable.to_string(), self.styles.faint),
                Cell::styled(notes.join(", "), self.styles.faint),
            ]);
        }
        table.render(self.ui_width, &self.styles)
    }

    fn stateless(&self, counts: &StandingCounts, rules: &[RuleCount]) -> String {
        format!(
            "Every clock starting now, {} ({}); no ledger was read or written\n{}\n{}",
            self.clock.full(self.clock.now),
            self.clock.zone_name(),
            self.standings(counts),
            self.rules(rules)
        )
    }
}
