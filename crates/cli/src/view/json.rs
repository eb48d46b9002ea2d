//! The machine-readable shapes that scripts rely on. Keys are snake_case, values hyphenated words, instants
//! RFC 3339 in UTC; `schema` stands in the first object of a document, and in every one of JSON Lines.

use std::cell::Cell;

use fencepost_core::{Evidence, FactUse, FindingEvent, Obligation, Outcome, Rule, Ruling, VerdictOutcome};
use fencepost_engine::{
    AccessEntry, AccessReport, AccessSummary, Assessed, CauseLine, Change, DeviceReport, DeviceVerdicts, EngineError,
    FactLine, FindingLine, Happened, Happening, History, PeerDistance, PersonReport, Remark, RuleCount, RuleJudgement,
    Sealed, Spool, StricterLater, VerdictLine,
};
use jiff::Timestamp;
use serde::ser::{Serialize, SerializeMap, SerializeSeq, Serializer};
use serde_json::{Map, Value as Json, json};

/// The number of these shapes.
pub const SCHEMA: u32 = 1;

pub fn device_verdicts(device: &DeviceVerdicts, rules: &[Rule], at: Timestamp) -> Json {
    let judgement = |judgement: &RuleJudgement| self::judgement(judgement, &rules[judgement.rule], at);
    let verdicts: Vec<Json> = device.verdicts.iter().map(judgement).collect();
    let [pass, fail, unknown, not_applicable, trial] = device.counts;
    let mut out = json!({
        "schema": SCHEMA,
        "device": device.device,
        "as_of": at.to_string(),
        "collected_at": device.collected.map(|moment| moment.to_string()),
        "standing": device.standing.as_str(),
        "counts": { "pass": pass, "fail": fail, "unknown": unknown, "not_applicable": not_applicable, "trial": trial },
        "verdicts": verdicts,
    });
    if let Some(sealed) = &device.sealed {
        out["until"] = until(sealed);
        out["seal"] = json!(sealed.seal);
    }
    out
}

/// Until when sealed verdicts hold; null where time never changes them.
pub fn until(sealed: &Sealed) -> Json {
    json!(sealed.until.map(|moment| moment.to_string()))
}

pub fn judgement(judgement: &RuleJudgement, rule: &Rule, at: Timestamp) -> Json {
    let mut out = Map::new();
    out.insert("rule".into(), json!(rule.id.as_str()));
    out.insert("outcome".into(), json!(judgement.outcome.as_str()));
    if let VerdictOutcome::Unknown(reason) = judgement.outcome {
        let mut facts: Vec<&str> =
            judgement.blames.iter().map(|blame| blame.fact.as_str()).filter(|fact| !fact.is_empty()).collect();
        facts.dedup();
        out.insert("reason".into(), json!(reason.as_str()));
        out.insert("facts".into(), json!(facts));
    }
    out.insert("severity".into(), json!(rule.severity.as_str()));
    out.insert("stage".into(), json!(rule.stage(at).as_str()));
    let marks =
        [("nothing_to_check", judgement.vacuous), ("excepted", judgement.excepted), ("awaiting", judgement.awaiting)];
    for (key, holds) in marks {
        if holds {
            out.insert(key.into(), json!(true));
        }
    }
    if let Some(proof) = &judgement.evidence {
        out.insert("evidence".into(), evidence(proof));
    }
    Json::Object(out)
}

fn outcome(outcome: Outcome) -> Json {
    match outcome {
        Outcome::True => json!("pass"),
        Outcome::False => json!("fail"),
        Outcome::Unknown(_) => json!("unknown"),
    }
}

fn facts(facts: &[FactUse]) -> Json {
    facts
        .iter()
        .map(|fact| {
            json!({
                "fact": fact.path, "value": fact.value, "source": fact.source,
                "collected_at": fact.collected.map(|moment| moment.to_string()),
                "corrected_by": fact.corrected.as_ref().map(|(by, _)| by),
            })
        })
        .collect()
}

pub fn evidence(proof: &Evidence) -> Json {
    match proof {
        Evidence::Comparison { subject, path, observed, required, outcome: result, facts: used, blame } => json!({
            "kind": "comparison", "subject": subject, "path": path, "observed": observed, "required": required, "outcome": outcome(*result),
            "facts": facts(used),
            "blame": blame.as_ref().map(|blame| json!({ "fact": blame.fact, "reason": blame.reason.as_str() })),
        }),
        Evidence::All { outcome: result, parts } => {
            json!({ "kind": "all", "outcome": outcome(*result), "parts": parts.iter().map(evidence).collect::<Vec<_>>() })
        }
        Evidence::Any { outcome: result, parts } => {
            json!({ "kind": "any", "outcome": outcome(*result), "parts": parts.iter().map(evidence).collect::<Vec<_>>() })
        }
        Evidence::Items { list, every, outcome: result, total, decided, items, facts: used, blame } => json!({
            "kind": "items", "list": list, "quantifier": if *every { "every" } else { "some" }, "outcome": outcome(*result),
            "total": total, "decided": decided,
            "items": items.iter().map(|item| json!({ "item": item.label, "parts": item.parts.iter().map(evidence).collect::<Vec<_>>() })).collect::<Vec<_>>(),
            "facts": facts(used),
            "blame": blame.as_ref().map(|blame| json!({ "fact": blame.fact, "reason": blame.reason.as_str() })),
        }),
        Evidence::NothingToCheck { list, outcome: result, facts: used } => {
            json!({ "kind": "nothing-to-check", "list": list, "outcome": outcome(*result), "facts": facts(used) })
        }
    }
}

fn finding(line: &FindingLine) -> Json {
    json!({
        "device": line.device, "rule": line.rule, "opened": line.opened.to_string(), "due": line.due.to_string(),
        "phase": line.phase.as_str(), "how": line.how,
    })
}

fn rule(rule: &RuleCount) -> Json {
    json!({
        "rule": rule.rule, "stage": rule.stage, "pass": rule.pass, "fail": rule.fail, "unknown": rule.unknown,
        "not_applicable": rule.not_applicable, "nothing_to_check": rule.vacuous, "excepted": rule.excepted,
        "awaiting": rule.awaiting, "waived": rule.waived,
    })
}

/// One row for each rule of an assessment.
pub fn rule_rows(assessed: &Assessed) -> Vec<Json> {
    let mut rows: Vec<Json> = assessed.rules.iter().map(rule).collect();
    for row in &mut rows {
        row["schema"] = SCHEMA.into();
    }
    rows
}

/// What an assessment came to, as JSON; its findings, of which there may be very many, are made as they are written.
pub struct AssessedJson<'a>(pub &'a Assessed);

impl Serialize for AssessedJson<'_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let Self(assessed) = self;
        let d = &assessed.devices;
        let devices = json!({
            "total": d.total, "compliant": d.compliant, "on_notice": d.on_notice, "unproven": d.unproven,
            "non_compliant": d.non_compliant, "waived": d.waived, "uncovered": d.uncovered, "stale": d.stale,
        });
        let mut out = serializer.serialize_map(None)?;
        out.serialize_entry("schema", &SCHEMA)?;
        out.serialize_entry("assessment", &assessed.number)?;
        out.serialize_entry("as_of", &assessed.as_of.to_string())?;
        out.serialize_entry("devices", &devices)?;
        out.serialize_entry("rules", &assessed.rules.iter().map(rule).collect::<Vec<_>>())?;
        out.serialize_entry("opened", &FindingLines(&assessed.opened))?;
        out.serialize_entry("closed", &FindingLines(&assessed.closed))?;
        out.serialize_entry("overdue", &FindingLines(&assessed.overdue))?;
        if let Some((taken, of)) = assessed.taken {
            out.serialize_entry("verdicts_taken_over", &json!({ "devices": taken, "of": of }))?;
        }
        out.end()
    }
}

struct FindingLines<'a>(&'a Spool<FindingLine>);

impl Serialize for FindingLines<'_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let mut out = serializer.serialize_seq(usize::try_from(self.0.len()).ok())?;
        for line in self.0.iter() {
            out.serialize_element(&finding(&line.map_err(serde::ser::Error::custom)?))?;
        }
        out.end()
    }
}

pub fn cause(line: &CauseLine) -> Json {
    let cause = &line.cause;
    json!({
        "cause": cause.kind.as_str(), "rule": cause.rule, "fact": cause.fact,
        "opened": cause.opened.map(|moment| moment.to_string()), "due": cause.due.map(|moment| moment.to_string()),
        "access_rule": cause.access_rule, "title": line.title, "fix": line.fix,
    })
}

/// The parts of a decision, each with the key that it has wherever one is told.
pub fn ruling(ruling: &Ruling) -> Map<String, Json> {
    let obligations: Vec<_> = ruling.obligations.iter().map(Obligation::in_words).collect();
    let limits = ruling.obligations.iter().filter_map(|one| match one {
        Obligation::Limit(limit) => Some(limit.as_str()),
        Obligation::StepUp | Obligation::Terms(_) => None,
    });
    let limits: Vec<&str> = limits.collect();
    let step_up = ruling.obligations.contains(&Obligation::StepUp);
    let parts = [
        ("decision", json!(ruling.effect.as_str())),
        ("obligations", json!(obligations)),
        ("limits", json!(limits)),
        ("step_up", json!(step_up)),
        ("terms", json!(ruling.open_terms().collect::<Vec<_>>())),
    ];
    parts.into_iter().map(|(key, value)| (key.to_owned(), value)).collect()
}

fn later(later: &StricterLater) -> Json {
    json!({ "at": later.at.to_string(), "decision": later.decision.in_words(), "only_if_silent": later.only_if_silent })
}

/// What to do, each thing once.
fn to_do(entry: &AccessEntry) -> String {
    let mut fixes: Vec<&str> = entry.causes.iter().filter_map(|line| line.fix.as_deref()).collect();
    fixes.dedup();
    fixes.join("; ")
}

/// An entry of access; `moment` is what its moment is called.
pub fn entry(entry: &AccessEntry, moment: &str) -> Json {
    let mut out = Map::new();
    let contact = &entry.contact;
    out.insert("device".into(), json!(entry.device));
    out.insert("person".into(), json!(entry.person));
    out.insert("person_name".into(), json!(contact.name));
    out.insert("service".into(), json!(entry.service));
    out.insert("client".into(), json!(entry.client));
    out.insert(moment.into(), json!(entry.moment.to_string()));
    out.extend(ruling(&entry.decision));
    out.insert("access_rules".into(), json!(entry.access_rules));
    out.insert("causes".into(), entry.causes.iter().map(cause).collect());
    out.insert("call_first".into(), json!(entry.calls_first()));
    out.insert("other_device".into(), json!(entry.other_device()));
    out.insert("only_if_silent".into(), json!(entry.only_if_silent));
    out.insert("do".into(), json!(to_do(entry)));
    out.insert("site".into(), json!(entry.site));
    out.insert("unit".into(), json!(contact.unit));
    out.insert("mail".into(), json!(contact.mail));
    out.insert("phone".into(), json!(contact.phone));
    out.insert("lead".into(), json!(contact.lead));
    out.insert("access_rule".into(), json!(entry.access_rules.first()));
    out.insert("cause".into(), json!(entry.causes.first().map(|line| line.cause.kind.as_str())));
    let moment = |moment: Option<Timestamp>| moment.map(|moment| moment.to_string());
    let because = entry.because().map(|line| {
        let cause = &line.cause;
        json!({ "rule": cause.rule, "opened": moment(cause.opened), "due": moment(cause.due) })
    });
    out.insert("because".into(), because.collect());
    Json::Object(out)
}

fn access_summary(summary: &AccessSummary) -> Json {
    let by_cause = summary.by_cause.iter().map(|count| {
        json!({ "cause": count.kind.as_str(), "rule": count.rule, "people": count.people, "devices": count.devices })
    });
    let by = |name: &str, counts: &[(String, u64)]| -> Json {
        counts.iter().map(|(key, people)| json!({ name: key, "people": people })).collect()
    };
    json!({
        "people": summary.people,
        "call_first": summary.call_first,
        "devices_of_nobody": summary.devices_of_nobody,
        "by_cause": by_cause.collect::<Vec<_>>(),
        "by_site": by("site", &summary.by_site),
        "by_service": by("service", &summary.by_service),
        "next": summary.next.map(|(at, people)| json!({ "at": at.to_string(), "people": people })),
        "only_if_silent": summary.only_if_silent,
        "terms_open": summary.terms_open.iter().map(|(terms, people)| json!({ "terms": terms, "people": people })).collect::<Vec<_>>(),
    })
}

/// Serializes an access report without holding the whole document in memory.
pub struct AccessJson<'a, S> {
    pub report: &'a AccessReport,
    /// Losses that happen only if devices stay silent; a cell, since serializing consumes the iterator.
    pub silent: Cell<Option<S>>,
}

impl<S: Iterator<Item = Result<AccessEntry, EngineError>>> Serialize for AccessJson<'_, S> {
    fn serialize<W: Serializer>(&self, serializer: W) -> Result<W::Ok, W::Error> {
        let report = self.report;
        let mut map = serializer.serialize_map(None)?;
        map.serialize_entry("schema", &SCHEMA)?;
        map.serialize_entry("as_of", &report.as_of.to_string())?;
        map.serialize_entry("since", &report.since.map(|moment| moment.to_string()))?;
        map.serialize_entry("past_valid_until", &report.past_valid_until)?;
        map.serialize_entry("summary", &access_summary(&report.summary))?;
        map.serialize_entry("lost", &Entries::of(&report.lost, "since"))?;
        map.serialize_entry("reduced", &Entries::of(&report.reduced, "since"))?;
        map.serialize_entry("restored", &Entries::of(&report.restored, "since"))?;
        let certain = report.losing.iter().map(|one| Ok(entry(one, "at")));
        let silent = self.silent.take().into_iter().flatten().map(|one| one.map(|one| entry(&one, "at")));
        map.serialize_entry("losing", &Entries(Cell::new(Some(certain.chain(silent)))))?;
        map.serialize_entry("denied", &Entries::of(&report.denied, "since"))?;
        map.serialize_entry("terms_open", &Entries::of(&report.terms_open, "since"))?;
        map.end()
    }
}

/// A JSON array whose items are produced while it is serialized.
struct Entries<I>(Cell<Option<I>>);

impl Entries<()> {
    fn of<'e>(
        entries: &'e [AccessEntry],
        moment: &'e str,
    ) -> Entries<impl Iterator<Item = Result<Json, EngineError>> + 'e> {
        Entries(Cell::new(Some(entries.iter().map(move |one| Ok(entry(one, moment))))))
    }
}

impl<I: Iterator<Item = Result<Json, EngineError>>> Serialize for Entries<I> {
    fn serialize<W: Serializer>(&self, serializer: W) -> Result<W::Ok, W::Error> {
        let mut list = serializer.serialize_seq(None)?;
        for item in self.0.take().into_iter().flatten() {
            let item = item.map_err(|error| serde::ser::Error::custom(error.to_string()))?;
            list.serialize_element(&item)?;
        }
        list.end()
    }
}

/// An entry of an access report as a flat row.
pub fn access_row(change: &str, one: &AccessEntry) -> Json {
    let rules: Vec<&str> = one.because().filter_map(|line| line.cause.rule.as_deref()).collect();
    let causes: Vec<&str> = one.causes.iter().map(|line| line.cause.kind.as_str()).collect();
    let titles: Vec<&str> = one.causes.iter().filter_map(|line| line.title.as_deref()).collect();
    let facts: Vec<&str> = one.causes.iter().filter_map(|line| line.cause.fact.as_deref()).collect();
    let due = one.causes.iter().filter_map(|line| line.cause.due).min();
    let contact = &one.contact;
    json!({
        "schema": SCHEMA, "change": change, "device": one.device, "person": one.person, "person_name": contact.name,
        "service": one.service, "client": one.client, "moment": one.moment.to_string(), "decision": one.decision.in_words(),
        "access_rule": one.access_rules.first(), "cause": causes.first(), "because": rules.join(", "),
        "other_device": one.other_device(), "access_rules": one.access_rules.join(", "), "causes": causes.join(", "),
        "call_first": one.calls_first(), "only_if_silent": one.only_if_silent,
        "title": titles.join("; "), "facts": facts.join(", "), "due": due.map(|due| due.to_string()), "do": to_do(one),
        "site": one.site, "unit": contact.unit, "mail": contact.mail, "phone": contact.phone, "lead": contact.lead,
    })
}

pub fn device(report: &DeviceReport, at: Timestamp) -> Json {
    json!({
        "schema": SCHEMA,
        "device": report.device,
        "as_of": at.to_string(),
        "standing": report.standing.map(|standing| standing.as_str()),
        "past_valid_until": report.past_valid_until,
        "covered": report.covered,
        "by_waiver": report.by_waiver,
        "collected_at": report.collected.map(|moment| moment.to_string()),
        "retired": report.retired.as_ref().map(|(from, because)| json!({ "from": from.to_string(), "because": because })),
        "former_names": report.former_names,
        "absent": report.absent.iter().map(|(source, since)| json!({ "source": source, "since": since.to_string() })).collect::<Vec<_>>(),
        "holders": report.holders.iter().map(|holder| json!({ "person": holder.id, "name": holder.name, "unit": holder.unit })).collect::<Vec<_>>(),
        "groups": report.groups,
        "last_known": report.last_known.iter().map(|(what, facts)| json!({ "what": what, "facts": facts })).collect::<Vec<_>>(),
        "facts": report.facts.iter().map(|line| fact(line, at)).collect::<Vec<_>>(),
        "verdicts": report.verdicts.iter().map(|line| verdict(line, &report.device, report.holder_names.as_deref(), at)).collect::<Vec<_>>(),
        "findings": report.findings.iter().map(|finding| json!({
            "device": report.device, "rule": finding.subject.as_str(), "opened": finding.clock.opened.to_string(),
            "due": finding.clock.due_at(at).to_string(), "phase": finding.phase(at).as_str(), "spell": finding.spell,
        })).collect::<Vec<_>>(),
        "access": report.reach.iter().map(|reach| json!({
            "person": reach.person, "service": reach.service, "client": reach.client, "decision": reach.decision.in_words(),
            "access_rule": reach.access_rule,
            "later": reach.later.as_ref().map(later),
        })).collect::<Vec<_>>(),
    })
}

/// A fact of a device; where it is not of its declared type, its type says so.
fn fact(fact: &FactLine, at: Timestamp) -> Json {
    json!({
        "fact": fact.path, "value": fact.value, "type": fact.ty.unwrap_or("wrong-type"), "unit": fact.unit, "label": fact.label, "source": fact.source,
        "collected_at": fact.collected.map(|moment| moment.to_string()), "stale": fact.stale, "wrong_type": fact.wrong_type,
        "age": fact.collected.map(|collected| at.duration_since(collected).to_string()),
        "corrected": fact.corrected.as_ref().map(|one| json!({ "by": one.by, "because": one.because, "until": one.until.to_string() })),
        "losers": fact.losers.iter().map(|said| json!({ "source": said.source, "value": said.value, "collected_at": said.collected.map(|moment| moment.to_string()) })).collect::<Vec<_>>(),
    })
}

/// A verdict on a device, with what `list verdicts` says of it and more.
fn verdict(verdict: &VerdictLine, device: &str, holder: Option<&str>, at: Timestamp) -> Json {
    json!({
        "device": device, "holder": holder, "rule": verdict.rule.id.as_str(), "family": verdict.rule.family(),
        "observed": verdict.proof.observed, "required": verdict.proof.required, "source": verdict.proof.source,
        "age": verdict.proof.age, "outcome": verdict.outcome.as_str(),
        "reason": match verdict.outcome { VerdictOutcome::Unknown(reason) => Some(reason.as_str()), _ => None },
        "severity": verdict.rule.severity.as_str(), "stage": verdict.stage.as_str(), "title": verdict.rule.title,
        "because": verdict.rule.because, "fix": verdict.fix, "awaiting": verdict.awaiting, "excepted": verdict.excepted,
        "exception": verdict.exception.as_ref().map(|exception| json!({
            "name": exception.name, "because": exception.because, "until": exception.until.map(|until| until.to_string()),
        })),
        "controls": verdict.rule.controls().collect::<Vec<_>>(),
        "scope_last_known": verdict.scope_last_known,
        "opened": verdict.finding.as_ref().map(|finding| finding.clock.opened.to_string()),
        "due": verdict.finding.as_ref().map(|finding| finding.clock.due_at(at).to_string()),
        "waiver": verdict.waiver.as_ref().map(|waiver| waiver.id.as_str()),
        "settings": verdict.settings.iter().map(|said| json!({
            "setting": said.setting, "state": said.state, "because": said.because, "at": said.at.to_string(),
        })).collect::<Vec<_>>(),
        "phase": verdict.finding.as_ref().map(|finding| finding.phase(at).as_str()),
        "evidence": evidence(&verdict.evidence),
    })
}

/// In how many facts a device differs from its peers, in all sets together; null where it is in no set.
pub fn differs_from_sisters(distances: &[PeerDistance]) -> Json {
    match distances {
        [] => Json::Null,
        some => json!(some.iter().map(|distance| distance.differences).sum::<usize>()),
    }
}

pub fn person(person: &PersonReport, at: Timestamp) -> Json {
    let facts: Map<String, Json> = person.facts.iter().map(|(path, value)| (path.clone(), json!(value))).collect();
    json!({
        "schema": SCHEMA,
        "person": person.id,
        "as_of": at.to_string(),
        "name": person.name,
        "remark": person.remark.as_ref().map(Remark::in_words),
        "sources": person.sources,
        "lead": person.lead.as_ref().map(|(id, name)| json!({ "person": id, "name": name })),
        "leads": person.leads.iter().map(|(id, name)| json!({ "person": id, "name": name })).collect::<Vec<_>>(),
        "groups": person.groups,
        "facts": facts,
        "devices": person.devices.iter().map(|held| json!({
            "device": held.device, "standing": held.standing.map(|standing| standing.as_str()),
            "collected_at": held.collected.map(|moment| moment.to_string()), "shared_with": held.shared_with,
            "access": held.reach.iter().map(|reach| json!({
                "service": reach.service, "client": reach.client, "decision": reach.decision.in_words(), "access_rule": reach.access_rule,
                "later": reach.later.as_ref().map(later),
            })).collect::<Vec<_>>(),
        })).collect::<Vec<_>>(),
    })
}

/// What happened to a device, in the words of the contract.
pub fn device_events(history: &History) -> Vec<Json> {
    let event = |happening: &Happening| {
        let (what, rule, because, before, after) = match &happening.what {
            Happened::FirstSeen { .. } | Happened::Changed { .. } => ("facts", None, None, Json::Null, Json::Null),
            Happened::Absent { source } => ("absent", None, Some(source.clone()), Json::Null, Json::Null),
            Happened::ListedAgain { source } => ("listed-again", None, Some(source.clone()), Json::Null, Json::Null),
            Happened::Stood { before, now } => {
                ("standing", None, None, json!(before.map(|standing| standing.as_str())), json!(now.as_str()))
            }
            Happened::Retired { because } => ("retired", None, Some(because.clone()), Json::Null, Json::Null),
            Happened::Renamed { from, because } => ("renamed", None, Some(because.clone()), json!(from), Json::Null),
            Happened::Finding(happened) => {
                let rule = Some(happened.subject.as_str().to_owned());
                let (because, before, after) = match &happened.event {
                    FindingEvent::Closed(reason) => (Some(reason.as_str().to_owned()), Json::Null, Json::Null),
                    FindingEvent::DueMoved { from } => (None, json!(from.to_string()), json!(happened.due.to_string())),
                    FindingEvent::RuleRenamed { from } => (None, json!(from.as_str()), json!(rule)),
                    FindingEvent::Waived { until, waiver } => {
                        (Some(waiver.to_string()), Json::Null, json!(until.to_string()))
                    }
                    FindingEvent::WaiverEnded { waiver } => {
                        (Some(waiver.to_string()), Json::Null, json!(happened.due.to_string()))
                    }
                    FindingEvent::Opened | FindingEvent::FellDue | FindingEvent::CameBack => {
                        (None, Json::Null, json!(happened.due.to_string()))
                    }
                };
                let what = match happened.event {
                    FindingEvent::RuleRenamed { .. } => "renamed",
                    ref event => event.as_str(),
                };
                (what, rule, because, before, after)
            }
        };
        json!({
            "at": happening.at.to_string(), "assessment": happening.assessment, "what": what, "rule": rule, "because": because,
            "before": before, "after": after,
        })
    };
    history.happenings.iter().map(event).collect()
}

/// What happened to a device, one object each; every object names the device.
pub fn happenings(history: &History) -> Vec<Json> {
    history
        .happenings
        .iter()
        .map(|happening| {
            let mut out = Map::new();
            out.insert("schema".into(), SCHEMA.into());
            out.insert("device".into(), json!(history.device));
            out.insert("at".into(), json!(happening.at.to_string()));
            out.insert("what".into(), json!(happening.what.as_str()));
            let mut add = |key: &str, value: Json| out.insert(key.to_owned(), value);
            match &happening.what {
                Happened::FirstSeen { source, facts, earlier_removed } => {
                    add("source", json!(source));
                    add("facts", json!(facts));
                    add("earlier_removed", json!(earlier_removed));
                }
                Happened::Changed { source, changes } => {
                    add("source", json!(source));
                    add("changes", changes.iter().map(change).collect());
                }
                Happened::Absent { source } | Happened::ListedAgain { source } => {
                    add("source", json!(source));
                }
                Happened::Stood { before, now } => {
                    add("before", json!(before.map(|standing| standing.as_str())));
                    add("standing", json!(now.as_str()));
                }
                Happened::Finding(happened) => {
                    add("rule", json!(happened.subject.as_str()));
                    match &happened.event {
                        FindingEvent::Closed(reason) => add("how", json!(reason.as_str())),
                        FindingEvent::DueMoved { from } => {
                            add("before", json!(from.to_string()));
                            add("after", json!(happened.due.to_string()))
                        }
                        FindingEvent::RuleRenamed { from } => add("before", json!(from.as_str())),
                        FindingEvent::Waived { until, waiver } => {
                            add("until", json!(until.to_string()));
                            add("waiver", json!(waiver.as_str()))
                        }
                        FindingEvent::WaiverEnded { waiver } => add("waiver", json!(waiver.as_str())),
                        FindingEvent::Opened | FindingEvent::FellDue | FindingEvent::CameBack => None,
                    };
                }
                Happened::Retired { because } => {
                    add("because", json!(because));
                }
                Happened::Renamed { from, because } => {
                    add("from", json!(from));
                    add("because", json!(because));
                }
            }
            Json::Object(out)
        })
        .collect()
}

fn change(change: &Change) -> Json {
    json!({ "fact": change.path, "before": change.before, "after": change.after,
        "kind": match (&change.before, &change.after) { (None, _) => "new", (_, None) => "gone", _ => "changed" } })
}
