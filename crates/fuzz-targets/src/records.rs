//! Files of feeds, in every format: whatever they hold, records come out or a reason does, and every record is a document.
use bumpalo::Bump;
use fencepost_core::{Declaration, Dictionary, DocumentReader, FactType, Layout};
use fencepost_formats::{Format, JsonDocuments, Mapped, NameFrom, SecretKey, Source, SourceKind, read_records};

/// Runs the target on one input.
///
/// # Panics
/// If what the target promises does not hold.
pub fn run(bytes: &[u8]) {
    let Some((first, rest)) = bytes.split_first() else { return };
    let (_, format) = Format::ALL[usize::from(*first) % Format::ALL.len()];
    let mut source = Source::native();
    source.format = format;
    if format == Format::Scim {
        source.kind = SourceKind::People;
        source.id_field = "userName".to_owned();
    }
    if first & 0x40 != 0 {
        source.under = Some("settings".to_owned());
        source.records = Some("data.items".to_owned());
    }
    if first & 0x80 != 0 {
        source.id_from = NameFrom::File;
        source.collected_field = None;
    }
    let mut dictionary = Dictionary::default();
    for (path, ty) in
        [("a", FactType::Number), ("b", FactType::Instant), ("c", FactType::Date), ("d", FactType::Boolean)]
    {
        dictionary.facts.insert(path.into(), Declaration { ty: Some(ty), ..Declaration::default() });
    }
    let layout = Layout::new(&dictionary);
    let key = SecretKey::new([1; 32]);
    let zone = jiff::tz::TimeZone::UTC;
    let with = Mapped {
        dictionary: &dictionary,
        zone: &zone,
        file_time: Some(jiff::Timestamp::UNIX_EPOCH),
        path: Some("dumps/x.ini"),
    };
    let arena = Bump::new();
    let native = source.is_native();
    let _ = read_records(rest, &source, &with, |record| {
        if let Ok(document) = &record.document
            && !native
        {
            let read = JsonDocuments::with_secrets(&key).read(document.bytes(), &layout, &arena);
            assert!(read.is_ok(), "{}", String::from_utf8_lossy(document.bytes()));
        }
        Ok(())
    });
}
