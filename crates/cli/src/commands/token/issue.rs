//! `token issue`: signs tokens, and records that it did.

use std::borrow::Cow;
use std::collections::BTreeMap;
use std::io::{IsTerminal, Write};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::mpsc::sync_channel;

use serde_json::json;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::key::Sha256;
use tidy_warden_core::time::{Span, UnixTime};
use tidy_warden_core::token::{Form, Scope};
use tidy_warden_ward::token::{self, Bind, Made, Wish};
use zeroize::Zeroizing;

use crate::args::{IssueArgs, TokenForm};
use crate::commands::{Context, pick};
use crate::console::counted;
use crate::edge::parse;
use crate::files::{self, Access, PendingFile};
use crate::problem::{Exit, Problem};

/// The most tokens that one call makes.
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

/// Adds a row of the file.
fn row(text: &mut String, (device, ends): (&DeviceId, &str), made: &Made, as_lines: bool) {
    use std::fmt::Write as _;
    let name = made.claims.id.as_deref().unwrap_or_default();
    let token = match std::str::from_utf8(&made.octets) {
        Ok(token) => Cow::Borrowed(token),
        Err(_) => Cow::Owned(data_encoding::BASE64.encode(&made.octets)),
    };
    // Ids, tokens, times and names are of characters that neither form sets apart.
    let _ = match as_lines {
        true => writeln!(text, r#"{{"device":"{device}","token":"{token}","ends":"{ends}","jti":"{name}"}}"#),
        false => writeln!(text, "{device},{token},{ends},{name}"),
    };
}

/// Those who get no token: a few of them, and how many there are.
#[derive(Default)]
struct LeftOut {
    some: Vec<(DeviceId, Problem)>,
    count: usize,
}

fn many(context: &Context<'_>, args: &IssueArgs, wish: &Wish) -> Result<Exit, Problem> {
    let console = context.console;
    let mut ward = context.ward()?;
    let (Some(path), condition) = (&args.out, args.condition.as_deref()) else {
        return Err(Problem::usage("where to?").next("--out FILE"));
    };
    let opening = token::opening(&ward, &context.secrets())?;
    let mut ids: Vec<DeviceId> = Vec::new();
    let mut left_out = LeftOut::default();
    pick::each(&ward, condition, &mut |view| match token::allowed(&ward, &view.device, wish) {
        Ok(()) => ids.push(view.device.id),
        Err(problem) => {
            left_out.count += 1;
            if left_out.some.len() < 5 {
                left_out.some.push((view.device.id, problem));
            }
        }
    })?;
    let count = u64::try_from(ids.len()).unwrap_or(u64::MAX);
    if count > MOST {
        return Err(Problem::refused("no token was made")
            .because(format!("the condition picks {count} devices, and one call makes at most {MOST} tokens"))
            .next("narrow the condition"));
    }
    for (id, problem) in &left_out.some {
        console.note(format!("{id} gets none: {}", problem.in_one_line()));
    }
    if left_out.count > left_out.some.len() {
        console.note(format!("and {} more get none", left_out.count - left_out.some.len()));
    }
    if ids.is_empty() {
        return Err(Problem::refused("no token was made").because("the condition picks no device that may have one"));
    }
    console.note(format!("a token for each of {}, good for {}", counted(ids.len(), "device"), wish.life));
    console.confirm_count(count, args.count)?;
    let opened = opening.finish()?;
    let as_lines = path.extension().is_some_and(|end| end == "jsonl");
    let maker = token::Maker::of(&ward, wish)?;
    let failed = |error: std::io::Error| Problem::file("write", path, &error);
    let mut file = PendingFile::begin(path).map_err(failed)?;
    if !as_lines {
        file.write_all(b"device,token,ends,jti\n").map_err(failed)?;
    }
    let mut digest = Sha256::default();
    sign_all(&ids, (&maker, &opened), as_lines, &mut |part| {
        digest.update(part.names.as_bytes());
        file.write_all(part.rows.as_bytes()).map_err(failed)
    })?;
    file.sync().map_err(failed)?;
    // The record says how many, and by the digest of their names which.
    let detail = json!({
        "count": count, "ends": maker.ends(), "kid": opened.kid(), "scope": wish.scope.as_ref().map(ToString::to_string),
        "names_sha256": data_encoding::HEXLOWER.encode(&digest.finish()),
    });
    let cause = ward.cause(args.because.text());
    ward.store.record_note("token.issue", &format!("{count} devices"), &detail.to_string(), &cause)?;
    file.publish().map_err(failed)?;
    console.note(format!("wrote {}: {}; they are not kept here", path.display(), counted(ids.len(), "token")));
    Ok(if left_out.count == 0 { Exit::Done } else { Exit::Partly })
}

/// Rows of the file that belong together, and the names of their tokens one behind the other.
struct Part {
    rows: Zeroizing<String>,
    names: String,
}

/// How many tokens are signed together.
const AT_ONCE: usize = 500;

/// Signs on all cores, and hands the rows over in the order of the devices.
fn sign_all(
    ids: &[DeviceId],
    (maker, opened): (&token::Maker<'_>, &token::Opened),
    as_lines: bool,
    take: &mut dyn FnMut(Part) -> Result<(), Problem>,
) -> Result<(), Problem> {
    let cores = std::thread::available_parallelism().map_or(1, usize::from);
    let chunks: Vec<&[DeviceId]> = ids.chunks(AT_ONCE).collect();
    let next = AtomicUsize::new(0);
    let ends = maker.ends().to_string();
    let part = |ids: &[DeviceId]| -> Result<Part, Problem> {
        let mut part = Part { rows: Zeroizing::new(String::with_capacity(ids.len() * 720)), names: String::new() };
        for id in ids {
            let made = maker.make(id, opened)?;
            row(&mut part.rows, (id, &ends), &made, as_lines);
            part.names.push_str(made.claims.id.as_deref().unwrap_or_default());
        }
        Ok(part)
    };
    std::thread::scope(|scope| {
        let (to_writer, done) = sync_channel(4 * cores);
        for _ in 0..cores {
            let (to_writer, next, chunks, part) = (to_writer.clone(), &next, &chunks, &part);
            scope.spawn(move || {
                loop {
                    let at = next.fetch_add(1, Ordering::Relaxed);
                    let Some(ids) = chunks.get(at) else { return };
                    // Whoever takes them has given up.
                    if to_writer.send((at, part(ids))).is_err() {
                        return;
                    }
                }
            });
        }
        drop(to_writer);
        let (mut early, mut wanted) = (BTreeMap::new(), 0);
        for (at, part) in done {
            early.insert(at, part?);
            while let Some(part) = early.remove(&wanted) {
                take(part)?;
                wanted += 1;
            }
        }
        match wanted == chunks.len() {
            true => Ok(()),
            false => Err(Problem::failed("a thread that signed tokens ended")),
        }
    })
}
