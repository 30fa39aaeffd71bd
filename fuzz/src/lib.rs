//! What must hold for any input at all. Each target takes octets and panics if something does not hold.
//!
//! With the stable toolchain: `cargo test -p tidy-warden-fuzz`, or for longer
//! `RUNS=10000000 cargo test --release -p tidy-warden-fuzz -- --nocapture`. With a coverage-guided fuzzer:
//! `cargo fuzz run --features libfuzzer policy fuzz/seeds/policy`.

use std::collections::BTreeMap;
use std::sync::LazyLock;

use tidy_warden_core::certificate::{Certificate, Purpose, SerialNumber, judge};
use tidy_warden_core::claim::{Code, Window};
use tidy_warden_core::condition::{Candidate, Condition, Groups, Use};
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::est;
use tidy_warden_core::fact::FactName;
use tidy_warden_core::jwe;
use tidy_warden_core::key::{NewKey, PublicKey, Signer, SoftwareKey};
use tidy_warden_core::mqtt::{
    Ack, Connack, Connect, Disconnect, Frame, PacketType, Publish, SubAck, Subscribe, Unsubscribe, Version, split,
};
use tidy_warden_core::policy::{self, Edition, Fleet, NoMeter, PolicyFile, check, compare, layout, reach, read_file};
use tidy_warden_core::rekey::KeyRequest;
use tidy_warden_core::request::Request;
use tidy_warden_core::revocation::Crl;
use tidy_warden_core::settings::Settings;
use tidy_warden_core::shared::SharedKey;
use tidy_warden_core::text::Source;
use tidy_warden_core::time::{Span, UnixTime};
use tidy_warden_core::token::{Form, Maker, Terms, TokenKey, Unverified};
use tidy_warden_core::topic::{TopicFilter, TopicName};
use tidy_warden_core::voucher::{Knows, MAX_VOUCHER, Voucher};
use tidy_warden_serve::strict;

/// A few devices that random policies can be for.
fn devices() -> Vec<DeviceRecord> {
    let device = |id: &str, kind: &str, gateway: Option<&str>, site: Option<&str>| {
        let mut device = DeviceRecord::new(id.parse().ok()?, kind.parse().ok()?, UnixTime(0));
        device.gateway = gateway.and_then(|gateway| gateway.parse().ok());
        if let Some(site) = site {
            device.labels.insert("site".parse().ok()?, site.parse().ok()?);
        }
        Some(device)
    };
    [
        device("st-ossel-top", "station", None, Some("ossel")),
        device("cb-0412", "cabin", Some("st-ossel-top"), Some("ossel")),
        device("wv-0417", "windvane", None, Some("brindle")),
        device("a", "windvane", None, None),
    ]
    .into_iter()
    .flatten()
    .collect()
}

fn settings() -> Option<Settings> {
    let text = "[ward]\nname = \"n\"\n[kinds.station]\ncarries = [\"cabin\"]\n[kinds.cabin]\n[kinds.windvane]\n";
    Settings::parse(&Source::new("ward.toml", text)).ok()
}

/// The text of a policy file: it is refused with its place, or it can be laid out, decided by, and asked about.
///
/// # Panics
/// If something does not hold.
pub fn policy(data: &[u8]) {
    let Ok(text) = std::str::from_utf8(data) else { return };
    let source = Source::new("p", text);
    let policies = match read_file(&source) {
        Ok(policies) => policies,
        Err(errors) => {
            assert!((1..=100).contains(&errors.len()));
            assert!(errors.iter().all(|error| error.place.line >= 1 && !error.to_string().is_empty()));
            assert!(layout(&source).is_err(), "what cannot be read cannot be laid out");
            return;
        }
    };
    let laid = layout(&source).unwrap_or_default();
    assert_eq!(layout(&Source::new("p", &laid)).ok().as_ref(), Some(&laid), "laying out twice changes nothing");
    let again = read_file(&Source::new("p", &laid)).unwrap_or_default();
    let written = |all: &[tidy_warden_core::policy::Policy]| all.iter().map(ToString::to_string).collect::<Vec<_>>();
    assert_eq!(written(&again), written(&policies), "the layout says the same");
    let file = PolicyFile { name: "p".to_owned(), text: text.to_owned() };
    let (Ok(edition), Some(settings)) = (Edition::read(1, &[file], &Groups::new()), settings()) else { return };
    let devices = devices();
    let none = Edition::default();
    let fill = |editions: &[&'_ Edition]| {
        let mut fleet = Fleet::new(editions, []);
        devices.iter().for_each(|device| assert!(fleet.add_record(device).is_ok()));
        fleet.len()
    };
    assert_eq!(fill(&[&edition]), devices.len());
    let mut one = Fleet::new(&[&edition], []);
    let mut two = Fleet::new(&[&none, &edition], []);
    for device in &devices {
        assert!(one.add_record(device).is_ok() && two.add_record(device).is_ok());
        let rights = edition.rights_with(device, &devices, &settings);
        for topic in
            ["a", "/", "rope/ossel/wv-0417/wind", "$SYS/a"].into_iter().filter_map(|t| TopicName::parse(t).ok())
        {
            let _ = rights.publish(policy::Publish { topic, qos: 1, retain: true, size: 9 }, &mut NoMeter);
            let _ = rights.deliver(topic);
        }
        for filter in ["#", "+/+", "rope/ossel/#"].into_iter().filter_map(|filter| filter.parse::<TopicFilter>().ok()) {
            let _ = rights.subscribe(&filter, 2, None);
        }
    }
    let _ = check(&one, &settings, &Groups::new(), &BTreeMap::new());
    if let Ok(all) = "#".parse() {
        let _ = reach(&one, &settings, &all);
    }
    assert!(compare(&two, &settings).losing == 0, "from nothing nothing is lost");
}

/// A stream of MQTT packets, the first octet choosing the version: each is refused, or what is written of it reads back.
///
/// # Panics
/// If something does not hold.
pub fn packets(data: &[u8]) {
    let Some((first, mut rest)) = data.split_first() else { return };
    let version = if first % 2 == 0 { Version::V5 } else { Version::V311 };
    while let Ok(Some(frame)) = split(rest, 1 << 20) {
        assert!(!frame.whole.is_empty() && frame.whole.len() <= rest.len());
        packet(&frame, version);
        rest = &rest[frame.whole.len()..];
    }
}

/// One packet, taken for each type that has its first octet, and some that have not.
fn packet(frame: &Frame<'_>, version: Version) {
    let same = |bytes: &[u8], check: &dyn Fn(&Frame<'_>) -> bool| match split(bytes, usize::MAX) {
        Ok(Some(again)) => assert!(again.whole.len() == bytes.len() && check(&again), "{bytes:x?}"),
        other => panic!("{other:?} of {bytes:x?}"),
    };
    match frame.packet_type {
        PacketType::Publish => {
            if let Ok(publish) = Publish::parse(frame, version) {
                let bytes = publish.to_bytes(version);
                assert_eq!(bytes.len(), publish.encoded_len(version));
                same(&bytes, &|again| Publish::parse(again, version).as_ref() == Ok(&publish));
            }
        }
        PacketType::Connect => {
            if let Ok(connect) = Connect::parse(frame) {
                same(&connect.to_bytes(), &|again| Connect::parse(again).as_ref() == Ok(&connect));
            }
        }
        PacketType::Connack => {
            if let Ok(connack) = Connack::parse(frame, version) {
                same(&connack.to_bytes(version), &|again| Connack::parse(again, version).as_ref() == Ok(&connack));
            }
        }
        PacketType::Subscribe => {
            if let Ok(subscribe) = Subscribe::parse(frame, version) {
                let bytes = subscribe.to_bytes(version);
                same(&bytes, &|again| Subscribe::parse(again, version).as_ref() == Ok(&subscribe));
            }
        }
        PacketType::Unsubscribe => {
            if let Ok(unsubscribe) = Unsubscribe::parse(frame, version) {
                let bytes = unsubscribe.to_bytes(version);
                same(&bytes, &|again| {
                    Unsubscribe::parse(again, version).is_ok_and(|again| again.filters == unsubscribe.filters)
                });
            }
        }
        PacketType::Puback | PacketType::Pubrec | PacketType::Pubrel | PacketType::Pubcomp => {
            if let Ok(ack) = Ack::parse(frame, version) {
                same(&ack.to_bytes(version, None), &|again| Ack::parse(again, version) == Ok(ack));
            }
        }
        PacketType::Suback => {
            let _ = SubAck::parse(frame, version);
        }
        PacketType::Disconnect => {
            let _ = Disconnect::parse(frame, version);
        }
        PacketType::Unsuback | PacketType::Pingreq | PacketType::Pingresp | PacketType::Auth => {
            let _ = Ack::unsuback_id(frame);
        }
    }
}

/// A condition: it is refused with its place, or what is written of it reads back, and it can be held against devices.
///
/// # Panics
/// If something does not hold.
pub fn condition(data: &[u8]) {
    let Ok(text) = std::str::from_utf8(data) else { return };
    let source = Source::new("--where", text);
    let lasting = Condition::parse(&source, Use::Policy);
    let condition = match Condition::parse(&source, Use::Picking) {
        Ok(condition) => condition,
        Err(error) => {
            assert!(lasting.is_err() && error.place.line >= 1 && !error.to_string().is_empty());
            return;
        }
    };
    assert!(lasting.is_err() || lasting.as_ref() == Ok(&condition));
    let written = Condition::parse(&Source::new("--where", &condition.to_string()), Use::Picking);
    assert_eq!(written.as_ref(), Ok(&condition), "what is written reads back");
    let never = condition.never_holds();
    for device in devices() {
        let holds = condition.holds(&Candidate::at(&device, &[], UnixTime(1_795_417_333)));
        assert!(!(never && holds), "{condition} cannot hold and does");
    }
}

/// A certificate request: it is refused, or its key is proved and reads back.
///
/// # Panics
/// If something does not hold.
pub fn request(data: &[u8]) {
    let Ok(request) = Request::parse(data) else { return };
    if let Ok(proven) = request.verify_possession() {
        let spki = proven.public_key().spki();
        assert!(PublicKey::from_spki(spki).is_ok_and(|again| again.spki() == spki));
    }
}

/// Certificates: each reads back from its DER, and can be judged, as a leaf and as an authority of itself.
///
/// # Panics
/// If something does not hold.
pub fn certificate(data: &[u8]) {
    for read in Certificate::read_all(data).unwrap_or_default() {
        let again = Certificate::from_der(read.der());
        assert!(again.is_ok_and(|again| again.fingerprint == read.fingerprint && again.serial == read.serial));
        let own = std::slice::from_ref(&read);
        let _ = judge(&read, own, own, Purpose::Any, UnixTime(1_795_417_333));
        let _ = read.alternative_names();
        for name in [FactName::Serial, FactName::Mac, FactName::Eui64, FactName::Imei] {
            let _ = read.fact(&name);
        }
        if let Some(constraints) = &read.constraints {
            let _ = constraints.check(&read);
        }
    }
}

/// Revocation lists: what is read can be asked, and an empty one has nobody on it.
///
/// # Panics
/// If something does not hold.
pub fn crl(data: &[u8]) {
    for read in Crl::read_all(data).unwrap_or_default() {
        let found = SerialNumber::from_octets(&[10]).and_then(|serial| read.find(&serial));
        assert!(!(read.is_empty() && found.is_some()));
    }
}

/// A token: nobody signed random ones with this key.
///
/// # Panics
/// If something does not hold.
pub fn jwt(data: &[u8]) {
    token(data, Form::Jwt);
}

/// A CWT: the same.
///
/// # Panics
/// If something does not hold.
pub fn cwt(data: &[u8]) {
    token(data, Form::Cwt);
}

/// Whatever it says, no token is taken that nobody signed; and what is taken apart is that form and says what it says.
fn token(data: &[u8], form: Form) {
    let Ok(read) = Unverified::read(data) else { return };
    assert!(read.form == form || data.first().is_some_and(|first| (*first >= 0x80) == (read.form == Form::Cwt)));
    let jwk = r#"{"kty":"EC","crv":"P-256","x":"f83OJ3D2xF1Bg8vub9tLe1gHMzV76e8Tus9uPHvRVEU","y":"x_FEzRu9m36HLN_tue659LNpXW6pCyStikYjKIWI5a0"}"#;
    let Ok(key) = PublicKey::from_jwk(jwk) else { return };
    let terms =
        Terms { audience: "mqtts://localhost:8883", now: UnixTime(1_795_417_400), skew: Span::from_seconds(30) };
    let Ok(device) = "ts-1".parse() else { return };
    for maker in [Maker::Ward { issuer: "urn:uuid:1" }, Maker::Device(&device)] {
        assert!(read.verify((TokenKey::Public(&key), "k"), maker, terms).is_err());
    }
    if let Some(scope) = &read.claims.scope {
        assert!(scope.is_understood() || scope.publish().is_empty() && scope.subscribe().is_empty());
    }
}

/// A JWK: it is refused, or the key reads back from its SubjectPublicKeyInfo.
///
/// # Panics
/// If something does not hold.
pub fn jwk(data: &[u8]) {
    let Ok(text) = std::str::from_utf8(data) else { return };
    if let Ok(key) = PublicKey::from_jwk(text) {
        assert!(PublicKey::from_spki(key.spki()).is_ok_and(|again| again == key));
    }
}

/// A request for the next shared key, and a key that is sealed for a device: whatever it is, it proves nothing and opens for nobody.
///
/// # Panics
/// If something does not hold.
pub fn rekey(data: &[u8]) {
    static OWN: LazyLock<Option<SoftwareKey>> = LazyLock::new(|| SoftwareKey::generate(NewKey::P256).ok());
    let Ok(text) = std::str::from_utf8(data) else { return };
    let octets: Vec<u8> = (0..32).collect();
    if let (Ok(request), Ok(key)) = (KeyRequest::read(text), SharedKey::from_octets(&octets)) {
        assert!(request.kid.len() <= 256 && request.device.as_str().parse() == Ok(request.device.clone()));
        assert!(request.verify(&key, "urn:uuid:00000000-0000-4000-8000-000000000000", UnixTime(1_000)).is_err());
    }
    assert!(OWN.as_ref().is_some_and(|own| jwe::open(text, "jwk+json", own).is_err()));
}

/// By how many devices a voucher is believed: of one that asked with a nonce or not, with a clock or without.
///
/// # Panics
/// If what is believed is not what the root signed.
#[must_use]
pub fn believed(data: &[u8]) -> usize {
    static ROOT: LazyLock<Vec<Certificate>> =
        LazyLock::new(|| Certificate::read_all(include_bytes!("../seeds/voucher/root.pem")).unwrap_or_default());
    let serial = "QF-0417";
    let mut count = 0;
    for now in [None, Some(UnixTime(1_797_000_000))] {
        for nonce in [None, Some(&b"0123456789abcdef"[..])] {
            let knows = Knows { serial: Some(serial), roots: &ROOT, nonce, owner: None, now };
            // The seeds are the only ones that the root signed: whatever is changed, nothing else is believed.
            match Voucher::believe(data, &knows) {
                Ok(voucher) => {
                    let owner = Certificate::from_der(&voucher.owner).map(|owner| owner.subject_text);
                    assert!(voucher.serial == serial && owner.as_deref() == Ok("CN=brindle"));
                    assert!(data.len() <= MAX_VOUCHER);
                    count += 1;
                }
                Err(bad) => assert!(!bad.to_string().is_empty()),
            }
            let nobody = Knows { roots: &[], ..knows };
            assert!(Voucher::believe(data, &nobody).is_err(), "without a root nothing is believed");
        }
    }
    count
}

/// A voucher, and what a device says when it opens itself: what is read is within its bounds.
///
/// # Panics
/// If something does not hold.
pub fn voucher(data: &[u8]) {
    let _ = believed(data);
    let longest = Span::from_seconds(300);
    assert!(Window::read(data, None).is_err(), "where a kind allows none, there is none");
    if let Ok(window) = Window::read(data, Some(longest)) {
        assert!(window.length.seconds() >= 1 && window.length <= longest);
        assert_eq!(Code::parse(&window.code.grouped()).as_ref().map(Code::grouped), Ok(window.code.grouped()));
    }
    if let Ok(code) = std::str::from_utf8(data).map_err(drop).and_then(|text| Code::parse(text).map_err(drop)) {
        assert_eq!(Code::parse(&code.grouped()).as_ref().map(Code::grouped), Ok(code.grouped()));
    }
}

/// A key file, plain or locked: it is refused, or the key signs what it verifies.
///
/// # Panics
/// If something does not hold.
pub fn key_file(data: &[u8]) {
    let plain = SoftwareKey::from_pkcs8(data);
    let locked = std::str::from_utf8(data).ok().and_then(|pem| SoftwareKey::open(pem.trim_end(), b"fuzz").ok());
    for key in plain.into_iter().chain(locked) {
        if let Ok(signature) = key.sign(b"x") {
            assert!(key.public_key().verify(&key.algorithm(), b"x", &signature).is_ok());
        }
    }
}

/// `ward.toml`: it is refused with places, or it is read.
///
/// # Panics
/// If something does not hold.
pub fn ward_settings(data: &[u8]) {
    let Ok(text) = std::str::from_utf8(data) else { return };
    if let Err(errors) = Settings::parse(&Source::new("ward.toml", text)) {
        assert!(
            !errors.is_empty() && errors.iter().all(|error| error.place.line >= 1 && !error.to_string().is_empty())
        );
    }
}

/// The body of a request to the desk, and of an answer of one: base64, a request or certificates.
///
/// # Panics
/// If something does not hold.
pub fn est_body(data: &[u8]) {
    let Some(der) = est::decoded(data) else { return };
    assert_eq!(est::decoded(est::encoded(&der).as_bytes()).as_ref(), Some(&der), "what is written reads back");
    if let Ok(request) = Request::parse(&der) {
        let facts = request.facts();
        assert!(facts.iter().all(|(name, fact)| fact.name() == name && *name != FactName::Ek));
        let _ = request.verify_possession();
    }
    if let Some(all) = est::certificates(&der) {
        let parts: Vec<&[u8]> = all.iter().map(Vec::as_slice).collect();
        let again = est::certificates(&est::certs_only(&parts)).map(|again| again.len());
        assert_eq!(again, Some(all.len()), "as many as were read");
    }
}

/// The head of a request over HTTP: whatever is let through, the library behind it reads as the same request.
///
/// # Panics
/// If something does not hold.
pub fn http_head(data: &[u8]) {
    let Ok(framing) = strict::check(data) else { return };
    let mut fields = [httparse::EMPTY_HEADER; 256];
    let mut read = httparse::Request::new(&mut fields);
    let end = match read.parse(data) {
        Ok(httparse::Status::Complete(end)) => end,
        Ok(httparse::Status::Partial) => panic!("it is let through and has no end"),
        // It may be stricter.
        Err(_) => return,
    };
    assert_eq!(end, data.len(), "both find the same end");
    let of = |name: &str| read.headers.iter().filter(|field| field.name.eq_ignore_ascii_case(name)).collect::<Vec<_>>();
    assert!(of("host").len() == 1 || (of("host").is_empty() && read.version == Some(0)));
    let lengths = of("content-length");
    match framing {
        strict::Framing::Chunked => assert!(lengths.is_empty() && of("transfer-encoding").len() == 1),
        strict::Framing::Length(length) => {
            assert!(of("transfer-encoding").is_empty() && lengths.len() <= 1);
            let said = lengths.first().and_then(|field| std::str::from_utf8(field.value).ok()?.trim().parse().ok());
            assert_eq!(said.unwrap_or(0), length);
        }
    }
}
