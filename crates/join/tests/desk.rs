//! What a device makes of desks that lie, stall, or send more than anybody asked for.

#![expect(clippy::unwrap_used, reason = "tests fail by panicking")]

use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use rustls::pki_types::{CertificateDer, PrivatePkcs8KeyDer};
use tidy_warden_core::certificate::{
    AltName, Certificate, Issuer, Places, SerialNumber, Subject, Template, Usage, self_signed,
};
use tidy_warden_core::est;
use tidy_warden_core::key::{NewKey, SoftwareKey, sha256};
use tidy_warden_core::random::Randomness;
use tidy_warden_core::request::Request;
use tidy_warden_core::time::{Span, UnixTime};
use tidy_warden_join::{Answer, Desk, JoinError, Place, Proof};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpListener;
use tokio_rustls::TlsAcceptor;

/// Counts: each serial number is another.
struct Counting(u8);

impl Randomness for Counting {
    fn fill(&mut self, bytes: &mut [u8]) {
        for byte in bytes {
            self.0 = self.0.wrapping_add(1);
            *byte = self.0;
        }
    }
}

/// A root, and a server's certificate below it.
struct Tree {
    root: Certificate,
    server: Certificate,
    key: SoftwareKey,
}

fn tree(host: &str, seed: u8) -> Tree {
    let (above, key) = (SoftwareKey::generate(NewKey::P256).unwrap(), SoftwareKey::generate(NewKey::P256).unwrap());
    let now = UnixTime(i64::try_from(SystemTime::now().duration_since(UNIX_EPOCH).unwrap().as_secs()).unwrap());
    let mut random = Counting(seed);
    let mut template = |key, subject, names, usage| Template {
        serial: SerialNumber::new(now, &mut random),
        subject,
        names,
        key,
        now,
        life: Span::from_days(9),
        usage,
        places: Places::default(),
    };
    let (root_subject, server_subject) = (Subject::of("w", "root"), Subject::of("w", "desk"));
    let (root_key, server_key) = (above.proven(), key.proven());
    let root = self_signed(&template(&root_key, &root_subject, &[], Usage::UNLIMITED), &above).unwrap();
    let names = [AltName::host(host).unwrap()];
    let server = template(&server_key, &server_subject, &names, Usage::Server);
    let server = server.issue(Issuer { certificate: &root, signer: &above }).unwrap().certificate;
    Tree { root, server, key }
}

/// What the server does with a connection whose request has come.
#[derive(Clone)]
enum Does {
    /// Sends this, and closes.
    Says(Vec<u8>),
    /// Sends this again and again, as long as anybody takes it.
    Floods(Vec<u8>),
    /// Closes at once.
    Closes,
}

fn answer(status: &str, fields: &str, body: &[u8]) -> Does {
    let head = format!("HTTP/1.1 {status}\r\nContent-Length: {}\r\n{fields}\r\n", body.len());
    Does::Says([head.as_bytes(), body].concat())
}

/// A server that does the same to everybody; gives where it is.
async fn server(tree: &Tree, does: Does) -> Place {
    let provider = Arc::new(rustls::crypto::aws_lc_rs::default_provider());
    let builder = rustls::ServerConfig::builder_with_provider(provider).with_safe_default_protocol_versions().unwrap();
    let key = PrivatePkcs8KeyDer::from(tree.key.to_pkcs8().unwrap().to_vec());
    let chain = vec![CertificateDer::from(tree.server.der().to_vec())];
    let config = builder.with_no_client_auth().with_single_cert(chain, key.into()).unwrap();
    let acceptor = TlsAcceptor::from(Arc::new(config));
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let port = listener.local_addr().unwrap().port();
    tokio::spawn(async move {
        while let Ok((tcp, _)) = listener.accept().await {
            let (acceptor, does) = (acceptor.clone(), does.clone());
            tokio::spawn(async move {
                // Whoever does not believe the certificate hangs up.
                let Ok(mut tls) = acceptor.accept(tcp).await else { return };
                let mut request = [0; 4096];
                if tls.read(&mut request).await.is_err() {
                    return;
                }
                match does {
                    Does::Says(octets) => drop(tls.write_all(&octets).await),
                    Does::Floods(octets) => while tls.write_all(&octets).await.is_ok() {},
                    Does::Closes => {}
                }
                let _ = tls.shutdown().await;
            });
        }
    });
    format!("https://localhost:{port}").parse().unwrap()
}

fn request() -> Vec<u8> {
    let key = SoftwareKey::generate(NewKey::P256).unwrap();
    Request::stating(&BTreeMap::new(), &key).unwrap()
}

async fn asked(tree: &Tree, does: Does, again: bool) -> Result<Answer, JoinError> {
    let desk = Desk::new(server(tree, does).await, vec![tree.root.clone()]);
    desk.ask(None, &request(), &Proof::None, again).await
}

#[tokio::test]
async fn each_status_is_one_thing() {
    let tree = tree("localhost", 1);
    let given = est::encoded(&est::certs_only(&[tree.server.der()]));
    let got = asked(&tree, answer("200 OK", "", given.as_bytes()), false).await.unwrap();
    assert_eq!(got, Answer::Given(tree.server.der().to_vec()));
    for (status, fields, again, wanted) in [
        ("202 Accepted", "Retry-After: 7\r\n", false, Answer::Wait(Duration::from_secs(7))),
        ("202 Accepted", "", false, Answer::Wait(Duration::from_secs(30))),
        ("202 Accepted", "Retry-After: 0\r\n", false, Answer::Wait(Duration::from_secs(1))),
        ("202 Accepted", "Retry-After: 99999999\r\n", false, Answer::Wait(Duration::from_secs(3600))),
        (
            "202 Accepted",
            "Retry-After: Fri, 31 Dec 1999 23:59:59 GMT\r\n",
            false,
            Answer::Wait(Duration::from_secs(30)),
        ),
        ("503 Later", "Retry-After: 9\r\n", false, Answer::Later(Duration::from_secs(9), "why".into())),
        ("429 Too Many", "", false, Answer::Later(Duration::from_secs(30), "why".into())),
        ("403 Forbidden", "Retry-After: 99\r\n", true, Answer::TooSoon("why".into())),
        ("403 Forbidden", "", true, Answer::Refused(403, "why".into())),
        ("403 Forbidden", "Retry-After: 99\r\n", false, Answer::Refused(403, "why".into())),
        ("401 Unauthorized", "", false, Answer::Refused(401, "why".into())),
        ("302 Found", "Location: https://elsewhere.example/\r\n", false, Answer::Refused(302, "why".into())),
    ] {
        let got = asked(&tree, answer(status, fields, b"why\nand more\n"), again).await.unwrap();
        assert_eq!(got, wanted, "{status} {fields}");
    }
}

#[tokio::test]
async fn what_is_no_answer_is_an_error_and_never_a_certificate() {
    let tree = tree("localhost", 2);
    let two = [tree.root.der(), tree.server.der()];
    let damaged = est::encoded(&est::certs_only(&two)[..50]);
    for body in [&b""[..], b"MIIB", b"-----BEGIN CERTIFICATE-----", b"<html></html>", damaged.as_bytes()] {
        let got = asked(&tree, answer("200 OK", "", body), false).await;
        assert!(matches!(got, Err(JoinError::Answer(_))), "{body:?}: {got:?}");
    }
    let none = est::encoded(&est::certs_only(&[]));
    let got = asked(&tree, answer("200 OK", "", none.as_bytes()), false).await;
    assert!(matches!(got, Err(JoinError::Answer(_))), "{got:?}");
    for does in [
        Does::Closes,
        Does::Says(b"SSH-2.0-x\r\n".to_vec()),
        Does::Says(b"HTTP/1.1 200 OK\r\nContent-Length: 900\r\n\r\ncut".to_vec()),
        Does::Says(b"HTTP/1.1 200 OK\r\nContent-Length: 1\r\nContent-Length: 2\r\n\r\nab".to_vec()),
    ] {
        let got = asked(&tree, does, false).await;
        assert!(matches!(got, Err(JoinError::Http(_))), "{got:?}");
    }
}

#[tokio::test]
async fn more_than_anybody_needs_is_not_read() {
    let tree = tree("localhost", 3);
    let endless = b"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n".to_vec();
    let desk = |does| async { asked(&tree, does, false).await };
    let got =
        desk(Does::Floods([endless, b"10000\r\n".to_vec(), vec![b'A'; 0x10000], b"\r\n".to_vec()].concat())).await;
    // The head comes again in the place of a chunk, so that what is not too large is malformed; neither is kept.
    assert!(matches!(got, Err(JoinError::Http(_))), "{got:?}");
    let large = answer("200 OK", "", &vec![b'A'; (1 << 20) + 1]);
    let got = desk(large).await;
    assert!(matches!(got, Err(JoinError::Http(_))), "{got:?}");
    let got = desk(Does::Floods(b"X-Field: aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa\r\n".to_vec())).await;
    assert!(matches!(got, Err(JoinError::Http(_))), "{got:?}");
}

#[tokio::test]
async fn nobody_but_the_desk_of_the_known_root_is_believed() {
    let (tree, other, elsewhere) = (tree("localhost", 4), tree("localhost", 5), tree("desk.example", 6));
    let given = est::encoded(&est::certs_only(&[tree.root.der()]));
    let says = answer("200 OK", "", given.as_bytes());
    let ask = |place, root: &Certificate| {
        let desk = Desk::new(place, vec![root.clone()]);
        async move { desk.authorities().await }
    };
    let place = server(&tree, says.clone()).await;
    assert_eq!(ask(place.clone(), &tree.root).await.unwrap().len(), 1);
    assert!(matches!(ask(place.clone(), &other.root).await, Err(JoinError::Tls(_))), "another root");
    let misnamed = server(&elsewhere, says.clone()).await;
    assert!(matches!(ask(misnamed, &elsewhere.root).await, Err(JoinError::Tls(_))), "another name");

    // By digest: the root is taken from the answer, and everything after that must lead to it.
    let desk = Desk::with_digest(place.clone(), sha256(tree.root.der())).await.unwrap();
    assert_eq!(desk.roots(), std::slice::from_ref(&tree.root));
    assert_eq!(desk.authorities().await.unwrap().len(), 1);
    let unknown = Desk::with_digest(place, sha256(other.root.der())).await;
    assert!(matches!(unknown, Err(JoinError::NoRoot)));
    // One that tells of a good root, and has no certificate below it.
    let liar = server(&other, says).await;
    let desk = Desk::with_digest(liar, sha256(tree.root.der())).await.unwrap();
    assert!(matches!(desk.authorities().await, Err(JoinError::Tls(_))), "it is not below that root");
}

#[tokio::test]
async fn roots_and_the_way_to_connect_are_read_or_refused() {
    let tree = tree("localhost", 7);
    let desk = |does| async { Desk::new(server(&tree, does).await, vec![tree.root.clone()]) };
    let pem = tree.root.to_pem();
    let roots = desk(answer("200 OK", "", pem.as_bytes())).await.roots_text().await.unwrap();
    assert_eq!(roots, pem);
    for bad in [&b""[..], b"hello", &pem.as_bytes()[..90]] {
        let got = desk(answer("200 OK", "", bad)).await.roots_text().await;
        assert!(matches!(got, Err(JoinError::Answer(_))), "{got:?}");
    }
    let missing = desk(answer("404 Not Found", "", b"nothing")).await.roots_text().await;
    assert!(matches!(missing, Err(JoinError::Http(why)) if why.contains("/roots.pem") && why.contains("404")));
    let text = r#"{"schema":"tidy-warden/connect/1","device":"wv-1","host":"h","port":8883,"client_id":"wv-1","user_name":"wv-1","publish":[],"subscribe":["a/#"],"root_fingerprint":"00"}"#;
    let connect = desk(answer("200 OK", "", text.as_bytes())).await.connect(&Proof::None).await.unwrap();
    assert_eq!((connect.device.as_str(), connect.port, connect.subscribe.len()), ("wv-1", 8883, 1));
    let bad = desk(answer("200 OK", "", b"{}")).await.connect(&Proof::None).await;
    assert!(matches!(bad, Err(JoinError::Answer(_))), "{bad:?}");
}
