//! What a device may reach, in words and in colour.

use anstyle::Style;
use fencepost_core::Strictness;
use fencepost_engine::ReachLine;

use super::style::Styles;
use super::time::Clock;

/// `deny by mail-needs-order; permit from Tue 07:00`.
pub fn in_words(reach: &ReachLine, clock: &Clock) -> String {
    let decision = reach.decision.in_words();
    let mut words = match (&reach.access_rule, reach.decision.strictness()) {
        (_, Strictness::Permitted) => decision,
        (Some(rule), Strictness::Limited | Strictness::Denied) => format!("{decision} by {rule}"),
        (None, Strictness::Limited | Strictness::Denied) => format!("{decision} by default"),
    };
    // Every device loses something if it stays silent for long enough; that is no news.
    if let Some(later) = reach.later.as_ref().filter(|later| !later.only_if_silent) {
        words.push_str(&format!("; {} from {}", later.decision.in_words(), clock.both(later.at)));
    }
    words
}

pub fn style(reach: &ReachLine, styles: &Styles) -> Style {
    match reach.decision.strictness() {
        Strictness::Permitted => Style::new(),
        Strictness::Limited => styles.notice,
        Strictness::Denied if reach.access_rule.is_none() => styles.faint,
        Strictness::Denied => styles.bad,
    }
}
