//! `crl`: signs and writes an authority's current certificate revocation list.

use std::path::Path;

use serde_json::json;
use tidy_warden_core::asn1;
use tidy_warden_core::authority::{AuthorityRecord, AuthorityRole};
use tidy_warden_core::certificate::Issuer;
use tidy_warden_core::id::AuthorityName;
use tidy_warden_core::revocation::{Heading, sign_crl};
use tidy_warden_core::time::{Span, UnixTime};
use tidy_warden_store::StoreError;

use super::Context;
use crate::args::CrlArgs;
use crate::edge::parse;
use crate::files;
use crate::keys::Secrets;
use crate::problem::{Exit, Problem};
use crate::ward::Ward;

/// A list that is good for longer than this needs a reason.
const LONG: Span = Span::from_days(60);

pub(crate) fn run(context: &Context<'_>, args: &CrlArgs) -> Result<Exit, Problem> {
    let mut ward = context.ward()?;
    let life: Span = parse(&args.life)?;
    if life.seconds() == 0 {
        return Err(Problem::usage("a CRL must be good for some time").next("--for 7d"));
    }
    let because = if life.seconds() > LONG.seconds() {
        let because = context.console.reason(args.because.text())?;
        if because.is_empty() {
            return Err(Problem::usage(format!("a list that is good for {life} needs a reason"))
                .because("whoever has it may go by it all that time, and hears of no later revocation")
                .next("--because TEXT, or a shorter time: --for 7d"));
        }
        context.console.warn(format!(
            "whoever has this list may go by it for {life}; revocations that come later reach only those who fetch a newer one"
        ));
        Some(because)
    } else {
        args.because.text().map(str::to_owned)
    };
    let authority = match &args.authority {
        None => waiting(&ward)?,
        Some(name) => ward.named_authority(&parse::<AuthorityName>(name)?)?,
    };
    let secrets = context
        .secrets()
        .with_key_file(args.root_key.as_deref())
        .with_root_passphrase(args.root_passphrase_file.as_deref());
    let Signed { number, entries: count, next_update: next } =
        sign(&mut ward, &authority, (life, because.as_deref()), &secrets, &args.out, args.der)?;
    let value = json!({
        "authority": authority.name, "number": number, "entries": count, "next_update": next,
        "file": args.out.display().to_string(),
    });
    let text = format!(
        "wrote CRL {number} of `{}`: {count} revoked, next by {next}: {}\n",
        authority.name,
        args.out.display()
    );
    context.console.show("tidy-warden/crl/1", value, &text)?;
    Ok(Exit::Done)
}

/// The authority whose list is meant if none is named: the only one for devices, or the only one whose list is waiting.
fn waiting(ward: &Ward) -> Result<AuthorityRecord, Problem> {
    let mut all = ward.authorities(AuthorityRole::Devices)?;
    if all.len() > 1 {
        all.retain(|authority| authority.crl_pending);
    }
    match (all.pop(), all.is_empty()) {
        (Some(only), true) => Ok(only),
        _ => {
            let names: Vec<String> =
                ward.authorities(AuthorityRole::Devices)?.iter().map(|each| each.name.to_string()).collect();
            Err(Problem::usage("the ward has several authorities for devices")
                .next(format!("name one with --authority: {}", names.join(", "))))
        }
    }
}

/// A CRL that was signed, written and recorded.
pub(crate) struct Signed {
    pub(crate) number: u64,
    pub(crate) entries: usize,
    pub(crate) next_update: UnixTime,
}

/// Signs an authority's current CRL and writes it to `out`; nothing is recorded if it cannot be written.
pub(crate) fn sign(
    ward: &mut Ward,
    authority: &AuthorityRecord,
    (life, because): (Span, Option<&str>),
    secrets: &Secrets<'_>,
    out: &Path,
    der: bool,
) -> Result<Signed, Problem> {
    let signer = secrets.signer(ward, authority)?;
    let crl = ward.store.next_crl(&authority.name)?;
    let now = ward.now();
    let heading = Heading { number: crl.number, this_update: now, next_update: now.plus(life) };
    let issuer = Issuer { certificate: &authority.certificate, signer: &*signer };
    let signed = sign_crl(issuer, heading, crl.entries.iter().cloned())
        .map_err(|error| Problem::failed("the CRL was not signed").because(error))?;
    let bytes = if der { signed } else { asn1::pem("X509 CRL", &signed).into_bytes() };
    let cause = ward.cause(because);
    let recorded = ward.store.record_crl(&authority.name, &crl, &cause, &mut || files::replace(out, &bytes));
    let recorded = recorded.map_err(|error| match error {
        StoreError::Delivery(error) => Problem::file("write", out, &error),
        other => other.into(),
    })?;
    if !recorded {
        return Err(Problem::failed(format!("CRL {} of `{}` was not recorded", crl.number, authority.name))
            .because("another command signed one at the same moment")
            .next("run crl again"));
    }
    Ok(Signed { number: crl.number, entries: crl.entries.len(), next_update: heading.next_update })
}
