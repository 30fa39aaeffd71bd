//! Jobs: work that takes many changes, so that it can be killed between any two of them and goes on.

use tidy_warden_core::time::UnixTime;

use crate::StoreError;

/// What a job does.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum JobKind {
    /// Certificates for the devices of a list.
    Enroll,
    /// Listing the devices of a list.
    Import,
    /// Changes to many devices.
    Edit,
    /// Holding many devices.
    Hold,
    /// Releasing many devices.
    Release,
    /// Revoking many devices.
    Revoke,
    /// Shared keys for many devices.
    Keys,
    /// Opening many devices to be claimed.
    Open,
    /// Many devices become nobody's.
    GiveUp,
    /// Renewing certificates in rounds. It waits for days between its steps, and nobody has it then.
    Rotate,
}

impl JobKind {
    /// All of them.
    pub const ALL: [Self; 10] = [
        Self::Enroll,
        Self::Import,
        Self::Edit,
        Self::Hold,
        Self::Release,
        Self::Revoke,
        Self::Keys,
        Self::Open,
        Self::GiveUp,
        Self::Rotate,
    ];

    /// The word for it.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Enroll => "enroll",
            Self::Import => "import",
            Self::Edit => "edit",
            Self::Hold => "hold",
            Self::Release => "release",
            Self::Revoke => "revoke",
            Self::Keys => "keys",
            Self::Open => "open",
            Self::GiveUp => "give-up",
            Self::Rotate => "rotate",
        }
    }
}

/// Who works on a job, and until when nobody else may: a process that is gone without a word loses it by that.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Lease {
    /// Who, told apart from everybody else who ever ran.
    pub holder: String,
    /// The last second of it; each batch moves it on.
    pub until: UnixTime,
}

/// A job.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct JobRecord {
    /// Its number, from 1.
    pub number: u32,
    /// What it does.
    pub kind: JobKind,
    /// SHA-256 of what it is to do: whoever is told to do the same finds it by this.
    pub digest: [u8; 32],
    /// What it is to do, in the words of whoever began it (JSON).
    pub plan: String,
    /// How far it is, in the words of whoever runs it (JSON).
    pub position: String,
    /// When it was begun.
    pub begun: UnixTime,
    /// By whom.
    pub actor: String,
    /// Why.
    pub because: String,
    /// Who works on it, if anybody does.
    pub lease: Option<Lease>,
    /// When it ended.
    pub ended: Option<UnixTime>,
    /// Whether it was ended before all of it was done.
    pub stopped: bool,
}

/// Questions about jobs.
pub trait ReadJobs {
    /// A job by its number.
    fn job(&self, number: u32) -> Result<Option<JobRecord>, StoreError>;

    /// Up to `limit` jobs, the newest first; with `open` only those that have not ended.
    fn jobs(&self, open: bool, limit: usize) -> Result<Vec<JobRecord>, StoreError>;

    /// Part `place` of what a job is to do, if it has that many.
    fn job_part(&self, number: u32, place: u32) -> Result<Option<String>, StoreError>;
}

/// Rows of jobs.
pub trait WriteJobs: ReadJobs {
    /// Writes a new job.
    fn insert_job(&mut self, job: &JobRecord) -> Result<(), StoreError>;

    /// Writes of a job what may change: its position, its lease, its end.
    fn update_job(&mut self, job: &JobRecord) -> Result<(), StoreError>;

    /// Writes a part of what a job is to do.
    fn put_job_part(&mut self, number: u32, place: u32, text: &str) -> Result<(), StoreError>;

    /// Takes away the parts of a job.
    fn drop_job_parts(&mut self, number: u32) -> Result<(), StoreError>;
}
