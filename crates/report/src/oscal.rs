//! OSCAL assessment results 1.1.3 (NIST, <https://pages.nist.gov/OSCAL/>): for each clause a finding, for each rule an observation, and
//! for what is waived a risk that somebody accepted. Everything has a stable id (UUID version 5), so that the next file is about the same
//! things.

use std::collections::BTreeMap;

use fencepost_core::{VerdictOutcome, harmless};
use fencepost_engine::{ClauseEvidence, ClauseReport, ClauseRule, ClauseWaiver, ControlsReport};
use serde_json::{Value as Json, json};
use uuid::Uuid;

use crate::page::percent;

/// The version of the standard.
pub const VERSION: &str = "1.1.3";

/// Returns the assessment results of clauses as a document; `name` is what the workspace is called.
pub fn assessment_results(report: &ControlsReport, name: &str) -> Json {
    let document =
        Document { report, namespace: Uuid::new_v5(&Uuid::NAMESPACE_URL, format!("fencepost:{name}").as_bytes()) };
    document.render(name)
}

struct Document<'d> {
    report: &'d ControlsReport,
    namespace: Uuid,
}

/// What the clauses of a report come to, put together on the way.
#[derive(Default)]
struct Parts {
    /// By device.
    items: BTreeMap<String, Json>,
    /// By rule.
    observations: BTreeMap<String, Json>,
    /// By waiver.
    risks: BTreeMap<String, Json>,
    findings: Vec<Json>,
    selections: Vec<Json>,
}

impl Document<'_> {
    fn id(&self, kind: &str, of: &str) -> String {
        Uuid::new_v5(&self.namespace, format!("{kind}\0{of}").as_bytes()).to_string()
    }

    fn render(&self, name: &str) -> Json {
        let (report, as_of) = (self.report, self.report.as_of.to_string());
        let tokens = tokens_of(&report.clauses);
        let mut parts = Parts::default();
        for (clause, token) in report.clauses.iter().zip(&tokens) {
            self.add_clause(clause, token, &mut parts);
        }
        let of_run = format!("{} {}", report.assessment, report.assessed_at);
        let plan = self.id("plan", &report.rule_set);
        let mut result = json!({
            "uuid": self.id("result", &of_run),
            "title": format!("Assessment {}", report.assessment),
            "description": format!("What the enforced rules of {} said of its devices as of {}.", text(name), report.assessed_at),
            "start": report.assessed_at.to_string(),
            "end": report.assessed_at.to_string(),
            "reviewed-controls": { "control-selections": [{ "include-controls": parts.selections }] },
        });
        if parts.selections.is_empty() {
            result["reviewed-controls"] = json!({ "control-selections": [{ "include-all": {} }] });
        }
        let mut add = |key: &str, all: Vec<Json>| {
            // The schema wants lists that are there to hold something.
            if !all.is_empty() {
                result[key] = Json::Array(all);
            }
        };
        add("observations", parts.observations.into_values().collect());
        add("risks", parts.risks.into_values().collect());
        add("findings", parts.findings);
        if !parts.items.is_empty() {
            let items: Vec<Json> = parts.items.into_values().collect();
            result["local-definitions"] = json!({ "inventory-items": items });
        }
        json!({
            "assessment-results": {
                "uuid": self.id("document", &as_of),
                "metadata": {
                    "title": format!("{}: assessment results", text(name)),
                    "last-modified": as_of,
                    "version": report.assessment.to_string(),
                    "oscal-version": VERSION,
                },
                "import-ap": { "href": format!("#{plan}") },
                "results": [result],
                "back-matter": { "resources": [{
                    "uuid": plan,
                    "title": "Rules of the workspace",
                    "description": "The rules by which devices were judged, as files in the workspace. The digest names their text.",
                    "props": [{ "name": "rule-set-digest", "value": text(&report.rule_set) }],
                }] },
            }
        })
    }

    fn add_clause(&self, clause: &ClauseReport, token: &str, parts: &mut Parts) {
        // What no rule answers for was not reviewed here.
        let Some(is_satisfied) = clause.is_satisfied() else { return };
        parts.selections.push(json!({ "control-id": token }));
        for rule in clause.rules.iter().filter(|rule| rule.is_enforced) {
            let own: Vec<&ClauseEvidence> = clause.evidence.iter().filter(|one| one.rule == rule.rule).collect();
            for one in &own {
                parts.items.entry(one.unmet.device.clone()).or_insert_with(|| self.item(&one.unmet.device));
            }
            let observation = || self.observation(rule, &own);
            parts.observations.entry(rule.rule.clone()).or_insert_with(observation);
        }
        for waiver in &clause.waivers {
            parts.risks.entry(waiver.waiver.clone()).or_insert_with(|| self.risk(waiver));
        }
        let counts = &clause.counts;
        let title = clause.title.as_deref().unwrap_or(&clause.clause);
        let observations: Vec<Json> = clause
            .rules
            .iter()
            .filter(|rule| rule.is_enforced)
            .map(|rule| json!({ "observation-uuid": self.id("observation", &rule.rule) }))
            .collect();
        let mut finding = json!({
            "uuid": self.id("finding", &clause.clause),
            "title": text(&clause.clause),
            "description": format!(
                "{}: {} met; {} fail, {} cannot be told, {} waived, of {} verdicts.",
                text(title), percent(counts.share()), counts.fail, counts.unknown, counts.waived, counts.judged()
            ),
            "target": {
                "type": "objective-id",
                "target-id": token,
                "title": text(&clause.clause),
                "status": { "state": if is_satisfied { "satisfied" } else { "not-satisfied" } },
            },
            "related-observations": observations,
        });
        let risks: Vec<Json> =
            clause.waivers.iter().map(|waiver| json!({ "risk-uuid": self.id("risk", &waiver.waiver) })).collect();
        if !risks.is_empty() {
            finding["related-risks"] = Json::Array(risks);
        }
        parts.findings.push(finding);
    }

    fn item(&self, device: &str) -> Json {
        json!({ "uuid": self.id("device", device), "description": text(device), "props": [{ "name": "asset-id", "value": text(device) }] })
    }

    fn observation(&self, rule: &ClauseRule, evidence: &[&ClauseEvidence]) -> Json {
        let counts = &rule.counts;
        let mut observation = json!({
            "uuid": self.id("observation", &rule.rule),
            "title": text(&rule.rule),
            "description": format!(
                "{}: {} pass, {} fail, {} cannot be told.", text(&rule.title), counts.pass, counts.fail, counts.unknown
            ),
            "methods": ["TEST"],
            "collected": self.report.assessed_at.to_string(),
        });
        if !evidence.is_empty() {
            let subject = |one: &&ClauseEvidence| json!({ "subject-uuid": self.id("device", &one.unmet.device), "type": "inventory-item", "title": text(&one.unmet.device) });
            observation["subjects"] = evidence.iter().map(subject).collect();
            let shown = |one: &&ClauseEvidence| json!({ "description": text(&evidence_in_words(one)) });
            observation["relevant-evidence"] = evidence.iter().map(shown).collect();
        }
        observation
    }

    fn risk(&self, waiver: &ClauseWaiver) -> Json {
        json!({
            "uuid": self.id("risk", &waiver.waiver),
            "title": text(&waiver.waiver),
            "description": text(&format!("{} up to {}: {}", waiver.approved_by, waiver.until, waiver.because)),
            "statement": text(&waiver.because),
            "status": "deviation-approved",
            "deadline": waiver.until.to_string(),
            "props": [{ "name": "approved-by", "value": text(&waiver.approved_by) }],
        })
    }
}

/// Says what was found on a device.
fn evidence_in_words(one: &ClauseEvidence) -> String {
    let unmet = &one.unmet;
    let says = match unmet.outcome {
        VerdictOutcome::Unknown(reason) => format!("cannot be told ({})", reason.as_str()),
        _ => "fails".to_owned(),
    };
    let observed = unmet.proof.observed.as_ref().map(|observed| format!("; found {observed}")).unwrap_or_default();
    let required = unmet.proof.required.as_ref().map(|required| format!("; asked for {required}")).unwrap_or_default();
    let source = unmet.proof.source.as_ref().map(|source| format!("; told by {source}")).unwrap_or_default();
    let waived = unmet.waiver.as_ref().map(|(waiver, _)| format!("; waived by {waiver}")).unwrap_or_default();
    format!("{} {says}{observed}{required}{source}{waived}", unmet.device)
}

/// Returns a text as the schema wants texts: in one line, and neither empty nor with space at its ends.
fn text(text: &str) -> String {
    let shown = harmless(text);
    let trimmed = shown.trim();
    if trimmed.is_empty() { "-".to_owned() } else { trimmed.to_owned() }
}

/// Returns tokens for the clauses: letters and digits of any script, dots, hyphens and underscores, each token once.
fn tokens_of(clauses: &[ClauseReport]) -> Vec<String> {
    let mut tokens: Vec<String> = Vec::new();
    for clause in clauses {
        let mut token: String = clause
            .clause
            .chars()
            .map(|c| if c.is_alphanumeric() || matches!(c, '.' | '-' | '_') { c } else { '-' })
            .collect();
        if !token.starts_with(|c: char| c.is_alphabetic() || c == '_') {
            token.insert(0, '_');
        }
        let mut unique = token.clone();
        let mut number = 2;
        while tokens.contains(&unique) {
            unique = format!("{token}-{number}");
            number += 1;
        }
        tokens.push(unique);
    }
    tokens
}

#[cfg(test)]
mod tests {
    use super::*;

    fn clause(name: &str) -> ClauseReport {
        ClauseReport {
            clause: name.to_owned(),
            title: None,
            elsewhere: None,
            rules: Vec::new(),
            counts: fencepost_engine::RuleCount::default(),
            exceptions: Vec::new(),
            waivers: Vec::new(),
            evidence: Vec::new(),
            evidence_in_all: 0,
        }
    }

    #[test]
    fn tokens_are_as_the_standard_wants_them_and_each_is_there_once() {
        let tokens = tokens_of(&["Order 4", "Order-4", "§ 12", "12.3 a", "Ømål_1", ""].map(clause));
        assert_eq!(tokens, ["Order-4", "Order-4-2", "_--12", "_12.3-a", "Ømål_1", "_"]);
    }

    #[test]
    fn ids_are_the_same_in_every_report_of_a_workspace() {
        let report = ControlsReport {
            as_of: "2027-03-14T06:00:00Z".parse().unwrap(),
            assessment: 1,
            assessed_at: "2027-03-14T06:00:00Z".parse().unwrap(),
            rule_set: "digest".to_owned(),
            clauses: Vec::new(),
        };
        let later = ControlsReport { as_of: "2027-03-15T06:00:00Z".parse().unwrap(), assessment: 2, ..report.clone() };
        let id = |report: &ControlsReport, name: &str| {
            let namespace = Uuid::new_v5(&Uuid::NAMESPACE_URL, format!("fencepost:{name}").as_bytes());
            Document { report, namespace }.id("device", "d1")
        };
        assert_eq!(id(&report, "one"), id(&later, "one"));
        assert_ne!(id(&report, "one"), id(&report, "two"));
        let [first, second] = [&report, &later].map(|report| assessment_results(report, "one"));
        let uuid = |json: &Json| json["assessment-results"]["results"][0]["uuid"].clone();
        assert_ne!(uuid(&first), uuid(&second), "another assessment is another result");
    }
}
