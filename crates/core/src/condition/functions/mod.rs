//! The functions of the language: name, arguments with the standard's names for them, types, and what they do.
//! One table a kind of value; `not`, `present`, `age`, `in group`, `in network` and `matches` are operations of their own.

mod lists;
mod numbers;
mod texts;
mod times;

use bumpalo::Bump;
use regex::{Regex, RegexBuilder};
use rust_decimal::Decimal;

use super::budget::{BoundedText, Budget};
use super::types::Type;
use crate::facts::value::{List, Value};

/// What a function may use besides its arguments.
pub(super) struct Context<'a> {
    pub arena: &'a Bump,
    /// What the running condition may still use. A function that is refused gives null; the condition is unknown then.
    pub budget: &'a Budget,
    pub now: jiff::Timestamp,
    pub zone: &'a jiff::tz::TimeZone,
}

impl<'a> Context<'a> {
    /// Keeps a text.
    fn text(&self, text: &str) -> Option<Value<'a>> {
        self.budget.spend_bytes(text.len())?;
        Some(Value::Text(self.arena.alloc_str(text)))
    }

    /// Keeps a list.
    fn list(&self, items: &[Value<'a>]) -> Option<Value<'a>> {
        self.budget.spend_values(items.len() + 1)?;
        Some(Value::List(self.arena.alloc(List::certain(self.arena.alloc_slice_copy(items)))))
    }

    /// Writes a text of at most as many bytes as the budget has left, and takes them off it.
    fn written(&self, write: impl FnOnce(&mut BoundedText) -> std::fmt::Result) -> Option<String> {
        let mut out = BoundedText::new(self.budget.bytes_left());
        let fits = write(&mut out);
        let text = out.into_text();
        // What did not fit asks for more than there is.
        self.budget.spend_bytes(if fits.is_ok() { text.len() } else { usize::MAX })?;
        Some(text)
    }
}

/// Takes known arguments, lists without doubtful items among them; returns null where they are not of the right type.
type FunctionBody = for<'a> fn(&Context<'a>, &[Value<'a>]) -> Value<'a>;

pub(super) struct Function {
    pub name: &'static str,
    pub least: usize,
    pub most: usize,
    /// The arguments' names, as the standard has them, for calls that name them.
    pub names: &'static [&'static str],
    /// Types of the arguments; the last holds for all further ones.
    pub wants: &'static [Type],
    pub gives: Type,
    /// How to write it, for messages.
    pub usage: &'static str,
    /// It weighs unknown items of a list itself.
    pub weighs_unknown: bool,
    pub run: FunctionBody,
}

impl std::fmt::Debug for Function {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(self.name)
    }
}

/// For functions that the checker turns into operations of their own.
fn never<'a>(_: &Context<'a>, _: &[Value<'a>]) -> Value<'a> {
    Value::Null
}

/// A function that takes nothing yet and gives anything.
const fn function(name: &'static str, usage: &'static str, run: FunctionBody) -> Function {
    let (names, wants): (&[&str], &[Type]) = (&[], &[]);
    Function { name, least: 0, most: 0, names, wants, gives: Type::Any, usage, weighs_unknown: false, run }
}

impl Function {
    /// Sets how many arguments it takes at least and at most, their names, and their types.
    const fn takes(
        self,
        (least, most): (usize, usize),
        names: &'static [&'static str],
        wants: &'static [Type],
    ) -> Self {
        Self { least, most, names, wants, ..self }
    }

    /// Sets the type of what it gives.
    const fn gives(self, gives: Type) -> Self {
        Self { gives, ..self }
    }
}

const fn weighing(function: Function) -> Function {
    Function { weighs_unknown: true, ..function }
}

const MANY: usize = usize::MAX;

static OPERATIONS: [Function; 7] = [
    function("not", "not(x)", never).takes((1, 1), &["negand"], &[Type::Boolean]).gives(Type::Boolean),
    function("present", "present(fact)", never).takes((1, 1), &[], &[Type::Any]).gives(Type::Boolean),
    function("age", "age(agent.last_seen)", never).takes((1, 1), &[], &[Type::DateTime]).gives(Type::Duration),
    function("in group", "in group(\"id\")", never).takes((1, 1), &[], &[Type::Text]).gives(Type::Boolean),
    function("failing", "failing(\"rule\")", never).takes((1, 1), &[], &[Type::Text]).gives(Type::Boolean),
    function("in network", "in network(net.address, \"10.4.0.0/16\")", never)
        .takes((2, MANY), &[], &[Type::Text])
        .gives(Type::Boolean),
    function("matches", "matches(text, \"pattern\")", never)
        .takes((2, 3), &["input", "pattern", "flags"], &[Type::Text])
        .gives(Type::Boolean),
];

/// All functions.
fn all() -> impl Iterator<Item = &'static Function> {
    OPERATIONS.iter().chain(texts::FUNCTIONS).chain(numbers::FUNCTIONS).chain(lists::FUNCTIONS).chain(times::FUNCTIONS)
}

/// Returns whether a function of this name gives a number.
pub(super) fn gives_number(name: &str) -> bool {
    all().any(|function| function.name == name && function.gives == Type::Number)
}

/// Returns whether several words are the name of a function.
pub(super) fn is_known(name: &str) -> bool {
    all().any(|function| function.name == name)
}

/// Returns a function by name.
pub(super) fn find(name: &str) -> Option<&'static Function> {
    all().find(|function| function.name == name)
}

/// Returns the names of all functions.
pub(super) fn names() -> impl Iterator<Item = &'static str> {
    all().map(|function| function.name)
}

/// Compiles an XPath regular expression with its flags to a linear-time one.
///
/// # Errors
/// Says in a few words why the pattern cannot be used.
pub(super) fn compile_pattern(pattern: &str, flags: &str) -> Result<Regex, String> {
    const SIZE_LIMIT: usize = 1 << 20;
    /// Longer patterns take hundreds of times their length to be read.
    const LONGEST: usize = 4096;
    if pattern.len() > LONGEST {
        return Err(format!("it is longer than {LONGEST} bytes"));
    }
    if let Some(unknown) = flags.chars().find(|flag| !"smixq".contains(*flag)) {
        return Err(format!("unknown flag `{unknown}`; known are s, m, i, x and q"));
    }
    let pattern = if flags.contains('q') { regex::escape(pattern) } else { translate(pattern, flags.contains('x')) };
    RegexBuilder::new(&pattern)
        .dot_matches_new_line(flags.contains('s'))
        .multi_line(flags.contains('m'))
        .case_insensitive(flags.contains('i'))
        .size_limit(SIZE_LIMIT)
        .nest_limit(50)
        .build()
        .map_err(|error| match error {
            regex::Error::CompiledTooBig(_) => "it would grow too large".to_owned(),
            other => {
                other.to_string().lines().last().unwrap_or("it is malformed").trim_start_matches("error: ").to_owned()
            }
        })
}

/// Turns what XPath writes otherwise into what the engine reads: `[a-z-[aeiou]]`, `\i`, `\c`, and with the flag `x` spaces
/// that stand for nothing (a `#` is no comment there).
fn translate(pattern: &str, spaced: bool) -> String {
    let mut out = String::with_capacity(pattern.len() + 8);
    let mut depth = 0_usize;
    let mut rest = pattern.chars().peekable();
    while let Some(c) = rest.next() {
        match c {
            '\\' => match rest.next() {
                Some('i') if depth == 0 => out.push_str("[\\p{L}_:]"),
                Some('c') if depth == 0 => out.push_str("[\\p{L}\\p{N}\\p{M}_:.\\-]"),
                Some('i') => out.push_str("\\p{L}_:"),
                Some('c') => out.push_str("\\p{L}\\p{N}\\p{M}_:.\\-"),
                Some(other) => out.extend(['\\', other]),
                None => out.push('\\'),
            },
            '-' if depth > 0 && rest.peek() == Some(&'[') => out.push_str("--"),
            '[' if depth > 0 && !out.ends_with("--") => out.push_str("\\["),
            '[' => {
                depth += 1;
                out.push('[');
                out.extend(rest.next_if_eq(&'^'));
            }
            ']' => {
                depth = depth.saturating_sub(1);
                out.push(']');
            }
            c if spaced && depth == 0 && c.is_whitespace() => {}
            '&' | '~' if depth > 0 => out.extend(['\\', c]),
            c => out.push(c),
        }
    }
    out
}

fn text<'a>(args: &[Value<'a>], at: usize) -> Option<&'a str> {
    match args.get(at) {
        Some(Value::Text(text) | Value::Version(text)) => Some(text),
        _ => None,
    }
}

fn number(args: &[Value<'_>], at: usize) -> Option<Decimal> {
    match args.get(at) {
        Some(Value::Number(number)) => Some(*number),
        _ => None,
    }
}

/// A whole number.
fn whole(args: &[Value<'_>], at: usize) -> Option<i64> {
    number(args, at).filter(Decimal::is_integer).and_then(|number| i64::try_from(number).ok())
}

/// The items of the one list given, or the arguments themselves; a single value is a list of one.
fn items<'s, 'a>(args: &'s [Value<'a>]) -> &'s [Value<'a>] {
    match args {
        [Value::List(list)] => list.items,
        many => many,
    }
}

fn or_null<'a>(value: Option<Value<'a>>) -> Value<'a> {
    value.unwrap_or(Value::Null)
}
