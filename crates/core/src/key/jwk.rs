//! Public keys as JSON Web Keys (RFC 7517) and as COSE keys (RFC 9052 section 7), and the names that follow from them.

use data_encoding::BASE64URL_NOPAD;
use der::{Decode, Reader, SliceReader};

use super::{BadKey, KeyType, PublicKey, sha256};

/// The members of a public JWK that every reader needs, in lexicographic order (RFC 7638 section 3.2); `None` for a type of key
/// that has no JWK here.
#[must_use]
pub fn jwk_members(key: &PublicKey) -> Option<Vec<(&'static str, String)>> {
    let text = |octets: &[u8]| BASE64URL_NOPAD.encode(octets);
    Some(match key.key_type() {
        KeyType::P256 | KeyType::P384 => {
            let (x, y) = coordinates(key)?;
            let curve = if key.key_type() == KeyType::P256 { "P-256" } else { "P-384" };
            vec![("crv", curve.to_owned()), ("kty", "EC".to_owned()), ("x", text(x)), ("y", text(y))]
        }
        KeyType::Ed25519 => vec![("crv", "Ed25519".to_owned()), ("kty", "OKP".to_owned()), ("x", text(key.bits()))],
        KeyType::Rsa(_) => {
            let (modulus, exponent) = rsa_parts(key)?;
            vec![("e", text(&exponent)), ("kty", "RSA".to_owned()), ("n", text(&modulus))]
        }
        KeyType::MlDsa65 => return None,
    })
}

/// x and y of a point, as long as the curve's field each.
#[must_use]
pub fn coordinates(key: &PublicKey) -> Option<(&[u8], &[u8])> {
    let (_, both) = key.point()?.split_first()?;
    Some(both.split_at(both.len() / 2))
}

/// Modulus and public exponent, big-endian and without leading zeros (RFC 7518 section 6.3.1).
#[must_use]
pub fn rsa_parts(key: &PublicKey) -> Option<(Vec<u8>, Vec<u8>)> {
    if !matches!(key.key_type(), KeyType::Rsa(_)) {
        return None;
    }
    let parts = SliceReader::new(key.bits()).ok()?.sequence(|reader| {
        let mut number = || der::asn1::UintRef::decode(reader).map(|number| number.as_bytes().to_vec());
        Ok::<_, der::Error>((number()?, number()?))
    });
    parts.ok()
}

/// The JWK thumbprint with SHA-256 (RFC 7638), base64url: what a key is called in tokens. `None` for a type of key that has no
/// JWK here.
#[must_use]
pub fn thumbprint(key: &PublicKey) -> Option<String> {
    // Section 3: the required members only, in lexicographic order, without white space. No value needs to be escaped.
    let members: Vec<String> =
        jwk_members(key)?.iter().map(|(name, value)| format!("\"{name}\":\"{value}\"")).collect();
    Some(BASE64URL_NOPAD.encode(&sha256(format!("{{{}}}", members.join(",")).as_bytes())))
}

/// A public key from the members of a JWK, each asked for by its name (EC and RSA keys as in RFC 7518 section 6, Ed25519 as in RFC
/// 8037).
///
/// # Errors
/// Another structure or key.
pub fn from_members(member: &dyn Fn(&str) -> Option<String>) -> Result<PublicKey, BadKey> {
    let octets = |name: &str| {
        let text = member(name).ok_or(BadKey::Malformed)?;
        BASE64URL_NOPAD.decode(text.as_bytes()).map_err(|_| BadKey::Malformed)
    };
    match (member("kty").as_deref(), member("crv").as_deref()) {
        (Some("EC"), Some(curve @ ("P-256" | "P-384"))) => {
            let (x, y) = (octets("x")?, octets("y")?);
            PublicKey::from_coordinates(if curve == "P-256" { 32 } else { 48 }, &x, &y)
        }
        (Some("OKP"), Some("Ed25519")) => PublicKey::from_ed25519(&octets("x")?),
        (Some("RSA"), _) => PublicKey::from_rsa(&octets("n")?, &octets("e")?),
        _ => Err(BadKey::Malformed),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::key::{NewKey, Signer, SoftwareKey};

    #[test]
    fn a_key_is_called_by_its_thumbprint() {
        // RFC 7638 section 3.1.
        let n = "0vx7agoebGcQSuuPiLJXZptN9nndrQmbXEps2aiAFbWhM78LhWx4cbbfAAtVT86zwu1RK7aPFFxuhDR1L6tSoc_BJECPebWKRXjBZCiFV4n3oknjhMstn64tZ_2W-5JsGY4Hc5n9yBXArwl93lqt7_RN5w6Cf0h4QyQ5v-65YGjQR0_FDW2QvzqY368QQMicAtaSqzs8KJZgnYb9c7d0zgdAZHzu6qMQvRL5hajrn1n91CbOpbISD08qNLyrdkt-bFTWhAI4vMQFh6WeZu0fM4lFd2NcRwr3XPksINHaQ-G_xBniIqbw0Ls1jF44-csFCur-kEgU8awapJzKnqDKgw";
        let rsa = format!(r#"{{"kty":"RSA","n":"{n}","e":"AQAB","alg":"RS256","kid":"2011-04-29"}}"#);
        // The key of RFC 7517 appendix A.1, hashed by openssl, and that of RFC 8037 appendix A.2 with the name of A.3.
        let ec = r#"{"kty":"EC","crv":"P-256","x":"MKBCTNIcKUSDii11ySs3526iDZ8AiTo7Tu6KPAqv7D4","y":"4Etl6SRW2YiLUrN5vfvVHuhp7x8PxltmWWlbbM4IFyM"}"#;
        let okp = r#"{"kty":"OKP","crv":"Ed25519","x":"11qYAYKxCrfVS_7TyWQHOg7hcvPapiMlrwIaaPcHURo"}"#;
        for (jwk, name) in [
            (rsa.as_str(), "NzbLsXh8uDCcd-6MNwXF4W_7noWXFZAfHkxZsRGC9Xs"),
            (ec, "cn-I_WNMClehiVp51i_0VpOENW1upEerA8sEam5hn-s"),
            (okp, "kPrK_qmxVWaYVA9wwBF6Iuo3vVzz7TxHCTwXBygrS4k"),
        ] {
            let key = PublicKey::from_jwk(jwk).unwrap();
            assert_eq!(thumbprint(&key).as_deref(), Some(name));
        }
    }

    #[test]
    fn a_key_reads_back_from_its_members() {
        for new in NewKey::ALL {
            let key = SoftwareKey::generate(new).unwrap();
            let Some(members) = jwk_members(key.public_key()) else {
                assert_eq!(new, NewKey::MlDsa65);
                continue;
            };
            let member = |name: &str| members.iter().find(|(known, _)| *known == name).map(|(_, value)| value.clone());
            assert_eq!(from_members(&member).as_ref(), Ok(key.public_key()), "{new:?}");
            assert!(members.is_sorted(), "{members:?}");
        }
    }
}
