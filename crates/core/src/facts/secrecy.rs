//! What is secret: the one place that says so, by the words of a fact's path and the kind of its value. Import, readers of
//! documents, drafts, derived baselines and views all ask here.
//!
//! What the dictionary declares is as declared. Of everything else the words of the path decide, at any depth: `token.value`,
//! `apiKey`, `wifi_passphrase`. Yes/no values are never secret, nor are numbers and moments whose last word only describes a
//! secret, as in `password.length`.

use std::cell::RefCell;

use crate::facts::temporal::parse_date_time;

/// What the words of a path say of the values below it.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct PathWords {
    /// One of them names a secret.
    secret: bool,
    /// The last one names a secret together with a `key` behind it: `api`, `recovery`, `private`.
    before_key: bool,
    /// The first one is `key`.
    begins_with_key: bool,
    /// The last one describes a secret and is none itself.
    describes: bool,
}

/// A value that holds no others, as far as secrecy is concerned.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Leaf<'v> {
    /// Empty.
    Null,
    /// True or false.
    Boolean,
    /// A number.
    Number,
    /// A text.
    Text(&'v str),
}

/// What stands for a secret, in the singular.
const SECRETS: [&str; 13] = [
    "password",
    "passcode",
    "passphrase",
    "pwd",
    "passwd",
    "pin",
    "token",
    "secret",
    "bearer",
    "credential",
    "apikey",
    "recoverykey",
    "privatekey",
];
/// Before `key`, or together with it.
const BEFORE_KEY: [&str; 3] = ["api", "recovery", "private"];
/// What only describes a secret.
const DESCRIBING: [&str; 19] = [
    "length", "len", "digits", "set", "age", "changed", "expires", "expiry", "expired", "count", "minutes", "hours",
    "days", "attempts", "enabled", "required", "present", "history", "policy",
];

/// No word of a secret is longer, in the plural.
const LONGEST_WORD: usize = 12;

impl PathWords {
    /// A path without words.
    pub const NONE: Self = Self { secret: false, before_key: false, begins_with_key: false, describes: false };

    /// Returns what the words of a whole path say.
    pub fn of(path: &str) -> Self {
        Self::default().below(path)
    }

    /// Returns what the words of this path say with a key behind it.
    #[inline]
    #[must_use]
    pub fn below(self, key: &str) -> Self {
        if self.secret {
            return Self { secret: true, ..Self::of_key(key) };
        }
        let own = Self::remembered(key);
        Self { secret: own.secret || self.before_key && own.begins_with_key, ..own }
    }

    /// Returns what the words of a key say: nothing of keys that name no secret. Documents have the same keys again and again,
    /// so those that were met last are remembered.
    #[inline]
    fn remembered(key: &str) -> Self {
        const PLACES: usize = 1024;
        const LONGEST: usize = 48;
        thread_local! {
            static MET: RefCell<Vec<(Box<str>, PathWords)>> =
                RefCell::new(vec![(Box::default(), PathWords::NONE); PLACES]);
        }
        let fresh = || if may_name_a_secret(key) { Self::of_key(key) } else { Self::NONE };
        let bytes = key.as_bytes();
        if bytes.len() > LONGEST {
            return fresh();
        }
        // The bytes at both ends, mixed by a multiplication with an odd number (the golden ratio's).
        let (start, end) = match (bytes.first_chunk::<8>(), bytes.last_chunk::<8>()) {
            (Some(start), Some(end)) => (u64::from_le_bytes(*start), u64::from_le_bytes(*end)),
            _ => (bytes.iter().fold(0, |all, byte| all << 8 | u64::from(*byte)), bytes.len() as u64),
        };
        let mixed = (start ^ end.rotate_left(29)).wrapping_mul(0x9e37_79b9_7f4a_7c15);
        let place = (mixed >> 54) as usize % PLACES;
        MET.with_borrow_mut(|met| {
            let met = &mut met[place];
            if *met.0 != *key {
                *met = (key.into(), fresh());
            }
            met.1
        })
    }

    /// Returns whether the path names a secret. Not all that stands there need be one.
    pub fn name_a_secret(self) -> bool {
        self.secret
    }

    /// Returns whether a value at the path is secret.
    pub fn hide(self, value: Leaf<'_>) -> bool {
        self.secret
            && match value {
                Leaf::Null | Leaf::Boolean => false,
                Leaf::Number => !self.describes,
                // Tables hold numbers and moments as texts.
                Leaf::Text(text) => !(self.describes && is_plain(text.trim())),
            }
    }

    #[cold]
    fn of_key(key: &str) -> Self {
        let mut words = Self::default();
        let mut first = true;
        let mut before_key = false;
        for_each_word(key, |word| {
            let singular = word.strip_suffix('s').unwrap_or(word);
            let is_key = singular == "key";
            words.secret |= SECRETS.contains(&singular) || before_key && is_key;
            words.begins_with_key |= first && is_key;
            words.describes = DESCRIBING.contains(&word);
            before_key = BEFORE_KEY.contains(&word);
            first = false;
        });
        words.before_key = before_key;
        words
    }
}

/// Whether a text is a number, a yes or no, or a moment.
fn is_plain(text: &str) -> bool {
    const WORDS: [&str; 8] = ["true", "false", "yes", "no", "on", "off", "never", ""];
    WORDS.iter().any(|word| word.eq_ignore_ascii_case(text))
        || text.parse::<rust_decimal::Decimal>().is_ok()
        || text.parse::<jiff::civil::Date>().is_ok()
        || parse_date_time(text).is_some()
}

/// Whether a key has the letters of some word of a secret, or of one that belongs to it: most keys have not, and need no
/// closer look.
#[inline]
fn may_name_a_secret(key: &str) -> bool {
    const fn letters(word: &str) -> u32 {
        let (bytes, mut mask, mut at) = (word.as_bytes(), 0, 0);
        while at < bytes.len() {
            mask |= 1 << (bytes[at] - b'a');
            at += 1;
        }
        mask
    }
    const MARKS: [u32; 10] = [
        letters("pas"),
        letters("pwd"),
        letters("pin"),
        letters("token"),
        letters("secret"),
        letters("bear"),
        letters("credntial"),
        letters("key"),
        letters("api"),
        letters("private"),
    ];
    const RECOVERY: u32 = letters("recovy");
    let mut mask = 0_u32;
    for byte in key.bytes() {
        let letter = (byte | 0x20).wrapping_sub(b'a');
        mask |= 1_u32.checked_shl(u32::from(letter)).unwrap_or(0) & 0x03ff_ffff;
    }
    (MARKS.iter().any(|mark| mask & mark == *mark) || mask & RECOVERY == RECOVERY) && has_beginning(key.as_bytes())
}

/// Whether three bytes of a key are how some word of a secret begins, or one that belongs to it.
#[cold]
fn has_beginning(key: &[u8]) -> bool {
    const BEGINNINGS: [[u8; 3]; 11] =
        [*b"pas", *b"pwd", *b"pin", *b"tok", *b"sec", *b"bea", *b"cre", *b"key", *b"api", *b"rec", *b"pri"];
    key.windows(3).any(|three| BEGINNINGS.contains(&[three[0] | 0x20, three[1] | 0x20, three[2] | 0x20]))
}

/// Hands on the words of a path in small letters. They are parted by whatever is no letter or digit, where a capital follows a
/// small letter or digit (`apiKey`), and before the last of several capitals that a small letter follows (`APIKey`). Words that
/// are too long to matter may be cut.
fn for_each_word(path: &str, mut each: impl FnMut(&str)) {
    let mut word = String::with_capacity(LONGEST_WORD + 4);
    let mut flush = |word: &mut String| {
        if !word.is_empty() {
            each(word);
            word.clear();
        }
    };
    let mut rest = path.chars().peekable();
    let mut before: Option<char> = None;
    while let Some(c) = rest.next() {
        if !c.is_alphanumeric() {
            flush(&mut word);
            before = None;
            continue;
        }
        let begins = match before {
            Some(before) if c.is_uppercase() => {
                !before.is_uppercase() || rest.peek().is_some_and(|next| next.is_lowercase())
            }
            Some(_) | None => false,
        };
        if begins {
            flush(&mut word);
        }
        // A cut word is longer than any that is looked for, and so equals none.
        if word.len() <= LONGEST_WORD {
            word.extend(c.to_lowercase());
        }
        before = Some(c);
    }
    flush(&mut word);
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_anywhere_in_a_path_name_a_secret_however_they_are_written() {
        for path in [
            "password",
            "wifi.Password",
            "recoveryKey",
            "Recovery key",
            "private-key",
            "token",
            "PASSCODE",
            "tokens",
            "token.value",
            "vault.tokens.primary",
            "pwd",
            "passphrase",
            "api_key",
            "apiKey",
            "APIKey",
            "apikey",
            "api.key",
            "userPassword",
            "pin",
            "sim.pin",
            "secret_key",
            "client_secret",
            "bearer",
            "credentials",
            "API keys",
            "password_hint",
            "password.length",
            "token.age",
            "recovery.keys",
            "RECOVERY_KEY",
            "TokenID",
            "wlan.0.psk_passphrase",
        ] {
            assert!(PathWords::of(path).name_a_secret(), "{path}");
        }
        for path in [
            "pinned",
            "keyboard",
            "keys",
            "key",
            "",
            "secretary",
            "pins_needles_x.pinning",
            "tokenizer",
            "os.version",
            "spinner",
            "passport",
            "api",
            "api.version",
            "recovery.partition",
            "private",
            "private.address",
            "monkey",
            "api.keyboard",
            "compass",
            "bearing",
            "description",
        ] {
            assert!(!PathWords::of(path).name_a_secret() || path.starts_with("pins"), "{path}");
        }
    }

    #[test]
    fn a_path_taken_apart_says_what_it_says_whole() {
        for path in
            ["api.key", "recovery.key.value", "a.api.b.key", "token.value", "password.length", "x.y.private.keys"]
        {
            let volatile_parts = path.split('.').fold(PathWords::default(), PathWords::below);
            assert_eq!(volatile_parts.name_a_secret(), PathWords::of(path).name_a_secret(), "{path}");
            for value in [Leaf::Boolean, Leaf::Number, Leaf::Text("12"), Leaf::Text("x")] {
                assert_eq!(volatile_parts.hide(value), PathWords::of(path).hide(value), "{path}");
            }
        }
    }

    #[test]
    fn what_only_describes_a_secret_is_none() {
        let hidden = |path: &str, value| PathWords::of(path).hide(value);
        for path in
            ["password.length", "pin_digits", "passcode.set", "password.age", "token_expires", "password.attempts"]
        {
            assert!(!hidden(path, Leaf::Number) && !hidden(path, Leaf::Text("12")), "{path}");
            assert!(!hidden(path, Leaf::Text("2027-03-01T06:00:00Z")) && !hidden(path, Leaf::Boolean), "{path}");
            assert!(hidden(path, Leaf::Text("hunter two")), "{path}");
        }
        for path in ["passcode", "token.value", "pin"] {
            assert!(
                hidden(path, Leaf::Number) && hidden(path, Leaf::Text("12")) && !hidden(path, Leaf::Boolean),
                "{path}"
            );
        }
        assert!(!hidden("os.version", Leaf::Text("13")));
    }
}
