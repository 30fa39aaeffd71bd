//! The revocation lists of foreign authorities: files beside the ward, which somebody fetches from the maker. If a list is
//! wanted of a maker, doubt about it denies that maker's devices, and nobody else's.

use std::collections::{BTreeMap, HashSet};
use std::path::PathBuf;
use std::sync::{Arc, PoisonError, RwLock};
use std::time::SystemTime;

use tidy_warden_core::certificate::{Certificate, SerialNumber};
use tidy_warden_core::id::AuthorityName;
use tidy_warden_core::key::sha256;
use tidy_warden_core::revocation::Crl;
use tidy_warden_core::time::UnixTime;

use crate::trust::{Maker, Trust, head};

/// The largest file: a list of a million certificates has about 53 MB, half as much again in PEM.
const MAX_FILE: u64 = 128 * 1024 * 1024;

/// Why a maker's certificate is not taken.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum Listed {
    /// It stands on a list.
    #[error("its maker `{maker}` revoked it at {at}")]
    Revoked {
        /// Who signed it.
        maker: AuthorityName,
        /// Since when.
        at: UnixTime,
    },
    /// There is no good list: doubt denies.
    #[error("whether its maker `{maker}` revoked it is not known: {why}")]
    Unknown {
        /// Who signed it.
        maker: AuthorityName,
        /// For people.
        why: String,
    },
}

/// The lists of one maker, all of them signed by it or by what stands between it and its devices.
#[derive(Debug)]
struct Lists {
    all: Vec<Crl>,
    /// The first eight octets of the digest of each serial number, so that few certificates cost a walk through a long list.
    heads: HashSet<u64>,
}

impl Lists {
    /// Reads lists of `maker`.
    fn read(octets: &[u8], maker: &Maker, now: UnixTime) -> Result<Self, String> {
        let mut all = Crl::read_all(octets).map_err(|error| error.to_string())?;
        for crl in &all {
            let issuers: Vec<&Certificate> = maker.authorities().filter(|each| each.subject == crl.issuer).collect();
            let judged: Vec<_> = issuers.iter().map(|issuer| crl.judge(issuer, now)).collect();
            match (judged.iter().any(Result::is_ok), judged.into_iter().find_map(Result::err)) {
                (true, _) => {}
                (false, None) => return Err("a list in it is of another issuer".to_owned()),
                (false, Some(error)) => return Err(error.to_string()),
            }
        }
        // Of several lists of one issuer the newest counts.
        all.sort_by_key(|crl| std::cmp::Reverse(crl.this_update));
        let mut issuers = HashSet::new();
        all.retain(|crl| issuers.insert(crl.issuer.clone()));
        let mut heads = HashSet::new();
        for crl in &all {
            crl.serials(&mut |serial| {
                heads.insert(head(&sha256(serial)));
            });
        }
        let lists = Self { all, heads };
        for between in maker.authorities() {
            if let Some(at) = lists.find(&between.serial) {
                return Err(format!("`{}` itself was revoked at {at}", between.subject_text));
            }
        }
        Ok(lists)
    }

    /// When a certificate was revoked.
    fn find(&self, serial: &SerialNumber) -> Option<UnixTime> {
        if !self.heads.contains(&head(&sha256(serial.octets()))) {
            return None;
        }
        self.all.iter().find_map(|crl| crl.find(serial)).map(|listed| listed.at)
    }

    /// The second after which one of the lists is too old.
    fn ends(&self) -> UnixTime {
        self.all.iter().map(|crl| crl.next_update).min().unwrap_or(UnixTime(0))
    }
}

/// What is known of one maker's lists: the last good ones, or why there are none.
type Known = Result<Arc<Lists>, String>;

/// The lists of all makers that need some.
#[derive(Debug, Default)]
pub struct MakerLists(RwLock<Arc<BTreeMap<AuthorityName, Known>>>);

impl MakerLists {
    fn now(&self) -> Arc<BTreeMap<AuthorityName, Known>> {
        self.0.read().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// Whether a certificate that a maker signed is on no list of it. `issuer` is its issuer's name in DER, where that is
    /// known: then there must be a list of that issuer.
    ///
    /// # Errors
    /// It stands on one, or nobody knows.
    pub fn judge(
        &self,
        maker: &AuthorityName,
        (issuer, serial): (Option<&[u8]>, Option<&SerialNumber>),
        now: UnixTime,
    ) -> Result<(), Listed> {
        let unknown = |why: String| Err(Listed::Unknown { maker: maker.clone(), why });
        let lists = self.now();
        let lists = match lists.get(maker) {
            None => return Ok(()),
            Some(Err(why)) => return unknown(why.clone()),
            Some(Ok(lists)) => lists,
        };
        if now > lists.ends() {
            return unknown(format!("its list ended at {}", lists.ends()));
        }
        if issuer.is_some_and(|issuer| lists.all.iter().all(|crl| crl.issuer != issuer)) {
            return unknown("there is no list of its issuer".to_owned());
        }
        match serial.map(|serial| lists.find(serial)) {
            None => unknown("it has no serial number".to_owned()),
            Some(Some(at)) => Err(Listed::Revoked { maker: maker.clone(), at }),
            Some(None) => Ok(()),
        }
    }

    /// The names of makers whose lists are too old.
    fn ended(&self, now: UnixTime) -> HashSet<AuthorityName> {
        let ended = |(name, known): (&AuthorityName, &Known)| {
            known.as_ref().is_ok_and(|lists| now > lists.ends()).then(|| name.clone())
        };
        self.now().iter().filter_map(ended).collect()
    }
}

/// What a file looked like when it was read: another look means another content.
#[derive(Debug, Clone, PartialEq, Eq)]
struct Look {
    path: PathBuf,
    changed: Option<(SystemTime, u64)>,
    /// The authorities against which it was read.
    generation: u64,
}

/// Who reads the files.
#[derive(Debug, Default)]
pub struct MakerFiles {
    looks: BTreeMap<AuthorityName, Look>,
    ended: HashSet<AuthorityName>,
}

impl MakerFiles {
    /// Reads those of `files` that are others than before into `lists`, and tells of what is of no use; says whether anything changed. A file that cannot be read leaves the
    /// lists from before in their place, until they end.
    pub async fn look(
        &mut self,
        files: &BTreeMap<AuthorityName, PathBuf>,
        trust: &Arc<Trust>,
        lists: &MakerLists,
        now: UnixTime,
        tell: &(dyn Fn(String) + Send + Sync),
    ) -> bool {
        let before = lists.now();
        let mut next: BTreeMap<AuthorityName, Known> = BTreeMap::new();
        let mut looks = BTreeMap::new();
        let mut changed = false;
        for (name, path) in files {
            let stat = std::fs::metadata(path).ok().and_then(|meta| Some((meta.modified().ok()?, meta.len())));
            let look = Look { path: path.clone(), changed: stat, generation: trust.generation };
            let old = before.get(name);
            // One that was of no use is tried again: it may not have begun yet.
            if let Some(old) = old.filter(|old| old.is_ok() && self.looks.get(name) == Some(&look)) {
                next.insert(name.clone(), old.clone());
                looks.insert(name.clone(), look);
                continue;
            }
            let read = {
                let (trust, path, name) = (trust.clone(), path.clone(), name.clone());
                tokio::task::spawn_blocking(move || {
                    let maker = trust.makers().find(|maker| maker.name == name);
                    let maker = maker.ok_or_else(|| "the ward trusts no such authority".to_owned())?;
                    let octets = crate::file::read(&path, MAX_FILE).map_err(|error| error.to_string())?;
                    Lists::read(&octets, maker, now).map(Arc::new)
                })
                .await
            };
            let known: Known = read.unwrap_or_else(|_| Err("it could not be read".to_owned()));
            let known = known.map_err(|why| format!("{}: {why}", path.display())).or_else(|why| {
                let what = format!("the revocation list of `{name}` is of no use: {why}");
                match old {
                    // Only what the same authority signed goes on.
                    Some(Ok(lists)) if self.looks.get(name).is_some_and(|at| at.generation == look.generation) => {
                        let what = format!("{what}; the one from before counts until {}", lists.ends());
                        tell(what);
                        Ok(lists.clone())
                    }
                    _ => {
                        if !matches!(old, Some(Err(before)) if *before == why) {
                            let what = format!("{what}; none of its devices may connect");
                            tell(what);
                        }
                        Err(why)
                    }
                }
            });
            changed |= !matches!((old, &known), (Some(Err(before)), Err(why)) if before == why);
            next.insert(name.clone(), known);
            looks.insert(name.clone(), look);
        }
        changed |= next.len() != before.len();
        self.looks = looks;
        *lists.0.write().unwrap_or_else(PoisonError::into_inner) = Arc::new(next);
        let ended = lists.ended(now);
        for name in ended.difference(&self.ended) {
            let what = format!("the revocation list of `{name}` has ended; none of its devices may connect");
            tell(what);
            changed = true;
        }
        self.ended = ended;
        changed
    }
}
