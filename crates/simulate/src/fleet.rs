//! A device that goes about its day: it publishes where it may, answers what it is asked, and misbehaves if it is told to.

use std::io;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use tidy_warden_core::key::{NewKey, SoftwareKey};
use tidy_warden_core::mqtt::{Properties, PropertyId, Value};
use tokio::time::Instant;

use crate::device::{ConnectError, Device, Login};
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
pub enum Act {
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
    /// The name of another device, for those who take it.
    pub other: String,
}

/// Who is told what a device does.
pub type Tell = Arc<dyn Fn(&str, Act) + Send + Sync>;

/// A topic that a filter matches.
#[must_use]
pub fn concrete(filter: &str) -> String {
    let levels = filter.split('/').map(|level| match level {
        "+" | "#" => "any",
        other => other,
    });
    levels.collect::<Vec<_>>().join("/")
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
        Some(Misdeed::DuplicateId) => login.client_id.clone_from(&doing.other),
        Some(Misdeed::StolenKey) => login = thief(outfit)?,
        _ => {}
    }
    let name = outfit.connect.device.as_str();
    while Instant::now() < doing.until {
        match login.connect(doing.address).await {
            Ok(device) => {
                tell(name, Act::Connected);
                if let Err(error) = session(device, outfit, doing, tell).await {
                    tell(name, Act::Ended(error.to_string()));
                }
            }
            Err(error) => tell(name, Act::NotConnected(error.to_string())),
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

async fn session(mut device: Device, outfit: &Outfit, doing: &Doing, tell: &Tell) -> io::Result<()> {
    let name = outfit.connect.device.as_str();
    let said = |what: &str, outcome: &crate::Outcome| {
        tell(name, Act::Refused(what.to_owned(), outcome.told()));
    };
    let mut filters = outfit.connect.subscribe.clone();
    let mut topics: Vec<String> = outfit.connect.publish.iter().map(|filter| concrete(filter)).collect();
    if doing.misdeed == Some(Misdeed::WrongTopics) {
        filters = vec!["#".to_owned()];
        topics.push(format!("rope/elsewhere/{}/brake", doing.other));
    }
    for filter in &filters {
        let outcome = device.subscribe(filter).await?;
        if !outcome.is_ok() {
            said(filter, &outcome);
        }
    }
    if doing.misdeed == Some(Misdeed::SlowReader) {
        tokio::time::sleep_until(doing.until).await;
        return Ok(());
    }
    let mut round = 0u32;
    while Instant::now() < doing.until {
        for topic in &topics {
            let outcome = device.publish(topic, reading(topic, round).as_bytes()).await?;
            if outcome.is_ok() {
                tell(name, Act::Published(topic.clone()));
            } else {
                said(topic, &outcome);
            }
        }
        round = round.wrapping_add(1);
        let next = doing.until.min(Instant::now() + doing.every);
        while Instant::now() < next {
            let patience = next.saturating_duration_since(Instant::now()).min(Duration::from_secs(10));
            if let Some(message) = device.message(patience).await? {
                if let Some((topic, data)) = message.answer_to {
                    let properties = Properties::default().with(PropertyId::CorrelationData, Value::Binary(&data));
                    let outcome = device.publish_with(&topic, b"done", properties).await?;
                    if outcome.is_ok() {
                        tell(name, Act::Answered(topic));
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
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn filters_become_topics_and_topics_readings() {
        assert_eq!(concrete("rope/+/wv-1/#"), "rope/any/wv-1/any");
        assert!(reading("rope/ossel/wv-1/wind", 3).starts_with(r#"{"speed":"#));
        assert_eq!(reading("rope/x", 3), reading("rope/x", 3), "the same in every run");
    }
}
