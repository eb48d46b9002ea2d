//! The heart of Fence Post: collected facts, conditions, rules, verdicts, findings and access, as pure functions.
//!
//! Nothing here reads a file, a clock, an environment or a database, and nothing prints: time is an
//! argument, text comes in as values, mistakes go out as [`Diagnostic`]s. Start reading at
//! [`RuleSet`], which evaluates one device, then [`SettleContext::settle`], which moves findings and standing, then
//! [`decide`], which says who reaches what.

mod access;
mod canonical;
mod condition;
mod diagnostic;
pub mod drift;
mod facts;
mod findings;
mod fleet;
mod harmless;
mod id;
pub mod limits;
mod percent;
mod rule_set;
mod rules;
#[cfg(test)]
mod testing;

pub use access::cause::{Cause, CauseKind};
pub use access::decision::{
    AccessChange, AccessState, Attempt, Decision, Obligation, Ruling, Step, StepResult, Strictness,
};
pub use access::service::{AccessRule, AccessSet, AccessSource, Effect, Otherwise, Service, ServiceSource, SignIn};
pub use access::terms::{Terms, TermsSource};
pub use canonical::{Canonical, Encode};
pub use condition::evidence::{Blame, Evidence, EvidenceSummary, FactUse, Headline, ItemEvidence, Outcome};
pub use condition::{Ambient, Condition, Evaluator, Place, Vocabulary};
pub use diagnostic::{
    Diagnostic, FileId, Named, Note, Severity, Span, Text, TextPiece, did_you_mean, few_of_each_file, nearest,
};
pub use facts::dictionary::{Conversion, Declaration, Dictionary, Expiring, FactType, ReadAs, parse_collected};
pub use facts::layout::{DocumentReader, ItemFields, Keeping, Layout, NodeId, Read, ReadError, SlotId};
pub use facts::merge::{Correction, Facts, Observation, Origin, Slot, merge};
pub use facts::packed::{Packer, unpack, unpack_some};
pub use facts::period::{DayOfWeek, Period, WorkCalendar, day_of_week, show_span};
pub use facts::secrecy::{Leaf, PathWords};
pub use facts::temporal::parse_date_time;
pub use facts::validity::Watch;
pub use facts::value::{DateTime, Datum, List, Object, Range, RangeEnd, Reason, Unknown, Value, Zone, ZoneName};
pub use facts::version::{compare_versions, is_version};
pub use findings::clock::{CloseReason, FindingClock, Phase, WaivedTime};
pub use findings::event::{FindingEvent, Transition};
pub use findings::finding::{
    Finding, LackSettings, SettleContext, SettleInput, SettleSettings, Settled, Subject, moments_ahead,
};
pub use findings::outbox::{
    Action, ActionRecord, ActionState, Approval, HeldBecause, OutboxInput, OutboxSettings, QuietHours, Target,
    WaitsFor, retry_at,
};
pub use findings::response::{
    Addressee, CommandTarget, Response, ResponseStep, StepAction, StepAnchor, StepMoment, TemplateName,
};
pub use findings::standing::{Standing, Uncovered, is_by_waiver, standing_at};
pub use findings::waiver::{ClockAfterwards, DeviceWaivers, EndedEarly, Waiver, WaiverSource, WaiverState};
pub use fleet::group::{EVERY_DEVICE, GroupKind, GroupSource, GroupSummary, Membership};
pub use fleet::lifecycles::{DeviceLife, DeviceLifecycles, LifeStatement, Renaming, Retirement};
pub use fleet::people::{Acceptance, Holder, Person};
pub use harmless::{for_terminal, harmless, is_harmful, mask_in_place, push_json};
pub use id::{
    AccessRuleId, ActionId, DeviceId, FindingId, GroupId, PersonId, ResponseId, RuleId, ServiceId, SourceId, StepId,
    TermsId, WaiverId, is_slug,
};
pub use percent::percent;
pub use rule_set::expiring::ExpiringFact;
pub use rule_set::vet::{
    CODES, Fleet, Surroundings, Vet, VetInput, about_code, join_unknown, severities, unknown_everywhere,
};
pub use rule_set::{
    AcceptedDifference, AcceptedSource, AcceptedValue, AccessCondition, Assembly, AssemblySource, Bundle, BundleSource,
    CommandSource, ComparedFacts, DriftDefinitions, DriftSet, DriftSetSource, DriftSource, Posture, ResponseSource,
    Responses, ResponsesSource, RuleSet, RuleSetSource, Session, StepSource, bundle_number, decide, decide_and_explain,
    failing_rules, find_causes, find_causes_of_rule, rule_of_set, step_evidence,
};
pub use rules::baseline::{
    BaselineSource, EntrySource, ExpectSource, Expected, FromBaseline, ListSource, Others, OverrideSource, Presence,
    ScopeSource, Settings,
};
pub use rules::control::Control;
pub use rules::rule::{ExceptSource, Exception, Fix, FixSource, Rule, RuleSeverity, RuleSource, Stage};
pub use rules::verdict::{DeviceInput, Verdict, VerdictOutcome, Verdicts};
