//! What the outbox makes of findings: single ladders, and random histories.

use super::*;
use jiff::tz::TimeZone;
use proptest::prelude::*;

use crate::findings::clock::{FindingClock, WaivedTime};
use crate::findings::finding::Subject;
use crate::findings::response::{Addressee, CommandTarget, StepMoment, TemplateName};
use crate::id::{DeviceId, FindingId};
use crate::testing::moment;

const DAY: SignedDuration = SignedDuration::from_hours(24);

fn finding(opened: Timestamp, due: Timestamp) -> Finding {
    let device = DeviceId::from("d");
    let subject = Subject::parse("r");
    let found = Finding::first_seen(
        FindingId::new(&device, &subject, opened),
        device,
        subject,
        FindingClock::running(opened, due),
    );
    Finding { grace: Period::days(7), evidence_at: Some(opened), ..found }
}

fn step(id: &str, at: &str, action: StepAction) -> ResponseStep {
    ResponseStep { place: None, id: id.into(), at: StepMoment::parse(at).unwrap(), action }
}

fn notify() -> StepAction {
    StepAction::Notify { to: vec![Addressee::Holder], template: TemplateName { name: "t".into(), is_named: true } }
}

fn command(name: &str, approve: bool, undo: Option<&str>) -> StepAction {
    StepAction::Command { command: name.into(), on: CommandTarget::Device, approve, undo: undo.map(StepId::from) }
}

/// First word, a ticket, a last word, a lock four days after the due moment, its end, thanks.
fn standard() -> Response {
    let raise = StepAction::Raise { to: "desk".into(), template: TemplateName { name: "t".into(), is_named: true } };
    Response {
        place: None,
        id: "standard".into(),
        steps: vec![
            step("first-word", "opened", notify()),
            step("last-day", "due - 1d", notify()),
            step("ticket", "due", raise),
            step("lock", "due + 4d", command("lock", true, None)),
            step("unlock", "closed", command("unlock", false, Some("lock"))),
            step("thanks", "closed", notify()),
        ],
    }
}

/// A finding with what was done about it.
struct Case {
    finding: Finding,
    response: Response,
    records: BTreeMap<ActionId, ActionRecord>,
    approvals: BTreeMap<ActionId, Approval>,
    calendar: WorkCalendar,
    quiet: Option<QuietHours>,
    is_proven: bool,
    is_allowed: bool,
    holders: Vec<&'static str>,
}

impl Case {
    fn new(opened: &str, due: &str) -> Self {
        Self {
            finding: finding(moment(opened), moment(due)),
            response: standard(),
            records: BTreeMap::new(),
            approvals: BTreeMap::new(),
            calendar: WorkCalendar::new(TimeZone::UTC),
            quiet: None,
            is_proven: true,
            is_allowed: true,
            holders: vec!["h"],
        }
    }

    fn targets(&self, step: &ResponseStep) -> Vec<Target> {
        let person = |id: &str, is_holder| Target::Person { id: PersonId::from(id), is_holder };
        match &step.action {
            StepAction::Notify { to, .. } => {
                let holders = self.holders.iter().map(|id| person(id, true));
                let lead = to.contains(&Addressee::Lead).then(|| person("l", false));
                let people: Vec<_> = holders.chain(lead).collect();
                if people.is_empty() { vec![Target::Nobody] } else { people }
            }
            StepAction::Raise { to, .. } => vec![Target::Recipient(to.clone())],
            StepAction::Command { .. } => vec![Target::Device],
        }
    }

    fn actions(&self, at: Timestamp) -> Vec<Action> {
        let targets: Vec<_> = self.response.steps.iter().map(|step| self.targets(step)).collect();
        let settings =
            OutboxSettings { calendar: &self.calendar, approval_for: Period::days(1), quiet: self.quiet.as_ref() };
        let input = OutboxInput {
            finding: &self.finding,
            response: &self.response,
            targets: &targets,
            records: &self.records,
            approvals: &self.approvals,
            is_proven: self.is_proven,
            is_allowed: &|_| self.is_allowed,
        };
        settings.actions(&input, at)
    }

    fn state(&self, step: &str, at: &str) -> ActionState {
        let all = self.actions(moment(at));
        all.into_iter().find(|action| action.step.as_str() == step).unwrap().state
    }

    fn deliver(&mut self, step: &str, at: &str) {
        let id = self.actions(moment(at)).into_iter().find(|action| action.step.as_str() == step).unwrap().id;
        self.records.insert(id, ActionRecord::Delivered { at: moment(at) });
    }

    fn approve(&mut self, step: &str, at: &str) {
        let id = self.actions(moment(at)).into_iter().find(|action| action.step.as_str() == step).unwrap().id;
        let approval = Approval { at: moment(at), evidence_at: self.finding.evidence_at };
        self.approvals.insert(id, approval);
    }
}

fn day(day: u32) -> String {
    format!("2027-03-{day:02}T06:00:00Z")
}

#[test]
fn of_notices_that_are_ripe_together_only_the_latest_is_given() {
    let mut case = Case::new(&day(1), &day(8));
    assert_eq!(case.state("first-word", &day(1)), ActionState::Ripe);
    let last_day = ActionState::Waiting { waits_for: WaitsFor::Moment, until: Some(moment(&day(7))) };
    assert_eq!(case.state("last-day", &day(1)), last_day);
    // Nobody sent anything for a week.
    assert_eq!(case.state("first-word", &day(7)), ActionState::Skipped);
    assert_eq!(case.state("last-day", &day(7)), ActionState::Ripe);
    case.deliver("last-day", &day(7));
    assert_eq!(case.state("first-word", &day(7)), ActionState::Skipped);
    // A grace shorter than a day: the last word falls at the opening.
    let case = Case::new(&day(1), &day(1));
    assert_eq!(
        (case.state("first-word", &day(1)), case.state("last-day", &day(1))),
        (ActionState::Skipped, ActionState::Ripe)
    );
}

#[test]
fn nothing_is_locked_before_its_warning_was_delivered_for_as_long_as_the_ladder_says() {
    let mut case = Case::new(&day(1), &day(8));
    let waits = |until: Option<u32>| ActionState::Waiting {
        waits_for: WaitsFor::Warning,
        until: until.map(|at| moment(&day(at))),
    };
    assert_eq!(case.state("lock", &day(12)), waits(None));
    // The warning was late by three days, and so is the lock.
    case.deliver("last-day", &day(10));
    assert_eq!(case.state("lock", &day(12)), waits(Some(15)));
    assert_eq!(case.state("lock", &day(15)), ActionState::Held(HeldBecause::Approval));
    case.approve("lock", &day(15));
    assert_eq!(case.state("lock", &day(15)), ActionState::Ripe);
    assert_eq!(case.state("lock", &day(16)), ActionState::Held(HeldBecause::ApprovalLapsed));
    case.approve("lock", &day(16));
    case.is_allowed = false;
    assert_eq!(case.state("lock", &day(16)), ActionState::Withheld);
    (case.is_allowed, case.is_proven) = (true, false);
    assert_eq!(case.state("lock", &day(16)), ActionState::Held(HeldBecause::NotProven));
    case.is_proven = true;
    case.finding.evidence_at = Some(moment(&day(16)));
    assert_eq!(case.state("lock", &day(16)), ActionState::Held(HeldBecause::ApprovalLapsed));
    case.response.steps.retain(|step| !step.is_warning());
    assert_eq!(case.state("lock", &day(16)), ActionState::Held(HeldBecause::NoWarning));
}

#[test]
fn a_closing_ends_what_runs_and_undoes_only_what_was_done() {
    let mut case = Case::new(&day(1), &day(8));
    case.deliver("last-day", &day(7));
    case.finding.clock.closed = Some((moment(&day(13)), CloseReason::Fixed));
    assert_eq!(case.state("ticket", &day(13)), ActionState::Cancelled);
    assert_eq!(case.state("lock", &day(13)), ActionState::Cancelled);
    assert_eq!(
        (case.state("unlock", &day(13)), case.state("thanks", &day(13))),
        (ActionState::Cancelled, ActionState::Ripe)
    );
    case.deliver("lock", &day(12));
    assert_eq!(case.state("unlock", &day(13)), ActionState::Ripe);
    case.finding.clock.closed = Some((moment(&day(13)), CloseReason::Withdrawn));
    assert_eq!(
        (case.state("unlock", &day(13)), case.state("thanks", &day(13))),
        (ActionState::Ripe, ActionState::Cancelled)
    );
    // It comes back: the notices were given, the command was not for this time.
    (case.finding.clock.closed, case.finding.spell) = (None, 2);
    assert!(matches!(case.state("last-day", &day(14)), ActionState::Delivered { .. }));
    assert_eq!(case.state("first-word", &day(14)), ActionState::Skipped);
    assert_eq!(case.state("lock", &day(14)), ActionState::Held(HeldBecause::Approval));
    assert_eq!(case.state("ticket", &day(14)), ActionState::Ripe);
}

#[test]
fn a_waiver_and_quiet_hours_delay_and_what_failed_is_tried_again_later_and_later() {
    let mut case = Case::new(&day(1), &day(8));
    let [from, until, due_after] = [7, 20, 27].map(|at| moment(&day(at)));
    case.finding.clock.waived = vec![WaivedTime { from, until, due_after, afresh: true, waiver: "w".into() }];
    let waived = ActionState::Waiting { waits_for: WaitsFor::Waiver, until: Some(until) };
    assert_eq!((case.state("last-day", &day(8)), case.state("ticket", &day(8))), (waived.clone(), waived));
    let moments: Vec<_> = case.actions(moment(&day(20))).into_iter().map(|action| action.moment).collect();
    assert_eq!(moments[1..3], [Some(moment(&day(26))), Some(due_after)]);
    // Where the old due moment stands, the end of the waiver is told of a day before, also to those who were warned before it.
    let mut kept = Case::new(&day(1), &day(8));
    kept.deliver("last-day", &day(6));
    let [from, until, due_after] = [7, 20, 8].map(|at| moment(&day(at)));
    kept.finding.clock.waived = vec![WaivedTime { from, until, due_after, afresh: false, waiver: "w".into() }];
    let waived = ActionState::Waiting { waits_for: WaitsFor::Waiver, until: Some(until) };
    assert_eq!((kept.state("last-day", &day(18)), kept.state("last-day", &day(19))), (waived, ActionState::Ripe));
    kept.deliver("last-day", &day(19));
    assert_eq!(
        (kept.state("ticket", &day(20)), kept.state("first-word", &day(20))),
        (ActionState::Ripe, ActionState::Skipped)
    );
    let mut case = Case::new("2027-03-05T21:00:00Z", &day(12));
    let time = |hour| Time::constant(hour, 30, 0, 0);
    case.quiet = Some(QuietHours { from: time(20), until: time(6), days_off: true });
    // The fifth is a Friday, and nobody is told anything before Monday.
    let quiet = ActionState::Waiting { waits_for: WaitsFor::QuietHours, until: Some(moment("2027-03-08T06:30:00Z")) };
    assert_eq!(case.state("first-word", "2027-03-05T21:00:00Z"), quiet);
    assert_eq!(case.state("first-word", "2027-03-08T06:30:00Z"), ActionState::Ripe);
    let id = case.actions(moment(&day(6)))[0].id;
    case.records.insert(id, ActionRecord::Failed { at: moment("2027-03-08T07:00:00Z"), attempts: 3 });
    let retry = ActionState::Waiting { waits_for: WaitsFor::Retry, until: Some(moment("2027-03-08T07:20:00Z")) };
    assert_eq!(case.state("first-word", "2027-03-08T07:00:00Z"), retry);
    assert_eq!(retry_after(40), LONGEST_RETRY);
}

#[test]
fn a_device_that_changes_hands_is_not_locked_before_its_new_holder_was_warned() {
    let mut case = Case::new(&day(1), &day(8));
    case.deliver("last-day", &day(7));
    case.approve("lock", &day(12));
    assert_eq!(case.state("lock", &day(12)), ActionState::Ripe);
    case.holders = vec!["n"];
    // What was said to the one before was not said to this one.
    assert_eq!(case.state("last-day", &day(12)), ActionState::Ripe);
    let unwarned = ActionState::Waiting { waits_for: WaitsFor::Warning, until: None };
    assert_eq!(case.state("lock", &day(12)), unwarned);
    // Each of several holders has to know.
    case.holders = vec!["h", "n"];
    assert_eq!(case.state("lock", &day(12)), unwarned);
    case.holders = vec!["n"];
    case.deliver("last-day", &day(12));
    let gap = ActionState::Waiting { waits_for: WaitsFor::Warning, until: Some(moment(&day(17))) };
    assert_eq!(case.state("lock", &day(13)), gap);
    // Nobody is thanked for what nobody told them of.
    case.finding.clock.closed = Some((moment(&day(14)), CloseReason::Fixed));
    assert_eq!(case.state("thanks", &day(14)), ActionState::Ripe);
    case.holders = vec!["z"];
    assert_eq!(case.state("thanks", &day(14)), ActionState::Cancelled);
}

#[test]
fn a_refused_command_is_neither_tried_again_nor_undone() {
    let mut case = Case::new(&day(1), &day(8));
    case.deliver("last-day", &day(7));
    case.approve("lock", &day(12));
    let id = case.actions(moment(&day(12))).into_iter().find(|action| action.step.as_str() == "lock").unwrap().id;
    case.records.insert(id, ActionRecord::Refused { at: moment(&day(12)) });
    let refused = ActionState::Refused { at: moment(&day(12)) };
    assert_eq!(case.state("lock", &day(13)), refused);
    case.finding.clock.closed = Some((moment(&day(14)), CloseReason::Fixed));
    assert_eq!((case.state("lock", &day(14)), case.state("unlock", &day(14))), (refused, ActionState::Cancelled));
    // Of what is in doubt nobody knows whether it was done: it is settled first.
    case.records.insert(id, ActionRecord::InDoubt { at: moment(&day(12)) });
    assert_eq!(case.state("lock", &day(14)), ActionState::InDoubt);
}

#[test]
fn where_there_is_nobody_to_warn_the_notice_is_held_and_nothing_is_locked() {
    let mut case = Case::new(&day(1), &day(8));
    case.holders = Vec::new();
    assert_eq!(case.state("last-day", &day(7)), ActionState::Held(HeldBecause::NobodyToTell));
    assert_eq!(case.state("lock", &day(30)), ActionState::Waiting { waits_for: WaitsFor::Warning, until: None });
}

#[test]
fn moments_of_steps_are_read_as_they_are_written() {
    for text in
        ["opened", "opened + 2h", "due - 1d", "due", "due + 2 working days", "closed", " due+4d ", "enforced - 7d"]
    {
        assert!(StepMoment::parse(text).is_ok(), "{text}");
    }
    for text in ["", "open", "opened - 1d", "closed - 1d", "enforced + 1d", "due 1d", "due - 1x", "due -"] {
        assert!(StepMoment::parse(text).is_err(), "{text}");
    }
    let calendar = WorkCalendar::new(TimeZone::UTC);
    let clock = FindingClock::running(moment(&day(1)), moment(&day(8)));
    let at = |text: &str| StepMoment::parse(text).unwrap().of(&clock, clock.opened, &calendar);
    // From Monday back to Thursday, over the weekend.
    assert_eq!(at("due - 2 working days"), Some(moment(&day(4))));
    assert_eq!((at("due - 30d"), at("closed")), (Some(moment(&day(1))), None));
}

/// What happens between two runs.
#[derive(Clone, Debug)]
enum Happening {
    Nothing,
    Fixed,
    Reopened,
    Waived { hours: i64, afresh: bool },
    NewEvidence,
}

fn happenings() -> impl Strategy<Value = (i64, Happening, [u8; 6], bool)> {
    let happening = prop_oneof![
        5 => Just(Happening::Nothing),
        1 => Just(Happening::Fixed),
        2 => Just(Happening::Reopened),
        1 => (1_i64..90, any::<bool>()).prop_map(|(hours, afresh)| Happening::Waived { hours, afresh }),
        1 => Just(Happening::NewEvidence),
    ];
    (1_i64..60, happening, any::<[u8; 6]>(), any::<bool>())
}

proptest! {
    /// Over random histories no step is taken twice, no lock comes before its warning has been there for as long as the ladder says, only
    /// what was done is undone, and in the end nothing is left out.
    #[test]
    fn actions_are_carried_out_once_in_their_order_and_none_is_left_out(
        steps in prop::collection::vec(happenings(), 1..40),
        grace in 0_i64..10,
    ) {
        let mut at = moment("2027-03-01T06:00:00Z");
        let mut case = Case::new("2027-03-01T06:00:00Z", "2027-03-01T06:00:00Z");
        case.finding.clock.due = at + DAY * i32::try_from(grace).unwrap();
        let mut told_last: Option<Timestamp> = None;
        let mut locked: Option<u32> = None;
        // Undisturbed at the end, and everything gets through.
        let calm = (0..200).map(|_| (6, Happening::Nothing, [0; 6], true));
        let ends = [(1, Happening::Reopened, [0; 6], true)];
        let mut order: Vec<ActionId> = Vec::new();
        for (hours, happening, luck, approves) in steps.into_iter().chain(ends).chain(calm) {
            at += SignedDuration::from_hours(hours);
            let clock = &mut case.finding.clock;
            match happening {
                Happening::Fixed if clock.is_running() => clock.closed = Some((at, CloseReason::Fixed)),
                Happening::Reopened if !clock.is_running() => {
                    clock.closed = None;
                    case.finding.spell += 1;
                }
                Happening::Waived { hours, afresh } if clock.is_running() && !clock.is_waived(at) => {
                    let until = at + SignedDuration::from_hours(hours);
                    let due = clock.due_at(at);
                    let due_after = if afresh { until + DAY } else { due };
                    clock.due = due;
                    clock.waived = vec![WaivedTime { from: at, until, due_after, afresh, waiver: "w".into() }];
                }
                Happening::NewEvidence => case.finding.evidence_at = Some(at),
                _ => {}
            }
            for (action, luck) in case.actions(at).into_iter().zip(luck) {
                let needs_approval = [HeldBecause::Approval, HeldBecause::ApprovalLapsed];
                if approves && needs_approval.into_iter().any(|why| action.state == ActionState::Held(why)) {
                    let evidence_at = case.finding.evidence_at;
                    case.approvals.insert(action.id, Approval { at, evidence_at });
                    continue;
                }
                if action.state == ActionState::InDoubt {
                    // It is asked about: it came, or it did not.
                    match luck % 2 {
                        0 => case.records.insert(action.id, ActionRecord::Delivered { at }),
                        _ => case.records.remove(&action.id),
                    };
                    continue;
                }
                if action.state != ActionState::Ripe {
                    continue;
                }
                let clock = &case.finding.clock;
                match action.step.as_str() {
                    "lock" => {
                        let told = told_last.expect("a warning came before");
                        prop_assert!(at >= told + DAY * 5, "locked at {} after {}", at, told);
                        prop_assert!(clock.is_overdue(at));
                    }
                    "unlock" => prop_assert_eq!(locked, Some(case.finding.spell)),
                    "thanks" => prop_assert!(!clock.is_running()),
                    // The end of a waiver is told of before it comes.
                    "last-day" => prop_assert!(clock.is_running()),
                    _ => prop_assert!(clock.is_running() && !clock.is_waived(at)),
                }
                match luck % 8 {
                    6 => {
                        let attempts = match case.records.get(&action.id) {
                            Some(ActionRecord::Failed { attempts, .. }) => attempts + 1,
                            _ => 1,
                        };
                        case.records.insert(action.id, ActionRecord::Failed { at, attempts });
                    }
                    7 => drop(case.records.insert(action.id, ActionRecord::InDoubt { at })),
                    _ => {
                        prop_assert!(!order.contains(&action.id), "{} was taken twice", action.step);
                        order.push(action.id);
                        case.records.insert(action.id, ActionRecord::Delivered { at });
                    }
                }
                if let Some(ActionRecord::Delivered { .. } | ActionRecord::InDoubt { .. }) = case.records.get(&action.id) {
                    match action.step.as_str() {
                        "last-day" => told_last = told_last.or(Some(at)),
                        "lock" => locked = Some(case.finding.spell),
                        _ => {}
                    }
                }
            }
        }
        let left: Vec<_> = case.actions(at).into_iter().filter(|action| {
            let is_settled = matches!(action.state, ActionState::Delivered { .. } | ActionState::Skipped);
            let of_closing = ["unlock", "thanks"].contains(&action.step.as_str());
            !is_settled && !of_closing
        }).collect();
        prop_assert!(left.is_empty(), "{:?} of {:?}", left, case.finding.clock);
    }
}
