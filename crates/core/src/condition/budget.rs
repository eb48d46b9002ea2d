//! What evaluating conditions may cost on one device, in items visited and in bytes built, so that no document that a
//! device sends can hold up the fleet or fill the memory.
//!
//! Everything whose cost depends on what a device reported asks the budget first. Once it is used up every further
//! request fails, which ends all loops at once, and the condition is unknown with the reason *error*.

use std::cell::Cell;
use std::fmt;

use crate::facts::value::Value;

/// Items and bytes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
struct Allowance {
    items: u32,
    bytes: u32,
}

/// What one condition may use on one device.
const OF_A_CONDITION: Allowance = Allowance { items: 1_000_000, bytes: 4 << 20 };
/// What all conditions together may use on one device, each within its own allowance.
const OF_A_DEVICE: Allowance = Allowance { items: 8_000_000, bytes: 32 << 20 };
/// Looking at this many bytes of text counts as visiting one item; shorter texts are free.
const TEXT_OF_AN_ITEM: usize = 64;
/// What a condition may use, for messages and docs.
pub(in crate::condition) const IN_WORDS: &str = "at most 1,000,000 items and 4 MB for one condition on one device";

/// The allowances of the running condition and of the device. Shared by reference between the evaluator and the
/// functions that it calls; interior mutability lets fast predicates count while they borrow the evaluator.
#[derive(Debug)]
pub(in crate::condition) struct Budget {
    /// What the running condition has left.
    items: Cell<u32>,
    bytes: Cell<u32>,
    /// What the running condition had when it started.
    started: Cell<Allowance>,
    /// What the device had left before the running condition.
    device: Cell<Allowance>,
    exhausted: Cell<bool>,
}

impl Budget {
    pub(super) fn new() -> Self {
        let nothing = Allowance { items: 0, bytes: 0 };
        Self {
            items: Cell::new(0),
            bytes: Cell::new(0),
            started: Cell::new(nothing),
            device: Cell::new(OF_A_DEVICE),
            exhausted: Cell::new(false),
        }
    }

    /// Gives a condition its allowance, after taking off the device's what the condition before has used.
    pub(super) fn start_condition(&self) {
        let (started, device) = (self.started.get(), self.device.get());
        let device = Allowance {
            items: device.items.saturating_sub(started.items.saturating_sub(self.items.get())),
            bytes: device.bytes.saturating_sub(started.bytes.saturating_sub(self.bytes.get())),
        };
        self.device.set(device);
        let allowed =
            Allowance { items: OF_A_CONDITION.items.min(device.items), bytes: OF_A_CONDITION.bytes.min(device.bytes) };
        self.started.set(allowed);
        self.items.set(allowed.items);
        self.bytes.set(allowed.bytes);
        self.exhausted.set(false);
    }

    /// Leaves the running condition this many items.
    #[cfg(test)]
    pub(super) fn leave(&self, items: u32) {
        self.items.set(items);
    }

    /// Whether the running condition ran out of its allowance.
    #[inline]
    pub(super) fn is_exhausted(&self) -> bool {
        self.exhausted.get()
    }

    pub(super) fn items_left(&self) -> u32 {
        self.items.get()
    }

    pub(in crate::condition) fn bytes_left(&self) -> usize {
        self.bytes.get() as usize
    }

    /// Takes back the items that a fast predicate visited before the evaluator was needed.
    pub(super) fn give_back_to(&self, items: u32) {
        if !self.is_exhausted() {
            self.items.set(items);
        }
    }

    /// Ends the running condition.
    fn exhaust(&self) -> Option<()> {
        self.exhausted.set(true);
        self.items.set(0);
        self.bytes.set(0);
        None
    }

    /// Takes items off the allowance if it has as many; nothing changes if not, so that a caller can go another way.
    #[inline]
    pub(super) fn try_items(&self, count: u32) -> Option<()> {
        self.items.set(self.items.get().checked_sub(count)?);
        Some(())
    }

    /// Takes items off the allowance; none ends the condition.
    #[inline]
    pub(in crate::condition) fn spend_items(&self, count: usize) -> Option<()> {
        match u32::try_from(count).ok().and_then(|count| self.try_items(count)) {
            Some(()) => Some(()),
            None => self.exhaust(),
        }
    }

    /// Takes bytes off the allowance; none ends the condition.
    #[inline]
    pub(in crate::condition) fn spend_bytes(&self, count: usize) -> Option<()> {
        match u32::try_from(count).ok().and_then(|count| self.bytes.get().checked_sub(count)) {
            Some(left) => {
                self.bytes.set(left);
                Some(())
            }
            None => self.exhaust(),
        }
    }

    /// Takes the room of so many values of a list off the allowance.
    #[inline]
    pub(in crate::condition) fn spend_values(&self, count: usize) -> Option<()> {
        self.spend_bytes(count.saturating_mul(size_of::<Value<'_>>()))
    }

    /// Takes the work of reading a text off the allowance.
    #[inline]
    pub(in crate::condition) fn spend_text(&self, text: &str) -> Option<()> {
        if text.len() < TEXT_OF_AN_ITEM { Some(()) } else { self.spend_items(text.len() / TEXT_OF_AN_ITEM) }
    }

    /// Takes the work of going through a value, with everything inside it, off the allowance.
    pub(in crate::condition) fn spend_whole(&self, value: &Value<'_>) -> Option<()> {
        match value {
            Value::Text(text) | Value::Version(text) => self.spend_text(text),
            Value::List(list) => {
                self.spend_items(list.items.len())?;
                list.items.iter().try_for_each(|item| self.spend_whole(item))
            }
            Value::Object(object) => {
                self.spend_items(object.fields.len())?;
                object.fields.iter().try_for_each(|(_, value)| self.spend_whole(value))
            }
            _ => Some(()),
        }
    }

    /// Takes the work of comparing two values off the allowance; comparing short ones is free.
    #[inline]
    pub(in crate::condition) fn spend_comparison(&self, left: &Value<'_>, right: &Value<'_>) -> Option<()> {
        match (left, right) {
            (Value::Text(a) | Value::Version(a), Value::Text(b) | Value::Version(b)) => {
                self.spend_text(if a.len() < b.len() { a } else { b })
            }
            (Value::List(_) | Value::Object(_), Value::List(_) | Value::Object(_)) => {
                self.spend_whole(left)?;
                self.spend_whole(right)
            }
            _ => Some(()),
        }
    }
}

/// A text that grows to a limit; writing beyond it is an error.
#[derive(Debug)]
pub(crate) struct BoundedText {
    text: String,
    most: usize,
}

impl BoundedText {
    /// Creates an empty text of at most so many bytes.
    pub(crate) fn new(most: usize) -> Self {
        Self { text: String::new(), most }
    }

    /// Returns what was written.
    pub(crate) fn into_text(self) -> String {
        self.text
    }
}

impl fmt::Write for BoundedText {
    fn write_str(&mut self, more: &str) -> fmt::Result {
        if more.len() > self.most - self.text.len() {
            return Err(fmt::Error);
        }
        self.text.push_str(more);
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use std::fmt::Write as _;

    use super::{BoundedText, Budget, OF_A_CONDITION, OF_A_DEVICE};

    #[test]
    fn what_is_not_there_cannot_be_spent_and_ends_the_condition() {
        let budget = Budget::new();
        budget.start_condition();
        assert!(budget.spend_items(OF_A_CONDITION.items as usize).is_some());
        assert!(!budget.is_exhausted());
        assert!(budget.spend_items(1).is_none());
        assert!(budget.is_exhausted());
        assert!(budget.spend_bytes(1).is_none(), "nothing goes on");
        budget.start_condition();
        assert!(!budget.is_exhausted(), "the next condition has its own");
        assert!(budget.spend_items(usize::MAX).is_none());
    }

    #[test]
    fn the_conditions_of_a_device_share_what_it_may_use() {
        let budget = Budget::new();
        let conditions = OF_A_DEVICE.items / OF_A_CONDITION.items;
        for _ in 0..conditions {
            budget.start_condition();
            assert!(budget.spend_items(OF_A_CONDITION.items as usize).is_some());
        }
        budget.start_condition();
        assert!(budget.spend_items(1).is_none());
    }

    #[test]
    fn a_bounded_text_takes_what_fits() {
        let mut text = BoundedText::new(5);
        assert!(text.write_str("abc").is_ok());
        assert!(text.write_str("def").is_err());
        assert!(text.write_str("de").is_ok());
        assert_eq!(text.into_text(), "abcde");
    }
}
