//! Mistakes in what is written by hand of single devices: corrections, retirements, renamings, and lists that call a device by a name
//! that it has no more; and files that nothing reads.

use std::collections::{BTreeSet, HashSet};

use bumpalo::Bump;
use fencepost_core::{Diagnostic, Span, Value, WaiverState, did_you_mean};
use fencepost_formats::WorkspaceFile;
use fencepost_store::Reader;
use jiff::Timestamp;

use super::waive::WaiverCoverage;
use crate::error::EngineError;
use crate::ledger_view::survey::reported_paths;
use crate::workspace::project::Project;

/// More devices than this are not held against a name that nobody has.
const MOST_LOOKED_UP: usize = 20;

/// Returns what is probably not as meant in what is written by hand, as of a moment.
pub(super) fn by_hand(
    project: &Project,
    reader: Option<&Reader<'_>>,
    at: Timestamp,
) -> Result<Vec<Diagnostic>, EngineError> {
    let mut told = Vec::new();
    tell_unread_files(project, &mut told);
    tell_former_names(project, &mut told);
    tell_values(project, at, &mut told);
    tell_waivers(project, at, &mut told);
    if let Some(reader) = reader
        && reader.has_devices()?
    {
        tell_devices(project, reader, at, &mut told)?;
        tell_facts(project, reader, at, &mut told)?;
        tell_living(project, reader, at, &mut told)?;
        tell_merged(project, reader, at, &mut told)?;
    }
    Ok(told)
}

fn tell_unread_files(project: &Project, told: &mut Vec<Diagnostic>) {
    let known: Vec<&str> = WorkspaceFile::ALL.into_iter().map(WorkspaceFile::path).collect();
    for path in &project.unread_files {
        let help = did_you_mean(path, known.iter().copied(), || {
            let all = known.join(", ");
            format!("this version reads {all}; rename it, or take it out of the folder")
        });
        let message = format!("nothing reads {}", fencepost_core::harmless(path));
        told.push(Diagnostic::warning("unread-file", message, None).help(help));
    }
}

fn tell_former_names(project: &Project, told: &mut Vec<Diagnostic>) {
    let of_corrections = project.corrections.iter().map(|one| (one.device.as_str(), one.place.as_ref()));
    let of_lists = project.former_names.iter().map(|named| (named.text.as_str(), named.span.as_ref()));
    for (name, place) in of_corrections.chain(of_lists) {
        let now = project.lifecycles.name(name, Timestamp::MAX);
        if now != name {
            told.push(
                Diagnostic::warning("former-name", format!("`{name}` is called `{now}` now"), place.cloned())
                    .help(format!("it is the same device under either name; write `{now}`")),
            );
        }
    }
}

/// Warns of corrections that set a fact to what it cannot be.
fn tell_values(project: &Project, at: Timestamp, told: &mut Vec<Diagnostic>) {
    let arena = Bump::new();
    for correction in project.corrections.iter().filter(|one| at < one.until) {
        let Some(declared) = project.dictionary.facts.get(&correction.fact) else { continue };
        let Some(read_as) = declared.read_as() else { continue };
        if let Value::Unknown(_) = read_as.read(correction.value.to_value(&arena), &correction.fact) {
            let (fact, wanted) = (&correction.fact, read_as.ty.as_str());
            told.push(
                Diagnostic::warning(
                    "wrong-value",
                    format!("`{fact}` is set to what is no {wanted}"),
                    correction.place.clone(),
                )
                .help(format!("facts.toml declares it as {wanted}; conditions that need it would be unknown")),
            );
        }
    }
}

/// Warns of waivers that are over, and of rules that they name and nobody knows.
fn tell_waivers(project: &Project, at: Timestamp, told: &mut Vec<Diagnostic>) {
    let rules = project.rules.rules();
    for waiver in project.rules.waivers() {
        if waiver.state(at) == WaiverState::Over {
            let message = format!("waiver `{}` is over", waiver.id);
            told.push(
                Diagnostic::remark("waiver-over", message, waiver.place.clone())
                    .help("take it out once nobody needs to look it up"),
            );
            continue;
        }
        for named in waiver.unknown_rules(rules) {
            let known = rules.iter().map(|rule| rule.id.as_str());
            let help = did_you_mean(&named.text, known, || "see them all with: fencepost list rules".to_owned());
            let message = format!("no rule is called `{}`", named.text);
            told.push(
                Diagnostic::warning("unknown-rule", message, named.span.clone()).label("it waives nothing").help(help),
            );
        }
    }
}

/// Remarks waivers that cover nothing now. `coverage` is that of the project's waivers, in their order.
pub(super) fn tell_idle_waivers(
    project: &Project,
    coverage: &[WaiverCoverage],
    at: Timestamp,
    told: &mut Vec<Diagnostic>,
) {
    for (waiver, coverage) in project.rules.waivers().iter().zip(coverage) {
        if coverage.count > 0 || waiver.state(at) != WaiverState::Running {
            continue;
        }
        let (label, help) = match coverage.devices {
            0 => ("it is for no device that is known", "correct its devices or groups, or take it out"),
            _ => ("what it is for is met", "end it, so that it does not hide what fails later: fencepost waive end"),
        };
        let message = format!("waiver `{}` covers nothing", waiver.id);
        told.push(Diagnostic::remark("waiver-idle", message, waiver.place.clone()).label(label).help(help));
    }
}

/// Warns of devices that nobody knows.
fn tell_devices(
    project: &Project,
    reader: &Reader<'_>,
    at: Timestamp,
    told: &mut Vec<Diagnostic>,
) -> Result<(), EngineError> {
    let lifecycles = &project.lifecycles;
    let mut named: Vec<(&str, Option<&Span>, &str)> = Vec::new();
    let corrections = project.corrections.iter().filter(|one| at < one.until);
    named.extend(corrections.map(|one| (one.device.as_str(), one.place.as_ref(), "it corrects nothing")));
    named.extend(lifecycles.retired().map(|one| (one.device.as_str(), one.place.as_ref(), "it retires nothing")));
    let renamings = lifecycles.renamings(at);
    named.extend(renamings.map(|one| (one.device.as_str(), one.place.as_ref(), "it renames nothing")));
    let waivers = project.source.waivers.iter().flat_map(|waiver| &waiver.devices);
    named.extend(waivers.map(|device| (device.text.as_str(), device.span.as_ref(), "it waives nothing there")));
    let accepted = project.source.drift.accepted.iter().flat_map(|accepted| &accepted.devices);
    named.extend(accepted.map(|device| (device.text.as_str(), device.span.as_ref(), "it accepts nothing there")));
    if named.is_empty() {
        return Ok(());
    }
    let names: HashSet<String> = reader.device_names()?.into_iter().chain(reader.all_former_names()?).collect();
    let is_known = |name: &str| names.contains(name) || lifecycles.other_names(name).any(|other| names.contains(other));
    for (looked_up, (name, place, label)) in named.into_iter().filter(|(name, ..)| !is_known(name)).enumerate() {
        let near = names.iter().map(String::as_str).take(if looked_up < MOST_LOOKED_UP { names.len() } else { 0 });
        let help = did_you_mean(name, near, || "see who there is with: fencepost list devices".to_owned());
        told.push(
            Diagnostic::warning("unknown-device", format!("no device is called `{name}`"), place.cloned())
                .label(label)
                .help(help),
        );
    }
    Ok(())
}

/// Warns of corrections of facts that nobody declares and no device reports.
fn tell_facts(
    project: &Project,
    reader: &Reader<'_>,
    at: Timestamp,
    told: &mut Vec<Diagnostic>,
) -> Result<(), EngineError> {
    let is_declared = |fact: &str| project.dictionary.facts.contains_key(fact);
    let open: Vec<_> = project.corrections.iter().filter(|one| at < one.until && !is_declared(&one.fact)).collect();
    if open.is_empty() {
        return Ok(());
    }
    let mut reported: BTreeSet<String> = reported_paths(reader)?;
    reported.extend(project.dictionary.facts.keys().cloned());
    for correction in open.into_iter().filter(|one| !reported.contains(&one.fact)) {
        let fact = &correction.fact;
        let help = did_you_mean(fact, reported.iter().map(String::as_str), || {
            "declare it in facts.toml, where it is a fact that no feed has".to_owned()
        });
        told.push(
            Diagnostic::warning("unknown-fact", format!("no device reports `{fact}`"), correction.place.clone())
                .help(help),
        );
    }
    Ok(())
}

/// Reports devices that are renamed to others that live.
fn tell_living(
    project: &Project,
    reader: &Reader<'_>,
    at: Timestamp,
    told: &mut Vec<Diagnostic>,
) -> Result<(), EngineError> {
    for renaming in project.lifecycles.renamings(at) {
        let to = project.lifecycles.name(renaming.to.as_str(), at);
        if let Some(source) = reader.collecting_both(renaming.device.as_str(), to)? {
            let message = format!("`{}` cannot be called `{to}`: both live", renaming.device);
            told.push(
                Diagnostic::error("device-lives-on", message, renaming.place.clone())
                    .label(format!("`{source}` has collected each of them after the other"))
                    .help("two machines have two names; take the entry out, or correct the name in it"),
            );
        }
    }
    Ok(())
}

/// Remarks that two devices that became one stay so, where the renaming is no longer written down: what is known of them is not told
/// apart any more.
fn tell_merged(
    project: &Project,
    reader: &Reader<'_>,
    at: Timestamp,
    told: &mut Vec<Diagnostic>,
) -> Result<(), EngineError> {
    for former in reader.renamings()?.into_iter().filter(|former| former.merged) {
        if project.lifecycles.name(&former.name, at) == former.name {
            let message = format!("`{}` and `{}` became one, and cannot be parted", former.name, former.now);
            told.push(Diagnostic::remark("devices-stay-one", message, None).help(format!(
                "write the renaming into devices.toml again; without it whatever reports as `{}` is another device",
                former.name
            )));
        }
    }
    Ok(())
}
