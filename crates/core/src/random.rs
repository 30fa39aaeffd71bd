//! Where random bytes come from: an argument, so that a test can fix them.

/// A source of unpredictable bytes. Implementations outside tests must be fit for keys and nonces.
pub trait Randomness {
    /// Overwrites all of `bytes`.
    fn fill(&mut self, bytes: &mut [u8]);
}

/// `N` fresh bytes from `source`.
pub fn bytes<const N: usize>(source: &mut dyn Randomness) -> [u8; N] {
    let mut out = [0; N];
    source.fill(&mut out);
    out
}

/// Lower-case text of `N` random bytes in hexadecimal (two digits a byte).
pub fn hex<const N: usize>(source: &mut dyn Randomness) -> String {
    data_encoding::HEXLOWER.encode(&bytes::<N>(source))
}

/// A fixed, repeatable stream for tests: SHA-256 of a counter. Not random.
#[cfg(test)]
pub(crate) struct Counted(pub(crate) u64);

#[cfg(test)]
impl Randomness for Counted {
    fn fill(&mut self, bytes: &mut [u8]) {
        for chunk in bytes.chunks_mut(32) {
            self.0 += 1;
            let digest = aws_lc_rs::digest::digest(&aws_lc_rs::digest::SHA256, &self.0.to_be_bytes());
            chunk.copy_from_slice(&digest.as_ref()[..chunk.len()]);
        }
    }
}
