//! What every run begins with: a ward with one device that has a certificate, and policies; and the script by which the store answers.

use std::pin::Pin;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::task::{Context, Poll, Waker};

use rustls::pki_types::PrivatePkcs8KeyDer;
use tidy_warden_core::authority::{AuthorityRole, KeyPlace};
use tidy_warden_core::certificate::{
    AltName, Certificate, Issuer, Places, SerialNumber, Subject, Template, Usage, self_signed,
};
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::host::Endpoint;
use tidy_warden_core::key::{NewKey, ProvenKey, Signer, SoftwareKey};
use tidy_warden_core::policy::PolicyFile;
use tidy_warden_core::random::Randomness;
use tidy_warden_core::settings::{BrokerAddress, Settings, new_text};
use tidy_warden_core::text::Source;
use tidy_warden_core::time::{Clock, Span, UnixTime};
use tidy_warden_core::token::Parties;
use tidy_warden_serve::pool::Turns;
use tidy_warden_serve::tls::TlsSettings;
use tidy_warden_serve::trust::{Trust, TrustHolder};
use tidy_warden_store::{Cause, Founding, MemoryStore, NewCredential, OperatorStore, StoreError, WardRecord};

use crate::live::{Live, LiveConfig};
use crate::upstream::Upstream;

pub(super) const NOW: UnixTime = UnixTime(1_795_417_333);
pub(super) const DEVICE: &str = "wv-1";

/// How many certificates the device may get in one run.
const CERTIFICATES: usize = 8;

/// The clock stands still: what these runs are about is the order of things.
pub(super) struct Still;

impl Clock for Still {
    fn now(&self) -> UnixTime {
        NOW
    }
}

struct Counting(u64);

impl Randomness for Counting {
    fn fill(&mut self, bytes: &mut [u8]) {
        for chunk in bytes.chunks_mut(8) {
            self.0 += 1;
            chunk.copy_from_slice(&self.0.to_be_bytes()[..chunk.len()]);
        }
    }
}

pub(super) fn cause() -> Cause {
    Cause { at: NOW, actor: "ada".into(), because: "a race".into() }
}

/// With the first of two editions a device publishes and subscribes at its site; with the second it may connect at `ossel` only, and
/// never publish.
pub(super) fn policies(second: bool) -> [PolicyFile; 1] {
    let rules = match second {
        false => {
            "for kind = windvane\n allow connect as \"{device}\"\n allow publish \"{site}/{device}/up\"\n \
             allow subscribe \"{site}/{device}/down\""
        }
        true => {
            "for kind = windvane and site = ossel\n allow connect as \"{device}\"\n allow subscribe \"{site}/{device}/down\""
        }
    };
    [PolicyFile { name: "policies/p.policy".into(), text: format!("policy p {{\n {rules}\n}}\n") }]
}

pub(super) struct World {
    pub(super) model: MemoryStore,
    /// The device's certificates, of which the store knows the first.
    pub(super) certificates: Vec<Certificate>,
    pub(super) live: Live,
    pub(super) trust: Trust,
    root: Certificate,
    key: SoftwareKey,
}

impl World {
    pub(super) fn new() -> Self {
        let key = SoftwareKey::generate(NewKey::P256).unwrap();
        let mut random = Counting(0);
        let (subject, proven) = (Subject::of("w", "root"), key.proven());
        let root = self_signed(&template(&proven, &subject, &[], Usage::UNLIMITED, &mut random), &key).unwrap();
        let ward = WardRecord { urn: "urn:uuid:1".into(), rehearsal: false, token_key: key.public_key().clone() };
        let authorities = [
            ("root".parse().unwrap(), AuthorityRole::Root, root.clone(), KeyPlace::Ward),
            ("devices".parse().unwrap(), AuthorityRole::Devices, root.clone(), KeyPlace::Ward),
        ];
        let founding = Founding { ward, authorities: &authorities, servers: &[("guard", root.clone())], settings: "a" };
        let model = MemoryStore::create(&founding, &cause()).unwrap();
        let certificates: Vec<Certificate> = (0..CERTIFICATES)
            .map(|_| {
                let own = SoftwareKey::generate(NewKey::P256).unwrap().proven();
                let (subject, names) =
                    (Subject::of("w", DEVICE), [AltName::Uri(format!("urn:dev:org:32473-{DEVICE}"))]);
                let template = template(&own, &subject, &names, Usage::Client, &mut random);
                template.issue(Issuer { certificate: &root, signer: &key }).unwrap().certificate
            })
            .collect();
        let mut operator = OperatorStore::new(Box::new(model.another()));
        let mut device = DeviceRecord::new(DEVICE.parse().unwrap(), "windvane".parse().unwrap(), NOW);
        device.labels.insert("site".parse().unwrap(), "ossel".parse().unwrap());
        operator.add_devices(&[device], &cause()).unwrap().unwrap();
        operator.adopt(&policies(false), &cause()).unwrap();
        issue(&mut operator, &certificates[0]);
        let trust = operator.view(|view| Trust::read(view, i64::MAX, &Trust::default())).unwrap();
        let live = live(&root, &key);
        Self { model, certificates, live, trust, root, key }
    }

    /// Other settings of the device's kind.
    pub(super) fn config(&self, more: &str) -> LiveConfig {
        config(&self.root, &self.key, more)
    }
}

/// The settings that do not change, with the guard's own certificate: nobody shakes hands here, but a guard has one.
fn live(root: &Certificate, key: &SoftwareKey) -> Live {
    Live::new(config(root, key, ""), Arc::new(Still), Arc::new(TrustHolder::default()), 0).unwrap()
}

/// The same as the guard is given them, with more about the device's kind.
fn config(root: &Certificate, key: &SoftwareKey, more: &str) -> LiveConfig {
    let text = new_text("w", "localhost", None, None) + "[kinds.windvane]\nclone_watch = \"off\"\n" + more;
    LiveConfig {
        tls: TlsSettings {
            chain: vec![root.clone()],
            key: PrivatePkcs8KeyDer::from(key.to_pkcs8().unwrap().to_vec()),
            allow_anonymous: false,
        },
        settings: Settings::parse(&Source::new("ward.toml", &text)).unwrap(),
        parties: Parties { issuer: "urn:uuid:1".into(), audience: "mqtts://localhost:8883".into() },
        own_key: SoftwareKey::from_pkcs8(&key.to_pkcs8().unwrap()).unwrap().into(),
        upstream: Upstream::new(BrokerAddress::Tcp(Endpoint { host: "localhost".into(), port: 1883 }), None, None)
            .unwrap(),
        maker_files: Default::default(),
    }
}

fn template<'a>(
    key: &'a ProvenKey,
    subject: &'a Subject,
    names: &'a [AltName],
    usage: Usage<'a>,
    random: &mut Counting,
) -> Template<'a> {
    Template {
        serial: SerialNumber::new(NOW, random),
        subject,
        names,
        key,
        now: NOW,
        life: Span::from_days(30),
        usage,
        places: Places { crl: "http://localhost/devices.crl", authority: "" },
    }
}

/// Records a certificate beside those that the device has.
pub(super) fn issue(store: &mut OperatorStore, certificate: &Certificate) {
    let (device, authority) = (DEVICE.parse().unwrap(), "devices".parse().unwrap());
    let issued = NewCredential::issued(&device, &authority, certificate, "p256");
    let new = NewCredential { again: true, overlap: Span::from_seconds(1000), ..issued };
    store.record_issued(&new, &cause(), &mut || Ok(())).unwrap().unwrap();
}

/// Whether the store answers, and when: at once, or each time that the run lets one question or one answer through.
#[derive(Debug, Default)]
pub(super) struct Script {
    pub(super) lost: AtomicBool,
    turns: Mutex<(bool, usize, Option<Waker>)>,
}

impl Script {
    fn lock(&self) -> std::sync::MutexGuard<'_, (bool, usize, Option<Waker>)> {
        self.turns.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// From now on each turn is to be let through, or none.
    pub(super) fn hold(&self, held: bool) {
        let mut turns = self.lock();
        turns.0 = held;
        if let Some(waker) = turns.2.take_if(|_| !held) {
            waker.wake();
        }
    }

    /// Whether somebody waits for its turn.
    pub(super) fn waits(&self) -> bool {
        self.lock().2.is_some()
    }

    /// Lets one through.
    pub(super) fn step(&self) {
        let mut turns = self.lock();
        turns.1 += 1;
        if let Some(waker) = turns.2.take() {
            waker.wake();
        }
    }
}

/// What a seat is driven by.
#[derive(Debug)]
pub(super) struct Scripted(pub(super) Arc<Script>);

impl Turns for Scripted {
    fn turn(&self) -> Pin<Box<dyn Future<Output = Result<(), StoreError>> + Send>> {
        let script = self.0.clone();
        Box::pin(std::future::poll_fn(move |cx: &mut Context<'_>| {
            let mut turns = script.lock();
            if turns.0 && turns.1 == 0 {
                turns.2 = Some(cx.waker().clone());
                return Poll::Pending;
            }
            turns.1 = turns.1.saturating_sub(1);
            match script.lost.load(Ordering::Relaxed) {
                true => Poll::Ready(Err(StoreError::Busy)),
                false => Poll::Ready(Ok(())),
            }
        }))
    }
}
