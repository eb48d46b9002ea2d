//! Baselines that have nothing to do with one another, and expect different things of one fact on one device.

use std::collections::BTreeSet;

use fencepost_core::{Diagnostic, Rule};
use fencepost_store::{DeviceBatch, LayoutFingerprints, LedgerError, Look, Reader};

use crate::ledger_view::batch::DEVICES;
use crate::ledger_view::outcome::{Outcome, verdict_of};
use crate::workspace::project::Project;

/// Two rules that cannot both be meant for one device.
struct Pair<'p> {
    /// Each with the place of its verdict among those of a device.
    rules: [(&'p Rule, usize); 2],
    devices: u64,
    /// The first of them.
    example: String,
}

/// Rules of unrelated baselines that ask different things of the same, and on how many devices both do.
pub(crate) struct Conflicts<'p> {
    pairs: Vec<Pair<'p>>,
}

impl<'p> Conflicts<'p> {
    pub(crate) fn of(project: &'p Project) -> Self {
        Self { pairs: pairs(project) }
    }

    /// Returns whether there are any such rules.
    pub(crate) fn is_possible(&self) -> bool {
        !self.pairs.is_empty()
    }

    /// Notes a device; `applies` says whether a rule surely does, by its place among those that are judged by.
    pub(crate) fn see(&mut self, device: &str, applies: impl Fn(usize) -> bool) {
        for pair in self.pairs.iter_mut().filter(|pair| pair.rules.iter().all(|(_, at)| applies(*at))) {
            if pair.devices == 0 {
                device.clone_into(&mut pair.example);
            }
            pair.devices += 1;
        }
    }

    /// Warns of those that both ask something of some device.
    pub(crate) fn told(&self) -> Vec<Diagnostic> {
        self.pairs.iter().filter(|pair| pair.devices > 0).map(told).collect()
    }
}

/// Warns of baselines that disagree about a device, as the last assessment left it.
pub(super) fn conflicts(project: &Project, reader: &Reader<'_>) -> Result<Vec<Diagnostic>, LedgerError> {
    let mut conflicts = Conflicts::of(project);
    if conflicts.pairs.is_empty() {
        return Ok(Vec::new());
    }
    let (all, mut held) = (reader.devices(Look::All)?, DeviceBatch::default());
    for devices in all.chunks(DEVICES) {
        reader.hold(devices, LayoutFingerprints::default(), &mut held)?;
        for (at, device) in devices.iter().enumerate() {
            let outcome = held.assessed(at).and_then(|row| Outcome::from_bytes(row.outcome));
            let Some(outcome) = outcome else { continue };
            conflicts.see(&device.name, |at| {
                outcome.verdicts.get(at).is_some_and(|code| verdict_of(at, *code).outcome.surely_covers())
            });
        }
    }
    Ok(conflicts.told())
}

/// Returns the rules of unrelated baselines that ask different things of the same.
fn pairs(project: &Project) -> Vec<Pair<'_>> {
    let judged = project.rules.rules().iter().filter(|rule| !rule.is_draft()).enumerate();
    let of_baselines: Vec<(usize, &Rule, &str, &str)> = judged
        .filter_map(|(at, rule)| {
            let from = rule.baseline.as_ref()?;
            let (_, below) = rule.id.as_str().split_once('/')?;
            Some((at, rule, from.baseline.as_str(), below))
        })
        .collect();
    let mut pairs = Vec::new();
    for (number, (at, rule, baseline, below)) in of_baselines.iter().enumerate() {
        for (other_at, other, other_baseline, other_below) in &of_baselines[number + 1..] {
            let same_thing = below == other_below && baseline != other_baseline && rule.require() != other.require();
            if same_thing && !extends(project, baseline, other_baseline) && !extends(project, other_baseline, baseline)
            {
                pairs.push(Pair { rules: [(rule, *at), (other, *other_at)], devices: 0, example: String::new() });
            }
        }
    }
    pairs
}

/// Whether a baseline starts from another, directly or through others.
fn extends(project: &Project, baseline: &str, other: &str) -> bool {
    let (mut ahead, mut seen) = (vec![baseline], BTreeSet::new());
    while let Some(next) = ahead.pop() {
        if !seen.insert(next) {
            continue;
        }
        let source = project.source.baselines.iter().find(|source| source.id.text == next);
        ahead.extend(source.iter().flat_map(|source| &source.extends).map(|named| named.text.as_str()));
    }
    baseline != other && seen.contains(other)
}

fn told(pair: &Pair<'_>) -> Diagnostic {
    let [(one, _), (other, _)] = pair.rules;
    let devices = match pair.devices {
        1 => pair.example.clone(),
        count => format!("{count} devices, {} among them", pair.example),
    };
    Diagnostic::warning(
        "baselines-disagree",
        format!("`{}` and `{}` expect different things of {}", one.id, other.id, devices.escape_debug()),
        one.place.clone(),
    )
    .label(one.baseline.as_ref().map_or("", |from| &from.says))
    .note(other.place.clone(), other.baseline.as_ref().map_or("", |from| &from.says))
    .help("let one of them extend the other and change this, or part the devices that they cover")
}
