//! `owner`: who buys devices and claims them.

use serde_json::{Value, json};
use tidy_warden_core::claim::Scope;
use tidy_warden_core::device::Note;
use tidy_warden_core::id::OwnerId;
use tidy_warden_core::key::sha256;
use tidy_warden_core::owner::{LONGEST_TOKEN, OwnerRecord, Place};
use tidy_warden_core::random;
use tidy_warden_core::time::{Span, UnixTime};
use tidy_warden_store::acts::owner;
use tidy_warden_store::{OwnerEdit, OwnerPass, OwnerRefusal, PassKind};
use tidy_warden_ward::claim;
use tidy_warden_ward::clock::SystemRandom;
use tidy_warden_ward::token::issue_for_owner;

use super::Context;
use crate::args::{AddOwnerArgs, EditOwnerArgs, NamedOwnerArgs, OwnerCommand};
use crate::console::{Listing, counted};
use crate::edge::{label_name, parse};
use crate::files::{self, Access};
use crate::problem::{Exit, Problem};
use crate::ward::Ward;

/// The longest that a link is good.
const LONGEST_LINK: Span = Span::from_days(31);

/// How many owners are read at once.
const AT_ONCE: usize = 500;

/// How many devices of an owner are shown.
const SHOWN: usize = 20;

pub(crate) fn run(context: &Context<'_>, command: &OwnerCommand) -> Result<Exit, Problem> {
    match command {
        OwnerCommand::Add(args) => add(context, args),
        OwnerCommand::Edit(args) => edit(context, args),
        OwnerCommand::List => list(context),
        OwnerCommand::Show { owner } => show(context, owner),
        OwnerCommand::Link { owner, length, out, because } => {
            link(context, (owner, length), out.as_deref(), because.text())
        }
        OwnerCommand::Token { owner, length, scope, out, because } => {
            token(context, (owner, length, scope), out.as_deref(), because.text())
        }
        OwnerCommand::SignOut(args) => sign_out(context, args),
        OwnerCommand::Unlock(args) => unlock(context, args),
        OwnerCommand::Retire(args) => retire(context, args),
    }
}

/// An owner that there is.
pub(super) fn named(ward: &Ward, name: &str) -> Result<OwnerRecord, Problem> {
    let id: OwnerId = parse(name)?;
    ward.store.owner(&id)?.ok_or_else(|| {
        Problem::not_found(format!("there is no owner `{id}`")).next(format!("owner list, or: owner add {id}"))
    })
}

fn refusal(why: &OwnerRefusal) -> Problem {
    let problem = Problem::refused(why.to_string());
    match why {
        OwnerRefusal::Known { id, retired: None } => problem.next(format!("owner show {id}, or: owner edit {id}")),
        OwnerRefusal::Known { .. } => {
            problem.because("its name stands in the histories of devices").next("another name")
        }
        OwnerRefusal::HasDevices(id, count) => {
            problem.next(format!("first: claim give-up --where 'owner = {id}' --count {count}"))
        }
        OwnerRefusal::HasAdmissions(..) => {
            problem.next("admission list has them: wait until they were used, or admission withdraw them")
        }
        OwnerRefusal::Passes(id) => problem.next(format!("owner sign-out {id} ends them all")),
        _ => problem,
    }
}

/// A contact as it was given.
fn contact(text: &str) -> Result<Note, Problem> {
    text.parse().map_err(|_| {
        Problem::refused("this contact cannot be kept")
            .because("it must have 1 to 200 characters, none of them a control character, and no blank at either end")
    })
}

/// Places as they were given: labels, and no facts.
pub(super) fn places(ward: &Ward, given: &[(String, String)]) -> Result<Vec<Place>, Problem> {
    given.iter().map(|(name, value)| Ok((label_name(&ward.settings, name)?, parse(value)?))).collect()
}

fn place_texts(owner: &OwnerRecord) -> Vec<String> {
    owner.places.iter().map(|(name, value)| format!("{name}={value}")).collect()
}

fn joined(all: &[String]) -> String {
    if all.is_empty() { "-".to_owned() } else { all.join(", ") }
}

fn add(context: &Context<'_>, args: &AddOwnerArgs) -> Result<Exit, Problem> {
    let mut ward = context.ward()?;
    let id: OwnerId = parse(&args.owner)?;
    let owner = OwnerRecord {
        contact: args.contact.as_deref().map(contact).transpose()?,
        salt: random::bytes(&mut SystemRandom),
        places: places(&ward, &args.place)?.into_iter().collect(),
        ..OwnerRecord::new(id.clone(), ward.now())
    };
    let cause = ward.cause(args.because.text());
    let has = ward.store.count_owned(&id)?;
    ward.store.decide(|tx| owner::add(tx, &owner, &cause))?.map_err(|why| refusal(&why))?;
    let places = place_texts(&owner);
    let value = json!({ "owner": id, "places": places });
    let mut note = format!("added {id}");
    if places.is_empty() {
        note.push_str("; it has no places: what it claims keeps its labels");
    }
    if has > 0 {
        note.push_str(&format!("; {} it already", belongs(has)));
    }
    context.console.did("tidy-warden/owner-add/1", value, note)?;
    Ok(Exit::Done)
}

fn belongs(count: u64) -> String {
    let count = usize::try_from(count).unwrap_or(usize::MAX);
    format!("{} {} to", counted(count, "device"), if count == 1 { "belongs" } else { "belong" })
}

fn edit(context: &Context<'_>, args: &EditOwnerArgs) -> Result<Exit, Problem> {
    let mut ward = context.ward()?;
    let id = named(&ward, &args.owner)?.id;
    let contact = match (&args.contact, args.no_contact) {
        (Some(text), _) => Some(Some(contact(text)?)),
        (None, true) => Some(None),
        (None, false) => None,
    };
    let salt = random::bytes(&mut SystemRandom);
    let (places, no_places) = (places(&ward, &args.place)?, places(&ward, &args.no_place)?);
    if contact.is_none() && places.is_empty() && no_places.is_empty() {
        return Err(Problem::usage("there is nothing to change").next("give --contact, --place or --no-place"));
    }
    let edit = OwnerEdit { contact, salt, places, no_places };
    let cause = ward.cause(args.because.text());
    let owner = ward.store.decide(|tx| owner::edit(tx, &id, &edit, &cause))?.map_err(|why| refusal(&why))?;
    let value = json!({ "owner": id, "places": place_texts(&owner) });
    context.console.did("tidy-warden/owner-edit/1", value, format!("changed {id}"))?;
    Ok(Exit::Done)
}

fn list(context: &Context<'_>) -> Result<Exit, Problem> {
    let ward = context.ward()?;
    let (mut items, mut rows, mut after) = (Vec::new(), Vec::new(), String::new());
    loop {
        let some = ward.store.owners(&after, AT_ONCE)?;
        let Some(last) = some.last() else { break };
        after = last.id.to_string();
        for owner in &some {
            let count = ward.store.count_owned(&owner.id)?;
            let places = place_texts(owner);
            items.push(json!({
                "owner": owner.id, "devices": count, "places": places, "added": owner.added, "retired": owner.retired,
            }));
            let retired = owner.retired.map_or_else(|| "-".to_owned(), UnixTime::date);
            rows.push(vec![owner.id.to_string(), count.to_string(), joined(&places), owner.added.date(), retired]);
        }
    }
    context.console.list(Listing {
        schema: "tidy-warden/owners/1",
        key: "owners",
        items,
        columns: ["owner", "count", "places", "added", "retired"].map(str::to_owned).to_vec(),
        rows,
        empty: "no owners; add one: owner add NAME --place NAME=VALUE",
    })?;
    Ok(Exit::Done)
}

fn show(context: &Context<'_>, name: &str) -> Result<Exit, Problem> {
    let ward = context.ward()?;
    let owner = named(&ward, name)?;
    let (count, devices, offers, links, sessions, tries) = ward.store.view(|view| {
        Ok((
            view.count_owned(&owner.id)?,
            view.owned(&owner.id, "", SHOWN)?,
            view.hand_overs(Some(&owner.id), "", SHOWN)?,
            view.count_owner_passes(&owner.id, PassKind::Link)?,
            view.count_owner_passes(&owner.id, PassKind::Session)?,
            view.tries(Scope::Owner, owner.id.as_str())?,
        ))
    })?;
    let now = ward.now();
    let tries = tries.filter(|tries| !tries.is_over(Scope::Owner, now));
    let is_heard = !tries.is_some_and(|tries| tries.is_locked(Scope::Owner, ward.settings.claims.tries, now));
    let devices: Vec<String> = devices.iter().map(ToString::to_string).collect();
    let offers: Vec<_> = offers.iter().filter(|offer| offer.is_for(&owner) && offer.is_open(now)).collect();
    let told: Vec<String> =
        offers.iter().map(|offer| format!("{} from {}, until {}", offer.device, offer.from, offer.ends)).collect();
    let offered: Vec<Value> = offers
        .iter()
        .map(|offer| json!({ "device": offer.device, "from": offer.from, "begins": offer.offered, "ends": offer.ends }))
        .collect();
    let value = json!({
        "owner": owner.id, "contact": owner.contact.as_ref().map(Note::as_str), "places": place_texts(&owner),
        "added": owner.added, "retired": owner.retired, "count": count, "devices": devices, "offered": offered,
        "links": links, "sessions": sessions,
        "wrong": tries.map(|tries| json!({ "count": tries.count, "last": tries.last, "is_heard": is_heard })),
    });
    let mut text = String::new();
    let mut line = |name: &str, said: &str| text.push_str(&format!("{name:<10}{said}\n"));
    line("owner", owner.id.as_str());
    line("contact", owner.contact.as_ref().map_or("-", Note::as_str));
    line("places", &joined(&place_texts(&owner)));
    line("added", &owner.added.to_string());
    if let Some(retired) = owner.retired {
        line("retired", &retired.to_string());
    }
    let more = if count > u64::try_from(devices.len()).unwrap_or(0) { ", ..." } else { "" };
    let some = if devices.is_empty() { String::new() } else { format!(": {}{more}", devices.join(", ")) };
    line("devices", &format!("{count}{some}"));
    for (at, offer) in told.iter().enumerate() {
        line(if at == 0 { "offered" } else { "" }, offer);
    }
    if links + sessions > 0 {
        line("signs in", &format!("{links} links kept, {sessions} sessions"));
    }
    if let Some(tries) = tries {
        let told = if is_heard { "" } else { "; it is not heard: owner unlock lets it try again" };
        line(
            "wrong",
            &format!(
                "{}, the last at {}{told}",
                counted(usize::try_from(tries.count).unwrap_or(usize::MAX), "code"),
                tries.last
            ),
        );
    }
    context.console.show("tidy-warden/owner/1", value, &text)?;
    Ok(Exit::Done)
}

fn link(
    context: &Context<'_>,
    (name, length): (&str, &str),
    out: Option<&std::path::Path>,
    because: Option<&str>,
) -> Result<Exit, Problem> {
    let mut ward = context.ward()?;
    let owner = named(&ward, name)?;
    let length: Span = parse(length)?;
    if length.seconds() < 60 || length > LONGEST_LINK {
        return Err(Problem::refused(format!("no link is good for {length}"))
            .because(format!("it must be a minute at least, and {LONGEST_LINK} at the most")));
    }
    let secret = zeroize::Zeroizing::new(random::bytes::<32>(&mut SystemRandom));
    let (now, text) = (ward.now(), claim::sign_in_link(&ward.settings, &secret));
    let pass = OwnerPass {
        digest: sha256(&*secret),
        kind: PassKind::Link,
        owner: owner.id.clone(),
        made: now,
        ends: now.plus(length),
        used: None,
    };
    let cause = ward.cause(because);
    let made = ward.store.decide(|tx| {
        let made = owner::link(tx, &pass, &cause)?;
        if let (Ok(()), Some(path)) = (&made, out) {
            super::claim::deliver(path, &format!("{}\n", *text))?;
        }
        Ok(made)
    })?;
    made.map_err(|why| refusal(&why))?;
    let (word, shown) = match out {
        Some(path) => ("link_file", path.display().to_string()),
        None => ("link", text.to_string()),
    };
    let value = json!({ "owner": owner.id, "ends": pass.ends, word: shown });
    context.console.show("tidy-warden/owner-link/1", value, &format!("{shown}\n"))?;
    context.console.note(format!(
        "good once, until {}; whoever has it is {}: send it by a way that nobody else reads",
        pass.ends, owner.id
    ));
    Ok(Exit::Done)
}

fn token(
    context: &Context<'_>,
    (name, length, scopes): (&str, &str, &[String]),
    out: Option<&std::path::Path>,
    because: Option<&str>,
) -> Result<Exit, Problem> {
    let mut ward = context.ward()?;
    let owner = named(&ward, name)?.id;
    let length: Span = parse(length)?;
    if length.seconds() < 1 || length > LONGEST_TOKEN {
        return Err(Problem::refused(format!("no token is good for {length}"))
            .because(format!("it must be a second at least, and {LONGEST_TOKEN} at the most")));
    }
    let scopes = scopes.iter().map(|scope| parse(scope)).collect::<Result<_, _>>()?;
    let (text, ends) = issue_for_owner(&mut ward, &owner, &scopes, length, &context.secrets(), because)?;
    let (word, shown) = match out {
        Some(path) => {
            create(path, &format!("{text}\n"))
                .map_err(|error| Problem::failed("the token was not written").because(error))?;
            ("token_file", path.display().to_string())
        }
        None => ("token", text),
    };
    let value = json!({ "owner": owner, "ends": ends, word: shown });
    context.console.show("tidy-warden/owner-token/1", value, &format!("{shown}\n"))?;
    context.console.note(format!("good until {ends} at {}", claim::owner_audience(&ward.settings)));
    Ok(Exit::Done)
}

fn sign_out(context: &Context<'_>, args: &NamedOwnerArgs) -> Result<Exit, Problem> {
    let mut ward = context.ward()?;
    let id = named(&ward, &args.owner)?.id;
    context.console.confirm(&format!("End all links, sessions and tokens of {id}?"), args.yes)?;
    let cause = ward.cause(args.because.text());
    super::claim::done(&mut ward, |tx| owner::sign_out(tx, &id, &cause))?;
    context.console.did(
        "tidy-warden/owner-sign-out/1",
        json!({ "owner": id }),
        format!("signed {id} out everywhere"),
    )?;
    Ok(Exit::Done)
}

fn unlock(context: &Context<'_>, args: &NamedOwnerArgs) -> Result<Exit, Problem> {
    let mut ward = context.ward()?;
    let id = named(&ward, &args.owner)?.id;
    context.console.confirm(&format!("Let {id} try claim codes again?"), args.yes)?;
    let cause = ward.cause(args.because.text());
    super::claim::done(&mut ward, |tx| owner::unlock(tx, &id, &cause))?;
    context.console.did("tidy-warden/owner-unlock/1", json!({ "owner": id }), format!("{id} may try again"))?;
    Ok(Exit::Done)
}

fn retire(context: &Context<'_>, args: &NamedOwnerArgs) -> Result<Exit, Problem> {
    let mut ward = context.ward()?;
    let id = named(&ward, &args.owner)?.id;
    context.console.confirm(&format!("Retire {id} for good? Its name is never used again."), args.yes)?;
    let cause = ward.cause(args.because.text());
    ward.store.decide(|tx| owner::retire(tx, &id, &cause))?.map_err(|why| refusal(&why))?;
    let note = format!("retired {id}; its contact is erased");
    context.console.did("tidy-warden/owner-retire/1", json!({ "owner": id }), note)?;
    Ok(Exit::Done)
}

/// The access of files with what is told once.
pub(super) const SECRET: Access = Access::Secret;

/// Writes what is told once into a new file.
pub(super) fn create(path: &std::path::Path, text: &str) -> std::io::Result<()> {
    files::create_whole(path, text.as_bytes(), SECRET)
        .map_err(|error| std::io::Error::new(error.kind(), format!("{}: {error}", path.display())))
}
