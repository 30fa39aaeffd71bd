//! The keys that settings may have, each written down once: reading, complaints, the template and the reference go by it.

/// What stands behind a key where somebody writes it for the first time.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Value {
    /// What holds without it, in TOML.
    Default(&'static str),
    /// An example, in TOML; without it there is none.
    Example(&'static str),
}

impl Value {
    pub(super) fn toml(self) -> &'static str {
        match self {
            Self::Default(text) | Self::Example(text) => text,
        }
    }
}

/// A key.
#[derive(Debug, Clone, Copy)]
pub(super) struct Key {
    pub(super) name: &'static str,
    pub(super) value: Value,
    /// What is expected, without the word; empty where its type says it.
    pub(super) expected: &'static str,
    /// What it is for, in a line.
    pub(super) help: &'static str,
}

impl Key {
    pub(super) const fn default(
        name: &'static str,
        value: &'static str,
        expected: &'static str,
        help: &'static str,
    ) -> Self {
        Self { name, value: Value::Default(value), expected, help }
    }

    pub(super) const fn example(
        name: &'static str,
        value: &'static str,
        expected: &'static str,
        help: &'static str,
    ) -> Self {
        Self { name, value: Value::Example(value), expected, help }
    }
}

/// A section with its keys.
#[derive(Debug, Clone, Copy)]
pub(super) struct Section {
    /// As the reference names it.
    pub(super) head: &'static str,
    /// As the template offers it.
    pub(super) example: &'static str,
    pub(super) about: &'static str,
    pub(super) keys: &'static [Key],
}

impl Section {
    /// Whether it has a key of that name.
    pub(super) fn has(&self, name: &str) -> bool {
        self.keys.iter().any(|key| key.name == name)
    }
}
