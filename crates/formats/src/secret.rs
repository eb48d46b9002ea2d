//! Secrets in collected state: never kept, only a keyed digest (HMAC-SHA-256, RFC 2104) of each, so that it can still be asked
//! whether one is there, has changed, or equals another.

use std::fmt;

use fencepost_core::{Layout, NodeId, sounds_secret};
use hmac::{Hmac, KeyInit, Mac};
use sha2::Sha256;

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

/// What of a value is secret.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Secrecy {
    /// Nothing.
    Open,
    /// Its texts, since its name says so.
    Texts,
    /// All of it, since the dictionary says so.
    Whole,
}

impl Secrecy {
    /// Returns what is secret of the value under a key, at a node of the trie where there is one.
    pub fn of(key: &str, node: Option<NodeId>, layout: &Layout) -> Self {
        match node.map(|node| layout.keeping(node)) {
            Some(keeping) if keeping.secret => Self::Whole,
            Some(keeping) if keeping.declared || !keeping.sounds_secret => Self::Open,
            None if !sounds_secret(key) => Self::Open,
            Some(_) | None => Self::Texts,
        }
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
