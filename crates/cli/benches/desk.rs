//! The desk at full size: enrolments with new handshakes, revocation lists, and what idle connections take.
//!
//! `cargo bench --bench desk [-- ENROLMENTS] [enrolments] [lists] [idle]`. Enrolments are compared with a server in this process that does
//! nothing but the handshake, the verification of the request and the signature, for the same clients. Bounds and figures alternate; of
//! several rounds the middle one is told with the lowest and highest.

#![expect(clippy::unwrap_used, reason = "a benchmark fails by panicking")]

use std::fmt::Write as _;
use std::io::{BufRead, BufReader, Read, Write};
use std::net::{SocketAddr, TcpListener, TcpStream};
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};

use data_encoding::BASE64;
use rustix::process::{Resource, getrlimit, setrlimit};
use rustls::pki_types::{CertificateDer, PrivatePkcs8KeyDer, ServerName};
use rustls::{ClientConfig, ClientConnection, RootCertStore, ServerConfig, ServerConnection, StreamOwned};
use tidy_warden_core::certificate::{
    AltName, Certificate, Issuer, Places, SerialNumber, Subject, Template, Usage, self_signed,
};
use tidy_warden_core::est;
use tidy_warden_core::key::{NewKey, SoftwareKey};
use tidy_warden_core::random::Randomness;
use tidy_warden_core::request::Request;
use tidy_warden_core::time::{Span, UnixTime};
use tidy_warden_ward::clock::SystemRandom;

const ROUNDS: usize = 3;
const CLIENTS: usize = 50;
const IDLE: usize = 4_900;

/// Ends a process when it is dropped.
struct Running(Child);

impl Drop for Running {
    fn drop(&mut self) {
        // It may have ended by itself.
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

fn number(count: usize) -> f64 {
    f64::from(u32::try_from(count).unwrap())
}

/// The middle of some figures, with the lowest and highest.
fn middle(mut figures: Vec<f64>) -> (f64, f64, f64) {
    figures.sort_by(f64::total_cmp);
    (figures[figures.len() / 2], figures[0], figures[figures.len() - 1])
}

fn command(folder: &Path, arguments: &[&str]) -> Command {
    let mut call = Command::new(env!("CARGO_BIN_EXE_tidy-warden"));
    call.current_dir(folder).args(arguments).env("TIDY_WARDEN_PASSPHRASE_FILE", "passphrase.txt");
    call
}

fn run(folder: &Path, arguments: &[&str]) {
    let output = command(folder, arguments).stdout(Stdio::null()).stderr(Stdio::piped()).output().unwrap();
    assert!(output.status.success(), "{arguments:?}: {}", String::from_utf8_lossy(&output.stderr));
}

fn main() {
    // Cargo itself gives `--bench`.
    let count = std::env::args().filter_map(|word| word.parse().ok()).next().unwrap_or(3_000usize);
    let parts: Vec<String> = std::env::args().skip(1).filter(|word| word.chars().all(char::is_alphabetic)).collect();
    let wanted = |part: &str| parts.is_empty() || parts.iter().any(|each| each == part);
    // Both ends of all connections are in this process or in one that takes its limits.
    let limit = getrlimit(Resource::Nofile);
    setrlimit(Resource::Nofile, rustix::process::Rlimit { current: limit.maximum, ..limit }).unwrap();
    let folder = tempfile::tempdir().unwrap();
    let callers = prepare(folder.path(), count);
    let (running, address, http) = desk(folder.path());
    let client = Client::new(&std::fs::read(folder.path().join("trust/root.pem")).unwrap());
    if wanted("enrolments") {
        enrolments(&client, address, &callers);
    }
    if wanted("lists") {
        lists(http);
    }
    if wanted("idle") {
        idle(&client, address, running.0.id());
    }
}

/// What one device sends.
struct Caller {
    body: String,
    user: String,
}

/// A ward with an admission for each device; gives what the devices send.
fn prepare(folder: &Path, count: usize) -> Vec<Caller> {
    use std::os::unix::fs::PermissionsExt;
    let secret = folder.join("passphrase.txt");
    std::fs::write(&secret, "a rope of several words\n").unwrap();
    std::fs::set_permissions(&secret, std::fs::Permissions::from_mode(0o600)).unwrap();
    run(folder, &["init", "--name", "Ropeways", "--host", "localhost", "--enterprise-number", "32473"]);
    let settings = folder.join("ward.toml");
    let text = std::fs::read_to_string(&settings).unwrap();
    std::fs::write(settings, text + "\n[kinds.windvane]\n[desk]\nrequests_per_source = 10000000\n").unwrap();
    let mut list = "id,kind,label.site\n".to_owned();
    (0..count).for_each(|at| writeln!(list, "wv-{at:06},windvane,s{}", at % 100).unwrap());
    std::fs::write(folder.join("list.csv"), list).unwrap();
    run(folder, &["admission", "import", "list.csv", "--out", "secrets.csv"]);
    run(folder, &["authority", "export", "--out", "trust"]);
    let secrets = std::fs::read_to_string(folder.join("secrets.csv")).unwrap();
    let mut rows = secrets.lines();
    let head: Vec<&str> = rows.next().unwrap().split(',').collect();
    let column = |name: &str| head.iter().position(|each| *each == name).unwrap();
    let (id, secret) = (column("id"), column("secret"));
    let caller = |row: &str| {
        let fields: Vec<&str> = row.split(',').collect();
        let key = SoftwareKey::generate(NewKey::P256).unwrap();
        let request = Request::sign(&Subject::of("w", fields[id]), &key).unwrap();
        let user = BASE64.encode(format!("{}:{}", fields[id], fields[secret]).as_bytes());
        Caller { body: est::encoded(&request), user }
    };
    rows.map(caller).collect()
}

fn desk(folder: &Path) -> (Running, SocketAddr, SocketAddr) {
    let call = ["desk", "--listen", "127.0.0.1:0", "--listen-http", "127.0.0.1:0", "--log", "json"];
    let mut child = command(folder, &call).stdout(Stdio::null()).stderr(Stdio::piped()).spawn().unwrap();
    let mut lines = BufReader::new(child.stderr.take().unwrap()).lines();
    let running = Running(child);
    let told = lines.by_ref().map(Result::unwrap).find(|line| line.contains("\"listening\"")).unwrap();
    let told: serde_json::Value = serde_json::from_str(&told).unwrap();
    let address = |name: &str| told[name].as_str().unwrap().parse().unwrap();
    // Its log is read, so that it does not fill up.
    std::thread::spawn(move || lines.for_each(drop));
    std::thread::sleep(Duration::from_secs(1));
    (running, address("address"), address("http"))
}

struct Client(Arc<ClientConfig>);

impl Client {
    fn new(root: &[u8]) -> Self {
        let mut roots = RootCertStore::empty();
        for root in Certificate::read_all(root).unwrap() {
            roots.add(CertificateDer::from(root.der().to_vec())).unwrap();
        }
        let provider = Arc::new(rustls::crypto::aws_lc_rs::default_provider());
        let builder = ClientConfig::builder_with_provider(provider).with_safe_default_protocol_versions().unwrap();
        let mut config = builder.with_root_certificates(roots).with_no_client_auth();
        // Each handshake is a new one, as a new device's is.
        config.resumption = rustls::client::Resumption::disabled();
        Self(Arc::new(config))
    }

    fn connect(&self, address: SocketAddr) -> StreamOwned<ClientConnection, TcpStream> {
        let tcp = TcpStream::connect(address).unwrap();
        tcp.set_nodelay(true).unwrap();
        let name = ServerName::try_from("localhost").unwrap();
        StreamOwned::new(ClientConnection::new(self.0.clone(), name).unwrap(), tcp)
    }

    /// Sends a request and waits for a certificate.
    fn enroll(&self, address: SocketAddr, caller: &Caller) {
        let mut stream = self.connect(address);
        let head = format!(
            "POST /.well-known/est/simpleenroll HTTP/1.1\r\nHost: localhost\r\nContent-Type: application/pkcs10\r\n\
             Authorization: Basic {}\r\nConnection: close\r\nContent-Length: {}\r\n\r\n",
            caller.user,
            caller.body.len()
        );
        stream.write_all((head + &caller.body).as_bytes()).unwrap();
        let mut answer = Vec::new();
        let _ = stream.read_to_end(&mut answer);
        assert!(answer.starts_with(b"HTTP/1.1 200"), "{}", String::from_utf8_lossy(&answer));
    }
}

/// Has all callers enrolled by fifty clients at once; gives how many a second, and the times that single ones took, sorted.
fn enrolled(client: &Client, address: SocketAddr, callers: &[Caller], rate: Option<f64>) -> (f64, Vec<f64>) {
    let next = AtomicUsize::new(0);
    let begun = Instant::now();
    let mut times: Vec<f64> = std::thread::scope(|scope| {
        let clients: Vec<_> = (0..CLIENTS)
            .map(|_| {
                scope.spawn(|| {
                    let mut times = Vec::new();
                    loop {
                        let at = next.fetch_add(1, Ordering::Relaxed);
                        let Some(caller) = callers.get(at) else { return times };
                        // Each has its moment, so that one that is slow does not slow down those behind it.
                        let due = rate.map(|rate| begun + Duration::from_secs_f64(number(at) / rate));
                        if let Some(due) = due {
                            std::thread::sleep(due.saturating_duration_since(Instant::now()));
                        }
                        let from = due.unwrap_or_else(Instant::now);
                        client.enroll(address, caller);
                        times.push(from.elapsed().as_secs_f64());
                    }
                })
            })
            .collect();
        clients.into_iter().flat_map(|client| client.join().unwrap()).collect()
    });
    let rate = number(callers.len()) / begun.elapsed().as_secs_f64();
    times.sort_by(f64::total_cmp);
    (rate, times)
}

fn enrolments(client: &Client, address: SocketAddr, callers: &[Caller]) {
    let (bare, root) = bound();
    let bare_client = Client::new(root.to_pem().as_bytes());
    let size = callers.len() / (ROUNDS + 1);
    let mut figures = Vec::new();
    for round in 0..ROUNDS {
        let part = &callers[round * size..(round + 1) * size];
        let (limit, _) = enrolled(&bare_client, bare, part, None);
        let (reached, _) = enrolled(client, address, part, None);
        figures.push((limit, reached));
    }
    let (ratio, low, high) = middle(figures.iter().map(|(limit, reached)| reached / limit).collect());
    let (limit, ..) = middle(figures.iter().map(|(limit, _)| *limit).collect());
    let (reached, ..) = middle(figures.iter().map(|(_, reached)| *reached).collect());
    println!(
        "enrolments     {ratio:.2} of handshake, verification and signature alone [{low:.2}..{high:.2}]: {reached:.0}/s, {limit:.0}/s alone"
    );
    let half = reached / 2.0;
    let (_, times) = enrolled(client, address, &callers[ROUNDS * size..], Some(half));
    let at = |share: usize| times[times.len() * share / 100] * 1e3;
    println!("at half of it  {:.0} ms in the middle, 99 of 100 within {:.0} ms, at {half:.0}/s", at(50), at(99));
}

/// A server that does the handshake, verifies a request and signs a certificate, and nothing else.
fn bound() -> (SocketAddr, Certificate) {
    let (above, key) = (SoftwareKey::generate(NewKey::P256).unwrap(), SoftwareKey::generate(NewKey::P256).unwrap());
    let now = UnixTime(i64::try_from(SystemTime::now().duration_since(UNIX_EPOCH).unwrap().as_secs()).unwrap());
    let (root_key, server_key) = (above.proven(), key.proven());
    let (root_subject, subject) = (Subject::of("w", "root"), Subject::of("w", "desk"));
    let names = [AltName::host("localhost").unwrap()];
    let template = move |random: &mut dyn Randomness| SerialNumber::new(now, random);
    let life = Span::from_days(9);
    let root = Template {
        serial: template(&mut SystemRandom),
        subject: &root_subject,
        names: &[],
        key: &root_key,
        now,
        life,
        usage: Usage::UNLIMITED,
        places: Places::default(),
    };
    let root = self_signed(&root, &above).unwrap();
    let server = Template {
        serial: template(&mut SystemRandom),
        subject: &subject,
        names: &names,
        key: &server_key,
        now,
        life,
        usage: Usage::Server,
        places: Places::default(),
    };
    let server = server.issue(Issuer { certificate: &root, signer: &above }).unwrap().certificate;
    let provider = Arc::new(rustls::crypto::aws_lc_rs::default_provider());
    let builder = ServerConfig::builder_with_provider(provider).with_safe_default_protocol_versions().unwrap();
    let pkcs8 = PrivatePkcs8KeyDer::from(key.to_pkcs8().unwrap().to_vec());
    let chain = vec![CertificateDer::from(server.der().to_vec())];
    let config = Arc::new(builder.with_no_client_auth().with_single_cert(chain, pkcs8.into()).unwrap());
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap();
    let shared = Arc::new((root.clone(), above));
    std::thread::spawn(move || {
        for tcp in listener.incoming() {
            let (config, shared, tcp) = (config.clone(), shared.clone(), tcp.unwrap());
            std::thread::spawn(move || bare(config, &shared, tcp, now));
        }
    });
    (address, root)
}

fn bare(config: Arc<ServerConfig>, (root, key): &(Certificate, SoftwareKey), tcp: TcpStream, now: UnixTime) {
    tcp.set_nodelay(true).unwrap();
    let mut stream = StreamOwned::new(ServerConnection::new(config).unwrap(), tcp);
    let mut request = Vec::new();
    let mut piece = [0; 4096];
    let body = loop {
        let read = stream.read(&mut piece).unwrap();
        request.extend_from_slice(&piece[..read]);
        let end = request.windows(4).position(|four| four == b"\r\n\r\n").map(|at| at + 4);
        // The head and the body are written at once; requests of P-256 end with a line that is not full.
        if let Some(end) = end.filter(|end| request[*end..].ends_with(b"\n")) {
            break est::decoded(&request[end..]).unwrap();
        }
    };
    let proven = Request::parse(&body).unwrap().verify_possession().unwrap();
    let subject = Subject::of("w", "device");
    let template = Template {
        serial: SerialNumber::new(now, &mut SystemRandom),
        subject: &subject,
        names: &[],
        key: &proven,
        now,
        life: Span::from_days(9),
        usage: Usage::Client,
        places: Places::default(),
    };
    let issued = template.issue(Issuer { certificate: root, signer: key }).unwrap().certificate;
    let answer = est::encoded(&est::certs_only(&[issued.der()]));
    let head = format!("HTTP/1.1 200 OK\r\nContent-Length: {}\r\n\r\n", answer.len());
    stream.write_all((head + &answer).as_bytes()).unwrap();
    stream.conn.send_close_notify();
    let _ = stream.flush();
}

/// Lists over connections that stay, every other one asked for by its tag.
fn lists(http: SocketAddr) {
    let fetch = |stream: &mut BufReader<TcpStream>, more: &str| -> (String, String) {
        let ask = format!("GET /crl/devices.crl HTTP/1.1\r\nHost: localhost\r\n{more}\r\n");
        stream.get_mut().write_all(ask.as_bytes()).unwrap();
        let (mut status, mut tag, mut length) = (String::new(), String::new(), 0);
        stream.read_line(&mut status).unwrap();
        loop {
            let mut line = String::new();
            stream.read_line(&mut line).unwrap();
            match line.trim_end().split_once(": ") {
                Some((name, value)) if name.eq_ignore_ascii_case("etag") => value.clone_into(&mut tag),
                Some((name, value)) if name.eq_ignore_ascii_case("content-length") => length = value.parse().unwrap(),
                Some(_) => {}
                None => break,
            }
        }
        if status.contains(" 200 ") {
            let mut body = vec![0; length];
            stream.read_exact(&mut body).unwrap();
        }
        (status, tag)
    };
    let connect = || {
        let tcp = TcpStream::connect(http).unwrap();
        tcp.set_nodelay(true).unwrap();
        BufReader::new(tcp)
    };
    let (_, tag) = fetch(&mut connect(), "");
    let known = format!("If-None-Match: {tag}\r\n");
    let rates = (0..ROUNDS).map(|_| {
        let (begun, all) = (Instant::now(), AtomicUsize::new(0));
        std::thread::scope(|scope| {
            for _ in 0..CLIENTS {
                scope.spawn(|| {
                    let mut stream = connect();
                    while begun.elapsed() < Duration::from_secs(2) {
                        assert!(fetch(&mut stream, "").0.contains(" 200 "));
                        assert!(fetch(&mut stream, &known).0.contains(" 304 "));
                        all.fetch_add(2, Ordering::Relaxed);
                    }
                });
            }
        });
        number(all.into_inner()) / begun.elapsed().as_secs_f64()
    });
    let (rate, low, high) = middle(rates.collect());
    println!("lists          {rate:.0}/s [{low:.0}..{high:.0}], half of them 304, from clients on the same cores");
}

/// What the desk takes with many connections that do nothing.
fn idle(client: &Client, address: SocketAddr, process: u32) {
    let memory = || {
        let status = std::fs::read_to_string(format!("/proc/{process}/status")).unwrap();
        let line = status.lines().find(|line| line.starts_with("VmRSS:")).unwrap();
        line.split_whitespace().nth(1).unwrap().parse::<usize>().unwrap() / 1024
    };
    let before = memory();
    let ask = b"GET /crl/devices.crl HTTP/1.1\r\nHost: localhost\r\n\r\n";
    let open: Vec<_> = (0..IDLE)
        .map(|_| {
            let mut stream = client.connect(address);
            stream.write_all(ask).unwrap();
            let mut answer = [0; 256];
            assert!(stream.read(&mut answer).unwrap() > 0);
            stream
        })
        .collect();
    println!("idle           {} MiB with {} connections, {before} MiB before", memory(), open.len());
}
