//! Mistakes that compile: what an analyst would otherwise find out only when somebody is shut out, or is not.
//!
//! [`Vet`] knows the rule set; [`Vet::see`] gathers what a fleet shows of how it fits; [`Vet::tell`] says what is probably not as
//! meant. What needs a fleet is left unsaid where there is none.

mod access;
mod fleet;
mod responses;
mod values;

use std::collections::{BTreeMap, BTreeSet};

use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};

use crate::condition::{Condition, Threshold};
use crate::diagnostic::Named;
use crate::diagnostic::{Diagnostic, Severity, Span, did_you_mean, each_once};
use crate::facts::layout::SlotId;
use crate::fleet::group::{EVERY_DEVICE, GroupKind, Whom};
use crate::rule_set::{RuleSet, RuleSetSource};
use crate::rules::control::Control;
use crate::rules::rule::{Rule, Stage};

pub use fleet::Fleet;

/// A draft that is older than this was probably forgotten.
const OLD_DRAFT: SignedDuration = SignedDuration::from_hours(30 * 24);
/// From fewer devices nothing is concluded about a threshold.
const ENOUGH: u64 = 2;

/// For no more names than this one is looked for that was meant.
const MOST_LOOKED_UP: usize = 20;

/// What is told, with what it is about, in a few words.
pub const CODES: [(&str, &str); 52] = [
    ("acceptance-idle", "An accepted difference is none"),
    ("acceptance-over", "A difference is no longer accepted"),
    ("all-excepted", "Everybody whom a rule covers is excepted from it"),
    ("baselines-disagree", "Two baselines expect different things of one device"),
    ("clause-without-rule", "No enforced rule answers for a clause in controls.toml"),
    ("command-without-warning", "A command comes without a notice before it"),
    ("covers-nobody", "A rule covers no device"),
    ("draft-forgotten", "A rule has been a draft for more than 30 days"),
    ("everybody-meets", "A threshold that every device meets, and always did"),
    ("example-fails", "A rule says something else of a made-up device than is expected"),
    ("exceptions-leave-gap", "Somebody is excepted from every access rule about a service"),
    ("exception-over", "An exception has ended"),
    ("exception-spares-nobody", "An exception spares no device"),
    ("denial-without-text", "An access rule denies, and tells nobody why"),
    ("drift-of-few", "Too few devices are compared"),
    ("device-lives-on", "A device is renamed to another that lives"),
    ("devices-stay-one", "A renaming that made one device of two is no longer written down"),
    ("fact-of-others", "A rule asks for a fact that only other platforms report"),
    ("former-name", "A device is called by a name that it has no more"),
    ("group-without-use", "Nothing names a group"),
    ("holders-without-address", "People who hold devices have no mail address"),
    ("no-channel", "No channel carries what a step sends"),
    ("no-consequence", "Nobody loses access over a rule"),
    ("not-compared", "Devices that ought to be alike cannot be compared"),
    ("nobody-passes", "No device that a rule covers passes it"),
    ("notice-after-command", "A notice comes after the command that it is to warn of"),
    ("overtaken", "Another rule asks for more, of the same devices"),
    ("pattern-fits-nothing", "A pattern of facts that are compared fits nothing"),
    ("response-unused", "Nothing sets a response off"),
    ("scoped-by-people", "Whether a rule about machines covers one hangs on who holds it"),
    ("shuts-out-emergency", "An access rule may shut out an account that is for emergencies"),
    ("sign-in-without-rule", "No access rule meets a kind of sign-in"),
    ("template-fails", "The text of a message cannot be made"),
    ("template-unused", "No step sends a text in templates/"),
    ("terms-of-other-version", "Terms were accepted in another version than is asked for"),
    ("terms-without-text", "The text of terms is not where it is said to be"),
    ("tolerance-of-texts", "A tolerance is for a fact that is no number"),
    ("unknown-clause", "A rule answers for a clause that is not in controls.toml"),
    (
        "unknown-device",
        "A correction, a waiver, an accepted difference, a retirement or a renaming names a device that is not known",
    ),
    ("unknown-everywhere", "A rule is unknown on every device that it covers"),
    ("unknown-fact", "A condition or a correction names a fact that no device reports"),
    ("unknown-member", "A group or an exception names a device or a person that is not known"),
    ("unknown-rule", "An example or a waiver names a rule that is not there"),
    ("unknown-word", "The standing is compared with a word that no standing is spelled like"),
    ("unread-file", "A file in the workspace that nothing reads"),
    ("unreadable-facts", "The facts of an example cannot be read"),
    ("value-of-nobody", "A fact is compared with a text that no device reports"),
    ("was-of-another-kind", "The findings of an earlier id go to no rule, since one of the two has checks"),
    ("was-twice", "Two rules name the same earlier id"),
    ("waiver-idle", "A waiver covers nothing that fails or is unknown"),
    ("waiver-over", "A waiver has ended"),
    ("wrong-value", "A correction sets a fact to a value of another type"),
];

/// Pairs of rules by their places.
type Pairs = Box<dyn Iterator<Item = (usize, usize)>>;

/// A rule set on its way to being vetted.
#[derive(Debug)]
pub struct Vet<'a> {
    rules: &'a RuleSet,
    source: &'a RuleSetSource,
    at: Timestamp,
    zone: &'a TimeZone,
    /// The rules that are drafts, though they are on trial here.
    drafts: Vec<bool>,
    /// The slot of the platform, where something reads it.
    platform: Option<SlotId>,
    thresholds: Vec<(usize, Threshold<'a>)>,
    /// Rules that ask for more than another, each with that other.
    pairs: Vec<(usize, usize)>,
    /// Texts that facts are compared with.
    expected: Vec<values::ExpectedText<'a>>,
}

/// What is known besides the rules and the fleet.
#[derive(Debug)]
pub struct Surroundings<'a> {
    /// The clauses that rules are to answer for; none where nobody has listed them.
    pub controls: Option<&'a [Control]>,
    /// The fact that names who holds a device.
    pub holder: Option<&'a str>,
    /// Since when each rule has been a draft as it is now, where that is known.
    pub drafts_since: &'a [Option<Timestamp>],
    /// Rules that failed on some device at some time.
    pub failed_once: &'a BTreeSet<String>,
    /// The devices that are known, by all their names.
    pub devices: &'a BTreeSet<String>,
    /// The people that are known.
    pub people: &'a BTreeSet<String>,
}

/// What is vetted, and as of when.
#[derive(Debug)]
pub struct VetInput<'a> {
    /// The rules, drafts among them on trial.
    pub rules: &'a RuleSet,
    /// What the rules were compiled from.
    pub source: &'a RuleSetSource,
    /// Which rules are drafts, rule by rule.
    pub drafts: Vec<bool>,
    /// The slot that documents give the platform in.
    pub platform: Option<SlotId>,
    /// The moment.
    pub at: Timestamp,
    /// The zone of the workspace.
    pub zone: &'a TimeZone,
}

/// What a warning about rules names: a rule, or the item that several were expanded from.
struct RuleOwner {
    /// As in "baseline `office-mac`".
    label: String,
    place: Option<Span>,
    /// Position of the rule, or of the first of several.
    rule: usize,
}

impl<'a> Vet<'a> {
    /// Creates the vetting of a rule set whose drafts are on trial.
    pub fn new(of: VetInput<'a>) -> Self {
        let VetInput { rules, source, drafts, platform, at, zone } = of;
        let all = rules.rules();
        let thresholds = all
            .iter()
            .enumerate()
            .flat_map(|(rule, own)| own.requirement().thresholds().into_iter().map(move |threshold| (rule, threshold)));
        let mut vet = Self {
            rules,
            source,
            at,
            zone,
            drafts,
            platform,
            thresholds: thresholds.collect(),
            pairs: Vec::new(),
            expected: values::expected_texts(rules),
        };
        vet.pairs = vet.comparable().filter(|(strict, weak)| vet.overtakes(*strict, *weak)).collect();
        vet
    }

    /// Returns the pairs of rules of which one may imply the other: those that read a fact in common, up to a number of pairs
    /// that can be compared in a second or so. Rules beyond it are left uncompared.
    fn comparable(&self) -> impl Iterator<Item = (usize, usize)> + use<'a> {
        const MOST_PAIRS: usize = 1_000_000;
        let mut by_slot: BTreeMap<SlotId, Vec<usize>> = BTreeMap::new();
        for (at, rule) in self.rules.rules().iter().enumerate() {
            rule.requirement().may_read().iter().for_each(|slot| by_slot.entry(*slot).or_default().push(at));
        }
        let rules = self.rules;
        let pairs = (0..rules.rules().len()).flat_map(move |strict| {
            let slots = rules.rules()[strict].requirement().may_read();
            let together: BTreeSet<usize> = match slots {
                [only] => return Box::new(by_slot[only].clone().into_iter().map(move |weak| (strict, weak))) as Pairs,
                many => many.iter().flat_map(|slot| &by_slot[slot]).copied().collect(),
            };
            Box::new(together.into_iter().map(move |weak| (strict, weak))) as Pairs
        });
        pairs.take(MOST_PAIRS)
    }

    fn rule(&self, at: usize) -> &'a Rule {
        &self.rules.rules()[at]
    }

    /// Returns where it is written what a rule asks for; of what a baseline expects, which is put together, where that is named.
    fn place(&self, rule: &Rule) -> Option<Span> {
        let whole = || rule.requirement().text().whole_span();
        if rule.baseline.is_some() { rule.place.clone().or_else(whole) } else { whole().or_else(|| rule.place.clone()) }
    }

    /// Returns where a threshold of a rule stands.
    fn place_of(&self, rule: &Rule, threshold: &Threshold<'_>) -> Option<Span> {
        match rule.baseline {
            Some(_) => self.place(rule),
            None => rule.requirement().text().span(threshold.span.clone()).or_else(|| self.place(rule)),
        }
    }

    fn stage(&self, rule: usize) -> Stage {
        if self.drafts[rule] { Stage::Draft } else { self.rule(rule).stage(self.at) }
    }

    /// Whether one rule asks for all that another does, counts for as much, and bites as early.
    fn overtakes(&self, strict: usize, weak: usize) -> bool {
        let (one, other) = (self.rule(strict), self.rule(weak));
        let weighs = self.stage(strict) >= self.stage(weak)
            && one.severity >= other.severity
            && one.grace.exact() <= other.grace.exact();
        strict != weak
            && weighs
            && one.requirement().implies(other.requirement())
            // Of two that are the same, the second is one too many.
            && !(weak < strict && other.requirement().implies(one.requirement()) && self.weighs_the_same(strict, weak))
    }

    fn weighs_the_same(&self, one: usize, other: usize) -> bool {
        let weight = |at: usize| (self.stage(at), self.rule(at).severity, self.rule(at).grace.exact());
        weight(one) == weight(other)
    }

    /// Returns what is probably not as meant, in the order of the files.
    pub fn tell(&self, fleet: Option<&Fleet>, around: &Surroundings<'_>) -> Vec<Diagnostic> {
        let fleet = fleet.filter(|fleet| fleet.devices > 0);
        let mut told = Vec::new();
        let overtaken = self.tell_overtaken(fleet, &mut told);
        if let Some(fleet) = fleet {
            self.tell_unknown(fleet, &mut told);
            self.tell_reach(fleet, &mut told);
            self.tell_texts(fleet, &mut told);
            self.tell_exceptions(fleet, &mut told);
            self.tell_outcomes(fleet, around, &overtaken, &mut told);
            self.tell_platforms(fleet, &mut told);
            self.tell_members(around, &mut told);
        }
        self.tell_over(&mut told);
        self.tell_earlier_ids(around, &mut told);
        self.tell_people(around, &mut told);
        self.tell_consequences(&mut told);
        self.tell_groups(&mut told);
        self.tell_drafts(around, &mut told);
        self.tell_controls(around, &mut told);
        // What may shut many people out comes first.
        told.sort_by_key(|told| {
            (told.code != "unknown-everywhere", told.span.as_ref().map(|span| (span.file, span.range.start)))
        });
        each_once(told)
    }

    /// Groups the rules that something holds for by the item they were expanded from: the item where it holds for all of its
    /// rules, else each rule by itself.
    fn owners(&self, holds: impl Fn(usize) -> bool) -> Vec<RuleOwner> {
        let mut owners: BTreeMap<(bool, &str), Vec<usize>> = BTreeMap::new();
        for (at, rule) in self.rules.rules().iter().enumerate() {
            let own = rule.id.as_str();
            let key = match &rule.baseline {
                Some(from) => (true, from.baseline.as_str()),
                None => (false, own.split_once('/').map_or(own, |(whole, _)| whole)),
            };
            owners.entry(key).or_default().push(at);
        }
        let mut found = Vec::new();
        for ((is_baseline, name), rules) in owners {
            if rules.iter().all(|rule| holds(*rule)) {
                let place = match is_baseline {
                    true => self.source.baselines.iter().map(|own| &own.id).find(|id| id.text == name),
                    false => self.source.rules.iter().map(|own| &own.id).find(|id| id.text == name),
                };
                let label = if is_baseline { format!("baseline `{name}`") } else { format!("rule `{name}`") };
                found.push(RuleOwner { label, place: place.and_then(|id| id.span.clone()), rule: rules[0] });
            } else {
                let some = rules.into_iter().filter(|rule| holds(*rule));
                found.extend(some.map(|rule| {
                    let of = self.rule(rule);
                    RuleOwner { label: format!("rule `{}`", of.id), place: of.place.clone(), rule }
                }));
            }
        }
        found
    }

    /// Warns of rules that no device gives an answer.
    fn tell_unknown(&self, fleet: &Fleet, told: &mut Vec<Diagnostic>) {
        let fit = |rule: usize| &fleet.rules[rule];
        // That a set cannot be compared is told with the reason.
        let is_written = |rule: usize| self.rule(rule).compared_set().is_none();
        let is_unknown =
            |rule: usize| is_written(rule) && fit(rule).unknown >= ENOUGH && fit(rule).pass + fit(rule).fail == 0;
        for RuleOwner { label, place, rule } in self.owners(is_unknown) {
            let mut warning = unknown_everywhere(self.rule(rule), &label, fit(rule).unknown, self.stage(rule));
            warning.span = self.place(self.rule(rule)).or(place);
            told.push(warning);
        }
    }

    fn tell_reach(&self, fleet: &Fleet, told: &mut Vec<Diagnostic>) {
        let fit = |rule: usize| &fleet.rules[rule];
        let nobody = |rule: usize| fit(rule).covered() + fit(rule).excepted + fit(rule).given_up == 0;
        for RuleOwner { label, place, rule } in self.owners(nobody) {
            let covers = self.rule(rule).scope_condition();
            let help = match covers {
                Some(condition) => {
                    format!("see what it asks for with: fencepost list devices --where '{}'", condition.as_str().trim())
                }
                None => "see who is in its groups with: fencepost list groups".to_owned(),
            };
            let help = match self.meant_in_scope(fleet, rule) {
                Some(meant) => format!("{meant} Or {help}"),
                None => help,
            };
            let span = covers.and_then(|condition| condition.text().whole_span()).or(place);
            told.push(
                Diagnostic::warning("covers-nobody", format!("{label} covers no device"), span)
                    .label(format!("holds for none of {}", devices(fleet.devices)))
                    .help(help),
            );
        }
        let all = |rule: usize| fit(rule).covered() + fit(rule).given_up == 0 && fit(rule).excepted > 0;
        for RuleOwner { label, place, rule } in self.owners(all) {
            let span = self.rule(rule).exceptions().iter().find_map(|exception| exception.place.clone()).or(place);
            let spared = fit(rule).excepted;
            told.push(
                Diagnostic::warning("all-excepted", format!("everybody whom {label} covers is excepted"), span)
                    .label(format!("{} of {spared} spared", if spared == 1 { "1" } else { "all" }))
                    .help("take back what excepts too much, or take the rule away"),
            );
        }
    }

    fn tell_exceptions(&self, fleet: &Fleet, told: &mut Vec<Diagnostic>) {
        // The exceptions of a baseline are those of all that it expects.
        let mut spares: BTreeMap<(u32, usize), (u64, usize, usize)> = BTreeMap::new();
        for (rule, fit) in fleet.rules.iter().enumerate() {
            for (at, exception) in self.rule(rule).exceptions().iter().enumerate() {
                let reaches = fit.covered() + fit.excepted + fit.given_up > 0;
                if let (Some(place), true, true) = (&exception.place, reaches, exception.holds_at(self.at)) {
                    let entry = spares.entry((place.file.0, place.range.start)).or_insert((0, rule, at));
                    entry.0 += fit.exceptions[at];
                }
            }
        }
        for (_, rule, at) in spares.into_values().filter(|(spared, ..)| *spared == 0) {
            let exception = &self.rule(rule).exceptions()[at];
            let message = format!("this spares no device: `{}` holds none that is covered otherwise", exception.name);
            let message = match exception.device() {
                Some(device) => format!("this spares no device: `{device}` is not covered otherwise"),
                None => message,
            };
            told.push(
                Diagnostic::warning("exception-spares-nobody", message, exception.place.clone())
                    .help("take it away, or see that it names whom it is meant for"),
            );
        }
    }

    fn tell_outcomes(
        &self,
        fleet: &Fleet,
        around: &Surroundings<'_>,
        overtaken: &BTreeSet<usize>,
        told: &mut Vec<Diagnostic>,
    ) {
        for (at, (rule, fit)) in self.rules.rules().iter().zip(&fleet.rules).enumerate() {
            // Thresholds stand in the order of their rules.
            let from = self.thresholds.partition_point(|(of, _)| *of < at);
            let bounds = self.thresholds[from..].iter().zip(&fleet.bounds[from..]).take_while(|((of, _), _)| *of == at);
            if fit.pass == 0 && fit.fail >= ENOUGH {
                let mut mistake = Diagnostic::warning(
                    "nobody-passes",
                    format!("none of the {} that rule `{}` can judge passes it", devices(fit.fail), rule.id),
                    self.place(rule),
                )
                .help(match self.stage(at) {
                    Stage::Enforced => {
                        "see what devices report with: fencepost list facts; what is meant for later can stay on trial"
                    }
                    Stage::Trial | Stage::Draft => "enforced as it is, it would fail all of them",
                });
                // What is wrong is pointed at, where one bound alone decides.
                let missed = |fit: &fleet::BoundFit| fit.met == 0 && fit.unmet >= ENOUGH;
                if let Some(((_, threshold), fit)) = bounds.clone().find(|(_, fit)| missed(fit)) {
                    mistake.span = self.place_of(rule, threshold);
                    let nearest = if threshold.is_least { ("highest", &fit.highest) } else { ("lowest", &fit.lowest) };
                    if let (word, Some(seen)) = nearest {
                        mistake = mistake.label(format!("the {word} is {}", seen.show()));
                    }
                }
                told.push(mistake);
                continue;
            }
            // Whoever is to take a rule away need not be told to make it stricter.
            if around.failed_once.contains(rule.id.as_str()) || fit.fail > 0 || overtaken.contains(&at) {
                continue;
            }
            for ((_, threshold), fit) in bounds.filter(|(_, fit)| fit.unmet == 0 && fit.met >= ENOUGH) {
                let nearest = if threshold.is_least { ("lowest", &fit.lowest) } else { ("highest", &fit.highest) };
                let span = self.place_of(rule, threshold);
                let message = format!("all {} meet this, and none ever failed rule `{}`", devices(fit.met), rule.id);
                let mut remark = Diagnostic::remark("everybody-meets", message, span);
                if let (word, Some(seen)) = nearest {
                    remark = remark.label(format!("the {word} is {}", seen.show()));
                }
                told.push(remark.help("if it could be stricter, preview a stricter one"));
            }
        }
    }

    fn tell_platforms(&self, fleet: &Fleet, told: &mut Vec<Diagnostic>) {
        let layout = self.rules.layout();
        // What several rules of one baseline ask for below one path is told once: of which platforms, whose and what.
        let mut all: BTreeMap<(Vec<&str>, &str, &str), Vec<Lack>> = BTreeMap::new();
        for (at, rule) in self.rules.rules().iter().enumerate() {
            for slot in rule.requirement().slots() {
                let lacks = |fit: &&fleet::PlatformFit| {
                    fit.reports[slot.0 as usize] == 0 && fit.covered[at] > 0 && fit.missing[at] == fit.covered[at]
                };
                let lacking = fleet.platforms.iter().filter(|(_, fit)| lacks(fit));
                let names: Vec<&str> = lacking.clone().map(|(platform, _)| &**platform).collect();
                let covered = lacking.map(|(_, fit)| fit.covered[at]).sum();
                if !names.is_empty() && !self.reporting(fleet, *slot).is_empty() {
                    let path = layout.slot_path(*slot);
                    let root = path.split_once('.').map_or(path, |(root, _)| root);
                    let owner = rule.baseline.as_ref().map_or(rule.id.as_str(), |from| &from.baseline);
                    all.entry((names, owner, root)).or_default().push(Lack { rule: at, slot: *slot, covered });
                }
            }
        }
        for ((lacking, owner, _), found) in all {
            // A device may say anything.
            let said = |platforms: &[&str]| listed(platforms).escape_debug().to_string();
            let lacking = said(&lacking);
            let Lack { rule, slot, covered } = found[0];
            let rule = self.rule(rule);
            let rules: BTreeSet<usize> = found.iter().map(|lack| lack.rule).collect();
            let who = match rules.len() {
                1 => format!("rule `{}`", rule.id),
                several => format!("{several} rules of `{owner}`"),
            };
            let verb = if rules.len() == 1 { "judges" } else { "judge" };
            let having = self.reporting(fleet, slot);
            let unknown = if covered == 1 { "1 device is".to_owned() } else { format!("{covered} devices are") };
            let label =
                format!("`{}` is reported by {} alone; {unknown} unknown", layout.slot_path(slot), said(&having));
            let help = format!("leave {lacking} out with `covers`, or ask for what is reported there");
            let message = format!("{who} {verb} no device of {lacking}");
            told.push(Diagnostic::warning("fact-of-others", message, self.place(rule)).label(label).help(help));
        }
    }

    /// Returns the platforms that report the fact of a slot.
    fn reporting<'f>(&self, fleet: &'f Fleet, slot: SlotId) -> Vec<&'f str> {
        let all = fleet.platforms.iter().filter(|(_, fit)| fit.reports[slot.0 as usize] > 0);
        all.map(|(platform, _)| &**platform).collect()
    }

    fn tell_members(&self, around: &Surroundings<'_>, told: &mut Vec<Diagnostic>) {
        let mut looked_up = 0;
        let mut check = |named: &Named, kind: GroupKind| {
            let (known, noun, list) = match kind {
                GroupKind::Devices => (around.devices, "device", "fencepost list devices"),
                GroupKind::People => (around.people, "person", "fencepost list people"),
            };
            if known.is_empty() || known.contains(&named.text) {
                return;
            }
            // A long list of those who left is not to be held against every name there is.
            looked_up += 1;
            let names =
                known.iter().map(String::as_str).take(if looked_up <= MOST_LOOKED_UP { known.len() } else { 0 });
            let help = did_you_mean(&named.text, names, || format!("see who there is with: {list}"));
            let message = format!("no {noun} is called `{}`", named.text);
            told.push(Diagnostic::warning("unknown-member", message, named.span.clone()).help(help));
        };
        let is_group = |named: &Named| self.source.groups.iter().any(|group| group.id.text == named.text);
        for group in &self.source.groups {
            group.members.iter().for_each(|named| check(named, group.kind));
            group.except.iter().filter(|named| !is_group(named)).for_each(|named| check(named, group.kind));
        }
        let exceptions = self.rules.rules().iter().flat_map(Rule::exceptions);
        for exception in exceptions.filter(|exception| exception.holds_at(self.at)) {
            if let Some(device) = exception.device() {
                check(&Named { text: device.to_owned(), span: exception.place.clone() }, GroupKind::Devices);
            }
        }
    }

    /// Warns of earlier ids that two rules claim, and of those whose findings go to none of a rule's checks, or whose checks' go to
    /// no rule.
    fn tell_earlier_ids(&self, around: &Surroundings<'_>, told: &mut Vec<Diagnostic>) {
        let mut claimed: BTreeMap<&str, &Named> = BTreeMap::new();
        for source in &self.source.rules {
            for was in &source.was {
                if let Some(first) = claimed.insert(&was.text, was) {
                    told.push(
                        Diagnostic::warning(
                            "was-twice",
                            format!("`{}` is named as the earlier id of two rules", was.text),
                            was.span.clone(),
                        )
                        .label("its findings go to the first")
                        .note(first.span.clone(), "the first")
                        .help("name it in the rule alone that carries on its findings"),
                    );
                    continue;
                }
                let (plain, family) = (was.text.as_str(), format!("{}/", was.text));
                let was_plain = around.failed_once.contains(plain);
                let had_checks =
                    around.failed_once.range(family.clone()..).next().is_some_and(|id| id.starts_with(&family));
                let (message, help) = match (source.checks.is_empty(), was_plain, had_checks) {
                    (false, true, false) => (
                        format!("`{plain}` had no checks, so its findings go to none of `{}`", source.id.text),
                        "they close as withdrawn; make the check that carries them on a rule of its own, with this `was`",
                    ),
                    (true, false, true) => (
                        format!("`{plain}` had checks, so their findings do not go to `{}`", source.id.text),
                        "they close as withdrawn; name the check that this carries on, such as was = [\"rule/check\"]",
                    ),
                    _ => continue,
                };
                told.push(Diagnostic::warning("was-of-another-kind", message, was.span.clone()).help(help));
            }
        }
    }

    fn tell_over(&self, told: &mut Vec<Diagnostic>) {
        for exception in self.rules.rules().iter().flat_map(Rule::exceptions) {
            if let Some(until) = exception.until.filter(|_| !exception.holds_at(self.at)) {
                // What ends with a day is over when the next begins.
                let last = self.zone.to_datetime(until - SignedDuration::from_secs(1)).date();
                told.push(
                    Diagnostic::warning(
                        "exception-over",
                        format!("this exception of `{}` ended on {last}", exception.name),
                        exception.place.clone(),
                    )
                    .help("take it away, or say a later `until` and why"),
                );
            }
        }
    }

    /// Returns the rules that another one overtakes.
    fn tell_overtaken(&self, fleet: Option<&Fleet>, told: &mut Vec<Diagnostic>) -> BTreeSet<usize> {
        let mut done = BTreeSet::new();
        for (at, (strict, weak)) in self.pairs.iter().enumerate() {
            let (one, other) = (self.rule(*strict), self.rule(*weak));
            let says = match fleet.map(|fleet| &fleet.pairs[at]) {
                Some(fit) if fit.covered > 0 && fit.beyond == 0 => {
                    format!("asks for no less of the same {}", devices(fit.covered))
                }
                None if one.covers_as(other) => "asks for no less of the same devices".to_owned(),
                _ => continue,
            };
            if !done.insert(*weak) {
                continue;
            }
            told.push(
                Diagnostic::warning(
                    "overtaken",
                    format!("rule `{}` says nothing that `{}` does not say", other.id, one.id),
                    self.place(other),
                )
                .label(format!("whatever passes `{}` passes this", one.id))
                .note(self.place(one), says)
                .help("take one of them away; if this is the milder warning before the other, give it less severity or more grace"),
            );
        }
        done
    }

    fn tell_people(&self, around: &Surroundings<'_>, told: &mut Vec<Diagnostic>) {
        let groups = &self.rules.groups;
        let reads_people = |mut all: Box<dyn Iterator<Item = usize> + '_>| all.any(|group| groups.reads_people(group));
        let holder = around.holder.map(|path| path.split('.').next().unwrap_or(path));
        let reads_holder = |condition: &Condition| {
            let layout = self.rules.layout();
            condition.slots().iter().any(|slot| layout.slot_path(*slot).split('.').next() == holder)
        };
        let is_so = |at: usize| {
            let rule = self.rule(at);
            let by_people = reads_people(Box::new(rule.groups_of_scope()))
                || rule.scope_condition().is_some_and(|condition| holder.is_some() && reads_holder(condition));
            let asks_people = reads_people(Box::new(rule.requirement().groups().iter().copied()))
                || holder.is_some() && reads_holder(rule.requirement());
            by_people && !asks_people
        };
        for RuleOwner { label, place, .. } in self.owners(is_so) {
            told.push(
                Diagnostic::warning(
                    "scoped-by-people",
                    format!("{label} asks something of the machine, and covers it by who holds it"),
                    place,
                )
                .label("a machine that nobody holds, or somebody else, is left out")
                .help("say whom it covers by facts of the machine; what is meant for people belongs into access.toml"),
            );
        }
    }

    fn tell_consequences(&self, told: &mut Vec<Diagnostic>) {
        let groups = &self.rules.groups;
        let access = self.rules.access().rules().iter().filter(|rule| rule.stage(self.at) != Stage::Draft);
        let conditions: Vec<&Condition> = access
            .flat_map(|rule| {
                let asked = rule.conditions().flat_map(Condition::groups).copied();
                let behind = asked.flat_map(|group| groups.reads(group));
                rule.conditions().chain(behind.collect::<Vec<_>>()).collect::<Vec<_>>()
            })
            .collect();
        if conditions.iter().any(|condition| condition.asks_for_standing()) {
            return;
        }
        let idle = |at: usize| {
            let id = self.rule(at).id.as_str();
            self.stage(at) == Stage::Enforced && !conditions.iter().any(|condition| condition.asks_whether_fails(id))
        };
        let all = self.rules.rules().len();
        if all > 0 && (0..all).filter(|at| self.stage(*at) == Stage::Enforced).all(idle) {
            if (0..all).any(idle) {
                told.push(
                    Diagnostic::remark("no-consequence", "nobody loses access over any rule", None).help(
                        "no access rule asks how a device stands; write one in access.toml: needs = 'standing = \"compliant\"'",
                    ),
                );
            }
            return;
        }
        for RuleOwner { label, place, .. } in self.owners(idle) {
            told.push(
                Diagnostic::remark("no-consequence", format!("nobody loses access over {label}"), place)
                    .label("no access rule asks for this, nor how a device stands")
                    .help("ask for it in access.toml, or put it on trial"),
            );
        }
    }

    fn tell_groups(&self, told: &mut Vec<Diagnostic>) {
        let groups = &self.rules.groups;
        let of_rules = self.rules.rules().iter().flat_map(Rule::groups_asked);
        let of_access = self.rules.access().rules().iter().flat_map(|rule| {
            let whom = rule.whom().filter_map(|whom| match whom {
                Whom::Group(group) => Some(*group),
                Whom::Branch(_) => None,
            });
            whom.chain(rule.conditions().flat_map(Condition::groups).copied()).collect::<Vec<_>>()
        });
        let of_groups = (0..groups.all.len()).flat_map(|at| groups.needs(at));
        let of_commands = self.rules.responses().allowed_when().values().flat_map(Condition::groups).copied();
        let used: BTreeSet<usize> = of_rules.chain(of_access).chain(of_groups).chain(of_commands).collect();
        for (at, group) in self.rules.groups().enumerate() {
            if group.id.as_str() == EVERY_DEVICE || used.contains(&at) {
                continue;
            }
            let place = self.source.groups.iter().find(|source| source.id.text == group.id.as_str());
            told.push(
                Diagnostic::remark(
                    "group-without-use",
                    format!("nothing names group `{}`", group.id),
                    place.and_then(|source| source.id.span.clone()),
                )
                .help("name it in a rule, a baseline or an access rule, or take it away"),
            );
        }
    }

    fn tell_drafts(&self, around: &Surroundings<'_>, told: &mut Vec<Diagnostic>) {
        for (at, rule) in self.rules.rules().iter().enumerate().filter(|(at, _)| self.drafts[*at]) {
            let Some(since) = around.drafts_since.get(at).copied().flatten() else { continue };
            if self.at.duration_since(since) > OLD_DRAFT {
                let day = self.zone.to_datetime(since).date();
                told.push(
                    Diagnostic::warning(
                        "draft-forgotten",
                        format!("rule `{}` has been a draft since {day}", rule.id),
                        rule.place.clone(),
                    )
                    .help("see what it would do with: fencepost preview; then put it on trial, or take it away"),
                );
            }
        }
    }

    fn tell_controls(&self, around: &Surroundings<'_>, told: &mut Vec<Diagnostic>) {
        let Some(controls) = around.controls else { return };
        let rules = self.rules.rules();
        for control in controls.iter().filter(|control| control.elsewhere.is_none()) {
            let answering =
                || (0..rules.len()).filter(|at| rules[*at].controls().any(|clause| clause == control.clause.text));
            if answering().any(|at| self.stage(at) == Stage::Enforced) {
                continue;
            }
            let help = match answering().next() {
                Some(at) => format!("rule `{}` would, once it is enforced", rules[at].id),
                None => format!(
                    "write controls = [\"{}\"] at the rule that does, or here elsewhere = \"...\" where none can",
                    control.clause.text.replace('"', "\\\"")
                ),
            };
            told.push(
                Diagnostic::warning(
                    "clause-without-rule",
                    format!("no enforced rule answers for `{}`", control.clause.text),
                    control.clause.span.clone(),
                )
                .label(control.title.as_deref().unwrap_or_default())
                .help(help),
            );
        }
        let known = || controls.iter().map(|control| control.clause.text.as_str());
        for rule in rules {
            for clause in rule.clauses().iter().filter(|clause| known().all(|known| known != clause.text)) {
                let help = did_you_mean(&clause.text, known(), || {
                    "list it in controls.toml, so that nothing is missed when a rule goes".to_owned()
                });
                let message = format!("`{}` is not in controls.toml", clause.text);
                told.push(Diagnostic::warning("unknown-clause", message, clause.span.clone()).help(help));
            }
        }
    }
}

/// Warns of a rule that is unknown on every device that it covers: mostly a fact whose name is spelled otherwise.
pub fn unknown_everywhere(rule: &Rule, label: &str, covered: u64, stage: Stage) -> Diagnostic {
    let message = format!("{label} is unknown on all {} that it covers", devices(covered));
    let place = rule.requirement().text().whole_span().or_else(|| rule.place.clone());
    Diagnostic::warning("unknown-everywhere", message, place)
        .label(match stage {
            Stage::Enforced => "each of them counts as silent",
            Stage::Trial | Stage::Draft => "enforced as it is, each of them would count as silent",
        })
        .help(format!("see what is missing with: fencepost why DEVICE {}", rule.id))
}

/// Tells once of a rule that is unknown everywhere since it names a fact that no device reports.
pub fn join_unknown(mut told: Vec<Diagnostic>) -> Vec<Diagnostic> {
    let is_within = |one: &Diagnostic, other: &Diagnostic| match (&one.span, &other.span) {
        (Some(one), Some(other)) => {
            one.file == other.file && other.range.start <= one.range.start && one.range.end <= other.range.end
        }
        _ => false,
    };
    let (everywhere, mut rest): (Vec<_>, Vec<_>) = told.drain(..).partition(|one| one.code == "unknown-everywhere");
    let mut first = Vec::new();
    for warning in everywhere {
        match rest.iter().position(|other| other.code == "unknown-fact" && is_within(other, &warning)) {
            Some(at) => {
                let why = rest.remove(at);
                first.push(why.label(format!("so {}", warning.message)));
            }
            None => first.push(warning),
        }
    }
    first.extend(rest);
    first
}

/// A rule that asks for a fact which is not reported of devices that it covers.
#[derive(Clone, Copy)]
struct Lack {
    rule: usize,
    slot: SlotId,
    covered: u64,
}

/// Returns what a code is about, in a few words.
pub fn about_code(code: &str) -> Option<&'static str> {
    CODES.iter().find(|(known, _)| *known == code).map(|(_, about)| *about)
}

/// Returns how many there are of each severity: errors, warnings, remarks.
pub fn severities<'d>(all: impl IntoIterator<Item = &'d Diagnostic>) -> [u64; 3] {
    let mut counts = [0; 3];
    for one in all {
        counts[match one.severity {
            Severity::Error => 0,
            Severity::Warning => 1,
            Severity::Note => 2,
        }] += 1;
    }
    counts
}

fn devices(number: u64) -> String {
    if number == 1 { "1 device".to_owned() } else { format!("{number} devices") }
}

fn listed(words: &[&str]) -> String {
    match words {
        [] => String::new(),
        [one] => (*one).to_owned(),
        [first @ .., last] => format!("{} and {last}", first.join(", ")),
    }
}

#[cfg(test)]
mod tests;
