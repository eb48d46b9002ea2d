//! Writes JSON by hand: the generator needs no more of it than this.

/// Returns a JSON text.
pub fn text(value: &str) -> String {
    let mut out = String::with_capacity(value.len() + 2);
    out.push('"');
    for c in value.chars() {
        match c {
            '"' => out.push_str("\\\""),
            '\\' => out.push_str("\\\\"),
            c if u32::from(c) < 0x20 => out.push_str(&format!("\\u{:04x}", u32::from(c))),
            c => out.push(c),
        }
    }
    out.push('"');
    out
}

/// An object that grows member by member.
#[derive(Debug, Default)]
pub struct Object(String);

impl Object {
    /// Adds a member whose value is JSON already.
    pub fn raw(&mut self, key: &str, value: impl std::fmt::Display) -> &mut Self {
        if !self.0.is_empty() {
            self.0.push(',');
        }
        self.0.push_str(&format!("{}:{value}", text(key)));
        self
    }

    /// Adds a text.
    pub fn text(&mut self, key: &str, value: &str) -> &mut Self {
        let value = text(value);
        self.raw(key, value)
    }

    /// Returns the object.
    pub fn build(&self) -> String {
        format!("{{{}}}", self.0)
    }
}

/// Returns a list of values that are JSON already.
pub fn list(values: impl IntoIterator<Item = String>) -> String {
    format!("[{}]", values.into_iter().collect::<Vec<_>>().join(","))
}
