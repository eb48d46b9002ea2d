//! Rules as written and as compiled, the baselines that become rules, the clauses that rules answer for, and verdicts.

pub(crate) mod baseline;
pub(crate) mod compile;
pub(crate) mod control;
pub(crate) mod rule;
pub(crate) mod verdict;
