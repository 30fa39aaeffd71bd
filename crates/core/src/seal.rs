//! Streams that only the owner of a private key can read: a content key by ephemeral-static Diffie-Hellman on a NIST curve (NIST SP
//! 800-56A, C(1e, 1s)) and HKDF with SHA-256 (RFC 5869), then segments of AES-256-GCM (NIST SP 800-38D), each bound to its place and to
//! what stands above the stream, the last one marked. What is cut off, put elsewhere or changed does not open.

use std::io::{self, Read, Write};

use aws_lc_rs::aead::{AES_256_GCM, Aad, LessSafeKey, Nonce, UnboundKey};
use aws_lc_rs::agreement::{self, Algorithm, ECDH_P256, ECDH_P384, UnparsedPublicKey};
use aws_lc_rs::hkdf::{self, HKDF_SHA256, Salt};
use zeroize::Zeroizing;

use crate::key::{KeyType, PublicKey, SoftwareKey, sha256};

/// How many octets a segment holds, but for the last.
const SEGMENT: usize = 1 << 20;

/// The octets of an authentication tag.
const TAG: usize = 16;

/// The key of one stream.
pub type ContentKey = Zeroizing<[u8; 32]>;

/// Keys of which streams can be sealed to.
pub(crate) fn curve(key: &PublicKey) -> Option<&'static Algorithm> {
    match key.key_type() {
        KeyType::P256 => Some(&ECDH_P256),
        KeyType::P384 => Some(&ECDH_P384),
        _ => None,
    }
}

struct Length;

impl hkdf::KeyType for Length {
    fn len(&self) -> usize {
        32
    }
}

/// Both public keys go in, so that a content key belongs to this pair and this purpose alone.
fn derived(shared: &[u8], purpose: &[u8], ephemeral: &[u8], to: &PublicKey) -> Option<ContentKey> {
    let mut key = Zeroizing::new([0; 32]);
    let info = [purpose, ephemeral, to.spki()];
    let secret = Salt::new(HKDF_SHA256, &[]).extract(shared);
    secret.expand(&info, Length).and_then(|okm| okm.fill(&mut *key)).ok()?;
    Some(key)
}

/// A content key for the owner of `to`, and the public point that lets the owner derive it; `None` if `to` is on neither curve.
#[must_use]
pub fn seal_to(to: &PublicKey, purpose: &[u8]) -> Option<(Vec<u8>, ContentKey)> {
    let curve = curve(to)?;
    let own = agreement::PrivateKey::generate(curve).ok()?;
    let ephemeral = own.compute_public_key().ok()?.as_ref().to_vec();
    let key = agreement::agree(&own, UnparsedPublicKey::new(curve, to.point()?), (), |shared| {
        derived(shared, purpose, &ephemeral, to).ok_or(())
    });
    Some((ephemeral, key.ok()?))
}

/// The content key that [`seal_to`] made, by its owner's private key; `None` if the point is none, or the key is on neither curve.
#[must_use]
pub fn unseal(own: &SoftwareKey, to: &PublicKey, ephemeral: &[u8], purpose: &[u8]) -> Option<ContentKey> {
    let curve = curve(to)?;
    let own = agreement::PrivateKey::from_private_key_der(curve, &own.to_pkcs8().ok()?).ok()?;
    agreement::agree(&own, UnparsedPublicKey::new(curve, ephemeral), (), |shared| {
        derived(shared, purpose, ephemeral, to).ok_or(())
    })
    .ok()
}

/// Opens or seals one segment after the other.
struct Segments {
    key: LessSafeKey,
    /// Digest of what stands above the stream.
    above: [u8; 32],
    next: u64,
}

impl Segments {
    fn new(key: &ContentKey, above: &[u8]) -> io::Result<Self> {
        let key = UnboundKey::new(&AES_256_GCM, &**key).map_err(|_| io::Error::other("the cipher cannot be used"))?;
        Ok(Self { key: LessSafeKey::new(key), above: sha256(above), next: 0 })
    }

    /// Nonce and additional data of the next segment. A content key seals one stream, so no nonce comes twice.
    fn step(&mut self, is_last: bool) -> (Nonce, Aad<[u8; 33]>) {
        let mut nonce = [0; 12];
        nonce[4..].copy_from_slice(&self.next.to_be_bytes());
        self.next += 1;
        let mut aad = [0; 33];
        aad[..32].copy_from_slice(&self.above);
        aad[32] = u8::from(is_last);
        (Nonce::assume_unique_for_key(nonce), Aad::from(aad))
    }
}

/// Seals what is written to it.
pub struct SealedWriter<W: Write> {
    out: W,
    segments: Segments,
    waiting: Zeroizing<Vec<u8>>,
}

impl<W: Write> SealedWriter<W> {
    /// A stream below `above`, which is not secret.
    ///
    /// # Errors
    /// The cipher cannot be used.
    pub fn new(out: W, key: &ContentKey, above: &[u8]) -> io::Result<Self> {
        let waiting = Zeroizing::new(Vec::with_capacity(SEGMENT + TAG));
        Ok(Self { out, segments: Segments::new(key, above)?, waiting })
    }

    fn put(&mut self, is_last: bool) -> io::Result<()> {
        let (nonce, aad) = self.segments.step(is_last);
        self.segments
            .key
            .seal_in_place_append_tag(nonce, aad, &mut *self.waiting)
            .map_err(|_| io::Error::other("a segment cannot be sealed"))?;
        let len = u32::try_from(self.waiting.len()).map_err(io::Error::other)?;
        self.out.write_all(&len.to_be_bytes())?;
        self.out.write_all(&self.waiting)?;
        self.waiting.clear();
        Ok(())
    }

    /// Ends the stream; without it nothing of it opens whole.
    ///
    /// # Errors
    /// It cannot be written.
    pub fn finish(mut self) -> io::Result<W> {
        self.put(true)?;
        self.out.flush()?;
        Ok(self.out)
    }
}

impl<W: Write> Write for SealedWriter<W> {
    fn write(&mut self, octets: &[u8]) -> io::Result<usize> {
        let some = octets.len().min(SEGMENT - self.waiting.len());
        self.waiting.extend_from_slice(&octets[..some]);
        if self.waiting.len() == SEGMENT {
            self.put(false)?;
        }
        Ok(some)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.out.flush()
    }
}

/// Opens what [`SealedWriter`] wrote. It gives nothing that was not proved to be what was written, and fails if the end is missing.
pub struct SealedReader<R: Read> {
    from: R,
    segments: Segments,
    open: Zeroizing<Vec<u8>>,
    at: usize,
    is_over: bool,
}

fn broken(what: &str) -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, what.to_owned())
}

impl<R: Read> SealedReader<R> {
    /// The stream below `above`.
    ///
    /// # Errors
    /// The cipher cannot be used.
    pub fn new(from: R, key: &ContentKey, above: &[u8]) -> io::Result<Self> {
        Ok(Self { from, segments: Segments::new(key, above)?, open: Zeroizing::default(), at: 0, is_over: false })
    }

    fn next_segment(&mut self) -> io::Result<()> {
        let mut len = [0; 4];
        let missing = |error: io::Error| match error.kind() {
            io::ErrorKind::UnexpectedEof => broken("the end is missing"),
            _ => error,
        };
        self.from.read_exact(&mut len).map_err(missing)?;
        let len = usize::try_from(u32::from_be_bytes(len)).unwrap_or(usize::MAX);
        if !(TAG..=SEGMENT + TAG).contains(&len) {
            return Err(broken("a segment has no length that one can have"));
        }
        let mut sealed = vec![0; len];
        self.from.read_exact(&mut sealed).map_err(missing)?;
        // Only whole segments are not the last.
        let (next, mut tries) = (self.segments.next, vec![true]);
        if len == SEGMENT + TAG {
            tries.push(false);
        }
        for is_last in tries {
            self.segments.next = next;
            let (nonce, aad) = self.segments.step(is_last);
            let mut octets = Zeroizing::new(sealed.clone());
            if let Ok(plain) = self.segments.key.open_in_place(nonce, aad, &mut octets) {
                let len = plain.len();
                octets.truncate(len);
                (self.open, self.at, self.is_over) = (octets, 0, is_last);
                return Ok(());
            }
        }
        Err(broken("a segment is not what was written"))
    }
}

impl<R: Read> Read for SealedReader<R> {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        while self.at == self.open.len() {
            if self.is_over {
                // Nothing may stand behind the end.
                return match self.from.read(&mut [0])? {
                    0 => Ok(0),
                    _ => Err(broken("something stands behind the end")),
                };
            }
            self.next_segment()?;
        }
        let some = into.len().min(self.open.len() - self.at);
        into[..some].copy_from_slice(&self.open[self.at..self.at + some]);
        self.at += some;
        Ok(some)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::key::{NewKey, Signer};

    fn sealed(octets: &[u8], key: &ContentKey, above: &[u8]) -> Vec<u8> {
        let mut writer = SealedWriter::new(Vec::new(), key, above).unwrap();
        writer.write_all(octets).unwrap();
        writer.finish().unwrap()
    }

    fn opened(octets: &[u8], key: &ContentKey, above: &[u8]) -> io::Result<Vec<u8>> {
        let mut all = Vec::new();
        SealedReader::new(octets, key, above)?.read_to_end(&mut all)?;
        Ok(all)
    }

    #[test]
    fn what_was_sealed_opens_for_its_owner_and_for_nobody_else() {
        for new in [NewKey::P256, NewKey::P384] {
            let (own, other) = (SoftwareKey::generate(new).unwrap(), SoftwareKey::generate(new).unwrap());
            let to = own.public_key();
            let (ephemeral, key) = seal_to(to, b"test").unwrap();
            assert_eq!(unseal(&own, to, &ephemeral, b"test"), Some(key.clone()));
            assert_ne!(unseal(&own, to, &ephemeral, b"another purpose"), Some(key.clone()));
            assert_ne!(unseal(&other, to, &ephemeral, b"test"), Some(key.clone()));
            assert_ne!(seal_to(to, b"test").unwrap().1, key, "each stream has a key of its own");
            assert_eq!(unseal(&own, to, &ephemeral[1..], b"test"), None);
        }
        let ed25519 = SoftwareKey::generate(NewKey::Ed25519).unwrap();
        assert!(seal_to(ed25519.public_key(), b"test").is_none());
    }

    #[test]
    fn a_stream_is_whole_and_untouched_or_does_not_open() {
        let key = Zeroizing::new([7; 32]);
        for len in [0, 1, SEGMENT - 1, SEGMENT, SEGMENT + 1, 3 * SEGMENT] {
            let plain: Vec<u8> = (0..len).map(|at| u8::try_from(at % 251).unwrap()).collect();
            let all = sealed(&plain, &key, b"above");
            assert_eq!(opened(&all, &key, b"above").unwrap(), plain, "{len}");
            assert!(opened(&all, &key, b"below").is_err(), "{len}");
            assert!(opened(&all, &Zeroizing::new([8; 32]), b"above").is_err(), "{len}");
            // Cut anywhere, changed anywhere, with more behind it.
            for at in [0, 3, 4, all.len() / 2, all.len() - 1] {
                assert!(opened(&all[..at], &key, b"above").is_err(), "{len} cut at {at}");
                let mut changed = all.clone();
                changed[at] ^= 1;
                assert!(opened(&changed, &key, b"above").is_err(), "{len} changed at {at}");
            }
            assert!(opened(&[&all[..], b"x"].concat(), &key, b"above").is_err());
        }
        // Segments cannot be left out, doubled or put elsewhere, and a whole one is no end.
        let plain = vec![1; 2 * SEGMENT + 5];
        let all = sealed(&plain, &key, b"");
        let whole = 4 + SEGMENT + TAG;
        let (one, two, three) = (&all[..whole], &all[whole..2 * whole], &all[2 * whole..]);
        for wrong in
            [[two, one, three].concat(), [one, three].concat(), [one, one, two, three].concat(), [one, two].concat()]
        {
            assert!(opened(&wrong, &key, b"").is_err());
        }
    }
}
