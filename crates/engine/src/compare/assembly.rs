//! Assemblies: whole systems held against one another, role by role. How many devices fill a role is compared like a fact.

use std::collections::{BTreeMap, BTreeSet};

use fencepost_core::drift::{DifferenceKind, ReferenceName, Share};

use super::drift::{DriftDetail, SetPlan};
use super::members::{AssemblyMember, PlannedAssembly, SetMember};
use super::view::{AssemblyReport, CountDifference, RoleReport, UndecidedInRole, WholeReport};
use crate::error::EngineError;
use crate::ledger_view::reading::Reading;

impl Reading<'_> {
    /// Compares the wholes of an assembly.
    pub(super) fn compare_assembly(
        &self,
        plan: &PlannedAssembly<'_>,
        detail: &DriftDetail,
    ) -> Result<AssemblyReport, EngineError> {
        let mut by_role: BTreeMap<&str, Vec<&AssemblyMember>> = BTreeMap::new();
        for member in &plan.members {
            by_role.entry(&member.role).or_default().push(member);
        }
        let names: BTreeSet<&str> = plan.members.iter().map(|member| member.whole.as_str()).collect();
        let mut wholes: Vec<WholeReport> =
            names.iter().map(|whole| WholeReport { whole: (*whole).to_owned(), roles: Vec::new() }).collect();
        let mut report = AssemblyReport {
            id: plan.id.to_owned(),
            title: plan.title.map(str::to_owned),
            wholes: Vec::new(),
            no_common_value: Vec::new(),
            left_out: BTreeMap::new(),
            idle_patterns: Vec::new(),
        };
        let mut idle: Option<BTreeSet<String>> = None;
        for (role, devices) in &by_role {
            let members: Vec<SetMember> = devices.iter().map(|device| device.member.clone()).collect();
            let set = SetPlan {
                id: plan.id,
                reference: &ReferenceName::Majority,
                compared: &plan.compared,
                parted_by: &plan.parted_by,
                members: &members,
            };
            let found = self.compare_members(&set, detail)?;
            // A pattern is idle where it fits nothing in any role.
            let own: BTreeSet<String> = found.idle_patterns.into_iter().collect();
            idle = Some(idle.map_or_else(|| own.clone(), |idle| &idle & &own));
            if !found.left_out.is_empty() {
                report.left_out.insert((*role).to_owned(), found.left_out);
            }
            let undecided = found.no_common_value.into_iter();
            report
                .no_common_value
                .extend(undecided.map(|place| UndecidedInRole { role: (*role).to_owned(), place: Some(place) }));
            let counts: Vec<usize> = wholes
                .iter()
                .map(|whole| devices.iter().filter(|device| device.whole == whole.whole).count())
                .collect();
            let common = common_count(&counts);
            if common.is_none() && counts.iter().any(|count| *count != counts[0]) {
                report.no_common_value.push(UndecidedInRole { role: (*role).to_owned(), place: None });
            }
            // Found in the order of the devices' ids.
            let of_device: BTreeMap<&str, &str> =
                devices.iter().map(|device| (device.member.row.name.as_str(), device.whole.as_str())).collect();
            for (whole, observed) in wholes.iter_mut().zip(counts) {
                let of_whole =
                    |member: &&super::view::DriftMember| of_device.get(member.device.as_str()) == Some(&&*whole.whole);
                let members: Vec<_> = found.members.iter().filter(of_whole).cloned().collect();
                let count = common.and_then(|(reference, share)| difference_in_count(observed, reference, share));
                if !members.is_empty() || count.is_some() {
                    whole.roles.push(RoleReport { role: (*role).to_owned(), count, members });
                }
            }
        }
        report.wholes = wholes;
        report.idle_patterns = idle.into_iter().flatten().collect();
        Ok(report)
    }
}

/// Returns the number that most wholes have, and in how many it is so; none where there is no such number.
fn common_count(counts: &[usize]) -> Option<(usize, Share)> {
    let mut votes: BTreeMap<usize, usize> = BTreeMap::new();
    for count in counts {
        *votes.entry(*count).or_default() += 1;
    }
    let (count, holders) = votes.into_iter().max_by_key(|(_, holders)| *holders)?;
    let share = Share { holders, voters: counts.len() };
    share.is_common().then_some((count, share))
}

fn difference_in_count(observed: usize, reference: usize, share: Share) -> Option<CountDifference> {
    let kind = match (observed, reference) {
        (observed, reference) if observed == reference => return None,
        (0, _) => DifferenceKind::Missing,
        (_, 0) => DifferenceKind::Extra,
        _ => DifferenceKind::Changed,
    };
    Some(CountDifference { observed, reference, kind, share })
}
