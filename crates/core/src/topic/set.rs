//! Containment and overlap of the sets of topics that filters match, decided exactly.

use std::collections::HashSet;

use super::{Level, TopicFilter};

/// A topic that `filter` matches and no member of `union` does; `None` if the union covers the filter.
///
/// The witness has a level that occurs in no filter at the place of each wildcard, so it is as general as can be.
#[must_use]
pub fn uncovered<'a>(filter: &TopicFilter, union: impl IntoIterator<Item = &'a TopicFilter> + Clone) -> Option<String> {
    uncovered_named(filter, union, "x")
}

/// [`uncovered`] with a name of the caller's in place of `x`, or one that begins so, for the levels that are free.
pub(super) fn uncovered_named<'a>(
    filter: &TopicFilter,
    union: impl IntoIterator<Item = &'a TopicFilter> + Clone,
    name: &str,
) -> Option<String> {
    let base = filter.levels().len();
    let last = if filter.is_open() {
        // Past the longest member only members that end in `#` can match, and they match every such length alike.
        union.clone().into_iter().map(|member| member.levels().len()).max().unwrap_or(0).max(base) + 1
    } else {
        base
    };
    (shortest(filter)..=last)
        .find(|&len| !union.clone().into_iter().any(|member| covers_at(member, filter, len)))
        .map(|len| witness(filter, len, union, name))
}

/// The least number of levels that a topic which `filter` matches can have: no topic has none, nor one empty level.
fn shortest(filter: &TopicFilter) -> usize {
    match filter.levels() {
        [] => 1,
        [Level::Is(only)] if only.is_empty() => 2,
        levels => levels.len(),
    }
}

/// Whether `member` matches every topic of `len` levels that `filter` matches.
fn covers_at(member: &TopicFilter, filter: &TopicFilter, len: usize) -> bool {
    let fits = if member.is_open() { member.levels().len() <= len } else { member.levels().len() == len };
    fits && member.levels().iter().enumerate().all(|(at, have)| match (have, filter.levels().get(at)) {
        (Level::Is(have), Some(Level::Is(want))) => have == want,
        (Level::Is(_), _) => false,
        // A leading wildcard leaves `$` topics out: it covers a wildcard, and a text that does not begin with `$`.
        (Level::Any, Some(Level::Is(want))) => at > 0 || !want.starts_with('$'),
        (Level::Any, _) => true,
    }) && (!member.levels().is_empty()
        || !matches!(filter.levels().first(), Some(Level::Is(first)) if first.starts_with('$')))
}

/// The most general topic of `len` levels that `filter` matches: a level named in no filter for every wildcard.
fn witness<'a>(
    filter: &TopicFilter,
    len: usize,
    others: impl IntoIterator<Item = &'a TopicFilter>,
    name: &str,
) -> String {
    fn names(filter: &TopicFilter) -> impl Iterator<Item = &str> {
        filter.levels().iter().filter_map(|level| match level {
            Level::Is(text) => Some(&**text),
            Level::Any => None,
        })
    }
    let mut named: HashSet<&str> = names(filter).collect();
    for other in others {
        named.extend(names(other));
    }
    let mut fresh = name.to_owned();
    while named.contains(fresh.as_str()) {
        fresh.push_str(name);
    }
    let levels: Vec<&str> = (0..len)
        .map(|at| match filter.levels().get(at) {
            Some(Level::Is(text)) => text,
            _ => fresh.as_str(),
        })
        .collect();
    levels.join("/")
}

/// A topic that both filters match; `None` if there is none.
#[must_use]
pub fn overlap(a: &TopicFilter, b: &TopicFilter) -> Option<String> {
    intersection(a, b).map(|both| witness(&both, shortest(&both), [a, b], "x"))
}

/// The filter for exactly the topics that both match, which is always one filter; `None` if there is no such topic.
#[must_use]
pub fn intersection(a: &TopicFilter, b: &TopicFilter) -> Option<TopicFilter> {
    let (short, long) = if a.levels().len() <= b.levels().len() { (a, b) } else { (b, a) };
    if short.levels().len() < long.levels().len() && !short.is_open() {
        return None;
    }
    let mut merged = Vec::with_capacity(long.levels().len());
    for (at, level) in long.levels().iter().enumerate() {
        let other = short.levels().get(at).unwrap_or(&Level::Any);
        merged.push(match (level, other) {
            (Level::Is(one), Level::Is(two)) if one != two => return None,
            (Level::Is(text), Level::Any) | (Level::Any, Level::Is(text)) if at == 0 && text.starts_with('$') => {
                return None;
            }
            (Level::Is(text), _) | (_, Level::Is(text)) => Level::Is(text.clone()),
            (Level::Any, Level::Any) => Level::Any,
        });
    }
    let both = TopicFilter::from_levels(merged, short.is_open() && long.is_open());
    (both.is_open() || both.levels().len() == shortest(&both)).then_some(both)
}

#[cfg(test)]
pub(super) mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::topic::TopicName;

    fn filter(text: &str) -> TopicFilter {
        text.parse().unwrap()
    }

    #[test]
    fn containment_by_example() {
        let cases: &[(&str, &[&str], Option<&str>)] = &[
            ("a/+", &["a/#"], None),
            ("a/#", &["a/+"], Some("a")),
            ("a/#", &["a", "a/+"], Some("a/x/x")),
            ("a/#", &["a", "a/+", "a/+/#"], None),
            ("#", &["+", "+/#"], None),
            ("#", &["+/#"], None),
            ("$SYS/a", &["#"], Some("$SYS/a")),
            ("$SYS/a", &["$SYS/+"], None),
            ("+", &["a", "b"], Some("x")),
            ("x/+", &["x/x", "x/xx"], Some("x/xxx")),
            ("a/b", &[], Some("a/b")),
        ];
        for (of, union, want) in cases {
            let union: Vec<_> = union.iter().map(|text| filter(text)).collect();
            assert_eq!(uncovered(&filter(of), &union).as_deref(), *want, "{of} in {union:?}");
        }
    }

    #[test]
    fn overlap_by_example() {
        for (a, b, want) in [
            ("a/+", "+/b", Some("a/b")),
            ("a/#", "a", Some("a")),
            ("a/#", "b/#", None),
            ("a/b/c", "a/#", Some("a/b/c")),
            ("a", "a/+", None),
            ("#", "$SYS/x", None),
            ("+/x", "$SYS/x", None),
            ("$SYS/#", "$SYS/+", Some("$SYS/x")),
            ("#", "#", Some("x")),
        ] {
            assert_eq!(overlap(&filter(a), &filter(b)).as_deref(), want, "{a} and {b}");
            assert_eq!(overlap(&filter(b), &filter(a)).is_some(), want.is_some(), "{b} and {a}");
        }
    }

    /// Levels that random filters name, and one that none of them does: the unbounded alphabet, as far as they can tell.
    const NAMED: [&str; 3] = ["a", "$b", ""];
    const ALPHABET: [&str; 4] = ["a", "$b", "", "other"];
    /// Longer than any random filter by two, so that `#` is seen past the longest.
    const LONGEST: usize = 5;

    pub(crate) fn any_filter() -> impl Strategy<Value = TopicFilter> {
        let level = prop_oneof![
            3 => proptest::sample::select(&NAMED[..]).prop_map(|text| Level::Is(text.into())),
            2 => Just(Level::Any)
        ];
        (proptest::collection::vec(level, 0..=3), any::<bool>())
            .prop_map(|(levels, open)| TopicFilter::from_levels(levels.clone(), open || levels.is_empty()))
            .prop_filter("the empty text is no filter", |filter| !filter.to_string().is_empty())
    }

    fn all_topics() -> Vec<String> {
        let mut topics: Vec<Vec<&str>> = vec![vec![]];
        let mut all = Vec::new();
        for _ in 0..LONGEST {
            topics = topics
                .iter()
                .flat_map(|topic| ALPHABET.iter().map(move |level| [topic.as_slice(), &[*level]].concat()))
                .collect();
            all.extend(topics.iter().map(|levels| levels.join("/")).filter(|topic| !topic.is_empty()));
        }
        all
    }

    /// Every topic that matters for random filters.
    pub(crate) static TOPICS: std::sync::LazyLock<Vec<String>> = std::sync::LazyLock::new(all_topics);

    /// For each of [`TOPICS`] whether the filter matches it.
    pub(crate) fn members(filter: &TopicFilter) -> Vec<bool> {
        TOPICS.iter().map(|topic| filter.matches(TopicName::parse(topic).unwrap())).collect()
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(100_000))]

        #[test]
        fn containment_and_overlap_agree_with_brute_force(
            of in any_filter(),
            union in proptest::collection::vec(any_filter(), 0..4),
        ) {
            let matches = |filter: &TopicFilter, topic: &str| filter.matches(TopicName::parse(topic).unwrap());
            let in_of = members(&of);
            let in_members: Vec<Vec<bool>> = union.iter().map(members).collect();
            let brute = (0..in_of.len()).any(|at| in_of[at] && !in_members.iter().any(|member| member[at]));
            let exact = uncovered(&of, &union);
            prop_assert_eq!(exact.is_some(), brute, "{} in {:?}: {:?}", of, union, exact);
            if let Some(topic) = exact {
                prop_assert!(matches(&of, &topic) && !union.iter().any(|member| matches(member, &topic)), "{}", topic);
            }
            for (member, in_member) in union.iter().zip(&in_members) {
                let both: Vec<bool> = in_of.iter().zip(in_member).map(|(a, b)| *a && *b).collect();
                let exact = intersection(&of, member);
                let found = exact.as_ref().map_or_else(|| vec![false; both.len()], members);
                prop_assert_eq!(&found, &both, "{} and {}: {:?}", of, member, exact);
                let topic = overlap(&of, member);
                prop_assert_eq!(topic.is_some(), both.contains(&true), "{} and {}: {:?}", of, member, topic);
                if let Some(topic) = topic {
                    prop_assert!(matches(&of, &topic) && matches(member, &topic), "{}", topic);
                }
            }
        }

        #[test]
        fn display_and_parse_agree(filter in any_filter()) {
            prop_assert_eq!(filter.to_string().parse::<TopicFilter>(), Ok(filter));
        }
    }
}
