//! A device that goes about its day: it publishes where it may, answers what it is asked, and misbehaves if it is told to.

use std::collections::HashSet;
use std::io;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use tidy_warden_core::key::{NewKey, SoftwareKey};
use tidy_warden_core::mqtt::{Properties, PropertyId, Value};
use tidy_warden_core::outfit::Connect;
use tidy_warden_core::topic::{TopicFilter, TopicName, uncovered};
use tokio::time::Instant;

use crate::device::Device;
use crate::errand::Doer;
use crate::login::{ConnectError, Login};
use crate::outfit::Outfit;

/// How long a device that lost its connection waits before it comes back.
const COME_BACK: Duration = Duration::from_secs(1);

/// How a device misbehaves.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Misdeed {
    /// It publishes and subscribes where it must not.
    WrongTopics,
    /// It shows its certificate without having its key.
    StolenKey,
    /// It connects under the name of the next device.
    DuplicateId,
    /// It subscribes and reads nothing.
    SlowReader,
}

/// What a device did or met, for whoever runs it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Happening {
    /// It is connected.
    Connected,
    /// It could not connect.
    NotConnected(String),
    /// A message was taken.
    Published(String),
    /// An act was refused: the topic or filter, and the code with its reason.
    Refused(String, String),
    /// A request was answered.
    Answered(String),
    /// An errand was done, or refused: what for.
    Errand(String),
    /// The session ended.
    Ended(String),
}

/// What a device is to do.
#[derive(Clone)]
pub struct Doing {
    /// Where to.
    pub address: SocketAddr,
    /// How often it publishes.
    pub every: Duration,
    /// Until when.
    pub until: Instant,
    /// How it misbehaves, if it does.
    pub misdeed: Option<Misdeed>,
    /// Another device, for those who take its name or its topics.
    pub other: Arc<Connect>,
}

/// Who is told what a device does.
pub type Tell = Arc<dyn Fn(&str, Happening) + Send + Sync>;

/// A topic that a filter matches.
#[must_use]
pub fn concrete(filter: &str) -> String {
    let levels = filter.split('/').map(|level| match level {
        "+" | "#" => "any",
        other => other,
    });
    levels.collect::<Vec<_>>().join("/")
}

/// What is forbidden to a device, and near: topics of another device, and filters that are wider than its own by a level or
/// more.
fn wrong(own: &Connect, other: &Connect) -> (Vec<String>, Vec<String>) {
    let parse = |all: &[String]| -> Vec<TopicFilter> { all.iter().filter_map(|filter| filter.parse().ok()).collect() };
    let (publish, subscribe) = (parse(&own.publish), parse(&own.subscribe));
    let mine =
        |topic: &String| TopicName::parse(topic).is_ok_and(|topic| publish.iter().any(|filter| filter.matches(topic)));
    let topics = other.publish.iter().map(|filter| concrete(filter)).filter(|topic| !mine(topic)).collect();
    let wider = |filter: &String| {
        let mut levels: Vec<&str> = filter.split('/').collect();
        while levels.pop().is_some() {
            let text = levels.iter().copied().chain(["#"]).collect::<Vec<_>>().join("/");
            let filter: TopicFilter = text.parse().ok()?;
            if uncovered(&filter, &subscribe).is_some() {
                return Some(text);
            }
        }
        None
    };
    let mut filters: Vec<String> = own.subscribe.iter().chain(&own.publish).filter_map(wider).collect();
    filters.sort();
    filters.dedup();
    (topics, filters)
}

/// What a device of this sort would say on a topic: its last level tells what it measures.
fn reading(topic: &str, round: u32) -> String {
    // A slow swing that looks alive in a plot and is the same in every run.
    let swing = f64::from(round % 60) / 60.0 * std::f64::consts::TAU;
    let wave = swing.sin();
    match topic.rsplit('/').next().unwrap_or_default() {
        "wind" => format!(r#"{{"speed":{:.1},"from":{:.0}}}"#, 9.0 + 4.0 * wave, 240.0 + 20.0 * wave),
        "tension" => format!(r#"{{"kilonewton":{:.0}}}"#, 310.0 + 12.0 * wave),
        "door" => format!(r#"{{"closed":{}}}"#, !round.is_multiple_of(7)),
        "gate" => format!(r#"{{"count":{round}}}"#),
        _ => format!(r#"{{"round":{round}}}"#),
    }
}

/// Runs one device until its time is over; it comes back when it loses its connection.
///
/// # Errors
/// Its outfit cannot be used.
pub async fn run(outfit: &Outfit, doing: &Doing, tell: &Tell) -> Result<(), ConnectError> {
    let mut login = outfit.login()?;
    match doing.misdeed {
        Some(Misdeed::DuplicateId) => login.client_id.clone_from(&doing.other.client_id),
        Some(Misdeed::StolenKey) => login = thief(outfit)?,
        _ => {}
    }
    let name = outfit.connect.device.as_str();
    let mut doer = Doer::of(outfit).filter(|_| doing.misdeed.is_none());
    while Instant::now() < doing.until {
        match login.connect(doing.address).await {
            Ok(device) => {
                tell(name, Happening::Connected);
                match session(device, outfit, (doing, &mut doer), tell).await {
                    Ok(false) => {}
                    // It comes back with what it was given.
                    Ok(true) => {
                        login = Outfit::read(&outfit.place).map_err(io::Error::other)?.login()?;
                        continue;
                    }
                    Err(error) => tell(name, Happening::Ended(error.to_string())),
                }
            }
            Err(error) => tell(name, Happening::NotConnected(error.to_string())),
        }
        tokio::time::sleep_until(doing.until.min(Instant::now() + COME_BACK)).await;
    }
    Ok(())
}

/// The device's certificate with another key.
fn thief(outfit: &Outfit) -> Result<Login, ConnectError> {
    let key = SoftwareKey::generate(NewKey::P256).and_then(|key| key.to_pkcs8()).map_err(io::Error::other)?;
    Login::with_any_key(
        &outfit.root,
        (outfit.chain.clone(), key.to_vec()),
        &outfit.connect.host,
        &outfit.connect.client_id,
    )
}

/// One session; says whether the device has another certificate at its end.
async fn session(
    mut device: Device,
    outfit: &Outfit,
    (doing, doer): (&Doing, &mut Option<Doer>),
    tell: &Tell,
) -> io::Result<bool> {
    let name = outfit.connect.device.as_str();
    let said = |what: &str, outcome: &crate::Outcome| {
        tell(name, Happening::Refused(what.to_owned(), outcome.told()));
    };
    let mut filters = outfit.connect.subscribe.clone();
    let connect = &outfit.connect;
    let mut topics: Vec<String> = connect.publish.iter().map(|filter| concrete(filter)).collect();
    let unanswered: HashSet<String> = connect
        .publish
        .iter()
        .filter(|filter| connect.publish_qos.get(*filter) == Some(&0))
        .map(|filter| concrete(filter))
        .collect();
    if doing.misdeed == Some(Misdeed::WrongTopics) {
        let (more_topics, more_filters) = wrong(&outfit.connect, &doing.other);
        topics.extend(more_topics);
        filters.extend(more_filters);
    }
    if doer.is_some() {
        filters.extend(connect.errands.as_ref().map(|errands| errands.listen.clone()));
    }
    for filter in &filters {
        let outcome = device.subscribe(filter).await?;
        if !outcome.is_ok() {
            said(filter, &outcome);
        }
    }
    if doing.misdeed == Some(Misdeed::SlowReader) {
        tokio::time::sleep_until(doing.until).await;
        return Ok(false);
    }
    let mut round = 0u32;
    while Instant::now() < doing.until {
        for topic in &topics {
            let payload = reading(topic, round);
            let outcome = match unanswered.contains(topic) {
                true => device.publish_unanswered(topic, payload.as_bytes()).await?,
                false => device.publish(topic, payload.as_bytes()).await?,
            };
            if outcome.is_ok() {
                tell(name, Happening::Published(topic.clone()));
            } else {
                said(topic, &outcome);
            }
        }
        round = round.wrapping_add(1);
        let next = doing.until.min(Instant::now() + doing.every);
        while Instant::now() < next {
            let patience = next.saturating_duration_since(Instant::now()).min(Duration::from_secs(10));
            if let Some(message) = device.message(patience).await? {
                if let Some(does) = doer.as_mut().and_then(|doer| doer.does(&message)) {
                    let outcome = device.publish(&does.topic, does.answer.as_bytes()).await?;
                    match outcome.is_ok() {
                        true => tell(name, Happening::Errand(does.purpose)),
                        false => said(&does.topic, &outcome),
                    }
                    if does.is_renewed {
                        device.goodbye().await;
                        return Ok(true);
                    }
                } else if let Some((topic, data)) = message.answer_to {
                    let properties = Properties::default().with(PropertyId::CorrelationData, Value::Binary(&data));
                    let outcome = device.publish_with(&topic, b"done", properties).await?;
                    if outcome.is_ok() {
                        tell(name, Happening::Answered(topic));
                    } else {
                        said(&topic, &outcome);
                    }
                }
            } else {
                device.ping().await?;
            }
        }
    }
    device.goodbye().await;
    Ok(false)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_wrong_is_near_and_never_allowed() {
        let connect = |device: &str, publish: &[&str], subscribe: &[&str]| Connect {
            schema: String::new(),
            device: device.to_owned(),
            host: String::new(),
            port: 0,
            client_id: device.to_owned(),
            user_name: device.to_owned(),
            publish: publish.iter().map(|each| (*each).to_owned()).collect(),
            publish_qos: Default::default(),
            subscribe: subscribe.iter().map(|each| (*each).to_owned()).collect(),
            errands: None,
            root_fingerprint: String::new(),
        };
        let one = connect("a-1", &["f/a-1/x"], &["f/a-1/set", "f/+/storm"]);
        let two = connect("a-2", &["f/a-2/x", "f/+/x"], &[]);
        let (topics, filters) = wrong(&one, &two);
        assert_eq!(topics, ["f/a-2/x", "f/any/x"]);
        assert_eq!(filters, ["f/+/#", "f/a-1/#"]);
        let all = connect("a-3", &["#"], &["#"]);
        assert_eq!(wrong(&all, &two), (Vec::new(), Vec::new()), "nothing is forbidden to it");
    }

    #[test]
    fn filters_become_topics_and_topics_readings() {
        assert_eq!(concrete("rope/+/wv-1/#"), "rope/any/wv-1/any");
        assert!(reading("rope/ossel/wv-1/wind", 3).starts_with(r#"{"speed":"#));
        assert_eq!(reading("rope/x", 3), reading("rope/x", 3), "the same in every run");
    }
}
