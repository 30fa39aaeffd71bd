use pkcs8::EncryptedPrivateKeyInfoRef;
use pkcs8::pkcs5::{EncryptionScheme, pbes2, scrypt};

use const_oid::db::rfc5912::*;
use const_oid::db::rfc8410::ID_ED_25519;

use super::public::*;
use super::*;
use crate::asn1;
use crate::random::Counted;

#[test]
fn a_key_file_that_takes_too_much_work_is_refused_before_it_takes_it() {
    use der::Encode;
    use der::asn1::OctetStringRef;
    let refused = |parameters: pbes2::Parameters| {
        let info = EncryptedPrivateKeyInfoRef {
            encryption_algorithm: EncryptionScheme::Pbes2(parameters),
            encrypted_data: OctetStringRef::new(&[0; 48]).unwrap(),
        };
        let pem = asn1::pem("ENCRYPTED PRIVATE KEY", &info.to_der().unwrap());
        SoftwareKey::open(&pem, b"x").unwrap_err()
    };
    let rounds = |rounds| pbes2::Parameters::generate_pbkdf2_sha256_aes256cbc(rounds, &[7; 16], [7; 16]).unwrap();
    assert_eq!(refused(rounds(2_000_001)), OpenError::TooCostly);
    assert_eq!(refused(rounds(1)), OpenError::Passphrase);
    let scrypt = |log_n, r, p| {
        let cost = scrypt::Params::new(log_n, r, p).unwrap();
        pbes2::Parameters::generate_scrypt_aes256cbc(cost, &[7; 16], [7; 16]).unwrap()
    };
    assert_eq!(refused(scrypt(21, 8, 1)), OpenError::TooCostly);
    assert_eq!(refused(scrypt(4, 8, 17)), OpenError::TooCostly);
    assert_eq!(refused(scrypt(4, 8, 1)), OpenError::Passphrase);
}

#[test]
fn keys_sign_and_verify_and_survive_the_lock() {
    for new in NewKey::ALL {
        let key = SoftwareKey::generate(new).unwrap();
        assert_eq!(key.public_key().key_type().to_string(), new.as_str());
        let plain = key.to_pkcs8().unwrap();
        assert_eq!(SoftwareKey::from_pkcs8(&plain).unwrap().public_key(), key.public_key());
        let signature = key.sign(b"rope").unwrap();
        assert_eq!(key.public_key().verify(&key.algorithm(), b"rope", &signature), Ok(()));
        assert_eq!(key.public_key().verify(&key.algorithm(), b"Rope", &signature), Err(BadSignature::Wrong), "{new:?}");
        let locked = key.lock(b"correct horse", LockCost::Full, &mut Counted(1)).unwrap();
        let quick = key.lock(b"correct horse", LockCost::Rehearsal, &mut Counted(1)).unwrap();
        assert_eq!(SoftwareKey::open(&quick, b"correct horse").unwrap().public_key(), key.public_key());
        assert!(!locked.contains("BEGIN PRIVATE KEY"));
        let opened = SoftwareKey::open(&locked, b"correct horse").unwrap();
        assert_eq!(opened.public_key(), key.public_key());
        assert_eq!(SoftwareKey::open(&locked, b"correct horsf").unwrap_err(), OpenError::Passphrase);
    }
}

#[test]
fn an_algorithm_of_another_key_type_is_refused() {
    let key = SoftwareKey::generate(NewKey::P256).unwrap();
    let ed25519 = asn1::sequence(&[&asn1::oid(ID_ED_25519)]);
    assert!(matches!(key.public_key().verify(&ed25519, b"", b""), Err(BadSignature::Algorithm { .. })));
    let sha1 = asn1::sequence(&[&asn1::oid(ECDSA_WITH_SHA_1)]);
    assert!(matches!(key.public_key().verify(&sha1, b"", b""), Err(BadSignature::Broken { name: "SHA-1" })));
}

#[test]
fn rsa_sizes_are_measured_in_bits_of_the_modulus() {
    let rsa = |octets: usize, first: u8| {
        let mut modulus = vec![0xff; octets];
        modulus[0] = first;
        let key = asn1::sequence(&[&asn1::unsigned(&modulus), &asn1::unsigned(&[1, 0, 1])]);
        let null = asn1::element(5, &[]);
        asn1::sequence(&[&asn1::sequence(&[&asn1::oid(RSA_ENCRYPTION), &null]), &asn1::bit_string(&key)])
    };
    assert_eq!(PublicKey::from_spki(&rsa(256, 0x80)).map(|key| key.key_type()), Ok(KeyType::Rsa(2048)));
    assert_eq!(PublicKey::from_spki(&rsa(256, 0x7f)).unwrap_err(), BadKey::RsaSize { bits: 2047 });
    assert_eq!(PublicKey::from_spki(&rsa(128, 0x80)).unwrap_err(), BadKey::RsaSize { bits: 1024 });
}

#[test]
fn public_jwks_are_read_and_private_ones_refused() {
    // The public key of RFC 7517 appendix A.1, and that of RFC 8037 appendix A.2.
    let ec = r#"{"kty":"EC","crv":"P-256","x":"MKBCTNIcKUSDii11ySs3526iDZ8AiTo7Tu6KPAqv7D4","y":"4Etl6SRW2YiLUrN5vfvVHuhp7x8PxltmWWlbbM4IFyM","use":"enc","kid":"1"}"#;
    assert_eq!(PublicKey::from_jwk(ec).unwrap().key_type(), KeyType::P256);
    let okp = r#"{"kty":"OKP","crv":"Ed25519","x":"11qYAYKxCrfVS_7TyWQHOg7hcvPapiMlrwIaaPcHURo"}"#;
    assert_eq!(PublicKey::from_jwk(okp).unwrap().key_type(), KeyType::Ed25519);
    let private = okp.replace('}', ",\"d\":\"nWGxne_9WmC6hEr0kuwsxERJxWl7MmkZcDusAxyuf2A\"}");
    assert_eq!(PublicKey::from_jwk(&private), Err(BadKey::Private));
    for bad in ["{}", "[]", "x", r#"{"kty":"EC","crv":"P-521","x":"AA","y":"AA"}"#] {
        assert_eq!(PublicKey::from_jwk(bad), Err(BadKey::Malformed), "{bad}");
    }
}

#[test]
fn a_private_key_does_not_show_itself() {
    let key = SoftwareKey::generate(NewKey::P256).unwrap();
    assert_eq!(format!("{key:?}"), "SoftwareKey(p256, [elided])");
}
