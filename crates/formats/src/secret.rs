//! Secrets in collected state: never kept, only a keyed digest (HMAC-SHA-256, RFC 2104) of each, so that it can still be asked
//! whether one is there, has changed, or equals another.

use std::fmt;

use fencepost_core::{Layout, Leaf, NodeId, PathWords};
use hmac::{Hmac, KeyInit, Mac};
use serde_json::Value as Json;
use sha2::Sha256;

use crate::json_walk::{Cursor, Quoted, WalkResult};

/// How the digest of a secret begins.
pub const SECRET_PREFIX: &str = "secret:";

/// The key of a workspace's digests.
#[derive(Clone)]
pub struct SecretKey([u8; 32]);

impl fmt::Debug for SecretKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("SecretKey")
    }
}

impl SecretKey {
    /// Creates a key from its bytes.
    pub fn new(bytes: [u8; 32]) -> Self {
        Self(bytes)
    }

    fn code(&self, bytes: &[u8]) -> [u8; 32] {
        let mut code = Hmac::<Sha256>::new_from_slice(&self.0).expect("a key of any length will do");
        code.update(bytes);
        code.finalize().into_bytes().into()
    }

    /// Returns what stands for a secret: `secret:` and 128 bits in hexadecimal.
    pub fn digest(&self, secret: &[u8]) -> String {
        let code = self.code(secret);
        code[..16].iter().fold(SECRET_PREFIX.to_owned(), |out, byte| format!("{out}{byte:02x}"))
    }

    /// Returns 128 bits (of keyed BLAKE3) in hexadecimal that nobody makes for a content without the key.
    pub fn seal(&self, content: &[u8]) -> String {
        let code = blake3::keyed_hash(&self.0, content);
        code.to_hex()[..32].to_owned()
    }

    /// Returns 63 bits (of keyed BLAKE3) that tell one content from another, and say nothing of it without the key.
    pub fn tag(&self, content: &[u8]) -> i64 {
        let code = blake3::keyed_hash(&self.0, content);
        let eight: [u8; 8] = std::array::from_fn(|at| code.as_bytes()[at]);
        i64::from_le_bytes(eight) & i64::MAX
    }
}

/// Returns whether a text is the digest of a secret.
pub fn is_secret_digest(text: &str) -> bool {
    text.strip_prefix(SECRET_PREFIX)
        .is_some_and(|digest| digest.len() == 32 && digest.bytes().all(|byte| byte.is_ascii_hexdigit()))
}

/// Returns a text in which every digest of a secret says no more than that there is one.
pub fn mask_secrets(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    let mut rest = text;
    while let Some(at) = rest.find(SECRET_PREFIX) {
        let end = at + SECRET_PREFIX.len() + 32;
        if rest.get(at..end).is_some_and(is_secret_digest) {
            out.push_str(&rest[..at]);
            out.push_str("(secret)");
            rest = &rest[end..];
        } else {
            let past = at + SECRET_PREFIX.len();
            out.push_str(&rest[..past]);
            rest = &rest[past..];
        }
    }
    out + rest
}

/// Returns whether a value holds a secret: by the words of its path and of the keys in it, or since it holds the digest of one.
pub fn holds_secret(words: PathWords, value: &Json) -> bool {
    match value {
        Json::Null | Json::Bool(_) => false,
        Json::Number(_) => words.hide(Leaf::Number),
        Json::String(text) => words.hide(Leaf::Text(text)) || is_secret_digest(text),
        Json::Array(items) => items.iter().any(|item| holds_secret(words, item)),
        Json::Object(fields) => fields.iter().any(|(key, value)| holds_secret(words.below(key), value)),
    }
}

/// What of a value is secret.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Secrecy {
    /// What the words of its path say; those of a path that is declared say nothing.
    ByWords(PathWords),
    /// All of it, since the dictionary says so.
    Whole,
}

impl Secrecy {
    /// Of a document, and of what is read without secrets being looked for.
    pub const OPEN: Self = Self::ByWords(PathWords::NONE);

    /// Returns what is secret of the value under a key of an object with this secrecy, at a node of the trie where there is one.
    pub fn below(self, key: &str, node: Option<NodeId>, layout: &Layout) -> Self {
        match (self, node.map(|node| layout.keeping(node))) {
            (_, Some(keeping)) if keeping.secret => Self::Whole,
            (_, Some(keeping)) if keeping.declared => Self::OPEN,
            (Self::Whole, _) => Self::Whole,
            (Self::ByWords(words), _) => Self::ByWords(words.below(key)),
        }
    }

    /// Whether all, some or nothing of a value is secret depends on a closer look.
    pub fn is_open(self) -> bool {
        matches!(self, Self::ByWords(words) if !words.name_a_secret())
    }

    /// Returns whether the value that a cursor is at is to be hidden as it stands there; objects and lists are looked into
    /// where their words alone name a secret.
    pub fn hides(self, cursor: &mut Cursor<'_>) -> WalkResult<bool> {
        let words = match self {
            Self::Whole => return Ok(true),
            Self::ByWords(words) if !words.name_a_secret() => return Ok(false),
            Self::ByWords(words) => words,
        };
        Ok(match cursor.byte() {
            b'"' => {
                let start = cursor.at;
                let text = cursor.quoted()?;
                cursor.at = start;
                match text {
                    Quoted::Text(text) => words.hide(Leaf::Text(text)),
                    Quoted::NoText => true,
                }
            }
            b'-' | b'0'..=b'9' => words.hide(Leaf::Number),
            _ => false,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn digests_tell_equal_from_different_and_need_the_key() {
        let (a, b) = (SecretKey::new([1; 32]), SecretKey::new([2; 32]));
        assert_eq!(a.digest(b"x"), a.digest(b"x"));
        assert_ne!(a.digest(b"x"), a.digest(b"y"));
        assert_ne!(a.digest(b"x"), b.digest(b"x"));
        assert!(is_secret_digest(&a.digest(b"x")) && !is_secret_digest("secret:x"));
        // RFC 4231, test case 2, with its key padded by zeros as the algorithm pads it.
        let mut key = [0; 32];
        key[..4].copy_from_slice(b"Jefe");
        assert_eq!(
            SecretKey::new(key).digest(b"what do ya want for nothing?"),
            "secret:5bdcc146bf60754e6a042426089575c7"
        );
        assert_eq!(format!("{a:?}"), "SecretKey");
        let shown = format!("[{}, secret:x, é {}]", a.digest(b"x"), b.digest(b"x"));
        assert_eq!(mask_secrets(&shown), "[(secret), secret:x, é (secret)]");
    }
}
