//! Keys of the ward's own that sign one thing only, each with a certificate of its own below the root: errands, vouchers.

use std::sync::Arc;

use tidy_warden_core::certificate::{Certificate, Issuer, SerialNumber, Subject, Template, Usage};
use tidy_warden_core::key::Signer;
use tidy_warden_core::time::UnixTime;
use tidy_warden_store::acts::errand::chain_of;

use crate::clock::SystemRandom;
use crate::keys::{self, Openers};
use crate::open::{KEYS, Ward};
use crate::problem::Problem;
use crate::server::SERVER_LIFE;

/// How such a key is kept.
pub(crate) struct OwnKey {
    /// What it is called among those that the authority for services signs; its file has that name too.
    pub(crate) name: &'static str,
    /// What it is called when it is opened.
    pub(crate) what: &'static str,
    /// What its certificate is for, and nothing else.
    pub(crate) usage: Usage<'static>,
    /// Why it is made, for the record.
    pub(crate) because: &'static str,
}

/// A key, with its certificate and those above it, without the root.
type Opened = (Arc<dyn Signer>, Vec<Certificate>);

impl OwnKey {
    fn file(&self) -> String {
        format!("{}.key", self.name)
    }

    /// Opens the key, if the ward has one whose certificate is good now.
    pub(crate) fn existing(&self, ward: &Ward, openers: &dyn Openers) -> Result<Option<Opened>, Problem> {
        let path = ward.dir.join(KEYS).join(self.file());
        let chain = ward.store.view(|view| chain_of(view, self.name))?.filter(|chain| is_good(chain, ward.now()));
        let Some(chain) = chain else { return Ok(None) };
        if let Some(key) = openers.known(&chain[0].public_key) {
            return Ok(Some((key, chain)));
        }
        if !path.exists() {
            return Ok(None);
        }
        let key = keys::open(&path, openers.passphrase(self.what)?)?;
        if *key.public_key() != chain[0].public_key {
            return Err(Problem::refused(format!("{} cannot be used", self.what))
                .because(format!("{} is another key than the ward has a certificate for", path.display()))
                .next("put the file back from a copy of the ward, or move it away: a new one is made then"));
        }
        Ok(Some((Arc::new(key), chain)))
    }

    /// Opens the key; where there is none yet, or its certificate is of no use any more, makes one, which the authority for services signs.
    pub(crate) fn open(&self, ward: &mut Ward, openers: &dyn Openers) -> Result<Opened, Problem> {
        if let Some(opened) = self.existing(ward, openers)? {
            return Ok(opened);
        }
        let failed =
            |error: &dyn std::fmt::Display| Problem::failed(format!("cannot make {}", self.what)).because(error);
        let service = ward.service()?;
        let signer = openers.signer(ward, &service)?;
        // A key whose certificate ended goes on, too.
        let key = keys::open_or_make(ward, openers, &self.file(), self.what)?;
        let urls = ward.urls(&service.name);
        let template = Template {
            serial: SerialNumber::new(ward.now(), &mut SystemRandom),
            subject: &Subject::of(&ward.settings.name, self.name),
            names: &[],
            key: &key.proven(),
            now: ward.now(),
            life: SERVER_LIFE,
            usage: self.usage,
            places: urls.places(),
        };
        let issuer = Issuer { certificate: &service.certificate, signer: &*signer };
        let certificate = template.issue(issuer).map_err(|error| failed(&error))?.certificate;
        let cause = ward.cause(Some(self.because));
        ward.store.make_signer(self.name, &certificate, &cause)?;
        let chain = ward.store.view(|view| chain_of(view, self.name))?.unwrap_or_else(|| vec![certificate]);
        Ok((Arc::new(key), chain))
    }
}

/// Whether each certificate is good now, and an authority is among them.
fn is_good(chain: &[Certificate], now: UnixTime) -> bool {
    chain.len() > 1 && chain.iter().all(|each| each.not_before <= now && each.not_after >= now)
}
