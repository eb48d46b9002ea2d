//! Remembers the keys of earlier objects in their order, and what each means to whoever reads them.
//!
//! The next object at the same place of a document mostly has the same keys in the same order, so each is found by one
//! comparison, with the comma before it and the colon behind. What is read never depends on what is known here.

use fencepost_core::{Layout, NodeId};

use crate::json_walk::{Cursor, ExpectedKey, Joint};
use crate::padded::Padded;
use crate::secret::Secrecy;

/// How a member is read.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum How {
    /// Nobody looks at it.
    Skip,
    /// Nothing is done to a text that stands there.
    Text,
    /// Something is done to what stands there.
    Value,
}

/// What a key means.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Meaning {
    pub how: How,
    pub node: Option<NodeId>,
    pub secrecy: Secrecy,
}

impl Meaning {
    pub const SKIPPED: Self = Self { how: How::Skip, node: None, secrecy: Secrecy::OPEN };

    pub fn of(node: NodeId, secrecy: Secrecy) -> Self {
        Self { how: How::Value, node: Some(node), secrecy }
    }
}

/// A member as objects have had it; of the size of a line of the processor's cache.
#[derive(Clone, Copy, Debug)]
#[repr(align(64))]
pub(crate) struct Member {
    pub expected: ExpectedKey,
    pub how: How,
    pub secrecy: Secrecy,
    pub node: Option<NodeId>,
    /// The shape of an object that stands there.
    object: ShapeId,
    /// The shape of objects in a list that stands there.
    items: ShapeId,
}

/// The number of a shape.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct ShapeId(u32);

impl ShapeId {
    /// Of objects of which nothing is kept in mind.
    pub const NONE: Self = Self(u32::MAX);
}

/// The member that a value stands in: of which shape, and where in it.
#[derive(Clone, Copy)]
pub(crate) struct Inside {
    pub shape: ShapeId,
    /// None where it is not kept in mind.
    pub place: Option<usize>,
}

impl Inside {
    pub const NOTHING: Self = Self { shape: ShapeId::NONE, place: None };
}

/// The members that objects at one place of a document have had, no key twice.
#[derive(Debug, Default)]
struct DocumentShape {
    members: Vec<Member>,
    /// What stands before each where the one before it is a text, and it is itself; and how it is read.
    joints: Vec<(Joint, How)>,
    /// What stands before the first, where an object like it came right before.
    turn: Option<Joint>,
    /// How many of them somebody looks at.
    kept: usize,
    /// To how many of them something is done.
    values: usize,
    /// There were too many keys to keep them in mind.
    full: bool,
}

/// Members that are nothing but texts, of objects that follow one another in a list.
pub(crate) struct Alike<'s> {
    pub first: &'s Member,
    /// What stands before each, how it is read; of the first of no use.
    pub joints: &'s [(Joint, How)],
    /// What stands between the last and the first of the next object.
    pub turn: &'s Joint,
    /// How many of them somebody looks at.
    pub kept: usize,
}

/// A key that was met where it was not expected.
pub(crate) struct Met {
    pub member: Member,
    /// Where it is kept in mind.
    pub place: Option<usize>,
    /// It was kept in mind only now.
    pub added: bool,
    /// It was known to be one of those that may follow, so it did not come before.
    pub ahead: bool,
}

/// An object with more different keys than this is no use to expect anything of.
const MAX_MEMBERS: usize = 256;

const MAX_SHAPES: usize = 128;

/// So many members may be missing in a row.
const AHEAD: usize = 6;

/// The shapes of the objects of documents that are read by one layout.
#[derive(Debug, Default)]
pub(crate) struct Shapes {
    layout: u64,
    /// The document at hand is the first.
    new: bool,
    all: Vec<DocumentShape>,
}

/// Where a run over the members of an object is that stand as expected.
pub(crate) struct ShapeWalk<'s, 'a> {
    members: &'s [Member],
    joints: &'s [(Joint, How)],
    document: Padded<'a>,
    /// Which byte is at hand.
    pub at: usize,
    /// Which member may follow.
    pub next: usize,
    /// No member was gone past.
    pub first: bool,
    /// How many keys were gone past.
    pub keys: usize,
}

/// The member whose key was gone past.
pub(crate) struct ExpectedMember<'s> {
    /// Its position in the shape.
    pub place: usize,
    /// Where the comma before its key stands, or the key where it is the first.
    pub comma_at: usize,
    pub member: &'s Member,
}

impl<'s, 'a> ShapeWalk<'s, 'a> {
    #[inline(always)]
    pub fn new(shapes: &'s Shapes, shape: ShapeId, cursor: &Cursor<'a>, next: usize, first: bool) -> Self {
        let (members, joints): (&[_], &[_]) = match shapes.all.get(shape.0 as usize) {
            Some(shape) if cursor.has_room_for(shape.members.len()) => (&shape.members, &shape.joints),
            _ => (&[], &[]),
        };
        Self { members, joints, document: cursor.bytes(), at: cursor.at, next, first, keys: 0 }
    }

    /// Goes past the next key if it is one of those that may follow, and before it past members that nobody looks at; returns
    /// which.
    #[inline(always)]
    pub fn key(&mut self) -> Option<ExpectedMember<'s>> {
        let mut place = self.next;
        let mut member = self.members.get(place)?;
        if member.how == How::Skip && !self.first {
            let (passed, at) = pass_unwanted(member, &self.joints[place + 1..], self.document, self.at);
            (place, self.next, self.at) = (place + passed, place + passed, at);
            self.keys += passed;
            member = self.members.get(place)?;
        }
        let from = self.at - usize::from(self.first);
        if !member.expected.is_at(self.document, from, self.first) {
            if !self.first && self.document.byte(from) != b',' {
                return None;
            }
            place = find_ahead(self.members, place + 1, self.document, from, self.first)?;
            member = &self.members[place];
        }
        self.at = member.expected.value_at(from);
        (self.next, self.first) = (place + 1, false);
        self.keys += 1;
        Some(ExpectedMember { place, comma_at: from, member })
    }

    /// Goes past a text in which nothing is escaped, if one is at hand, and returns it.
    #[inline(always)]
    pub fn text(&mut self) -> Option<&'a str> {
        if self.document.byte(self.at) != b'"' {
            return None;
        }
        let (text, end) = self.document.plain_text(self.at + 1)?;
        self.at = end + 1;
        Some(text)
    }
}

/// Goes past a member that nobody looks at and is a text, and past those behind it that are so too, as long as they stand as
/// expected; returns how many, and where it stopped.
#[inline(never)]
fn pass_unwanted(first: &Member, joints: &[(Joint, How)], document: Padded<'_>, at: usize) -> (usize, usize) {
    let value = first.expected.value_at(at);
    if !first.expected.is_at(document, at, false) || document.byte(value) != b'"' {
        return (0, at);
    }
    // Behind the value before the member at hand, and where the text of that member begins.
    let (mut passed, mut before, mut text) = (0, at, value + 1);
    let mut end = document.plain_end(text);
    for (joint, how) in joints {
        if *how != How::Skip || !joint.is_at(document, end) {
            break;
        }
        passed += 1;
        (before, text) = (end + 1, end + joint.length as usize);
        end = document.plain_end(text);
    }
    if document.byte(end) == b'"' { (passed + 1, end + 1) } else { (passed, before) }
}

#[inline(never)]
fn find_ahead(members: &[Member], next: usize, document: Padded<'_>, from: usize, first: bool) -> Option<usize> {
    let to = members.len().min(next + AHEAD);
    (next..to).find(|place| members[*place].expected.is_at(document, from, first))
}

impl Shapes {
    /// Begins another document; forgets what was read by another layout.
    pub fn begin(&mut self, layout: &Layout) {
        let other = self.layout != layout.id();
        if other || self.new {
            self.all.clear();
            self.all.push(DocumentShape::default());
            self.layout = layout.id();
        }
        self.new = other;
    }

    /// Returns the shape of the whole document. In the first, only the objects of lists are worth keeping in mind.
    pub fn document(&self) -> ShapeId {
        if self.new { ShapeId::NONE } else { ShapeId(0) }
    }

    #[cfg(test)]
    fn members(&self, shape: ShapeId) -> &[Member] {
        self.all.get(shape.0 as usize).map_or(&[], |shape| &shape.members)
    }

    /// Returns what is known of objects of which every member is a text to which nothing is done.
    pub fn alike(&self, shape: ShapeId) -> Option<Alike<'_>> {
        let shape = self.all.get(shape.0 as usize).filter(|shape| shape.values == 0)?;
        let turn = shape.turn.as_ref()?;
        Some(Alike { first: shape.members.first()?, joints: &shape.joints, turn, kept: shape.kept })
    }

    /// Returns how many fields of an object are kept, most likely.
    #[inline(always)]
    pub fn kept(&self, shape: ShapeId) -> usize {
        self.all.get(shape.0 as usize).filter(|shape| !shape.full).map_or(8, |shape| shape.kept)
    }

    /// Returns the shape of the object that is the value of a member.
    #[inline(always)]
    pub fn object(&mut self, inside: Inside) -> ShapeId {
        self.within(inside, |member| &mut member.object)
    }

    /// Returns the shape of objects in the list that is the value of a member.
    #[inline(always)]
    pub fn items(&mut self, inside: Inside) -> ShapeId {
        self.within(inside, |member| &mut member.items)
    }

    /// The same, for a list whose objects are kept.
    #[inline(always)]
    pub fn list(&mut self, inside: Inside) -> ShapeId {
        if self.new && inside.place.is_none() && self.all.len() < MAX_SHAPES {
            self.all.push(DocumentShape::default());
            return ShapeId(self.all.len() as u32 - 1);
        }
        self.items(inside)
    }

    #[inline(always)]
    fn within(&mut self, inside: Inside, which: impl Fn(&mut Member) -> &mut ShapeId) -> ShapeId {
        let count = self.all.len();
        let Some(place) = inside.place else { return ShapeId::NONE };
        let Some(shape) = self.all.get_mut(inside.shape.0 as usize) else { return ShapeId::NONE };
        let Some(member) = shape.members.get_mut(place) else { return ShapeId::NONE };
        let id = which(member);
        if *id != ShapeId::NONE || count == MAX_SHAPES {
            return *id;
        }
        let new = ShapeId(count as u32);
        *id = new;
        self.all.push(DocumentShape::default());
        new
    }

    /// Finds a key that did not come where it was expected among those of a shape, or adds it behind the one before.
    #[inline(never)]
    pub fn meet(&mut self, shape: ShapeId, next: &mut usize, key: &str, meaning: impl FnOnce() -> Meaning) -> Met {
        let expected = ExpectedKey::new(key);
        let shape = self.all.get_mut(shape.0 as usize).filter(|shape| !shape.full);
        let shape = shape.filter(|_| expected.is_some());
        let new = |expected: Option<ExpectedKey>, meaning: Meaning| Member {
            expected: expected.unwrap_or(ExpectedKey::NEVER),
            how: meaning.how,
            secrecy: meaning.secrecy,
            node: meaning.node,
            object: ShapeId::NONE,
            items: ShapeId::NONE,
        };
        let (Some(shape), Some(expected)) = (shape, expected) else {
            return Met { member: new(None, meaning()), place: None, added: false, ahead: false };
        };
        let is_it = |member: &Member| member.expected == expected;
        let ahead = shape.members.iter().skip(*next).position(is_it).map(|found| *next + found);
        if let Some(place) = ahead.or_else(|| shape.members.iter().take(*next).position(is_it)) {
            if ahead.is_some() {
                *next = place + 1;
            }
            let member = shape.members[place];
            return Met { member, place: Some(place), added: false, ahead: ahead.is_some() };
        }
        let member = new(Some(expected), meaning());
        if shape.members.len() == MAX_MEMBERS {
            *shape = DocumentShape { full: true, ..DocumentShape::default() };
            *next = 0;
            return Met { member, place: None, added: true, ahead: false };
        }
        let place = *next;
        shape.members.insert(place, member);
        shape.joints.insert(place, (Joint::within(key), member.how));
        if place == 0 {
            shape.turn = Some(Joint::between(key));
        }
        shape.kept += usize::from(member.how != How::Skip);
        shape.values += usize::from(member.how == How::Value);
        *next += 1;
        Met { member, place: Some(place), added: true, ahead: false }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::padded::RawDocument;
    use bumpalo::Bump;
    use fencepost_core::Dictionary;

    /// The members that a run finds in an object, by their place, as far as it goes.
    fn run(shapes: &Shapes, object: &str) -> (Vec<usize>, usize, usize) {
        let arena = Bump::new();
        let mut cursor = Cursor::new(RawDocument::copy(object.as_bytes(), &arena), &arena, false).unwrap();
        assert_eq!(cursor.enter(b'}'), Ok(true));
        let mut run = ShapeWalk::new(shapes, shapes.document(), &cursor, 0, true);
        let mut found = Vec::new();
        while let Some(ExpectedMember { place, .. }) = run.key() {
            found.push(place);
            if run.text().is_none() {
                break;
            }
        }
        (found, run.keys, run.at)
    }

    fn shapes() -> Shapes {
        let mut shapes = Shapes::default();
        let (first, other) = (Layout::new(&Dictionary::default()), Layout::new(&Dictionary::default()));
        // A second document by the same layout.
        [&other, &first, &first].into_iter().for_each(|layout| shapes.begin(layout));
        shapes
    }

    fn meet(shapes: &mut Shapes, next: &mut usize, key: &str, how: How) -> Met {
        let shape = shapes.document();
        shapes.meet(shape, next, key, || Meaning { how, ..Meaning::SKIPPED })
    }

    #[test]
    fn keys_are_kept_in_their_order_and_none_twice() {
        let (mut shapes, mut next) = (shapes(), 0);
        for key in ["a", "c"] {
            assert!(meet(&mut shapes, &mut next, key, How::Text).added);
        }
        // In the next object a key is new between those that are known, one comes early and one late.
        next = 0;
        let met = meet(&mut shapes, &mut next, "a", How::Text);
        assert!((met.place, met.added, met.ahead, next) == (Some(0), false, true, 1));
        let met = meet(&mut shapes, &mut next, "b", How::Skip);
        assert!((met.place, met.added, met.ahead, next) == (Some(1), true, false, 2));
        let met = meet(&mut shapes, &mut next, "a", How::Text);
        assert!((met.place, met.added, met.ahead, next) == (Some(0), false, false, 2));
        let shape = shapes.document();
        assert_eq!((shapes.members(shape).len(), shapes.kept(shape)), (3, 2));
        // What is too long, or is not written as it reads, is never expected.
        for key in ["a key of more than thirty-two bytes", "a\"b", "a\\b", "\u{1}"] {
            let met = meet(&mut shapes, &mut next, key, How::Text);
            assert!(met.place.is_none() && !met.added, "{key}");
        }
        assert_eq!(shapes.members(shape).len(), 3);
    }

    #[test]
    fn a_run_goes_as_far_as_keys_stand_as_expected() {
        let (mut shapes, mut next) = (shapes(), 0);
        for (key, how) in [("a", How::Text), ("b", How::Skip), ("bb", How::Skip), ("c", How::Text), ("d", How::Skip)] {
            meet(&mut shapes, &mut next, key, how);
        }
        let found = |object: &str| run(&shapes, object).0;
        assert_eq!(found(r#"{"a":"1","b":"2","bb":"3","c":"4","d":"5"}"#), [0, 3]);
        assert_eq!(run(&shapes, r#"{"a":"1","b":"2","bb":"3","c":"4","d":"5"}"#).1, 5);
        // Missing ones are passed over; the first may be one of them.
        assert_eq!(found(r#"{"b":"2","c":"4"}"#), [1, 3]);
        assert_eq!(found(r#"{ "c":"4"}"#), [3]);
        // It stops before what is not expected, and at what is no plain text.
        assert_eq!(run(&shapes, r#"{"a":"1","x":"2","c":"4"}"#), (vec![0], 1, 8));
        assert_eq!(run(&shapes, r#"{"a":"1", "b":"2"}"#), (vec![0], 1, 8));
        assert_eq!(run(&shapes, r#"{"a":"1","b":2,"c":"4"}"#), (vec![0, 1], 2, 13));
        assert_eq!(found(r#"{"a":"\u0041","b":"2"}"#), [0]);
        assert_eq!(found(r#"{"aa":"1"}"#), [0; 0]);
        assert_eq!(found(r#"{"a"#), [0; 0]);
    }

    #[test]
    fn another_layout_and_too_many_keys_are_forgotten() {
        let (mut shapes, mut next) = (shapes(), 0);
        for at in 0..=MAX_MEMBERS {
            meet(&mut shapes, &mut next, &format!("k{at}"), How::Skip);
        }
        assert!(shapes.members(shapes.document()).is_empty());
        let met = meet(&mut shapes, &mut next, "k1", How::Text);
        assert!(met.place.is_none() && !met.added);
        shapes.begin(&Layout::new(&Dictionary::default()));
        assert_eq!(shapes.document(), ShapeId::NONE);
        assert_eq!(shapes.all.len(), 1);
    }

    #[test]
    fn shapes_within_shapes_are_made_once_and_not_without_end() {
        let (mut shapes, mut next) = (shapes(), 0);
        for at in 0..MAX_SHAPES {
            meet(&mut shapes, &mut next, &format!("k{at}"), How::Text);
        }
        let shape = shapes.document();
        let inside = |place| Inside { shape, place: Some(place) };
        let (object, items) = (shapes.object(inside(0)), shapes.items(inside(0)));
        assert!(object != items && object != ShapeId::NONE && items != ShapeId::NONE);
        assert_eq!((shapes.object(inside(0)), shapes.list(inside(0))), (object, items));
        assert_eq!(shapes.object(Inside::NOTHING), ShapeId::NONE);
        let made = (1..MAX_SHAPES).filter(|place| shapes.object(inside(*place)) != ShapeId::NONE).count();
        assert_eq!((made, shapes.all.len()), (MAX_SHAPES - 3, MAX_SHAPES));
    }
}
