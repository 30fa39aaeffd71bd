//! `token issue`: signs tokens, and records that it did.

use std::io::{IsTerminal, Write};

use serde_json::json;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::time::{Span, UnixTime};
use tidy_warden_core::token::{Form, Scope};
use tidy_warden_store::DeviceView;
use tidy_warden_ward::token::{self, Bind, Made, Wish};

use crate::args::{IssueArgs, TokenForm};
use crate::commands::{Context, pick};
use crate::console::counted;
use crate::edge::parse;
use crate::files::{self, Access};
use crate::problem::{Exit, Problem};

/// The most tokens that one call makes: they stand in memory until all are signed, so that the file is whole or not there.
const MOST: u64 = 1_000_000;

fn wish(args: &IssueArgs) -> Result<Wish, Problem> {
    let scope = match args.scope.as_slice() {
        [] => None,
        parts => Some(Scope::parse(parts.iter().map(String::as_str)).map_err(|error| {
            Problem::usage(error.to_string()).next("--scope 'publish rope/ossel/gt-01/count', once for each act")
        })?),
    };
    Ok(Wish {
        life: parse::<Span>(&args.life)?,
        begins: args.not_before.as_deref().map(parse::<UnixTime>).transpose()?,
        audience: args.audience.clone(),
        scope,
        bind: args.bind.as_deref().map(|text| match text {
            "certificate" => Bind::Certificate,
            kid => Bind::Key(kid.to_owned()),
        }),
        form: match args.form {
            TokenForm::Jwt => Form::Jwt,
            TokenForm::Cwt => Form::Cwt,
        },
        key: args.key.clone(),
    })
}

pub(super) fn run(context: &Context<'_>, args: &IssueArgs) -> Result<Exit, Problem> {
    let wish = wish(args)?;
    if args.audience.as_ref().is_some_and(|audience| audience.is_empty() || audience.len() > 512) {
        return Err(Problem::usage("an audience has 1 to 512 bytes"));
    }
    if let Some(path) = args.out.as_ref().filter(|path| path.symlink_metadata().is_ok()) {
        return Err(Problem::refused("no token was made")
            .because(format!("{} exists already", path.display()))
            .next("name another file: --out FILE"));
    }
    match &args.device {
        Some(device) => one(context, args, &parse(device)?, &wish),
        None => many(context, args, &wish),
    }
}

fn one(context: &Context<'_>, args: &IssueArgs, id: &DeviceId, wish: &Wish) -> Result<Exit, Problem> {
    let console = context.console;
    let is_text = wish.form == Form::Jwt;
    if args.out.is_none() && !is_text && std::io::stdout().is_terminal() {
        return Err(Problem::usage("a CWT is not text, and a terminal shows nothing of it").next("--out FILE"));
    }
    let mut ward = context.ward()?;
    let made = token::issue(&mut ward, id, wish, &context.secrets(), args.because.text())?;
    let ends = made.claims.ends.unwrap_or(UnixTime(0));
    match &args.out {
        Some(path) => {
            let mut octets = made.octets;
            if is_text {
                octets.push(b'\n');
            }
            files::create(path, &octets, Access::Secret).map_err(|error| Problem::file("write", path, &error))?;
            console.note(format!("wrote {}: a token for {id}, good until {ends}; it is not kept here", path.display()));
        }
        None => {
            console.note(format!("a token for {id}, good until {ends}; it is not kept here"));
            let mut out = std::io::stdout().lock();
            let end: &[u8] = if is_text { b"\n" } else { b"" };
            let written = out.write_all(&made.octets).and_then(|()| out.write_all(end)).and_then(|()| out.flush());
            written.map_err(|error| Problem::failed("cannot write to standard output").because(error))?;
        }
    }
    if let Some(scope) = &wish.scope
        && !scope.client_ids().iter().any(|named| named == id.as_str())
    {
        console.note(format!("it opens clean sessions, with a client identifier that begins with `{id}:`"));
    }
    Ok(Exit::Done)
}

/// A row of the file.
fn row(device: &DeviceId, made: &Made, as_lines: bool) -> String {
    let text = match std::str::from_utf8(&made.octets) {
        Ok(text) => text.to_owned(),
        Err(_) => data_encoding::BASE64.encode(&made.octets),
    };
    let ends = made.claims.ends.unwrap_or(UnixTime(0));
    match as_lines {
        true => format!("{}\n", json!({ "device": device, "token": text, "ends": ends, "jti": made.claims.id })),
        false => format!("{device},{text},{ends},{}\n", made.claims.id.as_deref().unwrap_or_default()),
    }
}

fn many(context: &Context<'_>, args: &IssueArgs, wish: &Wish) -> Result<Exit, Problem> {
    let console = context.console;
    let mut ward = context.ward()?;
    let (Some(path), condition) = (&args.out, args.condition.as_deref()) else {
        return Err(Problem::usage("where to?").next("--out FILE"));
    };
    let mut views: Vec<DeviceView> = Vec::new();
    let mut refused: Vec<(DeviceId, Problem)> = Vec::new();
    pick::each(&ward, condition, &mut |view| match token::allowed(&ward, &view.device, wish) {
        Ok(()) => views.push(view),
        Err(problem) => refused.push((view.device.id, problem)),
    })?;
    let count = u64::try_from(views.len()).unwrap_or(u64::MAX);
    if count > MOST {
        return Err(Problem::refused("no token was made")
            .because(format!("the condition picks {count} devices, and one call makes at most {MOST} tokens"))
            .next("narrow the condition"));
    }
    for (id, problem) in refused.iter().take(5) {
        console.note(format!("{id} gets none: {}", problem.in_one_line()));
    }
    if refused.len() > 5 {
        console.note(format!("and {} more get none", refused.len() - 5));
    }
    if views.is_empty() {
        return Err(Problem::refused("no token was made").because("the condition picks no device that may have one"));
    }
    console.note(format!("a token for each of {}, good for {}", counted(views.len(), "device"), wish.life));
    console.confirm_count(count, args.count)?;
    let opened = token::open(&ward, &views[0], None, &context.secrets())?;
    let as_lines = path.extension().is_some_and(|end| end == "jsonl");
    let all = sign_all(&ward, &views, wish, &opened)?;
    let mut text = zeroize::Zeroizing::new(String::with_capacity(all.len() * 700));
    if !as_lines {
        text.push_str("device,token,ends,jti\n");
    }
    let mut digest = tidy_warden_core::key::Sha256::default();
    for (view, made) in views.iter().zip(&all) {
        text.push_str(&row(&view.device.id, made, as_lines));
        digest.update(made.claims.id.as_deref().unwrap_or_default().as_bytes());
    }
    // The record says how many, and by the digest of their names which.
    let detail = json!({
        "count": all.len(), "ends": all.first().and_then(|made| made.claims.ends), "kid": all.first().map(|made| &made.kid),
        "scope": wish.scope.as_ref().map(ToString::to_string), "names_sha256": data_encoding::HEXLOWER.encode(&digest.finish()),
    });
    let cause = ward.cause(args.because.text());
    ward.store.record_note("token.issue", &format!("{count} devices"), &detail.to_string(), &cause)?;
    files::create(path, text.as_bytes(), Access::Secret).map_err(|error| Problem::file("write", path, &error))?;
    console.note(format!("wrote {}: {}; they are not kept here", path.display(), counted(all.len(), "token")));
    Ok(if refused.is_empty() { Exit::Done } else { Exit::Partly })
}

/// Signs on all cores.
fn sign_all(
    ward: &crate::ward::Ward,
    views: &[DeviceView],
    wish: &Wish,
    opened: &token::Opened,
) -> Result<Vec<Made>, Problem> {
    let cores = std::thread::available_parallelism().map_or(1, usize::from);
    let maker = token::Maker::of(ward, wish)?;
    let share = views.len().div_ceil(cores).max(1);
    std::thread::scope(|scope| {
        let parts: Vec<_> = views
            .chunks(share)
            .map(|part| {
                let maker = &maker;
                scope.spawn(move || part.iter().map(|view| maker.make(view, opened)).collect::<Result<Vec<_>, _>>())
            })
            .collect();
        let mut all = Vec::with_capacity(views.len());
        for part in parts {
            let made = part.join().map_err(|_| Problem::failed("a thread that signed tokens ended"))?;
            all.extend(made?);
        }
        Ok(all)
    })
}
