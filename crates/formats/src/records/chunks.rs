//! Takes a stream apart: into chunks of whole lines, and those into lines.

use std::io::{self, Read};

use fencepost_core::limits::RECORD_BYTES;
use memchr::{memchr, memrchr};

use crate::padded::{ROOM, RawDocument};

/// How much is read at once.
const PIECE: usize = 256 * 1024;

/// A line that is not blank.
#[derive(Clone, Copy, Debug)]
pub struct Line<'p> {
    /// Its number, from 1; of a chunk's line counted from where the chunk begins.
    pub number: u64,
    /// Where it begins in the stream, in bytes.
    pub offset: u64,
    /// What it holds, without its end; none when it is too long.
    pub content: Option<RawDocument<'p>>,
}

/// Some whole lines of a stream, to be used again and again.
#[derive(Debug, Default)]
pub struct Chunk {
    buffer: Vec<u8>,
    length: usize,
    offset: u64,
    /// It is one line of which only the beginning was kept.
    too_long: bool,
}

impl Chunk {
    /// Returns its lines that are not blank. While one of them is looked at, a zero stands where it ends.
    pub fn lines(&mut self) -> LinesOf<'_> {
        let mark = "\u{feff}".as_bytes();
        let skipped = if self.offset == 0 && self.buffer[..self.length].starts_with(mark) { mark.len() } else { 0 };
        grow(&mut self.buffer, self.length + ROOM);
        LinesOf { chunk: self, at: 0, number: 0, skipped, ended: None }
    }
}

/// The lines of a chunk.
#[derive(Debug)]
pub struct LinesOf<'p> {
    chunk: &'p mut Chunk,
    /// Where the next one begins.
    at: usize,
    number: u64,
    /// Bytes of a byte order mark that stands before the first line.
    skipped: usize,
    /// Where a zero stands, and what it stands for.
    ended: Option<(usize, u8)>,
}

impl LinesOf<'_> {
    /// Returns how many lines have been gone through, blank ones among them.
    pub fn passed(&self) -> u64 {
        self.number
    }

    /// Lends the next line, until the one after it is asked for.
    pub fn next_line(&mut self) -> Option<Line<'_>> {
        self.restore();
        while self.at < self.chunk.length {
            let start = self.at;
            let rest = &self.chunk.buffer[start..self.chunk.length];
            let length = memchr(b'\n', rest).map_or(rest.len(), |at| at + 1);
            let line = &rest[..length];
            let (number, offset) = (self.number + 1, self.chunk.offset + start as u64);
            self.number = number;
            self.at += length;
            let skipped = std::mem::take(&mut self.skipped);
            if self.chunk.too_long || length > RECORD_BYTES {
                return Some(Line { number, offset, content: None });
            }
            let ends = line.iter().rev().take_while(|byte| matches!(byte, b'\n' | b'\r')).count();
            let content = skipped..length.saturating_sub(ends).max(skipped);
            if line[content.clone()].iter().all(u8::is_ascii_whitespace) {
                continue;
            }
            let (start, end) = (start + content.start, start + content.end);
            self.ended = Some((end, std::mem::replace(&mut self.chunk.buffer[end], 0)));
            let content = RawDocument::with_room(&self.chunk.buffer[start..end + ROOM]);
            return Some(Line { number, offset, content: Some(content) });
        }
        None
    }

    fn restore(&mut self) {
        if let Some((at, byte)) = self.ended.take() {
            self.chunk.buffer[at] = byte;
        }
    }
}

impl Drop for LinesOf<'_> {
    fn drop(&mut self) {
        self.restore();
    }
}

/// Makes a buffer at least so long.
fn grow(buffer: &mut Vec<u8>, length: usize) {
    if buffer.is_empty() {
        // Memory that is not read into yet costs nothing this way.
        *buffer = vec![0; length];
    } else if buffer.len() < length {
        buffer.resize(length, 0);
    }
}

/// Reads chunks from a stream.
#[derive(Debug)]
pub struct Chunks<R> {
    reader: R,
    /// What was read of the next chunk already.
    rest: Vec<u8>,
    offset: u64,
    ended: bool,
}

impl<R: Read> Chunks<R> {
    /// Creates a reader at the start of a stream.
    pub fn new(reader: R) -> Self {
        Self { reader, rest: Vec::new(), offset: 0, ended: false }
    }

    /// Reads the next chunk; false at the end.
    ///
    /// # Errors
    /// When the stream breaks.
    pub fn read_into(&mut self, chunk: &mut Chunk) -> io::Result<bool> {
        chunk.offset = self.offset;
        chunk.too_long = false;
        chunk.length = self.rest.len();
        grow(&mut chunk.buffer, chunk.length + PIECE);
        chunk.buffer[..chunk.length].copy_from_slice(&self.rest);
        self.rest.clear();
        // Up to where there is no end of a line.
        let mut searched = 0;
        loop {
            self.fill(chunk, searched)?;
            if let Some(at) = memrchr(b'\n', &chunk.buffer[searched..chunk.length]) {
                let end = searched + at + 1;
                self.rest.extend_from_slice(&chunk.buffer[end..chunk.length]);
                chunk.length = end;
                break;
            }
            if self.ended {
                break;
            }
            searched = chunk.length;
            if searched > RECORD_BYTES {
                return self.pass_over(chunk);
            }
        }
        self.offset += chunk.length as u64;
        Ok(chunk.length > 0)
    }

    /// Reads at least half a chunk more, unless the stream ends.
    fn fill(&mut self, chunk: &mut Chunk, from: usize) -> io::Result<()> {
        let wanted = from + PIECE;
        grow(&mut chunk.buffer, wanted);
        while !self.ended && chunk.length < from + PIECE / 2 {
            match self.reader.read(&mut chunk.buffer[chunk.length..wanted]) {
                Ok(0) => self.ended = true,
                Ok(read) => chunk.length += read,
                Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                Err(error) => return Err(error),
            }
        }
        Ok(())
    }

    /// Goes past a line that is too long, of which one byte is kept.
    fn pass_over(&mut self, chunk: &mut Chunk) -> io::Result<bool> {
        let mut passed = chunk.length as u64;
        chunk.too_long = true;
        loop {
            chunk.length = 0;
            self.fill(chunk, 0)?;
            if let Some(end) = memchr(b'\n', &chunk.buffer[..chunk.length]) {
                self.rest.extend_from_slice(&chunk.buffer[end + 1..chunk.length]);
                self.offset += passed + end as u64 + 1;
                break;
            }
            passed += chunk.length as u64;
            if self.ended {
                self.offset += passed;
                break;
            }
        }
        // Not the size of the line that was given up.
        chunk.buffer.truncate(PIECE);
        chunk.buffer.shrink_to_fit();
        chunk.length = 1;
        Ok(true)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// Gives a few bytes at a time, as a pipe may.
    struct Drops<'b>(&'b [u8], usize);

    impl Read for Drops<'_> {
        fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
            let length = self.1.min(buffer.len()).min(self.0.len());
            buffer[..length].copy_from_slice(&self.0[..length]);
            self.0 = &self.0[length..];
            Ok(length)
        }
    }

    /// All lines of a stream: number, offset, and what they hold.
    fn lines(stream: impl Read) -> Vec<(u64, u64, Option<String>)> {
        let (mut chunks, mut chunk) = (Chunks::new(stream), Chunk::default());
        let (mut found, mut before) = (Vec::new(), 0);
        while chunks.read_into(&mut chunk).unwrap() {
            let mut lines = chunk.lines();
            while let Some(line) = lines.next_line() {
                let text = line.content.map(|content| String::from_utf8(content.bytes().to_vec()).unwrap());
                found.push((before + line.number, line.offset, text));
            }
            before += lines.passed();
        }
        found
    }

    #[test]
    fn lines_are_counted_with_the_empty_ones_and_the_mark_is_dropped() {
        let found = lines("\u{feff}a\r\n\n  \nb".as_bytes());
        assert_eq!(found, [(1, 0, Some("a".to_owned())), (4, 10, Some("b".to_owned()))]);
    }

    #[test]
    fn a_piece_is_as_it_was_after_its_lines_were_gone_through_or_left() {
        let text = "\u{feff}{\"a\":1}\r\n\n{\"b\":2}\n";
        let (mut chunks, mut chunk) = (Chunks::new(text.as_bytes()), Chunk::default());
        assert!(chunks.read_into(&mut chunk).unwrap());
        let mut first = chunk.lines();
        assert_eq!(first.next_line().and_then(|line| line.content).unwrap().bytes(), br#"{"a":1}"#);
        // Left behind the first line.
        drop(first);
        for _ in 0..2 {
            let (mut lines, mut found) = (chunk.lines(), Vec::new());
            while let Some(line) = lines.next_line() {
                found.push((
                    line.number,
                    line.offset,
                    String::from_utf8(line.content.unwrap().bytes().to_vec()).unwrap(),
                ));
            }
            assert_eq!(found, [(1, 0, r#"{"a":1}"#.to_owned()), (3, 13, r#"{"b":2}"#.to_owned())]);
        }
    }

    #[test]
    fn a_line_that_is_too_long_is_passed_over() {
        for ending in ["\n", "\nb\n", ""] {
            let text = format!("x\n{}{ending}", "a".repeat(RECORD_BYTES + 1));
            let found = lines(text.as_bytes());
            assert_eq!(found[..2], [(1, 0, Some("x".to_owned())), (2, 2, None)]);
            let rest = if ending.len() > 1 { vec![(3, RECORD_BYTES as u64 + 4, Some("b".to_owned()))] } else { vec![] };
            assert_eq!(found[2..], rest);
        }
        let most = "a".repeat(RECORD_BYTES - 1);
        assert_eq!(lines(format!("{most}\nb").as_bytes())[0].2.as_ref().map(String::len), Some(RECORD_BYTES - 1));
    }

    proptest! {
        /// However the bytes come, the lines are those of the text.
        #[test]
        fn pieces_change_nothing(parts in prop::collection::vec((0_usize..3, 0_usize..200_000), 0..8), drop in 1_usize..400_000) {
            let text: String = parts.iter().map(|(kind, length)| match kind {
                0 => "\n".to_owned(),
                1 => format!("{}\r\n", "é".repeat(length / 2)),
                _ => "x".repeat(*length),
            }).collect();
            let plain: Vec<(u64, u64, Option<String>)> = {
                let (mut at, mut found) = (0, Vec::new());
                for (number, line) in text.split_inclusive('\n').enumerate() {
                    let content = line.trim_end_matches(['\n', '\r']);
                    if !content.is_empty() {
                        found.push((number as u64 + 1, at, Some(content.to_owned())));
                    }
                    at += line.len() as u64;
                }
                found
            };
            prop_assert_eq!(lines(Drops(text.as_bytes(), drop)), plain);
        }
    }
}
