//! `token verify`: judges a token as the guard would.

use std::path::Path;

use serde_json::json;
use tidy_warden_core::certificate::Certificate;
use tidy_warden_core::key::{PublicKey, from_members, thumbprint};
use tidy_warden_core::time::{Clock, Span, UnixTime};
use tidy_warden_core::token::{BadToken, Maker, Presented, Terms, TokenKey, Unverified, VerifiedToken};
use tidy_warden_ward::clock::WardClock;
use tidy_warden_ward::token as judging;

use super::read::bound_text;
use super::token;
use crate::args::VerifyArgs;
use crate::commands::Context;
use crate::edge::parse;
use crate::files;
use crate::problem::{Exit, Problem};

/// The largest JWK set, in octets.
const MAX_SET: u64 = 1024 * 1024;

/// The most keys that are taken from one.
const MOST_KEYS: usize = 100;

pub(super) fn run(context: &Context<'_>, args: &VerifyArgs) -> Result<Exit, Problem> {
    let octets = token(args.file.as_deref(), args.token.as_deref(), "verify")?;
    let leaf = args.cert.as_deref().map(certificate).transpose()?;
    let (verified, verdict, by) = match (&args.jwks, &args.audience, &args.issuer) {
        (Some(jwks), Some(audience), Some(issuer)) => {
            let now = WardClock::of(false)?.now();
            let judged = by_set(&octets, &keys(jwks)?, (issuer, audience), leaf.as_ref(), now);
            match judged {
                Ok(token) => {
                    let ends = UnixTime(token.ends.0 - 1);
                    (Some(token), Ok(ends), "by the JWK set alone")
                }
                Err(error) => (None, Err(error.to_string()), "by the JWK set alone"),
            }
        }
        _ => {
            let ward = context.ward()?;
            let user = args.device.as_deref().map(parse).transpose()?;
            let judged = judging::judge(&ward, &octets, user.as_ref(), leaf.as_ref(), &context.secrets())?;
            (judged.bearer.map(|bearer| bearer.token), judged.verdict, "by the ward as it is now")
        }
    };
    let value = json!({
        "good": verdict.is_ok(), "why_not": verdict.as_ref().err(), "last_second": verdict.as_ref().ok(),
        "device": verified.as_ref().map(|token| &token.device), "kid": verified.as_ref().map(|token| &token.kid),
        "jti": verified.as_ref().and_then(VerifiedToken::jti),
        "signed_by": verified.as_ref().map(|token| if token.is_wards { "ward" } else { "device" }),
        "scope": verified.as_ref().and_then(|token| token.scope.as_ref()).map(ToString::to_string),
        "bound": verified.as_ref().is_some_and(|token| token.bound.is_some()),
    });
    context.console.show("tidy-warden/token-verdict/1", value, &text(verified.as_ref(), &verdict, by))?;
    Ok(if verdict.is_ok() { Exit::Done } else { Exit::Refused })
}

fn text(token: Option<&VerifiedToken>, verdict: &Result<UnixTime, String>, by: &str) -> String {
    let mut text = match verdict {
        Ok(last) => format!("verdict    good until {}, {by}\n", UnixTime(last.0.saturating_add(1))),
        Err(why) => format!("verdict    refused, {by}\nbecause    {why}\n"),
    };
    if let Some(token) = token {
        text.push_str(&format!(
            "device     {}\nsigned by  {}, with the key {}\n",
            token.device,
            if token.is_wards { "the ward" } else { "the device" },
            token.kid
        ));
        let may =
            token.scope.as_ref().map_or_else(|| "all that the policies give it".to_owned(), |scope| scope.to_string());
        text.push_str(&format!("may        {may}\n"));
        if let Some(bound) = &token.bound {
            text.push_str(&format!("bound to   {}\n", bound_text(bound)));
        }
    }
    text
}

fn certificate(path: &Path) -> Result<Certificate, Problem> {
    crate::commands::credential::read_certificate(path)
}

/// The keys of a JWK set (RFC 7517 section 5), each with what it is called; those that are not known here are left out, as the standard
/// wants it.
fn keys(path: &Path) -> Result<Vec<(String, PublicKey)>, Problem> {
    let text = files::read_text(path, MAX_SET)?;
    let refused = |why: &str| {
        Problem::refused(format!("cannot read {}", path.display()))
            .because(why)
            .next("a JWK set, as `authority export --jwks FILE` writes it")
    };
    let set: serde_json::Value = serde_json::from_str(&text).map_err(|_| refused("it is not JSON"))?;
    let all = set.get("keys").and_then(serde_json::Value::as_array).ok_or_else(|| refused("it has no list of keys"))?;
    if all.len() > MOST_KEYS {
        return Err(refused("it has more than 100 keys"));
    }
    let member =
        |key: &serde_json::Value, name: &str| key.get(name).and_then(serde_json::Value::as_str).map(str::to_owned);
    let known: Vec<(String, PublicKey)> = all
        .iter()
        .filter(|key| key.get("k").is_none() && member(key, "use").is_none_or(|usage| usage == "sig"))
        .filter_map(|each| {
            let key = from_members(&|name| member(each, name)).ok()?;
            let kid = member(each, "kid").or_else(|| thumbprint(&key))?;
            Some((kid, key))
        })
        .collect();
    if known.is_empty() {
        return Err(refused("it has no public key that tokens can be verified with"));
    }
    Ok(known)
}

/// Judges a token by keys alone.
fn by_set(
    octets: &[u8],
    keys: &[(String, PublicKey)],
    (issuer, audience): (&str, &str),
    leaf: Option<&Certificate>,
    now: UnixTime,
) -> Result<VerifiedToken, BadToken> {
    let read = Unverified::read(octets)?;
    let terms = Terms { audience, now, skew: Span::from_seconds(30) };
    let mut error = BadToken::UnknownKey;
    for (kid, key) in keys.iter().filter(|(kid, _)| read.kid.as_ref().is_none_or(|named| named == kid)) {
        match read.verify((TokenKey::Public(key), kid), Maker::Ward { issuer }, terms) {
            Ok(token) => {
                let shown = leaf.map(|leaf| Presented { fingerprint: &leaf.fingerprint.0, key: &leaf.public_key });
                token.check_bound(shown)?;
                return Ok(token);
            }
            Err(other) if !error.is_proved() => error = other,
            Err(_) => {}
        }
    }
    Err(error)
}
