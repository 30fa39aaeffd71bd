//! `authority add`: authorities that sign devices, new roots, outside roots' answers, and foreign authorities.

use std::path::Path;
use std::sync::Arc;

use tidy_warden_core::asn1;
use tidy_warden_core::authority::{
    AuthorityRecord, AuthorityRefusal, AuthorityRole, KeyPlace, PendingAuthority, Trust,
};
use tidy_warden_core::certificate::{
    Base, Certificate, Constraints, IssueError, Issuer, Places, Purpose, SerialNumber, Subject, Template, Usage, judge,
    self_signed,
};
use tidy_warden_core::fact::FactName;
use tidy_warden_core::id::{AuthorityName, KindName};
use tidy_warden_core::key::{LockCost, NewKey, ProvenKey, SignError, Signer};
use tidy_warden_core::request::Request;
use tidy_warden_core::time::Span;
use tidy_warden_store::NewAuthority;

use super::judge::certificates;
use crate::args::AddAuthorityArgs;
use crate::clock::SystemRandom;
use crate::commands::Context;
use crate::edge::{fact_name, known_kind, parse};
use crate::files::{self, Access};
use crate::keys::{self, Openers, Secrets};
use crate::passphrase;
use crate::problem::{Exit, Problem};
use crate::ward::{KEYS, Ward};

/// How long an authority and a root last, if nothing else is asked for.
const LIFE: Span = Span::from_days(10 * 365);
const ROOT_LIFE: Span = Span::from_days(20 * 365);

/// What an addition works on.
struct Addition<'a> {
    context: &'a Context<'a>,
    args: &'a AddAuthorityArgs,
    ward: Ward,
    name: AuthorityName,
    secrets: Secrets<'a>,
}

pub(super) fn run(context: &Context<'_>, args: &AddAuthorityArgs) -> Result<Exit, Problem> {
    let ward = context.ward()?;
    let name: AuthorityName = parse(&args.authority)?;
    let secrets = context
        .secrets()
        .with_key_file(args.root_key.as_deref())
        .with_root_passphrase(args.root_passphrase_file.as_deref());
    let mut addition = Addition { context, args, ward, name, secrets };
    addition.refuse_taken()?;
    let had_key = addition.key_path().exists();
    let added = addition.run();
    if added.is_err() && !had_key && !addition.waits()? {
        // A key that was made for nothing would stand in the way of the next try.
        let _ = std::fs::remove_file(addition.key_path());
    }
    added
}

fn signing(error: &dyn std::fmt::Display) -> Problem {
    Problem::failed("the authority's certificate was not signed").because(error)
}

impl Addition<'_> {
    fn run(&mut self) -> Result<Exit, Problem> {
        let args = self.args;
        if let Some(file) = &args.trust {
            self.trust(file)
        } else if args.new_root {
            self.new_root()
        } else if let Some(file) = &args.request {
            self.request(file)
        } else if let Some(file) = &args.answer {
            self.answer(file)
        } else if let (Some(cert), Some(key)) = (&args.cert, &args.locked_key) {
            self.bring_in(cert, key)
        } else {
            self.sign()
        }
    }

    /// Whether the authority waits for an outside root's answer, or is there.
    fn waits(&self) -> Result<bool, Problem> {
        let pending = self.ward.store.pending_authorities()?.iter().any(|each| each.name == self.name);
        Ok(pending || self.is_there()?)
    }

    fn is_there(&self) -> Result<bool, Problem> {
        Ok(self.ward.store.authorities()?.iter().any(|each| each.name == self.name))
    }

    fn refuse_taken(&self) -> Result<(), Problem> {
        // Keys of the ward that are no authority's have names, too.
        let reserved = ["tokens", "guard", "desk", "errands", "vouchers", "notices"].contains(&self.name.as_str());
        match reserved || self.is_there()? {
            true => Err(Problem::refused(format!("the name `{}` is in use", self.name)).next("authority list")),
            false => Ok(()),
        }
    }

    fn new_key(&self) -> Result<NewKey, Problem> {
        self.args.key.parse().map_err(|error: tidy_warden_core::key::UnknownKeyType| Problem::usage(error.to_string()))
    }

    fn life(&self, default: Span) -> Result<Span, Problem> {
        let life = self.args.life.as_deref().map_or(Ok(default), parse)?;
        match life.seconds() {
            0 => Err(Problem::usage("an authority must last for some time").next("--life 3650d")),
            _ => Ok(life),
        }
    }

    fn subject(&self) -> Subject {
        let ward = &self.ward.settings.name;
        let mark = if self.ward.record.rehearsal { " REHEARSAL" } else { "" };
        // At most 64 characters (RFC 5280 appendix A.1); what does not fit is the ward's name, which O has in full.
        let tail = format!(" {}{mark}", self.name);
        let room = 64usize.saturating_sub(tail.chars().count());
        let common_name: String = ward.chars().take(room).collect::<String>() + &tail;
        Subject::of(ward, &common_name)
    }

    fn constraints(&self) -> Result<Option<Constraints>, Problem> {
        let bases = |texts: &[String]| {
            texts
                .iter()
                .map(|text| {
                    text.parse::<Base>()
                        .map_err(|error: tidy_warden_core::certificate::BadBase| Problem::usage(error.to_string()))
                })
                .collect::<Result<Vec<_>, _>>()
        };
        let constraints = Constraints { permitted: bases(&self.args.permit)?, excluded: bases(&self.args.exclude)? };
        Ok((constraints != Constraints::default()).then_some(constraints))
    }

    /// The root that signs: the one named, or the newest whose key is within reach.
    fn root(&self) -> Result<AuthorityRecord, Problem> {
        if let Some(name) = &self.args.root {
            let name: AuthorityName = parse(name)?;
            let found = self.ward.named_authority(&name)?;
            return match found.role {
                AuthorityRole::Root if found.retired.is_none() => Ok(found),
                _ => Err(Problem::refused(format!("`{name}` is not a trusted root")).next("authority list")),
            };
        }
        let roots = self.ward.roots()?;
        roots.into_iter().rev().find(|root| root.key != KeyPlace::Nowhere).ok_or_else(|| {
            Problem::refused("the ward has no root that can sign")
                .next(format!("authority add {} --request FILE, for an outside root", self.name))
        })
    }

    fn replaces(&self) -> Result<Option<AuthorityName>, Problem> {
        let Some(text) = &self.args.replaces else { return Ok(None) };
        let name: AuthorityName = parse(text)?;
        let all = self.ward.store.authorities()?;
        let found = self.ward.named_authority(&name)?;
        let (role, whom) = match self.args.service {
            true => (AuthorityRole::Service, "guards and desks"),
            false => (AuthorityRole::Devices, "devices"),
        };
        if found.role != role {
            return Err(Problem::refused(format!("`{name}` does not sign {whom}")).next("authority list"));
        }
        if let Some(other) = all.iter().find(|each| each.replaces.as_ref() == Some(&name)) {
            return Err(Problem::refused(format!("`{name}` was replaced already, by `{}`", other.name))
                .next(format!("--replaces {}", other.name)));
        }
        Ok(Some(name))
    }

    fn issue(
        &self,
        subject: &Subject,
        proven: &ProvenKey,
        usage: Usage<'_>,
        life: Span,
        above: (&AuthorityRecord, &dyn Signer),
    ) -> Result<Certificate, Problem> {
        let now = self.ward.now();
        let urls = self.ward.urls(&above.0.name);
        let template = Template {
            serial: SerialNumber::new(now, &mut SystemRandom),
            subject,
            names: &[],
            key: proven,
            now,
            life,
            usage,
            places: urls.list_only(),
        };
        let issued = template
            .issue(Issuer { certificate: &above.0.certificate, signer: above.1 })
            .map_err(|error: IssueError| signing(&error))?;
        // That of a root is cut where it is certified by another: its own stands beside it.
        if issued.clipped && !self.args.new_root {
            let end = issued.certificate.not_after.date();
            self.context.console.warn(format!("`{}` ends with its root on {end}", self.name));
        }
        Ok(issued.certificate)
    }

    fn sign(&mut self) -> Result<Exit, Problem> {
        let (root, replaces, constraints) = (self.root()?, self.replaces()?, self.constraints()?);
        if self.args.service && self.ward.roots()?.len() > 1 {
            self.warn_of_root(&root.name)?;
        }
        let (new, life) = (self.new_key()?, self.life(LIFE)?);
        let root_signer = self.secrets.signer(&self.ward, &root)?;
        let (signer, place) = self.make(new)?;
        let proven = self.proven(&*signer)?;
        let usage = Usage::Authority { path_length: Some(self.args.path_length), constraints: constraints.as_ref() };
        let certificate = self.issue(&self.subject(), &proven, usage, life, (&root, &*root_signer))?;
        if new == NewKey::MlDsa65 {
            self.context.console.note(
                "only what knows ML-DSA (FIPS 204) can check its certificates; settings check lists the kinds concerned",
            );
        }
        let role = if self.args.service { AuthorityRole::Service } else { AuthorityRole::Devices };
        let done = self.record(role, &certificate, place, replaces.as_ref(), None, &[])?;
        if self.args.service {
            self.context.console.note(
                "it signs the next certificates of guards, desks and posts; a desk that runs takes it in by itself\n\
                 next: post renew NAME gives each the next one now; then authority retire ends the belief in the one before",
            );
        }
        Ok(done)
    }

    /// Says before the chain of servers changes who is not known to have the root that it will lead to.
    fn warn_of_root(&self, root: &AuthorityName) -> Result<(), Problem> {
        let (devices, have) = self.ward.store.equipped_since(root)?;
        if have < devices {
            let some: Vec<String> =
                self.ward.store.unequipped_since(root, super::HURT)?.iter().map(ToString::to_string).collect();
            self.context.console.warn(format!(
                "{} of {devices} devices are not known to have the root `{root}`, such as {}: they find another way to guards and desks, and \
                 take no errand that is signed below it; authority show {root} --missing lists them",
                devices - have,
                some.join(", ")
            ));
        }
        Ok(())
    }

    fn new_root(&mut self) -> Result<Exit, Problem> {
        let olds: Vec<_> = self.ward.roots()?.into_iter().filter(|root| root.key != KeyPlace::Nowhere).collect();
        let (new, life) = (self.new_key()?, self.life(ROOT_LIFE)?);
        if new == NewKey::MlDsa65 {
            return Err(Problem::refused("a root cannot have an ML-DSA key")
                .because("devices check the guard's certificate up to the root, and most of them cannot check that one")
                .next("give it a classical key, and an authority below it the new one"));
        }
        let mut signers = Vec::new();
        for old in &olds {
            signers.push(self.secrets.signer(&self.ward, old)?);
        }
        let (signer, place) = self.make(new)?;
        let proven = self.proven(&*signer)?;
        let now = self.ward.now();
        let subject = self.subject();
        let template = Template {
            serial: SerialNumber::new(now, &mut SystemRandom),
            subject: &subject,
            names: &[],
            key: &proven,
            now,
            life,
            usage: Usage::UNLIMITED,
            places: Places::default(),
        };
        let certificate = self_signed(&template, &*signer).map_err(|error| signing(&error))?;
        // Each signs the other (RFC 4210 section 4.4): whoever knows either root finds a way from all that stands below.
        let this = self.as_record(&certificate);
        let mut crosses = Vec::new();
        for (old, old_signer) in olds.iter().zip(&signers) {
            let with_old = self.issue(&subject, &proven, Usage::UNLIMITED, life, (old, &**old_signer))?;
            let old_proven = self.proven(&**old_signer)?;
            let old_subject = Subject::from_der(old.certificate.subject.clone());
            let left = u32::try_from(old.certificate.not_after.since(now).max(1)).unwrap_or(u32::MAX);
            let life = Span::from_seconds(left);
            let with_new = self.issue(&old_subject, &old_proven, Usage::UNLIMITED, life, (&this, &*signer))?;
            crosses.push((self.name.clone(), with_old));
            crosses.push((old.name.clone(), with_new));
        }
        self.record(AuthorityRole::Root, &certificate, place, None, None, &crosses)?;
        self.context.console.note(format!(
            "from now on outfits carry both roots; authority show {} tells how many devices have it",
            self.name
        ));
        Ok(Exit::Done)
    }

    /// What is known of this authority before it is recorded.
    fn as_record(&self, certificate: &Certificate) -> AuthorityRecord {
        let (name, certificate) = (self.name.clone(), certificate.clone());
        AuthorityRecord::new(name, AuthorityRole::Root, certificate, KeyPlace::Nowhere, self.ward.now())
    }

    fn request(&mut self, file: &Path) -> Result<Exit, Problem> {
        if file.symlink_metadata().is_ok() {
            return Err(Problem::refused(format!("{} exists already", file.display())).next("name another file"));
        }
        let pending = self.ward.store.pending_authorities()?.into_iter().find(|each| each.name == self.name);
        let (signer, place) = match pending {
            // The same key again: an answer to either request will do.
            Some(pending) => (self.secrets.signer_at(&self.ward, self.name.as_str(), &pending.key)?, pending.key),
            None => self.make(self.new_key()?)?,
        };
        let request = Request::sign(&self.subject(), &*signer).map_err(|error: SignError| signing(&error))?;
        let pending = PendingAuthority {
            name: self.name.clone(),
            role: AuthorityRole::Devices,
            public_key: signer.public_key().clone(),
            key: place,
            created: self.ward.now(),
        };
        let cause = self.ward.cause(self.args.because.text());
        if let Err(refusal) = self.ward.store.expect_authority(&pending, &cause)? {
            return Err(self.refused(&refusal));
        }
        let pem = asn1::pem("CERTIFICATE REQUEST", &request);
        files::create(file, pem.as_bytes(), Access::Public).map_err(|error| Problem::file("write", file, &error))?;
        self.context.console.note(format!(
            "wrote the request {}; when it is signed: authority add {} --answer FILE",
            file.display(),
            self.name
        ));
        Ok(Exit::Done)
    }

    fn answer(&mut self, file: &Path) -> Result<Exit, Problem> {
        let pending = self.ward.store.pending_authorities()?.into_iter().find(|each| each.name == self.name);
        let Some(pending) = pending else {
            return Err(Problem::not_found(format!("`{}` waits for no answer", self.name))
                .next(format!("authority add {} --request FILE comes first", self.name)));
        };
        let mut given = certificates(file)?;
        let Some(at) = given.iter().position(|each| each.public_key == pending.public_key) else {
            return Err(Problem::refused(format!("{} is not the answer for `{}`", file.display(), self.name))
                .because("no certificate in it is for the key that the request was made with")
                .next("ask for the answer to this request, or make a new one under another name"));
        };
        let certificate = given.swap_remove(at);
        let replaces = self.replaces()?;
        self.add_from_outside(&certificate, given, pending.key, replaces.as_ref())
    }

    fn bring_in(&mut self, cert: &Path, locked: &Path) -> Result<Exit, Problem> {
        let console = self.context.console;
        let ward_passphrase = self.secrets.passphrase("the ward's keys")?.clone();
        let theirs = match &self.args.locked_key_passphrase_file {
            Some(path) => passphrase::from_file(path, console)?,
            None => ward_passphrase.clone(),
        };
        let key = keys::open(locked, &theirs)?;
        let mut given = certificates(cert)?;
        let Some(at) = given.iter().position(|each| each.public_key == *key.public_key()) else {
            return Err(Problem::refused(format!("`{}` was not brought in", self.name)).because(format!(
                "no certificate in {} is for the key in {}",
                cert.display(),
                locked.display()
            )));
        };
        let certificate = given.swap_remove(at);
        let replaces = self.replaces()?;
        // Judged before anything is written.
        self.check_outside(&certificate, &given)?;
        // Somebody's real key, whatever ward this is.
        keys::lock(&key, &self.key_path(), &ward_passphrase, LockCost::Full)?;
        self.add_from_outside(&certificate, given, KeyPlace::Ward, replaces.as_ref())
    }

    /// The root that an authority from outside leads to: one of the ward's, or one among the certificates given.
    fn check_outside(&self, certificate: &Certificate, given: &[Certificate]) -> Result<Certificate, Problem> {
        let (mut roots, between): (Vec<Certificate>, Vec<Certificate>) =
            given.iter().cloned().partition(|each| each.subject == each.issuer && each.is_signed_by(&each.public_key));
        roots.extend(self.ward.roots()?.into_iter().map(|root| root.certificate));
        let refused = |why: &dyn std::fmt::Display| {
            Problem::refused(format!("`{}` was not added", self.name))
                .because(why)
                .next("give its certificate and all up to a root in one PEM file")
        };
        if !certificate.basic_constraints.as_ref().is_some_and(|basic| basic.ca)
            || certificate.key_usage.is_some_and(|usage| !usage.key_cert_sign())
        {
            return Err(refused(&"its certificate is not that of an authority that may sign certificates"));
        }
        let path = judge(certificate, &between, &roots, Purpose::Any, self.ward.now()).map_err(|why| refused(&why))?;
        match path.last() {
            Some(root) => Ok((*root).clone()),
            None => Err(refused(&"it leads to no root")),
        }
    }

    fn add_from_outside(
        &mut self,
        certificate: &Certificate,
        given: Vec<Certificate>,
        place: KeyPlace,
        replaces: Option<&AuthorityName>,
    ) -> Result<Exit, Problem> {
        let root = self.check_outside(certificate, &given)?;
        let known = self.ward.roots()?.iter().any(|each| each.certificate.fingerprint == root.fingerprint);
        if !known {
            let name: AuthorityName = parse(&format!("{}-root", self.name))?;
            let outside = NewAuthority {
                name: &name,
                role: AuthorityRole::Root,
                certificate: &root,
                key: KeyPlace::Nowhere,
                replaces: None,
                trust: None,
                crosses: &[],
            };
            let cause = self.ward.cause(self.args.because.text());
            if let Err(refusal) = self.ward.store.add_authority(&outside, &cause)? {
                return Err(Problem::refused(format!("`{name}` was not added")).because(refusal));
            }
            self.context.console.note(format!(
                "the outside root `{}` is trusted from now on, as `{name}`; compare its SHA-256: {}",
                root.subject_text, root.fingerprint
            ));
        }
        let crosses: Vec<(AuthorityName, Certificate)> = given
            .into_iter()
            .filter(|each| each.fingerprint != root.fingerprint)
            .map(|each| (self.name.clone(), each))
            .collect();
        self.record(AuthorityRole::Devices, certificate, place, replaces, None, &crosses)
    }

    fn trust(&mut self, file: &Path) -> Result<Exit, Problem> {
        let mut given = certificates(file)?;
        let below = given.split_off(1);
        let Some(certificate) = given.pop() else {
            return Err(Problem::refused(format!("{} holds no certificate", file.display())));
        };
        if !certificate.basic_constraints.as_ref().is_some_and(|basic| basic.ca) {
            return Err(Problem::refused(format!("`{}` was not added", self.name))
                .because("its certificate is not that of an authority")
                .next("a single device's certificate is bound with: credential pin DEVICE --cert FILE"));
        }
        let mut kinds: Vec<KindName> = Vec::new();
        for text in &self.args.kinds {
            let kind = parse(text)?;
            known_kind(&self.ward.settings, &kind)?;
            kinds.push(kind);
        }
        let mut facts: Vec<FactName> = Vec::new();
        for text in &self.args.fact {
            let fact = fact_name(&self.ward.settings, text)?;
            if !facts.contains(&fact) {
                facts.push(fact);
            }
        }
        let crosses: Vec<_> = below.into_iter().map(|each| (self.name.clone(), each)).collect();
        let trust = Some(Trust { kinds, facts });
        self.record(AuthorityRole::Foreign, &certificate, KeyPlace::Nowhere, None, trust, &crosses)
    }

    fn make(&self, new: NewKey) -> Result<(Arc<dyn Signer>, KeyPlace), Problem> {
        self.secrets.make(&self.ward, self.name.as_str(), new, self.args.token.as_deref())
    }

    fn proven(&self, signer: &dyn Signer) -> Result<ProvenKey, Problem> {
        ProvenKey::of_signer(signer).map_err(|error| signing(&error))
    }

    fn key_path(&self) -> std::path::PathBuf {
        self.ward.dir.join(KEYS).join(format!("{}.key", self.name))
    }

    fn refused(&self, refusal: &AuthorityRefusal) -> Problem {
        Problem::refused(format!("`{}` was not added", self.name)).because(refusal).next("authority list")
    }

    fn record(
        &mut self,
        role: AuthorityRole,
        certificate: &Certificate,
        place: KeyPlace,
        replaces: Option<&AuthorityName>,
        trust: Option<Trust>,
        crosses: &[(AuthorityName, Certificate)],
    ) -> Result<Exit, Problem> {
        let name = self.name.clone();
        let new = NewAuthority { name: &name, role, certificate, key: place, replaces, trust, crosses };
        let cause = self.ward.cause(self.args.because.text());
        match self.ward.store.add_authority(&new, &cause) {
            Ok(Ok(())) => super::show_named(self.context, &self.ward, &name),
            Ok(Err(refusal)) => Err(self.refused(&refusal)),
            Err(error) => Err(error.into()),
        }
    }
}
