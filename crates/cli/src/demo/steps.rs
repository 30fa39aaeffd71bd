//! The steps of the demo's story, in the order of the work.

use std::net::{Ipv4Addr, SocketAddr};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use tidy_warden_core::authority::AuthorityRole;
use tidy_warden_core::certificate::Certificate;
use tidy_warden_core::credential::Revocation;
use tidy_warden_core::due::{Happens, Item, What, Why};
use tidy_warden_core::key::{NewKey, SoftwareKey};
use tidy_warden_core::request::Request;
use tidy_warden_core::revocation::Reason;
use tidy_warden_core::settings::BrokerAddress;
use tidy_warden_core::time::{Clock, Span, UnixTime};
use tidy_warden_core::token::Form;
use tidy_warden_guard::{Event, Sink};
use tidy_warden_simulate::{Broker, ConnectError, Device, Login, certification_request};
use zeroize::Zeroizing;

use super::{Story, claim, desk, errand, gate, world};
use crate::clock::WardClock;
use crate::commands::init::{Passphrases, Plan, found};
use crate::commands::{audit, crl, guard, policy};
use crate::edge::parse;
use crate::files::{self, Access};
use crate::keys::Secrets;
use crate::passphrase::Passphrase;
use crate::problem::Problem;
use crate::ward::{POLICIES, Ward};
use tidy_warden_ward::import::List;
use tidy_warden_ward::issue::one::enroll;
use tidy_warden_ward::issue::press::KeySource;
use tidy_warden_ward::token::{Wish, issue};

const VANE: &str = "wv-0417";
const CONTROL: &str = "cr-ossel";
const GATE: &str = "tg-ossel-1";
const WIND: &str = "rope/ossel/wv-0417/wind";
const BRAKE: &str = "rope/ossel/st-ossel-top/brake";

/// How long a message may take that must come, and how long one is waited for that must not.
const PATIENCE: Duration = Duration::from_secs(5);
const SILENCE: Duration = Duration::from_millis(400);

/// How far ahead is looked: beyond the life of a wind vane's certificate.
const AHEAD: Span = Span::from_days(420);

/// How fast a revocation must reach a live session.
pub(super) const CUT_WITHIN: Duration = Duration::from_secs(2);

pub(super) async fn all(story: &Story<'_>, dir: &Path) -> Result<(), Problem> {
    let passphrase: Passphrase = Zeroizing::new(world::PASSPHRASE.as_bytes().to_vec());
    let secret = dir.join("passphrase.txt");
    files::create(&secret, world::PASSPHRASE.as_bytes(), Access::Secret)
        .map_err(|error| Problem::file("write", &secret, &error))?;
    let mut ward = prepare(story, dir, &passphrase)?;
    let fleet = register(story, &mut ward)?;
    adopt(story, &mut ward, fleet)?;
    let outfits = dir.join("outfits");
    let vane = enroll_by_request(story, &mut ward, &outfits, &passphrase)?;
    let control = enroll_with_key(story, &mut ward, &outfits, &passphrase)?;
    let gate = login_by_token(story, &mut ward, &passphrase)?;
    let (address, events) = start_guard(story, &ward, &passphrase).await?;
    let (mut vane_device, mut control_device) = connect(story, address, &vane, &control, &gate).await?;
    messages(story, &mut vane_device, &mut control_device, &events).await?;
    resumption(story, address, &vane, vane_device).await?;
    desk::by_themselves(story, &mut ward, &passphrase, address).await?;
    gate::tokens(story, &mut ward, &passphrase, address).await?;
    errand::restart(story, &mut ward, &passphrase, (address, &vane, VANE)).await?;
    claim::finds_its_owner(story, &mut ward, (dir, &passphrase), address).await?;
    theft(story, &mut ward, address, &vane).await?;
    afterwards(story, &mut ward, dir, &passphrase)
}

fn prepare(story: &Story<'_>, dir: &Path, passphrase: &Passphrase) -> Result<Ward, Problem> {
    let path = dir.join("ward");
    let plan = Plan {
        name: "Quillfeather Ropeways",
        host: "localhost",
        enterprise_number: Some(32_473),
        crl: Some("http://localhost:8080/crl/"),
        rehearsal: false,
        more_settings: world::KINDS,
        root_offline: None,
    };
    let all = Passphrases { root: passphrase, issuing: passphrase, servers: passphrase };
    let root = found(&path, &plan, &all, WardClock::System.now())?;
    let policies = path.join(POLICIES);
    for (name, text) in world::POLICIES {
        let file = policies.join(name);
        files::create(&file, text.as_bytes(), Access::Public).map_err(|error| Problem::file("write", &file, &error))?;
    }
    let ward = crate::ward::open(&path)?;
    story.claim(ward.root()?.fingerprint == root.fingerprint, "the ward's root is the one that was made")?;
    story.tell("prepare", "a ward is made: a root, authorities for devices and for services, every key locked")?;
    Ok(ward)
}

fn register(story: &Story<'_>, ward: &mut Ward) -> Result<usize, Problem> {
    let settings = ward.settings.clone();
    let list = List::read(world::FLEET.into(), "fleet.csv", &settings, ward.now())?;
    let cause = ward.cause(Some("the first delivery"));
    let devices: Vec<_> = list.good.iter().map(|(_, device)| device.clone()).collect();
    let taken = devices.len();
    let refused = ward.store.add_devices(&devices, &cause)?.is_err();
    story.claim(list.bad.is_empty() && !refused && taken >= 40, "every row of fleet.csv is taken")?;
    let kinds = ward.settings.kinds.len();
    story.tell(
        "register",
        &format!("{taken} devices of {kinds} kinds at 3 sites are listed from a file, all or none"),
    )?;
    Ok(taken)
}

fn adopt(story: &Story<'_>, ward: &mut Ward, fleet: usize) -> Result<(), Problem> {
    let number = policy::adopt_folder(ward, "the first edition")?;
    let edition = ward.edition()?.ok_or_else(|| Problem::failed("the edition is gone"))?;
    let tests: usize = edition.policies.iter().map(|policy| policy.expects.len()).sum();
    story.claim(edition.policies.len() >= 5, "there are five policies or more")?;
    let policies = edition.policies.len();
    let claims: usize = edition.policies.iter().map(|policy| policy.soles.len()).sum();
    story.claim(claims > 0, "there are claims to prove")?;
    story
        .tell("policy", &format!("{policies} policies pass their {tests} tests and are adopted as edition {number}"))?;
    story.tell(
        "",
        &format!("{claims} claims that nobody else can publish somewhere are proved over all {fleet} devices"),
    )
}

/// The DER of a PEM file.
fn der(path: &Path) -> Result<Vec<u8>, Problem> {
    let certificate = Certificate::from_pem(&files::read_text(path, 64 * 1024)?);
    certificate
        .map(|certificate| certificate.der().to_vec())
        .map_err(|error| Problem::failed("an outfit is broken").because(error))
}

pub(super) fn login(outfit: &Path, id: &str, key: Option<Vec<u8>>) -> Result<Login, Problem> {
    let failed = |error: ConnectError| Problem::failed("a simulated device cannot be set up").because(error);
    let identity = match key {
        Some(key) => Some((vec![der(&outfit.join("device.pem"))?, der(&outfit.join("chain.pem"))?], key)),
        None => None,
    };
    Login::new(&der(&outfit.join("root.pem"))?, identity, "localhost", id).map_err(failed)
}

pub(super) fn broken(error: impl std::fmt::Display) -> Problem {
    Problem::failed("the demo cannot go on").because(error)
}

fn enroll_by_request(
    story: &Story<'_>,
    ward: &mut Ward,
    out: &Path,
    passphrase: &Passphrase,
) -> Result<Login, Problem> {
    let key = SoftwareKey::generate(NewKey::P256).map_err(broken)?;
    let request = certification_request(&key, "somebody-else").map_err(broken)?;
    let proven = Request::parse(&request).and_then(Request::verify_possession).map_err(broken)?;
    let secrets = Secrets::known(story.console, passphrase);
    let enrolled = enroll(ward, &parse(VANE)?, KeySource::Proven(proven), out, false, &secrets, None)?;
    let names = enrolled.certificate.alternative_names();
    story.claim(*names == ["URI:urn:dev:org:32473-wv-0417"], "the certificate's name comes from the ward's record")?;
    story.claim(!enrolled.outfit.join("device.key").exists(), "its outfit holds no key")?;
    story.tell(
        "credentials",
        &format!("{VANE} is enrolled from its own request: its key never leaves it, the ward names it"),
    )?;
    let key = key.to_pkcs8().map_err(broken)?;
    login(&enrolled.outfit, VANE, Some(key.to_vec()))
}

fn enroll_with_key(story: &Story<'_>, ward: &mut Ward, out: &Path, passphrase: &Passphrase) -> Result<Login, Problem> {
    let secrets = Secrets::known(story.console, passphrase);
    let enrolled = enroll(ward, &parse(CONTROL)?, KeySource::MakeHere, out, false, &secrets, None)?;
    let path: PathBuf = enrolled.outfit.join("device.key");
    story.claim(!files::is_readable_by_others(&path), "only its owner can read the key")?;
    let pem = Zeroizing::new(files::read_text(&path, 64 * 1024)?);
    let key = pem_to_der(&pem)?;
    story.tell(
        "",
        &format!("{CONTROL}, the control room, gets an outfit with a key made here, for its owner's eyes only"),
    )?;
    login(&enrolled.outfit, CONTROL, Some(key))
}

pub(super) fn pem_to_der(pem: &str) -> Result<Vec<u8>, Problem> {
    let body: String = pem.lines().filter(|line| !line.starts_with("-----")).collect();
    data_encoding::BASE64.decode(body.as_bytes()).map_err(broken)
}

fn login_by_token(story: &Story<'_>, ward: &mut Ward, passphrase: &Passphrase) -> Result<Login, Problem> {
    let wish = Wish {
        life: Span::from_seconds(8 * 3600),
        begins: None,
        audience: None,
        scope: None,
        bind: None,
        form: Form::Jwt,
        key: None,
    };
    let made = issue(ward, &parse(GATE)?, &wish, &Secrets::known(story.console, passphrase), None)?;
    let ends = made.claims.ends.unwrap_or(UnixTime(0));
    let failed = |error: ConnectError| broken(error);
    let mut login = Login::new(ward.root()?.der(), None, "localhost", GATE).map_err(failed)?;
    login.token = Some((GATE.to_owned(), made.octets));
    story.claim(ends.since(ward.now()) <= 8 * 3600, "the token ends in 8 hours")?;
    story.tell("", &format!("{GATE}, a ticket gate, gets a token for 8 hours"))?;
    Ok(login)
}

/// What the guard said, for checking the story against it.
type Events = Arc<Mutex<Vec<Event>>>;

async fn start_guard(story: &Story<'_>, ward: &Ward, passphrase: &Passphrase) -> Result<(SocketAddr, Events), Problem> {
    let broker = Broker::start().await.map_err(broken)?;
    let events: Events = Arc::default();
    let heard = events.clone();
    let sink: Sink = Arc::new(move |event| heard.lock().unwrap_or_else(PoisonError::into_inner).push(event));
    let listen = SocketAddr::from((Ipv4Addr::LOCALHOST, 0));
    let upstream = guard::upstream(ward, BrokerAddress::Builtin, Some(&broker))?;
    let guard =
        guard::bind(ward, None, guard::Places::only(listen), upstream, &ward.key("guard", passphrase)?, (sink, None))
            .await?;
    let address = guard.local_addr().map_err(broken)?;
    tokio::spawn(async move {
        // The broker lives as long as the guard.
        let _broker = broker;
        let (_keep, reloads) = tokio::sync::mpsc::channel(1);
        guard.run(std::future::pending(), reloads).await;
    });
    story.tell("run", &format!("the guard listens on {address}, with a small MQTT broker behind it"))?;
    Ok((address, events))
}

async fn connect(
    story: &Story<'_>,
    address: SocketAddr,
    vane: &Login,
    control: &Login,
    gate: &Login,
) -> Result<(Device, Device), Problem> {
    let vane_device = vane.connect(address).await.map_err(broken)?;
    let mut control_device = control.connect(address).await.map_err(broken)?;
    story.tell("", &format!("{VANE} and {CONTROL} connect over TLS with their certificates"))?;
    gate.connect(address).await.map_err(broken)?.goodbye().await;
    let mut stranger = gate.clone();
    stranger.client_id = VANE.to_owned();
    let stranger = stranger.connect(address).await;
    let code = match stranger {
        Err(ConnectError::Refused { code, .. }) => code,
        _ => 0,
    };
    story.claim(code == 0x85, "a token for one device does not open a session under another's name")?;
    story.tell(
        "",
        &format!("{GATE} connects with its token; under the name {VANE} it is refused (code 0x{code:02x})"),
    )?;
    let watching = control_device.subscribe("rope/ossel/#").await.map_err(broken)?;
    let everything = control_device.subscribe("rope/#").await.map_err(broken)?;
    story.claim(watching.is_ok() && !everything.is_ok(), "the control room may watch its site and no other")?;
    story.tell(
        "",
        &format!("{CONTROL} may watch rope/ossel/#, and is refused rope/#: the other resorts are not its business"),
    )?;
    Ok((vane_device, control_device))
}

async fn messages(story: &Story<'_>, vane: &mut Device, control: &mut Device, events: &Events) -> Result<(), Problem> {
    let sent = vane.publish(WIND, b"14 m/s from the west").await.map_err(broken)?;
    let came = control.message(PATIENCE).await.map_err(broken)?;
    let right = came.is_some_and(|message| message.topic == WIND && message.payload == b"14 m/s from the west");
    story.claim(sent.is_ok() && right, "the allowed message arrives")?;
    story.tell("allowed", &format!("{VANE} reports 14 m/s on {WIND}, and the control room receives it"))?;

    let refused = vane.publish(BRAKE, b"now").await.map_err(broken)?;
    let came = control.message(SILENCE).await.map_err(broken)?;
    story.claim(refused.code == 0x87, "the forbidden message is refused")?;
    story.claim(came.is_none(), "the forbidden message does not arrive")?;
    let rule = events.lock().unwrap_or_else(PoisonError::into_inner).iter().rev().find_map(|event| match event {
        Event::Refused { act: "publish", rule, .. } => rule.clone(),
        _ => None,
    });
    let rule =
        rule.ok_or_else(|| Problem::failed("the demo's story does not hold").because("the refusal names no rule"))?;
    story.tell("forbidden", &format!("{VANE} tries {BRAKE}: refused, nobody receives it, and it is told why:"))?;
    story.tell("", &format!("  {}:{} {}", rule.file, rule.line, rule.text))
}

async fn resumption(story: &Story<'_>, address: SocketAddr, vane: &Login, device: Device) -> Result<(), Problem> {
    device.goodbye().await;
    let again = vane.connect(address).await.map_err(broken)?;
    story.claim(again.resumed, "TLS session resumption works while the device is trusted")?;
    again.goodbye().await;
    story.tell("", &format!("{VANE} leaves and comes back by TLS session resumption, which saves both sides work"))
}

async fn theft(story: &Story<'_>, ward: &mut Ward, address: SocketAddr, vane: &Login) -> Result<(), Problem> {
    let mut live = vane.connect(address).await.map_err(broken)?;
    let id = parse(VANE)?;
    let cause = ward.cause(Some("stolen from pylon 6"));
    let begun = Instant::now();
    let ended = ward.store.revoke(Revocation { device: &id, only: None, reason: Reason::KeyCompromise }, &cause)?;
    let how = live.ended(CUT_WITHIN).await;
    let took = begun.elapsed();
    story.claim(ended.len() == 1, "one certificate is revoked")?;
    story.claim(how.is_some() && took < CUT_WITHIN, "the live session is cut within 2 seconds")?;
    story.tell(
        "revoke",
        &format!("{VANE} is stolen and revoked: its live session is cut after {:.1} s", took.as_secs_f64()),
    )?;
    match vane.connect(address).await {
        Err(ConnectError::Refused { code, resumed, .. }) => {
            story.claim(resumed, "the thief comes by session resumption")?;
            story.tell("", &format!("the thief comes back by TLS session resumption: refused (code 0x{code:02x})"))
        }
        Err(other) => Err(broken(other)),
        Ok(_) => story.claim(false, "the revoked device stays out"),
    }
}

fn afterwards(story: &Story<'_>, ward: &mut Ward, dir: &Path, passphrase: &Passphrase) -> Result<(), Problem> {
    let secrets = Secrets::known(story.console, passphrase);
    let again = enroll(ward, &parse(VANE)?, KeySource::MakeHere, &dir.join("outfits"), true, &secrets, None);
    story.claim(again.is_err(), "a revoked device cannot enrol again")?;
    let authority = ward.authority(AuthorityRole::Devices)?;
    let file = dir.join("devices.crl.pem");
    let signed = crl::sign(ward, &authority, Span::from_days(7), None, &secrets, &file, false)?;
    story.claim(signed.entries.len() == 1 && file.exists(), "the CRL lists the stolen certificate")?;
    story.tell(
        "",
        &format!("CRL number {} lists its certificate for everybody else; it cannot enrol again", signed.number),
    )?;
    falls_due(story, ward)?;
    let verified = audit::follow(&*ward.store, None)?;
    story.claim(verified.broken.is_empty(), "the audit record is whole")?;
    story.tell(
        "see",
        &format!("{} audit entries, each bound to the one before it: the record is whole", verified.entries),
    )?;
    let tampered = tampered_entry(ward)?;
    story.claim(tampered == Some(2), "a changed entry is found")?;
    story.tell("", "in a copy, one word of entry 2 is changed: the check says that it was entry 2")
}

/// What ends in the coming year and a bit, and who renews it.
fn falls_due(story: &Story<'_>, ward: &Ward) -> Result<(), Problem> {
    let now = ward.now();
    let (mut itself, mut person) = (Vec::new(), Vec::new());
    ward.store.view(|view| {
        tidy_warden_ward::due::each(
            view,
            &ward.settings,
            (now, now.plus(AHEAD)),
            None,
            &mut |item| match item.happens() {
                Happens::Itself => itself.push(item),
                Happens::Person => person.push(item),
            },
        )
    })?;
    let renews = |id: &str| itself.iter().any(|item| item.what == What::Certificate && item.name == id);
    story.claim(renews("wv-0431") && renews("wv-0432"), "who came in at the desk renews by itself")?;
    let needy = |item: &Item| item.name == CONTROL && item.why == Why::NeverCame;
    story.claim(person.iter().any(needy), "the control room was never at the desk")?;
    story.claim(!itself.iter().chain(&person).any(|item| item.name == VANE), "what is revoked is due no more")?;
    let count = itself.len() + person.len();
    story.tell(
        "due",
        &format!(
            "of {count} things that end within {AHEAD}, {} renew by themselves, wv-0431 and wv-0432 among them",
            itself.len()
        ),
    )?;
    story.tell(
        "",
        &format!(
            "{} need a person, and are told with what to do: {CONTROL}, for one, never was at the desk",
            person.len()
        ),
    )
}

/// Follows a copy of the audit record in which one word of entry 2 was changed; gives the entry that the check names.
fn tampered_entry(ward: &Ward) -> Result<Option<i64>, Problem> {
    let mut verifier = tidy_warden_core::audit::Verifier::default();
    let mut found = None;
    ward.store.each_entry(1, &mut |mut entry| {
        if entry.number == 2 {
            entry.because = "no reason".to_owned();
        }
        if let Err(tidy_warden_core::audit::Broken::Changed { number }) = verifier.follow(&entry) {
            found.get_or_insert(number);
        }
        true
    })?;
    Ok(found)
}
