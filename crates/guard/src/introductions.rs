//! Children that gateways bring in by their first message: the message is refused, and the store is asked to take the child in.

use std::collections::HashMap;
use std::sync::Arc;
use std::time::{Duration, Instant};

use tidy_warden_core::id::{DeviceId, KindName};
use tidy_warden_core::introduced::IntroducedState;
use tidy_warden_core::policy::Unknown;
use tidy_warden_core::settings::Admit;
use tidy_warden_serve::buckets::Buckets;
use tokio::sync::mpsc;

use crate::Event;
use crate::shared::Shared;

/// How many wait to be looked at; more are forgotten, and come with their next message.
const WAITING: usize = 256;

/// How many of one gateway are looked at within a minute.
const OF_GATEWAY: u32 = 30;
const MINUTE: Duration = Duration::from_secs(60);

/// After how long the same child of the same gateway is looked at again.
const AGAIN: Duration = Duration::from_secs(30);

const SWEEP: Duration = Duration::from_secs(1);

/// How many are remembered for that.
const REMEMBERED: usize = 10_000;

/// A child that nobody listed, and the right by which it may be brought in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct New {
    pub(crate) gateway: DeviceId,
    pub(crate) child: DeviceId,
    pub(crate) kind: KindName,
    pub(crate) most: u32,
}

impl From<Unknown<'_>> for New {
    fn from(unknown: Unknown<'_>) -> Self {
        let Unknown { gateway, child, by } = unknown;
        Self { gateway: gateway.clone(), child, kind: by.kind.clone(), most: by.most }
    }
}

/// Where gates tell of them; nowhere in a gate that stands alone.
#[derive(Debug, Clone, Default)]
pub(crate) struct Introductions(Option<mpsc::Sender<New>>);

impl Introductions {
    /// A way, and its end.
    pub(crate) fn new() -> (Self, mpsc::Receiver<New>) {
        let (sender, receiver) = mpsc::channel(WAITING);
        (Self(Some(sender)), receiver)
    }

    pub(crate) fn tell(&self, new: New) {
        if let Some(sender) = &self.0 {
            // Where too many wait it comes with its next message.
            let _ = sender.try_send(new);
        }
    }
}

/// Brings in whom gates tell of, as long as the guard runs.
pub(crate) async fn follow(shared: Arc<Shared>, mut told: mpsc::Receiver<New>) {
    let gateways = Buckets::default();
    let mut seen: HashMap<(DeviceId, DeviceId), Instant> = HashMap::new();
    let mut swept = Instant::now();
    while let Some(new) = told.recv().await {
        let now = Instant::now();
        // Not at each message of a flood.
        if now.duration_since(swept) >= SWEEP {
            swept = now;
            seen.retain(|_, at| now.duration_since(*at) < AGAIN);
        }
        let pair = (new.gateway.clone(), new.child.clone());
        if seen.contains_key(&pair) || seen.len() >= REMEMBERED {
            continue;
        }
        // Too many at once come again with their next messages, once the bucket is fuller.
        if gateways.take(&new.gateway, OF_GATEWAY, MINUTE, now).is_err() {
            continue;
        }
        seen.insert(pair, now);
        let (device, child, kind) = (new.gateway.to_string(), new.child.to_string(), new.kind.to_string());
        let event = match bring_in(&shared, new).await {
            Ok(state) => Event::Introduced { device, child, kind, state: state.as_str() },
            Err(because) => Event::NotIntroduced { device, child, kind, because },
        };
        shared.emit(event);
    }
}

async fn bring_in(shared: &Shared, new: New) -> Result<IntroducedState, String> {
    let live = shared.live();
    live.settings.may_name(&new.child)?;
    let kind = live.settings.kinds.get(&new.kind).ok_or("its kind is not declared")?;
    // What a gateway says of its child is as good as a bare fact.
    let state = if kind.admit == Admit::Facts { IntroducedState::Accepted } else { IntroducedState::Waits };
    let (gateway, child, of) = (new.gateway.clone(), new.child, new.kind);
    let told = shared.knowledge.introduce_child(gateway, child, of, new.most, state).await;
    match told {
        Ok(Ok(state)) => Ok(state),
        Ok(Err(refusal)) => Err(refusal.to_string()),
        Err(error) => Err(error.to_string()),
    }
}
