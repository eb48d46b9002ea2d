//! Cuts a stream into lines without holding more than one of them, and without trusting their length.

use std::io::{self, BufRead};

/// A line may not be longer than this, in bytes.
pub const MAX_LINE: usize = 16 * 1024 * 1024;

/// One line that is not empty.
#[derive(Clone, Copy, Debug)]
pub struct Line<'l> {
    /// Its number in the file, from 1.
    pub number: u64,
    /// Where it begins in the file, in bytes.
    pub offset: u64,
    /// What it holds, without its end.
    pub bytes: &'l [u8],
}

/// Why there is no line.
#[derive(Debug, thiserror::Error)]
pub enum LineError {
    /// The stream broke.
    #[error(transparent)]
    Read(#[from] io::Error),
    /// A line was too long; reading goes on behind it.
    #[error("a line is longer than {MAX_LINE} bytes")]
    TooLong {
        /// Its number.
        number: u64,
        /// Where it begins.
        offset: u64,
    },
}

/// Reads lines from a stream.
#[derive(Debug)]
pub struct Lines<R> {
    reader: R,
    buffer: Vec<u8>,
    number: u64,
    offset: u64,
}

impl<R: BufRead> Lines<R> {
    /// Creates a reader at the start of a stream.
    pub fn new(reader: R) -> Self {
        Self { reader, buffer: Vec::new(), number: 0, offset: 0 }
    }

    /// Returns the next line that is not empty; none at the end.
    ///
    /// # Errors
    /// When the stream breaks, or a line is too long; after the latter the next call goes on behind it.
    pub fn next_line(&mut self) -> Result<Option<Line<'_>>, LineError> {
        loop {
            self.buffer.clear();
            let offset = self.offset;
            let too_long = self.fill()?;
            if self.offset == offset {
                return Ok(None);
            }
            self.number += 1;
            if too_long {
                return Err(LineError::TooLong { number: self.number, offset });
            }
            let mark: &[u8] = "\u{feff}".as_bytes();
            let skip = if self.number == 1 && self.buffer.starts_with(mark) { mark.len() } else { 0 };
            let end =
                self.buffer.len() - self.buffer.iter().rev().take_while(|byte| matches!(byte, b'\n' | b'\r')).count();
            let content = skip.min(end)..end;
            if !self.buffer[content.clone()].iter().all(u8::is_ascii_whitespace) {
                return Ok(Some(Line { number: self.number, offset, bytes: &self.buffer[content] }));
            }
        }
    }

    /// Reads up to the end of a line; true when it had to be cut.
    fn fill(&mut self) -> io::Result<bool> {
        let mut cut = false;
        loop {
            let available = match self.reader.fill_buf() {
                Err(error) if error.kind() == io::ErrorKind::Interrupted => continue,
                other => other?,
            };
            if available.is_empty() {
                return Ok(cut);
            }
            let end = available.iter().position(|byte| *byte == b'\n').map(|at| at + 1);
            let taken = end.unwrap_or(available.len());
            if self.buffer.len() + taken <= MAX_LINE {
                self.buffer.extend_from_slice(&available[..taken]);
            } else {
                cut = true;
                self.buffer.clear();
            }
            self.reader.consume(taken);
            self.offset += taken as u64;
            if end.is_some() {
                return Ok(cut);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_are_counted_with_the_empty_ones_and_the_mark_is_dropped() {
        let mut lines = Lines::new("\u{feff}a\r\n\n  \nb".as_bytes());
        let mut seen = Vec::new();
        while let Some(line) = lines.next_line().unwrap() {
            seen.push((line.number, line.offset, String::from_utf8(line.bytes.to_vec()).unwrap()));
        }
        assert_eq!(seen, [(1, 0, "a".to_owned()), (4, 10, "b".to_owned())]);
    }

    #[test]
    fn a_line_that_is_too_long_is_passed_over() {
        let text = format!("{}\nb\n", "a".repeat(MAX_LINE + 1));
        let mut lines = Lines::new(text.as_bytes());
        assert!(matches!(lines.next_line(), Err(LineError::TooLong { number: 1, offset: 0 })));
        assert_eq!(lines.next_line().unwrap().unwrap().bytes, b"b");
        assert!(lines.next_line().unwrap().is_none());
    }
}
