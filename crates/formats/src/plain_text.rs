//! Finds where plain text ends in a JSON document, sixteen bytes at a time. The only module with unsafe code.
#![expect(unsafe_code, reason = "intrinsics are unsafe to call, and what was found need not be checked again")]

/// Returns where the first byte at or after `at` stands that plain text ends at: a quote, a backslash or a control
/// character; the length where there is none.
#[inline(always)]
pub(crate) fn plain_end(bytes: &[u8], mut at: usize) -> usize {
    #[cfg(target_arch = "x86_64")]
    while let Some(chunk) = bytes.get(at..).and_then(|rest| rest.first_chunk::<16>()) {
        use std::arch::x86_64::{
            __m128i, _mm_cmpeq_epi8, _mm_loadu_si128, _mm_min_epu8, _mm_movemask_epi8, _mm_or_si128, _mm_set1_epi8,
        };
        // SAFETY: every x86-64 has SSE2, and the load reads the 16 bytes that `chunk` lends, wherever they lie.
        let found = unsafe {
            let text = _mm_loadu_si128(chunk.as_ptr().cast::<__m128i>());
            let quote = _mm_cmpeq_epi8(text, _mm_set1_epi8(b'"' as i8));
            let backslash = _mm_cmpeq_epi8(text, _mm_set1_epi8(b'\\' as i8));
            let control = _mm_cmpeq_epi8(_mm_min_epu8(text, _mm_set1_epi8(0x1f)), text);
            _mm_movemask_epi8(_mm_or_si128(_mm_or_si128(quote, backslash), control))
        };
        if found != 0 {
            return at + found.trailing_zeros() as usize;
        }
        at += 16;
    }
    while bytes.get(at).is_some_and(|byte| *byte >= 0x20 && *byte != b'"' && *byte != b'\\') {
        at += 1;
    }
    at
}

/// Returns a text that a quote opens right before `start`, and where it ends, if nothing in it is escaped.
#[inline(always)]
pub(crate) fn plain_text(document: &str, start: usize) -> Option<(&str, usize)> {
    let bytes = document.as_bytes();
    let end = plain_end(bytes, start);
    if bytes.get(start.wrapping_sub(1)) != Some(&b'"') || bytes.get(end) != Some(&b'"') {
        return None;
    }
    // SAFETY: a quote stands before `start` and one at `end`, which is no less, and a quote is a character by itself: so
    // both are where characters begin.
    Some((unsafe { document.get_unchecked(start..end) }, end))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn plainly(bytes: &[u8], at: usize) -> usize {
        let ends = |byte: &u8| *byte < 0x20 || *byte == b'"' || *byte == b'\\';
        bytes[at.min(bytes.len())..].iter().position(ends).map_or(bytes.len().max(at), |found| at + found)
    }

    #[test]
    fn a_text_is_what_stands_between_its_quotes() {
        assert_eq!(plain_text("\"a\u{e9}\" ", 1), Some(("a\u{e9}", 4)));
        assert_eq!(plain_text("\"\"", 1), Some(("", 1)));
        for (document, start) in
            [("a", 0), ("a\"", 0), ("\"a", 1), ("\"a\\\"", 1), ("\"", 1), ("\"", 9), ("\u{e9}\"", 1)]
        {
            assert_eq!(plain_text(document, start), None, "{document}");
        }
    }

    proptest! {
        #[test]
        fn it_ends_where_a_plain_search_ends(text in "[a-zé\\u{7f}\\u{20}\"\\\\\\u{1f}\\u{0}]{0,80}", at in 0_usize..90) {
            let at = at.min(text.len());
            prop_assert_eq!(plain_end(text.as_bytes(), at), plainly(text.as_bytes(), at));
        }
    }

    #[test]
    fn every_byte_is_told_at_every_place() {
        for byte in 0..=255_u8 {
            for at in 0..40 {
                let mut bytes = [b'x'; 40];
                bytes[at] = byte;
                assert_eq!(plain_end(&bytes, 0), plainly(&bytes, 0), "{byte} at {at}");
            }
        }
    }
}
