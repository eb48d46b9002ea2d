//! Cuts a condition into tokens. Every byte belongs to exactly one token or to the space between.

use std::ops::Range;

/// What a token is; its text is found by its range.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum TokenKind {
    Number,
    /// `"text"`, closed.
    Text,
    /// A text without its closing quote.
    OpenText,
    /// A name or keyword.
    Name,
    /// A name in back-quotes.
    QuotedName,
    /// `@`, before a date, time or duration literal.
    At,
    Plus,
    Minus,
    Star,
    Power,
    Slash,
    Equal,
    NotEqual,
    Less,
    LessEqual,
    Greater,
    GreaterEqual,
    Comma,
    Colon,
    Dot,
    DotDot,
    LeftParen,
    RightParen,
    LeftBracket,
    RightBracket,
    /// `{` or `}`: contexts, which are not in the subset.
    Brace,
    /// `==`, `&&`, `||`, `!`, `<>`, `%`: what other languages write.
    Foreign,
    /// A number run together with letters, `14days`.
    NumberWord,
    /// A comment that is not closed.
    OpenComment,
    Unexpected,
    End,
}

#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Token {
    pub kind: TokenKind,
    pub range: Range<usize>,
}

/// Returns the tokens of `text`, an end token last.
pub(super) fn tokens(text: &str) -> Vec<Token> {
    let mut lexer = Lexer { text, at: 0 };
    let mut out = Vec::new();
    loop {
        let token = lexer.next();
        let end = token.kind == TokenKind::End;
        out.push(token);
        if end {
            return out;
        }
    }
}

/// Returns the words of a condition with one space between them, without comments: the same for texts that differ in layout alone.
pub(crate) fn condition_words(text: &str) -> String {
    let words: Vec<&str> =
        tokens(text).into_iter().map(|token| &text[token.range]).filter(|it| !it.is_empty()).collect();
    words.join(" ")
}

struct Lexer<'t> {
    text: &'t str,
    at: usize,
}

impl Lexer<'_> {
    fn rest(&self) -> &str {
        &self.text[self.at..]
    }

    fn eat_while(&mut self, wanted: impl Fn(char) -> bool) {
        let rest = self.rest();
        self.at += rest.find(|c| !wanted(c)).unwrap_or(rest.len());
    }

    fn next(&mut self) -> Token {
        if let Some(open) = self.skip_space() {
            return open;
        }
        let start = self.at;
        let Some(first) = self.rest().chars().next() else {
            return Token { kind: TokenKind::End, range: start..start };
        };
        self.at += first.len_utf8();
        let kind = match first {
            '0'..='9' => self.number(),
            '.' if self.rest().starts_with('.') => {
                self.at += 1;
                TokenKind::DotDot
            }
            '.' if self.rest().starts_with(|c: char| c.is_ascii_digit()) && !self.follows_value(start) => {
                self.number_after_dot()
            }
            '"' => self.quoted('"', TokenKind::Text),
            // A name has at least a letter.
            '`' if self.rest().starts_with('`') => {
                self.at += 1;
                TokenKind::Unexpected
            }
            '`' => self.quoted('`', TokenKind::QuotedName),
            c if is_name_start(c) => {
                self.eat_while(is_name_part);
                TokenKind::Name
            }
            _ => self.symbol(first),
        };
        Token { kind, range: start..self.at }
    }

    fn skip_space(&mut self) -> Option<Token> {
        loop {
            self.eat_while(char::is_whitespace);
            if self.rest().starts_with("//") {
                self.eat_while(|c| c != '\n');
            } else if self.rest().starts_with("/*") {
                match self.rest().find("*/") {
                    Some(end) => self.at += end + 2,
                    None => {
                        let start = self.at;
                        self.at = self.text.len();
                        return Some(Token { kind: TokenKind::OpenComment, range: start..self.at });
                    }
                }
            } else {
                return None;
            }
        }
    }

    /// Whether a value ends right before `at`, so that a dot there is a path's.
    fn follows_value(&self, at: usize) -> bool {
        self.text[..at].ends_with(|c: char| is_name_part(c) || matches!(c, ')' | ']' | '`'))
    }

    fn number(&mut self) -> TokenKind {
        self.eat_while(|c| c.is_ascii_digit());
        let mut after = self.rest().chars();
        if after.next() == Some('.') && after.next().is_some_and(|c| c.is_ascii_digit()) {
            self.at += 1;
            self.eat_while(|c| c.is_ascii_digit());
        }
        self.exponent();
        self.number_word()
    }

    fn number_after_dot(&mut self) -> TokenKind {
        self.eat_while(|c| c.is_ascii_digit());
        self.exponent();
        self.number_word()
    }

    fn exponent(&mut self) {
        let rest = self.rest();
        let Some(tail) = rest.strip_prefix(['e', 'E']) else { return };
        let digits = tail.strip_prefix(['+', '-']).unwrap_or(tail);
        if digits.starts_with(|c: char| c.is_ascii_digit()) {
            self.at += rest.len() - digits.len();
            self.eat_while(|c| c.is_ascii_digit());
        }
    }

    fn number_word(&mut self) -> TokenKind {
        if self.rest().starts_with(is_name_start) {
            self.eat_while(is_name_part);
            TokenKind::NumberWord
        } else {
            TokenKind::Number
        }
    }

    fn quoted(&mut self, quote: char, kind: TokenKind) -> TokenKind {
        loop {
            let mut rest = self.rest().chars();
            match rest.next() {
                None => return TokenKind::OpenText,
                Some('\\') if quote == '"' => {
                    self.at += 1 + rest.next().map_or(0, char::len_utf8);
                }
                Some(c) => {
                    self.at += c.len_utf8();
                    if c == quote {
                        return kind;
                    }
                }
            }
        }
    }

    fn symbol(&mut self, first: char) -> TokenKind {
        let second = self.rest().chars().next();
        let pair = match (first, second) {
            ('*', Some('*')) => Some(TokenKind::Power),
            ('<', Some('=')) => Some(TokenKind::LessEqual),
            ('>', Some('=')) => Some(TokenKind::GreaterEqual),
            ('!', Some('=')) => Some(TokenKind::NotEqual),
            ('=' | '<', Some('=' | '>')) | ('&', Some('&')) | ('|', Some('|')) => Some(TokenKind::Foreign),
            _ => None,
        };
        if let Some(kind) = pair {
            self.at += 1;
            return kind;
        }
        match first {
            '+' => TokenKind::Plus,
            '-' => TokenKind::Minus,
            '*' => TokenKind::Star,
            '/' => TokenKind::Slash,
            '=' => TokenKind::Equal,
            '<' => TokenKind::Less,
            '>' => TokenKind::Greater,
            ',' => TokenKind::Comma,
            ':' => TokenKind::Colon,
            '.' => TokenKind::Dot,
            '(' => TokenKind::LeftParen,
            ')' => TokenKind::RightParen,
            '[' => TokenKind::LeftBracket,
            ']' => TokenKind::RightBracket,
            '{' | '}' => TokenKind::Brace,
            '@' => TokenKind::At,
            '!' | '%' | '&' | '|' => TokenKind::Foreign,
            _ => TokenKind::Unexpected,
        }
    }
}

fn is_name_start(c: char) -> bool {
    c.is_alphabetic() || c == '_'
}

fn is_name_part(c: char) -> bool {
    c.is_alphanumeric() || c == '_'
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn tokens_and_the_space_between_give_back_the_text() {
        for text in [
            "os.version >= version(\"12.0\")",
            "a /* note */ ** 2 // end",
            "[1..5] 1.5e3 .5 x[1].y",
            "\"un\\\"closed",
            "14days",
            "a == b && !c",
            "`a-b`.c",
            "@\"P1D\"",
            "ø < 日本",
        ] {
            let all = tokens(text);
            let mut end = 0;
            for token in &all {
                let between = &text[end..token.range.start];
                assert!(between.trim().is_empty() || between.contains('/'), "{text}: {between:?}");
                end = token.range.end;
            }
            assert_eq!(end, text.trim_end().len().max(end), "{text}");
        }
    }

    #[track_caller]
    fn kinds(text: &str, expected: &[TokenKind]) {
        let found: Vec<_> = tokens(text).into_iter().map(|token| token.kind).collect();
        assert_eq!(found[..found.len() - 1], *expected, "{text}");
    }

    #[test]
    fn numbers_ranges_and_paths_are_told_apart() {
        use TokenKind::*;
        kinds("1..5", &[Number, DotDot, Number]);
        kinds("1.5", &[Number]);
        kinds(".5", &[Number]);
        kinds("a.b", &[Name, Dot, Name]);
        kinds("14days", &[NumberWord]);
        kinds("2e3", &[Number]);
        kinds("\"a", &[OpenText]);
    }
}
