//! `claim`: how devices find their owners.

mod open;
mod print;
mod voucher;

pub(crate) use print::label;

use std::path::Path;

use serde_json::{Value, json};
use tidy_warden_core::claim::{ClaimBy, Code, HandOver, OpenClaim, OpenedBy, Ownership, passed};
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::id::{DeviceId, OwnerId};
use tidy_warden_core::owner::OwnerRecord;
use tidy_warden_core::time::{Span, UnixTime};
use tidy_warden_store::acts::claim;
use tidy_warden_store::{PassRefusal, Passed, StoreError, Taken, Tx};
use tidy_warden_ward::claim::{Wish, by_rules, kind_rules, take, take_offered};
use tidy_warden_ward::mass::MassAct;

use super::changes::{devices_text, of_devices};
use super::owner::{named, places};
use super::{Context, pick};
use crate::args::{ClaimCommand, GiveUpArgs, HandOverArgs, TakeArgs};
use crate::console::{Console, Listing, counted};
use crate::edge::parse;
use crate::files;
use crate::problem::{Exit, Problem};
use crate::ward::Ward;

/// The longest file with a code, in octets.
const MAX_CODE: u64 = 1_024;

/// How many are read at once.
const AT_ONCE: usize = 1_000;

pub(crate) fn run(context: &Context<'_>, command: &ClaimCommand) -> Result<Exit, Problem> {
    match command {
        ClaimCommand::Open(args) => open::run(context, args),
        ClaimCommand::Close { device, because } => close(context, device, because.text()),
        ClaimCommand::Take(args) => taken(context, args),
        ClaimCommand::Print(args) => print::run(context, args),
        ClaimCommand::Voucher(args) => voucher::make(context, args),
        ClaimCommand::CheckVoucher(args) => voucher::check(context, args),
        ClaimCommand::List => list(context),
        ClaimCommand::GiveUp(args) => give_up(context, args),
        ClaimCommand::HandOver(args) => hand_over(context, args),
    }
}

/// Writes what is told once into a new file, inside a change.
pub(super) fn deliver(path: &Path, text: &str) -> Result<(), StoreError> {
    super::owner::create(path, text).map_err(StoreError::Delivery)
}

/// Makes a change that cannot be refused.
pub(super) fn done<T>(ward: &mut Ward, act: impl FnOnce(&mut dyn Tx) -> Result<T, StoreError>) -> Result<T, Problem> {
    Ok(ward.store.make(act)?)
}

/// A code that somebody typed or put into a file. Whether there is such a one is not looked at.
fn code(text: &str) -> Result<Code, Problem> {
    Code::parse(text).map_err(|bad| Problem::refused("this is no claim code").because(bad))
}

fn code_of(given: Option<&str>, file: Option<&Path>) -> Result<Option<Code>, Problem> {
    match (given, file) {
        (Some(text), _) => code(text).map(Some),
        (None, Some(path)) => code(&zeroize::Zeroizing::new(files::read_text(path, MAX_CODE)?)).map(Some),
        (None, None) => Ok(None),
    }
}

fn close(context: &Context<'_>, device: &str, because: Option<&str>) -> Result<Exit, Problem> {
    let mut ward = context.ward()?;
    let id = ward.device(&parse(device)?)?.device.id;
    let cause = ward.cause(because);
    let was = done(&mut ward, |tx| claim::close(tx, &id, &cause))?;
    let note = match was {
        true => format!("nobody can claim {id} until it is opened again"),
        false => format!("{id} was not open; nothing changed"),
    };
    context.console.did("tidy-warden/claim-close/1", json!({ "device": id, "was_open": was }), note)?;
    Ok(Exit::Done)
}

/// What everybody is told whose claim is refused, whatever was wrong.
fn no(device: &str) -> Problem {
    Problem::refused(format!("`{device}` was not claimed"))
        .because(
            "the device, the code or its time is not right, or there were too many wrong tries; it is not said which",
        )
        .next(format!("the record says why: audit log --subject {device}; another code: claim open {device}"))
}

fn pass_refusal(why: &PassRefusal) -> Problem {
    let problem = Problem::refused(why.to_string());
    match why {
        PassRefusal::NoHeir(owner) => problem.next(format!("owner list, or: owner add {owner}")),
        PassRefusal::Place(_) => problem.next("choose one with --place, or give the owner a place: owner edit --place"),
        PassRefusal::NotOffered(..) => problem.next("claim list shows what is offered to whom"),
        PassRefusal::NoOwner(id) | PassRefusal::Barred(id, _) => problem.next(format!("device show {id}")),
        _ => problem,
    }
}

/// Tells what changes for a device that passes, if that can be said before it does.
fn tell(
    console: &Console,
    ward: &Ward,
    device: &DeviceRecord,
    to: Option<&OwnerRecord>,
    wanted: &[tidy_warden_core::owner::Place],
) -> Result<(), Problem> {
    let former = ward.store.ownerships(&device.id, 1)?.pop().filter(|last| last.ended.is_none());
    let former = former.map(|last| last.place).unwrap_or_default();
    let place = match to.map(|owner| owner.place(wanted)) {
        Some(Ok(place)) => place,
        None => std::collections::BTreeMap::new(),
        // It is refused in a moment.
        Some(Err(_)) => return Ok(()),
    };
    let after = passed(device, &former, to.map(|owner| &owner.id), &place);
    let told = of_devices(ward, &[(device.clone(), after)])?;
    if !told.is_empty() {
        console.note(devices_text(&told));
    }
    Ok(())
}

/// What ends with a former owner, in words.
fn ends_text(passed: &Passed) -> Option<String> {
    passed.after.passed.filter(|_| passed.before.passed != passed.after.passed)?;
    let mut parts = vec!["its tokens and sessions ended".to_owned()];
    if !passed.ended.is_empty() {
        parts.push(format!("so did {}", counted(passed.ended.len(), "shared key")));
    }
    let since = passed.after.passed;
    if let Some(until) = passed.until.filter(|until| since.is_some_and(|since| *until < since)) {
        parts.push(format!("so did what it signed in with, at {until}: enroll it anew"));
    } else if let Some(until) = passed.until {
        parts.push(format!("what it signs in with is taken until {until}, and it is asked to renew"));
    }
    Some(parts.join("; "))
}

fn passed_json(passed: &Passed) -> Value {
    let labels: std::collections::BTreeMap<_, _> =
        passed.after.labels.iter().map(|(name, value)| (name.to_string(), value)).collect();
    json!({
        "device": passed.after.id, "owner": passed.after.owner, "from": passed.before.owner, "labels": labels,
        "ended": passed.ended, "ending": passed.ending, "until": passed.until,
    })
}

fn tell_passed(console: &Console, passed: &Passed, note: String) -> Result<Exit, Problem> {
    let note = match ends_text(passed) {
        Some(ends) => format!("{note}; {ends}"),
        None => note,
    };
    console.did("tidy-warden/claim-passed/1", passed_json(passed), note)?;
    Ok(Exit::Done)
}

fn place_text(passed: &Passed) -> String {
    let came = passed.after.labels.iter().filter(|(name, value)| passed.before.labels.get(*name) != Some(value));
    let labels: Vec<String> = came.map(|(name, value)| format!("{name}={value}")).collect();
    if labels.is_empty() { String::new() } else { format!(" at {}", labels.join(", ")) }
}

fn taken(context: &Context<'_>, args: &TakeArgs) -> Result<Exit, Problem> {
    let console = context.console;
    let mut ward = context.ward()?;
    let owner = named(&ward, &args.owner)?;
    let wanted = places(&ward, &args.place)?;
    let code = code_of(args.code.as_deref(), args.code_file.as_deref())?;
    let id: DeviceId = parse(&args.device)?;
    let found = ward.store.devices(std::slice::from_ref(&id))?.pop().flatten();
    if let Some(found) = &found {
        tell(console, &ward, &found.device, Some(&owner), &wanted)?;
    }
    console.confirm(&format!("Have {} take {id}?", owner.id), args.yes)?;
    let cause = ward.cause(args.because.text());
    let is_offered = code.is_none()
        && found.as_ref().is_some_and(|found| found.device.owner.is_some())
        && ward.store.hand_over(&id)?.is_some();
    let settings = ward.settings.clone();
    if is_offered {
        let over = take_offered(&mut ward.store, &settings, &id, (&owner.id, &wanted), &cause)?;
        let passed = over.map_err(|why| pass_refusal(&why))?;
        return tell_passed(console, &passed, format!("{} has {id} now{}", owner.id, place_text(&passed)));
    }
    let wish = Wish { device: &id, owner: &owner.id, wanted: &wanted, code: code.as_ref(), source: None };
    match take(&mut ward.store, &settings, &wish, &cause)? {
        Taken::Yes(passed) => {
            tell_passed(console, &passed, format!("{} has {id} now{}", owner.id, place_text(&passed)))
        }
        Taken::Place(refusal) => Err(pass_refusal(&PassRefusal::Place(refusal))),
        Taken::No => Err(no(id.as_str())),
    }
}

/// One line of `claim list`.
struct Line {
    device: DeviceId,
    state: &'static str,
    owner: Option<OwnerId>,
    to: Option<OwnerId>,
    begins: UnixTime,
    ends: UnixTime,
    by: &'static str,
}

impl Line {
    fn of_claim(claim: &OpenClaim, now: UnixTime) -> Self {
        let state = if claim.is_open(now) { "open" } else { "lapsed" };
        let by = match (claim.by, &claim.code) {
            (OpenedBy::Device, _) => "its own code",
            (OpenedBy::Person, Some(_)) => "code",
            (OpenedBy::Person, None) => "name",
        };
        let (begins, ends) = (claim.opened, claim.ends);
        Self { device: claim.device.clone(), state, owner: None, to: None, begins, ends, by }
    }

    fn of_offer(offer: &HandOver, now: UnixTime) -> Self {
        let state = if offer.is_open(now) { "offered" } else { "lapsed" };
        let (owner, to) = (Some(offer.from.clone()), Some(offer.to.clone()));
        let (begins, ends) = (offer.offered, offer.ends);
        Self { device: offer.device.clone(), state, owner, to, begins, ends, by: "hand-over" }
    }

    fn json(&self) -> Value {
        json!({
            "device": self.device, "state": self.state, "by": self.by, "owner": self.owner, "to": self.to,
            "begins": self.begins, "ends": self.ends,
        })
    }

    fn row(&self) -> Vec<String> {
        let name = |owner: &Option<OwnerId>| owner.as_ref().map_or_else(|| "-".to_owned(), ToString::to_string);
        vec![
            self.device.to_string(),
            self.state.to_owned(),
            self.by.to_owned(),
            name(&self.owner),
            name(&self.to),
            self.ends.to_string(),
        ]
    }
}

fn list(context: &Context<'_>) -> Result<Exit, Problem> {
    let ward = context.ward()?;
    let now = ward.now();
    let mut lines = Vec::new();
    for by in [OpenedBy::Person, OpenedBy::Device] {
        let mut after = String::new();
        loop {
            let some = ward.store.claims(by, &after, AT_ONCE)?;
            let Some(last) = some.last() else { break };
            after = last.device.to_string();
            // What a device opened that has an owner is worth nothing.
            let ids: Vec<DeviceId> = some.iter().map(|claim| claim.device.clone()).collect();
            let free =
                ward.store.devices(&ids)?.into_iter().map(|found| found.is_some_and(|one| one.device.owner.is_none()));
            let counts = some.iter().zip(free).filter(|(_, free)| *free);
            lines.extend(counts.map(|(claim, _)| Line::of_claim(claim, now)));
        }
    }
    let mut after = String::new();
    loop {
        let some = ward.store.hand_overs(None, &after, AT_ONCE)?;
        let Some(last) = some.last() else { break };
        after = last.device.to_string();
        lines.extend(some.iter().map(|offer| Line::of_offer(offer, now)));
    }
    lines.sort_by(|a, b| a.device.cmp(&b.device));
    context.console.list(Listing {
        schema: "tidy-warden/claims/1",
        key: "claims",
        items: lines.iter().map(Line::json).collect(),
        columns: ["device", "state", "by", "owner", "to", "ends"].map(str::to_owned).to_vec(),
        rows: lines.iter().map(Line::row).collect(),
        empty: "no device can be claimed or is offered; open one: claim open DEVICE",
    })?;
    Ok(Exit::Done)
}

fn give_up(context: &Context<'_>, args: &GiveUpArgs) -> Result<Exit, Problem> {
    let console = context.console;
    let mut ward = context.ward()?;
    let Some(device) = &args.device else { return give_up_many(context, &mut ward, args) };
    let view = ward.device(&parse(device)?)?;
    let id = view.device.id.clone();
    let Some(owner) = view.device.owner.clone() else { return Err(pass_refusal(&PassRefusal::NoOwner(id))) };
    tell(console, &ward, &view.device, None, &[])?;
    console.confirm(&format!("Give up {id}, which is {owner}'s?"), args.yes)?;
    let cause = ward.cause(args.because.text());
    let settings = ward.settings.clone();
    let passed = by_rules(&settings, |rules| ward.store.decide(|tx| claim::give_up(tx, &id, None, rules, &cause)))?
        .map_err(|why| pass_refusal(&why))?;
    tell_passed(console, &passed, format!("{id} is nobody's now"))
}

fn give_up_many(context: &Context<'_>, ward: &mut Ward, args: &GiveUpArgs) -> Result<Exit, Problem> {
    let console = context.console;
    let mut views = pick::devices(ward, args.condition.as_deref().unwrap_or_default())?;
    views.retain(|view| view.device.owner.is_some());
    let ids: Vec<DeviceId> = views.into_iter().map(|view| view.device.id).collect();
    if ids.is_empty() {
        return Err(Problem::not_found("none of these devices has an owner"));
    }
    pick::confirm(console, "give up", &ids, args.count)?;
    let because = console.reason(args.because.text())?;
    // One that somebody else gave up meanwhile is given up.
    let done = pick::act(console, ward, &MassAct::GiveUp, &ids, &because)?;
    let done = done.map_err(|(id, _)| Problem::refused(format!("`{id}` was not given up")))?;
    let note = format!("gave up {}", counted(usize::try_from(done.count).unwrap_or(usize::MAX), "device"));
    console.did("tidy-warden/claim-given-up/1", json!({ "devices": done.count, "run": done.job }), note)?;
    Ok(Exit::Done)
}

fn hand_over(context: &Context<'_>, args: &HandOverArgs) -> Result<Exit, Problem> {
    let console = context.console;
    let mut ward = context.ward()?;
    let id = ward.device(&parse(&args.device)?)?.device.id;
    let cause = ward.cause(args.because.text());
    let Some(to) = &args.to else {
        let was = done(&mut ward, |tx| claim::drop_offer(tx, &id, None, &cause))?;
        let note = match was {
            true => format!("{id} is offered to nobody any more"),
            false => format!("{id} was not offered; nothing changed"),
        };
        console.did("tidy-warden/claim-offer-withdrawn/1", json!({ "device": id, "was_offered": was }), note)?;
        return Ok(Exit::Done);
    };
    let to: OwnerId = parse(to)?;
    let length = args.length.as_deref().map(parse::<Span>).transpose()?.unwrap_or(ward.settings.claims.offer);
    if length.seconds() < 60 || length > Span::from_days(90) {
        return Err(Problem::refused(format!("no offer stands for {length}"))
            .because("it must be a minute at least, and 90 days at the most"));
    }
    console.confirm(&format!("Offer {id} to {to}?"), args.yes)?;
    let ends = ward.now().plus(length);
    let offer = ward.store.decide(|tx| claim::offer(tx, &id, (None, &to), ends, &cause))?;
    let offer = offer.map_err(|why| pass_refusal(&why))?;
    let value = json!({ "device": id, "owner": offer.from, "to": to, "ends": offer.ends });
    let note = format!("offered {id} to {to} until {}; it takes it with: claim take {id} --owner {to}", offer.ends);
    console.did("tidy-warden/claim-offer/1", value, note)?;
    Ok(Exit::Done)
}

/// The owners of a device, the newest first, for `device show`.
pub(super) fn history(ward: &Ward, id: &DeviceId) -> Result<(Vec<Value>, Vec<String>), Problem> {
    let all = ward.store.ownerships(id, 20)?;
    let json = |each: &Ownership| {
        json!({
            "owner": each.owner, "by": each.came.as_str(), "begins": each.began,
            "ends": each.ended.map(|(at, _)| at), "went": each.ended.map(|(_, went)| went.as_str()),
        })
    };
    let line = |each: &Ownership| {
        let went = match each.ended {
            Some((at, went)) => format!(", {} at {at}", went.as_str().replace('-', " ")),
            None => String::new(),
        };
        format!("{} since {} (by {}){went}", each.owner, each.began, each.came.as_str())
    };
    Ok((all.iter().map(json).collect(), all.iter().map(line).collect()))
}

/// Why a device of this kind cannot be opened, if it cannot.
fn unclaimable(ward: &Ward, device: &DeviceRecord) -> Option<Problem> {
    let refused = || Problem::refused(format!("`{}` cannot be opened to be claimed", device.id));
    match kind_rules(&ward.settings, &device.kind) {
        None => Some(refused().because(format!("its kind `{}` is not declared in ward.toml", device.kind))),
        Some(rules) if rules.by == ClaimBy::Nobody => {
            Some(refused().because(format!("[kinds.{}] says claim = \"none\"", device.kind)))
        }
        Some(_) => None,
    }
}
