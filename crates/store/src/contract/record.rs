//! The ward itself, its audit record, and where that ends.

use tidy_warden_core::audit::{Draft, Entry, Hash, Tree};
use tidy_warden_core::authority::{AuthorityRole, KeyPlace};
use tidy_warden_core::certificate::{Certificate, Fingerprint};
use tidy_warden_core::id::AuthorityName;
use tidy_warden_core::key::PublicKey;
use tidy_warden_core::time::UnixTime;

use crate::{Move, StoreError};

/// When, by whom and why a change is made; becomes part of its audit entry.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Cause {
    /// The ward's clock.
    pub at: UnixTime,
    /// Who acts.
    pub actor: String,
    /// The reason given, or empty.
    pub because: String,
}

/// What is fixed when a ward is made.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WardRecord {
    /// A UUID that never changes, as a URN: the issuer of its tokens.
    pub urn: String,
    /// Whether its clock can be set, for rehearsals.
    pub rehearsal: bool,
    /// The public half of the key that signs tokens.
    pub token_key: PublicKey,
}

/// Everything that a new ward begins with.
#[derive(Debug)]
pub struct Founding<'a> {
    /// What never changes.
    pub ward: WardRecord,
    /// Its authorities, the root first.
    pub authorities: &'a [(AuthorityName, AuthorityRole, Certificate, KeyPlace)],
    /// Certificates of the guard and the desk, by name.
    pub servers: &'a [(&'a str, Certificate)],
    /// The text of `ward.toml`.
    pub settings: &'a str,
}

/// Where the record ends, and what counts there.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Head {
    /// The number of the newest entry, which is the change number: it only grows.
    pub number: i64,
    /// That entry's hash.
    pub hash: Hash,
    /// The number of the current edition, 0 if there is none.
    pub edition: u32,
    /// The change number at which the groups changed last that conditions of policies could name.
    pub group_rules: i64,
    /// The number of the trial that is running, 0 if there is none.
    pub trial: u32,
    /// The change number at which authorities were added or retired last.
    pub authorities: i64,
    /// The change number at which a guard or desk was given another certificate last.
    pub servers: i64,
    /// The change number at which keys that sign tokens, blocks of tokens of nobody knows whom, or who may open shared keys changed last.
    pub tokens: i64,
    /// The number of the settings that were adopted last for all machines, 0 if none were.
    pub settings: u32,
    /// Where the record ended before a person accepted a store that lacks that end.
    pub given_up: Option<(i64, Hash)>,
    /// Why nobody may be let in by what stands here until a person accepts it: it was put back from a backup that lacks what is known
    /// to have happened after it.
    pub doubt: Option<String>,
    /// The place that the ward moves to, or was moved to: what is here is of the past.
    pub moved: Option<Move>,
}

/// Questions about the ward and its record.
pub trait ReadRecord {
    /// What was fixed at the founding.
    ///
    /// # Errors
    /// It is not there, or does not read back.
    fn ward(&self) -> Result<WardRecord, StoreError>;

    /// The text of `ward.toml` that was recorded last.
    ///
    /// # Errors
    /// It is not there.
    fn settings_text(&self) -> Result<String, StoreError>;

    /// The certificate of the guard or the desk, or the newest of a post that was given another than it was added with.
    ///
    /// # Errors
    /// There is none of that name.
    fn server_certificate(&self, name: &str) -> Result<Certificate, StoreError>;

    /// The certificates that guards, desks and posts had before, each with the name of whose it was. Not all that have ended are kept.
    fn former_servers(&self) -> Result<Vec<(String, Certificate)>, StoreError>;

    /// Where the record ends, and what counts there.
    fn head(&self) -> Result<Head, StoreError>;

    /// Number and hash of the newest entry, as noted beside the record; 0 and [`tidy_warden_core::audit::GENESIS`] if there is none.
    fn audit_end(&self) -> Result<(i64, Hash), StoreError>;

    /// The tree over the hashes of all entries (RFC 9162 section 2.1), as noted beside the record: its root goes into signed heads, so
    /// that single entries can be proved to belong to them.
    fn tree(&self) -> Result<Tree, StoreError>;

    /// The hash of an entry, if the record has it.
    fn entry_hash(&self, number: i64) -> Result<Option<Hash>, StoreError>;

    /// Up to `limit` entries from number `from` on.
    fn entries(&self, from: i64, limit: usize) -> Result<Vec<Entry>, StoreError>;

    /// Up to `limit` entries about a subject with numbers below `before`, the newest first.
    fn entries_about(&self, subject: &str, before: i64, limit: usize) -> Result<Vec<Entry>, StoreError>;
}

/// Rows of the ward and its record.
pub trait WriteRecord: ReadRecord {
    /// Writes an entry, which must be the one behind the newest, and notes it as the end.
    fn put_entry(&mut self, entry: &Entry) -> Result<(), StoreError>;

    /// Writes what is fixed at the founding.
    fn put_ward(&mut self, ward: &WardRecord) -> Result<(), StoreError>;

    /// Writes the text of `ward.toml`.
    fn put_settings(&mut self, text: &str) -> Result<(), StoreError>;

    /// Writes the certificate of the guard, the desk or a post in place of what there was.
    fn put_server(&mut self, name: &str, certificate: &Certificate) -> Result<(), StoreError>;

    /// Writes that a certificate was that of a guard, desk or post before.
    fn put_former_server(&mut self, name: &str, certificate: &Certificate) -> Result<(), StoreError>;

    /// Forgets a certificate that was some server's before.
    fn drop_former_server(&mut self, fingerprint: &Fingerprint) -> Result<(), StoreError>;

    /// Writes [`Head::servers`].
    fn put_servers_changed(&mut self, change: i64) -> Result<(), StoreError>;

    /// Writes [`Head::given_up`].
    fn put_given_up(&mut self, number: i64, hash: &Hash) -> Result<(), StoreError>;

    /// Writes [`Head::doubt`].
    fn put_doubt(&mut self, doubt: Option<&str>) -> Result<(), StoreError>;
}

impl Cause {
    /// What this leaves in the record for an act.
    #[must_use]
    pub fn draft(&self, act: &'static str, subject: &str, detail: &str) -> Draft {
        Draft {
            at: self.at,
            actor: self.actor.clone(),
            act,
            subject: subject.to_owned(),
            because: self.because.clone(),
            detail: detail.to_owned(),
        }
    }
}
