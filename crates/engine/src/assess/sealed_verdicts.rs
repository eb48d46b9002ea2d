//! Verdicts that were worked out elsewhere, by `assess --state FILE --all`, and are brought to the ledger. Each carries a seal;
//! only where the ledger comes to the same seal from what it knows itself are they taken.

use std::collections::HashMap;
use std::io::Read;

use fencepost_core::limits::{self, RECORD_BYTES};
use fencepost_core::{Reason, Verdict, VerdictOutcome, Verdicts};
use fencepost_formats::{Chunk, Chunks, SecretKey};
use jiff::Timestamp;
use serde_json::Value as Json;

use crate::assess::inputs::{Inputs, JudgedState};
use crate::assess::stateless::RefusedLine;
use crate::error::EngineError;
use crate::ledger_view::outcome::{code_of, verdict_of};
use crate::workspace::project::Project;

/// The verdicts of devices as they were worked out elsewhere.
#[derive(Debug)]
pub struct SealedVerdicts {
    key: SecretKey,
    /// The rules that are neither a draft nor of a set, by their place in the rule set.
    rules: Vec<usize>,
    devices: HashMap<String, SealedLine>,
}

/// What a line says of a device.
#[derive(Debug)]
struct SealedLine {
    as_of: Timestamp,
    until: Option<Timestamp>,
    seal: String,
    /// A code for the verdict of each rule that is neither a draft nor of a set.
    codes: Vec<u8>,
}

impl SealedVerdicts {
    /// Reads verdicts, a line of JSON for each device. The last line of a device counts. Also returns the lines that were refused;
    /// nothing is taken of them.
    ///
    /// # Errors
    /// When the input cannot be read.
    pub fn read(project: &Project, input: impl Read) -> Result<(Self, Vec<RefusedLine>), EngineError> {
        let all = project.rules.rules().iter().enumerate();
        let rules: Vec<usize> =
            all.filter(|(_, rule)| !rule.is_draft() && rule.compared_set().is_none()).map(|(at, _)| at).collect();
        let mut taken = Self { key: project.key_for_reading()?, rules, devices: HashMap::new() };
        let (mut refused, mut chunks, mut chunk, mut before) = (Vec::new(), Chunks::new(input), Chunk::default(), 0);
        let failed = |error| EngineError::File { act: "read", path: "the verdicts".into(), error };
        while chunks.read_into(&mut chunk).map_err(failed)? {
            let mut lines = chunk.lines();
            while let Some(line) = lines.next_line() {
                let added = match line.content {
                    Some(content) => taken.add(project, content.bytes()),
                    None => Err(format!("the line is longer than {}", limits::size(RECORD_BYTES as u64))),
                };
                if let Err(reason) = added {
                    refused.push(RefusedLine { line: before + line.number, offset: line.offset, reason });
                }
            }
            before += lines.passed();
        }
        Ok((taken, refused))
    }

    fn add(&mut self, project: &Project, line: &[u8]) -> Result<(), String> {
        let json: Json = serde_json::from_slice(line)
            .map_err(|error| format!("this is no JSON, from byte {} of the line on", error.column()))?;
        let text = |key: &str| json[key].as_str().ok_or_else(|| format!("`{key}` is missing"));
        let moment = |key: &str| {
            text(key)?.parse::<Timestamp>().map_err(|_| format!("`{key}` is no moment such as 2027-03-14T06:00:00Z"))
        };
        if json["seal"].is_null() {
            return Err(
                "it has no `seal`; verdicts to be taken over are made with --all, in a workspace that has its key"
                    .to_owned(),
            );
        }
        let until = if json["until"].is_null() { None } else { Some(moment("until")?) };
        let verdicts = json["verdicts"].as_array().ok_or("`verdicts` is missing")?;
        let named = |(at, json): (&usize, &Json)| json["rule"].as_str() == Some(project.rules.rules()[*at].id.as_str());
        if verdicts.len() != self.rules.len() || !self.rules.iter().zip(verdicts).all(named) {
            return Err("its rules are not those of this workspace".to_owned());
        }
        let codes: Option<Vec<u8>> = self.rules.iter().zip(verdicts).map(|(at, json)| code(*at, json)).collect();
        let codes = codes.ok_or("it has a verdict that there is not")?;
        let line = SealedLine { as_of: moment("as_of")?, until, seal: text("seal")?.to_owned(), codes };
        self.devices.insert(text("device")?.to_owned(), line);
        Ok(())
    }

    /// Returns the verdicts of a device and until when they hold, if they are those that would be worked out here.
    pub(crate) fn of(&self, inputs: &Inputs, state: &JudgedState<'_, '_>) -> Option<(Verdicts, Option<Timestamp>)> {
        let SealedLine { as_of, until, seal, codes } = self.devices.get(state.judged.input.id)?;
        let at = state.judge.at;
        let holds = at == *as_of || at > *as_of && until.is_none_or(|until| at < until);
        if !holds || inputs.seal(&self.key, state, (*as_of, *until), codes) != *seal {
            return None;
        }
        let all = self.rules.iter().zip(codes).map(|(rule, code)| verdict_of(*rule, *code)).collect();
        Some((Verdicts { all }, *until))
    }
}

/// Returns the code of a verdict as a line has it.
fn code(rule: usize, json: &Json) -> Option<u8> {
    let outcome = match json["outcome"].as_str()? {
        "pass" => VerdictOutcome::Pass,
        "fail" => VerdictOutcome::Fail,
        "not-applicable" => VerdictOutcome::NotApplicable,
        "unknown" => VerdictOutcome::Unknown(Reason::parse(json["reason"].as_str()?)?),
        _ => return None,
    };
    let is = |key: &str| json[key].as_bool().unwrap_or(false);
    let (vacuous, excepted, awaiting) = (is("nothing_to_check"), is("excepted"), is("awaiting"));
    Some(code_of(&Verdict { rule, outcome, vacuous, excepted, awaiting, waived: false }))
}
