//! The workspace's ledger, opened for what a command does with it, and the moment that the command goes by.

use std::time::Duration;

use fencepost_formats::ClockMode;
use fencepost_store::{Ledger, LedgerError, NewRun, Purpose, RunKind};
use jiff::{SignedDuration, Timestamp};

use super::project::Project;
use crate::error::EngineError;

/// The moment that a writing command goes by.
#[derive(Clone, Debug)]
pub struct Moment {
    /// What it judges by.
    pub as_of: Timestamp,
    /// What the machine's clock says.
    pub wall: Timestamp,
    /// Who runs it.
    pub user: String,
}

impl Moment {
    /// Returns the run of a command that begins at this moment, by the rule set with a digest.
    pub(crate) fn run<'m>(&'m self, kind: RunKind, rule_set: Option<&'m str>) -> NewRun<'m> {
        let version = env!("CARGO_PKG_VERSION");
        NewRun { kind, as_of: self.as_of, at: self.wall, user: &self.user, version, rule_set }
    }
}

/// Opens the workspace's ledger. One that is created takes the clock mode from `fencepost.toml`.
///
/// # Errors
/// Fails if the ledger cannot be opened for this purpose.
pub fn open_ledger(project: &Project, purpose: Purpose, wait: Duration) -> Result<Ledger, EngineError> {
    let mut ledger = Ledger::open(&project.ledger_path(), purpose, wait)?;
    if purpose != Purpose::Read {
        set_clock(project, &mut ledger)?;
    }
    Ok(ledger)
}

/// Returns a private copy of the workspace's ledger, or an empty ledger where there is none: for a dry run of a command that
/// writes.
///
/// # Errors
/// Fails if the ledger cannot be read or copied.
pub fn ledger_for_dry_run(project: &Project, wait: Duration) -> Result<Ledger, EngineError> {
    let mut ledger = match Ledger::open(&project.ledger_path(), Purpose::Read, wait) {
        Err(LedgerError::Missing { .. }) => Ledger::in_memory()?,
        other => other?.private_copy()?,
    };
    set_clock(project, &mut ledger)?;
    Ok(ledger)
}

fn set_clock(project: &Project, ledger: &mut Ledger) -> Result<(), EngineError> {
    // Whoever comes first says by which clock the ledger goes; several may come at once.
    if ledger.reader()?.setting("clock")?.is_none() {
        let clock = match project.config.clock {
            ClockMode::Wall => "wall",
            ClockMode::Stepped => "stepped",
        };
        let writer = ledger.writer("init")?;
        if writer.reader().setting("clock")?.is_none() {
            writer.set_setting("clock", clock)?;
        }
        writer.commit()?;
    }
    Ok(())
}

/// Returns the moment that a command goes by: the one asked for, or "now".
///
/// In a ledger with a stepped clock "now" is the moment of its last run, so that it reads the same on any day.
///
/// # Errors
/// When a writing command is given a moment of its own in a ledger that goes by the machine's clock.
pub fn resolve_moment(
    ledger: Option<&Ledger>,
    asked: Option<Timestamp>,
    wall: Timestamp,
    writing: bool,
) -> Result<Timestamp, EngineError> {
    let Some(ledger) = ledger else { return Ok(asked.unwrap_or(wall)) };
    let reader = ledger.reader()?;
    let stepped = reader.setting("clock")?.as_deref() == Some("stepped");
    match (asked, stepped) {
        (Some(_), false) if writing => Err(EngineError::refused(
            "--as-of cannot be given to a command that writes the ledger",
            "only a workspace made with clock = \"stepped\" in fencepost.toml can be told the time",
        )),
        (Some(asked), _) => Ok(asked),
        (None, true) => Ok(reader.last_run()?.map_or(wall, |run| run.as_of)),
        (None, false) => Ok(wall),
    }
}

/// Refuses a moment for a writing command that lies far after everything the ledger knows: the ledger would go by it from then
/// on, and refuse every earlier one.
///
/// # Errors
/// Fails if the moment is refused, or the ledger cannot be read.
pub fn refuse_far_ahead(
    project: &Project,
    ledger: &Ledger,
    as_of: Timestamp,
    wall: Timestamp,
    years: i32,
) -> Result<(), EngineError> {
    let reader = ledger.reader()?;
    // An empty ledger has no clock yet.
    let Some(last) = reader.last_run()? else { return Ok(()) };
    let farthest = SignedDuration::from_hours(i64::from(years) * 366 * 24);
    let is_near = |known: Timestamp| as_of <= known.checked_add(farthest).unwrap_or(Timestamp::MAX);
    let known = last.as_of.max(wall);
    // Looking through the fleet is worth it only where the clock does not tell already.
    if is_near(known) {
        return Ok(());
    }
    let newest = reader.newest_collected()?.map_or(known, |collected| collected.max(known));
    if is_near(newest) {
        return Ok(());
    }
    let local = |at: Timestamp| project.config.calendar.zone.to_datetime(at).strftime("%Y-%m-%d %H:%M").to_string();
    Err(EngineError::refused(
        format!(
            "{} lies more than {} after the newest state ({}); the ledger would go by it from then on",
            local(as_of),
            if years == 1 { "a year".to_owned() } else { format!("{years} years") },
            local(newest),
        ),
        "check the year; if it is meant, say so with --far-ahead",
    ))
}
