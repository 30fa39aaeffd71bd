//! The steps in which devices come in by themselves.

use std::collections::BTreeMap;
use std::net::{Ipv4Addr, SocketAddr};
use std::sync::Arc;

use tidy_warden_core::admission::{AdmissionName, AdmissionRecord, Demand, Secret};
use tidy_warden_core::asking;
use tidy_warden_core::certificate::Certificate;
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::fact::{Fact, FactName};
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::key::{NewKey, Signer, SoftwareKey, sha256};
use tidy_warden_core::request::Request;
use tidy_warden_core::time::Span;
use tidy_warden_desk::{Event, Sink};
use tidy_warden_join::{Answer, Desk, Proof};
use tidy_warden_simulate::Login;
use tidy_warden_ward::asking::{self as waiting, Waits};

use super::Story;
use super::steps::broken;
use crate::clock::SystemRandom;
use crate::commands::desk;
use crate::edge::parse;
use crate::keys::Secrets;
use crate::passphrase::Passphrase;
use crate::problem::Problem;
use crate::ward::Ward;

const KIND: &str = "windvane";
const ANNOUNCED: &str = "wv-0431";
const STRANGER: &str = "wv-0432";

/// A device that makes its key and asks at the desk.
struct Caller {
    key: SoftwareKey,
    request: Vec<u8>,
    serial: &'static str,
}

impl Caller {
    fn new(serial: &'static str) -> Result<Self, Problem> {
        let key = SoftwareKey::generate(NewKey::P256).map_err(broken)?;
        let fact = Fact::new(FactName::Serial, serial).map_err(broken)?;
        let facts = BTreeMap::from([(FactName::Serial, fact)]);
        let request = Request::stating(&facts, &key).map_err(broken)?;
        Ok(Self { key, request, serial })
    }

    async fn ask(&self, desk: &Desk, proof: &Proof) -> Result<Answer, Problem> {
        desk.ask(Some(KIND), &self.request, proof, false).await.map_err(broken)
    }

    /// What the ward will know of it.
    fn device(&self, ward: &Ward, id: &str) -> Result<DeviceRecord, Problem> {
        let fact = Fact::new(FactName::Serial, self.serial).map_err(broken)?;
        let mut device = DeviceRecord::new(parse(id)?, parse(KIND)?, ward.now());
        device.labels.insert(parse("site")?, parse("ossel")?);
        device.facts.insert(FactName::Serial, fact);
        Ok(device)
    }

    /// Connects with the certificate that it was given.
    async fn is_live(
        &self,
        ward: &Ward,
        guard: SocketAddr,
        id: &str,
        answer: Answer,
        chain: &[Certificate],
    ) -> Result<bool, Problem> {
        let Answer::Given(leaf) = answer else { return Ok(false) };
        let all = std::iter::once(leaf).chain(chain.iter().map(|each| each.der().to_vec()));
        let key = self.key.to_pkcs8().map_err(broken)?;
        let login = Login::new(ward.root()?.der(), Some((all.collect(), key.to_vec())), "localhost", id);
        let mut device = login.map_err(broken)?.connect(guard).await.map_err(broken)?;
        let sent = device.publish(&format!("rope/ossel/{id}/wind"), b"9 m/s").await.map_err(broken)?;
        device.goodbye().await;
        Ok(sent.is_ok())
    }
}

/// Starts a desk, and gives where it listens.
async fn start(story: &Story<'_>, ward: &Ward, passphrase: &Passphrase) -> Result<SocketAddr, Problem> {
    let secrets = Secrets::known(story.console, passphrase);
    let (tell, mut told) = tokio::sync::mpsc::unbounded_channel();
    let sink: Sink = Arc::new(move |event| {
        if let Event::Listening { address, .. } = event {
            // Nobody listens to it any more after the first.
            let _ = tell.send(address);
        }
    });
    let live = desk::config(ward, None, &ward.key(desk::DESK, passphrase)?, &secrets)?;
    let places = desk::Places { listen: (Ipv4Addr::LOCALHOST, 0).into(), listen_http: None, metrics: None, seen: None };
    let server = desk::bind(ward, None, places, live, sink).await?;
    tokio::spawn(async move {
        let (_keep, reloads) = tokio::sync::mpsc::channel(1);
        server.run(std::future::pending(), reloads).await
    });
    told.recv().await.ok_or_else(|| broken("the desk ended"))
}

/// One device comes in by an admission, and one because a person says so.
pub(super) async fn by_themselves(
    story: &Story<'_>,
    ward: &mut Ward,
    passphrase: &Passphrase,
    guard: SocketAddr,
) -> Result<(), Problem> {
    let address = start(story, ward, passphrase).await?;
    let place = format!("https://localhost:{}", address.port());
    story.tell(
        "desk",
        &format!("the desk answers on {place}: devices come in over EST, and only those that somebody lets in"),
    )?;
    let desk = Desk::new(parse(&place)?, vec![ward.root()?]);
    let chain: Vec<Certificate> =
        desk.authorities().await.map_err(broken)?.into_iter().filter(|each| each.subject != each.issuer).collect();

    let announced = Caller::new("QF-20260431")?;
    let secret = Secret::new(&mut SystemRandom);
    let demand = Demand::Secret(secret.digest());
    let cause = ward.cause(Some("one to replace it"));
    let until = cause.at.plus(Span::from_days(30));
    let device = announced.device(ward, ANNOUNCED)?;
    let wanted = AdmissionRecord { name: AdmissionName(0), device, demand, until, end: None };
    let opened = ward.store.open_admissions(&[wanted], &cause, &mut |_| Ok(()))?;
    story.claim(opened.is_ok(), "an admission is opened")?;
    let proof = Proof::Secret(ANNOUNCED.to_owned(), secret.text().to_string());
    let answer = announced.ask(&desk, &proof).await?;
    let is_live = announced.is_live(ward, guard, ANNOUNCED, answer, &chain).await?;
    story.claim(is_live, "who was announced is live")?;
    let thief = Caller::new("QF-20260431")?.ask(&desk, &proof).await?;
    story.claim(matches!(thief, Answer::Wait(_)), "an admission is used once")?;
    story.tell(
        "",
        &format!("{ANNOUNCED} shows the secret of its admission and is live; the secret opens nothing twice"),
    )?;

    let stranger = Caller::new("QF-20260432")?;
    let waits = stranger.ask(&desk, &Proof::None).await?;
    story.claim(matches!(waits, Answer::Wait(_)), "who is not known waits")?;
    let digest = sha256(stranger.key.public_key().spki());
    let code = asking::code(&digest);
    let seen = waiting::all(ward)?
        .into_iter()
        .find(|each| matches!(&each.record, Waits::Caller(record) if record.key_digest == digest));
    let seen = seen.ok_or_else(|| broken("the one that waits is not listed"))?;
    story.claim(seen.record.code().as_ref() == Some(&code), "the person sees the code that the device shows")?;
    story.tell("", &format!("{STRANGER}, whom nobody announced, waits and shows the code of its key:"))?;
    story.tell("", &format!("  {code}"))?;
    let id: DeviceId = parse(STRANGER)?;
    let cause = ward.cause(Some("the code is that on its display"));
    let device = DeviceRecord { created: cause.at, ..stranger.device(ward, STRANGER)? };
    let demand = Demand::Key(digest);
    let wanted =
        AdmissionRecord { name: AdmissionName(0), device, demand, until: cause.at.plus(asking::WAITS), end: None };
    story.claim(ward.store.accept(&wanted, &cause)?.is_ok(), "a person accepts it")?;
    let answer = stranger.ask(&desk, &Proof::None).await?;
    let is_live = stranger.is_live(ward, guard, id.as_str(), answer, &chain).await?;
    story.claim(is_live, "who was accepted is live")?;
    story.tell("", &format!("a person compares the code and accepts it: {STRANGER} calls again and is live"))
}
