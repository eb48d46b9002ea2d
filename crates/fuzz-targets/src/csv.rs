//! Tables: whatever quotes and line ends there are, every line that is not blank is part of a row that is read or set aside.
use fencepost_core::Dictionary;
use fencepost_formats::{Format, Mapped, NameFrom, Source, read_records};

/// Runs the target on one input.
///
/// # Panics
/// If what the target promises does not hold.
pub fn run(bytes: &[u8]) {
    let mut source = Source::native();
    source.format = Format::Csv;
    source.id_from = NameFrom::File;
    source.collected_field = None;
    let (dictionary, zone) = (Dictionary::default(), jiff::tz::TimeZone::UTC);
    let file_time = Some(jiff::Timestamp::UNIX_EPOCH);
    let with = Mapped { dictionary: &dictionary, zone: &zone, file_time, path: Some("x.csv") };
    let mut last = 0;
    let _ = read_records(bytes, &source, &with, |record| {
        assert!(record.place.line > last, "rows come in the order of their lines");
        last = record.place.line;
        Ok(())
    });
}
