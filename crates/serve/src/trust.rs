//! Whose certificates are taken: a picture of the store's authorities and bound keys in memory, so that a handshake costs no
//! question to the store. The follower renews it.

use std::collections::HashSet;
use std::sync::{Arc, PoisonError, RwLock};

use tidy_warden_core::authority::{AuthorityRecord, AuthorityRole};
use tidy_warden_core::certificate::{Certificate, ChainError, GoodSignatures, Purpose, judge, judge_with};
use tidy_warden_core::id::AuthorityName;
use tidy_warden_core::key::sha256;
use tidy_warden_core::time::UnixTime;
use tidy_warden_store::{StoreError, View};

/// A foreign authority and what it is trusted for.
#[derive(Debug)]
pub struct Maker {
    /// The name of the authority in the ward.
    pub name: AuthorityName,
    certificate: Certificate,
    above: Vec<Certificate>,
    /// For whose devices, and by which fact.
    pub trust: tidy_warden_core::authority::Trust,
}

impl Maker {
    /// Its own certificate, and those between it and its devices.
    pub fn authorities(&self) -> impl Iterator<Item = &Certificate> {
        std::iter::once(&self.certificate).chain(&self.above)
    }
}

/// How many bound credentials are read at a time.
const BOUND_AT_ONCE: usize = 1000;

/// Certificates and keys that were bound to devices: the first eight octets of their digests. A hit only lets the handshake
/// go on; at CONNECT the store is asked in full.
#[derive(Debug, Default, Clone)]
struct Bound {
    to: i64,
    certificates: HashSet<u64>,
    keys: HashSet<u64>,
}

/// The first eight octets of a digest, which tell nearly all apart.
pub fn head(digest: &[u8; 32]) -> u64 {
    digest.first_chunk().map_or(0, |octets| u64::from_be_bytes(*octets))
}

/// Whose certificates are taken.
#[derive(Debug, Default, Clone)]
pub struct Trust {
    /// The change number of the authorities that it was made from.
    pub authorities: i64,
    /// Grows whenever authorities are others.
    pub generation: u64,
    issuing: Arc<Vec<Certificate>>,
    roots: Arc<Vec<Certificate>>,
    makers: Arc<Vec<Maker>>,
    bound: Arc<Bound>,
    known: Arc<GoodSignatures>,
}

impl Trust {
    /// Reads all authorities, and what was bound to devices since `before` was made.
    ///
    /// # Errors
    /// The store cannot be read.
    pub fn read(store: &dyn View, authorities: i64, before: &Self) -> Result<Self, StoreError> {
        let (mut issuing, mut roots, mut makers) = (Vec::new(), Vec::new(), Vec::new());
        for each in store.authorities()? {
            let AuthorityRecord { certificate, crossed, role, retired, .. } = each;
            match (role, retired, each.trust) {
                (AuthorityRole::Root, _, _) => {
                    // What an old root signed leads over its cross-certificate to the root that is trusted in its place.
                    issuing.extend(crossed);
                    roots.extend(retired.is_none().then_some(certificate));
                }
                (AuthorityRole::Devices, None, _) => {
                    issuing.push(certificate);
                    issuing.extend(crossed);
                }
                (AuthorityRole::Foreign, None, Some(trust)) => {
                    makers.push(Maker { name: each.name, certificate, above: crossed, trust });
                }
                (AuthorityRole::Service | AuthorityRole::Devices | AuthorityRole::Foreign, _, _) => {}
            }
        }
        let (issuing, roots, makers) = (Arc::new(issuing), Arc::new(roots), Arc::new(makers));
        let next = Self { authorities, generation: before.generation + 1, issuing, roots, makers, ..before.clone() };
        Ok(next.with_bound(store)?.unwrap_or(next))
    }

    /// A picture that was made anew from a store that is another one: nothing that was bound in the old one stays.
    pub fn forgotten(&self) -> Self {
        Self { authorities: -1, bound: Arc::default(), ..self.clone() }
    }

    /// This picture with what was bound since; `None` if that is nothing.
    ///
    /// # Errors
    /// The store cannot be read.
    pub fn with_bound(&self, store: &dyn View) -> Result<Option<Self>, StoreError> {
        let mut next = None;
        loop {
            let bound = &next.as_ref().unwrap_or(self).bound;
            let found = store.bound_since(bound.to, BOUND_AT_ONCE)?;
            if found.to == bound.to {
                return Ok(next);
            }
            let bound = Arc::make_mut(&mut next.get_or_insert_with(|| self.clone()).bound);
            bound.to = found.to;
            bound.certificates.extend(found.certificates.iter().map(|fingerprint| head(&fingerprint.0)));
            bound.keys.extend(found.keys.iter().map(head));
            if !found.more {
                return Ok(next);
            }
        }
    }

    /// Whether a certificate is one that could stand for a device: its chain leads to a root of the ward, or it or its key is
    /// bound to a device, or a trusted maker signed it. Which device, and whether it may sign in, is asked at CONNECT.
    ///
    /// # Errors
    /// Why its chain does not lead to a root of the ward.
    pub fn judge(&self, leaf: &Certificate, now: UnixTime) -> Result<(), ChainError> {
        let Err(error) = judge_with(leaf, &self.issuing, &self.roots, Purpose::Client, now, Some(&self.known)) else {
            return Ok(());
        };
        let bound = self.bound.certificates.contains(&head(&leaf.fingerprint.0))
            || self.bound.keys.contains(&head(&sha256(leaf.public_key.spki())));
        if bound || self.maker(leaf, now).is_some() { Ok(()) } else { Err(error) }
    }

    /// Whether a certificate in DER, whose key was proved before, would be taken now.
    pub fn takes(&self, leaf: &[u8], now: UnixTime) -> bool {
        Certificate::from_der(leaf).is_ok_and(|leaf| self.judge(&leaf, now).is_ok())
    }

    /// All trusted makers.
    pub fn makers(&self) -> impl Iterator<Item = &Maker> {
        self.makers.iter()
    }

    /// The trusted maker who signed a certificate.
    pub fn maker(&self, leaf: &Certificate, now: UnixTime) -> Option<&Maker> {
        self.makers.iter().find(|maker| {
            let roots = std::slice::from_ref(&maker.certificate);
            // A manufacturer's certificate often names no purpose; one that names another than a client's is refused.
            judge(leaf, &maker.above, roots, Purpose::Client, now).is_ok()
        })
    }
}

/// The picture of the moment.
#[derive(Debug, Default)]
pub struct TrustHolder(RwLock<Arc<Trust>>);

impl TrustHolder {
    /// The picture as it is.
    pub fn now(&self) -> Arc<Trust> {
        self.0.read().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// Puts `trust` in the place of `before`, unless somebody else was quicker; says whether it did.
    pub fn replace(&self, before: &Arc<Trust>, trust: Trust) -> bool {
        let mut current = self.0.write().unwrap_or_else(PoisonError::into_inner);
        let same = Arc::ptr_eq(&current, before);
        if same {
            *current = Arc::new(trust);
        }
        same
    }

    /// Puts `trust` in the place of whatever is there.
    pub fn set(&self, trust: Trust) {
        *self.0.write().unwrap_or_else(PoisonError::into_inner) = Arc::new(trust);
    }
}
