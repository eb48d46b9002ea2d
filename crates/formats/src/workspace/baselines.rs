//! `baselines/*.toml`: what machines of one kind are expected to look like.

use super::rules::{self, SCOPE, SETTINGS, settings};
use super::shape::{KeyKind, TableKey, TableShape, words};
use super::table::{Entry, ListItem, Table, TableReader, Value};
use fencepost_core::{
    BaselineSource, EntrySource, ExpectSource, Expected, ListSource, Named, Others, Presence, RuleSetSource,
    ScopeSource, Settings,
};
use jiff::tz::TimeZone;

pub(super) static FILE: TableShape = TableShape::new(
    "a baseline (whose lists are tables with must, never, may or others)",
    &[
        &[
            TableKey::new("id", KeyKind::Id, "Its name; the rules that it becomes begin with it."),
            TableKey::new("title", KeyKind::Text, "What machines it describes."),
            TableKey::new("extends", KeyKind::Names, "Baselines that it starts from; what it says itself wins."),
        ],
        &SCOPE,
        &[
            TableKey::new("expect", KeyKind::Table(&EXPECT), "What each fact is to be, by path, each path in quotes."),
            TableKey::new(
                "rule",
                KeyKind::Tables(&RULE),
                "Whole rules; they cover what the baseline does, where they do not say otherwise.",
            ),
        ],
        &SETTINGS,
    ],
)
.others(KeyKind::Table(&LIST))
.needs(&[&["id"]]);
static RULE: TableShape = TableShape::new("[[rule]]", &rules::KEYS).needs(&[&["id"], &["require", "checks"]]);
static EXPECT: TableShape = TableShape::new("[expect]", &[]).others(KeyKind::Or(&KeyKind::Scalar, &EXPECTATION));
static EXPECTATION: TableShape = TableShape::new(
    "an expectation",
    &[
        &[
            TableKey::new("value", KeyKind::Scalar, "What the fact is to be."),
            TableKey::new("test", KeyKind::Condition, "A test that the fact is to pass, such as \">= 30\"."),
            DROP,
        ],
        &SETTINGS,
    ],
)
.needs(&[&["value", "test", "drop"]])
.with(&[("drop", "because")]);
const DROP: TableKey =
    TableKey::new("drop", KeyKind::Boolean, "Whether what was inherited is not expected; `because` says why.");
static LIST: TableShape = TableShape::new(
    "a list of a baseline",
    &[
        &[
            TableKey::new("from", KeyKind::Text, "The fact whose items these are, where the table is not called so."),
            TableKey::new("must", KeyKind::NamesAndTables(&ENTRY), "What has to be there; `*` stands for anything."),
            TableKey::new("never", KeyKind::NamesAndTables(&ENTRY), "What must not be there."),
            TableKey::new("may", KeyKind::NamesAndTables(&ENTRY), "What can be there."),
            TableKey::new(
                "others",
                KeyKind::Word(|| words(&OTHERS)),
                "What to do about anything else: ignore it, note it (shown, without consequence) or fail.",
            ),
        ],
        &SETTINGS,
    ],
)
.needs(&[&["from", "must", "never", "may", "others"]]);
static ENTRY: TableShape = TableShape::new(
    "an entry of a list",
    &[
        &[
            TableKey::new("name", KeyKind::Text, "The name; `*` stands for anything."),
            TableKey::new("version", KeyKind::Condition, "A test of its version, such as \"< 4.2\"."),
            DROP,
        ],
        &SETTINGS,
    ],
)
.needs(&[&["name"]])
.with(&[("drop", "because")]);

const OTHERS: [(&str, Others); 3] = [("ignore", Others::Ignore), ("note", Others::Note), ("fail", Others::Fail)];

/// Whether a word is a key of a baseline, so that no list of it can be called so.
pub fn is_baseline_key(word: &str) -> bool {
    FILE.keys().any(|key| key.name == word)
}

pub(super) fn read(reader: &mut TableReader<'_>, root: &Table<'_>, zone: &TimeZone, into: &mut RuleSetSource) {
    // A shell makes the file empty before a command writes it.
    if root.is_empty() {
        reader.report(
            fencepost_core::Diagnostic::warning("empty-file", "this baseline is empty", Some(reader.span(0..0)))
                .help("give it an id and what it expects, or take the file away"),
        );
        return;
    }
    let Some(id) = reader.id(root, "a baseline") else { return };
    let mut source = BaselineSource {
        id,
        title: reader.string(root, "title"),
        extends: reader.names(root, "extends"),
        scope: ScopeSource {
            groups: reader.names(root, "groups"),
            covers: reader.text(root, "covers"),
            except: rules::exceptions(reader, root, zone),
        },
        settings: settings(reader, root, zone),
        expect: Vec::new(),
        lists: Vec::new(),
        rules: rules::all(reader, root, zone),
    };
    if let Some(table) = reader.table(root, "expect") {
        for Entry { key, span, value } in table.entries() {
            let fact = Named { text: key, span: Some(reader.span(span)) };
            source.expect.extend(expectation(reader, &table, fact, value, zone));
        }
    }
    for Entry { key: name, span, value } in root.others() {
        let Some(table) = reader.inner(root, &name, value) else { continue };
        let name = Named { text: name, span: Some(reader.span(span)) };
        source.lists.push(section(reader, name, &table, zone));
    }
    into.baselines.push(source);
}

fn expectation(
    reader: &mut TableReader<'_>,
    expect: &Table<'_>,
    fact: Named,
    value: &Value<'_>,
    zone: &TimeZone,
) -> Option<ExpectSource> {
    if !is_fact_path(&fact.text) {
        reader.error(
            "bad-path",
            format!("`{}` names no fact", fact.text.escape_debug()),
            fact.span.map(|span| span.range).unwrap_or_default(),
            "write the path of a fact, such as \"sshd.permit_root_login\"",
        );
        return None;
    }
    let Some(table) = reader.inner(expect, &fact.text, value) else {
        let found = reader.datum(&fact.text, value, ELSE)?;
        let what = Expected::Value(found, Some(reader.span(value.span())));
        return Some(ExpectSource { fact, what, settings: Settings::default() });
    };
    let settings = settings(reader, &table, zone);
    let what = match (table.get("value"), table.get("test"), dropped(reader, &table, &settings)?) {
        (Some(value), None, None) => {
            Expected::Value(reader.datum("value", value, ELSE)?, Some(reader.span(value.span())))
        }
        (None, Some(_), None) => Expected::Test(reader.text(&table, "test")?),
        (None, None, Some(because)) => Expected::Dropped(because),
        _ => {
            reader.error(
                "incomplete",
                format!("`{}` is expected to be one thing", fact.text),
                table.heading(),
                "write one of value = .., test = \">= 30\", or drop = true",
            );
            return None;
        }
    };
    Some(ExpectSource { fact, what, settings })
}

/// Whether something inherited is dropped, and why; the outer none when that is not said as it must be.
#[expect(clippy::option_option, reason = "a mistake is neither yes nor no")]
fn dropped(reader: &mut TableReader<'_>, table: &Table<'_>, settings: &Settings) -> Option<Option<String>> {
    if !reader.boolean(table, "drop").unwrap_or(false) {
        return Some(None);
    }
    if settings.because.is_none() {
        reader.error(
            "drop-without-reason",
            "what is dropped needs a reason",
            table.heading(),
            "write { drop = true, because = \"...\" }",
        );
        return None;
    }
    Some(settings.because.clone())
}

fn section(reader: &mut TableReader<'_>, name: Named, table: &Table<'_>, zone: &TimeZone) -> ListSource {
    let mut entries = Vec::new();
    for (key, presence) in [("must", Presence::Must), ("never", Presence::Never), ("may", Presence::May)] {
        for item in reader.names_and_tables(table, key) {
            entries.extend(entry(reader, presence, item, zone));
        }
    }
    ListSource {
        name,
        from: reader.named(table, "from").filter(|from| is_fact_path(&from.text)),
        entries,
        others: reader.word(table, "others", &OTHERS),
        settings: settings(reader, table, zone),
    }
}

fn entry(reader: &mut TableReader<'_>, presence: Presence, item: ListItem<'_>, zone: &TimeZone) -> Option<EntrySource> {
    let (name, version, dropped, settings, place) = match item {
        ListItem::Name(name) => {
            let place = name.span.clone().map(|span| span.range).unwrap_or_default();
            (Some(name), None, None, Settings::default(), place)
        }
        ListItem::Table(table) => {
            let settings = settings(reader, &table, zone);
            let dropped = dropped(reader, &table, &settings)?;
            (reader.named(&table, "name"), reader.text(&table, "version"), dropped, settings, table.heading())
        }
    };
    match name {
        Some(name) if !name.text.trim().is_empty() && !name.text.contains(char::is_control) => {
            Some(EntrySource { presence, name, version, dropped, settings })
        }
        _ => {
            reader.error("incomplete", "an entry of a list has a name", place, "write { name = \"...\" }");
            None
        }
    }
}

/// Whether a text can be the path of a fact in a workspace file.
pub fn is_fact_path(text: &str) -> bool {
    text.split('.').all(|part| !part.is_empty() && !part.contains('`') && !part.contains(char::is_control))
}

/// What to write instead of a value that a fact cannot be expected to be.
const ELSE: &str =
    "for anything else write { test = \"...\" }; what a list holds is a table of its own, with must, never and may";

#[cfg(test)]
mod tests {
    use fencepost_core::{Diagnostic, RuleSet};
    use jiff::Timestamp;

    use crate::workspace::{FileText, load_workspace};

    fn compile(baselines: &[&str]) -> (Option<RuleSet>, Vec<Diagnostic>, Vec<FileText>) {
        let named =
            |(at, text): (usize, &&str)| FileText { path: format!("baselines/{at}.toml"), text: (*text).to_owned() };
        let workspace = load_workspace(baselines.iter().enumerate().map(named).collect());
        let (set, meaning) = RuleSet::compile(&workspace.rules, &workspace.dictionary, &[]);
        let mut mistakes = workspace.mistakes;
        mistakes.extend(meaning);
        (set, mistakes, workspace.files)
    }

    /// Every rule as its id, grace, stage and condition.
    #[track_caller]
    fn rules(baselines: &[&str]) -> Vec<String> {
        let (set, mistakes, _) = compile(baselines);
        let set = set.unwrap_or_else(|| panic!("{mistakes:?}"));
        let stage = |rule: &fencepost_core::Rule| rule.stage(Timestamp::UNIX_EPOCH).as_str();
        set.rules()
            .iter()
            .map(|rule| format!("{} {} {}: {}", rule.id, rule.grace, stage(rule), rule.require()))
            .collect()
    }

    /// Every mistake as its code and the text at its place.
    fn mistakes(baselines: &[&str]) -> Vec<String> {
        let (_, mistakes, files) = compile(baselines);
        let at = |mistake: &Diagnostic| {
            let span = mistake.span.as_ref()?;
            Some(files[span.file.0 as usize].text[span.range.clone()].to_owned())
        };
        mistakes.iter().map(|mistake| format!("{} {}", mistake.code, at(mistake).unwrap_or_default())).collect()
    }

    const COMMON: &str = r#"
id = "common"
covers = 'platform = "linux"'
grace = "2d"

[expect]
"sshd.root-login" = "no \"never\""
"log.days" = { test = ">= 30", grace = "5d" }
ntp = true

[software]
from = "software.name"
must = ["guardd"]
never = ["seed?pool*", { name = "hullplan", version = "< 4.2" }]
may = ["ebbnote"]
others = "note"

[[rule]]
id = "room"
require = 'disk.free > 2'
stage = "trial"
"#;

    #[test]
    fn every_expectation_and_entry_becomes_a_rule() {
        assert_eq!(
            rules(&[COMMON]),
            [
                r#"common/sshd.root-login 2d enforced: sshd.`root-login` = "no \"never\"""#,
                "common/log.days 5d enforced: log.days >= 30",
                "common/ntp 2d enforced: ntp = true",
                r#"common/software.guardd 2d enforced: some name in software.name satisfies name = "guardd""#,
                r#"common/software.seed?pool* 2d enforced: every name in software.name satisfies not(matches(name, "^seed.pool.*$"))"#,
                r#"common/software.hullplan 2d enforced: every item in software satisfies not(item.name = "hullplan" and item.version < version("4.2"))"#,
                "common/room 2d trial: disk.free > 2",
                r#"common/software 2d trial: every name in software.name satisfies (name = "guardd" or matches(name, "^seed.pool.*$") or name = "hullplan" or name = "ebbnote")"#,
            ]
        );
    }

    #[test]
    fn unary_tests_are_what_the_standard_says() {
        let tests = [
            (">= 30", ">= 30"),
            ("[1..5]", "in ([1..5])"),
            ("\\\"a\\\", \\\"b\\\"", "in (\"a\", \"b\")"),
            ("< 3, > 7", "in (< 3, > 7)"),
        ];
        for (test, condition) in tests {
            let text = format!("id = \"b\"\ngroups = [\"every-device\"]\n[expect]\nx = {{ test = \"{test}\" }}\n");
            assert_eq!(rules(&[&text]), [format!("b/x 0 enforced: x {condition}")]);
        }
        let text = "id = \"b\"\ngroups = [\"every-device\"]\n[expect]\nx = { test = 'not(1, 2)' }\n";
        assert_eq!(rules(&[text]), ["b/x 0 enforced: not(x in (1, 2))"]);
    }

    #[test]
    fn whoever_extends_changes_adds_and_drops_under_its_own_name_and_defaults() {
        let child = r#"
id = "ticket-server"
extends = ["common"]
covers = 'role = "ticket-server"'
grace = "1d"

[expect]
"log.days" = { test = ">= 60" }
ntp = { drop = true, because = "the ship's clock" }
extra = 8

[software]
must = [{ name = "guardd", drop = true, because = "none for it" }, "tillserver"]
never = ["ebbnote"]
others = "fail"

[[rule]]
id = "room"
require = 'disk.free > 9'
"#;
        let own: Vec<String> =
            rules(&[COMMON, child]).into_iter().filter(|rule| rule.starts_with("ticket-server")).collect();
        assert_eq!(
            own,
            [
                r#"ticket-server/sshd.root-login 1d enforced: sshd.`root-login` = "no \"never\"""#,
                "ticket-server/log.days 1d enforced: log.days >= 60",
                r#"ticket-server/software.seed?pool* 1d enforced: every name in software.name satisfies not(matches(name, "^seed.pool.*$"))"#,
                r#"ticket-server/software.hullplan 1d enforced: every item in software satisfies not(item.name = "hullplan" and item.version < version("4.2"))"#,
                r#"ticket-server/software.ebbnote 1d enforced: every name in software.name satisfies not(name = "ebbnote")"#,
                "ticket-server/room 1d enforced: disk.free > 9",
                "ticket-server/extra 1d enforced: extra = 8",
                r#"ticket-server/software.tillserver 1d enforced: some name in software.name satisfies name = "tillserver""#,
                r#"ticket-server/software 1d enforced: every name in software.name satisfies (matches(name, "^seed.pool.*$") or name = "hullplan" or name = "ebbnote" or name = "tillserver")"#,
            ]
        );
        // The other way round it is the same.
        let turned = rules(&[child, COMMON]);
        assert_eq!(turned.iter().filter(|rule| rule.starts_with("ticket-server")).count(), own.len());
    }

    #[test]
    fn what_only_describes_others_covers_nobody_and_a_diamond_is_no_conflict() {
        let top = "id = \"top\"\n[expect]\na = 1\n";
        let side = |id: &str| format!("id = \"{id}\"\nextends = [\"top\"]\n[expect]\n{id} = 1\n");
        let bottom = "id = \"bottom\"\nextends = [\"left\", \"right\"]\ngroups = [\"every-device\"]\n";
        let (left, right) = (side("left"), side("right"));
        assert_eq!(
            rules(&[top, &left, &right, bottom]),
            ["bottom/a", "bottom/left", "bottom/right"].map(|id| format!("{id} 0 enforced: {} = 1", &id[7..]))
        );
        // What two of them say differently has to be decided.
        let other = "id = \"right\"\nextends = [\"top\"]\n[expect]\na = 2\n";
        assert_eq!(mistakes(&[top, &left, other, bottom]), ["inherited-twice \"bottom\""]);
        let decided =
            "id = \"bottom\"\nextends = [\"left\", \"right\"]\ngroups = [\"every-device\"]\n[expect]\na = 3\n";
        assert!(mistakes(&[top, &left, other, decided]).is_empty());
    }

    #[test]
    fn mistakes_are_told_where_they_are() {
        let b = |more: &str| format!("id = \"b\"\ngroups = [\"every-device\"]\n{more}\n");
        for (text, expected) in [
            ("id = \"b\"\n[expect]\na = 1\n".to_owned(), vec!["scope-for-nobody \"b\""]),
            (b("extends = [\"nobody\"]"), vec!["unknown-baseline \"nobody\""]),
            (b("extends = [\"b\"]"), vec!["baseline-cycle \"b\""]),
            (b("expct = 1"), vec!["unknown-key expct"]),
            (b("[expect]\na = { drop = true, because = \"x\" }"), vec!["nothing-to-drop a"]),
            (b("[expect]\na = { drop = true }"), vec!["drop-without-reason { drop = true }"]),
            (b("[expect]\na = { value = 1, test = \"> 1\" }"), vec!["incomplete { value = 1, test = \"> 1\" }"]),
            (b("[expect]\na = [1]"), vec!["wrong-type [1]"]),
            (b("[expect]\na = { test = \">= \" }"), vec!["syntax "]),
            (b("[software]\nmust = [\"x\"]\nnever = [\"x\"]"), vec!["said-twice \"x\""]),
            (b("[software]\nmust = [{ name = \"x\", version = \"< 4\" }]"), vec!["no-version < 4"]),
            (
                b("[software]\nfrom = \"software.name\"\nmust = [{ name = \"x\", version = \"new\" }]"),
                vec!["bad-version-test new"],
            ),
            (b("[software]\nothers = \"maybe\""), vec!["bad-word \"maybe\""]),
        ] {
            let found = mistakes(&[&text]);
            assert_eq!(found, expected, "{text}");
        }
        // A mistake in whom it covers is told once, however much it expects.
        let text = "id = \"b\"\ncovers = 'platform ='\n[expect]\na = 1\nb = 2\n";
        assert_eq!(mistakes(&[text]).len(), 1);
        // What is inherited from another file is told where it belongs: the list in the one, the entry in the other.
        let parent = "# a longer file\n# than the other\nid = \"p\"\n[software]\nfrom = \"software.name\"\n";
        let child = "id = \"c\"\nextends = [\"p\"]\ngroups = [\"every-device\"]\n[software]\nnever = [{ name = \"x\", version = \"~ 4\" }]\n";
        assert_eq!(mistakes(&[parent, child]), ["bad-version-test ~ 4"]);
        // The caret stands in the test, and not somewhere beside it.
        let text = b("[expect]\na = { test = \">= dayz(3)\" }");
        assert_eq!(mistakes(&[&text]), ["unknown-function dayz"]);
    }
}
