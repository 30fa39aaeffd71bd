//! What every store can do.

mod policy;
mod traffic;

pub use policy::{EditionSummary, GroupMembers, GroupRecord, TrialDifference, TrialRecord, resolvable};
pub use traffic::{CloneSigns, Traffic};

use tidy_warden_core::audit::{Entry, Hash};
use tidy_warden_core::authority::{
    AuthorityRecord, AuthorityRefusal, AuthorityRole, KeyPlace, PendingAuthority, Trust,
};
use tidy_warden_core::certificate::{Certificate, Fingerprint, SerialNumber};
use tidy_warden_core::condition::Condition;
use tidy_warden_core::credential::{BlockSource, Ended, Revocation};
use tidy_warden_core::credential::{CredentialRecord, Origin};
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::device::{AddRefusal, DeviceEdit};
use tidy_warden_core::enrolment::IssueRefusal;
use tidy_warden_core::fact::Fact;
use tidy_warden_core::id::{AuthorityName, DeviceId, GroupName, LabelName};
use tidy_warden_core::key::{PublicKey, sha256};
use tidy_warden_core::policy::{FleetRow, PolicyFile};
use tidy_warden_core::revocation::{Reason, Revoked};
use tidy_warden_core::time::{Span, UnixTime};

use crate::StoreError;

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

/// Everything that a new ward begins with.
#[derive(Debug)]
pub struct Founding<'a> {
    /// The ward.
    pub ward: WardRecord,
    /// Its authorities, the root first.
    pub authorities: &'a [(AuthorityName, AuthorityRole, Certificate, KeyPlace)],
    /// Certificates of the guard and the desk, by name.
    pub servers: &'a [(&'a str, Certificate)],
    /// The text of `ward.toml`.
    pub settings: &'a str,
}

/// Devices that were listed, or why none were.
pub type Added = Result<(), Vec<AddRefusal>>;

/// A device with its credentials, newest first.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DeviceView {
    /// The device.
    pub device: DeviceRecord,
    /// Its credentials.
    pub credentials: Vec<CredentialRecord>,
}

/// An authority to be added.
#[derive(Debug, Clone)]
pub struct NewAuthority<'a> {
    /// Its name.
    pub name: &'a AuthorityName,
    /// What it signs.
    pub role: AuthorityRole,
    /// Its certificate.
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

/// A credential to be recorded.
#[derive(Debug, Clone)]
pub struct NewCredential<'a> {
    /// Whose it is.
    pub device: &'a DeviceId,
    /// Where it comes from.
    pub origin: Origin,
    /// Who signed it, if that is one of the ward's authorities or a foreign one.
    pub authority: Option<&'a AuthorityName>,
    /// The certificate in DER; of a bare key, its SubjectPublicKeyInfo.
    pub der: &'a [u8],
    /// SHA-256 of `der`.
    pub fingerprint: Fingerprint,
    /// The certificate's serial number.
    pub serial: Option<&'a SerialNumber>,
    /// SHA-256 of the SubjectPublicKeyInfo.
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
        }
    }
}

/// What is done with many devices in one transaction.
#[derive(Debug, Clone)]
pub struct Batch<'a> {
    /// What the audit entry calls the act.
    pub act: &'static str,
    /// Devices to be listed.
    pub devices: &'a [DeviceRecord],
    /// Their credentials, in the same order, and those of devices that are listed already, anywhere between.
    pub credentials: &'a [NewCredential<'a>],
    /// SHA-256 of the batch's list, for the audit entry.
    pub list_digest: [u8; 32],
    /// How far the bulk run is after this batch, in the words of whoever runs it; `None` if it belongs to none.
    pub position: Option<&'a str>,
}

/// Why one device or credential of a batch was refused; the whole batch is then left out.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BatchRefusal {
    /// The device.
    pub device: DeviceId,
    /// Why.
    pub why: String,
}

/// A bulk run that was begun and not ended.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BulkRun {
    /// What it is to do, in the words of whoever began it.
    pub plan: String,
    /// How far it is, in the words of whoever runs it.
    pub position: String,
}

/// A name that devices may bear.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum NameInUse {
    /// Of a label.
    Label(LabelName),
    /// Of a kind.
    Kind(String),
    /// None in particular: whether there is any device.
    Any,
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

/// A session that the broker keeps for a device while it is away (MQTT 5.0 section 4.1).
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BrokerSession {
    /// Its client identifier.
    pub client_id: String,
    /// Whose it is.
    pub device: DeviceId,
    /// The guard that opened it last: a random number of its own.
    pub guard: i64,
    /// When it was opened last.
    pub opened: UnixTime,
    /// Until when the broker keeps it, as far as the guard knows.
    pub until: UnixTime,
    /// Its topic filters, as they were asked for.
    pub subscriptions: Vec<String>,
}

/// An adopted edition.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct EditionRecord {
    /// Its number, from 1.
    pub number: u32,
    /// SHA-256 of its files.
    pub digest: [u8; 32],
    /// Who adopted it.
    pub author: String,
    /// When.
    pub at: UnixTime,
    /// Why.
    pub because: String,
    /// Its full text.
    pub files: Vec<PolicyFile>,
}

/// What is new since a change number.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Changes {
    /// Up to which change number this tells.
    pub to: i64,
    /// The number of the current edition, 0 if there is none.
    pub edition: u32,
    /// The change number at which the groups changed last that conditions of policies could name.
    pub group_rules: i64,
    /// The number of the trial that is running, 0 if there is none.
    pub trial: u32,
    /// The change number at which authorities were added or retired last.
    pub authorities: i64,
    /// Devices that changed; `None` if they are too many to name.
    pub devices: Option<Vec<DeviceId>>,
    /// The hash of the audit entry with the number `to`.
    pub head: Hash,
    /// The hash of the audit entry with the number that was asked for; `None` if the record has no such entry.
    pub since: Option<Hash>,
    /// Where the record ended before a person accepted a store that lacks that end.
    pub given_up: Option<(i64, Hash)>,
}

/// The most devices that [`Changes`] names.
pub const MOST_CHANGED: usize = 10_000;

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

/// What a new CRL is made from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CrlRecord {
    /// The number that it gets.
    pub number: u64,
    /// Its entries, by serial number.
    pub entries: Vec<Revoked>,
    /// The change number of the moment that it tells of: a revocation after it waits for the next CRL.
    pub change: i64,
}

/// A ward's memory.
///
/// Writing methods take `&mut self`, make one transaction with its audit entry, and change nothing if they fail.
pub trait Store: Send {
    /// What was fixed at the founding.
    ///
    /// # Errors
    /// The store cannot be read.
    fn ward(&self) -> Result<WardRecord, StoreError>;

    /// All authorities, the root first.
    ///
    /// # Errors
    /// The store cannot be read.
    fn authorities(&self) -> Result<Vec<AuthorityRecord>, StoreError>;

    /// How many certificates of devices an authority signed, and how many of them may sign in at `now`.
    ///
    /// # Errors
    /// The store cannot be read.
    fn signed_by(&self, authority: &AuthorityName, now: UnixTime) -> Result<Signed, StoreError>;

    /// The certificate of the guard or the desk.
    ///
    /// # Errors
    /// The store cannot be read, or has none of that name.
    fn server_certificate(&self, name: &str) -> Result<Certificate, StoreError>;

    /// Devices by id, in the order asked for; `None` for those that are not listed.
    ///
    /// # Errors
    /// The store cannot be read.
    fn devices(&self, ids: &[DeviceId]) -> Result<Vec<Option<DeviceView>>, StoreError>;

    /// Walks all devices in the order in which they were listed.
    ///
    /// # Errors
    /// The store cannot be read.
    fn each_device(&self, visit: &mut dyn FnMut(DeviceView)) -> Result<(), StoreError>;

    /// Walks the devices for which a condition holds at `now`, in the order in which they were listed.
    ///
    /// # Errors
    /// The store cannot be read.
    fn each_device_where(
        &self,
        condition: &Condition,
        now: UnixTime,
        visit: &mut dyn FnMut(DeviceView),
    ) -> Result<(), StoreError>;

    /// Walks all devices but the retired ones, with no more of each than policies look at; their facts only with `facts`.
    ///
    /// # Errors
    /// The store cannot be read, or the visitor fails.
    fn each_fleet_row(
        &self,
        facts: bool,
        visit: &mut dyn FnMut(&FleetRow<'_>) -> Result<(), StoreError>,
    ) -> Result<(), StoreError>;

    /// The devices behind a gateway, but the retired ones.
    ///
    /// # Errors
    /// The store cannot be read.
    fn children(&self, gateway: &DeviceId) -> Result<Vec<DeviceRecord>, StoreError>;

    /// All groups by name.
    ///
    /// # Errors
    /// The store cannot be read.
    fn groups(&self) -> Result<Vec<GroupRecord>, StoreError>;

    /// The adopted editions, without their texts.
    ///
    /// # Errors
    /// The store cannot be read.
    fn editions(&self) -> Result<Vec<EditionSummary>, StoreError>;

    /// The trial that was begun and not ended, even if its time is over.
    ///
    /// # Errors
    /// The store cannot be read.
    fn trial(&self) -> Result<Option<TrialRecord>, StoreError>;

    /// What a trial decided otherwise.
    ///
    /// # Errors
    /// The store cannot be read.
    fn trial_differences(&self, trial: u32) -> Result<Vec<TrialDifference>, StoreError>;

    /// Authorities that wait for their certificate from outside.
    ///
    /// # Errors
    /// The store cannot be read.
    fn pending_authorities(&self) -> Result<Vec<PendingAuthority>, StoreError>;

    /// How many devices there are that are neither out nor retired, and how many of them got an outfit after an authority
    /// was added.
    ///
    /// # Errors
    /// The store cannot be read.
    fn equipped_since(&self, authority: &AuthorityName) -> Result<(u64, u64), StoreError>;

    /// Who has a fact now.
    ///
    /// # Errors
    /// The store cannot be read.
    fn holder(&self, fact: &Fact) -> Result<Option<DeviceId>, StoreError>;

    /// The credential that stands for a public key, by SHA-256 of its SubjectPublicKeyInfo: a bare key that is bound to a
    /// device, whether it may sign in or not.
    ///
    /// # Errors
    /// The store cannot be read.
    fn bound_key(&self, key_digest: &[u8; 32]) -> Result<Option<Fingerprint>, StoreError>;

    /// What was bound to devices behind the place `after` of an earlier answer, 0 for the beginning. What was revoked since is
    /// among it: this says what may be looked at, not what may sign in.
    ///
    /// # Errors
    /// The store cannot be read.
    fn bound_since(&self, after: i64) -> Result<Bound, StoreError>;

    /// Whether any device has a label of this name, or is of this kind.
    ///
    /// # Errors
    /// The store cannot be read.
    fn is_used(&self, name: &NameInUse) -> Result<bool, StoreError>;

    /// The names of all labels that devices have.
    ///
    /// # Errors
    /// The store cannot be read.
    fn label_names(&self) -> Result<Vec<String>, StoreError>;

    /// Whether a key is blocked, by SHA-256 of its SubjectPublicKeyInfo.
    ///
    /// # Errors
    /// The store cannot be read.
    fn blocked_key(&self, digest: &[u8; 32]) -> Result<Option<BlockedKey>, StoreError>;

    /// Walks all blocked keys, the oldest first.
    ///
    /// # Errors
    /// The store cannot be read.
    fn each_blocked_key(&self, visit: &mut dyn FnMut(BlockedKey)) -> Result<(), StoreError>;

    /// Blocks keys, and revokes the credentials that have them for compromise; gives how many were not blocked before, and
    /// what was ended.
    ///
    /// # Errors
    /// The store fails.
    fn block_keys(
        &mut self,
        digests: &[[u8; 32]],
        source: BlockSource,
        cause: &Cause,
    ) -> Result<(usize, Vec<Ended>), StoreError>;

    /// Notes that a certificate is about to be signed, before it is.
    ///
    /// # Errors
    /// The store fails.
    fn intend(&mut self, intended: &Intended, cause: &Cause) -> Result<(), StoreError>;

    /// Certificates that were about to be signed and were not recorded. Those of a process that still runs are among them.
    ///
    /// # Errors
    /// The store cannot be read.
    fn intended(&self) -> Result<Vec<Intended>, StoreError>;

    /// Takes such notes away: the certificate was recorded and handed out, or was never made. With `lost` nobody knows what
    /// became of it, and it goes on its authority's CRL; only for those whose signer is gone.
    ///
    /// # Errors
    /// The store fails.
    fn end_intended(&mut self, all: &[Intended], lost: bool, cause: &Cause) -> Result<(), StoreError>;

    /// The session that the broker keeps under a client identifier.
    ///
    /// # Errors
    /// The store cannot be read.
    fn broker_session(&self, client_id: &str) -> Result<Option<BrokerSession>, StoreError>;

    /// How many sessions the broker keeps for a device.
    ///
    /// # Errors
    /// The store cannot be read.
    fn broker_sessions_of(&self, device: &DeviceId) -> Result<usize, StoreError>;

    /// Up to `limit` sessions that the broker keeps for devices that are out or retired.
    ///
    /// # Errors
    /// The store cannot be read.
    fn broker_sessions_of_ended(&self, limit: usize) -> Result<Vec<BrokerSession>, StoreError>;

    /// Keeps what is known of sessions at the broker, and forgets those that are gone. Leaves no entry: nothing is decided.
    ///
    /// # Errors
    /// The store fails.
    fn keep_broker_sessions(
        &mut self,
        kept: &[BrokerSession],
        gone: &[String],
        now: UnixTime,
    ) -> Result<(), StoreError>;

    /// Opens the store anew where it stands now, after it was away or replaced.
    ///
    /// # Errors
    /// It cannot be opened; it stays as it was.
    fn reopen(&mut self) -> Result<(), StoreError>;

    /// Records that a person accepts that this store lacks the end of the record that was seen before: up to the entry
    /// `number` with `hash`.
    ///
    /// # Errors
    /// The store fails.
    fn give_up(&mut self, number: i64, hash: Hash, cause: &Cause) -> Result<(), StoreError>;

    /// The bulk run that was begun and not ended.
    ///
    /// # Errors
    /// The store cannot be read.
    fn bulk_run(&self) -> Result<Option<BulkRun>, StoreError>;

    /// Credentials by fingerprint, with their devices, in the order asked for; `None` for those that are not known.
    ///
    /// # Errors
    /// The store cannot be read.
    fn status_many(
        &self,
        fingerprints: &[Fingerprint],
    ) -> Result<Vec<Option<(CredentialRecord, DeviceRecord)>>, StoreError>;

    /// The certificates that have a serial number: one at the most for each authority.
    ///
    /// # Errors
    /// The store cannot be read.
    fn fingerprints_of(&self, serial: &SerialNumber) -> Result<Vec<Fingerprint>, StoreError>;

    /// An edition, or the current one; `None` if there is none.
    ///
    /// # Errors
    /// The store cannot be read.
    fn edition(&self, number: Option<u32>) -> Result<Option<EditionRecord>, StoreError>;

    /// What is new since change number `since`.
    ///
    /// # Errors
    /// The store cannot be read.
    fn changed_since(&self, since: i64) -> Result<Changes, StoreError>;

    /// Walks the audit record from entry `from` on, until `visit` says no.
    ///
    /// # Errors
    /// The store cannot be read.
    fn each_entry(&self, from: i64, visit: &mut dyn FnMut(Entry) -> bool) -> Result<(), StoreError>;

    /// Walks all credentials in the order in which they were recorded, each with the number of the entry that recorded it;
    /// those that older versions recorded have none.
    ///
    /// # Errors
    /// The store cannot be read.
    fn each_recorded(&self, visit: &mut dyn FnMut(Option<i64>, Fingerprint)) -> Result<(), StoreError>;

    /// The entries that recorded a device's credentials, those of many devices at once among them.
    ///
    /// # Errors
    /// The store cannot be read.
    fn entries_of(&self, device: &DeviceId) -> Result<Vec<i64>, StoreError>;

    /// Number and hash of the newest audit entry, as noted beside the record.
    ///
    /// # Errors
    /// The store cannot be read.
    fn audit_end(&self) -> Result<(i64, Hash), StoreError>;

    /// The serial numbers of an authority's certificates that a CRL made at `now` must list.
    ///
    /// # Errors
    /// The store cannot be read, or has no such authority.
    fn next_crl(&self, authority: &AuthorityName) -> Result<CrlRecord, StoreError>;

    /// The text of `ward.toml` that was recorded last.
    ///
    /// # Errors
    /// The store cannot be read.
    fn settings_text(&self) -> Result<String, StoreError>;

    /// Every reason why these devices could not be listed now; changes nothing.
    ///
    /// # Errors
    /// The store cannot be read.
    fn check_devices(&self, devices: &[DeviceRecord]) -> Result<Vec<AddRefusal>, StoreError>;

    /// Lists devices: all, or none and every reason why.
    ///
    /// # Errors
    /// The store fails.
    fn add_devices(&mut self, devices: &[DeviceRecord], cause: &Cause) -> Result<Added, StoreError>;

    /// Changes a device.
    ///
    /// # Errors
    /// The store fails or has no such device.
    fn edit_device(&mut self, id: &DeviceId, edit: &DeviceEdit, cause: &Cause) -> Result<Added, StoreError>;

    /// Changes many devices alike, each with its own audit entry: all, or none and why one was refused.
    ///
    /// # Errors
    /// The store fails or lacks one of the devices.
    fn edit_devices(
        &mut self,
        ids: &[DeviceId],
        edit: &DeviceEdit,
        cause: &Cause,
    ) -> Result<Result<(), (DeviceId, Vec<AddRefusal>)>, StoreError>;

    /// Retires a device for good: its credentials are revoked, its facts are free for another.
    ///
    /// # Errors
    /// The store fails or has no such device.
    fn retire_device(&mut self, id: &DeviceId, cause: &Cause) -> Result<(), StoreError>;

    /// Lets a device that is out enrol again. Says whether it was out.
    ///
    /// # Errors
    /// The store fails or has no such device.
    fn reopen_device(&mut self, id: &DeviceId, cause: &Cause) -> Result<bool, StoreError>;

    /// Records a certificate. `deliver` runs when all rules hold and before the commit: it hands the outfit out.
    /// If it fails, nothing was recorded; if the process dies after it, the certificate is unknown and opens nothing.
    ///
    /// # Errors
    /// The store or the delivery fails.
    fn record_issued(
        &mut self,
        new: &NewCredential<'_>,
        cause: &Cause,
        deliver: &mut dyn FnMut() -> std::io::Result<()>,
    ) -> Result<Result<(), IssueRefusal>, StoreError>;

    /// Lists devices and records credentials, all of them or none and why. `deliver` runs as in
    /// [`Store::record_issued`].
    ///
    /// # Errors
    /// The store or the delivery fails.
    fn record_batch(
        &mut self,
        batch: &Batch<'_>,
        cause: &Cause,
        deliver: &mut dyn FnMut() -> std::io::Result<()>,
    ) -> Result<Result<(), Vec<BatchRefusal>>, StoreError>;

    /// Begins a bulk run; says no if another was begun and not ended.
    ///
    /// # Errors
    /// The store fails.
    fn begin_bulk(&mut self, run: &BulkRun, cause: &Cause) -> Result<bool, StoreError>;

    /// Ends the bulk run; `detail` is a JSON object for the audit record.
    ///
    /// # Errors
    /// The store fails.
    fn end_bulk(&mut self, detail: &str, cause: &Cause) -> Result<(), StoreError>;

    /// Adds an authority.
    ///
    /// # Errors
    /// The store fails.
    fn add_authority(
        &mut self,
        new: &NewAuthority<'_>,
        cause: &Cause,
    ) -> Result<Result<(), AuthorityRefusal>, StoreError>;

    /// Notes that an authority waits for its certificate from outside.
    ///
    /// # Errors
    /// The store fails.
    fn expect_authority(
        &mut self,
        pending: &PendingAuthority,
        cause: &Cause,
    ) -> Result<Result<(), AuthorityRefusal>, StoreError>;

    /// Ends the belief in an authority.
    ///
    /// # Errors
    /// The store fails or has no such authority.
    fn retire_authority(&mut self, name: &AuthorityName, cause: &Cause) -> Result<(), StoreError>;

    /// Records that credentials opened sessions; `None` stands for a token. The first use of a certificate ends those that it
    /// supersedes.
    ///
    /// # Errors
    /// A device is not known, or the store cannot be written.
    fn record_uses(&mut self, uses: &[(DeviceId, Option<Fingerprint>)], cause: &Cause) -> Result<(), StoreError>;

    /// Adds to what was counted of devices, and moves the time forward at which each was last seen. Leaves no entry in the
    /// audit record: nothing is decided by it.
    ///
    /// # Errors
    /// The store cannot be written. Devices that are not known are passed over.
    fn add_traffic(&mut self, counted: &[(DeviceId, Traffic)], at: UnixTime) -> Result<(), StoreError>;

    /// What was counted of a device; all zero if it never met the guard.
    ///
    /// # Errors
    /// The store cannot be read.
    fn traffic(&self, id: &DeviceId) -> Result<Traffic, StoreError>;

    /// Records an act that changes nothing in the store, but must not go unseen; gives the number of its entry.
    ///
    /// # Errors
    /// The store cannot be written.
    fn record_note(&mut self, act: &'static str, subject: &str, detail: &str, cause: &Cause)
    -> Result<i64, StoreError>;

    /// Records a sign that a device's key is in two places; the audit record gets an entry for the first, and for one that
    /// comes an hour or more after the last.
    ///
    /// # Errors
    /// The device is not known, or the store cannot be written.
    fn record_clone_sign(&mut self, id: &DeviceId, sign: &str, cause: &Cause) -> Result<(), StoreError>;

    /// The signs that a device's key is in two places.
    ///
    /// # Errors
    /// The store cannot be read.
    fn clone_signs(&self, id: &DeviceId) -> Result<Option<CloneSigns>, StoreError>;

    /// Revokes; gives the credentials that this ended. For [`Reason::KeyCompromise`] the keys of all that the device had are
    /// blocked, whatever their state, and what was revoked before for another reason has this one from now on.
    ///
    /// # Errors
    /// The store fails, or has no such device or certificate.
    fn revoke(&mut self, what: Revocation<'_>, cause: &Cause) -> Result<Vec<Ended>, StoreError>;

    /// Revokes all credentials of many devices, which are out then; gives the credentials that this ended.
    ///
    /// # Errors
    /// The store fails or lacks one of the devices.
    fn revoke_devices(&mut self, ids: &[DeviceId], reason: Reason, cause: &Cause) -> Result<Vec<Ended>, StoreError>;

    /// Puts devices on hold, or lifts that; gives those for which it changed anything. Devices that are out or retired are
    /// left as they are. Nothing of a device is ended by it.
    ///
    /// # Errors
    /// A device is not known, or the store cannot be written.
    fn set_hold(&mut self, ids: &[DeviceId], held: bool, cause: &Cause) -> Result<Vec<DeviceId>, StoreError>;

    /// Makes a group, or gives one that is there other members.
    ///
    /// # Errors
    /// The store fails or lacks one of the devices.
    fn make_group(&mut self, name: &GroupName, members: &GroupMembers, cause: &Cause) -> Result<(), StoreError>;

    /// Drops a group; its devices stay.
    ///
    /// # Errors
    /// The store fails or has no such group.
    fn drop_group(&mut self, name: &GroupName, cause: &Cause) -> Result<(), StoreError>;

    /// Begins a trial of policies, in place of one that is running; gives its number.
    ///
    /// # Errors
    /// The store fails.
    fn begin_trial(&mut self, files: &[PolicyFile], until: UnixTime, cause: &Cause) -> Result<u32, StoreError>;

    /// Ends the trial that is running; says whether there was one.
    ///
    /// # Errors
    /// The store fails.
    fn end_trial(&mut self, cause: &Cause) -> Result<bool, StoreError>;

    /// Adds to what a trial decided otherwise: counts are added up. Has no audit entry, as nothing of the ward changes.
    ///
    /// # Errors
    /// The store fails.
    fn record_differences(&mut self, trial: u32, differences: &[TrialDifference]) -> Result<(), StoreError>;

    /// Adopts an edition; gives its number.
    ///
    /// # Errors
    /// The store fails.
    fn adopt(&mut self, files: &[PolicyFile], cause: &Cause) -> Result<u32, StoreError>;

    /// Records that a CRL was signed, if no other took its number before. Says whether it was recorded. What was revoked
    /// since `crl` was read keeps the authority's CRL marked as pending.
    ///
    /// # Errors
    /// The store or the delivery fails.
    fn record_crl(
        &mut self,
        authority: &AuthorityName,
        crl: &CrlRecord,
        cause: &Cause,
        deliver: &mut dyn FnMut() -> std::io::Result<()>,
    ) -> Result<bool, StoreError>;

    /// Records that a token was signed. The token itself is not kept.
    ///
    /// # Errors
    /// The store fails.
    fn record_token(&mut self, device: &DeviceId, detail: &str, cause: &Cause) -> Result<(), StoreError>;

    /// Records that `ward.toml` changed: its new text, and the difference as an audit entry's detail.
    ///
    /// # Errors
    /// The store fails.
    fn record_settings(&mut self, text: &str, detail: &str, cause: &Cause) -> Result<(), StoreError>;
}
