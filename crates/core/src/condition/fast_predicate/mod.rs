//! Tests that are answered without working out values: what is read is compared where it lies, if it is of the type that the
//! test is for. They only ever say what the evaluator would; where they cannot tell, it is asked.

mod build;
mod run;

use std::cmp::Ordering;
use std::sync::Arc;

use jiff::SignedDuration;
use regex::Regex;
use rust_decimal::Decimal;

use super::syntax::{ArithmeticOp, CompareOp};
use crate::facts::layout::SlotId;

/// Where the tested value lies.
#[derive(Clone, Debug, PartialEq)]
pub(super) enum Read {
    Fact {
        slot: SlotId,
        exempt: bool,
    },
    /// An item.
    Local(usize),
    /// A field of an item, by its key as it stands there.
    Item {
        local: usize,
        key: Arc<str>,
    },
}

/// A number that is tested.
#[derive(Clone, Debug)]
pub(super) enum Amount {
    Read(Read),
    Constant(Decimal),
    /// How many characters a text has.
    Length(Read),
    /// How many items a list has.
    Count(Items),
    Arithmetic(ArithmeticOp, Box<[Amount; 2]>),
}

/// The items of a collected list, or those of them that pass a test.
#[derive(Clone, Debug)]
pub(super) struct Items {
    slot: SlotId,
    exempt: bool,
    /// Which local stands for the item, and the test.
    filter: Option<(usize, Box<FastPredicate>)>,
}

/// Where a part of a text is to stand.
#[derive(Clone, Copy, Debug)]
pub(super) enum Part {
    Start,
    End,
    Anywhere,
}

/// A test.
#[derive(Clone, Debug)]
pub(super) enum FastPredicate {
    /// A text is, or is not, one of these.
    Text {
        read: Read,
        any_of: Texts,
        wanted: bool,
    },
    /// A number is on the right side of each of these.
    Number {
        value: Amount,
        bounds: Box<[(CompareOp, Decimal)]>,
    },
    /// A text has a part.
    Part {
        read: Read,
        place: Part,
        part: Arc<str>,
    },
    Matches {
        read: Read,
        pattern: Regex,
    },
    /// A moment is long ago, or not.
    Age {
        read: Read,
        op: CompareOp,
        bound: SignedDuration,
    },
    Present {
        slot: SlotId,
        exempt: bool,
    },
    InGroup(usize),
    /// All items, or some of them, pass a test.
    Quantified {
        every: bool,
        items: Items,
        local: usize,
        body: Box<FastPredicate>,
    },
    /// The question, and what is asked where it holds and where it does not.
    If(Box<[FastPredicate; 3]>),
    Version {
        read: Read,
        op: CompareOp,
        bound: Arc<str>,
    },
    /// Something is true, or is false.
    Truth {
        read: Read,
        wanted: bool,
    },
    Any(Box<[FastPredicate]>),
    All(Box<[FastPredicate]>),
    Not(Box<FastPredicate>),
}

/// Texts that one may be.
#[derive(Clone, Debug)]
pub(super) struct Texts {
    all: Box<[Box<str>]>,
    /// A bit for each length, the last one for all that are longer.
    lengths: u64,
}

impl Texts {
    pub(super) fn new(all: Vec<Box<str>>) -> Self {
        let lengths = all.iter().fold(0, |lengths, text| lengths | Self::bit(text));
        Self { all: all.into(), lengths }
    }

    fn bit(text: &str) -> u64 {
        1 << text.len().min(63)
    }

    #[inline]
    pub(super) fn has(&self, text: &str) -> bool {
        self.lengths & Self::bit(text) != 0 && self.all.iter().any(|one| is_same(one, text))
    }
}

impl CompareOp {
    pub(super) fn is(self, order: Ordering) -> bool {
        match self {
            Self::Equal => order.is_eq(),
            Self::NotEqual => order.is_ne(),
            Self::Less => order.is_lt(),
            Self::LessEqual => order.is_le(),
            Self::Greater => order.is_gt(),
            Self::GreaterEqual => order.is_ge(),
        }
    }
}

/// Whether two texts are the same; of short ones told without a call, since most keys and names are short.
#[inline]
fn is_same(one: &str, other: &str) -> bool {
    let (one, other) = (one.as_bytes(), other.as_bytes());
    if one.len() != other.len() {
        return false;
    }
    match (one.first_chunk::<8>(), one.last_chunk::<8>(), other.first_chunk::<8>(), other.last_chunk::<8>()) {
        // Two pieces that overlap cover a text of up to sixteen bytes.
        (Some(a), Some(b), Some(c), Some(d)) if one.len() <= 16 => a == c && b == d,
        (Some(_), ..) => one == other,
        (None, ..) => one.iter().zip(other).all(|(a, b)| a == b),
    }
}

#[cfg(test)]
mod tests {
    use super::is_same;

    #[test]
    fn texts_are_the_same_when_every_byte_is() {
        for length in 0..40 {
            let text: String = "abcdefghijklmnopqrstuvwxyzabcdefghijklmnop".chars().take(length).collect();
            assert!(is_same(&text, &text.clone()));
            assert!(!is_same(&text, &format!("{text}x")));
            for at in 0..length {
                let mut other = text.clone().into_bytes();
                other[at] = b'!';
                assert!(!is_same(&text, std::str::from_utf8(&other).unwrap()), "{length} at {at}");
            }
        }
    }
}
