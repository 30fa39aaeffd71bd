//! Hostile octets: the guard closes that one connection and serves the others.

use std::io::{Read, Write};
use std::net::TcpStream;
use std::sync::Arc;
use std::time::{Duration, Instant};

use rustls::pki_types::{CertificateDer, PrivatePkcs8KeyDer, ServerName};

use crate::harness::{Guard, World, block_on};

type Raw = rustls::StreamOwned<rustls::ClientConnection, TcpStream>;

/// A TLS connection with a good certificate, on which anything can be sent.
fn raw(world: &World, guard: &Guard, id: &str) -> Raw {
    raw_with(world, guard, id, rustls::DEFAULT_VERSIONS)
}

fn raw_with(world: &World, guard: &Guard, id: &str, versions: &[&'static rustls::SupportedProtocolVersion]) -> Raw {
    let (chain, key) = world.identity(id);
    let mut roots = rustls::RootCertStore::empty();
    roots.add(CertificateDer::from(world.root(id))).unwrap();
    let config = rustls::ClientConfig::builder_with_provider(Arc::new(rustls::crypto::aws_lc_rs::default_provider()))
        .with_protocol_versions(versions)
        .unwrap()
        .with_root_certificates(roots)
        .with_client_auth_cert(
            chain.into_iter().map(CertificateDer::from).collect(),
            PrivatePkcs8KeyDer::from(key).into(),
        )
        .unwrap();
    let session = rustls::ClientConnection::new(Arc::new(config), ServerName::try_from("localhost").unwrap()).unwrap();
    let socket = TcpStream::connect(guard.address).unwrap();
    socket.set_read_timeout(Some(Duration::from_secs(25))).unwrap();
    rustls::StreamOwned::new(session, socket)
}

fn connect(id: &str) -> Vec<u8> {
    let mut body = [&[0, 4][..], b"MQTT", &[4, 2, 0, 60]].concat();
    body.extend([0, u8::try_from(id.len()).unwrap()]);
    body.extend(id.as_bytes());
    [&[0x10, u8::try_from(body.len()).unwrap()], body.as_slice()].concat()
}

/// Reads until the other side closes; what it sent, or `None` if it did not close in time.
fn until_closed(stream: &mut Raw) -> Option<Vec<u8>> {
    let mut all = Vec::new();
    let mut buffer = [0; 4096];
    loop {
        match stream.read(&mut buffer) {
            Ok(0) => return Some(all),
            Ok(len) => all.extend_from_slice(&buffer[..len]),
            Err(error) if matches!(error.kind(), std::io::ErrorKind::WouldBlock | std::io::ErrorKind::TimedOut) => {
                return None;
            }
            Err(_) => return Some(all),
        }
    }
}

#[test]
fn tls_1_2_and_1_3_are_both_spoken() {
    let world = World::equipped();
    let guard = Guard::start(&world, "builtin");
    for version in [&rustls::version::TLS12, &rustls::version::TLS13] {
        let mut stream = raw_with(&world, &guard, "wv-1", &[version]);
        stream.write_all(&connect("wv-1")).unwrap();
        let mut connack = [0; 4];
        stream.read_exact(&mut connack).unwrap();
        assert_eq!(connack, [0x20, 2, 0, 0], "{version:?}");
        assert_eq!(stream.conn.protocol_version(), Some(version.version));
    }
}

#[test]
fn each_hostile_packet_closes_its_connection_and_no_other() {
    let world = World::equipped();
    let guard = Guard::start(&world, "builtin");
    let good = [&[0x30, 23, 0, 20][..], b"rope/ossel/wv-1/wind", b"x"].concat();
    let first: &[(&str, Vec<u8>)] = &[
        ("a PUBLISH before CONNECT", good.clone()),
        ("packet type 0", vec![0, 0]),
        ("AUTH first", vec![0xf0, 0]),
        ("a five-octet length", vec![0x10, 0xff, 0xff, 0xff, 0xff, 1]),
        ("a length that is not minimal", vec![0x10, 0x80, 0x00]),
        ("an oversized CONNECT", vec![0x10, 0xff, 0xff, 0x7f]),
        ("another protocol", [&[0x10, 12, 0, 6][..], b"MQIsdp", &[3, 2, 0, 60]].concat()),
        ("reserved connect flags", [&[0x10, 12, 0, 4][..], b"MQTT", &[4, 3, 0, 60, 0, 0]].concat()),
        ("HTTP", b"GET / HTTP/1.1\r\n\r\n".to_vec()),
    ];
    let later: &[(&str, Vec<u8>)] = &[
        ("a second CONNECT", connect("wv-1")),
        ("a CONNACK", vec![0x20, 2, 0, 0]),
        ("QoS 3", vec![0x36, 5, 0, 1, b'a', 0, 1]),
        ("a wildcard in a topic", vec![0x30, 5, 0, 3, b'a', b'/', b'+']),
        ("a hash in a topic", vec![0x30, 5, 0, 3, b'a', b'/', b'#']),
        ("an empty topic", vec![0x30, 2, 0, 0]),
        ("a topic that is not UTF-8", vec![0x30, 3, 0, 1, 0xff]),
        ("a null in a topic", vec![0x30, 4, 0, 2, b'a', 0]),
        ("a topic that is cut off", vec![0x30, 3, 0, 9, b'a']),
        ("the filter a/#/b", [&[0x82, 10, 0, 1, 0, 5][..], b"a/#/b", &[0]].concat()),
        ("reserved flags in SUBSCRIBE", vec![0x80, 6, 0, 1, 0, 1, b'a', 0]),
        ("reserved subscription options", vec![0x82, 6, 0, 1, 0, 1, b'a', 0x04]),
        ("a SUBSCRIBE without filters", vec![0x82, 2, 0, 1]),
        ("packet identifier 0", vec![0x82, 6, 0, 0, 0, 1, b'a', 0]),
        ("a packet larger than allowed", vec![0x30, 0xff, 0xff, 0xff, 0x7f]),
        ("a five-octet length", vec![0x30, 0xff, 0xff, 0xff, 0xff, 1]),
        ("a PINGREQ with content", vec![0xc0, 1, 0]),
    ];
    block_on(async {
        let mut witness = world.login("wv-2").connect(guard.address).await.unwrap();
        for (what, bytes) in first {
            let mut stream = raw(&world, &guard, "wv-1");
            stream.write_all(bytes).unwrap();
            let answer = until_closed(&mut stream).unwrap_or_else(|| panic!("{what}: not closed"));
            assert!(answer.get(3).is_none_or(|code| *code != 0), "{what}: accepted with {answer:x?}");
        }
        for (what, bytes) in later {
            let mut stream = raw(&world, &guard, "wv-1");
            stream.write_all(&connect("wv-1")).unwrap();
            let mut connack = [0; 4];
            stream.read_exact(&mut connack).unwrap();
            assert_eq!(connack, [0x20, 2, 0, 0], "{what}");
            // A good message before the bad packet, in one write: it must not save the bad one.
            stream.write_all(&[good.as_slice(), bytes].concat()).unwrap();
            assert!(until_closed(&mut stream).is_some(), "{what}: not closed");
            assert!(witness.publish("rope/ossel/wv-2/wind", b"here").await.unwrap().is_ok(), "after {what}");
        }
    });
}

#[test]
fn slow_senders_are_closed_within_ten_seconds_and_others_served_meanwhile() {
    let world = World::equipped();
    let guard = Guard::start(&world, "builtin");
    let begun = Instant::now();
    let mut silent = TcpStream::connect(guard.address).unwrap();
    let mut handshake = TcpStream::connect(guard.address).unwrap();
    handshake.write_all(&[22, 3, 1, 2, 0]).unwrap();
    let mut slow = raw(&world, &guard, "wv-1");
    slow.write_all(&connect("wv-1")[..5]).unwrap();
    block_on(async {
        let mut good = world.login("wv-2").connect(guard.address).await.unwrap();
        assert!(good.publish("rope/ossel/wv-2/wind", b"here").await.unwrap().is_ok());
    });
    assert!(until_closed(&mut slow).is_some(), "an unfinished CONNECT");
    for stream in [&mut silent, &mut handshake] {
        stream.set_read_timeout(Some(Duration::from_secs(25))).unwrap();
        let mut rest = Vec::new();
        let ended = stream.read_to_end(&mut rest);
        assert!(ended.is_ok() || ended.is_err_and(|error| error.kind() == std::io::ErrorKind::ConnectionReset));
    }
    let took = begun.elapsed();
    assert!(took > Duration::from_secs(8) && took < Duration::from_secs(25), "{took:?}");
}

#[test]
fn a_client_that_never_reads_does_not_stop_the_others() {
    let world = World::equipped();
    let guard = Guard::start(&world, "builtin");
    let mut deaf = raw(&world, &guard, "wv-1");
    deaf.write_all(&connect("wv-1")).unwrap();
    let mut connack = [0; 4];
    deaf.read_exact(&mut connack).unwrap();
    let filter = b"rope/ossel/wv-1/settings";
    let len = u8::try_from(filter.len() + 5).unwrap();
    deaf.write_all(&[&[0x82, len, 0, 1, 0, len - 5][..], filter, &[0]].concat()).unwrap();
    block_on(async {
        let mut control = world.login("cr-ossel").connect(guard.address).await.unwrap();
        let payload = vec![7; 60_000];
        for _ in 0..200 {
            let sent = control.publish("rope/ossel/wv-1/settings", &payload).await.unwrap();
            assert!(sent.is_ok());
        }
        let mut other = world.login("wv-2").connect(guard.address).await.unwrap();
        assert!(other.publish("rope/ossel/wv-2/wind", b"here").await.unwrap().is_ok());
        world.run(&["revoke", "wv-1", "--reason", "keyCompromise", "--yes"]).exits(0);
    });
    guard.event("cut", |event| event["device"] == "wv-1");
}

#[test]
fn random_octets_do_no_harm() {
    let world = World::equipped();
    let guard = Guard::start(&world, "builtin");
    let mut state = 0x2545_f491_4f6c_dd1d_u64;
    let mut next = move || {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        state.to_le_bytes()[0]
    };
    for round in 0..40 {
        let mut stream = raw(&world, &guard, "wv-1");
        if round % 2 == 0 {
            stream.write_all(&connect("wv-1")).unwrap();
        }
        let bytes: Vec<u8> = (0..200).map(|_| next()).collect();
        // The guard may close before all of it is written.
        let _ = stream.write_all(&bytes);
    }
    block_on(async {
        let mut good = world.login("wv-2").connect(guard.address).await.unwrap();
        assert!(good.publish("rope/ossel/wv-2/wind", b"here").await.unwrap().is_ok());
    });
}
