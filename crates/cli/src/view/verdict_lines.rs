//! Verdicts as JSON Lines, the same bytes as [`json::device_verdicts`] gives, put together from pieces that are made once.

use std::io::Write as _;

use fencepost_core::{Rule, VerdictOutcome};
use fencepost_engine::{DeviceVerdicts, RuleJudgement};
use jiff::Timestamp;

use super::json;

pub struct VerdictLines<'r> {
    rules: &'r [Rule],
    at: Timestamp,
    /// What stands before the device's id, and between it and the moment of collection.
    around: [String; 2],
    /// Of each rule its verdict when it passes, fails and does not apply.
    ready: Vec<[String; 3]>,
}

impl<'r> VerdictLines<'r> {
    pub fn new(rules: &'r [Rule], at: Timestamp) -> Self {
        let plain = |rule: usize, outcome| {
            let judgement = RuleJudgement {
                rule,
                outcome,
                vacuous: false,
                excepted: false,
                awaiting: false,
                blames: Vec::new(),
                evidence: None,
            };
            json::judgement(&judgement, &rules[rule], at).to_string()
        };
        let outcomes = [VerdictOutcome::Pass, VerdictOutcome::Fail, VerdictOutcome::NotApplicable];
        let ready = (0..rules.len()).map(|rule| outcomes.map(|outcome| plain(rule, outcome))).collect();
        let around =
            [format!("{{\"schema\":{},\"device\":", json::SCHEMA), format!(",\"as_of\":\"{at}\",\"collected_at\":")];
        Self { rules, at, around, ready }
    }

    /// Adds a device's line.
    pub fn write(&self, device: &DeviceVerdicts, out: &mut Vec<u8>) {
        // Nothing that is written to memory fails.
        let _ = self.try_write(device, out);
    }

    fn try_write(&self, device: &DeviceVerdicts, out: &mut Vec<u8>) -> std::io::Result<()> {
        out.extend_from_slice(self.around[0].as_bytes());
        serde_json::to_writer(&mut *out, &device.device)?;
        out.extend_from_slice(self.around[1].as_bytes());
        match device.collected {
            Some(moment) => write!(out, "\"{moment}\"")?,
            None => out.extend_from_slice(b"null"),
        }
        out.extend_from_slice(b",\"standing\":\"");
        out.extend_from_slice(device.standing.as_str().as_bytes());
        out.extend_from_slice(b"\",\"counts\":{\"");
        let names = ["pass\":", ",\"fail\":", ",\"unknown\":", ",\"not_applicable\":", ",\"trial\":"];
        for (name, count) in names.into_iter().zip(device.counts) {
            out.extend_from_slice(name.as_bytes());
            serde_json::to_writer(&mut *out, &count)?;
        }
        out.extend_from_slice(b"},\"verdicts\":[");
        for (at, judgement) in device.verdicts.iter().enumerate() {
            if at > 0 {
                out.push(b',');
            }
            let [passes, fails, spared] = &self.ready[judgement.rule];
            let ready = match judgement.outcome {
                _ if judgement.evidence.is_some() => None,
                _ if judgement.vacuous || judgement.excepted || judgement.awaiting => None,
                VerdictOutcome::Pass => Some(passes),
                VerdictOutcome::Fail => Some(fails),
                VerdictOutcome::NotApplicable => Some(spared),
                VerdictOutcome::Unknown(_) => None,
            };
            match ready {
                Some(text) => out.extend_from_slice(text.as_bytes()),
                None => {
                    serde_json::to_writer(&mut *out, &json::judgement(judgement, &self.rules[judgement.rule], self.at))?
                }
            }
        }
        out.push(b']');
        if let Some(sealed) = &device.sealed {
            out.extend_from_slice(b",\"until\":");
            serde_json::to_writer(&mut *out, &json::until(sealed))?;
            write!(out, ",\"seal\":\"{}\"", sealed.seal)?;
        }
        out.extend_from_slice(b"}\n");
        Ok(())
    }
}
