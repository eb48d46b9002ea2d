//! A canonical encoding of values, for digests that decide whether work is done again: the same bytes for the same value, in any
//! version of this program and of what it depends on.
//!
//! The first byte is the version of the encoding. Each value begins with a byte that says its kind; texts and lists say how long
//! they are, so that no two different values come to the same bytes. Numbers are little-endian.

use jiff::Timestamp;
use rust_decimal::Decimal;

/// Changed when any value comes to other bytes than before.
const VERSION: u8 = 1;

/// Values encoded one after the other.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Canonical {
    bytes: Vec<u8>,
}

/// A value with a canonical encoding.
pub trait Encode {
    /// Adds the value.
    fn encode(&self, to: &mut Canonical);
}

impl Default for Canonical {
    fn default() -> Self {
        Self { bytes: vec![VERSION] }
    }
}

impl Canonical {
    /// Encodes one value.
    pub fn of(value: &(impl Encode + ?Sized)) -> Vec<u8> {
        let mut all = Self::default();
        all.add(value);
        all.bytes
    }

    /// Adds a value.
    pub fn add(&mut self, value: &(impl Encode + ?Sized)) -> &mut Self {
        value.encode(self);
        self
    }

    /// Returns the bytes of all that was added.
    pub fn into_bytes(self) -> Vec<u8> {
        self.bytes
    }

    pub(crate) fn tag(&mut self, tag: u8) {
        self.bytes.push(tag);
    }

    pub(crate) fn number(&mut self, number: u64) {
        self.bytes.extend_from_slice(&number.to_le_bytes());
    }
}

impl Encode for str {
    fn encode(&self, to: &mut Canonical) {
        to.tag(b't');
        to.number(self.len() as u64);
        to.bytes.extend_from_slice(self.as_bytes());
    }
}

impl Encode for String {
    fn encode(&self, to: &mut Canonical) {
        self.as_str().encode(to);
    }
}

impl Encode for bool {
    fn encode(&self, to: &mut Canonical) {
        to.tag(if *self { b'y' } else { b'n' });
    }
}

impl Encode for u64 {
    fn encode(&self, to: &mut Canonical) {
        to.tag(b'u');
        to.number(*self);
    }
}

impl Encode for Decimal {
    fn encode(&self, to: &mut Canonical) {
        to.tag(b'd');
        self.normalize().to_string().encode(to);
    }
}

impl Encode for Timestamp {
    fn encode(&self, to: &mut Canonical) {
        to.tag(b'm');
        to.bytes.extend_from_slice(&self.as_nanosecond().to_le_bytes());
    }
}

impl<T: Encode + ?Sized> Encode for &T {
    fn encode(&self, to: &mut Canonical) {
        (**self).encode(to);
    }
}

impl<T: Encode> Encode for Option<T> {
    fn encode(&self, to: &mut Canonical) {
        match self {
            None => to.tag(b'0'),
            Some(value) => {
                to.tag(b'1');
                value.encode(to);
            }
        }
    }
}

impl<T: Encode> Encode for [T] {
    fn encode(&self, to: &mut Canonical) {
        to.tag(b'l');
        to.number(self.len() as u64);
        self.iter().for_each(|item| item.encode(to));
    }
}

impl<T: Encode> Encode for Vec<T> {
    fn encode(&self, to: &mut Canonical) {
        self.as_slice().encode(to);
    }
}

impl<A: Encode, B: Encode> Encode for (A, B) {
    fn encode(&self, to: &mut Canonical) {
        self.0.encode(to);
        self.1.encode(to);
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::facts::value::Reason;
    use crate::id::DeviceId;
    use crate::{Datum, FactType, Membership, ReadAs, Retirement};

    fn hex(bytes: &[u8]) -> String {
        bytes.iter().map(|byte| format!("{byte:02x}")).collect()
    }

    /// The bytes are part of what ledgers and verdict files rely on: a change of them is a change of [`VERSION`].
    #[test]
    fn the_bytes_are_these() {
        let at: Timestamp = "2027-03-01T06:00:00Z".parse().unwrap();
        assert_eq!(hex(&Canonical::of("ab")), "017402000000000000006162");
        assert_eq!(hex(&Canonical::of(&Some(7_u64))), "0131750700000000000000");
        assert_eq!(hex(&Canonical::of(&at)), "016d00c025bd07ac08190000000000000000");
        let value = Datum::Object(vec![
            ("a".to_owned(), Datum::List(vec![Datum::Null, Datum::Boolean(true)])),
            ("b".to_owned(), Datum::Number(Decimal::new(150, 2))),
        ]);
        assert_eq!(
            hex(&Canonical::of(&value)),
            "016f6c0200000000000000740100000000000000616c020000000000000030797401000000000000006264740300000000000000312e35"
        );
        assert_eq!(
            hex(&Canonical::of(&[Membership::In, Membership::Unknown(Reason::Stale)][..])),
            "016c0200000000000000793f7405000000000000007374616c65"
        );
        assert_eq!(
            hex(&Canonical::of(&ReadAs { ty: FactType::Number, unit: Some("B".into()) })),
            "017406000000000000006e756d62657231740100000000000000 42".replace(' ', "")
        );
        let retired =
            Retirement { device: DeviceId::from("d"), from: at, last: at, because: String::new(), place: None };
        assert_eq!(Canonical::of(&retired).len(), 1 + 10 + 17 + 17 + 9);
    }

    #[test]
    fn numbers_that_are_equal_are_alike_and_nothing_else_is() {
        let of = |text: &str| Canonical::of(&text.parse::<Decimal>().unwrap());
        assert_eq!(of("1.50"), of("1.5"));
        assert_ne!(of("1.5"), of("15"));
        assert_ne!(Canonical::of("1"), Canonical::of(&Decimal::ONE));
    }

    proptest! {
        #[test]
        fn different_values_come_to_different_bytes(
            a in prop::collection::vec("[a-c]{0,3}", 0..4),
            b in prop::collection::vec("[a-c]{0,3}", 0..4),
        ) {
            prop_assert_eq!(a == b, Canonical::of(&a) == Canonical::of(&b));
        }
    }
}
