//! Callers that lie, stall, flood, or send what could be read in two ways.

use std::io::{Read, Write};
use std::net::{Shutdown, TcpStream};
use std::time::{Duration, Instant};

use tidy_warden_core::est::MAX_BODY;

use super::{Client, Desk, EST, admitted, asked, certificate, curl, fresh, openssl_request, post, status, world};

#[test]
fn what_is_no_request_is_told_so_and_says_nothing_of_devices() {
    let world = world();
    let secret = admitted(&world, "wv-9", &[]);
    let user = format!("wv-9:{secret}");
    let desk = Desk::start(&world);
    let enroll = desk.url(&format!("{EST}/simpleenroll"));
    let pkcs10 = ["-H", "Content-Type: application/pkcs10", "-u", &user];
    let send = |data: &[u8], more: &[&str]| {
        world.write("data", data);
        curl(&world, &enroll, &[&["--data-binary", "@data"], more].concat())
    };
    let (_, request) = fresh();
    let good = super::lines(&request);
    let mut flipped = request.clone();
    let last = flipped.len() - 1;
    flipped[last] ^= 1;
    let pem = format!("-----BEGIN CERTIFICATE REQUEST-----\n{good}-----END CERTIFICATE REQUEST-----\n");
    for (data, want) in [
        (&b""[..], 400),
        (b"not base64!", 400),
        (&request, 400),
        (pem.as_bytes(), 400),
        (super::lines(b"\x30\x03\x02\x01\x07").as_bytes(), 400),
        (super::lines(&flipped).as_bytes(), 400),
        (&vec![b'A'; MAX_BODY + 1], 413),
        (&vec![b'A'; MAX_BODY * 9], 413),
    ] {
        let (status, words) = send(data, &pkcs10);
        assert_eq!(status, want, "{words}");
        assert!(words.len() < 300 && words.ends_with('\n') && words.lines().count() == 1, "{words:?}");
    }
    let chunked = ["-H", "Transfer-Encoding: chunked"];
    assert_eq!(send(&vec![b'A'; MAX_BODY + 9], &[&pkcs10[..], &chunked].concat()).0, 413);
    assert_eq!(send(good.as_bytes(), &["-u", &user, "-H", "Content-Type: text/plain"]).0, 415);
    assert_eq!(send(good.as_bytes(), &["-u", &user, "-H", "Content-Type:"]).0, 415);
    let at = |path: &str, more: &[&str]| curl(&world, &desk.url(path), &[&["-o", "x", "-D", "head"], more].concat()).0;
    let head = || std::fs::read_to_string(world.path("head")).unwrap().to_lowercase();
    assert_eq!(at(&format!("{EST}/simpleenroll"), &[]), 405);
    assert!(head().contains("allow: post"), "{}", head());
    assert_eq!(at(&format!("{EST}/cacerts"), &["-X", "DELETE"]), 405);
    assert!(head().contains("allow: get, head"));
    assert_eq!(at(&format!("{EST}/serverkeygen"), &["-d", "x"]), 404);
    assert_eq!(at("/", &[]), 404);
    assert_eq!(
        at(&format!("{EST}/simpleenroll"), &["-H", "Content-Type: application/pkcs10", "--data-binary", "@data"]),
        401
    );
    let head = head();
    assert!(head.contains("www-authenticate: basic realm=") && head.contains("cache-control: no-store"), "{head}");
    // Whatever is shown in its place.
    for basic in ["x", "Basic", "Basic %%%", "Bearer abc", "Basic d3YtOQ==", "basic Og=="] {
        let header = format!("Authorization: {basic}");
        assert_eq!(send(good.as_bytes(), &["-H", "Content-Type: application/pkcs10", "-H", &header]).0, 401, "{basic}");
    }
    assert_eq!(
        send(good.as_bytes(), &[&pkcs10[..], &["-H", "Expect: 100-continue"]].concat()).0,
        200,
        "nothing of all that used it up"
    );
    assert_eq!(send(good.as_bytes(), &[&pkcs10[..], &chunked].concat()).0, 200, "in chunks too");
}

#[test]
fn requests_that_could_be_read_in_two_ways_are_refused_and_what_stands_behind_them_is_not_read() {
    let world = world();
    let secret = admitted(&world, "wv-9", &[]);
    let desk = Desk::start(&world);
    let client = Client::of(&world, &desk);
    let (_, request) = fresh();
    let real = asked(Some(&format!("wv-9:{secret}")), "simpleenroll", &request);
    let post = format!("POST {EST}/simpleenroll HTTP/1.1\r\nHost: localhost\r\n");
    for (head, want) in [
        (format!("GET {EST}/cacerts HTTP/1.1\r\n\r\n"), 400),
        (format!("GET {EST}/cacerts HTTP/1.1\r\nHost: a\r\nHost: b\r\n\r\n"), 400),
        (format!("{post}Content-Length: 4\r\nTransfer-Encoding: chunked\r\n\r\n"), 400),
        (format!("{post}Transfer-Encoding: chunked\r\nContent-Length: 4\r\n\r\n"), 400),
        (format!("{post}Content-Length: 4\r\nContent-Length: 5\r\n\r\n"), 400),
        (format!("{post}Content-Length: 4\r\nContent-Length: 4\r\n\r\n"), 400),
        (format!("{post}Content-Length : 4\r\n\r\n"), 400),
        (format!("{post}X: y\r\n Content-Length: 4\r\n\r\n"), 400),
        (format!("{post}Transfer-Encoding: xchunked\r\n\r\n"), 501),
        (format!("GET {EST}/cacerts HTTP/1.1\nHost: localhost\n\n"), 400),
        (format!("GET {EST}/cacerts HTTP/1.1\r\nHost: localhost\r\nX: {}\r\n\r\n", "y".repeat(40_000)), 431),
        ("PRI * HTTP/2.0\r\n\r\nSM\r\n\r\n".to_owned(), 400),
    ] {
        let answer = client.send(format!("{head}{real}").as_bytes());
        assert_eq!(status(&answer).0, want, "{head}: {answer}");
        assert_eq!(answer.matches("HTTP/1.1 ").count(), 1, "one answer, and closed: {answer}");
    }
    // A body that goes on as another request does is that body.
    let inner = format!("GET {EST}/cacerts HTTP/1.1\r\nHost: localhost\r\n\r\n");
    let whole = format!("{post}Content-Type: text/plain\r\nContent-Length: {}\r\n\r\n{inner}", inner.len());
    let answer = client.send(whole.as_bytes());
    assert_eq!((status(&answer).0, answer.matches("HTTP/1.1 ").count()), (415, 1), "{answer}");
    // In chunks the connection ends with the answer.
    let chunks = format!(
        "{post}Content-Type: application/pkcs10\r\nTransfer-Encoding: chunked\r\n\r\n1\r\nA\r\n0\r\n\r\n{real}"
    );
    assert_eq!(client.send(chunks.as_bytes()).matches("HTTP/1.1 ").count(), 1);
    let admission = world.run(&["admission", "show", "A1", "--format", "json"]).exits(0).json();
    assert_eq!(admission["state"], "open", "none of those that were hidden behind others was read");
    // One after another on one connection is what HTTP/1.1 is for.
    let twice = format!("{inner}{}", inner.replace("\r\n\r\n", "\r\nConnection: close\r\n\r\n"));
    assert_eq!(client.send(twice.as_bytes()).matches("HTTP/1.1 200").count(), 2);
}

#[test]
fn who_stalls_is_cut_off_and_holds_up_nobody() {
    let world = world();
    let desk = Desk::start(&world);
    let client = Client::of(&world, &desk);
    // Hundreds that say nothing, or half of a handshake, or half of a request.
    let silent: Vec<TcpStream> = (0..300).map(|_| TcpStream::connect(desk.address).unwrap()).collect();
    let mut halves: Vec<TcpStream> = (0..50).map(|_| TcpStream::connect(desk.address).unwrap()).collect();
    halves.iter_mut().for_each(|each| each.write_all(b"\x16\x03\x01\x02\x00\x01").unwrap());
    let mut stalled: Vec<_> = (0..50)
        .map(|_| {
            let mut stream = client.connect();
            let head = format!("POST {EST}/simpleenroll HTTP/1.1\r\nHost: a\r\nContent-Type: application/pkcs10\r\nContent-Length: 400\r\n\r\nAAAA");
            stream.write_all(head.as_bytes()).unwrap();
            stream.flush().unwrap();
            stream
        })
        .collect();
    let begun = Instant::now();
    let (_, request) = fresh();
    let secret = admitted(&world, "wv-9", &[]);
    assert_eq!(client.enroll(Some(&format!("wv-9:{secret}")), "simpleenroll", &request).0, 200);
    assert!(begun.elapsed() < Duration::from_secs(8), "{:?}", begun.elapsed());
    // The bodies that do not come are given up, with an answer.
    let mut answer = String::new();
    let _ = stalled[0].read_to_string(&mut answer);
    assert_eq!(status(&answer).0, 408, "{answer}");
    let mut octets = [0; 16];
    let _ = silent[0].set_read_timeout(Some(Duration::from_secs(20)));
    assert_eq!((&silent[0]).read(&mut octets).unwrap_or(0), 0, "it is hung up on");
    let _ = halves[0].shutdown(Shutdown::Both);
}

#[test]
fn a_flood_from_one_network_is_told_to_come_later() {
    let world = world();
    world.append("w/ward.toml", "[desk]\nrequests_per_source = 20\nrequests_per_device = 3\n");
    let secret = admitted(&world, "wv-9", &[]);
    let desk = Desk::start(&world);
    let client = Client::of(&world, &desk);
    // A device that has proved to be it, and asks for one certificate after another.
    let (key, request) = fresh();
    let user = format!("wv-9:{secret}");
    let (status, body) = client.enroll(Some(&user), "simpleenroll", &request);
    assert_eq!(status, 200, "{body}");
    drop(key);
    let (_, other) = fresh();
    let answers: Vec<u16> =
        (0..60).map(|_| client.enroll(Some("wv-7:aaaaaaaaaaaaaaaaaaaaaaaaaa"), "simpleenroll", &other).0).collect();
    let refused = answers.iter().filter(|status| **status == 429).count();
    // The slower this machine, the more its bucket is filled again meanwhile.
    assert!((3..=45).contains(&refused) && answers.iter().all(|status| [401, 429].contains(status)), "{answers:?}");
    let (status, words) = curl(&world, &desk.url(&format!("{EST}/cacerts")), &["-D", "head"]);
    let head = std::fs::read_to_string(world.path("head")).unwrap().to_lowercase();
    assert!(status == 429 && head.contains("retry-after: "), "{words} {head}");
    // Not every one of them is told in full.
    let told = desk.running.lines().iter().filter(|line| line.contains("\"refused\"")).count();
    assert!((10..=40).contains(&told), "{told}");
}

#[test]
fn a_desk_that_cannot_start_says_why() {
    let world = world();
    let desk = Desk::start(&world);
    let taken = desk.address.to_string();
    let start = |more: &[&str]| world.run(&[&["desk", "--listen", "127.0.0.1:0"], more].concat());
    world.run(&["desk", "--listen", &taken]).exits(1).says(&[&taken, "choose another with --listen"]);
    start(&["--listen-http", &desk.http.to_string()]).exits(1).says(&[&desk.http.to_string()]);
    world.secret("wrong.txt", "something else");
    start(&["--passphrase-file", "wrong.txt"]).exits(1).says(&["passphrase"]);
    start(&["--passphrase-file", "missing.txt"]).exits(4).says(&["missing.txt"]);
    let key = std::fs::read(world.path("w/keys/desk.key")).unwrap();
    std::fs::remove_file(world.path("w/keys/desk.key")).unwrap();
    start(&[]).exits(4).says(&["desk.key"]);
    std::fs::copy(world.path("w/keys/guard.key"), world.path("w/keys/desk.key")).unwrap();
    start(&[]).exits(3).says(&["does not belong to the desk's certificate"]);
    world.secret("w/keys/desk.key", std::str::from_utf8(&key).unwrap());
    world.append("w/ward.toml", "[desk]\nlisten = 9\n");
    start(&[]).exits(3).says(&["`listen`"]);
    // The one that runs is not concerned by any of that.
    assert_eq!(curl(&world, &desk.url(&format!("{EST}/cacerts")), &[]).0, 200);
    desk.running.signal("HUP");
    let told = desk.event("trouble", |event| event["what"].as_str().unwrap().contains("not reloaded"));
    assert!(told["what"].as_str().unwrap().contains("the old ones stay"), "{told}");
    assert_eq!(curl(&world, &desk.url(&format!("{EST}/cacerts")), &[]).0, 200);
}

#[test]
fn who_says_no_name_and_who_speaks_too_old_a_tls() {
    let world = world();
    let desk = Desk::start(&world);
    let address = desk.address.to_string();
    // Without a name in the handshake (RFC 6066 section 3) it is the same desk.
    let client = ["s_client", "-connect", &address, "-CAfile", "trust/root.pem", "-verify_return_error"];
    let quiet = |more: &[&str]| {
        let call = format!("openssl {} {} </dev/null", client.join(" "), more.join(" "));
        world.other("sh", &["-c", &call])
    };
    quiet(&["-noservername"]).exits(0).prints(&["Verification: OK"]);
    quiet(&["-servername", "elsewhere.example"]).exits(0);
    quiet(&["-tls1_2"]).exits(0).prints(&["TLSv1.2"]);
    assert_ne!(quiet(&["-tls1_1"]).code, 0, "older ones are not spoken (RFC 8996)");
    assert_ne!(quiet(&["-tls1_2", "-cipher", "AES128-SHA"]).code, 0, "nor ciphers without forward secrecy");
}

#[test]
fn a_certificate_that_may_not_renew_does_not() {
    let world = world().with("TIDY_WARDEN_NOW", "@now");
    world.write("now", "2027-01-01T00:00:00Z");
    let desk = Desk::start(&world);
    for (id, file) in [("wv-1", "one"), ("wv-2", "two"), ("wv-3", "three")] {
        let secret = admitted(&world, id, &[]);
        openssl_request(&world, file, "/");
        let (status, body) =
            post(&world, &desk, "simpleenroll", &format!("{file}.b64"), &["-u", &format!("{id}:{secret}")]);
        assert_eq!(status, 200);
        certificate(&world, &body, &format!("{file}.pem"));
    }
    world.write("now", "2028-01-15T00:00:00Z");
    openssl_request(&world, "next", "/");
    let renew = |name: &str, file: &str| {
        let (pem, key) = (format!("{name}.pem"), format!("{name}.key"));
        let data = format!("@{file}");
        let url = desk.url(&format!("{EST}/simplereenroll"));
        let args = [
            "-s",
            "--cacert",
            "trust/root.pem",
            "-w",
            "%{http_code}",
            "-o",
            "answer",
            "--cert",
            &pem,
            "--key",
            &key,
            "-H",
            "Content-Type: application/pkcs10",
            "--data-binary",
            &data,
            &url,
        ];
        world.other("curl", &args).stdout.parse::<u16>().unwrap_or(0)
    };
    // Another device's key in the request: one key is one device's.
    assert_eq!(renew("one", "two.b64"), 401);
    // A certificate without its key is no certificate.
    std::fs::copy(world.path("one.pem"), world.path("stolen.pem")).unwrap();
    std::fs::copy(world.path("next.key"), world.path("stolen.key")).unwrap();
    assert_ne!(renew("stolen", "next.b64"), 200);
    world.run(&["hold", "wv-1", "--yes"]).exits(0);
    assert_eq!(renew("one", "next.b64"), 401);
    world.run(&["release", "wv-1", "--yes"]).exits(0);
    assert_eq!(renew("one", "next.b64"), 200);
    // Revoked, and then ended.
    world.run(&["revoke", "wv-2", "--reason", "superseded", "--yes"]).exits(0);
    assert_eq!(renew("two", "next.b64"), 401);
    world.write("now", "2029-01-15T00:00:00Z");
    assert_eq!(renew("three", "next.b64"), 0, "one that has ended gets no further than the handshake");
    // Nobody's certificate, and nothing at all.
    openssl_request(&world, "self", "/");
    world
        .other(
            "openssl",
            &["req", "-x509", "-key", "self.key", "-subj", "/CN=wv-3", "-days", "900", "-out", "self.pem"],
        )
        .exits(0);
    assert_eq!(renew("self", "next.b64"), 0);
    assert_eq!(post(&world, &desk, "simplereenroll", "next.b64", &[]).0, 401);
}

#[test]
fn nobody_learns_by_asking_which_devices_there_are() {
    let world = world();
    world.append("w/ward.toml", "[desk]\nrequests_per_source = 100000\n");
    admitted(&world, "wv-open", &[]);
    let used = admitted(&world, "wv-used", &[]);
    let held = admitted(&world, "wv-held", &[]);
    let out = admitted(&world, "wv-out", &[]);
    admitted(&world, "wv-withdrawn", &[]);
    let desk = Desk::start(&world);
    let client = Client::of(&world, &desk);
    for (id, secret) in [("wv-used", &used), ("wv-held", &held), ("wv-out", &out)] {
        let (_, request) = fresh();
        assert_eq!(client.enroll(Some(&format!("{id}:{secret}")), "simpleenroll", &request).0, 200);
    }
    world.run(&["hold", "wv-held", "--yes"]).exits(0);
    world.run(&["revoke", "wv-out", "--reason", "superseded", "--yes"]).exits(0);
    world.run(&["admission", "withdraw", "A5", "--yes"]).exits(0);
    world.run(&["device", "add", "wv-listed", "--kind", "windvane"]).exits(0);
    let wrong = "aaaaaaaaaaaaaaaaaaaaaaaaaa";
    let cases: Vec<String> =
        ["wv-nobody", "A99", "wv-open", "wv-used", "wv-held", "wv-out", "wv-withdrawn", "wv-listed", "no name"]
            .iter()
            .map(|user| format!("{user}:{wrong}"))
            .chain([format!("wv-used:{used}"), format!("wv-held:{held}"), format!("wv-out:{out}")])
            .collect();
    let mut times: Vec<Vec<Duration>> = vec![Vec::new(); cases.len()];
    let mut answers = std::collections::HashSet::new();
    let (_, request) = fresh();
    for _ in 0..7 {
        for (case, times) in cases.iter().zip(&mut times) {
            let begun = Instant::now();
            let answer = client.send(asked(Some(case), "simpleenroll", &request).as_bytes());
            times.push(begun.elapsed());
            let undated: String =
                answer.lines().filter(|line| !line.starts_with("date:")).map(|line| format!("{line}\n")).collect();
            answers.insert(undated);
        }
    }
    assert_eq!(answers.len(), 1, "one answer, octet by octet: {answers:?}");
    // The answer waits for a moment that does not depend on what was looked up. A busy machine only ever adds to that, so the least of
    // several times is what says how long a case takes.
    let least_of: Vec<Duration> = times.into_iter().filter_map(|times| times.into_iter().min()).collect();
    let (least, most) = (least_of.iter().min().unwrap(), least_of.iter().max().unwrap());
    assert!(*least >= Duration::from_millis(150), "{least_of:?}");
    assert!(*most - *least < Duration::from_millis(40), "{least_of:?}");
}
