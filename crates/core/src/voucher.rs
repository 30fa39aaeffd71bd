//! Ownership vouchers (RFC 8366): the ward says to a device, which may have no network, whose it is. A device believes one that a key of
//! the ward's own below its root signed for that purpose alone, that names its serial number, pins the certificate of the owner that it
//! meets, and is not over, or answers the nonce with which the device asked.
//!
//! Two forms: JSON in CMS signed-data, as RFC 8366 section 5.4 has it; and a JWS (RFC 7515) with `typ` voucher-jws+json, in the spirit of
//! the drafts for constrained vouchers, which is our own.

mod cms;

use data_encoding::BASE64;
use serde::{Deserialize, Serialize};
use serde_json::json;

use crate::certificate::{Certificate, ChainError, Purpose, judge};
use crate::jws::{self, Cut};
use crate::key::{SignError, Signer};
use crate::time::{Span, UnixTime};
use crate::token::{TokenKey, TokenSigner};

/// The `typ` of the JWS form.
pub const VOUCHER_TYPE: &str = "voucher-jws+json";

/// The media type of the CMS form (RFC 8366 section 8.3).
pub const VOUCHER_CMS: &str = "application/voucher-cms+json";

/// The largest that is looked at, in octets.
pub const MAX_VOUCHER: usize = 64 * 1024;

/// The longest that one is good which has an end.
pub const LONGEST_VOUCHER: Span = Span::from_days(5 * 366);

/// The longest nonce, in octets (RFC 8366 section 5.3), and the shortest.
pub const NONCE: std::ops::RangeInclusive<usize> = 8..=32;

/// How many certificates may come with one.
const MOST_CERTIFICATES: usize = 4;

/// How far the clock of a device may be behind, in seconds.
const SKEW: i64 = 300;

/// What makes a voucher fresh: one or the other, never both (RFC 8366 section 5.3).
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Fresh {
    /// It answers the random octets with which the device asked.
    Nonce(Vec<u8>),
    /// It is good until then: for devices that have a clock.
    Until(UnixTime),
}

/// What a voucher says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Voucher {
    /// When it was made.
    pub created: UnixTime,
    /// The serial number of the device.
    pub serial: String,
    /// The certificate of the owner, in DER.
    pub owner: Vec<u8>,
    /// What makes it fresh.
    pub fresh: Fresh,
}

/// The forms of a voucher.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum VoucherForm {
    /// CMS signed-data (RFC 5652) in DER.
    Cms,
    /// A JWS in its compact form.
    Jws,
}

/// The names of RFC 8366 section 5.3, as RFC 7951 has them in JSON.
#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct Body {
    created_on: String,
    #[serde(skip_serializing_if = "Option::is_none", default)]
    expires_on: Option<String>,
    assertion: String,
    serial_number: String,
    pinned_domain_cert: String,
    #[serde(skip_serializing_if = "Option::is_none", default)]
    nonce: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none", default)]
    domain_cert_revocation_checks: Option<bool>,
}

#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Whole {
    #[serde(rename = "ietf-voucher:voucher")]
    voucher: Body,
}

/// Why a device does not believe a voucher.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum BadVoucher {
    /// It has not the form of one.
    #[error("it is no voucher: {0}")]
    Form(&'static str),
    /// Its signer is nobody's who may sign vouchers.
    #[error("whoever signed it may not: {0}")]
    Signer(ChainError),
    /// It was changed, or signed with another key.
    #[error("its signature does not verify")]
    Signature,
    /// It is another device's.
    #[error("it is for the serial number `{found}`")]
    OtherDevice {
        /// Whose it is.
        found: String,
    },
    /// It pins another owner's certificate.
    #[error("it is for another owner than the one whose certificate was shown")]
    OtherOwner,
    /// It has both a nonce and an end, or neither.
    #[error("it has not exactly one of a nonce and an end (RFC 8366 section 5.3)")]
    Freshness,
    /// It is over.
    #[error("it ended at {ends}")]
    Ended {
        /// Its last second.
        ends: UnixTime,
    },
    /// It was made after the device's clock.
    #[error("it was made at {created}, which is to come")]
    NotYet {
        /// When it says that it was made.
        created: UnixTime,
    },
    /// The device asked with a nonce, and it answers none, or another; or it answers one and the device asked with none.
    #[error("it does not answer the nonce with which the device asked")]
    Nonce,
}

/// What a device knows when it is shown a voucher.
#[derive(Debug, Clone, Copy)]
pub struct Knows<'a> {
    /// Its serial number; if there is none, it is not compared: for people who have no device at hand.
    pub serial: Option<&'a str>,
    /// The roots that it believes.
    pub roots: &'a [Certificate],
    /// The nonce with which it asked, if it did.
    pub nonce: Option<&'a [u8]>,
    /// The certificate of the owner that it meets, in DER; if there is none, whoever is pinned is believed.
    pub owner: Option<&'a [u8]>,
    /// Its clock; none if it has none, and then only a nonce makes a voucher fresh.
    pub now: Option<UnixTime>,
}

impl Voucher {
    /// Its last second, if it has an end.
    #[must_use]
    pub fn ends(&self) -> Option<UnixTime> {
        match &self.fresh {
            Fresh::Until(ends) => Some(*ends),
            Fresh::Nonce(_) => None,
        }
    }

    fn json(&self) -> Vec<u8> {
        let (nonce, expires_on) = match &self.fresh {
            Fresh::Nonce(nonce) => (Some(BASE64.encode(nonce)), None),
            Fresh::Until(ends) => (None, Some(ends.to_string())),
        };
        let voucher = Body {
            created_on: self.created.to_string(),
            expires_on,
            // The ward's own record says that the device is this owner's (section 5.3).
            assertion: "verified".to_owned(),
            serial_number: self.serial.clone(),
            pinned_domain_cert: BASE64.encode(&self.owner),
            nonce,
            domain_cert_revocation_checks: None,
        };
        // Texts alone: there is nothing that could not be written.
        serde_json::to_vec(&Whole { voucher }).unwrap_or_default()
    }

    /// The signed voucher: `chain` begins with the certificate of `key`, and leaves the root out.
    ///
    /// # Errors
    /// The key cannot sign, or not now.
    pub fn sign(&self, form: VoucherForm, chain: &[&Certificate], key: &dyn Signer) -> Result<Vec<u8>, SignError> {
        match form {
            VoucherForm::Cms => cms::signed(&self.json(), chain, key, self.created),
            VoucherForm::Jws => {
                let algorithm = jws::algorithm(TokenSigner::Private(key))?;
                let x5c: Vec<String> = chain.iter().map(|each| BASE64.encode(each.der())).collect();
                let header = json!({ "alg": algorithm.as_str(), "typ": VOUCHER_TYPE, "x5c": x5c });
                let input = jws::input(&header, &self.json());
                let signature = TokenSigner::Private(key).sign(input.as_bytes())?;
                Ok(jws::with_signature(input, &signature).into_bytes())
            }
        }
    }

    /// What a device makes of what it is shown.
    ///
    /// # Errors
    /// Why it does not believe it.
    pub fn believe(octets: &[u8], knows: &Knows<'_>) -> Result<Self, BadVoucher> {
        let form = BadVoucher::Form;
        if octets.len() > MAX_VOUCHER {
            return Err(form("it is too long"));
        }
        // DER begins with a SEQUENCE, and no text of a JWS with that character.
        let said = if octets.first() == Some(&0x30) { cms::opened(octets, knows)? } else { opened_jws(octets, knows)? };
        let Said { created, body } = said;
        let ends = body.expires_on.as_deref().map(time).transpose()?;
        let decode = |text: &str| BASE64.decode(text.as_bytes()).map_err(|_| form("a part of it is not in base64"));
        let nonce = body.nonce.as_deref().map(decode).transpose()?;
        let fresh = match (nonce, ends) {
            (Some(nonce), None) => Fresh::Nonce(nonce),
            (None, Some(ends)) => Fresh::Until(ends),
            _ => return Err(BadVoucher::Freshness),
        };
        if knows.serial.is_some_and(|serial| serial != body.serial_number) {
            return Err(BadVoucher::OtherDevice { found: body.serial_number.chars().take(64).collect() });
        }
        let owner = decode(&body.pinned_domain_cert)?;
        if Certificate::from_der(&owner).is_err() {
            return Err(form("the certificate that it pins cannot be read"));
        }
        if knows.owner.is_some_and(|shown| shown != owner) {
            return Err(BadVoucher::OtherOwner);
        }
        match (&fresh, knows.nonce, knows.now) {
            // Whoever asked with a nonce takes no older answer.
            (Fresh::Nonce(found), Some(asked), _) if found == asked => {}
            (Fresh::Nonce(_), _, _) | (Fresh::Until(_), Some(_), _) => return Err(BadVoucher::Nonce),
            (Fresh::Until(_), None, None) => return Err(BadVoucher::Freshness),
            (Fresh::Until(ends), None, Some(now)) => {
                if *ends < now {
                    return Err(BadVoucher::Ended { ends: *ends });
                }
                if created.0 > now.0.saturating_add(SKEW) {
                    return Err(BadVoucher::NotYet { created });
                }
            }
        }
        Ok(Self { created, serial: body.serial_number, owner, fresh })
    }
}

/// Whether the first of these certificates may sign vouchers for whoever believes the roots. A device without a clock looks at the moment
/// at which the voucher says that it was made.
fn signer_is_good(chain: &[Certificate], knows: &Knows<'_>, created: UnixTime) -> Result<(), BadVoucher> {
    let (leaf, above) = chain.split_first().ok_or(BadVoucher::Form("it comes with no certificate"))?;
    let at = knows.now.unwrap_or(created);
    judge(leaf, above, knows.roots, Purpose::Vouchers, at).map(drop).map_err(BadVoucher::Signer)
}

fn time(text: &str) -> Result<UnixTime, BadVoucher> {
    text.parse().map_err(|_| BadVoucher::Form("one of its times is none"))
}

/// What a voucher says, and when it says that it was made.
struct Said {
    created: UnixTime,
    body: Body,
}

impl Said {
    /// Nothing of it is believed yet.
    fn read(json: &[u8]) -> Result<Self, BadVoucher> {
        let Whole { voucher: body } =
            serde_json::from_slice(json).map_err(|_| BadVoucher::Form("what it says is not of RFC 8366"))?;
        Ok(Self { created: time(&body.created_on)?, body })
    }
}

fn opened_jws(octets: &[u8], knows: &Knows<'_>) -> Result<Said, BadVoucher> {
    let form = BadVoucher::Form;
    let text = std::str::from_utf8(octets).map_err(|_| form("it is neither CMS nor a JWS"))?;
    let cut = Cut::of(text.trim_end()).ok_or(form("it is neither CMS nor a JWS"))?;
    if cut.header.typ != VOUCHER_TYPE {
        return Err(form("its typ is not voucher-jws+json"));
    }
    if cut.header.x5c.is_empty() || cut.header.x5c.len() > MOST_CERTIFICATES {
        return Err(form("it comes with no certificate, or with too many"));
    }
    let mut chain = Vec::new();
    for each in &cut.header.x5c {
        // RFC 7515 section 4.1.6: base64 and not base64url.
        let der = BASE64.decode(each.as_bytes()).map_err(|_| form("its certificates are not in base64"))?;
        chain.push(Certificate::from_der(&der).map_err(|_| form("its certificates cannot be read"))?);
    }
    let said = Said::read(&cut.payload)?;
    signer_is_good(&chain, knows, said.created)?;
    let key = chain.first().map(|leaf| &leaf.public_key).ok_or(form("it comes with no certificate"))?;
    if !cut.is_signed_by(TokenKey::Public(key)) {
        return Err(BadVoucher::Signature);
    }
    Ok(said)
}

#[cfg(test)]
mod tests;
