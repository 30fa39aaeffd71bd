//! A controller finds its owner by its sticker, a thief guesses, and the resort sells it on.

use std::net::SocketAddr;
use std::path::Path;
use std::time::{Duration, Instant};

use tidy_warden_core::claim::Code;
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::fact::{Fact, FactName};
use tidy_warden_core::id::{DeviceId, OwnerId};
use tidy_warden_core::owner::{OwnerRecord, Place};
use tidy_warden_core::time::Span;
use tidy_warden_simulate::{Device, Login};
use tidy_warden_store::acts::{claim, owner};
use tidy_warden_store::{Passed, Taken};
use tidy_warden_ward::claim::{Wish, open, openings, take, take_offered};
use tidy_warden_ward::issue::one::enroll;
use tidy_warden_ward::issue::press::KeySource;

use super::Story;
use super::steps::{CUT_WITHIN, broken, login, pem_to_der};
use crate::clock::SystemRandom;
use crate::commands::claim::label;
use crate::edge::parse;
use crate::files::{self, Access};
use crate::keys::Secrets;
use crate::passphrase::Passphrase;
use crate::problem::Problem;
use crate::ward::Ward;

const CONTROLLER: &str = "st-0007";
const BUYER: &str = "brindle-pass";
const NEXT: &str = "saint-ivo-glacier";
const THIEF: &str = "mount-ossel";
const AT_BRINDLE: &str = "rope/brindle/st-0007/state";
const AT_SAINT_IVO: &str = "rope/saint-ivo/st-0007/state";

/// How often a new right is looked for.
const LOOK: Duration = Duration::from_millis(100);

fn add_owner(ward: &mut Ward, name: &str, site: &str) -> Result<OwnerId, Problem> {
    let id: OwnerId = parse(name)?;
    let place: Place = (parse("site")?, parse(site)?);
    let cause = ward.cause(Some("a customer"));
    let salt = tidy_warden_core::random::bytes(&mut SystemRandom);
    let record = OwnerRecord { salt, places: [place].into(), ..OwnerRecord::new(id.clone(), cause.at) };
    let added = ward.store.decide(|tx| owner::add(tx, &record, &cause))?;
    added.map_err(|why| broken(format!("{why:?}")))?;
    Ok(id)
}

fn try_code(ward: &mut Ward, device: &DeviceId, owner: &OwnerId, code: &Code) -> Result<Option<Passed>, Problem> {
    let (settings, cause) = (ward.settings.clone(), ward.cause(None));
    let wish = Wish { device, owner, wanted: &[], code: Some(code), source: None };
    match take(&mut ward.store, &settings, &wish, &cause)? {
        Taken::Yes(passed) => Ok(Some(*passed)),
        Taken::No | Taken::Place(_) => Ok(None),
    }
}

/// Publishes until it may, and gives how long that took.
async fn until_allowed(device: &mut Device, topic: &str) -> Result<Option<Duration>, Problem> {
    let begun = Instant::now();
    while begun.elapsed() < CUT_WITHIN {
        if device.publish(topic, b"standing").await.map_err(broken)?.is_ok() {
            return Ok(Some(begun.elapsed()));
        }
        tokio::time::sleep(LOOK).await;
    }
    Ok(None)
}

/// A controller that is sold with a sticker on it, and is live before anybody has it.
struct Sold {
    id: DeviceId,
    code: Code,
    login: Login,
}

fn sell(story: &Story<'_>, ward: &mut Ward, dir: &Path, passphrase: &Passphrase) -> Result<Sold, Problem> {
    let id: DeviceId = parse(CONTROLLER)?;
    let cause = ward.cause(Some("in stock"));
    let mut device = DeviceRecord::new(id.clone(), parse("station")?, cause.at);
    device.facts.insert(FactName::Serial, Fact::new(FactName::Serial, "QF-20260531").map_err(broken)?);
    let added = ward.store.add_devices(std::slice::from_ref(&device), &cause)?;
    story.claim(added.is_ok(), "the controller is listed")?;
    let secrets = Secrets::known(story.console, passphrase);
    let enrolled = enroll(ward, &id, KeySource::MakeHere, &dir.join("outfits"), false, &secrets, None)?;
    let key = pem_to_der(&files::read_text(&enrolled.outfit.join("device.key"), 64 * 1024)?)?;
    let made = openings(&ward.settings, &[device], None, (cause.at, cause.at.plus(Span::from_days(30))));
    let opening = made.into_iter().next().ok_or_else(|| broken("nothing to open"))?;
    let code = opening.code.clone().ok_or_else(|| broken("its kind is claimed without a code"))?;
    let opened = open(&mut ward.store, std::slice::from_ref(&opening.claim), &cause)?;
    story.claim(opened.is_ok(), "it is open")?;
    let sticker = label(&ward.settings, &id, Some(&code), &opening.claim.ends.to_string());
    let drawing = sticker.svg().map_err(broken)?;
    let file = dir.join(format!("{CONTROLLER}.svg"));
    files::create(&file, drawing.as_bytes(), Access::Secret).map_err(|error| Problem::file("write", &file, &error))?;
    story.claim(drawing.contains(code.grouped().as_str()), "the sticker says the code")?;
    Ok(Sold { id, code, login: login(&enrolled.outfit, CONTROLLER, Some(key))? })
}

pub(super) async fn finds_its_owner(
    story: &Story<'_>,
    ward: &mut Ward,
    (dir, passphrase): (&Path, &Passphrase),
    address: SocketAddr,
) -> Result<(), Problem> {
    let buyer = add_owner(ward, BUYER, "brindle")?;
    let next = add_owner(ward, NEXT, "saint-ivo")?;
    let thief = add_owner(ward, THIEF, "ossel")?;
    let Sold { id, code, login } = sell(story, ward, dir, passphrase)?;
    let mut live = login.connect(address).await.map_err(broken)?;
    let early = live.publish(AT_BRINDLE, b"standing").await.map_err(broken)?;
    story.claim(!early.is_ok(), "what is nobody's stands nowhere")?;
    story.tell(
        "claim",
        &format!("{CONTROLLER}, a cable car's controller, is sold with a sticker: a QR code, and a code of 12 random characters and a check"),
    )?;

    let tries = ward.settings.claims.tries;
    for _ in 0..tries {
        let guess = try_code(ward, &id, &thief, &Code::new(&mut SystemRandom))?;
        story.claim(guess.is_none(), "a guess gets nowhere")?;
    }
    let right = try_code(ward, &id, &thief, &code)?;
    story.claim(right.is_none(), "who guessed is not heard, even with the right code")?;
    story.tell(
        "",
        &format!("a thief signed in as {THIEF} guesses {tries} times and is locked out: now the right code is of no use to it"),
    )?;

    let passed = try_code(ward, &id, &buyer, &code)?;
    story.claim(passed.is_some_and(|passed| passed.after.owner.as_ref() == Some(&buyer)), "the buyer has it")?;
    let took = until_allowed(&mut live, AT_BRINDLE).await?;
    let took = took.ok_or_else(|| broken("the live session did not get the new owner's rights"))?;
    let elsewhere = live.publish(AT_SAINT_IVO, b"standing").await.map_err(broken)?;
    story.claim(!elsewhere.is_ok(), "it stands at its owner's place alone")?;
    story.tell(
        "",
        &format!(
            "{BUYER} scans the sticker and has it, at its own site: after {:.1} s the live session may publish {AT_BRINDLE}",
            took.as_secs_f64()
        ),
    )?;
    story.claim(try_code(ward, &id, &next, &code)?.is_none(), "a code is good once")?;

    let cause = ward.cause(Some("sold"));
    let ends = cause.at.plus(ward.settings.claims.offer);
    let offered = ward.store.decide(|tx| claim::offer(tx, &id, (Some(&buyer), &next), ends, &cause))?;
    story.claim(offered.is_ok(), "it is offered")?;
    let settings = ward.settings.clone();
    let begun = Instant::now();
    let over = take_offered(&mut ward.store, &settings, &id, (&next, &[]), &cause)?;
    let over = over.map_err(|why| broken(format!("{why:?}")))?;
    let cut = live.ended(CUT_WITHIN).await;
    story.claim(cut.is_some(), "the former owner's session ends")?;
    let took = begun.elapsed();
    story.claim(over.after.owner.as_ref() == Some(&next) && over.until.is_some(), "the next owner has it")?;
    let mut again = login.connect(address).await.map_err(broken)?;
    let former = again.publish(AT_BRINDLE, b"standing").await.map_err(broken)?;
    let now = again.publish(AT_SAINT_IVO, b"standing").await.map_err(broken)?;
    story.claim(!former.is_ok() && now.is_ok(), "it obeys the new owner's policies")?;
    again.goodbye().await;
    story.tell(
        "",
        &format!(
            "{BUYER} sells it on and {NEXT} takes it: the session is cut after {:.1} s, and what it signed in with ends in a day",
            took.as_secs_f64()
        ),
    )
}
