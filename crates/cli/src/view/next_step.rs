//! What to run next, told beneath a result.

use jiff::Timestamp;

use super::text::{quoted, shell};

/// A command that goes on from a result.
#[derive(Clone, Copy, Debug)]
pub enum NextStep<'n> {
    /// Assess what was imported.
    Assess,
    /// Look into the files of a new workspace, then import and assess.
    Begin {
        /// The files.
        files: &'n str,
    },
    /// See who loses access, the findings, and why the worst device fails.
    AfterAssessment {
        /// The device.
        worst: Option<&'n str>,
    },
    /// See why a device stands as it does.
    Why(&'n str),
    /// See a device whole.
    Show(&'n str),
    /// See why a device fails a rule.
    WhyRule {
        /// The device.
        device: &'n str,
        /// The rule.
        rule: &'n str,
    },
    /// See what a rule says of each device.
    VerdictsOf(&'n str),
    /// List the rows of a kind for which a condition holds.
    List {
        /// The word for the kind.
        kind: &'n str,
        /// The condition.
        filter: &'n str,
    },
    /// Go on with a command that is at hand.
    Typed(&'n str),
    /// See what is otherwise than at a moment.
    Since(Timestamp),
    /// See what would change by the files as they are.
    Preview,
    /// See which devices no rule covers.
    Coverage,
    /// See what a baseline came to.
    BaselineShow(&'n str),
    /// See the devices of a group.
    MembersOf(&'n str),
    /// See a device as it was.
    ShowThen(&'n str),
    /// See what happened to a device.
    History(&'n str),
    /// See how the devices of a set differ.
    Drift(&'n str),
    /// See how one device differs, within a set where one is named.
    DriftOfDevice {
        /// The set.
        set: Option<&'n str>,
        /// The device.
        device: &'n str,
    },
    /// See one whole of an assembly.
    DriftOfWhole {
        /// The assembly.
        assembly: &'n str,
        /// The whole.
        whole: &'n str,
    },
}

impl NextStep<'_> {
    /// `fencepost why fulmar-phone-1`.
    pub fn in_words(self) -> String {
        match self {
            Self::Assess => "fencepost assess".to_owned(),
            Self::Begin { files } => format!("look into {files}, then: fencepost import FILE, fencepost assess"),
            Self::AfterAssessment { worst } => {
                let why = worst.map(|device| format!("  {}", Self::Why(device).in_words())).unwrap_or_default();
                format!("fencepost access  fencepost list findings{why}")
            }
            Self::Why(device) => format!("fencepost why {}", shell(device)),
            Self::Show(device) => format!("fencepost show {}", shell(device)),
            Self::WhyRule { device, rule } => format!("fencepost why {} {}", shell(device), shell(rule)),
            Self::VerdictsOf(rule) => {
                NextStep::List { kind: "verdicts", filter: &format!("rule = \"{rule}\"") }.in_words()
            }
            Self::List { kind, filter } => format!("fencepost list {kind} --where {}", quoted(filter)),
            Self::Typed(command) => command.to_owned(),
            Self::Since(at) => format!("fencepost history --since {at}"),
            Self::Preview => "fencepost preview".to_owned(),
            Self::Coverage => "fencepost list coverage".to_owned(),
            Self::BaselineShow(baseline) => format!("fencepost baseline show {}", shell(baseline)),
            Self::MembersOf(group) => {
                NextStep::List { kind: "devices", filter: &format!("in group(\"{group}\")") }.in_words()
            }
            Self::History(device) => format!("fencepost history {}", shell(device)),
            Self::Drift(set) => format!("fencepost drift {}", shell(set)),
            Self::DriftOfDevice { set, device } => {
                let set = set.map(|set| format!(" {}", shell(set))).unwrap_or_default();
                format!("fencepost drift{set} --device {}", shell(device))
            }
            Self::DriftOfWhole { assembly, whole } => {
                format!("fencepost drift {} --whole {}", shell(assembly), shell(whole))
            }
            Self::ShowThen(device) => format!("fencepost show {} --as-of TIME", shell(device)),
        }
    }
}
