//! `errand`: what devices are asked to do, and what they answer.

use std::time::{Duration, Instant};

use serde_json::{Value, json};
use tidy_warden_core::errand::{Carried, ErrandRecord, Purpose, State, shown_state};
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::time::{Span, UnixTime};
use tidy_warden_ward::errand::{self, ErrandSigner, Settling, may_ask};
use tidy_warden_ward::issue::press::Mint;
use tidy_warden_ward::keys::Openers;

use super::Context;
use crate::args::{ErrandCommand, ListErrandsArgs, SendErrandArgs};
use crate::console::Listing;
use crate::edge::parse;
use crate::problem::{Exit, Problem};
use crate::ward::Ward;

/// How often it is looked for an answer.
const LOOK: Duration = Duration::from_millis(200);

pub(crate) fn run(context: &Context<'_>, command: &ErrandCommand) -> Result<Exit, Problem> {
    match command {
        ErrandCommand::Send(args) => send(context, args),
        ErrandCommand::List(args) => list(context, args),
        ErrandCommand::Show { number } => show(context, *number),
    }
}

/// What is wanted in detail, as it is signed.
fn detail(text: Option<&str>) -> Result<String, Problem> {
    let Some(text) = text else { return Ok("{}".to_owned()) };
    let read: Result<serde_json::Map<String, Value>, _> = serde_json::from_str(text);
    read.map(|object| Value::Object(object).to_string()).map_err(|error| {
        Problem::usage("what is wanted in detail is no JSON object").because(error).next("'{\"pylon\": 6}'")
    })
}

fn send(context: &Context<'_>, args: &SendErrandArgs) -> Result<Exit, Problem> {
    let id: DeviceId = parse(&args.device)?;
    let purpose: Purpose = parse(&args.purpose)?;
    let (life, wait): (Span, Option<Span>) = (parse(&args.life)?, args.wait.as_deref().map(parse).transpose()?);
    let detail = detail(args.detail.as_deref())?;
    let mut ward = context.ward()?;
    let device = ward.device(&id)?.device;
    may_ask(
        ward.settings.kind(&device.kind).map_err(|unknown| Problem::refused(unknown.to_string()))?,
        &device,
        &purpose,
    )?;
    let secrets = context.secrets();
    let signer = ErrandSigner::open(&mut ward, &secrets)?;
    // Whoever waits for a certificate signs it, unless a desk is quicker.
    let mint = match (wait, &purpose) {
        (Some(_), Purpose::Renew) => mint(context, &ward, &device.kind, &secrets),
        _ => None,
    };
    let new = signer.new_errand(&id, purpose, detail, (ward.now(), life));
    let cause = ward.cause(args.because.text());
    let number = errand::send(&mut ward.store, &signer, &new, &cause)?;
    let Some(wait) = wait else {
        let (record, carried) = known(&ward, number)?;
        let text = format!("errand {number} to {id}: {}, until {}\n", record.errand.purpose, record.errand.ends);
        context.console.show("tidy-warden/errand/1", describe(&record, &carried, ward.now()), &text)?;
        return Ok(Exit::Done);
    };
    let until = Instant::now() + Duration::from_secs(u64::try_from(wait.seconds()).unwrap_or(0));
    loop {
        let signs = mint.as_ref().map(|mint| Settling { mint, signer: &signer });
        let cause = ward.cause(None);
        errand::settle(&mut ward.store, signs.as_ref(), &cause)?;
        let (record, carried) = known(&ward, number)?;
        let is_over = Instant::now() >= until;
        if record.state == State::Open && !is_over {
            std::thread::sleep(LOOK);
            continue;
        }
        context.console.show(
            "tidy-warden/errand/1",
            describe(&record, &carried, ward.now()),
            &told(&record, &carried, ward.now()),
        )?;
        return Ok(match record.state {
            State::Done => Exit::Done,
            State::Refused | State::Failed => Exit::Refused,
            State::Open => Exit::Failed,
        });
    }
}

/// What signs certificates for a kind, if it can be opened here.
fn mint(
    context: &Context<'_>,
    ward: &Ward,
    kind: &tidy_warden_core::id::KindName,
    secrets: &dyn Openers,
) -> Option<Mint> {
    let made = || {
        let mint = Mint::new(ward)?;
        mint.prepare(kind, &|authority| secrets.signer(ward, authority))?;
        Ok::<_, Problem>(mint)
    };
    made()
        .inspect_err(|problem| {
            context.console.note(format!("a desk has to sign the certificate: {}", problem.in_one_line()))
        })
        .ok()
}

fn known(ward: &Ward, number: i64) -> Result<(ErrandRecord, Carried), Problem> {
    let found =
        ward.store.view(|view| Ok((view.errand(number)?, view.carried(&[number])?.pop().unwrap_or_default())))?;
    match found {
        (Some(record), carried) => Ok((record, carried)),
        (None, _) => Err(Problem::not_found(format!("there is no errand {number}")).next("errand list")),
    }
}

/// Looks at answers that wait, as far as this may write and needs no key: nobody else does where no desk runs.
fn settled(ward: &mut Ward) {
    let cause = ward.cause(None);
    // Whoever may only read sees the answers as they came.
    let _ = errand::settle(&mut ward.store, None, &cause);
}

fn describe(record: &ErrandRecord, carried: &Carried, now: UnixTime) -> Value {
    let errand = &record.errand;
    let parsed = |text: &String| serde_json::from_str::<Value>(text).ok();
    let mut value = json!({
        "number": errand.number, "device": errand.device, "purpose": errand.purpose.as_str(),
        "state": shown_state(record, carried, now), "detail": parsed(&errand.detail), "sent": errand.sent, "ends": errand.ends,
        "tries": carried.tries, "handed": carried.first, "ended": record.ended,
    });
    match (&record.outcome, record.state) {
        (Some(text), State::Done) => value["result"] = parsed(text).unwrap_or_else(|| json!(text)),
        (Some(text), _) => value["because"] = json!(text),
        (None, _) => {}
    }
    if let Some(follows) = record.follows {
        value["follows"] = json!(follows);
    }
    value
}

/// What came of it, in words.
fn outcome(record: &ErrandRecord) -> String {
    record.outcome.clone().unwrap_or_else(|| "-".to_owned())
}

fn told(record: &ErrandRecord, carried: &Carried, now: UnixTime) -> String {
    let errand = &record.errand;
    let maybe = |at: Option<UnixTime>| at.map_or_else(|| "-".to_owned(), |at| at.to_string());
    let mut text = format!(
        "errand       {}\ndevice       {}\npurpose      {}\nstate        {}\nsent         {}\nends         {}\n",
        errand.number,
        errand.device,
        errand.purpose,
        shown_state(record, carried, now),
        errand.sent,
        errand.ends,
    );
    if errand.detail != "{}" && errand.purpose != Purpose::Install {
        text.push_str(&format!("detail       {}\n", errand.detail));
    }
    if let Some(follows) = record.follows {
        text.push_str(&format!("follows      errand {follows}\n"));
    }
    text.push_str(&match carried.tries {
        0 => "handed over  not yet: nobody who listens for it is connected\n".to_owned(),
        1 => format!("handed over  {}\n", maybe(carried.first)),
        tries => format!("handed over  {tries} times, first {}, last {}\n", maybe(carried.first), maybe(carried.last)),
    });
    text.push_str(&format!(
        "answered     {}\n",
        maybe(record.ended.or(carried.answer.as_ref().map(|answer| answer.at)))
    ));
    if record.outcome.is_some() {
        text.push_str(&format!("outcome      {}\n", outcome(record)));
    }
    text
}

fn show(context: &Context<'_>, number: i64) -> Result<Exit, Problem> {
    let mut ward = context.ward()?;
    settled(&mut ward);
    let (record, carried) = known(&ward, number)?;
    let now = ward.now();
    context.console.show("tidy-warden/errand/1", describe(&record, &carried, now), &told(&record, &carried, now))?;
    Ok(Exit::Done)
}

/// How many are read at once.
const PAGE: usize = 500;

fn list(context: &Context<'_>, args: &ListErrandsArgs) -> Result<Exit, Problem> {
    let of: Option<DeviceId> = args.device.as_deref().map(parse).transpose()?;
    let mut ward = context.ward()?;
    if let Some(of) = &of {
        ward.device(of)?;
    }
    settled(&mut ward);
    let now = ward.now();
    let (mut all, mut before) = (Vec::new(), i64::MAX);
    while all.len() < args.last {
        let page = ward.store.view(|view| {
            let records = view.errands(of.as_ref(), before, PAGE)?;
            let numbers: Vec<i64> = records.iter().map(|record| record.errand.number).collect();
            Ok(records.into_iter().zip(view.carried(&numbers)?).collect::<Vec<_>>())
        })?;
        let Some((last, _)) = page.last() else { break };
        before = last.errand.number;
        let wanted = |(record, _): &(ErrandRecord, Carried)| {
            !args.open || record.state == State::Open && record.errand.ends >= now
        };
        all.extend(page.into_iter().filter(wanted));
    }
    all.truncate(args.last);
    let row = |(record, carried): &(ErrandRecord, Carried)| {
        let errand = &record.errand;
        vec![
            errand.number.to_string(),
            errand.device.to_string(),
            errand.purpose.to_string(),
            shown_state(record, carried, now).to_owned(),
            errand.sent.to_string(),
            errand.ends.to_string(),
            carried.tries.to_string(),
            outcome(record).chars().take(60).collect(),
        ]
    };
    context.console.list(Listing {
        schema: "tidy-warden/errands/1",
        key: "errands",
        items: all.iter().map(|(record, carried)| describe(record, carried, now)).collect(),
        columns: ["errand", "device", "purpose", "state", "sent", "ends", "tries", "outcome"]
            .map(str::to_owned)
            .to_vec(),
        rows: all.iter().map(row).collect(),
        empty: "no errands; errand send DEVICE restart asks a device to do something",
    })?;
    Ok(Exit::Done)
}
