//! Baselines: what machines of one kind are expected to look like. Each expectation becomes a rule of the one engine.

use std::collections::BTreeMap;

use jiff::Timestamp;

use crate::diagnostic::Named;
use crate::diagnostic::{Diagnostic, Span, Text, nearest};
use crate::facts::period::Period;
use crate::facts::value::Datum;
use crate::rules::rule::{ExceptSource, RuleSeverity, RuleSource, Stage};

/// What may be said of a rule, an expectation, or all of a baseline; what is left out is said further up.
#[derive(Clone, Debug, Default)]
pub struct Settings {
    /// What it is about.
    pub topic: Option<String>,
    /// How bad a failure is.
    pub severity: Option<RuleSeverity>,
    /// How far it is in force.
    pub stage: Option<Stage>,
    /// From when on it is enforced.
    pub enforced_from: Option<Timestamp>,
    /// How long a failure may last.
    pub grace: Option<Period>,
    /// Why.
    pub because: Option<String>,
    /// What to do about a failure.
    pub fix: Option<String>,
    /// Clauses that it answers for.
    pub controls: Vec<Named>,
    /// The ladder of steps that a failure sets off.
    pub response: Option<Named>,
}

impl Settings {
    /// Returns what these say, and where they say nothing, what `below` says.
    fn over(&self, below: &Self) -> Self {
        // A stage and the day on which it begins belong together.
        let own_stage = self.stage.is_some() || self.enforced_from.is_some();
        let staged = if own_stage { self } else { below };
        let or = |own: &Option<String>, other: &Option<String>| own.clone().or_else(|| other.clone());
        Self {
            topic: or(&self.topic, &below.topic),
            severity: self.severity.or(below.severity),
            stage: staged.stage,
            enforced_from: staged.enforced_from,
            grace: self.grace.or(below.grace),
            because: or(&self.because, &below.because),
            fix: or(&self.fix, &below.fix),
            response: self.response.clone().or_else(|| below.response.clone()),
            controls: if self.controls.is_empty() { below.controls.clone() } else { self.controls.clone() },
        }
    }
}

/// Whom something covers, as written.
#[derive(Clone, Debug, Default)]
pub struct ScopeSource {
    /// Groups of devices.
    pub groups: Vec<Named>,
    /// A condition on devices.
    pub covers: Option<Text>,
    /// Groups or devices that are left out, whatever else says so.
    pub except: Vec<ExceptSource>,
}

impl ScopeSource {
    fn is_said(&self) -> bool {
        self.covers.is_some() || !self.groups.is_empty()
    }
}

/// A baseline as written.
#[derive(Clone, Debug)]
pub struct BaselineSource {
    /// Its id.
    pub id: Named,
    /// What it describes.
    pub title: Option<String>,
    /// The baselines that it starts from.
    pub extends: Vec<Named>,
    /// The devices it covers.
    pub scope: ScopeSource,
    /// What holds for all that it expects.
    pub settings: Settings,
    /// What facts are expected to be.
    pub expect: Vec<ExpectSource>,
    /// What lists are expected to hold.
    pub lists: Vec<ListSource>,
    /// Whole rules.
    pub rules: Vec<RuleSource>,
}

/// What a fact is expected to be.
#[derive(Clone, Debug)]
pub struct ExpectSource {
    /// The path of the fact.
    pub fact: Named,
    /// What it is expected to be.
    pub what: Expected,
    /// What is said of this expectation.
    pub settings: Settings,
}

/// What something is expected to be.
#[derive(Clone, Debug)]
pub enum Expected {
    /// This value.
    Value(Datum, Option<Span>),
    /// Something that meets a unary test: `>= 30`, `"a", "b"`, `[1..5]`, `not("x")`.
    Test(Text),
    /// Nothing any more: what was inherited is dropped, for a reason.
    Dropped(String),
}

/// What a list is expected to hold.
#[derive(Clone, Debug)]
pub struct ListSource {
    /// What the section is called.
    pub name: Named,
    /// The fact with the names that are compared: a list, or a field of its items. The section's name where it is left out.
    pub from: Option<Named>,
    /// What must, must never and may be in it.
    pub entries: Vec<EntrySource>,
    /// What is said of everything else.
    pub others: Option<Others>,
    /// What is said of all its entries.
    pub settings: Settings,
}

/// What is said of what a list holds and nobody named.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Others {
    /// Nothing.
    Ignore,
    /// It is shown, and fails nothing.
    Note,
    /// It fails.
    Fail,
}

/// How something stands to a list.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Presence {
    /// It is to be in it.
    Must,
    /// It is not to be in it.
    Never,
    /// It may be in it.
    May,
}

impl Presence {
    /// Returns its word.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Must => "must",
            Self::Never => "never",
            Self::May => "may",
        }
    }
}

impl ListSource {
    /// Returns the fact with the names that are compared.
    pub fn fact(&self) -> &str {
        self.from.as_ref().map_or(&self.name.text, |from| &from.text)
    }
}

impl EntrySource {
    /// Returns whether a name is meant, whatever its version.
    pub fn means(&self, name: &str) -> bool {
        let pattern: Vec<char> = self.name.text.chars().collect();
        let name: Vec<char> = name.chars().collect();
        // The parts of the name that the pattern up to here may stand for, by where they end.
        let mut ends = vec![false; name.len() + 1];
        ends[0] = true;
        for part in pattern {
            let before = ends.clone();
            ends[0] = before[0] && part == '*';
            for at in 0..name.len() {
                ends[at + 1] = match part {
                    '*' => before[at + 1] || ends[at],
                    '?' => before[at],
                    exact => before[at] && name[at] == exact,
                };
            }
        }
        ends[name.len()]
    }
}

/// What must, must never or may be in a list.
#[derive(Clone, Debug)]
pub struct EntrySource {
    /// Which of these.
    pub presence: Presence,
    /// The name; `*` stands for any text, `?` for any one character.
    pub name: Named,
    /// A comparison with a version, `< 4.2`, that what is meant meets besides.
    pub version: Option<Text>,
    /// What was inherited of this name is dropped, for a reason.
    pub dropped: Option<String>,
    /// What is said of this entry.
    pub settings: Settings,
}

/// Where a rule comes from that a baseline became.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FromBaseline {
    /// The baseline by which devices are judged.
    pub baseline: String,
    /// The baseline in which it is written: the same, or one that it extends.
    pub written_in: String,
    /// What is expected, in words.
    pub says: String,
}

/// A baseline that judges a device in the place of one that it extends.
#[derive(Clone, Debug)]
pub struct OverrideSource {
    /// Its id.
    pub baseline: String,
    /// Whom it covers.
    pub scope: ScopeSource,
    /// How far it is in force: a baseline that is further in force does not give way to it.
    pub stage: Stage,
    /// From when on it is enforced.
    pub enforced_from: Option<Timestamp>,
}

/// Something that a baseline expects, its own or inherited.
#[derive(Clone, Copy)]
struct BaselineItem<'s> {
    written_in: usize,
    what: ItemSource<'s>,
}

#[derive(Clone, Copy)]
enum ItemSource<'s> {
    Fact(&'s ExpectSource),
    Entry(&'s ListSource, &'s EntrySource),
    Rule(&'s RuleSource),
}

impl<'s> ItemSource<'s> {
    fn named(self) -> &'s Named {
        match self {
            Self::Fact(expect) => &expect.fact,
            Self::Entry(_, entry) => &entry.name,
            Self::Rule(rule) => &rule.id,
        }
    }

    /// What it is called below its baseline.
    fn name(self) -> String {
        match self {
            Self::Entry(list, entry) => format!("{}.{}", list.name.text, entry.name.text),
            Self::Fact(_) | Self::Rule(_) => self.named().text.clone(),
        }
    }

    fn dropped(self) -> bool {
        match self {
            Self::Fact(expect) => matches!(expect.what, Expected::Dropped(_)),
            Self::Entry(_, entry) => entry.dropped.is_some(),
            Self::Rule(_) => false,
        }
    }
}

/// A baseline with all that it inherits.
#[derive(Clone, Default)]
struct Resolved<'s> {
    /// In the order in which they are written, what is inherited first.
    items: Vec<BaselineItem<'s>>,
    /// By the name of the section: the fact it is about, what is said of others, and of all entries.
    lists: BTreeMap<&'s str, Vec<(usize, &'s ListSource)>>,
    settings: Settings,
}

enum ResolveState<'s> {
    Untouched,
    Open,
    Done(Box<Resolved<'s>>),
}

/// Returns the rules that baselines become.
pub(crate) fn expand(sources: &[BaselineSource], mistakes: &mut Vec<Diagnostic>) -> Vec<RuleSource> {
    let mut book = Book { sources, states: sources.iter().map(|_| ResolveState::Untouched).collect(), mistakes };
    book.check_ids();
    for at in 0..sources.len() {
        book.resolve(at);
    }
    let extended_by = book.extended_by();
    let Book { states, mistakes, .. } = book;
    let mut rules = Vec::new();
    for (at, state) in states.iter().enumerate() {
        let ResolveState::Done(resolved) = state else { continue };
        let source = &sources[at];
        if !source.scope.is_said() {
            // Whoever is only extended describes what others have in common.
            if extended_by[at].is_empty() {
                mistakes.push(
                    Diagnostic::error(
                        "scope-for-nobody",
                        format!("baseline `{}` covers no device, and nothing extends it", source.id.text),
                        source.id.span.clone(),
                    )
                    .help("say which with `covers` or `groups`; groups = [\"every-device\"] covers all"),
                );
            }
            continue;
        }
        let overridden_by: Vec<OverrideSource> = extended_by[at]
            .iter()
            .filter_map(|extending| {
                let ResolveState::Done(resolved) = &states[*extending] else { return None };
                let settings = sources[*extending].settings.over(&resolved.settings);
                Some(OverrideSource {
                    baseline: sources[*extending].id.text.clone(),
                    scope: sources[*extending].scope.clone(),
                    stage: settings.stage.unwrap_or(Stage::Enforced),
                    enforced_from: settings.enforced_from,
                })
            })
            .filter(|extending| extending.scope.is_said())
            .collect();
        let writer = RuleWriter { source, resolved, sources, overridden_by };
        rules.extend(writer.rules(mistakes));
    }
    rules
}

struct Book<'s, 'm> {
    sources: &'s [BaselineSource],
    states: Vec<ResolveState<'s>>,
    mistakes: &'m mut Vec<Diagnostic>,
}

impl<'s> Book<'s, '_> {
    fn position(&self, name: &str) -> Option<usize> {
        self.sources.iter().position(|source| source.id.text == name)
    }

    fn check_ids(&mut self) {
        for (at, source) in self.sources.iter().enumerate() {
            if let Some(first) = self.sources[..at].iter().find(|first| first.id.text == source.id.text) {
                self.mistakes.push(
                    Diagnostic::error(
                        "doubled-id",
                        format!("two baselines are called `{}`", source.id.text),
                        source.id.span.clone(),
                    )
                    .label("the second")
                    .note(first.id.span.clone(), "the first")
                    .help("give one of them another id"),
                );
            }
        }
    }

    /// Returns of each baseline those that extend it, directly or through others.
    fn extended_by(&self) -> Vec<Vec<usize>> {
        let mut extended_by = vec![Vec::new(); self.sources.len()];
        for at in 0..self.sources.len() {
            let (mut ahead, mut seen) = (vec![at], Vec::new());
            while let Some(next) = ahead.pop() {
                for parent in self.sources[next].extends.iter().filter_map(|named| self.position(&named.text)) {
                    if parent != at && !seen.contains(&parent) {
                        seen.push(parent);
                        ahead.push(parent);
                    }
                }
            }
            seen.into_iter().for_each(|parent| extended_by[parent].push(at));
        }
        extended_by
    }

    fn resolve(&mut self, at: usize) -> Resolved<'s> {
        match &self.states[at] {
            ResolveState::Done(resolved) => return Resolved::clone(resolved),
            // The cycle was reported where it closed.
            ResolveState::Open => return Resolved::default(),
            ResolveState::Untouched => self.states[at] = ResolveState::Open,
        }
        let source = &self.sources[at];
        let own = self.own(at);
        let mut resolved = Resolved::default();
        for named in &source.extends {
            let Some(parent) = self.position(&named.text) else {
                let known = self.sources.iter().map(|source| source.id.text.as_str());
                let near = nearest(&named.text, known).map(|near| format!("did you mean `{near}`?"));
                self.mistakes.push(
                    Diagnostic::error(
                        "unknown-baseline",
                        format!("there is no baseline `{}`", named.text),
                        named.span.clone(),
                    )
                    .help(near.unwrap_or_else(|| "it extends a baseline of this workspace, by its id".to_owned())),
                );
                continue;
            };
            if matches!(self.states[parent], ResolveState::Open) {
                self.mistakes.push(
                    Diagnostic::error(
                        "baseline-cycle",
                        format!("`{}` extends itself, through `{}`", source.id.text, named.text),
                        named.span.clone(),
                    )
                    .note(self.sources[parent].id.span.clone(), "which extends it in turn")
                    .help("take one of them out of `extends`"),
                );
                continue;
            }
            let inherited = self.resolve(parent);
            self.inherit(at, &mut resolved, inherited, &own);
        }
        for item in own {
            let key = key_of(item.what);
            let before = resolved.items.iter().position(|other| key_of(other.what) == key);
            if item.what.dropped() && before.is_none() {
                self.mistakes.push(
                    Diagnostic::error(
                        "nothing-to-drop",
                        format!("`{}` is not inherited, so it cannot be dropped", item.what.name()),
                        item.what.named().span.clone(),
                    )
                    .help("take it out, or name what a baseline in `extends` expects"),
                );
                continue;
            }
            match before {
                Some(before) => resolved.items[before] = item,
                None => resolved.items.push(item),
            }
        }
        for list in &source.lists {
            resolved.lists.entry(&list.name.text).or_default().push((at, list));
        }
        resolved.settings = source.settings.over(&resolved.settings);
        self.states[at] = ResolveState::Done(Box::new(resolved.clone()));
        resolved
    }

    /// Adds what a baseline inherits from one of those that it extends.
    fn inherit(&mut self, at: usize, into: &mut Resolved<'s>, inherited: Resolved<'s>, own: &[BaselineItem<'s>]) {
        let source = &self.sources[at];
        for item in inherited.items.into_iter().filter(|item| !item.what.dropped()) {
            let key = key_of(item.what);
            let Some(other) = into.items.iter().find(|other| key_of(other.what) == key).copied() else {
                into.items.push(item);
                continue;
            };
            let same = std::ptr::eq(item.what.named(), other.what.named());
            if !same && !own.iter().any(|own| key_of(own.what) == key) {
                let [one, two] = [other, item].map(|item| self.sources[item.written_in].id.text.as_str());
                self.mistakes.push(
                    Diagnostic::error(
                        "inherited-twice",
                        format!("`{}` inherits `{}` from `{one}` and from `{two}`", source.id.text, item.what.name()),
                        source.id.span.clone(),
                    )
                    .note(other.what.named().span.clone(), "one")
                    .note(item.what.named().span.clone(), "the other")
                    .help(format!("say in `{}` which of them it is", source.id.text)),
                );
            }
        }
        for (name, lists) in inherited.lists {
            into.lists.entry(name).or_default().extend(lists);
        }
        into.settings = into.settings.over(&inherited.settings);
    }

    /// What a baseline says itself; what it says twice is told.
    fn own(&mut self, at: usize) -> Vec<BaselineItem<'s>> {
        let source = &self.sources[at];
        let facts = source.expect.iter().map(ItemSource::Fact);
        let entries =
            source.lists.iter().flat_map(|list| list.entries.iter().map(move |entry| ItemSource::Entry(list, entry)));
        let mut own: Vec<BaselineItem<'s>> = Vec::new();
        for what in facts.chain(entries).chain(source.rules.iter().map(ItemSource::Rule)) {
            if let Some(first) = own.iter().find(|other| key_of(other.what) == key_of(what)) {
                self.mistakes.push(
                    Diagnostic::error(
                        "said-twice",
                        format!("`{}` is said twice in baseline `{}`", what.name(), source.id.text),
                        what.named().span.clone(),
                    )
                    .label("the second")
                    .note(first.what.named().span.clone(), "the first")
                    .help("keep one of them"),
                );
                continue;
            }
            own.push(BaselineItem { written_in: at, what });
        }
        own
    }
}

/// What a child names to change an item.
#[derive(PartialEq, Eq)]
enum ItemKey<'s> {
    Fact(&'s str),
    Entry { list: &'s str, name: &'s str },
    Rule(&'s str),
}

fn key_of(what: ItemSource<'_>) -> ItemKey<'_> {
    match what {
        ItemSource::Fact(expect) => ItemKey::Fact(&expect.fact.text),
        ItemSource::Entry(list, entry) => ItemKey::Entry { list: &list.name.text, name: &entry.name.text },
        ItemSource::Rule(rule) => ItemKey::Rule(&rule.id.text),
    }
}

/// Writes the rules of one baseline.
struct RuleWriter<'s, 'r> {
    source: &'s BaselineSource,
    resolved: &'r Resolved<'s>,
    sources: &'s [BaselineSource],
    overridden_by: Vec<OverrideSource>,
}

impl RuleWriter<'_, '_> {
    fn rules(&self, mistakes: &mut Vec<Diagnostic>) -> Vec<RuleSource> {
        let mut rules = Vec::new();
        for item in self.resolved.items.iter().filter(|item| !item.what.dropped()) {
            match item.what {
                ItemSource::Fact(expect) => rules.push(self.fact(item.written_in, expect)),
                ItemSource::Entry(list, entry) => rules.extend(self.entry(item.written_in, list, entry, mistakes)),
                ItemSource::Rule(rule) => rules.push(self.whole(item.written_in, rule)),
            }
        }
        for name in self.resolved.lists.keys() {
            rules.extend(self.others(name));
        }
        rules
    }

    /// A rule of this baseline under the name of what it comes from.
    fn rule(&self, item: &ExpandedItem<'_>, require: Text, own: &Settings) -> RuleSource {
        let ExpandedItem { written_in, name, place, says } = *item;
        let settings = own.over(&self.resolved.settings);
        let title = self.source.title.as_ref().unwrap_or(&self.source.id.text);
        RuleSource {
            id: Named { text: format!("{}/{name}", self.source.id.text), span: place.span.clone() },
            title: Some(format!("{title}: {says}")),
            groups: self.source.scope.groups.clone(),
            covers: self.source.scope.covers.clone(),
            except: self.source.scope.except.clone(),
            require: Some(require),
            checks: Vec::new(),
            settings,
            fix_when: Vec::new(),
            was: Vec::new(),
            baseline: Some(self.origin(written_in, says)),
            overridden_by: self.overridden_by.clone(),
        }
    }

    fn origin(&self, written_in: usize, says: &str) -> FromBaseline {
        FromBaseline {
            baseline: self.source.id.text.clone(),
            written_in: self.sources[written_in].id.text.clone(),
            says: says.to_owned(),
        }
    }

    fn fact(&self, written_in: usize, expect: &ExpectSource) -> RuleSource {
        let fact = &expect.fact;
        let path = Text::at(spelled(&fact.text), fact.span.as_ref());
        let (require, says) = match &expect.what {
            Expected::Value(value, span) => (
                Text::joined([path, Text::loose(" = "), Text::at(literal(value), span.as_ref())]),
                format!("{} is {}", fact.text, shown(value)),
            ),
            Expected::Test(test) => (met(path, test), format!("{} {}", fact.text, in_words(test))),
            Expected::Dropped(_) => (path, String::new()),
        };
        self.rule(&ExpandedItem { written_in, name: &fact.text, place: fact, says: &says }, require, &expect.settings)
    }

    fn whole(&self, written_in: usize, rule: &RuleSource) -> RuleSource {
        let settings = rule.settings.over(&self.resolved.settings);
        let says = rule.title.clone().unwrap_or_else(|| match &rule.require {
            Some(require) => require.as_str().trim().to_owned(),
            None => rule.id.text.clone(),
        });
        let scope = if rule.covers.is_some() || !rule.groups.is_empty() {
            ScopeSource { groups: rule.groups.clone(), covers: rule.covers.clone(), except: rule.except.clone() }
        } else {
            let except = self.source.scope.except.iter().chain(&rule.except).cloned().collect();
            ScopeSource { except, ..self.source.scope.clone() }
        };
        RuleSource {
            id: Named { text: format!("{}/{}", self.source.id.text, rule.id.text), span: rule.id.span.clone() },
            groups: scope.groups,
            covers: scope.covers,
            except: scope.except,
            settings,
            baseline: Some(self.origin(written_in, &says)),
            title: Some(format!("{}: {says}", self.source.title.as_ref().unwrap_or(&self.source.id.text))),
            overridden_by: self.overridden_by.clone(),
            ..rule.clone()
        }
    }

    /// Returns where the names of a section lie: the last that says so.
    fn names_in<'l>(&'l self, section: &'l str) -> (&'l str, Option<&'l Span>) {
        let said =
            self.resolved.lists.get(section).into_iter().flatten().rev().find_map(|(_, list)| list.from.as_ref());
        said.map_or((section, None), |from| (&from.text, from.span.as_ref()))
    }

    fn entry(
        &self,
        written_in: usize,
        list: &ListSource,
        entry: &EntrySource,
        mistakes: &mut Vec<Diagnostic>,
    ) -> Option<RuleSource> {
        let name = &entry.name;
        let (from, span) = self.names_in(&list.name.text);
        // What is wrong with an entry is told at the entry, wherever its list is described.
        let own = |span: &&Span| name.span.as_ref().is_none_or(|own| own.file == span.file);
        let span = span.filter(own).or(name.span.as_ref());
        let item = if entry.version.is_some() { "item" } else { item_of(from) };
        let (words, condition) = match &entry.version {
            None => (String::new(), Text::at(is_named(item, &name.text), name.span.as_ref())),
            Some(version) => {
                let Some((_, field)) = from.rsplit_once('.') else {
                    mistakes.push(
                        Diagnostic::error(
                            "no-version",
                            format!("`{from}` holds no items with a version"),
                            version.whole_span(),
                        )
                        .help("say with `from` which field of the items is the name, such as software.name"),
                    );
                    return None;
                };
                let Some(compared) = version_test(version) else {
                    mistakes.push(
                        Diagnostic::error(
                            "bad-version-test",
                            format!("`{}` does not compare with a version", version.as_str()),
                            version.whole_span(),
                        )
                        .help("write version = \"< 4.2\""),
                    );
                    return None;
                };
                let field = Text::loose(format!("{} and ", is_named(&format!("item.{}", spelled(field)), &name.text)));
                let words = format!(" {}", version.as_str().trim());
                (
                    words,
                    Text::joined([field, Text::at(format!("item.version {compared}"), version.whole_span().as_ref())]),
                )
            }
        };
        // With a version the items are gone through, without one their names.
        let over = match (&entry.version, from.rsplit_once('.')) {
            (Some(_), Some((items, _))) => items,
            _ => from,
        };
        let over = Text::at(spelled(over), span);
        let (require, says) = match entry.presence {
            Presence::May => return None,
            Presence::Must => (
                Text::joined([Text::loose(format!("some {item} in ")), over, Text::loose(" satisfies "), condition]),
                format!("{}{words} is in {}", name.text, list.name.text),
            ),
            Presence::Never => (
                Text::joined([
                    Text::loose(format!("every {item} in ")),
                    over,
                    Text::loose(" satisfies not("),
                    condition,
                    Text::loose(")"),
                ]),
                format!("no {}{words} in {}", name.text, list.name.text),
            ),
        };
        let below = format!("{}.{}", list.name.text, name.text);
        let item = ExpandedItem { written_in, name: &below, place: name, says: &says };
        Some(self.rule(&item, require, &entry.settings.over(&list.settings)))
    }

    /// The rule about what a list holds and nobody named.
    fn others(&self, section: &str) -> Option<RuleSource> {
        let lists = self.resolved.lists.get(section)?;
        let (written_in, list) = lists.iter().rev().find(|(_, list)| list.others.is_some())?;
        let settings = match list.others? {
            Others::Ignore => return None,
            // Shown, and without consequence.
            Others::Note => Settings { stage: Some(Stage::Trial), enforced_from: None, ..list.settings.clone() },
            Others::Fail => list.settings.clone(),
        };
        let (from, span) = self.names_in(section);
        let named = self.resolved.items.iter().filter_map(|item| match item.what {
            ItemSource::Entry(list, entry) if list.name.text == section && entry.dropped.is_none() => {
                Some(&entry.name.text)
            }
            _ => None,
        });
        let known: Vec<String> = named.map(|name| is_named(item_of(from), name)).collect();
        let known = if known.is_empty() { "false".to_owned() } else { known.join(" or ") };
        let own = |span: &&Span| list.name.span.as_ref().is_none_or(|own| own.file == span.file);
        let over = Text::at(spelled(from), span.filter(own).or(list.name.span.as_ref()));
        let require = Text::joined([
            Text::loose(format!("every {} in ", item_of(from))),
            over,
            Text::loose(format!(" satisfies ({known})")),
        ]);
        let says = format!("nothing else in {section}");
        let item = ExpandedItem { written_in: *written_in, name: section, place: &list.name, says: &says };
        Some(self.rule(&item, require, &settings))
    }
}

/// An item of a baseline that a rule is made of.
struct ExpandedItem<'i> {
    /// The baseline that has it, by its position.
    written_in: usize,
    /// What the rule is called below the baseline.
    name: &'i str,
    /// Where it is written.
    place: &'i Named,
    /// What it asks for, in words.
    says: &'i str,
}

/// What an item of a list of names is called in conditions.
fn item_of(from: &str) -> &str {
    let field = from.rsplit_once('.').map_or("entry", |(_, field)| field);
    if spelled(field) == field { field } else { "entry" }
}

/// A condition under which something is called by a name, in which `*` and `?` stand for others.
fn is_named(what: &str, name: &str) -> String {
    if !name.contains(['*', '?']) {
        return format!("{what} = {}", literal(&Datum::Text(name.to_owned())));
    }
    let pattern: String = name
        .chars()
        .map(|symbol| match symbol {
            '*' => ".*".to_owned(),
            '?' => ".".to_owned(),
            symbol if symbol.is_alphanumeric() || matches!(symbol, ' ' | '_') => symbol.to_string(),
            symbol => format!("\\{symbol}"),
        })
        .collect();
    format!("matches({what}, {})", literal(&Datum::Text(format!("^{pattern}$"))))
}

/// Returns `< version("4.2")` for `< 4.2`.
fn version_test(test: &Text) -> Option<String> {
    let text = test.as_str().trim();
    let operator = ["<=", ">=", "!=", "<", ">", "="].into_iter().find(|operator| text.starts_with(operator))?;
    let version = text[operator.len()..].trim().trim_matches('"');
    let is_version =
        version.starts_with(|first: char| first.is_ascii_digit()) && crate::facts::version::is_version(version);
    is_version.then(|| format!("{operator} version({})", literal(&Datum::Text(version.to_owned()))))
}

/// A condition that a fact meets a unary test.
fn met(path: Text, test: &Text) -> Text {
    let text = test.as_str();
    let start = text.len() - text.trim_start().len();
    let compares = text.trim_start().starts_with(['<', '>', '=', '!']) && !text.contains(',');
    if compares {
        return Text::joined([path, Text::loose(" "), test.clone()]);
    }
    let negated = text.trim().strip_prefix("not(").and_then(|rest| rest.strip_suffix(')'));
    match negated {
        Some(inner) => {
            let from = start + "not(".len();
            let inner = test.slice(from..from + inner.len());
            Text::joined([Text::loose("not("), path, Text::loose(" in ("), inner, Text::loose("))")])
        }
        None => Text::joined([path, Text::loose(" in ("), test.clone(), Text::loose(")")]),
    }
}

fn in_words(test: &Text) -> String {
    let text = test.as_str().trim();
    let negated = text.strip_prefix("not(").and_then(|rest| rest.strip_suffix(')'));
    match negated {
        Some(inner) => format!("is not {inner}"),
        None if text.starts_with(['<', '>', '=', '!']) => text.to_owned(),
        None if text.starts_with(['[', '(']) => format!("is in {text}"),
        None if text.contains(',') => format!("is one of {text}"),
        None => format!("is {text}"),
    }
}

/// Returns a path as conditions name it.
fn spelled(path: &str) -> String {
    let part = |part: &str| {
        let plain = part.chars().all(|symbol| symbol.is_alphanumeric() || symbol == '_')
            && !part.starts_with(|first: char| first.is_ascii_digit())
            && !crate::condition::is_reserved(part);
        if plain { part.to_owned() } else { format!("`{part}`") }
    };
    path.split('.').map(part).collect::<Vec<_>>().join(".")
}

/// Returns a value as conditions write it.
fn literal(value: &Datum) -> String {
    match value {
        Datum::Text(text) => {
            let escaped: String = text
                .chars()
                .map(|symbol| match symbol {
                    '"' => "\\\"".to_owned(),
                    '\\' => "\\\\".to_owned(),
                    '\n' => "\\n".to_owned(),
                    '\r' => "\\r".to_owned(),
                    '\t' => "\\t".to_owned(),
                    symbol => symbol.to_string(),
                })
                .collect();
            format!("\"{escaped}\"")
        }
        Datum::List(items) => format!("[{}]", items.iter().map(literal).collect::<Vec<_>>().join(", ")),
        other => shown(other),
    }
}

fn shown(value: &Datum) -> String {
    value.to_value(&bumpalo::Bump::new()).show()
}
