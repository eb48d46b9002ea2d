//! Which facts documents report: the paths of everything in them that is no object, or an empty one.

use std::collections::{BTreeSet, HashMap};

use bumpalo::Bump;
use fencepost_core::ReadError;

use crate::json_walk::{Cursor, Fault, Quoted, WalkResult};
use crate::padded::RawDocument;

/// Collects the paths of facts from documents of the ledger. What lies inside lists is not looked at.
#[derive(Debug)]
pub struct PathCollector {
    nodes: Vec<PathNode>,
    /// More paths than this are not kept.
    most: usize,
    /// How many nodes are facts.
    facts: usize,
    /// Facts that were met since they were last taken.
    new: Vec<usize>,
    /// There were more than are kept.
    more: bool,
}

#[derive(Debug, Default)]
struct PathNode {
    path: String,
    is_fact: bool,
    /// The keys in the order in which they were met, with where each leads: documents of one source have the same order.
    order: Vec<(Box<str>, usize)>,
    /// Where each key stands in that order.
    keys: HashMap<Box<str>, usize>,
    /// Where the next key is expected.
    next: usize,
}

impl PathCollector {
    /// Creates a collector of no more than `most` paths.
    pub fn new(most: usize) -> Self {
        Self { nodes: vec![PathNode::default()], most, facts: 0, new: Vec::new(), more: false }
    }

    /// Adds what a document reports.
    ///
    /// # Errors
    /// When it is malformed.
    pub fn add(&mut self, document: &[u8], arena: &Bump) -> Result<(), ReadError> {
        let mut cursor = Cursor::new(RawDocument::copy(document, arena), arena, true)?;
        let walked = self.object(&mut cursor, 0).and_then(|()| cursor.finish());
        walked.map_err(|fault: Fault| cursor.explain(fault))
    }

    /// Returns the paths, ascending.
    pub fn paths(&self) -> BTreeSet<&str> {
        self.nodes.iter().filter(|node| node.is_fact).map(|node| node.path.as_str()).collect()
    }

    /// Takes the paths that were met for the first time since this was last called.
    pub fn take_new(&mut self) -> Vec<String> {
        self.new.drain(..).map(|node| self.nodes[node].path.clone()).collect()
    }

    /// Returns whether there were more paths than are kept.
    pub fn has_more(&self) -> bool {
        self.more
    }

    fn object(&mut self, cursor: &mut Cursor<'_>, node: usize) -> WalkResult {
        if !cursor.enter(b'}')? {
            if node != 0 {
                self.mark(node);
            }
            return Ok(());
        }
        self.nodes[node].next = 0;
        loop {
            let key = cursor.key()?;
            let child = match key {
                Quoted::Text(key) => self.child(node, key),
                Quoted::NoText => None,
            };
            match (child, cursor.byte()) {
                (Some(child), b'{') => self.object(cursor, child)?,
                (Some(child), _) => {
                    self.mark(child);
                    cursor.skip()?;
                }
                (None, _) => cursor.skip()?,
            }
            if !cursor.more(b'}')? {
                return Ok(());
            }
        }
    }

    fn mark(&mut self, node: usize) {
        if !std::mem::replace(&mut self.nodes[node].is_fact, true) {
            self.facts += 1;
            self.new.push(node);
        }
    }

    /// Returns the node that a key leads to, made where it is new; none where there are too many already.
    fn child(&mut self, node: usize, key: &str) -> Option<usize> {
        let (facts, made) = (self.facts, self.nodes.len());
        let own = &mut self.nodes[node];
        if let Some((known, child)) = own.order.get(own.next)
            && **known == *key
        {
            own.next += 1;
            return Some(*child);
        }
        if let Some(at) = own.keys.get(key) {
            own.next = at + 1;
            return Some(own.order[*at].1);
        }
        if facts >= self.most || made > 2 * self.most {
            self.more = true;
            return None;
        }
        own.keys.insert(key.into(), own.order.len());
        own.order.push((key.into(), made));
        own.next = own.order.len();
        let path = if own.path.is_empty() { key.to_owned() } else { format!("{}.{key}", own.path) };
        self.nodes.push(PathNode { path, ..PathNode::default() });
        Some(made)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paths_end_at_values_at_lists_and_at_empty_objects() {
        let arena = Bump::new();
        let mut paths = PathCollector::new(100);
        let add = |paths: &mut PathCollector, json: &str| paths.add(json.as_bytes(), &arena).unwrap();
        add(&mut paths, r#"{"device":"d","os":{"version":"1","build":{}},"a.b":null,"disks":[{"mount":"/"}]}"#);
        add(&mut paths, r#"{"os":{"name":true,"version":2},"device":"e","a":{"b":1}}"#);
        let found: Vec<&str> = paths.paths().into_iter().collect();
        assert_eq!(found, ["a.b", "device", "disks", "os.build", "os.name", "os.version"]);
        assert!(!paths.has_more() && paths.add(b"{\"a\":", &arena).is_err());
    }

    #[test]
    fn there_are_never_more_than_so_many() {
        let arena = Bump::new();
        let mut paths = PathCollector::new(10);
        let fields: Vec<String> = (0..50).map(|at| format!("\"k{at}\":1")).collect();
        paths.add(format!("{{{}}}", fields.join(",")).as_bytes(), &arena).unwrap();
        assert_eq!(paths.paths().len(), 10);
        assert!(paths.has_more());
    }
}
