//! A document with room behind it, so that it can be gone through without asking at each byte whether it ends. The only
//! module with unsafe code.
//!
//! A zero stands behind the document, and a zero ends everything that JSON has: no text, number, word or white space holds one.
//! So whoever goes on only behind a byte that is not zero never comes further than to this zero; that is the rule for every
//! place that is given to a function here. Behind the zero stand more bytes of no matter, so that many can be looked at at
//! once. Debug builds check the rule, and so do the fuzz targets.
#![expect(unsafe_code, reason = "reading at a place of which the rule above says that it is there")]

use std::alloc::Layout;
use std::fmt;

use bumpalo::Bump;

/// How many bytes stand behind a document: a load of 32 bytes at its end stays within them.
pub(crate) const ROOM: usize = 32;

/// A document as it came, with room behind it for whoever reads it.
#[derive(Clone, Copy)]
pub struct RawDocument<'r> {
    /// The document, a zero, and more bytes of no matter, `ROOM` of them with the zero.
    whole: &'r [u8],
}

impl<'r> RawDocument<'r> {
    /// Takes a document with what stands behind it: a zero, and bytes of no matter.
    ///
    /// # Panics
    /// Where no zero stands there.
    pub(crate) fn with_room(whole: &'r [u8]) -> Self {
        assert_eq!(whole[whole.len() - ROOM], 0);
        Self { whole }
    }

    /// Copies a document to where there is room.
    pub fn copy(document: &[u8], arena: &'r Bump) -> Self {
        let length = document.len();
        let layout = Layout::array::<u8>(length + ROOM).expect("a document fits into memory, and this little more");
        let place = arena.alloc_layout(layout).as_ptr();
        // SAFETY: the place has room for the document and the zeros, nobody else has it as long as the arena is lent, and
        // every byte of it is written before it is lent on.
        let whole = unsafe {
            place.copy_from_nonoverlapping(document.as_ptr(), length);
            place.add(length).write_bytes(0, ROOM);
            std::slice::from_raw_parts(place, length + ROOM)
        };
        Self { whole }
    }

    /// Returns the document.
    pub fn bytes(self) -> &'r [u8] {
        &self.whole[..self.whole.len() - ROOM]
    }

    /// Checks that it is UTF-8; the error is how much of it is.
    pub(crate) fn checked(self) -> Result<Padded<'r>, usize> {
        // The quick check does not say where; that is asked of the slow one.
        let checked = simdutf8::basic::from_utf8(self.bytes()).map(drop);
        checked.or_else(|_| std::str::from_utf8(self.bytes()).map(drop)).map_err(|error| error.valid_up_to())?;
        Ok(Padded { bytes: self.whole })
    }
}

impl fmt::Debug for RawDocument<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}", String::from_utf8_lossy(self.bytes()))
    }
}

/// A document that is UTF-8, with room behind it.
#[derive(Clone, Copy)]
pub(crate) struct Padded<'a> {
    /// The document and the room; nothing else, so that it is handed on in registers.
    bytes: &'a [u8],
}

impl<'a> Padded<'a> {
    /// Returns the document.
    pub fn text(self) -> &'a str {
        // SAFETY: that these bytes are a text was checked, and nobody changes them.
        unsafe { std::str::from_utf8_unchecked(&self.bytes[..self.length()]) }
    }

    /// Returns how long the document is.
    #[inline(always)]
    pub fn length(self) -> usize {
        self.bytes.len() - ROOM
    }

    /// Returns the byte at a place; zero at the end.
    #[inline(always)]
    pub fn byte(self, at: usize) -> u8 {
        debug_assert!(at <= self.length());
        // SAFETY: by the rule of this module `at` is at most the length, and `ROOM` bytes follow.
        unsafe { *self.bytes.get_unchecked(at) }
    }

    /// Returns the sixteen bytes that begin `from` bytes, at most sixteen, behind a place; the first is the lowest.
    #[inline(always)]
    fn sixteen(self, at: usize, from: usize) -> u128 {
        debug_assert!(at <= self.length() && from <= 16);
        // SAFETY: by the rule of this module `at` is at most the length, and `ROOM` bytes follow, which is 16 + 16.
        let bytes = unsafe { self.bytes.as_ptr().add(at + from).cast::<[u8; 16]>().read_unaligned() };
        u128::from_le_bytes(bytes)
    }

    /// Returns which of the sixteen bytes that begin `from` bytes behind a place, at most sixteen, are others than these, a bit for
    /// each.
    #[inline(always)]
    pub fn differences(self, at: usize, from: usize, other: &[u8; 16]) -> u32 {
        differences_of(self.sixteen(at, from), u128::from_le_bytes(*other))
    }

    /// Returns where the first byte at or after a place stands that plain text ends at: a quote, a backslash or a control
    /// character, and be it the zero at the end.
    #[inline(always)]
    pub fn plain_end(self, mut at: usize) -> usize {
        loop {
            let found = ends_in(self.sixteen(at, 0));
            if found != 0 {
                return at + found.trailing_zeros() as usize;
            }
            // None of these is zero, so the end is not before what follows them.
            at += 16;
        }
    }

    /// Returns the text between two quotes, that before `start` and that at `end`, in which nothing is escaped.
    #[inline(always)]
    pub fn text_between(self, start: usize, end: usize) -> &'a str {
        debug_assert!(start > 0 && start <= end && self.byte(start - 1) == b'"' && self.byte(end) == b'"');
        // SAFETY: a quote stands before `start` and one at `end`, which is no less, and a quote is a character by itself:
        // so these bytes are whole characters of a text.
        unsafe { std::str::from_utf8_unchecked(self.bytes.get_unchecked(start..end)) }
    }

    /// Returns a text that a quote opens right before `start`, and where it ends, if nothing in it is escaped.
    #[inline(always)]
    pub fn plain_text(self, start: usize) -> Option<(&'a str, usize)> {
        let end = self.plain_end(start);
        (self.byte(end) == b'"').then(|| (self.text_between(start, end), end))
    }
}

/// Returns a bit for each of sixteen bytes that is another than the one of the same place.
#[cfg(target_arch = "x86_64")]
#[inline(always)]
fn differences_of(one: u128, other: u128) -> u32 {
    use std::arch::x86_64::{__m128i, _mm_cmpeq_epi8, _mm_movemask_epi8};
    // SAFETY: every x86-64 has SSE2, and the sixteen bytes of the one type are those of the other.
    unsafe {
        let [one, other] = [one, other].map(|bytes| std::mem::transmute::<u128, __m128i>(bytes));
        _mm_movemask_epi8(_mm_cmpeq_epi8(one, other)).cast_unsigned() ^ 0xffff
    }
}

/// Returns a bit for each of sixteen bytes that is another than the one of the same place.
#[cfg(not(target_arch = "x86_64"))]
fn differences_of(one: u128, other: u128) -> u32 {
    let pairs = one.to_le_bytes().into_iter().zip(other.to_le_bytes());
    pairs.rev().fold(0, |all, (one, other)| all << 1 | u32::from(one != other))
}

/// Returns a bit for each of sixteen bytes that plain text ends at.
#[cfg(target_arch = "x86_64")]
#[inline(always)]
fn ends_in(bytes: u128) -> u32 {
    use std::arch::x86_64::{__m128i, _mm_cmpeq_epi8, _mm_min_epu8, _mm_movemask_epi8, _mm_or_si128, _mm_set1_epi8};
    // SAFETY: every x86-64 has SSE2, and the sixteen bytes of the one type are those of the other.
    unsafe {
        let text = std::mem::transmute::<u128, __m128i>(bytes);
        let quote = _mm_cmpeq_epi8(text, _mm_set1_epi8(b'"' as i8));
        let backslash = _mm_cmpeq_epi8(text, _mm_set1_epi8(b'\\' as i8));
        let control = _mm_cmpeq_epi8(_mm_min_epu8(text, _mm_set1_epi8(0x1f)), text);
        _mm_movemask_epi8(_mm_or_si128(_mm_or_si128(quote, backslash), control)).cast_unsigned()
    }
}

/// Returns a bit for each of sixteen bytes that plain text ends at.
#[cfg(any(not(target_arch = "x86_64"), test))]
fn ends_one_by_one(bytes: u128) -> u32 {
    let ends = |byte: u8| byte < 0x20 || byte == b'"' || byte == b'\\';
    bytes.to_le_bytes().iter().rev().fold(0, |all, byte| all << 1 | u32::from(ends(*byte)))
}

#[cfg(not(target_arch = "x86_64"))]
use ends_one_by_one as ends_in;

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn padded<'a>(document: &str, arena: &'a Bump) -> Padded<'a> {
        RawDocument::copy(document.as_bytes(), arena).checked().unwrap()
    }

    #[test]
    fn a_text_is_what_stands_between_its_quotes() {
        let arena = Bump::new();
        let text = |document: &str, start| padded(document, &arena).plain_text(start);
        assert_eq!(text("\"a\u{e9}\" ", 1), Some(("a\u{e9}", 4)));
        assert_eq!(text("\"\"", 1), Some(("", 1)));
        for document in ["\"a", "\"a\\\"", "\"", "\"\u{1}\"", "\"a\n\""] {
            assert_eq!(text(document, 1), None, "{document}");
        }
        let long = format!("\"{}\"", "x".repeat(99));
        assert_eq!(text(&long, 1).unwrap().1, 100);
    }

    #[test]
    fn every_byte_is_told_at_every_place() {
        for byte in 0..=255_u8 {
            for at in 0..16 {
                let mut bytes = [b'x'; 16];
                bytes[at] = byte;
                let bytes = u128::from_le_bytes(bytes);
                assert_eq!(ends_in(bytes), ends_one_by_one(bytes), "{byte} at {at}");
            }
        }
    }

    proptest! {
        #[test]
        fn plain_text_ends_where_a_plain_search_ends(text in "[a-zé\\u{7f}\\u{20}\"\\\\\\u{1f}\\u{0}]{0,80}", at in 0_usize..81) {
            let at = at.min(text.len());
            let ends = |byte: &u8| *byte < 0x20 || *byte == b'"' || *byte == b'\\';
            let plainly = text.as_bytes()[at..].iter().position(ends).map_or(text.len(), |found| at + found);
            prop_assert_eq!(padded(&text, &Bump::new()).plain_end(at), plainly);
        }

        #[test]
        fn differences_are_told(same in 0_usize..20, length in 0_usize..20, from in 0_usize..=16) {
            let mut other = [b'y'; 16];
            other[..same.min(16)].fill(b'x');
            let document = format!("{}{}", "z".repeat(from), "x".repeat(length));
            let found = padded(&document, &Bump::new()).differences(0, from, &other);
            let plainly = (0..16).filter(|at| *at >= same.min(length)).fold(0, |all, at| all | 1_u32 << at);
            prop_assert_eq!(found, plainly);
        }
    }
}
