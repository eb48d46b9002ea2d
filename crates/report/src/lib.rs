//! Reports as files: one-file pages, workbooks, calendars, assessment results. What they say comes from the engine's view models;
//! nothing is worked out here but words, widths and places.

mod calendar;
mod charts;
mod colour;
mod controls;
mod dates;
mod device;
mod fence;
mod fleet;
mod forecast;
mod letter;
mod oscal;
mod page;
mod rule;
mod table;
mod workbook;

use fencepost_engine::ReportSettings;
use jiff::tz::TimeZone;

pub use calendar::calendar;
pub use colour::Colour;
pub use controls::controls_page;
pub use dates::Dates;
pub use device::device_page;
pub use fleet::fleet_page;
pub use letter::letter_page;
pub use oscal::{VERSION as OSCAL_VERSION, assessment_results};
pub use rule::rule_page;
pub use workbook::{Sheet, SheetColumn, write_workbook};

/// How reports look, and how they write dates.
#[derive(Clone, Debug)]
pub struct ReportStyle {
    /// What stands above them.
    pub name: String,
    /// A logo as text.
    pub logo: Option<String>,
    /// The accent colour.
    pub accent: Option<Colour>,
    /// Writes moments.
    pub dates: Dates,
}

impl ReportStyle {
    /// Takes what the workspace says; `name` is what the workspace is called.
    pub fn of(settings: &ReportSettings, name: Option<&str>, zone: &TimeZone) -> Self {
        Self {
            name: settings.name.as_deref().or(name).unwrap_or("Fence Post").to_owned(),
            logo: settings.logo.clone(),
            accent: settings.accent,
            dates: Dates { zone: zone.clone(), language: settings.language },
        }
    }
}
