//! Decompresses files: gzip (RFC 1952) or Zstandard (RFC 8878), and UTF-16 with a byte order mark.

use std::io::{self, BufRead, BufReader, Read};

use fencepost_core::limits::{self, DECOMPRESSED_BYTES};
use flate2::bufread::MultiGzDecoder;

const BUFFER: usize = 1 << 18;

/// Returns the text of a file: decompressed, and as UTF-8 where it begins with the mark of UTF-16.
///
/// # Errors
/// When its beginning cannot be read; reading fails where the file is broken, or decompresses to more than
/// [`DECOMPRESSED_BYTES`].
pub fn decompress<'i>(input: impl BufRead + Send + 'i) -> io::Result<Box<dyn BufRead + Send + 'i>> {
    decompress_up_to(input, DECOMPRESSED_BYTES)
}

fn decompress_up_to<'i>(mut input: impl BufRead + Send + 'i, most: u64) -> io::Result<Box<dyn BufRead + Send + 'i>> {
    let start = peek(&mut input)?;
    if start.starts_with(&[0x1f, 0x8b]) {
        return decoded(BufReader::with_capacity(
            BUFFER,
            Capped { inner: MultiGzDecoder::new(input), left: most, most },
        ));
    }
    if start.starts_with(&[0x28, 0xb5, 0x2f, 0xfd]) {
        let inner = zstd::stream::read::Decoder::with_buffer(input)?;
        return decoded(BufReader::with_capacity(BUFFER, Capped { inner, left: most, most }));
    }
    decoded(input)
}

/// Returns the first bytes of a stream without taking them; fewer only where it is shorter.
fn peek(input: &mut impl BufRead) -> io::Result<Vec<u8>> {
    // A pipe may give one byte at first; two bytes tell everything but Zstandard, and its frames come in one chunk.
    loop {
        match input.fill_buf() {
            Ok(bytes) => return Ok(bytes[..bytes.len().min(4)].to_vec()),
            Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
            Err(error) => return Err(error),
        }
    }
}

fn decoded<'i>(mut input: impl BufRead + Send + 'i) -> io::Result<Box<dyn BufRead + Send + 'i>> {
    let start = peek(&mut input)?;
    let big = match start.get(..2) {
        Some([0xff, 0xfe]) => false,
        Some([0xfe, 0xff]) => true,
        _ => return Ok(Box::new(input)),
    };
    input.consume(2);
    Ok(Box::new(BufReader::with_capacity(BUFFER, Utf16 { inner: input, big, taken: 2, rest: Vec::new(), given: 0 })))
}

struct Capped<R> {
    inner: R,
    left: u64,
    most: u64,
}

impl<R: Read> Read for Capped<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let read = self.inner.read(buffer)?;
        match self.left.checked_sub(read as u64) {
            Some(left) => self.left = left,
            None => {
                let message = format!("the file decompresses to more than {}; split it", limits::size(self.most));
                return Err(io::Error::new(io::ErrorKind::InvalidData, message));
            }
        }
        Ok(read)
    }
}

/// Turns UTF-16 into UTF-8, a chunk at a time.
struct Utf16<R> {
    inner: R,
    big: bool,
    taken: u64,
    /// UTF-8 that was not given out yet.
    rest: Vec<u8>,
    given: usize,
}

impl<R: BufRead> Utf16<R> {
    fn unit(&mut self) -> io::Result<Option<u16>> {
        let mut pair = [0; 2];
        if self.inner.fill_buf()?.is_empty() {
            return Ok(None);
        }
        self.inner.read_exact(&mut pair).map_err(|_| self.broken("half a character"))?;
        self.taken += 2;
        Ok(Some(if self.big { u16::from_be_bytes(pair) } else { u16::from_le_bytes(pair) }))
    }

    fn broken(&self, what: &str) -> io::Error {
        io::Error::new(io::ErrorKind::InvalidData, format!("byte {}: {what}; this is no whole UTF-16", self.taken))
    }

    fn fill(&mut self) -> io::Result<()> {
        self.rest.clear();
        self.given = 0;
        while self.rest.len() < 4096 {
            let Some(first) = self.unit()? else { break };
            let c = if (0xd800..0xdc00).contains(&first) {
                let second = self.unit()?.ok_or_else(|| self.broken("half a character"))?;
                char::decode_utf16([first, second]).next().and_then(Result::ok)
            } else {
                char::from_u32(u32::from(first))
            };
            let c = c.ok_or_else(|| self.broken("half a character"))?;
            self.rest.extend_from_slice(c.encode_utf8(&mut [0; 4]).as_bytes());
        }
        Ok(())
    }
}

impl<R: BufRead> Read for Utf16<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        if self.given == self.rest.len() {
            self.fill()?;
        }
        let chunk = &self.rest[self.given..];
        let length = chunk.len().min(buffer.len());
        buffer[..length].copy_from_slice(&chunk[..length]);
        self.given += length;
        Ok(length)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::Write as _;

    fn text(bytes: &[u8], most: u64) -> io::Result<String> {
        let mut out = String::new();
        decompress_up_to(bytes, most)?.read_to_string(&mut out)?;
        Ok(out)
    }

    fn gzip(bytes: &[u8]) -> Vec<u8> {
        let mut encoder = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
        encoder.write_all(bytes).unwrap();
        encoder.finish().unwrap()
    }

    fn utf16(text: &str, big: bool) -> Vec<u8> {
        let units = std::iter::once(0xfeff).chain(text.encode_utf16());
        units.flat_map(|unit| if big { unit.to_be_bytes() } else { unit.to_le_bytes() }).collect()
    }

    #[test]
    fn wrappings_are_told_by_their_first_bytes() {
        let plain = "Größe\n日本 🚢\n".repeat(3000);
        assert_eq!(text(plain.as_bytes(), 9).unwrap(), plain);
        assert_eq!(text(&gzip(plain.as_bytes()), 1 << 20).unwrap(), plain);
        assert_eq!(text(&[gzip(b"a"), gzip(b"b")].concat(), 9).unwrap(), "ab");
        assert_eq!(text(&zstd::encode_all(plain.as_bytes(), 1).unwrap(), 1 << 20).unwrap(), plain);
        for big in [false, true] {
            assert_eq!(text(&utf16(&plain, big), 9).unwrap(), plain);
            assert_eq!(text(&gzip(&utf16(&plain, big)), 1 << 20).unwrap(), plain);
        }
        assert_eq!(text(b"", 9).unwrap(), "");
    }

    #[test]
    fn what_decompresses_to_too_much_or_is_cut_short_is_an_error() {
        let bomb = gzip(&vec![b'a'; 1_000_001]);
        assert!(text(&bomb, 1_000_000).unwrap_err().to_string().contains("more than 1000000 bytes; split it"));
        assert_eq!(text(&bomb, 1_000_001).unwrap().len(), 1_000_001);
        assert!(text(&bomb[..bomb.len() / 2], 1 << 30).is_err());
        assert!(text(&[0xff, 0xfe, b'a'], 9).unwrap_err().to_string().contains("UTF-16"));
        assert!(text(&[0xff, 0xfe, 0x00, 0xd8, b'a', 0], 9).unwrap_err().to_string().contains("byte 6"));
    }
}
