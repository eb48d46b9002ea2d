//! Parts a document into what stays the same from one collection to the next, and what does not.
//!
//! The *body* is the document byte for byte, with placeholders where the id, the time and the volatile facts stood, and digests in
//! place of secrets; it is kept once, by its content. What stood in the placeholders is kept *apart*, in their order. Placeholders are
//! control characters, which no JSON document holds as they are.

use bumpalo::Bump;
use fencepost_core::{Layout, NodeId, ReadError};
use jiff::Timestamp;
use serde_json::Value as Json;

use crate::document::secret_digest;
use crate::json_walk::{Cursor, PLACEHOLDER, Quoted, WalkResult, Walker};
use crate::padded::{ROOM, RawDocument};
use crate::secret::{Secrecy, SecretKey};

const DEVICE_PLACEHOLDER: u8 = 1;
const TIME_PLACEHOLDER: u8 = 2;
/// Stands between the parts of what is kept apart.
const SEPARATOR: u8 = 0x1e;

/// How documents are kept.
#[derive(Clone, Copy, Debug)]
pub struct DocumentSplitter<'k> {
    /// Knows which facts are volatile, secret or the company's alone.
    pub layout: &'k Layout,
    /// The key of digests.
    pub key: &'k SecretKey,
    /// The documents are of people: nothing is left out of them, and the dictionary of devices' facts says nothing of theirs.
    pub people: bool,
}

/// A document as it is kept.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Kept {
    /// What stays the same.
    pub body: Vec<u8>,
    /// What stood in the placeholders; empty where nothing did.
    pub volatile_parts: Vec<u8>,
    /// Paths of values that were taken for secrets by the words of the path alone.
    pub secrets: Vec<String>,
    /// Facts were left out because the device is not the company's.
    pub left_out: bool,
    /// Something was hidden as a secret.
    pub hidden: bool,
}

impl DocumentSplitter<'_> {
    /// Parts a document. `company` says whether the device is the company's.
    ///
    /// # Errors
    /// When it is no document; whatever a reader accepts is accepted.
    pub fn keep(&self, document: RawDocument<'_>, company: bool, arena: &Bump) -> Result<Kept, ReadError> {
        self.part(document, company, false, arena)
    }

    /// Parts a document of the ledger again, by what the dictionary says now; its secrets are digests already where they
    /// were known to be secrets.
    ///
    /// # Errors
    /// As [`Self::keep`].
    pub fn keep_again(&self, document: RawDocument<'_>, arena: &Bump) -> Result<Kept, ReadError> {
        self.part(document, true, true, arena)
    }

    fn part(&self, document: RawDocument<'_>, company: bool, stored: bool, arena: &Bump) -> Result<Kept, ReadError> {
        let cursor = Cursor::new(document, arena, stored)?;
        let mut walk = Parting {
            cursor,
            splitter: self,
            company,
            stored,
            copied: 0,
            out: Vec::with_capacity(document.bytes().len()),
            parts: Vec::new(),
            inside: false,
            path: Vec::new(),
            secrets: Vec::new(),
            left_out: false,
            hidden: false,
        };
        walk.object((!self.people).then_some(Layout::ROOT), Secrecy::OPEN)
            .and_then(|()| walk.cursor.finish())
            .map_err(|fault| walk.cursor.explain(fault))?;
        walk.copy_to(document.bytes().len());
        let volatile_parts =
            if walk.parts.iter().all(Vec::is_empty) { Vec::new() } else { walk.parts.join(&SEPARATOR) };
        Ok(Kept { body: walk.out, volatile_parts, secrets: walk.secrets, left_out: walk.left_out, hidden: walk.hidden })
    }
}

struct Parting<'a, 'k> {
    cursor: Cursor<'a>,
    splitter: &'k DocumentSplitter<'k>,
    company: bool,
    stored: bool,
    /// How far the document has been copied.
    copied: usize,
    out: Vec<u8>,
    parts: Vec<Vec<u8>>,
    /// What is being copied is kept apart already.
    inside: bool,
    path: Vec<&'a str>,
    secrets: Vec<String>,
    left_out: bool,
    hidden: bool,
}

impl<'a> Walker<'a> for Parting<'a, '_> {
    fn cursor(&mut self) -> &mut Cursor<'a> {
        &mut self.cursor
    }
}

impl<'a> Parting<'a, '_> {
    fn copy_to(&mut self, end: usize) {
        self.out.extend_from_slice(&self.cursor.text().as_bytes()[self.copied..end]);
        self.copied = end;
    }

    /// Leaves a placeholder for the value at hand.
    fn cut(&mut self, placeholder: u8) -> WalkResult {
        self.copy_to(self.cursor.at);
        self.out.push(placeholder);
        self.cursor.skip()?;
        self.copied = self.cursor.at;
        Ok(())
    }

    fn object(&mut self, node: Option<NodeId>, secrecy: Secrecy) -> WalkResult {
        self.members(|walk, key| {
            let Quoted::Text(key) = key else { return walk.cursor.skip() };
            let child = node.and_then(|node| walk.splitter.layout.child(node, key));
            walk.path.push(key);
            let secrecy = secrecy.below(key, child, walk.splitter.layout);
            let done = walk.member(child, secrecy);
            walk.path.pop();
            done
        })
    }

    fn member(&mut self, node: Option<NodeId>, secrecy: Secrecy) -> WalkResult {
        let layout = self.splitter.layout;
        match node.and_then(|node| layout.slot(node)) {
            Some(Layout::DEVICE) => return self.cut(DEVICE_PLACEHOLDER),
            Some(Layout::COLLECTED) => return self.cut(TIME_PLACEHOLDER),
            Some(_) | None => {}
        }
        let keeping = node.map(|node| layout.keeping(node)).unwrap_or_default();
        if keeping.company_only && !self.company {
            self.left_out = true;
            self.cut(PLACEHOLDER)?;
            if !self.inside {
                self.parts.push(Vec::new());
            }
            return Ok(());
        }
        if self.stored && self.cursor.byte() == PLACEHOLDER {
            // It was left out, and stays so.
            if !self.inside {
                self.parts.push(Vec::new());
            }
            return self.cursor.skip();
        }
        if !keeping.volatile || self.inside {
            return self.value(node, secrecy);
        }
        self.copy_to(self.cursor.at);
        self.out.push(PLACEHOLDER);
        let body = std::mem::take(&mut self.out);
        self.inside = true;
        self.value(node, secrecy)?;
        self.copy_to(self.cursor.at);
        self.inside = false;
        self.parts.push(std::mem::replace(&mut self.out, body));
        Ok(())
    }

    fn value(&mut self, node: Option<NodeId>, secrecy: Secrecy) -> WalkResult {
        if secrecy.hides(&mut self.cursor)? {
            return self.hide(secrecy);
        }
        match self.cursor.byte() {
            b'{' => self.object(node, secrecy),
            b'[' => self.items(|walk| walk.value(node, secrecy)),
            _ => self.cursor.skip(),
        }
    }

    /// Puts a digest in the place of the secret at hand.
    fn hide(&mut self, secrecy: Secrecy) -> WalkResult {
        let start = self.cursor.at;
        if self.stored && self.is_hidden()? {
            return self.cursor.skip();
        }
        self.copy_to(start);
        match secret_digest(&mut self.cursor, self.splitter.key)? {
            Some(digest) => {
                self.hidden = true;
                self.out.extend_from_slice(format!("\"{digest}\"").as_bytes());
            }
            None => self.out.extend_from_slice(b"null"),
        }
        self.copied = self.cursor.at;
        let path = self.path.join(".");
        if secrecy != Secrecy::Whole && !self.secrets.contains(&path) {
            self.secrets.push(path);
        }
        Ok(())
    }

    /// Whether the value at hand is a digest already.
    fn is_hidden(&mut self) -> WalkResult<bool> {
        let start = self.cursor.at;
        if self.cursor.byte() != b'"' {
            return Ok(false);
        }
        let text = self.cursor.quoted()?;
        self.cursor.at = start;
        Ok(matches!(text, Quoted::Text(text) if crate::secret::is_secret_digest(text)))
    }
}

/// Puts a document together again. What was not kept of it stays a placeholder, which readers of stored documents know.
pub fn assemble(body: &[u8], device: &str, collected: Timestamp, volatile_parts: Option<&[u8]>) -> Vec<u8> {
    assemble_in(body, device, collected, volatile_parts, &Bump::new()).bytes().to_vec()
}

/// The same, in an arena.
pub fn assemble_in<'a>(
    body: &[u8],
    device: &str,
    collected: Timestamp,
    volatile_parts: Option<&[u8]>,
    arena: &'a Bump,
) -> RawDocument<'a> {
    let mut parts =
        volatile_parts.into_iter().flat_map(|volatile_parts| volatile_parts.split(|byte| *byte == SEPARATOR));
    let likely = body.len() + volatile_parts.map_or(0, <[u8]>::len) + device.len() + 24 + ROOM;
    let mut out = bumpalo::collections::Vec::with_capacity_in(likely, arena);
    let mut copied = 0;
    for at in memchr::memchr3_iter(DEVICE_PLACEHOLDER, TIME_PLACEHOLDER, PLACEHOLDER, body) {
        out.extend_from_slice_copy(&body[copied..at]);
        copied = at + 1;
        match body[at] {
            DEVICE_PLACEHOLDER => out.extend_from_slice_copy(Json::from(device).to_string().as_bytes()),
            TIME_PLACEHOLDER => out.extend_from_slice_copy(format!("\"{collected}\"").as_bytes()),
            _ => match parts.next() {
                Some(part) if !part.is_empty() => out.extend_from_slice_copy(part),
                Some(_) | None => out.push(PLACEHOLDER),
            },
        }
    }
    out.extend_from_slice_copy(&body[copied..]);
    out.extend_from_slice_copy(&[0; ROOM]);
    RawDocument::with_room(out.into_bump_slice())
}

/// Returns what is kept apart of a document with all parts left out whose path is not wanted; none when nothing is left.
pub fn thin_out(body: &[u8], volatile_parts: &[u8], wanted: impl Fn(&str) -> bool) -> Option<Vec<u8>> {
    struct Placeholders<'a, F> {
        cursor: Cursor<'a>,
        path: Vec<&'a str>,
        found: F,
    }
    impl<'a, F: FnMut(&str)> Walker<'a> for Placeholders<'a, F> {
        fn cursor(&mut self) -> &mut Cursor<'a> {
            &mut self.cursor
        }
    }
    impl<F: FnMut(&str)> Placeholders<'_, F> {
        fn value(&mut self) -> WalkResult {
            match self.cursor.byte() {
                b'{' => self.members(|walk, key| {
                    walk.path.push(match key {
                        Quoted::Text(key) => key,
                        Quoted::NoText => "",
                    });
                    if walk.cursor.byte() == PLACEHOLDER {
                        let path = walk.path.join(".");
                        (walk.found)(&path);
                    }
                    walk.value()?;
                    walk.path.pop();
                    Ok(())
                }),
                b'[' => self.items(Self::value),
                _ => self.cursor.skip(),
            }
        }
    }
    let arena = Bump::new();
    let cursor = Cursor::new(RawDocument::copy(body, &arena), &arena, true).ok()?;
    let mut parts = volatile_parts.split(|byte| *byte == SEPARATOR);
    let (mut kept, mut any) = (Vec::new(), false);
    let mut placeholders = Placeholders {
        cursor,
        path: Vec::new(),
        found: |path: &str| {
            let part = parts.next().unwrap_or_default();
            let keep = !part.is_empty() && wanted(path);
            any |= keep;
            kept.push(if keep { part } else { &[] });
        },
    };
    placeholders.value().ok()?;
    any.then(|| kept.join(&SEPARATOR))
}

/// Reads a stored document as JSON; what was left out of it is null here.
pub fn stored_json(document: &[u8]) -> Option<Json> {
    if document.contains(&PLACEHOLDER) {
        let mut filled = Vec::with_capacity(document.len());
        for byte in document {
            match *byte {
                PLACEHOLDER => filled.extend_from_slice(b"null"),
                byte => filled.push(byte),
            }
        }
        return serde_json::from_slice(&filled).ok();
    }
    serde_json::from_slice(document).ok()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::document::JsonDocuments;
    use fencepost_core::{Declaration, Dictionary, DocumentReader};
    use proptest::prelude::*;

    fn dictionary() -> Dictionary {
        let mut dictionary = Dictionary::default();
        let mut declare = |path: &str, declaration: Declaration| {
            dictionary.facts.insert(path.into(), declaration);
        };
        for path in ["net.address", "processes.cpu", "counters"] {
            declare(path, Declaration { volatile: true, ..Declaration::default() });
        }
        declare("location", Declaration { company_only: true, ..Declaration::default() });
        declare("vault", Declaration { secret: true, volatile: true, ..Declaration::default() });
        declare("open.password", Declaration::default());
        dictionary
    }

    fn keep(document: &str, company: bool) -> Kept {
        let dictionary = dictionary();
        let layout = Layout::new(&dictionary);
        let key = SecretKey::new([3; 32]);
        let arena = Bump::new();
        let document = RawDocument::copy(document.as_bytes(), &arena);
        DocumentSplitter { layout: &layout, key: &key, people: false }.keep(document, company, &arena).unwrap()
    }

    fn moment() -> Timestamp {
        "2027-03-01T06:00:00Z".parse().unwrap()
    }

    fn back(kept: &Kept, device: &str) -> String {
        String::from_utf8(assemble(&kept.body, device, moment(), Some(&kept.volatile_parts))).unwrap()
    }

    #[test]
    fn what_changes_at_every_collection_is_kept_apart_and_comes_back_byte_for_byte() {
        let of = |device: &str, address: &str, cpu: u32| {
            format!(
                r#"{{"device":"{device}", "collected_at":"2027-03-01T06:00:00Z","net":{{"address":"{address}","up":true}},"processes":[{{"name":"a","cpu":{cpu}}},{{"cpu":0,"name":"b"}}],"counters":{{"x":[1,{{"y":{cpu}}}]}}}}"#
            )
        };
        let (a, b) = (keep(&of("a", "192.0.2.1", 5), true), keep(&of("b", "192.0.2.99", 7), true));
        assert_eq!(a.body, b.body);
        assert_ne!(a.volatile_parts, b.volatile_parts);
        assert_eq!(back(&a, "a"), of("a", "192.0.2.1", 5));
        assert_eq!(back(&b, "b"), of("b", "192.0.2.99", 7));
        // Without what was apart, what is missing is missing, and the rest is there.
        let dictionary = dictionary();
        let mut layout = Layout::new(&dictionary);
        let slots = ["net.address", "net.up", "processes.cpu", "device"].map(|path| layout.want(path, &dictionary));
        let (arena, document) = (Bump::new(), assemble(&a.body, "a", moment(), None));
        let read = JsonDocuments::default().read(&document, &layout, &arena).unwrap();
        let shown = slots.map(|slot| read.slots[slot.0 as usize].show());
        assert_eq!(shown, ["not collected", "true", "[not collected, not collected]", "a"]);
        assert_eq!(stored_json(&document).unwrap()["net"]["address"], Json::Null);
    }

    #[test]
    fn parts_that_nobody_reads_are_thinned_out() {
        let kept =
            keep(r#"{"device":"a","net":{"address":"x"},"processes":[{"cpu":1},{"cpu":2}],"counters":[3]}"#, true);
        let thin = thin_out(&kept.body, &kept.volatile_parts, |path| path == "processes.cpu").unwrap();
        let document = String::from_utf8(assemble(&kept.body, "a", moment(), Some(&thin))).unwrap();
        assert_eq!(
            document,
            "{\"device\":\"a\",\"net\":{\"address\":\u{3}},\"processes\":[{\"cpu\":1},{\"cpu\":2}],\"counters\":\u{3}}"
        );
        assert_eq!(thin_out(&kept.body, &kept.volatile_parts, |_| false), None);
        assert_eq!(thin_out(&kept.body, &kept.volatile_parts, |_| true).unwrap(), kept.volatile_parts);
    }

    #[test]
    fn secrets_leave_only_digests_and_those_found_by_name_are_named() {
        let document = r#"{"device":"a","wifi":{"password":"hunter2","ssid":"x"},"vault":["k"],"open":{"password":"p"},"token":true,"users":[{"recoveryKey":"rk"},{"recoveryKey":"rl"}]}"#;
        let kept = keep(document, true);
        let whole = back(&kept, "a");
        for secret in ["hunter2", "\"k\"", "rk", "rl"] {
            assert!(!whole.contains(secret), "{secret} in {whole}");
        }
        assert!(whole.contains(r#""open":{"password":"p"},"token":true"#));
        assert_eq!(kept.secrets, ["wifi.password", "users.recoveryKey"]);
        // Keeping what is kept again changes nothing.
        let dictionary = dictionary();
        let layout = Layout::new(&dictionary);
        let key = SecretKey::new([3; 32]);
        let splitter = DocumentSplitter { layout: &layout, key: &key, people: false };
        let arena = Bump::new();
        let again = splitter.keep_again(RawDocument::copy(whole.as_bytes(), &arena), &arena).unwrap();
        assert_eq!((again.body, again.volatile_parts), (kept.body, kept.volatile_parts));
    }

    #[test]
    fn what_is_the_companys_alone_is_left_out_of_other_devices() {
        let document = r#"{"device":"a","location":{"lat":1},"x":2}"#;
        assert_eq!(back(&keep(document, true), "a"), document);
        let left = keep(document, false);
        assert!(left.left_out);
        assert_eq!(back(&left, "a"), "{\"device\":\"a\",\"location\":\u{3},\"x\":2}");
    }

    proptest! {
        /// Whatever a document holds, its parts put together are the document.
        #[test]
        fn parts_make_the_whole(document in r#"\{"device":"d"(,"(a|net|net\.address|processes|counters)":(1|"x\\n"|null|\{"address":[1-9]\}|\[\{"cpu":[1-9],"n":"k"\},\{"cpu":null\}\])){0,6}\}"#) {
            let kept = keep(&document, true);
            prop_assert_eq!(back(&kept, "d"), document);
        }
    }
}
