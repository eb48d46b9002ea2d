//! Goes through the bytes of a JSON document (RFC 8259): grammar, UTF-8, depth and number of fields are checked here,
//! for everybody who reads documents.
//!
//! What is wrong is told by a one-byte [`Fault`], and the cursor stands where; words are found when they are needed.

use bumpalo::Bump;
use fencepost_core::ReadError;
use fencepost_core::limits::{DEPTH, FIELDS};

use crate::padded::{Padded, RawDocument};

/// What stands in a stored document where a value was left out; no JSON document holds this byte.
pub(crate) const PLACEHOLDER: u8 = 3;

/// The word for a value that was left out.
pub(crate) const LEFT_OUT: &str = "\u{3}";

/// What is wrong where the cursor stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Fault {
    NoObject,
    Key,
    Colon,
    MemberEnd,
    ItemEnd,
    Value,
    Digit,
    LeadingZero,
    Control,
    NoClosingQuote,
    Escape,
    Hexadecimal,
    Deep,
    ManyFields,
    Rest,
    DeviceTwice,
    TimeTwice,
}

/// A step through a document.
pub(crate) type WalkResult<T = ()> = Result<T, Fault>;

/// A place in a document.
#[derive(Clone, Copy)]
pub(crate) struct Cursor<'a> {
    document: Padded<'a>,
    /// Never behind the end of the document.
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

/// What stands before a value mostly: the comma, the key in its quotes and the colon. Before the first member stands no comma.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct ExpectedKey {
    bytes: [[u8; 16]; 2],
    /// A bit for each of the bytes that counts.
    mask: u32,
    length: u32,
}

impl ExpectedKey {
    /// What stands nowhere, since no text in UTF-8 has such bytes.
    pub const NEVER: Self = Self { bytes: [[0xff; 16]; 2], mask: u32::MAX, length: 0 };

    /// Creates what is expected for a key; none for one that is too long, or is not written as it reads.
    pub fn new(key: &str) -> Option<Self> {
        let length = key.len() + 4;
        if length > 32 || key.bytes().any(|byte| byte < b' ' || byte == b'"' || byte == b'\\') {
            return None;
        }
        let mut bytes = [[0; 16]; 2];
        let whole = bytes.as_flattened_mut();
        whole[..2].copy_from_slice(b",\"");
        whole[2..length - 2].copy_from_slice(key.as_bytes());
        whole[length - 2..length].copy_from_slice(b"\":");
        Some(Self { bytes, mask: u32::MAX >> (32 - length), length: length as u32 })
    }

    /// Returns whether this stands at a place; before the first member, behind one byte of no matter.
    #[inline(always)]
    pub fn is_at(&self, document: Padded<'_>, from: usize, first: bool) -> bool {
        let mask = if first { self.mask & !1 } else { self.mask };
        document.differences(from, 0, &self.bytes[0]) & mask & 0xffff == 0
            && (self.length <= 16 || document.differences(from, 16, &self.bytes[1]) & mask >> 16 == 0)
    }

    /// Returns where the value stands, or white space before it, if this stands at a place.
    #[inline(always)]
    pub fn value_at(&self, from: usize) -> usize {
        from + self.length as usize
    }

    /// Returns the key, if this stands at a place.
    pub fn key_at<'a>(&self, document: Padded<'a>, from: usize) -> &'a str {
        &document.text()[from + 2..from + self.length as usize - 2]
    }
}

/// What stands between the texts of two members that follow one another: the closing quote of the one, the key of the other with
/// all around it, and its opening quote.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Joint {
    bytes: [[u8; 16]; 2],
    /// A bit for each of the bytes that counts.
    masks: [u16; 2],
    pub length: u32,
}

impl Joint {
    /// Stands nowhere.
    const NEVER: Self = Self { bytes: [[0xff; 16]; 2], masks: [u16::MAX; 2], length: 0 };

    /// Between two members of one object.
    pub fn within(key: &str) -> Self {
        Self::new(b"\",\"", key)
    }

    /// Between the last member of an object and the first of the next in a list.
    pub fn between(key: &str) -> Self {
        Self::new(b"\"},{\"", key)
    }

    /// The key is written as it reads.
    fn new(before: &[u8], key: &str) -> Self {
        let parts = [before, key.as_bytes(), b"\":\""];
        let length = parts.iter().map(|part| part.len()).sum();
        let mut bytes = [[0; 16]; 2];
        let whole = bytes.as_flattened_mut();
        let Some(room) = whole.get_mut(..length) else { return Self::NEVER };
        room.copy_from_slice(&parts.concat());
        let mask = u32::MAX >> (32 - length);
        Self { bytes, masks: [mask as u16, (mask >> 16) as u16], length: length as u32 }
    }

    /// Returns whether this stands at a place.
    #[inline(always)]
    pub fn is_at(&self, document: Padded<'_>, at: usize) -> bool {
        let [first, second] = self.masks.map(u32::from);
        document.differences(at, 0, &self.bytes[0]) & first == 0
            && (second == 0 || document.differences(at, 16, &self.bytes[1]) & second == 0)
    }
}

/// Something that goes through a document and does something at each value.
pub(crate) trait Walker<'a>: Sized {
    fn cursor(&mut self) -> &mut Cursor<'a>;

    /// Goes through the members of an object, `member` taking each value.
    #[inline]
    fn members(&mut self, mut member: impl FnMut(&mut Self, Quoted<'a>) -> WalkResult) -> WalkResult {
        let mut more = self.cursor().enter(b'}')?;
        while more {
            let key = self.cursor().key()?;
            member(self, key)?;
            more = self.cursor().more(b'}')?;
        }
        Ok(())
    }

    /// Goes through the items of a list, `item` taking each value.
    #[inline]
    fn items(&mut self, mut item: impl FnMut(&mut Self) -> WalkResult) -> WalkResult {
        let mut more = self.cursor().enter(b']')?;
        while more {
            item(self)?;
            more = self.cursor().more(b']')?;
        }
        Ok(())
    }
}

impl<'a> Walker<'a> for Cursor<'a> {
    fn cursor(&mut self) -> &mut Self {
        self
    }
}

#[inline(always)]
fn after_space(bytes: Padded<'_>, at: usize) -> usize {
    if bytes.byte(at) > b' ' { at } else { after_more_space(bytes, at) }
}

#[inline(never)]
fn after_more_space(bytes: Padded<'_>, mut at: usize) -> usize {
    while matches!(bytes.byte(at), b' ' | b'\t' | b'\n' | b'\r') {
        at += 1;
    }
    at
}

/// Goes from behind an opening quote to behind the closing one; `at` is left where something is wrong.
#[inline(always)]
fn pass_text(bytes: Padded<'_>, at: &mut usize) -> WalkResult {
    loop {
        *at = bytes.plain_end(*at);
        match bytes.byte(*at) {
            b'"' => {
                *at += 1;
                return Ok(());
            }
            b'\\' => pass_escape(bytes, at)?,
            _ => return Err(if *at < bytes.length() { Fault::Control } else { Fault::NoClosingQuote }),
        }
    }
}

#[cold]
fn pass_escape(bytes: Padded<'_>, at: &mut usize) -> WalkResult {
    *at += 1;
    match bytes.byte(*at) {
        b'"' | b'\\' | b'/' | b'b' | b'f' | b'n' | b'r' | b't' => *at += 1,
        b'u' => {
            *at += 1;
            hexadecimal(bytes.text().as_bytes(), *at)?;
            *at += 4;
        }
        _ => return Err(Fault::Escape),
    }
    Ok(())
}

fn hexadecimal(bytes: &[u8], at: usize) -> WalkResult<u32> {
    let digits = bytes.get(at..at + 4).filter(|digits| digits.iter().all(u8::is_ascii_hexdigit));
    let digits = digits.ok_or(Fault::Hexadecimal)?;
    Ok(digits.iter().fold(0, |code, digit| code * 16 + (*digit as char).to_digit(16).unwrap_or(0)))
}

#[inline(always)]
fn pass_digits(bytes: Padded<'_>, at: &mut usize) -> WalkResult {
    if !bytes.byte(*at).is_ascii_digit() {
        return Err(Fault::Digit);
    }
    while bytes.byte(*at).is_ascii_digit() {
        *at += 1;
    }
    Ok(())
}

#[inline(always)]
fn pass_number(bytes: Padded<'_>, at: &mut usize) -> WalkResult {
    if bytes.byte(*at) == b'-' {
        *at += 1;
    }
    if bytes.byte(*at) == b'0' {
        *at += 1;
        if bytes.byte(*at).is_ascii_digit() {
            return Err(Fault::LeadingZero);
        }
    } else {
        pass_digits(bytes, at)?;
    }
    if bytes.byte(*at) == b'.' {
        *at += 1;
        pass_digits(bytes, at)?;
    }
    if matches!(bytes.byte(*at), b'e' | b'E') {
        *at += 1;
        if matches!(bytes.byte(*at), b'+' | b'-') {
            *at += 1;
        }
        pass_digits(bytes, at)?;
    }
    Ok(())
}

/// Goes past `true`, `false` or `null`, or in a stored document what stands for a value that was left out.
#[inline(always)]
fn pass_word(bytes: Padded<'_>, at: &mut usize, stored: bool) -> WalkResult<&'static str> {
    let rest = bytes.text().as_bytes().get(*at..).unwrap_or_default();
    let word = match rest.first() {
        Some(b't') if rest.starts_with(b"true") => "true",
        Some(b'f') if rest.starts_with(b"false") => "false",
        Some(b'n') if rest.starts_with(b"null") => "null",
        Some(1..=PLACEHOLDER) if stored => LEFT_OUT,
        _ => return Err(Fault::Value),
    };
    *at += word.len();
    Ok(word)
}

impl<'a> Cursor<'a> {
    /// Creates a cursor at the start of a document.
    pub fn new(document: RawDocument<'a>, arena: &'a Bump, stored: bool) -> Result<Self, ReadError> {
        let no_text = |offset| ReadError { offset, message: "these bytes are not UTF-8".to_owned() };
        let document = document.checked().map_err(no_text)?;
        let mut cursor = Self { document, at: 0, depth: 0, fields: 0, arena, stored };
        cursor.space();
        if cursor.byte() != b'{' {
            return Err(cursor.explain(Fault::NoObject));
        }
        Ok(cursor)
    }

    /// Checks that nothing follows the document.
    pub fn finish(&mut self) -> WalkResult {
        self.space();
        if self.at == self.document.length() { Ok(()) } else { Err(Fault::Rest) }
    }

    /// Says in words what is wrong at the place at hand.
    #[cold]
    pub fn explain(&self, fault: Fault) -> ReadError {
        let ended = self.at >= self.document.length();
        let message = match fault {
            Fault::NoObject => "a document is a JSON object and starts with `{`",
            Fault::Key => "expected a key in double quotes",
            Fault::Colon if ended => "the document ends where `:` was expected",
            Fault::Colon => "expected `:` here",
            Fault::MemberEnd => "expected `,` or `}`",
            Fault::ItemEnd => "expected `,` or `]`",
            Fault::Value if ended => "the document ends where a value was expected",
            Fault::Value => "expected a value here",
            Fault::Digit => "expected a digit",
            Fault::LeadingZero => "a number does not start with a zero",
            Fault::Control => "a control character in a text is written as an escape",
            Fault::NoClosingQuote => "this text has no closing quote",
            Fault::Escape => "unknown escape",
            Fault::Hexadecimal => "expected four hexadecimal digits",
            Fault::Deep => &format!("nested deeper than {DEPTH} levels"),
            Fault::ManyFields => &format!("more than {FIELDS} fields in one document"),
            Fault::Rest => "something follows the end of the document",
            Fault::DeviceTwice => "`device` is given twice",
            Fault::TimeTwice => "`collected_at` is given twice",
        };
        ReadError { offset: self.at, message: message.to_owned() }
    }

    /// Returns the document.
    #[inline(always)]
    pub fn bytes(&self) -> Padded<'a> {
        self.document
    }

    /// Returns the document.
    pub fn text(&self) -> &'a str {
        self.document.text()
    }

    /// The byte at hand; zero at the end.
    #[inline(always)]
    pub fn byte(&self) -> u8 {
        self.document.byte(self.at)
    }

    #[inline(always)]
    pub fn space(&mut self) {
        self.at = after_space(self.bytes(), self.at);
    }

    /// Goes into an object or a list that ends with `close`; false when nothing is in it.
    #[inline(always)]
    pub fn enter(&mut self, close: u8) -> WalkResult<bool> {
        self.depth += 1;
        if self.depth > DEPTH {
            return Err(Fault::Deep);
        }
        self.at = after_space(self.bytes(), self.at + 1);
        if self.byte() != close {
            return Ok(true);
        }
        self.leave();
        Ok(false)
    }

    /// Goes from behind a value to the next one in the same object or list; false when there is none, and that is left.
    #[inline(always)]
    pub fn more(&mut self, close: u8) -> WalkResult<bool> {
        let bytes = self.bytes();
        self.at = after_space(bytes, self.at);
        let found = bytes.byte(self.at);
        if found == b',' {
            self.at = after_space(bytes, self.at + 1);
            return Ok(true);
        }
        if found == close {
            self.leave();
            return Ok(false);
        }
        Err(if close == b'}' { Fault::MemberEnd } else { Fault::ItemEnd })
    }

    #[inline(always)]
    fn leave(&mut self) {
        self.at += 1;
        self.depth -= 1;
    }

    #[inline(always)]
    fn count_field(&mut self) -> WalkResult {
        self.fields += 1;
        if self.fields > FIELDS { Err(Fault::ManyFields) } else { Ok(()) }
    }

    /// Returns whether so many keys more may be gone past without being counted one by one.
    #[inline(always)]
    pub fn has_room_for(&self, keys: usize) -> bool {
        self.fields + keys <= FIELDS
    }

    /// Returns how many keys more a document may have.
    pub fn room(&self) -> usize {
        FIELDS.saturating_sub(self.fields)
    }

    /// Goes to a place behind so many keys, and white space there.
    #[inline(always)]
    pub fn go_on(&mut self, at: usize, keys: usize) {
        self.at = after_space(self.document, at);
        self.fields += keys;
    }

    /// Reads a key and goes to its value.
    #[inline(always)]
    pub fn key(&mut self) -> WalkResult<Quoted<'a>> {
        if self.byte() != b'"' {
            return Err(Fault::Key);
        }
        self.count_field()?;
        let key = self.quoted()?;
        self.space();
        if self.byte() != b':' {
            return Err(Fault::Colon);
        }
        self.at += 1;
        self.space();
        Ok(key)
    }

    /// Checks the value at hand, whatever is in it, and forgets it.
    #[inline(always)]
    pub fn skip(&mut self) -> WalkResult {
        let bytes = self.bytes();
        if bytes.byte(self.at) == b'"' {
            self.at += 1;
            return pass_text(bytes, &mut self.at);
        }
        self.skip_any()
    }

    fn skip_any(&mut self) -> WalkResult {
        let bytes = self.bytes();
        let mut at = self.at;
        let skipped = self.skip_from(bytes, &mut at);
        self.at = at;
        skipped
    }

    #[inline(always)]
    fn skip_from(&mut self, bytes: Padded<'_>, at: &mut usize) -> WalkResult {
        let (outer, mut depth) = (self.depth, self.depth);
        // A bit for each level that was entered here, the innermost last: whether it is an object.
        let mut objects: u128 = 0;
        loop {
            match bytes.byte(*at) {
                b'"' => {
                    *at += 1;
                    pass_text(bytes, at)?;
                }
                open @ (b'{' | b'[') => {
                    depth += 1;
                    if depth > DEPTH {
                        return Err(Fault::Deep);
                    }
                    *at = after_space(bytes, *at + 1);
                    // `}` and `]` both stand two behind what opens them.
                    if bytes.byte(*at) == open + 2 {
                        *at += 1;
                        depth -= 1;
                    } else {
                        objects = objects << 1 | u128::from(open == b'{');
                        if open == b'{' {
                            self.pass_key(bytes, at)?;
                        }
                        continue;
                    }
                }
                b'-' | b'0'..=b'9' => pass_number(bytes, at)?,
                _ => {
                    pass_word(bytes, at, self.stored)?;
                }
            }
            loop {
                if depth == outer {
                    return Ok(());
                }
                *at = after_space(bytes, *at);
                let in_object = objects & 1 == 1;
                match bytes.byte(*at) {
                    b',' => {
                        *at = after_space(bytes, *at + 1);
                        if in_object {
                            self.pass_key(bytes, at)?;
                        }
                        if bytes.byte(*at) == b'"' {
                            *at += 1;
                            pass_text(bytes, at)?;
                            continue;
                        }
                        break;
                    }
                    b'}' if in_object => {}
                    b']' if !in_object => {}
                    _ => return Err(if in_object { Fault::MemberEnd } else { Fault::ItemEnd }),
                }
                *at += 1;
                depth -= 1;
                objects >>= 1;
            }
        }
    }

    #[inline(always)]
    fn pass_key(&mut self, bytes: Padded<'_>, at: &mut usize) -> WalkResult {
        if bytes.byte(*at) != b'"' {
            return Err(Fault::Key);
        }
        self.count_field()?;
        *at += 1;
        pass_text(bytes, at)?;
        *at = after_space(bytes, *at);
        if bytes.byte(*at) != b':' {
            return Err(Fault::Colon);
        }
        *at = after_space(bytes, *at + 1);
        Ok(())
    }

    pub fn word(&mut self) -> WalkResult<&'static str> {
        pass_word(self.bytes(), &mut self.at, self.stored)
    }

    pub fn number(&mut self) -> WalkResult<&'a str> {
        let start = self.at;
        pass_number(self.document, &mut self.at)?;
        Ok(&self.text()[start..self.at])
    }

    /// Reads the text at hand, which a quote opens.
    #[inline(always)]
    pub fn quoted(&mut self) -> WalkResult<Quoted<'a>> {
        self.at += 1;
        match self.document.plain_text(self.at) {
            Some((text, end)) => {
                self.at = end + 1;
                Ok(Quoted::Text(text))
            }
            None => self.escaped(),
        }
    }

    /// Reads a text that is not plain from its start to its end.
    #[cold]
    fn escaped(&mut self) -> WalkResult<Quoted<'a>> {
        let start = self.at;
        pass_text(self.document, &mut self.at)?;
        // The grammar is checked; what is left is to read it.
        let mut rest = &self.text()[start..self.at - 1];
        let mut out = String::with_capacity(rest.len());
        while let Some(at) = rest.find('\\') {
            out.push_str(&rest[..at]);
            rest = &rest[at + 1..];
            let (c, length) = match rest.as_bytes()[0] {
                b'b' => ('\u{8}', 1),
                b'f' => ('\u{c}', 1),
                b'n' => ('\n', 1),
                b'r' => ('\r', 1),
                b't' => ('\t', 1),
                b'u' => match unicode(rest.as_bytes()) {
                    Some(found) => found,
                    None => return Ok(Quoted::NoText),
                },
                other => (other as char, 1),
            };
            out.push(c);
            rest = &rest[length..];
        }
        out.push_str(rest);
        Ok(Quoted::Text(self.arena.alloc_str(&out)))
    }
}

/// What `u` and its digits stand for, and how long they are; none for half of a surrogate pair.
fn unicode(escape: &[u8]) -> Option<(char, usize)> {
    let first = hexadecimal(escape, 1).ok()?;
    if (0xd800..0xdc00).contains(&first) && escape.get(5..7) == Some(b"\\u") {
        let second = hexadecimal(escape, 7).ok().filter(|second| (0xdc00..0xe000).contains(second))?;
        return Some((char::from_u32(0x10000 + ((first - 0xd800) << 10) + (second - 0xdc00))?, 11));
    }
    Some((char::from_u32(first)?, 5))
}
