//! MQTT over WebSocket (MQTT 5.0 section 6, RFC 6455): octets in binary messages, whose limits mean nothing.

use std::io;
use std::pin::Pin;
use std::task::{Context, Poll, ready};

use futures_util::{Sink, Stream};
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio_tungstenite::WebSocketStream;
use tokio_tungstenite::tungstenite::handshake::server::{ErrorResponse, Request, Response};
use tokio_tungstenite::tungstenite::http::{HeaderValue, StatusCode};
use tokio_tungstenite::tungstenite::protocol::WebSocketConfig;
use tokio_tungstenite::tungstenite::{Bytes, Error, Message};

/// The name of the subprotocol (MQTT 5.0 section 6).
const SUBPROTOCOL: &str = "mqtt";

const SUBPROTOCOL_HEADER: &str = "sec-websocket-protocol";

/// The octets inside a WebSocket.
pub(crate) struct WebSocket<S> {
    inner: WebSocketStream<S>,
    /// What came and was not read yet.
    rest: Bytes,
}

/// Answers the upgrade of a client that speaks MQTT; `max` is the largest MQTT packet taken.
pub(crate) async fn accept<S>(stream: S, max: usize) -> Result<WebSocket<S>, String>
where
    S: AsyncRead + AsyncWrite + Unpin,
{
    // A message may hold several packets, or part of one.
    let largest = max.saturating_add(64 * 1024);
    let config = WebSocketConfig::default()
        .max_message_size(Some(largest))
        .max_frame_size(Some(largest))
        .read_buffer_size(4 * 1024)
        .write_buffer_size(0);
    let inner = tokio_tungstenite::accept_hdr_async_with_config(stream, upgrade, Some(config))
        .await
        .map_err(|error| error.to_string())?;
    Ok(WebSocket { inner, rest: Bytes::new() })
}

#[expect(clippy::result_large_err, reason = "the library wants it so")]
fn upgrade(request: &Request, mut response: Response) -> Result<Response, ErrorResponse> {
    let offered = request.headers().get_all(SUBPROTOCOL_HEADER);
    let offered = offered.iter().filter_map(|value| value.to_str().ok()).flat_map(|value| value.split(','));
    if !offered.into_iter().any(|each| each.trim() == SUBPROTOCOL) {
        let mut refusal = ErrorResponse::new(Some("only the subprotocol mqtt is spoken here\n".to_owned()));
        *refusal.status_mut() = StatusCode::BAD_REQUEST;
        return Err(refusal);
    }
    response.headers_mut().insert(SUBPROTOCOL_HEADER, HeaderValue::from_static(SUBPROTOCOL));
    Ok(response)
}

fn broken(error: Error) -> io::Error {
    match error {
        Error::Io(error) => error,
        Error::ConnectionClosed | Error::AlreadyClosed => io::ErrorKind::BrokenPipe.into(),
        other => io::Error::new(io::ErrorKind::InvalidData, other.to_string()),
    }
}

impl<S: AsyncRead + AsyncWrite + Unpin> AsyncRead for WebSocket<S> {
    fn poll_read(mut self: Pin<&mut Self>, cx: &mut Context<'_>, into: &mut ReadBuf<'_>) -> Poll<io::Result<()>> {
        while self.rest.is_empty() {
            match ready!(Pin::new(&mut self.inner).poll_next(cx)) {
                None | Some(Ok(Message::Close(_)) | Err(Error::ConnectionClosed)) => return Poll::Ready(Ok(())),
                Some(Ok(Message::Binary(bytes))) => self.rest = bytes,
                // The library answers pings.
                Some(Ok(Message::Ping(_) | Message::Pong(_) | Message::Frame(_))) => {}
                Some(Ok(Message::Text(_))) => {
                    let why = "MQTT goes in binary messages (MQTT 5.0 section 6)";
                    return Poll::Ready(Err(io::Error::new(io::ErrorKind::InvalidData, why)));
                }
                Some(Err(error)) => return Poll::Ready(Err(broken(error))),
            }
        }
        let len = self.rest.len().min(into.remaining());
        into.put_slice(&self.rest.split_to(len));
        Poll::Ready(Ok(()))
    }
}

impl<S: AsyncRead + AsyncWrite + Unpin> AsyncWrite for WebSocket<S> {
    fn poll_write(mut self: Pin<&mut Self>, cx: &mut Context<'_>, bytes: &[u8]) -> Poll<io::Result<usize>> {
        ready!(Pin::new(&mut self.inner).poll_ready(cx)).map_err(broken)?;
        let message = Message::Binary(Bytes::copy_from_slice(bytes));
        Pin::new(&mut self.inner).start_send(message).map_err(broken)?;
        Poll::Ready(Ok(bytes.len()))
    }

    fn poll_flush(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.inner).poll_flush(cx).map_err(broken)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        match ready!(Pin::new(&mut self.inner).poll_close(cx)) {
            Ok(()) | Err(Error::ConnectionClosed | Error::AlreadyClosed) => Poll::Ready(Ok(())),
            Err(error) => Poll::Ready(Err(broken(error))),
        }
    }
}
