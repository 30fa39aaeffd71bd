//! Reads tables of TOML by their keys, and notes every mistake at its place.

use toml::Spanned;
use toml::de::{DeTable, DeValue};

use super::key::{Key, Section};
use crate::text::{Source, TextError, nearest};

pub(super) struct Reader<'a> {
    pub(super) source: &'a Source,
    pub(super) errors: Vec<TextError>,
    /// Where the text is not TOML. What was read around such a place may not be what was meant.
    pub(super) broken: Vec<TextError>,
}

pub(super) type Table<'i> = DeTable<'i>;
type Value<'i> = Spanned<DeValue<'i>>;

impl Reader<'_> {
    pub(super) fn complain(&mut self, range: std::ops::Range<usize>, problem: String, expected: &str) {
        // What has no place is not there, or was not understood: not worth a word where the text is not TOML.
        if !range.is_empty() || self.broken.is_empty() {
            self.errors.push(TextError { place: self.source.place(range), problem, expected: expected.to_owned() });
        }
    }

    /// The same without what stands there, which may be a secret.
    pub(super) fn complain_hidden(&mut self, range: std::ops::Range<usize>, problem: String, expected: &str) {
        let mut place = self.source.place(range);
        place.text = place.text.chars().take(place.column - 1).chain("\"...\"".chars()).collect();
        place.width = 5;
        self.errors.push(TextError { place, problem, expected: expected.to_owned() });
    }

    /// Takes the places that are not TOML among the errors, in the place of what else was found in those lines: one for each.
    pub(super) fn add_broken(&mut self) {
        let broken = std::mem::take(&mut self.broken);
        let mut lines = std::collections::BTreeSet::new();
        self.errors.retain(|error| broken.iter().all(|other| other.place.line != error.place.line));
        self.errors.extend(broken.into_iter().filter(|error| lines.insert(error.place.line)));
    }

    /// Reports every key of `table` that the section does not have. `shown` is what errors call the section.
    pub(super) fn only(&mut self, table: &Table<'_>, shown: &str, section: &Section) {
        let known: Vec<&str> = section.keys.iter().map(|key| key.name).collect();
        self.only_these(table, shown, &known);
    }

    /// Reports every key of `table` that is not in `known`.
    pub(super) fn only_these(&mut self, table: &Table<'_>, shown: &str, known: &[&str]) {
        for key in table.keys() {
            let word: &str = key.get_ref();
            if !known.contains(&word) {
                let expected = match nearest(word, known.iter().copied()) {
                    Some(near) => format!("did you mean `{near}`?"),
                    None => format!("expected one of: {}", known.join(", ")),
                };
                self.complain(key.span(), format!("`{word}` is not a setting of {shown}"), &expected);
            }
        }
    }

    /// The table of a section, if it is there; keys that it may not have are reported.
    pub(super) fn section<'t, 'i>(
        &mut self,
        root: &'t Table<'i>,
        name: &str,
        section: &Section,
    ) -> Option<&'t Table<'i>> {
        let table = self.table(root, name)?;
        self.only(table, section.head, section);
        Some(table)
    }

    pub(super) fn table<'t, 'i>(&mut self, parent: &'t Table<'i>, key: &str) -> Option<&'t Table<'i>> {
        let value = parent.get(key)?;
        match value.get_ref() {
            DeValue::Table(table) => Some(table),
            _ => {
                self.complain(value.span(), format!("`{key}` is not a table"), &format!("expected a section [{key}]"));
                None
            }
        }
    }

    /// A text value that `parse` takes; `None` if the key is absent or wrong (which is reported).
    pub(super) fn text<T>(&mut self, table: &Table<'_>, key: &Key, parse: impl Fn(&str) -> Option<T>) -> Option<T> {
        let value = table.get(key.name)?;
        let parsed = match value.get_ref() {
            DeValue::String(text) => parse(text),
            _ => None,
        };
        if parsed.is_none() {
            self.wrong(value, key);
        }
        parsed
    }

    pub(super) fn number(&mut self, table: &Table<'_>, key: &Key, range: std::ops::RangeInclusive<u32>) -> Option<u32> {
        let value = table.get(key.name)?;
        let number = match value.get_ref() {
            DeValue::Integer(integer) => {
                u32::from_str_radix(integer.as_str(), integer.radix()).ok().filter(|number| range.contains(number))
            }
            _ => None,
        };
        if number.is_none() {
            let expected = format!("expected a whole number from {} to {}", range.start(), range.end());
            self.complain(value.span(), format!("this is not a value for `{}`", key.name), &expected);
        }
        number
    }

    pub(super) fn flag(&mut self, table: &Table<'_>, key: &Key) -> Option<bool> {
        let value = table.get(key.name)?;
        if let DeValue::Boolean(flag) = value.get_ref() {
            return Some(*flag);
        }
        self.wrong(value, key);
        None
    }

    /// The path of a file.
    pub(super) fn path(&mut self, table: &Table<'_>, key: &Key) -> Option<String> {
        self.text(table, key, |text| (!text.is_empty()).then(|| text.to_owned()))
    }

    /// A list of texts, each of which `parse` takes or complains of; `None` if the key is absent.
    pub(super) fn list<T>(
        &mut self,
        table: &Table<'_>,
        key: &Key,
        parse: impl Fn(&str) -> Result<T, String>,
    ) -> Option<Vec<T>> {
        let value = table.get(key.name)?;
        let DeValue::Array(items) = value.get_ref() else {
            self.wrong(value, key);
            return None;
        };
        let mut found = Vec::new();
        for item in items {
            let parsed = match item.get_ref() {
                DeValue::String(text) => parse(text),
                _ => Err(String::new()),
            };
            match parsed {
                Ok(parsed) => found.push(parsed),
                Err(why) if why.is_empty() => self.wrong(item, key),
                Err(why) => self.complain(item.span(), why, &format!("expected {}", key.expected)),
            }
        }
        Some(found)
    }

    /// Complains where `one` stands without `other`.
    pub(super) fn together(&mut self, table: &Table<'_>, one: &Key, other: &Key, expected: &str) {
        if let Some(value) = table.get(one.name).filter(|_| !table.contains_key(other.name)) {
            self.complain(value.span(), format!("`{}` needs `{}`", one.name, other.name), expected);
        }
    }

    fn wrong(&mut self, value: &Value<'_>, key: &Key) {
        let expected = format!("expected {}", key.expected);
        self.complain(value.span(), format!("this is not a value for `{}`", key.name), &expected);
    }

    /// The tables of the section `section` by their names, as `parse` takes them; what is wrong is reported.
    pub(super) fn named<'t, 'i, N: Ord + std::str::FromStr<Err: std::fmt::Display>>(
        &mut self,
        root: &'t Table<'i>,
        section: &str,
        example: &str,
    ) -> Vec<(N, &'t Table<'i>)> {
        let mut found = Vec::new();
        let Some(table) = self.table(root, section) else { return found };
        for (key, value) in table {
            let word: &str = key.get_ref();
            match (word.parse::<N>(), value.get_ref()) {
                (Ok(name), DeValue::Table(settings)) => found.push((name, settings)),
                (Ok(_), _) => {
                    let expected = format!("expected [{section}.{word}]");
                    self.complain(value.span(), format!("`{word}` is not a table"), &expected);
                }
                (Err(error), _) => {
                    self.complain(key.span(), error.to_string(), &format!("expected a name such as `{example}`"));
                }
            }
        }
        found
    }
}

/// Where the value of a key stands in a table of tables.
pub(super) fn span_of(root: &Table<'_>, path: &[&str]) -> Option<std::ops::Range<usize>> {
    let (first, rest) = path.split_first()?;
    let value = root.get(*first)?;
    match (value.get_ref(), rest) {
        (_, []) => Some(value.span()),
        (DeValue::Table(table), rest) => span_of(table, rest),
        _ => None,
    }
}
