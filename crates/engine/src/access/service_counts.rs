//! On which terms services are reached, counted.

use fencepost_core::Strictness;

/// On which terms devices with their people reach a service. A device with one of its people counts once: as it gets in best.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct ServiceCounts {
    /// They get in without obligations.
    pub permit: u64,
    /// They get in with obligations.
    pub limited: u64,
    /// They do not get in.
    pub deny: u64,
    /// Of those, the ones that no access rule denies: the default does.
    pub by_default: u64,
}

/// The best way in that a device with one of its people has.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct BestWay {
    strictness: Option<Strictness>,
    /// An access rule has a say in some sign-in.
    by_rule: bool,
}

impl BestWay {
    /// Takes another sign-in into account.
    pub(crate) fn add(&mut self, strictness: Strictness, by_default: bool) {
        self.strictness = Some(self.strictness.map_or(strictness, |best| best.min(strictness)));
        self.by_rule |= !by_default;
    }
}

impl ServiceCounts {
    /// Returns the part that gets in, from 0 to 1, of those whom the default does not deny; none where there are none.
    pub fn share(&self) -> Option<f64> {
        let reached = self.permit + self.limited;
        let all = reached + self.deny.saturating_sub(self.by_default);
        (all > 0).then(|| reached as f64 / all as f64)
    }

    /// Counts a device with one of its people.
    pub(crate) fn add(&mut self, best: BestWay) {
        match best.strictness {
            Some(Strictness::Permitted) => self.permit += 1,
            Some(Strictness::Limited) => self.limited += 1,
            Some(Strictness::Denied) => {
                self.deny += 1;
                self.by_default += u64::from(!best.by_rule);
            }
            None => {}
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_share_is_of_those_whom_the_default_does_not_deny() {
        let counts = |permit, limited, deny, by_default| ServiceCounts { permit, limited, deny, by_default };
        assert_eq!(counts(2, 1, 5, 4).share(), Some(0.75));
        assert_eq!(counts(0, 0, 4, 4).share(), None);
    }
}
