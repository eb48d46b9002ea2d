//! Ladders that compile, and yet would not do what was meant.

use std::collections::{BTreeSet, HashSet};

use jiff::Timestamp;

use crate::diagnostic::Diagnostic;
use crate::facts::period::{Period, WorkCalendar};
use crate::findings::clock::FindingClock;
use crate::findings::response::{Response, ResponseStep, StepAction, StepAnchor};
use crate::rule_set::RuleSet;

/// The grace of ladders that silence sets off, or being covered by nothing.
const USUAL_GRACE: Period = Period::days(3);

impl RuleSet {
    /// Looks for ladders that nobody uses, for commands that nobody is warned of, and for notices that come too late.
    pub fn vet_responses(&self, calendar: &WorkCalendar, at: Timestamp) -> Vec<Diagnostic> {
        let responses = self.responses();
        let mut told = Vec::new();
        let used: BTreeSet<&str> = responses.in_use(self.rules()).map(|response| response.id.as_str()).collect();
        for response in responses.ladders() {
            if !used.contains(response.id.as_str()) {
                let message = format!("no rule sets response `{}` off", response.id);
                told.push(Diagnostic::warning("response-unused", message, response.place.clone()).help(
                    "name it with `response` in a rule or a baseline, or in [responses], [silence] or [uncovered]",
                ));
                continue;
            }
            let of_rules = self
                .rules()
                .iter()
                .filter(|rule| responses.of_rule(rule).is_some_and(|ladder| ladder.id == response.id));
            let graces: HashSet<Period> = of_rules.map(|rule| rule.grace).collect();
            let graces = if graces.is_empty() { HashSet::from([USUAL_GRACE]) } else { graces };
            let clocks = graces.into_iter().map(|grace| FindingClock::running(at, grace.after(at, calendar)));
            told.extend(clocks.flat_map(|clock| ladder_mistakes(response, &clock, calendar)));
        }
        // Rules of different grace are told of once.
        crate::diagnostic::each_once(told)
    }
}

/// Says what is wrong in the order of a ladder's steps, for one finding.
fn ladder_mistakes(response: &Response, clock: &FindingClock, calendar: &WorkCalendar) -> Vec<Diagnostic> {
    let moment = |step: &ResponseStep| step.at.nominal(clock, clock.opened, calendar);
    let is_command = |step: &&ResponseStep| matches!(step.action, StepAction::Command { undo: None, .. });
    // What comes before a rule is enforced warns of no command.
    let is_of_finding = |step: &&ResponseStep| step.is_warning() && step.at.anchor != StepAnchor::Enforced;
    let warnings: Vec<&ResponseStep> = response.steps.iter().filter(is_of_finding).collect();
    let mut told = Vec::new();
    for command in response.steps.iter().filter(is_command) {
        let Some(at) = moment(command) else { continue };
        let is_before = |step: &&&ResponseStep| moment(step).is_some_and(|other| other <= at);
        if !warnings.iter().any(|step| is_before(&step)) {
            let message = format!("nobody is told before step `{}` of response `{}`", command.id, response.id);
            told.push(
                Diagnostic::error("command-without-warning", message, command.place.clone())
                    .help("it would never be carried out; write a step with do = \"notify\" before it"),
            );
        }
        for late in warnings.iter().filter(|step| !is_before(step)) {
            let message =
                format!("step `{}` of response `{}` comes after the command `{}`", late.id, response.id, command.id);
            told.push(
                Diagnostic::warning("notice-after-command", message, late.place.clone())
                    .help("tell people before something is done to their device"),
            );
        }
    }
    told
}
