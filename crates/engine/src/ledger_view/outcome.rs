//! What an assessment came to on one device, as bytes beside it in the ledger: enough to tell whether anything about it changed,
//! and to take it out of the counts of the fleet again.

use fencepost_core::{Reason, Standing, Verdict, VerdictOutcome};

use crate::facts::judge::Judged;

/// What is kept of a standing beside it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct StandingDetail {
    /// Whether an enforced rule covers the device.
    pub covered: bool,
    /// Whether it is compliant only by a waiver.
    pub by_waiver: bool,
}

impl StandingDetail {
    /// Returns the word for it.
    pub(crate) fn text(self) -> &'static str {
        match (self.covered, self.by_waiver) {
            (true, false) => "covered",
            (false, false) => "uncovered",
            (true, true) => "covered by-waiver",
            (false, true) => "uncovered by-waiver",
        }
    }

    /// Reads the word back.
    pub(crate) fn parse(text: &str) -> Self {
        Self { covered: !text.starts_with("uncovered"), by_waiver: text.ends_with("by-waiver") }
    }
}

/// The first byte of every outcome: of one whose verdicts are counted in two bytes, or in four where they are more.
const FORMAT: u8 = 1;
const LONG_FORMAT: u8 = 2;

/// A digest of what is kept of a device, in eight bytes.
pub(crate) type Digest = [u8; 8];

/// What an assessment came to on a device; `B` holds the bytes.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) struct Outcome<B = Vec<u8>> {
    /// How it stands.
    pub standing: u8,
    /// Whether an enforced rule covers it.
    pub covered: bool,
    /// Nothing of it is fresh.
    pub stale: bool,
    /// It is compliant, and would not be without a waiver.
    pub by_waiver: bool,
    /// Digests of its verdicts that are no pass, of the decisions about it, and of its holders.
    pub kept: [Digest; 3],
    /// A code for the verdict of each rule that is no draft.
    pub verdicts: B,
    /// A bit for each group, whether the device belongs to it; none where an earlier version did not keep it.
    pub groups: Option<B>,
    /// A bit for each slot that some source reports.
    pub reported: B,
}

const VACUOUS: u8 = 0x40;
const EXCEPTED: u8 = 0x80;
/// A failure that awaits something.
const AWAITING: u8 = 0x3f;
/// The same, covered by a waiver.
const AWAITING_WAIVED: u8 = 0x3e;
/// A failure, or something unknown, that a waiver covers.
const WAIVED: u8 = 0x20;

/// Returns the code of a verdict.
pub(crate) fn code_of(verdict: &Verdict) -> u8 {
    let code = match verdict.outcome {
        VerdictOutcome::Pass => 0,
        VerdictOutcome::NotApplicable => 2,
        VerdictOutcome::Fail => match (verdict.awaiting, verdict.waived) {
            (true, false) => AWAITING,
            (true, true) => AWAITING_WAIVED,
            (false, true) => 1 | WAIVED,
            (false, false) => 1,
        },
        VerdictOutcome::Unknown(reason) => (3 + reason.number()) | if verdict.waived { WAIVED } else { 0 },
    };
    code | if verdict.vacuous { VACUOUS } else { 0 } | if verdict.excepted { EXCEPTED } else { 0 }
}

/// Returns the verdict of a rule from its code.
pub(crate) fn verdict_of(rule: usize, code: u8) -> Verdict {
    let plain = code & !(VACUOUS | EXCEPTED);
    let awaiting = matches!(plain, AWAITING | AWAITING_WAIVED);
    let waived = plain != AWAITING && plain & WAIVED != 0;
    let outcome = match plain & !WAIVED {
        _ if awaiting => VerdictOutcome::Fail,
        0 => VerdictOutcome::Pass,
        1 => VerdictOutcome::Fail,
        2 => VerdictOutcome::NotApplicable,
        unknown => VerdictOutcome::Unknown(Reason::of_number(unknown - 3)),
    };
    let (vacuous, excepted) = (code & VACUOUS != 0, code & EXCEPTED != 0);
    Verdict { rule, outcome, vacuous, excepted, awaiting, waived }
}

/// Returns a bit for each slot of a device that some source reports.
pub(crate) fn reported(judged: &Judged<'_>) -> Vec<u8> {
    let facts = judged.input.facts;
    bits(facts.layout().slots().map(|slot| facts.slot(slot).origin.is_some()))
}

/// Returns a bit for each of some truths.
pub(crate) fn bits(truths: impl Iterator<Item = bool>) -> Vec<u8> {
    let mut bits = Vec::new();
    for (at, is_so) in truths.enumerate() {
        if at % 8 == 0 {
            bits.push(0);
        }
        bits[at / 8] |= u8::from(is_so) << (at % 8);
    }
    bits
}

fn bit(bits: &[u8], at: usize) -> bool {
    bits.get(at / 8).is_some_and(|bits| bits & (1 << (at % 8)) != 0)
}

impl<B: AsRef<[u8]>> Outcome<B> {
    /// Returns how the device stands.
    pub(crate) fn standing(&self) -> Standing {
        Standing::ALL.get(usize::from(self.standing)).copied().unwrap_or(Standing::NonCompliant)
    }

    /// Returns whether a slot is reported.
    pub(crate) fn reports(&self, slot: usize) -> bool {
        bit(self.reported.as_ref(), slot)
    }

    /// Returns whether the device belongs to a group, by its position.
    pub(crate) fn is_in(&self, group: usize) -> bool {
        self.groups.as_ref().is_some_and(|groups| bit(groups.as_ref(), group))
    }
}

impl Outcome {
    pub(crate) fn to_bytes(&self) -> Vec<u8> {
        let flags = u8::from(self.covered)
            | u8::from(self.stale) << 1
            | u8::from(self.by_waiver) << 2
            | u8::from(self.groups.is_some()) << 3;
        let short = u16::try_from(self.verdicts.len()).ok();
        let mut bytes = vec![if short.is_some() { FORMAT } else { LONG_FORMAT }, self.standing, flags];
        bytes.extend(self.kept.concat());
        match short {
            Some(count) => bytes.extend(count.to_le_bytes()),
            None => bytes.extend(u32::try_from(self.verdicts.len()).unwrap_or(u32::MAX).to_le_bytes()),
        }
        bytes.extend(&self.verdicts);
        if let Some(groups) = &self.groups {
            bytes.extend(u32::try_from(groups.len()).unwrap_or(u32::MAX).to_le_bytes());
            bytes.extend(groups);
        }
        bytes.extend(&self.reported);
        bytes
    }

    /// Returns it with its bytes borrowed.
    pub(crate) fn borrowed(&self) -> Outcome<&[u8]> {
        let Self { standing, covered, stale, by_waiver, kept, ref verdicts, ref groups, ref reported } = *self;
        Outcome { standing, covered, stale, by_waiver, kept, verdicts, groups: groups.as_deref(), reported }
    }
}

impl<'b> Outcome<&'b [u8]> {
    /// Reads what [`Outcome::to_bytes`] wrote; none when it was not.
    pub(crate) fn from_bytes(bytes: &'b [u8]) -> Option<Self> {
        let (&[format, standing, flags], rest) = bytes.split_first_chunk::<3>()?;
        let (kept, rest) = rest.split_first_chunk::<24>()?;
        let (count, rest) = match format {
            FORMAT => rest.split_first_chunk::<2>().map(|(count, rest)| (u16::from_le_bytes(*count).into(), rest))?,
            LONG_FORMAT => rest.split_first_chunk::<4>().map(|(count, rest)| (u32::from_le_bytes(*count), rest))?,
            _ => return None,
        };
        let (verdicts, rest) = rest.split_at_checked(usize::try_from(count).ok()?)?;
        let (groups, reported) = match flags & 8 {
            0 => (None, rest),
            _ => {
                let (count, rest) = rest.split_first_chunk::<4>()?;
                let (groups, rest) = rest.split_at_checked(usize::try_from(u32::from_le_bytes(*count)).ok()?)?;
                (Some(groups), rest)
            }
        };
        let digest = |at: usize| std::array::from_fn(|byte| kept[8 * at + byte]);
        Some(Self {
            standing,
            covered: flags & 1 != 0,
            stale: flags & 2 != 0,
            by_waiver: flags & 4 != 0,
            kept: [digest(0), digest(1), digest(2)],
            verdicts,
            groups,
            reported,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_outcome_comes_back_as_it_went() {
        let verdict =
            |outcome| Verdict { rule: 3, outcome, vacuous: true, excepted: false, awaiting: false, waived: false };
        let mut all = vec![verdict(VerdictOutcome::Pass), verdict(VerdictOutcome::Fail)];
        all.push(Verdict { awaiting: true, ..verdict(VerdictOutcome::Fail) });
        let waived: Vec<Verdict> = all[1..].iter().map(|verdict| Verdict { waived: true, ..*verdict }).collect();
        all.extend(waived);
        all.extend(Reason::ALL.map(|reason| Verdict { waived: true, ..verdict(VerdictOutcome::Unknown(reason)) }));
        all.extend(Reason::ALL.map(|reason| verdict(VerdictOutcome::Unknown(reason))));
        all.push(Verdict { vacuous: false, excepted: true, ..verdict(VerdictOutcome::NotApplicable) });
        let outcome = Outcome {
            standing: 2,
            covered: true,
            stale: false,
            by_waiver: true,
            kept: [[1; 8], [2; 8], [3; 8]],
            verdicts: all.iter().map(code_of).collect(),
            groups: Some(bits([true, false, false, true].into_iter().cycle().take(11))),
            reported: vec![0b101, 1],
        };
        let bytes = outcome.to_bytes();
        assert_eq!(Outcome::from_bytes(&bytes), Some(outcome.borrowed()));
        assert_eq!([0, 1, 8, 10, 11, 99].map(|at| outcome.is_in(at)), [true, false, true, false, false, false]);
        // What an earlier version wrote does not say which groups it belongs to.
        let earlier = Outcome { groups: None, ..outcome.clone() };
        assert_eq!(Outcome::from_bytes(&earlier.to_bytes()), Some(earlier.borrowed()));
        assert!(outcome.verdicts.iter().map(|code| verdict_of(3, *code)).eq(all));
        assert_eq!(
            (outcome.reports(0), outcome.reports(1), outcome.reports(8), outcome.reports(99)),
            (true, false, true, false)
        );
        assert!((0..27).all(|cut| Outcome::from_bytes(&bytes[..cut]).is_none()));
    }

    #[test]
    fn more_verdicts_than_two_bytes_count_come_back() {
        for count in [0, 1, 65_535, 65_536, 70_000] {
            let outcome = Outcome { verdicts: vec![1; count], reported: vec![7], ..Outcome::default() };
            assert_eq!(Outcome::from_bytes(&outcome.to_bytes()), Some(outcome.borrowed()), "{count}");
        }
    }
}
