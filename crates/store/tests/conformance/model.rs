//! Random acts on the file, in the database and on the model in memory: the same answers, the same rows, the same audit hashes.

use std::cell::{Cell, RefCell};
use std::collections::BTreeSet;

use proptest::prelude::*;
use proptest::test_runner::TestRunner;
use tidy_warden_core::admission::{AdmissionName, AdmissionRecord, Demand};
use tidy_warden_core::asking::AskingRecord;
use tidy_warden_core::audit::Hash;
use tidy_warden_core::authority::AuthorityRole;
use tidy_warden_core::authority::{KeyPlace, PendingAuthority, Trust};
use tidy_warden_core::certificate::{Certificate, Fingerprint};
use tidy_warden_core::claim::{ClaimBy, CodeDigest, OpenClaim, OpenedBy, Scope};
use tidy_warden_core::credential::{BlockSource, Origin, Revocation};
use tidy_warden_core::device::{DeviceEdit, DeviceRecord};
use tidy_warden_core::due::DeviceEnds;
use tidy_warden_core::errand::{Brought, Errand, Purpose, State};
use tidy_warden_core::fact::{Fact, FactName};
use tidy_warden_core::id::{DeviceId, KindName, LabelName, LabelValue, OwnerId, PostName};
use tidy_warden_core::introduced::{IntroducedRecord, IntroducedState};
use tidy_warden_core::key::{NewKey, ProvenKey, SoftwareKey, sha256, thumbprint};
use tidy_warden_core::notice::NoticeRecord;
use tidy_warden_core::owner::OwnerRecord;
use tidy_warden_core::policy::PolicyFile;
use tidy_warden_core::post::PostRole;
use tidy_warden_core::reflex::{AtMost, Evidence, Noticed, Then};
use tidy_warden_core::revocation::Reason;
use tidy_warden_core::rotation::Replaces;
use tidy_warden_core::shared::WrappedKey;
use tidy_warden_core::time::{Span, UnixTime};
use tidy_warden_store::acts::reflex::{Planned, Working};
use tidy_warden_store::{
    AdoptedSettings, Batch, BrokerSession, Cause, Declared, DeviceEvent, EndPlace, ErrandTally, GroupMembers,
    GuardStore, Intended, Introduction, JobKind, KeyReplaces, KindRules, Lease, NameInUse, NewAuthority, NewCredential,
    NewErrand, NewJob, OperatorStore, OwnFacts, OwnerEdit, OwnerPass, PassKind, Place, PostRecord, PostState, Rules,
    SqliteStore, Store, StoreError, Take, Tally, TokenBlock, TokenSignerRecord, Traffic, TrialDifference, Tx, acts,
    postgres,
};

use crate::bench::{NOW, World, access, broken, cause, device, id, new_database, new_file, new_model};

/// How many devices the acts are about.
const DEVICES: u8 = 6;

/// Something that a person or the guard does. Numbers name devices, certificates, facts and so on, out of a few.
#[derive(Debug, Clone)]
pub(crate) enum Act {
    Add { devices: Vec<(u8, u8, u8)> },
    Edit { devices: Vec<u8>, label: u8, fact: u8, gateway: u8 },
    Retire(u8),
    Reopen(u8),
    Hold(Vec<u8>, bool),
    Issue { certificate: u8, again: bool, overlap: u8, foreign: bool },
    Batch { new: Vec<u8>, certificates: Vec<u8>, fresh: bool },
    Job { kind: u8, plan: u8, holder: u8 },
    Take { job: u8, holder: u8, is_gone: bool },
    Reach { job: u8, holder: u8 },
    EndJob { job: u8, holder: u8, stopped: bool },
    Revoke { device: u8, only: Option<u8>, reason: u8 },
    RevokeMany(Vec<u8>),
    Block(Vec<u8>),
    Intend(u8),
    EndIntended(bool),
    Use(Vec<(u8, Option<u8>)>),
    Crl { stale: bool },
    Group { name: u8, members: Option<Vec<u8>> },
    DropGroup(u8),
    Adopt(u8),
    Trial(bool),
    Authority { key: u8, replaces: bool },
    Expect(u8),
    RetireAuthority(u8),
    Settings(u8),
    Note,
    GiveUp,
    Restored(bool),
    Clone(u8, bool),
    Traffic(u8, u8),
    Errand(u8, u8),
    Carry(u8, bool),
    EndErrand(u8, u8),
    DropErrands(u8),
    Notice(u8, u8, bool),
    Reflex(u8, u8),
    UndoReflex(u8, bool),
    SendNotices(u8),
    Difference(u8, u8),
    Session(u8, u8),
    Post(u8),
    RetirePost(u8),
    RenewServer(u8, u8),
    PostSays(u8, u8),
    AdoptSettings(u8),
    OpenAdmissions(Vec<(u8, u8)>),
    WithdrawAdmission(u8),
    Admit(u8, u8),
    Ask(u8, u8),
    Accept(u8, u8),
    RefuseAsking(u8),
    Introduce(u8, u8, bool),
    Child(u8, bool),
    AddKey { device: u8, key: u8, replaces: Option<Option<u8>> },
    UseKey(u8, u8),
    RevokeKey(u8, u8, bool),
    BlockToken { device: Option<u8>, name: u8, before: Option<u8> },
    AddSigner(u8),
    RetireSigner(u8),
    Wrap(u8),
    Owner(u8, u8),
    Claim { device: u8, owner: u8, what: u8 },
}

pub(crate) fn any_act() -> impl Strategy<Value = Act> {
    let one = || 0..DEVICES;
    let some = || proptest::collection::vec(0..DEVICES, 1..4);
    let kept = || 0u8..12;
    prop_oneof![
        4 => proptest::collection::vec((one(), 0u8..5, 0..DEVICES * 4), 1..4).prop_map(|devices| Act::Add { devices }),
        2 => (some(), 0u8..4, 0u8..8, 0..DEVICES * 3)
            .prop_map(|(devices, label, fact, gateway)| Act::Edit { devices, label, fact, gateway }),
        1 => one().prop_map(Act::Retire),
        2 => one().prop_map(Act::Reopen),
        2 => (some(), any::<bool>()).prop_map(|(devices, held)| Act::Hold(devices, held)),
        6 => (kept(), any::<bool>(), 0u8..3, proptest::bool::weighted(0.2))
            .prop_map(|(certificate, again, overlap, foreign)| Act::Issue { certificate, again, overlap, foreign }),
        3 => (some(), proptest::collection::vec(kept(), 0..4), any::<bool>())
            .prop_map(|(new, certificates, fresh)| Act::Batch { new, certificates, fresh }),
        5 => (0u8..3, 0u8..2, 0u8..2).prop_map(|(kind, plan, holder)| Act::Job { kind, plan, holder }),
        1 => (1u8..4, 0u8..2, any::<bool>()).prop_map(|(job, holder, is_gone)| Act::Take { job, holder, is_gone }),
        6 => (1u8..4, 0u8..2).prop_map(|(job, holder)| Act::Reach { job, holder }),
        3 => (1u8..3, 0u8..2, any::<bool>()).prop_map(|(job, holder, stopped)| Act::EndJob { job, holder, stopped }),
        2 => (one(), proptest::option::of(kept()), 0u8..4)
            .prop_map(|(device, only, reason)| Act::Revoke { device, only, reason }),
        2 => some().prop_map(Act::RevokeMany),
        1 => proptest::collection::vec(0u8..9, 1..3).prop_map(Act::Block),
        1 => kept().prop_map(Act::Intend),
        1 => any::<bool>().prop_map(Act::EndIntended),
        4 => proptest::collection::vec((one(), proptest::option::of(kept())), 1..3).prop_map(Act::Use),
        2 => any::<bool>().prop_map(|stale| Act::Crl { stale }),
        2 => (0u8..3, proptest::option::of(some())).prop_map(|(name, members)| Act::Group { name, members }),
        3 => (0u8..3).prop_map(Act::DropGroup),
        1 => (0u8..3).prop_map(Act::Adopt),
        1 => any::<bool>().prop_map(Act::Trial),
        2 => (0u8..3, any::<bool>()).prop_map(|(key, replaces)| Act::Authority { key, replaces }),
        1 => (0u8..4).prop_map(Act::Expect),
        2 => (0u8..3).prop_map(Act::RetireAuthority),
        3 => (0u8..3).prop_map(Act::Settings),
        1 => Just(Act::Note),
        1 => Just(Act::GiveUp),
        1 => any::<bool>().prop_map(Act::Restored),
        1 => (one(), any::<bool>()).prop_map(|(device, hold)| Act::Clone(device, hold)),
        1 => (one(), 0u8..3).prop_map(|(device, count)| Act::Traffic(device, count)),
        4 => (one(), 0u8..4).prop_map(|(device, purpose)| Act::Errand(device, purpose)),
        3 => (1u8..6, any::<bool>()).prop_map(|(number, answers)| Act::Carry(number, answers)),
        2 => (1u8..6, 0u8..3).prop_map(|(number, state)| Act::EndErrand(number, state)),
        1 => (0u8..9).prop_map(Act::DropErrands),
        3 => (one(), 0u8..4, any::<bool>()).prop_map(|(device, what, proved)| Act::Notice(device, what, proved)),
        3 => (one(), 0u8..8).prop_map(|(device, then)| Act::Reflex(device, then)),
        2 => (0u8..2, any::<bool>()).prop_map(|(name, resume)| Act::UndoReflex(name, resume)),
        1 => (0u8..3).prop_map(Act::SendNotices),
        1 => (one(), 0u8..3).prop_map(|(device, rule)| Act::Difference(device, rule)),
        1 => (one(), 0u8..3).prop_map(|(device, client)| Act::Session(device, client)),
        4 => (0u8..3).prop_map(Act::Post),
        2 => (0u8..3).prop_map(Act::RetirePost),
        // The last certificates are for the keys of the first, which posts have.
        6 => (0u8..4, 8u8..12).prop_map(|(post, certificate)| Act::RenewServer(post, certificate)),
        1 => (0u8..3, 0u8..3).prop_map(|(post, edition)| Act::PostSays(post, edition)),
        1 => (0u8..3).prop_map(Act::AdoptSettings),
        4 => proptest::collection::vec((one(), 0u8..5), 1..3).prop_map(Act::OpenAdmissions),
        // Some of these keys are in no certificate.
        6 => (8u8..12, 0u8..5).prop_map(|(key, fact)| Act::Ask(key, fact)),
        5 => (8u8..12, 0..DEVICES * 2).prop_map(|(key, device)| Act::Accept(key, device)),
        3 => (8u8..12).prop_map(Act::RefuseAsking),
        6 => (0u8..3, one(), proptest::bool::weighted(0.3))
            .prop_map(|(child, gateway, free)| Act::Introduce(child, gateway, free)),
        4 => (0u8..3, any::<bool>()).prop_map(|(child, accept)| Act::Child(child, accept)),
        3 => (1u8..4).prop_map(Act::WithdrawAdmission),
        5 => (1u8..4, kept()).prop_map(|(admission, certificate)| Act::Admit(admission, certificate)),
        // A few devices and keys, so that one that is used or revoked is often one that was given.
        8 => (0u8..3, 9u8..12, proptest::option::weighted(0.4, proptest::option::weighted(0.6, 9u8..12)))
            .prop_map(|(device, key, replaces)| Act::AddKey { device, key, replaces }),
        3 => (0u8..3, 9u8..12).prop_map(|(device, key)| Act::UseKey(device, key)),
        4 => (0u8..3, 9u8..12, any::<bool>()).prop_map(|(device, key, stolen)| Act::RevokeKey(device, key, stolen)),
        3 => (proptest::option::of(one()), 0u8..3, proptest::option::of(0u8..3))
            .prop_map(|(device, name, before)| Act::BlockToken { device, name, before }),
        2 => (8u8..12).prop_map(Act::AddSigner),
        2 => (8u8..12).prop_map(Act::RetireSigner),
        1 => (0u8..2).prop_map(Act::Wrap),
        4 => (0u8..3, 0u8..8).prop_map(|(owner, what)| Act::Owner(owner, what)),
        // Few devices, so that one that is taken is often one that was opened.
        12 => (0u8..3, 0u8..3, 0u8..11).prop_map(|(device, owner, what)| Act::Claim { device, owner, what }),
    ]
}

/// What the numbers of acts name.
pub(crate) struct Cast {
    keys: Vec<ProvenKey>,
    /// Each with the device that it is for: two for each device, one of them with the key of another's.
    pub(crate) certificates: Vec<(DeviceId, Certificate)>,
}

impl Cast {
    pub(crate) fn new(world: &mut World) -> Self {
        let keys: Vec<ProvenKey> = (0..12).map(|_| SoftwareKey::generate(NewKey::P256).unwrap().proven()).collect();
        let of = |number: usize| format!("wv-{}", number % usize::from(DEVICES));
        let certificates = (0..12)
            .map(|number| {
                (
                    id(&of(number)),
                    world.certificate(&of(number), &keys[number * 5 % 9], 1 + 30 * u32::from(number % 5 != 0)),
                )
            })
            .collect();
        Self { keys, certificates }
    }

    /// That of a certificate's key.
    pub(crate) fn digest_of(&self, certificate: usize) -> [u8; 32] {
        sha256(self.certificates[certificate].1.public_key.spki())
    }

    /// What a device's own key is called in the store: the public one, or else the shared one.
    fn key_name(&self, key: u8) -> Fingerprint {
        match key % 2 {
            0 => Fingerprint(self.digest(key)),
            _ => Fingerprint(sha256(format!("shared-{key}").as_bytes())),
        }
    }

    fn digest(&self, key: u8) -> [u8; 32] {
        sha256(self.keys[usize::from(key)].public_key().spki())
    }
}

fn post_name(post: u8) -> PostName {
    format!("guard-{post}").parse().unwrap()
}

fn lease(holder: u8, at: i64) -> Lease {
    Lease { holder: format!("process {holder}"), until: UnixTime(NOW + at + 1000) }
}

fn listed(number: u8, fact: u8, gateway: u8) -> DeviceRecord {
    let mut device = device(&format!("wv-{number}"), (fact > 0).then(|| format!("QF-{fact}")).as_deref());
    device.gateway = (gateway < DEVICES).then(|| name(gateway));
    device
}

fn asset() -> FactName {
    FactName::parse("asset").unwrap()
}

fn child_name(number: u8) -> DeviceId {
    id(&format!("child-{number}"))
}

fn name(number: u8) -> DeviceId {
    id(&format!("wv-{number}"))
}

fn names(numbers: &[u8]) -> Vec<DeviceId> {
    numbers.iter().map(|number| name(*number)).collect()
}

/// An answer in words, so that those of two engines can be held against each other.
fn told<T: std::fmt::Debug>(answer: Result<T, StoreError>) -> String {
    match answer {
        Ok(done) => format!("{done:?}"),
        Err(StoreError::Unknown { what, name }) => format!("there is no {what} {name}"),
        Err(StoreError::TakenOver { job }) => format!("there is no job {job} of this holder"),
        Err(error) => format!("ERROR {error}"),
    }
}

pub(crate) fn act(store: &mut OperatorStore, guard: &mut GuardStore, cast: &Cast, what: &Act, at: i64) -> String {
    act_for(store, guard, cast, what, at, &cause(at))
}

/// The same for a cause of one's own.
pub(crate) fn act_for(
    store: &mut OperatorStore,
    guard: &mut GuardStore,
    cast: &Cast,
    what: &Act,
    at: i64,
    cause: &Cause,
) -> String {
    let authority = "devices".parse().unwrap();
    let certificate = |number: u8| &cast.certificates[usize::from(number)];
    let new = |number: u8, again: bool, overlap: u8| {
        let (of, certificate) = certificate(number);
        let overlap = Span::from_seconds(u32::from(overlap) * 5);
        NewCredential { again, overlap, ..NewCredential::issued(of, &authority, certificate, "p256") }
    };
    let file = |text: u8| PolicyFile { name: "p".into(), text: format!("policy p {{ for id = a{text} }}") };
    match what {
        Act::Add { devices } => {
            let devices: Vec<_> =
                devices.iter().map(|(number, fact, gateway)| listed(*number, *fact, *gateway)).collect();
            let checked = told(store.check_devices(&devices));
            format!("{checked} {}", told(store.add_devices(&devices, cause)))
        }
        Act::Edit { devices, label, fact, gateway } => {
            let edit = DeviceEdit {
                // A label may have the name of a fact here, which nobody could give by a command.
                labels: vec![(
                    if *label == 3 { "asset" } else { "site" }.parse().unwrap(),
                    (*label > 0).then(|| format!("s{label}").parse().unwrap()),
                )],
                facts: match fact {
                    0 => vec![Err(FactName::Serial), Err(asset())],
                    1 | 2 => vec![Ok(Fact::new(asset(), &format!("A-{fact}")).unwrap())],
                    3..6 => vec![Ok(Fact::new(FactName::Serial, &format!("QF-{fact}")).unwrap())],
                    _ => vec![],
                },
                gateway: match gateway {
                    number if *number < DEVICES => Some(Some(name(*number))),
                    number if *number == DEVICES => Some(None),
                    _ => None,
                },
                note: match label {
                    1 => Some(Some("spare, in the shed".parse().unwrap())),
                    2 => Some(None),
                    _ => None,
                },
            };
            match devices[..] {
                [one] => told(store.edit_device(&name(one), &edit, cause)),
                _ => told(store.edit_devices(&names(devices), &edit, cause)),
            }
        }
        Act::Retire(device) => told(store.retire_device(&name(*device), cause)),
        Act::Reopen(device) => told(store.reopen_device(&name(*device), cause)),
        Act::Hold(devices, held) => told(store.set_hold(&names(devices), *held, cause)),
        Act::Issue { certificate, foreign: true, .. } => {
            let fact = Fact::new(FactName::Serial, &format!("QF-{}", 1 + certificate % 4)).unwrap();
            let certificate = &cast.certificates[usize::from(*certificate)].1;
            let shown = Introduction {
                maker: &authority,
                kinds: &["windvane".parse().unwrap()],
                facts: std::slice::from_ref(&fact),
                certificate,
            };
            told(guard.introduce(&shown, cause))
        }
        Act::Issue { certificate, again, overlap, foreign: false } => {
            told(store.record_issued(&new(*certificate, *again, *overlap), cause, &mut || Ok(())))
        }
        Act::Batch { new: listing, certificates, fresh } => {
            let devices: Vec<_> = listing.iter().map(|number| listed(*number, *number, u8::MAX)).collect();
            let mut credentials: Vec<_> =
                listing.iter().map(|number| NewCredential { fresh_key: *fresh, ..new(*number, false, 0) }).collect();
            credentials.extend(certificates.iter().map(|number| new(*number, true, 1)));
            let batch = Batch {
                act: "enroll.batch",
                devices: &devices,
                credentials: &credentials,
                list_digest: [7; 32],
                reached: None,
            };
            told(store.record_batch(&batch, cause, &mut || Ok(())))
        }
        Act::Job { kind, plan, holder } => {
            let kind = [JobKind::Enroll, JobKind::Hold, JobKind::Revoke][usize::from(*kind)];
            let (digest, plan) = ([*plan; 32], format!("{{\"plan\":{plan}}}"));
            let parts = ["a".to_owned(), "b".to_owned()];
            let new = NewJob { kind, digest, plan: &plan, position: "0", parts: &parts, subject: "a job" };
            told(store.begin_job(&new, &lease(*holder, at), cause))
        }
        Act::Take { job, holder, is_gone } => {
            told(store.take_job(u32::from(*job), &lease(*holder, at), &|_| *is_gone, cause))
        }
        Act::Reach { job, holder } => {
            let noted = store.job_batch(u32::from(*job), &lease(*holder, at), |tx| {
                tx.put_seen(&name(0), cause.at)?;
                Ok(Ok::<_, ()>(((), at.to_string())))
            });
            told(noted)
        }
        Act::EndJob { job, holder, stopped } => {
            let detail = serde_json::json!({ "done": at });
            told(store.end_job(u32::from(*job), &lease(*holder, at).holder, detail, *stopped, cause))
        }
        Act::Revoke { device, only, reason } => {
            let only = only.map(|number| certificate(number).1.fingerprint);
            let reasons = [Reason::KeyCompromise, Reason::Superseded, Reason::PrivilegeWithdrawn, Reason::Unspecified];
            let reason = reasons[usize::from(*reason)];
            told(store.revoke(Revocation { device: &name(*device), only, reason }, cause))
        }
        Act::RevokeMany(devices) => told(store.revoke_devices(&names(devices), Reason::Unspecified, cause)),
        Act::Block(keys) => {
            let digests: Vec<_> = keys.iter().map(|key| cast.digest(*key)).collect();
            told(store.block_keys(&digests, BlockSource::Given, cause))
        }
        Act::Intend(number) => {
            let (device, certificate) = certificate(*number);
            if store.intended().unwrap().iter().any(|each| each.serial == certificate.serial) {
                return String::new();
            }
            let (serial, device) = (certificate.serial.clone(), device.clone());
            let intended = Intended { serial, authority, device, not_after: certificate.not_after, place: None };
            told(store.intend(&intended, cause))
        }
        Act::EndIntended(lost) => {
            let first: Vec<Intended> = store.intended().unwrap().into_iter().take(1).collect();
            let is_lost = first.first().is_some_and(|each| {
                store.revoked_by(&each.authority).unwrap().iter().any(|(known, _)| known.serial == each.serial)
            });
            told(store.end_intended(&first, *lost && !is_lost, cause))
        }
        Act::Use(uses) => {
            let uses: Vec<_> = uses
                .iter()
                .map(|(device, number)| (name(*device), number.map(|number| certificate(number).1.fingerprint)))
                .collect();
            told(guard.record_uses(&uses, cause))
        }
        Act::Crl { stale } => {
            let mut crl = store.next_crl(&authority).unwrap();
            crl.change -= i64::from(*stale);
            crl.until = Some(UnixTime(cause.at.0 + 700));
            format!("{crl:?} {}", told(store.record_crl(&authority, &crl, cause, &mut || Ok(()))))
        }
        Act::Group { name: number, members } => {
            let members = match members {
                Some(members) => {
                    let mut ids = names(members);
                    ids.sort();
                    ids.dedup();
                    GroupMembers::Fixed(ids)
                }
                None => GroupMembers::Rule("site = ossel".into()),
            };
            told(store.make_group(&format!("g{number}").parse().unwrap(), &members, cause))
        }
        Act::DropGroup(number) => told(store.drop_group(&format!("g{number}").parse().unwrap(), cause)),
        Act::Adopt(text) => told(store.adopt(&[file(*text)], cause)),
        Act::Trial(true) => told(store.begin_trial(&[file(9)], UnixTime(NOW + at + 50), cause)),
        Act::Trial(false) => told(store.end_trial(cause)),
        Act::Authority { key, replaces } => {
            let name = format!("a{key}").parse().unwrap();
            let trust = Some(Trust { kinds: vec!["windvane".parse().unwrap()], facts: vec![FactName::Serial] });
            told(store.add_authority(
                &NewAuthority {
                    name: &name,
                    role: AuthorityRole::Foreign,
                    certificate: &cast.certificates[usize::from(*key)].1,
                    key: KeyPlace::Nowhere,
                    replaces: replaces.then_some(&authority),
                    trust: trust.filter(|_| *replaces),
                    crosses: &[],
                },
                cause,
            ))
        }
        Act::Expect(key) => {
            let pending = PendingAuthority {
                name: format!("a{key}").parse().unwrap(),
                role: AuthorityRole::Devices,
                public_key: cast.keys[usize::from(*key)].public_key().clone(),
                key: KeyPlace::Ward,
                created: cause.at,
            };
            told(store.expect_authority(&pending, cause))
        }
        Act::RetireAuthority(key) => told(store.retire_authority(&format!("a{key}").parse().unwrap(), cause)),
        Act::Settings(text) => {
            let declares = |text: &str| match text {
                "0" => [("asset".parse().unwrap(), true)].into(),
                "1" => [("asset".parse().unwrap(), false)].into(),
                _ => OwnFacts::new(),
            };
            let text = text.to_string();
            let (before, after) = (declares(&store.settings_text().unwrap()), declares(&text));
            told(store.record_settings(&text, Declared { before: &before, after: &after }, "{}", cause))
        }
        Act::Post(post) => {
            // Signed by an authority of the ward, so that its CRL tells of it.
            let new = PostRecord {
                name: post_name(*post),
                role: if post % 2 == 0 { PostRole::Guard } else { PostRole::Desk },
                host: "mqtt-2.example".into(),
                login: format!("north_post_{post}"),
                verifier: "SCRAM-SHA-256$".into(),
                certificate: cast.certificates[usize::from(*post % 3)].1.clone(),
                added: cause.at,
                retired: None,
            };
            told(store.add_post(&new, cause, &mut || Ok(())))
        }
        Act::RetirePost(post) => told(store.retire_post(&post_name(*post), cause)),
        Act::Introduce(child, gateway, free) => {
            let gateway = listed(*gateway, 0, DEVICES);
            let state = if *free { IntroducedState::Accepted } else { IntroducedState::Waits };
            let kind = format!("kind-{}", child % 2).parse().unwrap();
            let new = IntroducedRecord { state, ..IntroducedRecord::new(child_name(*child), kind, &gateway, cause.at) };
            match child % 3 {
                0 => told(guard.introduce_child(&new, 2, cause)),
                _ => told(store.introduce_child(&new, 2, cause)),
            }
        }
        Act::Child(child, true) => match store.introduced(&child_name(*child)).unwrap() {
            Some(introduced) => told(store.accept_child(&introduced.as_device(cause.at), cause)),
            None => "there is no such child".to_owned(),
        },
        Act::Child(child, false) => told(store.refuse_child(&child_name(*child), cause)),
        Act::RenewServer(post, certificate) => {
            let name = if *post == 3 { "guard".to_owned() } else { post_name(*post).to_string() };
            let current = store.servers().unwrap().into_iter().find(|each| each.name == name);
            let before = current.map_or(Fingerprint([7; 32]), |each| each.certificate.fingerprint);
            let next = &cast.certificates[usize::from(*certificate)].1;
            told(store.renew_server(&name, &before, next, cause))
        }
        Act::PostSays(post, edition) => {
            let state = PostState {
                name: post_name(*post),
                version: "1.0".into(),
                address: "127.0.0.1:8883".into(),
                edition: u32::from(*edition),
                change: at,
                sessions: 7,
                since: UnixTime(NOW),
                seen: cause.at,
            };
            told(guard.tally(&Tally::Post(&state)))
        }
        Act::AdoptSettings(number) => {
            let settings = AdoptedSettings {
                number: u32::from(*number) + 1,
                text: format!("[ward]\nname = \"{number}\"\n"),
                signature: vec![*number; 3],
                author: cause.actor.clone(),
                at: cause.at,
            };
            let none = OwnFacts::new();
            let declared = Declared { before: &none, after: &none };
            told(store.adopt_settings(&settings, declared, &serde_json::json!({ "sha256": "0" }), cause))
        }
        Act::OpenAdmissions(wanted) => {
            let new: Vec<AdmissionRecord> = wanted
                .iter()
                .map(|(number, fact)| AdmissionRecord {
                    name: AdmissionName(0),
                    device: DeviceRecord {
                        created: cause.at,
                        owner: (number % 3 == 1).then(|| "ida".parse().unwrap()),
                        ..listed(*number, *fact, u8::MAX)
                    },
                    demand: [Demand::Secret([*fact; 32]), Demand::Certificate, Demand::Key([*number; 32])]
                        [usize::from(fact % 3)],
                    until: cause.at.plus(Span::from_seconds(20_000)),
                    end: None,
                })
                .collect();
            let checked = told(store.check_admissions(&new, cause.at));
            format!("{checked} {}", told(store.open_admissions(&new, cause, &mut |_| Ok(()))))
        }
        Act::Ask(key, fact) => {
            let new = AskingRecord {
                key_digest: cast.digest(*key),
                kind: "windvane".parse().unwrap(),
                facts: listed(0, *fact, u8::MAX).facts,
                from: format!("192.0.2.{}/24", fact % 2),
                since: cause.at,
                until: cause.at.plus(Span::from_seconds(9_000)),
                refused: None,
            };
            told(store.ask(&new, cause))
        }
        Act::Accept(key, number) => {
            let wanted = AdmissionRecord {
                name: AdmissionName(0),
                device: DeviceRecord { created: cause.at, ..listed(*number, 0, u8::MAX) },
                demand: Demand::Key(cast.digest(*key)),
                until: cause.at.plus(Span::from_seconds(20_000)),
                end: None,
            };
            told(store.accept(&wanted, cause))
        }
        Act::RefuseAsking(key) => told(store.refuse_asking(&cast.digest(*key), cause)),
        Act::WithdrawAdmission(admission) => {
            told(store.withdraw_admissions(&[AdmissionName(u32::from(*admission))], cause))
        }
        Act::Admit(admission, number) => {
            let name = AdmissionName(u32::from(*admission));
            let meant = store.admission(name).unwrap().map(|each| each.device.id);
            let (of, certificate) = certificate(*number);
            // Certificates are not for any device; those that are for another were told apart before.
            let of = meant.unwrap_or_else(|| of.clone());
            told(store.use_admission(name, &NewCredential::issued(&of, &authority, certificate, "p256"), cause))
        }
        Act::AddKey { device, key, replaces } => {
            let shared = key % 2 == 1;
            let public = cast.keys[usize::from(*key)].public_key();
            let digest = sha256(public.spki());
            let (named, by_hand) = (thumbprint(public).unwrap(), format!("shared-{key}"));
            let device = name(*device);
            let new = NewCredential {
                device: &device,
                origin: if shared { Origin::Shared } else { Origin::Key },
                authority: None,
                der: public.spki(),
                fingerprint: Fingerprint(if shared { sha256(by_hand.as_bytes()) } else { digest }),
                serial: None,
                key_digest: if shared { [*key; 32] } else { digest },
                key_type: "p256",
                not_before: cause.at,
                not_after: cause.at.plus(Span::from_seconds(30_000)),
                again: true,
                overlap: Span::from_seconds(500),
                fresh_key: false,
                authorised_by: None,
                kid: Some(if shared { &by_hand } else { &named }),
                note: (key % 2 == 0).then_some("the left one"),
            };
            {
                let replaces = match replaces {
                    None => KeyReplaces::Nothing,
                    Some(None) => KeyReplaces::All,
                    // By itself, or by another of its keys.
                    Some(Some(by)) => {
                        let (current, by) = (cast.key_name(by | 1), cast.key_name(*by));
                        KeyReplaces::Shared { current, by }
                    }
                };
                told(store.add_key(&new, replaces, cause, &mut || Ok(())))
            }
        }
        Act::UseKey(device, key) => told(guard.record_uses(&[(name(*device), Some(cast.key_name(*key)))], cause)),
        Act::RevokeKey(device, key, stolen) => {
            let reason = if *stolen { Reason::KeyCompromise } else { Reason::CessationOfOperation };
            told(store.revoke(Revocation { device: &name(*device), only: Some(cast.key_name(*key)), reason }, cause))
        }
        Act::BlockToken { device, name: number, before } => {
            let block = TokenBlock {
                name: [*number; 32],
                device: device.map(name),
                kid: (number % 2 == 0).then(|| "k".to_owned()),
                jti: before.is_none().then(|| "j".to_owned()),
                before: before.map(|before| UnixTime(NOW + 1000 * i64::from(before))),
                at: cause.at,
                until: cause.at.plus(Span::from_seconds(2000)),
            };
            told(store.block_token(&block, cause))
        }
        Act::AddSigner(key) => {
            let new = TokenSignerRecord {
                name: format!("tokens-{key}"),
                key: cast.keys[usize::from(*key)].public_key().clone(),
                place: if key % 2 == 0 {
                    KeyPlace::Ward
                } else {
                    KeyPlace::Token { token: "t".into(), label: "l".into() }
                },
                created: cause.at,
                retired: None,
            };
            told(store.add_signer(&new, cause))
        }
        Act::RetireSigner(key) => {
            let named = if *key == 8 { "tokens".to_owned() } else { format!("tokens-{key}") };
            told(store.retire_signer(&named, cause))
        }
        Act::Wrap(number) => {
            let wrapped = WrappedKey { to: vec![*number], ephemeral: vec![1], sealed: vec![2, *number] };
            told(store.wrap_data_key(&[("guard-0".to_owned(), wrapped)], cause))
        }
        Act::Note => {
            let some = [name(0), name(2), name(DEVICES)];
            let asked = store.decide(|tx| {
                tidy_warden_store::acts::rotation::ask(tx, ("spring", Replaces::Certificates), 1, &some, cause)?;
                Ok(Ok::<_, std::convert::Infallible>(()))
            });
            told(asked) + &told(guard.record_note("topics.clear", "wv-1", "{}", cause))
        }
        Act::Restored(doubt) => {
            let doubt = doubt.then_some("what came after entry 3 may be missing");
            told(store.restored(&serde_json::json!({ "entries": 3 }), doubt, cause))
        }
        Act::GiveUp => told(store.give_up(at, [9; 32], cause)),
        Act::Clone(device, hold) => told(guard.record_clone_sign(&name(*device), "twice", *hold, cause)),
        Act::Traffic(device, count) => {
            let count = u64::from(*count);
            let refused = (count > 1).then(|| (cause.at, "publish".to_owned()));
            let traffic = Traffic { messages_in: count, octets_in: 3, refusals: count, refused, ..Traffic::default() };
            let events: Vec<DeviceEvent> = (0..count * 40)
                .map(|number| DeviceEvent {
                    device: name(*device + u8::from(number % 7 == 0)),
                    at: cause.at,
                    what: "refused".to_owned(),
                    text: format!("{number}"),
                })
                .collect();
            let noticed = told(guard.tally(&Tally::Events(&events)));
            noticed + &told(guard.tally(&Tally::Traffic { counted: &[(name(*device), traffic)], at: cause.at }))
        }
        Act::Errand(device, purpose) => {
            let purposes = [Purpose::Renew, Purpose::Restart, Purpose::Own("calibrate".into()), Purpose::Install];
            let new = NewErrand {
                device: name(*device),
                purpose: purposes[usize::from(*purpose)].clone(),
                detail: "{}".to_owned(),
                nonce: [*purpose; 16],
                ends: UnixTime(cause.at.0 + 5 * i64::from(*purpose)),
                follows: (*purpose == 3).then_some(1),
            };
            let sign = |errand: &Errand| Ok(errand.number.to_be_bytes().to_vec());
            let sent = store.decide(|tx| acts::errand::send(tx, &new, &Fingerprint([7; 32]), &sign, cause));
            let batch = store.decide(|tx| {
                let new = [new.clone(), NewErrand { device: name(0), ..new.clone() }];
                acts::errand::send_batch(tx, &new, &Fingerprint([7; 32]), &sign, cause)
            });
            told(sent) + &told(batch)
        }
        Act::Carry(number, answers) => {
            let number = i64::from(*number);
            let brought = Brought { at: cause.at, by: name(0), text: at.to_string() };
            let answers: &[_] = if *answers { &[(number, brought)] } else { &[] };
            let tally = ErrandTally { handed: &[(number, cause.at), (99, cause.at)], answers };
            told(guard.tally(&Tally::Errands(tally)))
        }
        Act::EndErrand(number, state) => {
            let state = [State::Done, State::Refused, State::Failed][usize::from(*state)];
            let ended = acts::errand::Ended { state, outcome: (state != State::Done).then(|| "no".to_owned()) };
            told(store.decide(|tx| Ok(Ok::<_, ()>(acts::errand::end(tx, i64::from(*number), &ended, cause)?))))
        }
        Act::Notice(device, what, proved) => {
            let of = |device: u8, count: u32| Evidence {
                device: name(device),
                at: cause.at,
                what: Noticed::ALL[usize::from(*what)],
                count,
                source: "192.0.2.0/24".to_owned(),
                is_proved: *proved,
                text: "seen".to_owned(),
            };
            told(guard.tally(&Tally::Evidence(&[of(*device, 3), of(0, 1), of(*device, 2)])))
        }
        Act::Reflex(device, number) => {
            let then = [Then::Notify, Then::Hold, Then::Revoke, Then::Renew][usize::from(*number % 4)];
            let reflex = if *number < 4 { "copied-keys" } else { "chatty" };
            let at_most = AtMost { acts: 3, within: Span::from_seconds(600) };
            let working = Working { name: reflex, then, at_most };
            let planned = |device: u8, source: &str| Planned {
                device: name(device),
                evidence: "clone-sign: twice".to_owned(),
                source: source.to_owned(),
                position: i64::from(*number) + 1,
                reason: Reason::PrivilegeWithdrawn,
            };
            let all = [planned(*device, "192.0.2.0/24"), planned(0, "192.0.2.0/24"), planned(*device, "")];
            let known: Vec<Planned> = all
                .into_iter()
                .filter(|each| store.devices(std::slice::from_ref(&each.device)).unwrap()[0].is_some())
                .collect();
            let notice = |id: &DeviceId, evidence: &str, at: UnixTime| (format!("{id}-{}", at.0), evidence.to_owned());
            let from = store.reflex_progress(reflex).unwrap().map(|progress| progress.position);
            let mut renew = |tx: &mut dyn Tx, id: &DeviceId, cause: &Cause| {
                tx.put_renew_asked(std::slice::from_ref(id), cause.at).map(|()| true)
            };
            let acted =
                told(store.decide(|tx| {
                    acts::reflex::act(tx, working, (from, 9), &known, (&mut renew, Some(&notice)), cause)
                }));
            let again = store
                .decide(|tx| acts::reflex::act(tx, working, (Some(77), 9), &known, (&mut renew, Some(&notice)), cause));
            // Refused on every engine: it is no refusal of the act.
            assert!(again.unwrap().is_err(), "a reflex that was elsewhere acted");
            acted
        }
        Act::SendNotices(how) => {
            let mut said = String::new();
            for place in 0..2 {
                let taken = store.decide(|tx| Ok(Ok::<_, ()>(acts::notice::take(tx, cause.at)?)));
                said += &format!("{taken:?}");
                let Some(notice) = &taken.unwrap().unwrap() else { break };
                // Whoever took it before, and was slow, has no say any more.
                let before = NoticeRecord { tries: notice.tries - 1, ..notice.clone() };
                let late = acts::notice::Sent::Taken;
                store
                    .decide(|tx| Ok(Ok::<_, ()>(acts::notice::settle(tx, &before, &late, cause.at)?)))
                    .unwrap()
                    .unwrap();
                assert_eq!(store.notices(notice.number + 1, 1).unwrap().first(), Some(notice));
                let sent = match (usize::from(*how) + place) % 3 {
                    0 => acts::notice::Sent::Taken,
                    1 => acts::notice::Sent::Again("busy".to_owned()),
                    _ => acts::notice::Sent::Never("no".to_owned()),
                };
                said += &told(store.decide(|tx| Ok(Ok::<_, ()>(acts::notice::settle(tx, notice, &sent, cause.at)?))));
            }
            said + &told(store.decide(|tx| Ok(Ok::<_, ()>(tx.drop_notices(UnixTime(cause.at.0 - 500), 1)?))))
        }
        Act::Owner(owner, what) => of_owner(store, *owner, *what, cause),
        Act::Claim { device, owner, what } => of_claim(store, guard, (*device, *owner, *what), cause),
        Act::UndoReflex(number, resume) => {
            let reflex = ["copied-keys", "chatty"][usize::from(*number)];
            let hits = store.hits(Some(reflex), i64::MAX, 3).unwrap();
            let resumed = |tx: &mut dyn Tx| Ok(Ok::<_, ()>(acts::reflex::resume(tx, reflex, cause)?));
            let undone = |tx: &mut dyn Tx| {
                tx.drop_evidence(UnixTime(cause.at.0 - 300), i64::from(*number) * 3, 2)?;
                Ok(Ok::<_, ()>(acts::reflex::undo(tx, &hits, cause)?))
            };
            match resume {
                true => told(store.decide(resumed)),
                false => told(store.decide(undone)),
            }
        }
        Act::DropErrands(ago) => {
            let before = UnixTime(cause.at.0 - i64::from(*ago));
            told(store.decide(|tx| Ok(Ok::<_, ()>(tx.drop_errands(before, 2)?))))
        }
        Act::Difference(device, rule) => {
            let Some(trial) = store.trial().unwrap() else { return String::new() };
            let difference = TrialDifference {
                device: name(*device),
                act: "publish".into(),
                would_allow: *rule == 0,
                rule: format!("p:{rule}"),
                sample: at.to_string(),
                count: 2,
                first: cause.at,
                last: cause.at,
            };
            told(guard.tally(&Tally::Differences { trial: trial.number, differences: &[difference] }))
        }
        Act::Session(device, client) => {
            let kept = BrokerSession {
                client_id: format!("c{client}"),
                device: name(*device),
                guard: 7,
                opened: cause.at,
                until: cause.at.plus(Span::from_seconds(9)),
                subscriptions: vec!["a/#".into()],
            };
            let gone = [format!("c{}", client + 1)];
            told(guard.tally(&Tally::Sessions { kept: &[kept], gone: &gone, now: cause.at }))
        }
    }
}

fn owner_name(number: u8) -> OwnerId {
    format!("owner-{number}").parse().unwrap()
}

fn place(number: u8) -> (LabelName, LabelValue) {
    ("site".parse().unwrap(), format!("place-{number}").parse().unwrap())
}

fn of_owner(store: &mut OperatorStore, owner: u8, what: u8, cause: &Cause) -> String {
    let id = owner_name(owner);
    let pass = |kind, number: u8, ends: i64| OwnerPass {
        digest: [number; 32],
        kind,
        owner: id.clone(),
        made: cause.at,
        ends: UnixTime(cause.at.0 + ends),
        used: None,
    };
    let (link, session) = ([owner; 32], [owner + 10; 32]);
    match what {
        0..=2 => {
            let new = OwnerRecord {
                contact: (what == 0).then(|| "Ann".parse().unwrap()),
                salt: [owner; 16],
                places: (0..what).map(|place| self::place(place + owner)).collect(),
                ..OwnerRecord::new(id.clone(), cause.at)
            };
            told(store.decide(|tx| acts::owner::add(tx, &new, cause)))
        }
        3 => {
            let edit = OwnerEdit {
                contact: Some(None),
                salt: [9; 16],
                places: vec![place(owner)],
                no_places: vec![place(owner + 1)],
            };
            told(store.decide(|tx| acts::owner::edit(tx, &id, &edit, cause)))
        }
        4 => told(store.decide(|tx| acts::owner::retire(tx, &id, cause))),
        5 => {
            let out = told(store.decide(|tx| Ok(Ok::<_, ()>(acts::owner::sign_out(tx, &id, cause)?))));
            out + &told(store.decide(|tx| Ok(Ok::<_, ()>(acts::owner::unlock(tx, &id, cause)?))))
        }
        6 => told(store.decide(|tx| acts::owner::link(tx, &pass(PassKind::Link, owner, 400), cause))),
        _ => {
            let life = Span::from_seconds(100);
            let opened = store.decide(|tx| Ok(Ok::<_, ()>(acts::owner::sign_in(tx, &link, &session, life, cause)?)));
            let found = store.view(|view| acts::owner::signed_in(view, &session, PassKind::Session, cause.at));
            let dropped = store.decide(|tx| Ok(Ok::<_, ()>(tx.drop_owner_pass(&[owner + 9; 32])?)));
            format!("{opened:?} {found:?} {dropped:?}")
        }
    }
}

fn of_claim(
    store: &mut OperatorStore,
    guard: &mut GuardStore,
    (device, owner, what): (u8, u8, u8),
    cause: &Cause,
) -> String {
    let (of, by) = (name(device), owner_name(owner));
    let code = |number: u8| CodeDigest { salt: [device; 16], digest: [number + 1; 32] };
    let open = |by, code| OpenClaim {
        device: of.clone(),
        by,
        code,
        opened: cause.at,
        ends: UnixTime(cause.at.0 + 300 * i64::from(owner)),
    };
    let kind = |name: &KindName| {
        let by = if name.as_str() == "kind-0" { ClaimBy::Name } else { ClaimBy::Code };
        Some(KindRules { by, window: Some(Span::from_seconds(600)), rotate: Some(Span::from_seconds(50)) })
    };
    let rules = Rules { of: &kind, tries: 2 };
    let wanted = [place(owner)];
    let asks = |shown: Option<u8>, chooses: bool| Take {
        device: &of,
        owner: &by,
        wanted: if chooses { &wanted } else { &[] },
        shown: shown.map(code),
        source: (owner == 1).then_some("192.0.2.0/24"),
    };
    match what {
        0 | 1 => {
            let code = (what == 0).then(|| code(device));
            told(store.decide(|tx| acts::claim::open(tx, &[open(OpenedBy::Person, code)], cause)))
        }
        2 => told(store.decide(|tx| Ok(Ok::<_, ()>(acts::claim::close(tx, &of, cause)?)))),
        3..=5 => {
            let take = asks((what > 3).then_some(device + u8::from(what == 5)), owner == 2);
            told(store.decide(|tx| Ok(Ok::<_, ()>(acts::claim::take(tx, &take, &rules, cause)?))))
        }
        6 => {
            let by = (owner > 0).then_some(&by);
            told(store.decide(|tx| acts::claim::give_up(tx, &of, by, &rules, cause)))
        }
        7 => {
            let ends = UnixTime(cause.at.0 + 200);
            told(store.decide(|tx| acts::claim::offer(tx, &of, (None, &by), ends, cause)))
        }
        8 => {
            let dropped = |tx: &mut dyn Tx| Ok(Ok::<_, ()>(acts::claim::drop_offer(tx, &of, Some(&by), cause)?));
            told(store.decide(dropped))
        }
        9 => {
            let taken = |tx: &mut dyn Tx| acts::claim::take_offered(tx, &of, (&by, &[]), &rules, cause);
            told(store.decide(taken))
        }
        _ => {
            let windows = [open(OpenedBy::Device, Some(code(device)))];
            told(guard.tally(&Tally::Windows(&windows)))
        }
    }
}

/// What can be asked of owners and claims, in words.
fn dump_claims(store: &OperatorStore, devices: &[DeviceId], all: &mut Vec<String>) {
    all.push(told(store.owners("", 9)));
    all.push(told(store.owners("owner-0", 1)));
    for owner in (0..4).map(owner_name) {
        all.push(told(store.owner(&owner)));
        all.push(told(store.owned(&owner, "", 9)));
        all.push(told(store.owned(&owner, "wv-0", 1)));
        all.push(told(store.count_owned(&owner)));
        all.push(told(store.hand_overs(Some(&owner), "", 9)));
        all.push(told(store.count_owner_passes(&owner, PassKind::Link)));
        all.push(told(store.count_owner_passes(&owner, PassKind::Session)));
        all.push(told(store.tries(Scope::Owner, owner.as_str())));
        for device in devices {
            all.push(told(store.tries(Scope::Pair, &format!("{owner} {device}"))));
        }
    }
    for device in devices {
        for by in [OpenedBy::Person, OpenedBy::Device] {
            all.push(told(store.claim(device, by).map(|claim| claim.map(|claim| (claim.came(), claim.code, claim)))));
        }
        all.push(told(store.hand_over(device)));
        all.push(told(store.ownerships(device, 9)));
        all.push(told(store.ownerships(device, 1)));
        all.push(told(store.tries(Scope::Device, device.as_str())));
    }
    for by in [OpenedBy::Person, OpenedBy::Device] {
        all.push(told(store.claims(by, "", 9)));
        all.push(told(store.claims(by, "wv-0", 1)));
    }
    all.push(told(store.hand_overs(None, "", 9)));
    all.push(told(store.hand_overs(None, "wv-0", 1)));
    all.push(told(store.tries(Scope::Source, "192.0.2.0/24")));
    for digest in [0, 1, 2, 10, 11, 12] {
        all.push(told(store.owner_pass(&[digest; 32])));
    }
}

/// Everything that can be asked, in words.
pub(crate) fn dump(store: &OperatorStore, cast: &Cast, at: i64) -> Vec<String> {
    let now = UnixTime(NOW + at);
    let devices: Vec<DeviceId> = (0..DEVICES).map(name).collect();
    let authorities = store.authorities().unwrap();
    let mut all = vec![
        told(store.ward()),
        told(store.settings_text()),
        told(store.head()),
        told(store.devices(&devices)),
        told(store.intended()),
        told(store.groups()),
        told(store.edition(None)),
        told(store.edition(Some(1))),
        told(store.editions()),
        told(store.trial()),
        told(store.last_trial()),
        told(store.pending_authorities()),
        told(store.jobs(false, 9)),
        told(store.jobs(true, 9)),
        told(store.job(1)),
        told(store.job_part(1, 1)),
        told(store.tree()),
        told(store.label_names()),
        told(store.field_names()),
        told(store.page_by_end(None, now, EndPlace::FIRST, 3)),
        told(store.page_by_end(None, now, EndPlace { end: now, row: 2 }, 100)),
        told(store.is_used(&NameInUse::Label("site".parse().unwrap()))),
        told(store.is_used(&NameInUse::Kind("windvane".into()))),
        told(store.is_used(&NameInUse::Any)),
        told(store.bound_since(0, 2)),
        told(store.recorded(1, 3)),
        told(store.changed(Place { change: at / 2, row: 2 }, 3)),
        told(store.changed(Place::after(at / 3), 100)),
        told(store.changed_since(at / 2)),
        told(store.page(None, now, 2, 2)),
        told(store.page(None, now, 0, 100)),
        told(store.page_by_id(None, now, "wv-1", 3)),
        told(store.broker_sessions_of_ended(5)),
        told(store.posts()),
        told(store.post_states()),
        told(store.servers()),
        told(store.former_servers()),
        told(store.adopted_settings()),
        told(store.last_admission()),
        told(store.all_asking(9)),
        told(store.token_signers()),
        told(store.signers()),
        told(store.key_wraps()),
        told(store.token_blocks(None, 2)),
        told(store.token_blocks_of(&[[0; 32], [1; 32], [9; 32]]).map(|mut all| {
            all.sort_by_key(|block| block.name);
            all
        })),
        told(store.count_token_blocks()),
        told(store.key_named("shared-9")),
        told(store.waiting_children(9)),
        told(store.waiting_children(1)),
        told(store.all_asking(1)),
        told(store.count_asking("192.0.2.1/24")),
        told(store.admissions(AdmissionName(0), 3)),
        told(store.admissions(AdmissionName(3), 99)),
        told(store.pending_for(&devices)),
        told(store.trial_differences(1)),
        told(store.blocked_keys(None, 3)),
        format!("{authorities:?}"),
    ];
    let last_block = store.token_blocks(None, 1).unwrap().pop();
    all.push(told(store.token_blocks(last_block.as_ref(), 9)));
    let last_blocked = store.blocked_keys(None, 2).unwrap().pop();
    all.push(told(store.blocked_keys(last_blocked.as_ref(), 9)));
    for authority in &authorities {
        let name = &authority.name;
        all.push(told(store.signed_by(name, now)));
        all.push(told(store.revoked_by(name)));
        all.push(told(store.crl_lacks(name)));
        all.push(told(store.next_crl(name)));
        all.push(told(store.equipped_since(name)));
        all.push(told(store.unequipped_since(name, 3)));
    }
    for device in &devices {
        all.push(told(store.children(device)));
        all.push(told(store.is_gateway(device)));
        all.push(told(store.entries_of(device)));
        all.push(told(store.traffic(device)));
        all.push(told(store.events(device)));
        all.push(told(store.errands(Some(device), i64::MAX, 9)));
        all.push(told(store.open_errands(device, now, 9)));
        all.push(told(store.count_evidence(device, Noticed::Refusals, UnixTime(NOW))));
        all.push(told(store.last_hit("copied-keys", device)));
        all.push(told(store.entries_about(device.as_str(), i64::MAX, 3)));
        all.push(told(store.entries_about(device.as_str(), 9, 99)));
        all.push(told(store.clone_signs(device)));
        all.push(told(store.broker_sessions_of(device)));
        all.push(told(store.admissions_of(device, 2)));
    }
    for (_, certificate) in &cast.certificates {
        all.push(told(store.status_many(&[certificate.fingerprint])));
        all.push(told(store.fingerprints_of(&certificate.serial)));
        all.push(told(store.key_digest(&certificate.fingerprint)));
        all.push(told(store.credential_der(&certificate.fingerprint)));
    }
    for key in 0..9 {
        all.push(told(store.holders_of_key(&cast.digest(key))));
        all.push(told(store.bound_key(&cast.digest(key))));
        all.push(told(store.blocked_key(&cast.digest(key))));
        all.push(told(store.admission_of_key(&[key; 32])));
        all.push(told(store.admission_of_key(&cast.digest(key))));
        all.push(told(store.asking(&cast.digest(key))));
    }
    for child in 0..9 {
        all.push(told(store.introduced(&child_name(child))));
    }
    for device in &devices {
        all.push(told(store.count_introduced(device, &"kind-0".parse().unwrap())));
    }
    all.push(told(store.errands(None, 7, 3)));
    all.push(told(store.errands_after(2, 4)));
    all.push(told(store.last_errand()));
    all.push(told(store.carried(&[1, 2, 3, 9, 4, 5])));
    all.push(told(store.answered_errands(3)));
    all.push(told(store.evidence_after(2, 5)));
    all.push(told(store.last_evidence()));
    all.push(told(store.notices(i64::MAX, 9)));
    all.push(told(store.due_notices(now, 2)));
    all.push(told(store.count_waiting_notices()));
    for reflex in ["copied-keys", "chatty", "other"] {
        all.push(told(store.reflex_progress(reflex)));
        all.push(told(store.hits(Some(reflex), 9, 4)));
        all.push(told(store.count_hits(reflex, "192.0.2.0/24", UnixTime(NOW + 50))));
    }
    all.push(told(store.hits(None, i64::MAX, 5)));
    for client in 0..4 {
        all.push(told(store.broker_session(&format!("c{client}"))));
    }
    for fact in 1..6 {
        let fact = Fact::new(FactName::Serial, &format!("QF-{fact}")).unwrap();
        all.push(told(store.holder(&fact)));
        all.push(told(store.last_retired(&fact)));
        all.push(told(store.pending_with(&[&fact])));
    }
    let mut rows = Vec::new();
    store
        .each_fleet_row(true, &mut |row| {
            rows.push(format!("{row:?}"));
            Ok(())
        })
        .unwrap();
    all.extend(rows);
    let site = "site".parse().unwrap();
    for (horizon, label) in [(now.0 - 1, None), (now.0 + 700, Some(&site)), (i64::MAX, Some(&site))] {
        let mut ends = Vec::new();
        store
            .each_ending(UnixTime(horizon), label, &mut |row| {
                let mut credentials: Vec<String> = row.credentials.iter().map(|each| format!("{each:?}")).collect();
                credentials.sort();
                ends.push(format!("{:?} {credentials:?}", DeviceEnds { credentials: &[], ..*row }));
                Ok(())
            })
            .unwrap();
        all.extend(ends);
    }
    dump_claims(store, &devices, &mut all);
    all.push(told(store.pending_by_end((UnixTime(0), AdmissionName(0)), 100)));
    all.push(told(store.pending_by_end((now, AdmissionName(2)), 2)));
    all
}

pub(crate) fn hashes(store: &OperatorStore) -> Vec<Hash> {
    store.entries(1, usize::MAX).unwrap().into_iter().map(|entry| entry.hash).collect()
}

/// How many kinds of acts there are.
const ACTS: usize = 63;

#[test]
fn random_acts_give_the_same_answers_rows_and_hashes_on_each_engine() {
    let mut world = World::new();
    let cast = Cast::new(&mut world);
    let (done, runs) = (RefCell::new(BTreeSet::new()), Cell::new(0));
    let mut runner = TestRunner::new(ProptestConfig { max_shrink_iters: 300, ..ProptestConfig::with_cases(120) });
    // Half of the wards begin with some devices: in an empty one most acts are refused.
    let some = || (0..DEVICES).map(|number| (Act::Add { devices: vec![(number, 0, u8::MAX)] }, 0));
    let acts = (any::<bool>(), proptest::collection::vec((any_act(), 0i64..3000), 10..80))
        .prop_map(move |(begun, acts)| some().filter(|_| begun).chain(acts).collect::<Vec<_>>());
    let mut run = || {
        runner.run(&acts, |acts| {
            let dir = tempfile::tempdir().unwrap();
            let path = dir.path().join("ward.db");
            let (model, file) = (new_model(&world), new_file(&path, &world));
            // A database takes longer to make than all acts take: it is made for every third run.
            let is_third = runs.replace(runs.get() + 1) % 3 == 0;
            let mut engines: Vec<(Box<dyn Store>, Box<dyn Store>)> = vec![
                (Box::new(model.another()), Box::new(model)),
                (Box::new(file), Box::new(SqliteStore::open(&path).unwrap())),
            ];
            if is_third {
                let (database, store) = new_database(&world);
                engines.push((store, postgres::open(access(&database), None).unwrap()));
            }
            let mut engines: Vec<_> = engines
                .into_iter()
                .map(|(operator, guard)| (OperatorStore::new(operator), GuardStore::new(guard)))
                .collect();
            let mut at = 0;
            for (what, later) in &acts {
                at += later;
                let told: Vec<String> =
                    engines.iter_mut().map(|(store, guard)| act(store, guard, &cast, what, at)).collect();
                for other in &told[1..] {
                    prop_assert_eq!(&told[0], other, "{:?}", what);
                }
                prop_assert!(!told[0].starts_with("ERROR"), "{:?}: {}", what, told[0]);
                if !told[0].contains("Err(") && !told[0].starts_with("there is no") {
                    let word: String = format!("{what:?}").chars().take_while(char::is_ascii_alphabetic).collect();
                    done.borrow_mut().insert(word);
                }
            }
            let dumps: Vec<_> = engines.iter().map(|(store, _)| dump(store, &cast, at)).collect();
            for other in &dumps[1..] {
                for (one, other) in dumps[0].iter().zip(other) {
                    prop_assert_eq!(one, other);
                }
                prop_assert_eq!(dumps[0].len(), other.len());
            }
            for (_, certificate) in &cast.certificates {
                let asked = |guard: &GuardStore| {
                    told(guard.entrance(&certificate.fingerprint, &sha256(certificate.public_key.spki())))
                };
                let first = asked(&engines[0].1);
                for (_, guard) in &engines[1..] {
                    prop_assert_eq!(&first, &asked(guard));
                }
            }
            for (store, _) in &engines {
                prop_assert_eq!(hashes(&engines[0].0), hashes(store));
                prop_assert!(broken(store).is_empty());
            }
            Ok(())
        })
    };
    run().unwrap();
    // What is rare is seldom left out, and then more cases have it.
    if done.borrow().len() < ACTS {
        run().unwrap();
    }
    let done = done.into_inner();
    assert_eq!(done.len(), ACTS, "each act was done at least once: {done:?}");
}
