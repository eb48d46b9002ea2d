//! Fuzz targets: each takes any bytes, and panics if what it promises of them does not hold.
//!
//! `cargo fuzz run NAME` runs one of them under the address sanitizer for as long as one likes; the test of this crate runs all of
//! them over the kept inputs in `fuzz/corpus`, and over changed ones.

pub mod bodies;
pub mod condition;
pub mod csv;
pub mod document;
pub mod draft;
pub mod evaluation;
pub mod import;
pub mod keep;
pub mod property_list;
pub mod records;
pub mod workspace;

/// A target by its name, with its function.
pub type Target = (&'static str, fn(&[u8]));

/// All targets, by name.
pub const TARGETS: [Target; 11] = [
    ("bodies", bodies::run),
    ("condition", condition::run),
    ("csv", csv::run),
    ("document", document::run),
    ("draft", draft::run),
    ("evaluation", evaluation::run),
    ("import", import::run),
    ("keep", keep::run),
    ("property_list", property_list::run),
    ("records", records::run),
    ("workspace", workspace::run),
];
