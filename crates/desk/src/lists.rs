//! Revocation lists, signed ahead of their end and after each change, and given out from memory.

use std::collections::BTreeMap;
use std::sync::{Arc, PoisonError, RwLock};
use std::time::{Duration, Instant};

use data_encoding::HEXLOWER;
use hyper::StatusCode;
use hyper::body::Bytes;
use tidy_warden_core::authority::AuthorityRecord;
use tidy_warden_core::key::{Sha256, Signer, sha256};
use tidy_warden_core::revocation::Revoked;
use tidy_warden_core::time::{Span, UnixTime};
use tidy_warden_serve::buckets::Buckets;
use tidy_warden_store::{OperatorStore, StoreError};
use tidy_warden_ward::crl::{Unsigned, signed};

use crate::Event;
use crate::answer::Said;
use crate::state::{Desk, Live};

/// For how many seconds a list may be kept by whoever fetches it, at most: a revocation is heard of no later than that.
const FRESH_FOR: i64 = 60;

/// Within how long it is told once that a list cannot be signed.
const TELL_AGAIN: Duration = Duration::from_secs(60);

/// A list that was signed.
#[derive(Clone)]
struct List {
    der: Bytes,
    tag: String,
    begins: UnixTime,
    ends: UnixTime,
    /// Its CRL number.
    number: u64,
    /// SHA-256 over what it lists.
    entries: [u8; 32],
}

/// The lists of all authorities, by name.
#[derive(Default)]
pub(crate) struct Lists {
    signed: RwLock<BTreeMap<String, Arc<List>>>,
    /// How often it is told of an authority that its list could not be signed.
    troubles: Buckets<String>,
}

impl Lists {
    fn get(&self, authority: &str) -> Option<Arc<List>> {
        self.signed.read().unwrap_or_else(PoisonError::into_inner).get(authority).cloned()
    }

    /// What is said to who asks for an authority's list.
    pub(crate) fn said(&self, authority: &str, now: UnixTime) -> Option<Said> {
        let list = self.get(authority)?;
        let left = list.ends.since(now);
        if left < 0 {
            // One that has ended tells nothing any more.
            let words = "the list has ended, and no newer one could be signed";
            return Some(Said::later(StatusCode::SERVICE_UNAVAILABLE, words, 10));
        }
        Some(Said {
            tag: Some(list.tag.clone()),
            fresh_for: u64::try_from(left.min(FRESH_FOR)).ok(),
            ..Said::of("application/pkix-crl", list.der.clone())
        })
    }
}

fn digest(entries: &[Revoked]) -> [u8; 32] {
    let mut all = Sha256::default();
    for each in entries {
        all.update(format!("{} {} {}\n", each.serial, each.at.0, each.reason.code()).as_bytes());
    }
    all.finish()
}

/// Whether an authority's list must be signed anew.
fn is_due(
    store: &OperatorStore,
    authority: &AuthorityRecord,
    list: Option<&List>,
    now: UnixTime,
) -> Result<Due, StoreError> {
    let Some(list) = list else { return Ok(Due::Now) };
    // At half of its time, so that who keeps it has one that is good when this desk is away for a while. A clock that was set back would
    // have it signed for times to come.
    let half = UnixTime(list.begins.0 + list.ends.since(list.begins) / 2);
    if now >= half || now < list.begins || store.crl_lacks(&authority.name)? > 0 {
        return Ok(Due::Now);
    }
    let number = store.authorities()?.iter().find(|each| each.name == authority.name).map_or(0, |each| each.crl_number);
    if number == list.number {
        return Ok(Due::Not);
    }
    // Another desk, or a person, signed a newer one; what counts is whether this one lists the same.
    match digest(&store.next_crl(&authority.name)?.entries) == list.entries {
        true => Ok(Due::SameAs(number)),
        false => Ok(Due::Now),
    }
}

/// Whether a list must be signed anew.
enum Due {
    /// It must.
    Now,
    /// It lists all that it must.
    Not,
    /// It lists the same as the one with this number, which somebody else signed.
    SameAs(u64),
}

/// Signs what is due; gives how long it took.
pub(crate) fn keep(desk: &Desk, live: &Live, store: &mut OperatorStore) -> Duration {
    let began = Instant::now();
    let mut is_signed = false;
    for (authority, signer) in &live.signers {
        let name = authority.name.to_string();
        let before = desk.lists.get(&name);
        let put = |list: List| {
            desk.lists.signed.write().unwrap_or_else(PoisonError::into_inner).insert(name.clone(), Arc::new(list));
        };
        let failed = |error: &dyn std::fmt::Display| {
            // It is tried again at each look, and told once in a while.
            if desk.lists.troubles.take(&name, 1, TELL_AGAIN, Instant::now()).is_ok() {
                desk.trouble(format!("the CRL of `{name}` was not signed: {error}"));
            }
        };
        match is_due(store, authority, before.as_deref(), desk.now()) {
            Ok(Due::Not) => continue,
            Ok(Due::SameAs(number)) => {
                if let Some(before) = before {
                    put(List { number, ..(*before).clone() });
                }
                continue;
            }
            Ok(Due::Now) => {}
            Err(error) => {
                failed(&error);
                continue;
            }
        }
        match sign(desk, live, store, authority, &**signer) {
            Ok(list) => {
                is_signed = true;
                desk.metrics.crls.inc();
                put(list);
            }
            // At the next look it is tried again.
            Err(Unsigned::Overtaken(_)) => {}
            Err(Unsigned::Store(error)) => failed(&error),
            Err(Unsigned::Signer(error)) => failed(&error),
        }
    }
    if is_signed { began.elapsed() } else { Duration::ZERO }
}

fn sign(
    desk: &Desk,
    live: &Live,
    store: &mut OperatorStore,
    authority: &AuthorityRecord,
    signer: &dyn Signer,
) -> Result<List, Unsigned> {
    let life: Span = live.settings.desk.crl_life;
    let cause = desk.cause(String::new());
    let begins = cause.at;
    let crl = signed(store, authority, signer, life, &cause, &mut |_| Ok(()))?;
    desk.emit(Event::Crl { authority: authority.name.to_string(), number: crl.number, entries: crl.entries.len() });
    Ok(List {
        tag: format!("\"{}\"", &HEXLOWER.encode(&sha256(&crl.der))[..32]),
        der: crl.der.into(),
        begins,
        ends: crl.next_update,
        number: crl.number,
        entries: digest(&crl.entries),
    })
}

#[cfg(test)]
mod tests {
    use tidy_warden_core::certificate::SerialNumber;
    use tidy_warden_core::revocation::Reason;

    use super::*;

    fn list(begins: i64, ends: i64) -> Arc<List> {
        let (begins, ends) = (UnixTime(begins), UnixTime(ends));
        Arc::new(List { der: vec![0x30, 0].into(), tag: "\"a\"".into(), begins, ends, number: 1, entries: [0; 32] })
    }

    #[test]
    fn a_list_is_given_out_until_it_ends_and_kept_by_others_for_no_longer() {
        let lists = Lists::default();
        lists.signed.write().unwrap().insert("devices".into(), list(1_000, 2_000));
        let said = |at: i64| lists.said("devices", UnixTime(at)).unwrap();
        assert_eq!((said(1_000).status, said(1_000).fresh_for), (StatusCode::OK, Some(60)));
        assert_eq!(said(1_990).fresh_for, Some(10), "not beyond its end");
        assert_eq!((said(2_000).status, said(2_000).fresh_for), (StatusCode::OK, Some(0)));
        let over = said(2_001);
        assert_eq!((over.status, over.retry_after), (StatusCode::SERVICE_UNAVAILABLE, Some(10)));
        assert!(over.tag.is_none() && !over.body.is_empty(), "words, and not the list");
        assert_eq!(lists.said("vanes", UnixTime(1_000)), None);
    }

    #[test]
    fn what_is_listed_is_told_apart_and_its_order_counts() {
        let serial = |octet: u8| SerialNumber::from_octets(&[octet]).unwrap();
        let entry = |octet, at, reason| Revoked { serial: serial(octet), at: UnixTime(at), reason };
        let one = [entry(1, 5, Reason::KeyCompromise)];
        assert_eq!(digest(&one), digest(&one.clone()));
        for other in [
            &[][..],
            &[entry(2, 5, Reason::KeyCompromise)],
            &[entry(1, 6, Reason::KeyCompromise)],
            &[entry(1, 5, Reason::Superseded)],
            &[entry(1, 5, Reason::KeyCompromise), entry(2, 5, Reason::KeyCompromise)],
        ] {
            assert_ne!(digest(&one), digest(other), "{other:?}");
        }
    }
}
