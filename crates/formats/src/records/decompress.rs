//! Opens files as text: decompressed where they are gzip (RFC 1952) or Zstandard (RFC 8878), and as UTF-8, from whatever encoding.

use std::io::{self, BufRead, BufReader, Read};
use std::ops::Range;

use encoding_rs::{Decoder, DecoderResult, Encoding, UTF_8, UTF_16BE, UTF_16LE};
use fencepost_core::limits::{self, DECOMPRESSED_BYTES};
use flate2::bufread::MultiGzDecoder;

const BUFFER: usize = 1 << 18;

/// Returns what a file holds, decompressed.
///
/// # Errors
/// When its beginning cannot be read; reading fails where the file is broken, or decompresses to more than
/// [`DECOMPRESSED_BYTES`].
pub fn decompress<'i>(input: impl BufRead + Send + 'i) -> io::Result<Box<dyn BufRead + Send + 'i>> {
    decompress_up_to(input, DECOMPRESSED_BYTES)
}

/// Returns the text of a file, decompressed, as UTF-8: what begins with the mark of UTF-16 is read so, everything else in the encoding
/// that is said. UTF-8 is handed on unchecked.
///
/// # Errors
/// As [`decompress`]; reading fails where bytes are none of the encoding.
pub fn open_text<'i>(
    input: impl BufRead + Send + 'i,
    encoding: Option<&'static Encoding>,
) -> io::Result<Box<dyn BufRead + Send + 'i>> {
    let mut input = decompress(input)?;
    let encoding = match Encoding::for_bom(&peek(&mut input)?) {
        Some((marked, _)) if marked != UTF_8 => marked,
        Some(_) => return Ok(input),
        None => match encoding {
            None => return Ok(input),
            Some(encoding) if encoding == UTF_8 => return Ok(input),
            Some(encoding) => encoding,
        },
    };
    let decoder = encoding.new_decoder();
    let transcoded = Transcoded { inner: input, decoder, taken: 0, text: vec![0; BUFFER], given: 0..0, ended: false };
    Ok(Box::new(BufReader::with_capacity(BUFFER, transcoded)))
}

fn decompress_up_to<'i>(mut input: impl BufRead + Send + 'i, most: u64) -> io::Result<Box<dyn BufRead + Send + 'i>> {
    let start = peek(&mut input)?;
    if start.starts_with(&[0x1f, 0x8b]) {
        let inner = MultiGzDecoder::new(input);
        return Ok(Box::new(BufReader::with_capacity(BUFFER, Capped { inner, left: most, most })));
    }
    if start.starts_with(&[0x28, 0xb5, 0x2f, 0xfd]) {
        let inner = zstd::stream::read::Decoder::with_buffer(input)?;
        return Ok(Box::new(BufReader::with_capacity(BUFFER, Capped { inner, left: most, most })));
    }
    Ok(Box::new(input))
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

/// Turns text of another encoding into UTF-8, a piece at a time.
struct Transcoded<R> {
    inner: R,
    decoder: Decoder,
    /// Bytes read.
    taken: u64,
    text: Vec<u8>,
    /// What of the text was not given out yet.
    given: Range<usize>,
    ended: bool,
}

impl<R: BufRead> Transcoded<R> {
    fn fill(&mut self) -> io::Result<()> {
        while self.given.is_empty() && !self.ended {
            let bytes = self.inner.fill_buf()?;
            let last = bytes.is_empty();
            let (result, read, written) = self.decoder.decode_to_utf8_without_replacement(bytes, &mut self.text, last);
            self.inner.consume(read);
            self.taken += read as u64;
            self.given = 0..written;
            if let DecoderResult::Malformed(_, _) = result {
                let name = self.decoder.encoding().name();
                let whole =
                    if [UTF_16LE, UTF_16BE].contains(&self.decoder.encoding()) { "half a character; " } else { "" };
                let message = format!("byte {}: {whole}this is no whole {name}", self.taken);
                return Err(io::Error::new(io::ErrorKind::InvalidData, message));
            }
            self.ended = last && result == DecoderResult::InputEmpty;
        }
        Ok(())
    }
}

impl<R: BufRead> Read for Transcoded<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        self.fill()?;
        let length = self.given.len().min(buffer.len());
        buffer[..length].copy_from_slice(&self.text[self.given.start..self.given.start + length]);
        self.given.start += length;
        Ok(length)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::Write as _;

    fn text(bytes: &[u8], most: u64) -> io::Result<String> {
        let mut out = String::new();
        open_text(BufReader::new(decompress_up_to(bytes, most)?), None)?.read_to_string(&mut out)?;
        Ok(out)
    }

    fn encoded(bytes: &[u8], encoding: &str) -> io::Result<String> {
        let mut out = String::new();
        open_text(bytes, Encoding::for_label(encoding.as_bytes()))?.read_to_string(&mut out)?;
        Ok(out)
    }

    #[test]
    fn an_encoding_is_said_and_a_mark_outweighs_it() {
        assert_eq!(encoded(b"Gr\xf6\xdfe \x80", "windows-1252").unwrap(), "Größe €");
        assert_eq!(encoded(b"\x93\xfa\x96{", "shift_jis").unwrap(), "日本");
        assert_eq!(encoded("Größe".as_bytes(), "utf-8").unwrap(), "Größe");
        assert_eq!(encoded("\u{feff}Größe".as_bytes(), "windows-1252").unwrap(), "\u{feff}Größe");
        assert_eq!(encoded(&utf16("Größe", true), "windows-1252").unwrap(), "Größe");
        let unmarked: Vec<u8> = "Größe".encode_utf16().flat_map(u16::to_le_bytes).collect();
        assert_eq!(encoded(&unmarked, "utf-16le").unwrap(), "Größe");
        let error = encoded(b"ok \x93", "shift_jis").unwrap_err().to_string();
        assert!(error.contains("byte 4: this is no whole Shift_JIS"), "{error}");
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
        assert!(text(&[0xff, 0xfe, 0x00, 0xd8, b'a', 0], 9).unwrap_err().to_string().contains("half a character"));
    }
}
