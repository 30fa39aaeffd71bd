//! Whether a condition can hold for any device at all.

use super::{Comparison, Condition, Field, Found, TextTest};

/// The most conjunctions that are looked at; beyond that a condition counts as possible.
const MAX_TERMS: usize = 1_000;

/// A comparison, or its negation.
type Literal<'c> = (&'c Condition, bool);

impl Condition {
    /// Whether it contradicts itself, such as `kind = cabin and kind = station`. Sure if it says yes; a yes may be missed
    /// where times or orders contradict each other, or where the condition is very large.
    #[must_use]
    pub fn never_holds(&self) -> bool {
        terms(self, false).is_some_and(|terms| terms.iter().all(|term| contradicts(term)))
    }
}

/// The condition, or its negation, as alternatives of conjunctions; `None` if there are too many.
fn terms(condition: &Condition, negated: bool) -> Option<Vec<Vec<Literal<'_>>>> {
    match (condition, negated) {
        (Condition::Not(part), negated) => terms(part, !negated),
        (Condition::Group(_, Some(rule)), negated) => terms(rule, negated),
        (Condition::All(parts), false) | (Condition::Any(parts), true) => {
            let mut all = vec![Vec::new()];
            for part in parts {
                let more = terms(part, negated)?;
                if all.len() * more.len() > MAX_TERMS {
                    return None;
                }
                all = all.iter().flat_map(|term| more.iter().map(|next| [&term[..], &next[..]].concat())).collect();
            }
            Some(all)
        }
        (Condition::Any(parts), false) | (Condition::All(parts), true) => {
            let mut all = Vec::new();
            for part in parts {
                all.extend(terms(part, negated)?);
                if all.len() > MAX_TERMS {
                    return None;
                }
            }
            Some(all)
        }
        (leaf, negated) => Some(vec![vec![(leaf, negated)]]),
    }
}

/// Whether comparisons of one field exclude each other.
fn contradicts(term: &[Literal<'_>]) -> bool {
    let field_of = |condition: &Condition| match condition {
        Condition::Text(field, _) => Some(field.clone()),
        _ => None,
    };
    let mut fields: Vec<Field> = term.iter().filter_map(|(condition, _)| field_of(condition)).collect();
    fields.sort();
    fields.dedup();
    fields.iter().any(|field| {
        let tests: Vec<(&TextTest, bool)> = term
            .iter()
            .filter_map(|(condition, negated)| match condition {
                Condition::Text(of, test) if of == field => Some((test, *negated)),
                _ => None,
            })
            .collect();
        // No value does where a comparison wants one; every id and kind is known.
        let always_known = matches!(field, Field::Id | Field::Kind | Field::State);
        let passes = |found: Found<'_>| {
            tests.iter().all(|(test, negated)| match found {
                Found::Is(found) => test.passes(found) != *negated,
                _ => *negated && !always_known,
            })
        };
        let named: Option<&[String]> = tests.iter().find_map(|(test, negated)| match (test, negated) {
            (TextTest::Compared(Comparison::Is, value), false) => Some(std::slice::from_ref(value)),
            (TextTest::In(values), false) => Some(values),
            _ => None,
        });
        match named {
            Some(values) => !values.iter().any(|value| passes(Found::Is(value))),
            // Any value at all would have to be known and not known.
            None => {
                let wants_none = tests.iter().any(|(test, negated)| **test == TextTest::Known && *negated);
                wants_none && !passes(Found::Missing)
            }
        }
    })
}
