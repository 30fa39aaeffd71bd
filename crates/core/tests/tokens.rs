//! Tokens, whole, forged and damaged: who signed one is decided before anything that it says.

#![expect(clippy::unwrap_used, reason = "tests fail by panicking")]

use aws_lc_rs::rand::SystemRandom;
use aws_lc_rs::signature::{ECDSA_P256_SHA256_FIXED_SIGNING, EcdsaKeyPair};
use data_encoding::{BASE64URL_NOPAD, HEXLOWER};
use proptest::prelude::*;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::key::{NewKey, PublicKey, Signer, SoftwareKey, thumbprint};
use tidy_warden_core::random::Randomness;
use tidy_warden_core::shared::SharedKey;
use tidy_warden_core::time::{Span, UnixTime};
use tidy_warden_core::token::{
    BadToken, Bound, Claims, Form, MAX_LEN, Maker, Presented, Scope, Terms, TokenKey, TokenName, TokenSigner,
    Unverified, VerifiedToken, sign,
};

const NOW: UnixTime = UnixTime(1_795_417_333);
const URN: &str = "urn:uuid:1";
const AUDIENCE: &str = "mqtts://localhost:8883";
const SKEW: Span = Span::from_seconds(30);

struct Drawn;

impl Randomness for Drawn {
    fn fill(&mut self, bytes: &mut [u8]) {
        aws_lc_rs::rand::fill(bytes).unwrap();
    }
}

fn terms(now: UnixTime) -> Terms<'static> {
    Terms { audience: AUDIENCE, now, skew: SKEW }
}

/// A key on P-256, as tokens are checked with it and as somebody who has stolen it would use it.
struct Key {
    public: PublicKey,
    pair: EcdsaKeyPair,
}

fn key() -> Key {
    let key = SoftwareKey::generate(NewKey::P256).unwrap();
    let pair = EcdsaKeyPair::from_pkcs8(&ECDSA_P256_SHA256_FIXED_SIGNING, &key.to_pkcs8().unwrap()).unwrap();
    Key { public: key.public_key().clone(), pair }
}

fn claims(iat: i64, nbf: i64, exp: i64) -> String {
    serde_json::json!({ "iss": URN, "sub": "ts-1", "aud": AUDIENCE, "iat": iat, "nbf": nbf, "exp": exp, "jti": "1" })
        .to_string()
}

fn good() -> String {
    claims(NOW.0, NOW.0, NOW.0 + 60)
}

fn encoded(header: &str, claims: &str) -> String {
    format!("{}.{}", BASE64URL_NOPAD.encode(header.as_bytes()), BASE64URL_NOPAD.encode(claims.as_bytes()))
}

impl Key {
    fn signed(&self, header: &str, claims: &str) -> String {
        let text = encoded(header, claims);
        let signature = self.pair.sign(&SystemRandom::new(), text.as_bytes()).unwrap();
        format!("{text}.{}", BASE64URL_NOPAD.encode(signature.as_ref()))
    }

    fn judged(&self, token: &[u8], now: UnixTime) -> Result<VerifiedToken, BadToken> {
        Unverified::read(token)?.verify((TokenKey::Public(&self.public), "k"), Maker::Ward { issuer: URN }, terms(now))
    }

    fn verdict(&self, token: &str, now: UnixTime) -> Result<(), BadToken> {
        self.judged(token.as_bytes(), now).map(|_| ())
    }
}

const ES256: &str = r#"{"alg":"ES256","typ":"device+jwt"}"#;

#[test]
fn a_second_implementation_of_signing_is_taken_and_no_character_can_be_another() {
    let ward = key();
    let token = ward.signed(ES256, &good());
    assert_eq!(ward.verdict(&token, NOW), Ok(()));
    for at in 0..token.len() {
        for put in ["A", "_", ".", "=", " ", "\n", "+", "\u{7f}"] {
            let changed = format!("{}{put}{}", &token[..at], &token[at + 1..]);
            if changed != token {
                assert!(ward.verdict(&changed, NOW).is_err(), "{put:?} at {at}");
            }
        }
        let without = format!("{}{}", &token[..at], &token[at + 1..]);
        assert!(ward.verdict(&without, NOW).is_err(), "without the character at {at}");
    }
    for more in ["=", "A", ".", "\n", " ", ".A", "==", "\u{feff}"] {
        assert!(ward.verdict(&format!("{token}{more}"), NOW).is_err(), "{more:?} behind it");
        assert!(ward.verdict(&format!("{more}{token}"), NOW).is_err(), "{more:?} before it");
    }
}

#[test]
fn times_are_whole_seconds_and_clocks_may_differ_a_little() {
    let ward = key();
    let verdict = |iat, nbf, exp, now| ward.verdict(&ward.signed(ES256, &claims(iat, nbf, exp)), UnixTime(now));
    assert_eq!(verdict(NOW.0, NOW.0, NOW.0 + 1, NOW.0), Ok(()));
    assert_eq!(verdict(NOW.0, NOW.0, NOW.0, NOW.0), Err(BadToken::Ended { exp: NOW }), "refused from that second on");
    assert_eq!(verdict(NOW.0 + 30, NOW.0 + 30, NOW.0 + 61, NOW.0), Ok(()));
    assert_eq!(verdict(NOW.0 + 31, NOW.0, NOW.0 + 99, NOW.0), Err(BadToken::NotYet { nbf: UnixTime(NOW.0 + 31) }));
    assert_eq!(verdict(NOW.0, NOW.0 + 31, NOW.0 + 99, NOW.0), Err(BadToken::NotYet { nbf: UnixTime(NOW.0 + 31) }));
    assert!(matches!(verdict(0, 0, 253_402_300_799, i64::MAX), Err(BadToken::Ended { .. })), "a clock at its end");
    for (name, seconds) in [("iat", "7"), ("nbf", "8"), ("exp", "9")] {
        let base = claims(7, 8, 9);
        for bad in [
            "1e30",
            "99999999999999999999",
            "1795417393.5",
            "1.0",
            "-1",
            "\"1795417393\"",
            "null",
            "true",
            "[1]",
            "253402300800",
        ] {
            let changed = base.replace(&format!("\"{name}\":{seconds}"), &format!("\"{name}\":{bad}"));
            assert_ne!(changed, base);
            let verdict = ward.verdict(&ward.signed(ES256, &changed), NOW);
            assert!(matches!(verdict, Err(BadToken::Malformed { .. })), "{name} {bad}: {verdict:?}");
        }
    }
    for missing in ["exp", "iat", "sub"] {
        let mut value: serde_json::Value = serde_json::from_str(&good()).unwrap();
        value.as_object_mut().unwrap().remove(missing);
        let verdict = ward.verdict(&ward.signed(ES256, &value.to_string()), NOW);
        assert!(matches!(verdict, Err(BadToken::Malformed { .. })), "without {missing}: {verdict:?}");
    }
    let ward_token = ward.judged(ward.signed(ES256, &good()).as_bytes(), NOW).unwrap();
    assert_eq!(ward_token.check_life(Span::from_seconds(60)), Ok(()));
    assert!(matches!(ward_token.check_life(Span::from_seconds(59)), Err(BadToken::TooLongLived { .. })));
}

#[test]
fn what_can_be_read_in_two_ways_or_wants_more_than_is_understood_is_refused() {
    let ward = key();
    let malformed = |header: &str, claims: &str| {
        let verdict = ward.verdict(&ward.signed(header, claims), NOW);
        assert!(matches!(verdict, Err(BadToken::Malformed { .. })), "{header} {claims}: {verdict:?}");
    };
    malformed(ES256, &good().replace("\"sub\":\"ts-1\"", "\"sub\":\"ts-1\",\"sub\":\"ts-2\""));
    malformed(ES256, &good().replace("\"jti\"", "\"s\\u0075b\":\"ts-2\",\"jti\""));
    malformed(ES256, &format!("[{}]", good()));
    malformed(ES256, &format!("\u{feff}{}", good()));
    malformed(ES256, &format!("{} {{}}", good()));
    malformed(ES256, &good().replace("\"1\"", &format!("{}1{}", "[".repeat(40), "]".repeat(40))));
    malformed(ES256, &good().replace("\"1\"", "7"));
    for header in [
        r#"{"alg":"ES256","alg":"none","typ":"device+jwt"}"#,
        r#"{"typ":"device+jwt"}"#,
        r#"{"alg":["ES256"],"typ":"device+jwt"}"#,
        r#"["ES256"]"#,
        "{}",
        "",
        r#"{"alg":"ES256"} "x""#,
        r#"{"alg":"ES256","typ":"device+jwt","kid":7}"#,
        r#"{"alg":"ES256","typ":"device+jwt","b64":false}"#,
        r#"{"alg":"ES256","typ":"device+jwt","zip":"DEF"}"#,
    ] {
        malformed(header, &good());
    }
    for alg in ["none", "None", "NONE", "es256", "HS256", "ES384", "EdDSA", "RS256", "PS256", "ES512", ""] {
        let header = serde_json::json!({ "alg": alg, "typ": "device+jwt" }).to_string();
        assert_eq!(ward.verdict(&ward.signed(&header, &good()), NOW), Err(BadToken::Algorithm { alg: alg.into() }));
    }
    for crit in [r#"["exp"]"#, "[]", "null", r#"["b64"]"#] {
        let header = format!(r#"{{"alg":"ES256","typ":"device+jwt","crit":{crit}}}"#);
        assert_eq!(ward.verdict(&ward.signed(&header, &good()), NOW), Err(BadToken::Critical), "{crit}");
    }
    for member in ["jwk", "jku", "x5u", "x5c", "x5t", "x5t#S256"] {
        let header = format!(r#"{{"alg":"ES256","typ":"device+jwt","{member}":"https://localhost/"}}"#);
        assert_eq!(ward.verdict(&ward.signed(&header, &good()), NOW), Err(BadToken::ForeignKey), "{member}");
    }
    let long = good().replace("ts-1", &"w".repeat(MAX_LEN));
    assert_eq!(ward.verdict(&ward.signed(ES256, &long), NOW), Err(BadToken::TooLong));
    for typ in ["JWT", "at+jwt", "owner+jwt", "device+cwt", "", "xdevice+jwt"] {
        let header = serde_json::json!({ "alg": "ES256", "typ": typ }).to_string();
        let verdict = ward.verdict(&ward.signed(&header, &good()), NOW);
        assert!(matches!(verdict, Err(BadToken::Type { .. })), "{typ}: {verdict:?}");
    }
    assert!(matches!(ward.verdict(&ward.signed(r#"{"alg":"ES256"}"#, &good()), NOW), Err(BadToken::Type { .. })));
    for typ in ["application/device+jwt", "DEVICE+JWT"] {
        let header = serde_json::json!({ "alg": "ES256", "typ": typ }).to_string();
        assert_eq!(ward.verdict(&ward.signed(&header, &good()), NOW), Ok(()), "{typ}");
    }
}

/// RFC 8725 section 2.1: whoever takes the algorithm from the token takes a public key's octets as an HMAC key.
#[test]
fn a_public_keys_octets_are_no_shared_key() {
    let ward = key();
    let jwk = format!("{{\"x\":\"{}\"}}", thumbprint(&ward.public).unwrap());
    let pem = format!("-----BEGIN PUBLIC KEY-----\n{}", data_encoding::BASE64.encode(ward.public.spki()));
    for secret in [ward.public.spki(), ward.public.point().unwrap(), jwk.as_bytes(), pem.as_bytes()] {
        let hmac = aws_lc_rs::hmac::Key::new(aws_lc_rs::hmac::HMAC_SHA256, secret);
        let text = encoded(r#"{"alg":"HS256","typ":"device+jwt"}"#, &good());
        let tag = BASE64URL_NOPAD.encode(aws_lc_rs::hmac::sign(&hmac, text.as_bytes()).as_ref());
        assert_eq!(
            ward.verdict(&format!("{text}.{tag}"), NOW),
            Err(BadToken::Algorithm { alg: "HS256".into() }),
            "a MAC under what everybody can read"
        );
    }
    // And the other way: a signature where a MAC is due.
    let shared = SharedKey::generate(&mut Drawn);
    let token = ward.signed(ES256, &good());
    let verdict = Unverified::read(token.as_bytes()).unwrap().verify(
        (TokenKey::Shared(&shared), "k"),
        Maker::Ward { issuer: URN },
        terms(NOW),
    );
    assert_eq!(verdict, Err(BadToken::Algorithm { alg: "ES256".into() }));
}

/// RFC 7518 section 3.4: 64 octets, r and s in the range of the curve's order; no DER, nothing shorter or longer.
#[test]
fn r_and_s_have_one_form_and_are_in_range() {
    let ward = key();
    let token = ward.signed(ES256, &good());
    let (text, signature) = token.rsplit_once('.').unwrap();
    let signature = BASE64URL_NOPAD.decode(signature.as_bytes()).unwrap();
    let order = HEXLOWER.decode(b"ffffffff00000000ffffffffffffffffbce6faada7179e84f3b9cac2fc632551").unwrap();
    let (r, s) = signature.split_at(32);
    let zero = [0; 32];
    for (what, changed) in [
        ("r of zero", [&zero, s].concat()),
        ("s of zero", [r, &zero].concat()),
        ("both of zero", vec![0; 64]),
        ("r of the order", [&order, s].concat()),
        ("s of the order", [r, &order].concat()),
        ("s too large", [r, &[0xff; 32]].concat()),
        ("DER", tidy_warden_core::key::ecdsa_signature(&signature)),
        ("short", signature[..63].to_vec()),
        ("long", [&signature[..], &[0]].concat()),
        ("padded", [&[0], r, &[0], s].concat()),
        ("nothing", Vec::new()),
    ] {
        let token = format!("{text}.{}", BASE64URL_NOPAD.encode(&changed));
        assert_eq!(ward.verdict(&token, NOW), Err(BadToken::Signature), "{what}");
    }
}

#[test]
fn a_token_has_one_form_in_base64url() {
    let ward = key();
    let token = ward.signed(ES256, &good());
    // The last character of a part whose length leaves bits over: another that differs in those alone decodes to the same octets where
    // a reader is lax.
    let alphabet = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-_";
    let (head, last) = token.split_at(token.len() - 1);
    let at = alphabet.find(last).unwrap();
    let mut taken = 0;
    for other in alphabet.chars() {
        taken += usize::from(ward.verdict(&format!("{head}{other}"), NOW).is_ok());
    }
    assert_eq!((taken, at % 16), (1, 0), "64 octets leave two characters for four bits");
}

#[test]
fn whose_key_it_is_says_for_whom_a_token_can_stand() {
    let own = key();
    let device: DeviceId = "ts-1".parse().unwrap();
    let judged = |claims: &serde_json::Value| {
        let token = own.signed(ES256, &claims.to_string());
        let read = Unverified::read(token.as_bytes()).unwrap();
        read.verify((TokenKey::Public(&own.public), "k-1"), Maker::Device(&device), terms(NOW))
    };
    let base = serde_json::json!({ "aud": [AUDIENCE, "others"], "iat": NOW.0, "exp": NOW.0 + 60 });
    let with = |name: &str, value: &str| {
        let mut claims = base.clone();
        claims[name] = value.into();
        judged(&claims)
    };
    let verified = judged(&base).unwrap();
    assert_eq!((verified.device.as_str(), verified.is_wards, verified.jti()), ("ts-1", false, None));
    assert_eq!(verified.name, TokenName::Digest(verified.block_name()), "without a name the digest of what was signed");
    assert!(with("sub", "ts-1").is_ok() && with("iss", "ts-1").is_ok());
    assert_eq!(with("sub", "ts-2"), Err(BadToken::OtherDevice), "a device's key stands for that device");
    assert!(matches!(with("iss", "ts-2"), Err(BadToken::Issuer { .. })));
    assert!(matches!(with("iss", URN), Err(BadToken::Issuer { .. })), "no device speaks as the ward");
    assert_eq!(with("sub", "ts/1"), Err(BadToken::Subject));
    assert!(matches!(with("aud", "mqtts://localhost:8884"), Err(BadToken::Audience { .. })));
    let none = serde_json::json!({ "iat": NOW.0, "exp": NOW.0 + 60 });
    assert!(matches!(judged(&none), Err(BadToken::Audience { .. })), "a token without aud is for nobody");
    // The ward's own key: its name must stand there, whatever else does.
    let wards = |claims: &serde_json::Value| own.judged(own.signed(ES256, &claims.to_string()).as_bytes(), NOW);
    assert!(matches!(wards(&base), Err(BadToken::Issuer { .. })));
}

fn everybody() -> Vec<SoftwareKey> {
    [NewKey::P256, NewKey::P384, NewKey::Ed25519, NewKey::Rsa3072]
        .into_iter()
        .map(|new| SoftwareKey::generate(new).unwrap())
        .collect()
}

fn whole(scope: Option<Scope>, bound: Option<Bound>) -> Claims {
    Claims {
        issuer: Some(URN.into()),
        subject: Some("ts-1".into()),
        audience: vec![AUDIENCE.into()],
        issued: Some(NOW),
        begins: Some(NOW),
        ends: Some(NOW.plus(Span::from_seconds(60))),
        id: Some("00112233445566778899aabbccddeeff".into()),
        bound,
        scope,
    }
}

#[test]
fn what_is_signed_reads_back_in_both_forms_with_every_key() {
    let shared = SharedKey::generate(&mut Drawn);
    let other = key();
    let scope = Scope::parse(["publish rope/ossel/ts-1/count", "connect as ts-1"]).unwrap();
    let claims = whole(Some(scope.clone()), Some(Bound::Key(other.public.clone())));
    let keys = everybody();
    let signers = keys.iter().map(|key| (TokenSigner::Private(key), TokenKey::Public(key.public_key())));
    for (signer, verifier) in signers.chain([(TokenSigner::Shared(&shared), TokenKey::Shared(&shared))]) {
        for form in [Form::Jwt, Form::Cwt] {
            let token = sign(form, &claims, signer, "k-1").unwrap();
            let read = Unverified::read(&token).unwrap();
            assert_eq!((read.form, &read.claims, read.kid.as_deref()), (form, &claims, Some("k-1")));
            let verify = |key, now| read.verify((key, "k-1"), Maker::Ward { issuer: URN }, terms(now));
            let verified = verify(verifier, NOW).unwrap();
            assert_eq!((verified.device.as_str(), verified.scope.as_deref()), ("ts-1", Some(&scope)));
            assert!(verify(TokenKey::Public(&other.public), NOW).is_err());
            assert!(matches!(verify(verifier, NOW.plus(Span::from_seconds(60))), Err(BadToken::Ended { .. })));
            // Whatever octet is another, it is another token, or none.
            for at in 0..token.len() {
                let mut changed = token.clone();
                changed[at] ^= 1;
                let verdict = Unverified::read(&changed)
                    .and_then(|read| read.verify((verifier, "k-1"), Maker::Ward { issuer: URN }, terms(NOW)));
                assert!(verdict.is_err(), "{form:?} {:?} octet {at}", signer.algorithm());
            }
        }
    }
}

#[test]
fn a_bound_token_opens_nothing_over_another_connection() {
    let (ward, own, other) = (SoftwareKey::generate(NewKey::P256).unwrap(), key(), key());
    let print = [7; 32];
    let shown = |key: &Key, fingerprint: [u8; 32], bound: &VerifiedToken| {
        bound.check_bound(Some(Presented { fingerprint: &fingerprint, key: &key.public }))
    };
    let name = thumbprint(&own.public).unwrap();
    for bound in [Bound::Certificate(print), Bound::Key(own.public.clone()), Bound::KeyName(name)] {
        for form in [Form::Jwt, Form::Cwt] {
            if (form, &bound) == (Form::Cwt, &Bound::Certificate(print)) {
                continue;
            }
            let token = sign(form, &whole(None, Some(bound.clone())), TokenSigner::Private(&ward), "k").unwrap();
            let read = Unverified::read(&token).unwrap();
            assert_eq!(read.claims.bound.as_ref(), Some(&bound));
            let key = TokenKey::Public(ward.public_key());
            let verified = read.verify((key, "k"), Maker::Ward { issuer: URN }, terms(NOW)).unwrap();
            assert_eq!(shown(&own, print, &verified), Ok(()));
            assert_eq!(verified.check_bound(None), Err(BadToken::NotBound), "{bound:?}");
            assert_eq!(shown(&other, [8; 32], &verified), Err(BadToken::NotBound), "{bound:?}");
        }
    }
    for cnf in [
        r#"{}"#,
        r#"{"jkt":"x"}"#,
        r#"{"x5t#S256":"AA"}"#,
        r#"{"kid":"a","jku":"b"}"#,
        r#"{"jwk":{"kty":"oct","k":"AA"}}"#,
        r#"7"#,
    ] {
        let text = good().replace("\"jti\":\"1\"", &format!("\"cnf\":{cnf}"));
        assert_eq!(other.verdict(&other.signed(ES256, &text), NOW), Err(BadToken::Confirmation), "{cnf}");
    }
}

/// RFC 7515 appendix A.1 (HS256) and A.3 (ES256), by their signatures.
#[test]
fn the_examples_of_rfc_7515_verify() {
    let claims = "eyJpc3MiOiJqb2UiLA0KICJleHAiOjEzMDA4MTkzODAsDQogImh0dHA6Ly9leGFtcGxlLmNvbS9pc19yb290Ijp0cnVlfQ";
    let hs256 =
        format!("eyJ0eXAiOiJKV1QiLA0KICJhbGciOiJIUzI1NiJ9.{claims}.dBjftJeZ4CVP-mB92K27uhbUJU1p1r_wW1gFWFOEjXk");
    let k =
        r#"{"kty":"oct","k":"AyM1SysPpbyDfgZld3umj1qzKObwVMkoqQ-EstJQLr_T-1qS0gZH75aKtMN3Yj0iPS4hcgUuTwjAzZr1Z9CAow"}"#;
    let shared = SharedKey::from_jwk(k).unwrap();
    let es256 = format!(
        "eyJhbGciOiJFUzI1NiJ9.{claims}.DtEhU3ljbEg8L38VWAfUAqOyKAM6-Xx-F4GawxaepmXFCgfTjDxw5djxLa8ISlSApmWQxfKTUJqPP3-Kg6NU1Q"
    );
    let jwk = r#"{"kty":"EC","crv":"P-256","x":"f83OJ3D2xF1Bg8vub9tLe1gHMzV76e8Tus9uPHvRVEU","y":"x_FEzRu9m36HLN_tue659LNpXW6pCyStikYjKIWI5a0"}"#;
    let public = PublicKey::from_jwk(jwk).unwrap();
    let keys = [(hs256, TokenKey::Shared(&shared)), (es256, TokenKey::Public(&public))];
    for (token, key) in keys {
        let read = Unverified::read(token.as_bytes()).unwrap();
        assert_eq!((read.claims.issuer.as_deref(), read.claims.ends), (Some("joe"), Some(UnixTime(1_300_819_380))));
        // The signature is good: what is refused is that it is no token for a device.
        let verdict = read.verify((key, "k"), Maker::Ward { issuer: "joe" }, terms(NOW));
        assert!(matches!(verdict, Err(BadToken::Type { .. })), "{verdict:?}");
        let forged = token.replace("eyJpc3MiOiJqb2Ui", "eyJpc3MiOiJqb2Yi");
        let verdict =
            Unverified::read(forged.as_bytes()).unwrap().verify((key, "k"), Maker::Ward { issuer: "joe" }, terms(NOW));
        assert_eq!(verdict, Err(BadToken::Signature));
    }
}

/// RFC 8392 appendix A.3 (COSE_Sign1 with ES256); HMAC 256/64, as in A.4, is not taken: its tag is too short for a credential.
#[test]
fn the_examples_of_rfc_8392_are_taken_apart() {
    let hex = |text: &str| HEXLOWER.decode(text.replace(['\n', ' '], "").as_bytes()).unwrap();
    let whole = hex(
        "d28443a10126a104524173796d6d657472696345434453413235365850a70175636f61703a2f2f61732e6578616d706c652e636f6d0265657269
         6b77037818636f61703a2f2f6c696768742e6578616d706c652e636f6d041a5612aeb0051a5610d9f0061a5610d9f007420b7158405427c1ff28
         d23fbad1f29c4c7c6a555e601d6fa29f9179bc3d7438bacaca5acd08c8d4d4f96131680c429a01f85951ecee743a52b9b63632c57209120e1c9e
         30",
    );
    assert!(Unverified::read(&whole[..whole.len() - 1]).is_err(), "cut off");
    let read = Unverified::read(&whole).unwrap();
    let claims = &read.claims;
    assert_eq!((claims.issuer.as_deref(), claims.subject.as_deref()), (Some("coap://as.example.com"), Some("erikw")));
    assert_eq!(claims.audience, ["coap://light.example.com"]);
    assert_eq!(
        (claims.ends, claims.begins, claims.issued),
        (Some(UnixTime(1_444_064_944)), Some(UnixTime(1_443_944_944)), Some(UnixTime(1_443_944_944)))
    );
    assert_eq!((claims.id.as_deref(), read.kid.as_deref()), (Some("0b71"), Some("AsymmetricECDSA256")));
    // Appendix A.2.3: the key.
    let coordinates = |text: &str| BASE64URL_NOPAD.encode(&hex(text));
    let jwk = format!(
        r#"{{"kty":"EC","crv":"P-256","x":"{}","y":"{}"}}"#,
        coordinates("143329cce7868e416927599cf65a34f3ce2ffda55a7eca69ed8919a394d42f0f"),
        coordinates("60f7f1a780d8a783bfb7a2dd6b2796e8128dbbcef9d3d168db9529971a36e7b9")
    );
    let public = PublicKey::from_jwk(&jwk).unwrap();
    let verdict = read.verify((TokenKey::Public(&public), "k"), Maker::Ward { issuer: "x" }, terms(NOW));
    assert!(matches!(verdict, Err(BadToken::Type { .. })), "its signature is good, its type is none: {verdict:?}");
    let maced = hex("d18443a10104a041a040");
    assert_eq!(Unverified::read(&maced), Err(BadToken::Algorithm { alg: "4".into() }));
}

#[test]
fn hostile_cwts_are_refused() {
    let own = SoftwareKey::generate(NewKey::P256).unwrap();
    let good = sign(Form::Cwt, &whole(None, None), TokenSigner::Private(&own), "k").unwrap();
    let hex = |text: &str| HEXLOWER.decode(text.as_bytes()).unwrap();
    assert!(Unverified::read(&good).is_ok());
    for (what, token) in [
        ("no tags", good[3..].to_vec()),
        ("more behind it", [&good[..], &[0]].concat()),
        ("another tag", [&hex("d83dd0"), &good[3..]].concat()),
        ("MAC0 with a signature's algorithm", [&hex("d83dd1"), &good[3..]].concat()),
        ("two CWT tags", [&hex("d83d"), &good[..]].concat()),
        ("alg only in the unprotected header", hex("d28440a1012641a040")),
        ("one label in both headers", hex("d28443a10126a1012641a040")),
        ("crit", hex("d28446a2012602811041a041a040")),
        ("x5chain", hex("d28446a20126182140a041a040")),
        ("payload that is no map", hex("d28443a10126a0410140")),
        ("the same claim twice", hex("d28443a10126a045a20101010240")),
        ("an array of three", hex("d28343a10126a040")),
        ("exp with a tag", hex("d28443a10126a044a104c10140")),
        ("exp as a fraction", hex("d28443a10126a045a104f93c0040")),
        ("a negative exp", hex("d28443a10126a043a1042040")),
    ] {
        assert!(Unverified::read(&token).is_err(), "{what}");
    }
}

proptest! {
    #[test]
    fn whatever_is_signed_is_read_as_it_was_signed_or_refused(
        iss in "urn:uuid:[12]", sub in "[a-zA-Z0-9/#+.-]{0,12}", aud in "mqtts://localhost:888[34]",
        begins in -120i64..120, lasts in -120i64..240, more in prop::option::of("[a-z]{1,8}"),
    ) {
        let ward = key();
        let mut value = serde_json::json!({
            "iss": iss, "sub": sub, "aud": aud, "iat": NOW.0 + begins, "nbf": NOW.0 + begins, "exp": NOW.0 + begins + lasts, "jti": "x"
        });
        let known = ["cnf", "scope"];
        if let Some(more) = more.filter(|name| value.get(name).is_none() && !known.contains(&name.as_str())) {
            value[more] = "what is not known is passed over".into();
        }
        let token = ward.signed(ES256, &value.to_string());
        let good = iss == URN && aud == AUDIENCE && begins <= 30 && begins + lasts > 0 && sub.parse::<DeviceId>().is_ok();
        match ward.judged(token.as_bytes(), NOW) {
            Ok(verified) => {
                prop_assert!(good, "{value}");
                prop_assert_eq!((verified.device.as_str(), verified.ends.0), (sub.as_str(), NOW.0 + begins + lasts));
            }
            Err(why) => prop_assert!(!good, "{value}: {why}"),
        }
        // Reading shows the same to a person, signed by whomever.
        prop_assert_eq!(Unverified::read(token.as_bytes()).unwrap().claims.subject, Some(sub));
    }

    #[test]
    fn no_octets_make_the_reader_fail_badly(
        text in "[ -~.]{0,80}|[A-Za-z0-9_-]{0,40}\\.[A-Za-z0-9_-]{0,40}\\.[A-Za-z0-9_-]{0,90}",
        octets in prop::collection::vec(any::<u8>(), 0..120),
    ) {
        let _ = Unverified::read(text.as_bytes());
        let _ = Unverified::read(&octets);
        for tags in [&[0xd2, 0x84, 0x43, 0xa1, 0x01, 0x26, 0xa0][..], &[0xd8, 0x3d, 0xd1, 0x84]] {
            let _ = Unverified::read(&[tags, &octets].concat());
        }
    }
}
