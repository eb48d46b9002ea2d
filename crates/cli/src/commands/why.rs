use std::process::ExitCode;

use clap::Args;
use fencepost_engine::{Reading, VerdictLine};
use serde_json::json;

use super::{Common, OpenWorkspace, OutputFormat, clock_of, note_currency, page, write_json};
use crate::error::CommandError;
use crate::ui::Ui;
use crate::view::json;
use crate::view::next_step::NextStep;
use crate::view::text::harmless;

/// Prove a verdict: what was observed, what is required, and where it comes from
///
/// Without RULE it tells of every rule that is not met. Only the facts that decided are shown.
#[derive(Args, Debug)]
#[command(after_help = "Examples:
  fencepost why tern-tickets
  fencepost why tern-tickets ticket-server/sshd.permit_root_login
  fencepost why puffin-bridge-1 --as-told")]
pub struct WhyArgs {
    /// The device
    device: String,
    /// The rule, or the part of its id before the slash
    rule: Option<String>,
    /// Tell it as of TIME
    #[arg(long, value_name = "TIME")]
    as_of: Option<String>,
    /// Tell it as the notice does that would be sent next
    #[arg(long)]
    as_told: bool,
    /// How to write the result
    #[arg(long, value_enum, default_value_t)]
    format: OutputFormat,
}

pub fn cmd_why(ui: &mut Ui, common: &Common, args: &WhyArgs) -> Result<ExitCode, CommandError> {
    let workspace = OpenWorkspace::open(ui, common, args.as_of.as_ref())?;
    let reading = workspace.reading()?;
    if args.as_told {
        return as_told(ui, &workspace, reading, args);
    }
    let mut report = reading.device(&args.device)?;
    if let Some(rule) = &args.rule {
        let known = |id: &str| is_meant(rule, id);
        if !report.verdicts.iter().any(|verdict| known(verdict.rule.id.as_str())) {
            let draft = reading.project.rules.position(rule).is_some();
            let near = fencepost_core::nearest(rule, reading.project.rules.rules().iter().map(|rule| rule.id.as_str()));
            let help = match (draft, near) {
                (true, _) => format!("it is a draft; see what it would say with: {}", NextStep::Show(rule).in_words()),
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
            let sets = &reading.project.rules.drift().sets;
            let of_set = |verdict: &VerdictLine| {
                let named = args.rule.as_deref().is_some_and(|rule| is_meant(rule, verdict.rule.id.as_str()));
                verdict.rule.compared_set().filter(|_| named)
            };
            match report.verdicts.iter().find_map(of_set) {
                Some(set) => {
                    ui.next_step(NextStep::DriftOfDevice { set: Some(&sets[set].id), device: &report.device });
                }
                None if args.rule.is_none() => ui.next_step(NextStep::Show(&args.device)),
                None => {}
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

/// Whether a rule's id is the one that was named, or below it.
fn is_meant(named: &str, id: &str) -> bool {
    id.strip_prefix(named).is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
}

/// Writes the notice that would be sent next.
fn as_told(
    ui: &mut Ui,
    workspace: &OpenWorkspace,
    reading: Reading<'_>,
    args: &WhyArgs,
) -> Result<ExitCode, CommandError> {
    // What would be sent goes by the files as they are written now.
    let reading = if reading.edited { reading.by_rules_of(&workspace.project)? } else { reading };
    let told = reading.as_told(&args.device, |id| args.rule.as_ref().is_none_or(|rule| is_meant(rule, id)))?;
    match args.format {
        OutputFormat::Table => {
            let (strong, faint) = (ui.styles.strong, ui.styles.faint);
            let to = match (&told.to, &told.step) {
                (Some(to), Some(step)) if told.is_sent => format!("sent to {} already, by step {step}", harmless(to)),
                (Some(to), Some(step)) => format!("to {}, by step {step}", harmless(to)),
                _ => "to nobody: no response tells of it, so this is the standard text".to_owned(),
            };
            let mut text = format!("{faint}{to}{faint:#}\n{strong}{}{strong:#}\n\n", harmless(&told.message.subject));
            told.message.text.trim_end().lines().for_each(|line| text.push_str(&format!("{}\n", harmless(line))));
            ui.raw(&text)?;
        }
        OutputFormat::Json | OutputFormat::Jsonl | OutputFormat::Csv => {
            let row = json!({
                "schema": json::SCHEMA, "device": args.device, "rules": told.rules, "to": told.to, "step": told.step,
                "subject": told.message.subject, "body": told.message.text, "html": told.message.html,
            });
            match args.format {
                OutputFormat::Json => write_json(ui, &row)?,
                format => super::write_rows(ui, format, &["device", "rules", "to", "step", "subject", "body"], [row])?,
            }
        }
    }
    Ok(ExitCode::SUCCESS)
}
