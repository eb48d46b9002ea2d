//! What people may reach with a device, and what a failure costs them in access; grouped for views.

use fencepost_core::{Ruling, Strictness};
use jiff::Timestamp;

use crate::grouped::Grouped;

/// What a service costs.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Cost {
    /// The person.
    pub person: Option<String>,
    /// The service.
    pub service: String,
    /// What people call it.
    pub title: String,
    /// The kind of client.
    pub client: String,
    /// The decision.
    pub decision: Ruling,
    /// From when on, or since when.
    pub moment: Timestamp,
    /// The overdue findings that bring it about, by their rules; where only several of them do together, all of them.
    pub findings: Vec<String>,
}

/// What the device may reach.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ReachLine {
    /// The person.
    pub person: Option<String>,
    /// The service.
    pub service: String,
    /// What people call it.
    pub title: String,
    /// The kind of client.
    pub client: String,
    /// The decision.
    pub decision: Ruling,
    /// The access rule that decides; none when the default does.
    pub access_rule: Option<String>,
    /// When time alone will make it stricter, and to what: what comes in any case before what comes of silence.
    pub later: Option<StricterLater>,
}

/// A decision that time alone will make stricter.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct StricterLater {
    /// From when on.
    pub at: Timestamp,
    /// The decision then.
    pub decision: Ruling,
    /// It comes about only if the device says nothing until then.
    pub only_if_silent: bool,
}

/// Services of one title that are reached on the same terms.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ReachGroup<'r> {
    /// One of the lines, for the title and the decision.
    pub line: &'r ReachLine,
    /// The kinds of client.
    pub clients: Vec<&'r str>,
    /// The ids of the people for whom it is so.
    pub people: Vec<&'r str>,
}

impl ReachLine {
    /// Returns what a view says of the line, besides person and client. Which rules permit is not said, and every device loses
    /// something if it stays silent for long enough: that is no news.
    fn terms(&self) -> (&str, ShownDecision<'_>) {
        let later = self.later.as_ref().filter(|later| !later.only_if_silent);
        let is_permitted = self.decision.strictness() == Strictness::Permitted;
        let access_rule = self.access_rule.as_deref().filter(|_| !is_permitted);
        (&self.title, ShownDecision { ruling: &self.decision, access_rule, later })
    }
}

/// A decision as views tell it.
#[derive(Clone, Copy, PartialEq)]
struct ShownDecision<'r> {
    ruling: &'r Ruling,
    access_rule: Option<&'r str>,
    later: Option<&'r StricterLater>,
}

/// Groups lines by what is decided: first the kinds of client of each person, then the people of whom the same is so.
pub fn group_reach(lines: &[ReachLine]) -> Vec<ReachGroup<'_>> {
    let by_person = Grouped::of(lines.iter().map(|line| ((line.person.as_deref(), line.terms()), line)));
    let by_clients = Grouped::of(by_person.into_iter().map(|((person, terms), lines)| {
        let clients: Vec<&str> = lines.iter().map(|line| line.client.as_str()).collect();
        ((terms, clients), (person, lines[0]))
    }));
    let groups = by_clients.into_iter().map(|((_, clients), people)| ReachGroup {
        line: people[0].1,
        clients,
        people: people.into_iter().filter_map(|(person, _)| person).collect(),
    });
    groups.collect()
}

/// What is lost at one moment.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct CostGroup<'c> {
    /// The decision.
    pub decision: &'c Ruling,
    /// From when on; none where it is so now.
    pub from: Option<Timestamp>,
    /// Titles of the services, each with the kinds of client.
    pub services: Vec<(&'c str, Vec<&'c str>)>,
}

/// Groups costs by decision and moment, as seen at `now`.
pub fn group_costs(costs: &[Cost], now: Timestamp) -> Vec<CostGroup<'_>> {
    let grouped = Grouped::of(costs.iter().map(|cost| {
        let from = (cost.moment > now).then_some(cost.moment);
        ((&cost.decision, from), (cost.title.as_str(), cost.client.as_str()))
    }));
    let groups = grouped.into_iter().map(|((decision, from), services)| CostGroup {
        decision,
        from,
        services: Grouped::of(services).into_iter().collect(),
    });
    groups.collect()
}

#[cfg(test)]
mod tests {
    use fencepost_core::{Effect, Obligation};

    use super::*;

    fn ruling(effect: Effect) -> Ruling {
        Ruling { effect, obligations: Vec::new() }
    }

    fn line(person: &str, title: &str, client: &str, effect: Effect) -> ReachLine {
        ReachLine {
            person: Some(person.to_owned()),
            service: title.to_lowercase(),
            title: title.to_owned(),
            client: client.to_owned(),
            decision: ruling(effect),
            access_rule: None,
            later: None,
        }
    }

    fn at(day: &str) -> Timestamp {
        format!("{day}T07:00:00Z").parse().expect("a moment")
    }

    #[test]
    fn people_of_whom_the_same_is_so_share_a_line() {
        let lines = [
            line("dee", "Mail", "app", Effect::Deny),
            line("dee", "Mail", "browser", Effect::Deny),
            line("abe", "Mail", "app", Effect::Deny),
            line("abe", "Mail", "browser", Effect::Deny),
            line("abe", "Wiki", "browser", Effect::Permit),
            line("cy", "Mail", "app", Effect::Deny),
        ];
        let groups = group_reach(&lines);
        let seen: Vec<_> = groups
            .iter()
            .map(|group| (group.line.title.as_str(), group.clients.join("+"), group.people.join("+")))
            .collect();
        let expected = [("Mail", "app+browser", "dee+abe"), ("Wiki", "browser", "abe"), ("Mail", "app", "cy")];
        assert_eq!(seen, expected.map(|(title, clients, people)| (title, clients.to_owned(), people.to_owned())));
    }

    #[test]
    fn what_comes_only_of_silence_tells_no_lines_apart() {
        let later = |only_if_silent| {
            Some(StricterLater { at: at("2027-03-05"), decision: ruling(Effect::Deny), only_if_silent })
        };
        let own = line("abe", "Mail", "app", Effect::Permit);
        let with = |client: &str, later| ReachLine { client: client.to_owned(), later, ..own.clone() };
        let lines = [own.clone(), with("browser", later(true)), with("sync", later(false))];
        let clients: Vec<_> = group_reach(&lines).into_iter().map(|group| group.clients.join("+")).collect();
        assert_eq!(clients, ["app+browser", "sync"]);
    }

    #[test]
    fn costs_are_grouped_by_decision_and_moment_and_told_as_now_once_they_have_come() {
        let cost = |title: &str, client: &str, decision: Ruling, moment| Cost {
            person: None,
            service: title.to_lowercase(),
            title: title.to_owned(),
            client: client.to_owned(),
            decision,
            moment,
            findings: Vec::new(),
        };
        let limited = Ruling { effect: Effect::Permit, obligations: vec![Obligation::StepUp] };
        let costs = [
            cost("Mail", "app", ruling(Effect::Deny), at("2027-03-01")),
            cost("Mail", "browser", ruling(Effect::Deny), at("2027-03-02")),
            cost("Wiki", "browser", ruling(Effect::Deny), at("2027-03-09")),
            cost("Mail", "sync", limited.clone(), at("2027-03-02")),
        ];
        let groups = group_costs(&costs, at("2027-03-04"));
        let group = |decision, from, services| CostGroup { decision, from, services };
        let denied = ruling(Effect::Deny);
        assert_eq!(
            groups,
            [
                group(&denied, None, vec![("Mail", vec!["app", "browser"])]),
                group(&denied, Some(at("2027-03-09")), vec![("Wiki", vec!["browser"])]),
                group(&limited, None, vec![("Mail", vec!["sync"])]),
            ]
        );
    }
}
