//! Goes through the bytes of a JSON document (RFC 8259): grammar, UTF-8, depth and number of fields are checked here,
//! for everybody who reads documents.

use bumpalo::Bump;
use fencepost_core::ReadError;

/// Documents may not nest deeper than this.
pub const MAX_DEPTH: usize = 127;

/// A document may not have more members than this, all its objects together.
pub const MAX_FIELDS: usize = 100_000;

/// What stands in a stored document where a value was left out; no JSON document holds this byte.
pub(crate) const HOLE: u8 = 3;

/// The word for a value that was left out.
pub(crate) const LEFT_OUT: &str = "\u{3}";

/// A place in a document.
pub(crate) struct Cursor<'a> {
    pub text: &'a str,
    pub at: usize,
    depth: usize,
    fields: usize,
    arena: &'a Bump,
    /// The document comes from the ledger, where values may be left out.
    stored: bool,
}

/// A text as it stands in the document.
#[derive(Clone, Copy)]
pub(crate) enum Quoted<'a> {
    Text(&'a str),
    /// A lone surrogate: allowed by the grammar, and no text.
    NoText,
}

/// Something that goes through a document and does something at each value.
pub(crate) trait Walker<'a>: Sized {
    fn cursor(&mut self) -> &mut Cursor<'a>;

    /// Goes through the members of an object, `member` taking each value.
    fn members(
        &mut self,
        mut member: impl FnMut(&mut Self, Quoted<'a>) -> Result<(), ReadError>,
    ) -> Result<(), ReadError> {
        self.cursor().enter()?;
        if self.cursor().peek() == Some(b'}') {
            self.cursor().at += 1;
            self.cursor().depth -= 1;
            return Ok(());
        }
        loop {
            if self.cursor().peek() != Some(b'"') {
                return Err(self.cursor().error("expected a key in double quotes"));
            }
            self.cursor().count_field()?;
            let key = self.cursor().quoted()?;
            self.cursor().space();
            self.cursor().expect(b':')?;
            self.cursor().space();
            member(self, key)?;
            self.cursor().space();
            match self.cursor().peek() {
                Some(b',') => {
                    self.cursor().at += 1;
                    self.cursor().space();
                }
                Some(b'}') => {
                    self.cursor().at += 1;
                    self.cursor().depth -= 1;
                    return Ok(());
                }
                _ => return Err(self.cursor().error("expected `,` or `}`")),
            }
        }
    }

    /// Goes through the items of a list, `item` taking each value.
    fn items(&mut self, mut item: impl FnMut(&mut Self) -> Result<(), ReadError>) -> Result<(), ReadError> {
        self.cursor().enter()?;
        if self.cursor().peek() == Some(b']') {
            self.cursor().at += 1;
            self.cursor().depth -= 1;
            return Ok(());
        }
        loop {
            item(self)?;
            self.cursor().space();
            match self.cursor().peek() {
                Some(b',') => {
                    self.cursor().at += 1;
                    self.cursor().space();
                }
                Some(b']') => {
                    self.cursor().at += 1;
                    self.cursor().depth -= 1;
                    return Ok(());
                }
                _ => return Err(self.cursor().error("expected `,` or `]`")),
            }
        }
    }
}

impl<'a> Walker<'a> for Cursor<'a> {
    fn cursor(&mut self) -> &mut Self {
        self
    }
}

impl<'a> Cursor<'a> {
    /// Creates a cursor at the start of a document.
    pub fn new(document: &'a [u8], arena: &'a Bump, stored: bool) -> Result<Self, ReadError> {
        let text = std::str::from_utf8(document).map_err(|error| ReadError {
            offset: error.valid_up_to(),
            message: "these bytes are not UTF-8".to_owned(),
        })?;
        let mut cursor = Self { text, at: 0, depth: 0, fields: 0, arena, stored };
        cursor.space();
        if cursor.peek() != Some(b'{') {
            return Err(cursor.error("a document is a JSON object and starts with `{`"));
        }
        Ok(cursor)
    }

    /// Checks that nothing follows the document.
    pub fn finish(&mut self) -> Result<(), ReadError> {
        self.space();
        if self.at != self.text.len() {
            return Err(self.error("something follows the end of the document"));
        }
        Ok(())
    }

    fn count_field(&mut self) -> Result<(), ReadError> {
        self.fields += 1;
        if self.fields > MAX_FIELDS {
            return Err(self.error(format!("more than {MAX_FIELDS} fields in one document")));
        }
        Ok(())
    }

    pub fn error(&self, message: impl Into<String>) -> ReadError {
        ReadError { offset: self.at, message: message.into() }
    }

    pub fn peek(&self) -> Option<u8> {
        self.text.as_bytes().get(self.at).copied()
    }

    pub fn space(&mut self) {
        while matches!(self.peek(), Some(b' ' | b'\t' | b'\n' | b'\r')) {
            self.at += 1;
        }
    }

    fn expect(&mut self, byte: u8) -> Result<(), ReadError> {
        if self.peek() == Some(byte) {
            self.at += 1;
            return Ok(());
        }
        Err(match self.peek() {
            None => self.error(format!("the document ends where `{}` was expected", byte as char)),
            Some(_) => self.error(format!("expected `{}` here", byte as char)),
        })
    }

    fn enter(&mut self) -> Result<(), ReadError> {
        self.depth += 1;
        if self.depth > MAX_DEPTH {
            return Err(self.error(format!("nested deeper than {MAX_DEPTH} levels")));
        }
        self.at += 1;
        self.space();
        Ok(())
    }

    /// Checks the value at hand and forgets it.
    pub fn skip(&mut self) -> Result<(), ReadError> {
        match self.peek() {
            Some(b'{') => self.members(|walk, _| walk.skip()),
            Some(b'[') => self.items(Self::skip),
            Some(b'"') => self.quoted().map(|_| ()),
            Some(b'-' | b'0'..=b'9') => self.number().map(|_| ()),
            _ => self.word().map(|_| ()),
        }
    }

    pub fn word(&mut self) -> Result<&'a str, ReadError> {
        for word in ["true", "false", "null"] {
            if self.text[self.at..].starts_with(word) {
                self.at += word.len();
                return Ok(word);
            }
        }
        if self.stored && matches!(self.peek(), Some(1..=HOLE)) {
            self.at += 1;
            return Ok(LEFT_OUT);
        }
        Err(match self.peek() {
            None => self.error("the document ends where a value was expected"),
            Some(_) => self.error("expected a value here"),
        })
    }

    fn digits(&mut self) -> Result<(), ReadError> {
        if !self.peek().is_some_and(|byte| byte.is_ascii_digit()) {
            return Err(self.error("expected a digit"));
        }
        while self.peek().is_some_and(|byte| byte.is_ascii_digit()) {
            self.at += 1;
        }
        Ok(())
    }

    pub fn number(&mut self) -> Result<&'a str, ReadError> {
        let start = self.at;
        if self.peek() == Some(b'-') {
            self.at += 1;
        }
        if self.peek() == Some(b'0') {
            self.at += 1;
            if self.peek().is_some_and(|byte| byte.is_ascii_digit()) {
                return Err(self.error("a number does not start with a zero"));
            }
        } else {
            self.digits()?;
        }
        if self.peek() == Some(b'.') {
            self.at += 1;
            self.digits()?;
        }
        if matches!(self.peek(), Some(b'e' | b'E')) {
            self.at += 1;
            if matches!(self.peek(), Some(b'+' | b'-')) {
                self.at += 1;
            }
            self.digits()?;
        }
        Ok(&self.text[start..self.at])
    }

    pub fn quoted(&mut self) -> Result<Quoted<'a>, ReadError> {
        self.at += 1;
        let start = self.at;
        loop {
            match self.peek() {
                Some(b'"') => {
                    let text = &self.text[start..self.at];
                    self.at += 1;
                    return Ok(Quoted::Text(text));
                }
                Some(b'\\') => return self.escaped(start),
                Some(byte) if byte >= 0x20 => self.at += 1,
                Some(_) => return Err(self.error("a control character in a text is written as an escape")),
                None => return Err(self.error("this text has no closing quote")),
            }
        }
    }

    /// The rest of a text with escapes in it.
    #[cold]
    fn escaped(&mut self, start: usize) -> Result<Quoted<'a>, ReadError> {
        let mut out = String::from(&self.text[start..self.at]);
        let mut whole = true;
        loop {
            match self.peek() {
                Some(b'"') => {
                    self.at += 1;
                    let text: &'a str = self.arena.alloc_str(&out);
                    return Ok(if whole { Quoted::Text(text) } else { Quoted::NoText });
                }
                Some(b'\\') => {
                    self.at += 1;
                    let simple = match self.peek() {
                        Some(byte @ (b'"' | b'\\' | b'/')) => Some(byte as char),
                        Some(b'b') => Some('\u{8}'),
                        Some(b'f') => Some('\u{c}'),
                        Some(b'n') => Some('\n'),
                        Some(b'r') => Some('\r'),
                        Some(b't') => Some('\t'),
                        Some(b'u') => None,
                        _ => return Err(self.error("unknown escape")),
                    };
                    self.at += 1;
                    match simple {
                        Some(c) => out.push(c),
                        None => whole &= self.unicode(&mut out)?,
                    }
                }
                Some(byte) if byte >= 0x20 => {
                    let from = self.at;
                    while self.peek().is_some_and(|byte| byte >= 0x20 && byte != b'"' && byte != b'\\') {
                        self.at += 1;
                    }
                    out.push_str(&self.text[from..self.at]);
                }
                Some(_) => return Err(self.error("a control character in a text is written as an escape")),
                None => return Err(self.error("this text has no closing quote")),
            }
        }
    }

    fn hex(&mut self) -> Result<u32, ReadError> {
        let digits =
            self.text.as_bytes().get(self.at..self.at + 4).filter(|digits| digits.iter().all(u8::is_ascii_hexdigit));
        let Some(digits) = digits else { return Err(self.error("expected four hexadecimal digits")) };
        self.at += 4;
        Ok(digits.iter().fold(0, |code, digit| code * 16 + (*digit as char).to_digit(16).unwrap_or(0)))
    }

    /// What stands after `\u`; false for half of a surrogate pair.
    fn unicode(&mut self, out: &mut String) -> Result<bool, ReadError> {
        let first = self.hex()?;
        let mut code = first;
        if (0xd800..0xdc00).contains(&first) && self.text[self.at..].starts_with("\\u") {
            let back = self.at;
            self.at += 2;
            let second = self.hex()?;
            if (0xdc00..0xe000).contains(&second) {
                code = 0x10000 + ((first - 0xd800) << 10) + (second - 0xdc00);
            } else {
                self.at = back;
            }
        }
        match char::from_u32(code) {
            Some(c) => {
                out.push(c);
                Ok(true)
            }
            None => Ok(false),
        }
    }
}
