//! Credentials, keys that are never taken, and serial numbers that are about to be signed.

use tidy_warden_core::certificate::{Certificate, Fingerprint, SerialNumber};
use tidy_warden_core::condition::Condition;
use tidy_warden_core::credential::{BlockSource, CredentialRecord, Origin};
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::id::{AuthorityName, DeviceId};
use tidy_warden_core::key::sha256;
use tidy_warden_core::time::{Span, UnixTime};

use crate::{DeviceView, StoreError};

/// A credential to be recorded.
#[derive(Debug, Clone)]
pub struct NewCredential<'a> {
    /// Whose it is.
    pub device: &'a DeviceId,
    /// Where it comes from.
    pub origin: Origin,
    /// Who signed it, if that is one of the ward's authorities or a foreign one.
    pub authority: Option<&'a AuthorityName>,
    /// The certificate in DER; of a bare key, its SubjectPublicKeyInfo; of a shared key, the key as it is sealed.
    pub der: &'a [u8],
    /// SHA-256 of `der`; of a shared key, of what it is called.
    pub fingerprint: Fingerprint,
    /// The certificate's serial number.
    pub serial: Option<&'a SerialNumber>,
    /// SHA-256 of the SubjectPublicKeyInfo; of a shared key its mark, which says nothing without the ward's data key.
    pub key_digest: [u8; 32],
    /// The type of the key, such as `p256`.
    pub key_type: &'a str,
    /// The first second in which it may sign in.
    pub not_before: UnixTime,
    /// The last.
    pub not_after: UnixTime,
    /// Whether it may stand beside one that the device has, which it supersedes.
    pub again: bool,
    /// How long what it supersedes may still sign in.
    pub overlap: Span,
    /// Whether the key was made here just now, so that nobody else can have it.
    pub fresh_key: bool,
    /// The credential by which it was asked for: the device's own, or that of its gateway. None if a person, an admission or a
    /// manufacturer stands behind it.
    pub authorised_by: Option<Fingerprint>,
    /// What it is called in tokens, if it is a key of the device's own: no other key of the ward is called so.
    pub kid: Option<&'a str>,
    /// What a person wrote about it.
    pub note: Option<&'a str>,
}

impl<'a> NewCredential<'a> {
    /// A certificate that one of the ward's authorities signed. `key_type` is the text of its key's type.
    #[must_use]
    pub fn issued(
        device: &'a DeviceId,
        authority: &'a AuthorityName,
        certificate: &'a Certificate,
        key_type: &'a str,
    ) -> Self {
        Self {
            device,
            origin: Origin::Issued,
            authority: Some(authority),
            der: certificate.der(),
            fingerprint: certificate.fingerprint,
            serial: Some(&certificate.serial),
            key_digest: sha256(certificate.public_key.spki()),
            key_type,
            not_before: certificate.not_before,
            not_after: certificate.not_after,
            again: false,
            overlap: Span::from_seconds(0),
            fresh_key: false,
            authorised_by: None,
            kid: None,
            note: None,
        }
    }
}

/// A public key that is never certified or accepted again, whoever shows it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BlockedKey {
    /// SHA-256 of its SubjectPublicKeyInfo.
    pub digest: [u8; 32],
    /// Since when.
    pub at: UnixTime,
    /// Where it became known.
    pub source: BlockSource,
    /// The device that had it, if one did.
    pub device: Option<DeviceId>,
}

/// A certificate that is about to be signed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Intended {
    /// The serial number that it gets.
    pub serial: SerialNumber,
    /// Who signs it.
    pub authority: AuthorityName,
    /// For whom.
    pub device: DeviceId,
    /// The last second of its validity.
    pub not_after: UnixTime,
    /// The folder or file in which its outfit is to stand, absolute, if it gets one.
    pub place: Option<String>,
}

/// Certificates and bare keys that were bound to devices and that no authority of the ward signed.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Bound {
    /// Where to go on reading.
    pub to: i64,
    /// Fingerprints of certificates.
    pub certificates: Vec<Fingerprint>,
    /// SHA-256 of SubjectPublicKeyInfos.
    pub keys: Vec<[u8; 32]>,
    /// Whether there are more.
    pub more: bool,
}

/// A place in the order in which credentials end.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct EndPlace {
    /// The last second in which a credential may sign in if it is neither revoked nor distrusted.
    pub end: UnixTime,
    /// Its row.
    pub row: i64,
}

impl EndPlace {
    /// Before all of them.
    pub const FIRST: Self = Self { end: UnixTime(i64::MIN), row: 0 };
}

/// A credential in the order of ends.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Ending {
    /// Where it stands.
    pub at: EndPlace,
    /// Which one of its device's it is.
    pub fingerprint: Fingerprint,
    /// Its device, with all its credentials.
    pub view: DeviceView,
}

/// Whether a key is blocked, and who has it.
pub type KeyStanding = (Option<BlockedKey>, Vec<(DeviceId, Fingerprint)>);

/// Questions about credentials and keys.
pub trait ReadCredentials {
    /// Credentials by fingerprint, with their devices, in the order asked for; `None` for those that are not known.
    fn status_many(
        &self,
        fingerprints: &[Fingerprint],
    ) -> Result<Vec<Option<(CredentialRecord, DeviceRecord)>>, StoreError>;

    /// The certificates that have a serial number: one at the most for each authority.
    fn fingerprints_of(&self, serial: &SerialNumber) -> Result<Vec<Fingerprint>, StoreError>;

    /// The credential that stands for a public key, by SHA-256 of its SubjectPublicKeyInfo: a bare key that is bound to a
    /// device, whether it may sign in or not; the newest if there are several.
    fn bound_key(&self, key_digest: &[u8; 32]) -> Result<Option<Fingerprint>, StoreError>;

    /// Up to `limit` rows of what was bound to devices behind the place `after` of an earlier answer, 0 for the beginning. What
    /// was revoked since is among it: this says what may be looked at, not what may sign in.
    fn bound_since(&self, after: i64, limit: usize) -> Result<Bound, StoreError>;

    /// The key of a device's own that is called so in tokens, and whose it is.
    fn key_named(&self, kid: &str) -> Result<Option<(DeviceId, Fingerprint)>, StoreError>;

    /// All credentials that have a key, by SHA-256 of its SubjectPublicKeyInfo, with their devices, in the order in which they were
    /// recorded.
    fn holders_of_key(&self, digest: &[u8; 32]) -> Result<Vec<(DeviceId, Fingerprint)>, StoreError>;

    /// What [`ReadCredentials::blocked_key`] and [`ReadCredentials::holders_of_key`] say of a key. An engine elsewhere answers both in
    /// one round trip.
    fn key_standing(&self, digest: &[u8; 32]) -> Result<KeyStanding, StoreError> {
        Ok((self.blocked_key(digest)?, self.holders_of_key(digest)?))
    }

    /// SHA-256 of the SubjectPublicKeyInfo of a credential's key.
    ///
    /// # Errors
    /// There is no such credential.
    fn key_digest(&self, fingerprint: &Fingerprint) -> Result<[u8; 32], StoreError>;

    /// What a credential is: its certificate in DER, the SubjectPublicKeyInfo of a bare key, or a shared key as it is sealed; `None` if it
    /// is not known.
    fn credential_der(&self, fingerprint: &Fingerprint) -> Result<Option<Vec<u8>>, StoreError>;

    /// Whether a key is blocked, by SHA-256 of its SubjectPublicKeyInfo.
    fn blocked_key(&self, digest: &[u8; 32]) -> Result<Option<BlockedKey>, StoreError>;

    /// Up to `limit` blocked keys behind one in their order, by time and digest; from the first with `None`.
    fn blocked_keys(&self, after: Option<&BlockedKey>, limit: usize) -> Result<Vec<BlockedKey>, StoreError>;

    /// Certificates that were about to be signed and were not recorded, the oldest first. Those of a process that still runs are
    /// among them.
    fn intended(&self) -> Result<Vec<Intended>, StoreError>;

    /// Up to `limit` credentials behind a place (0 is before the first), in the order in which they were recorded: their places,
    /// and each with the number of the entry that recorded it; those that older versions recorded have none.
    fn recorded(&self, after: i64, limit: usize) -> Result<Vec<(i64, Option<i64>, Fingerprint)>, StoreError>;

    /// Up to `limit` credentials behind a place in the order in which they end, and in which they were recorded where they end in the
    /// same second; those only for whose devices a condition holds at `now`. A revocation changes no place.
    fn page_by_end(
        &self,
        condition: Option<&Condition>,
        now: UnixTime,
        after: EndPlace,
        limit: usize,
    ) -> Result<Vec<Ending>, StoreError>;

    /// The entries that recorded a device's credentials, those of many devices at once among them.
    fn entries_of(&self, device: &DeviceId) -> Result<Vec<i64>, StoreError>;

    /// The credential by which another was asked for, if it was by one.
    fn authorised_by(&self, fingerprint: &Fingerprint) -> Result<Option<Fingerprint>, StoreError>;

    /// What was asked for by one of these, in the order in which it was recorded, and whose it is.
    fn derived_from(&self, authorising: &[Fingerprint]) -> Result<Vec<(DeviceId, Fingerprint)>, StoreError>;
}

/// Rows of credentials and keys.
pub trait WriteCredentials: ReadCredentials {
    /// Records credentials as handed out at `at`, with the number of the entry that records them.
    fn insert_credentials(&mut self, new: &[&NewCredential<'_>], at: UnixTime, entry: i64) -> Result<(), StoreError>;

    /// Writes of a credential what may change: its authority, when it was handed out and first used, and what ended it.
    fn update_credential(&mut self, credential: &CredentialRecord) -> Result<(), StoreError>;

    /// Blocks a key; says whether it was not before. One that was stays as it is.
    fn block_key(&mut self, key: &BlockedKey) -> Result<bool, StoreError>;

    /// Notes a certificate that is about to be signed.
    fn put_intended(&mut self, intended: &Intended, at: UnixTime) -> Result<(), StoreError>;

    /// Takes such a note away; says whether it was there.
    fn drop_intended(&mut self, serial: &SerialNumber) -> Result<bool, StoreError>;

    /// Notes a serial number of which nobody knows whether it was signed; it counts as revoked since `at`.
    fn put_lost(&mut self, lost: &Intended, at: UnixTime) -> Result<(), StoreError>;
}
