//! Walks one JSON document (RFC 8259) beside the trie of wanted paths, and fills the slots.
//!
//! The whole document is checked, whatever is wanted of it: grammar, UTF-8, depth. So the same documents are
//! accepted by every command. A number or text that JSON allows and no value can hold is of the *wrong type*;
//! a key given twice makes its fact so. Only a doubled id or time refuses the document.

use std::collections::HashMap;

use bumpalo::Bump;
use bumpalo::collections::Vec as ArenaVec;
use fencepost_core::{
    DocumentReader, ItemFields, Layout, List, NodeId, Object, Read, ReadAs, ReadError, Reason, SlotId, Unknown, Value,
};
use rust_decimal::Decimal;

use crate::json_walk::{Cursor, Expected, Fault, LEFT_OUT, Quoted, Step, Walker};
use crate::secret::{Secrecy, SecretKey};

/// Reads JSON documents.
#[derive(Clone, Copy, Debug, Default)]
pub struct JsonDocuments<'k> {
    /// Documents as they come, whose secrets are turned into digests with this key; without it, documents from the
    /// ledger, where that was done.
    pub secrets: Option<&'k SecretKey>,
}

impl DocumentReader for JsonDocuments<'_> {
    fn read<'a>(&mut self, document: &'a [u8], layout: &'a Layout, arena: &'a Bump) -> Result<Read<'a>, ReadError> {
        let cursor = Cursor::new(document, arena, self.secrets.is_none())?;
        let missing = |slot| Value::missing(layout.slot_path(SlotId(u32::try_from(slot).unwrap_or(u32::MAX))));
        let slots = arena.alloc_slice_fill_with(layout.len(), missing);
        let given = arena.alloc_slice_fill_copy(layout.node_count(), false);
        let values = ArenaVec::with_capacity_in(128, arena);
        let mut walk = Walk { cursor, layout, arena, slots, given, values, secrets: self.secrets };
        match walk.object(Layout::ROOT).and_then(|()| walk.cursor.finish()) {
            Ok(()) => Ok(Read { slots: walk.slots }),
            Err(fault) => Err(walk.cursor.explain(fault)),
        }
    }
}

struct Walk<'a, 's, 'k> {
    cursor: Cursor<'a>,
    layout: &'a Layout,
    arena: &'a Bump,
    slots: &'s mut [Value<'a>],
    /// Nodes whose key has been seen.
    given: &'s mut [bool],
    /// Items of the lists that are being built, the innermost last.
    values: ArenaVec<'a, Value<'a>>,
    secrets: Option<&'k SecretKey>,
}

impl<'a> Walker<'a> for Walk<'a, 'a, '_> {
    fn cursor(&mut self) -> &mut Cursor<'a> {
        &mut self.cursor
    }
}

/// What is known of a key: where it leads, and how its value is read.
#[derive(Clone, Copy)]
struct Member<'a> {
    key: &'a str,
    expected: Expected,
    /// Somebody looks at it.
    kept: bool,
    /// Nothing is done to a text that stands there.
    as_it_is: bool,
    node: Option<NodeId>,
    declared: Option<&'a ReadAs>,
    secrecy: Secrecy,
}

/// The keys of the object that was read before in the same list, in their order, those that are kept all different: the next
/// one mostly has the same, and each is found again by one comparison. What is read never depends on it.
struct Before<'a> {
    members: ArenaVec<'a, Member<'a>>,
    /// How many of them are kept.
    kept: usize,
}

impl<'a> Before<'a> {
    fn none(capacity: usize, arena: &'a Bump) -> Self {
        Self { members: ArenaVec::with_capacity_in(capacity, arena), kept: 0 }
    }

    /// Puts a key behind the first `known` ones, in the place of what stood there.
    fn put(&mut self, known: usize, member: Member<'a>) {
        self.kept -= self.members.drain(known..).filter(|member| member.kept).count();
        self.kept += usize::from(member.kept);
        self.members.push(member);
    }
}

/// The fields of an object that is being built.
type Fields<'a> = ArenaVec<'a, (&'a str, Value<'a>)>;

/// More fields than this are not compared one with another to find a key that is given twice.
const FEW_FIELDS: usize = 24;

impl<'a> Walk<'a, 'a, '_> {
    /// Walks an object whose own value nobody wants, but something below it.
    fn object(&mut self, node: NodeId) -> Step {
        self.members(|walk, key| {
            let child = match key {
                Quoted::Text(key) => walk.layout.child(node, key).filter(|child| walk.layout.is_wanted(*child)),
                Quoted::NoText => None,
            };
            match (child, key) {
                (Some(child), Quoted::Text(key)) => walk.wanted(child, key),
                (Some(_), Quoted::NoText) | (None, _) => walk.cursor.skip(),
            }
        })
    }

    fn secrecy(&self, key: &str, node: Option<NodeId>) -> Secrecy {
        if self.secrets.is_some() { Secrecy::of(key, node, self.layout) } else { Secrecy::Open }
    }

    fn wanted(&mut self, node: NodeId, key: &str) -> Step {
        let secrecy = self.secrecy(key, Some(node));
        let slot = self.layout.slot(node);
        let doubled = std::mem::replace(&mut self.given[Layout::index(node)], true);
        match (doubled, slot) {
            (true, Some(Layout::DEVICE)) => return Err(Fault::DeviceTwice),
            (true, Some(Layout::COLLECTED)) => return Err(Fault::TimeTwice),
            _ => {}
        }
        if slot.is_none() && self.cursor.byte() == b'{' && secrecy != Secrecy::Whole {
            self.object(node)?;
        } else {
            let value = match self.cursor.byte() {
                b'[' if secrecy != Secrecy::Whole => self.build_list(Some(node), secrecy, self.layout.items(node))?,
                _ => self.build(Some(node), secrecy)?,
            };
            self.assign(node, value);
        }
        if doubled {
            self.spoil(node);
        }
        Ok(())
    }

    /// Fills the slot of a node, and those below it, from its value.
    fn assign(&mut self, node: NodeId, value: Value<'a>) {
        let layout = self.layout;
        if let Some(slot) = layout.slot(node) {
            self.fill(slot, value);
        }
        if layout.children(node).next().is_none() {
            return;
        }
        // No recursion: how deep paths go is up to whoever writes the keys.
        let prefix = layout.path(node).len() + 1;
        let mut below = vec![node];
        while let Some(node) = below.pop() {
            for child in layout.children(node).filter(|child| layout.is_wanted(*child)) {
                if let Some(slot) = layout.slot(child) {
                    let path = layout.path(child);
                    let found = value.below(&path[prefix..], path, self.arena);
                    if !found.is_missing() {
                        self.fill(slot, found);
                    }
                }
                below.push(child);
            }
        }
    }

    /// A slot that is filled already was named twice, once nested and once dotted.
    fn fill(&mut self, slot: SlotId, value: Value<'a>) {
        let place = &mut self.slots[slot.0 as usize];
        *place = if place.is_missing() { value } else { wrong(self.layout.slot_path(slot)) };
    }

    /// Marks everything at and below a node as of the wrong type: its key was given twice.
    #[cold]
    fn spoil(&mut self, node: NodeId) {
        let mut below = vec![node];
        while let Some(node) = below.pop() {
            if let Some(slot) = self.layout.slot(node) {
                self.slots[slot.0 as usize] = wrong(self.layout.slot_path(slot));
            }
            below.extend(self.layout.children(node));
        }
    }

    /// Returns the digest that stands for the value at hand; null stays null.
    #[cold]
    fn digest(&mut self, key: &SecretKey) -> Step<Value<'a>> {
        Ok(match secret_digest(&mut self.cursor, key)? {
            Some(digest) => Value::Text(self.arena.alloc_str(&digest)),
            None => Value::Null,
        })
    }

    fn path(&self, node: Option<NodeId>) -> &'a str {
        node.map_or("", |node| self.layout.path(node))
    }

    /// Builds the value at hand; `node` is its place in the trie, for the declared types below it.
    fn build(&mut self, node: Option<NodeId>, secrecy: Secrecy) -> Step<Value<'a>> {
        if secrecy != Secrecy::Open
            && let Some(key) = self.secrets
            && (secrecy == Secrecy::Whole || self.cursor.byte() == b'"')
        {
            return self.digest(key);
        }
        match self.cursor.byte() {
            b'{' => self.build_object(node, None, &mut Before::none(0, self.arena)),
            b'[' => self.build_list(node, secrecy, None),
            b'"' => Ok(match self.cursor.quoted()? {
                Quoted::Text(text) => Value::Text(text),
                Quoted::NoText => wrong(self.path(node)),
            }),
            b'-' | b'0'..=b'9' => {
                let number = decimal(self.cursor.number()?);
                Ok(number.map_or_else(|| wrong(self.path(node)), Value::Number))
            }
            _ => Ok(match self.cursor.word()? {
                "true" => Value::Boolean(true),
                "false" => Value::Boolean(false),
                LEFT_OUT => Value::missing(self.path(node)),
                _ => Value::Null,
            }),
        }
    }

    /// Builds a list; `wanted` says which fields of objects in it anybody looks at.
    fn build_list(
        &mut self,
        node: Option<NodeId>,
        secrecy: Secrecy,
        wanted: Option<&'a ItemFields>,
    ) -> Step<Value<'a>> {
        let from = self.values.len();
        let mut before = Before::none(8, self.arena);
        self.items(|walk| {
            let value = match walk.cursor.byte() {
                b'{' if secrecy != Secrecy::Whole => walk.build_object(node, wanted, &mut before)?,
                _ => walk.build(node, secrecy)?,
            };
            walk.values.push(value);
            Ok(())
        })?;
        let list = List::certain(self.arena.alloc_slice_copy(&self.values[from..]));
        self.values.truncate(from);
        Ok(Value::List(self.arena.alloc(list)))
    }

    /// Builds an object, `before` being the one before it in the same list.
    fn build_object(
        &mut self,
        node: Option<NodeId>,
        wanted: Option<&'a ItemFields>,
        before: &mut Before<'a>,
    ) -> Step<Value<'a>> {
        let likely = if before.members.is_empty() { 8 } else { before.kept };
        let mut fields = Fields::with_capacity_in(likely, self.arena);
        // A copy that stays in registers. What goes further in, and what says where a mistake is, go by the original.
        let mut cursor = self.cursor;
        macro_rules! step {
            ($step:expr) => {{
                let step = $step;
                if step.is_err() {
                    self.cursor = cursor;
                }
                step?
            }};
        }
        let mut known = 0;
        let mut more = step!(cursor.enter(b'}'));
        if more {
            for member in &before.members {
                if !step!(cursor.pass_expected(&member.expected)) {
                    break;
                }
                known += 1;
                let start = cursor.at;
                match cursor.pass_plain() {
                    Some(text) if member.as_it_is => fields.push((member.key, Value::Text(text))),
                    Some(_) if !member.kept => {}
                    Some(_) | None => {
                        self.cursor = cursor;
                        self.cursor.at = start;
                        self.known_field(*member, &mut fields)?;
                        cursor = self.cursor;
                    }
                }
            }
            if known > 0 {
                more = step!(cursor.more(b'}'));
            }
        }
        self.cursor = cursor;
        if more {
            self.rest_of_object(&mut fields, known, node, wanted, before)?;
        }
        Ok(Value::Object(Object { fields: fields.into_bump_slice() }))
    }

    /// Builds a field of which is known that its key is not given twice.
    fn known_field(&mut self, member: Member<'a>, fields: &mut Fields<'a>) -> Step {
        if !member.kept {
            return self.cursor.skip();
        }
        let value = self.member(member)?;
        fields.push((member.key, value));
        Ok(())
    }

    /// Builds the members of an object from one on that is not written as expected.
    fn rest_of_object(
        &mut self,
        fields: &mut Fields<'a>,
        mut known: usize,
        node: Option<NodeId>,
        wanted: Option<&'a ItemFields>,
        before: &mut Before<'a>,
    ) -> Step {
        // Whether all keys so far were those of the object before.
        let mut all_known = true;
        // Where each key stands, once there are too many of them to be looked through.
        let mut many: HashMap<&'a str, usize> = HashMap::new();
        loop {
            match self.cursor.key()? {
                Quoted::NoText => self.cursor.skip()?,
                Quoted::Text(key) => match before.members.get(known) {
                    Some(member) if all_known && member.key == key => {
                        known += 1;
                        self.known_field(*member, fields)?;
                    }
                    _ => {
                        all_known = false;
                        if let Some(member) = self.new_field(key, fields, known == 0, node, wanted, &mut many)? {
                            before.put(known, member);
                            known += 1;
                        }
                    }
                },
            }
            if !self.cursor.more(b'}')? {
                return Ok(());
            }
        }
    }

    /// Builds a field of an object; none for a key that is given twice.
    fn new_field(
        &mut self,
        key: &'a str,
        fields: &mut Fields<'a>,
        first: bool,
        node: Option<NodeId>,
        wanted: Option<&ItemFields>,
        many: &mut HashMap<&'a str, usize>,
    ) -> Step<Option<Member<'a>>> {
        let kept = wanted.is_none_or(|wanted| wanted.keep(key));
        let child = node.and_then(|node| self.layout.child(node, key));
        let declared = child.and_then(|child| self.layout.declared(child));
        let secrecy = self.secrecy(key, child);
        let as_it_is = kept && declared.is_none() && secrecy == Secrecy::Open;
        let expected = Expected::new(key, first);
        let member = Member { key, expected, kept, as_it_is, node: child, declared, secrecy };
        if !kept {
            self.cursor.skip()?;
            return Ok(Some(member));
        }
        let value = self.member(member)?;
        if fields.len() > FEW_FIELDS && many.is_empty() {
            many.extend(fields.iter().enumerate().map(|(at, (key, _))| (*key, at)));
        }
        let twice =
            if many.is_empty() { fields.iter().position(|(known, _)| *known == key) } else { many.get(key).copied() };
        if let Some(at) = twice {
            fields[at].1 = wrong(child.map_or("", |child| self.layout.path(child)));
            return Ok(None);
        }
        if !many.is_empty() {
            many.insert(key, fields.len());
        }
        fields.push((key, value));
        Ok(Some(member))
    }

    /// Builds the value of a member, read as its declared type.
    #[inline]
    fn member(&mut self, member: Member<'a>) -> Step<Value<'a>> {
        let value = self.build(member.node, member.secrecy)?;
        Ok(match member.declared {
            Some(declared) => declared.read(value, self.path(member.node)),
            None => value,
        })
    }
}

/// Reads a number of JSON; none where it is larger or finer than a decimal holds.
fn decimal(text: &str) -> Option<Decimal> {
    // Most numbers are a few digits, and few of them have a fraction.
    let bytes = text.as_bytes();
    if bytes.len() <= 18 && bytes[0] != b'-' {
        let (mut digits, mut scale, mut point) = (0_i64, 0, false);
        let plain = bytes.iter().all(|byte| match byte {
            b'0'..=b'9' => {
                digits = digits * 10 + i64::from(byte - b'0');
                scale += u32::from(point);
                true
            }
            b'.' => !std::mem::replace(&mut point, true),
            _ => false,
        });
        if plain {
            return Some(Decimal::new(digits, scale));
        }
    }
    if text.contains(['e', 'E']) { Decimal::from_scientific(text).ok() } else { text.parse().ok() }
}

/// Returns what stands for the secret value at hand, and goes past it; none for null.
///
/// Of a text the digest is of what it says, however it is escaped.
pub(crate) fn secret_digest(cursor: &mut Cursor<'_>, key: &SecretKey) -> Step<Option<String>> {
    let start = cursor.at;
    match cursor.byte() {
        b'"' => {
            if let Quoted::Text(text) = cursor.quoted()? {
                return Ok(Some(key.digest(text.as_bytes())));
            }
        }
        b'n' if cursor.text()[cursor.at..].starts_with("null") => {
            cursor.skip()?;
            return Ok(None);
        }
        _ => cursor.skip()?,
    }
    Ok(Some(key.digest(&cursor.text().as_bytes()[start..cursor.at])))
}

fn wrong(fact: &str) -> Value<'_> {
    Value::Unknown(Unknown { reason: Reason::WrongType, fact })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::json_walk::{MAX_DEPTH, MAX_FIELDS};
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
        let read = JsonDocuments::default().read(document.as_bytes(), &layout, &arena)?;
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
    fn a_field_of_a_lists_items_is_of_its_type_item_by_item() {
        let dictionary = dictionary();
        let mut layout = Layout::new(&dictionary);
        let slot = layout.want("software.version", &dictionary);
        let arena = Bump::new();
        let document = br#"{"software":[{"version":"1.2"},{"version":"latest"}]}"#;
        let read = JsonDocuments::default().read(document, &layout, &arena).unwrap();
        let said = [fencepost_core::Observation {
            source: "s",
            trust: 0,
            collected: None,
            fresh_for: None,
            slots: read.slots,
        }];
        let facts = fencepost_core::merge(&said, std::iter::empty(), &layout, jiff::Timestamp::UNIX_EPOCH, &arena);
        assert_eq!(facts.slot(slot).value.show(), "[1.2, wrong type]");
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

    #[test]
    fn the_number_of_fields_is_bounded_wherever_they_are() {
        let wide = |count: usize| {
            let fields: Vec<String> = (0..count).map(|at| format!("\"f{at}\":1")).collect();
            format!("{{\"a\":[{{{}}}]}}", fields.join(","))
        };
        for path in ["a", "b"] {
            assert!(read(&wide(MAX_FIELDS - 1), &[path]).is_ok());
            assert!(read(&wide(MAX_FIELDS), &[path]).unwrap_err().message.contains("more than 100000 fields"));
        }
    }

    #[test]
    fn secrets_are_read_as_digests_and_stored_documents_as_they_are() {
        let mut dictionary = dictionary();
        let secret = |secret| Declaration { secret, ..Declaration::default() };
        dictionary.facts.insert("vault".into(), secret(true));
        dictionary.facts.insert("door.token".into(), secret(false));
        let mut layout = Layout::new(&dictionary);
        let slots: Vec<SlotId> = ["vault", "door.token", "wifi.password", "users", "vault.pin", "users.password"]
            .map(|path| layout.want(path, &dictionary))
            .to_vec();
        let document = r#"{"vault":{"pin":1234},"door":{"token":"open"},"wifi":{"password":"hunter\u0032"},"users":[{"name":"x","password":"hunter2"},{"password":null}]}"#;
        let arena = Bump::new();
        let key = SecretKey::new([7; 32]);
        let mut reader = JsonDocuments { secrets: Some(&key) };
        let read = reader.read(document.as_bytes(), &layout, &arena).unwrap();
        let shown: Vec<String> = slots.iter().map(|slot| read.slots[slot.0 as usize].show()).collect();
        let digest = key.digest(b"hunter2");
        assert_eq!(shown[0], key.digest(br#"{"pin":1234}"#));
        assert_eq!(shown[1], "open");
        assert_eq!(shown[2], digest);
        assert_eq!(shown[3], format!("[{{name: x, password: {digest}}}, {{password: empty}}]"));
        assert_eq!(shown[4], "not collected");
        assert_eq!(shown[5], format!("[{digest}, empty]"));
        let stored =
            JsonDocuments::default().read(b"{\"wifi\":{\"password\":\"x\"},\"users\":\x03}", &layout, &arena).unwrap();
        assert_eq!(stored.slots[slots[2].0 as usize].show(), "x");
        assert_eq!(stored.slots[slots[3].0 as usize].show(), "not collected");
        assert!(reader.read(b"{\"users\":\x03}", &layout, &arena).is_err());
    }

    /// A layout that rules want `list` for: for `a` and `d.e` of its items, or whole.
    fn layout_of_rules(whole: bool) -> Layout {
        let more = if whole { " and list != 5" } else { "" };
        let rules = format!(
            "[[rule]]\nid = \"r\"\ngroups = [\"every-device\"]\nrequire = 'some x in list satisfies x.a = 1 or x.d.e = 2{more}'\n"
        );
        let files = vec![crate::FileText { path: "rules/r.toml".to_owned(), text: rules }];
        let workspace = crate::load_workspace(files);
        let (rules, mistakes) = fencepost_core::RuleSet::compile(&workspace.rules, &workspace.dictionary, &[]);
        rules.unwrap_or_else(|| panic!("{mistakes:?}")).layout().clone()
    }

    /// The items of `list` as they are read, field by field.
    fn items(document: &str, layout: &Layout) -> Vec<Vec<(String, String)>> {
        let arena = Bump::new();
        let key = SecretKey::new([1; 32]);
        let read = JsonDocuments { secrets: Some(&key) }.read(document.as_bytes(), layout, &arena).unwrap();
        let slot = layout.child(Layout::ROOT, "list").and_then(|node| layout.slot(node)).unwrap();
        let Value::List(list) = read.slots[slot.0 as usize] else { panic!("{document}") };
        let fields = |item: &Value<'_>| match item {
            Value::Object(object) => {
                object.fields.iter().map(|(key, value)| ((*key).to_owned(), value.show())).collect::<Vec<_>>()
            }
            other => vec![("an item".to_owned(), other.show())],
        };
        list.items.iter().map(fields).collect()
    }

    #[test]
    fn of_items_only_what_rules_look_at_is_read() {
        let document =
            r#"{"list":[{"a":1,"b":2,"name":"x"},{"name":"y","d":{"e":3,"f":4},"a":5},7,{"d.e":6,"d.x":7}]}"#;
        let shown = |layout: &Layout| {
            let item = |fields: Vec<(String, String)>| {
                fields.iter().map(|(key, value)| format!("{key}={value}")).collect::<Vec<_>>().join(" ")
            };
            items(document, layout).into_iter().map(item).collect::<Vec<_>>().join("; ")
        };
        assert_eq!(shown(&layout_of_rules(false)), "a=1 name=x; name=y d={e: 3, f: 4} a=5; an item=7; d.e=6");
        assert_eq!(shown(&layout_of_rules(true)), "a=1 b=2 name=x; name=y d={e: 3, f: 4} a=5; an item=7; d.e=6 d.x=7");
    }

    proptest! {
        /// Whatever keys the items have, in whatever order and however often, each is read as if it stood alone.
        #[test]
        fn items_are_read_alike_whatever_stood_before(
            list in prop::collection::vec(
                prop::collection::vec((prop::sample::select(vec!["a", "b", "name", "d", "d.e", "a key that is longer than others", "\u{e9}\\u0041", "\\ud800"]), 0_usize..6), 0..5),
                0..6,
            ),
            spaced in any::<bool>(),
        ) {
            let (space, comma) = if spaced { (" ", " , ") } else { ("", ",") };
            let member = |(key, value): &(&str, usize)| {
                let value = ["1", "\"text\"", "null", "{\"e\":2}", "[1,{\"a\":2}]", "\"\\u0041\\\"\""][*value];
                format!("\"{key}\"{space}:{space}{value}")
            };
            let objects: Vec<String> =
                list.iter().map(|item| format!("{{{}}}", item.iter().map(member).collect::<Vec<_>>().join(comma))).collect();
            let document = |objects: &[String]| format!("{{\"list\":[{}]}}", objects.join(comma));
            let layout = layout_of_rules(true);
            let together = items(&document(&objects), &layout);
            for (at, object) in objects.iter().enumerate() {
                prop_assert_eq!(&together[at], &items(&document(std::slice::from_ref(object)), &layout)[0]);
            }
            // What is left out is left out, and nothing else is different.
            let looked_at = |key: &str| ["a", "d", "d.e", "name"].contains(&key);
            let narrow: Vec<Vec<_>> = together
                .into_iter()
                .map(|item| item.into_iter().filter(|(key, _)| looked_at(key)).collect())
                .collect();
            prop_assert_eq!(items(&document(&objects), &layout_of_rules(false)), narrow);
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
