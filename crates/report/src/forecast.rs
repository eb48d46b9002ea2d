//! What comes, in words.

use fencepost_core::CauseKind;
use fencepost_engine::{ForecastKind, ForecastLine, ForecastSubject};

use crate::page::{grouped, safe};

/// Returns a line of a forecast as a sentence without a full stop.
pub fn line_in_words(line: &ForecastLine) -> String {
    let whom = whom(line);
    let words = match (&line.subject, line.kind) {
        (ForecastSubject::Rule(rule), ForecastKind::Opening) => format!("{rule} opens on {whom}"),
        (ForecastSubject::Rule(rule), ForecastKind::Closing) => format!("{rule} closes on {whom}"),
        (ForecastSubject::Rule(rule), _) => format!("{rule} falls due on {whom}"),
        (ForecastSubject::Source(source), _) => format!("what {source} said of {whom} becomes too old"),
        (ForecastSubject::Service { title, permitted_with: None }, _) => format!("{whom} can no longer get at {title}"),
        (ForecastSubject::Service { title, permitted_with: Some(with) }, ForecastKind::Losing) => {
            format!("{whom} get at {title} with {with} only")
        }
        (ForecastSubject::Service { title, .. }, _) => format!("{whom} can get at {title} again"),
        (ForecastSubject::Step { deed, to, rule, is_held }, _) => {
            let held = if *is_held { " waits for approval" } else { "" };
            format!("{deed} {to} about {rule} on {whom}{held}")
        }
        (ForecastSubject::Ending { kind, id, rule: Some(rule) }, _) => format!("the {kind} of {id} from {rule} ends"),
        (ForecastSubject::Ending { kind, id, rule: None }, _) if whom.is_empty() => format!("the {kind} {id} ends"),
        (ForecastSubject::Ending { kind, id, rule: None }, _) => format!("the {kind} of {whom} ends ({id})"),
    };
    safe(&words)
}

/// Whom it is told of, and how many more there are.
fn whom(line: &ForecastLine) -> String {
    match line.named() {
        ([], 0) => String::new(),
        ([], more) => grouped(more),
        (named, 0) => named.join(", "),
        (named, more) => format!("{} and {} more", named.join(", "), grouped(more)),
    }
}

/// Returns a kind of cause in words.
pub fn kind_in_words(kind: CauseKind) -> &'static str {
    match kind {
        CauseKind::Finding => "finding",
        CauseKind::Silence => "the device is silent",
        CauseKind::Uncovered => "no rule covers the device",
        CauseKind::Condition => "not as asked for:",
        CauseKind::Certificate => "the device is not managed any more",
        CauseKind::Default => "no access rule is for this person",
        CauseKind::Membership => "the person belongs no longer to those whom an access rule is for",
        CauseKind::Left => "the person is on no list any more",
        CauseKind::Retired => "the device was retired",
        CauseKind::Terms => "terms to accept:",
        CauseKind::RuleChanged => "the rules were edited",
        CauseKind::WaiverEnded => "a waiver ended:",
    }
}
