//! How a device looks to a sign-in at a moment, or one that the workspace does not know.

use bumpalo::Bump;
use fencepost_core::{AccessState, DeviceInput, Finding, Posture};

use crate::assess::outlook::DeviceAt;
use crate::facts::judge::Judge;

/// What a sign-in is judged by besides who signs in, and how.
pub(crate) struct SignInContext<'f, 'a> {
    pub input: DeviceInput<'a>,
    pub state: AccessState<'a>,
    pub posture: Posture<'f>,
}

impl<'f, 'a> SignInContext<'f, 'a> {
    /// Returns that of a device at the judge's moment, with its running findings; or that of a device that the workspace does not
    /// know.
    pub(crate) fn of(
        device: Option<&DeviceAt<'a>>,
        running: &'f [&'f Finding],
        judge: &'a Judge<'a>,
        arena: &'a Bump,
    ) -> Self {
        let Some(device) = device else {
            let (input, state) = judge.stranger(arena);
            let uncovered = judge.project.config.uncovered_stands;
            return Self { input, state, posture: Posture { running, covered: false, uncovered } };
        };
        let (input, posture) = (device.judged.input, device.posture(running));
        let state = judge.project.rules.access_state(&input, posture, judge.session(arena));
        Self { input, state, posture }
    }
}
