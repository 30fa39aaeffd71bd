//! Sets of topics under union and difference, decided exactly. As two filters have one filter in common, the difference
//! of two such sets is such a set again.

use std::collections::HashSet;
use std::fmt;

use super::set::uncovered_named;
use super::trie::{ANY_NAME, Missing, Trie, Work};
use super::{Level, TopicFilter, intersection, uncovered};

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
        if self.except.len() < 2 {
            return self;
        }
        let index = FilterIndex::of(self.except.iter());
        let kept = self.except.iter().enumerate().filter(|(at, filter)| !index.another_holds(*at, filter));
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

    /// A topic of the piece with a name of the caller's for the levels that are free.
    pub(crate) fn sample_named(&self, name: &str) -> Option<String> {
        uncovered_named(&self.of, &self.except, name)
    }

    /// The pieces that are left of this one without the topics of all `others`.
    fn without_all(self, others: &[&Self]) -> Vec<Self> {
        // Those without exceptions of their own go away in one step, however many they are.
        let plain = others.iter().filter(|other| other.except.is_empty()).map(|other| &other.of);
        let Some(rest) = Self::new(self.of, self.except.iter().chain(plain)) else { return Vec::new() };
        let mut left = vec![rest];
        for other in others.iter().filter(|other| !other.except.is_empty()) {
            let mut next = Vec::with_capacity(left.len());
            left.into_iter().for_each(|piece| piece.without(other, &mut next));
            left = next;
        }
        left
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

/// Filters by their levels, so that those that have topics in common with another are found without looking at all.
struct FilterIndex(Trie<usize>);

impl FilterIndex {
    fn of<'f>(filters: impl Iterator<Item = &'f TopicFilter>) -> Self {
        let mut trie = Trie::default();
        filters.enumerate().for_each(|(at, filter)| trie.insert_filter(filter, at));
        Self(trie)
    }

    /// The places of those that have a topic in common with `filter`, in order.
    fn meeting(&self, filter: &TopicFilter) -> Vec<usize> {
        let mut found = Vec::new();
        // The work is bounded by what is in it: every node is passed once.
        let mut work = Work::steps(u32::MAX);
        let _ = self.0.meeting(filter, (&[], Missing::Nothing), &mut work, &mut |at| {
            found.push(at);
            false
        });
        found.sort_unstable();
        found
    }

    /// Whether a filter other than the one at `place` holds every topic of `filter`. A topic with a name that occurs nowhere at
    /// the place of each wildcard finds those that do, by the argument of [`crate::topic`].
    fn another_holds(&self, place: usize, filter: &TopicFilter) -> bool {
        let names: Vec<&str> = filter
            .levels()
            .iter()
            .map(|level| match level {
                Level::Is(text) => &**text,
                Level::Any => ANY_NAME,
            })
            .collect();
        let mut candidates = Vec::new();
        let mut note = |at: usize| {
            if at != place {
                candidates.push(at);
            }
            false
        };
        if filter.is_open() {
            // What holds all lengths ends in `#`, and matches the shortest too.
            self.0.matching_open(&names, &mut note);
        } else {
            self.0.matching(&names, &[], Missing::Nothing, &mut note);
        }
        !candidates.is_empty()
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

    /// What is in this set and not in the other. Near linear where most pieces have nothing in common.
    #[must_use]
    pub fn without(&self, other: &Self) -> Self {
        // What stands in both needs no algebra.
        let same: HashSet<&Piece> = other.pieces.iter().collect();
        let index = FilterIndex::of(other.pieces.iter().map(Piece::of));
        let mut left = Self::default();
        for piece in self.pieces.iter().filter(|piece| !same.contains(piece)) {
            let met: Vec<&Piece> =
                index.meeting(piece.of()).into_iter().filter_map(|at| other.pieces.get(at)).collect();
            left.pieces.extend(piece.clone().without_all(&met));
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
        let index = FilterIndex::of(self.pieces.iter().map(Piece::of));
        let mut gone = vec![false; self.pieces.len()];
        for (at, piece) in self.pieces.iter().enumerate() {
            let others = index.meeting(piece.of()).into_iter().filter(|other| *other != at && !gone[*other]);
            let others: Vec<&Piece> = others.filter_map(|other| self.pieces.get(other)).collect();
            if !others.is_empty() && piece.clone().without_all(&others).is_empty() {
                gone[at] = true;
            }
        }
        let mut at = 0;
        self.pieces.retain(|_| {
            at += 1;
            !gone[at - 1]
        });
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
