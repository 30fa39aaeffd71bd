//! `token block`, `token blocked`: tokens that nobody takes any more although they are not over.

use serde_json::{Value, json};
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::key::sha256;
use tidy_warden_core::settings::Settings;
use tidy_warden_core::time::{Span, UnixTime};
use tidy_warden_core::token::{block_of_key, block_of_name};
use tidy_warden_store::{BlockRefusal, TokenBlock};
use tidy_warden_ward::token::judge;

use super::token;
use crate::args::BlockTokenArgs;
use crate::commands::Context;
use crate::edge::parse;
use crate::problem::{Exit, Problem};
use crate::stream::{Stream, TableStream};
use crate::ward::Ward;

/// How many are read at once.
const AT_ONCE: usize = 1_000;

pub(super) fn run(context: &Context<'_>, args: &BlockTokenArgs) -> Result<Exit, Problem> {
    let console = context.console;
    let mut ward = context.ward()?;
    let (blocks, what) = wanted(context, &ward, args)?;
    console.confirm(&format!("Block {what}?"), args.yes)?;
    let because = console.reason(args.because.text())?;
    let cause = ward.cause(Some(&because));
    for block in &blocks {
        ward.store.block_token(block, &cause)?.map_err(|refusal| {
            let problem = Problem::refused("nothing was blocked").because(refusal);
            match refusal {
                BlockRefusal::Full => problem.next("end a whole key instead: key retire, or token signer retire"),
                _ => problem,
            }
        })?;
    }
    let until = blocks.iter().map(|block| block.until).max();
    let value = json!({ "blocked": blocks.iter().map(item).collect::<Vec<_>>() });
    let forgotten = until.map_or_else(String::new, |until| format!("; forgotten after {until}"));
    console.show("tidy-warden/token-block/1", value, &format!("blocked {what}{forgotten}\n"))?;
    console.note("a running guard ends such sessions within a second");
    if let Some(device) = &args.device {
        console.note(format!(
            "whoever has a key of {device} makes new ones: if one leaked, end it: key retire {device} KID"
        ));
    } else if args.key.is_some() && args.jti.is_none() {
        console.note("whoever has that key makes new ones: if it leaked, end it: key retire, or token signer retire");
    }
    Ok(Exit::Done)
}

/// The longest life that any token can have: when the last one that is made now has ended.
fn longest(settings: &Settings) -> Span {
    let lives = settings.kinds.values().flat_map(|kind| [kind.token_life, kind.own_token_life]);
    lives.max().unwrap_or(Span::from_days(1))
}

/// What is to be blocked, and how that is called.
fn wanted(context: &Context<'_>, ward: &Ward, args: &BlockTokenArgs) -> Result<(Vec<TokenBlock>, String), Problem> {
    let now = ward.now();
    let until = now.plus(longest(&ward.settings)).plus(Span::from_seconds(600));
    if let Some(path) = &args.token {
        return of_token(context, ward, &token(Some(path), None, "block")?);
    }
    if let (Some(device), Some(before)) = (&args.device, &args.before) {
        let id: DeviceId = parse(device)?;
        ward.device(&id)?;
        // What is made in this second is meant too.
        let before = if before == "now" { now.plus(Span::from_seconds(1)) } else { parse::<UnixTime>(before)? };
        if before > now.plus(Span::from_seconds(1)) {
            return Err(Problem::refused("nothing was blocked")
                .because(format!("{before} is in the future: tokens that nobody has made yet cannot be named"))
                .next("--before now"));
        }
        let name = sha256(format!("device {id}").as_bytes());
        let block =
            TokenBlock { name, device: Some(id.clone()), kid: None, jti: None, before: Some(before), at: now, until };
        return Ok((vec![block], format!("all tokens of {id} that were made before {before}")));
    }
    let signers = ward.store.signers()?;
    let owner =
        |kid: &str| -> Result<Option<DeviceId>, Problem> { Ok(ward.store.key_named(kid)?.map(|(device, _)| device)) };
    let known = |kid: &str| -> Result<Option<DeviceId>, Problem> {
        match owner(kid)? {
            Some(device) => Ok(Some(device)),
            None if signers.iter().any(|each| each.kid() == kid) => Ok(None),
            None => Err(Problem::not_found(format!("no key is named {kid}"))
                .next("key list, or token signer list, shows the keys that there are")),
        }
    };
    match (&args.jti, &args.key) {
        (Some(jti), key) => {
            let kids = match key {
                Some(kid) => vec![kid.clone()],
                None => signers.iter().filter(|each| each.retired.is_none()).map(|each| each.kid()).collect(),
            };
            let mut blocks = Vec::new();
            for kid in kids {
                let device = known(&kid)?;
                let (name, jti) = (block_of_name(&kid, jti), Some(jti.clone()));
                blocks.push(TokenBlock { name, device, kid: Some(kid), jti, before: None, at: now, until });
            }
            Ok((blocks, format!("the token {}", super::plain(jti))))
        }
        (None, Some(kid)) => {
            let device = known(kid)?;
            let before = Some(now.plus(Span::from_seconds(1)));
            let (name, named) = (block_of_key(kid), Some(kid.clone()));
            let block = TokenBlock { name, device, kid: named, jti: None, before, at: now, until };
            Ok((vec![block], format!("all tokens of the key {kid} that were made until now")))
        }
        (None, None) => {
            Err(Problem::usage("which tokens?").next("--token FILE, --jti JTI, --key KID, or DEVICE --before TIME"))
        }
    }
}

/// A token that is at hand. Only one that is somebody's can be blocked: whoever could fill the list with anything would fill it.
fn of_token(context: &Context<'_>, ward: &Ward, octets: &[u8]) -> Result<(Vec<TokenBlock>, String), Problem> {
    let judged = judge(ward, octets, None, None, &context.secrets())?;
    let Some(bearer) = judged.bearer else {
        let why = judged.verdict.err().unwrap_or_default();
        return Err(Problem::refused("nothing was blocked").because(format!("no guard takes that token: {why}")));
    };
    let token = bearer.token;
    let block = TokenBlock {
        name: token.block_name(),
        device: Some(token.device.clone()),
        kid: Some(token.kid.clone()),
        jti: token.jti().map(str::to_owned),
        before: None,
        at: ward.now(),
        until: token.ends,
    };
    Ok((vec![block], format!("the {} of {}", token.shown(), token.device)))
}

fn item(block: &TokenBlock) -> Value {
    json!({
        "name": data_encoding::HEXLOWER.encode(&block.name), "device": block.device, "kid": block.kid, "jti": block.jti,
        "before": block.before, "since": block.at, "until": block.until,
    })
}

fn row(block: &TokenBlock) -> Vec<String> {
    let what = match (&block.jti, block.before) {
        (Some(jti), _) => super::plain(jti),
        (None, Some(before)) => format!("all made before {before}"),
        (None, None) => format!("one without a name, {}", data_encoding::HEXLOWER.encode(&block.name[..8])),
    };
    let or_any = |text: Option<String>| text.unwrap_or_else(|| "-".to_owned());
    vec![
        or_any(block.device.as_ref().map(ToString::to_string)),
        what,
        or_any(block.kid.clone()),
        block.at.to_string(),
        block.until.to_string(),
    ]
}

pub(super) fn list(context: &Context<'_>) -> Result<Exit, Problem> {
    let ward = context.ward()?;
    let now = ward.now();
    let columns = ["device", "token", "key", "since", "until"].map(str::to_owned).to_vec();
    let each = |add: &mut dyn FnMut(&TokenBlock) -> Result<(), Problem>| -> Result<(), Problem> {
        let mut after: Option<TokenBlock> = None;
        loop {
            let page = ward.store.token_blocks(after.as_ref(), AT_ONCE)?;
            for block in page.iter().filter(|block| block.until > now) {
                add(block)?;
            }
            after = page.last().cloned();
            if page.len() < AT_ONCE {
                return Ok(());
            }
        }
    };
    if let Some(form) = context.console.form() {
        let mut stream = Stream::new(context.console, form, ("tidy-warden/token-blocks/1", "blocks"), &columns)?;
        each(&mut |block| stream.add(|| item(block), || row(block)))?;
        stream.end()?;
        return Ok(Exit::Done);
    }
    let mut stream = TableStream::new(context.console, &columns);
    each(&mut |block| stream.add(&row(block)))?;
    stream.end("no tokens are blocked")?;
    Ok(Exit::Done)
}
