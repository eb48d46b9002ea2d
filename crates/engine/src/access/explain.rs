//! One sign-in explained: what would be decided, what became of every access rule, and what the person would read.

use bumpalo::Bump;
use fencepost_core::{
    AccessCondition, Attempt, Cause, CauseKind, Decision, DocumentReader as _, Evidence, Finding, Holder, Layout,
    Observation, Ruling, SignIn, Stage, StepResult, Strictness, decide_and_explain, find_causes, find_causes_of_rule,
    step_evidence,
};
use fencepost_formats::{
    JsonDocuments, SecretKey, TemplateValues, TextKind, facts_in_template, fill_in, json_of_value, mask_secrets,
};
use serde_json::{Map, Value as Json, json};

use super::report::CauseLine;
use crate::assess::outlook::{DeviceAt, Outlook};
use crate::assess::sign_in_context::SignInContext;
use crate::error::EngineError;
use crate::facts::documents::Document;
use crate::facts::judge::Judge;
use crate::facts::nested::insert_at;
use crate::ledger_view::damage::damaged;
use crate::ledger_view::reading::Reading;

/// With which device somebody signs in.
#[derive(Clone, Copy, Debug)]
pub enum AskedDevice<'q> {
    /// One of the ledger.
    Known(&'q str),
    /// One that the ledger does not know.
    Strange,
    /// One of which the facts are made up: a JSON object.
    MadeUp(&'q [u8]),
}

/// The sign-in that is asked about.
#[derive(Clone, Debug)]
pub struct SignInQuestion<'q> {
    /// Who signs in, by id or name; whoever holds the device, where it is none.
    pub person: Option<&'q str>,
    /// With which device.
    pub device: AskedDevice<'q>,
    /// To which service, by id or title.
    pub service: &'q str,
    /// How; the properties that are not said are those of the service's usual sign-in of the same id or client, or of its first one.
    pub sign_in: SignIn,
}

/// What became of one access rule.
#[derive(Clone, Debug, PartialEq)]
pub struct RuleTrace {
    /// The rule.
    pub id: String,
    /// How far it is in force.
    pub stage: Stage,
    /// The result; for a rule that is not enforced, the result it would have.
    pub result: StepResult,
    /// Whether the rule contributed to the decision.
    pub counts: bool,
    /// What the rule yields if `needs` does not hold, in words.
    pub otherwise: String,
    /// The condition that decided that, with its proof.
    pub because: Option<(AccessCondition, Evidence)>,
    /// What would have to change.
    pub causes: Vec<CauseLine>,
}

/// One sign-in, explained.
#[derive(Clone, Debug, PartialEq)]
pub struct Explanation {
    /// Who signs in, by id.
    pub person: Option<String>,
    /// What the person is called.
    pub person_name: Option<String>,
    /// The device; none for one that the ledger does not know.
    pub device: Option<String>,
    /// The service, by id.
    pub service: String,
    /// What people call it.
    pub service_title: String,
    /// How.
    pub sign_in: SignIn,
    /// What is decided.
    pub ruling: Ruling,
    /// The access rules that decide; none where the service's default does.
    pub access_rules: Vec<String>,
    /// What would have to change for the way to be open.
    pub causes: Vec<CauseLine>,
    /// Every access rule, in their order.
    pub rules: Vec<RuleTrace>,
    /// What the person would read, one text for each rule that stops them.
    pub tell: Vec<String>,
}

impl Reading<'_> {
    /// Explains one sign-in as of the moment of reading.
    ///
    /// # Errors
    /// When the ledger cannot be read, or person, device or service is not known.
    pub fn explain_sign_in(&self, question: &SignInQuestion<'_>) -> Result<Explanation, EngineError> {
        let service = self.service_called(question.service)?;
        let device = match question.device {
            AskedDevice::Known(device) => Some(self.device_name(device)?),
            AskedDevice::Strange | AskedDevice::MadeUp(_) => None,
        };
        let (judge, arena) = (self.assessing_judge(), Bump::new());
        let documents = match (&device, question.device) {
            (Some(device), _) => self.assessed_documents(device)?,
            (None, AskedDevice::MadeUp(facts)) => vec![made_up(facts, self.judged_at())],
            (None, _) => Vec::new(),
        };
        let said = AskedFacts { device: device.clone(), documents, key: self.project.key_for_reading()? };
        let name = said.name();
        let observations = said.observations(&judge, self.project.rules.layout(), &arena)?;
        let findings = match &device {
            Some(device) => self.findings(Some(device), false)?.remove(device).unwrap_or_default(),
            None => Vec::new(),
        };
        let outlook = Outlook { judge: &judge, device: name, observations: &observations, findings: &findings };
        let found = outlook.device_at(self.at, &arena);
        if let (None, Some(device)) = (&found, &device) {
            return Err(EngineError::refused(
                format!("{device} is retired"),
                "ask about a device that the workspace still has, or with --strange about one that it does not know",
            ));
        }
        let judge = judge.as_of(self.at);
        let running = found.as_ref().map(DeviceAt::running).unwrap_or_default();
        let SignInContext { input, state, posture } = SignInContext::of(found.as_ref(), &running, &judge, &arena);
        let session = judge.session(&arena);
        let person = match question.person {
            Some(who) => Some(self.person_called(who)?),
            None => self.only_holder(input.holders, device.as_deref())?,
        };
        let own: Option<Holder<'_>> =
            person.as_deref().map(|person| judge.holder(arena.alloc_str(person), None, &arena));
        let sign_in = self.completed(service, &question.sign_in, found.is_none());
        let attempt = Attempt { input, state, holder: own.as_ref(), service, sign_in: &sign_in };
        let decision = decide_and_explain(&self.project.rules, &attempt, session);
        let findings = found.as_ref().map(|found| found.findings.as_slice()).unwrap_or_default();
        let lines = |causes: Vec<Cause>| -> Result<Vec<CauseLine>, EngineError> {
            causes.iter().map(|cause| self.line_of(device.as_deref(), findings, cause)).collect()
        };
        let all = find_causes(&self.project.rules, &attempt, &decision, posture, session);
        let open_terms: Vec<Cause> = all.iter().filter(|cause| cause.kind == CauseKind::Terms).cloned().collect();
        let causes = lines(all)?;
        let rules = decision.steps.iter().map(|step| {
            let rule = &self.project.rules.access().rules()[step.rule];
            let mut own = find_causes_of_rule(&self.project.rules, &attempt, step, posture, session);
            own.extend(
                open_terms.iter().filter(|cause| cause.access_rule.as_deref() == Some(rule.id.as_str())).cloned(),
            );
            Ok(RuleTrace {
                id: rule.id.to_string(),
                stage: step.stage,
                result: step.result.clone(),
                counts: step.counts,
                otherwise: rule.otherwise_in_words(),
                because: step_evidence(&self.project.rules, &attempt, step, session)
                    .map(|(which, evidence)| (which, evidence.map_values(&mask_secrets))),
                causes: lines(own)?,
            })
        });
        let rules = rules.collect::<Result<Vec<_>, EngineError>>()?;
        let about = &self.project.rules.access().services()[service];
        let known = person.as_deref().and_then(|person| self.people.get(person));
        let mut explanation = Explanation {
            person_name: known.map(|person| person.name().to_owned()),
            person,
            device,
            service: about.id.to_string(),
            service_title: about.title.clone(),
            sign_in: SignIn {
                registered: Some(sign_in.registered.unwrap_or(!sign_in.is_strange())),
                managed: Some(sign_in.managed.unwrap_or_else(|| self.project.rules.is_managed(&input, session))),
                ..sign_in.clone()
            },
            access_rules: self.ids_of(&decision),
            ruling: decision.ruling.clone(),
            causes,
            rules,
            tell: Vec::new(),
        };
        explanation.tell = self.told(&decision, &explanation, &said)?;
        Ok(explanation)
    }

    /// Returns what the person would read of the rules that stop them.
    fn told(
        &self,
        decision: &Decision,
        explanation: &Explanation,
        said: &AskedFacts,
    ) -> Result<Vec<String>, EngineError> {
        let rules = self.project.rules.access().rules();
        if decision.ruling.strictness() == Strictness::Permitted {
            return Ok(Vec::new());
        }
        // The deciding rules are those that deny or add an obligation.
        let texts = decision.rules.iter().filter_map(|at| rules[*at].tell.as_deref());
        let mut told = Vec::new();
        for text in texts {
            let mut values = TemplateValues {
                device: self.facts_for(text, said)?,
                findings: explanation.causes.iter().filter_map(finding_value).collect(),
                ..TemplateValues::default()
            };
            let service = json!({ "id": explanation.service, "title": explanation.service_title });
            values.others.insert("service".to_owned(), service);
            let mut of_person = Map::new();
            if let Some(person) = &explanation.person {
                of_person.insert("id".to_owned(), json!(person));
                let known = self
                    .people
                    .get(person)
                    .and_then(|person| fencepost_formats::json_of_datum(&person.facts).as_object().cloned());
                of_person.extend(known.unwrap_or_default());
            }
            values.others.insert("person".to_owned(), Json::Object(of_person));
            // A text that cannot be filled in is shown as it is written.
            told.push(fill_in(text, TextKind::Stopped, &values).unwrap_or_else(|_| text.to_owned()));
        }
        Ok(told)
    }

    /// Returns the facts that a text fills in.
    fn facts_for(&self, text: &str, said: &AskedFacts) -> Result<Map<String, Json>, EngineError> {
        let mut values = Map::new();
        if let Some(device) = &said.device {
            values.insert("id".to_owned(), json!(device));
        }
        let mut layout = self.project.rules.layout().clone();
        let paths = facts_in_template(text);
        let slots: Vec<_> = paths.iter().map(|path| layout.want(path, &self.project.dictionary)).collect();
        let (judge, arena) = (self.assessing_judge(), Bump::new());
        let judge = judge.as_of(self.at);
        let observations = said.observations(&judge, &layout, &arena)?;
        let facts = judge.merged(said.name(), &observations, &layout, &arena);
        for (path, slot) in paths.iter().zip(slots) {
            insert_at(&mut values, path, json_of_value(&facts.slot(slot).value));
        }
        Ok(values)
    }

    /// Returns a cause with what to do about it.
    fn line_of(&self, device: Option<&str>, findings: &[Finding], cause: &Cause) -> Result<CauseLine, EngineError> {
        match (device, cause.rule.as_deref().and_then(|rule| self.project.rules.position(rule))) {
            (None, Some(at)) => {
                let rule = &self.project.rules.rules()[at];
                Ok(CauseLine { cause: cause.clone(), title: Some(rule.title.clone()), fix: rule.fix.clone() })
            }
            (device, _) => self.cause_line(device.unwrap_or(MADE_UP), findings, cause),
        }
    }

    fn ids_of(&self, decision: &Decision) -> Vec<String> {
        let rules = self.project.rules.access().rules();
        decision.rules.iter().map(|at| rules[*at].id.to_string()).collect()
    }

    /// Returns a service by id or title.
    fn service_called(&self, called: &str) -> Result<usize, EngineError> {
        let services = self.project.rules.access().services();
        let by_id = services.iter().position(|service| service.id.as_str() == called);
        let lower = called.to_lowercase();
        by_id.or_else(|| services.iter().position(|service| service.title.to_lowercase() == lower)).ok_or_else(|| {
            let ids: Vec<&str> = services.iter().map(|service| service.id.as_str()).collect();
            let help = match ids.is_empty() {
                true => "define it as a [[service]] in access.toml".to_owned(),
                false => format!("the services are {}", ids.join(", ")),
            };
            EngineError::refused(format!("there is no service `{called}`"), help)
        })
    }

    fn person_called(&self, who: &str) -> Result<String, EngineError> {
        use super::report::PersonOrDevice::{Device, Person};
        match self.person_or_device(who)? {
            Person(person) => Ok(person),
            Device(_) => Err(EngineError::refused(
                format!("`{who}` is a device, not a person"),
                "name a person by id or name: fencepost list people",
            )),
        }
    }

    fn only_holder(&self, holders: &[Holder<'_>], device: Option<&str>) -> Result<Option<String>, EngineError> {
        match holders {
            [] => Ok(None),
            [one] => Ok(Some(one.id.to_owned())),
            several => {
                let ids: Vec<&str> = several.iter().map(|holder| holder.id).collect();
                Err(EngineError::refused(
                    format!("{} people hold {}", several.len(), device.unwrap_or(MADE_UP)),
                    format!("say who signs in: --person {}", ids.join(", or ")),
                ))
            }
        }
    }

    /// Returns a sign-in with what its service's usual ones say of it.
    fn completed(&self, service: usize, asked: &SignIn, is_strange: bool) -> SignIn {
        let usual = &self.project.rules.access().services()[service].usual;
        let named = |one: &&SignIn| one.id == asked.client || one.client == asked.client;
        let usual = match asked.client.as_str() {
            "" => usual.first(),
            _ => usual.iter().find(named),
        };
        let mut sign_in = usual.cloned().unwrap_or_else(|| SignIn::of_client(&asked.client));
        sign_in.address = asked.address.clone().or(sign_in.address);
        sign_in.platform = asked.platform.clone().or(sign_in.platform);
        sign_in.registered = asked.registered.or(sign_in.registered);
        sign_in.managed = asked.managed.or(sign_in.managed);
        sign_in.known = if is_strange { Some(false) } else { asked.known.or(sign_in.known) };
        sign_in.time = Some(asked.time.unwrap_or(self.at));
        sign_in
    }
}

/// What a device is called of which the facts are made up.
const MADE_UP: &str = "a made-up device";

fn made_up(facts: &[u8], at: jiff::Timestamp) -> Document {
    Document { source: "facts".to_owned(), collected: at, json: facts.to_vec() }
}

/// What is known of the device that is asked about.
struct AskedFacts {
    /// The device, where the ledger knows it.
    device: Option<String>,
    documents: Vec<Document>,
    /// Hides secrets in facts that are made up; stored ones are hidden already.
    key: SecretKey,
}

impl AskedFacts {
    fn name(&self) -> &str {
        self.device.as_deref().unwrap_or(MADE_UP)
    }

    fn observations<'a>(
        &'a self,
        judge: &'a Judge<'a>,
        layout: &'a Layout,
        arena: &'a Bump,
    ) -> Result<Vec<Observation<'a>>, EngineError> {
        let read = |said: &'a Document| {
            let mut reader = match self.device {
                Some(_) => JsonDocuments::default(),
                None => JsonDocuments::with_secrets(&self.key),
            };
            match (reader.read(&said.json, layout, arena), &self.device) {
                (Ok(read), _) => Ok(judge.observation(&said.source, Some(said.collected), read.slots)),
                (Err(error), Some(device)) => Err(damaged(judge.project, device, &error.message).into()),
                (Err(error), None) => Err(EngineError::refused(
                    format!("byte {}: {}", error.offset, error.message),
                    "facts are one JSON object",
                )),
            }
        };
        self.documents.iter().map(read).collect()
    }
}

/// Returns a cause as the template value of a finding; none if the cause is not a finding.
fn finding_value(line: &CauseLine) -> Option<Json> {
    let cause = &line.cause;
    let rule = cause.rule.as_deref()?;
    let moment = |at: Option<jiff::Timestamp>| at.map(|at| at.to_string());
    let title = line.title.as_deref().unwrap_or(rule);
    Some(json!({
        "rule": rule, "title": title, "fix": line.fix, "since": moment(cause.opened), "due": moment(cause.due),
    }))
}
