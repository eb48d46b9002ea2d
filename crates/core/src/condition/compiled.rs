//! A compiled condition: names are slots and locals, literals are values, mistakes are gone.

use std::net::IpAddr;
use std::ops::Range;
use std::sync::Arc;

use regex::Regex;

use super::fast_predicate::FastPredicate;
use super::functions::Function;
use super::syntax::{ArithmeticOp, CompareOp, QuantifierKind};
use super::types::Type;
use crate::diagnostic::Text;
use crate::facts::layout::SlotId;
use crate::facts::value::Value;

/// What the surroundings say, apart from facts.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum AmbientKey {
    Standing,
    DeviceKnown,
    DeviceRegistered,
    DeviceManaged,
    SignInClient,
    SignInAddress,
    SignInTime,
    SignInPlatform,
    ServiceId,
}

/// One test of an `in`.
#[derive(Clone, Debug)]
pub(super) enum NodeTest {
    Value(Node),
    Compare(CompareOp, Node),
}

#[derive(Clone, Debug)]
pub(super) enum Op {
    /// A literal that borrows nothing.
    Constant(Value<'static>),
    Text(Arc<str>),
    Version(Arc<str>),
    /// A fact of the device; `exempt` when its age is what is asked.
    Fact {
        slot: SlotId,
        exempt: bool,
    },
    /// A fact of the person.
    PersonFact(SlotId),
    Ambient(AmbientKey),
    /// A quantifier's item, by its place on the stack of locals.
    Local(usize),
    /// A dotted path below a value.
    Field {
        base: Box<Node>,
        path: Arc<str>,
    },
    /// A name in a filter: a field of the item, or a fact when the item is no object.
    ItemField {
        item: usize,
        path: Arc<str>,
        fact: Box<Node>,
    },
    List(Vec<Node>),
    Range {
        low: Box<Node>,
        low_included: bool,
        high: Box<Node>,
        high_included: bool,
    },
    Negate(Box<Node>),
    Arithmetic(ArithmeticOp, Box<Node>, Box<Node>),
    And(Vec<Node>),
    Or(Vec<Node>),
    Not(Box<Node>),
    Compare(CompareOp, Box<Node>, Box<Node>),
    Between {
        value: Box<Node>,
        low: Box<Node>,
        high: Box<Node>,
    },
    In(Box<Node>, Vec<NodeTest>),
    If {
        condition: Box<Node>,
        then: Box<Node>,
        otherwise: Box<Node>,
    },
    Quantified {
        kind: QuantifierKind,
        lists: Vec<Node>,
        first_local: usize,
        body: Box<Node>,
    },
    Filter {
        list: Box<Node>,
        item: usize,
        condition: Box<Node>,
    },
    Index {
        list: Box<Node>,
        index: Box<Node>,
    },
    /// `for`; the results in the order of the items.
    For {
        lists: Vec<Node>,
        first_local: usize,
        body: Box<Node>,
    },
    InstanceOf(Box<Node>, Instance),
    InNetwork(Box<Node>, Vec<Network>),
    Present(Box<Node>),
    Age(Box<Node>),
    InGroup(usize),
    /// Whether a rule, or one below it, fails on the device.
    Failing(Arc<str>),
    /// Whether the comparison of a set found the device alike. No text of a condition says so: it is what the rule of a set requires.
    Alike(usize),
    Matches(Box<Node>, Regex),
    Call(&'static Function, Vec<Node>),
}

/// What `instance of` asks for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Instance {
    Any,
    Boolean,
    Number,
    Text,
    Version,
    Date,
    Time,
    DateTime,
    Duration,
    Months,
    List,
    Object,
}

/// A range of addresses that share their first bits.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Network {
    pub address: IpAddr,
    pub bits: u8,
}

impl Network {
    /// Reads `10.4.0.0/16`, or a single address.
    pub(super) fn parse(text: &str) -> Option<Self> {
        let (address, bits) = text.split_once('/').map_or((text, None), |(address, bits)| (address, Some(bits)));
        let address: IpAddr = address.trim().parse().ok()?;
        let most = if address.is_ipv4() { 32 } else { 128 };
        let bits = bits.map_or(Some(most), |bits| bits.trim().parse().ok().filter(|bits| *bits <= most))?;
        Some(Self { address, bits })
    }

    /// Returns whether an address lies in it; one of the other family does not, and an IPv4-mapped IPv6 address counts as IPv4.
    pub(super) fn contains(&self, address: IpAddr) -> bool {
        let plain = address.to_canonical();
        match (self.address, plain) {
            (IpAddr::V4(network), IpAddr::V4(address)) => {
                let shift = 32 - u32::from(self.bits);
                shift == 32 || u32::from(network) >> shift == u32::from(address) >> shift
            }
            (IpAddr::V6(network), IpAddr::V6(address)) => {
                let shift = 128 - u32::from(self.bits);
                shift == 128 || u128::from(network) >> shift == u128::from(address) >> shift
            }
            (IpAddr::V4(_), IpAddr::V6(_)) | (IpAddr::V6(_), IpAddr::V4(_)) => false,
        }
    }
}

#[derive(Clone, Debug)]
pub(super) struct Node {
    pub op: Op,
    pub ty: Type,
    /// The path of the fact this reads, for blame and for evidence.
    pub label: Option<Arc<str>>,
    /// Where it stands in the condition's text.
    pub span: Range<usize>,
    /// A fast predicate that gives the same answer, where there is one.
    pub fast_predicate: Option<Box<FastPredicate>>,
}

impl Node {
    /// Has its fact read at any age.
    pub(super) fn read_at_any_age(&mut self) {
        match &mut self.op {
            Op::Fact { exempt, .. } => *exempt = true,
            Op::Field { base, .. } | Op::Filter { list: base, .. } | Op::Index { list: base, .. } => {
                base.read_at_any_age();
            }
            _ => {}
        }
    }

    /// Returns the nodes right below.
    pub(super) fn children(&self) -> Vec<&Self> {
        match &self.op {
            Op::Constant(_)
            | Op::Text(_)
            | Op::Version(_)
            | Op::Fact { .. }
            | Op::PersonFact(_)
            | Op::Ambient(_)
            | Op::Local(_)
            | Op::InGroup(_)
            | Op::Failing(_)
            | Op::Alike(_) => Vec::new(),
            Op::Field { base: inner, .. }
            | Op::ItemField { fact: inner, .. }
            | Op::Negate(inner)
            | Op::Not(inner)
            | Op::InstanceOf(inner, _)
            | Op::InNetwork(inner, _)
            | Op::Present(inner)
            | Op::Age(inner)
            | Op::Matches(inner, _) => vec![inner],
            Op::List(items) | Op::And(items) | Op::Or(items) | Op::Call(_, items) => items.iter().collect(),
            Op::Range { low: one, high: other, .. }
            | Op::Arithmetic(_, one, other)
            | Op::Compare(_, one, other)
            | Op::Filter { list: one, condition: other, .. }
            | Op::Index { list: one, index: other } => vec![one, other],
            Op::Between { value, low, high } => vec![value, low, high],
            Op::In(value, tests) => {
                let tests = tests.iter().map(|test| match test {
                    NodeTest::Value(node) | NodeTest::Compare(_, node) => node,
                });
                std::iter::once(&**value).chain(tests).collect()
            }
            Op::If { condition, then, otherwise } => vec![condition, then, otherwise],
            Op::Quantified { lists, body, .. } | Op::For { lists, body, .. } => {
                lists.iter().chain(std::iter::once(&**body)).collect()
            }
        }
    }
}

/// A condition that is ready to be evaluated.
#[derive(Clone, Debug)]
pub struct Condition {
    pub(super) root: Node,
    pub(super) text: Text,
    /// Slots of the device facts it names, ascending.
    pub(super) slots: Vec<SlotId>,
    /// Slots of all device facts that it may read, ascending.
    pub(super) may_read: Vec<SlotId>,
    /// Groups it asks about, by index, ascending.
    pub(super) groups: Vec<usize>,
    /// It asks for the standing, or for findings.
    pub(super) reads_standing: bool,
    /// Slots of the facts that evidence may name; none where it may name no fact at all.
    pub(super) evidence_summary: Option<Vec<SlotId>>,
}

impl Condition {
    /// Creates the requirement that the comparison of a set, by its position, finds a device alike; `text` says so to people.
    pub(crate) fn alike(set: usize, text: Text) -> Self {
        let span = 0..text.as_str().len();
        let root = Node { op: Op::Alike(set), ty: Type::Boolean, label: None, span, fast_predicate: None };
        Self {
            root,
            text,
            slots: Vec::new(),
            may_read: Vec::new(),
            groups: Vec::new(),
            reads_standing: false,
            evidence_summary: None,
        }
    }

    /// Returns the set, by its position, that it asks about, where it is what the rule of a set requires.
    pub(crate) fn compared_set(&self) -> Option<usize> {
        match self.root.op {
            Op::Alike(set) => Some(set),
            _ => None,
        }
    }

    /// Returns the condition as it was written.
    pub fn as_str(&self) -> &str {
        self.text.as_str()
    }

    /// Returns the condition with its way back to the file.
    pub fn text(&self) -> &Text {
        &self.text
    }

    /// Returns the slots of the device facts it names, ascending. Names inside a filter are fields of its items first, and not among them.
    pub fn slots(&self) -> &[SlotId] {
        &self.slots
    }

    /// Returns the slots of all device facts that it may read, ascending: also those that a name inside a filter stands for where an
    /// item has no such field.
    pub fn may_read(&self) -> &[SlotId] {
        &self.may_read
    }

    /// Returns the groups it asks about, as indexes into the list it was compiled with, ascending.
    pub fn groups(&self) -> &[usize] {
        &self.groups
    }

    /// Returns whether it asks for the device's standing, or for its findings.
    pub fn reads_standing(&self) -> bool {
        self.reads_standing
    }
}
