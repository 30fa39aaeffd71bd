//! The guard at full size: messages through it and around it, handshakes, idle sessions, and how fast a change reaches them.
//!
//! `cargo bench --bench guard [-- SESSIONS] [messages] [handshakes] [connections] [idle]`. It needs mosquitto (2.0) and openssl. Messages and connections are compared with
//! the same clients, certificates and broker over TLS without the guard; handshakes with what rustls does in memory with its own
//! verifier. Bounds and figures alternate; of several rounds the middle one is told with the lowest and highest.

#![expect(clippy::unwrap_used, reason = "a benchmark fails by panicking")]

use std::io::{BufRead, BufReader};
use std::net::SocketAddr;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use std::time::{Duration, Instant};

use rustls::pki_types::{CertificateDer, PrivatePkcs8KeyDer, ServerName};
use rustls::server::WebPkiClientVerifier;
use rustls::{ClientConfig, ClientConnection, RootCertStore, ServerConfig, ServerConnection};
use tidy_warden_core::authority::AuthorityRole;
use tidy_warden_simulate::load::{Depth, connect, hold_open};
use tidy_warden_simulate::{Login, Outfit};
use tidy_warden_store::{OperatorStore, SqliteStore};

const ROUNDS: usize = 5;

/// Connections in a round.
const CONNECTIONS: usize = 1_500;

/// Publishers at once.
const PUBLISHERS: usize = 50;

const POLICY: &str = "policy vanes {\n  for kind = windvane\n  allow connect as \"{device}\"\n  \
     allow publish \"rope/{site}/{device}/wind\" size <= 2KiB\n  allow subscribe \"rope/{site}/{device}/settings\"\n}\n";

/// Ends a process when it is dropped.
struct Running(Child);

impl Drop for Running {
    fn drop(&mut self) {
        // It may have ended by itself.
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

fn main() {
    // Cargo itself gives `--bench`.
    let sessions = std::env::args().filter_map(|word| word.parse().ok()).next().unwrap_or(9_900usize);
    let folder = tempfile::tempdir().unwrap();
    let bench = Bench::new(folder.path(), sessions);
    let broker = bench.broker();
    let guard = bench.guard();
    println!("{sessions} devices in the ward; mosquitto behind the guard over plain TCP, and beside it over TLS\n");
    let parts: Vec<String> = std::env::args().skip(1).filter(|word| word.chars().all(char::is_alphabetic)).collect();
    let wanted = |part: &str| parts.is_empty() || parts.iter().any(|each| each == part);
    let runtime = tokio::runtime::Runtime::new().unwrap();
    if wanted("messages") {
        bench.messages(&guard);
    }
    if wanted("handshakes") {
        bench.handshakes(&guard, &runtime);
    }
    if wanted("connections") {
        bench.sessions(&guard, &runtime);
    }
    if wanted("idle") {
        bench.idle(&guard, &runtime);
    }
    drop((guard, broker));
}

struct Guard {
    process: Running,
    address: SocketAddr,
}

struct Bench<'d> {
    dir: &'d Path,
    sessions: usize,
    plain: u16,
    tls: u16,
}

fn free_port() -> u16 {
    std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port()
}

fn done(command: &mut Command) -> String {
    let output = command.output().unwrap();
    assert!(output.status.success(), "{command:?}: {}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8(output.stdout).unwrap()
}

impl<'d> Bench<'d> {
    fn new(dir: &'d Path, sessions: usize) -> Self {
        let bench = Self { dir, sessions, plain: free_port(), tls: free_port() };
        bench.write("pass", "one two three\n");
        bench.program(&["init", "--name", "Bench", "--host", "localhost"]);
        let toml = std::fs::read_to_string(dir.join("w/ward.toml")).unwrap();
        let more = "\n[kinds.windvane]\n\n[guard]\nsessions_per_source = 100000\nbroker_user = \"guard\"\nbroker_password_file = \"pw\"\n";
        bench.write("w/ward.toml", &(toml + more));
        bench.write("w/pw", "between us\n");
        for policy in std::fs::read_dir(dir.join("w/policies")).unwrap() {
            std::fs::remove_file(policy.unwrap().path()).unwrap();
        }
        bench.write("w/policies/all.policy", POLICY);
        let rows: String = (0..sessions).map(|at| format!("wv-{at:05},windvane,ossel\n")).collect();
        bench.write("list.csv", &format!("id,kind,label.site\n{rows}"));
        bench.program(&["device", "import", "list.csv"]);
        bench.program(&["policy", "adopt", "--yes", "--because", "bench"]);
        bench.program(&["enroll", "--from", "list.csv", "--out", "outfits", "--yes"]);
        bench
    }

    fn write(&self, name: &str, text: &str) {
        std::fs::write(self.dir.join(name), text).unwrap();
    }

    fn command(&self, args: &[&str]) -> Command {
        let mut command = Command::new(env!("CARGO_BIN_EXE_tidy-warden"));
        command.args(args).current_dir(self.dir);
        command.env("TIDY_WARDEN_WARD", "w").env("TIDY_WARDEN_PASSPHRASE_FILE", "pass");
        command
    }

    fn program(&self, args: &[&str]) -> String {
        done(&mut self.command(args))
    }

    /// A broker with a plain listener that wants a password, and one over TLS that wants a certificate of the ward.
    fn broker(&self) -> Running {
        let file = |name: &str| self.dir.join(name).display().to_string();
        let store = OperatorStore::new(Box::new(SqliteStore::open(&self.dir.join("w/ward.db")).unwrap()));
        let authorities = store.authorities().unwrap();
        let of = |role| authorities.iter().find(|each| each.role == role).unwrap().certificate.to_pem();
        self.write("ca.pem", &(of(AuthorityRole::Root) + &of(AuthorityRole::Devices)));
        self.write("server.pem", &(store.server_certificate("guard").unwrap().to_pem() + &of(AuthorityRole::Service)));
        let openssl = ["pkey", "-in", "w/keys/guard.key", "-passin", "file:pass", "-out", "server.key"];
        done(Command::new("openssl").args(openssl).current_dir(self.dir));
        done(Command::new("mosquitto_passwd").args(["-b", "-c", "pw", "guard", "between us"]).current_dir(self.dir));
        // The broker gives up root's rights before it reads these.
        done(Command::new("chmod").args(["-R", "a+rX", "."]).current_dir(self.dir));
        self.write(
            "broker.conf",
            &format!(
                "per_listener_settings true\npersistence false\nlog_type error\n\
                 listener {} 127.0.0.1\nallow_anonymous false\npassword_file {}\n\
                 listener {} 127.0.0.1\ncafile {}\ncertfile {}\nkeyfile {}\nrequire_certificate true\n\
                 allow_anonymous true\n",
                self.plain,
                file("pw"),
                self.tls,
                file("ca.pem"),
                file("server.pem"),
                file("server.key")
            ),
        );
        let child = Command::new("mosquitto").args(["-c", "broker.conf"]).current_dir(self.dir).spawn().unwrap();
        let running = Running(child);
        for port in [self.plain, self.tls] {
            let begun = Instant::now();
            while std::net::TcpStream::connect(("127.0.0.1", port)).is_err() {
                assert!(begun.elapsed() < Duration::from_secs(10), "mosquitto does not listen");
                std::thread::sleep(Duration::from_millis(20));
            }
        }
        running
    }

    fn guard(&self) -> Guard {
        let broker = format!("127.0.0.1:{}", self.plain);
        let mut command = self.command(&["guard", "--listen", "127.0.0.1:0", "--broker", &broker, "--log", "json"]);
        let mut child = command.stderr(Stdio::piped()).spawn().unwrap();
        let mut lines = BufReader::new(child.stderr.take().unwrap()).lines();
        let address = loop {
            let line = lines.next().unwrap().unwrap();
            let event: serde_json::Value = serde_json::from_str(&line).unwrap_or_default();
            if event["event"] == "listening" {
                break event["address"].as_str().unwrap().parse().unwrap();
            }
        };
        // Somebody must read the log, or the guard counts what it leaves out.
        std::thread::spawn(move || lines.count());
        Guard { process: Running(child), address }
    }

    fn logins(&self, count: usize) -> Vec<Login> {
        let login = |at| {
            let outfit = Outfit::read(&self.dir.join(format!("outfits/wv-{at:05}"))).unwrap();
            outfit.login().unwrap().forgetful()
        };
        (0..count).map(login).collect()
    }

    fn messages(&self, guard: &Guard) {
        std::fs::create_dir(self.dir.join("some")).unwrap();
        for at in 0..PUBLISHERS {
            let name = format!("wv-{at:05}");
            std::os::unix::fs::symlink(format!("../outfits/{name}"), self.dir.join("some").join(name)).unwrap();
        }
        let (at, direct) = (guard.address.to_string(), format!("127.0.0.1:{}", self.tls));
        let table = self.program(&[
            "--quiet",
            "simulate",
            "load",
            "--outfits",
            "some",
            "--at",
            &at,
            "--direct",
            &direct,
            "--rounds",
            "5",
        ]);
        println!("{table}");
    }

    /// What a handshake costs the guard, against what it costs rustls alone.
    fn handshakes(&self, guard: &Guard, runtime: &tokio::runtime::Runtime) {
        let logins = self.logins(64);
        let mut ratios = Vec::new();
        let mut figures = Vec::new();
        for _ in 0..ROUNDS {
            let alone = self.rustls_alone();
            let before = cpu(&guard.process.0);
            let took = runtime.block_on(connect(&logins, guard.address, (CONNECTIONS, 8), Depth::Handshake)).unwrap();
            // The guard may still be busy with the last ones.
            std::thread::sleep(Duration::from_millis(100));
            let each = (cpu(&guard.process.0) - before) / as_f64(CONNECTIONS);
            ratios.push(alone / each);
            figures.push((1.0 / each, 1.0 / alone, as_f64(CONNECTIONS) / took.as_secs_f64()));
        }
        let of = |pick: fn(&(f64, f64, f64)) -> f64| middle(figures.iter().map(pick).collect());
        let (ratio, low, high) = middle(ratios);
        println!(
            "handshakes with client certificates: {:.0} in a CPU-second of the guard, {:.0} of rustls alone, ratio {ratio:.2} \
             [{low:.2}..{high:.2}]; {:.0} in a second of this machine, clients included",
            of(|each| each.0).0,
            of(|each| each.1).0,
            of(|each| each.2).0
        );
    }

    /// CPU-seconds of one server's side of a full mutual handshake in memory.
    fn rustls_alone(&self) -> f64 {
        const TIMES: usize = 300;
        let outfit = Outfit::read(&self.dir.join("outfits/wv-00000")).unwrap();
        let provider = Arc::new(rustls::crypto::aws_lc_rs::default_provider());
        let mut roots = RootCertStore::empty();
        roots.add(CertificateDer::from(outfit.root.clone())).unwrap();
        let roots = Arc::new(roots);
        let verifier = WebPkiClientVerifier::builder_with_provider(roots.clone(), provider.clone()).build().unwrap();
        let pem = |name: &str| std::fs::read(self.dir.join(name)).unwrap();
        use rustls::pki_types::pem::PemObject;
        let chain: Vec<_> = CertificateDer::pem_slice_iter(&pem("server.pem")).map(Result::unwrap).collect();
        let key = rustls::pki_types::PrivateKeyDer::from_pem_slice(&pem("server.key")).unwrap();
        let server = ServerConfig::builder_with_provider(provider.clone())
            .with_safe_default_protocol_versions()
            .unwrap()
            .with_client_cert_verifier(verifier)
            .with_single_cert(chain, key)
            .unwrap();
        let chain = outfit.chain.iter().cloned().map(CertificateDer::from).collect();
        let key = PrivatePkcs8KeyDer::from(outfit.key.clone().unwrap());
        let mut client = ClientConfig::builder_with_provider(provider)
            .with_safe_default_protocol_versions()
            .unwrap()
            .with_root_certificates(roots)
            .with_client_auth_cert(chain, key.into())
            .unwrap();
        client.resumption = rustls::client::Resumption::disabled();
        let (server, client) = (Arc::new(server), Arc::new(client));
        let mut spent = Duration::ZERO;
        for _ in 0..TIMES {
            let name = ServerName::try_from("localhost").unwrap();
            let mut near = ClientConnection::new(client.clone(), name).unwrap();
            let begun = Instant::now();
            let mut far = ServerConnection::new(server.clone()).unwrap();
            spent += begun.elapsed();
            while near.is_handshaking() || far.is_handshaking() {
                let mut wire = Vec::new();
                while near.wants_write() {
                    near.write_tls(&mut wire).unwrap();
                }
                let begun = Instant::now();
                let mut rest = wire.as_slice();
                while !rest.is_empty() {
                    far.read_tls(&mut rest).unwrap();
                    far.process_new_packets().unwrap();
                }
                let mut back = Vec::new();
                while far.wants_write() {
                    far.write_tls(&mut back).unwrap();
                }
                spent += begun.elapsed();
                let mut rest = back.as_slice();
                while !rest.is_empty() {
                    near.read_tls(&mut rest).unwrap();
                    near.process_new_packets().unwrap();
                }
            }
        }
        spent.as_secs_f64() / as_f64(TIMES)
    }

    /// Whole connections, from TCP to CONNACK and goodbye, against the broker alone.
    fn sessions(&self, guard: &Guard, runtime: &tokio::runtime::Runtime) {
        let logins = self.logins(64);
        let direct: SocketAddr = format!("127.0.0.1:{}", self.tls).parse().unwrap();
        let rate = |address| {
            let took = runtime.block_on(connect(&logins, address, (CONNECTIONS, 8), Depth::Session)).unwrap();
            as_f64(CONNECTIONS) / took.as_secs_f64()
        };
        let rounds: Vec<(f64, f64)> = (0..ROUNDS).map(|_| (rate(direct), rate(guard.address))).collect();
        let (through, ..) = middle(rounds.iter().map(|round| round.1).collect());
        let (alone, ..) = middle(rounds.iter().map(|round| round.0).collect());
        let (ratio, low, high) = middle(rounds.iter().map(|round| round.1 / round.0).collect());
        println!(
            "connect and disconnect: {through:.0} in a second through the guard, {alone:.0} at the broker alone, ratio \
             {ratio:.2} [{low:.2}..{high:.2}]"
        );
    }

    /// Memory of idle sessions, and how fast a change reaches all of them.
    fn idle(&self, guard: &Guard, runtime: &tokio::runtime::Runtime) {
        let before = resident(&guard.process.0);
        let begun = Instant::now();
        let devices = runtime.block_on(hold_open(self.logins(self.sessions), guard.address, 16)).unwrap();
        let took = begun.elapsed();
        std::thread::sleep(Duration::from_secs(3));
        let after = resident(&guard.process.0);
        println!(
            "{} idle sessions: {after} MB resident, {before} MB before; opened in {:.1} s",
            devices.len(),
            took.as_secs_f64()
        );
        // Rights that every session must look at, and that change nothing for it.
        let wider = POLICY.replace("allow subscribe", "allow publish \"rope/{site}/{device}/gust\"\n  allow subscribe");
        self.write("w/policies/all.policy", &wider);
        self.program(&["policy", "adopt", "--because", "wider", "--count", &self.sessions.to_string()]);
        std::thread::sleep(Duration::from_secs(2));
        self.until_cut(runtime, devices, 1, &["revoke", "wv-00000", "--reason", "keyCompromise", "--yes"]);
        let rest = (self.sessions - 1).to_string();
        let reopen = || {
            let logins = self.logins(self.sessions).split_off(1);
            runtime.block_on(hold_open(logins, guard.address, 16)).unwrap()
        };
        let all = ["hold", "--where", "kind = windvane and not state = out", "--count", &rest, "--because", "bench"];
        self.until_cut(runtime, reopen(), self.sessions - 1, &all);
        // They come back, and the edition that lets nobody in ends them all at once.
        self.program(&["release", "--where", "state = held", "--count", &rest, "--because", "bench"]);
        self.write("w/policies/all.policy", "policy none { for kind = windvane }\n");
        let adopt = ["policy", "adopt", "--because", "bench", "--count", &self.sessions.to_string()];
        self.until_cut(runtime, reopen(), self.sessions - 1, &adopt);
    }

    /// Runs a command, and tells how long after its end `count` of the sessions were ended.
    fn until_cut(
        &self,
        runtime: &tokio::runtime::Runtime,
        open: Vec<tidy_warden_simulate::Device>,
        count: usize,
        args: &[&str],
    ) {
        let (sender, receiver) = std::sync::mpsc::channel();
        let mut watching = Vec::new();
        for mut device in open {
            let sender = sender.clone();
            watching.push(runtime.spawn(async move {
                if device.ended(Duration::from_secs(60)).await.is_some() {
                    // Nobody listens any more once enough have ended.
                    let _ = sender.send(Instant::now());
                    return None;
                }
                Some(device)
            }));
        }
        let begun = Instant::now();
        self.program(args);
        let committed = Instant::now();
        let mut last = committed;
        for _ in 0..count {
            last = receiver.recv_timeout(Duration::from_secs(30)).expect("a session that should have ended did not");
        }
        println!(
            "{} {}: the last of {count} sessions ended {:.2} s after the command did, which took {:.2} s",
            args[0],
            args[1],
            last.saturating_duration_since(committed).as_secs_f64(),
            committed.duration_since(begun).as_secs_f64()
        );
        watching.iter().for_each(tokio::task::JoinHandle::abort);
    }
}

fn as_f64(count: usize) -> f64 {
    f64::from(u32::try_from(count).unwrap())
}

fn middle(mut all: Vec<f64>) -> (f64, f64, f64) {
    all.sort_by(f64::total_cmp);
    (all[all.len() / 2], all[0], all[all.len() - 1])
}

/// CPU-seconds that a process has used, in user and kernel mode.
fn cpu(process: &Child) -> f64 {
    let stat = std::fs::read_to_string(format!("/proc/{}/stat", process.id())).unwrap();
    let fields: Vec<&str> = stat.rsplit(')').next().unwrap().split_whitespace().collect();
    let ticks: f64 = fields[11].parse::<f64>().unwrap() + fields[12].parse::<f64>().unwrap();
    ticks / 100.0
}

/// Resident memory of a process in MB.
fn resident(process: &Child) -> u64 {
    let status = std::fs::read_to_string(format!("/proc/{}/status", process.id())).unwrap();
    let line = status.lines().find_map(|line| line.strip_prefix("VmRSS:")).unwrap();
    line.split_whitespace().next().unwrap().parse::<u64>().unwrap() / 1024
}
