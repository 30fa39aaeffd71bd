//! The one layout of policy files. Comments stay, blank lines stay as one, and laying a file out twice changes nothing.

use std::ops::Range;

use crate::text::{Source, TextError};

use super::item::{Item, Kind};
use super::read::read_with_items;

/// The widest topic that the limits behind it are aligned for, in characters.
const WIDEST: usize = 48;

/// What stands on one line or more of its own.
enum Piece<'a> {
    Item(&'a Item, Option<&'a str>),
    Comment(Range<usize>, &'a str),
}

impl Piece<'_> {
    fn range(&self) -> Range<usize> {
        match self {
            Self::Item(item, _) => item.range.clone(),
            Self::Comment(range, _) => range.clone(),
        }
    }
}

/// Lays a policy file out.
///
/// # Errors
/// Every place where it is not one.
pub fn layout(source: &Source) -> Result<String, Vec<TextError>> {
    let (items, comments) = read_with_items(source)?;
    let entries = entries(source, &items, &comments);
    let mut out = String::new();
    let mut inside = false;
    let mut at = 0;
    while at < entries.len() {
        let gap = at.checked_sub(1).and_then(|before| entries.get(before)).map(|before| {
            let between = source.text.get(before.range().end..entries[at].range().start).unwrap_or_default();
            between.matches('\n').count() > 1
        });
        match &entries[at] {
            Piece::Comment(_, text) => {
                let after_close = matches!(entries.get(at.wrapping_sub(1)), Some(Piece::Item(item, _)) if matches!(item.kind, Kind::Close));
                if gap == Some(true) || after_close || starts_body(&entries, at) {
                    out.push('\n');
                }
                out.push_str(&format!("{}{text}\n", if inside { "  " } else { "" }));
                at += 1;
            }
            Piece::Item(item, trailing) => match &item.kind {
                Kind::Open(name) => {
                    let own_comment = matches!(entries.get(at.wrapping_sub(1)), Some(Piece::Comment(..)));
                    if gap.is_some() && (!own_comment || gap == Some(true)) {
                        out.push('\n');
                    }
                    push(&mut out, &format!("policy {name} {{"), *trailing);
                    inside = true;
                    at += 1;
                }
                Kind::Head(word, text) => {
                    push(&mut out, &format!("  {word:<5} {text}"), *trailing);
                    at += 1;
                }
                Kind::Close => {
                    push(&mut out, "}", *trailing);
                    inside = false;
                    at += 1;
                }
                Kind::Rule(..) | Kind::Line(_) => {
                    if gap == Some(true) || starts_body(&entries, at) {
                        out.push('\n');
                    }
                    at = block(source, &entries, at, &mut out);
                }
            },
        }
    }
    Ok(out)
}

/// Whether the first thing behind `for` stands here.
fn starts_body(entries: &[Piece<'_>], at: usize) -> bool {
    matches!(entries.get(at.wrapping_sub(1)), Some(Piece::Item(item, _)) if matches!(item.kind, Kind::Head("for", _)))
}

fn push(out: &mut String, line: &str, trailing: Option<&str>) {
    out.push_str(line.trim_end());
    if let Some(comment) = trailing {
        out.push_str("  ");
        out.push_str(comment);
    }
    out.push('\n');
}

/// Statements without a blank line between them, whose columns are aligned; gives the place behind them.
fn block(source: &Source, entries: &[Piece<'_>], start: usize, out: &mut String) -> usize {
    let mut end = start;
    while let Some(entry @ Piece::Item(item, _)) = entries.get(end) {
        let is_statement = matches!(item.kind, Kind::Rule(..) | Kind::Line(_));
        let gap = end > start && {
            let between = source.text.get(entries[end - 1].range().end..entry.range().start).unwrap_or_default();
            between.matches('\n').count() > 1
        };
        if !is_statement || gap {
            break;
        }
        end += 1;
    }
    let items = || {
        entries[start..end].iter().filter_map(|entry| match entry {
            Piece::Item(item, trailing) => Some((item, *trailing)),
            Piece::Comment(..) => None,
        })
    };
    let width = items()
        .filter_map(|(item, _)| match &item.kind {
            Kind::Rule(_, subject, rest) if !rest.is_empty() => Some(subject.chars().count()),
            _ => None,
        })
        .filter(|width| *width <= WIDEST)
        .max()
        .unwrap_or(0);
    for (item, trailing) in items() {
        match &item.kind {
            Kind::Rule(head, subject, rest) if rest.is_empty() => push(out, &format!("  {head} {subject}"), trailing),
            Kind::Rule(head, subject, rest) => push(out, &format!("  {head} {subject:<width$}  {rest}"), trailing),
            Kind::Line(line) => push(out, &format!("  {line}"), trailing),
            Kind::Open(_) | Kind::Head(..) | Kind::Close => {}
        }
    }
    end
}

/// Items and comments in the order in which they are laid out. A comment inside an item goes before it; one behind an item
/// on the same line stays there.
fn entries<'a>(source: &'a Source, items: &'a [Item], comments: &[Range<usize>]) -> Vec<Piece<'a>> {
    let text = |range: &Range<usize>| source.text.get(range.clone()).unwrap_or_default().trim_end();
    let mut waiting = comments.iter().peekable();
    let mut all = Vec::new();
    for (at, item) in items.iter().enumerate() {
        while let Some(comment) = waiting.next_if(|comment| comment.start < item.range.end) {
            all.push(Piece::Comment(comment.clone(), text(comment)));
        }
        // A comment behind the last thing of a line belongs to that.
        let next = items.get(at + 1).map_or(usize::MAX, |next| next.range.start);
        let trailing = waiting.next_if(|comment| {
            let between = source.text.get(item.range.end..comment.start).unwrap_or_default();
            comment.start < next && !between.contains('\n')
        });
        all.push(Piece::Item(item, trailing.map(text)));
    }
    all.extend(waiting.map(|comment| Piece::Comment(comment.clone(), text(comment))));
    all
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::policy::read_file;
    use crate::policy::tests::{any_policy, without_places};

    fn laid(text: &str) -> String {
        layout(&Source::new("p", text)).unwrap()
    }

    #[test]
    fn columns_are_aligned_and_comments_stay() {
        let text = "# Who may do what.\n\n# vanes\npolicy  vane{about \"x\" # short\n\nfor kind=windvane\nallow connect as \"{device}\"\n\
                    allow publish \"rope/{site}/{device}/wind\" qos<=1,size<=2048 # often\n  # why not\ndeny publish \"rope/+/+/brake\" because \"x\"\n\n\n\
                    sole publish # claimed\n \"rope/{device}\" expect wv-1 publish \"a\" denied\n# end\n} policy b { for id = b }\n# last";
        let want = "# Who may do what.\n\n# vanes\npolicy vane {\n  about \"x\"  # short\n  for   kind = windvane\n\n  allow connect   as \"{device}\"\n  \
                    allow publish   \"rope/{site}/{device}/wind\"  qos <= 1, size <= 2KiB  # often\n  # why not\n  \
                    deny  publish   \"rope/+/+/brake\"  because \"x\"\n\n  # claimed\n  sole publish \"rope/{device}\"\n  \
                    expect wv-1 publish \"a\" denied\n  # end\n}\n\npolicy b {\n  for   id = b\n}\n\n# last\n";
        assert_eq!(laid(text), want);
        assert_eq!(laid(want), want);
        assert_eq!(laid(""), "");
    }

    proptest! {
        #[test]
        fn laying_out_twice_changes_nothing_and_nothing_is_lost(
            policies in proptest::collection::vec(any_policy(), 0..3),
            noise in proptest::collection::vec(("[ \n]{0,3}", proptest::option::of("#[a-z]{0,5}\n")), 0..40),
        ) {
            // Blanks and comments are put in wherever a blank stands outside quotes.
            let (mut text, mut comments, mut quoted, mut escaped) = (String::new(), 0, false, false);
            let mut noise = noise.iter().cycle();
            for c in policies.iter().map(ToString::to_string).collect::<String>().chars() {
                text.push(c);
                quoted ^= c == '"' && !escaped;
                escaped = quoted && c == '\\' && !escaped;
                if (c == ' ' || c == '\n') && !quoted && let Some((blanks, comment)) = noise.next() {
                    text.push_str(blanks);
                    if let Some(comment) = comment {
                        text.push_str(comment);
                        comments += 1;
                    }
                }
            }
            let source = Source::new("p", &text);
            let once = layout(&source).map_err(|errors| TestCaseError::fail(format!("{errors:?}")))?;
            let again = Source::new("p", &once);
            prop_assert_eq!(&layout(&again).unwrap(), &once, "of {}", text);
            let read = |source| read_file(source).unwrap().into_iter().map(without_places).collect::<Vec<_>>();
            prop_assert_eq!(read(&source), read(&again));
            prop_assert_eq!(read_with_items(&again).unwrap().1.len(), comments);
        }
    }
}
