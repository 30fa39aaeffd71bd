//! A year of a larger fleet: most devices renew at the desk, others speak MQTT alone. Some are away for weeks, some do not renew any more, one is
//! stolen; authorities and the root are replaced; guard and desk are killed again and again.

use std::collections::{BTreeMap, BTreeSet};
use std::net::SocketAddr;
use std::sync::atomic::{AtomicBool, AtomicI64, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, RwLock};
use std::time::{Duration, Instant};

use serde_json::Value;
use tidy_warden_core::certificate::Certificate;
use tidy_warden_core::enrolment::renewal_opens;
use tidy_warden_core::errand::{Outcome, Purpose, answer_text, read, renewal_text};
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::key::{NewKey, Signer, SoftwareKey, sha256};
use tidy_warden_core::request::Request;
use tidy_warden_core::time::{Span, UnixTime};
use tidy_warden_join::{Answer, Desk as Caller, Proof};
use tidy_warden_simulate::Login;

use crate::desk::Desk;
use crate::door::python;
use crate::harness::{Guard, Running, World, in_days};

/// How many days a step has, and how many there are.
const STEP: i64 = 10;
const STEPS: i64 = 37;

/// Lives of 120 days, the last sixty of which are for renewing: whoever is away for three weeks comes back in time.
const KINDS: &str = "\n[kinds.windvane]\nlife = \"120d\"\nrenew = \"60d\"\nrenews = \"device\"\n\
                     [kinds.cabin]\nlife = \"120d\"\nrenew = \"60d\"\nrenews = \"errand\"\nerrands = [\"stop\"]\n";
const RENEW: Span = Span::from_days(60);

const POLICY: &str = "policy all {\n  for kind in (windvane, cabin)\n  allow connect as \"{device}\"\n  allow publish \"rope/{device}/state\"\n}\n";

/// A device in another language, which speaks MQTT alone.
const PAHO: &str = "ca-other";

/// What a device signs in with, and whom it believes.
struct Identity {
    key: SoftwareKey,
    /// Its certificate and those above it.
    chain: Vec<Certificate>,
    roots: Vec<Certificate>,
}

impl Identity {
    fn leaf(&self) -> &Certificate {
        &self.chain[0]
    }

    /// The root that it believes if it believes one: the newest that it was given.
    fn login(&self, id: &str) -> Login {
        let root = self.roots.iter().max_by_key(|root| root.not_before).unwrap();
        let chain = self.chain.iter().map(|each| each.der().to_vec()).collect();
        Login::new(root.der(), Some((chain, self.key.to_pkcs8().unwrap().to_vec())), "localhost", id).unwrap()
    }
}

struct Device {
    id: DeviceId,
    /// Whether it speaks MQTT alone.
    by_errand: bool,
    now: Mutex<Identity>,
    /// A key for which it asked for a certificate, and was not given one yet.
    next: Mutex<Option<SoftwareKey>>,
    /// What it answered to the errand that it did last.
    done: Mutex<Option<(i64, String)>>,
    is_away: AtomicBool,
    /// It does not renew any more, or was stolen.
    is_lost: AtomicBool,
}

impl Device {
    fn opens(&self) -> UnixTime {
        let now = self.now.lock().unwrap();
        renewal_opens(now.leaf().not_before, now.leaf().not_after, Some(RENEW), &self.id)
    }

    fn issuer(&self) -> String {
        self.now.lock().unwrap().chain[1].subject_text.clone()
    }

    fn is_here(&self) -> bool {
        !self.is_away.load(Ordering::Relaxed) && !self.is_lost.load(Ordering::Relaxed)
    }
}

/// What all devices know: where guard and desk are, and what time it is.
struct Around {
    guard: RwLock<SocketAddr>,
    desk: RwLock<SocketAddr>,
    time: AtomicI64,
    ward: String,
    is_over: AtomicBool,
    renewals: AtomicU64,
}

impl Around {
    fn time(&self) -> UnixTime {
        UnixTime(self.time.load(Ordering::Relaxed))
    }

    fn guard(&self) -> SocketAddr {
        *self.guard.read().unwrap()
    }

    /// The next certificate at the desk, as often as it takes: with one key until there is an answer. Gives whether there was something to do.
    async fn renew(&self, device: &Device) -> bool {
        let next = SoftwareKey::generate(NewKey::P256).unwrap();
        let request = Request::stating(&BTreeMap::new(), &next).unwrap();
        for _ in 0..50 {
            let (proof, roots) = {
                let now = device.now.lock().unwrap();
                let chain = now.chain.iter().map(|each| each.der().to_vec()).collect();
                let key = SoftwareKey::from_pkcs8(&now.key.to_pkcs8().unwrap()).unwrap();
                (Proof::Certificate(chain, Arc::new(key)), now.roots.clone())
            };
            let port = self.desk.read().unwrap().port();
            let desk = Caller::new(format!("https://localhost:{port}").parse().unwrap(), roots);
            let answer = async {
                Ok::<_, tidy_warden_join::JoinError>(match desk.ask(None, &request, &proof, true).await? {
                    Answer::Given(der) => Ok((der, desk.authorities().await?, desk.roots_text().await?)),
                    other => Err(other),
                })
            };
            match answer.await {
                Ok(Ok((der, mut authorities, roots))) => {
                    let mut chain = vec![Certificate::from_der(&der).unwrap()];
                    // Each is taken once: roots sign each other.
                    while let Some(above) = authorities.iter().position(|each| {
                        let last = chain.last().unwrap();
                        each.subject == last.issuer
                            && each.subject != each.issuer
                            && last.is_signed_by(&each.public_key)
                    }) {
                        chain.push(authorities.swap_remove(above));
                    }
                    let roots = Certificate::read_all(roots.as_bytes()).unwrap();
                    *device.now.lock().unwrap() = Identity { key: next, chain, roots };
                    self.renewals.fetch_add(1, Ordering::Relaxed);
                    return true;
                }
                Ok(Err(Answer::TooSoon(_))) => return false,
                // The desk was killed, or is not there yet.
                Ok(Err(Answer::Later(..))) | Err(_) => tokio::time::sleep(Duration::from_millis(200)).await,
                Ok(Err(other)) => panic!("{}: {other:?}", device.id),
            }
        }
        panic!("{} was not answered", device.id)
    }

    /// Signs in once, so that the certificate is seen in use.
    async fn visit(&self, device: &Device) {
        let mut last = None;
        for _ in 0..50 {
            let login = device.now.lock().unwrap().login(device.id.as_str());
            match login.connect(self.guard()).await {
                Ok(session) => return session.goodbye().await,
                // The guard was killed, or has just begun.
                Err(error) => last = Some(error),
            }
            tokio::time::sleep(Duration::from_millis(200)).await;
        }
        panic!("{} did not come in at {}: {last:?}", device.id, self.time())
    }

    /// Lives on MQTT alone: connected as long as it is here, doing what its ward asks.
    async fn live(self: Arc<Self>, device: Arc<Device>) {
        while !self.is_over.load(Ordering::Relaxed) {
            if !device.is_here() || self.session(&device).await.is_err() {
                tokio::time::sleep(Duration::from_millis(300)).await;
            }
        }
    }

    async fn session(&self, device: &Device) -> std::io::Result<()> {
        let login = device.now.lock().unwrap().login(device.id.as_str());
        let mut session = login.connect(self.guard()).await.map_err(std::io::Error::other)?;
        session.subscribe(&format!("$ward/{}/errand/+", device.id)).await?;
        while device.is_here() && !self.is_over.load(Ordering::Relaxed) {
            let Some(message) = session.message(Duration::from_millis(500)).await? else { continue };
            let roots = device.now.lock().unwrap().roots.clone();
            let text = String::from_utf8(message.payload).unwrap();
            let Ok(read) = read(&text, &device.id, &roots, Some(&self.ward), self.time()) else { continue };
            let errand = read.errand;
            let topic = message.topic.replacen("/errand/", "/answer/", 1);
            let again = device.done.lock().unwrap().clone().filter(|(number, _)| *number == errand.number);
            if let Some((_, answer)) = again {
                session.publish(&topic, answer.as_bytes()).await?;
                continue;
            }
            let (answer, is_renewed) = match errand.purpose {
                Purpose::Renew => {
                    let next = SoftwareKey::generate(NewKey::P256).unwrap();
                    let csr = Request::stating(&BTreeMap::new(), &next).unwrap();
                    let answer = renewal_text(&errand, &self.ward, &csr, &device.now.lock().unwrap().key).unwrap();
                    *device.next.lock().unwrap() = Some(next);
                    (answer, false)
                }
                Purpose::Install => match self.install(device, &errand.detail) {
                    true => (answer_text(errand.number, Outcome::Done, None, None), true),
                    false => (answer_text(errand.number, Outcome::Refused, Some("it asked for none"), None), false),
                },
                _ => (answer_text(errand.number, Outcome::Done, None, None), false),
            };
            *device.done.lock().unwrap() = Some((errand.number, answer.clone()));
            session.publish(&topic, answer.as_bytes()).await?;
            if is_renewed {
                break;
            }
        }
        session.goodbye().await;
        Ok(())
    }

    fn install(&self, device: &Device, detail: &str) -> bool {
        let detail: Value = serde_json::from_str(detail).unwrap();
        let read = |name: &str| Certificate::read_all(detail[name].as_str().unwrap().as_bytes()).unwrap();
        let chain = [read("certificate"), read("chain")].concat();
        let mut next = device.next.lock().unwrap();
        match next.take_if(|next| *next.public_key() == chain[0].public_key) {
            Some(key) => {
                *device.now.lock().unwrap() = Identity { key, chain, roots: read("roots") };
                self.renewals.fetch_add(1, Ordering::Relaxed);
                true
            }
            None => false,
        }
    }
}

/// The whole of it.
struct Year {
    world: World,
    begins: i64,
    guard: Option<Guard>,
    desk: Option<Desk>,
    devices: Vec<Arc<Device>>,
    around: Arc<Around>,
    runtime: tokio::runtime::Runtime,
}

impl Year {
    fn begin(count: usize) -> Self {
        // It ends today: TLS at the devices' end goes by the real time, and must find certificates of servers that have begun.
        let world = World::driven_from(&in_days(-STEP * (STEPS + 1)), KINDS);
        let settings = std::fs::read_to_string(world.path("w/ward.toml")).unwrap();
        assert!(!settings.contains("\n[desk]\n") && !settings.contains("\n[guard]\n"));
        world.append("w/ward.toml", "\n[desk]\nrequests_per_source = 1000000\nrequests_per_device = 1000\n");
        let mut list = "id,kind\n".to_owned();
        let kind = |number: usize| if number.is_multiple_of(4) { ("ca", "cabin") } else { ("wv", "windvane") };
        let ids: Vec<(String, bool)> =
            (1..=count).map(|number| (format!("{}-{number}", kind(number).0), number.is_multiple_of(4))).collect();
        (1..=count).zip(&ids).for_each(|(number, (id, _))| list.push_str(&format!("{id},{}\n", kind(number).1)));
        world.write("fleet.csv", list + &format!("{PAHO},cabin\n"));
        world.adopt(POLICY);
        world.run(&["enroll", "--from", "fleet.csv", "--out", "outfits", "--yes"]).exits(0);
        let devices = ids.into_iter().map(|(id, by_errand)| {
            let (chain, key) = world.identity(&id);
            let chain = chain.iter().map(|der| Certificate::from_der(der).unwrap()).collect();
            let roots = vec![Certificate::from_der(&world.root(&id)).unwrap()];
            let now = Identity { key: SoftwareKey::from_pkcs8(&key).unwrap(), chain, roots };
            Arc::new(Device {
                id: id.parse().unwrap(),
                by_errand,
                now: Mutex::new(now),
                next: Mutex::default(),
                done: Mutex::default(),
                is_away: AtomicBool::new(false),
                is_lost: AtomicBool::new(false),
            })
        });
        let devices: Vec<Arc<Device>> = devices.collect();
        let connect = std::fs::read_to_string(world.path(&format!("outfits/{PAHO}/connect.json"))).unwrap();
        let connect: Value = serde_json::from_str(&connect).unwrap();
        let nowhere = SocketAddr::from(([127, 0, 0, 1], 9));
        let begins: UnixTime = std::fs::read_to_string(world.path("now")).unwrap().trim().parse().unwrap();
        let around = Arc::new(Around {
            guard: RwLock::new(nowhere),
            desk: RwLock::new(nowhere),
            time: AtomicI64::new(begins.0),
            ward: connect["errands"]["ward"].as_str().unwrap().to_owned(),
            is_over: AtomicBool::new(false),
            renewals: AtomicU64::new(0),
        });
        let runtime = tokio::runtime::Runtime::new().unwrap();
        let mut year = Self { world, begins: begins.0, guard: None, desk: None, devices, around, runtime };
        year.restart(true, true);
        for device in year.devices.iter().filter(|device| device.by_errand) {
            year.runtime.spawn(year.around.clone().live(device.clone()));
        }
        year
    }

    /// Kills guard or desk where they stand, and begins them anew.
    fn restart(&mut self, guard: bool, desk: bool) {
        if guard {
            self.guard = None;
            let next = Guard::start(&self.world, "builtin");
            *self.around.guard.write().unwrap() = next.address;
            self.world.write("port.next", next.address.port().to_string());
            std::fs::rename(self.world.path("port.next"), self.world.path("port")).unwrap();
            self.guard = Some(next);
        }
        if desk {
            self.desk = None;
            let next = Desk::start(&self.world);
            *self.around.desk.write().unwrap() = next.address;
            self.desk = Some(next);
        }
    }

    fn to(&self, day: i64) {
        let at = UnixTime(self.begins + day * 86_400);
        self.around.time.store(at.0, Ordering::Relaxed);
        self.world.write("now.next", at.to_string());
        std::fs::rename(self.world.path("now.next"), self.world.path("now")).unwrap();
    }

    /// Does something with each of some devices, several at once.
    fn each(&self, devices: impl Iterator<Item = Arc<Device>>, is_call: bool) {
        let turns = Arc::new(tokio::sync::Semaphore::new(16));
        self.runtime.block_on(async {
            let mut all = tokio::task::JoinSet::new();
            for device in devices {
                let (around, turns) = (self.around.clone(), turns.clone());
                all.spawn(async move {
                    let _turn = turns.acquire().await.unwrap();
                    if !is_call || around.renew(&device).await {
                        around.visit(&device).await;
                    }
                });
            }
            while let Some(done) = all.join_next().await {
                done.unwrap();
            }
        });
    }

    /// Those that renew at the desk call it: whose time has come, or all of them, as they would day by day.
    fn call(&self, all: bool) {
        let now = self.around.time();
        let callers = self.devices.iter().filter(|device| !device.by_errand && device.is_here());
        self.each(callers.filter(|device| all || device.opens() <= now).cloned(), true);
    }

    /// Waits until those that speak MQTT alone, and are here, have renewed if `is_late` says so of them.
    fn wait(&self, what: &str, is_late: impl Fn(&Device) -> bool) {
        let until = Instant::now() + Duration::from_secs(60);
        loop {
            let mut late = self.devices.iter().filter(|device| device.by_errand && device.is_here() && is_late(device));
            let Some(one) = late.next() else { return };
            if Instant::now() > until {
                let errands = self.world.run(&["errand", "list", "--device", one.id.as_str()]).stdout;
                panic!("{what}: {} and {} more did not\n{errands}", one.id, late.count());
            }
            std::thread::sleep(Duration::from_millis(100));
        }
    }

    /// Waits until the one in another language has a certificate that is not due.
    fn wait_for_other(&self, other: &Running) {
        let (until, id) = (Instant::now() + Duration::from_secs(30), PAHO.parse().unwrap());
        let (now, path) = (self.around.time(), self.world.path(&format!("outfits/{PAHO}/device.pem")));
        let leaf = || Certificate::read_all(&std::fs::read(&path).unwrap()).unwrap().remove(0);
        let opens = |leaf: Certificate| renewal_opens(leaf.not_before, leaf.not_after, Some(RENEW), &id);
        while opens(leaf()) <= now {
            let events = || self.world.run(&["device", "events", PAHO]).stdout;
            assert!(Instant::now() < until, "{PAHO} did not renew\n{}\n{}", other.lines().join("\n"), events());
            std::thread::sleep(Duration::from_millis(100));
        }
    }

    /// Waits until everybody who is here uses what it was given: the clock jumps by more than a device would take for that.
    fn settle(&self) {
        let gone: BTreeSet<&str> =
            self.devices.iter().filter(|device| !device.is_here()).map(|device| device.id.as_str()).collect();
        let is_unused = |item: &Value| item["why"].as_str().unwrap().starts_with("the next one is there");
        let until = Instant::now() + Duration::from_secs(90);
        loop {
            let due = self.world.run(&["due", "--within", "130d", "--format", "json"]).exits(0).json();
            let unused = due["due"].as_array().unwrap().iter().filter(|item| is_unused(item));
            let mut unused = unused.map(|item| item["name"].as_str().unwrap()).filter(|id| !gone.contains(id));
            let Some(one) = unused.next() else { return };
            if Instant::now() > until {
                let events = self.world.run(&["device", "events", one]).stdout;
                panic!("{one} and {} more do not use what they were given\n{events}", unused.count());
            }
            std::thread::sleep(Duration::from_millis(500));
        }
    }

    /// Certificates that are due within thirty days and need a person. That no desk was seen for an hour is left out: the clock jumps by days,
    /// and the desk says that it is there every few seconds.
    fn needy(&self) -> BTreeMap<String, String> {
        let due = self.world.run(&["due", "--within", "30d", "--format", "json"]).exits(0).json();
        let items = due["due"].as_array().unwrap().iter().filter(|item| item["what"] == "certificate");
        let is_needy =
            |item: &&Value| item["happens"] == "needs-you" && !item["why"].as_str().unwrap().starts_with("no desk");
        let text = |item: &Value, name: &str| item[name].as_str().unwrap().to_owned();
        items
            .filter(is_needy)
            .map(|item| (text(item, "name"), format!("{}, ends {}", text(item, "why"), item["ends"])))
            .collect()
    }

    fn in_state(&self, state: &str) -> BTreeSet<String> {
        let condition = format!("state = {state}");
        let all = self.world.run(&["device", "list", "--where", &condition, "--format", "json"]).json();
        let all = all["devices"].as_array().cloned().unwrap_or_default();
        all.iter().map(|each| each["id"].as_str().unwrap().to_owned()).collect()
    }

    fn rotate(&self, name: &str, signed_by: &str) {
        let prepare = ["rotation", "prepare", name, "--where", "kind in (windvane, cabin)", "--signed-by", signed_by];
        let terms = ["--rounds", "5%,100%", "--give", "35d", "--most-failed", "60%"];
        self.world.run(&[&prepare[..], &terms].concat()).exits(0);
        self.world.run(&["rotation", "start", name, "--yes"]).exits(0);
    }

    fn rotation(&self, name: &str) -> Value {
        self.world.run(&["rotation", "status", name, "--format", "json"]).exits(0).json()
    }

    /// Waits until a rotation has asked all, or as long as it may wait for those that are away; whoever renews at the desk calls meanwhile.
    fn go_on(&self, name: &str, signed_by: &str) {
        let until = Instant::now() + Duration::from_secs(6);
        let is_left = |device: &Device| device.issuer().contains(&format!(" {signed_by} "));
        while self.rotation(name)["state"] == "running" && Instant::now() < until {
            let left = self.devices.iter().filter(|device| device.is_here() && is_left(device));
            let (at_desk, on_mqtt): (Vec<_>, Vec<_>) = left.partition(|device| !device.by_errand);
            if at_desk.is_empty() && on_mqtt.is_empty() {
                break;
            }
            self.each(at_desk.into_iter().cloned(), true);
            std::thread::sleep(Duration::from_millis(500));
        }
    }
}

/// What happens to a device in the year, by its place.
fn fate(id: &DeviceId) -> u32 {
    let [a, b, c, d, ..] = sha256(id.as_str().as_bytes());
    u32::from_be_bytes([a, b, c, d]) % 100
}

fn year(count: usize) {
    let mut year = Year::begin(count);
    let around = year.around.clone();
    year.world.write("errands.py", include_str!("../errands.py"));
    let outfit = format!("outfits/{PAHO}");
    let other =
        Running::start(year.world.command(python(&year.world)).args(["errands.py", &outfit, "port", "5", "now"]));
    // One hundredth does not renew any more, from the tenth step on; a tenth is away for twenty days now and then.
    let silent: BTreeSet<String> =
        year.devices.iter().filter(|device| fate(&device.id) == 0).map(|device| device.id.to_string()).collect();
    let away: Vec<Arc<Device>> =
        year.devices.iter().filter(|device| (1..11).contains(&fate(&device.id))).cloned().collect();
    let stolen = year.devices.iter().find(|device| !device.by_errand && fate(&device.id) > 50).unwrap().clone();
    let thief = stolen.now.lock().unwrap().login(stolen.id.as_str());
    let (mut told, mut ended, mut intruded) = (BTreeMap::new(), BTreeSet::new(), 0);
    for step in 1..=STEPS {
        year.to(step * STEP);
        for (at, device) in away.iter().enumerate() {
            let turn = (step + i64::try_from(at).unwrap()) % 9;
            device.is_away.store(turn < 2, Ordering::Relaxed);
        }
        if step == 10 {
            let lost = |device: &&Arc<Device>| silent.contains(device.id.as_str());
            year.devices.iter().filter(lost).for_each(|device| device.is_lost.store(true, Ordering::Relaxed));
        }
        // Guard and desk are killed between any two requests, in turns that differ; some of them while devices call.
        let (guard, desk) = (step % 5 == 2, step % 4 == 3);
        year.restart(guard, desk);
        match step {
            6 => {
                let revoke =
                    ["revoke", stolen.id.as_str(), "--reason", "keyCompromise", "--because", "stolen", "--yes"];
                year.world.run(&revoke).exits(0);
                stolen.is_lost.store(true, Ordering::Relaxed);
                std::thread::sleep(Duration::from_secs(2));
            }
            8 => {
                year.world.run(&["authority", "add", "devices-2", "--replaces", "devices"]).exits(0);
                std::thread::sleep(Duration::from_secs(1));
                year.rotate("authority", "devices");
            }
            18 => {
                year.world.run(&["authority", "add", "root-2", "--new-root"]).exits(0);
                year.world.run(&["authority", "add", "devices-3", "--replaces", "devices-2"]).exits(0);
                std::thread::sleep(Duration::from_secs(1));
                year.rotate("root", "devices-2");
            }
            _ => {}
        }
        match step {
            8..=14 => year.go_on("authority", "devices"),
            18..=26 => year.go_on("root", "devices-2"),
            _ => {}
        }
        year.call(false);
        let now = around.time();
        year.wait("renews by MQTT", |device| device.opens() <= now);
        year.wait_for_other(&other);
        year.settle();
        year.needy().into_iter().for_each(|(id, why)| {
            told.entry(id).or_insert(format!("{}: {why}", around.time()));
        });
        ended.extend(year.in_state("ended"));
        if step >= 6 {
            let seen = year.runtime.block_on(thief.connect(around.guard()));
            intruded += u32::from(seen.is_ok());
        }
        match step {
            // May the old one be retired, and whom would it hurt?
            23 => {
                let shown = year.world.run(&["authority", "show", "devices", "--format", "json"]).exits(0).json();
                let hurt = shown["devices_that_need_it"].as_u64().unwrap();
                assert!(hurt <= u64::try_from(silent.len()).unwrap(), "{hurt} would be shut out of {}", silent.len());
                year.world.run(&["authority", "retire", "devices", "--anyway", "--yes"]).exits(0);
            }
            // All that renew have the new root by now: what guards and desks show may lead to it alone.
            27 => {
                let lack =
                    year.world.run(&["authority", "show", "root-2", "--missing", "--format", "json"]).exits(0).json();
                let lack: BTreeSet<String> = lack["devices"]
                    .as_array()
                    .unwrap()
                    .iter()
                    .map(|each| each["id"].as_str().unwrap().to_owned())
                    .collect();
                assert!(lack.is_subset(&silent), "{:?} lack the root", lack.difference(&silent).collect::<Vec<_>>());
                year.world.run(&["authority", "add", "service-2", "--service", "--replaces", "service"]).exits(0);
                for server in ["guard", "desk", "errands"] {
                    year.world.run(&["post", "renew", server]).exits(0);
                }
                year.world.run(&["authority", "retire", "service", "--anyway", "--yes"]).exits(0);
                year.world.run(&["authority", "retire", "devices-2", "--anyway", "--yes"]).exits(0);
                year.world.run(&["authority", "retire", "root", "--anyway", "--yes"]).exits(0);
                year.restart(true, true);
            }
            _ => {}
        }
    }
    let whys = told;
    let told: BTreeSet<String> = whys.keys().cloned().collect();
    // Nobody is without a good credential but those that were made to fail, and each of them was named before its end.
    assert_eq!(intruded, 0, "nobody revoked got in");
    assert!(ended.is_subset(&silent), "{:?} ended", ended.difference(&silent).collect::<Vec<_>>());
    assert!(ended.is_subset(&told), "{:?} ended unnoticed", ended.difference(&told).collect::<Vec<_>>());
    assert!(!silent.is_empty() && !ended.is_empty(), "some were made to fail");
    let awaited: BTreeSet<String> =
        away.iter().map(|device| device.id.to_string()).chain(silent.iter().cloned()).collect();
    let without_need: Vec<_> = told.difference(&awaited).map(|id| (id, &whys[id])).collect();
    assert!(without_need.is_empty(), "named without need: {without_need:?}");
    assert_eq!(year.in_state("out"), BTreeSet::from([stolen.id.to_string()]));
    for name in ["authority", "root"] {
        let rotation = year.rotation(name);
        assert_eq!(rotation["state"], "done", "{rotation}");
    }
    // Whoever is left comes in, and believes the new root alone.
    away.iter().for_each(|device| device.is_away.store(false, Ordering::Relaxed));
    let left = year.devices.iter().filter(|device| device.is_here()).cloned();
    year.each(left.clone().filter(|device| !device.by_errand), false);
    for device in left {
        let now = device.now.lock().unwrap();
        assert!(now.leaf().not_after > around.time() && now.chain.len() > 1, "{}", device.id);
        assert!(now.roots.iter().any(|root| root.subject_text.contains("root-2")), "{} has the new root", device.id);
    }
    other.line("that it is there", |line| line.starts_with("listens"));
    year.world.run(&["errand", "send", PAHO, "stop", "--wait", "10s"]).exits(0);
    let renewed = year.world.run(&["audit", "log", "--subject", PAHO, "--format", "json"]).exits(0).json();
    let issued =
        renewed["entries"].as_array().unwrap().iter().filter(|entry| entry["act"] == "credential.issue").count();
    assert!((4..=8).contains(&issued), "{issued} certificates for the one in another language");
    around.is_over.store(true, Ordering::Relaxed);
    assert!(around.renewals.load(Ordering::Relaxed) > u64::try_from(count * 4).unwrap());
    year.world.run(&["audit", "verify"]).exits(0).prints(&["is whole", "hold what it says"]);
}

#[test]
fn nobody_ends_unnoticed_in_a_year_of_two_authorities_and_another_root() {
    year(60);
}

/// The same with two thousand, which takes minutes: `cargo test --test program -- --ignored year`.
#[test]
#[ignore = "takes minutes; scripts/test runs it last"]
fn nobody_of_two_thousand_ends_unnoticed_in_a_year() {
    year(2_000);
}
