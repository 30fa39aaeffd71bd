//! Small answers over plain HTTP, on a listener of their own: figures and health. Requests are bounded in number and time, and have
//! no bodies.

use std::convert::Infallible;
use std::sync::Arc;
use std::time::Duration;

use http_body_util::Full;
pub use hyper::StatusCode;
use hyper::body::{Bytes, Incoming};
use hyper::header::{ALLOW, CONTENT_TYPE, HeaderValue};
use hyper::{Method, Request, Response};
use hyper_util::rt::{TokioIo, TokioTimer};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::Semaphore;

/// How many requests are answered at once.
const MOST_AT_ONCE: usize = 16;

/// How long a request may take to come.
const HEADER_TIME: Duration = Duration::from_secs(5);

/// How long one connection may ask for more.
const CONNECTION_TIME: Duration = Duration::from_secs(300);

/// What is said on a path: status, media type, body.
pub type Said = (StatusCode, &'static str, String);

/// Says what is on a path, if anything is.
pub type Pages = dyn Fn(&str) -> Option<Said> + Send + Sync;

/// Answers GET and HEAD on `listener` for ever. `nothing` is said where there is nothing.
pub async fn serve(listener: TcpListener, pages: Arc<Pages>, nothing: &'static str) {
    let slots = Arc::new(Semaphore::new(MOST_AT_ONCE));
    loop {
        // Whoever asks too much at once waits outside.
        let Ok(slot) = slots.clone().acquire_owned().await else { return };
        match listener.accept().await {
            Ok((stream, _)) => {
                let pages = pages.clone();
                tokio::spawn(async move {
                    let _ = tokio::time::timeout(CONNECTION_TIME, answer(pages, nothing, stream)).await;
                    drop(slot);
                });
            }
            Err(_) => tokio::time::sleep(Duration::from_millis(100)).await,
        }
    }
}

async fn answer(pages: Arc<Pages>, nothing: &'static str, stream: TcpStream) {
    let service = hyper::service::service_fn(move |request: Request<Incoming>| {
        let response = respond(&*pages, nothing, request.method(), request.uri().path());
        async move { Ok::<_, Infallible>(response) }
    });
    let connection = hyper::server::conn::http1::Builder::new()
        .timer(TokioTimer::new())
        .header_read_timeout(HEADER_TIME)
        .serve_connection(TokioIo::new(stream), service);
    // Whoever asks badly is told so by the library.
    let _ = connection.await;
}

fn respond(pages: &Pages, nothing: &str, method: &Method, path: &str) -> Response<Full<Bytes>> {
    let plain = |status, text: &str| (status, "text/plain; charset=utf-8", text.to_owned());
    let (status, kind, body) = match pages(path) {
        None => plain(StatusCode::NOT_FOUND, nothing),
        Some(_) if !matches!(*method, Method::GET | Method::HEAD) => {
            plain(StatusCode::METHOD_NOT_ALLOWED, "only GET is answered here\n")
        }
        Some(said) => said,
    };
    let mut response = Response::new(Full::new(Bytes::from(body)));
    *response.status_mut() = status;
    response.headers_mut().insert(CONTENT_TYPE, HeaderValue::from_static(kind));
    if status == StatusCode::METHOD_NOT_ALLOWED {
        response.headers_mut().insert(ALLOW, HeaderValue::from_static("GET, HEAD"));
    }
    response
}
