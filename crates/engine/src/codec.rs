//! Findings and decisions as the ledger keeps them: JSON with its own shape, apart from the core's types.

use fencepost_core::{
    Blame, CloseReason, Decision, DeviceId, Finding, LossCause, Period, Reason, RuleId, RuleSet, Subject,
};
use fencepost_store::FindingRow;
use jiff::Timestamp;
use serde_json::{Value as Json, json};

/// Writes a finding as a row.
pub(crate) fn finding_row(finding: &Finding, run: i64) -> FindingRow {
    let body = json!({
        "grace": finding.grace.to_string(),
        "failing_since": finding.failing_since.map(|moment| moment.to_string()),
        "evidence_at": finding.evidence_at.map(|moment| moment.to_string()),
        "spell": finding.spell,
        "reason": finding.closed.map(|(_, reason)| reason.as_str()),
        "fingerprint": format!("{:016x}", finding.fingerprint),
        "leaves_open": finding.leaves_open.iter().map(RuleId::as_str).collect::<Vec<_>>(),
        "blames": finding.blames.iter().map(|blame| json!([blame.fact, blame.reason.as_str()])).collect::<Vec<_>>(),
    });
    FindingRow {
        device: finding.device.to_string(),
        subject: finding.subject.as_str().to_owned(),
        opened: finding.opened,
        due: finding.due,
        closed: finding.closed.map(|(at, _)| at),
        body: body.to_string(),
        from_run: run,
    }
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
        device: DeviceId::from(row.device.as_str()),
        subject: Subject::parse(&row.subject),
        opened: row.opened,
        failing_since: moment("failing_since"),
        grace: Period::parse(body["grace"].as_str()?).ok()?,
        due: row.due,
        spell: u32::try_from(body["spell"].as_u64()?).ok()?,
        closed,
        evidence_at: moment("evidence_at"),
        fingerprint: u64::from_str_radix(body["fingerprint"].as_str()?, 16).ok()?,
        leaves_open: body["leaves_open"]
            .as_array()?
            .iter()
            .filter_map(|rule| rule.as_str().map(RuleId::from))
            .collect(),
        blames: body["blames"].as_array()?.iter().filter_map(blame).collect(),
    })
}

/// Findings of one device as bytes: quicker to read than rows.
pub(crate) fn pack_findings(findings: &[Finding]) -> Vec<u8> {
    let mut out = Packing(Vec::new());
    for finding in findings {
        out.text(finding.subject.as_str());
        out.moment(Some(finding.opened));
        out.moment(finding.failing_since);
        out.text(&finding.grace.to_string());
        out.moment(Some(finding.due));
        out.number(finding.spell.into());
        out.moment(finding.closed.map(|(at, _)| at));
        out.text(finding.closed.map_or("", |(_, reason)| reason.as_str()));
        out.moment(finding.evidence_at);
        out.number(finding.fingerprint);
        out.number(finding.leaves_open.len() as u64);
        finding.leaves_open.iter().for_each(|rule| out.text(rule.as_str()));
        out.number(finding.blames.len() as u64);
        for blame in &finding.blames {
            out.text(&blame.fact);
            out.text(blame.reason.as_str());
        }
    }
    out.0
}

/// Reads what [`pack_findings`] wrote; none when it was not.
pub(crate) fn unpack_findings(bytes: &[u8], device: &str) -> Option<Vec<Finding>> {
    packed(bytes).map(|packed| packed?.finding(device)).collect()
}

/// Returns how many packed findings run, and how many of them are overdue at a moment; none where they cannot be read.
pub(crate) fn count_running(bytes: &[u8], at: Timestamp) -> Option<(usize, usize)> {
    let (mut running, mut overdue) = (0, 0);
    for packed in packed(bytes) {
        let packed = packed?;
        running += usize::from(packed.closed.is_none());
        overdue += usize::from(packed.closed.is_none() && packed.due <= at);
    }
    Some((running, overdue))
}

/// Goes through packed findings; none comes last where the rest cannot be read.
fn packed(bytes: &[u8]) -> impl Iterator<Item = Option<Packed<'_>>> {
    let mut rest = Unpacking(bytes);
    std::iter::from_fn(move || {
        let next = (!rest.0.is_empty()).then(|| rest.packed());
        if next.as_ref().is_some_and(Option::is_none) {
            rest.0 = &[];
        }
        next
    })
}

/// A finding as it is packed.
struct Packed<'b> {
    subject: &'b str,
    opened: Timestamp,
    failing_since: Option<Timestamp>,
    grace: &'b str,
    due: Timestamp,
    spell: u64,
    closed: Option<Timestamp>,
    reason: &'b str,
    evidence_at: Option<Timestamp>,
    fingerprint: u64,
    leaves_open: Vec<&'b str>,
    blames: Vec<[&'b str; 2]>,
}

impl Packed<'_> {
    fn finding(&self, device: &str) -> Option<Finding> {
        let blame =
            |[fact, reason]: &[&str; 2]| Some(Blame { fact: (*fact).to_owned(), reason: Reason::parse(reason)? });
        Some(Finding {
            device: DeviceId::from(device),
            subject: Subject::parse(self.subject),
            opened: self.opened,
            failing_since: self.failing_since,
            grace: Period::parse(self.grace).ok()?,
            due: self.due,
            spell: u32::try_from(self.spell).ok()?,
            closed: match self.closed {
                Some(at) => Some((at, CloseReason::parse(self.reason)?)),
                None => None,
            },
            evidence_at: self.evidence_at,
            fingerprint: self.fingerprint,
            leaves_open: self.leaves_open.iter().map(|rule| RuleId::from(*rule)).collect(),
            blames: self.blames.iter().map(blame).collect::<Option<_>>()?,
        })
    }
}

struct Packing(Vec<u8>);

impl Packing {
    fn number(&mut self, number: u64) {
        self.0.extend(number.to_le_bytes());
    }

    fn text(&mut self, text: &str) {
        self.0.extend(u32::try_from(text.len()).unwrap_or(u32::MAX).to_le_bytes());
        self.0.extend(text.as_bytes());
    }

    fn moment(&mut self, moment: Option<Timestamp>) {
        self.0.extend(moment.map_or(i128::MIN, Timestamp::as_nanosecond).to_le_bytes());
    }
}

struct Unpacking<'b>(&'b [u8]);

impl<'b> Unpacking<'b> {
    fn bytes<const N: usize>(&mut self) -> Option<[u8; N]> {
        let (bytes, rest) = self.0.split_first_chunk::<N>()?;
        self.0 = rest;
        Some(*bytes)
    }

    fn number(&mut self) -> Option<u64> {
        self.bytes().map(u64::from_le_bytes)
    }

    fn text(&mut self) -> Option<&'b str> {
        let length = usize::try_from(u32::from_le_bytes(self.bytes()?)).ok()?;
        let (text, rest) = self.0.split_at_checked(length)?;
        self.0 = rest;
        std::str::from_utf8(text).ok()
    }

    fn packed(&mut self) -> Option<Packed<'b>> {
        Some(Packed {
            subject: self.text()?,
            opened: self.moment()??,
            failing_since: self.moment()?,
            grace: self.text()?,
            due: self.moment()??,
            spell: self.number()?,
            closed: self.moment()?,
            reason: self.text()?,
            evidence_at: self.moment()?,
            fingerprint: self.number()?,
            leaves_open: (0..self.number()?).map(|_| self.text()).collect::<Option<_>>()?,
            blames: (0..self.number()?).map(|_| Some([self.text()?, self.text()?])).collect::<Option<_>>()?,
        })
    }

    fn moment(&mut self) -> Option<Option<Timestamp>> {
        match i128::from_le_bytes(self.bytes()?) {
            i128::MIN => Some(None),
            nanoseconds => Timestamp::from_nanosecond(nanoseconds).ok().map(Some),
        }
    }
}

fn blame(json: &Json) -> Option<Blame> {
    Some(Blame { fact: json.get(0)?.as_str()?.to_owned(), reason: Reason::parse(json.get(1)?.as_str()?)? })
}

/// A decision as the ledger keeps it.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct StoredDecision {
    /// `permit`, `deny`, `permit with ..`.
    pub words: String,
    /// 0 permit, 1 with obligations, 2 deny.
    pub strictness: u8,
    /// The access rule that decided; none when the service's default did.
    pub access_rule: Option<String>,
    /// What shut the door, where it is shut or narrowed.
    pub cause: Option<LossCause>,
}

impl StoredDecision {
    pub fn of<'f>(
        decision: &Decision,
        rules: &RuleSet,
        findings: impl IntoIterator<Item = &'f Finding>,
        at: Timestamp,
    ) -> Self {
        let strictness = decision.strictness();
        Self {
            words: decision.in_words(),
            strictness,
            access_rule: decision.by.map(|by| rules.access().rules()[by].id.to_string()),
            cause: (strictness > 0).then(|| LossCause::of(decision, rules, findings, at)),
        }
    }

    pub fn detail(&self) -> String {
        json!({ "strictness": self.strictness, "access_rule": self.access_rule, "cause": self.cause.map(LossCause::as_str) }).to_string()
    }

    pub fn read(value: &str, detail: &str) -> Option<Self> {
        let detail: Json = serde_json::from_str(detail).ok()?;
        Some(Self {
            words: value.to_owned(),
            strictness: u8::try_from(detail["strictness"].as_u64()?).ok()?,
            access_rule: detail["access_rule"].as_str().map(str::to_owned),
            cause: detail["cause"].as_str().and_then(LossCause::parse),
        })
    }
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
        let parts: Json = serde_json::from_str(subject).ok()?;
        Some(Self {
            person: parts.get(0)?.as_str().map(str::to_owned),
            service: parts.get(1)?.as_str()?.to_owned(),
            client: parts.get(2)?.as_str()?.to_owned(),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_finding_comes_back_as_it_went() {
        let at: Timestamp = "2027-03-01T10:00:00Z".parse().unwrap();
        let original = Finding {
            device: DeviceId::from("d"),
            subject: Subject::Silence,
            opened: at,
            failing_since: Some(at),
            grace: Period::parse("1d 12h").unwrap(),
            due: at,
            spell: 2,
            closed: Some((at, CloseReason::Answered)),
            evidence_at: None,
            fingerprint: u64::MAX,
            leaves_open: vec![RuleId::from("a/b")],
            blames: vec![Blame { fact: "os.version".into(), reason: Reason::WrongType }],
        };
        assert_eq!(finding(&finding_row(&original, 3)).as_ref(), Some(&original));
        let open = Finding { closed: None, failing_since: None, subject: Subject::parse("a/b"), ..original.clone() };
        let both = [original, open];
        let packed = pack_findings(&both);
        assert_eq!(unpack_findings(&packed, "d").as_deref(), Some(&both[..]));
        // Counting them comes to the same, at whatever moment.
        for at in both.iter().map(|finding| finding.due) {
            let running: Vec<&Finding> = both.iter().filter(|finding| finding.is_running()).collect();
            let overdue = running.iter().filter(|finding| finding.due <= at).count();
            assert_eq!(count_running(&packed, at), Some((running.len(), overdue)));
        }
        assert!((1..packed.len()).filter(|cut| unpack_findings(&packed[..*cut], "d").is_some()).count() <= 1);
    }
}
