//! The use cases of Fence Post: load, call the core, settle, save. No terminal and no formatting here.
//!
//! [`Project`] is a workspace, checked and compiled. [`Importer`] and [`assess`] write its ledger; [`Reading`]
//! answers everything that is asked of it, as of a moment; [`assess_file`] needs no ledger at all. Whoever
//! needs a verdict comes through [`Judge`], so that no two commands can disagree.

mod access;
mod act;
mod ask;
mod assess;
mod change;
mod compare;
mod draft;
mod error;
mod facts;
mod grouped;
mod import;
mod ledger_view;
mod workers;
mod workspace;

pub use access::explain::{AskedDevice, Explanation, RuleTrace, SignInQuestion};
pub use access::groups::{CauseGroup, PersonGroup, ServiceGroup, group_by_cause, group_by_person};
pub use access::losses::{AccessQuery, DeniedEntries};
pub use access::readiness::{NotReady, NotReadyCount, Readiness, ToEnforce};
pub use access::replay::{BadLine, MOST_KEPT, ReplayRules, Replayed, RuleCounts, SignInLog, Surprise, replay};
pub use access::report::{
    AccessEntry, AccessReport, AccessSummary, CauseCount, CauseLine, Contact, DeniedCount, OtherWay, PersonOrDevice,
};
pub use access::service_counts::ServiceCounts;
pub use act::approve::{ApprovalRequest, approve};
pub use act::as_told::AsTold;
pub use act::brake::Brake;
pub use act::compose::DeliveryContent;
pub use act::letter::{Letter, LetterDevice};
pub use act::outbox::{OutboxLine, OutboxState};
pub use act::plan::Unroutable;
pub use act::records::Attempts;
pub use act::send::{ActionTold, CommandAnswer, DeliveryLine, SendOptions, SendReport, send};
pub use act::templates::FilledMessage;
pub use ask::baseline::{BaselineReport, Expectation};
pub use ask::baselines::{BaselineCounts, RulesTogether, TogetherCounts};
pub use ask::calendar::{CalendarEvent, CalendarMoment, CalendarReport};
pub use ask::controls::{ClauseEvidence, ClauseReport, ClauseRule, ClauseWaiver, ClausesOf, ControlsReport};
pub use ask::device::{CorrectedBy, DeviceReport, FactLine, HolderLine, Said, VerdictLine};
pub use ask::disagreements::{Disagreement, DisagreementFix, DisagreementKind, Statement};
pub use ask::figures::{AssessmentFigures, FiguresPer, FiguresQuery, FixTimes, FleetHistory, PartThen};
pub use ask::group::{GroupMembers, GroupReport};
pub use ask::history::{Happened, Happening, History};
pub use ask::list::outbox::action_cells;
pub use ask::list::{ColumnHelp, Kind, ListQuery, Listing, UntoldRows};
pub use ask::person::{HeldDevice, PersonReport, Remark};
pub use ask::reach::{Cost, CostGroup, ReachGroup, ReachLine, StricterLater, group_costs, group_reach};
pub use ask::report::{
    FleetReport, InOrder, PersonToDo, ReportException, ReportPart, ReportRows, ReportRule, ReportScope, TrendPoint,
};
pub use ask::rule::{AccessUse, ExceptedDevice, RuleBasis, RulePart, RuleReport, ShutOut, UnmetOn};
pub use ask::service::ServiceReport;
pub use ask::shown::{PageKind, PageOf};
pub use ask::since::{EditedDefinition, Since};
pub use ask::tried::{Against, Tried, try_expression};
pub use ask::verdicts::ProofLine;
pub use assess::sealed_verdicts::SealedVerdicts;
pub use assess::stateless::{DeviceVerdicts, RefusedLine, RuleJudgement, Sealed, StateInput, Stateless, assess_file};
pub use assess::{
    AssessOptions, Assessed, FindingCounts, FindingLine, GroupCounts, LinePhase, RuleCount, ServiceFigures,
    StandingCounts, assess,
};
pub use change::access_flips::{AccessFlips, DecisionFlip, DueFlip, LosingFlip, PersonFlip, SignInId};
pub use change::forecast::{
    EndingKind, Forecast, ForecastAction, ForecastBy, ForecastCounts, ForecastDay, ForecastDecision, ForecastEnding,
    ForecastEntry, ForecastEvent, ForecastKind, ForecastLine, ForecastQuery, ForecastSubject, forecast,
};
pub use change::preview::{GroupFlips, MessageFlip, Preview, StandingFlip, VerdictFlips, preview};
pub use change::saved::{SavedComparison, SavedDifference, compare_with_saved};
pub use change::vet::{Mistake, Vetted, vet};
pub use change::waive::{CoveredVerdict, WaiverCoverage, WaiverEdit, WaiverRequest, plan_end_of_waiver, plan_waiver};
pub use compare::contrast::{ContrastGroup, ContrastQuery, ContrastReport, ContrastRow};
pub use compare::drift::{DriftDetail, PeerDistance};
pub use compare::members::DriftQuery;
pub use compare::outliers::{OutlierSet, OutlyingDevice};
pub use compare::results::DriftTrend;
pub use compare::view::{
    AlikeDevices, AssemblyReport, ComparedRow, CountDifference, DeviceDifference, DriftCounts, DriftMember,
    DriftMovement, DriftPart, DriftReport, DriftSetReport, EndedAcceptance, HeldValue, MemberDifference, RoleReport,
    UndecidedInRole, WholeReport,
};
pub use draft::derive::{DeriveOptions, DerivedAs, Difference, Pattern};
pub use draft::sources::{DraftedWorkspace, FactDraft, FactDrafts, WrongFact, draft_source_of};
pub use error::EngineError;
pub use facts::documents::Document;
pub use facts::judge::{Judge, Judged};
pub use facts::people::People;
pub use fencepost_formats::{DateLanguage, ReportSettings};
pub use fencepost_spool::{Items, Spool, SpoolError};
pub use import::changes::Change;
pub use import::{
    ChangedDevice, Contradicted, Doubts, ImportOptions, Imported, Importer, OtherName, RejectCount, Rejects, WrongType,
};
pub use ledger_view::batch::DeviceStanding;
pub use ledger_view::event::FindingChange;
pub use ledger_view::fence::{FenceLine, Post};
pub use ledger_view::reading::Reading;
pub use ledger_view::trim::{TrimReport, trim};
pub use ledger_view::verify::Verified;
pub use workspace::definition_changes::DefinitionChange;
pub use workspace::files::expand_paths;
pub use workspace::ledger::{Moment, ledger_for_dry_run, open_ledger, refuse_far_ahead, resolve_moment};
pub use workspace::project::{
    FilePlace, LEDGER, Project, ProjectError, STARTER, StarterKind, find_workspace, write_starter,
};
