//! A report of the fleet or a part of it for machines.

use std::cell::Cell;

use fencepost_engine::{
    AccessEntry, ClauseReport, ControlsReport, EngineError, FleetReport, Forecast, ForecastEvent, ReportException,
    ReportPart, ReportRows, RuleCount, SpoolError,
};
use serde::ser::{Error, Serialize, SerializeMap, SerializeSeq, Serializer};
use serde_json::{Value as Json, json};

use super::forecast_json::fields;
use super::json::{AccessJson, SCHEMA};

/// A report as one document, whose findings are written as they are read.
pub struct ReportJson<'r, S> {
    pub report: &'r FleetReport,
    /// What comes in the days ahead, where that is told.
    pub forecast: Option<&'r Forecast>,
    /// Losses that happen only if devices stay silent.
    pub silent_losses: Cell<Option<S>>,
}

impl<S: Iterator<Item = Result<AccessEntry, EngineError>>> Serialize for ReportJson<'_, S> {
    fn serialize<W: Serializer>(&self, serializer: W) -> Result<W::Ok, W::Error> {
        let report = self.report;
        let (kind, id) = report.scope.words();
        let mut document = serializer.serialize_map(None)?;
        document.serialize_entry("schema", &SCHEMA)?;
        document.serialize_entry("scope", &json!({ "kind": kind, "id": id }))?;
        document.serialize_entry("as_of", &report.as_of.to_string())?;
        document.serialize_entry("since", &report.access.since.map(|since| since.to_string()))?;
        document.serialize_entry("assessment", &report.assessment)?;
        document.serialize_entry("figures", &figures(report))?;
        document.serialize_entry("trend", &trend(report))?;
        document.serialize_entry("sites", &parts("site", &report.sites))?;
        document.serialize_entry("platforms", &parts("platform", &report.platforms))?;
        document.serialize_entry("rules", &rules(report))?;
        document.serialize_entry("findings", &Rows(&report.findings))?;
        let access = AccessJson { report: &report.access, silent: Cell::new(self.silent_losses.take()) };
        document.serialize_entry("access", &access)?;
        document.serialize_entry("waivers", &Rows(&report.waivers))?;
        document.serialize_entry("exceptions", &exceptions(report))?;
        document.serialize_entry("silent", &Rows(&report.silent))?;
        document.serialize_entry("drift", &drift(report))?;
        document.serialize_entry("ending", &Endings(self.forecast))?;
        document.end()
    }
}

/// A report of clauses as one document.
pub fn controls_document(report: &ControlsReport) -> Json {
    json!({
        "schema": SCHEMA, "scope": { "kind": "controls", "id": null }, "as_of": report.as_of.to_string(),
        "assessment": report.assessment, "rule_set": report.rule_set,
        "clauses": report.clauses.iter().map(clause).collect::<Vec<_>>(),
    })
}

fn counts(counts: &RuleCount) -> Json {
    json!({
        "pass": counts.pass, "fail": counts.fail, "unknown": counts.unknown, "not_applicable": counts.not_applicable,
        "waived": counts.waived, "excepted": counts.excepted,
    })
}

fn clause(clause: &ClauseReport) -> Json {
    let rules = clause.rules.iter().map(|rule| {
        json!({
            "rule": rule.rule, "title": rule.title, "enforced": rule.is_enforced, "counts": counts(&rule.counts),
            "share": rule.counts.share(),
        })
    });
    let waivers = clause.waivers.iter().map(|waiver| {
        json!({
            "waiver": waiver.waiver, "because": waiver.because, "approved_by": waiver.approved_by,
            "until": waiver.until.to_string(), "covers": waiver.covers,
        })
    });
    let evidence = clause.evidence.iter().map(|one| {
        let unmet = &one.unmet;
        json!({
            "device": unmet.device, "rule": one.rule, "outcome": unmet.outcome.as_str(), "observed": unmet.proof.observed,
            "required": unmet.proof.required, "source": unmet.proof.source, "age": unmet.proof.age,
            "due": unmet.due.map(|due| due.to_string()), "waiver": unmet.waiver.as_ref().map(|(waiver, _)| waiver),
        })
    });
    json!({
        "clause": clause.clause, "title": clause.title, "elsewhere": clause.elsewhere,
        "satisfied": clause.is_satisfied(), "counts": counts(&clause.counts), "share": clause.counts.share(),
        "rules": rules.collect::<Vec<_>>(), "exceptions": clause.exceptions.iter().map(exception).collect::<Vec<_>>(),
        "waivers": waivers.collect::<Vec<_>>(), "evidence": evidence.collect::<Vec<_>>(),
        "evidence_in_all": clause.evidence_in_all,
    })
}

fn figures(report: &FleetReport) -> Json {
    let (now, before) = (&report.in_order, report.before.as_ref());
    let change = before.map(|before| i128::from(now.in_order) - i128::from(before.in_order));
    let [_, on_notice, unproven, non_compliant] = report.counts.standings;
    json!({
        "devices": now.devices, "in_order": now.in_order, "share": now.share(),
        "change": change.and_then(|change| i64::try_from(change).ok()),
        "compared_with": before.map(|before| before.at.to_string()),
        "waived": report.counts.by_waiver, "on_notice": on_notice, "unproven": unproven, "non_compliant": non_compliant,
        "findings": report.running, "overdue": report.overdue, "silent": report.silent.rows.len(),
        "people_lost": report.access.summary.people, "people_shut_out": report.shut_out,
    })
}

fn trend(report: &FleetReport) -> Vec<Json> {
    let point = |point: &fencepost_engine::TrendPoint| {
        json!({
            "as_of": point.in_order.at.to_string(), "devices": point.in_order.devices, "in_order": point.in_order.in_order,
            "share": point.in_order.share(), "overdue": point.overdue, "shut_out": point.shut_out,
        })
    };
    report.trend.iter().map(point).collect()
}

fn parts(key: &str, parts: &[ReportPart]) -> Vec<Json> {
    let part = |part: &ReportPart| {
        let [in_order, on_notice, unproven, non_compliant] = part.counts.standings;
        json!({
            (key): part.name, "devices": part.counts.all, "in_order": in_order, "share": part.counts.share(),
            "waived": part.counts.by_waiver, "on_notice": on_notice, "unproven": unproven, "non_compliant": non_compliant,
        })
    };
    parts.iter().map(part).collect()
}

fn rules(report: &FleetReport) -> Vec<Json> {
    let rule = |rule: &fencepost_engine::ReportRule| {
        let counts = &rule.counts;
        json!({
            "rule": rule.rule, "title": rule.title, "severity": rule.severity.as_str(), "stage": rule.stage.as_str(),
            "pass": counts.pass, "fail": counts.fail, "unknown": counts.unknown, "not_applicable": counts.not_applicable,
            "waived": counts.waived, "excepted": counts.excepted, "share": counts.share(), "trend": rule.trend,
        })
    };
    report.rules.iter().map(rule).collect()
}

fn exceptions(report: &FleetReport) -> Vec<Json> {
    report.exceptions.iter().map(exception).collect()
}

fn exception(one: &ReportException) -> Json {
    json!({
        "rule": one.rule, "excepted": one.name, "because": one.because,
        "until": one.until.map(|until| until.to_string()),
    })
}

fn drift(report: &FleetReport) -> Vec<Json> {
    let set = |trend: &fencepost_engine::DriftTrend| {
        let counts = &trend.counts;
        json!({
            "set": trend.set, "devices": counts.devices, "differ": counts.differ, "differences": counts.differences,
            "accepted": counts.accepted,
        })
    };
    report.drift.iter().map(set).collect()
}

/// Rows as objects.
struct Rows<'r>(&'r ReportRows);

impl Serialize for Rows<'_> {
    fn serialize<W: Serializer>(&self, serializer: W) -> Result<W::Ok, W::Error> {
        let mut list = serializer.serialize_seq(None)?;
        for row in self.0.rows.iter() {
            let row = row.map_err(W::Error::custom)?;
            let object: serde_json::Map<String, Json> = self.0.columns.iter().cloned().zip(row).collect();
            list.serialize_element(&object)?;
        }
        list.end()
    }
}

/// What ends in the days ahead.
struct Endings<'r>(Option<&'r Forecast>);

impl Serialize for Endings<'_> {
    fn serialize<W: Serializer>(&self, serializer: W) -> Result<W::Ok, W::Error> {
        let mut list = serializer.serialize_seq(None)?;
        for entry in self.0.into_iter().flat_map(|forecast| forecast.entries.iter()) {
            let entry = entry.map_err(|error: SpoolError| W::Error::custom(error))?;
            if matches!(entry.what, ForecastEvent::Ending(_)) {
                list.serialize_element(&fields(&entry))?;
            }
        }
        list.end()
    }
}
