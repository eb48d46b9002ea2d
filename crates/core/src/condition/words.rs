//! The texts that conditions compare something with: what is spelled otherwise than any value makes them say nothing.

use std::ops::Range;

use super::compiled::{AmbientKey, Condition, Node, NodeTest, Op};
use super::syntax::CompareOp;
use crate::diagnostic::{Diagnostic, did_you_mean};
use crate::facts::layout::SlotId;
use crate::findings::standing::Standing;

/// A text that a fact, or the standing, is held equal or unequal to.
#[derive(Clone, Debug)]
pub(crate) struct ComparedText<'c> {
    /// The fact; none for the standing.
    pub slot: Option<SlotId>,
    /// The text.
    pub text: &'c str,
    /// Where it stands in the condition.
    pub span: Range<usize>,
}

impl Condition {
    /// Returns the texts that facts of the device and its standing are held equal or unequal to.
    pub(crate) fn compared_texts(&self) -> Vec<ComparedText<'_>> {
        let (mut found, mut waiting) = (Vec::new(), vec![&self.root]);
        while let Some(node) = waiting.pop() {
            match &node.op {
                Op::Compare(CompareOp::Equal | CompareOp::NotEqual, left, right) => {
                    found.extend(compared(left, right));
                    found.extend(compared(right, left));
                }
                Op::In(value, tests) => {
                    let literals = tests.iter().filter_map(|test| match test {
                        NodeTest::Value(node) => Some(node),
                        NodeTest::Compare(CompareOp::Equal, node) => Some(node),
                        NodeTest::Compare(..) => None,
                    });
                    found.extend(literals.filter_map(|literal| compared(value, literal)));
                }
                _ => {}
            }
            waiting.extend(node.children());
        }
        found.sort_by_key(|compared| compared.span.start);
        found
    }

    /// Warns of words that no standing is spelled like.
    pub(super) fn warn_of_standings(&self, mistakes: &mut Vec<Diagnostic>) {
        let words = || Standing::ALL.into_iter().map(Standing::as_str);
        for ComparedText { text, span, .. } in self.compared_texts().into_iter().filter(|it| it.slot.is_none()) {
            if Standing::parse(text).is_none() {
                let all = words().map(|word| format!("\"{word}\"")).collect::<Vec<_>>().join(", ");
                let help = did_you_mean(text, words(), || format!("write one of {all}"));
                mistakes.push(
                    Diagnostic::warning(
                        "unknown-word",
                        format!("no device ever stands `{text}`"),
                        self.text.span(span),
                    )
                    .help(help),
                );
            }
        }
    }
}

fn compared<'n>(value: &Node, literal: &'n Node) -> Option<ComparedText<'n>> {
    let slot = match value.op {
        Op::Fact { slot, .. } => Some(slot),
        Op::Ambient(AmbientKey::Standing) => None,
        _ => return None,
    };
    match &literal.op {
        Op::Text(text) => Some(ComparedText { slot, text, span: literal.span.clone() }),
        _ => None,
    }
}
