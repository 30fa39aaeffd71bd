//! `[facts.NAME]`: facts of the ward's own, beside those that every ward knows.

use std::collections::BTreeMap;

use super::Settings;
use super::key::{Key, Section};
use super::reader::{Reader, Table};
use crate::condition::can_be_named;
use crate::fact::{BadFact, Fact, FactName, Shape};
use crate::id::LabelName;
use crate::text::nearest;

/// The keys of a fact.
pub(super) const OWN: Section = Section {
    head: "[facts.NAME]",
    example: "[facts.asset]",
    about: "Declare facts of your own. No label has the name of a fact; it changes only while no device has the fact.",
    keys: &[PATTERN, UNIQUE],
};

const PATTERN: Key = Key::example(
    "pattern",
    "\"QA-####\"",
    "1 to 64 characters, in which `#` is a digit, `?` any character and `*` any run of them",
    "the form of its values: `#` is a digit, `?` any character, `*` any run of them; without it any that a serial number may have",
);
const UNIQUE: Key = Key::default(
    "unique",
    "true",
    "true or false",
    "whether no two devices may have the same; one that two may share identifies nobody by itself",
);

/// The most facts of its own that a ward may declare.
const MOST: usize = 32;

/// A fact of the ward's own.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OwnFact {
    /// `pattern`: the form of its values, if it has one.
    pub pattern: Option<Shape>,
    /// `unique`: whether no two devices may have the same, default yes.
    pub unique: bool,
}

/// Whether no two devices may have the same value of a fact, where these are declared.
pub(super) fn is_unique(declared: &BTreeMap<LabelName, OwnFact>, name: &FactName) -> bool {
    match name {
        FactName::Own(name) => declared.get(name).is_none_or(|own| own.unique),
        _ => true,
    }
}

impl Settings {
    /// The fact that a word names in this ward.
    ///
    /// # Errors
    /// The ward has no such fact, in words, with the nearest that it has.
    pub fn fact_name(&self, word: &str) -> Result<FactName, String> {
        match FactName::parse(word) {
            Ok(FactName::Own(name)) if !self.facts.contains_key(&name) => {
                let declared = self.facts.keys().map(|name| name.as_str());
                let all: Vec<&str> = FactName::BUILT_IN.iter().map(FactName::as_str).chain(declared).collect();
                Err(match nearest(word, all.iter().copied()) {
                    Some(near) => format!("`{word}` is not a fact of this ward; did you mean `{near}`?"),
                    None => format!(
                        "`{word}` is not a fact of this ward; facts are {}; ward.toml declares others as [facts.{word}]",
                        all.join(", ")
                    ),
                })
            }
            Ok(name) => Ok(name),
            Err(error) => Err(error.to_string()),
        }
    }

    /// A fact of this ward, in its normal form.
    ///
    /// # Errors
    /// The value has not the form of the fact, in words.
    pub fn fact(&self, name: FactName, value: &str) -> Result<Fact, String> {
        let fact = Fact::new(name, value).map_err(|error: BadFact| error.to_string())?;
        match self.shape(fact.name()) {
            Some(pattern) if !pattern.fits(fact.value()) => Err(format!(
                "the {} `{}` is not valid: expected the form {pattern} (`#` is a digit, `?` any character, `*` any run of them)",
                fact.name(),
                fact.value()
            )),
            _ => Ok(fact),
        }
    }

    fn shape(&self, name: &FactName) -> Option<&Shape> {
        match name {
            FactName::Own(name) => self.facts.get(name)?.pattern.as_ref(),
            _ => None,
        }
    }

    /// Whether a stranger may state this fact: one that every ward knows, or one of this ward's in its form.
    #[must_use]
    pub fn takes(&self, fact: &Fact) -> bool {
        match fact.name() {
            FactName::Own(name) if !self.facts.contains_key(name) => false,
            name => self.shape(name).is_none_or(|shape| shape.fits(fact.value())),
        }
    }

    /// Whether no two devices may have the same value of this fact.
    #[must_use]
    pub fn is_unique(&self, name: &FactName) -> bool {
        is_unique(&self.facts, name)
    }

    /// The ward's own facts, and whether no two devices may have the same.
    #[must_use]
    pub fn own_facts(&self) -> BTreeMap<LabelName, bool> {
        self.facts.iter().map(|(name, own)| (name.clone(), own.unique)).collect()
    }

    /// Whether a label may have this name.
    ///
    /// # Errors
    /// Why not.
    pub fn may_label(&self, name: &LabelName) -> Result<(), &'static str> {
        match (can_be_named(name), self.facts.contains_key(name)) {
            (false, _) => Err("conditions and policies use this word for something else"),
            (true, true) => Err("it is a fact of this ward, which ward.toml declares; give it as a fact"),
            (true, false) => Ok(()),
        }
    }
}

impl Reader<'_> {
    pub(super) fn own_facts(&mut self, root: &Table<'_>) -> BTreeMap<LabelName, OwnFact> {
        let mut all = BTreeMap::new();
        for (name, table) in self.named::<LabelName>(root, "facts", "asset") {
            let span = root
                .get("facts")
                .and_then(|facts| facts.get_ref().as_table())
                .and_then(|facts| facts.keys().find(|key| key.get_ref() == name.as_str()).map(toml::Spanned::span));
            if !can_be_named(&name) {
                let problem = format!("no fact of a ward's own can be named `{name}`");
                let expected = "expected a word that conditions and policies do not use for something else";
                self.complain(span.clone().unwrap_or(0..0), problem, expected);
            }
            if all.len() == MOST {
                let problem = format!("these are more than {MOST} facts of a ward's own");
                self.complain(span.unwrap_or(0..0), problem, "expected fewer; labels are for what groups devices");
                break;
            }
            self.only(table, &format!("[facts.{name}]"), &OWN);
            let pattern = self.text(table, &PATTERN, Shape::parse);
            let unique = self.flag(table, &UNIQUE).unwrap_or(true);
            all.insert(name, OwnFact { pattern, unique });
        }
        all
    }
}
