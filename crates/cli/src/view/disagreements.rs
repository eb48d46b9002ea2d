//! The lines that would settle what feeds do not agree on, as they stand in workspace files.

use fencepost_engine::{DisagreementFix, Statement};
use fencepost_formats::toml_string;
use serde_json::Value as Json;

use super::text::{count, harmless};

/// So many corrections are written in full.
const CORRECTIONS_SHOWN: usize = 20;

/// Returns lines of TOML, each with a comment that says why and where they go.
pub fn fixes_in_toml(fixes: &[DisagreementFix]) -> String {
    if fixes.is_empty() {
        return "# The feeds agree.\n".to_owned();
    }
    let is_correction =
        |fix: &&DisagreementFix| matches!(fix, DisagreementFix::Correction { .. } | DisagreementFix::Holder { .. });
    let mut parts: Vec<String> = fixes.iter().filter(|fix| !is_correction(fix)).map(lines_of).collect();
    let corrections: Vec<&DisagreementFix> = fixes.iter().filter(is_correction).collect();
    if !corrections.is_empty() {
        parts.push(
            "# In corrections.toml, what of it is right, with who says so, why and until which day:\n".to_owned(),
        );
    }
    parts.extend(corrections.iter().take(CORRECTIONS_SHOWN).map(|fix| lines_of(fix)));
    if let more @ 1.. = corrections.len().saturating_sub(CORRECTIONS_SHOWN) {
        let more = count(more as u64, "more correction", "more corrections");
        parts.push(format!("# And {more}; all disagreements: fencepost list disagreements\n"));
    }
    parts.join("\n")
}

fn lines_of(fix: &DisagreementFix) -> String {
    match fix {
        DisagreementFix::UniformIds { source, field, case, domain, devices } => {
            let ids = count(*devices, "id of", "ids of");
            let mut keys = vec![format!("field = {}", toml_string(field))];
            if *case {
                keys.push("case = \"lower\"".to_owned());
            }
            if *domain {
                keys.push("before = \".\"".to_owned());
            }
            let keys = keys.join(", ");
            format!(
                "# {ids} `{source}` another feed spells otherwise. In its [[source]] in fencepost.toml:\ndevice = {{ {keys} }}\n"
            )
        }
        DisagreementFix::SameLetters { source, field, fact, devices } => {
            let devices = count(*devices, "device", "devices");
            format!(
                "# {} of `{source}` differs in its letters alone, on {devices}. Below its [source.fields] in fencepost.toml:\n\
                 {} = {{ fact = {}, case = \"lower\" }}\n",
                harmless(fact),
                toml_string(field),
                toml_string(fact)
            )
        }
        DisagreementFix::SameWords { source, field, fact, words, devices } => {
            let devices = count(*devices, "device", "devices");
            let words: Vec<String> =
                words.iter().map(|(word, other)| format!("{} = {}", toml_string(word), toml_string(other))).collect();
            format!(
                "# `{source}` has other words for {}, on {devices}. Below its [source.fields] in fencepost.toml:\n\
                 {} = {{ fact = {}, values = {{ {} }} }}\n",
                harmless(fact),
                toml_string(field),
                toml_string(fact),
                words.join(", ")
            )
        }
        DisagreementFix::Correction { device, fact, value, others } => {
            let others: Vec<String> = others.iter().map(said).collect();
            let because = format!("it counts now; {}", others.join(", "));
            correction(device, fact, &toml_value(value), &because)
        }
        DisagreementFix::Holder { device, fact, holder, near } => match near {
            Some(near) => correction(
                device,
                fact,
                &toml_string(near),
                &format!("the feed says {}, and the list of people has it so", toml_string(holder)),
            ),
            None => correction(
                device,
                fact,
                "\"..\"",
                &format!("no list of people has {}: correct it, or add the person to the list", toml_string(holder)),
            ),
        },
    }
}

fn said(said: &Statement) -> String {
    // It stands in a comment, which a line break would end.
    let value = match &said.value {
        Json::String(text) => toml_string(text),
        other => harmless(&other.to_string()),
    };
    format!("{} says {value}", said.source.as_deref().unwrap_or("a correction"))
}

/// An entry of corrections.toml, with what has to be said by a person left open.
fn correction(device: &str, fact: &str, value: &str, because: &str) -> String {
    format!(
        "[[correction]]\ndevice  = {}\nfact    = {}\nvalue   = {value}  # {because}\n\
         because = \"..\"\nby      = \"..\"\nuntil   = ..  # a day\n",
        toml_string(device),
        toml_string(fact)
    )
}

/// A value as TOML writes it; of what TOML has no value for, a place to fill in.
fn toml_value(value: &Json) -> String {
    match value {
        Json::String(text) => toml_string(text),
        Json::Bool(_) | Json::Number(_) => value.to_string(),
        Json::Null | Json::Array(_) | Json::Object(_) => "\"..\"".to_owned(),
    }
}
