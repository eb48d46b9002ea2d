//! The heart of Fence Post: collected facts, conditions, rules, verdicts, findings and access, as pure functions.
//!
//! Nothing here reads a file, a clock, an environment or a database, and nothing prints: time is an
//! argument, text comes in as values, mistakes go out as [`Diagnostic`]s. Start reading at
//! [`RuleSet`], which evaluates one device, then [`settle`], which moves findings and standing, then
//! [`decide`], which says who reaches what.

mod access;
mod baseline;
mod canonical;
mod condition;
mod control;
mod diagnostic;
mod dictionary;
mod evidence;
mod facts;
mod finding;
mod fingerprint;
mod group;
mod harmless;
mod id;
mod layout;
pub mod limits;
mod lives;
mod packed;
mod people;
mod period;
mod rule;
mod secrecy;
mod standing;
#[cfg(test)]
mod testing;
mod value;
mod verdict;
mod version;
mod vet;
mod watch;

pub use access::{
    AccessRule, AccessSet, AccessSource, Attempt, Decision, Effect, LossCause, Otherwise, Service, ServiceSource, Step,
    StepResult, decide, moments_ahead,
};
pub use baseline::{
    BaselineSource, EntrySource, ExpectSource, Expected, FromBaseline, ListSource, Others, Presence, ScopeSource,
    Settings, YieldSource,
};
pub use canonical::{Canonical, Encode};
pub use condition::{Ambient, Condition, Evaluator, Place, Vocabulary, parse_date_time};
pub use control::Control;
pub use diagnostic::{
    Diagnostic, FileId, Note, Severity, Span, Text, TextPiece, did_you_mean, few_of_each_file, nearest,
};
pub use dictionary::{Conversion, Declaration, Dictionary, FactType, ReadAs, parse_collected};
pub use evidence::{Blame, Evidence, FactUse, Grounds, ItemEvidence, Outcome};
pub use facts::{Correction, Facts, Observation, Origin, Slot, merge};
pub use finding::{CloseReason, Finding, Phase, SettleSettings, Settled, Subject, Transition, TransitionKind, settle};
pub use group::{GroupKind, GroupSource, Membership};
pub use harmless::{for_terminal, harmless, is_harmful, mask_in_place, push_json};
pub use id::{AccessRuleId, DeviceId, GroupId, PersonId, RuleId, ServiceId, SourceId, is_slug};
pub use layout::{DocumentReader, ItemFields, Keeping, Layout, NodeId, Read, ReadError, SlotId};
pub use lives::{Lives, Renaming, Retirement};
pub use packed::{Packer, unpack, unpack_some};
pub use people::{Holder, Person};
pub use period::{Period, show_span};
pub use rule::{
    ExceptSource, Exception, Fix, FixSource, Named, Rule, RuleSet, RuleSetSource, RuleSource, Severity as RuleSeverity,
    Stage,
};
pub use secrecy::{Leaf, PathWords};
pub use standing::{Standing, Uncovered, standing_at};
pub use value::{DateTime, Datum, List, Object, Range, RangeEnd, Reason, Unknown, Value, Zone, ZoneName};
pub use verdict::{DeviceInput, Verdict, VerdictOutcome, Verdicts};
pub use version::{compare_versions, is_version};
pub use vet::{CODES, Fleet, Surroundings, Vet, about_code, severities};
pub use watch::Watch;
