//! Sets of topics under union and difference, decided exactly. As two filters have one filter in common, the difference
//! of two such sets is such a set again.

use std::fmt;

use super::{TopicFilter, intersection, uncovered};

/// The topics that one filter matches, except those that others match.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Piece {
    of: TopicFilter,
    except: Vec<TopicFilter>,
}

impl From<TopicFilter> for Piece {
    fn from(of: TopicFilter) -> Self {
        Self { of, except: Vec::new() }
    }
}

impl Piece {
    /// The topics of `of` without those of each of `except`; `None` if none are left.
    pub fn new<'a>(of: TopicFilter, except: impl IntoIterator<Item = &'a TopicFilter>) -> Option<Self> {
        let mut met: Vec<TopicFilter> = except.into_iter().filter_map(|filter| intersection(&of, filter)).collect();
        met.sort();
        met.dedup();
        let piece = Self { of, except: met };
        piece.sample().is_some().then(|| piece.tidied())
    }

    /// Leaves out exceptions that others contain.
    fn tidied(self) -> Self {
        let kept = self.except.iter().enumerate().filter(|(at, filter)| {
            let contained = |(other, by): (usize, &TopicFilter)| other != *at && uncovered(filter, [by]).is_none();
            !self.except.iter().enumerate().any(contained)
        });
        let except = kept.map(|(_, filter)| filter.clone()).collect();
        Self { of: self.of, except }
    }

    /// The filter.
    #[must_use]
    pub fn of(&self) -> &TopicFilter {
        &self.of
    }

    /// What is left out of it.
    #[must_use]
    pub fn except(&self) -> &[TopicFilter] {
        &self.except
    }

    /// A topic of the piece.
    #[must_use]
    pub fn sample(&self) -> Option<String> {
        uncovered(&self.of, &self.except)
    }

    /// The pieces that are left of this one without the topics of `other`.
    fn without(self, other: &Self, into: &mut Vec<Self>) {
        let Some(common) = intersection(&self.of, &other.of) else { return into.push(self) };
        if uncovered(&common, &self.except).is_none() {
            return into.push(self);
        }
        let back = other.except.iter().filter_map(|filter| intersection(&common, filter));
        let back: Vec<Self> = back.filter_map(|filter| Self::new(filter, &self.except)).collect();
        into.extend(Self::new(self.of, self.except.iter().chain([&common])));
        into.extend(back);
    }
}

impl fmt::Display for Piece {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}", self.of)?;
        for (at, filter) in self.except.iter().enumerate() {
            write!(f, "{}{filter}", if at == 0 { " except " } else { ", " })?;
        }
        Ok(())
    }
}

/// A set of topics: the union of its pieces.
#[derive(Debug, Clone, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct TopicSet {
    pieces: Vec<Piece>,
}

impl From<TopicFilter> for TopicSet {
    fn from(filter: TopicFilter) -> Self {
        Self { pieces: vec![filter.into()] }
    }
}

impl FromIterator<Piece> for TopicSet {
    fn from_iter<I: IntoIterator<Item = Piece>>(pieces: I) -> Self {
        Self { pieces: pieces.into_iter().collect() }
    }
}

impl TopicSet {
    /// Its pieces, which may overlap.
    #[must_use]
    pub fn pieces(&self) -> &[Piece] {
        &self.pieces
    }

    /// Takes the topics of a piece away.
    pub fn remove(&mut self, other: &Piece) {
        let mut left = Vec::with_capacity(self.pieces.len());
        for piece in self.pieces.drain(..) {
            piece.without(other, &mut left);
        }
        self.pieces = left;
    }

    /// What is in this set and not in the other.
    #[must_use]
    pub fn without(&self, other: &Self) -> Self {
        let mut left = self.clone();
        for piece in &other.pieces {
            if left.is_empty() {
                break;
            }
            left.remove(piece);
        }
        left
    }

    /// Whether there is no topic in it.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.sample().is_none()
    }

    /// A topic of the set.
    #[must_use]
    pub fn sample(&self) -> Option<String> {
        self.pieces.iter().find_map(Piece::sample)
    }

    /// The same set, sorted and without pieces that others contain: for showing.
    #[must_use]
    pub fn tidied(mut self) -> Self {
        self.pieces.sort();
        self.pieces.dedup();
        let mut at = 0;
        while at < self.pieces.len() {
            let mut alone = Self { pieces: vec![self.pieces[at].clone()] };
            for (other, piece) in self.pieces.iter().enumerate() {
                if other != at {
                    alone.remove(piece);
                }
            }
            if alone.is_empty() {
                self.pieces.remove(at);
            } else {
                at += 1;
            }
        }
        self
    }
}

impl fmt::Display for TopicSet {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (at, piece) in self.pieces.iter().enumerate() {
            write!(f, "{}{piece}", if at == 0 { "" } else { "; " })?;
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::topic::set::tests::{TOPICS, any_filter, members};

    fn any_set() -> impl Strategy<Value = TopicSet> {
        let piece = (any_filter(), proptest::collection::vec(any_filter(), 0..3));
        proptest::collection::vec(piece, 0..4)
            .prop_map(|pieces| pieces.into_iter().filter_map(|(of, except)| Piece::new(of, &except)).collect())
    }

    fn in_set(set: &TopicSet) -> Vec<bool> {
        let mut all = vec![false; TOPICS.len()];
        for piece in set.pieces() {
            let mut of = members(piece.of());
            for except in piece.except() {
                for (found, out) in of.iter_mut().zip(members(except)) {
                    *found &= !out;
                }
            }
            all.iter_mut().zip(of).for_each(|(all, of)| *all |= of);
        }
        all
    }

    #[test]
    fn differences_by_example() {
        let filter = |text: &str| -> TopicFilter { text.parse().unwrap() };
        let mut set = TopicSet::from(filter("rope/#"));
        set.remove(&Piece::new(filter("rope/+/brake"), [&filter("rope/a/brake")]).unwrap());
        assert_eq!(set.to_string(), "rope/# except rope/+/brake; rope/a/brake");
        set.remove(&filter("rope/a/#").into());
        assert_eq!(set.tidied().to_string(), "rope/# except rope/a/#, rope/+/brake");
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(20_000))]

        #[test]
        fn differences_agree_with_brute_force(one in any_set(), two in any_set()) {
            let (a, b) = (in_set(&one), in_set(&two));
            let brute: Vec<bool> = a.iter().zip(&b).map(|(a, b)| *a && !*b).collect();
            let left = one.without(&two);
            prop_assert_eq!(in_set(&left), brute.clone(), "{} without {}: {}", one, two, left);
            prop_assert_eq!(left.is_empty(), !brute.contains(&true), "{} without {}: {}", one, two, left);
            prop_assert_eq!(in_set(&left.clone().tidied()), brute, "tidied {}", left);
        }
    }
}
