//! Makes the entries of a report about access. What many entries have in common is kept once.

use std::cell::RefCell;
use std::collections::{HashMap, HashSet};
use std::hash::Hash;
use std::sync::Arc;

use bumpalo::Bump;
use fencepost_core::{Cause, CauseKind, Finding, Phase, Subject, Terms};

use super::current::{CurrentDecision, CurrentDecisions};
use super::report::{AccessEntry, CauseLine, Contact};
use crate::error::EngineError;
use crate::ledger_view::codec::{DecisionKey, StoredDecision};
use crate::ledger_view::reading::Reading;

/// What entries have in common, each value once.
#[derive(Default)]
pub(super) struct SharedParts {
    texts: RefCell<HashSet<Arc<str>>>,
    access_rules: RefCell<HashSet<Arc<[String]>>>,
    causes: RefCell<HashSet<Arc<[CauseLine]>>>,
    contacts: RefCell<HashMap<Arc<str>, Arc<Contact>>>,
}

impl SharedParts {
    pub(super) fn text(&self, text: &str) -> Arc<str> {
        kept_once(&self.texts, text)
    }

    fn contact(&self, person: &Arc<str>, reading: &Reading<'_>) -> Arc<Contact> {
        let mut contacts = self.contacts.borrow_mut();
        Arc::clone(contacts.entry(Arc::clone(person)).or_insert_with(|| Arc::new(reading.contact(person))))
    }
}

/// Returns the value that is kept, which is a copy of this one where it is new.
fn kept_once<T>(known: &RefCell<HashSet<Arc<T>>>, value: &T) -> Arc<T>
where
    T: Eq + Hash + ?Sized,
    Arc<T>: for<'v> From<&'v T>,
{
    let mut known = known.borrow_mut();
    if let Some(kept) = known.get(value) {
        return Arc::clone(kept);
    }
    let new: Arc<T> = Arc::from(value);
    known.insert(Arc::clone(&new));
    new
}

/// Makes the entries about the sign-ins with one device.
pub(super) struct DeviceEntries<'d, 'w> {
    pub of: &'d CurrentDecisions,
    reading: &'d Reading<'w>,
    shared: &'d SharedParts,
    device: Arc<str>,
    /// Causes that were put into words, since several sign-ins have the same.
    in_words: RefCell<Vec<CausesInWords>>,
}

struct CausesInWords {
    causes: Vec<Cause>,
    lines: Arc<[CauseLine]>,
}

impl<'d, 'w> DeviceEntries<'d, 'w> {
    pub fn new(reading: &'d Reading<'w>, of: &'d CurrentDecisions, shared: &'d SharedParts) -> Self {
        let device = Arc::from(of.device.as_str());
        Self { of, reading, shared, device, in_words: RefCell::default() }
    }

    /// Returns what is told of a sign-in; where the device belongs and which other way there is are not worked out.
    pub fn entry(&self, key: &DecisionKey, held: &CurrentDecision) -> Result<AccessEntry, EngineError> {
        let shared = self.shared;
        let services = self.reading.project.rules.access().services();
        let known = services.iter().find(|service| service.id.as_str() == key.service);
        let title = known.map_or(key.service.as_str(), |service| &service.title);
        let person = key.person.as_deref().map(|person| shared.text(person));
        Ok(AccessEntry {
            device: Arc::clone(&self.device),
            contact: match &person {
                Some(person) => shared.contact(person, self.reading),
                None => Arc::default(),
            },
            person,
            site: None,
            service: shared.text(&key.service),
            service_title: shared.text(title),
            client: shared.text(&key.client),
            moment: held.since,
            decision: held.decision.ruling.clone(),
            access_rules: kept_once(&shared.access_rules, &held.decision.access_rules),
            causes: self.cause_lines(&held.decision)?,
            other: None,
            only_if_silent: false,
        })
    }

    /// Puts the causes of a decision into words.
    pub fn cause_lines(&self, decision: &StoredDecision) -> Result<Arc<[CauseLine]>, EngineError> {
        if let Some(known) = self.in_words.borrow().iter().find(|known| known.causes == decision.causes) {
            return Ok(Arc::clone(&known.lines));
        }
        let lines = self.new_cause_lines(decision)?;
        let lines = kept_once(&self.shared.causes, lines.as_slice());
        let known = CausesInWords { causes: decision.causes.clone(), lines: Arc::clone(&lines) };
        self.in_words.borrow_mut().push(known);
        Ok(lines)
    }

    fn new_cause_lines(&self, decision: &StoredDecision) -> Result<Vec<CauseLine>, EngineError> {
        let (of, reading) = (self.of, self.reading);
        let mut lines = Vec::new();
        for cause in &decision.causes {
            let kept_without_rule =
                cause.rule.is_none() && matches!(cause.kind, CauseKind::Finding | CauseKind::Silence);
            let findings = match kept_without_rule || cause.underlying_kind() == CauseKind::Silence {
                true => reading.findings_beside(of)?,
                false => &[],
            };
            if !kept_without_rule {
                lines.push(reading.cause_line(&of.device, findings, cause)?);
                continue;
            }
            // Earlier versions kept that findings are the cause, and not which.
            let is_overdue = |finding: &&Finding| matches!(finding.phase(reading.at), Phase::Overdue { .. });
            for finding in findings.iter().filter(is_overdue) {
                if (finding.subject == Subject::Silence) == (cause.kind == CauseKind::Silence) {
                    let rule = Some(finding.subject.as_str().to_owned());
                    let (opened, due) = (Some(finding.clock.opened), Some(finding.clock.due_at(reading.at)));
                    let cause = Cause { rule, opened, due, ..cause.clone() };
                    lines.push(reading.cause_line(&of.device, findings, &cause)?);
                }
            }
        }
        Ok(lines)
    }
}

impl Reading<'_> {
    pub(super) fn contact(&self, person: &str) -> Contact {
        let Some(person) = self.people.get_once(person) else { return Contact::default() };
        let text = |field: &str| person.text(field).map(str::to_owned);
        Contact {
            name: Some(person.name().to_owned()),
            mail: text("mail"),
            phone: text("phone"),
            lead: text("lead"),
            lead_name: person.text("lead").and_then(|lead| self.people.get(lead)).map(|lead| lead.name().to_owned()),
            unit: text("unit"),
        }
    }

    pub(super) fn cause_line(
        &self,
        device: &str,
        findings: &[Finding],
        cause: &Cause,
    ) -> Result<CauseLine, EngineError> {
        let (title, fix) = match (cause.underlying_kind(), cause.rule.as_deref()) {
            (CauseKind::Finding, Some(rule)) => match self.project.rules.position(rule) {
                Some(at) => (Some(self.project.rules.rules()[at].title.clone()), self.fix(at, device)?),
                None => (Some(rule.to_owned()), None),
            },
            (CauseKind::Silence, _) => {
                // Of a silence that is yet to come, or to come back, nobody knows which rules it will leave open.
                let finding = findings.iter().rfind(|it| it.subject == Subject::Silence && it.is_running());
                let rules = match finding.map_or(0, |finding| finding.leaves_open.len()) {
                    0 => "rules".to_owned(),
                    1 => "one rule".to_owned(),
                    open => format!("{open} rules"),
                };
                let facts: Vec<&str> =
                    finding.into_iter().flat_map(|it| &it.blames).map(|blame| blame.fact.as_str()).collect();
                let fix = match facts.as_slice() {
                    [] => "Let the device report again".to_owned(),
                    facts => format!("Let the device report again: {}", facts.join(", ")),
                };
                (Some(format!("{rules} left without an answer")), Some(fix))
            }
            (CauseKind::Uncovered, _) => (
                Some("no enforced rule covers the device".to_owned()),
                Some("Write a rule that covers it, or widen the scope of one".to_owned()),
            ),
            (CauseKind::Terms, _) => {
                let all = self.project.rules.access().terms();
                let terms = all.iter().find(|terms| Some(terms.id.as_str()) == cause.fact.as_deref());
                let accept = |terms: &Terms| format!("Accept the terms: {}, version {}", terms.title, terms.version);
                (terms.map(|terms| terms.title.clone()), terms.map(accept))
            }
            _ => (None, None),
        };
        Ok(CauseLine { cause: cause.clone(), title, fix })
    }

    /// Returns what to do about a failure of a rule on a device.
    pub(super) fn fix(&self, at: usize, device: &str) -> Result<Option<String>, EngineError> {
        let rule = &self.project.rules.rules()[at];
        if !rule.asks_what_to_say() {
            return Ok(rule.fix.clone());
        }
        let (judge, documents, arena) = (self.assessing_judge(), self.assessed_documents(device)?, Bump::new());
        let judged = judge.device(device, &documents, &arena)?;
        let fix = self.project.rules.fix(at, &judged.input, judge.session(&arena));
        Ok(fix.say.map(str::to_owned))
    }
}
