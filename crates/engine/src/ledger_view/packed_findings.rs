//! The findings of one device as bytes: what the next assessment starts from, without its rows being looked for.
//!
//! Each begins with what it has, how long it is and when it is due, so that they can be counted without being read. Moments are told
//! by how far they are from one another, numbers take as many bytes as they need.

use std::collections::BTreeMap;

use fencepost_core::{
    Blame, CloseReason, DeviceId, Finding, FindingClock, FindingId, Period, Reason, RuleId, Subject, WaivedTime,
};
use fencepost_store::IDS_IN_FRONT;
use jiff::Timestamp;

/// What a finding has, a bit each. No finding has all eight, since only a silence leaves rules open and nothing
/// corrects one: what begins so is packed as the fourth format of the ledger did it. Nor has any all but the first.
mod has {
    pub(super) const FAILING: u8 = 1;
    /// It has been failing since it was opened.
    pub(super) const SINCE_OPENED: u8 = 2;
    pub(super) const CLOSED: u8 = 4;
    pub(super) const EVIDENCE: u8 = 8;
    pub(super) const LEAVES_OPEN: u8 = 16;
    pub(super) const BLAMES: u8 = 32;
    /// Its id is in it. Before the seventh format of the ledger it was not.
    pub(super) const ID: u8 = 64;
    /// What failed was set by a correction.
    pub(super) const CORRECTED: u8 = 128;
    pub(super) const EARLIER_FORMAT: u8 = 255;
    /// No flags: the times during which waivers cover the finding, and its flags behind them. As flags they would be of a silence
    /// that a correction caused.
    pub(super) const WAIVED_IN_FRONT: u8 = LEAVES_OPEN | CORRECTED;
}

/// Packs findings of one device.
pub(crate) fn pack_findings(findings: &[Finding]) -> Vec<u8> {
    let (mut out, mut body) = (Packing::default(), Packing::default());
    for finding in findings {
        let since_opened = finding.failing_since == Some(finding.clock.opened);
        let flags = [
            (has::FAILING, finding.failing_since.is_some()),
            (has::SINCE_OPENED, since_opened),
            (has::CLOSED, finding.clock.closed.is_some()),
            (has::EVIDENCE, finding.evidence_at.is_some()),
            (has::LEAVES_OPEN, !finding.leaves_open.is_empty()),
            (has::BLAMES, !finding.blames.is_empty()),
            (has::ID, true),
            (has::CORRECTED, finding.corrected),
        ];
        body.0.clear();
        body.moment(Timestamp::UNIX_EPOCH, finding.clock.due);
        body.moment(finding.clock.due, finding.clock.opened);
        body.text(finding.subject.as_str());
        body.text(&finding.grace.to_string());
        body.number(finding.spell.into());
        body.0.extend(finding.fingerprint.to_le_bytes());
        body.0.extend(finding.id.number().to_le_bytes());
        if let Some(since) = finding.failing_since.filter(|_| !since_opened) {
            body.moment(finding.clock.opened, since);
        }
        if let Some((at, reason)) = finding.clock.closed {
            body.moment(finding.clock.opened, at);
            body.text(reason.as_str());
        }
        if let Some(at) = finding.evidence_at {
            body.moment(finding.clock.opened, at);
        }
        if !finding.leaves_open.is_empty() {
            body.number(finding.leaves_open.len() as u64);
            finding.leaves_open.iter().for_each(|rule| body.text(rule.as_str()));
        }
        if !finding.blames.is_empty() {
            body.number(finding.blames.len() as u64);
            for blame in &finding.blames {
                body.text(&blame.fact);
                body.text(blame.reason.as_str());
            }
        }
        if !finding.clock.waived.is_empty() {
            out.0.push(has::WAIVED_IN_FRONT);
            out.waived(&finding.clock.waived);
        }
        out.0.push(flags.iter().filter(|(_, it)| *it).fold(0, |all, (flag, _)| all | flag));
        out.number(body.0.len() as u64);
        out.0.extend_from_slice(&body.0);
    }
    out.0
}

/// Reads what [`pack_findings`] wrote; none when it was not.
pub(crate) fn unpack_findings(bytes: &[u8], device: &str) -> Option<Vec<Finding>> {
    match bytes.split_first() {
        Some((&has::EARLIER_FORMAT, bytes)) => fourth::unpack(bytes, device),
        Some((&IDS_IN_FRONT, bytes)) => {
            let (ids, bytes) = ids_in_front(bytes)?;
            let mut findings = unpack_findings(bytes, device)?;
            for finding in &mut findings {
                let key = (finding.subject.as_str(), finding.clock.opened.as_microsecond());
                finding.id = *ids.get(&key)?;
            }
            Some(findings)
        }
        _ => heads(bytes).map(|head| head?.finding(device)).collect(),
    }
}

/// The ids of findings, by subject and moment of opening in microseconds.
type Ids<'b> = BTreeMap<(&'b str, i64), FindingId>;

/// Reads the ids that stand before findings which were packed before the seventh format; returns also what was packed.
fn ids_in_front(bytes: &[u8]) -> Option<(Ids<'_>, &[u8])> {
    let (mut rest, mut ids) = (ByteReader(bytes), BTreeMap::new());
    for _ in 0..u32::from_le_bytes(rest.bytes()?) {
        let length = u32::from_le_bytes(rest.bytes()?);
        let subject = std::str::from_utf8(rest.part(length.into())?).ok()?;
        let opened = i64::from_le_bytes(rest.bytes()?);
        ids.insert((subject, opened), FindingId::of_number(u64::from_le_bytes(rest.bytes()?)));
    }
    // Once is enough, so that no bytes are read again and again.
    (rest.0.first() != Some(&IDS_IN_FRONT)).then_some((ids, rest.0))
}

/// How many findings of a device run.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) struct RunningCounts {
    pub running: usize,
    /// Of them, those that are overdue.
    pub overdue: usize,
    /// Of them, those that a waiver covers.
    pub waived: usize,
}

impl RunningCounts {
    pub(crate) fn of<'c>(clocks: impl IntoIterator<Item = &'c FindingClock>, at: Timestamp) -> Self {
        let mut counts = Self::default();
        clocks.into_iter().for_each(|clock| counts.add(clock, at));
        counts
    }

    fn add(&mut self, clock: &FindingClock, at: Timestamp) {
        if clock.is_running() {
            self.running += 1;
            self.overdue += usize::from(clock.is_overdue(at));
            self.waived += usize::from(clock.is_waived(at));
        }
    }
}

/// Returns how many packed findings run, and how they stand at a moment; none where they cannot be read.
pub(crate) fn count_running(bytes: &[u8], at: Timestamp) -> Option<RunningCounts> {
    if matches!(bytes.first(), Some(&has::EARLIER_FORMAT | &IDS_IN_FRONT)) {
        let all = unpack_findings(bytes, "")?;
        return Some(RunningCounts::of(all.iter().map(|finding| &finding.clock), at));
    }
    heads(bytes).try_fold(RunningCounts::default(), |mut counts, head| {
        let head = head?;
        if head.flags & has::CLOSED == 0 {
            counts.add(&head.running_clock()?, at);
        }
        Some(counts)
    })
}

/// A packed finding of which is known what it has and when it is due.
struct Head<'b> {
    flags: u8,
    due: Timestamp,
    waived: Vec<WaivedTime>,
    rest: ByteReader<'b>,
}

/// Goes through packed findings; none comes last where the rest cannot be read.
fn heads(bytes: &[u8]) -> impl Iterator<Item = Option<Head<'_>>> {
    let mut rest = ByteReader(bytes);
    std::iter::from_fn(move || {
        let next = (!rest.0.is_empty()).then(|| rest.head());
        if next.as_ref().is_some_and(Option::is_none) {
            rest.0 = &[];
        }
        next
    })
}

impl Head<'_> {
    /// Returns its clock, where it runs.
    fn running_clock(self) -> Option<FindingClock> {
        let Self { due, waived, mut rest, .. } = self;
        Some(FindingClock { waived, ..FindingClock::running(rest.moment(due)?, due) })
    }

    fn finding(self, device: &str) -> Option<Finding> {
        let Self { flags, due, waived, mut rest } = self;
        let opened = rest.moment(due)?;
        let subject = Subject::parse(rest.text()?);
        let grace = Period::parse(rest.text()?).ok()?;
        let spell = u32::try_from(rest.number()?).ok()?;
        let fingerprint = u64::from_le_bytes(rest.bytes()?);
        let device = DeviceId::from(device);
        let id = match flags & has::ID {
            0 => FindingId::new(&device, &subject, opened),
            _ => FindingId::of_number(u64::from_le_bytes(rest.bytes()?)),
        };
        let failing_since = match flags & (has::FAILING | has::SINCE_OPENED) {
            0 => None,
            has::FAILING => Some(rest.moment(opened)?),
            _ => Some(opened),
        };
        let closed = match flags & has::CLOSED {
            0 => None,
            _ => Some((rest.moment(opened)?, CloseReason::parse(rest.text()?)?)),
        };
        let evidence_at = match flags & has::EVIDENCE {
            0 => None,
            _ => Some(rest.moment(opened)?),
        };
        let count = |rest: &mut ByteReader<'_>, flag| if flags & flag == 0 { Some(0) } else { rest.number() };
        let leaves_open = (0..count(&mut rest, has::LEAVES_OPEN)?).map(|_| rest.text().map(RuleId::from));
        let leaves_open = leaves_open.collect::<Option<_>>()?;
        let blames = (0..count(&mut rest, has::BLAMES)?)
            .map(|_| Some(Blame { fact: rest.text()?.to_owned(), reason: Reason::parse(rest.text()?)? }));
        let blames = blames.collect::<Option<_>>()?;
        rest.0.is_empty().then_some(Finding {
            id,
            device,
            subject,
            clock: FindingClock { opened, due, closed, waived },
            failing_since,
            grace,
            spell,
            evidence_at,
            fingerprint,
            corrected: flags & has::CORRECTED != 0,
            leaves_open,
            blames,
        })
    }
}

#[derive(Default)]
struct Packing(Vec<u8>);

impl Packing {
    fn number(&mut self, mut number: u64) {
        while number >= 128 {
            self.0.push(number as u8 | 128);
            number >>= 7;
        }
        self.0.push(number as u8);
    }

    fn text(&mut self, text: &str) {
        self.number(text.len() as u64);
        self.0.extend(text.as_bytes());
    }

    fn waived(&mut self, times: &[WaivedTime]) {
        self.number(times.len() as u64);
        for WaivedTime { from, until, due_after, afresh, waiver } in times {
            self.moment(Timestamp::UNIX_EPOCH, *from);
            self.moment(*from, *until);
            self.moment(*until, *due_after);
            self.number((*afresh).into());
            self.text(waiver.as_str());
        }
    }

    /// Twice how many seconds it is away from another, the sign folded in; odd where nanoseconds follow.
    fn moment(&mut self, from: Timestamp, moment: Timestamp) {
        let volatile_parts = moment.as_second() - from.as_second();
        let folded = (volatile_parts << 1 ^ volatile_parts >> 63).cast_unsigned();
        // Of the sign of the seconds.
        let nanoseconds = u64::from(moment.subsec_nanosecond().unsigned_abs());
        self.number(folded << 1 | u64::from(nanoseconds != 0));
        if nanoseconds != 0 {
            self.number(nanoseconds << 1 | u64::from(moment.subsec_nanosecond() < 0));
        }
    }
}

#[derive(Clone, Copy)]
struct ByteReader<'b>(&'b [u8]);

impl<'b> ByteReader<'b> {
    fn bytes<const N: usize>(&mut self) -> Option<[u8; N]> {
        let (bytes, rest) = self.0.split_first_chunk::<N>()?;
        self.0 = rest;
        Some(*bytes)
    }

    fn number(&mut self) -> Option<u64> {
        let (mut number, mut shift) = (0, 0);
        loop {
            let [byte] = self.bytes()?;
            number |= u64::from(byte & 127).checked_shl(shift)?;
            shift += 7;
            if byte < 128 {
                return Some(number);
            }
        }
    }

    fn part(&mut self, length: u64) -> Option<&'b [u8]> {
        let (part, rest) = self.0.split_at_checked(usize::try_from(length).ok()?)?;
        self.0 = rest;
        Some(part)
    }

    fn text(&mut self) -> Option<&'b str> {
        let length = self.number()?;
        std::str::from_utf8(self.part(length)?).ok()
    }

    fn moment(&mut self, from: Timestamp) -> Option<Timestamp> {
        let number = self.number()?;
        let nanoseconds = if number & 1 == 1 { self.number()? } else { 0 };
        let sign = if nanoseconds & 1 == 1 { -1 } else { 1 };
        let folded = number >> 1;
        let volatile_parts = (folded >> 1).cast_signed() ^ -(folded & 1).cast_signed();
        Timestamp::new(from.as_second().checked_add(volatile_parts)?, sign * i32::try_from(nanoseconds >> 1).ok()?).ok()
    }

    fn waived(&mut self) -> Option<Vec<WaivedTime>> {
        let time = |rest: &mut Self| {
            let from = rest.moment(Timestamp::UNIX_EPOCH)?;
            let until = rest.moment(from)?;
            let due_after = rest.moment(until)?;
            let afresh = rest.number()? != 0;
            Some(WaivedTime { from, until, due_after, afresh, waiver: rest.text()?.into() })
        };
        (0..self.number()?).map(|_| time(self)).collect()
    }

    fn head(&mut self) -> Option<Head<'b>> {
        let [mut flags] = self.bytes()?;
        let mut waived = Vec::new();
        if flags == has::WAIVED_IN_FRONT {
            waived = self.waived()?;
            [flags] = self.bytes()?;
        }
        let length = self.number()?;
        let mut rest = ByteReader(self.part(length)?);
        let due = rest.moment(Timestamp::UNIX_EPOCH)?;
        Some(Head { flags, due, waived, rest })
    }
}

/// Findings as the fourth format of the ledger packed them: numbers of eight bytes, moments of sixteen.
mod fourth {
    use super::*;

    pub(super) fn unpack(bytes: &[u8], device: &str) -> Option<Vec<Finding>> {
        let (mut rest, mut findings) = (ByteReader(bytes), Vec::new());
        while !rest.0.is_empty() {
            findings.push(finding(&mut rest, device)?);
        }
        Some(findings)
    }

    fn finding(rest: &mut ByteReader<'_>, device: &str) -> Option<Finding> {
        let subject = Subject::parse(text(rest)?);
        let (opened, failing_since) = (moment(rest)??, moment(rest)?);
        let (grace, due) = (Period::parse(text(rest)?).ok()?, moment(rest)??);
        let spell = u32::try_from(number(rest)?).ok()?;
        let (at, reason) = (moment(rest)?, text(rest)?);
        let closed = match at {
            Some(at) => Some((at, CloseReason::parse(reason)?)),
            None => None,
        };
        let (evidence_at, fingerprint) = (moment(rest)?, number(rest)?);
        let (mut leaves_open, mut blames) = (Vec::new(), Vec::new());
        for _ in 0..number(rest)? {
            leaves_open.push(RuleId::from(text(rest)?));
        }
        for _ in 0..number(rest)? {
            blames.push(Blame { fact: text(rest)?.to_owned(), reason: Reason::parse(text(rest)?)? });
        }
        let device = DeviceId::from(device);
        Some(Finding {
            id: FindingId::new(&device, &subject, opened),
            device,
            subject,
            clock: FindingClock { opened, due, closed, waived: Vec::new() },
            failing_since,
            grace,
            spell,
            evidence_at,
            fingerprint,
            corrected: false,
            leaves_open,
            blames,
        })
    }

    fn number(rest: &mut ByteReader<'_>) -> Option<u64> {
        rest.bytes().map(u64::from_le_bytes)
    }

    fn text<'b>(rest: &mut ByteReader<'b>) -> Option<&'b str> {
        let length = u32::from_le_bytes(rest.bytes()?);
        std::str::from_utf8(rest.part(length.into())?).ok()
    }

    fn moment(rest: &mut ByteReader<'_>) -> Option<Option<Timestamp>> {
        match i128::from_le_bytes(rest.bytes()?) {
            i128::MIN => Some(None),
            nanoseconds => Timestamp::from_nanosecond(nanoseconds).ok().map(Some),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn moments() -> impl Strategy<Value = Timestamp> {
        let near = (0_i64..4_000_000_000).prop_map(|second| Timestamp::from_second(second).unwrap());
        let any = (-377_705_023_200_i64..253_402_200_000, -999_999_999_i32..=999_999_999)
            .prop_map(|(second, nanosecond)| Timestamp::new(second, nanosecond).unwrap());
        prop_oneof![3 => near, 1 => any, 1 => Just(Timestamp::MIN), 1 => Just(Timestamp::MAX)]
    }

    fn waived_times() -> impl Strategy<Value = WaivedTime> {
        (moments(), moments(), moments(), any::<bool>(), "[a-zé]{0,9}").prop_map(
            |(from, until, due_after, afresh, waiver)| {
                let waiver = waiver.as_str().into();
                WaivedTime { from, until, due_after, afresh, waiver }
            },
        )
    }

    fn findings() -> impl Strategy<Value = Finding> {
        let subject = prop_oneof![Just(Subject::Silence), "[a-zé/]{1,9}".prop_map(|id| Subject::parse(&id))];
        let since = prop_oneof![Just(None), Just(Some(None)), moments().prop_map(|at| Some(Some(at)))];
        let closed =
            prop::option::of((moments(), prop::sample::select(vec![CloseReason::Answered, CloseReason::Retired])));
        let leaves = prop::collection::vec("[a-z]{1,9}".prop_map(|id| RuleId::from(id.as_str())), 0..3);
        let blame = ("[a-zé.]{0,9}", prop::sample::select(Reason::ALL.to_vec()));
        let blames = prop::collection::vec(blame.prop_map(|(fact, reason)| Blame { fact, reason }), 0..3);
        let moments = (moments(), moments(), prop::option::of(moments()));
        let rest = (any::<u32>(), any::<u64>(), prop::sample::select(vec!["7d", "1d 12h", "0d"]));
        let waived = prop::collection::vec(waived_times(), 0..3);
        (subject, moments, since, (closed, waived), leaves, blames, rest).prop_map(
            |(
                subject,
                (opened, due, evidence_at),
                since,
                (closed, waived),
                leaves_open,
                blames,
                (spell, fingerprint, grace),
            )| {
                Finding {
                    id: FindingId::of_number(fingerprint.wrapping_mul(7)),
                    device: DeviceId::from("d"),
                    subject,
                    clock: FindingClock { opened, due, closed, waived },
                    failing_since: since.map(|since| since.unwrap_or(opened)),
                    grace: Period::parse(grace).unwrap(),
                    spell,
                    evidence_at,
                    fingerprint,
                    corrected: leaves_open.is_empty() && fingerprint % 2 == 0,
                    leaves_open,
                    blames,
                }
            },
        )
    }

    proptest! {
        #[test]
        fn findings_come_out_as_they_went_in(
            findings in prop::collection::vec(findings(), 0..5),
            at in moments(),
            cut in any::<prop::sample::Index>(),
        ) {
            let packed = pack_findings(&findings);
            prop_assert_eq!(unpack_findings(&packed, "d"), Some(findings.clone()));
            let counted = RunningCounts::of(findings.iter().map(|finding| &finding.clock), at);
            prop_assert_eq!(count_running(&packed, at), Some(counted));
            // What was cut short is told; unless it was between two of them.
            if let Some(found) = (!packed.is_empty()).then(|| unpack_findings(&packed[..cut.index(packed.len())], "d")).flatten() {
                prop_assert!(found.len() < findings.len() && found == findings[..found.len()]);
            }
        }

        #[test]
        fn any_bytes_are_read_without_harm(bytes in prop::collection::vec(any::<u8>(), 0..99)) {
            for bytes in [&bytes[..], &[&[has::EARLIER_FORMAT][..], &bytes].concat(), &[&[IDS_IN_FRONT][..], &bytes].concat()] {
                let count = count_running(bytes, Timestamp::UNIX_EPOCH);
                prop_assert!(count.is_some() || unpack_findings(bytes, "d").is_none());
            }
        }
    }

    #[test]
    fn findings_of_the_fourth_format_are_read() {
        let at: Timestamp = "2027-03-01T10:00:00Z".parse().unwrap();
        let moment = |at: Option<Timestamp>| at.map_or(i128::MIN, Timestamp::as_nanosecond).to_le_bytes().to_vec();
        let number = |number: u64| number.to_le_bytes().to_vec();
        let text = |text: &str| [&u32::try_from(text.len()).unwrap().to_le_bytes(), text.as_bytes()].concat();
        let fields = [
            vec![has::EARLIER_FORMAT],
            text("a/b"),
            moment(Some(at)),
            moment(None),
            text("7d"),
            moment(Some(at)),
            number(2),
            moment(None),
            text(""),
            moment(Some(at)),
            number(7),
            number(1),
            text("c"),
            number(1),
            text("os.version"),
            text("wrong-type"),
        ];
        let bytes = fields.concat();
        let found = unpack_findings(&bytes, "d").unwrap();
        assert_eq!(
            (found[0].subject.as_str(), found[0].clock.opened, found[0].spell, found[0].fingerprint),
            ("a/b", at, 2, 7)
        );
        assert_eq!((found[0].leaves_open[0].as_str(), found[0].blames[0].reason), ("c", Reason::WrongType));
        assert_eq!(count_running(&bytes, at), Some(RunningCounts { running: 1, overdue: 1, waived: 0 }));
        assert!((2..bytes.len()).all(|cut| unpack_findings(&bytes[..cut], "d").is_none()));
    }
}
