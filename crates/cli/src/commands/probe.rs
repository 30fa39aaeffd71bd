//! `probe`: walks the whole way of a device, from its configuration to an answered message, and says where it ends.

use std::net::SocketAddr;
use std::time::{Duration, Instant};

use serde_json::{Value, json};
use tidy_warden_core::certificate::{Certificate, Fingerprint};
use tidy_warden_core::device::Barred;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::policy::{NoMeter, Publish};
use tidy_warden_core::settings::BrokerAddress;
use tidy_warden_core::topic::{Level, TopicFilter, TopicName};
use tidy_warden_guard::Bypass;
use tidy_warden_simulate::{ConnectError, Device, Login, Outfit, Secured, concrete, handshake_words};
use tidy_warden_store::DeviceView;
use tokio::net::TcpStream;

use super::{Context, guard, simulate};
use crate::args::ProbeArgs;
use crate::console::Console;
use crate::edge::parse;
use crate::problem::{Exit, Problem};
use crate::ward::Ward;

/// How long a step over the network may take.
const PATIENCE: Duration = Duration::from_secs(5);

/// The payload of the message that is sent.
const PAYLOAD: &[u8] = br#"{"probe":true}"#;

/// How a step ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Mark {
    Good,
    Warning,
    Bad,
}

/// A step that was taken.
struct Step {
    name: &'static str,
    result: Mark,
    detail: String,
}

/// Where the way ends: why, and what to do.
struct End {
    why: String,
    next: String,
}

fn end(why: impl ToString, next: impl Into<String>) -> End {
    End { why: why.to_string(), next: next.into() }
}

/// The steps so far.
struct Walk<'c> {
    console: &'c Console,
    steps: Vec<Step>,
    /// Whether a message went the whole way.
    published: bool,
}

impl Walk<'_> {
    /// Shows a step as soon as it is taken: the next one may take long.
    fn add(&mut self, name: &'static str, result: Mark, detail: String) -> Result<(), Problem> {
        let word = match result {
            Mark::Good => "ok",
            Mark::Warning => "WARNING",
            Mark::Bad => "ENDS HERE",
        };
        if self.console.is_for_people() {
            self.console.step(&format!("{name:<15}{word:<11}{detail}\n"), 15)?;
        }
        self.steps.push(Step { name, result, detail });
        Ok(())
    }

    fn finish(self, end: Option<&End>) -> Result<Exit, Problem> {
        let steps: Vec<Value> = self
            .steps
            .iter()
            .map(|step| {
                let result = match step.result {
                    Mark::Good => "ok",
                    Mark::Warning => "warning",
                    Mark::Bad => "ends-here",
                };
                json!({ "step": step.name, "result": result, "detail": step.detail })
            })
            .collect();
        let value = json!({
            "reached": end.is_none(), "published": self.published, "steps": steps, "why": end.map(|end| &end.why), "try": end.map(|end| &end.next),
        });
        let text = match end {
            None if self.published => "\nthe whole way works\n".to_owned(),
            None => "\nthe way works as far as it was walked: nothing was published\n".to_owned(),
            Some(end) => format!("\ntry: {}\n", end.next),
        };
        self.console.show("tidy-warden/probe/1", value, &text)?;
        Ok(if end.is_none() { Exit::Done } else { Exit::Refused })
    }
}

pub(crate) fn run(context: &Context<'_>, args: &ProbeArgs) -> Result<Exit, Problem> {
    let ward = context.ward()?;
    let id: DeviceId = parse(&args.device)?;
    let view = ward.device(&id)?;
    let place = match args.outfit.join("connect.json").exists() || args.outfit.is_file() {
        true => args.outfit.clone(),
        // The folder of all outfits will do as well.
        false => args.outfit.join(id.as_str()),
    };
    let mut outfit = Outfit::read(&place).map_err(|error| simulate::bad_outfit(&error))?;
    if let Some(path) = &args.key {
        outfit.take_key(path).map_err(|error| {
            Problem::refused(error.to_string()).next("name the key of the device in PEM, not locked: --key FILE")
        })?;
    }
    let runtime = tokio::runtime::Runtime::new().map_err(|error| Problem::failed("cannot start").because(error))?;
    let mut walk = Walk { console: context.console, steps: Vec::new(), published: false };
    let probe = Probe { ward: &ward, view: &view, outfit: &outfit, args };
    let end = runtime.block_on(probe.walk(&mut walk))?;
    walk.finish(end.as_ref())
}

struct Probe<'p> {
    ward: &'p Ward,
    view: &'p DeviceView,
    outfit: &'p Outfit,
    args: &'p ProbeArgs,
}

/// Runs a step; leaves the walk where it ends.
macro_rules! step {
    ($walk:ident, $name:literal, $step:expr) => {
        match $step {
            Ok((found, detail)) => {
                $walk.add($name, Mark::Good, detail)?;
                found
            }
            Err(end) => {
                let End { why, .. } = &end;
                $walk.add($name, Mark::Bad, why.clone())?;
                return Ok(Some(end));
            }
        }
    };
}

impl Probe<'_> {
    async fn walk(&self, walk: &mut Walk<'_>) -> Result<Option<End>, Problem> {
        let login = step!(walk, "configuration", self.configuration()?);
        let address = step!(walk, "name", self.name());
        let stream = step!(walk, "TCP", tcp(address).await);
        let secured = step!(walk, "TLS", tls(&login, stream).await);
        let mut device = step!(walk, "identity", self.identity(&login, secured).await?);
        let topic = step!(walk, "policy", self.policy()?);
        for filter in &self.outfit.connect.subscribe {
            step!(walk, "subscribe", subscribe(&mut device, filter).await);
        }
        if let Some(topic) = topic {
            step!(walk, "publish", publish(&mut device, &topic).await);
            walk.published = true;
        }
        device.goodbye().await;
        if let Some((result, detail)) = self.bypass().await? {
            walk.add("bypass", result, detail)?;
        }
        Ok(None)
    }

    /// Whether the outfit is the device's, and what the ward says of its credential.
    fn configuration(&self) -> Result<Result<(Login, String), End>, Problem> {
        let (id, connect) = (&self.view.device.id, &self.outfit.connect);
        if connect.device != id.as_str() {
            let why = format!("the outfit is that of `{}`, not of `{id}`", connect.device);
            return Ok(Err(end(why, format!("name the outfit of {id} with --outfit"))));
        }
        if let Some(barred) = self.view.device.barred() {
            let next = match barred {
                Barred::Held(_) => format!("release {id}, if all is well with it"),
                Barred::Out(_) => format!("device reopen {id} --because TEXT, if it may come back"),
                Barred::Retired(_) => "list the machine under a new id".to_owned(),
            };
            return Ok(Err(end(barred, next)));
        }
        let roots = self.ward.authorities(tidy_warden_core::authority::AuthorityRole::Root)?;
        if !roots.iter().any(|root| root.certificate.der() == self.outfit.root) {
            let why = "root.pem is none of this ward's roots";
            return Ok(Err(end(why, "give the device an outfit of this ward: enroll --again")));
        }
        let leaf = self.outfit.chain.first().map(Vec::as_slice).unwrap_or_default();
        let (Ok(leaf), fingerprint) = (Certificate::from_der(leaf), Fingerprint::of(leaf)) else {
            return Ok(Err(end("device.pem is not a certificate", format!("enroll {id} --again"))));
        };
        let found = self.ward.store.status_many(&[fingerprint])?.into_iter().next().flatten();
        let Some((record, holder)) = found else {
            let why = format!("the ward did not record the certificate with the serial number {}", leaf.serial);
            return Ok(Err(end(why, format!("enroll {id} --again gives it one that it did"))));
        };
        if holder.id != *id {
            let why = format!("the certificate is that of `{}`", holder.id);
            return Ok(Err(end(why, format!("give {id} an outfit of its own: enroll {id}"))));
        }
        let now = self.ward.now();
        if let Err(why) = record.may_sign_in(now) {
            let newer = self.view.credentials.iter().filter(|each| each.may_sign_in(now).is_ok());
            let next = match newer.max_by_key(|each| each.not_after) {
                Some(newer) => format!(
                    "the device has a newer certificate, {} until {}: name its outfit, and put it on the device",
                    newer.name(),
                    newer.not_after.date()
                ),
                None => format!("enroll {id} --again"),
            };
            return Ok(Err(end(why, next)));
        }
        let login = match self.outfit.login() {
            Ok(login) => login,
            Err(error) => {
                let next = match (&self.args.key, &self.outfit.key) {
                    (Some(path), _) => format!("is {} the key of this device's certificate?", path.display()),
                    (None, Some(_)) => "check device.key against device.pem".to_owned(),
                    (None, None) => "run probe where the device's key is, and name it: --key FILE".to_owned(),
                };
                return Ok(Err(end(error, next)));
            }
        };
        let detail = format!("outfit of {id}, certificate {} until {}", record.name(), record.not_after.date());
        Ok(Ok((login, detail)))
    }

    fn name(&self) -> Result<(SocketAddr, String), End> {
        let connect = &self.outfit.connect;
        if let Some(at) = self.args.at {
            return Ok((at, format!("{at}, as --at says (the outfit says {}:{})", connect.host, connect.port)));
        }
        match simulate::place_of(self.outfit) {
            Ok(address) => Ok((address, format!("{} is {address}", connect.host))),
            Err(problem) => Err(end(
                problem.in_one_line(),
                format!(
                    "put {} into the name service, or correct [endpoints] mqtt and write new outfits",
                    connect.host
                ),
            )),
        }
    }

    async fn identity(&self, login: &Login, secured: Secured) -> Result<Result<(Device, String), End>, Problem> {
        let begun = Instant::now();
        let id = &self.view.device.id;
        Ok(match tokio::time::timeout(PATIENCE, login.open(secured)).await {
            Ok(Ok(device)) => Ok((device, format!("CONNACK in {}, as {:?}", millis(begun), login.client_id))),
            Ok(Err(ConnectError::Refused { code, reason, .. })) => {
                let reason = reason.unwrap_or_else(|| "no reason given".to_owned());
                let next = match code {
                    0x88 | 0x03 => "see what the guard says of its broker: watch, or its log".to_owned(),
                    0x85 | 0x02 => format!("policy ask {id} connect --client-id {}", login.client_id),
                    _ => format!("device show {id}; policy ask {id} connect"),
                };
                Err(end(format!("CONNACK 0x{code:02x}: {reason}"), next))
            }
            // In TLS 1.3 a client hears only now that its certificate was refused.
            Ok(Err(error)) => Err(end(
                error,
                format!(
                    "the guard refused the certificate in the handshake: device show {id}, and see the guard's log"
                ),
            )),
            Err(_) => Err(end("no CONNACK came", "see the guard's log")),
        })
    }

    /// A topic to publish to, and that the adopted edition gives it.
    fn policy(&self) -> Result<Result<(Option<String>, String), End>, Problem> {
        let id = &self.view.device.id;
        let Some(edition) = self.ward.edition()? else {
            return Ok(Err(end("no policy edition is adopted", "policy adopt")));
        };
        let rights = self.ward.rights(&edition, &self.view.device)?;
        let filters: Vec<TopicFilter> = rights.publish_filters().collect();
        // On a topic that others share, the message may be a command to somebody: that is for a person to choose.
        let own = |filter: &&TopicFilter| {
            filter.levels().iter().any(|level| matches!(level, Level::Is(text) if **text == *id.as_str()))
        };
        let harmless = filters.iter().find(own).map(|filter| concrete(&filter.to_string()));
        let topic = self.args.topic.clone().or(harmless);
        let Some(topic) = topic.filter(|_| !self.args.no_publish) else {
            let why = match (self.args.no_publish, filters.is_empty()) {
                (true, _) => "nothing is published, as --no-publish says",
                (false, true) => "it may publish nothing",
                (false, false) => {
                    "it may publish only where others do too: name a topic with --topic if nobody is harmed"
                }
            };
            return Ok(Ok((None, format!("edition {}: {why}", edition.number))));
        };
        let name = TopicName::parse(&topic).map_err(|error| Problem::usage(error.to_string()))?;
        let act = Publish { topic: name, qos: 1, retain: false, size: PAYLOAD.len() };
        Ok(match rights.publish(act, &mut NoMeter) {
            Ok(admitted) => {
                let at = &admitted.rule.at;
                let detail =
                    format!("edition {} allows {topic} by {}:{}", edition.number, at.place.file, at.place.line);
                Ok((Some(topic), detail))
            }
            Err(denial) => Err(end(denial, format!("policy ask {id} publish {topic}"))),
        })
    }

    /// Whether the broker accepts clients without credentials; `None` where it is not known where it is.
    async fn bypass(&self) -> Result<Option<(Mark, String)>, Problem> {
        let given = self.args.broker.as_deref().map(str::parse::<BrokerAddress>).transpose();
        let given = given.map_err(|expected| Problem::usage("this is not a broker").because(expected))?;
        let address = given.or_else(|| self.ward.settings.guard.broker.clone());
        let Some(address) = address.filter(|address| *address != BrokerAddress::Builtin) else { return Ok(None) };
        let upstream = guard::upstream(self.ward, address.clone(), None)?;
        Ok(Some(match upstream.bypass().await {
            Bypass::Open => (
                Mark::Warning,
                format!(
                    "the broker at {address} accepts clients without credentials: everybody who reaches it goes around the guard"
                ),
            ),
            Bypass::Closed(how) => (Mark::Good, format!("the broker at {address} refuses who shows nothing ({how})")),
            Bypass::Unknown(why) => (Mark::Warning, format!("the broker at {address} could not be asked: {why}")),
        }))
    }
}

fn millis(begun: Instant) -> String {
    format!("{:.1} ms", begun.elapsed().as_secs_f64() * 1e3)
}

async fn tcp(address: SocketAddr) -> Result<(TcpStream, String), End> {
    let begun = Instant::now();
    let next = format!("does the guard run, does it listen on {address}, and does a firewall let it through?");
    match tokio::time::timeout(PATIENCE, TcpStream::connect(address)).await {
        Ok(Ok(stream)) => Ok((stream, format!("connected in {}", millis(begun)))),
        Ok(Err(error)) => Err(end(format!("{address}: {error}"), next)),
        Err(_) => Err(end(format!("{address} does not answer"), next)),
    }
}

async fn tls(login: &Login, stream: TcpStream) -> Result<(Secured, String), End> {
    let begun = Instant::now();
    match tokio::time::timeout(PATIENCE, login.secure_over(stream)).await {
        Ok(Ok(secured)) => {
            let detail = format!("{} in {}", secured.told(), millis(begun));
            Ok((secured, detail))
        }
        Ok(Err(error)) => Err(end(
            handshake_words(&error),
            "is that the guard of this ward, is its certificate good (guard warns of its end), and does it have the name in \
             the outfit?",
        )),
        Err(_) => Err(end("no answer to the TLS handshake", "is it the guard that listens there?")),
    }
}

async fn subscribe(device: &mut Device, filter: &str) -> Result<((), String), End> {
    match device.subscribe(filter).await {
        Ok(outcome) if outcome.is_ok() => Ok(((), format!("{filter}: granted"))),
        Ok(outcome) => Err(end(
            format!("{filter}: {}", outcome.told()),
            "the outfit is older than the edition: outfit refresh writes it anew",
        )),
        Err(error) => Err(end(error, "see the guard's log")),
    }
}

async fn publish(device: &mut Device, topic: &str) -> Result<((), String), End> {
    let begun = Instant::now();
    match device.publish(topic, PAYLOAD).await {
        Ok(outcome) if outcome.is_ok() => {
            let heard = if outcome.code == 0x10 { "nobody subscribes to it" } else { "taken" };
            Ok(((), format!("{topic}: PUBACK in {}, {heard}", millis(begun))))
        }
        Ok(outcome) => {
            Err(end(format!("{topic}: {}", outcome.told()), "see the guard's log, and the broker's own rights"))
        }
        Err(error) => Err(end(error, "see the guard's log")),
    }
}
