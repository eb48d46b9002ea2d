use std::fs;
use std::path::PathBuf;
use std::process::ExitCode;

use clap::Args;
use fencepost_engine::{
    AccessQuery, ApprovalRequest, AssessOptions, ImportOptions, Importer, Moment, Project, Reading, SendOptions,
    approve, assess, open_ledger, send,
};
use fencepost_store::Purpose;
use jiff::Timestamp;

use super::assess::AssessmentPage;
use super::{Common, user};
use crate::error::CommandError;
use crate::ui::Ui;
use crate::view::access::AccessPage;
use crate::view::text::count;
use crate::view::time::Clock;

/// Make the demo workspace: a ferry company's fleet over fourteen days
///
/// It writes workspace and feeds into DIR, imports and assesses day by day, and shows what the last morning
/// brings. Everything in it is made up.
#[derive(Args, Debug)]
#[command(after_help = "Examples:
  fencepost demo             into fencepost-demo in this folder
  fencepost demo /tmp/ferry")]
pub struct DemoArgs {
    /// The folder; one that an earlier demo made is made again
    #[arg(value_name = "DIR", default_value = "fencepost-demo")]
    folder: PathBuf,
}

/// What tells a demo's folder from somebody's own workspace.
const MARK: &str = ".fencepost-demo";

pub fn cmd_demo(ui: &mut Ui, common: &Common, args: &DemoArgs) -> Result<ExitCode, CommandError> {
    let folder = &args.folder;
    prepare(folder)?;
    for (path, text) in fencepost_standin::workspace_files() {
        write(&folder.join(path), text)?;
    }
    write(&folder.join(".gitignore"), ".fencepost/\n")?;
    let project = Project::open(folder)?;
    let mut ledger = open_ledger(&project, Purpose::Create, common.wait)?;
    let options = ImportOptions::default();
    let name = project.config.name.clone().unwrap_or_default();
    ui.line(format!("{name}: fourteen mornings in {}", folder.display()))?;
    let mut last = None;
    for day in fencepost_standin::days() {
        let as_of: Timestamp = day
            .as_of
            .parse()
            .map_err(|error| CommandError::usage(format!("{error}"), "this is a defect of the demo"))?;
        let moment = Moment { as_of, wall: Timestamp::now(), user: user() };
        let mut set_aside = 0;
        for feed in &day.feeds {
            let path = folder.join(&feed.path);
            write(&path, &feed.text.replace(fencepost_standin::LAST_COMMAND, &last_command(&project, common)?))?;
            set_aside += Importer { project: &project, options: &options, moment: &moment }
                .file(&mut ledger, &path, &mut |_| {})?
                .rejects
                .count();
        }
        let assessed = assess(&project, &mut ledger, &moment, AssessOptions::default(), &mut |_, _| {})?;
        let clock = Clock { now: as_of, zone: project.config.calendar.zone.clone() };
        let rejects = if set_aside > 0 {
            format!("; {} set aside", count(set_aside, "record", "records"))
        } else {
            String::new()
        };
        ui.line(format!(
            "  {:<22}  {} opened, {} closed, {} fell due{rejects}",
            clock.full(as_of),
            assessed.opened.len(),
            assessed.closed.len(),
            assessed.overdue.len(),
        ))?;
        if day.day < LAST_DAY {
            if day.day == DAY_OF_APPROVAL {
                approve_all(&project, common, &moment)?;
            }
            send_all(&project, common, &moment)?;
        }
        last = Some(assessed);
    }
    let Some(assessed) = last else { return Ok(ExitCode::SUCCESS) };
    let earlier = std::cell::OnceCell::new();
    let reading = Reading::open(&project, &earlier, &ledger, assessed.as_of, false)?;
    let clock = Clock { now: assessed.as_of, zone: project.config.calendar.zone.clone() };
    let page = AssessmentPage { ui_width: ui.width, unicode: ui.unicode, styles: ui.styles, clock: clock.clone() };
    ui.line("")?;
    ui.raw(&page.fence(&assessed, &reading.fence(None)?))?;
    ui.line("")?;
    let report = reading.access(&AccessQuery::default())?;
    ui.raw(
        &AccessPage {
            clock: &clock,
            styles: &ui.styles,
            width: ui.width,
            by: None,
            only: None,
            denied: false,
            silent: &[],
        }
        .render(&report),
    )?;
    drop(reading);
    let moment = Moment { as_of: assessed.as_of, wall: Timestamp::now(), user: user() };
    let outbox =
        send(&project, common.wait, &moment, &SendOptions { dry_run: true, ..SendOptions::default() }, &mut |_, _| {})?;
    let waiting = [
        (outbox.delivered.len(), "ready to be sent"),
        (outbox.held.len() as u64, "held until somebody approves"),
        (outbox.withheld.len() as u64, "withheld"),
    ];
    let waiting: Vec<String> =
        waiting.iter().filter(|(number, _)| *number > 0).map(|(number, what)| format!("{number} {what}")).collect();
    ui.line(format!("\nOutbox: {}", waiting.join(", ")))?;
    let lost = report.lost.first().map_or("tern-tickets", |entry| &entry.device);
    let strong = ui.styles.strong;
    ui.line(format!(
        "\nTry next, in {}:\n  {strong}fencepost why {lost}{strong:#}\n  {strong}fencepost access --by site{strong:#}\n  \
         {strong}fencepost list findings --where 'phase = \"overdue\"'{strong:#}\n  {strong}fencepost send --dry-run{strong:#}\n  {strong}fencepost drift{strong:#}",
        folder.display()
    ))?;
    Ok(ExitCode::SUCCESS)
}

/// The last morning, of which nothing is sent yet.
const LAST_DAY: u32 = 14;

/// Sends what a morning brings; where the brake holds, somebody has looked and lets it go on.
fn send_all(project: &Project, common: &Common, moment: &Moment) -> Result<(), CommandError> {
    let mut options = SendOptions::default();
    let report = send(project, common.wait, moment, &options, &mut |_, _| {})?;
    if let Some(brake) = report.brake {
        options.go_on = Some(brake.code);
        send(project, common.wait, moment, &options, &mut |_, _| {})?;
    }
    Ok(())
}

/// The morning on which the fleet desk approves what is held.
const DAY_OF_APPROVAL: u32 = 11;

fn approve_all(project: &Project, common: &Common, moment: &Moment) -> Result<(), CommandError> {
    let options = SendOptions { dry_run: true, ..SendOptions::default() };
    let held = send(project, common.wait, moment, &options, &mut |_, _| {})?.held;
    if held.is_empty() {
        return Ok(());
    }
    let request = ApprovalRequest {
        actions: held.iter().map(|line| line.action.id.to_string()).collect(),
        by: "fleet desk".to_owned(),
        because: "Spoken to the holder on Wednesday.".to_owned(),
    };
    approve(project, common.wait, moment, &request)?;
    Ok(())
}

/// Returns the key of the last command that went out; empty where none did.
fn last_command(project: &Project, common: &Common) -> Result<String, CommandError> {
    let ledger = open_ledger(project, Purpose::Read, common.wait)?;
    let mut last = None;
    ledger.reader()?.each_delivery::<CommandError>(|delivery| {
        if last.is_none() && Some(&delivery.channel) == project.config.send.commands.as_ref() {
            last = Some(delivery.key);
        }
        Ok(())
    })?;
    Ok(last.unwrap_or_default())
}

/// Makes the folder ready; only what an earlier demo made is taken away.
fn prepare(folder: &std::path::Path) -> Result<(), CommandError> {
    let failed = |error: std::io::Error| CommandError::Usage {
        message: format!("could not make {}: {error}", folder.display()),
        help: Some("name another folder: fencepost demo DIR".to_owned()),
    };
    let mark = folder.join(MARK);
    if folder.exists() {
        let empty = fs::read_dir(folder).map_err(failed)?.next().is_none();
        if !empty && !mark.exists() {
            return Err(CommandError::usage(
                format!("{} is not empty, and no demo made it", folder.display()),
                "name another folder: fencepost demo DIR",
            ));
        }
        if mark.exists() {
            fs::remove_dir_all(folder).map_err(failed)?;
        }
    }
    fs::create_dir_all(folder).map_err(failed)?;
    fs::write(mark, "This folder was made by `fencepost demo`, which may make it again.\n").map_err(failed)
}

fn write(path: &std::path::Path, text: &str) -> Result<(), CommandError> {
    let written = path.parent().map_or(Ok(()), fs::create_dir_all).and_then(|()| fs::write(path, text));
    written.map_err(|error| CommandError::Usage {
        message: format!("could not write {}: {error}", path.display()),
        help: None,
    })
}
