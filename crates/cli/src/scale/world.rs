//! A ward of its own with a fleet and some guards, for as long as something is measured.

use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicI64, Ordering};
use std::task::{Context, Poll, Waker};
use std::time::{Duration, Instant};

use tidy_warden_core::authority::AuthorityRole;
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::key::{NewKey, SoftwareKey};
use tidy_warden_core::time::{Clock, UnixTime};
use tidy_warden_guard::{Instance, Stores, Unplugged, Upstream};
use tidy_warden_simulate::Login;
use tidy_warden_store::{Batch, NewCredential};
use tidy_warden_ward::issue::press::{KeySource, Mint, Minted, Press, Unmade};
use tidy_warden_ward::keys::Openers;
use tokio::io::duplex;
use tokio::sync::mpsc::unbounded_channel;
use tokio::task::unconstrained;

use super::ends::{Client, broker};
use super::{Setup, cpu, number};
use crate::commands::init::{Passphrases, Plan, found};
use crate::commands::{guard, policy};
use crate::console::Console;
use crate::edge::parse;
use crate::keys::Secrets;
use crate::passphrase::Passphrase;
use crate::problem::Problem;
use crate::ward::{POLICIES, Ward};

/// A passphrase that is known to everybody guards nothing but a ward that is thrown away.
const PASSPHRASE: &str = "measured and thrown away";

/// How many devices are enrolled in one change, as bulk enrolment does it.
const BATCH: usize = 500;

/// How many of them keep their keys, for handshakes.
const KEYS: usize = 16;

/// How much a pipe holds, in octets.
const PIPE: usize = 16 * 1024;

const PAYLOAD: [u8; 100] = [b'x'; 100];

const POLICY: &str = "policy vanes {\n  for kind = windvane\n  allow connect as \"{device}\"\n  \
     allow publish \"rope/{site}/{device}/wind\" size <= 2KiB\n  allow subscribe \"rope/{site}/{device}/settings\"\n}\n";

/// No limit of a guard is what is to be measured.
const SETTINGS: &str = "\n[kinds.windvane]\nclone_watch = \"off\"\n\n[guard]\nmax_sessions = 1000000\n\
     sessions_per_source = 1000000\n";

/// A clock that goes on when it is told to.
#[derive(Debug)]
pub(super) struct Driven(AtomicI64);

impl Driven {
    pub(super) fn advance(&self) {
        self.0.fetch_add(1, Ordering::SeqCst);
    }
}

impl Clock for Driven {
    fn now(&self) -> UnixTime {
        UnixTime(self.0.load(Ordering::SeqCst))
    }
}

pub(super) struct World {
    pub(super) ward: Ward,
    pub(super) clock: Arc<Driven>,
    pub(super) guards: Vec<Unplugged>,
    /// Each device with its certificate, in DER.
    pub(super) devices: Vec<(DeviceId, Arc<[u8]>)>,
    /// The devices' ends of their sessions.
    pub(super) clients: Vec<Option<Client>>,
    /// How many of the first devices were revoked.
    pub(super) revoked: usize,
    /// PKCS#8 of the first devices' keys.
    keys: Vec<Vec<u8>>,
    passphrase: Passphrase,
}

/// Why a simulated device has no certificate.
pub(super) fn unmade(unmade: Unmade) -> Problem {
    match unmade {
        Unmade::Device(why) => Problem::failed("a simulated device cannot be enrolled").because(why),
        Unmade::All(problem) => problem,
    }
}

impl World {
    /// Makes it; gives what enrolling one device among many takes of the CPU.
    pub(super) async fn new(console: &Console, dir: &Path, setup: &Setup<'_>) -> Result<(Self, f64), Problem> {
        let passphrase = Passphrase::new(PASSPHRASE.into());
        let path = dir.join("ward");
        let more = [SETTINGS, setup.store].concat();
        let plan = Plan {
            name: "Quillfeather Ropeways",
            host: "localhost",
            enterprise_number: Some(32_473),
            crl: None,
            rehearsal: true,
            more_settings: &more,
            root_offline: None,
        };
        let clock = crate::clock::WardClock::System;
        let all = Passphrases { root: &passphrase, issuing: &passphrase, servers: &passphrase };
        found(&path, &plan, &all, clock.now())?;
        let folder = path.join(POLICIES);
        for file in std::fs::read_dir(&folder).map_err(|error| Problem::file("read", &folder, &error))?.flatten() {
            std::fs::remove_file(file.path()).map_err(|error| Problem::file("remove", &file.path(), &error))?;
        }
        let file = folder.join("vanes.policy");
        std::fs::write(&file, POLICY).map_err(|error| Problem::file("write", &file, &error))?;
        let mut ward = crate::ward::open(&path)?;
        policy::adopt_folder(&mut ward, "simulate scale")?;
        let clock = Arc::new(Driven(AtomicI64::new(clock.now().0)));
        let mut world = Self {
            ward,
            clock,
            guards: Vec::new(),
            devices: Vec::with_capacity(setup.devices),
            clients: Vec::new(),
            revoked: 0,
            keys: Vec::new(),
            passphrase,
        };
        let before = cpu();
        world.enrol(console, setup.devices)?;
        let row = (cpu() - before) / number(setup.devices);
        world.clients.resize_with(setup.devices, || None);
        let key = world.ward.key("guard", &world.passphrase)?;
        let (reached, connections) = unbounded_channel();
        tokio::spawn(broker(connections));
        for at in 1..=setup.guards {
            let live = guard::config(&world.ward, None, Upstream::within(reached.clone()), &key)?;
            let name = parse(&format!("guard-{at}"))?;
            let instance = Instance { name, actor: "guard".to_owned(), version: env!("CARGO_PKG_VERSION") };
            let store = || world.ward.guard_store(None);
            let stores = Stores { reader: store()?, follower: store()?, writer: store()? };
            let begun = Unplugged::new(live, instance, world.clock.clone(), stores, Arc::new(|_| {})).await;
            let failed = |error| Problem::failed("a simulated guard cannot start").because(error);
            world.guards.push(begun.map_err(failed)?);
        }
        Ok((world, row))
    }

    pub(super) fn mint(&self, console: &Console) -> Result<Mint, Problem> {
        let mint = Mint::new(&self.ward)?;
        let secrets = Secrets::known(console, &self.passphrase);
        mint.prepare(&parse("windvane")?, &|authority| secrets.signer(&self.ward, authority))?;
        Ok(mint)
    }

    pub(super) fn record(&self, at: usize) -> Result<DeviceRecord, Problem> {
        Ok(self.ward.device(&self.devices[at].0)?.device)
    }

    /// A key of a device's that is kept here.
    fn own_key(&mut self) -> Result<KeySource, Problem> {
        let failed = |error| Problem::failed("a simulated device cannot make a key").because(error);
        let key = SoftwareKey::generate(NewKey::P256).map_err(failed)?;
        self.keys.push(key.to_pkcs8().map_err(failed)?.to_vec());
        Ok(KeySource::Proven(key.proven()))
    }

    fn enrol(&mut self, console: &Console, count: usize) -> Result<(), Problem> {
        let mint = self.mint(console)?;
        let mut press = Press::new(&mint, self.clock.now());
        for first in (0..count).step_by(BATCH) {
            let mut listed = Vec::with_capacity(BATCH);
            for at in first..(first + BATCH).min(count) {
                let mut device =
                    DeviceRecord::new(parse(&format!("wv-{at:07}"))?, parse("windvane")?, self.clock.now());
                device.labels.insert(parse("site")?, parse(&format!("s{}", at % 40))?);
                listed.push(device);
            }
            let mut minted: Vec<Minted> = Vec::with_capacity(BATCH);
            for device in &listed {
                let source = if self.keys.len() < KEYS { self.own_key()? } else { KeySource::MakeHere };
                let made = press.mint(device, source).map_err(unmade)?;
                minted.push(made.without_key());
            }
            let credentials: Vec<NewCredential<'_>> =
                listed.iter().zip(&minted).map(|(device, minted)| minted.credential(&device.id, false)).collect();
            let batch = Batch {
                act: "enroll.bulk",
                devices: &listed,
                credentials: &credentials,
                list_digest: [0; 32],
                reached: None,
            };
            let cause = self.cause();
            if self.ward.store.record_batch(&batch, &cause, &mut || Ok(()))?.is_err() {
                return Err(Problem::failed("simulated devices were not enrolled"));
            }
            let done =
                listed.into_iter().zip(&minted).map(|(device, minted)| (device.id, minted.fresh.der.as_slice().into()));
            self.devices.extend(done);
        }
        Ok(())
    }

    /// A client of device number `at` on its way in, at the guard whose turn it is.
    pub(super) async fn begin(&self, at: usize) -> Result<Client, Problem> {
        let (id, leaf) = &self.devices[at];
        let (near, far) = duplex(PIPE);
        let peer = std::net::SocketAddr::from(([10, 0, 0, 1], 1));
        tokio::spawn(self.guards[at % self.guards.len()].serve(near, peer, leaf.clone()));
        Client::begin(far, id.as_str(), format!("rope/s{}/{id}/wind", at % 40)).await
    }

    /// Each of some devices that has a session says something, and waits for its answer; gives how many did.
    pub(super) async fn publish(&mut self, some: impl IntoIterator<Item = usize>) -> Result<usize, Problem> {
        let mut waiting = Vec::new();
        for at in some {
            if let Some(client) = &mut self.clients[at] {
                client.publish(&PAYLOAD).await?;
                waiting.push(at);
            }
        }
        let count = waiting.len();
        for at in waiting {
            if let Some(client) = &mut self.clients[at] {
                client.answered().await?;
            }
        }
        Ok(count)
    }

    /// CPU time of a guard's side of a full handshake with a device's certificate.
    pub(super) async fn handshakes(&self, times: usize) -> Result<f64, Problem> {
        let failed = |error: &dyn std::fmt::Display| Problem::failed("a simulated handshake failed").because(error);
        let issuing = self.ward.authorities(AuthorityRole::Devices)?;
        let root = self.ward.root()?;
        let mut spent = Duration::ZERO;
        for time in 0..times {
            let at = time % self.keys.len();
            let chain = std::iter::once(self.devices[at].1.to_vec());
            let chain: Vec<Vec<u8>> = chain.chain(issuing.iter().map(|each| each.certificate.der().to_vec())).collect();
            // A new one each time: it has no ticket to go on with.
            let login = Login::new(root.der(), Some((chain, self.keys[at].clone())), "localhost", "x");
            let login = login.map_err(|error| failed(&error))?;
            let (near, far) = duplex(PIPE);
            let mut server = std::pin::pin!(unconstrained(self.guards[0].acceptor().accept(near)));
            let mut client = std::pin::pin!(unconstrained(login.shake(far)));
            let mut cx = Context::from_waker(Waker::noop());
            let (mut served, mut shaken) = (None, None);
            let limit = Instant::now();
            while served.is_none() || shaken.is_none() {
                if served.is_none() {
                    let began = Instant::now();
                    served = ready(server.as_mut().poll(&mut cx));
                    spent += began.elapsed();
                }
                if shaken.is_none() {
                    shaken = ready(client.as_mut().poll(&mut cx));
                }
                if limit.elapsed() > Duration::from_secs(20) {
                    return Err(failed(&"it does not end"));
                }
            }
            if let Some(Err(error)) = served {
                return Err(failed(&error));
            }
        }
        Ok(spent.as_secs_f64() / number(times))
    }
}

fn ready<T>(poll: Poll<T>) -> Option<T> {
    match poll {
        Poll::Ready(done) => Some(done),
        Poll::Pending => None,
    }
}
