//! The certificates of guards and desks: when the next one is due, and making it.
//!
//! Whoever holds the key of the authority for services signs it (a desk by itself, or a person with `post renew`); the store is the way on
//! which it comes to the server, which has the key already. So nobody sends a request, no key is made or moved, and a post needs no way to
//! a desk but the store that both work on.

use tidy_warden_core::authority::{AuthorityRecord, AuthorityRole};
use tidy_warden_core::certificate::{Certificate, IssueError, Issuer, SerialNumber, renewed_server};
use tidy_warden_core::key::Signer;
use tidy_warden_core::settings::Settings;
use tidy_warden_core::time::{Span, UnixTime};
use tidy_warden_store::{Cause, OperatorStore, ServerRecord, ServerRefusal, StoreError};

use crate::clock::SystemRandom;
use crate::open::Urls;

/// How long the certificates of guards and desks last.
pub const SERVER_LIFE: Span = Span::from_days(2 * 365);

/// What a renewal must gain to be worth an entry in the record: where the authority ends soon, each next certificate ends with it.
const LEAST_GAIN: Span = Span::from_days(1);

/// Why a server got no other certificate.
#[derive(Debug, thiserror::Error)]
pub enum Unrenewed {
    /// The store failed.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// The store refused it.
    #[error(transparent)]
    Refused(ServerRefusal),
    /// It cannot be signed.
    #[error(transparent)]
    Issue(#[from] IssueError),
    /// The authority for services ends too soon.
    #[error(
        "the authority `{authority}` for services ends at {ends}, and the next certificate would end with it: authority add NAME \
         --service"
    )]
    AuthorityEnds {
        /// The authority.
        authority: String,
        /// When it ends.
        ends: UnixTime,
    },
}

/// From when on the next certificate is due: when a third of the life of this one is left, so that what fails is seen long before the end.
#[must_use]
pub fn due(certificate: &Certificate) -> UnixTime {
    let life = certificate.not_after.since(certificate.not_before);
    UnixTime(certificate.not_before.0 + life / 3 * 2)
}

/// Whether a server needs another certificate: because of the time, because a clock that was ahead made its own, so that it is not valid
/// yet, or because whoever signed that is not believed any more.
#[must_use]
pub fn is_due(certificate: &Certificate, authorities: &[AuthorityRecord], now: UnixTime) -> bool {
    let mut services = authorities.iter().filter(|each| each.role == AuthorityRole::Service && each.retired.is_none());
    now >= due(certificate)
        || certificate.not_before > now
        || !services.any(|each| each.certificate.subject == certificate.issuer)
}

/// Whether a next certificate is worth making without anybody's word: it lasts longer than that of before, that is not valid yet, or
/// somebody else signs it.
fn gains(service: &AuthorityRecord, current: &Certificate, now: UnixTime) -> bool {
    let end = now.plus(SERVER_LIFE).min(service.certificate.not_after);
    current.issuer != service.certificate.subject
        || current.not_before > now
        || end >= current.not_after.plus(LEAST_GAIN)
}

/// Signs the next certificate of a server and records it. Where nobody `asked` for it, it must be worth it.
pub fn renew(
    store: &mut OperatorStore,
    settings: &Settings,
    (service, signer): (&AuthorityRecord, &dyn Signer),
    server: &ServerRecord,
    asked: bool,
    cause: &Cause,
) -> Result<Certificate, Unrenewed> {
    if !asked && !gains(service, &server.certificate, cause.at) {
        let ends = service.certificate.not_after;
        return Err(Unrenewed::AuthorityEnds { authority: service.name.to_string(), ends });
    }
    let urls = Urls::of(settings, service.name.as_str());
    let issuer = Issuer { certificate: &service.certificate, signer };
    let serial = SerialNumber::new(cause.at, &mut SystemRandom);
    let next = renewed_server(&server.certificate, serial, (cause.at, SERVER_LIFE), urls.places(), issuer)?.certificate;
    store.renew_server(&server.name, &server.certificate.fingerprint, &next, cause)?.map_err(Unrenewed::Refused)?;
    Ok(next)
}
