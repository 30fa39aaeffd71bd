//! Authorities and their CRLs.

use tidy_warden_core::authority::{AuthorityRecord, AuthorityRole, KeyPlace, PendingAuthority, Trust};
use tidy_warden_core::certificate::Certificate;
use tidy_warden_core::id::AuthorityName;
use tidy_warden_core::revocation::Revoked;
use tidy_warden_core::time::UnixTime;

use crate::StoreError;

/// How many certificates of devices an authority signed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Signed {
    /// Ever.
    pub all: u64,
    /// Of them, those that may sign in now.
    pub usable: u64,
    /// The last end of those, if there are any.
    pub last_end: Option<UnixTime>,
}

/// An authority to be added.
#[derive(Debug, Clone)]
pub struct NewAuthority<'a> {
    /// No other may have it.
    pub name: &'a AuthorityName,
    /// What it signs.
    pub role: AuthorityRole,
    /// Self-signed if it is a root.
    pub certificate: &'a Certificate,
    /// Where its key is.
    pub key: KeyPlace,
    /// The authority in whose place it signs from now on.
    pub replaces: Option<&'a AuthorityName>,
    /// What it is trusted for, if it is foreign.
    pub trust: Option<Trust>,
    /// Certificates that go to [`AuthorityRecord::crossed`] of the authorities named.
    pub crosses: &'a [(AuthorityName, Certificate)],
}

/// An authority's newest CRL.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct NewestCrl {
    /// Its CRL number.
    pub number: u64,
    /// Its thisUpdate.
    pub at: UnixTime,
    /// Its nextUpdate, if it is known.
    pub until: Option<UnixTime>,
    /// Since which change number it lacks something, 0 if it lacks nothing.
    pub lacks: i64,
}

/// Questions about authorities.
pub trait ReadAuthorities {
    /// All authorities, the root first, then as they were added.
    fn authorities(&self) -> Result<Vec<AuthorityRecord>, StoreError>;

    /// Authorities that wait for their certificate from outside, by name.
    fn pending_authorities(&self) -> Result<Vec<PendingAuthority>, StoreError>;

    /// How many certificates of devices an authority signed, and how many of them may sign in at `now`.
    fn signed_by(&self, authority: &AuthorityName, now: UnixTime) -> Result<Signed, StoreError>;

    /// Everything that an authority signed and that is revoked, on hold (with reason certificateHold), or lost (with reason
    /// cessationOfOperation), by serial number: each with the last second of its validity.
    fn revoked_by(&self, authority: &AuthorityName) -> Result<Vec<(Revoked, UnixTime)>, StoreError>;

    /// The change number since which an authority's newest CRL lacks something, 0 if it lacks nothing.
    fn crl_lacks(&self, authority: &AuthorityName) -> Result<i64, StoreError>;
}

/// Rows of authorities.
pub trait WriteAuthorities: ReadAuthorities {
    /// Adds an authority, without [`AuthorityRecord::crossed`].
    fn insert_authority(&mut self, authority: &AuthorityRecord) -> Result<(), StoreError>;

    /// Adds a certificate to [`AuthorityRecord::crossed`] of an authority.
    fn put_cross(&mut self, authority: &AuthorityName, certificate: &Certificate) -> Result<(), StoreError>;

    /// Notes that an authority waits for its certificate; one of the same name only gets another time.
    fn put_pending(&mut self, pending: &PendingAuthority) -> Result<(), StoreError>;

    /// Takes such a note away, if it is there.
    fn drop_pending(&mut self, name: &AuthorityName) -> Result<(), StoreError>;

    /// Notes since when an authority is no longer believed.
    fn put_retired(&mut self, name: &AuthorityName, at: UnixTime) -> Result<(), StoreError>;

    /// Notes the newest CRL.
    fn put_crl(&mut self, name: &AuthorityName, crl: &NewestCrl) -> Result<(), StoreError>;

    /// Notes since which change number an authority's newest CRL lacks something.
    fn put_crl_lacks(&mut self, name: &AuthorityName, change: i64) -> Result<(), StoreError>;

    /// Notes at which change number authorities were added or retired last.
    fn put_authorities_changed(&mut self, change: i64) -> Result<(), StoreError>;
}
