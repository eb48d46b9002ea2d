//! The standing of a device: follows from its findings, the clock, and whether any rule covers it.

use jiff::Timestamp;

use crate::findings::clock::Phase;
use crate::findings::finding::{Finding, Subject};

/// How a device stands, best first.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Standing {
    /// Nothing is wrong.
    Compliant,
    /// A clock runs, nothing is overdue.
    OnNotice,
    /// It does not show that it is in order, and its time for that is over.
    Unproven,
    /// Something is wrong and overdue.
    NonCompliant,
}

impl Standing {
    /// All standings, best first.
    pub const ALL: [Self; 4] = [Self::Compliant, Self::OnNotice, Self::Unproven, Self::NonCompliant];

    /// Returns the word used in files, conditions and JSON.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Compliant => "compliant",
            Self::OnNotice => "on-notice",
            Self::Unproven => "unproven",
            Self::NonCompliant => "non-compliant",
        }
    }

    /// Reads the word back.
    pub fn parse(text: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|standing| standing.as_str() == text)
    }
}

/// What the workspace says of a device that no enforced rule covers.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Uncovered {
    /// It counts as compliant.
    Compliant,
    /// It counts as unproven: nobody has said what it must be.
    #[default]
    Unproven,
    /// It counts as non-compliant.
    NonCompliant,
}

/// Returns whether a device that stands so is compliant, and would not be without a waiver. What is unknown and waived has no
/// finding.
pub fn is_by_waiver<'f>(
    standing: Standing,
    findings: impl IntoIterator<Item = &'f Finding>,
    has_waived_unknown: bool,
    at: Timestamp,
) -> bool {
    let mut findings = findings.into_iter();
    standing == Standing::Compliant && (has_waived_unknown || findings.any(|finding| finding.clock.is_waived(at)))
}

/// Returns how a device stands at `at`. `covered` tells whether any enforced rule covers it.
pub fn standing_at<'f>(
    findings: impl IntoIterator<Item = &'f Finding>,
    covered: bool,
    uncovered: Uncovered,
    at: Timestamp,
) -> Standing {
    let stands = match uncovered {
        Uncovered::Compliant => Standing::Compliant,
        Uncovered::Unproven => Standing::Unproven,
        Uncovered::NonCompliant => Standing::NonCompliant,
    };
    let (mut worst, mut has_clock) = (Standing::Compliant, covered);
    for finding in findings {
        has_clock |= finding.subject == Subject::Uncovered;
        worst = worst.max(match (finding.phase(at), &finding.subject) {
            (Phase::Closed { .. } | Phase::Waived { .. }, _) => Standing::Compliant,
            (Phase::Open { .. }, _) => Standing::OnNotice,
            (Phase::Overdue { .. }, Subject::Silence) => Standing::Unproven,
            (Phase::Overdue { .. }, Subject::Uncovered) => stands,
            (Phase::Overdue { .. }, Subject::Rule(_)) => Standing::NonCompliant,
        });
    }
    // Before devices that nothing covers had a clock, they stood so at once.
    if has_clock { worst } else { worst.max(stands) }
}
