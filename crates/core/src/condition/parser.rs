//! Reads tokens into a syntax tree. The first mistake of a condition is reported and ends its reading;
//! what follows it would mostly be noise. Depth is bounded, so hostile nesting cannot exhaust the stack.

use std::ops::Range;

use rust_decimal::Decimal;

use super::functions;
use super::lexer::{Token, TokenKind, tokens};
use super::syntax::{ArithmeticOp, CompareOp, Expr, ExprKind, Name, QuantifierKind, Test};
use crate::diagnostic::{Diagnostic, Text};

/// How deep brackets, operators and quantifiers may nest.
const MAX_DEPTH: usize = 100;
/// More parentheses within one another are refused.
const MAX_PARENTHESES: usize = 500;
/// With less stack left than this, and so much more is taken: a level takes a few kilobytes in a debug build.
const STACK_LEFT: usize = 128 * 1024;
const STACK_MORE: usize = 1024 * 1024;
/// How long a condition may be, in bytes.
const MAX_LENGTH: usize = 64 * 1024;

/// Words with a meaning of their own; as facts they are written in back-quotes.
const KEYWORDS: [&str; 15] = [
    "and",
    "or",
    "in",
    "between",
    "if",
    "then",
    "else",
    "for",
    "return",
    "some",
    "every",
    "satisfies",
    "instance",
    "of",
    "null",
];

/// Returns whether a name must stand in back-quotes to be one.
pub(crate) fn is_reserved(word: &str) -> bool {
    KEYWORDS.contains(&word) || matches!(word, "true" | "false" | "not")
}

/// Reads a whole condition.
///
/// # Errors
/// The first mistake, with its place and what to write instead.
pub(super) fn parse(source: &Text) -> Result<Expr, Box<Diagnostic>> {
    let text = source.as_str();
    if text.len() > MAX_LENGTH {
        let mistake = Diagnostic::error(
            "condition-too-long",
            format!("this condition is longer than {MAX_LENGTH} bytes"),
            source.whole_span(),
        )
        .help("split it into several rules or checks");
        return Err(Box::new(mistake));
    }
    let mut parser =
        Parser { text, source, tokens: tokens(text), at: 0, depth: 0, parentheses: 0, range_ends: 0, mistake: None };
    let expr = parser.expression();
    if parser.mistake.is_none() && parser.kind() != TokenKind::End {
        parser.unexpected("the end of the condition or an operator");
    }
    match parser.mistake {
        Some(mistake) => Err(Box::new(mistake)),
        None => Ok(expr),
    }
}

/// Reads the unary tests of an expected value: `>= 30`, `[8..16]`, `"a", "b"`, `not("x")`, `-`. A name of what is
/// tested stands nowhere in them; none is `-`, which anything meets. The flag tells of a `not`.
///
/// # Errors
/// The first mistake, with its place and what to write instead.
pub(super) fn parse_tests(source: &Text) -> Result<(Option<Vec<Test>>, bool), Box<Diagnostic>> {
    let text = source.as_str();
    let mut parser =
        Parser { text, source, tokens: tokens(text), at: 0, depth: 0, parentheses: 0, range_ends: 0, mistake: None };
    if parser.kind() == TokenKind::Minus && parser.kind_at(1) == TokenKind::End {
        return Ok((None, false));
    }
    let denied = parser.is_word("not") && parser.kind_at(1) == TokenKind::LeftParen;
    if denied {
        parser.advance();
        parser.advance();
    }
    let mut all = vec![parser.unary_test()];
    while parser.eat(TokenKind::Comma) {
        all.push(parser.unary_test());
    }
    if denied {
        parser.expect(TokenKind::RightParen, "`)` or a comma");
    }
    if parser.mistake.is_none() && parser.kind() != TokenKind::End {
        parser.unexpected("the end of the tests or a comma");
    }
    match parser.mistake {
        Some(mistake) => Err(Box::new(mistake)),
        None => Ok((Some(all), denied)),
    }
}

struct Parser<'t> {
    text: &'t str,
    source: &'t Text,
    tokens: Vec<Token>,
    at: usize,
    depth: usize,
    /// Levels among them that are parentheses alone: of what is compiled nothing nests for them.
    parentheses: usize,
    /// Upper ends of ranges that are being read, which `[` may close.
    range_ends: usize,
    mistake: Option<Diagnostic>,
}

impl Parser<'_> {
    /// Returns whether a value may begin with the token so many places ahead.
    fn begins_value(&self, ahead: usize) -> bool {
        const BETWEEN: [&str; 8] = ["and", "or", "then", "else", "in", "satisfies", "return", "between"];
        match self.kind_at(ahead) {
            TokenKind::Name => !BETWEEN.contains(&self.word_at(ahead)),
            kind => matches!(
                kind,
                TokenKind::Number
                    | TokenKind::Text
                    | TokenKind::QuotedName
                    | TokenKind::LeftParen
                    | TokenKind::LeftBracket
                    | TokenKind::Minus
                    | TokenKind::At
            ),
        }
    }

    fn token(&self) -> &Token {
        &self.tokens[self.at]
    }

    fn kind(&self) -> TokenKind {
        // After a mistake everything looks like the end, so that every loop stops.
        if self.mistake.is_some() { TokenKind::End } else { self.token().kind }
    }

    fn kind_at(&self, ahead: usize) -> TokenKind {
        self.tokens.get(self.at + ahead).map_or(TokenKind::End, |token| token.kind)
    }

    fn word_at(&self, ahead: usize) -> &str {
        self.tokens.get(self.at + ahead).map_or("", |token| &self.text[token.range.clone()])
    }

    fn is_word(&self, word: &str) -> bool {
        self.kind() == TokenKind::Name && self.word_at(0) == word
    }

    fn advance(&mut self) -> Range<usize> {
        let range = self.token().range.clone();
        if self.at + 1 < self.tokens.len() {
            self.at += 1;
        }
        range
    }

    fn eat(&mut self, kind: TokenKind) -> bool {
        let found = self.kind() == kind;
        if found {
            self.advance();
        }
        found
    }

    fn eat_word(&mut self, word: &str) -> bool {
        let found = self.is_word(word);
        if found {
            self.advance();
        }
        found
    }

    fn fail(
        &mut self,
        code: &'static str,
        message: impl Into<String>,
        range: Range<usize>,
        help: impl Into<String>,
    ) -> Expr {
        if self.mistake.is_none() {
            self.mistake = Some(Diagnostic::error(code, message, self.source.span(range.clone())).help(help));
        }
        Expr { kind: ExprKind::Mistake, span: range }
    }

    /// Reports the token at hand where `wanted` should stand, with the best advice for what was found.
    fn unexpected(&mut self, wanted: &str) -> Expr {
        let token = self.token().clone();
        let found = &self.text[token.range.clone()];
        let (message, help) = match token.kind {
            TokenKind::OpenText => ("this text has no closing quote".to_owned(), "end it with `\"`".to_owned()),
            TokenKind::OpenComment => ("this comment is not closed".to_owned(), "end it with `*/`".to_owned()),
            TokenKind::NumberWord => {
                let digits = found.trim_end_matches(|c: char| !c.is_ascii_digit());
                let digits = digits.split(|c: char| !c.is_ascii_digit()).next().unwrap_or("");
                (
                    format!("`{found}` is neither a number nor a name"),
                    // In its own unit, where it has one.
                    match crate::facts::temporal::parse_duration(found) {
                        Some(_) => {
                            let unit = &found[digits.len()..];
                            format!("a length of time is written duration(\"{digits} {unit}\")")
                        }
                        None => format!("a length of time is written duration(\"{digits} days\")"),
                    },
                )
            }
            TokenKind::Foreign => {
                let help = match found {
                    "==" => "equality is written `=`",
                    "<>" => "inequality is written `!=`",
                    "&&" | "&" => "write `and`",
                    "||" | "|" => "write `or`",
                    "!" => "write `not(..)`",
                    _ => "this operator is not in the language",
                };
                (format!("unknown operator `{found}`"), help.to_owned())
            }
            TokenKind::Brace => (
                "contexts in braces are not part of this language".to_owned(),
                "name the facts directly, or write a list in [ ]".to_owned(),
            ),
            TokenKind::Unexpected if found == "'" || found == "\u{2018}" || found == "\u{2019}" => {
                ("texts do not stand in single quotes here".to_owned(), "write \"text\" in double quotes".to_owned())
            }
            TokenKind::Unexpected if found == "\u{201c}" || found == "\u{201d}" => (
                "typographic quotes do not hold a text".to_owned(),
                "write \"text\" in straight double quotes".to_owned(),
            ),
            TokenKind::End => (
                format!("the condition ends where {wanted} was expected"),
                format!("write {wanted} here, or take away what asks for it"),
            ),
            TokenKind::Name if KEYWORDS.contains(&found) => (
                format!("expected {wanted}, found the word `{found}`"),
                format!("a fact of this name is written `{found}` in back-quotes"),
            ),
            _ => {
                (format!("expected {wanted}, found `{found}`"), format!("write {wanted} here, or take `{found}` away"))
            }
        };
        self.fail("syntax", message, token.range, help)
    }

    fn expect(&mut self, kind: TokenKind, wanted: &str) -> bool {
        if self.eat(kind) {
            return true;
        }
        self.unexpected(wanted);
        false
    }

    fn expect_word(&mut self, word: &str) -> bool {
        if self.eat_word(word) {
            return true;
        }
        self.unexpected(&format!("the word `{word}`"));
        false
    }

    /// Runs `parse` one level deeper, or reports that the limit is reached.
    fn deeper(&mut self, parse: impl FnOnce(&mut Self) -> Expr) -> Expr {
        if self.depth - self.parentheses >= MAX_DEPTH || self.parentheses > MAX_PARENTHESES {
            let range = self.token().range.clone();
            return self.fail(
                "too-deep",
                format!("this condition nests deeper than {MAX_DEPTH} levels"),
                range,
                "split it into several rules or checks",
            );
        }
        self.depth += 1;
        let expr = stacker::maybe_grow(STACK_LEFT, STACK_MORE, || parse(self));
        self.depth -= 1;
        expr
    }

    /// `a or b`
    fn expression(&mut self) -> Expr {
        self.chain("or", Self::conjunction, ExprKind::Or)
    }

    /// `a and b`
    fn conjunction(&mut self) -> Expr {
        self.chain("and", Self::comparison, ExprKind::And)
    }

    fn chain(
        &mut self,
        word: &str,
        operand: impl Fn(&mut Self) -> Expr,
        build: impl Fn(Vec<Expr>) -> ExprKind,
    ) -> Expr {
        let first = operand(self);
        if !self.is_word(word) {
            return first;
        }
        let start = first.span.start;
        let mut all = vec![first];
        while self.eat_word(word) {
            all.push(operand(self));
        }
        let end = all.last().map_or(start, |last| last.span.end);
        Expr { kind: build(all), span: start..end }
    }

    fn compare_op(&self) -> Option<CompareOp> {
        Some(match self.kind() {
            TokenKind::Equal => CompareOp::Equal,
            TokenKind::NotEqual => CompareOp::NotEqual,
            TokenKind::Less => CompareOp::Less,
            TokenKind::LessEqual => CompareOp::LessEqual,
            TokenKind::Greater => CompareOp::Greater,
            TokenKind::GreaterEqual => CompareOp::GreaterEqual,
            _ => return None,
        })
    }

    /// `a < b`, `a between 1 and 2`, `a in (1, 2)`
    fn comparison(&mut self) -> Expr {
        let left = self.sum();
        let start = left.span.start;
        let made = if let Some(op) = self.compare_op() {
            self.advance();
            let right = self.sum();
            let span = start..right.span.end;
            Expr { kind: ExprKind::Compare(op, Box::new(left), Box::new(right)), span }
        } else if self.eat_word("between") {
            let low = self.sum();
            self.expect_word("and");
            let high = self.sum();
            let span = start..high.span.end;
            Expr { kind: ExprKind::Between { value: Box::new(left), low: Box::new(low), high: Box::new(high) }, span }
        } else if self.eat_word("in") {
            let (tests, end) = self.tests();
            Expr { kind: ExprKind::In(Box::new(left), tests), span: start..end }
        } else if self.eat_word("instance") {
            self.expect_word("of");
            let name = self.type_name();
            let span = start..name.span.end;
            Expr { kind: ExprKind::InstanceOf(Box::new(left), name), span }
        } else {
            return left;
        };
        if self.compare_op().is_some() || self.is_word("between") || self.is_word("in") {
            let range = self.token().range.clone();
            return self.fail(
                "chained",
                "comparisons cannot be chained",
                range,
                "join two comparisons with `and`, or write `x between 1 and 5`",
            );
        }
        made
    }

    /// What stands after `in`: a value, a list, a range, or tests in brackets. Returns where it ends.
    fn tests(&mut self) -> (Vec<Test>, usize) {
        if self.kind() == TokenKind::LeftParen {
            let start = self.advance().start;
            let first = self.test();
            if self.kind() == TokenKind::DotDot
                && let Test::Value(low) = first
            {
                let range = self.range_after(start, low, false);
                let end = range.span.end;
                return (vec![Test::Value(range)], end);
            }
            let mut all = vec![first];
            while self.eat(TokenKind::Comma) {
                all.push(self.test());
            }
            let end = self.token().range.end;
            self.expect(TokenKind::RightParen, "`)` or a comma");
            return (all, end);
        }
        let test = self.test();
        let end = match &test {
            Test::Value(expr) | Test::Compare(_, expr) => expr.span.end,
        };
        (vec![test], end)
    }

    /// A test that stands alone, so that a bracket before it may open a range.
    fn unary_test(&mut self) -> Test {
        match self.compare_op() {
            Some(_) => self.test(),
            None => Test::Value(self.expression()),
        }
    }

    fn test(&mut self) -> Test {
        match self.compare_op() {
            Some(op) => {
                self.advance();
                Test::Compare(op, self.sum())
            }
            None => Test::Value(self.sum()),
        }
    }

    fn binary(
        &mut self,
        operand: impl Fn(&mut Self) -> Expr,
        op_of: impl Fn(TokenKind) -> Option<ArithmeticOp>,
    ) -> Expr {
        let mut left = operand(self);
        let mut length = 0;
        while let Some(op) = op_of(self.kind()) {
            length += 1;
            let range = self.advance();
            if length > MAX_DEPTH {
                return self.fail(
                    "too-deep",
                    format!("more than {MAX_DEPTH} operators in a row"),
                    range,
                    "use sum([..]) or split the condition",
                );
            }
            let right = operand(self);
            let span = left.span.start..right.span.end;
            left = Expr { kind: ExprKind::Arithmetic(op, Box::new(left), Box::new(right)), span };
        }
        left
    }

    /// `a + b - c`
    fn sum(&mut self) -> Expr {
        self.binary(Self::product, |kind| match kind {
            TokenKind::Plus => Some(ArithmeticOp::Add),
            TokenKind::Minus => Some(ArithmeticOp::Subtract),
            _ => None,
        })
    }

    /// `a * b / c`
    fn product(&mut self) -> Expr {
        self.binary(Self::power, |kind| match kind {
            TokenKind::Star => Some(ArithmeticOp::Multiply),
            TokenKind::Slash => Some(ArithmeticOp::Divide),
            _ => None,
        })
    }

    /// `a ** b`
    fn power(&mut self) -> Expr {
        self.binary(Self::negation, |kind| (kind == TokenKind::Power).then_some(ArithmeticOp::Power))
    }

    /// `-a`; binds closer than `**`, as in the standard.
    fn negation(&mut self) -> Expr {
        if self.kind() != TokenKind::Minus {
            // Whatever nests comes through here, so this is where depth is counted.
            return self.deeper(Self::postfix);
        }
        let start = self.advance().start;
        self.deeper(|parser| {
            let inner = parser.negation();
            let span = start..inner.span.end;
            Expr { kind: ExprKind::Negate(Box::new(inner)), span }
        })
    }

    /// `a.b[c].d`
    fn postfix(&mut self) -> Expr {
        let mut expr = self.primary();
        let mut length = 0;
        loop {
            length += 1;
            if length > MAX_DEPTH {
                let range = self.token().range.clone();
                return self.fail(
                    "too-deep",
                    format!("a path of more than {MAX_DEPTH} parts"),
                    range,
                    "shorten the path",
                );
            }
            match self.kind() {
                TokenKind::Dot => {
                    self.advance();
                    let Some(name) = self.path_part() else { return self.unexpected("a field name after `.`") };
                    let span = expr.span.start..name.span.end;
                    expr = Expr { kind: ExprKind::Path(Box::new(expr), name), span };
                }
                // `x[` after a space may open a range: `x in [1..5]` never comes here, `]1..5[` does not either.
                // `[1..3[` ends with what no value can follow.
                TokenKind::LeftBracket if self.range_ends > 0 && !self.begins_value(1) => return expr,
                TokenKind::LeftBracket => {
                    self.advance();
                    let outer = std::mem::take(&mut self.range_ends);
                    let filter = self.expression();
                    self.range_ends = outer;
                    let end = self.token().range.end;
                    if !self.expect(TokenKind::RightBracket, "`]`") {
                        return expr;
                    }
                    let span = expr.span.start..end;
                    expr = Expr { kind: ExprKind::Filter(Box::new(expr), Box::new(filter)), span };
                }
                _ => return expr,
            }
        }
    }

    fn path_part(&mut self) -> Option<Name> {
        match self.kind() {
            TokenKind::Name => {
                let span = self.advance();
                Some(Name { text: self.text[span.clone()].to_owned(), span })
            }
            TokenKind::QuotedName => {
                let span = self.advance();
                Some(Name { text: self.text[span.start + 1..span.end - 1].to_owned(), span })
            }
            _ => None,
        }
    }

    fn primary(&mut self) -> Expr {
        match self.kind() {
            TokenKind::Number => self.number(),
            TokenKind::Text => {
                let span = self.advance();
                self.text_literal(span)
            }
            TokenKind::At => {
                let start = self.advance().start;
                if self.kind() != TokenKind::Text {
                    return self.unexpected("a date, time or duration in double quotes after `@`");
                }
                let span = self.advance();
                let text = self.text[span.start + 1..span.end - 1].to_owned();
                Expr { kind: ExprKind::At(text), span: start..span.end }
            }
            TokenKind::QuotedName => {
                let span = self.advance();
                Expr { kind: ExprKind::Name(self.text[span.start + 1..span.end - 1].to_owned()), span }
            }
            TokenKind::Name => self.word(),
            TokenKind::LeftParen => self.parenthesis(),
            TokenKind::LeftBracket => self.list_or_range(),
            TokenKind::RightBracket => {
                let start = self.advance().start;
                let low = self.sum();
                self.range_after(start, low, false)
            }
            _ => self.unexpected("a value"),
        }
    }

    fn number(&mut self) -> Expr {
        let span = self.advance();
        let text = &self.text[span.clone()];
        let read = if text.contains(['e', 'E']) { Decimal::from_scientific(text).ok() } else { read_decimal(text) };
        match read {
            Some(number) => Expr { kind: ExprKind::Number(number), span },
            None => {
                let message = format!("`{text}` has too many digits");
                self.fail("number-too-large", message, span, "numbers have at most 28 digits")
            }
        }
    }

    fn text_literal(&mut self, span: Range<usize>) -> Expr {
        let inner = span.start + 1..span.end - 1;
        let mut out = String::with_capacity(inner.len());
        let raw = &self.text[inner.clone()];
        let mut rest = raw.chars();
        while let Some(c) = rest.next() {
            if c != '\\' {
                out.push(c);
                continue;
            }
            let at = inner.end - rest.as_str().len() - 1;
            match rest.next() {
                Some('n') => out.push('\n'),
                Some('r') => out.push('\r'),
                Some('t') => out.push('\t'),
                Some(quote @ ('"' | '\\' | '\'')) => out.push(quote),
                Some(kind @ ('u' | 'U')) => {
                    let digits = if kind == 'u' { 4 } else { 6 };
                    let hex = rest.as_str().get(..digits).unwrap_or("");
                    let Some(c) = u32::from_str_radix(hex, 16).ok().and_then(char::from_u32) else {
                        return self.fail(
                            "bad-escape",
                            "this is no character",
                            at..(at + 2).min(inner.end),
                            format!("write \\{kind} and {digits} hexadecimal digits"),
                        );
                    };
                    out.push(c);
                    rest = rest.as_str()[digits..].chars();
                }
                // Regular expressions are full of backslashes: `\d` means itself, as the standard's examples have it.
                Some(other) => {
                    out.push('\\');
                    out.push(other);
                }
                None => out.push('\\'),
            }
        }
        Expr { kind: ExprKind::Text(out), span }
    }

    fn parenthesis(&mut self) -> Expr {
        let start = self.advance().start;
        self.parentheses += 1;
        let inner = self.expression();
        self.parentheses -= 1;
        if self.kind() == TokenKind::DotDot {
            return self.range_after(start, inner, false);
        }
        let end = self.token().range.end;
        self.expect(TokenKind::RightParen, "`)`");
        Expr { kind: inner.kind, span: start..end }
    }

    fn list_or_range(&mut self) -> Expr {
        let start = self.advance().start;
        if self.kind() == TokenKind::RightBracket {
            let end = self.advance().end;
            return Expr { kind: ExprKind::List(Vec::new()), span: start..end };
        }
        let first = self.expression();
        if self.kind() == TokenKind::DotDot {
            return self.range_after(start, first, true);
        }
        let mut items = vec![first];
        while self.eat(TokenKind::Comma) {
            items.push(self.expression());
        }
        let end = self.token().range.end;
        self.expect(TokenKind::RightBracket, "`]` or a comma");
        Expr { kind: ExprKind::List(items), span: start..end }
    }

    /// `..high]` after the lower end of a range.
    fn range_after(&mut self, start: usize, low: Expr, low_included: bool) -> Expr {
        if !self.expect(TokenKind::DotDot, "`..`") {
            return low;
        }
        self.range_ends += 1;
        let high = self.sum();
        self.range_ends -= 1;
        let high_included = match self.kind() {
            TokenKind::RightBracket => true,
            TokenKind::RightParen | TokenKind::LeftBracket => false,
            _ => return self.unexpected("`]` or `)` at the end of the range"),
        };
        let end = self.advance().end;
        let kind = ExprKind::Range { low: Box::new(low), low_included, high: Box::new(high), high_included };
        Expr { kind, span: start..end }
    }

    /// A keyword, a function call, or the name of a fact.
    fn word(&mut self) -> Expr {
        if let Some(words) = self.call_ahead() {
            if words == 1 && self.word_at(0) == "function" {
                let range = self.token().range.clone();
                return self.fail(
                    "syntax",
                    "functions cannot be defined here",
                    range,
                    "write the expression itself in its place",
                );
            }
            return self.call(words);
        }
        let span = self.token().range.clone();
        let word = self.word_at(0).to_owned();
        match word.as_str() {
            "true" | "false" => {
                self.advance();
                Expr { kind: ExprKind::Boolean(word == "true"), span }
            }
            "null" => {
                self.advance();
                Expr { kind: ExprKind::Null, span }
            }
            "if" => self.conditional(),
            "every" => self.quantified(QuantifierKind::Every),
            "some" => self.quantified(QuantifierKind::Some),
            "for" => self.repeated(),
            "not" => self.fail("syntax", "`not` is a function", span, "put what it denies in brackets: `not(x)`"),
            keyword if KEYWORDS.contains(&keyword) => self.unexpected("a value"),
            _ => {
                self.advance();
                Expr { kind: ExprKind::Name(word), span }
            }
        }
    }

    /// Returns how many words the function name at hand has, if one is: words and then a bracket.
    fn call_ahead(&self) -> Option<usize> {
        const LONGEST: usize = 5;
        let words = (1..=LONGEST).find(|ahead| self.kind_at(*ahead) != TokenKind::Name)?;
        if self.kind_at(words) != TokenKind::LeftParen {
            return None;
        }
        let joined = self.joined(words);
        let known = functions::is_known(&joined);
        // An unknown name of several words is a call too, unless a keyword says that it is something else.
        let first = self.word_at(0);
        let plain = |ahead| !KEYWORDS.contains(&self.word_at(ahead));
        (known || (words == 1 && plain(0)) || (first != "not" && (0..words).all(plain))).then_some(words)
    }

    fn joined(&self, words: usize) -> String {
        (0..words).map(|ahead| self.word_at(ahead)).collect::<Vec<_>>().join(" ")
    }

    fn call(&mut self, words: usize) -> Expr {
        let text = self.joined(words);
        let start = self.token().range.start;
        let mut end = start;
        for _ in 0..words {
            end = self.advance().end;
        }
        let name = Name { text, span: start..end };
        self.advance();
        let (mut arguments, mut names) = (Vec::new(), Vec::new());
        if self.kind() != TokenKind::RightParen {
            loop {
                names.extend(self.argument_name());
                arguments.push(self.expression());
                if !self.eat(TokenKind::Comma) {
                    break;
                }
            }
        }
        let end = self.token().range.end;
        self.expect(TokenKind::RightParen, "`)` or a comma");
        Expr { kind: ExprKind::Call { name, arguments, names }, span: start..end }
    }

    /// `start position:` before an argument.
    fn argument_name(&mut self) -> Option<Name> {
        let words = (0..5).find(|ahead| self.kind_at(*ahead) != TokenKind::Name)?;
        if words == 0 || self.kind_at(words) != TokenKind::Colon {
            return None;
        }
        let text = self.joined(words);
        let start = self.token().range.start;
        let mut end = start;
        for _ in 0..words {
            end = self.advance().end;
        }
        self.advance();
        Some(Name { text, span: start..end })
    }

    /// `number`, `date and time`, `list<number>`: words, and what stands in angle brackets is passed over.
    fn type_name(&mut self) -> Name {
        let start = self.token().range.start;
        let (mut text, mut end) = (String::new(), start);
        const TYPES: [&str; 3] = ["date and time", "days and time duration", "years and months duration"];
        let long = TYPES.iter().find(|name| {
            let words = name.split(' ').count();
            (0..words).all(|ahead| self.kind_at(ahead) == TokenKind::Name) && self.joined(words) == **name
        });
        let words = long.map_or(1, |name| name.split(' ').count());
        if self.kind() != TokenKind::Name {
            let mistake = self.unexpected("the name of a type, such as number or text");
            return Name { text, span: mistake.span };
        }
        for at in 0..words {
            let span = self.advance();
            if at > 0 {
                text.push(' ');
            }
            text.push_str(&self.text[span.clone()]);
            end = span.end;
        }
        if self.kind() == TokenKind::Less {
            self.advance();
            self.deeper(|parser| {
                let inner = parser.type_name();
                Expr { kind: ExprKind::Null, span: inner.span }
            });
            end = self.token().range.end;
            self.expect(TokenKind::Greater, "`>`");
        }
        Name { text, span: start..end }
    }

    /// `for x in list return x.name`, also over `1..5`.
    fn repeated(&mut self) -> Expr {
        let start = self.advance().start;
        let named = "a name for the items, as in `for d in disks return d.mount`";
        let iterators = match self.iterators(named, Self::range_from) {
            Ok(iterators) => iterators,
            Err(mistake) => return mistake,
        };
        self.expect_word("return");
        let body = self.expression();
        let span = start..body.span.end;
        Expr { kind: ExprKind::For { iterators, body: Box::new(body) }, span }
    }

    /// The rest of `1..5` behind its first number.
    fn range_from(&mut self, low: Expr) -> Result<Expr, Expr> {
        self.advance();
        let high = self.sum();
        let span = low.span.start..high.span.end;
        let kind =
            ExprKind::Range { low: Box::new(low), low_included: true, high: Box::new(high), high_included: true };
        Ok(Expr { kind, span })
    }

    /// `x in list, y in other`. At `..` behind a list it asks `range` what is meant.
    ///
    /// # Errors
    /// The mistake that stands in for the whole expression.
    fn iterators(
        &mut self,
        named: &str,
        range: impl Fn(&mut Self, Expr) -> Result<Expr, Expr>,
    ) -> Result<Vec<(Name, Expr)>, Expr> {
        let mut iterators = Vec::new();
        loop {
            let Some(name) = self.path_part() else {
                return Err(self.unexpected(named));
            };
            if !self.expect_word("in") {
                break;
            }
            let list = self.sum();
            let list = if self.kind() == TokenKind::DotDot { range(self, list)? } else { list };
            iterators.push((name, list));
            if !self.eat(TokenKind::Comma) {
                break;
            }
        }
        Ok(iterators)
    }

    fn conditional(&mut self) -> Expr {
        let start = self.advance().start;
        let condition = self.expression();
        self.expect_word("then");
        let then = self.expression();
        self.expect_word("else");
        let otherwise = self.expression();
        let span = start..otherwise.span.end;
        let kind =
            ExprKind::If { condition: Box::new(condition), then: Box::new(then), otherwise: Box::new(otherwise) };
        Expr { kind, span }
    }

    fn quantified(&mut self, kind: QuantifierKind) -> Expr {
        let start = self.advance().start;
        let named = "a name for the items, as in `every d in disks satisfies ..`";
        let refuse = |parser: &mut Self, _| {
            let range = parser.token().range.clone();
            Err(parser.fail(
                "syntax",
                "a quantifier does not go through a range",
                range,
                "write the numbers as a list, or make one: `every x in (for i in 1..5 return i) satisfies ..`",
            ))
        };
        let iterators = match self.iterators(named, refuse) {
            Ok(iterators) => iterators,
            Err(mistake) => return mistake,
        };
        self.expect_word("satisfies");
        let body = self.expression();
        let span = start..body.span.end;
        Expr { kind: ExprKind::Quantified { kind, iterators, body: Box::new(body) }, span }
    }
}

/// Reads plain digits with at most one dot, rounding what does not fit behind it.
fn read_decimal(text: &str) -> Option<Decimal> {
    text.parse().ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[track_caller]
    fn mistake(text: &str, at: &str, message: &str) {
        let found = parse(&Text::whole(text, crate::FileId(0))).expect_err(text);
        assert!(found.message.contains(message), "{text}: {}", found.message);
        assert_eq!(&text[found.span.unwrap().range], at, "{text}");
        assert!(found.help.is_some(), "{text} has no help");
    }

    #[test]
    fn a_mistake_is_shown_where_it_is() {
        mistake("a == 1", "==", "unknown operator");
        mistake("a = = 1", "=", "expected a value");
        mistake("14days > 3", "14days", "neither a number nor a name");
        mistake("a < b < c", "<", "cannot be chained");
        mistake("a.b. = 3", "=", "a field name");
        mistake("a = \"x", "\"x", "no closing quote");
        mistake("a = 'x'", "'", "single quotes");
        mistake("not a", "not", "`not` is a function");
        mistake("a and", "", "ends where a value");
        mistake("(a = 1", "", "ends where `)`");
        mistake("every d disks satisfies d", "disks", "the word `in`");
        mistake("a && b", "&&", "unknown operator");
        mistake("a = 99999999999999999999999999999999", "99999999999999999999999999999999", "too many digits");
        mistake("{a: 1}", "{", "contexts");
        mistake("a /* b", "/* b", "not closed");
        mistake("if a then b", "", "the word `else`");
    }

    #[test]
    fn hostile_nesting_is_refused_and_not_followed() {
        for open in ["(", "[", "-", "not(", "a[", "if ", "every x in ", "]", "x in (", "some x in y satisfies "] {
            let text = open.repeat(5000);
            let found = parse(&Text::whole(text.as_str(), crate::FileId(0)));
            assert!(found.is_err(), "{open}");
        }
        let long = vec!["1"; 5000].join("+");
        assert!(parse(&Text::whole(long.as_str(), crate::FileId(0))).is_err());
        let wide = vec!["a"; 5000].join(" and ");
        assert!(parse(&Text::whole(wide.as_str(), crate::FileId(0))).is_ok());
    }
}
