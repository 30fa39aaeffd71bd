//! When an answer is out, so that a connection on which nothing comes next can be kept without what answers requests: two buffers of the
//! HTTP library's for each of thousands that wait are most of what a desk would take.

use std::io;
use std::pin::Pin;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU8, Ordering};
use std::task::{Context, Poll};

use hyper::body::{Body, Bytes, Frame, SizeHint};
use tidy_warden_serve::strict::Strict;
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};

/// No request came yet.
const WAITS: u8 = 0;
/// One is answered.
const ANSWERS: u8 = 1;
/// The library has taken the last of the answer.
const TAKEN: u8 = 2;
/// It has gone out.
const OUT: u8 = 3;

/// How far the answer to the last request is.
#[derive(Debug, Clone, Default)]
pub(crate) struct Turn(Arc<State>);

#[derive(Debug, Default)]
struct State {
    answer: AtomicU8,
    /// Whether the library was given a part of a request whose rest is to come.
    is_amid: AtomicBool,
}

impl Turn {
    /// A request came.
    pub(crate) fn begin(&self) {
        self.0.answer.store(ANSWERS, Ordering::Release);
    }

    /// Whether the answer to the last request has gone out, all of that request was read, and no other came. Who still sends is left to
    /// the library, which waits until the answer can have been read.
    pub(crate) fn is_over(&self) -> bool {
        self.0.answer.load(Ordering::Acquire) == OUT && !self.0.is_amid.load(Ordering::Acquire)
    }

    fn goes(&self, from: u8, to: u8) {
        let _ = self.0.answer.compare_exchange(from, to, Ordering::AcqRel, Ordering::Acquire);
    }
}

/// The body of an answer, which says when it was taken.
#[derive(Debug)]
pub(crate) struct Told<B> {
    body: B,
    turn: Turn,
}

impl<B> Told<B> {
    pub(crate) fn new(body: B, turn: Turn) -> Self {
        Self { body, turn }
    }
}

impl<B> Drop for Told<B> {
    fn drop(&mut self) {
        // The library lets go of a body when all of it is in its buffers, or will never be.
        self.turn.goes(ANSWERS, TAKEN);
    }
}

impl<B: Body<Data = Bytes> + Unpin> Body for Told<B> {
    type Data = Bytes;
    type Error = B::Error;

    fn poll_frame(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<Option<Result<Frame<Bytes>, Self::Error>>> {
        Pin::new(&mut self.body).poll_frame(cx)
    }

    fn is_end_stream(&self) -> bool {
        self.body.is_end_stream()
    }

    fn size_hint(&self) -> SizeHint {
        self.body.size_hint()
    }
}

/// A connection that says when all that was written has gone out, and whether what was read is whole requests.
pub(crate) struct Watched<S> {
    stream: Strict<S>,
    turn: Turn,
}

impl<S> Watched<S> {
    pub(crate) fn new(stream: Strict<S>, turn: Turn) -> Self {
        debug_assert_eq!(turn.0.answer.load(Ordering::Relaxed), WAITS, "each connection begins anew");
        Self { stream, turn }
    }

    pub(crate) fn get(&self) -> &Strict<S> {
        &self.stream
    }

    pub(crate) fn into_inner(self) -> Strict<S> {
        self.stream
    }
}

impl<S: AsyncRead + Unpin> AsyncRead for Watched<S> {
    fn poll_read(mut self: Pin<&mut Self>, cx: &mut Context<'_>, buf: &mut ReadBuf<'_>) -> Poll<io::Result<()>> {
        let read = Pin::new(&mut self.stream).poll_read(cx, buf);
        self.turn.0.is_amid.store(!self.stream.is_between(), Ordering::Release);
        read
    }
}

impl<S: AsyncWrite + Unpin> AsyncWrite for Watched<S> {
    fn poll_write(mut self: Pin<&mut Self>, cx: &mut Context<'_>, buf: &[u8]) -> Poll<io::Result<usize>> {
        Pin::new(&mut self.stream).poll_write(cx, buf)
    }

    fn poll_flush(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        let flushed = Pin::new(&mut self.stream).poll_flush(cx);
        // The library asks for it when its own buffer is empty.
        if matches!(flushed, Poll::Ready(Ok(()))) {
            self.turn.goes(TAKEN, OUT);
        }
        flushed
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.stream).poll_shutdown(cx)
    }

    fn poll_write_vectored(
        mut self: Pin<&mut Self>,
        cx: &mut Context<'_>,
        bufs: &[io::IoSlice<'_>],
    ) -> Poll<io::Result<usize>> {
        Pin::new(&mut self.stream).poll_write_vectored(cx, bufs)
    }

    fn is_write_vectored(&self) -> bool {
        self.stream.is_write_vectored()
    }
}

#[cfg(test)]
mod tests {
    use http_body_util::Full;
    use tokio::io::{AsyncReadExt, AsyncWriteExt};

    use super::*;

    #[tokio::test]
    async fn an_answer_is_out_when_it_was_taken_and_sent_and_not_before() {
        let turn = Turn::default();
        let (near, mut far) = tokio::io::duplex(256);
        let mut stream = Watched::new(Strict::new(near), turn.clone());
        stream.flush().await.unwrap();
        assert!(!turn.is_over(), "nobody asked yet");
        turn.begin();
        let body = Told::new(Full::new(Bytes::from_static(b"yes")), turn.clone());
        stream.flush().await.unwrap();
        assert!(!turn.is_over(), "what was sent was something else");
        drop(body);
        assert!(!turn.is_over(), "it is in a buffer");
        stream.write_all(b"yes").await.unwrap();
        stream.flush().await.unwrap();
        assert!(turn.is_over());
        // Another comes, whose body is not there yet.
        far.write_all(b"POST / HTTP/1.1\r\nHost: a\r\nContent-Length: 4\r\n\r\nab").await.unwrap();
        let mut octets = [0; 200];
        assert!(stream.read(&mut octets).await.unwrap() > 40);
        turn.begin();
        assert!(!turn.is_over(), "another came");
        drop(Told::new(Full::new(Bytes::new()), turn.clone()));
        stream.flush().await.unwrap();
        assert!(!turn.is_over(), "its rest is to come");
        far.write_all(b"cd").await.unwrap();
        while stream.read(&mut octets).await.unwrap() > 0 && !turn.is_over() {}
        assert!(turn.is_over());
    }
}
