//! Walks one JSON document (RFC 8259) beside the trie of wanted paths, and fills the slots.
//!
//! The whole document is checked, whatever is wanted of it: grammar, UTF-8, depth. So the same documents are
//! accepted by every command. A number or text that JSON allows and no value can hold is of the *wrong type*;
//! a key given twice makes its fact so. Only a doubled id or time refuses the document.

use std::collections::HashMap;

use bumpalo::Bump;
use bumpalo::collections::Vec as ArenaVec;
use fencepost_core::{
    DocumentReader, ItemFields, Layout, List, NodeId, Object, Read, ReadError, Reason, SlotId, Unknown, Value,
};
use rust_decimal::Decimal;

use crate::json_walk::{Cursor, Fault, LEFT_OUT, Quoted, WalkResult, Walker};
use crate::padded::{Padded, RawDocument};
use crate::secret::{Secrecy, SecretKey};
use crate::shapes::{Alike, ExpectedMember, How, Inside, Meaning, Member, Met, ShapeId, ShapeWalk, Shapes};

/// Reads JSON documents, one after the other; quicker from one to the next where they are alike.
#[derive(Debug, Default)]
pub struct JsonDocuments<'k> {
    secrets: Option<&'k SecretKey>,
    shapes: Shapes,
}

impl<'k> JsonDocuments<'k> {
    /// Creates a reader of documents as they come, whose secrets are turned into digests with this key. The default reader is
    /// one of documents from the ledger, where that was done.
    pub fn with_secrets(key: &'k SecretKey) -> Self {
        Self { secrets: Some(key), shapes: Shapes::default() }
    }
}

impl DocumentReader for JsonDocuments<'_> {
    fn read<'a>(&mut self, document: &'a [u8], layout: &'a Layout, arena: &'a Bump) -> Result<Read<'a>, ReadError> {
        self.read_in_place(RawDocument::copy(document, arena), layout, arena)
    }
}

impl JsonDocuments<'_> {
    /// Reads one document as [`DocumentReader::read`] does, where it lies.
    ///
    /// # Errors
    /// As there.
    pub fn read_in_place<'a>(
        &mut self,
        document: RawDocument<'a>,
        layout: &'a Layout,
        arena: &'a Bump,
    ) -> Result<Read<'a>, ReadError> {
        let cursor = Cursor::new(document, arena, self.secrets.is_none())?;
        self.shapes.begin(layout);
        let missing = |slot| Value::missing(layout.slot_path(SlotId(u32::try_from(slot).unwrap_or(u32::MAX))));
        let slots = arena.alloc_slice_fill_with(layout.len(), missing);
        let given = arena.alloc_slice_fill_copy(layout.node_count(), false);
        let values = ArenaVec::with_capacity_in(128, arena);
        let shape = self.shapes.document();
        let mut walk =
            Walk { cursor, layout, arena, slots, given, values, secrets: self.secrets, shapes: &mut self.shapes };
        match walk.pass_object(shape, Some(Layout::ROOT), Secrecy::OPEN).and_then(|()| walk.cursor.finish()) {
            Ok(()) => Ok(Read { slots: walk.slots }),
            Err(fault) => Err(walk.cursor.explain(fault)),
        }
    }
}

struct Walk<'a, 's, 'k> {
    cursor: Cursor<'a>,
    layout: &'a Layout,
    arena: &'a Bump,
    slots: &'a mut [Value<'a>],
    /// Nodes whose key has been seen.
    given: &'a mut [bool],
    /// Items of the lists that are being built, the innermost last.
    values: ArenaVec<'a, Value<'a>>,
    secrets: Option<&'k SecretKey>,
    shapes: &'s mut Shapes,
}

impl<'a> Walker<'a> for Walk<'a, '_, '_> {
    fn cursor(&mut self) -> &mut Cursor<'a> {
        &mut self.cursor
    }
}

/// What is known of an object by where it stands.
#[derive(Clone, Copy)]
struct Standing<'a> {
    /// Its place in the trie.
    node: Option<NodeId>,
    /// Which of its fields anybody looks at; none where it is wanted whole.
    wanted: Option<&'a ItemFields>,
    secrecy: Secrecy,
}

/// The fields of an object that were read, and where the next key is looked for.
struct FieldsSoFar<'f, 'a> {
    next: &'f mut usize,
    fields: &'f mut Fields<'a>,
    /// Where each key stands, once there are too many of them to be looked through.
    many: &'f mut Option<HashMap<&'a str, usize>>,
}

/// The fields of an object that is being built.
type Fields<'a> = ArenaVec<'a, (&'a str, Value<'a>)>;

/// The keys of the members of a shape, one text for all objects of a list that have them, so that they are soon told to be
/// the same; empty where no object had one.
type Keys<'a> = ArenaVec<'a, &'a str>;

/// More fields than this are not compared one with another to find a key that is given twice.
const FEW_FIELDS: usize = 24;

impl<'a> Walk<'a, '_, '_> {
    /// Walks an object whose own value nobody wants, but perhaps something below it: below `node`, if there is one.
    fn pass_object(&mut self, shape: ShapeId, node: Option<NodeId>, secrecy: Secrecy) -> WalkResult {
        if !self.cursor.enter(b'}')? {
            return Ok(());
        }
        let (mut next, mut first) = (0, true);
        loop {
            let mut run = ShapeWalk::new(self.shapes, shape, &self.cursor, next, first);
            let mut known = None;
            while let Some(ExpectedMember { place, member, .. }) = run.key() {
                if member.how != How::Skip || run.text().is_none() {
                    known = Some((*member, Some(place)));
                    break;
                }
            }
            (next, first) = (run.next, run.first);
            self.cursor.go_on(run.at, run.keys);
            let (member, place) = match known {
                Some(known) => known,
                None => {
                    if !std::mem::take(&mut first) && !self.cursor.more(b'}')? {
                        return Ok(());
                    }
                    let Quoted::Text(key) = self.cursor.key()? else {
                        self.cursor.skip()?;
                        continue;
                    };
                    let (layout, secret) = (self.layout, self.secrets.is_some());
                    let met = self.shapes.meet(shape, &mut next, key, || {
                        let child = node.and_then(|node| layout.child(node, key));
                        match child.filter(|child| layout.is_wanted(*child)) {
                            Some(child) if secret => Meaning::of(child, secrecy.below(key, Some(child), layout)),
                            Some(child) => Meaning::of(child, Secrecy::OPEN),
                            None => Meaning::SKIPPED,
                        }
                    });
                    (met.member, met.place)
                }
            };
            match member.node {
                Some(node) if member.how != How::Skip => self.wanted(node, member.secrecy, Inside { shape, place })?,
                _ => self.skip(Inside { shape, place })?,
            }
        }
    }

    /// Goes past a value that nobody wants.
    fn skip(&mut self, inside: Inside) -> WalkResult {
        match self.cursor.byte() {
            b'{' => match self.shapes.object(inside) {
                ShapeId::NONE => self.cursor.skip(),
                shape => self.pass_object(shape, None, Secrecy::OPEN),
            },
            b'[' => {
                let shape = self.shapes.items(inside);
                self.items(|walk| match walk.cursor.byte() {
                    b'{' if shape != ShapeId::NONE => walk.pass_object(shape, None, Secrecy::OPEN),
                    _ => walk.cursor.skip(),
                })
            }
            _ => self.cursor.skip(),
        }
    }

    fn wanted(&mut self, node: NodeId, secrecy: Secrecy, inside: Inside) -> WalkResult {
        let slot = self.layout.slot(node);
        let doubled = std::mem::replace(&mut self.given[Layout::index(node)], true);
        match (doubled, slot) {
            (true, Some(Layout::DEVICE)) => return Err(Fault::DeviceTwice),
            (true, Some(Layout::COLLECTED)) => return Err(Fault::TimeTwice),
            _ => {}
        }
        if slot.is_none() && self.cursor.byte() == b'{' && secrecy != Secrecy::Whole {
            let shape = self.shapes.object(inside);
            self.pass_object(shape, Some(node), secrecy)?;
        } else {
            let value = match self.cursor.byte() {
                b'[' if secrecy != Secrecy::Whole => {
                    self.build_list(Some(node), secrecy, self.layout.items(node), inside)?
                }
                _ => self.build(Some(node), secrecy, inside)?,
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
    fn digest(&mut self, key: &SecretKey) -> WalkResult<Value<'a>> {
        Ok(match secret_digest(&mut self.cursor, key)? {
            Some(digest) => Value::Text(self.arena.alloc_str(&digest)),
            None => Value::Null,
        })
    }

    fn path(&self, node: Option<NodeId>) -> &'a str {
        node.map_or("", |node| self.layout.path(node))
    }

    /// Builds the value at hand; `node` is its place in the trie, for the declared types below it.
    fn build(&mut self, node: Option<NodeId>, secrecy: Secrecy, inside: Inside) -> WalkResult<Value<'a>> {
        if !secrecy.is_open()
            && let Some(key) = self.secrets
            && secrecy.hides(&mut self.cursor)?
        {
            return self.digest(key);
        }
        match self.cursor.byte() {
            b'{' => {
                let shape = self.shapes.object(inside);
                self.build_object(shape, Standing { node, wanted: None, secrecy }, None)
            }
            b'[' => self.build_list(node, secrecy, None, inside),
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
        inside: Inside,
    ) -> WalkResult<Value<'a>> {
        let from = self.values.len();
        let shape = self.shapes.list(inside);
        let mut keys = Keys::new_in(self.arena);
        let mut unlike = 0;
        self.items(|walk| {
            let value = match walk.cursor.byte() {
                b'{' if secrecy != Secrecy::Whole => {
                    if walk.objects_as_before(shape, &keys, &mut unlike) {
                        return Ok(());
                    }
                    walk.build_object(shape, Standing { node, wanted, secrecy }, Some(&mut keys))?
                }
                _ => walk.build(node, secrecy, Inside::NOTHING)?,
            };
            walk.values.push(value);
            Ok(())
        })?;
        let list = List::certain(self.arena.alloc_slice_copy(&self.values[from..]));
        self.values.truncate(from);
        Ok(Value::List(self.arena.alloc(list)))
    }

    /// Builds the objects of a list from the one at hand on, as long as they have all members of the shape as expected, and all of
    /// them are texts; returns whether it stopped behind one of them, and not before another. `unlike` counts the latter, since it
    /// is not always worth the try.
    fn objects_as_before(&mut self, shape: ShapeId, keys: &Keys<'a>, unlike: &mut u8) -> bool {
        if *unlike > 1 || keys.is_empty() {
            return false;
        }
        *unlike += 1;
        let Some(Alike { first, joints, turn, kept }) = self.shapes.alike(shape) else { return false };
        let is_named = |place: usize| keys.get(place).is_some_and(|key| !key.is_empty());
        if !joints.iter().enumerate().all(|(place, (_, how))| *how == How::Skip || is_named(place)) {
            return false;
        }
        let document = self.cursor.bytes();
        // Where the object at hand begins, and the text of its member at hand.
        let (mut start, mut text) = (self.cursor.at, first.expected.value_at(self.cursor.at) + 1);
        if !first.expected.is_at(document, start, true) || document.byte(text - 1) != b'"' {
            return false;
        }
        let mut fields = Fields::with_capacity_in(kept, self.arena);
        let (mut done, room) = (0, self.cursor.room() / joints.len());
        let ended = 'objects: loop {
            if done == room {
                break None;
            }
            let mut reads = (0, first.how);
            for (joint, how) in &joints[1..] {
                let end = document.plain_end(text);
                if !joint.is_at(document, end) {
                    break 'objects None;
                }
                if reads.1 != How::Skip {
                    fields.push((keys[reads.0], Value::Text(document.text_between(text, end))));
                }
                reads = (reads.0 + 1, *how);
                text = end + joint.length as usize;
            }
            let end = document.plain_end(text);
            let goes_on = turn.is_at(document, end);
            if !goes_on && (document.byte(end) != b'"' || document.byte(end + 1) != b'}') {
                break None;
            }
            if reads.1 != How::Skip {
                fields.push((keys[reads.0], Value::Text(document.text_between(text, end))));
            }
            done += 1;
            if !goes_on {
                break Some(end + 2);
            }
            // Behind the quote, the brace and the comma.
            (start, text) = (end + 3, end + turn.length as usize);
        };
        fields.truncate(done * kept);
        let fields: &[_] = fields.into_bump_slice();
        match kept {
            0 => self.values.extend(std::iter::repeat_n(Value::Object(Object { fields: &[] }), done)),
            _ => self.values.extend(fields.chunks_exact(kept).map(|fields| Value::Object(Object { fields }))),
        }
        if done > 0 {
            *unlike = 0;
        }
        self.cursor.go_on(ended.unwrap_or(start), done * joints.len());
        ended.is_some()
    }

    /// Builds an object; `keys` are those of the objects before it in the same list.
    fn build_object(
        &mut self,
        shape: ShapeId,
        standing: Standing<'a>,
        mut keys: Option<&mut Keys<'a>>,
    ) -> WalkResult<Value<'a>> {
        let mut fields = Fields::with_capacity_in(self.shapes.kept(shape), self.arena);
        if !self.cursor.enter(b'}')? {
            return Ok(Value::Object(Object { fields: &[] }));
        }
        let (mut next, mut first) = (0, true);
        // Where each key stands, once there are too many of them to be looked through.
        let mut many = None;
        loop {
            let mut run = ShapeWalk::new(self.shapes, shape, &self.cursor, next, first);
            let document = self.cursor.bytes();
            let mut known = None;
            while let Some(ExpectedMember { place, comma_at: from, member }) = run.key() {
                match member.how {
                    How::Skip if run.text().is_some() => {}
                    How::Text if let Some(text) = run.text() => {
                        let key = key_of(document, from, member, place, keys.as_deref_mut());
                        fields.push((key, Value::Text(text)));
                    }
                    How::Skip | How::Text | How::Value => {
                        known = Some((*member, place, from));
                        break;
                    }
                }
            }
            (next, first) = (run.next, run.first);
            self.cursor.go_on(run.at, run.keys);
            if let Some((member, place, from)) = known {
                let inside = Inside { shape, place: Some(place) };
                if member.how == How::Skip {
                    self.skip(inside)?;
                } else {
                    let key = key_of(document, from, &member, place, keys.as_deref_mut());
                    let value = self.field(&member, inside)?;
                    fields.push((key, value));
                }
                continue;
            }
            if !std::mem::take(&mut first) && !self.cursor.more(b'}')? {
                return Ok(Value::Object(Object { fields: fields.into_bump_slice() }));
            }
            let so_far = FieldsSoFar { next: &mut next, fields: &mut fields, many: &mut many };
            self.unexpected_field(shape, so_far, standing, keys.as_deref_mut())?;
        }
    }

    /// Builds a field of an object whose key did not come where it was expected.
    #[inline(never)]
    fn unexpected_field(
        &mut self,
        shape: ShapeId,
        FieldsSoFar { next, fields, many }: FieldsSoFar<'_, 'a>,
        standing: Standing<'a>,
        keys: Option<&mut Keys<'a>>,
    ) -> WalkResult {
        let Quoted::Text(key) = self.cursor.key()? else { return self.cursor.skip() };
        let Met { member, place, added, ahead } = self.meet_field(shape, next, key, standing);
        if added && let Some(keys) = keys {
            keys.clear();
        }
        let inside = Inside { shape, place };
        if member.how == How::Skip {
            return self.skip(inside);
        }
        let twice = if ahead { None } else { position(fields, key, many) };
        let value = self.field(&member, inside)?;
        match twice {
            Some(twice) => fields[twice].1 = wrong(self.path(member.node)),
            None => fields.push((key, value)),
        }
        Ok(())
    }

    fn meet_field(
        &mut self,
        shape: ShapeId,
        next: &mut usize,
        key: &str,
        Standing { node, wanted, secrecy }: Standing<'_>,
    ) -> Met {
        let (layout, secret) = (self.layout, self.secrets.is_some());
        self.shapes.meet(shape, next, key, || {
            if wanted.is_some_and(|wanted| !wanted.keep(key)) {
                return Meaning::SKIPPED;
            }
            let child = node.and_then(|node| layout.child(node, key));
            let secrecy = if secret { secrecy.below(key, child, layout) } else { Secrecy::OPEN };
            let declared = child.is_some_and(|child| layout.declared(child).is_some());
            let how = if declared || !secrecy.is_open() { How::Value } else { How::Text };
            Meaning { how, node: child, secrecy }
        })
    }

    /// Builds the value of a field, read as its declared type.
    #[inline]
    fn field(&mut self, member: &Member, inside: Inside) -> WalkResult<Value<'a>> {
        let value = self.build(member.node, member.secrecy, inside)?;
        Ok(match member.node.and_then(|node| self.layout.declared(node)) {
            Some(declared) => declared.read(value, self.path(member.node)),
            None => value,
        })
    }
}

/// Returns the text of a key that was expected, for all objects of the list the same.
#[inline(always)]
fn key_of<'a>(
    document: Padded<'a>,
    from: usize,
    member: &Member,
    place: usize,
    keys: Option<&mut Keys<'a>>,
) -> &'a str {
    let Some(keys) = keys else { return member.expected.key_at(document, from) };
    match keys.get(place) {
        Some(key) if !key.is_empty() => key,
        _ => new_key(keys, document, from, member, place),
    }
}

#[cold]
fn new_key<'a>(keys: &mut Keys<'a>, document: Padded<'a>, from: usize, member: &Member, place: usize) -> &'a str {
    let key = member.expected.key_at(document, from);
    if keys.len() <= place {
        keys.resize(place + 1, "");
    }
    keys[place] = key;
    key
}

/// Returns where a key stands among fields.
fn position<'a>(fields: &Fields<'a>, key: &str, many: &mut Option<HashMap<&'a str, usize>>) -> Option<usize> {
    if fields.len() <= FEW_FIELDS {
        return fields.iter().position(|(known, _)| *known == key);
    }
    let many = many.get_or_insert_with(HashMap::new);
    // Those that came since.
    for (at, (key, _)) in fields.iter().enumerate().skip(many.len()) {
        many.insert(key, at);
    }
    many.get(key).copied()
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
pub(crate) fn secret_digest(cursor: &mut Cursor<'_>, key: &SecretKey) -> WalkResult<Option<String>> {
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
mod tests;
