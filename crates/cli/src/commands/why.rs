use std::process::ExitCode;

use clap::Args;

use super::{Common, OpenWorkspace, OutputFormat, clock_of, note_currency, page, write_json};
use crate::error::CommandError;
use crate::ui::Ui;
use crate::view::json;
use crate::view::next_step::NextStep;

/// Prove a verdict: what was observed, what is required, and where it comes from
///
/// Without RULE it tells of every rule that is not met. Only the facts that decided are shown.
#[derive(Args, Debug)]
#[command(after_help = "Examples:
  fencepost why tern-tickets
  fencepost why tern-tickets ticket-server/sshd.permit_root_login")]
pub struct WhyArgs {
    /// The device
    device: String,
    /// The rule, or the part of its id before the slash
    rule: Option<String>,
    /// Tell it as of TIME
    #[arg(long, value_name = "TIME")]
    as_of: Option<String>,
    /// How to write the result
    #[arg(long, value_enum, default_value_t)]
    format: OutputFormat,
}

pub fn cmd_why(ui: &mut Ui, common: &Common, args: &WhyArgs) -> Result<ExitCode, CommandError> {
    let workspace = OpenWorkspace::open(ui, common, args.as_of.as_ref())?;
    let reading = workspace.reading()?;
    let mut report = reading.device(&args.device)?;
    if let Some(rule) = &args.rule {
        let known = |id: &str| id == rule || id.strip_prefix(rule.as_str()).is_some_and(|rest| rest.starts_with('/'));
        if !report.verdicts.iter().any(|verdict| known(verdict.rule.id.as_str())) {
            let draft = reading.project.rules.position(rule).is_some();
            let near = fencepost_core::nearest(rule, reading.project.rules.rules().iter().map(|rule| rule.id.as_str()));
            let help = match (draft, near) {
                (true, _) => "it is a draft, which is not evaluated".to_owned(),
                (false, Some(near)) => format!("did you mean `{near}`?"),
                (false, None) => "see all of them with: fencepost list rules".to_owned(),
            };
            return Err(CommandError::usage(format!("no rule `{rule}` is evaluated"), help));
        }
        report.costs = report.costs_of(known);
        report.verdicts.retain(|verdict| args.format == OutputFormat::Table || known(verdict.rule.id.as_str()));
    }
    note_currency(ui, &reading, args.format)?;
    match args.format {
        OutputFormat::Table => {
            let clock = clock_of(&reading);
            let text = page(ui, &reading, &clock).why(&report, args.rule.as_deref());
            ui.raw(&text)?;
            if args.rule.is_none() {
                ui.next_step(NextStep::Show(&args.device));
            }
        }
        OutputFormat::Json => write_json(ui, &json::device(&report, reading.at))?,
        OutputFormat::Jsonl | OutputFormat::Csv => {
            let full = json::device(&report, reading.at);
            let mut rows: Vec<serde_json::Value> = full["verdicts"].as_array().cloned().unwrap_or_default();
            for row in &mut rows {
                row["schema"] = json::SCHEMA.into();
                row["device"] = report.device.clone().into();
            }
            super::write_rows(
                ui,
                args.format,
                &["device", "rule", "outcome", "reason", "severity", "stage", "phase", "opened", "due", "title", "fix"],
                rows,
            )?;
        }
    }
    Ok(ExitCode::SUCCESS)
}
