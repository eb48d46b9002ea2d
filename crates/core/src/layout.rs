//! Which facts are wanted of a document, and where each goes: a trie of their paths, ending in slots.
//!
//! The core owns the layout; a reader walks a document beside the trie and fills the slots. A path is
//! the same written nested or dotted, so a key is taken apart at its dots on the way down.

use std::sync::Arc;

use bumpalo::Bump;

use crate::dictionary::{Declaration, Dictionary, ReadAs};
use crate::period::Period;
use crate::value::Value;

/// A wanted fact's place in a device's row of values.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct SlotId(pub u32);

/// A node of the trie of paths.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct NodeId(u32);

/// How a fact is kept.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Keeping {
    /// The dictionary declares it.
    pub declared: bool,
    /// It is kept apart from the document.
    pub volatile: bool,
    /// Only a digest of it is kept.
    pub secret: bool,
    /// It is kept of the company's own devices alone.
    pub company_only: bool,
}

/// The keys that lead on from a node, found by length, first and last byte before they are compared.
#[derive(Clone, Debug, Default)]
struct Keys {
    /// Where the keys of each of 64 kinds begin in `all`, plus one; empty where there are no keys.
    first: Vec<u16>,
    /// Key, where it leads, and the next of its kind, plus one.
    all: Vec<(Box<str>, NodeId, u16)>,
}

impl Keys {
    #[inline]
    fn kind(key: &str) -> usize {
        let bytes = key.as_bytes();
        match (bytes.first(), bytes.last()) {
            (Some(first), Some(last)) => {
                (usize::from(*first) + usize::from(*last).wrapping_mul(5) + bytes.len().wrapping_mul(11)) & 63
            }
            _ => 0,
        }
    }

    #[inline]
    fn get(&self, key: &str) -> Option<NodeId> {
        let mut at = *self.first.get(Self::kind(key))?;
        while at != 0 {
            let (known, node, next) = &self.all[usize::from(at) - 1];
            if **known == *key {
                return Some(*node);
            }
            at = *next;
        }
        None
    }

    fn insert(&mut self, key: &str, node: NodeId) {
        self.first.resize(64, 0);
        let first = &mut self.first[Self::kind(key)];
        self.all.push((key.into(), node, *first));
        *first = u16::try_from(self.all.len()).expect("fewer than 65,536 facts below one");
    }
}

#[derive(Clone, Debug, Default)]
struct Node {
    /// Where keys lead, dotted ones among them: these lead further down.
    keys: Keys,
    children: Vec<NodeId>,
    slot: Option<SlotId>,
    declared: Option<ReadAs>,
    keeping: Keeping,
    path: Arc<str>,
    /// Whether this node or one below it has a slot.
    wanted: bool,
}

#[derive(Clone, Debug)]
struct SlotInfo {
    path: Arc<str>,
    declared: Option<ReadAs>,
    fresh_for: Option<Period>,
}

/// The wanted facts of a document.
#[derive(Clone, Debug)]
pub struct Layout {
    nodes: Vec<Node>,
    slots: Vec<SlotInfo>,
}

impl Layout {
    /// The slot of the device's id, `device`.
    pub const DEVICE: SlotId = SlotId(0);
    /// The slot of the moment of collection, `collected_at`.
    pub const COLLECTED: SlotId = SlotId(1);
    /// The trie's root.
    pub const ROOT: NodeId = NodeId(0);

    /// Creates a layout that wants the id and the time alone, and knows the declared types.
    pub fn new(dictionary: &Dictionary) -> Self {
        let mut layout = Self { nodes: vec![Node::default()], slots: Vec::new() };
        layout.want("device", dictionary);
        layout.want("collected_at", dictionary);
        for (path, declaration) in &dictionary.facts {
            let node = layout.node(path);
            layout.nodes[node.0 as usize].declared = declaration.read_as();
            layout.nodes[node.0 as usize].keeping = Keeping {
                declared: true,
                volatile: declaration.volatile,
                secret: declaration.secret,
                company_only: declaration.company_only,
            };
        }
        layout
    }

    /// Returns the slot of a path, made if it is new.
    pub fn want(&mut self, path: &str, dictionary: &Dictionary) -> SlotId {
        let node = self.node(path);
        if let Some(slot) = self.nodes[node.0 as usize].slot {
            return slot;
        }
        let slot = SlotId(u32::try_from(self.slots.len()).expect("fewer than four thousand million paths"));
        let declared = dictionary.facts.get(path);
        self.slots.push(SlotInfo {
            path: path.into(),
            declared: declared.and_then(Declaration::read_as),
            fresh_for: declared.and_then(|declared| declared.fresh_for),
        });
        self.nodes[node.0 as usize].slot = Some(slot);
        let mut at = Self::ROOT;
        self.nodes[0].wanted = true;
        for part in path.split('.') {
            at = self.nodes[at.0 as usize].keys.get(part).expect("the path has its nodes");
            self.nodes[at.0 as usize].wanted = true;
        }
        slot
    }

    fn node(&mut self, path: &str) -> NodeId {
        // The nodes on the way, each with where its path ends.
        let mut way = vec![(Self::ROOT, 0)];
        let mut start = 0;
        for part in path.split('.') {
            let (above, end) = (way[way.len() - 1].0, start + part.len());
            let next = self.nodes[above.0 as usize].keys.get(part).unwrap_or_else(|| {
                let made = NodeId(u32::try_from(self.nodes.len()).expect("fewer than four thousand million nodes"));
                self.nodes.push(Node { path: path[..end].into(), ..Node::default() });
                self.nodes[above.0 as usize].children.push(made);
                // From everywhere above, so that a dotted key is found as quickly as another.
                for (from, behind) in &way {
                    let key = &path[if *from == Self::ROOT { 0 } else { behind + 1 }..end];
                    self.nodes[from.0 as usize].keys.insert(key, made);
                }
                made
            });
            way.push((next, end));
            start = end + 1;
        }
        way[way.len() - 1].0
    }

    /// Returns the node that a key leads to from another; a dotted key leads further down.
    #[inline]
    pub fn child(&self, from: NodeId, key: &str) -> Option<NodeId> {
        self.nodes[from.0 as usize].keys.get(key)
    }

    /// Returns the slot that wants the value at a node.
    pub fn slot(&self, node: NodeId) -> Option<SlotId> {
        self.nodes[node.0 as usize].slot
    }

    /// Returns whether anything at or below a node is wanted.
    pub fn is_wanted(&self, node: NodeId) -> bool {
        self.nodes[node.0 as usize].wanted
    }

    /// Returns the nodes directly below a node.
    pub fn children(&self, node: NodeId) -> impl Iterator<Item = NodeId> {
        self.nodes[node.0 as usize].children.iter().copied()
    }

    /// Returns a node's path.
    pub fn path(&self, node: NodeId) -> &str {
        &self.nodes[node.0 as usize].path
    }

    /// Returns what the value at a node is declared to be read as.
    pub fn declared(&self, node: NodeId) -> Option<&ReadAs> {
        self.nodes[node.0 as usize].declared.as_ref()
    }

    /// Returns how the fact at a node is kept.
    pub fn keeping(&self, node: NodeId) -> Keeping {
        self.nodes[node.0 as usize].keeping
    }

    /// Returns what a slot's fact is declared to be read as.
    pub fn declared_of(&self, slot: SlotId) -> Option<&ReadAs> {
        self.slots[slot.0 as usize].declared.as_ref()
    }

    /// Returns how many slots there are.
    pub fn len(&self) -> usize {
        self.slots.len()
    }

    /// Returns whether there is no slot; there always is.
    pub fn is_empty(&self) -> bool {
        self.slots.is_empty()
    }

    /// Returns how many nodes the trie has.
    pub fn node_count(&self) -> usize {
        self.nodes.len()
    }

    /// Returns a node's index, for tables kept beside the trie.
    pub fn index(node: NodeId) -> usize {
        node.0 as usize
    }

    /// Returns the path of a slot.
    pub fn slot_path(&self, slot: SlotId) -> &str {
        &self.slots[slot.0 as usize].path
    }

    /// Returns how long a slot's fact counts as fresh, where the dictionary says.
    pub fn fresh_for(&self, slot: SlotId) -> Option<Period> {
        self.slots[slot.0 as usize].fresh_for
    }

    /// Returns the paths of all slots in their order.
    pub fn slot_paths(&self) -> impl ExactSizeIterator<Item = &str> {
        self.slots.iter().map(|slot| &*slot.path)
    }
}

/// What a reader found in one document.
#[derive(Clone, Copy, Debug)]
pub struct Read<'a> {
    /// One value for each slot of the layout, as it came; unknown where the document has none.
    pub slots: &'a [Value<'a>],
}

/// Why a document was refused.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ReadError {
    /// Byte offset in the document.
    pub offset: usize,
    /// What is wrong there, lower case, no full stop.
    pub message: String,
}

/// Something that reads documents by a layout.
pub trait DocumentReader {
    /// Reads one document; which documents are accepted does not depend on the layout.
    ///
    /// # Errors
    /// When the document is malformed, too deep, or names its device or its time twice.
    fn read<'a>(&mut self, document: &'a [u8], layout: &'a Layout, arena: &'a Bump) -> Result<Read<'a>, ReadError>;
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nested_and_dotted_keys_lead_to_the_same_slot() {
        let dictionary = Dictionary::default();
        let mut layout = Layout::new(&dictionary);
        let slot = layout.want("os.version", &dictionary);
        assert_eq!(layout.want("os.version", &dictionary), slot);
        let os = layout.child(Layout::ROOT, "os").unwrap();
        assert!(layout.is_wanted(os) && layout.slot(os).is_none());
        assert_eq!(layout.child(os, "version"), layout.child(Layout::ROOT, "os.version"));
        assert_eq!(layout.slot(layout.child(os, "version").unwrap()), Some(slot));
        assert_eq!(layout.child(os, "name"), None);
    }
}
