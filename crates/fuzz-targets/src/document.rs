//! Documents: what serde_json takes is taken, whatever is wanted; what it refuses is refused; and what was read before makes no
//! difference.
use bumpalo::Bump;
use fencepost_core::{Dictionary, DocumentReader, Layout, Read, ReadError};
use fencepost_formats::{Chunk, Chunks, JsonDocuments, SecretKey};

/// Runs the target on one input.
///
/// # Panics
/// If what the target promises does not hold.
pub fn run(bytes: &[u8]) {
    let dictionary = Dictionary::default();
    let (plain, mut wanting) = (Layout::new(&dictionary), Layout::new(&dictionary));
    for path in ["a", "b.c", "a.b", "d"] {
        wanting.want(path, &dictionary);
    }
    let arena = Bump::new();
    // As they come, and not as the ledger holds them.
    let key = SecretKey::new([1; 32]);
    let mut reader = JsonDocuments::with_secrets(&key);
    let (first, second) = (reader.read(bytes, &plain, &arena), reader.read(bytes, &wanting, &arena));
    assert_eq!(first.is_ok(), second.is_ok());
    let Ok(text) = std::str::from_utf8(bytes) else { return assert!(first.is_err()) };
    let oracle = serde_json::from_str::<serde::de::IgnoredAny>(text).is_ok()
        && text.trim_start_matches([' ', '\t', '\n', '\r']).starts_with('{');
    // Parts of the input, as documents one after the other.
    let mut after = JsonDocuments::with_secrets(&key);
    for part in bytes.split(|byte| *byte == b'\n').chain([bytes, bytes]) {
        let show = |read: Result<Read<'_>, ReadError>| {
            read.map(|read| format!("{:?}", read.slots)).map_err(|error| format!("{error:?}"))
        };
        let alone = show(JsonDocuments::with_secrets(&key).read(part, &wanting, &arena));
        assert_eq!(show(after.read(part, &wanting, &arena)), alone);
    }
    // The same where they lie, one behind the other.
    let (mut chunks, mut chunk) = (Chunks::new(bytes), Chunk::default());
    while chunks.read_into(&mut chunk).expect("it is in memory") {
        let mut lines = chunk.lines();
        while let Some(line) = lines.next_line() {
            let Some(content) = line.content else { continue };
            let show = |read: Result<Read<'_>, ReadError>| {
                read.map(|read| format!("{:?}", read.slots)).map_err(|error| format!("{error:?}"))
            };
            let alone = show(JsonDocuments::with_secrets(&key).read(content.bytes(), &wanting, &arena));
            assert_eq!(show(after.read_in_place(content, &wanting, &arena)), alone);
        }
    }
    match first {
        Ok(_) => assert!(oracle),
        // Depth and a doubled id are ours to refuse.
        Err(error) => {
            assert!(!oracle || error.message.contains("deeper") || error.message.contains("twice"), "{}", error.message)
        }
    }
}
