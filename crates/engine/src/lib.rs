//! The use cases of Fence Post: load, call the core, settle, save. No terminal and no formatting here.
//!
//! [`Project`] is a workspace, checked and compiled. [`import`] and [`assess`] write its ledger; [`Reading`]
//! answers everything that is asked of it, as of a moment; [`assess_file`] needs no ledger at all. Whoever
//! needs a verdict comes through [`Judge`], so that no two commands can disagree.

mod access_view;
mod assess;
mod baseline_view;
mod changes;
mod codec;
mod decisions;
mod derive;
mod device_view;
mod documents;
mod drafts;
mod error;
mod examples;
mod files;
mod gates;
mod gather;
mod history;
mod import;
mod judge;
mod list;
mod packed_findings;
mod person_view;
mod preview;
mod privacy;
mod project;
mod reading;
mod renames;
mod spool;
mod stateless;
mod survey;
mod taken;
mod tried;
mod trim;
mod verify;
mod versions;
mod vet;
mod workers;

pub use access_view::{AccessEntry, AccessReport, Because, Other};
pub use assess::{AssessOptions, Assessed, FindingLine, LinePhase, RuleCount, StandingCounts, assess};
pub use baseline_view::{BaselineReport, Expectation};
pub use changes::Change;
pub use derive::{DeriveOptions, DerivedAs, Difference, Pattern};
pub use device_view::{Cost, DeviceReport, FactLine, HolderLine, ReachLine, Said, VerdictLine};
pub use documents::Document;
pub use drafts::{FactDraft, draft_source_of};
pub use error::EngineError;
pub use files::expand_paths;
pub use history::{Happening, History, What};
pub use import::{ChangedDevice, ImportOptions, Imported, import, import_stream};
pub use judge::{Judge, Judged, People};
pub use list::{Kind, ListQuery, Listing};
pub use person_view::{HeldDevice, PersonReport, Remark};
pub use preview::{GroupFlips, Preview, StandingFlip, VerdictFlips, preview};
pub use project::{LEDGER, Project, ProjectError, STARTER, StarterKind, find_workspace, write_starter};
pub use reading::{FenceLine, Moment, Reading, ledger_for_dry_run, open_ledger, refuse_far_ahead, resolve_moment};
pub use spool::{Items, Spool};
pub use stateless::{DeviceVerdicts, Judgement, RefusedLine, Sealed, Stateless, assess_file};
pub use taken::TakenVerdicts;
pub use tried::{Against, Tried, try_expression};
pub use trim::{TrimReport, trim};
pub use verify::Verified;
pub use vet::{Mistake, Vetted, vet};
