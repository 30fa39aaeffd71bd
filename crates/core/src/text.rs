//! Text files of ours: places in them, errors that show the place, and the words that policies and conditions share.

use std::borrow::Cow;
use std::fmt;
use std::sync::Arc;

/// The longest part of a source line that an error shows, in characters.
const SHOWN_LINE: usize = 160;

/// A text as it may stand in one line on a terminal: what would end the line, move the cursor or turn the direction of reading
/// is written out.
#[must_use]
pub fn printable(text: &str) -> Cow<'_, str> {
    let odd = |c: char| {
        c.is_control()
            || matches!(c, '\u{200e}' | '\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}' | '\u{2028}' | '\u{2029}')
    };
    if !text.contains(odd) {
        return Cow::Borrowed(text);
    }
    let mut out = String::with_capacity(text.len() + 8);
    for c in text.chars() {
        if odd(c) { out.extend(c.escape_default()) } else { out.push(c) }
    }
    Cow::Owned(out)
}

/// The same for a text of several lines, which stay, and so do tabs.
#[must_use]
pub fn printable_lines(text: &str) -> String {
    text.split_inclusive(['\n', '\t'])
        .map(|part| {
            let end = part.len() - usize::from(part.ends_with(['\n', '\t']));
            format!("{}{}", printable(&part[..end]), &part[end..])
        })
        .collect()
}

/// A text with the name that errors call it by.
#[derive(Debug, Clone)]
pub struct Source {
    /// A path relative to the ward, or a word such as `--where`.
    pub name: Arc<str>,
    /// The whole text.
    pub text: Arc<str>,
}

impl Source {
    /// A named text.
    #[must_use]
    pub fn new(name: &str, text: &str) -> Self {
        Self { name: name.into(), text: text.into() }
    }

    /// The place of `range`, byte offsets into the text; offsets beyond the end mean the end.
    #[must_use]
    pub fn place(&self, range: std::ops::Range<usize>) -> Place {
        let start = floor_boundary(&self.text, range.start);
        let end = floor_boundary(&self.text, range.end.max(start));
        let before = &self.text[..start];
        let line_start = before.rfind('\n').map_or(0, |at| at + 1);
        let line_end = self.text[start..].find('\n').map_or(self.text.len(), |at| start + at);
        let line = self.text[line_start..line_end].trim_end_matches('\r');
        let column = self.text[line_start..start].chars().count() + 1;
        let width = self.text[start..end.min(line_end).max(start)].chars().count().max(1);
        Place {
            file: self.name.clone(),
            line: before.matches('\n').count() + 1,
            column,
            width,
            text: line.chars().take(SHOWN_LINE).map(|c| if c.is_control() { ' ' } else { c }).collect(),
        }
    }
}

fn floor_boundary(text: &str, at: usize) -> usize {
    let mut at = at.min(text.len());
    while !text.is_char_boundary(at) {
        at -= 1;
    }
    at
}

/// A place in a text: for people, so lines and columns count from 1, columns in characters.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize)]
pub struct Place {
    /// The name of the text.
    pub file: Arc<str>,
    /// Line, from 1.
    pub line: usize,
    /// Column in characters, from 1.
    pub column: usize,
    /// How many characters are meant, at least 1.
    #[serde(skip)]
    pub width: usize,
    /// The line itself, shortened where it is very long.
    #[serde(skip)]
    pub text: String,
}

impl Place {
    /// The line and, under it, carets below the characters that are meant; both indented by four spaces.
    #[must_use]
    pub fn excerpt(&self) -> String {
        if self.column > SHOWN_LINE {
            return format!("    {}", self.text);
        }
        let width = self.width.min(SHOWN_LINE + 1 - self.column);
        format!("    {}\n    {}{}", self.text, " ".repeat(self.column - 1), "^".repeat(width))
    }
}

impl fmt::Display for Place {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}:{}:{}", self.file, self.line, self.column)
    }
}

/// What is wrong at a place, and what was expected there.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TextError {
    /// Where.
    pub place: Place,
    /// What is wrong, in one line.
    pub problem: String,
    /// What was expected or how to mend it, in one line.
    pub expected: String,
}

impl fmt::Display for TextError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}: {}\n{}\n    {}", self.place, self.problem, self.place.excerpt(), self.expected)
    }
}

impl std::error::Error for TextError {}

/// One word, string or sign.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Token {
    /// Letters, digits, `.`, `-`, `_`.
    Word(String),
    /// Text between double quotes; `\"` and `\\` are its only escapes.
    Text(String),
    /// One of `{ } ( ) , / = != < <= > >=`.
    Sign(&'static str),
    /// After the last one.
    End,
}

impl fmt::Display for Token {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Word(word) => write!(f, "`{word}`"),
            Self::Text(text) => write!(f, "{text:?}"),
            Self::Sign(sign) => write!(f, "`{sign}`"),
            Self::End => write!(f, "the end of the text"),
        }
    }
}

/// Reads tokens one at a time, with one of look-ahead. Comments run from `#` to the end of the line.
#[derive(Debug)]
pub struct Lexer<'a> {
    source: &'a Source,
    at: usize,
    next: Token,
    next_range: std::ops::Range<usize>,
    last_end: usize,
    comments: Vec<std::ops::Range<usize>>,
}

impl<'a> Lexer<'a> {
    /// A lexer that is to begin at the next line that [`Lexer::resume`] finds.
    pub(crate) fn unread(source: &'a Source) -> Self {
        Self { source, at: 0, next: Token::End, next_range: 0..0, last_end: 0, comments: Vec::new() }
    }

    /// After a mistake: goes on at the next line that begins with one of `words`, or at the end of the text. Nothing that was
    /// taken is read again.
    pub(crate) fn resume(&mut self, words: &[&str]) {
        let text: &'a str = &self.source.text;
        let mut at = self.last_end;
        let begins = |line: &str| {
            let line = line.trim_start();
            words.iter().any(|word| {
                line.strip_prefix(word)
                    .is_some_and(|rest| *word == "}" || !rest.starts_with(|c: char| c.is_alphanumeric()))
            })
        };
        self.at = loop {
            match text[at..].find('\n') {
                None => break text.len(),
                Some(end) => at += end + 1,
            }
            if begins(&text[at..]) {
                break at;
            }
        };
        self.comments.retain(|comment| comment.end <= self.at);
        self.next = Token::End;
        // What was found there is a word or a sign.
        let _ = self.advance();
        self.last_end = self.next_range.start;
    }

    /// Begins at the start of `source`.
    ///
    /// # Errors
    /// A first token that cannot be read.
    pub fn new(source: &'a Source) -> Result<Self, TextError> {
        let mut lexer = Self::unread(source);
        lexer.advance()?;
        lexer.last_end = 0;
        Ok(lexer)
    }

    /// The token that comes next.
    #[must_use]
    pub fn peek(&self) -> &Token {
        &self.next
    }

    /// Whether the next token is this word.
    #[must_use]
    pub fn at_word(&self, word: &str) -> bool {
        matches!(&self.next, Token::Word(next) if next == word)
    }

    /// Whether the next token is this sign.
    #[must_use]
    pub fn at_sign(&self, sign: &str) -> bool {
        matches!(&self.next, Token::Sign(next) if *next == sign)
    }

    /// Byte offset where the next token begins.
    #[must_use]
    pub fn start(&self) -> usize {
        self.next_range.start
    }

    /// Byte offset where the token taken last ended.
    #[must_use]
    pub fn end_of_last(&self) -> usize {
        self.last_end
    }

    /// The comments up to the next token, without their line ends.
    #[must_use]
    pub fn comments(&self) -> &[std::ops::Range<usize>] {
        &self.comments
    }

    /// Takes the next token.
    ///
    /// # Errors
    /// A following token that cannot be read.
    pub fn take(&mut self) -> Result<Token, TextError> {
        let token = std::mem::replace(&mut self.next, Token::End);
        self.last_end = self.next_range.end;
        self.advance()?;
        Ok(token)
    }

    /// Takes the next token if it is `sign`; says whether it was.
    ///
    /// # Errors
    /// As [`Lexer::take`].
    pub fn take_sign(&mut self, sign: &str) -> Result<bool, TextError> {
        let found = self.at_sign(sign);
        if found {
            self.take()?;
        }
        Ok(found)
    }

    /// Takes the next token if it is `word`; says whether it was.
    ///
    /// # Errors
    /// As [`Lexer::take`].
    pub fn take_word(&mut self, word: &str) -> Result<bool, TextError> {
        let found = self.at_word(word);
        if found {
            self.take()?;
        }
        Ok(found)
    }

    /// Takes `sign` or fails.
    ///
    /// # Errors
    /// Another token stands there.
    pub fn need_sign(&mut self, sign: &'static str, expected: &str) -> Result<(), TextError> {
        if self.take_sign(sign)? { Ok(()) } else { Err(self.unexpected(expected)) }
    }

    /// Takes a quoted text or fails.
    ///
    /// # Errors
    /// Another token stands there.
    pub fn need_text(&mut self, expected: &str) -> Result<String, TextError> {
        match self.peek() {
            Token::Text(_) => match self.take()? {
                Token::Text(text) => Ok(text),
                _ => Err(self.unexpected(expected)),
            },
            _ => Err(self.unexpected(expected)),
        }
    }

    /// Takes a word or fails.
    ///
    /// # Errors
    /// Another token stands there.
    pub fn need_word(&mut self, expected: &str) -> Result<String, TextError> {
        match self.peek() {
            Token::Word(_) => match self.take()? {
                Token::Word(word) => Ok(word),
                _ => Err(self.unexpected(expected)),
            },
            _ => Err(self.unexpected(expected)),
        }
    }

    /// An error about the token that comes next.
    #[must_use]
    pub fn unexpected(&self, expected: &str) -> TextError {
        self.error(self.next_range.clone(), format!("found {}", self.next), expected)
    }

    /// An error about a range of bytes.
    #[must_use]
    pub fn error(&self, range: std::ops::Range<usize>, problem: String, expected: &str) -> TextError {
        TextError { place: self.source.place(range), problem, expected: expected.to_owned() }
    }

    fn advance(&mut self) -> Result<(), TextError> {
        let text: &'a str = &self.source.text;
        let bytes = text.as_bytes();
        loop {
            match bytes.get(self.at) {
                Some(b' ' | b'\t' | b'\r' | b'\n') => self.at += 1,
                Some(b'#') => {
                    let end = text[self.at..].find('\n').map_or(text.len(), |end| self.at + end);
                    self.comments.push(self.at..end);
                    self.at = end;
                }
                _ => break,
            }
        }
        let start = self.at;
        let two = |second: u8| bytes.get(start + 1) == Some(&second);
        let sign = |sign: &'static str| (Token::Sign(sign), sign.len());
        let (token, len) = match bytes.get(start) {
            None => (Token::End, 0),
            Some(b'"') => self.quoted(start)?,
            Some(b'{') => sign("{"),
            Some(b'}') => sign("}"),
            Some(b'(') => sign("("),
            Some(b')') => sign(")"),
            Some(b',') => sign(","),
            Some(b'/') => sign("/"),
            Some(b'=') => sign("="),
            Some(b'!') if two(b'=') => sign("!="),
            Some(b'<') if two(b'=') => sign("<="),
            Some(b'<') => sign("<"),
            Some(b'>') if two(b'=') => sign(">="),
            Some(b'>') => sign(">"),
            Some(_) => {
                let in_word = |c: char| c.is_alphanumeric() || matches!(c, '.' | '-' | '_' | ':');
                let len = text[start..].find(|c| !in_word(c)).unwrap_or(text.len() - start);
                if len == 0 {
                    let found = text[start..].chars().next().unwrap_or(' ');
                    return Err(self.error(
                        start..start + found.len_utf8(),
                        format!("the character {found:?} has no meaning here"),
                        "expected a word, a quoted text, or one of { } ( ) , = != < <= > >=",
                    ));
                }
                // A point in time may end with its distance from UTC (RFC 3339).
                let is_time = bytes[start].is_ascii_digit() && text[start..start + len].contains('T');
                let distance = match text[start + len..].strip_prefix('+') {
                    Some(rest) if is_time => 1 + rest.find(|c| !in_word(c)).unwrap_or(rest.len()),
                    _ => 0,
                };
                let len = len + distance;
                (Token::Word(text[start..start + len].to_owned()), len)
            }
        };
        self.next = token;
        self.at = start + len;
        self.next_range = start..self.at;
        Ok(())
    }

    fn quoted(&self, start: usize) -> Result<(Token, usize), TextError> {
        let mut out = String::new();
        let mut chars = self.source.text[start + 1..].char_indices();
        while let Some((at, c)) = chars.next() {
            match c {
                '"' => return Ok((Token::Text(out), at + 2)),
                '\\' => match chars.next() {
                    Some((_, escaped @ ('"' | '\\'))) => out.push(escaped),
                    other => {
                        let shown = other.map_or_else(String::new, |(_, c)| c.to_string());
                        let from = start + 1 + at;
                        return Err(self.error(
                            from..from + 1 + shown.len(),
                            format!("`\\{shown}` is not an escape"),
                            "expected `\\\"` or `\\\\`; every other character stands for itself",
                        ));
                    }
                },
                '\n' => break,
                control if control.is_control() => {
                    let from = start + 1 + at;
                    return Err(self.error(
                        from..from + control.len_utf8(),
                        format!("the character {control:?} cannot stand in a text"),
                        "expected none; write a space",
                    ));
                }
                other => out.push(other),
            }
        }
        let end = self.source.text[start..].find('\n').map_or(self.source.text.len(), |at| start + at);
        Err(self.error(start..end, "this text does not end".to_owned(), "expected a closing `\"` on the same line"))
    }
}

/// `text` between double quotes, escaped as [`Token::Text`] reads it.
#[must_use]
pub fn quote(text: &str) -> String {
    format!("\"{}\"", text.replace('\\', "\\\\").replace('"', "\\\""))
}

/// The candidate nearest to `word` (at most two changes, and fewer than its length), for "did you mean".
#[must_use]
pub fn nearest<'a>(word: &str, candidates: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    let limit = 2.min(word.chars().count().saturating_sub(1));
    candidates
        .into_iter()
        .map(|candidate| (changes(word, candidate), candidate))
        .filter(|(distance, _)| *distance <= limit)
        .min()
        .map(|(_, candidate)| candidate)
}

/// Insertions, deletions, replacements and swaps of neighbours between two words (optimal string alignment).
fn changes(a: &str, b: &str) -> usize {
    let a: Vec<char> = a.chars().take(64).collect();
    let b: Vec<char> = b.chars().take(64).collect();
    let mut before = vec![0; b.len() + 1];
    let mut row: Vec<usize> = (0..=b.len()).collect();
    for i in 1..=a.len() {
        let mut next = vec![i; b.len() + 1];
        for j in 1..=b.len() {
            let replaced = row[j - 1] + usize::from(a[i - 1] != b[j - 1]);
            next[j] = replaced.min(row[j] + 1).min(next[j - 1] + 1);
            if i > 1 && j > 1 && a[i - 1] == b[j - 2] && a[i - 2] == b[j - 1] {
                next[j] = next[j].min(before[j - 2] + 1);
            }
        }
        before = row;
        row = next;
    }
    row[b.len()]
}

#[cfg(test)]
mod tests {
    use super::*;

    fn tokens(text: &str) -> Result<Vec<Token>, TextError> {
        let source = Source::new("t", text);
        let mut lexer = Lexer::new(&source)?;
        let mut all = Vec::new();
        while *lexer.peek() != Token::End {
            all.push(lexer.take()?);
        }
        Ok(all)
    }

    #[test]
    fn what_would_steer_a_terminal_is_written_out() {
        assert_eq!(printable("wind vane µ"), "wind vane µ");
        assert_eq!(printable("a\nb\t\u{1b}[2J\u{202e}c\u{85}\u{2028}"), "a\\nb\\t\\u{1b}[2J\\u{202e}c\\u{85}\\u{2028}");
        assert_eq!(printable_lines("one\n\ttwo\r\n\u{7}\n"), "one\n\ttwo\\r\n\\u{7}\n");
        assert_eq!(printable_lines(""), "");
    }

    #[test]
    fn words_texts_and_signs() {
        let all = tokens("a<=2 # x\n\"q\\\"\\\\\" != wv-1").unwrap();
        let want = [
            Token::Word("a".into()),
            Token::Sign("<="),
            Token::Word("2".into()),
            Token::Text("q\"\\".into()),
            Token::Sign("!="),
            Token::Word("wv-1".into()),
        ];
        assert_eq!(all, want);
    }

    #[test]
    fn errors_show_line_caret_and_what_was_expected() {
        let error = tokens("ok\n\tsay \"a\\n\"").unwrap_err();
        assert_eq!(
            error.to_string(),
            "t:2:8: `\\n` is not an escape\n     say \"a\\n\"\n           ^^\n    \
             expected `\\\"` or `\\\\`; every other character stands for itself"
        );
        assert!(tokens("\"open\nx\"").unwrap_err().problem.contains("does not end"));
        assert!(tokens("a ; b").unwrap_err().problem.contains("';'"));
    }

    #[test]
    fn a_very_long_line_is_not_shown_whole() {
        let error = tokens(&format!("{} ;", "a".repeat(1_000_000))).unwrap_err();
        assert!(error.to_string().len() < 400);
    }

    #[test]
    fn near_words_are_found() {
        assert_eq!(nearest("publsh", ["connect", "publish", "subscribe"]), Some("publish"));
        assert_eq!(nearest("token_lgoin", ["token_login", "key"]), Some("token_login"));
        assert_eq!(nearest("x", ["y"]), None);
        assert_eq!(nearest("colour", ["site"]), None);
    }
}
