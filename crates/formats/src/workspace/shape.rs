//! What the tables of workspace files may hold, told once: for the reader, which refuses everything else, and for the JSON Schemas
//! that editors go by.

/// A table.
#[derive(Debug)]
pub(super) struct TableShape {
    /// How messages speak of it.
    pub name: &'static str,
    /// Its keys.
    pub keys: &'static [&'static [TableKey]],
    /// What keys of any other name hold; none when there are no others.
    pub others: Option<KeyKind>,
    /// Of each of these, at least one is there.
    pub needs: &'static [&'static [&'static str]],
    /// Where the first of these is there, so is the second.
    pub with: &'static [(&'static str, &'static str)],
}

/// A key.
#[derive(Clone, Copy, Debug)]
pub(super) struct TableKey {
    pub name: &'static str,
    pub kind: KeyKind,
    /// What it says, for whoever writes it.
    pub about: &'static str,
}

/// What stands at a key.
#[derive(Clone, Copy, Debug)]
pub(super) enum KeyKind {
    /// A text.
    Text,
    /// A text that is a condition.
    Condition,
    /// A text of lower-case words with hyphens.
    Id,
    /// A list of texts, or one.
    Names,
    /// A list of texts and tables, or one.
    NamesAndTables(&'static TableShape),
    Boolean,
    Integer,
    /// A text, a number, true or false.
    Scalar,
    /// A length of time: a text, or the number 0.
    Period,
    /// A day or a moment.
    Moment,
    /// A list of days.
    Days,
    /// One of a few words.
    Word(fn() -> Vec<&'static str>),
    Table(&'static TableShape),
    /// Any number of tables.
    Tables(&'static TableShape),
    /// A table, or what says the same in short.
    Or(&'static KeyKind, &'static TableShape),
    /// Facts: whatever JSON can say.
    Facts,
}

/// Returns the words of a list of them, each with what it means.
pub(super) fn words<T>(all: &[(&'static str, T)]) -> Vec<&'static str> {
    all.iter().map(|(word, _)| *word).collect()
}

impl TableKey {
    pub const fn new(name: &'static str, kind: KeyKind, about: &'static str) -> Self {
        Self { name, kind, about }
    }
}

impl TableShape {
    pub const fn new(name: &'static str, keys: &'static [&'static [TableKey]]) -> Self {
        Self { name, keys, others: None, needs: &[], with: &[] }
    }

    pub const fn needs(mut self, needs: &'static [&'static [&'static str]]) -> Self {
        self.needs = needs;
        self
    }

    pub const fn with(mut self, with: &'static [(&'static str, &'static str)]) -> Self {
        self.with = with;
        self
    }

    pub const fn others(mut self, others: KeyKind) -> Self {
        self.others = Some(others);
        self
    }

    pub fn keys(&self) -> impl Iterator<Item = &'static TableKey> {
        self.keys.iter().copied().flatten()
    }

    /// Returns what stands at a key, also at one of any name.
    pub fn kind(&self, key: &str) -> Option<KeyKind> {
        self.keys().find(|known| known.name == key).map(|known| known.kind).or(self.others)
    }
}

impl KeyKind {
    /// Returns the shape of the tables that stand there.
    pub fn shape(self) -> Option<&'static TableShape> {
        match self {
            Self::NamesAndTables(shape) | Self::Table(shape) | Self::Tables(shape) | Self::Or(_, shape) => Some(shape),
            _ => None,
        }
    }
}
