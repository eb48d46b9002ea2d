//! A number that is the same for the same texts, on any machine and in any version: FNV-1a, 64 bits. It tells changes apart and
//! protects against nothing.

#[derive(Clone, Copy, Debug)]
pub(crate) struct Fingerprint(u64);

impl Fingerprint {
    pub(crate) fn new() -> Self {
        Self(0xcbf2_9ce4_8422_2325)
    }

    /// Returns the fingerprint of one text.
    pub(crate) fn of(text: &str) -> u64 {
        let mut print = Self::new();
        print.text(text);
        print.value()
    }

    /// Adds a text, told apart from what comes before and after it.
    pub(crate) fn text(&mut self, text: &str) {
        self.bytes(text.as_bytes());
        self.bytes(&[0]);
    }

    /// Adds bytes.
    pub(crate) fn bytes(&mut self, bytes: &[u8]) {
        for byte in bytes {
            self.0 = (self.0 ^ u64::from(*byte)).wrapping_mul(0x0100_0000_01b3);
        }
    }

    pub(crate) fn value(self) -> u64 {
        self.0
    }
}
