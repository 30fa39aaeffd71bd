//! `token`: makes and reads tokens that stand for a device.

use serde_json::json;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::time::{Span, UnixTime};
use tidy_warden_core::token;

use super::Context;
use crate::args::TokenCommand;
use crate::clock::SystemRandom;
use crate::edge::parse;
use crate::files;
use crate::passphrase::Passphrase;
use crate::problem::{Exit, Problem};
use crate::ward::Ward;

pub(crate) fn run(context: &Context<'_>, command: TokenCommand) -> Result<Exit, Problem> {
    match command {
        TokenCommand::Issue { device, life, because } => {
            let mut ward = context.ward()?;
            let id: DeviceId = parse(&device)?;
            let life: Span = parse(&life)?;
            allowed(&ward, &id, life)?;
            let passphrase = context.passphrase("the key that signs tokens")?;
            let (text, ends) = issue(&mut ward, &id, life, &passphrase, because.text())?;
            context.console.note(format!("a token for {id}, good until {ends}; it is not kept here"));
            context.console.write(&format!("{text}\n"))?;
            Ok(Exit::Done)
        }
        TokenCommand::Read { token } => read(context, token),
    }
}

/// Whether a token may be made for a device at all.
fn allowed(ward: &Ward, id: &DeviceId, life: Span) -> Result<(), Problem> {
    let device = ward.device(id)?.device;
    let refused = || Problem::refused(format!("no token was made for `{id}`"));
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
    if life > kind.token_life || life.seconds() == 0 {
        return Err(refused()
            .because(format!("{life} is not within what the kind allows: up to {}", kind.token_life))
            .next(format!("--for {}, or change token_life in ward.toml", kind.token_life)));
    }
    Ok(())
}

/// Signs a token and records that it was.
pub(crate) fn issue(
    ward: &mut Ward,
    id: &DeviceId,
    life: Span,
    passphrase: &Passphrase,
    because: Option<&str>,
) -> Result<(String, UnixTime), Problem> {
    allowed(ward, id, life)?;
    let signer = ward.key("tokens", passphrase)?;
    let (text, claims) = token::issue(&ward.parties(), id, ward.now(), life, &signer, &mut SystemRandom)
        .map_err(|error| Problem::failed("the token was not signed").because(error))?;
    let ends = UnixTime(claims.exp);
    let cause = ward.cause(because);
    let detail = json!({ "jti": claims.jti, "ends": ends, "aud": claims.aud });
    ward.store.record_token(id, &detail.to_string(), &cause)?;
    Ok((text, ends))
}

fn read(context: &Context<'_>, token: Option<String>) -> Result<Exit, Problem> {
    let text = match token {
        Some(text) => text,
        // Two octets more: a line end is not part of the token.
        None => files::read_input(u64::try_from(token::MAX_LEN).unwrap_or(u64::MAX) + 2)?,
    };
    let text = text.trim();
    let ward = context.ward()?;
    let claims = token::read(text).map_err(|error| Problem::refused("this token cannot be read").because(error))?;
    let verdict = standing(&ward, text)?;
    let time = |seconds| UnixTime(seconds).to_string();
    // A token is anybody's text: nothing in it reaches the terminal as a control character.
    let plain = |text: &str| text.replace(char::is_control, "?");
    let shown = format!(
        "subject   {}\nissuer    {}\naudience  {}\nissued    {}\nvalid     {} to {}\nname      {}\nverdict   {}\n",
        plain(&claims.sub),
        plain(&claims.iss),
        plain(&claims.aud),
        time(claims.iat),
        time(claims.nbf),
        time(claims.exp),
        plain(&claims.jti),
        verdict.as_deref().unwrap_or("this ward takes it now")
    );
    let value = json!({ "claims": claims, "accepted": verdict.is_none(), "why_not": verdict });
    context.console.show("tidy-warden/token/1", value, &shown)?;
    Ok(if verdict.is_some() { Exit::Refused } else { Exit::Done })
}

/// Why this ward would not take a token now; `None` if it would.
fn standing(ward: &Ward, text: &str) -> Result<Option<String>, Problem> {
    let verified = match token::verify(text, &ward.record.token_key, &ward.parties(), ward.now()) {
        Ok(verified) => verified,
        Err(error) => return Ok(Some(error.to_string())),
    };
    let Some(view) = ward.store.devices(std::slice::from_ref(&verified.device))?.pop().flatten() else {
        return Ok(Some(format!("there is no device `{}`", verified.device)));
    };
    let device = view.device;
    let token_login = ward.settings.kind(&device.kind).is_ok_and(|kind| kind.token_login);
    Ok(match device.barred() {
        Some(barred) => Some(barred.to_string()),
        None if verified.issued_at < device.tokens_from => Some("it was made before the device was revoked".to_owned()),
        None if !token_login => Some(format!("the kind `{}` does not sign in by token", device.kind)),
        None => None,
    })
}
