//! The ticket gate: it signs its own tokens with a key that it made, one of its two keys leaks and is dropped while the other serves.

use std::net::SocketAddr;
use std::time::Instant;

use tidy_warden_core::certificate::Fingerprint;
use tidy_warden_core::credential::{Origin, Revocation};
use tidy_warden_core::key::{NewKey, Signer, SoftwareKey, sha256, thumbprint};
use tidy_warden_core::revocation::Reason;
use tidy_warden_core::time::{Span, UnixTime};
use tidy_warden_core::token::{Claims, Form, Scope, TokenSigner, sign};
use tidy_warden_simulate::{ConnectError, Login};
use tidy_warden_store::{KeyReplaces, NewCredential};
use tidy_warden_ward::token::{Wish, issue};

use super::Story;
use super::steps::{CUT_WITHIN, broken};
use crate::edge::parse;
use crate::keys::Secrets;
use crate::passphrase::Passphrase;
use crate::problem::Problem;
use crate::ward::Ward;

const GATE: &str = "tg-ossel-1";
const GUESTS: &str = "rope/ossel/tg-ossel-1/guests";
const OTHERS: &str = "rope/ossel/tg-ossel-2/guests";
const SETTINGS: &str = "rope/ossel/tg-ossel-1/settings";

/// A key that the gate made, of which the ward has the public half.
struct OwnKey {
    key: SoftwareKey,
    kid: String,
}

/// Registers a new key of the gate's.
fn register(ward: &mut Ward, note: &str) -> Result<OwnKey, Problem> {
    let key = SoftwareKey::generate(NewKey::P256).map_err(broken)?;
    let public = key.public_key();
    let kid = thumbprint(public).ok_or_else(|| broken("a key without a name"))?;
    let (device, digest) = (parse(GATE)?, sha256(public.spki()));
    let (now, key_type) = (ward.now(), public.key_type().to_string());
    let new = NewCredential {
        device: &device,
        origin: Origin::Key,
        authority: None,
        der: public.spki(),
        fingerprint: Fingerprint(digest),
        serial: None,
        key_digest: digest,
        key_type: &key_type,
        not_before: now,
        not_after: now.plus(Span::from_days(90)),
        again: true,
        overlap: Span::from_seconds(0),
        fresh_key: false,
        authorised_by: None,
        kid: Some(&kid),
        note: Some(note),
    };
    let cause = ward.cause(Some("the gate's two readers"));
    ward.store.add_key(&new, KeyReplaces::Nothing, &cause, &mut || Ok(()))?.map_err(broken)?;
    Ok(OwnKey { key, kid })
}

impl OwnKey {
    /// A token that the gate signs for itself.
    fn token(&self, ward: &Ward) -> Result<Vec<u8>, Problem> {
        let now = ward.now();
        let claims = Claims {
            subject: Some(GATE.to_owned()),
            audience: vec![ward.parties().audience],
            issued: Some(now),
            ends: Some(now.plus(Span::from_seconds(600))),
            ..Claims::default()
        };
        sign(Form::Jwt, &claims, TokenSigner::Private(&self.key), &self.kid).map_err(broken)
    }
}

fn login(ward: &Ward, client_id: &str, token: Vec<u8>) -> Result<Login, Problem> {
    let failed = |error: ConnectError| broken(error);
    let mut login = Login::new(ward.root()?.der(), None, "localhost", client_id).map_err(failed)?;
    login.token = Some((GATE.to_owned(), token));
    Ok(login)
}

pub(super) async fn tokens(
    story: &Story<'_>,
    ward: &mut Ward,
    passphrase: &Passphrase,
    address: SocketAddr,
) -> Result<(), Problem> {
    narrow(story, ward, passphrase, address).await?;
    let (left, right) = (register(ward, "left reader")?, register(ward, "right reader")?);
    let mut by_left =
        login(ward, &format!("{GATE}:left"), left.token(ward)?)?.connect(address).await.map_err(broken)?;
    let mut by_right =
        login(ward, &format!("{GATE}:right"), right.token(ward)?)?.connect(address).await.map_err(broken)?;
    story.tell(
        "",
        &format!("{GATE} has two keys that it made itself, and signs its own tokens: the ward has no secret of it"),
    )?;
    let cause = ward.cause(Some("the left reader's key was in a log"));
    let device = parse(GATE)?;
    let only = left.key.public_key().spki();
    let what = Revocation { device: &device, only: Some(Fingerprint(sha256(only))), reason: Reason::KeyCompromise };
    let begun = Instant::now();
    ward.store.revoke(what, &cause)?;
    let how = by_left.ended(CUT_WITHIN).await;
    let took = begun.elapsed();
    story.claim(how.is_some() && took < CUT_WITHIN, "the session of the leaked key is cut within 2 seconds")?;
    let sent = by_right.publish(GUESTS, b"212").await.map_err(broken)?;
    story.claim(sent.is_ok(), "the session of the other key goes on")?;
    let thief = login(ward, &format!("{GATE}:left"), left.token(ward)?)?.connect(address).await;
    let code = match thief {
        Err(ConnectError::Refused { code, .. }) => code,
        _ => 0,
    };
    story.claim(code == 0x87, "whoever has the leaked key opens nothing with it")?;
    by_right.goodbye().await;
    story.tell(
        "",
        &format!(
            "one of the two leaks and is dropped: its session ends after {:.1} s, new tokens of it are refused (code 0x{code:02x}), \
             the other serves on",
            took.as_secs_f64()
        ),
    )
}

/// A token of the ward that may do one thing.
async fn narrow(
    story: &Story<'_>,
    ward: &mut Ward,
    passphrase: &Passphrase,
    address: SocketAddr,
) -> Result<(), Problem> {
    let secrets = Secrets::known(story.console, passphrase);
    let wish = |scope: &str| -> Result<Wish, Problem> {
        Ok(Wish {
            life: Span::from_seconds(3_600),
            begins: None,
            audience: None,
            scope: Some(Scope::parse([scope]).map_err(broken)?),
            bind: None,
            form: Form::Jwt,
            key: None,
        })
    };
    let id = parse(GATE)?;
    let wide = issue(ward, &id, &wish("publish rope/ossel/+/guests")?, &secrets, None);
    story.claim(wide.is_err(), "a token cannot promise more than the policies give")?;
    let made = issue(ward, &id, &wish(&format!("publish {GUESTS}"))?, &secrets, None)?;
    let ends = made.claims.ends.unwrap_or(UnixTime(0));
    story.claim(ends.since(ward.now()) <= 3_600, "the token ends in an hour")?;
    let mut device = login(ward, &format!("{GATE}:count"), made.octets)?.connect(address).await.map_err(broken)?;
    let counted = device.publish(GUESTS, b"211").await.map_err(broken)?;
    let other = device.publish(OTHERS, b"0").await.map_err(broken)?;
    let settings = device.subscribe(SETTINGS).await.map_err(broken)?;
    story.claim(
        counted.is_ok() && !other.is_ok() && !settings.is_ok(),
        "a token with a scope does that and nothing else",
    )?;
    device.goodbye().await;
    story.tell(
        "tokens",
        &format!(
            "{GATE} counts guests with a token that may do that and nothing else, not even what its policies give"
        ),
    )
}
