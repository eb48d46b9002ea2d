//! `access.toml`: services, and the rules about who reaches them.

use fencepost_core::{AccessSource, Effect, Otherwise, RuleSetSource, ServiceSource, Stage};

use super::table::{Reader, Table};

const SERVICE_KEYS: [&str; 4] = ["id", "title", "default", "usual"];
const ACCESS_KEYS: [&str; 10] =
    ["id", "services", "stage", "people", "except", "when", "unless", "needs", "otherwise", "tell"];

pub(super) fn read(reader: &mut Reader<'_>, root: &Table<'_>, into: &mut RuleSetSource) {
    reader.known_keys(root, "access.toml", &["service", "access"]);
    for table in reader.tables(root, "service") {
        if let Some(service) = service(reader, &table) {
            into.services.push(service);
        }
    }
    for table in reader.tables(root, "access") {
        reader.known_keys(&table, "[[access]]", &ACCESS_KEYS);
        let Some(id) = reader.id(&table, "an [[access]]") else { continue };
        into.access.push(AccessSource {
            id,
            services: reader.names(&table, "services"),
            stage: reader
                .word(&table, "stage", &Stage::ALL.map(|stage| (stage.as_str(), stage)))
                .unwrap_or(Stage::Enforced),
            people: reader.names(&table, "people"),
            except: reader.names(&table, "except"),
            when: reader.text(&table, "when"),
            unless: reader.text(&table, "unless"),
            needs: reader.text(&table, "needs"),
            otherwise: otherwise(reader, &table),
            tell: reader.string(&table, "tell"),
        });
    }
}

fn service(reader: &mut Reader<'_>, table: &Table<'_>) -> Option<ServiceSource> {
    reader.known_keys(table, "[[service]]", &SERVICE_KEYS);
    let id = reader.id(table, "a [[service]]")?;
    let default = reader.word(table, "default", &[("permit", Effect::Permit), ("deny", Effect::Deny)]);
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
            reader.known_keys(&kind, "a usual sign-in", &["client"]);
            usual.extend(reader.string(&kind, "client"));
        }
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

fn otherwise(reader: &mut Reader<'_>, table: &Table<'_>) -> Otherwise {
    let Some(value) = table.get("otherwise") else { return Otherwise::default() };
    match Table::of(value) {
        Some(obligations) => {
            reader.known_keys(&obligations, "`otherwise`", &["limits", "step_up"]);
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
