//! Making tokens, and judging them as a guard would.

use std::collections::BTreeSet;
use std::sync::Arc;
use std::thread::JoinHandle;

use serde_json::json;
use tidy_warden_core::authority::KeyPlace;
use tidy_warden_core::certificate::Certificate;
use tidy_warden_core::credential::{CredentialRecord, Origin};
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::id::{DeviceId, OwnerId};
use tidy_warden_core::key::{Signer, SoftwareKey};
use tidy_warden_core::owner::{OwnerScope, OwnerTokenTerms, owner_token};
use tidy_warden_core::random;
use tidy_warden_core::settings::Kind;
use tidy_warden_core::time::{Span, UnixTime};
use tidy_warden_core::token::{Bound, Claims, Form, Scope, Terms, TokenSigner, Unverified, sign};
use tidy_warden_store::acts;
use tidy_warden_store::acts::bearer::{check_bound, own_keys};
use tidy_warden_store::{Bearer, Claimed, DeviceView, Signers, Standing, TokenRefusal, TokenSignerRecord};

use crate::clock::SystemRandom;
use crate::keys::{self, Openers};
use crate::open::{KEYS, Ward};
use crate::problem::Problem;
use crate::shared;

/// The key that signs tokens for the ward, as it is recorded: the newest that is believed.
fn newest(ward: &Ward) -> Result<TokenSignerRecord, Problem> {
    let newest = ward.store.signers()?.into_iter().rfind(|each| each.retired.is_none());
    newest.ok_or_else(|| Problem::refused("the ward has no key that signs tokens"))
}

/// What was opened, if it is the key of that record.
fn fits(record: &TokenSignerRecord, signer: Arc<dyn Signer>) -> Result<Opened, Problem> {
    if *signer.public_key() != record.key {
        return Err(Problem::refused("no token was signed")
            .because(format!("the key `{}` is not the one that the ward has under that name", record.name))
            .next("put the file back from a copy of the ward, or: token signer add"));
    }
    Ok(Opened { kid: record.kid(), with: With::Ward(signer) })
}

/// The ward's key, while it is being opened.
pub struct Opening {
    record: TokenSignerRecord,
    signer: Result<JoinHandle<Result<SoftwareKey, Problem>>, Arc<dyn Signer>>,
}

/// Begins to open the key with which the ward signs. Trying a passphrase takes a tenth of a second, in which other things can be done.
pub fn opening(ward: &Ward, openers: &dyn Openers) -> Result<Opening, Problem> {
    let record = newest(ward)?;
    let signer = match record.place {
        KeyPlace::Ward => {
            let passphrase = openers.passphrase(&format!("the key `{}`, which signs tokens", record.name))?.clone();
            let path = ward.dir.join(KEYS).join(format!("{}.key", record.name));
            Ok(std::thread::spawn(move || keys::open(&path, &passphrase)))
        }
        _ => Err(openers.signer_at(ward, &record.name, &record.place)?),
    };
    Ok(Opening { record, signer })
}

impl Opening {
    /// The key, opened.
    pub fn finish(self) -> Result<Opened, Problem> {
        let signer: Arc<dyn Signer> = match self.signer {
            Ok(opening) => Arc::new(opening.join().unwrap_or_else(|_| Err(Problem::failed("the key was not opened")))?),
            Err(opened) => opened,
        };
        fits(&self.record, signer)
    }
}

/// A token that is wanted.
#[derive(Debug)]
pub struct Wish {
    /// How long it lasts.
    pub life: Span,
    /// From when on it counts, if not from now on.
    pub begins: Option<UnixTime>,
    /// Whom it is for, if not for the guard.
    pub audience: Option<String>,
    /// What it may do of what its device may.
    pub scope: Option<Scope>,
    /// What it is bound to: the device's certificate, or a key of its own by its name.
    pub bind: Option<Bind>,
    /// How it is written.
    pub form: Form,
    /// The shared key of the device that signs it, in the place of the ward's.
    pub key: Option<String>,
}

/// What a token is to be bound to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Bind {
    /// The certificate with which the device connects.
    Certificate,
    /// A registered public key, by its name.
    Key(String),
}

/// What signs the tokens of one call, opened once.
pub struct Opened {
    kid: String,
    with: With,
}

enum With {
    Ward(Arc<dyn Signer>),
    Shared(tidy_warden_core::shared::SharedKey),
}

fn refused(id: &DeviceId) -> Problem {
    Problem::refused(format!("no token was made for `{id}`"))
}

/// Opens what signs: the ward's key, or a key that the device shares with it.
pub fn open(ward: &Ward, view: &DeviceView, key: Option<&str>, openers: &dyn Openers) -> Result<Opened, Problem> {
    let Some(kid) = key else { return opening(ward, openers)?.finish() };
    let id = &view.device.id;
    let record = named(view, kid)?;
    if record.origin != Origin::Shared {
        return Err(refused(id)
            .because("the private half of that key is the device's: nobody else signs with it")
            .next(format!("name a shared key of it: key list {id}")));
    }
    record.may_sign_in(ward.now()).map_err(|why| refused(id).because(TokenRefusal::Key(why)))?;
    let sealed = ward.store.credential_der(&record.fingerprint)?.unwrap_or_default();
    let data = shared::data_key(ward, openers)?.ok_or_else(|| refused(id).because("the ward has no shared keys"))?;
    let opened = data.open(&sealed, id, kid).map_err(|error| refused(id).because(error))?;
    Ok(Opened { kid: kid.to_owned(), with: With::Shared(opened) })
}

/// A key of a device's own by its name.
pub fn named<'v>(view: &'v DeviceView, kid: &str) -> Result<&'v CredentialRecord, Problem> {
    let id = &view.device.id;
    let found = view.credentials.iter().find(|each| each.origin.is_key() && each.key_name() == kid);
    found.ok_or_else(|| {
        Problem::not_found(format!("`{id}` has no key named {kid}"))
            .next(format!("key list {id} shows those that it has"))
    })
}

/// Whether such a token may be made for a device at all.
pub fn allowed(ward: &Ward, device: &DeviceRecord, wish: &Wish) -> Result<(), Problem> {
    let id = &device.id;
    let refused = || refused(id);
    if let Some(since) = device.retired {
        return Err(refused().because(format!("it was retired at {since}")));
    }
    if let Some(since) = device.out {
        return Err(refused()
            .because(format!("it is out since {since}"))
            .next(format!("device reopen {id} --because TEXT")));
    }
    if let Some(barred) = device.barred() {
        return Err(refused().because(barred).next(format!("release {id}")));
    }
    let kind = ward.settings.kind(&device.kind).map_err(|unknown| refused().because(unknown))?;
    if !kind.token_login {
        return Err(refused()
            .because(format!("devices of the kind `{}` do not sign in by token", device.kind))
            .next(format!("set token_login = true under [kinds.{}] in ward.toml, if they should", device.kind)));
    }
    let (longest, name) = longest(kind, wish.key.is_some());
    if wish.life > longest || wish.life.seconds() == 0 {
        return Err(refused()
            .because(format!("{} is not within what the kind allows: up to {longest}", wish.life))
            .next(format!("--for {longest}, or change {name} in ward.toml")));
    }
    narrow_enough(ward, device, wish)
}

/// The longest life of a token, and the setting that says so.
fn longest(kind: &Kind, is_own: bool) -> (Span, &'static str) {
    match is_own {
        true => (kind.own_token_life, "own_token_life"),
        false => (kind.token_life, "token_life"),
    }
}

/// A scope takes away from what the policies give; one that promises more is a mistake that is better told now.
fn narrow_enough(ward: &Ward, device: &DeviceRecord, wish: &Wish) -> Result<(), Problem> {
    let Some(scope) = &wish.scope else { return Ok(()) };
    let id = &device.id;
    let Some(edition) = ward.edition()? else {
        return Err(refused(id)
            .because("no policies are adopted, so that no scope is within them")
            .next("policy adopt"));
    };
    let rights = ward.rights(&edition, device)?;
    let wider = rights.wider(scope);
    if !wider.is_empty() {
        let parts: Vec<String> = wider
            .iter()
            .map(|wider| match wider.part.ends_with(&wider.example) {
                true => wider.part.clone(),
                false => format!("{} (such as {:?})", wider.part, wider.example),
            })
            .collect();
        return Err(refused(id)
            .because(format!("the scope is wider than its policies, which do not give: {}", parts.join(", ")))
            .next(format!("narrow the scope; device show {id} lists what it may do")));
    }
    Ok(())
}

/// What a wish binds a token to.
fn bound(ward: &Ward, view: &DeviceView, wish: &Wish) -> Result<Option<Bound>, Problem> {
    let id = &view.device.id;
    match &wish.bind {
        None => Ok(None),
        Some(Bind::Key(kid)) => {
            let record = named(view, kid)?;
            match record.origin {
                Origin::Key => Ok(Some(Bound::KeyName(kid.clone()))),
                _ => {
                    Err(refused(id).because("nobody shows a shared key on a connection: name a registered public key"))
                }
            }
        }
        Some(Bind::Certificate) => {
            let now = ward.now();
            let usable = |each: &&CredentialRecord| !each.origin.is_key() && each.may_sign_in(now).is_ok();
            let newest = view.credentials.iter().find(usable).ok_or_else(|| {
                refused(id)
                    .because("it has no certificate that may sign in, to which a token could be bound")
                    .next(format!("enroll {id}, or leave --bind out"))
            })?;
            // RFC 8747 has no word for the digest of a certificate: its key is named there.
            if wish.form == Form::Jwt {
                return Ok(Some(Bound::Certificate(newest.fingerprint.0)));
            }
            let der = ward.store.credential_der(&newest.fingerprint)?.unwrap_or_default();
            let certificate = Certificate::from_der(&der)
                .map_err(|error| Problem::failed("its certificate cannot be read").because(error))?;
            Ok(Some(Bound::Key(certificate.public_key)))
        }
    }
}

/// A token that was made.
#[derive(Debug)]
pub struct Made {
    /// All of it: text if it is a JWT.
    pub octets: Vec<u8>,
    /// What it says.
    pub claims: Claims,
    /// The key that signed it.
    pub kid: String,
}

/// What tokens are made by that one call wants: all that is the same for each of them, read once.
pub struct Maker<'w> {
    wish: &'w Wish,
    issuer: String,
    audience: String,
    begins: UnixTime,
}

impl Opened {
    /// What it is called in tokens.
    #[must_use]
    pub fn kid(&self) -> &str {
        &self.kid
    }
}

impl<'w> Maker<'w> {
    /// For a wish at this moment.
    pub fn of(ward: &Ward, wish: &'w Wish) -> Result<Self, Problem> {
        let (parties, now) = (ward.parties(), ward.now());
        let begins = wish.begins.unwrap_or(now);
        if begins < now || begins > now.plus(Span::from_days(366)) {
            return Err(Problem::refused("no token was made")
                .because("it would begin in the past, or more than a year from now")
                .next("--not-before TIME, or leave it out"));
        }
        let audience = wish.audience.clone().unwrap_or(parties.audience);
        Ok(Self { wish, issuer: parties.issuer, audience, begins })
    }

    /// Signs a token for a device that may have one; nothing is recorded.
    pub fn make(&self, id: &DeviceId, opened: &Opened) -> Result<Made, Problem> {
        self.bound(id, opened, None)
    }

    /// The last second of what is made.
    #[must_use]
    pub fn ends(&self) -> UnixTime {
        self.begins.plus(self.wish.life)
    }

    fn bound(&self, id: &DeviceId, opened: &Opened, bound: Option<Bound>) -> Result<Made, Problem> {
        let (issuer, signer) = match &opened.with {
            With::Ward(signer) => (self.issuer.clone(), TokenSigner::Private(&**signer)),
            // Whoever has the key is the device, or the ward in its name: the two cannot be told apart.
            With::Shared(key) => (id.to_string(), TokenSigner::Shared(key)),
        };
        let claims = Claims {
            issuer: Some(issuer),
            subject: Some(id.to_string()),
            audience: vec![self.audience.clone()],
            issued: Some(self.begins),
            begins: Some(self.begins),
            ends: Some(self.ends()),
            id: Some(random::hex::<16>(&mut SystemRandom)),
            bound,
            scope: self.wish.scope.clone(),
        };
        let octets = sign(self.wish.form, &claims, signer, &opened.kid)
            .map_err(|error| Problem::failed("the token was not signed").because(error))?;
        Ok(Made { octets, claims, kid: opened.kid.clone() })
    }
}

/// What the record says of a token that was made.
#[must_use]
pub fn detail(made: &Made) -> serde_json::Value {
    let claims = &made.claims;
    json!({
        "jti": claims.id, "ends": claims.ends, "aud": claims.audience.first(), "kid": made.kid,
        "scope": claims.scope.as_ref().map(ToString::to_string), "bound": claims.bound.is_some(),
    })
}

/// Signs a token for a device, and records that it was.
pub fn issue(
    ward: &mut Ward,
    id: &DeviceId,
    wish: &Wish,
    openers: &dyn Openers,
    because: Option<&str>,
) -> Result<Made, Problem> {
    let view = ward.device(id)?;
    allowed(ward, &view.device, wish)?;
    let (maker, bound) = (Maker::of(ward, wish)?, bound(ward, &view, wish)?);
    let opened = open(ward, &view, wish.key.as_deref(), openers)?;
    let made = maker.bound(id, &opened, bound)?;
    let cause = ward.cause(because);
    ward.store.record_token(id, &detail(&made).to_string(), &cause)?;
    Ok(made)
}

/// Signs a token by which a program acts for an owner at the desk, and records that it was; gives its text and its last second.
pub fn issue_for_owner(
    ward: &mut Ward,
    owner: &OwnerId,
    scopes: &BTreeSet<OwnerScope>,
    life: Span,
    openers: &dyn Openers,
    because: Option<&str>,
) -> Result<(String, UnixTime), Problem> {
    let opened = opening(ward, openers)?.finish()?;
    let With::Ward(signer) = &opened.with else {
        return Err(Problem::refused("the ward has no key that signs tokens"));
    };
    let (now, urn) = (ward.now(), ward.store.ward()?.urn);
    let audience = crate::claim::owner_audience(&ward.settings);
    let times = (now, now.plus(life));
    let terms = OwnerTokenTerms { owner, ward: &urn, audience: &audience, scopes, times };
    let text = owner_token(&terms, TokenSigner::Private(&**signer), &opened.kid, &mut SystemRandom)
        .map_err(|error| Problem::failed("the token was not signed").because(error))?;
    let cause = ward.cause(because);
    let names: Vec<&str> = scopes.iter().map(|scope| scope.as_str()).collect();
    let made = ward.store.decide(|tx| acts::owner::token(tx, owner, &names, times.1, &cause))?;
    made.map_err(|why| Problem::refused("no token was made").because(why))?;
    Ok((text, times.1))
}

/// How a guard would judge a token at this moment.
#[derive(Debug)]
pub struct Judged {
    /// The token, if its signature is that of somebody who may sign it.
    pub bearer: Option<Bearer>,
    /// Until when it opens something, or why it does not.
    pub verdict: Result<UnixTime, String>,
}

/// Judges a token as a guard would that is shown it with `user` as user name, or with the name of the device that it says it is of; `leaf` is
/// the certificate that the connection shows.
pub fn judge(
    ward: &Ward,
    token: &[u8],
    user: Option<&DeviceId>,
    leaf: Option<&Certificate>,
    openers: &dyn Openers,
) -> Result<Judged, Problem> {
    let no = |why: String| Judged { bearer: None, verdict: Err(why) };
    let read = match Unverified::read(token) {
        Ok(read) => read,
        Err(error) => return Ok(no(error.to_string())),
    };
    let named = match (user, read.claims.subject.as_deref().map(str::parse::<DeviceId>), &read.kid) {
        (Some(user), _, _) => Some(user.clone()),
        (None, Some(Ok(subject)), _) => Some(subject),
        // The name of a key is one key's in the whole ward.
        (None, _, Some(kid)) => ward.store.key_named(kid)?.map(|(device, _)| device),
        (None, _, None) => None,
    };
    let Some(device) = named else {
        return Ok(no("it does not say of which device it is; name the user name with --device".to_owned()));
    };
    let parties = ward.parties();
    let now = ward.now();
    let terms = Terms { audience: &parties.audience, now, skew: ward.settings.guard.token_skew };
    let claimed = match Claimed::read(token, &parties, &device) {
        Ok(claimed) => claimed,
        Err(error) => return Ok(no(error.to_string())),
    };
    let is_shared = read.algorithm == tidy_warden_core::token::Algorithm::Hs256;
    let data = if is_shared { shared::data_key(ward, openers)? } else { None };
    let signers = ward.store.view(|view| Signers::with(view, data, 0))?;
    let verified = match &claimed {
        Claimed::Ward(token) => Claimed::by_ward(token, &signers, &parties.issuer, terms).map_err(TokenRefusal::Token),
        Claimed::Device(token, device) => {
            let keys = ward.store.view(|view| own_keys(view, device, token.kid.as_deref(), now))?;
            Claimed::by_device((token, device), &keys, &signers, terms)
        }
    };
    let bearer = match verified {
        Ok(bearer) => bearer,
        Err(error) => return Ok(no(error.to_string())),
    };
    if bearer.token.device != device {
        return Ok(no(format!("it is of `{}`, not of `{device}`", bearer.token.device)));
    }
    let found = ward.store.view(|view| Standing::look(view, &bearer))?;
    let verdict = match found {
        None => Err(format!("there is no device `{device}`")),
        Some((standing, device)) => match device.barred() {
            // What holds for the device is the better reason, whatever holds for the token.
            Some(barred) => Err(barred.to_string()),
            None => check_bound(&bearer, leaf).map_err(|error| error.to_string()).and_then(|()| {
                let by = (&ward.settings, &signers);
                standing.judge(&bearer, &device, leaf.is_none(), by, now).map_err(|why| why.to_string())
            }),
        },
    };
    Ok(Judged { bearer: Some(bearer), verdict })
}
