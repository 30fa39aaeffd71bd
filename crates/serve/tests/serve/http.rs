//! Small answers over HTTP, to whoever asks well and to whoever does not.

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use tidy_warden_serve::http::{Pages, StatusCode, serve};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};

/// A test gives up after this.
const SOON: Duration = Duration::from_secs(20);

async fn server() -> SocketAddr {
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let address = listener.local_addr().unwrap();
    let pages: Arc<Pages> = Arc::new(|path| match path {
        "/metrics" => Some((StatusCode::OK, "text/plain; charset=utf-8", "a 1\n".to_owned())),
        "/health" => Some((StatusCode::SERVICE_UNAVAILABLE, "application/json", "{}".to_owned())),
        _ => None,
    });
    tokio::spawn(serve(listener, pages, "there are /metrics and /health\n"));
    address
}

async fn ask(address: SocketAddr, request: &str) -> String {
    let mut stream = TcpStream::connect(address).await.unwrap();
    stream.write_all(request.as_bytes()).await.unwrap();
    let mut answer = Vec::new();
    tokio::time::timeout(SOON, stream.read_to_end(&mut answer)).await.unwrap().unwrap();
    String::from_utf8(answer).unwrap()
}

fn get(method: &str, path: &str) -> String {
    format!("{method} {path} HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\n")
}

#[tokio::test]
async fn what_is_there_is_told_and_what_is_not_is_said_so() {
    let address = server().await;
    let metrics = ask(address, &get("GET", "/metrics")).await;
    assert!(metrics.starts_with("HTTP/1.1 200") && metrics.ends_with("a 1\n"), "{metrics}");
    let head = ask(address, &get("HEAD", "/metrics")).await;
    assert!(head.starts_with("HTTP/1.1 200") && head.contains("content-length: 4") && !head.contains("a 1"), "{head}");
    let health = ask(address, &get("GET", "/health?x=1")).await;
    assert!(health.starts_with("HTTP/1.1 503") && health.contains("application/json"), "{health}");
    let nothing = ask(address, &get("GET", "/etc/passwd")).await;
    assert!(nothing.starts_with("HTTP/1.1 404") && nothing.ends_with("there are /metrics and /health\n"), "{nothing}");
    for method in ["POST", "PUT", "DELETE", "OPTIONS", "NONSENSE"] {
        let refused = ask(address, &get(method, "/metrics")).await;
        assert!(refused.starts_with("HTTP/1.1 405") && refused.contains("allow: GET, HEAD"), "{refused}");
        assert!(ask(address, &get(method, "/none")).await.starts_with("HTTP/1.1 404"), "{method}");
    }
}

#[tokio::test]
async fn whoever_asks_badly_or_for_ever_keeps_nobody_from_an_answer() {
    let address = server().await;
    for bad in
        ["GET\r\n\r\n", "\0\0\0\0\r\n\r\n", "GET / HTTP/9.9\r\n\r\n", "GET / HTTP/1.1\r\nContent-Length: x\r\n\r\n"]
    {
        let answer = ask(address, bad).await;
        assert!(answer.is_empty() || answer.starts_with("HTTP/1.1 400"), "{bad:?}: {answer}");
    }
    let endless = format!("GET / HTTP/1.1\r\n{}", "A: b\r\n".repeat(1_000));
    let mut long = TcpStream::connect(address).await.unwrap();
    long.write_all(endless.as_bytes()).await.unwrap();
    let mut answer = Vec::new();
    // Refused, or reset with what was not read.
    let _ = tokio::time::timeout(SOON, long.read_to_end(&mut answer)).await.unwrap();
    assert!(!answer.starts_with(b"HTTP/1.1 200"));

    // As many as there is room for say nothing; when their time is over, the next is answered.
    let silent: Vec<TcpStream> = {
        let mut all = Vec::new();
        for _ in 0..16 {
            let mut stream = TcpStream::connect(address).await.unwrap();
            stream.write_all(b"GET / HT").await.unwrap();
            all.push(stream);
        }
        all
    };
    let answer = ask(address, &get("GET", "/metrics")).await;
    assert!(answer.starts_with("HTTP/1.1 200"), "{answer}");
    drop(silent);
}
