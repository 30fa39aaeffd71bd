//! Digests (FIPS 180-4).

use std::fmt;

use aws_lc_rs::digest::{SHA256, SHA384, digest};

/// SHA-256 of what comes piece by piece.
#[derive(Clone)]
pub struct Sha256(aws_lc_rs::digest::Context);

impl Default for Sha256 {
    fn default() -> Self {
        Self(aws_lc_rs::digest::Context::new(&SHA256))
    }
}

impl fmt::Debug for Sha256 {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Sha256")
    }
}

impl Sha256 {
    /// Takes the next piece.
    pub fn update(&mut self, bytes: &[u8]) {
        self.0.update(bytes);
    }

    /// The digest of all pieces.
    #[must_use]
    pub fn finish(self) -> [u8; 32] {
        let mut out = [0; 32];
        out.copy_from_slice(self.0.finish().as_ref());
        out
    }
}

/// SHA-384 of `bytes`.
#[must_use]
pub fn sha384(bytes: &[u8]) -> [u8; 48] {
    let mut out = [0; 48];
    out.copy_from_slice(digest(&SHA384, bytes).as_ref());
    out
}

/// SHA-256 of `bytes`.
#[must_use]
pub fn sha256(bytes: &[u8]) -> [u8; 32] {
    let mut out = [0; 32];
    out.copy_from_slice(digest(&SHA256, bytes).as_ref());
    out
}
