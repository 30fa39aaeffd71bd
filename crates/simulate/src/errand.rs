//! A device that does its errands: it believes its roots and nobody else, does each once, and renews by what it is sent.

use std::collections::{BTreeMap, VecDeque};
use std::path::{Path, PathBuf};
use std::time::{SystemTime, UNIX_EPOCH};

use serde::Deserialize;
use serde_json::value::RawValue;
use tidy_warden_core::asn1;
use tidy_warden_core::certificate::Certificate;
use tidy_warden_core::errand::{self, Outcome, Purpose, answer_text, read, renewal_text};
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::key::{NewKey, Signer, SoftwareKey};
use tidy_warden_core::request::Request;
use tidy_warden_core::time::UnixTime;

use crate::Outfit;
use crate::device::Delivered;

/// How many errands a device remembers that it did, with what it answered.
const REMEMBERED: usize = 64;

/// What makes an errand one and no other: its number, and what nobody could know before.
type Name = (i64, [u8; 16]);

/// A device and what it did.
pub(crate) struct Doer {
    device: DeviceId,
    ward: String,
    roots: Vec<Certificate>,
    key: Option<SoftwareKey>,
    /// A key for which it asked for a certificate.
    next: Option<SoftwareKey>,
    done: VecDeque<(Name, String)>,
    /// Where its outfit is, if that is a folder: what it is given goes there.
    folder: Option<PathBuf>,
}

/// What a device does about an errand.
#[derive(Debug, PartialEq, Eq)]
pub(crate) struct Does {
    /// Where it answers, and what.
    pub(crate) topic: String,
    pub(crate) answer: String,
    /// What it was, in a word.
    pub(crate) purpose: String,
    /// Whether it has another certificate now, and is to come back with it.
    pub(crate) is_renewed: bool,
}

/// What an errand to install brings.
#[derive(Deserialize)]
struct Brought {
    certificate: String,
    chain: String,
    roots: String,
}

fn now() -> UnixTime {
    let since = SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |since| since.as_secs());
    UnixTime(i64::try_from(since).unwrap_or(i64::MAX))
}

impl Doer {
    /// The device of an outfit that says where its errands come.
    pub(crate) fn of(outfit: &Outfit) -> Option<Self> {
        let errands = outfit.connect.errands.as_ref()?;
        Some(Self {
            device: outfit.connect.device.parse().ok()?,
            ward: errands.ward.clone(),
            roots: vec![Certificate::from_der(&outfit.root).ok()?],
            key: outfit.key.as_ref().and_then(|key| SoftwareKey::from_pkcs8(key).ok()),
            next: None,
            done: VecDeque::new(),
            folder: outfit.place.is_dir().then(|| outfit.place.clone()),
        })
    }

    /// Does what came, if it is an errand of the device's ward for it.
    pub(crate) fn does(&mut self, came: &Delivered) -> Option<Does> {
        let text = std::str::from_utf8(&came.payload).ok()?;
        let errand = read(text, &self.device, &self.roots, Some(&self.ward), now()).ok()?.errand;
        let name = (errand.number, errand.nonce);
        let topic = came.topic.replacen("/errand/", "/answer/", 1);
        let purpose = errand.purpose.to_string();
        if let Some((_, answer)) = self.done.iter().find(|(done, _)| *done == name) {
            return Some(Does { topic, answer: answer.clone(), purpose, is_renewed: false });
        }
        let is_install = errand.purpose == Purpose::Install;
        let done = match errand.purpose {
            Purpose::Renew => self.asks(&errand),
            Purpose::Install => {
                self.installs(&errand.detail).map(|()| answer_text(errand.number, Outcome::Done, None, None))
            }
            // It signs in with its certificate, and has nothing to open one with.
            Purpose::InstallKey => Err("a simulated device shares no key with its ward".to_owned()),
            _ => {
                let result: Option<&RawValue> = serde_json::from_str(r#"{"simulated":true}"#).ok();
                Ok(answer_text(errand.number, Outcome::Done, None, result))
            }
        };
        let is_renewed = is_install && done.is_ok();
        let answer = done.unwrap_or_else(|why| answer_text(errand.number, Outcome::Refused, Some(&why), None));
        self.done.push_back((name, answer.clone()));
        if self.done.len() > REMEMBERED {
            self.done.pop_front();
        }
        Some(Does { topic, answer, purpose, is_renewed })
    }

    /// A request for the next certificate, signed with the key of the present one.
    fn asks(&mut self, errand: &errand::Errand) -> Result<String, String> {
        let told = |error: &dyn std::fmt::Display| error.to_string();
        let (Some(key), Some(_)) = (&self.key, &self.folder) else {
            return Err("its key is not here, or its outfit is one document: it keeps nothing".to_owned());
        };
        let next = SoftwareKey::generate(NewKey::P256).map_err(|error| told(&error))?;
        // What a request leaves out is as in the certificate that there is.
        let csr = Request::stating(&BTreeMap::new(), &next).map_err(|error| told(&error))?;
        let text = renewal_text(errand, &self.ward, &csr, key).map_err(|error| told(&error))?;
        self.next = Some(next);
        Ok(text)
    }

    /// Takes a certificate for the key that it made.
    fn installs(&mut self, detail: &str) -> Result<(), String> {
        let told = |error: &dyn std::fmt::Display| error.to_string();
        let brought: Brought = serde_json::from_str(detail).map_err(|error| told(&error))?;
        let certificate = Certificate::read_all(brought.certificate.as_bytes()).map_err(|error| told(&error))?;
        let roots = Certificate::read_all(brought.roots.as_bytes()).map_err(|error| told(&error))?;
        let (Some(next), Some(folder)) = (self.next.take(), &self.folder) else {
            return Err("it asked for none".to_owned());
        };
        if certificate.first().is_none_or(|certificate| certificate.public_key != *next.public_key()) {
            return Err("it is for another key".to_owned());
        }
        let pkcs8 = next.to_pkcs8().map_err(|error| told(&error))?;
        let key = asn1::pem("PRIVATE KEY", &pkcs8);
        // The key goes last: whoever is killed in between has one that does not fit, and is asked again.
        let files = [
            ("root.pem", &brought.roots),
            ("chain.pem", &brought.chain),
            ("device.pem", &brought.certificate),
            ("device.key", &key),
        ];
        for (name, text) in files {
            replace(&folder.join(name), text).map_err(|error| told(&error))?;
        }
        (self.key, self.roots) = (Some(next), roots);
        Ok(())
    }
}

/// Writes a file of the outfit in the place of what there was, readable to its owner alone.
fn replace(path: &Path, text: &str) -> std::io::Result<()> {
    use std::io::Write;
    use std::os::unix::fs::OpenOptionsExt;
    let beside = path.with_extension("new");
    let mut file = std::fs::OpenOptions::new().create(true).write(true).truncate(true).mode(0o600).open(&beside)?;
    file.write_all(text.as_bytes())?;
    file.sync_all()?;
    std::fs::rename(&beside, path)
}
