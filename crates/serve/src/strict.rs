//! HTTP/1.1 as RFC 9112 has it, in front of a library that is lenient: heads of requests are looked at before it sees them. What one
//! server reads as one request and another as two is how requests are smuggled, so that whatever could be read in two ways is refused.

use std::io;
use std::pin::Pin;
use std::task::{Context, Poll, ready};

use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};

/// The longest head of a request, in octets.
pub const MAX_HEAD: usize = 16 * 1024;

/// How a request's body ends (RFC 9112 section 6.3).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Framing {
    /// After so many octets.
    Length(u64),
    /// With the last chunk.
    Chunked,
}

/// Why a head is refused.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum BadHead {
    /// It could be read in more than one way, or in none.
    #[error("the request is not one of HTTP/1.1: {0}")]
    Malformed(&'static str),
    /// It is longer than [`MAX_HEAD`].
    #[error("the head of the request is too large")]
    TooLarge,
    /// A transfer coding other than chunked.
    #[error("the transfer coding is not implemented")]
    Coding,
}

impl BadHead {
    /// The status of that answer (RFC 9110 section 15).
    #[must_use]
    pub fn status(self) -> u16 {
        match self {
            Self::Malformed(_) => 400,
            Self::TooLarge => 431,
            Self::Coding => 501,
        }
    }

    /// The answer to it, after which the connection is closed.
    #[must_use]
    pub fn answer(self) -> String {
        let reason = match self {
            Self::Malformed(_) => "Bad Request",
            Self::TooLarge => "Request Header Fields Too Large",
            Self::Coding => "Not Implemented",
        };
        let status = format!("{} {reason}", self.status());
        let body = format!("{self}\n");
        format!(
            "HTTP/1.1 {status}\r\nContent-Type: text/plain; charset=utf-8\r\nContent-Length: {}\r\nConnection: close\r\n\r\n{body}",
            body.len()
        )
    }
}

/// Whether an octet may stand in a token (RFC 9110 section 5.6.2).
fn is_token(octet: &u8) -> bool {
    octet.is_ascii_alphanumeric() || b"!#$%&'*+-.^_`|~".contains(octet)
}

/// Looks at a head, the empty line at its end included.
///
/// # Errors
/// Why it is refused.
pub fn check(head: &[u8]) -> Result<Framing, BadHead> {
    use BadHead::Malformed;
    // One empty line before it is passed over (RFC 9112 section 2.2).
    let head = head.strip_prefix(b"\r\n").unwrap_or(head);
    let head = head.strip_suffix(b"\r\n\r\n").ok_or(Malformed("it has no end"))?;
    let mut lines = Vec::new();
    let mut rest = head;
    while let Some(end) = rest.iter().position(|octet| matches!(octet, b'\r' | b'\n')) {
        let (line, behind) = rest.split_at(end);
        lines.push(line);
        rest = behind.strip_prefix(b"\r\n").ok_or(Malformed("a line does not end with CR and LF"))?;
    }
    lines.push(rest);
    let (first, fields) = lines.split_first().ok_or(Malformed("it is empty"))?;
    let is_old = request_line(first)?;
    let (mut hosts, mut length, mut chunked) = (0u32, None, false);
    for field in fields {
        let colon = field.iter().position(|octet| *octet == b':').ok_or(Malformed("a line is no field"))?;
        let (name, value) = (&field[..colon], field[colon + 1..].trim_ascii());
        // A blank before the colon, and a line that goes on with the one before, end here too.
        if name.is_empty() || !name.iter().all(is_token) {
            return Err(Malformed("the name of a field is none"));
        }
        if value.iter().any(|octet| octet.is_ascii_control() && *octet != b'\t') {
            return Err(Malformed("a field holds a control character"));
        }
        if name.eq_ignore_ascii_case(b"host") {
            hosts += 1;
            if value.iter().any(|octet| !octet.is_ascii_graphic() || b",/@?#".contains(octet)) {
                return Err(Malformed("Host is no host"));
            }
        } else if name.eq_ignore_ascii_case(b"content-length") {
            let is_number = !value.is_empty() && value.len() < 19 && value.iter().all(u8::is_ascii_digit);
            let number = std::str::from_utf8(value).ok().filter(|_| is_number).and_then(|text| text.parse().ok());
            if length.replace(number.ok_or(Malformed("Content-Length is no number"))?).is_some() {
                return Err(Malformed("it has two Content-Length fields"));
            }
        } else if name.eq_ignore_ascii_case(b"transfer-encoding") {
            if chunked {
                return Err(Malformed("it has two Transfer-Encoding fields"));
            }
            if !value.eq_ignore_ascii_case(b"chunked") {
                return Err(BadHead::Coding);
            }
            chunked = true;
        }
    }
    match (hosts, is_old) {
        (1, _) | (0, true) => {}
        (0, false) => return Err(Malformed("it has no Host field")),
        _ => return Err(Malformed("it has two Host fields")),
    }
    match (length, chunked) {
        (Some(_), true) => Err(Malformed("it has both Content-Length and Transfer-Encoding")),
        (None, true) if is_old => Err(Malformed("HTTP/1.0 has no Transfer-Encoding")),
        (None, true) => Ok(Framing::Chunked),
        (length, false) => Ok(Framing::Length(length.unwrap_or(0))),
    }
}

/// Looks at a request line (RFC 9112 section 3); says whether it is one of HTTP/1.0.
fn request_line(line: &[u8]) -> Result<bool, BadHead> {
    let bad = BadHead::Malformed("its first line is none");
    let mut words = line.split(|octet| *octet == b' ');
    let (Some(method), Some(target), Some(version), None) = (words.next(), words.next(), words.next(), words.next())
    else {
        return Err(bad);
    };
    let is_method = !method.is_empty() && method.iter().all(is_token);
    if !is_method || target.is_empty() || !target.iter().all(u8::is_ascii_graphic) {
        return Err(bad);
    }
    match version {
        b"HTTP/1.1" => Ok(false),
        b"HTTP/1.0" => Ok(true),
        _ => Err(bad),
    }
}

/// What comes next on a connection.
enum State {
    /// The head of a request.
    Head,
    /// So many octets of a body.
    Body(u64),
    /// A body in chunks: what stands behind it is not looked at, so that the answer must close the connection.
    Open,
    /// Nothing: something was refused.
    Over,
}

/// A connection on which only heads that are good come through; to whoever reads it, one that is not is its end.
pub struct Strict<S> {
    inner: S,
    state: State,
    /// What came, and was not given on.
    held: Vec<u8>,
    /// How much of that was looked at and may be given on.
    good: usize,
    /// How much of the head that is to come was looked at.
    looked: usize,
    refused: Option<BadHead>,
}

impl<S> Strict<S> {
    /// Looks at what comes on `inner`.
    pub fn new(inner: S) -> Self {
        Self { inner, state: State::Head, held: Vec::new(), good: 0, looked: 0, refused: None }
    }

    /// The connection, and why something on it was refused, if it was.
    pub fn into_parts(self) -> (S, Option<BadHead>) {
        (self.inner, self.refused)
    }

    /// Whether all that was given on was whole requests: what comes next is another.
    #[must_use]
    pub fn is_between(&self) -> bool {
        matches!(self.state, State::Head) && self.good == 0
    }

    fn refuse(&mut self, why: BadHead) {
        self.refused = Some(why);
        self.state = State::Over;
        self.held.clear();
    }

    /// Looks at what is held as far as it goes.
    fn look(&mut self) {
        while self.good < self.held.len() {
            let (good, rest) = (self.good, self.held.len() - self.good);
            match self.state {
                State::Head => {
                    let head = self.held.get(good..).unwrap_or_default();
                    let from = if head.starts_with(b"\r\n") { 2 } else { 0 };
                    // What was looked at before is not looked at again, however slowly the rest comes.
                    let before = self.looked.saturating_sub(3).max(from);
                    let end = head.get(before..).unwrap_or_default();
                    let end = end.windows(4).position(|octets| octets == b"\r\n\r\n").map(|at| before + at + 4);
                    // Whoever ends lines otherwise would be waited for in vain.
                    let is_bare = (before..rest).any(|at| {
                        head.get(at) == Some(&b'\n') && at.checked_sub(1).and_then(|at| head.get(at)) != Some(&b'\r')
                    });
                    self.looked = if end.is_some() { 0 } else { rest };
                    match end {
                        Some(end) if end <= MAX_HEAD => match check(head.get(..end).unwrap_or_default()) {
                            Ok(framing) => {
                                self.good += end;
                                self.state = match framing {
                                    Framing::Length(0) => State::Head,
                                    Framing::Length(length) => State::Body(length),
                                    Framing::Chunked => State::Open,
                                };
                                // The next one is looked at when this one was read.
                                if matches!(self.state, State::Head) {
                                    return;
                                }
                            }
                            Err(why) => return self.refuse(why),
                        },
                        Some(_) => return self.refuse(BadHead::TooLarge),
                        None if is_bare => {
                            return self.refuse(BadHead::Malformed("a line does not end with CR and LF"));
                        }
                        None if rest > MAX_HEAD => return self.refuse(BadHead::TooLarge),
                        None => return,
                    }
                }
                State::Body(left) => {
                    let taken = usize::try_from(left).map_or(rest, |left| left.min(rest));
                    self.good += taken;
                    let left = left - u64::try_from(taken).unwrap_or(left);
                    self.state = if left == 0 { State::Head } else { State::Body(left) };
                    if left == 0 {
                        return;
                    }
                }
                State::Open => {
                    self.good = self.held.len();
                }
                State::Over => return,
            }
        }
    }
}

impl<S: AsyncRead + Unpin> Strict<S> {
    /// Waits until there is something to be given on, or never will be: so nobody keeps buffers for a connection on which nothing comes.
    ///
    /// # Errors
    /// The connection broke.
    pub async fn ready(&mut self) -> io::Result<()> {
        std::future::poll_fn(|cx| self.poll_ready(cx)).await
    }

    /// Ready when something may be given on, or nothing will come any more.
    fn poll_ready(&mut self, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        loop {
            if self.good == 0 {
                self.look();
            }
            if self.good > 0 || matches!(self.state, State::Over) {
                return Poll::Ready(Ok(()));
            }
            let mut octets = [0; 4096];
            let mut more = ReadBuf::new(&mut octets);
            ready!(Pin::new(&mut self.inner).poll_read(cx, &mut more))?;
            if more.filled().is_empty() {
                // The other end says no more; half a head is nobody's.
                self.state = State::Over;
                return Poll::Ready(Ok(()));
            }
            self.held.extend_from_slice(more.filled());
        }
    }
}

impl<S: AsyncRead + Unpin> AsyncRead for Strict<S> {
    fn poll_read(mut self: Pin<&mut Self>, cx: &mut Context<'_>, buf: &mut ReadBuf<'_>) -> Poll<io::Result<()>> {
        let this = &mut *self;
        ready!(this.poll_ready(cx))?;
        let count = this.good.min(buf.remaining());
        buf.put_slice(this.held.get(..count).unwrap_or_default());
        this.held.drain(..count);
        this.good -= count;
        if this.held.is_empty() {
            // What comes next may be hours away.
            this.held = Vec::new();
        }
        Poll::Ready(Ok(()))
    }
}

impl<S: AsyncWrite + Unpin> AsyncWrite for Strict<S> {
    fn poll_write(mut self: Pin<&mut Self>, cx: &mut Context<'_>, buf: &[u8]) -> Poll<io::Result<usize>> {
        Pin::new(&mut self.inner).poll_write(cx, buf)
    }

    fn poll_flush(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.inner).poll_flush(cx)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.inner).poll_shutdown(cx)
    }

    fn poll_write_vectored(
        mut self: Pin<&mut Self>,
        cx: &mut Context<'_>,
        bufs: &[io::IoSlice<'_>],
    ) -> Poll<io::Result<usize>> {
        Pin::new(&mut self.inner).poll_write_vectored(cx, bufs)
    }

    fn is_write_vectored(&self) -> bool {
        self.inner.is_write_vectored()
    }
}

#[cfg(test)]
mod tests {
    use tokio::io::{AsyncReadExt, AsyncWriteExt};

    use super::*;

    const HEADS: &[(&str, Result<Framing, BadHead>)] = &[
        ("GET / HTTP/1.1\r\nHost: a\r\n\r\n", Ok(Framing::Length(0))),
        ("\r\nGET / HTTP/1.1\r\nHost: a:8443\r\n\r\n", Ok(Framing::Length(0))),
        ("GET / HTTP/1.0\r\n\r\n", Ok(Framing::Length(0))),
        ("POST /x HTTP/1.1\r\nhost:\t[::1]:9 \r\nContent-Length: 7\r\n\r\n", Ok(Framing::Length(7))),
        ("POST /x HTTP/1.1\r\nHost: a\r\nTransfer-Encoding: Chunked\r\n\r\n", Ok(Framing::Chunked)),
        ("GET / HTTP/1.1\r\n\r\n", Err(BadHead::Malformed("it has no Host field"))),
        ("GET / HTTP/1.1\r\nHost: a\r\nHost: a\r\n\r\n", Err(BadHead::Malformed("it has two Host fields"))),
        ("GET / HTTP/1.1\r\nHost: a b\r\n\r\n", Err(BadHead::Malformed("Host is no host"))),
        (
            "GET / HTTP/1.1\r\nHost: a\r\nContent-Length: 1\r\nContent-Length: 1\r\n\r\n",
            Err(BadHead::Malformed("it has two Content-Length fields")),
        ),
        (
            "GET / HTTP/1.1\r\nHost: a\r\nContent-Length: 1, 1\r\n\r\n",
            Err(BadHead::Malformed("Content-Length is no number")),
        ),
        (
            "GET / HTTP/1.1\r\nHost: a\r\nContent-Length: +1\r\n\r\n",
            Err(BadHead::Malformed("Content-Length is no number")),
        ),
        (
            "GET / HTTP/1.1\r\nHost: a\r\nContent-Length:\r\n\r\n",
            Err(BadHead::Malformed("Content-Length is no number")),
        ),
        (
            "GET / HTTP/1.1\r\nHost: a\r\nContent-Length: 99999999999999999999\r\n\r\n",
            Err(BadHead::Malformed("Content-Length is no number")),
        ),
        (
            "GET / HTTP/1.1\r\nHost: a\r\nContent-Length: 1\r\nTransfer-Encoding: chunked\r\n\r\n",
            Err(BadHead::Malformed("it has both Content-Length and Transfer-Encoding")),
        ),
        (
            "GET / HTTP/1.1\r\nHost: a\r\nTransfer-Encoding: chunked\r\nContent-Length: 1\r\n\r\n",
            Err(BadHead::Malformed("it has both Content-Length and Transfer-Encoding")),
        ),
        ("GET / HTTP/1.1\r\nHost: a\r\nTransfer-Encoding: gzip, chunked\r\n\r\n", Err(BadHead::Coding)),
        (
            "GET / HTTP/1.1\r\nHost: a\r\nTransfer-Encoding: chunked\r\nTransfer-Encoding: chunked\r\n\r\n",
            Err(BadHead::Malformed("it has two Transfer-Encoding fields")),
        ),
        (
            "GET / HTTP/1.0\r\nTransfer-Encoding: chunked\r\n\r\n",
            Err(BadHead::Malformed("HTTP/1.0 has no Transfer-Encoding")),
        ),
        ("GET / HTTP/1.1\r\nHost: a\r\nX: 1\r\n 2\r\n\r\n", Err(BadHead::Malformed("a line is no field"))),
        ("GET / HTTP/1.1\r\nHost: a\r\nX: 1\r\n y: 2\r\n\r\n", Err(BadHead::Malformed("the name of a field is none"))),
        ("GET / HTTP/1.1\r\nHost : a\r\n\r\n", Err(BadHead::Malformed("the name of a field is none"))),
        ("GET / HTTP/1.1\r\n: a\r\n\r\n", Err(BadHead::Malformed("the name of a field is none"))),
        ("GET / HTTP/1.1\nHost: a\r\n\r\n", Err(BadHead::Malformed("a line does not end with CR and LF"))),
        ("GET / HTTP/1.1\r\nHost: a\rX: b\r\n\r\n", Err(BadHead::Malformed("a line does not end with CR and LF"))),
        ("GET / HTTP/1.1\r\nHost: a\r\nX: \u{1}\r\n\r\n", Err(BadHead::Malformed("a field holds a control character"))),
        ("GET  / HTTP/1.1\r\nHost: a\r\n\r\n", Err(BadHead::Malformed("its first line is none"))),
        ("GET / HTTP/2.0\r\nHost: a\r\n\r\n", Err(BadHead::Malformed("its first line is none"))),
        ("GET /\u{e9} HTTP/1.1\r\nHost: a\r\n\r\n", Err(BadHead::Malformed("its first line is none"))),
        ("GET /\r\n\r\n", Err(BadHead::Malformed("its first line is none"))),
    ];

    #[test]
    fn what_could_be_read_in_two_ways_is_refused() {
        for (head, want) in HEADS {
            assert_eq!(check(head.as_bytes()), *want, "{head:?}");
        }
    }

    /// What comes through of what was sent in pieces of a length, and what was refused.
    async fn through(sent: &[u8], piece: usize) -> (Vec<u8>, Option<BadHead>) {
        let (near, mut far) = tokio::io::duplex(64);
        let octets = sent.to_vec();
        let sender = tokio::spawn(async move {
            for part in octets.chunks(piece) {
                // Whoever refused reads no more.
                let _ = far.write_all(part).await;
            }
        });
        let mut strict = Strict::new(near);
        let mut out = Vec::new();
        strict.read_to_end(&mut out).await.unwrap();
        let refused = strict.into_parts().1;
        sender.abort();
        (out, refused)
    }

    #[tokio::test]
    async fn good_requests_come_through_as_they_are_and_nothing_behind_a_bad_one() {
        let one = "POST /a HTTP/1.1\r\nHost: a\r\nContent-Length: 5\r\n\r\nG\n\nET";
        let two = "GET /b HTTP/1.1\r\nHost: a\r\n\r\n";
        let bad = "GET /c HTTP/1.1\r\nHost: a\r\nHost: b\r\n\r\n";
        for piece in [1, 2, 3, 7, 1000] {
            let good = format!("{one}{two}{one}");
            assert_eq!(through(good.as_bytes(), piece).await, (good.clone().into_bytes(), None), "{piece}");
            let mixed = format!("{one}{bad}{two}");
            let (out, refused) = through(mixed.as_bytes(), piece).await;
            assert_eq!((out, refused), (one.as_bytes().to_vec(), Some(BadHead::Malformed("it has two Host fields"))));
            // A line end alone is told at once, although its head has no end that anybody could wait for.
            let bare = "GET / HTTP/1.1\nHost: a\n\n";
            assert!(matches!(through(bare.as_bytes(), piece).await.1, Some(BadHead::Malformed(_))));
            let half = "GET / HTTP/1.1\r\nHo";
            assert_eq!(through(half.as_bytes(), piece).await, (Vec::new(), None));
        }
        let long = format!("GET / HTTP/1.1\r\nHost: a\r\nX: {}\r\n\r\n", "y".repeat(MAX_HEAD));
        assert_eq!(through(long.as_bytes(), 512).await, (Vec::new(), Some(BadHead::TooLarge)));
        let endless = format!("GET / HTTP/1.1\r\nX: {}", "y".repeat(MAX_HEAD + 600));
        assert_eq!(through(endless.as_bytes(), 512).await.1, Some(BadHead::TooLarge));
        assert!(BadHead::TooLarge.answer().starts_with("HTTP/1.1 431 "));
    }

    #[tokio::test]
    async fn behind_chunks_everything_comes_through() {
        let sent = "POST /a HTTP/1.1\r\nHost: a\r\nTransfer-Encoding: chunked\r\n\r\n2\r\nab\r\n0\r\n\r\nwhatever\n";
        assert_eq!(through(sent.as_bytes(), 5).await, (sent.as_bytes().to_vec(), None));
    }
}
