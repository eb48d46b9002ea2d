//! Which facts are wanted of a document, and where each goes: a trie of their paths, ending in slots.
//!
//! The core owns the layout; a reader walks a document beside the trie and fills the slots. A path is
//! the same written nested or dotted, so a key is taken apart at its dots on the way down.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use bumpalo::Bump;

use crate::canonical::Canonical;
use crate::facts::dictionary::{Declaration, Dictionary, ReadAs};
use crate::facts::fingerprint::Fingerprint;
use crate::facts::period::Period;
use crate::facts::value::Value;

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

/// One of the few keys of a node.
#[derive(Clone, Debug)]
struct FewKey {
    key: Box<str>,
    /// Where it leads.
    node: NodeId,
    /// The position in `few` of the next key of its kind, plus one; 0 for the last.
    next: u16,
}

/// The keys that lead on from a node. The few that a rule set names are found by length, first and last byte before they are
/// compared; the many that a device may report are hashed.
#[derive(Clone, Debug, Default)]
struct Keys {
    /// Where the keys of each of 64 kinds begin in `few`, plus one; empty where there are no keys.
    first: Vec<u16>,
    few: Vec<FewKey>,
    /// All keys, once there are too many for the above.
    many: HashMap<Box<str>, NodeId>,
}

/// More keys than this are hashed.
const FEW_KEYS: usize = 512;

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
        if !self.many.is_empty() {
            return self.many.get(key).copied();
        }
        let mut at = *self.first.get(Self::kind(key))?;
        while at != 0 {
            let known = &self.few[usize::from(at) - 1];
            if *known.key == *key {
                return Some(known.node);
            }
            at = known.next;
        }
        None
    }

    fn insert(&mut self, key: &str, node: NodeId) {
        if self.few.len() == FEW_KEYS {
            self.many.extend(self.few.drain(..).map(|known| (known.key, known.node)));
        }
        if !self.many.is_empty() {
            self.many.insert(key.into(), node);
            return;
        }
        self.first.resize(64, 0);
        let first = &mut self.first[Self::kind(key)];
        self.few.push(FewKey { key: key.into(), node, next: *first });
        *first = u16::try_from(self.few.len()).unwrap_or(0);
    }
}

#[derive(Clone, Debug, Default)]
struct Node {
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
    /// The field by which the items of a list are told apart.
    key: Option<Arc<str>>,
}

/// The parts of a path. Documents nest no deeper, and a key of nothing but dots is not worth a node for each of them.
fn parts(path: &str) -> impl Iterator<Item = &str> {
    path.splitn(128, '.')
}

/// The fields of a list's items that anybody looks at.
#[derive(Clone, Debug)]
pub struct ItemFields(Box<[Box<str>]>);

impl ItemFields {
    /// Returns whether what stands under a key is looked at, or something in it.
    pub fn keep(&self, key: &str) -> bool {
        let leads_to = |field: &str| match field.strip_prefix(key) {
            Some(rest) => rest.is_empty() || rest.starts_with('.'),
            None => false,
        };
        self.0.iter().any(|field| leads_to(field))
    }
}

/// The wanted facts of a document.
#[derive(Clone, Debug)]
pub struct Layout {
    /// Tells it from every layout of other content.
    id: u64,
    nodes: Vec<Node>,
    slots: Vec<SlotInfo>,
    /// Of each node that is a list, what its items are looked at for; empty where lists are wanted whole.
    items: Vec<Option<ItemFields>>,
}

fn next_id() -> u64 {
    static LAST: AtomicU64 = AtomicU64::new(0);
    LAST.fetch_add(1, Ordering::Relaxed) + 1
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
        let mut layout = Self { id: next_id(), nodes: vec![Node::default()], slots: Vec::new(), items: Vec::new() };
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

    /// Returns the slot of a path, made if it is new. Items of lists are wanted whole from then on.
    pub fn want(&mut self, path: &str, dictionary: &Dictionary) -> SlotId {
        self.id = next_id();
        self.items.clear();
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
            key: declared.and_then(|declared| declared.key.as_deref()).map(Arc::from),
        });
        self.nodes[node.0 as usize].slot = Some(slot);
        let mut at = Self::ROOT;
        self.nodes[0].wanted = true;
        for part in parts(path) {
            at = self.nodes[at.0 as usize].keys.get(part).expect("the path has its nodes");
            self.nodes[at.0 as usize].wanted = true;
        }
        slot
    }

    fn node(&mut self, path: &str) -> NodeId {
        let (mut at, mut end) = (Self::ROOT, 0);
        for part in parts(path) {
            end += part.len();
            at = self.nodes[at.0 as usize].keys.get(part).unwrap_or_else(|| {
                let made = NodeId(u32::try_from(self.nodes.len()).expect("fewer than four thousand million nodes"));
                self.nodes.push(Node { path: path[..end].into(), ..Node::default() });
                let above = &mut self.nodes[at.0 as usize];
                above.children.push(made);
                above.keys.insert(part, made);
                made
            });
            end += 1;
        }
        at
    }

    /// Returns the node that a key leads to from another; a dotted key leads further down.
    #[inline]
    pub fn child(&self, from: NodeId, key: &str) -> Option<NodeId> {
        let step = |at: NodeId, part: &str| self.nodes[at.0 as usize].keys.get(part);
        step(from, key).or_else(|| if key.contains('.') { parts(key).try_fold(from, step) } else { None })
    }

    /// Lets readers leave out of the items of lists the fields that nobody looks at. A slot without fields in `uses` stays whole.
    pub(crate) fn narrow(&mut self, uses: BTreeMap<SlotId, Option<BTreeSet<Arc<str>>>>) {
        self.id = next_id();
        let fields_of = |slot: SlotId| uses.get(&slot).cloned().flatten();
        self.items = (0..self.nodes.len())
            .map(|at| {
                let node = &self.nodes[at];
                let mut fields = match node.slot {
                    Some(slot) => fields_of(slot)?,
                    None => BTreeSet::new(),
                };
                // Slots below are filled from the items too.
                let mut below = node.children.clone();
                while let Some(child) = below.pop() {
                    let child = &self.nodes[child.0 as usize];
                    if child.slot.is_some() {
                        fields.insert(child.path[node.path.len() + 1..].into());
                    }
                    below.extend(&child.children);
                }
                Some(ItemFields(fields.iter().map(|field| Box::from(&**field)).collect()))
            })
            .collect();
    }

    /// Returns what the items of a list at a node are looked at for; none where they are wanted whole.
    pub fn items(&self, node: NodeId) -> Option<&ItemFields> {
        self.items.get(node.0 as usize)?.as_ref()
    }

    /// Returns a number that no layout of other content has, as long as the program runs.
    pub fn id(&self) -> u64 {
        self.id
    }

    /// Returns a number that differs from the one of every layout that may fill its slots otherwise from the same document.
    pub fn fingerprint(&self) -> u64 {
        let mut print = Fingerprint::new();
        print.text(env!("CARGO_PKG_VERSION"));
        print.text(crate::facts::packed::FORMAT);
        self.slot_paths().for_each(|path| print.text(path));
        for (at, node) in self.nodes.iter().enumerate().filter(|(_, node)| node.wanted || node.declared.is_some()) {
            print.text(&node.path);
            let items = self.items.get(at).and_then(Option::as_ref).map(|fields| {
                let fields: Vec<&str> = fields.0.iter().map(|field| &**field).collect();
                fields
            });
            let mut encoded = Canonical::default();
            encoded.add(&node.declared.as_ref()).add(&items);
            print.bytes(&encoded.into_bytes());
        }
        print.value()
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

    /// Returns the field by which the items of a slot's list are told apart, where the dictionary says.
    pub fn item_key(&self, slot: SlotId) -> Option<&str> {
        self.slots[slot.0 as usize].key.as_deref()
    }

    /// Returns all slots in their order.
    pub fn slots(&self) -> impl ExactSizeIterator<Item = SlotId> + use<> {
        (0..u32::try_from(self.slots.len()).unwrap_or(u32::MAX)).map(SlotId)
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

    #[test]
    fn a_device_may_report_any_number_of_facts_of_any_depth() {
        let dictionary = Dictionary::default();
        let mut layout = Layout::new(&dictionary);
        let slots: Vec<SlotId> = (0..70_000).map(|at| layout.want(&format!("k{at}"), &dictionary)).collect();
        for (at, slot) in slots.iter().enumerate() {
            assert_eq!(layout.slot(layout.child(Layout::ROOT, &format!("k{at}")).unwrap()), Some(*slot));
        }
        assert_eq!(layout.child(Layout::ROOT, "k70000"), None);
        let deep = vec!["a"; 30_000].join(".");
        let slot = layout.want(&deep, &dictionary);
        assert_eq!(layout.slot(layout.child(Layout::ROOT, &deep).unwrap()), Some(slot));
    }
}
