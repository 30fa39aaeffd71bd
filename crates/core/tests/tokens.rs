//! Tokens, whole, forged and damaged: who signed one is decided before anything that it says.

#![expect(clippy::unwrap_used, reason = "tests fail by panicking")]

use aws_lc_rs::rand::SystemRandom;
use aws_lc_rs::signature::{ECDSA_P256_SHA256_FIXED_SIGNING, EcdsaKeyPair};
use data_encoding::BASE64URL_NOPAD;
use proptest::prelude::*;
use tidy_warden_core::key::{NewKey, PublicKey, Signer, SoftwareKey};
use tidy_warden_core::time::UnixTime;
use tidy_warden_core::token::{BadToken, MAX_LEN, Parties, key_name, read, verify};

const NOW: UnixTime = UnixTime(1_795_417_333);

/// The ward's key, as its tokens are checked with it and as somebody who has stolen it would use it.
struct Ward {
    public: PublicKey,
    pair: EcdsaKeyPair,
}

fn ward() -> Ward {
    let key = SoftwareKey::generate(NewKey::P256).unwrap();
    let pair = EcdsaKeyPair::from_pkcs8(&ECDSA_P256_SHA256_FIXED_SIGNING, &key.to_pkcs8().unwrap()).unwrap();
    Ward { public: key.public_key().clone(), pair }
}

fn parties() -> Parties {
    Parties { issuer: "urn:uuid:1".into(), audience: "mqtts://localhost:8883".into() }
}

fn claims(iat: i64, nbf: i64, exp: i64) -> String {
    serde_json::json!({
        "iss": "urn:uuid:1", "sub": "wv-1", "aud": "mqtts://localhost:8883", "iat": iat, "nbf": nbf, "exp": exp, "jti": "1"
    })
    .to_string()
}

impl Ward {
    fn signed(&self, header: &str, claims: &str) -> String {
        let text =
            format!("{}.{}", BASE64URL_NOPAD.encode(header.as_bytes()), BASE64URL_NOPAD.encode(claims.as_bytes()));
        let signature = self.pair.sign(&SystemRandom::new(), text.as_bytes()).unwrap();
        format!("{text}.{}", BASE64URL_NOPAD.encode(signature.as_ref()))
    }

    fn verdict(&self, token: &str, now: UnixTime) -> Result<(), BadToken> {
        verify(token, &self.public, &parties(), now).map(|_| ())
    }
}

const ES256: &str = r#"{"alg":"ES256","typ":"JWT"}"#;

#[test]
fn a_second_implementation_of_signing_is_taken_and_no_character_can_be_another() {
    let ward = ward();
    let token = ward.signed(ES256, &claims(NOW.0, NOW.0, NOW.0 + 60));
    assert_eq!(ward.verdict(&token, NOW), Ok(()));
    for at in 0..token.len() {
        for put in ["A", "_", ".", "=", " ", "\n"] {
            let changed = format!("{}{put}{}", &token[..at], &token[at + 1..]);
            if changed != token {
                assert!(ward.verdict(&changed, NOW).is_err(), "{put:?} at {at}");
            }
        }
        let without = format!("{}{}", &token[..at], &token[at + 1..]);
        assert!(ward.verdict(&without, NOW).is_err(), "without the character at {at}");
    }
    for more in ["=", "A", ".", "\n", " "] {
        assert!(ward.verdict(&format!("{token}{more}"), NOW).is_err(), "{more:?} behind it");
        assert!(ward.verdict(&format!("{more}{token}"), NOW).is_err(), "{more:?} before it");
    }
}

#[test]
fn times_at_the_ends_of_their_range_are_times() {
    let ward = ward();
    let verdict = |iat, nbf, exp, now| ward.verdict(&ward.signed(ES256, &claims(iat, nbf, exp)), UnixTime(now));
    assert_eq!(verdict(NOW.0, NOW.0, i64::MAX, NOW.0), Ok(()));
    assert!(matches!(verdict(NOW.0, NOW.0, i64::MIN, NOW.0), Err(BadToken::Ended { .. })));
    assert!(matches!(verdict(i64::MAX, NOW.0, i64::MAX, NOW.0), Err(BadToken::NotYet { .. })));
    assert!(matches!(verdict(NOW.0, i64::MAX, i64::MAX, NOW.0), Err(BadToken::NotYet { .. })));
    assert!(
        matches!(verdict(i64::MIN, i64::MIN, i64::MAX, i64::MAX), Err(BadToken::Ended { .. })),
        "a clock at its end"
    );
    assert_eq!(verdict(NOW.0 + 60, NOW.0 + 60, NOW.0 + 61, NOW.0), Ok(()), "clocks may differ by a minute");
    assert!(matches!(verdict(NOW.0 + 61, NOW.0, NOW.0 + 99, NOW.0), Err(BadToken::NotYet { .. })));
    // An end is a whole second in the range of the clock, or the token says none.
    for end in ["1e30", "99999999999999999999", "1795417393.5", "\"1795417393\"", "null", "true"] {
        let token = ward.signed(ES256, &claims(NOW.0, NOW.0, 7).replace(":7", &format!(":{end}")));
        assert!(matches!(ward.verdict(&token, NOW), Err(BadToken::Malformed { .. })), "{end}");
    }
}

#[test]
fn a_token_that_says_a_thing_twice_or_wants_more_than_is_understood_is_refused() {
    let ward = ward();
    let good = claims(NOW.0, NOW.0, NOW.0 + 60);
    let twice = good.replace("\"sub\":\"wv-1\"", "\"sub\":\"wv-1\",\"sub\":\"wv-2\"");
    assert!(matches!(ward.verdict(&ward.signed(ES256, &twice), NOW), Err(BadToken::Malformed { .. })));
    let array = format!(r#"["urn:uuid:1","wv-1","mqtts://localhost:8883",{0},{0},{1},"1"]"#, NOW.0, NOW.0 + 60);
    assert!(matches!(ward.verdict(&ward.signed(ES256, &array), NOW), Err(BadToken::Malformed { .. })), "no object");
    for header in [
        r#"{"alg":"ES256","alg":"none"}"#,
        r#"{"typ":"JWT"}"#,
        r#"{"alg":["ES256"]}"#,
        r#"["ES256"]"#,
        "{}",
        "",
        r#"{"alg":"ES256"} "x""#,
    ] {
        assert!(matches!(ward.verdict(&ward.signed(header, &good), NOW), Err(BadToken::Malformed { .. })), "{header}");
    }
    for alg in ["none", "None", "es256", "HS256", "ES384", "EdDSA", ""] {
        let header = serde_json::json!({ "alg": alg }).to_string();
        assert_eq!(ward.verdict(&ward.signed(&header, &good), NOW), Err(BadToken::Algorithm { alg: alg.into() }));
    }
    let crit = r#"{"alg":"ES256","b64":false,"crit":["b64"]}"#;
    assert_eq!(ward.verdict(&ward.signed(crit, &good), NOW), Err(BadToken::Critical));
    let long = claims(NOW.0, NOW.0, NOW.0 + 60).replace("wv-1", &"w".repeat(MAX_LEN));
    assert_eq!(ward.verdict(&ward.signed(ES256, &long), NOW), Err(BadToken::TooLong));
}

#[test]
fn only_a_key_on_p256_signs_tokens_and_its_name_is_its_own() {
    let ward = ward();
    let token = ward.signed(ES256, &claims(NOW.0, NOW.0, NOW.0 + 60));
    for new in [NewKey::P384, NewKey::Ed25519, NewKey::MlDsa65] {
        let key = SoftwareKey::generate(new).unwrap();
        assert_eq!(key_name(key.public_key()), None);
        assert_eq!(verify(&token, key.public_key(), &parties(), NOW), Err(BadToken::Signature));
    }
    // RFC 7638 section 3.1 has an example for RSA only; this key is that of RFC 7517 appendix A.1, hashed by openssl.
    let jwk = r#"{"kty":"EC","crv":"P-256","x":"MKBCTNIcKUSDii11ySs3526iDZ8AiTo7Tu6KPAqv7D4","y":"4Etl6SRW2YiLUrN5vfvVHuhp7x8PxltmWWlbbM4IFyM"}"#;
    let name = key_name(&PublicKey::from_jwk(jwk).unwrap());
    assert_eq!(name.as_deref(), Some("cn-I_WNMClehiVp51i_0VpOENW1upEerA8sEam5hn-s"));
    assert_ne!(key_name(&ward.public), name);
}

proptest! {
    #[test]
    fn whatever_is_signed_is_read_as_it_was_signed_or_refused(
        iss in "urn:uuid:[12]", sub in "[a-zA-Z0-9/#+.-]{0,12}", aud in "mqtts://localhost:888[34]",
        begins in -120i64..120, lasts in -120i64..240, more in prop::option::of("[a-z]{1,8}"),
    ) {
        let ward = ward();
        let mut value = serde_json::json!({
            "iss": iss, "sub": sub, "aud": aud, "iat": NOW.0 + begins, "nbf": NOW.0 + begins, "exp": NOW.0 + begins + lasts, "jti": "x"
        });
        if let Some(more) = more.filter(|name| value.get(name).is_none()) {
            value[more] = "what is not known is passed over".into();
        }
        let token = ward.signed(ES256, &value.to_string());
        let good = iss == parties().issuer && aud == parties().audience && begins <= 60 && begins + lasts > 0
            && sub.parse::<tidy_warden_core::id::DeviceId>().is_ok();
        match verify(&token, &ward.public, &parties(), NOW) {
            Ok(verified) => {
                prop_assert!(good, "{value}");
                prop_assert_eq!((verified.device.as_str(), verified.ends.0), (sub.as_str(), NOW.0 + begins + lasts));
            }
            Err(why) => prop_assert!(!good, "{value}: {why}"),
        }
        // Reading shows the same to a person, signed by whomever.
        prop_assert_eq!(read(&token).unwrap().sub, sub);
    }

    #[test]
    fn no_text_makes_the_reader_fail_badly(text in "[ -~.]{0,80}|[A-Za-z0-9_-]{0,40}\\.[A-Za-z0-9_-]{0,40}\\.[A-Za-z0-9_-]{0,90}") {
        let _ = read(&text);
    }
}
