//! Bodies of documents as they are kept: compressed, with a dictionary where the ledger has one, and known by their hash.

use std::collections::HashMap;
use std::collections::hash_map::Entry;
use std::io::{self, Read as _};
use std::path::PathBuf;
use std::sync::{Arc, Mutex};

use fencepost_core::limits::{self, BODY_BYTES};
use zstd::bulk::{Compressor, Decompressor};
use zstd::dict::{DecoderDictionary, EncoderDictionary};

use crate::error::LedgerError;

/// How hard bodies are compressed: with a dictionary harder is quicker, since there is less to write.
const LEVEL: i32 = 3;
/// How large a dictionary is, in bytes.
const DICTIONARY: usize = 64 * 1024;

/// Returns what a body is known by.
pub fn body_hash(body: &[u8]) -> [u8; 32] {
    *blake3::hash(body).as_bytes()
}

/// Makes a dictionary of bodies that are like those to come; none where they do not make one.
pub fn train_dictionary(samples: &[Vec<u8>]) -> Option<Vec<u8>> {
    zstd::dict::from_samples(samples, DICTIONARY).ok()
}

/// Compresses and unpacks bodies, on any thread.
pub struct Bodies {
    path: PathBuf,
    decoders: HashMap<u32, DecoderDictionary<'static>>,
    encoder: Option<EncoderDictionary<'static>>,
}

/// The bodies of a ledger, made when they are first asked for, and again when there is a new dictionary.
pub(crate) type SharedBodies = Arc<Mutex<Option<Arc<Bodies>>>>;

impl std::fmt::Debug for Bodies {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Bodies with {} dictionaries", self.decoders.len())
    }
}

impl Bodies {
    /// Creates what a ledger's dictionaries compress, the newest last.
    pub(crate) fn new(path: PathBuf, dictionaries: &[Vec<u8>]) -> Self {
        let id_of = |bytes: &[u8]| zstd::zstd_safe::get_dict_id_from_dict(bytes).map(Into::into);
        let decoders =
            dictionaries.iter().filter_map(|bytes| Some((id_of(bytes)?, DecoderDictionary::copy(bytes)))).collect();
        let encoder = dictionaries.last().map(|bytes| EncoderDictionary::copy(bytes, LEVEL));
        Self { path, decoders, encoder }
    }

    /// Whether bodies are compressed with a dictionary.
    pub fn has_dictionary(&self) -> bool {
        self.encoder.is_some()
    }

    fn failed(&self) -> impl Fn(io::Error) -> LedgerError + '_ {
        |error| LedgerError::Files { act: "write", path: self.path.clone(), error }
    }

    /// Returns what compresses one body after the other.
    ///
    /// # Errors
    /// When there is no memory for it.
    pub fn packer(&self) -> Result<BodyPacker<'_>, LedgerError> {
        let made = match &self.encoder {
            Some(dictionary) => Compressor::with_prepared_dictionary(dictionary),
            None => Compressor::new(LEVEL),
        };
        Ok(BodyPacker { compressor: made.map_err(self.failed())?, bodies: self })
    }

    /// Returns what unpacks one body after the other.
    pub fn unpacker(&self) -> BodyUnpacker<'_> {
        BodyUnpacker { bodies: self, open: HashMap::new() }
    }
}

/// Unpacks bodies.
pub struct BodyUnpacker<'b> {
    bodies: &'b Bodies,
    /// By the dictionary that bodies name; 0 where they name none.
    open: HashMap<u32, Decompressor<'b>>,
}

impl std::fmt::Debug for BodyUnpacker<'_> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("BodyUnpacker")
    }
}

impl BodyUnpacker<'_> {
    /// Unpacks a body.
    ///
    /// # Errors
    /// When it is damaged.
    pub fn unpack(&mut self, body: &[u8]) -> Result<Vec<u8>, LedgerError> {
        self.try_unpack(body).map_err(|error| LedgerError::Damaged {
            path: self.bodies.path.clone(),
            what: format!("a document cannot be unpacked: {error}"),
        })
    }

    fn try_unpack(&mut self, body: &[u8]) -> io::Result<Vec<u8>> {
        // A text that was compressed as a stream does not say how long it is.
        let Some(size) = zstd::zstd_safe::get_frame_content_size(body).ok().flatten() else {
            return decompress_plain(body);
        };
        let size = usize::try_from(size).ok().filter(|size| *size <= BODY_BYTES).ok_or_else(too_long)?;
        let id = zstd::zstd_safe::get_dict_id_from_frame(body).map_or(0, u32::from);
        let decompressor = match self.open.entry(id) {
            Entry::Occupied(open) => open.into_mut(),
            Entry::Vacant(place) => place.insert(match self.bodies.decoders.get(&id) {
                Some(dictionary) => Decompressor::with_prepared_dictionary(dictionary)?,
                None if id == 0 => Decompressor::new()?,
                None => return Err(io::Error::other("its dictionary is not there")),
            }),
        };
        decompressor.decompress(body, size)
    }
}

fn too_long() -> io::Error {
    io::Error::other(format!("it is longer than {}", limits::size(BODY_BYTES as u64)))
}

/// Decompresses a body that was compressed without a dictionary, and may not say how long it is.
pub(crate) fn decompress_plain(body: &[u8]) -> io::Result<Vec<u8>> {
    let mut out = Vec::new();
    zstd::stream::read::Decoder::new(body)?.take(BODY_BYTES as u64 + 1).read_to_end(&mut out)?;
    if out.len() > BODY_BYTES { Err(too_long()) } else { Ok(out) }
}

/// Compresses bodies.
pub struct BodyPacker<'b> {
    compressor: Compressor<'b>,
    bodies: &'b Bodies,
}

impl std::fmt::Debug for BodyPacker<'_> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("BodyPacker")
    }
}

impl BodyPacker<'_> {
    /// Compresses a body.
    ///
    /// # Errors
    /// When there is no memory for it.
    pub fn pack(&mut self, body: &[u8]) -> Result<Vec<u8>, LedgerError> {
        self.compressor.compress(body).map_err(self.bodies.failed())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn bodies_come_back_with_and_without_a_dictionary() {
        let samples: Vec<Vec<u8>> = (0..2_000)
            .map(|at| {
                format!("{{\"model\":\"M{}\",\"serial\":\"{at}\",\"os\":{{\"version\":\"4.{}\"}}}}", at % 7, at % 90)
                    .into_bytes()
            })
            .collect();
        let dictionary = train_dictionary(&samples).unwrap();
        let plain = Bodies::new("ledger".into(), &[]);
        let with = Bodies::new("ledger".into(), &[dictionary]);
        assert!(with.has_dictionary() && !plain.has_dictionary());
        let (before, after) =
            (plain.packer().unwrap().pack(&samples[3]).unwrap(), with.packer().unwrap().pack(&samples[3]).unwrap());
        assert!(after.len() < before.len());
        // What was kept before there was a dictionary stays readable.
        assert_eq!(with.unpacker().unpack(&before).unwrap(), samples[3]);
        assert_eq!(with.unpacker().unpack(&after).unwrap(), samples[3]);
        assert!(matches!(plain.unpacker().unpack(&after), Err(LedgerError::Damaged { .. })));
        assert!(matches!(with.unpacker().unpack(&after[..after.len() - 1]), Err(LedgerError::Damaged { .. })));
        assert!(matches!(with.unpacker().unpack(b"nothing"), Err(LedgerError::Damaged { .. })));
        assert_eq!(train_dictionary(&[]), None);
    }

    #[test]
    fn a_body_that_is_too_long_is_damaged_whether_it_says_so_or_not() {
        use std::io::Write as _;
        let bodies = Bodies::new("ledger".into(), &[]);
        let stream = |length: usize| {
            // A stream does not know its length beforehand.
            let mut stream = zstd::stream::write::Encoder::new(Vec::new(), 1).unwrap();
            stream.write_all(&vec![b'a'; length]).unwrap();
            stream.finish().unwrap()
        };
        for body in [stream(BODY_BYTES + 1), zstd::bulk::compress(&vec![b'a'; BODY_BYTES + 1], 1).unwrap()] {
            let refused = bodies.unpacker().unpack(&body);
            assert!(matches!(&refused, Err(LedgerError::Damaged { what, .. }) if what.contains("longer than 64 MiB")));
        }
        assert_eq!(bodies.unpacker().unpack(&stream(1 << 20)).unwrap().len(), 1 << 20);
        assert!(bodies.unpacker().unpack(&zstd::bulk::compress(&vec![b'a'; BODY_BYTES], 1).unwrap()).is_ok());
    }
}
