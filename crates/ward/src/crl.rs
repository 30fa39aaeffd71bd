//! An authority's current certificate revocation list.

use std::path::Path;

use tidy_warden_core::asn1;
use tidy_warden_core::authority::{AuthorityRecord, AuthorityRole};
use tidy_warden_core::certificate::Issuer;
use tidy_warden_core::key::{SignError, Signer};
use tidy_warden_core::revocation::{Heading, Revoked, sign_crl};
use tidy_warden_core::time::{Span, UnixTime};
use tidy_warden_store::{Cause, OperatorStore, StoreError};

use crate::files;
use crate::keys::Openers;
use crate::open::Ward;
use crate::problem::Problem;

/// The authority whose list is meant if none is named: the only one for devices, or the only one whose list is waiting.
pub fn waiting(ward: &Ward) -> Result<AuthorityRecord, Problem> {
    let mut all = ward.authorities(AuthorityRole::Devices)?;
    if all.len() > 1 {
        all.retain(|authority| authority.crl_pending);
    }
    match (all.pop(), all.is_empty()) {
        (Some(only), true) => Ok(only),
        _ => {
            let names: Vec<String> =
                ward.authorities(AuthorityRole::Devices)?.iter().map(|each| each.name.to_string()).collect();
            Err(Problem::usage("the ward has several authorities for devices")
                .next(format!("name one with --authority: {}", names.join(", "))))
        }
    }
}

/// A CRL that was signed and recorded.
pub struct Signed {
    /// Its CRL number (RFC 5280 section 5.2.3).
    pub number: u64,
    /// What it lists.
    pub entries: Vec<Revoked>,
    /// Until when it is good.
    pub next_update: UnixTime,
    /// The CRL in DER.
    pub der: Vec<u8>,
}

/// Signs an authority's current CRL and writes it to `out`; nothing is recorded if it cannot be written.
pub fn sign(
    ward: &mut Ward,
    authority: &AuthorityRecord,
    life: Span,
    because: Option<&str>,
    secrets: &dyn Openers,
    out: &Path,
    der: bool,
) -> Result<Signed, Problem> {
    let signer = secrets.signer(ward, authority)?;
    let cause = ward.cause(because);
    let mut write = |signed: &[u8]| match der {
        true => files::replace(out, signed),
        false => files::replace(out, asn1::pem("X509 CRL", signed).as_bytes()),
    };
    signed(&mut ward.store, authority, &*signer, life, &cause, &mut write).map_err(|why| match why {
        Unsigned::Store(StoreError::Delivery(error)) => Problem::file("write", out, &error),
        Unsigned::Store(error) => error.into(),
        Unsigned::Signer(error) => Problem::failed("the CRL was not signed").because(error),
        Unsigned::Overtaken(number) => {
            Problem::failed(format!("CRL {number} of `{}` was not recorded", authority.name))
                .because("another command signed one at the same moment")
                .next("run crl again")
        }
    })
}

/// Why there is no CRL.
#[derive(Debug)]
pub enum Unsigned {
    /// The store failed, or what was to be done before the commit.
    Store(StoreError),
    /// The key does not sign.
    Signer(SignError),
    /// Somebody else signed one with this number at the same moment.
    Overtaken(u64),
}

/// Signs an authority's current CRL and records that; `deliver` is given it before that is committed.
pub fn signed(
    store: &mut OperatorStore,
    authority: &AuthorityRecord,
    signer: &dyn Signer,
    life: Span,
    cause: &Cause,
    deliver: &mut dyn FnMut(&[u8]) -> std::io::Result<()>,
) -> Result<Signed, Unsigned> {
    let mut crl = store.next_crl(&authority.name).map_err(Unsigned::Store)?;
    let heading = Heading { number: crl.number, this_update: cause.at, next_update: cause.at.plus(life) };
    let issuer = Issuer { certificate: &authority.certificate, signer };
    let der = sign_crl(issuer, heading, crl.entries.iter().cloned()).map_err(Unsigned::Signer)?;
    crl.until = Some(heading.next_update);
    let recorded = store.record_crl(&authority.name, &crl, cause, &mut || deliver(&der)).map_err(Unsigned::Store)?;
    match recorded {
        true => Ok(Signed { number: crl.number, entries: crl.entries, next_update: heading.next_update, der }),
        false => Err(Unsigned::Overtaken(crl.number)),
    }
}
