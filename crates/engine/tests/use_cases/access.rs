//! Who loses access, and why.

use fencepost_core::{CauseKind, Effect, SignIn};
use fencepost_engine::{
    AccessQuery, AskedDevice, DeniedEntries, PersonOrDevice, ReplayRules, SignInLog, SignInQuestion, ToEnforce,
    group_by_cause, group_by_person, replay,
};

use crate::bench::{ACCESS, Bench, agent, day, moment};

#[test]
fn who_loses_access_is_told_with_the_other_device_that_still_gets_in() {
    let mut bench = Bench::new();
    let shared = |encrypted: bool, at: &str| {
        let devices = [("a", encrypted), ("b", true)];
        let line = |(id, encrypted): (&str, bool)| agent(id, at, encrypted, "5").replace(&format!("p-{id}"), "ada");
        devices.map(line).concat()
    };
    for (number, encrypted) in [(1, true), (2, false), (3, false)] {
        bench.import("agent", &shared(encrypted, &day(number)), &day(number)).unwrap();
        bench.assess(&day(number));
    }
    let report = bench.read(&day(3), |reading| reading.access(&AccessQuery::default()).unwrap());
    let [lost] = report.lost.as_slice() else { panic!("{:?}", report.lost) };
    assert_eq!((&*lost.device, lost.person.as_deref(), &*lost.service), ("a", Some("ada"), "mail"));
    assert_eq!((lost.moment, lost.causes[0].cause.rule.as_deref()), (moment(&day(3)), Some("encrypted")));
    assert_eq!(lost.other.as_ref().map(|other| other.device.as_str()), Some("b"));
    // A day before it is only about to be lost.
    let ahead = bench.read(&day(3), |reading| {
        reading.access(&AccessQuery { since: Some(moment(&day(2))), ..AccessQuery::default() }).unwrap()
    });
    assert_eq!((ahead.lost.len(), ahead.restored.len()), (1, 0));
}

/// Ada uses `a` and `b`, as the agent says.
fn of_ada(a: bool, b: bool, at: &str) -> String {
    let line = |(id, encrypted): (&str, bool)| agent(id, at, encrypted, "5").replace(&format!("p-{id}"), "ada");
    [("a", a), ("b", b)].map(line).concat()
}

#[test]
fn whoever_keeps_no_way_in_is_called_first() {
    let mut bench = Bench::new();
    for number in 1..=3 {
        let fine = number == 1;
        bench.import("agent", &of_ada(fine, fine, &day(number)), &day(number)).unwrap();
        bench.assess(&day(number));
    }
    let report = bench.read(&day(3), |reading| reading.access(&AccessQuery::default()).unwrap());
    assert_eq!((report.lost.len(), report.summary.people, report.summary.call_first), (2, 1, 1));
    assert!(report.lost.iter().all(fencepost_engine::AccessEntry::calls_first));
    let groups = group_by_cause(&report.lost);
    // Both devices fail the same rule, which is told once.
    assert_eq!((groups.len(), groups[0].people.len()), (1, 1));
    assert_eq!(group_by_person(&report.lost).len(), 1);
}

#[test]
fn a_device_that_is_handed_on_shuts_its_last_holder_out() {
    let mut bench = Bench::new();
    bench.import("agent", &of_ada(true, true, &day(1)), &day(1)).unwrap();
    bench.assess(&day(1));
    let handed_on =
        agent("a", &day(2), true, "5").replace("p-a", "bo") + &agent("b", &day(2), true, "5").replace("p-b", "bo");
    bench.import("agent", &handed_on, &day(2)).unwrap();
    bench.assess(&day(2));
    let report = bench.read(&day(2), |reading| reading.access(&AccessQuery::default()).unwrap());
    let lost: Vec<_> = report.lost.iter().map(|entry| (entry.person.as_deref(), entry.causes[0].cause.kind)).collect();
    assert_eq!(lost, [(Some("ada"), CauseKind::Left), (Some("ada"), CauseKind::Left)]);
    assert_eq!(report.summary.call_first, 1);
}

#[test]
fn what_time_alone_will_take_is_told_before_it_does() {
    let mut bench = Bench::new();
    bench.morning(&day(1), &[("a", true, "5")]);
    bench.morning(&day(2), &[("a", false, "5")]);
    let report = bench.read(&day(2), |reading| reading.access(&AccessQuery::default()).unwrap());
    let losing: Vec<_> = report.losing.iter().filter(|entry| !entry.only_if_silent).map(|entry| entry.moment).collect();
    // The finding that opened today is due in a day.
    assert_eq!((report.lost.len(), losing), (0, vec![moment(&day(3))]));
    let later = bench.read(&day(3), |reading| reading.access(&AccessQuery::default()).unwrap());
    assert_eq!((later.lost.len(), later.lost[0].moment), (1, moment(&day(3))));
}

#[test]
fn denied_devices_are_listed_whole_or_as_the_question_narrows_them() {
    let mut bench = Bench::new();
    bench.morning(&day(1), &[("a", true, "4"), ("b", true, "4"), ("c", true, "5")]);
    let ask = |query: AccessQuery| bench.read(&day(1), |reading| reading.access(&query).unwrap());
    let every = ask(AccessQuery { denied: DeniedEntries::All, ..AccessQuery::default() });
    assert_eq!((every.denied.len(), every.denied_now.people), (2, 2));
    let of = Some(PersonOrDevice::Device("b".into()));
    let one = ask(AccessQuery { denied: DeniedEntries::All, of, ..AccessQuery::default() });
    assert_eq!(one.denied.iter().map(|entry| &*entry.device).collect::<Vec<_>>(), ["b"]);
    let named = bench.read(&day(1), |reading| reading.person_or_device("p-a").unwrap());
    assert!(matches!(named, PersonOrDevice::Person(id) if id == "p-a"));
}

fn app() -> SignIn {
    SignIn { id: "app".into(), client: "app".into(), ..SignIn::default() }
}

#[test]
fn an_explained_sign_in_names_the_rule_the_finding_and_what_would_do() {
    let mut bench = Bench::new();
    bench.morning(&day(1), &[("a", true, "4")]);
    let ask = |device, service| {
        let question = SignInQuestion { person: Some("p-a"), device, service, sign_in: app() };
        bench.read(&day(1), |reading| reading.explain_sign_in(&question))
    };
    let told = ask(AskedDevice::Known("a"), "mail").unwrap();
    assert_eq!((told.ruling.effect, told.access_rules.as_slice()), (Effect::Deny, &["in-order".to_owned()][..]));
    assert_eq!(told.causes[0].cause.rule.as_deref(), Some("patched"));
    assert_eq!(told.rules.len(), 1);
    let strange = ask(AskedDevice::Strange, "mail").unwrap();
    assert_eq!((strange.device, strange.ruling.effect), (None, Effect::Deny));
    let made_up = ask(AskedDevice::MadeUp(br#"{"disk":{"encrypted":true},"os":{"version":"4"}}"#), "mail").unwrap();
    assert_eq!(made_up.ruling.effect, Effect::Deny);
    let wrong = ask(AskedDevice::Known("a"), "mai").unwrap_err();
    assert_eq!(wrong.help(), Some("the services are mail"));
}

#[test]
fn a_log_is_decided_by_the_state_of_each_moment_and_surprises_are_told() {
    let mut bench = Bench::new();
    bench.morning(&day(1), &[("a", true, "5")]);
    bench.morning(&day(2), &[("a", true, "4")]);
    let line = |at: &str, effect: &str| {
        format!(
            "{{\"at\":\"{at}\",\"person\":\"p-a\",\"device\":\"a\",\"service\":\"mail\",\"client\":\"app\",\"effect\":\"{effect}\"}}\n"
        )
    };
    let (first, second) = (day(1).replace("06:", "08:"), day(2).replace("06:", "08:"));
    let log = line(&first, "permit") + &line(&second, "permit") + "nothing\n" + &line(&day(9), "permit");
    let mut progress = 0;
    let told = replay(
        (&bench.project(), &bench.ledger),
        SignInLog { path: None, source: None },
        log.as_bytes(),
        (ReplayRules::Today, moment(&day(3))),
        &mut |bytes| progress = bytes,
    )
    .unwrap();
    assert_eq!((told.sign_ins, told.effects), (2, [1, 0, 1]));
    let [surprise] = told.surprises.as_slice() else { panic!("{:?}", told.surprises) };
    assert_eq!((surprise.line, surprise.recorded, surprise.effect), (2, Effect::Permit, Effect::Deny));
    assert_eq!(told.bad_lines.iter().map(|bad| bad.line).collect::<Vec<_>>(), [3, 4]);
    assert!(progress > 0 && progress <= log.len() as u64);
}

#[test]
fn readiness_tells_whom_a_rule_on_trial_would_shut_out() {
    let mut bench = Bench::new();
    let trial = "\n[[access]]\nid = \"newest\"\nservices = [\"mail\"]\nstage = \"trial\"\nneeds = 'os.version >= version(\"8\")'\n";
    bench.edit("access.toml", &format!("{ACCESS}{trial}"));
    bench.morning(&day(1), &[("a", true, "5"), ("b", true, "8")]);
    let told = bench.read(&day(1), |reading| reading.readiness("newest").unwrap());
    assert!(matches!(told.what, ToEnforce::Access(_)));
    assert_eq!((told.ready, told.not_ready, told.denied, told.call_first), (1, 1, 1, 1));
    assert_eq!(told.list[0].device, "a");
    let refused = bench.read(&day(1), |reading| reading.readiness("newst").unwrap_err());
    assert_eq!(refused.help(), Some("did you mean `newest`?"));
}

#[test]
fn whoever_leaves_a_group_when_the_time_comes_is_told_before() {
    let mut bench = Bench::new();
    let groups = "[[group]]\nid = \"hired\"\nof = \"people\"\nwhere = 'date(contract) > today()'\n";
    bench.edit("groups.toml", groups);
    bench.edit(
        "access.toml",
        &ACCESS.replace("services = [\"mail\"]\n", "services = [\"mail\"]\npeople = [\"hired\"]\n"),
    );
    let crew = "Id,Name,Unit,Lead,contract\nada,Ada,deck,,2027-03-05\nbo,Bo,deck,,2027-12-31\n";
    bench.import("crew", crew, &day(1)).unwrap();
    let devices =
        |at: &str| agent("a", at, true, "5").replace("p-a", "ada") + &agent("b", at, true, "5").replace("p-b", "bo");
    bench.import("agent", &devices(&day(1)), &day(1)).unwrap();
    bench.assess(&day(1));
    let report = bench.read(&day(1), |reading| reading.access(&AccessQuery::default()).unwrap());
    let losing = |report: &fencepost_engine::AccessReport| -> Vec<_> {
        let certain = report.losing.iter().filter(|entry| !entry.only_if_silent);
        certain.map(|entry| (entry.device.clone(), entry.moment)).collect()
    };
    assert_eq!(losing(&report)[0], ("a".into(), moment("2027-03-05T00:00:00Z")));
    assert_eq!(losing(&report).iter().filter(|(device, _)| **device == *"a").count(), 1);
    // What was told comes true.
    bench.import("agent", &devices(&day(4)), &day(4)).unwrap();
    bench.assess(&day(4));
    bench.import("agent", &devices(&day(5)), &day(5)).unwrap();
    bench.assess(&day(5));
    let report = bench.read(&day(5), |reading| reading.access(&AccessQuery::default()).unwrap());
    let lost: Vec<_> = report.lost.iter().map(|entry| (&*entry.device, entry.moment)).collect();
    assert_eq!(lost, [("a", moment("2027-03-05T00:00:00Z"))]);
}
