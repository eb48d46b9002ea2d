//! How results look to a person. Nothing here computes anything but widths and words.

pub mod access;
pub mod baseline;
pub mod contrast;
pub mod deeper;
pub mod device;
pub mod diagnostics;
pub mod disagreements;
pub mod drift;
pub mod drift_json;
pub mod evidence;
pub mod explain;
pub mod fence;
pub mod figures;
pub mod forecast;
pub mod forecast_json;
pub mod group;
pub mod history;
pub mod import;
pub mod import_json;
mod import_remarks;
pub mod json;
pub mod next_step;
pub mod outliers;
pub mod parts;
pub mod person;
pub mod preview;
pub mod reach;
pub mod readiness;
pub mod replay;
pub mod report_json;
pub mod rule;
pub mod send;
pub mod service;
pub mod since;
pub mod style;
pub mod table;
pub mod text;
pub mod time;
pub mod verdict_lines;
pub mod waiver;
pub mod ways;

use style::Styles;
use time::Clock;

/// What rendering a page needs to know of the output.
pub struct Page<'p> {
    pub clock: &'p Clock,
    pub styles: &'p Styles,
    pub width: usize,
    pub unicode: bool,
}

impl Page<'_> {
    /// What stands above a part of a page.
    fn section(&self, title: &str) -> String {
        let faint = self.styles.faint;
        format!("\n{faint}{title}{faint:#}\n")
    }
}
