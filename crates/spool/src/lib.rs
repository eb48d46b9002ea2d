//! Lists that may be larger than memory: the beginning of a long one lies in a temporary file that has no name, its end in memory.
//!
//! [`Spool`] keeps items in the order in which they were added; [`Sorter`] brings them into the order of a key first.

use std::cmp::Reverse;
use std::collections::BinaryHeap;
use std::fs::File;
use std::io::{self, Read as _, Seek as _, SeekFrom, Write as _};
use std::marker::PhantomData;
use std::ops::Range;
use std::path::PathBuf;
use std::sync::Arc;

use serde::Serialize;
use serde::de::DeserializeOwned;

/// A temporary file that could not be written or read.
#[derive(Debug, thiserror::Error)]
#[error("could not {act} a temporary file in {}: {error}", folder.display())]
pub struct SpoolError {
    /// What failed: `write` or `read`.
    pub act: &'static str,
    /// The folder of temporary files.
    pub folder: PathBuf,
    /// Why.
    pub error: io::Error,
}

/// So many bytes of a list stay in memory.
const IN_MEMORY: usize = 1 << 20;
/// So many bytes are sorted at once.
const SORTED_AT_ONCE: usize = 4 << 20;
/// So many bytes are read from a temporary file at once.
const READ_AHEAD: usize = 1 << 16;

/// A list of items, encoded one behind the other.
#[derive(Debug)]
pub struct Spool<T> {
    file: Option<Arc<File>>,
    /// Bytes in the file.
    written: u64,
    memory: Vec<u8>,
    len: u64,
    item: PhantomData<fn() -> T>,
}

impl<T> Default for Spool<T> {
    fn default() -> Self {
        Self { file: None, written: 0, memory: Vec::new(), len: 0, item: PhantomData }
    }
}

impl<T> Spool<T> {
    /// Returns how many items there are.
    pub fn len(&self) -> u64 {
        self.len
    }

    /// Returns whether there is no item.
    pub fn is_empty(&self) -> bool {
        self.len == 0
    }

    /// Adds an item that is encoded already.
    ///
    /// # Errors
    /// Fails if the temporary file cannot be written.
    pub fn push_encoded(&mut self, item: &Encoded<T>) -> Result<(), SpoolError> {
        self.push_frame(&item.bytes)
    }

    fn push_frame(&mut self, item: &[u8]) -> Result<(), SpoolError> {
        push_frame(&mut self.memory, item);
        self.len += 1;
        if self.memory.len() > IN_MEMORY {
            self.written += append(&mut self.file, &self.memory)?;
            self.memory.clear();
        }
        Ok(())
    }
}

impl<T: Serialize> Spool<T> {
    /// Adds an item.
    ///
    /// # Errors
    /// Fails if the temporary file cannot be written.
    pub fn push(&mut self, item: &T) -> Result<(), SpoolError> {
        self.push_frame(&encode::<T>(item).bytes)
    }
}

impl<T: DeserializeOwned> Spool<T> {
    /// Returns the items in their order, each read when it is asked for.
    pub fn iter(&self) -> Items<'_, T> {
        let end = Frames { file: self.file.clone(), range: 0..self.written, buffer: Vec::new(), at: 0 };
        Items { frames: end, memory: &self.memory, frame: Vec::new(), item: PhantomData }
    }

    /// Returns the first item.
    ///
    /// # Errors
    /// Fails if the temporary file cannot be read.
    pub fn first(&self) -> Result<Option<T>, SpoolError> {
        self.iter().next().transpose()
    }
}

/// The items of a [`Spool`].
#[derive(Debug)]
pub struct Items<'s, T> {
    frames: Frames,
    memory: &'s [u8],
    frame: Vec<u8>,
    item: PhantomData<fn() -> T>,
}

impl<T: DeserializeOwned> Iterator for Items<'_, T> {
    type Item = Result<T, SpoolError>;

    fn next(&mut self) -> Option<Self::Item> {
        match self.frames.next_into(&mut self.frame) {
            Ok(true) => return Some(decode(&self.frame)),
            Ok(false) => {}
            Err(error) => return Some(Err(failed("read", error))),
        }
        let (item, rest) = split_frame(self.memory)?;
        self.memory = rest;
        Some(decode(item))
    }
}

impl<T: DeserializeOwned> IntoIterator for Spool<T> {
    type Item = Result<T, SpoolError>;
    type IntoIter = IntoItems<T>;

    fn into_iter(self) -> IntoItems<T> {
        let frames = Frames { file: self.file, range: 0..self.written, buffer: Vec::new(), at: 0 };
        IntoItems { frames, memory: self.memory, at: 0, frame: Vec::new(), item: PhantomData }
    }
}

/// The items of a [`Spool`], which is gone with them.
#[derive(Debug)]
pub struct IntoItems<T> {
    frames: Frames,
    memory: Vec<u8>,
    /// How much of the memory was handed out.
    at: usize,
    frame: Vec<u8>,
    item: PhantomData<fn() -> T>,
}

impl<T: DeserializeOwned> Iterator for IntoItems<T> {
    type Item = Result<T, SpoolError>;

    fn next(&mut self) -> Option<Self::Item> {
        match self.frames.next_into(&mut self.frame) {
            Ok(true) => return Some(decode(&self.frame)),
            Ok(false) => {}
            Err(error) => return Some(Err(failed("read", error))),
        }
        let (item, rest) = split_frame(&self.memory[self.at..])?;
        self.at = self.memory.len() - rest.len();
        Some(decode(item))
    }
}

/// Takes items with their keys in any order, and returns them ascending by key; items with the same key stay in their order.
#[derive(Debug)]
pub struct Sorter<T> {
    file: Option<Arc<File>>,
    /// Bytes in the file.
    written: u64,
    /// Where each sorted part lies in the file.
    parts: Vec<Range<u64>>,
    memory: Vec<u8>,
    /// Where the keys and items lie in memory.
    places: Vec<SpoolPlace>,
    item: PhantomData<fn() -> T>,
}

/// Where a key lies in memory, and the item behind it.
#[derive(Clone, Copy, Debug)]
struct SpoolPlace {
    start: usize,
    key_end: usize,
    end: usize,
}

impl<T> Default for Sorter<T> {
    fn default() -> Self {
        Self { file: None, written: 0, parts: Vec::new(), memory: Vec::new(), places: Vec::new(), item: PhantomData }
    }
}

impl<T: Serialize> Sorter<T> {
    /// Adds an item with its key.
    ///
    /// # Errors
    /// Fails if the temporary file cannot be written.
    pub fn push(&mut self, key: &[u8], item: &T) -> Result<(), SpoolError> {
        self.push_encoded(key, &encode::<T>(item))
    }
}

impl<T> Sorter<T> {
    /// Adds an item that is encoded already, with its key.
    ///
    /// # Errors
    /// Fails if the temporary file cannot be written.
    pub fn push_encoded(&mut self, key: &[u8], item: &Encoded<T>) -> Result<(), SpoolError> {
        let start = self.memory.len();
        self.memory.extend_from_slice(key);
        let key_end = self.memory.len();
        self.memory.extend_from_slice(&item.bytes);
        self.places.push(SpoolPlace { start, key_end, end: self.memory.len() });
        if self.memory.len() > SORTED_AT_ONCE {
            self.write_part()?;
        }
        Ok(())
    }

    /// Returns the items in their order.
    ///
    /// # Errors
    /// Fails if the temporary file cannot be written or read.
    pub fn finish(mut self) -> Result<Spool<T>, SpoolError> {
        let mut sorted = Spool::default();
        if self.parts.is_empty() {
            self.sort_places();
            for place in &self.places {
                sorted.push_frame(&self.memory[place.key_end..place.end])?;
            }
            return Ok(sorted);
        }
        self.write_part()?;
        let read = |error| failed("read", error);
        let file = &self.file;
        let mut parts: Vec<Frames> = self
            .parts
            .iter()
            .map(|range| Frames { file: file.clone(), range: range.clone(), buffer: Vec::new(), at: 0 })
            .collect();
        let mut item = Vec::new();
        // The first key of each part, the smallest on top; of the same keys that of the earlier part.
        let mut heads = BinaryHeap::new();
        for (at, part) in parts.iter_mut().enumerate() {
            let mut key = Vec::new();
            if part.next_into(&mut key).map_err(read)? {
                heads.push(Reverse((key, at)));
            }
        }
        while let Some(Reverse((mut key, at))) = heads.pop() {
            parts[at].next_into(&mut item).map_err(read)?;
            sorted.push_frame(&item)?;
            if parts[at].next_into(&mut key).map_err(read)? {
                heads.push(Reverse((key, at)));
            }
        }
        Ok(sorted)
    }

    fn sort_places(&mut self) {
        let memory = &self.memory;
        self.places.sort_by_key(|place| &memory[place.start..place.key_end]);
    }

    /// Writes what lies in memory as a sorted part.
    fn write_part(&mut self) -> Result<(), SpoolError> {
        self.sort_places();
        let mut part = Vec::with_capacity(self.memory.len() + self.places.len() * 8);
        for place in self.places.drain(..) {
            push_frame(&mut part, &self.memory[place.start..place.key_end]);
            push_frame(&mut part, &self.memory[place.key_end..place.end]);
        }
        let start = self.written;
        self.written += append(&mut self.file, &part)?;
        self.parts.push(start..self.written);
        self.memory.clear();
        Ok(())
    }
}

/// Frames in a stretch of a temporary file.
#[derive(Debug)]
struct Frames {
    file: Option<Arc<File>>,
    /// What of the stretch was not read yet.
    range: Range<u64>,
    buffer: Vec<u8>,
    /// How much of the buffer was handed out.
    at: usize,
}

impl Frames {
    /// Puts the next frame into `frame`; returns whether there was one.
    fn next_into(&mut self, frame: &mut Vec<u8>) -> io::Result<bool> {
        frame.clear();
        let mut length = [0; 4];
        if !self.fill(length.len())? {
            return Ok(false);
        }
        length.copy_from_slice(&self.buffer[self.at..self.at + 4]);
        self.at += 4;
        let length = u32::from_le_bytes(length) as usize;
        if !self.fill(length)? {
            return Err(io::ErrorKind::UnexpectedEof.into());
        }
        frame.extend_from_slice(&self.buffer[self.at..self.at + length]);
        self.at += length;
        Ok(true)
    }

    /// Reads on until so many bytes are at hand; returns whether they are.
    fn fill(&mut self, wanted: usize) -> io::Result<bool> {
        let at_hand = self.buffer.len() - self.at;
        if at_hand >= wanted {
            return Ok(true);
        }
        let Some(mut file) = self.file.as_deref() else { return Ok(false) };
        self.buffer.drain(..self.at);
        self.at = 0;
        let left = self.range.end - self.range.start;
        let more = (wanted.max(READ_AHEAD) - at_hand).min(usize::try_from(left).unwrap_or(usize::MAX));
        self.buffer.resize(at_hand + more, 0);
        // Several stretches of one file are read by turns.
        file.seek(SeekFrom::Start(self.range.start))?;
        file.read_exact(&mut self.buffer[at_hand..])?;
        self.range.start += more as u64;
        Ok(self.buffer.len() >= wanted)
    }
}

/// An item as it is kept.
#[derive(Debug)]
pub struct Encoded<T> {
    bytes: Vec<u8>,
    item: PhantomData<fn() -> T>,
}

/// Encodes an item; it may be given borrowed.
///
/// # Panics
/// Where a map in it has keys that are no texts.
pub fn encode<T>(item: &impl Serialize) -> Encoded<T> {
    let bytes = serde_json::to_vec(item).expect("what is listed has texts as keys");
    Encoded { bytes, item: PhantomData }
}

fn decode<T: DeserializeOwned>(item: &[u8]) -> Result<T, SpoolError> {
    serde_json::from_slice(item).map_err(|error| failed("read", error.into()))
}

fn push_frame(into: &mut Vec<u8>, frame: &[u8]) {
    let length = u32::try_from(frame.len()).expect("an item is far smaller than 4 GiB");
    into.extend_from_slice(&length.to_le_bytes());
    into.extend_from_slice(frame);
}

/// Returns the first frame and what is behind it.
fn split_frame(bytes: &[u8]) -> Option<(&[u8], &[u8])> {
    let (length, rest) = bytes.split_first_chunk::<4>()?;
    rest.split_at_checked(u32::from_le_bytes(*length) as usize)
}

/// Appends to a temporary file, which is made first where there is none; returns how many bytes.
fn append(file: &mut Option<Arc<File>>, bytes: &[u8]) -> Result<u64, SpoolError> {
    let write = |error| failed("write", error);
    let mut file = match file {
        Some(file) => &**file,
        None => &**file.insert(Arc::new(tempfile::tempfile().map_err(write)?)),
    };
    file.seek(SeekFrom::End(0)).map_err(write)?;
    file.write_all(bytes).map_err(write)?;
    Ok(bytes.len() as u64)
}

fn failed(act: &'static str, error: io::Error) -> SpoolError {
    SpoolError { act, folder: std::env::temp_dir(), error }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn numbers(count: u64) -> impl Iterator<Item = u64> {
        (0..count).map(|at| at.wrapping_mul(0x9e37_79b9_7f4a_7c15) >> 20)
    }

    #[test]
    fn items_come_back_in_their_order_from_memory_and_from_a_file() {
        for count in [0, 1, 1_000, 400_000] {
            let mut spool = Spool::default();
            numbers(count).for_each(|number| spool.push(&number).unwrap());
            assert_eq!((spool.len(), spool.file.is_some()), (count, count > 1_000));
            assert_eq!(spool.first().unwrap(), numbers(count).next());
            // More than once.
            for _ in 0..2 {
                assert!(spool.iter().map(Result::unwrap).eq(numbers(count)), "{count}");
            }
            assert!(spool.into_iter().map(Result::unwrap).eq(numbers(count)), "{count}");
        }
    }

    #[test]
    fn a_sorter_orders_by_key_and_keeps_the_order_of_equal_keys() {
        for count in [0, 3, 400_000] {
            let mut sorter: Sorter<(u64, u64)> = Sorter::default();
            let mut plain: Vec<(u64, u64)> = Vec::new();
            for (at, number) in numbers(count).enumerate() {
                let key = number % 1_000;
                sorter.push_encoded(&key.to_be_bytes(), &encode(&(key, at as u64))).unwrap();
                plain.push((key, at as u64));
            }
            assert_eq!(sorter.parts.is_empty(), count < 1_000);
            plain.sort();
            assert!(sorter.finish().unwrap().iter().map(Result::unwrap).eq(plain), "{count}");
        }
    }

    #[test]
    fn an_item_larger_than_what_is_read_at_once_comes_back_whole() {
        let mut spool = Spool::default();
        let item = "x".repeat(3 * READ_AHEAD);
        (0..100).for_each(|_| spool.push(&item).unwrap());
        assert!(spool.iter().map(Result::unwrap).all(|found: String| found == item));
    }
}
