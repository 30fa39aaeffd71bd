//! Certificates as they come off the press: the ward's settings and authorities made ready once, then one device after
//! the other.

use std::collections::{BTreeMap, HashMap};
use std::sync::{Arc, OnceLock};

use serde::Serialize;
use tidy_warden_core::authority::{AuthorityRecord, AuthorityRole};
use tidy_warden_core::certificate::{Certificate, Form, Fresh, IssueError, Issuer, SerialNumber, Usage};
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::id::{AuthorityName, DeviceId, KindName};
use tidy_warden_core::key::{ProvenKey, SignError, Signer, SoftwareKey, sha256};
use tidy_warden_core::outfit::{Connect, Errands, SCHEMA};
use tidy_warden_core::policy::{Edition, Introduce, Rights};
use tidy_warden_core::profile::{Filled, InWard};
use tidy_warden_core::settings::{Kind, Role, Settings};
use tidy_warden_core::time::{Span, UnixTime};
use tidy_warden_store::NewCredential;
use zeroize::Zeroizing;

use crate::clock::SystemRandom;
use crate::open::{Urls, Ward};
use crate::problem::Problem;

/// Where the device's key comes from.
pub enum KeySource {
    /// A request that proves it.
    Proven(ProvenKey),
    /// Made here, of the type that the kind says.
    MakeHere,
}

/// Opens the key of an authority.
pub type OpenKey<'o> = dyn Fn(&AuthorityRecord) -> Result<Arc<dyn Signer>, Problem> + 'o;

/// What signing needs to know of a ward, and its authorities.
pub struct Mint {
    settings: Settings,
    urn: String,
    edition: Option<Edition>,
    root_pem: Text,
    root_fingerprint: String,
    /// The cross-certificates of the ward's roots.
    crosses: String,
    signatories: BTreeMap<AuthorityName, Signatory>,
    /// Who signs for each kind, as far as it was asked.
    kinds: BTreeMap<KindName, Result<AuthorityName, String>>,
}

/// An authority that may be needed.
struct Signatory {
    record: AuthorityRecord,
    /// The certificates that lead from a device's to a root.
    chain_pem: Text,
    urls: Urls,
    signer: OnceLock<Arc<dyn Signer>>,
}

impl Mint {
    /// All that the ward knows now. No key is opened yet.
    pub fn new(ward: &Ward) -> Result<Self, Problem> {
        let roots = ward.roots()?;
        let all = ward.store.authorities()?;
        let of_roots = all.iter().filter(|each| each.role == AuthorityRole::Root).flat_map(|root| &root.crossed);
        let crosses: String = of_roots.map(Certificate::to_pem).collect();
        let mut signatories = BTreeMap::new();
        let mut kinds = BTreeMap::new();
        for (name, kind) in &ward.settings.kinds {
            let authority = ward.issuing_for(kind);
            let record = match authority {
                Ok(record) => record,
                Err(problem) => {
                    kinds.insert(name.clone(), Err(problem.in_one_line()));
                    continue;
                }
            };
            kinds.insert(name.clone(), Ok(record.name.clone()));
            if !signatories.contains_key(&record.name) {
                let signatory = Signatory {
                    chain_pem: Text::new(chain_of(&record, &crosses))?,
                    urls: ward.urls(&record.name),
                    record,
                    signer: OnceLock::new(),
                };
                signatories.insert(signatory.record.name.clone(), signatory);
            }
        }
        Ok(Self {
            settings: ward.settings.clone(),
            urn: ward.record.urn.clone(),
            edition: ward.edition()?,
            root_pem: Text::new(roots.iter().map(|root| root.certificate.to_pem()).collect())?,
            root_fingerprint: roots.first().map(|root| root.certificate.fingerprint.to_string()).unwrap_or_default(),
            crosses,
            signatories,
            kinds,
        })
    }

    /// What children a device may bring in, by the policies that were read.
    #[must_use]
    pub fn introduces(&self, device: &DeviceRecord) -> Vec<Introduce> {
        self.edition.as_ref().map(|edition| edition.introduces(device, &self.settings)).unwrap_or_default()
    }

    /// The certificates that lead from a device's to a root, where `authority` signed it, and the roots; PEM.
    pub fn chains(&self, authority: &AuthorityRecord) -> (String, &str) {
        (chain_of(authority, &self.crosses), &self.root_pem.plain)
    }

    /// Makes ready what signs for a kind: `open` is called once for each authority.
    ///
    /// # Errors
    /// The authority's key cannot be opened. A kind that nobody signs for is told by [`Press::mint`].
    pub fn prepare(&self, kind: &KindName, open: &OpenKey<'_>) -> Result<(), Problem> {
        if let Some(Ok(name)) = self.kinds.get(kind)
            && let Some(signatory) = self.signatories.get(name)
            && signatory.signer.get().is_none()
        {
            // Only one thread prepares, so nobody was faster.
            let _ = signatory.signer.set(open(&signatory.record)?);
        }
        Ok(())
    }

    /// Where a device gets its errands.
    fn errands(&self, id: &DeviceId) -> Errands {
        let reserved = &self.settings.guard.reserved;
        Errands { listen: reserved.filter(id.as_str()), answer: reserved.answer(id, id), ward: self.urn.clone() }
    }

    /// How a device connects by the settings and the edition of now.
    pub fn connect(&self, device: &DeviceRecord) -> Connect {
        let rights = self.edition.as_ref().map(|edition| edition.rights(device));
        let id = device.id.to_string();
        let mqtt = &self.settings.endpoints.mqtt;
        Connect {
            schema: SCHEMA.to_owned(),
            client_id: rights.as_ref().and_then(|rights| rights.client_id()).unwrap_or_else(|| id.clone()),
            user_name: id.clone(),
            device: id,
            host: mqtt.host.clone(),
            port: mqtt.port,
            publish: rights
                .iter()
                .flat_map(|rights| rights.publish_filters())
                .map(|filter| filter.to_string())
                .collect(),
            publish_qos: rights.as_ref().map(publish_qos).unwrap_or_default(),
            errands: Some(self.errands(&device.id)),
            subscribe: rights.iter().flat_map(|rights| rights.subscribe_filters()).collect(),
            root_fingerprint: self.root_fingerprint.clone(),
        }
    }
}

/// An authority's certificate and those above it, in PEM.
fn chain_of(authority: &AuthorityRecord, crosses: &str) -> String {
    let own = std::iter::once(&authority.certificate).chain(&authority.crossed);
    own.map(Certificate::to_pem).chain([crosses.to_owned()]).collect()
}

/// The highest QoS at which a device may publish, of the filters where that is below 2.
fn publish_qos(rights: &Rights) -> BTreeMap<String, u8> {
    let mut highest: BTreeMap<String, u8> = BTreeMap::new();
    for (rule, filter) in rights.publish_rules() {
        let qos = rule.limits.qos.unwrap_or(2);
        let known = highest.entry(filter.to_string()).or_insert(qos);
        *known = qos.max(*known);
    }
    highest.retain(|_, qos| *qos < 2);
    highest
}

/// Why a certificate was not made.
pub enum Unmade {
    /// Because of this device; others are not concerned.
    Device(String),
    /// Because of the authority; nothing more can be made.
    All(Problem),
}

/// A certificate with all that belongs to it.
pub struct Minted {
    /// Who signed it.
    pub authority: AuthorityName,
    /// Under that authority.
    pub serial: SerialNumber,
    /// The certificate.
    pub fresh: Fresh,
    /// PKCS#8 in PEM, if the key was made here.
    pub key_pem: Option<Zeroizing<String>>,
    /// Whether the key was made here.
    pub fresh_key: bool,
    key_digest: [u8; 32],
    key_type: String,
    not_before: UnixTime,
    /// The last second of its validity.
    pub not_after: UnixTime,
    overlap: Span,
    /// Whether its end was clipped to the authority's.
    pub clipped: bool,
    /// The name that had to be made up, if one had to.
    pub made_up: Option<String>,
}

impl Minted {
    /// The same, after the key has gone into the outfit.
    pub fn without_key(self) -> Self {
        Self { key_pem: None, ..self }
    }

    /// What is to be recorded of it.
    pub fn credential<'a>(&'a self, device: &'a tidy_warden_core::id::DeviceId, again: bool) -> NewCredential<'a> {
        NewCredential {
            device,
            origin: tidy_warden_core::credential::Origin::Issued,
            authority: Some(&self.authority),
            der: &self.fresh.der,
            fingerprint: self.fresh.fingerprint,
            serial: Some(&self.serial),
            key_digest: self.key_digest,
            key_type: &self.key_type,
            not_before: self.not_before,
            not_after: self.not_after,
            again,
            overlap: self.overlap,
            fresh_key: self.fresh_key,
            authorised_by: None,
            kid: None,
            note: None,
        }
    }
}

/// Signs at one moment.
pub struct Press<'m> {
    mint: &'m Mint,
    now: UnixTime,
    ready: HashMap<KindName, Ready<'m>>,
}

struct Ready<'m> {
    kind: &'m Kind,
    signatory: &'m Signatory,
    form: Form<'m>,
    /// Whether a certificate of this form was read back.
    proved: bool,
}

impl<'m> Press<'m> {
    /// What is signed begins with `now`.
    #[must_use]
    pub fn new(mint: &'m Mint, now: UnixTime) -> Self {
        Self { mint, now, ready: HashMap::new() }
    }

    fn ready(&mut self, name: &KindName) -> Result<&mut Ready<'m>, Unmade> {
        if !self.ready.contains_key(name) {
            let ready = self.make_ready(name)?;
            self.ready.insert(name.clone(), ready);
        }
        self.ready.get_mut(name).ok_or_else(|| Unmade::Device(format!("the kind `{name}` is not declared")))
    }

    fn make_ready(&self, name: &KindName) -> Result<Ready<'m>, Unmade> {
        let kind = self.mint.settings.kind(name).map_err(|unknown| Unmade::Device(unknown.to_string()))?;
        let signatory = match self.mint.kinds.get(name) {
            Some(Ok(authority)) => self.mint.signatories.get(authority),
            Some(Err(why)) => return Err(Unmade::Device(why.clone())),
            None => None,
        };
        let not_opened = || Unmade::All(Problem::failed(format!("no authority is open for the kind `{name}`")));
        let signatory = signatory.ok_or_else(not_opened)?;
        let signer = signatory.signer.get().ok_or_else(not_opened)?;
        let issuer = Issuer { certificate: &signatory.record.certificate, signer: &**signer };
        let usage = if kind.server { Usage::ClientAndServer } else { Usage::Client };
        let form = Form::new(issuer, usage, self.now, kind.life, signatory.urls.places()).map_err(|error| {
            let failed = format!("`{}` cannot sign for the kind `{name}`", signatory.record.name);
            Unmade::All(Problem::refused(failed).because(error).next("add an authority that can: authority add"))
        })?;
        if form.clipped && form.not_after.since(self.now) < kind.least_life.seconds() {
            return Err(Unmade::Device(format!(
                "its certificate would end with its authority on {}, sooner than least_life allows",
                form.not_after.date()
            )));
        }
        Ok(Ready { kind, signatory, form, proved: false })
    }

    /// Makes a certificate.
    pub fn mint(&mut self, device: &DeviceRecord, source: KeySource) -> Result<Minted, Unmade> {
        self.mint_after(device, source, &mut |_, _, _| Ok(()))
    }

    /// Makes a certificate; `before` hears of its serial number, its end and who signs it when all is ready but the signature.
    pub fn mint_after(
        &mut self,
        device: &DeviceRecord,
        source: KeySource,
        before: &mut dyn FnMut(&SerialNumber, UnixTime, &AuthorityName) -> Result<(), Problem>,
    ) -> Result<Minted, Unmade> {
        let (mint, now) = (self.mint, self.now);
        let ready = self.ready(&device.kind)?;
        let kind = ready.kind;
        if kind.role == Role::Device
            && let Some(fact) = kind.facts.iter().find(|fact| !device.facts.contains_key(fact))
        {
            return Err(Unmade::Device(format!(
                "its kind `{}` wants the fact `{fact}`, which is not known",
                device.kind
            )));
        }
        let Filled { subject, names, made_up } = fill(mint, kind, device)?;
        let (proven, made) = match source {
            KeySource::Proven(key) => (key, None),
            KeySource::MakeHere => {
                let key = SoftwareKey::generate(kind.key).map_err(|error| stop("cannot make a key", &error))?;
                (key.proven(), Some(key))
            }
        };
        let key = proven.public_key();
        if made.is_none() && !kind.accepts(key.key_type()) {
            return Err(Unmade::Device(format!(
                "its key is {}, which its kind `{}` does not accept",
                key.key_type(),
                device.kind
            )));
        }
        let key_digest = sha256(key.spki());
        let key_type = key.key_type().to_string();
        let serial = SerialNumber::new(now, &mut SystemRandom);
        before(&serial, ready.form.not_after, &ready.signatory.record.name).map_err(Unmade::All)?;
        let failed = format!("`{}` did not sign", ready.signatory.record.name);
        let fresh = ready.form.sign(&serial, &subject, &proven, &names).map_err(|error| stop(&failed, &error))?;
        if !ready.proved {
            // What the first certificate of a form says and who signed it, the others share.
            let read = Certificate::from_der(&fresh.der).map_err(IssueError::ReadBack);
            match read {
                Ok(read) if read.is_signed_by(&ready.signatory.record.certificate.public_key) => ready.proved = true,
                Ok(_) => return Err(stop(&failed, &"the signature that was made does not verify")),
                Err(error) => return Err(stop(&failed, &error)),
            }
        }
        let key_pem = match &made {
            Some(key) => Some(key.to_pkcs8_pem().map_err(|error: SignError| stop("cannot write the key", &error))?),
            None => None,
        };
        Ok(Minted {
            authority: ready.signatory.record.name.clone(),
            serial,
            fresh,
            fresh_key: key_pem.is_some(),
            key_pem,
            key_digest,
            key_type,
            not_before: ready.form.not_before,
            not_after: ready.form.not_after,
            overlap: kind.overlap,
            clipped: ready.form.clipped,
            made_up,
        })
    }

    /// The parts of a device's outfit.
    pub fn outfit<'o>(&'o self, device: &DeviceRecord, minted: &'o Minted) -> Result<Outfit<'o>, Problem> {
        let connect = self.mint.connect(device);
        let signatory = self.mint.signatories.get(&minted.authority);
        let signatory = signatory.ok_or_else(|| Problem::failed(format!("`{}` is gone", minted.authority)))?;
        Ok(Outfit {
            schema: "tidy-warden/outfit/1",
            device_key: minted.key_pem.as_ref().map(|pem| pem.as_str()),
            device_pem: tidy_warden_core::asn1::pem("CERTIFICATE", &minted.fresh.der),
            chain_pem: &signatory.chain_pem,
            root_pem: &self.mint.root_pem,
            connect,
        })
    }
}

fn fill(mint: &Mint, kind: &Kind, device: &DeviceRecord) -> Result<Filled, Unmade> {
    let settings = &mint.settings;
    let ward = InWard { name: &settings.name, urn: &mint.urn, enterprise_number: settings.enterprise_number };
    let filled = kind.profile.fill(ward, device).map_err(|error| Unmade::Device(error.to_string()))?;
    for name in &filled.names {
        if let tidy_warden_core::certificate::AltName::Dns(name) = name
            && settings.is_endpoint_host(name)
        {
            return Err(Unmade::Device(format!("its DNS name `{name}` is that of an endpoint of the ward")));
        }
    }
    Ok(filled)
}

fn stop(what: &str, error: &dyn std::fmt::Display) -> Unmade {
    Unmade::All(Problem::failed(what).because(error))
}

/// A text that stands in every outfit, as it is and as JSON.
pub struct Text {
    /// As it is.
    pub plain: String,
    json: Box<serde_json::value::RawValue>,
}

impl Text {
    fn new(plain: String) -> Result<Self, Problem> {
        let json = serde_json::value::to_raw_value(&plain);
        let json = json.map_err(|error| Problem::failed("cannot write an outfit").because(error))?;
        Ok(Self { plain, json })
    }
}

impl Serialize for Text {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        self.json.serialize(serializer)
    }
}

/// The parts of an outfit; as one JSON document in a pack.
#[derive(Serialize)]
pub struct Outfit<'o> {
    /// `tidy-warden/outfit/1`.
    pub schema: &'static str,
    /// PKCS#8 in PEM, if the key was made here.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub device_key: Option<&'o str>,
    /// The device's certificate.
    pub device_pem: String,
    /// Those above it.
    pub chain_pem: &'o Text,
    /// The roots.
    pub root_pem: &'o Text,
    /// How it connects.
    pub connect: Connect,
}

impl Outfit<'_> {
    /// `connect.json`.
    pub fn connect_text(&self) -> Result<String, Problem> {
        serde_json::to_string_pretty(&self.connect)
            .map(|text| text + "\n")
            .map_err(|error| Problem::failed("cannot write connect.json").because(error))
    }
}
