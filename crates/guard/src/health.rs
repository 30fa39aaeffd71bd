//! Metrics and health over plain HTTP, on a listener of their own.

use std::convert::Infallible;
use std::sync::Arc;
use std::time::Duration;

use http_body_util::Full;
use hyper::body::{Bytes, Incoming};
use hyper::header::{ALLOW, CONTENT_TYPE};
use hyper::{Method, Request, Response, StatusCode};
use hyper_util::rt::{TokioIo, TokioTimer};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::Semaphore;

use crate::shared::Shared;

/// How many requests are answered at once.
const MOST_AT_ONCE: usize = 16;

/// How long a request may take to come.
const HEADER_TIME: Duration = Duration::from_secs(5);

/// How long one connection may ask for more.
const CONNECTION_TIME: Duration = Duration::from_secs(300);

/// Answers on `listener` until the guard stops.
pub(crate) async fn serve(shared: Arc<Shared>, listener: TcpListener) {
    let slots = Arc::new(Semaphore::new(MOST_AT_ONCE));
    loop {
        // Whoever asks too much at once waits outside.
        let Ok(slot) = slots.clone().acquire_owned().await else { return };
        match listener.accept().await {
            Ok((stream, _)) => {
                let shared = shared.clone();
                tokio::spawn(async move {
                    let _ = tokio::time::timeout(CONNECTION_TIME, answer(shared, stream)).await;
                    drop(slot);
                });
            }
            Err(_) => tokio::time::sleep(Duration::from_millis(100)).await,
        }
    }
}

async fn answer(shared: Arc<Shared>, stream: TcpStream) {
    let service = hyper::service::service_fn(move |request: Request<Incoming>| {
        let response = respond(&shared, &request);
        async move { Ok::<_, Infallible>(response) }
    });
    let connection = hyper::server::conn::http1::Builder::new()
        .timer(TokioTimer::new())
        .header_read_timeout(HEADER_TIME)
        .serve_connection(TokioIo::new(stream), service);
    // Whoever asks badly is told so by the library.
    let _ = connection.await;
}

fn respond(shared: &Shared, request: &Request<Incoming>) -> Response<Full<Bytes>> {
    let plain = "text/plain; charset=utf-8";
    let (status, kind, body) = match (request.method(), request.uri().path()) {
        (&Method::GET | &Method::HEAD, "/metrics") => {
            (StatusCode::OK, "application/openmetrics-text; version=1.0.0; charset=utf-8", shared.metrics.text())
        }
        (&Method::GET | &Method::HEAD, "/health") => {
            let (well, text) = health(shared);
            (if well { StatusCode::OK } else { StatusCode::SERVICE_UNAVAILABLE }, "application/json", text)
        }
        (_, "/metrics" | "/health") => {
            (StatusCode::METHOD_NOT_ALLOWED, plain, "only GET is answered here\n".to_owned())
        }
        _ => (StatusCode::NOT_FOUND, plain, "there are /metrics and /health here\n".to_owned()),
    };
    let mut response = Response::new(Full::new(Bytes::from(body)));
    *response.status_mut() = status;
    response.headers_mut().insert(CONTENT_TYPE, hyper::header::HeaderValue::from_static(kind));
    if status == StatusCode::METHOD_NOT_ALLOWED {
        response.headers_mut().insert(ALLOW, hyper::header::HeaderValue::from_static("GET, HEAD"));
    }
    response
}

/// Whether the guard does all its work, and what of it does not go.
fn health(shared: &Shared) -> (bool, String) {
    let edition = shared.metrics.edition.get();
    let (store, broker) = (shared.metrics.store_answers.get() == 1, shared.metrics.broker_answers.get() == 1);
    let value = serde_json::json!({
        "well": store && broker, "edition": edition, "store_answers": store, "broker_answers": broker,
        "sessions": shared.metrics.sessions.get(),
    });
    (store && broker, format!("{value}\n"))
}
