//! The desk: devices that come in by themselves and renew, over EST, and whoever fetches revocation lists.

mod hostile;
mod join;
mod many;

use std::io::{Read, Write};
use std::net::{SocketAddr, TcpStream};
use std::sync::Arc;
use std::time::{Duration, Instant};

use data_encoding::BASE64;
use rustls::pki_types::{CertificateDer, ServerName};
use rustls::{ClientConfig, ClientConnection, RootCertStore, StreamOwned};
use serde_json::Value;
use tidy_warden_core::certificate::{Certificate, Subject};
use tidy_warden_core::est;
use tidy_warden_core::key::{NewKey, SoftwareKey};
use tidy_warden_core::request::Request;

use crate::harness::{Ran, Running, World, eventually};

/// A desk that runs.
pub(crate) struct Desk {
    pub(crate) address: SocketAddr,
    pub(crate) http: SocketAddr,
    pub(crate) running: Running,
}

impl Desk {
    pub(crate) fn start(world: &World) -> Self {
        let args = ["desk", "--listen", "127.0.0.1:0", "--listen-http", "127.0.0.1:0", "--metrics", "127.0.0.1:0"];
        Self::of(world, &mut world.program(&args))
    }

    /// One that a command runs.
    pub(crate) fn of(world: &World, command: &mut std::process::Command) -> Self {
        let running = Running::start(command);
        let line =
            running.line("where it listens", |line| line.contains("\"listening\"") || line.starts_with("error:"));
        let event: Value = serde_json::from_str(&line).unwrap_or_else(|_| panic!("{}", running.lines().join("\n")));
        let address = |name: &str| event[name].as_str().unwrap().parse().unwrap();
        if !world.path("trust").exists() {
            world.run(&["authority", "export", "--out", "trust"]).exits(0);
        }
        Self { address: address("address"), http: address("http"), running }
    }

    pub(crate) fn url(&self, path: &str) -> String {
        format!("https://localhost:{}{path}", self.address.port())
    }

    /// The first event of a type that satisfies `wanted`, now or soon.
    #[track_caller]
    pub(crate) fn event(&self, name: &str, wanted: impl Fn(&Value) -> bool) -> Value {
        let line = self.running.line(name, |line| {
            serde_json::from_str::<Value>(line).is_ok_and(|event| event["event"] == name && wanted(&event))
        });
        serde_json::from_str(&line).unwrap()
    }
}

/// Asks with curl; the status comes last on standard output, behind the body.
pub(crate) fn curl(world: &World, url: &str, more: &[&str]) -> (u16, String) {
    let args = [&["-s", "-S", "--cacert", "trust/root.pem", "-w", "\n%{http_code}", url], more].concat();
    let ran: Ran = world.other("curl", &args).exits(0);
    let (body, status) = ran.stdout.rsplit_once('\n').unwrap();
    (status.parse().unwrap(), body.to_owned())
}

const EST: &str = "/.well-known/est";

/// Sends a request in a file to an operation.
fn post(world: &World, desk: &Desk, operation: &str, file: &str, more: &[&str]) -> (u16, String) {
    let data = format!("@{file}");
    let args = [&["-H", "Content-Type: application/pkcs10", "--data-binary", &data], more].concat();
    curl(world, &desk.url(&format!("{EST}/{operation}")), &args)
}

/// A key and its request, which names nothing but what `openssl` is told.
pub(crate) fn openssl_request(world: &World, name: &str, subject: &str) {
    let key = format!("{name}.key");
    world
        .other("openssl", &["genpkey", "-algorithm", "EC", "-pkeyopt", "ec_paramgen_curve:P-256", "-out", &key])
        .exits(0);
    request_of(world, name, &key, subject);
}

/// A request of a key that is there.
fn request_of(world: &World, name: &str, key: &str, subject: &str) {
    let der = format!("{name}.der");
    world.other("openssl", &["req", "-new", "-key", key, "-subj", subject, "-outform", "DER", "-out", &der]).exits(0);
    world.write(&format!("{name}.b64"), lines(&std::fs::read(world.path(&der)).unwrap()));
}

fn lines(octets: &[u8]) -> String {
    BASE64.encode(octets).as_bytes().chunks(64).map(|line| format!("{}\r\n", String::from_utf8_lossy(line))).collect()
}

/// The one certificate of an answer, as `openssl` reads it.
pub(crate) fn certificate(world: &World, body: &str, file: &str) -> Certificate {
    let der = BASE64.decode(body.replace(['\r', '\n'], "").as_bytes()).unwrap();
    world.write("answer.p7", der);
    world.other("openssl", &["pkcs7", "-inform", "DER", "-in", "answer.p7", "-print_certs", "-out", file]).exits(0);
    let mut all = Certificate::read_all(&std::fs::read(world.path(file)).unwrap()).unwrap();
    assert_eq!(all.len(), 1, "a certificate and nothing else");
    all.remove(0)
}

/// A ward with kinds of each sort; the clock can be set in `now`.
fn world() -> World {
    let world = World::init();
    world.append("w/ward.toml", "[kinds.gate]\nadmit = \"facts\"\n[kinds.cable-clamp]\nadmit = \"certificate\"\n");
    world
}

/// Opens an admission with a secret, and gives that.
fn admitted(world: &World, id: &str, more: &[&str]) -> String {
    let call = ["admission", "open", "--id", id, "--kind", "windvane", "--secret", "--format", "json"];
    world.run(&[&call[..], more].concat()).exits(0).json()["secret"].as_str().unwrap().to_owned()
}

#[test]
fn a_device_comes_in_by_itself_and_renews() {
    let world = world().with("TIDY_WARDEN_NOW", "@now");
    world.write("now", "2027-01-01T00:00:00Z");
    let secret = admitted(&world, "wv-9", &["--label", "site=ossel", "--fact", "serial=QF-9", "--owner", "ida"]);
    let desk = Desk::start(&world);
    let (status, body) = curl(&world, &desk.url(&format!("{EST}/cacerts")), &[]);
    assert_eq!(status, 200);
    world.write("ca.p7", BASE64.decode(body.replace('\n', "").as_bytes()).unwrap());
    let printed = world.other("openssl", &["pkcs7", "-inform", "DER", "-in", "ca.p7", "-print_certs"]).exits(0);
    assert_eq!(printed.stdout.matches("BEGIN CERTIFICATE").count(), 2, "the root and who signs for devices");
    // What a kind wants of a request.
    assert_eq!(curl(&world, &desk.url(&format!("{EST}/csrattrs")), &[]).0, 204);
    let (status, body) = curl(&world, &desk.url(&format!("{EST}/windvane/csrattrs")), &[]);
    world.write("attrs.der", BASE64.decode(body.trim().as_bytes()).unwrap());
    assert_eq!(status, 200);
    world.other("openssl", &["asn1parse", "-inform", "DER", "-in", "attrs.der"]).exits(0).prints(&["prime256v1"]);

    openssl_request(&world, "one", "/CN=whatever/serialNumber=QF-9");
    let user = format!("wv-9:{secret}");
    let (status, body) = post(&world, &desk, "simpleenroll", "one.b64", &["-u", &user]);
    assert_eq!(status, 200, "{body}");
    let first = certificate(&world, &body, "one.pem");
    assert!(
        first.subject_text.contains("CN=wv-9") && !first.subject_text.contains("whatever"),
        "{}",
        first.subject_text
    );
    world
        .other(
            "openssl",
            &[
                "verify",
                "-CAfile",
                "trust/root.pem",
                "-untrusted",
                "trust/issuing.pem",
                "-attime",
                "1798761700",
                "one.pem",
            ],
        )
        .exits(0);
    let shown = world.run(&["device", "show", "wv-9", "--format", "json"]).exits(0).json();
    assert_eq!((shown["state"].as_str(), shown["labels"]["site"].as_str()), (Some("equipped"), Some("ossel")));
    assert_eq!(shown["owner"], "ida");
    let admission = world.run(&["admission", "show", "A1", "--format", "json"]).exits(0).json();
    assert_eq!(
        (admission["state"].as_str(), admission["credential"].as_str()),
        (Some("used"), Some(&*first.fingerprint.to_string()))
    );
    desk.event("enrolled", |event| event["device"] == "wv-9" && event["proof"] == "secret");
    // Its answer was lost: it calls again, by either name, and is told the same; another key is not.
    for user in [&user, &format!("A1:{secret}")] {
        assert_eq!(post(&world, &desk, "simpleenroll", "one.b64", &["-u", user]), (200, body.clone()));
    }
    openssl_request(&world, "two", "/");
    assert_eq!(post(&world, &desk, "simpleenroll", "two.b64", &["-u", &user]).0, 401);

    let with_one = ["--cert", "one.pem", "--key", "one.key"];
    let (status, words) = post(&world, &desk, "simplereenroll", "two.b64", &with_one);
    assert_eq!(status, 403, "its window is not open: {words}");
    assert!(words.contains("can be renewed from 20"), "{words}");
    // In its window.
    world.write("now", "2028-01-10T00:00:00Z");
    request_of(&world, "other", "two.key", "/CN=wv-8");
    assert_eq!(post(&world, &desk, "simplereenroll", "other.b64", &with_one).0, 400, "another subject");
    let (status, body) = post(&world, &desk, "simplereenroll", "two.b64", &with_one);
    assert_eq!(status, 200, "{body}");
    let next = certificate(&world, &body, "two.pem");
    assert_eq!(next.subject_text, first.subject_text);
    assert_eq!(
        post(&world, &desk, "simplereenroll", "two.b64", &with_one),
        (200, body),
        "the answer was lost: no second one"
    );
    let credentials = world.run(&["device", "show", "wv-9", "--format", "json"]).exits(0).json()["credentials"].clone();
    assert_eq!(credentials.as_array().unwrap().len(), 2);
    // Of the very same key too.
    request_of(&world, "same", "two.key", "/O=North fleet/CN=wv-9");
    let (status, _) = post(&world, &desk, "simplereenroll", "same.b64", &["--cert", "two.pem", "--key", "two.key"]);
    assert_eq!(status, 403, "that one's window is to come");
    // Out is out, within the second.
    world.run(&["revoke", "wv-9", "--reason", "keyCompromise", "--yes"]).exits(0);
    assert_eq!(post(&world, &desk, "simplereenroll", "two.b64", &with_one).0, 401);
    world.run(&["audit", "verify"]).exits(0);
    assert_eq!(desk.running.terminate(), Some(0));
}

#[test]
fn what_proves_a_device_is_what_its_kind_takes() {
    let world = world();
    // A manufacturer, and devices of its.
    world.write(
        "maker.cnf",
        "[v3]\nbasicConstraints=critical,CA:TRUE\nkeyUsage=critical,keyCertSign,cRLSign\nsubjectKeyIdentifier=hash\n",
    );
    let ec = ["-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-256", "-nodes"];
    let openssl = |args: &[&str]| world.other("openssl", args).exits(0);
    openssl(
        &[
            &["req", "-x509"],
            &ec[..],
            &[
                "-keyout",
                "maker.key",
                "-out",
                "maker.pem",
                "-days",
                "900",
                "-subj",
                "/O=Cableworks/CN=makers",
                "-config",
                "maker.cnf",
                "-extensions",
                "v3",
            ],
        ]
        .concat()
        .iter()
        .filter(|arg| !arg.is_empty())
        .copied()
        .collect::<Vec<_>>(),
    );
    world.write(
        "leaf.cnf",
        "basicConstraints=CA:FALSE\nkeyUsage=critical,digitalSignature\nauthorityKeyIdentifier=keyid\n",
    );
    let made = |name: &str, serial: &str| {
        let subject = format!("/O=Cableworks/serialNumber={serial}");
        let key = format!("{name}.key");
        let csr = format!("{name}.csr");
        let pem = format!("{name}.pem");
        openssl(&[&["req", "-new"], &ec[..], &["-keyout", &key, "-out", &csr, "-subj", &subject]].concat());
        openssl(&[
            "x509",
            "-req",
            "-in",
            &csr,
            "-CA",
            "maker.pem",
            "-CAkey",
            "maker.key",
            "-CAcreateserial",
            "-out",
            &pem,
            "-days",
            "800",
            "-extfile",
            "leaf.cnf",
        ]);
    };
    made("c1", "CW-1");
    made("c2", "CW-2");
    world
        .run(&["authority", "add", "cableworks", "--trust", "maker.pem", "--kinds", "cable-clamp", "--fact", "serial"])
        .exits(0);
    let open = |more: &[&str]| world.run(&[&["admission", "open"], more].concat()).exits(0);
    // One that vouches for two facts lets both be demanded, and refuses a certificate that says only one of them.
    let both = ["--kinds", "cable-clamp", "--fact", "serial,mac"];
    world.run(&[&["authority", "add", "cableworks-2", "--trust", "maker.pem"], &both[..]].concat()).exits(3);
    world.run(&["authority", "show", "cableworks"]).exits(0).prints(&["whose serial must be what"]);
    open(&["--id", "cc-1", "--kind", "cable-clamp", "--fact", "serial=CW-1"]);
    open(&["--id", "gt-1", "--kind", "gate", "--fact", "serial=GT-1"]);
    openssl(&["genpkey", "-algorithm", "EC", "-pkeyopt", "ec_paramgen_curve:P-256", "-out", "k.key"]);
    openssl(&["pkey", "-in", "k.key", "-pubout", "-out", "k.pub"]);
    open(&["--id", "wv-7", "--kind", "windvane", "--public-key", "k.pub"]);
    let desk = Desk::start(&world);
    let enroll = |file: &str, more: &[&str]| post(&world, &desk, "simpleenroll", file, more).0;
    // A certificate of the manufacturer's whose fact fits, and no other: what the request says is worth nothing.
    openssl_request(&world, "new", "/serialNumber=CW-1");
    assert_eq!(enroll("new.b64", &[]), 401);
    assert_eq!(enroll("new.b64", &["--cert", "c2.pem", "--key", "c2.key"]), 401);
    openssl_request(&world, "lies", "/serialNumber=CW-2");
    assert_eq!(
        enroll("lies.b64", &["--cert", "c1.pem", "--key", "c1.key"]),
        401,
        "it says otherwise than its certificate"
    );
    assert_eq!(enroll("new.b64", &["--cert", "c1.pem", "--key", "c1.key"]), 200);
    assert_eq!(enroll("new.b64", &["--cert", "c1.pem", "--key", "c1.key"]), 200, "and again, with the same key");
    desk.event("enrolled", |event| event["device"] == "cc-1" && event["proof"] == "certificate");
    // A registered key.
    request_of(&world, "key", "k.key", "/");
    assert_eq!(enroll("key.b64", &[]), 200);
    desk.event("enrolled", |event| event["device"] == "wv-7" && event["proof"] == "key");
    // Bare facts, where the kind takes them.
    openssl_request(&world, "gate", "/serialNumber=GT-9");
    assert_eq!(enroll("gate.b64", &[]), 401);
    openssl_request(&world, "gate", "/serialNumber=GT-1");
    assert_eq!(post(&world, &desk, "windvane/simpleenroll", "gate.b64", &[]).0, 401, "the path names another kind");
    assert_eq!(post(&world, &desk, "gate/simpleenroll", "gate.b64", &[]).0, 200);
    // A secret that is shown with facts that do not fit its admission is as good as a wrong one, and leaves it usable.
    let secret = admitted(&world, "wv-8", &["--fact", "serial=QF-8"]);
    let user = format!("wv-8:{secret}");
    openssl_request(&world, "eight", "/serialNumber=QF-9");
    assert_eq!(enroll("eight.b64", &["-u", &user]), 401);
    openssl_request(&world, "eight", "/serialNumber=QF-8");
    assert_eq!(enroll("eight.b64", &["-u", &user]), 200);
    // What cannot be used any more is told no otherwise than what never was.
    let late = admitted(&world, "wv-5", &[]);
    world.run(&["admission", "withdraw", "A5", "--yes"]).exits(0);
    openssl_request(&world, "five", "/");
    assert_eq!(enroll("five.b64", &["-u", &format!("wv-5:{late}")]), 401);
    desk.event("refused", |event| event["because"].as_str().is_some_and(|because| because.contains("it is withdrawn")));
    // A key that is blocked, and one of another device.
    let blocked = admitted(&world, "wv-4", &[]);
    let user = format!("wv-4:{blocked}");
    request_of(&world, "taken", "eight.key", "/");
    assert_eq!(enroll("taken.b64", &["-u", &user]), 401);
    openssl_request(&world, "four", "/");
    openssl(&["pkey", "-in", "four.key", "-pubout", "-out", "four.pub"]);
    world.run(&["key", "block", "--public-key", "four.pub", "--yes"]).exits(0);
    assert_eq!(enroll("four.b64", &["-u", &user]), 401);
    world.run(&["hold", "wv-8", "--yes"]).exits(0);
    assert_eq!(enroll("eight.b64", &["-u", &format!("wv-8:{secret}")]), 401, "on hold");
    openssl_request(&world, "fresh", "/");
    assert_eq!(enroll("fresh.b64", &["-u", &user]), 200, "all that left its admission usable");
    world.run(&["audit", "verify"]).exits(0);
    let log = desk.running.lines().join("\n");
    assert!(
        !log.contains(&secret) && !log.contains(&blocked) && !log.contains("MIH"),
        "no secret and no request is in the log"
    );
}

/// The parts of an answer to serverkeygen: the key, PKCS#8 in DER, and the certificate.
fn key_and_certificate(world: &World, body: &str, file: &str) -> (Vec<u8>, Certificate) {
    let parts: Vec<&str> = body.split("---the-next-part-").collect();
    let [before, key, chain, end] = parts[..] else { panic!("{body}") };
    assert_eq!((before, end.trim()), ("", "--"), "two parts and nothing else");
    let content = |part: &str, kind: &str| {
        let (head, content) = part.split_once("\r\n\r\n").unwrap();
        assert!(head.contains(kind) && head.contains("Content-Transfer-Encoding: base64"), "{head}");
        content.to_owned()
    };
    let key = content(key, "application/pkcs8").replace(['\r', '\n'], "");
    let certificate = certificate(world, &content(chain, "application/pkcs7-mime; smime-type=certs-only"), file);
    (BASE64.decode(key.as_bytes()).unwrap(), certificate)
}

#[test]
fn a_device_that_cannot_make_a_key_is_sent_one_where_its_kind_says_so() {
    let world = world();
    let text = std::fs::read_to_string(world.path("w/ward.toml")).unwrap();
    world.write("w/ward.toml", text.replace("[kinds.station]\n", "[kinds.station]\nserver_keys = true\n"));
    let open = ["admission", "open", "--id", "st-1", "--kind", "station", "--secret", "--format", "json"];
    let secret = world.run(&open).exits(0).json()["secret"].as_str().unwrap().to_owned();
    let other = admitted(&world, "wv-1", &[]);
    let desk = Desk::start(&world);
    openssl_request(&world, "any", "/");
    let ask = |path: &str, user: &str| post(&world, &desk, path, "any.b64", &["-u", user]);
    let (user, wrong) = (format!("st-1:{secret}"), format!("st-1:{other}"));
    assert_eq!(ask("station/serverkeygen", &wrong).0, 401);
    assert_eq!(ask("windvane/serverkeygen", &format!("wv-1:{other}")).0, 404, "its kind makes its own");
    assert_eq!(ask("serverkeygen", &format!("wv-1:{other}")).0, 401);
    let (status, body) = ask("station/serverkeygen", &user);
    assert_eq!(status, 200, "{body}");
    let (key, first) = key_and_certificate(&world, &body, "first.pem");
    world.write("first.key", key);
    // The key is that of the certificate, which is the ward's.
    let public = |args: &[&str]| world.other("openssl", args).exits(0).stdout;
    assert_eq!(
        public(&["pkey", "-inform", "DER", "-in", "first.key", "-pubout"]),
        public(&["x509", "-in", "first.pem", "-noout", "-pubkey"])
    );
    world.run(&["authority", "export", "--out", "trust"]).exits(0);
    world
        .other("openssl", &["verify", "-CAfile", "trust/root.pem", "-untrusted", "trust/issuing.pem", "first.pem"])
        .exits(0);
    // An answer that was lost took the key with it: another is made, and what nobody has ends.
    let (status, body) = ask("station/serverkeygen", &user);
    assert_eq!(status, 200, "{body}");
    let (_, second) = key_and_certificate(&world, &body, "second.pem");
    assert_ne!(first.public_key, second.public_key);
    let shown = world.run(&["device", "show", "st-1", "--format", "json"]).exits(0).json();
    let states: Vec<&str> =
        shown["credentials"].as_array().unwrap().iter().map(|each| each["state"].as_str().unwrap()).collect();
    assert_eq!(states, ["equipped", "revoked"]);
    // Who wants the key encrypted is not sent a bare one.
    let mut der = std::fs::read(world.path("any.der")).unwrap();
    der.extend([0x06, 0x0b, 0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 0x01, 0x09, 0x10, 0x02, 0x25]);
    assert!(est::wants_encrypted_key(&der));
    world.run(&["hold", "st-1", "--yes"]).exits(0);
    assert_eq!(ask("station/serverkeygen", &user).0, 401);
    world.run(&["audit", "verify"]).exits(0);
    let log = desk.running.lines().join("\n");
    assert!(!log.contains(&secret) && !log.contains("PRIVATE") && !log.contains("MIG"), "no key is in the log");
}

#[test]
fn lists_are_fetched_and_fresh_within_a_second() {
    let world = world();
    let secret = admitted(&world, "wv-9", &[]);
    let desk = Desk::start(&world);
    openssl_request(&world, "one", "/");
    let (_, body) = post(&world, &desk, "simpleenroll", "one.b64", &["-u", &format!("wv-9:{secret}")]);
    let given = certificate(&world, &body, "one.pem");
    let list = format!("http://127.0.0.1:{}/crl/devices.crl", desk.http.port());
    let fetch = |more: &[&str]| {
        let head = world
            .other("curl", &[&["-s", "-D", "head.txt", "-o", "list.der", "-w", "%{http_code}", &list], more].concat());
        let text = std::fs::read_to_string(world.path("head.txt")).unwrap().to_lowercase();
        (head.exits(0).stdout.parse::<u16>().unwrap(), text)
    };
    let (status, head) = fetch(&[]);
    assert!(
        status == 200 && head.contains("content-type: application/pkix-crl") && head.contains("max-age="),
        "{head}"
    );
    world
        .other("openssl", &["crl", "-inform", "DER", "-in", "list.der", "-noout", "-text"])
        .exits(0)
        .prints(&["No Revoked"]);
    let tag = head.lines().find_map(|line| line.strip_prefix("etag: ")).unwrap().to_owned();
    assert_eq!(fetch(&["-H", &format!("If-None-Match: \"x\", W/{tag}")]).0, 304);
    assert_eq!(fetch(&["-H", "If-None-Match: \"x\""]).0, 200);
    let (status, head) = fetch(&["-I"]);
    assert!(status == 200 && head.contains("content-length: 2"), "HEAD tells what GET would: {head}");
    world.run(&["revoke", "wv-9", "--reason", "superseded", "--yes"]).exits(0);
    let begun = Instant::now();
    let listed = eventually(|| {
        fetch(&[]);
        let text =
            world.other("openssl", &["crl", "-inform", "DER", "-in", "list.der", "-noout", "-text"]).exits(0).stdout;
        text.to_lowercase().contains(&given.serial.to_string()).then(|| begun.elapsed())
    });
    assert!(listed.unwrap() < Duration::from_secs(5), "within a second, on a machine that has nothing else to do");
    assert_eq!(fetch(&["-H", &format!("If-None-Match: {tag}")]).0, 200, "another one now");
    world
        .other("openssl", &["crl", "-inform", "DER", "-in", "list.der", "-noout", "-CAfile", "trust/issuing.pem"])
        .exits(0)
        .says(&["verify OK"]);
    // One that a person signs lists the same, and does not make the desk sign without end.
    world.run(&["crl", "--out", "mine.crl"]).exits(0);
    let signed = |desk: &Desk| desk.running.lines().iter().filter(|line| line.contains("\"crl\"")).count();
    let before = signed(&desk);
    std::thread::sleep(Duration::from_secs(2));
    assert_eq!(signed(&desk), before);
    // Over plain HTTP only what is signed in itself goes out.
    let plain = |path: &str| curl(&world, &format!("http://127.0.0.1:{}{path}", desk.http.port()), &["-o", "x"]).0;
    assert_eq!(plain("/ca/devices.cer"), 200);
    for path in ["/crl/nobody.crl", "/ca/root.cer", "/jwks.json", "/roots.pem", "/.well-known/est/cacerts"] {
        assert_eq!(plain(path), 404, "{path}");
    }
    let (status, keys) = curl(&world, &desk.url("/jwks.json"), &[]);
    let keys: Value = serde_json::from_str(&keys).unwrap();
    assert_eq!((status, keys["keys"][0]["alg"].as_str()), (200, Some("ES256")));
    assert!(keys["keys"][0]["d"].is_null(), "the public half");
    let (status, roots) = curl(&world, &desk.url("/roots.pem"), &[]);
    assert_eq!((status, roots), (200, std::fs::read_to_string(world.path("trust/root.pem")).unwrap()));
}

#[test]
fn authorities_and_settings_are_taken_anew_and_doubt_lets_nobody_in() {
    let world = world();
    let desk = Desk::start(&world);
    let enroll = |id: &str| {
        let secret = admitted(&world, id, &[]);
        openssl_request(&world, id, "/");
        let answer = post(&world, &desk, "simpleenroll", &format!("{id}.b64"), &["-u", &format!("{id}:{secret}")]);
        (answer.0, if answer.0 == 200 { certificate(&world, &answer.1, "x.pem").issuer } else { Vec::new() })
    };
    let (status, before) = enroll("wv-1");
    assert_eq!(status, 200);
    // The authority is replaced: whoever comes then has a certificate of the next one.
    world.run(&["authority", "add", "devices-2", "--replaces", "devices"]).exits(0);
    let after = eventually(|| {
        let id = format!("wv-{}", 10 + desk.running.lines().len());
        let (status, issuer) = enroll(&id);
        (status == 200).then_some(issuer)
    });
    assert_ne!(after.unwrap(), before);
    let new_list = format!("http://127.0.0.1:{}/crl/devices-2.crl", desk.http.port());
    assert!(eventually(|| (curl(&world, &new_list, &["-o", "x"]).0 == 200).then_some(())).is_some());
    // A setting that is wrong changes nothing.
    world.append("w/ward.toml", "nonsense = 1\n");
    desk.running.signal("HUP");
    desk.event("trouble", |event| event["what"].as_str().is_some_and(|what| what.contains("were not reloaded")));
    assert_eq!(enroll_with(&world, &desk, "wv-3", ""), 200);
}

/// Enrols with a secret of an admission that is opened for it, past a ward.toml that cannot be read: by its text as it was.
fn enroll_with(world: &World, desk: &Desk, id: &str, more: &str) -> u16 {
    let text = std::fs::read_to_string(world.path("w/ward.toml")).unwrap();
    world.write("w/ward.toml", text.replace("nonsense = 1\n", more));
    let secret = admitted(world, id, &[]);
    openssl_request(world, id, "/");
    post(world, desk, "simpleenroll", &format!("{id}.b64"), &["-u", &format!("{id}:{secret}")]).0
}

#[test]
fn a_store_that_was_put_back_lets_nobody_in_until_a_person_says_so() {
    if crate::harness::in_databases() {
        return;
    }
    let world = world();
    admitted(&world, "wv-0", &[]);
    let mut desk = Desk::start(&world);
    let secret = admitted(&world, "wv-1", &[]);
    openssl_request(&world, "one", "/");
    world.other("sqlite3", &["w/ward.db", ".backup before.db"]).exits(0);
    let user = format!("wv-1:{secret}");
    assert_eq!(post(&world, &desk, "simpleenroll", "one.b64", &["-u", &user]).0, 200);
    assert!(eventually(|| world.path("w/desk.seen").exists().then_some(())).is_some());
    std::thread::sleep(Duration::from_millis(2500));
    desk.running.kill();
    // The store as it was before: the secret would be good once more.
    for name in ["w/ward.db-wal", "w/ward.db-shm"] {
        let _ = std::fs::remove_file(world.path(name));
    }
    std::fs::copy(world.path("before.db"), world.path("w/ward.db")).unwrap();
    let desk = Desk::start(&world);
    desk.event("trouble", |event| event["what"].as_str().is_some_and(|what| what.contains("ALARM")));
    openssl_request(&world, "two", "/");
    assert_eq!(post(&world, &desk, "simpleenroll", "two.b64", &["-u", &user]).0, 503);
    let accept = ["store", "accept", "--because", "the disk was lost", "--yes"];
    world.run(&accept).exits(0).prints(&["accepted the store"]).says(&["a desk has seen entry", "a running desk"]);
    desk.event("trouble", |event| event["what"].as_str().is_some_and(|what| what.contains("was accepted")));
    assert_eq!(post(&world, &desk, "simpleenroll", "two.b64", &["-u", &user]).0, 200);
    eventually(|| world.run(&accept).stdout.contains("nothing to accept").then_some(())).unwrap();
}

/// A ward with a kind that asks, and what curl is told by its desk.
fn asking_world() -> World {
    let world = world();
    world.append(
        "w/ward.toml",
        "[kinds.tension]\nadmit = \"ask\"\nid = \"tn-{serial}\"\nidentify = [\"serial\"]\n[kinds.turnstile]\nadmit = \"ask\"\n\
         accept_without_code = true\n",
    );
    world
}

#[test]
fn who_calls_first_waits_for_a_person_who_compares_a_code() {
    let world = asking_world();
    let desk = Desk::start(&world);
    let call =
        |name: &str, kind: &str| post(&world, &desk, &format!("{kind}/simpleenroll"), &format!("{name}.b64"), &[]);
    for (name, serial) in [("a", "10"), ("b", "11"), ("c", "11")] {
        openssl_request(&world, name, &format!("/serialNumber={serial}"));
    }
    openssl_request(&world, "bare", "/CN=x");
    let (status, words) = call("bare", "tension");
    assert!(status == 400 && words.contains("name the serial"), "{words}");
    let (status, words) = call("a", "tension");
    let code = words.trim_end().rsplit(' ').next().unwrap().to_owned();
    assert!(status == 202 && code.len() == 29, "{words}");
    desk.event("asking", |event| event["code"] == *code && event["kind"] == "tension");
    assert_eq!((call("a", "tension").0, call("b", "tension").0, call("c", "tension").0), (202, 202, 202));
    // Two kinds ask: who names none is nobody.
    assert_eq!(post(&world, &desk, "simpleenroll", "a.b64", &[]).0, 401);
    let list = world
        .run(&["device", "list", "--where", "state = asking"])
        .exits(0)
        .prints(&["tn-10", &code])
        .says(&["3 devices wait"]);
    assert_eq!(list.stdout.lines().count(), 4);
    let all = world.run(&["device", "list", "--format", "json", "--where", "kind = tension"]).exits(0).json();
    let mut waiting = all["devices"].as_array().unwrap().clone();
    assert!(waiting.is_sorted_by_key(|each| each["asking"]["since"].as_str().unwrap().to_owned()));
    // Those of one second stand in the order of their keys.
    waiting.sort_by_key(|each| each["facts"]["serial"].as_str().unwrap().to_owned());
    assert_eq!(waiting.len(), 3);
    assert_eq!((waiting[0]["state"].as_str(), waiting[0]["asking"]["code"].as_str()), (Some("asking"), Some(&*code)));
    let conflicts: Vec<usize> =
        waiting.iter().map(|each| each["asking"]["conflicts"].as_array().unwrap().len()).collect();
    assert_eq!(conflicts, [0, 1, 1], "two keys with the same facts, shown on both");
    let csv = world.run(&["device", "list", "--format", "csv", "--columns", "id,state,serial"]).exits(0).stdout;
    assert_eq!(csv.lines().filter(|line| line.contains("asking")).count(), 3, "{csv}");
    world.run(&["device", "list", "--where", "state = live"]).exits(0).says(&["no devices"]);
    world.run(&["device", "show", "tn-10"]).exits(0).prints(&["asks as     asking-", &code]);
    // A yes alone lets nobody in.
    world.run(&["device", "accept", "tn-10", "--yes"]).exits(2).says(&["--code CODE"]);
    world
        .run(&["device", "accept", "tn-10", "--code", &code.replace('-', "x")])
        .exits(3)
        .says(&["the code is not that of the key"]);
    world.run(&["device", "accept", "tn-11", "--code", &code]).exits(3).says(&["2 wait as `tn-11`"]);
    world.run(&["device", "accept", "tn-99", "--code", &code]).exits(4).says(&["no device waits"]);
    let spelled = code.to_uppercase().replace('-', " ");
    let accept = ["device", "accept", "tn-10", "--code", &spelled, "--label", "site=ossel"];
    world.run(&accept).exits(0).says(&["accepted tn-10 (A1)"]);
    let (status, body) = call("a", "tension");
    assert_eq!(status, 200, "{body}");
    assert!(certificate(&world, &body, "a.pem").subject_text.contains("CN=tn-10"));
    let shown = world.run(&["device", "show", "tn-10", "--format", "json"]).exits(0).json();
    assert_eq!((shown["labels"]["site"].as_str(), shown["facts"]["serial"].as_str()), (Some("ossel"), Some("10")));
    // Named by its key, with an id of one's own; the other one is refused, and told no otherwise than before.
    let one = waiting[1]["asking"]["id"].as_str().unwrap();
    let (other, code) = (waiting[2]["asking"]["id"].as_str().unwrap(), waiting[2]["asking"]["code"].as_str().unwrap());
    world.run(&["device", "refuse", one]).exits(2);
    world.run(&["device", "refuse", one, "--because", "not ours", "--yes"]).exits(0);
    world.run(&["device", "accept", other, "--code", code, "--as", "asking-x"]).exits(3).says(&["those that wait"]);
    world.run(&["device", "accept", other, "--code", code, "--as", "tn-north"]).exits(0);
    world.run(&["device", "accept", other, "--code", code]).exits(4);
    let answers: Vec<(u16, String)> = ["b", "c"].iter().map(|name| call(name, "tension")).collect();
    let refused: Vec<_> = answers.iter().filter(|(status, _)| *status == 202).collect();
    assert!(refused.len() == 1 && refused[0].1.contains("a person must say yes"), "{answers:?}");
    assert_eq!(
        world.run(&["device", "list", "--where", "state = asking", "--format", "json"]).json()["devices"]
            .as_array()
            .unwrap()
            .len(),
        0
    );
    world.run(&["audit", "verify"]).exits(0);
}

#[test]
fn a_kind_may_let_devices_in_without_a_code_and_a_secret_needs_no_person() {
    let world = asking_world();
    let desk = Desk::start(&world);
    openssl_request(&world, "a", "/CN=x");
    let call = |more: &[&str]| post(&world, &desk, "turnstile/simpleenroll", "a.b64", more);
    assert_eq!(call(&[]).0, 202);
    let list = world.run(&["device", "list", "--where", "kind = turnstile", "--format", "json"]).exits(0).json();
    let id = list["devices"][0]["id"].as_str().unwrap().to_owned();
    assert!(id.starts_with("asking-"), "{id}");
    world.run(&["device", "accept", &id, "--yes"]).exits(2).says(&["--as NEWID"]);
    world.run(&["device", "accept", &id, "--as", "ts-1", "--yes"]).exits(0);
    assert_eq!(call(&[]).0, 200);
    // Revoked, it is told what everybody is told.
    world.run(&["revoke", "ts-1", "--reason", "superseded", "--yes"]).exits(0);
    assert_eq!(call(&[]).0, 202);
    let log = desk.event("refused", |event| event["status"] == 202);
    assert!(log["because"].as_str().unwrap().contains("in use by `ts-1`"), "{log}");
    assert_eq!(
        world.run(&["device", "list", "--where", "state = asking", "--format", "json"]).json()["devices"]
            .as_array()
            .unwrap()
            .len(),
        0
    );
    let open = ["admission", "open", "--id", "ts-2", "--kind", "turnstile", "--secret", "--format", "json"];
    let secret = world.run(&open).exits(0).json()["secret"].as_str().unwrap().to_owned();
    openssl_request(&world, "a", "/CN=x");
    assert_eq!(call(&["-u", &format!("ts-2:{secret}")]).0, 200);
    // A wrong secret waits as one who shows none.
    openssl_request(&world, "a", "/CN=x");
    assert_eq!(call(&["-u", "ts-2:aaaaaaaaaaaaaaaaaaaaaaaaaa"]).0, 202);
    let facts = ["admission", "open", "--id", "ts-3", "--kind", "turnstile", "--fact", "serial=1"];
    world.run(&facts).exits(3).says(&["--secret"]);
}

/// A client of the desk's own making, for what curl would not do, and for many at once.
pub(crate) struct Client {
    config: Arc<ClientConfig>,
    address: SocketAddr,
}

impl Client {
    pub(crate) fn of(world: &World, desk: &Desk) -> Self {
        let mut roots = RootCertStore::empty();
        let root = Certificate::from_pem(&std::fs::read_to_string(world.path("trust/root.pem")).unwrap()).unwrap();
        roots.add(CertificateDer::from(root.der().to_vec())).unwrap();
        let provider = Arc::new(rustls::crypto::aws_lc_rs::default_provider());
        let builder = ClientConfig::builder_with_provider(provider).with_safe_default_protocol_versions().unwrap();
        let config = builder.with_root_certificates(roots).with_no_client_auth();
        Self { config: Arc::new(config), address: desk.address }
    }

    fn try_connect(&self) -> std::io::Result<StreamOwned<ClientConnection, TcpStream>> {
        let name = ServerName::try_from("localhost").unwrap();
        let tcp = TcpStream::connect(self.address)?;
        tcp.set_read_timeout(Some(Duration::from_secs(30)))?;
        Ok(StreamOwned::new(ClientConnection::new(self.config.clone(), name).unwrap(), tcp))
    }

    pub(crate) fn connect(&self) -> StreamOwned<ClientConnection, TcpStream> {
        self.try_connect().unwrap()
    }

    /// All that comes back for what is sent, until the other end closes.
    pub(crate) fn send(&self, octets: &[u8]) -> String {
        let mut stream = self.connect();
        let mut answer = Vec::new();
        // Whoever is refused may be hung up on before all is sent.
        let _ = stream.write_all(octets).and_then(|()| stream.flush());
        let _ = stream.read_to_end(&mut answer);
        String::from_utf8_lossy(&answer).into_owned()
    }

    /// The status and the body of an answer to one request for a certificate; `None` if there is none.
    pub(crate) fn try_enroll(&self, user: Option<&str>, operation: &str, request: &[u8]) -> Option<(u16, String)> {
        let mut stream = self.try_connect().ok()?;
        stream.write_all(asked(user, operation, request).as_bytes()).and_then(|()| stream.flush()).ok()?;
        let mut answer = Vec::new();
        let _ = stream.read_to_end(&mut answer);
        Some(status(&String::from_utf8_lossy(&answer))).filter(|(status, _)| *status > 0)
    }

    /// The same where there must be one.
    pub(crate) fn enroll(&self, user: Option<&str>, operation: &str, request: &[u8]) -> (u16, String) {
        self.try_enroll(user, operation, request).unwrap()
    }
}

/// A request for a certificate, with user name and password.
pub(crate) fn asked(user: Option<&str>, operation: &str, request: &[u8]) -> String {
    let body = lines(request);
    let basic = user.map(|user| format!("Authorization: Basic {}\r\n", BASE64.encode(user.as_bytes())));
    let head = format!(
        "POST {EST}/{operation} HTTP/1.1\r\nHost: localhost\r\nContent-Type: application/pkcs10\r\nConnection: close\r\n{}Content-Length: {}\r\n\r\n",
        basic.unwrap_or_default(),
        body.len()
    );
    head + &body
}

/// Status and body of an answer; 0 if there is none.
pub(crate) fn status(answer: &str) -> (u16, String) {
    let status = answer.strip_prefix("HTTP/1.1 ").and_then(|rest| rest.get(..3)).and_then(|status| status.parse().ok());
    (status.unwrap_or(0), answer.split_once("\r\n\r\n").map_or_else(String::new, |(_, body)| body.to_owned()))
}

/// A fresh key and its request.
pub(crate) fn fresh() -> (SoftwareKey, Vec<u8>) {
    let key = SoftwareKey::generate(NewKey::P256).unwrap();
    let request = Request::sign(&Subject::of("x", "y"), &key).unwrap();
    (key, request)
}

/// The certificate in the body of an answer.
pub(crate) fn given(body: &str) -> Certificate {
    let all = est::certificates(&est::decoded(body.as_bytes()).unwrap()).unwrap();
    assert_eq!(all.len(), 1, "a certificate and nothing else");
    Certificate::from_der(&all[0]).unwrap()
}
