//! `token read`: what a token says, and what is odd about it. Nothing of it is believed.

use serde_json::{Value, json};
use tidy_warden_core::time::{Clock, UnixTime};
use tidy_warden_core::token::{Bound, Claims, Unverified};
use tidy_warden_ward::clock::WardClock;

use super::{plain, token};
use crate::args::ReadArgs;
use crate::commands::Context;
use crate::problem::{Exit, Problem};

pub(super) fn run(context: &Context<'_>, args: &ReadArgs) -> Result<Exit, Problem> {
    let octets = token(args.file.as_deref(), args.token.as_deref(), "read")?;
    let read =
        Unverified::read(&octets).map_err(|error| Problem::refused("this token cannot be read").because(error))?;
    // A rehearsal has its own time; without a ward there is none but this machine's.
    let now = match context.ward() {
        Ok(ward) => ward.now(),
        Err(_) => WardClock::of(false)?.now(),
    };
    let odd = odd(&read, now);
    let claims = &read.claims;
    let value = json!({
        "form": read.form.as_str(), "alg": read.algorithm.as_str(), "kid": read.kid, "typ": read.media_type,
        "claims": read.said(), "bound": claims.bound.as_ref().map(bound_value),
        "scope": claims.scope.as_ref().map(ToString::to_string), "odd": odd,
    });
    context.console.show("tidy-warden/token/2", value, &text(&read, &odd, now))?;
    Ok(Exit::Done)
}

fn bound_value(bound: &Bound) -> Value {
    match bound {
        Bound::Certificate(digest) => json!({ "certificate_sha256": data_encoding::HEXLOWER.encode(digest) }),
        Bound::KeyName(kid) => json!({ "kid": kid }),
        Bound::Key(key) => json!({ "key": key.key_type().to_string(), "kid": tidy_warden_core::key::thumbprint(key) }),
    }
}

/// What a token is bound to, in words.
pub(super) fn bound_text(bound: &Bound) -> String {
    match bound {
        Bound::Certificate(digest) => {
            format!("the certificate with SHA-256 {}", data_encoding::HEXLOWER.encode(digest))
        }
        Bound::KeyName(kid) => format!("the key named {}", plain(kid)),
        Bound::Key(key) => {
            format!("a {} key named {}", key.key_type(), tidy_warden_core::key::thumbprint(key).unwrap_or_default())
        }
    }
}

/// How long from now, or since when.
fn when(at: UnixTime, now: UnixTime) -> String {
    let seconds = at.since(now).unsigned_abs();
    let length = match seconds {
        0..120 => format!("{seconds} s"),
        120..7_200 => format!("{} min", seconds / 60),
        7_200..172_800 => format!("{} h", seconds / 3_600),
        _ => format!("{} days", seconds / 86_400),
    };
    if at > now { format!("{at}, in {length}") } else { format!("{at}, {length} ago") }
}

fn text(read: &Unverified, odd: &[String], now: UnixTime) -> String {
    let claims = &read.claims;
    let or_nothing = |text: Option<&String>| text.map_or_else(|| "says nothing".to_owned(), |text| plain(text));
    let time = |at: Option<UnixTime>| at.map_or_else(|| "says nothing".to_owned(), |at| when(at, now));
    let audience = match claims.audience.as_slice() {
        [] => "says nothing".to_owned(),
        all => all.iter().map(|each| plain(each)).collect::<Vec<_>>().join(", "),
    };
    let mut text = format!(
        "form      {}, {}\nkey       {}\nsubject   {}\nissuer    {}\naudience  {audience}\nissued    {}\nbegins    {}\nends      {}\nname      {}\n",
        read.form.as_str().to_uppercase(),
        read.algorithm.as_str(),
        or_nothing(read.kid.as_ref()),
        or_nothing(claims.subject.as_ref()),
        or_nothing(claims.issuer.as_ref()),
        time(claims.issued),
        time(claims.begins.or(claims.issued)),
        time(claims.ends),
        or_nothing(claims.id.as_ref()),
    );
    let may = match &claims.scope {
        None => "all that the policies give the subject".to_owned(),
        Some(scope) => plain(&scope.to_string()),
    };
    text.push_str(&format!("may       {may}\n"));
    if let Some(bound) = &claims.bound {
        text.push_str(&format!("bound to  {}\n", bound_text(bound)));
    }
    for each in odd {
        text.push_str(&format!("odd       {each}\n"));
    }
    text.push_str("nothing of this is proved; `token verify` judges it\n");
    text
}

/// What whoever reads it should look at twice.
fn odd(read: &Unverified, now: UnixTime) -> Vec<String> {
    let Claims { issuer, subject, audience, issued, begins, ends, id, scope, .. } = &read.claims;
    let mut odd = Vec::new();
    if read.media_type.is_none() {
        odd.push("it has no typ, so that it could be taken for a token of another use".to_owned());
    } else if let Some(found) = &read.media_type
        && !found.to_ascii_lowercase().contains("device+")
    {
        odd.push(format!("its typ is {:?}, which is not that of a token for a device", plain(found)));
    }
    if audience.is_empty() {
        odd.push("it has no aud: it is for nobody in particular".to_owned());
    }
    match ends {
        None => odd.push("it has no exp: it would never end".to_owned()),
        Some(ends) if *ends <= now => odd.push(format!("it has ended, at {ends}")),
        Some(ends) if issued.is_some_and(|issued| ends.since(issued) > 366 * 86_400) => {
            odd.push("it lasts longer than a year".to_owned());
        }
        Some(_) => {}
    }
    if issued.is_none() {
        odd.push("it has no iat: nobody can say how long it lasts".to_owned());
    }
    if (*begins).max(*issued).is_some_and(|begins| begins > now) {
        odd.push("it has not begun".to_owned());
    }
    if subject.is_none() {
        odd.push("it has no sub: it is of whoever's key signed it".to_owned());
    }
    if id.is_none() {
        odd.push("it has no name (jti or cti): to be blocked it must be at hand".to_owned());
    }
    if read.kid.is_none() {
        odd.push("it names no key: each of the device's is tried".to_owned());
    }
    if issuer.is_none() {
        odd.push("it has no iss".to_owned());
    }
    if scope.as_ref().is_some_and(|scope| !scope.is_understood()) {
        odd.push("its scope is not understood here, so that it gives nothing".to_owned());
    }
    if scope.as_ref().is_some_and(|scope| scope.is_understood() && scope.to_string() == "nothing") {
        odd.push("its scope is empty, so that it gives nothing".to_owned());
    }
    odd
}
