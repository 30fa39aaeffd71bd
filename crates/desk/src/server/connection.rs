//! One connection: what is read before a request is there, request after request, and how it is closed.

use std::convert::Infallible;
use std::net::SocketAddr;
use std::sync::Arc;
use std::task::Poll;
use std::time::Duration;

use hyper::Request;
use hyper::body::Incoming;
use hyper_util::rt::{TokioIo, TokioTimer};
use tidy_warden_serve::strict::{MAX_HEAD, Strict};
use tokio::io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt};
use tokio::net::TcpListener;
use tokio::sync::Semaphore;

use super::exchange::respond;
use super::{Counter, STOPPING};
use crate::Event;
use crate::route::Door;
use crate::turn::{Told, Turn, Watched};

/// How long a connection may wait for the next request on it, and how long the head of one may take to come.
const HEAD_TIME: Duration = Duration::from_secs(30);

/// How long one connection may ask for more.
const CONNECTION_TIME: Duration = Duration::from_secs(600);

/// How many connections over plain HTTP there may be at once.
const MOST_PLAIN: usize = 2_000;

/// How long the last words on a connection may take.
const LAST_WORDS: Duration = Duration::from_secs(2);

/// How much of what nobody reads is waited for when a connection is closed, in octets.
const MOST_UNREAD: usize = 4 * 1024 * 1024;

/// Answers for lists on a listener without TLS.
pub(super) async fn serve_plain(counter: Arc<Counter>, listener: TcpListener) {
    let places = Arc::new(Semaphore::new(MOST_PLAIN));
    loop {
        let Ok(place) = places.clone().acquire_owned().await else { return };
        match listener.accept().await {
            Ok((stream, peer)) => {
                // Where the system does not take it, the connection works all the same.
                let _ = stream.set_nodelay(true);
                let counter = counter.clone();
                tokio::spawn(async move {
                    converse(counter, Door::Plain, stream, peer, None).await;
                    drop(place);
                });
            }
            Err(_) => tokio::time::sleep(Duration::from_millis(100)).await,
        }
    }
}

/// What comes on one connection.
pub(super) async fn converse<S: AsyncRead + AsyncWrite + Unpin + Send + 'static>(
    counter: Arc<Counter>,
    door: Door,
    stream: S,
    peer: SocketAddr,
    leaf: Option<Arc<[u8]>>,
) {
    let mut stopping = counter.stopping.clone();
    let mut stream = Strict::new(stream);
    let end = tokio::time::Instant::now() + CONNECTION_TIME;
    loop {
        // Most of the time a connection waits; what answers requests is made when there is one.
        let wait = (tokio::time::Instant::now() + HEAD_TIME).min(end);
        let is_there = tokio::select! {
            there = tokio::time::timeout_at(wait, stream.ready()) => matches!(there, Ok(Ok(()))),
            _ = stopping.wait_for(|stopping| *stopping) => false,
        };
        if !is_there {
            let (mut stream, _) = stream.into_parts();
            let _ = tokio::time::timeout(LAST_WORDS, stream.shutdown()).await;
            return;
        }
        match Box::pin(talk(counter.clone(), door, stream, peer, leaf.clone(), end)).await {
            Some(between) => stream = between,
            None => return,
        }
    }
}

/// Request after request, from the first on that is there, until none is there; gives the connection back if another may come.
async fn talk<S: AsyncRead + AsyncWrite + Unpin + Send + 'static>(
    counter: Arc<Counter>,
    door: Door,
    stream: Strict<S>,
    peer: SocketAddr,
    leaf: Option<Arc<[u8]>>,
    end: tokio::time::Instant,
) -> Option<Strict<S>> {
    let mut stopping = counter.stopping.clone();
    let (shared, turn) = (counter.clone(), Turn::default());
    let begun = turn.clone();
    let service = hyper::service::service_fn(move |request: Request<Incoming>| {
        let (counter, leaf, turn) = (shared.clone(), leaf.clone(), begun.clone());
        turn.begin();
        Box::pin(async move {
            let answer = respond(&counter, door, (peer, leaf), request).await;
            Ok::<_, Infallible>(answer.map(|body| Told::new(body, turn)))
        })
    });
    let mut connection = hyper::server::conn::http1::Builder::new()
        .timer(TokioTimer::new())
        .header_read_timeout(HEAD_TIME)
        .max_buf_size(MAX_HEAD * 2)
        .serve_connection(TokioIo::new(Watched::new(stream, turn.clone())), service);
    let mut end = std::pin::pin!(tokio::time::sleep_until(end));
    let (mut is_stopping, mut is_idle) = (false, false);
    while !is_idle {
        // It is polled without its shutdown, so that what was refused before the library saw it can be answered.
        let polled = std::future::poll_fn(|cx| match connection.poll_without_shutdown(cx) {
            Poll::Ready(_) => Poll::Ready(false),
            Poll::Pending if turn.is_over() && !is_stopping => Poll::Ready(true),
            Poll::Pending => Poll::Pending,
        });
        tokio::select! {
            idle = polled => match idle {
                true => is_idle = true,
                false => break,
            },
            () = &mut end => break,
            _ = stopping.wait_for(|stopping| *stopping), if !is_stopping => {
                is_stopping = true;
                std::pin::Pin::new(&mut connection).graceful_shutdown();
                end.as_mut().reset(tokio::time::Instant::now() + STOPPING);
            }
        }
    }
    let parts = connection.into_parts();
    let stream = parts.io.into_inner();
    // What the library read and nobody wanted is the rest of a body, and never the beginning of another request.
    if is_idle && stream.get().is_between() && parts.read_buf.is_empty() {
        return Some(stream.into_inner());
    }
    let is_amid = !stream.get().is_between();
    let (mut stream, refused) = stream.into_inner().into_parts();
    let is_unread = is_amid || refused.is_some();
    if let Some(refused) = refused {
        counter.desk.metrics.answered("http", refused.status());
        counter.desk.emit(Event::Refused {
            asked: "http",
            status: refused.status(),
            because: refused.to_string(),
            device: None,
            peer,
        });
        // Whoever does not read it does not hold anything up.
        let _ = tokio::time::timeout(LAST_WORDS, stream.write_all(refused.answer().as_bytes())).await;
    }
    let _ = tokio::time::timeout(LAST_WORDS, part(stream, is_unread)).await;
    None
}

/// Closes a connection. Who still sends what nobody reads is let finish (RFC 9112 section 9.6): what comes to a socket that is closed takes
/// the answer away from who has not read it yet.
async fn part<S: AsyncRead + AsyncWrite + Unpin>(mut stream: S, is_unread: bool) {
    let shut = stream.shutdown().await;
    if !is_unread || shut.is_err() {
        return;
    }
    let (mut octets, mut left) = (vec![0; 16 * 1024], MOST_UNREAD);
    while left > 0 {
        match stream.read(&mut octets).await {
            Ok(count) if count > 0 => left = left.saturating_sub(count),
            _ => return,
        }
    }
}
