//! Cookies (RFC 6265bis): the session of an owner, and what is sealed for a moment because it must not stand in an address.

use std::time::Instant;

use aws_lc_rs::aead::{AES_256_GCM, Aad, LessSafeKey, NONCE_LEN, Nonce, UnboundKey};
use aws_lc_rs::rand;
use data_encoding::BASE64URL_NOPAD;
use tidy_warden_core::key::sha256;
use zeroize::Zeroizing;

/// The cookie of a session. A name with this prefix is taken by browsers with Secure, Path=/ and without Domain only.
pub(super) const SESSION: &str = "__Host-owner";

/// What is sealed for a moment.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Sealed {
    /// A link by which somebody is about to sign in.
    Link,
    /// The device and the code of a sticker.
    Claim,
    /// What the next page says.
    Note,
}

impl Sealed {
    fn name(self) -> &'static str {
        match self {
            Self::Link => "__Host-owner-link",
            Self::Claim => "__Host-owner-claim",
            Self::Note => "__Host-owner-note",
        }
    }

    /// How long it is good, in seconds.
    fn life(self) -> u64 {
        match self {
            Self::Link | Self::Claim => 600,
            Self::Note => 60,
        }
    }
}

/// Seals and opens, with a key that lives as long as the desk runs: what it sealed before is of no use after.
pub(crate) struct Sealer {
    key: Option<LessSafeKey>,
    began: Instant,
}

impl Default for Sealer {
    fn default() -> Self {
        let mut octets = Zeroizing::new([0; 32]);
        // Without randomness nothing is sealed, and nothing opens.
        let key = rand::fill(&mut *octets).ok().and_then(|()| UnboundKey::new(&AES_256_GCM, &*octets).ok());
        Self { key: key.map(LessSafeKey::new), began: Instant::now() }
    }
}

impl Sealer {
    /// The cookie for a text. Lax: it must be there after a link from a letter led here; what it is good for is done by a form of this
    /// site's alone.
    pub(super) fn seal(&self, what: Sealed, text: &str) -> Option<String> {
        let key = self.key.as_ref()?;
        let mut nonce = [0; NONCE_LEN];
        rand::fill(&mut nonce).ok()?;
        let ends = self.began.elapsed().as_secs() + what.life();
        let mut octets = Zeroizing::new([&ends.to_be_bytes()[..], text.as_bytes()].concat());
        let aad = Aad::from(what.name().as_bytes());
        key.seal_in_place_append_tag(Nonce::assume_unique_for_key(nonce), aad, &mut *octets).ok()?;
        let value = BASE64URL_NOPAD.encode(&[&nonce[..], &octets].concat());
        let (name, life) = (what.name(), what.life());
        Some(format!("{name}={value}; Path=/; Max-Age={life}; HttpOnly; Secure; SameSite=Lax"))
    }

    /// The text of a cookie, if it was sealed here and is good.
    pub(super) fn open(&self, what: Sealed, cookies: &str) -> Option<Zeroizing<String>> {
        let mut octets = BASE64URL_NOPAD.decode(one(cookies, what.name())?.as_bytes()).ok()?;
        if octets.len() < NONCE_LEN {
            return None;
        }
        let mut sealed = Zeroizing::new(octets.split_off(NONCE_LEN));
        let nonce = Nonce::try_assume_unique_for_key(&octets).ok()?;
        let aad = Aad::from(what.name().as_bytes());
        let plain = self.key.as_ref()?.open_in_place(nonce, aad, &mut sealed).ok()?;
        let (ends, text) = plain.split_first_chunk::<8>()?;
        if u64::from_be_bytes(*ends) < self.began.elapsed().as_secs() {
            return None;
        }
        String::from_utf8(text.to_vec()).ok().map(Zeroizing::new)
    }
}

/// Has a browser forget a cookie.
pub(super) fn forget(what: Sealed) -> String {
    format!("{}=; Path=/; Max-Age=0; HttpOnly; Secure; SameSite=Lax", what.name())
}

/// The cookie of a session.
pub(super) fn session(secret: &[u8; 32], seconds: i64) -> String {
    let value = BASE64URL_NOPAD.encode(secret);
    format!("{SESSION}={value}; Path=/; Max-Age={seconds}; HttpOnly; Secure; SameSite=Strict")
}

/// Has a browser forget its session.
pub(super) fn no_session() -> String {
    format!("{SESSION}=; Path=/; Max-Age=0; HttpOnly; Secure; SameSite=Strict")
}

/// The secret of a session, if a request has one.
pub(super) fn secret(cookies: &str) -> Option<[u8; 32]> {
    BASE64URL_NOPAD.decode(one(cookies, SESSION)?.as_bytes()).ok()?.try_into().ok()
}

/// What a form of a session's must carry, which a page of somebody else's cannot know.
pub(super) fn form_token(secret: &[u8]) -> String {
    BASE64URL_NOPAD.encode(&sha256(&[b"form of ", secret].concat()))
}

/// Whether both are the same, in a time that does not tell how far they agree.
pub(super) fn is_same(one: &str, other: &str) -> bool {
    aws_lc_rs::constant_time::verify_slices_are_equal(one.as_bytes(), other.as_bytes()).is_ok()
}

/// The value of a cookie; `None` if it is not there, or there twice.
pub(super) fn one<'c>(cookies: &'c str, name: &str) -> Option<&'c str> {
    let mut found =
        cookies.split(';').filter_map(|each| each.trim().split_once('=')).filter(|(known, _)| *known == name);
    found.next().filter(|_| found.next().is_none()).map(|(_, value)| value)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn value(cookie: &str) -> &str {
        cookie.split(';').next().unwrap()
    }

    #[test]
    fn what_is_sealed_opens_here_for_what_it_was_sealed_for_and_is_not_readable() {
        let sealer = Sealer::default();
        let cookie = sealer.seal(Sealed::Claim, "gg-1 K7M3").unwrap();
        assert!(cookie.contains("HttpOnly; Secure; SameSite=Lax") && !cookie.contains("K7M3"), "{cookie}");
        let sent = format!("a=b; {}; c=d", value(&cookie));
        assert_eq!(sealer.open(Sealed::Claim, &sent).as_deref().map(String::as_str), Some("gg-1 K7M3"));
        assert!(sealer.open(Sealed::Link, &sent.replace("claim", "link")).is_none(), "for something else");
        assert!(Sealer::default().open(Sealed::Claim, &sent).is_none(), "by another desk");
        let twice = format!("{0}; {0}", value(&cookie));
        for bad in ["", "__Host-owner-claim=", "__Host-owner-claim=AAAA", &twice, &sent.replace("=d", "")[..60]] {
            assert!(sealer.open(Sealed::Claim, bad).is_none(), "{bad}");
        }
    }

    #[test]
    fn a_session_goes_in_a_cookie_that_no_script_and_no_other_site_has() {
        let cookie = session(&[7; 32], 3_600);
        assert!(cookie.ends_with("Path=/; Max-Age=3600; HttpOnly; Secure; SameSite=Strict"), "{cookie}");
        assert_eq!(secret(&format!("x=y; {}", value(&cookie))), Some([7; 32]));
        for bad in ["", "__Host-owner=abc", "__Host-owner=", "owner=BwcHBwcHBwcHBwcHBwcHBwcHBwcHBwcHBwcHBwcHBwc"] {
            assert_eq!(secret(bad), None, "{bad}");
        }
        assert_ne!(form_token(&[7; 32]), form_token(&[8; 32]));
        assert!(is_same("a", "a") && !is_same("a", "b") && !is_same("a", "ab"));
    }
}
