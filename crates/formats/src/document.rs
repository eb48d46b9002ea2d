//! Walks one JSON document (RFC 8259) beside the trie of wanted paths, and fills the slots.
//!
//! The whole document is checked, whatever is wanted of it: grammar, UTF-8, depth. So the same documents are
//! accepted by every command. A number or text that JSON allows and no value can hold is of the *wrong type*;
//! a key given twice makes its fact so. Only a doubled id or time refuses the document.

use std::collections::HashMap;
use std::collections::hash_map::Entry;

use bumpalo::Bump;
use fencepost_core::{DocumentReader, Layout, List, NodeId, Object, Read, ReadError, Reason, SlotId, Unknown, Value};
use rust_decimal::Decimal;

/// Documents may not nest deeper than this.
pub const MAX_DEPTH: usize = 127;

/// Reads JSON documents.
#[derive(Debug, Default)]
pub struct JsonDocuments;

impl DocumentReader for JsonDocuments {
    fn read<'a>(&mut self, document: &'a [u8], layout: &'a Layout, arena: &'a Bump) -> Result<Read<'a>, ReadError> {
        let text = std::str::from_utf8(document).map_err(|error| ReadError {
            offset: error.valid_up_to(),
            message: "these bytes are not UTF-8".to_owned(),
        })?;
        let slots = arena.alloc_slice_fill_iter(
            (0..layout.len())
                .map(|slot| Value::missing(layout.slot_path(SlotId(u32::try_from(slot).unwrap_or(u32::MAX))))),
        );
        let mut walk = Walk { text, at: 0, depth: 0, layout, arena, slots, given: vec![false; layout.node_count()] };
        walk.space();
        if walk.peek() != Some(b'{') {
            return Err(walk.error("a document is a JSON object and starts with `{`"));
        }
        walk.object(Layout::ROOT)?;
        walk.space();
        if walk.at != text.len() {
            return Err(walk.error("something follows the end of the document"));
        }
        Ok(Read { slots: walk.slots })
    }
}

struct Walk<'a, 's> {
    text: &'a str,
    at: usize,
    depth: usize,
    layout: &'a Layout,
    arena: &'a Bump,
    slots: &'s mut [Value<'a>],
    /// Nodes whose key has been seen.
    given: Vec<bool>,
}

/// A text as it stands in the document.
enum Quoted<'a> {
    Text(&'a str),
    /// A lone surrogate: allowed by the grammar, and no text.
    NoText,
}

impl<'a> Walk<'a, 'a> {
    fn error(&self, message: impl Into<String>) -> ReadError {
        ReadError { offset: self.at, message: message.into() }
    }

    fn peek(&self) -> Option<u8> {
        self.text.as_bytes().get(self.at).copied()
    }

    fn space(&mut self) {
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

    /// Goes through the members of an object, `member` taking each value.
    fn members(
        &mut self,
        mut member: impl FnMut(&mut Self, Quoted<'a>) -> Result<(), ReadError>,
    ) -> Result<(), ReadError> {
        self.enter()?;
        if self.peek() == Some(b'}') {
            self.at += 1;
            self.depth -= 1;
            return Ok(());
        }
        loop {
            if self.peek() != Some(b'"') {
                return Err(self.error("expected a key in double quotes"));
            }
            let key = self.quoted()?;
            self.space();
            self.expect(b':')?;
            self.space();
            member(self, key)?;
            self.space();
            match self.peek() {
                Some(b',') => {
                    self.at += 1;
                    self.space();
                }
                Some(b'}') => {
                    self.at += 1;
                    self.depth -= 1;
                    return Ok(());
                }
                _ => return Err(self.error("expected `,` or `}`")),
            }
        }
    }

    /// Goes through the items of a list, `item` taking each value.
    fn items(&mut self, mut item: impl FnMut(&mut Self) -> Result<(), ReadError>) -> Result<(), ReadError> {
        self.enter()?;
        if self.peek() == Some(b']') {
            self.at += 1;
            self.depth -= 1;
            return Ok(());
        }
        loop {
            item(self)?;
            self.space();
            match self.peek() {
                Some(b',') => {
                    self.at += 1;
                    self.space();
                }
                Some(b']') => {
                    self.at += 1;
                    self.depth -= 1;
                    return Ok(());
                }
                _ => return Err(self.error("expected `,` or `]`")),
            }
        }
    }

    /// Walks an object whose own value nobody wants, but something below it.
    fn object(&mut self, node: NodeId) -> Result<(), ReadError> {
        self.members(|walk, key| {
            let child = match key {
                Quoted::Text(key) => walk.layout.child(node, key).filter(|child| walk.layout.is_wanted(*child)),
                Quoted::NoText => None,
            };
            match child {
                Some(child) => walk.wanted(child),
                None => walk.skip(),
            }
        })
    }

    fn wanted(&mut self, node: NodeId) -> Result<(), ReadError> {
        let doubled = std::mem::replace(&mut self.given[Layout::index(node)], true);
        if doubled && matches!(self.layout.slot(node), Some(Layout::DEVICE | Layout::COLLECTED)) {
            return Err(self.error(format!("`{}` is given twice", self.layout.path(node))));
        }
        if self.layout.slot(node).is_none() && self.peek() == Some(b'{') {
            self.object(node)?;
        } else {
            let value = self.build(Some(node))?;
            self.assign(node, value);
        }
        if doubled {
            self.spoil(node);
        }
        Ok(())
    }

    /// Fills the slot of a node, and those below it, from its value.
    fn assign(&mut self, node: NodeId, value: Value<'a>) {
        if let Some(slot) = self.layout.slot(node) {
            self.fill(slot, value);
        }
        let mut below: Vec<NodeId> = self.layout.children(node).filter(|child| self.layout.is_wanted(*child)).collect();
        let prefix = self.layout.path(node).len() + 1;
        while let Some(child) = below.pop() {
            if let Some(slot) = self.layout.slot(child) {
                let path = self.layout.path(child);
                let found = value.below(&path[prefix..], path, self.arena);
                if !found.is_missing() {
                    self.fill(slot, found);
                }
            }
            below.extend(self.layout.children(child).filter(|child| self.layout.is_wanted(*child)));
        }
    }

    /// A slot that is filled already was named twice, once nested and once dotted.
    fn fill(&mut self, slot: SlotId, value: Value<'a>) {
        let place = &mut self.slots[slot.0 as usize];
        *place = if place.is_missing() { value } else { wrong(self.layout.slot_path(slot)) };
    }

    /// Marks everything at and below a node as of the wrong type: its key was given twice.
    fn spoil(&mut self, node: NodeId) {
        let mut below = vec![node];
        while let Some(node) = below.pop() {
            if let Some(slot) = self.layout.slot(node) {
                self.slots[slot.0 as usize] = wrong(self.layout.slot_path(slot));
            }
            below.extend(self.layout.children(node));
        }
    }

    /// Builds the value at hand; `node` is its place in the trie, for the declared types below it.
    fn build(&mut self, node: Option<NodeId>) -> Result<Value<'a>, ReadError> {
        match self.peek() {
            Some(b'{') => {
                let mut fields: Vec<(&'a str, Value<'a>)> = Vec::new();
                let mut seen: HashMap<&'a str, usize> = HashMap::new();
                self.members(|walk, key| {
                    let Quoted::Text(key) = key else { return walk.skip() };
                    let child = node.and_then(|node| walk.layout.child(node, key));
                    let path = child.map_or("", |child| walk.layout.path(child));
                    let value = walk.build(child)?;
                    let value = match child.and_then(|child| walk.layout.declared(child)) {
                        Some(ty) => ty.read(value, path),
                        None => value,
                    };
                    match seen.entry(key) {
                        Entry::Vacant(entry) => {
                            entry.insert(fields.len());
                            fields.push((key, value));
                        }
                        Entry::Occupied(entry) => fields[*entry.get()].1 = wrong(path),
                    }
                    Ok(())
                })?;
                Ok(Value::Object(Object { fields: self.arena.alloc_slice_copy(&fields) }))
            }
            Some(b'[') => {
                let mut values = Vec::new();
                self.items(|walk| {
                    values.push(walk.build(node)?);
                    Ok(())
                })?;
                let list = List::certain(self.arena.alloc_slice_copy(&values));
                Ok(Value::List(self.arena.alloc(list)))
            }
            Some(b'"') => Ok(match self.quoted()? {
                Quoted::Text(text) => Value::Text(text),
                Quoted::NoText => wrong(node.map_or("", |node| self.layout.path(node))),
            }),
            Some(b'-' | b'0'..=b'9') => {
                let text = self.number()?;
                let number =
                    if text.contains(['e', 'E']) { Decimal::from_scientific(text).ok() } else { text.parse().ok() };
                Ok(number.map_or_else(|| wrong(node.map_or("", |node| self.layout.path(node))), Value::Number))
            }
            _ => Ok(match self.word()? {
                "true" => Value::Boolean(true),
                "false" => Value::Boolean(false),
                _ => Value::Null,
            }),
        }
    }

    /// Checks the value at hand and forgets it.
    fn skip(&mut self) -> Result<(), ReadError> {
        match self.peek() {
            Some(b'{') => self.members(|walk, _| walk.skip()),
            Some(b'[') => self.items(Self::skip),
            Some(b'"') => self.quoted().map(|_| ()),
            Some(b'-' | b'0'..=b'9') => self.number().map(|_| ()),
            _ => self.word().map(|_| ()),
        }
    }

    fn word(&mut self) -> Result<&'a str, ReadError> {
        for word in ["true", "false", "null"] {
            if self.text[self.at..].starts_with(word) {
                self.at += word.len();
                return Ok(word);
            }
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

    fn number(&mut self) -> Result<&'a str, ReadError> {
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

    fn quoted(&mut self) -> Result<Quoted<'a>, ReadError> {
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

fn wrong(fact: &str) -> Value<'_> {
    Value::Unknown(Unknown { reason: Reason::WrongType, fact })
}

#[cfg(test)]
mod tests {
    use super::*;
    use fencepost_core::{Declaration, Dictionary, FactType};
    use proptest::prelude::*;

    fn dictionary() -> Dictionary {
        let mut dictionary = Dictionary::default();
        let version = Declaration { ty: Some(FactType::Version), ..Declaration::default() };
        dictionary.facts.insert("os.version".into(), version.clone());
        dictionary.facts.insert("software.version".into(), version);
        dictionary
    }

    /// Reads a document and shows what is at each of the paths.
    fn read(document: &str, paths: &[&str]) -> Result<Vec<String>, ReadError> {
        let dictionary = dictionary();
        let mut layout = Layout::new(&dictionary);
        let slots: Vec<SlotId> = paths.iter().map(|path| layout.want(path, &dictionary)).collect();
        let arena = Bump::new();
        let read = JsonDocuments.read(document.as_bytes(), &layout, &arena)?;
        Ok(slots.iter().map(|slot| read.slots[slot.0 as usize].show()).collect())
    }

    #[track_caller]
    fn shows(document: &str, path: &str, shown: &str) {
        assert_eq!(read(document, &[path]).unwrap(), [shown], "{document}");
    }

    #[test]
    fn nested_and_dotted_keys_mean_the_same() {
        shows(r#"{"os":{"version":"13"}}"#, "os.version", "13");
        shows(r#"{"os.version":"13"}"#, "os.version", "13");
        shows(r#"{"a":{"b.c":{"d":1}}}"#, "a.b.c.d", "1");
        shows(r#"{"os":null}"#, "os.version", "not collected");
        shows(r#"{"os":5}"#, "os.version", "not collected");
    }

    #[test]
    fn a_key_given_twice_is_of_the_wrong_type() {
        shows(r#"{"a":1,"a":1}"#, "a", "wrong type");
        shows(r#"{"os":{"name":"x"},"os.name":"y"}"#, "os.name", "wrong type");
        shows(r#"{"os":{"name":"x"},"os":{"kind":"y"}}"#, "os.name", "wrong type");
        shows(r#"{"os":{"name":"x"},"os.kind":"y"}"#, "os.name", "x");
        let twice = read(r#"{"device":"a","x":1,"device":"a"}"#, &[]).unwrap_err();
        assert!(twice.message.contains("`device` is given twice"));
    }

    #[test]
    fn lists_are_projected_and_declared_types_hold_inside_them() {
        shows(
            r#"{"software":[{"version":"1.2"},{"name":"x"},{"version":"latest"}]}"#,
            "software.version",
            "[1.2, not collected, wrong type]",
        );
        assert_eq!(read(r#"{"a":{"b":1,"c":[2]}}"#, &["a", "a.b", "a.c"]).unwrap(), ["{b: 1, c: [2]}", "1", "[2]"]);
    }

    #[test]
    fn what_json_allows_and_no_value_holds_is_of_the_wrong_type() {
        shows(r#"{"a":1e400}"#, "a", "wrong type");
        shows(r#"{"a":"\ud800"}"#, "a", "wrong type");
        shows(r#"{"a":"\ud83d\ude00 \u00e9\n"}"#, "a", "😀 é\n");
        shows(r#"{"b":1e400,"c":"\ud800","a":1}"#, "a", "1");
    }

    #[test]
    fn malformed_documents_are_refused_with_their_place() {
        for (document, offset) in [
            ("", 0),
            ("[]", 0),
            ("{", 1),
            (r#"{"a"}"#, 4),
            (r#"{"a":}"#, 5),
            (r#"{"a":01}"#, 6),
            (r#"{"a":1,}"#, 7),
            (r#"{"a":1}x"#, 7),
            ("{\"a\":\"\t\"}", 6),
            (r#"{"a":"\x"}"#, 7),
            (r#"{"a":tru}"#, 5),
            (r#"{"a":"b"#, 7),
            (r#"{"a":1.}"#, 7),
        ] {
            assert_eq!(read(document, &["a"]).unwrap_err().offset, offset, "{document}");
            assert_eq!(read(document, &[]).unwrap_err().offset, offset, "{document}, wanting nothing");
        }
    }

    #[test]
    fn depth_is_bounded_wherever_it_is() {
        let deep = |depth: usize| format!("{{\"a\":{}1{}}}", "[".repeat(depth), "]".repeat(depth));
        for path in ["a", "b"] {
            assert!(read(&deep(MAX_DEPTH - 1), &[path]).is_ok());
            assert!(read(&deep(MAX_DEPTH), &[path]).unwrap_err().message.contains("deeper"));
            assert!(read(&deep(100_000), &[path]).is_err());
        }
    }

    proptest! {
        /// serde_json is the oracle for the grammar: what it takes, we take, whether or not anything is wanted.
        #[test]
        fn accepts_what_serde_json_accepts(mut document in r#"\{("[a-c.]{1,3}":(1|-0|1\.5e3|"[a-z\\u0-9"]{0,6}"|\[[1,\[\]{}]{0,5}\]|null|tru?e|\{"a":[0-9]{1,2}\}),?){0,4}\}?"#, cut in 0usize..40) {
            if cut < document.len() && document.is_char_boundary(cut) && cut % 3 == 0 {
                document.truncate(cut);
            }
            let oracle: Result<serde::de::IgnoredAny, _> = serde_json::from_str(&document);
            for paths in [&["x"][..], &["a", "b", "a.b"]] {
                prop_assert_eq!(read(&document, paths).is_ok(), oracle.is_ok() && document.starts_with('{'), "{}", document);
            }
        }
    }
}
