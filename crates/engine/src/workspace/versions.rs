//! Since when rules are as they are, by the rule sets that assessments went by.

use fencepost_core::Rule;
use fencepost_store::Reader;
use jiff::Timestamp;

use crate::error::EngineError;
use crate::workspace::project::Project;

/// Returns of each rule of a project the first of the latest assessments, up to a moment, in which it was the same, as `same` says
/// of the rule then and now; none where it is new since the last.
pub(crate) fn same_since(
    project: &Project,
    reader: &Reader<'_>,
    until: Timestamp,
    same: impl Fn(&Rule, &Rule) -> bool,
) -> Result<Vec<Option<Timestamp>>, EngineError> {
    let rules = project.rules.rules();
    let mut since = vec![None; rules.len()];
    let mut still = vec![true; rules.len()];
    let runs = reader.assessments(Some(until), u32::MAX)?;
    for group in runs.chunk_by(|a, b| a.rule_set == b.rule_set) {
        let oldest = group.last().map(|run| run.as_of);
        if group[0].rule_set.as_deref() == Some(&project.digest) {
            since.iter_mut().zip(&still).filter(|(_, still)| **still).for_each(|(since, _)| *since = oldest);
            continue;
        }
        let text = group[0].rule_set.as_deref().map(|digest| reader.rule_set(digest)).transpose()?.flatten();
        let earlier = text.and_then(|text| Project::from_text(&project.root, &text));
        for ((rule, since), still) in rules.iter().zip(&mut since).zip(&mut still).filter(|(_, still)| **still) {
            let then = earlier
                .as_ref()
                .and_then(|earlier| earlier.rules.position(rule.id.as_str()).map(|at| &earlier.rules.rules()[at]));
            *still = then.is_some_and(|then| same(then, rule));
            if *still {
                *since = oldest;
            }
        }
        if !still.contains(&true) {
            break;
        }
    }
    Ok(since)
}
