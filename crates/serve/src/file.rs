//! Files in which a server keeps what must outlive it.

use std::io::{self, Read, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;

/// The octets of the file at `path`, of which there may be `most`.
///
/// # Errors
/// It cannot be read, or has more.
pub fn read(path: &Path, most: u64) -> io::Result<Vec<u8>> {
    let mut octets = Vec::new();
    std::fs::File::open(path)?.take(most + 1).read_to_end(&mut octets)?;
    if u64::try_from(octets.len()).unwrap_or(u64::MAX) > most {
        return Err(io::Error::new(io::ErrorKind::FileTooLarge, format!("it has more than {most} bytes")));
    }
    Ok(octets)
}

/// Puts `octets` in the place of the file at `path`, for its owner only: what stood there stays whole until they are on the disk.
///
/// # Errors
/// It cannot be written.
pub fn replace(path: &Path, octets: &[u8]) -> io::Result<()> {
    let mut name = path.file_name().unwrap_or_default().to_owned();
    name.push(format!(".{}.new", std::process::id()));
    let new = path.with_file_name(name);
    // One that was killed in between, and had this number, left it behind.
    let _ = std::fs::remove_file(&new);
    let mut file = std::fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(&new)?;
    file.write_all(octets)?;
    file.sync_all()?;
    std::fs::rename(&new, path)
}
