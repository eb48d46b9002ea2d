//! Goes through the devices as they are at the moment of reading, with everybody's usual sign-ins.

use bumpalo::Bump;
use fencepost_core::Observation;

use crate::assess::decisions::{UsualDecision, UsualSignIns};
use crate::assess::outlook::{DeviceAt, Outlook};
use crate::error::EngineError;
use crate::facts::judge::Judge;
use crate::ledger_view::batch::DEVICES;
use crate::ledger_view::codec;
use crate::ledger_view::reading::Reading;

/// Called for each device.
pub(crate) type EachDevice<'e> = &'e mut dyn for<'a> FnMut(&DeviceAt<'a>, &'a Bump) -> Result<(), EngineError>;

impl Reading<'_> {
    /// Goes through all devices that are not retired, by name, as an assessment at the moment of reading by the judge's rules would
    /// find them if nothing came in until then.
    pub(crate) fn each_device_at(&self, judge: &Judge<'_>, each: EachDevice<'_>) -> Result<(), EngineError> {
        let mut last = String::new();
        loop {
            let devices = self.reader.devices_after(&last, DEVICES)?;
            let Some(end) = devices.last() else { return Ok(()) };
            last.clone_from(&end.name);
            for device in &devices {
                let (documents, arena) = (self.assessed_documents(&device.name)?, Bump::new());
                let observations: Vec<Observation<'_>> =
                    judge.observations(&device.name, &documents, judge.project.rules.layout(), &arena)?;
                let findings = codec::findings_of(&self.reader, self.project, device, self.run)?;
                let outlook = Outlook { judge, device: &device.name, observations: &observations, findings: &findings };
                if let Some(found) = outlook.device_at(self.at, &arena) {
                    each(&found, &arena)?;
                }
            }
        }
    }
}

impl<'a> DeviceAt<'a> {
    /// Decides everybody's usual sign-ins with it, and says what became, or would become, of every access rule.
    pub(crate) fn explained_sign_ins(&self, arena: &'a Bump) -> Vec<UsualDecision<'a>> {
        let running = self.running();
        UsualSignIns::new(self.judge, self.judged, self.posture(&running), arena).decide_and_explain()
    }
}
