//! Holds what a saved preview foresaw against what the latest assessment came to.

use std::collections::{BTreeMap, BTreeSet};

use fencepost_store::SpellKind;
use serde_json::Value as Json;

use super::access_flips::SignInId;
use crate::error::EngineError;
use crate::ledger_view::codec::DecisionKey;
use crate::ledger_view::reading::Reading;

/// What is compared: how a device stands, or how a sign-in with it is decided.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
struct ChangeKey {
    device: String,
    /// None for the standing.
    sign_in: Option<SignInId>,
}

/// Something that came otherwise than was foreseen.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SavedDifference {
    /// The device.
    pub device: String,
    /// The sign-in; none for how the device stands.
    pub sign_in: Option<SignInId>,
    /// What was foreseen, in words.
    pub foreseen: Option<String>,
    /// What came.
    pub came: Option<String>,
}

impl SavedDifference {
    /// Returns which of the device's properties it is about.
    pub fn subject(&self) -> String {
        match &self.sign_in {
            None => "standing".to_owned(),
            Some(sign_in) => {
                let person = sign_in.person.as_deref().unwrap_or("nobody");
                format!("{person}, {} ({})", sign_in.service, sign_in.client)
            }
        }
    }

    /// Returns what it is about, with the device.
    pub fn what(&self) -> String {
        format!("{}, {}", self.device, self.subject())
    }
}

/// How a saved preview and the latest assessment compare.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SavedComparison {
    /// The assessment's number.
    pub assessment: Option<u64>,
    /// How many standings and decisions changed as was foreseen.
    pub as_foreseen: u64,
    /// What was foreseen to change, and came otherwise.
    pub otherwise: Vec<SavedDifference>,
    /// What changed since the assessment that the preview was made against, though it was not foreseen to.
    pub not_foreseen: Vec<SavedDifference>,
}

/// Compares what `saved`, a preview as JSON, foresaw with the reading's assessment.
///
/// # Errors
/// When the ledger cannot be read, `saved` is no preview, or nothing was assessed after it was made.
pub fn compare_with_saved(reading: &Reading<'_>, saved: &Json) -> Result<SavedComparison, EngineError> {
    let refused = |what: &str, help: &str| EngineError::refused(what, help);
    let foreseen = foreseen(saved)
        .ok_or_else(|| refused("the file is no saved preview", "it is written by: fencepost preview --save FILE"))?;
    let against = saved["against"].as_i64();
    let base = reader_run(reading, against)?;
    let latest = reading.assessment.as_ref();
    let (Some(base), Some(latest)) = (base, latest.filter(|latest| latest.number > against)) else {
        return Err(refused("nothing was assessed after the preview", "run: fencepost assess"));
    };
    let (before, after) = (state(reading, Some(base))?, state(reading, Some(latest.id))?);
    let keys: BTreeSet<&ChangeKey> = before.keys().chain(after.keys()).chain(foreseen.keys()).collect();
    let mut found = SavedComparison {
        assessment: latest.number.and_then(|number| u64::try_from(number).ok()),
        as_foreseen: 0,
        otherwise: Vec::new(),
        not_foreseen: Vec::new(),
    };
    for key in keys {
        let (was, came) = (before.get(key), after.get(key));
        let expected = foreseen.get(key).map_or(was, Option::as_ref);
        if expected == came {
            found.as_foreseen += u64::from(foreseen.contains_key(key));
            continue;
        }
        let difference = SavedDifference {
            device: key.device.clone(),
            sign_in: key.sign_in.clone(),
            foreseen: expected.cloned(),
            came: came.cloned(),
        };
        let list = if foreseen.contains_key(key) { &mut found.otherwise } else { &mut found.not_foreseen };
        list.push(difference);
    }
    Ok(found)
}

/// Returns what a saved preview says will be, of everything that it says will change.
fn foreseen(saved: &Json) -> Option<BTreeMap<ChangeKey, Option<String>>> {
    let text = |value: &Json, key: &str| value[key].as_str().map(str::to_owned);
    let mut foreseen = BTreeMap::new();
    for flip in saved["standings"].as_array()? {
        foreseen.insert(ChangeKey { device: text(flip, "device")?, sign_in: None }, text(flip, "after"));
    }
    for flip in saved["decisions"].as_array()? {
        let sign_in = SignInId {
            device: text(flip, "device")?,
            person: text(flip, "person"),
            service: text(flip, "service")?,
            client: text(flip, "client")?,
        };
        let after = &flip["after"];
        let decision = after["decision"].as_str().map(|decision| {
            let obligations = after["obligations"].as_array().into_iter().flatten().filter_map(Json::as_str);
            let obligations: Vec<&str> = obligations.collect();
            if obligations.is_empty() {
                decision.to_owned()
            } else {
                format!("{decision} with {}", obligations.join(", "))
            }
        });
        foreseen.insert(ChangeKey { device: sign_in.device.clone(), sign_in: Some(sign_in) }, decision);
    }
    Some(foreseen)
}

fn reader_run(reading: &Reading<'_>, number: Option<i64>) -> Result<Option<i64>, EngineError> {
    let runs = reading.reader.assessments(None, u32::MAX)?;
    Ok(runs.into_iter().find(|run| run.number == number).map(|run| run.id))
}

/// Returns how devices stood and sign-ins were decided as of a run, in words.
fn state(reading: &Reading<'_>, run: Option<i64>) -> Result<BTreeMap<ChangeKey, String>, EngineError> {
    let mut state = BTreeMap::new();
    for spell in reading.reader.spells(SpellKind::Standing, None, run)? {
        state.insert(ChangeKey { device: spell.device, sign_in: None }, spell.value);
    }
    reading.reader.each_spell(SpellKind::Decision, run, |row| {
        if let Some(DecisionKey { person, service, client }) = DecisionKey::read(&row.subject) {
            let sign_in = SignInId { device: row.device.clone(), person, service, client };
            state.insert(ChangeKey { device: row.device, sign_in: Some(sign_in) }, row.value);
        }
        Ok::<_, EngineError>(())
    })?;
    Ok(state)
}
