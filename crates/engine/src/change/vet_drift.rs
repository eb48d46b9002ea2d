//! What is probably not as meant in `drift.toml`: sets of nobody, patterns that fit nothing, and accepted differences that are none.

use std::collections::BTreeSet;

use fencepost_core::drift::ReferenceName;
use fencepost_core::{AcceptedDifference, Diagnostic, Span};
use jiff::Timestamp;

use crate::compare::drift::DriftDetail;
use crate::compare::members::DriftQuery;
use crate::compare::view::{AssemblyReport, DriftMember, DriftReport, DriftSetReport};
use crate::error::EngineError;
use crate::ledger_view::reading::Reading;
use crate::workspace::project::Project;

/// Sets of more devices are not compared for their mistakes: that may take minutes.
const MOST_DEVICES: usize = 5_000;

/// Returns what is probably not as meant in what is compared, with the devices of a ledger.
pub(super) fn vet_drift(reading: &Reading<'_>) -> Result<Vec<Diagnostic>, EngineError> {
    let project = reading.project;
    let drift = project.rules.drift();
    let mut told = Vec::new();
    if drift.sets.is_empty() && drift.assemblies.is_empty() {
        return Ok(told);
    }
    tell_ended(project, reading.at, &mut told);
    let counts = DriftDetail { counts_only: true, most_devices: Some(MOST_DEVICES), ..DriftDetail::default() };
    let report = match reading.drift(&DriftQuery::default(), &counts) {
        Ok(Ok(report)) => report,
        Ok(Err(_)) => return Ok(told),
        Err(EngineError::Refused { message, help }) => {
            told.push(not_compared(&message, help, None));
            return Ok(told);
        }
        Err(error) => return Err(error),
    };
    for found in &report.sets {
        let Some(set) = drift.sets.iter().find(|set| set.id == found.id) else { continue };
        let place = || set.place.clone();
        told.extend(of_few(found).map(|(label, help)| {
            Diagnostic::warning("drift-of-few", format!("drift `{}` compares nothing", set.id), place())
                .label(label)
                .help(help)
        }));
        told.extend(found.idle_patterns.iter().map(|pattern| idle_pattern(&set.id, pattern, place())));
        told.extend(found.tolerances_of_texts.iter().map(|fact| tolerance_of_texts(&set.id, fact, place())));
    }
    for found in &report.assemblies {
        let Some(assembly) = drift.assemblies.iter().find(|one| one.id == found.id) else { continue };
        let place = || assembly.place.clone();
        if found.wholes.len() < 3 {
            let message = format!("assembly `{}` has fewer than three wholes", assembly.id);
            let help = "what most have can be told of three alone; correct `whole` or `where`";
            told.push(Diagnostic::warning("drift-of-few", message, place()).help(help));
        }
        told.extend(found.idle_patterns.iter().map(|pattern| idle_pattern(&assembly.id, pattern, place())));
    }
    tell_idle(project, &report, reading.at, &mut told);
    Ok(told)
}

/// Says that what is named in `drift.toml` cannot be compared.
pub(crate) fn not_compared(why: &str, help: String, place: Option<Span>) -> Diagnostic {
    Diagnostic::warning("not-compared", format!("devices that ought to be alike were not compared: {why}"), place)
        .help(help)
}

/// Says why a set compares nothing, and what to do about it.
fn of_few(found: &DriftSetReport) -> Option<(String, &'static str)> {
    match (found.members.len(), &found.reference) {
        (0, _) => Some(("no device is in it".to_owned(), "correct `peers` or `groups`")),
        (few @ 1..=2, ReferenceName::Majority) => Some((
            format!("{few} of them cannot have a majority"),
            "three are the least for what most hold; name a `reference`, such as a device or self@2027-02-01",
        )),
        _ => None,
    }
}

fn idle_pattern(id: &str, pattern: &str, place: Option<fencepost_core::Span>) -> Diagnostic {
    let message = format!("nothing that the devices of `{id}` report fits `{pattern}`");
    Diagnostic::warning("pattern-fits-nothing", message, place).help("see what they report: fencepost list facts")
}

fn tolerance_of_texts(id: &str, fact: &str, place: Option<fencepost_core::Span>) -> Diagnostic {
    let message = format!("`{fact}` is no number on the devices of `{id}`, and a tolerance is for numbers");
    Diagnostic::warning("tolerance-of-texts", message, place)
        .help("take the tolerance out, or declare the fact as a number in facts.toml")
}

fn tell_ended(project: &Project, at: Timestamp, told: &mut Vec<Diagnostic>) {
    for accepted in project.rules.drift().accepted.iter().filter(|accepted| accepted.until <= at) {
        let message = format!("`{}` of `{}` is no longer accepted", accepted.fact.as_str(), accepted.drift);
        told.push(
            Diagnostic::warning("acceptance-over", message, accepted.place.clone())
                .label("it has ended")
                .help("mend the difference, or accept it anew; else take it out"),
        );
    }
}

/// Tells of accepted differences that cover no difference.
fn tell_idle(project: &Project, report: &DriftReport, at: Timestamp, told: &mut Vec<Diagnostic>) {
    let sets = report.sets.iter().flat_map(|set| &set.members);
    let members: Vec<&DriftMember> = sets.chain(report.assemblies.iter().flat_map(AssemblyReport::members)).collect();
    let kept = members.iter().flat_map(|member| &member.accepted).filter_map(|one| one.accepted_by);
    let used: BTreeSet<usize> =
        kept.chain(members.iter().flat_map(|member| member.accepted_entries.iter().copied())).collect();
    let sets = report.sets.iter().map(|set| set.id.as_str());
    let compared: BTreeSet<&str> = sets.chain(report.assemblies.iter().map(|one| one.id.as_str())).collect();
    let is_running = |accepted: &AcceptedDifference| at < accepted.until && compared.contains(accepted.drift.as_str());
    let running = project.rules.drift().accepted.iter().enumerate().filter(|(_, accepted)| is_running(accepted));
    for (_, accepted) in running.filter(|(at, _)| !used.contains(at)) {
        let message = format!("the accepted `{}` of `{}` covers no difference", accepted.fact.as_str(), accepted.drift);
        told.push(
            Diagnostic::remark("acceptance-idle", message, accepted.place.clone())
                .help("the devices are alike there, or hold another value by now; correct it, or take it out"),
        );
    }
}
