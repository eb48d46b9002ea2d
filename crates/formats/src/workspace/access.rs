//! `access.toml`: services, and the rules about who reaches them.

use fencepost_core::{AccessSource, Effect, Otherwise, RuleSetSource, ServiceSource, SignIn, Stage};
use jiff::tz::TimeZone;

use super::rules::stages;
use super::shape::{KeyKind, TableKey, TableShape, words};
use super::table::{Table, TableReader};
use crate::template::{TextKind, check_template};

pub(super) static FILE: TableShape = TableShape::new(
    "access.toml",
    &[&[
        TableKey::new("service", KeyKind::Tables(&SERVICE), "Something people reach with a device."),
        TableKey::new(
            "access",
            KeyKind::Tables(&ACCESS),
            "Who may reach services with which device, and under which conditions.",
        ),
    ]],
);
static SERVICE: TableShape = TableShape::new(
    "[[service]]",
    &[&[
        TableKey::new("id", KeyKind::Id, "What access rules and reports call it."),
        TableKey::new("title", KeyKind::Text, "What people call it."),
        TableKey::new("default", KeyKind::Word(|| words(&DEFAULTS)), "What holds where no access rule applies."),
        TableKey::new("usual", KeyKind::Tables(&USUAL), "How people reach it; each way is decided by itself."),
    ]],
)
.needs(&[&["id"], &["default"], &["usual"]]);
static USUAL: TableShape = TableShape::new(
    "a usual sign-in",
    &[&[
        TableKey::new("client", KeyKind::Text, "The kind of client, such as app or browser."),
        TableKey::new("id", KeyKind::Text, "What reports call it: the client, where nothing else is said."),
        TableKey::new("address", KeyKind::Text, "Where it comes from; not known, where it is left out."),
        TableKey::new("platform", KeyKind::Text, "The platform that it tells: the device's, where it is left out."),
        TableKey::new("known", KeyKind::Boolean, "Whether it is one of our devices: it is, where it is left out."),
        TableKey::new(
            "registered",
            KeyKind::Boolean,
            "Whether the device has an id of ours: it has, where it is left out.",
        ),
        TableKey::new("managed", KeyKind::Boolean, "Whether the device is managed: as it is, where it is left out."),
    ]],
)
.needs(&[&["client"]]);
static ACCESS: TableShape = TableShape::new(
    "[[access]]",
    &[&[
        TableKey::new("id", KeyKind::Id, "What reports call it."),
        TableKey::new("services", KeyKind::Names, "The services it is about."),
        TableKey::new("stage", KeyKind::Word(stages), "How far it is in force: enforced, where nothing else is said."),
        TableKey::new("enforced_from", KeyKind::Moment, "From when on it is enforced; it is on trial until then."),
        TableKey::new(
            "people",
            KeyKind::Names,
            "Groups or units of people whom it is about; everybody, where it is left out.",
        ),
        TableKey::new("except", KeyKind::Names, "People, or groups of them, whom it is not about."),
        TableKey::new("when", KeyKind::Condition, "It applies only where this holds."),
        TableKey::new("unless", KeyKind::Condition, "It does not apply where this holds."),
        TableKey::new("needs", KeyKind::Condition, "What has to hold for the way to be open."),
        TableKey::new(
            "otherwise",
            KeyKind::Or(&KeyKind::Word(|| vec!["deny"]), &OTHERWISE),
            "What happens where it does not hold: \"deny\", or obligations under which the way stays open.",
        ),
        TableKey::new(
            "terms",
            KeyKind::Text,
            "The terms that the person must have accepted on the device, of terms.toml.",
        ),
        TableKey::new("tell", KeyKind::Text, "What a person is told who is stopped by it."),
    ]],
)
.needs(&[&["id"], &["services"], &["needs"]]);
static OTHERWISE: TableShape = TableShape::new(
    "`otherwise`",
    &[&[
        TableKey::new("limits", KeyKind::Names, "What is not possible then, such as \"no download\"."),
        TableKey::new("step_up", KeyKind::Boolean, "Whether a stronger sign-in is asked for."),
    ]],
)
.needs(&[&["limits", "step_up"]]);

const DEFAULTS: [(&str, Effect); 2] = [("permit", Effect::Permit), ("deny", Effect::Deny)];

pub(super) fn read(reader: &mut TableReader<'_>, root: &Table<'_>, zone: &TimeZone, into: &mut RuleSetSource) {
    for table in reader.tables(root, "service") {
        if let Some(service) = service(reader, &table) {
            into.services.push(service);
        }
    }
    for table in reader.tables(root, "access") {
        let Some(id) = reader.id(&table, "an [[access]]") else { continue };
        into.access.push(AccessSource {
            id,
            services: reader.names(&table, "services"),
            stage: reader
                .word(&table, "stage", &Stage::ALL.map(|stage| (stage.as_str(), stage)))
                .unwrap_or(Stage::Enforced),
            // A day begins with the day.
            enforced_from: reader.moment(&table, "enforced_from", zone).map(|(start, _)| start),
            people: reader.names(&table, "people"),
            except: reader.names(&table, "except"),
            when: reader.text(&table, "when"),
            unless: reader.text(&table, "unless"),
            needs: reader.text(&table, "needs"),
            otherwise: otherwise(reader, &table),
            terms: reader.named(&table, "terms"),
            tell: tell(reader, &table),
        });
    }
}

/// What a person is told: a text with names that are filled in.
fn tell(reader: &mut TableReader<'_>, table: &Table<'_>) -> Option<String> {
    let text = reader.string(table, "tell")?;
    if let (Err(wrong), Some(value)) = (check_template(&text, TextKind::Stopped), table.get("tell")) {
        let names = TextKind::Stopped.names().join(", ");
        let help = format!("a text fills in {names}: {{{{ device.model }}}}, {{{{ findings }}}}");
        reader.error("bad-template", format!("the text cannot be filled in: {}", wrong.message), value.span(), help);
    }
    Some(text)
}

fn service(reader: &mut TableReader<'_>, table: &Table<'_>) -> Option<ServiceSource> {
    let id = reader.id(table, "a [[service]]")?;
    let default = reader.word(table, "default", &DEFAULTS);
    if default.is_none() && table.get("default").is_none() {
        let span = id.span.clone().map_or(table.heading(), |span| span.range);
        reader.error(
            "no-default",
            format!("service `{}` has no `default`", id.text),
            span,
            "say what holds when no access rule applies: default = \"deny\" or \"permit\"",
        );
    }
    let mut usual = Vec::new();
    if table.get("usual").is_some() {
        for kind in reader.tables(table, "usual") {
            usual.extend(sign_in(reader, &kind));
        }
        doubled_sign_ins(reader, table, &usual);
    }
    if usual.is_empty() {
        let span = table
            .get("usual")
            .map_or_else(|| id.span.clone().map_or(table.heading(), |span| span.range), |usual| usual.span());
        reader.error(
            "no-usual",
            format!("service `{}` has no usual sign-in", id.text),
            span,
            "say how people reach it: usual = [{ client = \"app\" }, { client = \"browser\" }]",
        );
    }
    Some(ServiceSource { id, title: reader.string(table, "title"), default: default.unwrap_or(Effect::Deny), usual })
}

fn sign_in(reader: &mut TableReader<'_>, table: &Table<'_>) -> Option<SignIn> {
    let client = reader.string(table, "client")?;
    Some(SignIn {
        id: reader.string(table, "id").unwrap_or_else(|| client.clone()),
        address: reader.string(table, "address"),
        platform: reader.string(table, "platform"),
        time: None,
        known: reader.boolean(table, "known"),
        registered: reader.boolean(table, "registered"),
        managed: reader.boolean(table, "managed"),
        client,
    })
}

fn doubled_sign_ins(reader: &mut TableReader<'_>, table: &Table<'_>, usual: &[SignIn]) {
    let doubled = usual.iter().enumerate().find(|(at, one)| usual[..*at].iter().any(|other| other.id == one.id));
    if let (Some((_, one)), Some(value)) = (doubled, table.get("usual")) {
        reader.error(
            "doubled-id",
            format!("two usual sign-ins are called `{}`", one.id),
            value.span(),
            "give one of them an `id` of its own: { id = \"kiosk\", client = \"app\" }",
        );
    }
}

fn otherwise(reader: &mut TableReader<'_>, table: &Table<'_>) -> Otherwise {
    let Some(value) = table.get("otherwise") else { return Otherwise::default() };
    match reader.inner(table, "otherwise", value) {
        Some(obligations) => {
            let limits = reader.strings(&obligations, "limits");
            let step_up = reader.boolean(&obligations, "step_up").unwrap_or(false);
            if limits.is_empty() && !step_up {
                reader.error(
                    "no-obligation",
                    "this permits without any obligation",
                    value.span(),
                    "write { limits = [\"no download\"] }, { step_up = true } or \"deny\"",
                );
            }
            Otherwise { permit: true, limits, step_up }
        }
        None => {
            reader.word(table, "otherwise", &[("deny", ())]);
            Otherwise::default()
        }
    }
}
