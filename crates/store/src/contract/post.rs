//! Instances of guard and desk: those on machines of their own, what each said of itself last, and the settings that they go by.

use tidy_warden_core::certificate::Certificate;
use tidy_warden_core::id::{DeviceId, PostName};
use tidy_warden_core::post::PostRole;
use tidy_warden_core::time::UnixTime;

use crate::StoreError;

/// A post.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PostRecord {
    /// Its name; never given twice.
    pub name: PostName,
    /// What it does.
    pub role: PostRole,
    /// The host name or address that devices reach it by.
    pub host: String,
    /// The role in the database that it signs in as.
    pub login: String,
    /// What the database checks its password by (SCRAM-SHA-256, RFC 5803); empty if it has none.
    pub verifier: String,
    /// Its certificate.
    pub certificate: Certificate,
    /// When it was added.
    pub added: UnixTime,
    /// When it was retired, for good.
    pub retired: Option<UnixTime>,
}

/// What an instance said of itself last.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PostState {
    /// The post; `guard` or `desk` for one that works in the ward's own folder.
    pub name: PostName,
    /// The version of its program.
    pub version: String,
    /// Where it listens.
    pub address: String,
    /// The edition of the policies that it goes by, 0 for none.
    pub edition: u32,
    /// The newest change that it has seen.
    pub change: i64,
    /// How many sessions it has.
    pub sessions: u64,
    /// Since when it runs.
    pub since: UnixTime,
    /// When it said so.
    pub seen: UnixTime,
}

/// An edition of the ward's settings, which a person adopted for all machines.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AdoptedSettings {
    /// From 1 on without gaps.
    pub number: u32,
    /// The text of `ward.toml`.
    pub text: String,
    /// The signature over [`tidy_warden_core::settings::adopted_octets`], in DER.
    pub signature: Vec<u8>,
    /// Who adopted it.
    pub author: String,
    /// When.
    pub at: UnixTime,
}

/// A session that a guard has opened.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Opened {
    /// Its client identifier.
    pub client_id: String,
    /// Whose it is.
    pub device: DeviceId,
    /// The network that it comes from, as text.
    pub network: String,
}

/// What a guard tells the others of its sessions, and hears of theirs.
#[derive(Debug, Clone, Copy)]
pub struct Turn<'a> {
    /// The guard.
    pub post: &'a PostName,
    /// Whether it has just begun, and has no session of before.
    pub is_first: bool,
    /// Sessions that it opened, each client identifier once.
    pub opened: &'a [Opened],
    /// Client identifiers whose sessions are over. One that is among the opened ones too was closed before.
    pub closed: &'a [String],
    /// The ward's clock.
    pub at: UnixTime,
}

/// What a guard has to know of a session that it opened.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Met {
    /// Its client identifier.
    pub client_id: String,
    /// How many sessions its device has, at all guards that are there, that were opened before it.
    pub before: u64,
    /// The network that its device left for this one, if it was here a short while ago and was at another guard meanwhile: a sign that
    /// two have its key.
    pub left: Option<String>,
}

/// Questions about posts.
pub trait ReadPosts {
    /// All posts, retired ones too, by their names.
    fn posts(&self) -> Result<Vec<PostRecord>, StoreError>;

    /// What instances said of themselves last, by their names.
    fn post_states(&self) -> Result<Vec<PostState>, StoreError>;

    /// The newest edition of the settings, if any was adopted.
    fn adopted_settings(&self) -> Result<Option<AdoptedSettings>, StoreError>;
}

/// Rows of posts; what an instance says of itself is a [`crate::Tally`].
pub trait WritePosts: ReadPosts {
    /// Writes a post in place of what there was of it.
    fn put_post(&mut self, post: &PostRecord) -> Result<(), StoreError>;

    /// Writes an edition of the settings.
    fn insert_settings(&mut self, settings: &AdoptedSettings) -> Result<(), StoreError>;
}
