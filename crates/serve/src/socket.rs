//! A server's own door: a Unix socket in the ward, on which whoever may read the ward's keys asks it something. Requests and answers are
//! lines of JSON.

use std::io;
use std::os::unix::fs::{DirBuilderExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::time::Duration;

use serde::Serialize;
use serde::de::DeserializeOwned;
use tokio::io::{AsyncBufReadExt, AsyncReadExt, AsyncWriteExt, BufReader};
use tokio::net::UnixListener;
use tokio::net::unix::{OwnedReadHalf, OwnedWriteHalf};

/// The longest request, in octets: a message to be sent stands in it.
const MAX_REQUEST: u64 = 1024 * 1024;

/// How long a request may take to come.
const REQUEST_TIME: Duration = Duration::from_secs(5);

/// The socket, and its removal.
#[derive(Debug)]
pub struct Socket {
    listener: UnixListener,
    remover: Remover,
}

/// Removes the socket when it is dropped.
#[derive(Debug)]
pub struct Remover(PathBuf);

impl Drop for Remover {
    fn drop(&mut self) {
        // It may be gone with its folder.
        let _ = std::fs::remove_file(&self.0);
    }
}

impl Socket {
    /// Makes the socket. One that was left behind by a server that is gone is replaced; one that answers is not. `who` is what answers
    /// there, such as `another guard of this ward`.
    ///
    /// # Errors
    /// The path, and why there can be no socket.
    pub fn bind(path: PathBuf, who: &str) -> Result<Self, (PathBuf, io::Error)> {
        let failed = |error| (path.clone(), error);
        if std::os::unix::net::UnixStream::connect(&path).is_ok() {
            return Err(failed(io::Error::new(io::ErrorKind::AddrInUse, format!("{who} answers there"))));
        }
        let listener = make(&path).map_err(failed)?;
        Ok(Self { listener, remover: Remover(path) })
    }

    /// What is listened on, and what takes the socket away when it is dropped.
    #[must_use]
    pub fn split(self) -> (UnixListener, Remover) {
        (self.listener, self.remover)
    }
}

/// The socket is made in a folder that only its user may enter, and moved when its own rights are right: at no moment can
/// anybody else connect.
fn make(path: &Path) -> io::Result<UnixListener> {
    let hidden = path.with_extension(format!("{}.new", std::process::id()));
    let inside = hidden.join("socket");
    // A server that was killed in between, and had this number, left them behind.
    let _ = std::fs::remove_file(&inside);
    let _ = std::fs::remove_dir(&hidden);
    std::fs::DirBuilder::new().mode(0o700).create(&hidden)?;
    let made = UnixListener::bind(&inside).and_then(|listener| {
        std::fs::set_permissions(&inside, std::fs::Permissions::from_mode(0o600))?;
        std::fs::rename(&inside, path)?;
        Ok(listener)
    });
    let _ = std::fs::remove_file(&inside);
    let _ = std::fs::remove_dir(&hidden);
    made
}

/// Writes one line.
///
/// # Errors
/// Nobody reads any more.
pub async fn tell(to: &mut OwnedWriteHalf, answer: &impl Serialize) -> io::Result<()> {
    let mut line = serde_json::to_string(answer).map_err(io::Error::other)?;
    line.push('\n');
    to.write_all(line.as_bytes()).await
}

/// Reads the request; `None` if whoever connected went away without one. What is no request is told as why.
///
/// # Errors
/// It did not come in time.
pub async fn request<R: DeserializeOwned>(
    from: &mut BufReader<OwnedReadHalf>,
) -> io::Result<Option<Result<R, String>>> {
    let mut line = String::new();
    let read = tokio::time::timeout(REQUEST_TIME, from.take(MAX_REQUEST).read_line(&mut line)).await;
    if read.map_err(|_| io::ErrorKind::TimedOut)?? == 0 {
        return Ok(None);
    }
    Ok(Some(serde_json::from_str(&line).map_err(|error| format!("this is not a request: {error}"))))
}
