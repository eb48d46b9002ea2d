//! Findings and decisions as the ledger keeps them: JSON with its own shape, apart from the core's types.

use fencepost_core::{
    Blame, Cause, CauseKind, CloseReason, DeviceId, Effect, Finding, FindingClock, FindingId, Obligation, Period,
    Reason, RuleId, Ruling, Strictness, Subject, WaivedTime,
};
use fencepost_store::{DeviceRow, FindingRow, LedgerError, Reader, Spell};
use jiff::Timestamp;
use serde::Deserialize;
use serde::ser::{Serialize, SerializeMap, Serializer};
use serde_json::{Value as Json, json};

use crate::ledger_view::damage::unreadable;
use crate::workspace::project::Project;

/// What a finding's row says in its body; written without being a value first, since there may be half a million.
struct FindingBody<'f>(&'f Finding);

impl Serialize for FindingBody<'_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let Self(finding) = self;
        let moment = |moment: Option<Timestamp>| moment.map(|moment| moment.to_string());
        let leaves_open: Vec<&str> = finding.leaves_open.iter().map(RuleId::as_str).collect();
        let blames: Vec<[&str; 2]> =
            finding.blames.iter().map(|blame| [blame.fact.as_str(), blame.reason.as_str()]).collect();
        let mut body = serializer.serialize_map(None)?;
        body.serialize_entry("grace", &finding.grace.to_string())?;
        body.serialize_entry("failing_since", &moment(finding.failing_since))?;
        body.serialize_entry("evidence_at", &moment(finding.evidence_at))?;
        body.serialize_entry("spell", &finding.spell)?;
        body.serialize_entry("reason", &finding.clock.closed.map(|(_, reason)| reason.as_str()))?;
        body.serialize_entry("fingerprint", &format!("{:016x}", finding.fingerprint))?;
        body.serialize_entry("leaves_open", &leaves_open)?;
        body.serialize_entry("blames", &blames)?;
        if finding.corrected {
            body.serialize_entry("corrected", &true)?;
        }
        if !finding.clock.waived.is_empty() {
            body.serialize_entry("waived", &finding.clock.waived.iter().map(waived_json).collect::<Vec<_>>())?;
        }
        body.end()
    }
}

fn written(body: &impl Serialize) -> String {
    serde_json::to_string(body).expect("texts and numbers, written to memory")
}

/// Writes a finding as a row.
pub(crate) fn finding_row(finding: &Finding, run: i64) -> FindingRow {
    FindingRow {
        id: finding.id.number(),
        device: finding.device.to_string(),
        subject: finding.subject.as_str().to_owned(),
        opened: finding.clock.opened,
        due: finding.clock.due,
        closed: finding.clock.closed.map(|(at, _)| at),
        body: written(&FindingBody(finding)),
        from_run: run,
    }
}

/// Returns the findings of a device as of a run.
///
/// # Errors
/// When the ledger cannot be read, or holds what this version does not know.
pub(crate) fn findings_of(
    reader: &Reader<'_>,
    project: &Project,
    device: &DeviceRow,
    run: Option<i64>,
) -> Result<Vec<Finding>, LedgerError> {
    let read = |row: FindingRow| finding(&row).ok_or_else(|| unreadable(project, &row.device, "a finding"));
    reader.findings_of(device, run)?.into_iter().map(read).collect()
}

/// Reads a finding back; none when the row is not as this program writes it.
pub(crate) fn finding(row: &FindingRow) -> Option<Finding> {
    let body: Json = serde_json::from_str(&row.body).ok()?;
    let moment = |key: &str| body[key].as_str().and_then(|text| text.parse::<Timestamp>().ok());
    let closed = match row.closed {
        Some(at) => Some((at, CloseReason::parse(body["reason"].as_str()?)?)),
        None => None,
    };
    Some(Finding {
        id: FindingId::of_number(row.id),
        device: DeviceId::from(row.device.as_str()),
        subject: Subject::parse(&row.subject),
        clock: FindingClock {
            opened: row.opened,
            due: row.due,
            closed,
            waived: body["waived"].as_array().into_iter().flatten().map(waived_time).collect::<Option<_>>()?,
        },
        failing_since: moment("failing_since"),
        grace: Period::parse(body["grace"].as_str()?).ok()?,
        spell: u32::try_from(body["spell"].as_u64()?).ok()?,
        evidence_at: moment("evidence_at"),
        fingerprint: u64::from_str_radix(body["fingerprint"].as_str()?, 16).ok()?,
        corrected: body["corrected"].as_bool().unwrap_or(false),
        leaves_open: body["leaves_open"]
            .as_array()?
            .iter()
            .filter_map(|rule| rule.as_str().map(RuleId::from))
            .collect(),
        blames: body["blames"].as_array()?.iter().filter_map(blame).collect(),
    })
}

fn waived_json(time: &WaivedTime) -> Json {
    let WaivedTime { from, until, due_after, afresh, waiver } = time;
    json!([from.to_string(), until.to_string(), due_after.to_string(), afresh, waiver.as_str()])
}

fn waived_time(json: &Json) -> Option<WaivedTime> {
    let moment = |at: usize| json.get(at)?.as_str()?.parse::<Timestamp>().ok();
    Some(WaivedTime {
        from: moment(0)?,
        until: moment(1)?,
        due_after: moment(2)?,
        afresh: json.get(3)?.as_bool()?,
        waiver: json.get(4)?.as_str()?.into(),
    })
}

fn blame(json: &Json) -> Option<Blame> {
    Some(Blame { fact: json.get(0)?.as_str()?.to_owned(), reason: Reason::parse(json.get(1)?.as_str()?)? })
}

/// A decision as the ledger keeps it: its words as the value of a spell, and the rest beside it.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct StoredDecision {
    pub ruling: Ruling,
    /// The access rules that decided; none when the service's default did.
    pub access_rules: Vec<String>,
    /// What would have to change for the way to be open without obligations.
    pub causes: Vec<Cause>,
    /// Since when it holds, where time alone brought it about between two assessments.
    pub since: Option<Timestamp>,
}

/// What stands before the obligations in the words of a decision.
const PERMIT_WITH: &str = "permit with ";

impl StoredDecision {
    /// Of a sign-in that nobody can make any more.
    pub fn gone(cause: CauseKind) -> Self {
        let ruling = Ruling { effect: Effect::Deny, obligations: Vec::new() };
        Self { ruling, access_rules: Vec::new(), causes: vec![Cause::of_kind(cause)], since: None }
    }

    pub fn strictness(&self) -> Strictness {
        self.ruling.strictness()
    }

    /// Returns whether it is a denial since no access rule applies.
    pub fn is_by_default(&self) -> bool {
        self.ruling.effect == Effect::Deny && self.access_rules.is_empty()
    }

    /// Returns it as the ledger keeps it.
    pub fn spell(&self, key: &DecisionKey) -> Spell {
        Spell { subject: key.subject(), value: self.ruling.in_words(), detail: self.detail() }
    }

    pub fn detail(&self) -> String {
        let mut detail = json!({ "strictness": self.strictness() as u8, "access_rules": self.access_rules });
        if !self.causes.is_empty() {
            detail["causes"] = self.causes.iter().map(cause_json).collect();
        }
        if let Some(since) = self.since {
            detail["since"] = json!(since.to_string());
        }
        // Mostly the words tell the obligations apart.
        if read_obligations(&self.ruling.obligations_in_words()) != self.ruling.obligations {
            let obligation = |one: &Obligation| match one {
                Obligation::Limit(limit) => json!({ "limit": limit }),
                Obligation::StepUp => json!(STEP_UP),
                Obligation::Terms(terms) => json!({ "terms": terms }),
            };
            detail["obligations"] = self.ruling.obligations.iter().map(obligation).collect();
        }
        detail.to_string()
    }

    /// Returns what is decided, from the value of a spell alone. Where a limit is called like another obligation, it is told as that.
    pub fn ruling_of(value: &str) -> Option<Ruling> {
        let obligations = read_obligations(value.strip_prefix(PERMIT_WITH).unwrap_or_default());
        Some(Ruling { effect: Self::effect_of(value)?, obligations })
    }

    /// Returns whether access is permitted, from the value of a spell alone.
    pub fn effect_of(value: &str) -> Option<Effect> {
        if value.starts_with(PERMIT_WITH) { Some(Effect::Permit) } else { Effect::parse(value) }
    }

    pub fn read(value: &str, detail: &str) -> Option<Self> {
        let detail: DecisionDetail = serde_json::from_str(detail).ok()?;
        let Ruling { effect, obligations } = Self::ruling_of(value)?;
        let obligation = |json: &Json| match json.as_str() {
            Some(_) => Some(Obligation::StepUp),
            None => match json["terms"].as_str() {
                Some(terms) => Some(Obligation::Terms(terms.to_owned())),
                None => Some(Obligation::Limit(json["limit"].as_str()?.to_owned())),
            },
        };
        let obligations = match &detail.obligations {
            Some(all) => all.iter().map(obligation).collect::<Option<_>>()?,
            None => obligations,
        };
        let ruling = Ruling { effect, obligations };
        let since = detail.since.and_then(|at| at.parse().ok());
        if let Some(access_rules) = detail.access_rules {
            let causes = detail.causes.into_iter().map(CauseDetail::cause).collect::<Option<_>>()?;
            return Some(Self { ruling, access_rules, causes, since });
        }
        // Earlier versions kept one access rule, and the word for one cause.
        let kind = match detail.cause.as_deref() {
            Some("membership") if detail.access_rule.is_none() => Some(CauseKind::Default),
            Some(word) => CauseKind::parse(word),
            None => None,
        };
        let causes = kind.map(|kind| Cause { access_rule: detail.access_rule.clone(), ..Cause::of_kind(kind) });
        Some(Self {
            ruling,
            access_rules: detail.access_rule.into_iter().collect(),
            causes: causes.into_iter().collect(),
            since,
        })
    }
}

/// The detail of a decision's spell.
#[derive(Deserialize)]
struct DecisionDetail {
    access_rules: Option<Vec<String>>,
    #[serde(default)]
    causes: Vec<CauseDetail>,
    since: Option<String>,
    obligations: Option<Vec<Json>>,
    access_rule: Option<String>,
    cause: Option<String>,
}

#[derive(Deserialize)]
struct CauseDetail {
    cause: String,
    access_rule: Option<String>,
    rule: Option<String>,
    fact: Option<String>,
    opened: Option<String>,
    due: Option<String>,
}

impl CauseDetail {
    fn cause(self) -> Option<Cause> {
        let moment = |text: Option<String>| text.and_then(|at| at.parse().ok());
        Some(Cause {
            kind: CauseKind::parse(&self.cause)?,
            access_rule: self.access_rule,
            rule: self.rule,
            fact: self.fact,
            opened: moment(self.opened),
            due: moment(self.due),
        })
    }
}

fn cause_json(cause: &Cause) -> Json {
    let mut json = json!({ "cause": cause.kind.as_str() });
    let texts = [("access_rule", &cause.access_rule), ("rule", &cause.rule), ("fact", &cause.fact)];
    for (key, text) in texts {
        if let Some(text) = text {
            json[key] = json!(text);
        }
    }
    for (key, moment) in [("opened", cause.opened), ("due", cause.due)] {
        if let Some(moment) = moment {
            json[key] = json!(moment.to_string());
        }
    }
    json
}

/// What a ledger calls a stronger sign-in.
const STEP_UP: &str = "step-up";

/// Reads obligations in words, where no limit has a comma and none is called as the step-up is.
fn read_obligations(words: &str) -> Vec<Obligation> {
    let obligation = |word: &str| match word {
        STEP_UP => Obligation::StepUp,
        words => match words.strip_prefix("terms ") {
            Some(terms) => Obligation::Terms(terms.to_owned()),
            None => Obligation::Limit(words.to_owned()),
        },
    };
    if words.is_empty() { Vec::new() } else { words.split(", ").map(obligation).collect() }
}

/// Whose sign-in to what a decision is about.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(crate) struct DecisionKey {
    pub person: Option<String>,
    pub service: String,
    pub client: String,
}

impl DecisionKey {
    pub fn subject(&self) -> String {
        json!([self.person, self.service, self.client]).to_string()
    }

    pub fn read(subject: &str) -> Option<Self> {
        let (person, service, client) = serde_json::from_str(subject).ok()?;
        Some(Self { person, service, client })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_finding_comes_back_as_it_went() {
        let at: Timestamp = "2027-03-01T10:00:00Z".parse().unwrap();
        let original = Finding {
            id: FindingId::of_number(u64::MAX),
            device: DeviceId::from("d"),
            subject: Subject::Silence,
            clock: FindingClock {
                opened: at,
                due: at,
                closed: Some((at, CloseReason::Answered)),
                waived: vec![WaivedTime { from: at, until: at, due_after: at, afresh: true, waiver: "w".into() }],
            },
            failing_since: Some(at),
            grace: Period::parse("1d 12h").unwrap(),
            spell: 2,
            evidence_at: None,
            fingerprint: u64::MAX,
            corrected: true,
            leaves_open: vec![RuleId::from("a/b")],
            blames: vec![Blame { fact: "os.version".into(), reason: Reason::WrongType }],
        };
        assert_eq!(finding(&finding_row(&original, 3)).as_ref(), Some(&original));
        let written: Json = serde_json::from_str(&finding_row(&original, 3).body).unwrap();
        assert_eq!(written.to_string(), finding_row(&original, 3).body);
        let odd = Finding {
            leaves_open: vec!["\"\\\u{1}é".into(), "b".into()],
            blames: vec![original.blames[0].clone(), Blame { fact: "a\"b".into(), reason: Reason::Stale }],
            ..original.clone()
        };
        assert_eq!(finding(&finding_row(&odd, 3)).as_ref(), Some(&odd));
        let open = Finding {
            clock: FindingClock::running(at, at),
            failing_since: None,
            subject: Subject::parse("a/b"),
            ..original.clone()
        };
        assert_eq!(finding(&finding_row(&open, 3)), Some(open));
    }

    #[test]
    fn decisions_come_back_as_they_were_whatever_their_limits_are_called() {
        let limit = |text: &str| Obligation::Limit(text.to_owned());
        let all = [
            (Effect::Permit, vec![]),
            (Effect::Deny, vec![]),
            (Effect::Permit, vec![limit("no download"), Obligation::StepUp]),
            (Effect::Permit, vec![limit("no copy, no print")]),
            (Effect::Permit, vec![limit("step-up")]),
            (Effect::Permit, vec![limit("")]),
        ];
        for (effect, obligations) in all {
            let ruling = Ruling { effect, obligations };
            let cause = Cause {
                access_rule: Some("r".into()),
                rule: Some("silence".into()),
                opened: Some(Timestamp::UNIX_EPOCH),
                ..Cause::of_kind(CauseKind::Silence)
            };
            let fact = Cause { fact: Some("a\"b".into()), ..Cause::of_kind(CauseKind::Condition) };
            let causes = vec![cause, fact];
            let (access_rules, since) = (vec!["r".into(), "s".into()], Some(Timestamp::UNIX_EPOCH));
            let stored = StoredDecision { ruling, access_rules, causes, since };
            let read = StoredDecision::read(&stored.ruling.in_words(), &stored.detail());
            assert_eq!(read, Some(stored));
        }
        // As earlier versions wrote it.
        let read = StoredDecision::read("permit with no print, step-up", "{\"strictness\":1}").expect("it is read");
        assert_eq!(read.ruling.obligations, [limit("no print"), Obligation::StepUp]);
        let old = r#"{"strictness":2,"access_rule":"good","cause":"silence"}"#;
        let read = StoredDecision::read("deny", old).expect("it is read");
        assert_eq!((read.access_rules, read.causes[0].kind), (vec!["good".to_owned()], CauseKind::Silence));
    }
}
