//! `crl`: signs and writes an authority's current certificate revocation list.

use serde_json::json;
use tidy_warden_core::asn1;
use tidy_warden_core::certificate::Issuer;
use tidy_warden_core::id::AuthorityName;
use tidy_warden_core::revocation::{Heading, sign_crl};
use tidy_warden_core::time::Span;
use tidy_warden_store::{AuthorityRole, Store};

use super::Context;
use crate::args::CrlArgs;
use crate::files;
use crate::problem::{Exit, Problem};
use crate::ward::parse;

pub(crate) fn run(context: &Context<'_>, args: &CrlArgs) -> Result<Exit, Problem> {
    let mut ward = context.ward()?;
    let life: Span = parse(&args.life)?;
    if life.seconds() == 0 {
        return Err(Problem::usage("a CRL must be good for some time").next("--for 7d"));
    }
    let authority = match &args.authority {
        None => ward.authority(AuthorityRole::Devices)?,
        Some(name) => {
            let name: AuthorityName = parse(name)?;
            let found = ward.store.authorities()?.into_iter().find(|each| each.name == name);
            found.ok_or_else(|| Problem::not_found(format!("there is no authority `{name}`")).next("authority list"))?
        }
    };
    let passphrase = context.passphrase(&format!("the authority `{}`", authority.name))?;
    let signer = ward.key(authority.name.as_str(), &passphrase)?;
    let crl = ward.store.next_crl(&authority.name)?;
    let now = ward.now();
    let heading = Heading { number: crl.number, this_update: now, next_update: now.plus(life) };
    let issuer = Issuer { certificate: &authority.certificate, signer: &signer };
    let der = sign_crl(issuer, heading, crl.entries.iter().cloned())
        .map_err(|error| Problem::failed("the CRL was not signed").because(error))?;
    let bytes = if args.der { der } else { asn1::pem("X509 CRL", &der).into_bytes() };
    let cause = ward.cause(None);
    let recorded = ward.store.record_crl(&authority.name, &crl, &cause, &mut || files::replace(&args.out, &bytes));
    let recorded = recorded.map_err(|error| match error {
        tidy_warden_store::StoreError::Delivery(error) => Problem::file("write", &args.out, &error),
        other => other.into(),
    })?;
    if !recorded {
        return Err(Problem::failed(format!("CRL {} of `{}` was not recorded", crl.number, authority.name))
            .because("another command signed one at the same moment")
            .next("run crl again"));
    }
    let (count, next) = (crl.entries.len(), heading.next_update);
    let value = json!({
        "authority": authority.name, "number": crl.number, "entries": count, "next_update": next,
        "file": args.out.display().to_string(),
    });
    let text = format!(
        "wrote CRL {} of `{}`: {count} revoked, next by {next}: {}\n",
        crl.number,
        authority.name,
        args.out.display()
    );
    context.console.show("tidy-warden/crl/1", value, &text)?;
    Ok(Exit::Done)
}
