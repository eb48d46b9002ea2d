//! One sign-in explained: the decision, what would change it, what the person reads, and every access rule with its proof.

use fencepost_core::{Dictionary, Effect, Ruling, Stage, StepResult, Strictness};
use fencepost_engine::{Explanation, RuleTrace};
use jiff::Timestamp;
use serde_json::{Value as Json, json};

use super::access::cause;
use super::evidence::Proof;
use super::json::{self, SCHEMA};
use super::style::Styles;
use super::table::wrap;
use super::text::{count, harmless};
use super::time::Clock;

pub struct ExplanationPage<'p> {
    pub clock: &'p Clock,
    pub styles: &'p Styles,
    pub width: usize,
    pub dictionary: &'p Dictionary,
}

impl ExplanationPage<'_> {
    pub fn render(&self, found: &Explanation) -> String {
        let who = found.person_name.as_ref().or(found.person.as_ref()).map_or("Nobody", String::as_str);
        let device = match (&found.device, found.sign_in.is_strange()) {
            (Some(device), _) => device.as_str(),
            (None, true) => "a device that the ledger does not know",
            (None, false) => "a made-up device",
        };
        let client = match found.sign_in.client.as_str() {
            "" => String::new(),
            client => format!(" ({})", harmless(client)),
        };
        let mut out = format!(
            "{} signs in to {}{client} with {}, as of {}\n",
            harmless(who),
            harmless(&found.service_title),
            harmless(device),
            self.clock.full(found.sign_in.time.unwrap_or(self.clock.now)),
        );
        self.decision(&mut out, found);
        let about = |rule: &&RuleTrace| rule.result != StepResult::OtherService;
        let (own, others): (Vec<&RuleTrace>, Vec<&RuleTrace>) = found.rules.iter().partition(about);
        let strong = self.styles.strong;
        out.push_str(&format!("\n{strong}Access rules{strong:#}\n"));
        for rule in own {
            self.rule(&mut out, rule);
        }
        if !others.is_empty() {
            let rules = count(others.len() as u64, "rule is", "rules are");
            out.push_str(&format!("  {rules} about other services\n"));
        }
        out
    }

    fn line(&self, out: &mut String, word: &str, text: &str) {
        let faint = self.styles.faint;
        for (at, part) in wrap(&harmless(text), self.width.saturating_sub(12)).into_iter().enumerate() {
            let word = if at == 0 { word } else { "" };
            out.push_str(&format!("  {faint}{word:<8}{faint:#}  {part}\n"));
        }
    }

    fn decision(&self, out: &mut String, found: &Explanation) {
        let style = match found.ruling.strictness() {
            Strictness::Permitted => self.styles.good,
            Strictness::Limited => self.styles.notice,
            Strictness::Denied => self.styles.bad,
        };
        let by = match found.access_rules.as_slice() {
            [] => "by the service's default".to_owned(),
            rules => format!("by {}", harmless(&rules.join(", "))),
        };
        out.push_str(&format!("{style}{}{style:#} {by}\n", harmless(&found.ruling.in_words())));
        for line in &found.causes {
            let due = line.cause.due.map(|due| match due > self.clock.now {
                true => format!(" (due {})", self.clock.both(due)),
                false => format!(" (overdue since {})", self.clock.moment(due)),
            });
            self.line(out, "because", &format!("{}{}", cause(line), due.unwrap_or_default()));
        }
        let mut fixes: Vec<&str> = found.causes.iter().filter_map(|line| line.fix.as_deref()).collect();
        fixes.dedup();
        fixes.into_iter().for_each(|fix| self.line(out, "do", fix));
        found.tell.iter().for_each(|text| self.line(out, "reads", text));
    }

    fn rule(&self, out: &mut String, rule: &RuleTrace) {
        let (word, style) = match &rule.result {
            StepResult::Met if !rule.causes.is_empty() => {
                ("met, once its terms are accepted".to_owned(), self.styles.notice)
            }
            StepResult::Met => ("met".to_owned(), self.styles.good),
            StepResult::Unmet => (format!("not met: {}", rule.otherwise), self.styles.bad),
            StepResult::NeedsUnknown => {
                (format!("not known whether it is met: {}", rule.otherwise), self.styles.unproven)
            }
            StepResult::Uncertain(_) => {
                let then = if rule.counts { "counts as the stricter" } else { "left out, as the stricter" };
                (format!("not known whether it applies: {then}"), self.styles.unproven)
            }
            StepResult::Excused => ("excused".to_owned(), self.styles.faint),
            StepResult::NotNow => ("does not apply".to_owned(), self.styles.faint),
            StepResult::OtherPeople => ("is for other people".to_owned(), self.styles.faint),
            StepResult::OtherService | StepResult::NotEnforced => ("is not asked".to_owned(), self.styles.faint),
        };
        let trial = match rule.stage {
            Stage::Enforced => "",
            Stage::Trial => ", on trial: it decides nothing",
            Stage::Draft => ", a draft: it decides nothing",
        };
        out.push_str(&format!("  {}  {style}{}{style:#}{trial}\n", harmless(&rule.id), harmless(&word)));
        if let Some((asked, evidence)) = &rule.because {
            let faint = self.styles.faint;
            out.push_str(&format!("    {faint}{}{faint:#}\n", asked.as_str()));
            let proof =
                Proof { evidence, dictionary: self.dictionary, facts: &[], clock: self.clock, styles: self.styles };
            out.push_str(&proof.render(6));
        }
    }
}

pub fn explanation(found: &Explanation, as_of: Timestamp) -> Json {
    let sign_in = &found.sign_in;
    let causes = |causes: &[fencepost_engine::CauseLine]| causes.iter().map(json::cause).collect::<Vec<_>>();
    let mut out = json!({
        "schema": SCHEMA,
        "as_of": as_of.to_string(),
        "signin": {
            "person": found.person, "person_name": found.person_name, "device": found.device, "service": found.service,
            "client": sign_in.client, "address": sign_in.address, "platform": sign_in.platform,
            "at": sign_in.time.map(|at| at.to_string()), "known": !sign_in.is_strange(),
            "registered": sign_in.registered, "managed": sign_in.managed,
        },
    });
    let rules = found.rules.iter().map(|rule| {
        json!({
            "access_rule": rule.id, "stage": rule.stage.as_str(), "became": rule.result.as_str(), "counts": rule.counts,
            "otherwise": rule.otherwise, "causes": causes(&rule.causes),
            "asked": rule.because.as_ref().map(|(asked, _)| asked.as_str()),
            "evidence": rule.because.as_ref().map(|(_, evidence)| json::evidence(evidence)),
        })
    });
    if let Json::Object(keys) = &mut out {
        keys.extend(json::ruling(&found.ruling));
        keys.insert("access_rules".into(), json!(found.access_rules));
        keys.insert("causes".into(), json!(causes(&found.causes)));
        keys.insert("rules".into(), rules.collect());
        keys.insert("tell".into(), json!(told(found)));
    }
    out
}

/// What the person reads; nothing where nothing stops them.
fn told(found: &Explanation) -> Option<String> {
    let is_open = found.ruling == Ruling { effect: Effect::Permit, obligations: Vec::new() };
    (!is_open && !found.tell.is_empty()).then(|| found.tell.join("\n"))
}

pub const COLUMNS: [&str; 6] = ["access_rule", "stage", "became", "counts", "otherwise", "causes"];

pub fn rows(found: &Explanation) -> Vec<Json> {
    let row = |rule: &RuleTrace| {
        let causes: Vec<String> = rule.causes.iter().map(cause).collect();
        json!({
            "schema": SCHEMA, "access_rule": rule.id, "stage": rule.stage.as_str(), "became": rule.result.as_str(),
            "counts": rule.counts, "otherwise": rule.otherwise, "causes": causes.join("; "),
        })
    };
    found.rules.iter().map(row).collect()
}
