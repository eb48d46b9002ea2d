//! The syntax tree of a condition, as written: nothing is resolved yet.

pub(crate) use crate::facts::comparison::CompareOp;
use std::ops::Range;

use rust_decimal::Decimal;

/// A node with its place in the text.
#[derive(Clone, Debug)]
pub(super) struct Expr {
    pub kind: ExprKind,
    pub span: Range<usize>,
}

/// A name with its place.
#[derive(Clone, Debug)]
pub(super) struct Name {
    pub text: String,
    pub span: Range<usize>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum ArithmeticOp {
    Add,
    Subtract,
    Multiply,
    Divide,
    Power,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum QuantifierKind {
    Every,
    Some,
}

/// One of the things that `in` tries, or that a baseline expects.
#[derive(Clone, Debug)]
pub(super) enum Test {
    /// A value, a list or a range.
    Value(Expr),
    /// `>= 30`.
    Compare(CompareOp, Expr),
}

#[derive(Clone, Debug)]
pub(super) enum ExprKind {
    Null,
    Boolean(bool),
    Number(Decimal),
    Text(String),
    /// `@"..."`.
    At(String),
    Name(String),
    Path(Box<Expr>, Name),
    List(Vec<Expr>),
    Range {
        low: Box<Expr>,
        low_included: bool,
        high: Box<Expr>,
        high_included: bool,
    },
    Negate(Box<Expr>),
    Arithmetic(ArithmeticOp, Box<Expr>, Box<Expr>),
    And(Vec<Expr>),
    Or(Vec<Expr>),
    Compare(CompareOp, Box<Expr>, Box<Expr>),
    Between {
        value: Box<Expr>,
        low: Box<Expr>,
        high: Box<Expr>,
    },
    In(Box<Expr>, Vec<Test>),
    If {
        condition: Box<Expr>,
        then: Box<Expr>,
        otherwise: Box<Expr>,
    },
    Quantified {
        kind: QuantifierKind,
        iterators: Vec<(Name, Expr)>,
        body: Box<Expr>,
    },
    Filter(Box<Expr>, Box<Expr>),
    /// `for x in list return body`
    For {
        iterators: Vec<(Name, Expr)>,
        body: Box<Expr>,
    },
    /// `value instance of number`
    InstanceOf(Box<Expr>, Name),
    /// Arguments have names all of them, or none.
    Call {
        name: Name,
        arguments: Vec<Expr>,
        names: Vec<Name>,
    },
    /// Where something could not be read; a diagnostic was reported for it.
    Mistake,
}
