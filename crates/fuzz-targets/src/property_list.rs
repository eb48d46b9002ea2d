//! Property lists, binary and XML: whatever the bytes are, reading ends, within bounded memory.
use fencepost_core::Dictionary;
use fencepost_formats::{Format, Mapped, NameFrom, Source, read_records};

/// Runs the target on one input.
///
/// # Panics
/// If what the target promises does not hold.
pub fn run(bytes: &[u8]) {
    let Some((first, rest)) = bytes.split_first() else { return };
    let mut source = Source::native();
    source.format = Format::PropertyList;
    source.id_from = NameFrom::File;
    source.collected_field = None;
    let (dictionary, zone) = (Dictionary::default(), jiff::tz::TimeZone::UTC);
    let file_time = Some(jiff::Timestamp::UNIX_EPOCH);
    let with = Mapped { dictionary: &dictionary, zone: &zone, file_time, path: Some("x.plist") };
    // Half of the inputs are made to look like each form, so that what lies behind the beginning is reached.
    let whole = if first & 1 == 0 { [b"bplist00", rest].concat() } else { [b"<plist>", rest].concat() };
    let mut size = 0;
    let _ = read_records(&whole[..], &source, &with, |record| {
        size += record.document.map_or(0, |document| document.bytes().len());
        Ok(())
    });
    assert!(size < 64 << 20, "{size} bytes of {}", whole.len());
}
