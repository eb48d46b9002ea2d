//! What comparisons with numbers leave over of a fact, to find conditions that nothing can meet.

use rust_decimal::Decimal;

use super::syntax::CompareOp;

/// The numbers between two bounds; everything while there is none.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Bounds {
    low: Option<Bound>,
    high: Option<Bound>,
}

#[derive(Clone, Copy, Debug)]
struct Bound {
    at: Decimal,
    included: bool,
}

impl Bounds {
    /// Narrows to what a comparison with a number lets through.
    pub fn narrow(&mut self, op: CompareOp, at: Decimal) {
        match op {
            CompareOp::Greater => self.raise(Bound { at, included: false }),
            CompareOp::GreaterEqual => self.raise(Bound { at, included: true }),
            CompareOp::Less => self.lower(Bound { at, included: false }),
            CompareOp::LessEqual => self.lower(Bound { at, included: true }),
            CompareOp::Equal => {
                self.raise(Bound { at, included: true });
                self.lower(Bound { at, included: true });
            }
            CompareOp::NotEqual => {}
        }
    }

    fn raise(&mut self, bound: Bound) {
        if self.low.is_none_or(|low| bound.at > low.at || (bound.at == low.at && !bound.included)) {
            self.low = Some(bound);
        }
    }

    fn lower(&mut self, bound: Bound) {
        if self.high.is_none_or(|high| bound.at < high.at || (bound.at == high.at && !bound.included)) {
            self.high = Some(bound);
        }
    }

    /// Returns whether no number is left.
    pub fn is_empty(&self) -> bool {
        match (self.low, self.high) {
            (Some(low), Some(high)) => low.at > high.at || (low.at == high.at && !(low.included && high.included)),
            _ => false,
        }
    }
}
