//! A server's own door.

use std::os::unix::fs::{FileTypeExt, PermissionsExt};

use serde::{Deserialize, Serialize};
use tidy_warden_serve::socket::{Socket, request, tell};
use tokio::io::{AsyncReadExt, AsyncWriteExt, BufReader};
use tokio::net::UnixStream;

#[derive(Debug, PartialEq, Eq, Serialize, Deserialize)]
struct Asked {
    what: String,
}

#[tokio::test]
async fn one_that_was_left_behind_is_replaced_and_one_that_answers_is_not() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("guard.sock");
    let first = Socket::bind(path.clone(), "another guard").unwrap();
    let made = std::fs::metadata(&path).unwrap();
    assert!(made.file_type().is_socket() && made.permissions().mode() & 0o777 == 0o600);
    let (refused, why) = Socket::bind(path.clone(), "another guard").err().unwrap();
    assert_eq!(refused, path);
    assert!(why.to_string().contains("another guard answers there"), "{why}");
    let (listener, remover) = first.split();
    drop(listener);
    assert!(path.exists(), "killed here, it would be left behind");
    let second = Socket::bind(path.clone(), "another guard").unwrap();
    drop(remover);
    assert!(!path.exists(), "the first takes away what has its name");
    drop(second);
    let third = Socket::bind(path.clone(), "another guard").unwrap();
    assert_eq!(std::fs::read_dir(dir.path()).unwrap().count(), 1, "nothing is left beside it");
    drop(third);
    assert!(Socket::bind(dir.path().join("none/guard.sock"), "x").is_err());
}

#[tokio::test]
async fn a_request_is_one_line_of_a_bounded_length() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("guard.sock");
    let (listener, _remover) = Socket::bind(path.clone(), "x").unwrap().split();
    let asked = |bytes: Vec<u8>| {
        let path = path.clone();
        let client = async move {
            let mut stream = UnixStream::connect(&path).await.unwrap();
            // What is longer than is read is not all taken.
            let _ = stream.write_all(&bytes).await;
            stream.shutdown().await.unwrap();
            let mut answer = String::new();
            let _ = stream.read_to_string(&mut answer).await;
            answer
        };
        let server = async {
            let (from, mut to) = listener.accept().await.unwrap().0.into_split();
            let read = request::<Asked>(&mut BufReader::new(from)).await.unwrap();
            if let Some(Ok(asked)) = &read {
                tell(&mut to, asked).await.unwrap();
            }
            read
        };
        async { tokio::join!(client, server) }
    };
    let (answer, read) = asked(b"{\"what\":\"watch\"}\n".to_vec()).await;
    assert_eq!(read, Some(Ok(Asked { what: "watch".into() })));
    assert_eq!(answer, "{\"what\":\"watch\"}\n");
    assert_eq!(asked(Vec::new()).await.1, None);
    assert!(matches!(asked(b"what?\n".to_vec()).await.1, Some(Err(why)) if why.contains("not a request")));
    let long = format!("{{\"what\":\"{}\"}}\n", "x".repeat(2 << 20));
    assert!(matches!(asked(long.into_bytes()).await.1, Some(Err(_))), "it is cut off, not read to its end");
}
