//! `crl`: signs and writes an authority's current certificate revocation list.

use serde_json::json;
use tidy_warden_core::id::AuthorityName;
use tidy_warden_core::time::Span;
pub(crate) use tidy_warden_ward::crl::{Signed, sign, waiting};

use super::Context;
use crate::args::CrlArgs;
use crate::edge::parse;
use crate::problem::{Exit, Problem};

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
    let Signed { number, entries: listed, next_update: next, .. } =
        sign(&mut ward, &authority, life, because.as_deref(), &secrets, &args.out, args.der)?;
    let count = listed.len();
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
