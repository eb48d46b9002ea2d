//! Documents as they are kept: what is read is kept, and comes back byte for byte around its secrets.
use bumpalo::Bump;
use fencepost_core::{Declaration, Dictionary, DocumentReader, Layout};
use fencepost_formats::{DocumentSplitter, JsonDocuments, RawDocument, SecretKey, assemble, stored_json, thin_out};

/// Runs the target on one input.
///
/// # Panics
/// If what the target promises does not hold.
pub fn run(bytes: &[u8]) {
    let mut dictionary = Dictionary::default();
    for path in ["a", "b.c", "l.v"] {
        dictionary.facts.insert(path.into(), Declaration { volatile: true, ..Declaration::default() });
    }
    dictionary.facts.insert("s".into(), Declaration { secret: true, ..Declaration::default() });
    dictionary.facts.insert("k".into(), Declaration { company_only: true, ..Declaration::default() });
    let layout = Layout::new(&dictionary);
    let key = SecretKey::new([1; 32]);
    let splitter = DocumentSplitter { layout: &layout, key: &key, people: false };
    let arena = Bump::new();
    let read = JsonDocuments::with_secrets(&key).read(bytes, &layout, &arena);
    let kept = splitter.keep(RawDocument::copy(bytes, &arena), true, &arena);
    match (&read, &kept) {
        (Ok(_), Ok(kept)) => {
            let moment = jiff::Timestamp::UNIX_EPOCH;
            let whole = assemble(&kept.body, "d", moment, Some(&kept.volatile_parts));
            assert!(JsonDocuments::default().read(&whole, &layout, &arena).is_ok());
            // Without placeholders for the id and the time, and without secrets, it is what came.
            if !kept.hidden && !kept.body.iter().any(|byte| matches!(byte, 1 | 2)) {
                assert_eq!(whole, bytes);
            }
            let again =
                splitter.keep_again(RawDocument::copy(&whole, &arena), &arena).expect("what is kept can be kept again");
            assert_eq!((again.body, again.volatile_parts), (kept.body.clone(), kept.volatile_parts.clone()));
            assert_eq!(thin_out(&kept.body, &kept.volatile_parts, |_| true).unwrap_or_default(), kept.volatile_parts);
            let left = splitter.keep(RawDocument::copy(bytes, &arena), false, &arena).expect("whosever device it is");
            let left = assemble(&left.body, "d", moment, None);
            assert!(JsonDocuments::default().read(&left, &layout, &arena).is_ok());
            let _ = stored_json(&left);
        }
        // Only a doubled id or time is the reader's own to refuse.
        (Err(error), Ok(_)) => assert!(error.message.contains("twice"), "{}", error.message),
        (Ok(_), Err(error)) => panic!("{}", error.message),
        (Err(_), Err(_)) => {}
    }
}
