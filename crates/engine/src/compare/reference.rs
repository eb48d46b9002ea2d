//! What the devices of a set are held against, with its state.

use fencepost_core::Datum;
use fencepost_core::drift::{Difference, ReferenceName, Snapshot};
use fencepost_store::DeviceRow;
use jiff::Timestamp;

use super::drift::SetPlan;
use super::load::{LoadedSet, PastDevice};
use crate::error::EngineError;
use crate::ledger_view::reading::Reading;

/// What devices are held against, with its state.
pub(super) enum HeldReference {
    Majority,
    /// One of the members, by its position.
    Member(usize),
    /// A device that is no member, as it is.
    Other(String, Snapshot),
    /// A device at a moment.
    State(Snapshot),
    /// The past of each member.
    Each(Vec<Option<Snapshot>>),
}

/// What has to be read besides the members for what they are held against.
#[derive(Default)]
pub(super) struct ReferenceStates {
    /// States at moments.
    pub past: Vec<PastDevice>,
    /// The device that they are held against, by its present name.
    pub device: Option<String>,
    /// The same, if it is none of the members.
    pub other: Option<DeviceRow>,
}

impl Reading<'_> {
    /// Returns what has to be read besides the members for what they are held against.
    pub(super) fn states_of_reference(&self, plan: &SetPlan<'_>) -> Result<ReferenceStates, EngineError> {
        let mut found = ReferenceStates::default();
        match plan.reference {
            ReferenceName::Majority | ReferenceName::Baseline(_) => {}
            ReferenceName::OwnPast(at) => {
                let past = plan.members.iter().map(|member| PastDevice { name: member.row.name.clone(), at: *at });
                found.past = past.collect();
            }
            ReferenceName::Device { device, at: Some(at) } => {
                let name = self.device_name(device)?;
                if self.documents_at(&name, *at)?.is_empty() {
                    return Err(self.no_state_at(&name, *at)?);
                }
                found.past.push(PastDevice { name: name.clone(), at: *at });
                found.device = Some(name);
            }
            ReferenceName::Device { device, at: None } => {
                let name = self.device_name(device)?;
                if plan.member(&name).is_none() {
                    let number = self.reader.device_number(&name)?;
                    let row = number.map(|number| DeviceRow { number, name: name.clone(), dirty: false });
                    let is_in_use = !self.documents(&name)?.is_empty();
                    let Some(row) = row.filter(|_| is_in_use) else {
                        return Err(EngineError::refused(
                            format!("`{}` is retired, and says nothing", name.escape_debug()),
                            "hold them against a device that is in use, or against a moment at which it was: device@2027-02-01",
                        ));
                    };
                    found.other = Some(row);
                }
                found.device = Some(name);
            }
        }
        Ok(found)
    }

    /// Says that nothing is known of a device at a moment, and what is.
    fn no_state_at(&self, device: &str, at: Timestamp) -> Result<EngineError, EngineError> {
        let first = self.reader.arrivals_of(device, self.run)?.iter().map(|(_, said)| said.collected()).min();
        let help = match first {
            Some(first) if first > at => format!("the first state of it that is known was collected at {first}"),
            _ => "it was retired by then".to_owned(),
        };
        Ok(EngineError::refused(format!("nothing is known of `{}` at {at}", device.escape_debug()), help))
    }
}

/// Returns what the members are held against, once they were read.
pub(super) fn held_reference(
    plan: &SetPlan<'_>,
    loaded: &mut LoadedSet<'_>,
    of: &ReferenceStates,
) -> Result<HeldReference, EngineError> {
    let device = of.device.as_deref().unwrap_or_default();
    Ok(match plan.reference {
        ReferenceName::Majority | ReferenceName::Baseline(_) => HeldReference::Majority,
        ReferenceName::OwnPast(at) => {
            let names: Vec<String> = loaded.devices.iter().map(|device| device.name.clone()).collect();
            let states = names.iter().map(|name| loaded.state_at(name, *at)).collect::<Result<_, _>>()?;
            HeldReference::Each(states)
        }
        ReferenceName::Device { at: Some(at), .. } => {
            HeldReference::State(loaded.state_at(device, *at)?.unwrap_or_default())
        }
        ReferenceName::Device { at: None, .. } => match loaded.devices.iter().position(|known| known.name == device) {
            Some(at) if of.other.is_none() => HeldReference::Member(at),
            Some(at) => HeldReference::Other(device.to_owned(), loaded.devices[at].snapshot.clone()),
            // It was there a moment ago.
            None => return Err(EngineError::refused(format!("`{device}` says nothing"), "try again")),
        },
    })
}

/// Returns what a device is held against in a difference, with all that lies in it.
pub(super) fn reference_datum(loaded: &LoadedSet<'_>, reference: &HeldReference, one: &Difference) -> Option<Datum> {
    let state = match reference {
        HeldReference::Majority => None,
        HeldReference::Member(at) => Some(&loaded.devices[*at].snapshot),
        HeldReference::Other(_, state) | HeldReference::State(state) => Some(state),
        HeldReference::Each(states) => states[one.member].as_ref(),
    };
    match state {
        Some(state) => loaded.table.reference_datum(one, std::iter::once(state)),
        None => loaded.table.reference_datum(one, loaded.devices.iter().map(|device| &device.snapshot)),
    }
}
