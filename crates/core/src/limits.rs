//! The limits of everything that is read, in one place: what devices, exports and files may hold. Whoever reads asks here,
//! and names the limit in the error.

use std::fmt;

/// Bytes of one record: a line, a row, an item of a list, a property list, a file of settings.
pub const RECORD_BYTES: usize = 16 << 20;
/// Levels of objects and lists within one another.
pub const DEPTH: usize = 127;
/// Fields of one record, at all its levels.
pub const FIELDS: usize = 100_000;
/// Bytes of all headings of a table.
pub const HEADINGS_BYTES: usize = 1 << 20;
/// Lines that one quoted cell of a table may run over.
pub const CELL_LINES: u64 = 1_000;
/// Bytes that a compressed file may decompress to.
pub const DECOMPRESSED_BYTES: u64 = 8 << 30;
/// Bytes of a SCIM list response, which is read whole.
pub const LIST_RESPONSE_BYTES: u64 = 256 << 20;
/// Values in a SCIM list response.
pub const LIST_RESPONSE_VALUES: usize = 5_000_000;
/// Bytes of a workbook, which is read whole.
pub const WORKBOOK_BYTES: u64 = 256 << 20;
/// Bytes that a workbook may decompress to.
pub const WORKBOOK_CONTENT_BYTES: u64 = 1 << 30;
/// Bytes of a workspace file.
pub const WORKSPACE_FILE_BYTES: u64 = 16 << 20;
/// Keys of a workspace file, at all its levels.
pub const WORKSPACE_KEYS: usize = 200_000;
/// Bytes of a stored document or finding after decompression.
pub const BODY_BYTES: usize = 64 << 20;
/// Bytes of an id of a device or a person.
pub const ID_BYTES: usize = 500;
/// Rejected records of one file that are kept with their line and reason; further ones are counted by reason.
pub const REJECTS_KEPT: u64 = 1_000;
/// Mistakes of one workspace file that are shown; further ones are counted.
pub const MISTAKES_SHOWN: usize = 100;
/// Characters of foreign text that a message quotes.
pub const QUOTED_CHARS: usize = 80;

/// Returns at most [`QUOTED_CHARS`] characters of a text for a message, with `..` where it goes on.
pub fn quoted(text: &str) -> Quoted<'_> {
    Quoted(text)
}

/// A text that shows its first [`QUOTED_CHARS`] characters.
#[derive(Clone, Copy, Debug)]
pub struct Quoted<'t>(&'t str);

impl fmt::Display for Quoted<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.0.char_indices().nth(QUOTED_CHARS) {
            Some((end, _)) => write!(f, "{}..", &self.0[..end]),
            None => f.write_str(self.0),
        }
    }
}

/// Writes bytes as MiB or GiB, for messages that name a limit.
pub fn size(bytes: u64) -> String {
    match bytes {
        gib if gib >= 1 << 30 => format!("{} GiB", gib >> 30),
        mib if mib >= 1 << 20 => format!("{} MiB", mib >> 20),
        bytes => format!("{bytes} bytes"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_quote_is_cut_between_characters() {
        assert_eq!(quoted("short").to_string(), "short");
        let long = "é".repeat(QUOTED_CHARS + 1);
        assert_eq!(quoted(&long).to_string(), format!("{}..", "é".repeat(QUOTED_CHARS)));
    }

    #[test]
    fn sizes_are_said_in_the_largest_unit_that_fits() {
        assert_eq!([size(500), size(16 << 20), size(8 << 30)], ["500 bytes", "16 MiB", "8 GiB"]);
    }
}
