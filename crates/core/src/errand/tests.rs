use proptest::prelude::*;

use super::*;
use crate::certificate::tests_support::{NOW, Root};
use crate::certificate::{Certificate, ChainError, Usage};
use crate::key::{KeyType, NewKey, PublicKey, Signer, SoftwareKey};
use crate::time::Span;

const WARD: &str = "urn:uuid:0b5e1c26-5a7b-4e0e-9f3c-2f7a8e4d1c00";

fn errand(purpose: Purpose) -> Errand {
    Errand {
        number: 7,
        device: "wv-0417".parse().unwrap(),
        purpose,
        detail: r#"{"slow":true}"#.to_owned(),
        nonce: [9; 16],
        sent: NOW,
        ends: NOW.plus(Span::from_days(1)),
    }
}

fn written(errand: &Errand, certificate: &Certificate, key: &SoftwareKey) -> String {
    let signature = sign(errand, WARD, &[certificate], key).unwrap();
    whole(errand, WARD, &[certificate], &signature).unwrap()
}

#[test]
fn a_device_does_what_its_ward_signed_for_it_and_nothing_else() {
    let world = Root::new();
    let key = SoftwareKey::generate(NewKey::P256).unwrap();
    let certificate = world.sign(&key, Usage::Errands);
    let asked = errand(Purpose::Restart);
    let text = written(&asked, &certificate, &key);
    let roots = [world.root.clone()];
    let at = |text: &str, device: &str, ward, now| read(text, &device.parse().unwrap(), &roots, ward, now);
    let taken = at(&text, "wv-0417", Some(WARD), NOW).unwrap();
    assert_eq!((taken.errand, taken.ward.as_str()), (asked.clone(), WARD));
    assert_eq!(at(&text, "wv-0417", None, NOW).map(|read| read.errand), Ok(asked.clone()), "it need not know its ward");

    assert_eq!(at(&text, "wv-0418", None, NOW), Err(BadErrand::OtherDevice { found: "wv-0417".into() }));
    assert_eq!(at(&text, "wv-0417", Some("urn:other"), NOW), Err(BadErrand::OtherWard));
    let ends = asked.ends;
    assert_eq!(at(&text, "wv-0417", None, ends).map(|_| ()), Ok(()), "its last second counts");
    assert_eq!(at(&text, "wv-0417", None, UnixTime(ends.0 + 1)), Err(BadErrand::Ended { ends }));
    assert_eq!(at(&text, "wv-0417", None, UnixTime(NOW.0 - 301)), Err(BadErrand::NotYet { sent: NOW }));

    // Each octet counts.
    for place in (0..text.len()).step_by(7) {
        let mut other = text.clone().into_bytes();
        other[place] = if other[place] == b'A' { b'B' } else { b'A' };
        let other = String::from_utf8(other).unwrap();
        assert!(other == text || at(&other, "wv-0417", None, NOW).is_err(), "changed at {place}");
    }
    // A key of the ward's that is for something else signs no errands, whatever it is for.
    for usage in [Usage::Client, Usage::Server, Usage::ClientAndServer, Usage::UNLIMITED] {
        let other = world.sign(&key, usage);
        let refused = at(&written(&asked, &other, &key), "wv-0417", None, NOW);
        assert!(matches!(refused, Err(BadErrand::Signer(ChainError::Purpose { .. }))), "{usage:?}: {refused:?}");
    }
    // Nor does anybody else's, or the right certificate without its key.
    let stranger = Root::new();
    let foreign = written(&asked, &stranger.sign(&key, Usage::Errands), &key);
    assert!(matches!(at(&foreign, "wv-0417", None, NOW), Err(BadErrand::Signer(_))));
    let thief = SoftwareKey::generate(NewKey::P256).unwrap();
    assert_eq!(at(&written(&asked, &certificate, &thief), "wv-0417", None, NOW), Err(BadErrand::Signature));
}

#[test]
fn an_errand_is_no_client_and_no_server() {
    let world = Root::new();
    let key = SoftwareKey::generate(NewKey::P256).unwrap();
    let certificate = world.sign(&key, Usage::Errands);
    for purpose in [crate::certificate::Purpose::Client, crate::certificate::Purpose::Server] {
        assert!(crate::certificate::judge(&certificate, &[], std::slice::from_ref(&world.root), purpose, NOW).is_err());
    }
}

fn done(text: &str) -> Answer {
    Answer::Done(Some(text.to_owned()))
}

#[test]
fn an_answer_is_bound_to_its_errand() {
    let asked = errand(Purpose::Report);
    let read = |text: &str| Answer::read(text, &asked, WARD, &[]);
    let result: Box<serde_json::value::RawValue> = serde_json::from_str(r#"{"wind":7.5}"#).unwrap();
    let text = answer_text(7, Outcome::Done, None, Some(&result));
    assert_eq!((text.as_str(), number_of(&text)), (r#"{"errand":7,"outcome":"done","result":{"wind":7.5}}"#, Ok(7)));
    assert_eq!(read(&text), Ok(done(r#"{"wind":7.5}"#)));
    assert_eq!(read(&answer_text(7, Outcome::Done, None, None)), Ok(Answer::Done(None)));
    assert_eq!(read(&answer_text(8, Outcome::Done, None, None)), Err(BadAnswer::Other { found: 8 }));
    let refused = answer_text(7, Outcome::Refused, Some("the line\nis busy"), None);
    assert_eq!(read(&refused), Ok(Answer::Refused("the lineis busy".into())), "no control characters reach a terminal");
    for bad in [
        "",
        "done",
        "{}",
        r#"{"errand":7}"#,
        r#"{"errand":7,"outcome":"done","errand":8}"#,
        r#"{"errand":7,"outcome":"done","more":1}"#,
        r#"{"errand":7,"outcome":"done","result":[1]}"#,
        r#"{"errand":"7","outcome":"done"}"#,
        "a.b.c",
    ] {
        assert!(matches!(read(bad), Err(BadAnswer::Form(_))), "{bad}");
    }
    let large = format!(r#"{{"errand":7,"outcome":"done","result":{{"a":"{}"}}}}"#, "x".repeat(5000));
    assert_eq!(read(&large), Err(BadAnswer::Form("its result is too long")));
    assert_eq!(read(&"{".repeat(MAX_ANSWER + 1)), Err(BadAnswer::Form("it is too long")));
}

#[test]
fn a_certificate_is_given_only_for_what_the_devices_own_key_signed_for_this_errand() {
    for new in [NewKey::P256, NewKey::P384, NewKey::Ed25519] {
        let key = SoftwareKey::generate(new).unwrap();
        let own = [key.public_key().clone()];
        let asked = errand(Purpose::Renew);
        let text = renewal_text(&asked, WARD, b"csr", &key).unwrap();
        assert_eq!(number_of(&text), Ok(7));
        let read = |text: &str, asked: &Errand, keys: &[PublicKey]| Answer::read(text, asked, WARD, keys);
        assert_eq!(read(&text, &asked, &own), Ok(Answer::Renewal(Renewal { csr: b"csr".to_vec() })));
        let other = SoftwareKey::generate(new).unwrap().public_key().clone();
        assert_eq!(read(&text, &asked, &[other]), Err(BadAnswer::Unsigned));
        assert_eq!(read(&text, &asked, &[]), Err(BadAnswer::Unsigned), "a device without a certificate has no key");
        let unsigned = r#"{"errand":7,"outcome":"done","csr":"Y3Ny"}"#;
        assert_eq!(read(unsigned, &asked, &own), Err(BadAnswer::Unsigned), "a session proves nothing here");
        // What was signed for one errand answers no other, however alike: the nonce is what nobody could know.
        assert_eq!(
            read(&text, &Errand { nonce: [8; 16], ..asked.clone() }, &own),
            Err(BadAnswer::Unbound("its nonce is not the errand's"))
        );
        let others = Errand { device: "wv-0418".parse().unwrap(), ..asked.clone() };
        assert_eq!(read(&text, &others, &own), Err(BadAnswer::Unbound("its iss is not the device")));
        assert_eq!(Answer::read(&text, &asked, "urn:other", &own), Err(BadAnswer::Unbound("its aud is not the ward")));
        let restart = errand(Purpose::Restart);
        assert!(matches!(read(&text, &restart, &own), Err(BadAnswer::Meaning(_))));
        // A token of the device is no answer, and an answer is no errand.
        assert!(matches!(super::read(&text, &asked.device, &[], None, NOW), Err(BadErrand::Type { .. })));
    }
    assert!(crate::token::algorithms(KeyType::MlDsa65).is_empty(), "a key that signs no JWS renews at the desk");
}

#[test]
fn topics_of_the_wards_own_are_told_from_all_others() {
    let reserved = Reserved::default();
    let (gateway, child) = ("st-ossel-top".parse().unwrap(), "cb-0412".parse().unwrap());
    assert_eq!(reserved.errand(&gateway, &child), "$ward/st-ossel-top/errand/cb-0412");
    assert_eq!(
        reserved.place(&reserved.answer(&gateway, &child)),
        Some(Place::Answer { receiver: "st-ossel-top", device: "cb-0412" })
    );
    for (topic, place) in [
        ("$ward", Some(Place::Nothing)),
        ("$ward/", Some(Place::Nothing)),
        ("$ward/a/errand", Some(Place::Nothing)),
        ("$ward/a/errand/b/c", Some(Place::Nothing)),
        ("$ward/a/answers/b", Some(Place::Nothing)),
        ("$ward/a/claim-window", Some(Place::Window { device: "a" })),
        ("$ward/a/claim-window/b", Some(Place::Nothing)),
        ("$wards/a/errand/b", None),
        ("rope/$ward/a", None),
    ] {
        assert_eq!(reserved.place(topic), place, "{topic}");
    }
    for (filter, asks) in [
        ("$ward/a/errand/+", Some(true)),
        ("$ward/a/errand/a", Some(true)),
        ("$ward/b/errand/+", Some(false)),
        ("$ward/+/errand/+", Some(false)),
        ("$ward/#", Some(false)),
        ("$ward/a/#", Some(false)),
        ("$ward/a/answer/+", Some(false)),
        ("#", None),
        ("+/a/errand/a", None),
    ] {
        assert_eq!(reserved.asks_for(filter, "a"), asks, "{filter}");
    }
    for bad in ["", "/", "a/", "/a", "a//b", "a/+", "#", "$share/a", &"x".repeat(65)] {
        assert_eq!(Reserved::new(bad), Err(BadPrefix), "{bad}");
    }
    assert_eq!(Reserved::new("fleet/ward").map(|reserved| reserved.filter("a")), Ok("fleet/ward/a/errand/+".into()));
}

#[test]
fn what_is_not_answered_is_told_again_ever_more_seldom() {
    let waits: Vec<i64> = (1..=12).map(|tries| wait_after(tries).seconds()).collect();
    assert_eq!(waits[..5], [15, 30, 60, 120, 240]);
    assert!(waits.iter().all(|wait| *wait <= 3600) && waits[11] == 3600);
    assert_eq!(wait_after(u32::MAX).seconds(), 3600);
}

proptest! {
    #[test]
    fn no_text_makes_it_panic(text in "[\\x20-\\x7e]{0,200}", dots in "[A-Za-z0-9_-]{0,60}\\.[A-Za-z0-9_-]{0,60}\\.[A-Za-z0-9_-]{0,60}") {
        for text in [text, dots] {
            let _ = number_of(&text);
            let answer = Answer::read(&text, &errand(Purpose::Renew), WARD, &[]);
            prop_assert!(!matches!(answer, Ok(Answer::Renewal(_))));
            prop_assert!(read(&text, &"wv-0417".parse().unwrap(), &[], None, NOW).is_err());
        }
    }
}
