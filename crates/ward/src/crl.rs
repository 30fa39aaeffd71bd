//! An authority's current certificate revocation list.

use std::path::Path;

use tidy_warden_core::asn1;
use tidy_warden_core::authority::{AuthorityRecord, AuthorityRole};
use tidy_warden_core::certificate::Issuer;
use tidy_warden_core::revocation::{Heading, sign_crl};
use tidy_warden_core::time::{Span, UnixTime};
use tidy_warden_store::StoreError;

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

/// A CRL that was signed, written and recorded.
pub struct Signed {
    /// Its CRL number (RFC 5280 section 5.2.3).
    pub number: u64,
    /// How many certificates it lists.
    pub entries: usize,
    /// Until when it is good.
    pub next_update: UnixTime,
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
    let crl = ward.store.next_crl(&authority.name)?;
    let now = ward.now();
    let heading = Heading { number: crl.number, this_update: now, next_update: now.plus(life) };
    let issuer = Issuer { certificate: &authority.certificate, signer: &*signer };
    let signed = sign_crl(issuer, heading, crl.entries.iter().cloned())
        .map_err(|error| Problem::failed("the CRL was not signed").because(error))?;
    let bytes = if der { signed } else { asn1::pem("X509 CRL", &signed).into_bytes() };
    let cause = ward.cause(because);
    let recorded = ward.store.record_crl(&authority.name, &crl, &cause, &mut || files::replace(out, &bytes));
    let recorded = recorded.map_err(|error| match error {
        StoreError::Delivery(error) => Problem::file("write", out, &error),
        other => other.into(),
    })?;
    if !recorded {
        return Err(Problem::failed(format!("CRL {} of `{}` was not recorded", crl.number, authority.name))
            .because("another command signed one at the same moment")
            .next("run crl again"));
    }
    Ok(Signed { number: crl.number, entries: crl.entries.len(), next_update: heading.next_update })
}
