//! How results look to a person. Nothing here computes anything but widths and words.

pub mod access;
pub mod contrast;
pub mod device;
pub mod diagnostics;
pub mod drift;
pub mod drift_json;
pub mod evidence;
pub mod explain;
pub mod fence;
pub mod history;
pub mod import;
pub mod json;
pub mod next_step;
pub mod outliers;
pub mod person;
pub mod preview;
pub mod reach;
pub mod readiness;
pub mod replay;
pub mod send;
pub mod style;
pub mod table;
pub mod text;
pub mod time;
pub mod verdict_lines;
pub mod waiver;
