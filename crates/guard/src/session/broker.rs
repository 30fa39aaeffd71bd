//! Waiting for the broker: it is reached in the client's name, and what it says is passed on.

use std::sync::Arc;
use std::time::{Duration, Instant};

use tidy_warden_core::mqtt::{
    Connack, Connect, PacketType, Properties, PropertyId, Value, Version, Will, connack, disconnect, reason,
    return_code, split,
};
use tidy_warden_core::policy;
use tidy_warden_core::time::Span;
use tidy_warden_store::{BrokerSession, StoreError};
use tokio::io::{AsyncRead, AsyncWrite};

use super::admit::will_message;
use super::{Admission, AwaitsBroker, Caller, Conversing, MAX_CONNECT, Refusal, refused};
use crate::Event;
use crate::errands::Line;
use crate::gate::{Explanations, Gate, Handling, Output, sender};
use crate::identity::Credential;
use crate::kept::{Lasting, Subscriptions};
use crate::live::Live;
use crate::moment::Moment;
use crate::relay::{Relay, Side};
use crate::shared::Shared;
use crate::upstream::{BrokerStream, PATIENCE};
use crate::wills::LastWill;

/// What an identifier property and two lengths add to a message, in octets.
const PROPERTY_OVERHEAD: usize = 5 + 4;

/// The most sessions that the broker keeps for one device while it is away: each costs it memory, and a row in the store.
const MOST_KEPT: usize = 32;

/// The session at the broker, and its CONNACK.
type AtBroker = Result<(Side<BrokerStream>, Vec<u8>), String>;

impl<S: AsyncRead + AsyncWrite + Unpin + Send> AwaitsBroker<'_, S> {
    /// Reaches the broker in the client's name, and passes its CONNACK on; a client that the broker does not take is told so.
    pub(super) async fn reach(mut self) -> Option<Conversing<S>> {
        if let Some(why) = self.too_many_kept().await {
            return self.refuse(Refusal::new(reason::QUOTA, return_code::UNAVAILABLE, why)).await;
        }
        let known = self.known().await;
        if let Err(refusal) = self.still_admitted().await {
            return self.refuse(refusal).await;
        }
        let (answered, restored) = match self.open(known).await {
            Ok(opened) => opened,
            Err(refusal) => return self.refuse(refusal).await,
        };
        let address = self.caller.live.upstream.address();
        let (broker, packet) = match answered {
            Ok(answered) => answered,
            Err(why) => {
                let what = format!("the broker at {address}: {why}");
                self.unavailable(what).await;
                return None;
            }
        };
        let version = self.caller.connect.version;
        let frame = split(&packet, MAX_CONNECT).ok().flatten()?;
        let answer = Connack::parse(&frame, version).ok()?;
        if refuses_the_guard(&answer, version) {
            let what = format!(
                "the broker at {address} refuses the guard's own credentials with code 0x{:02x}: set broker_user and \
                 broker_password_file under [guard] in ward.toml",
                answer.code
            );
            self.unavailable(what).await;
            return None;
        }
        if let Err(refusal) = self.still_admitted().await {
            self.note_left(&answer, restored);
            tokio::join!(say_goodbye(broker, version), self.refuse(refusal));
            return None;
        }
        self.answered(broker, &answer, restored).await
    }

    /// Notes a session that is left at the broker by a client that is refused at the last moment, so that it is cleared with its device.
    fn note_left(&self, answer: &Connack<'_>, restored: Option<Vec<String>>) {
        let (Caller { shared, connect, .. }, admission) = (&self.caller, &self.admission);
        if answer.code != reason::SUCCESS {
            return;
        }
        let kept = if answer.session_present { restored.unwrap_or_default() } else { Vec::new() };
        let subscriptions = Arc::new(Subscriptions::of(kept));
        note_lasting(shared, admission, &subscriptions, (connect, answer), expiry(connect, answer));
        shared.kept.closed(&admission.client_id, &subscriptions, shared.knowledge.now());
    }

    async fn refuse(self, refusal: Refusal) -> Option<Conversing<S>> {
        let device = Some(self.admission.device.id.clone());
        self.caller.refuse(Refusal { device, ..refusal }).await;
        None
    }

    /// Looks again if something changed since it was admitted: the broker must not hear of a client, nor a client of its session, by a
    /// right that was taken away meanwhile.
    async fn still_admitted(&mut self) -> Result<(), Refusal> {
        let Self { caller: Caller { shared, .. }, admission } = self;
        while admission.registered.control.has_changed().unwrap_or(false) {
            if admission.registered.control.borrow_and_update().stop {
                let why = "the guard stops";
                return Err(Refusal::new(reason::SHUTTING_DOWN, return_code::UNAVAILABLE, why));
            }
            admission.given = admission.look_again(shared, false).await.map_err(Refusal::not_authorized)?;
        }
        Ok(())
    }

    /// The gate of the session that is to be.
    fn gate(&self) -> Gate {
        let (caller, Admission { device, given, .. }) = (&self.caller, &self.admission);
        let shared = caller.shared;
        Gate::new(
            caller.connect.version,
            Explanations::of(&caller.connect.properties),
            given.rights.clone(),
            shared.watching(&device.id, given.trial.clone()),
            Box::new(shared.rates.of(&device.id, Instant::now())),
            Handling {
                peer: caller.peer,
                // As of now: a reload meanwhile was looked at.
                manner: shared.live().manner(&device.kind),
                counting: shared.counting(&device.id),
                introductions: shared.introductions.clone(),
                line: self.line(),
                notices: shared.notices(&device.id, caller.peer.ip(), is_proved(&self.admission.credential)),
            },
            Moment::now(&*shared.clock),
        )
    }

    /// Its end of the way of errands.
    fn line(&self) -> Line {
        let (shared, Admission { device, registered, credential, .. }) = (self.caller.shared, &self.admission);
        let live = shared.live();
        let reserved = live.settings.guard.reserved.clone();
        let by_token = !is_proved(credential);
        let window = live.settings.kinds.get(&device.kind).and_then(|kind| kind.claim_window);
        Line::new(shared.errands.clone(), reserved, device.id.clone(), (registered.listens(), by_token), window)
    }

    /// Tells everybody that the broker cannot be used, which is nothing that the client could mend.
    async fn unavailable(self, what: String) {
        let Caller { shared, connect, mut client, .. } = self.caller;
        let packet = match connect.version {
            Version::V5 => Explanations::of(&connect.properties)
                .packet("the broker does not answer", |text| connack(Version::V5, reason::SERVER_UNAVAILABLE, text)),
            Version::V311 => connack(Version::V311, return_code::UNAVAILABLE, None),
        };
        client.queue(&packet);
        shared.emit(Event::Trouble { what });
        client.last_words().await;
    }

    /// Passes the broker's answer on, and begins the session if it is a good one.
    async fn answered(
        self,
        broker: Side<BrokerStream>,
        answer: &Connack<'_>,
        restored: Option<Vec<String>>,
    ) -> Option<Conversing<S>> {
        let mut gate = self.gate();
        let told = self.told(answer);
        let keep_alive = told.server_keep_alive().unwrap_or(self.caller.connect.keep_alive);
        let told = told.to_bytes(self.caller.connect.version);
        let Self { caller: Caller { shared, live, mut client, connect, peer }, admission } = self;
        client.queue(&told);
        if answer.code != reason::SUCCESS {
            let why = format!("the broker refused the connection with code 0x{:02x}", answer.code);
            refused(shared, (Some(&admission.device.id), peer), &admission.client_id, why);
            client.last_words().await;
            return None;
        }
        gate.connected(&connect.properties, &answer.properties);
        let longest = longest_keep_alive(&live);
        let keep_alive = if keep_alive == 0 { longest } else { keep_alive.min(longest) };
        let max_packet = usize::try_from(live.settings.guard.max_packet).unwrap_or(usize::MAX);
        let will = connect.will.as_ref().and_then(LastWill::of);
        shared.wills.back(&admission.client_id);
        let mut out = Output::default();
        if answer.session_present {
            let known = Arc::new(Subscriptions::of(restored.unwrap_or_default()));
            gate.resume(Moment::now(&*shared.clock), known, &mut out);
        }
        let expiry = expiry(connect, answer);
        note_lasting(shared, &admission, gate.subscriptions(), (connect, answer), expiry);
        let mut relay = Relay::new(client, broker, gate, shared.clock.clone(), max_packet, keep_alive);
        relay.deliver(out, &|event| shared.emit(event));
        Some(Conversing {
            shared: shared.clone(),
            relay,
            admission,
            will,
            expiry: Duration::from_secs(u64::from(expiry)),
            version: connect.version,
            explanations: Explanations::of(&connect.properties),
            present: None,
        })
    }

    /// The broker's CONNACK as the client gets it: with the client identifier if one was assigned, and with the largest packet
    /// that the guard and the broker take, the property that the guard adds included.
    fn told<'a>(&'a self, answer: &Connack<'a>) -> Connack<'a> {
        let Caller { live, connect, .. } = &self.caller;
        if connect.version == Version::V311 || answer.code != reason::SUCCESS {
            return answer.clone();
        }
        let settings = &live.settings.guard;
        let mut properties: Properties<'_> = answer.properties.without(PropertyId::MaximumPacketSize);
        let mut largest = settings.max_packet;
        if let Some(broker) = answer.properties.number(PropertyId::MaximumPacketSize) {
            // A gateway's messages may name a child too.
            let added = PROPERTY_OVERHEAD + settings.sender_property.len() + 2 * 64 + 1;
            largest = largest.min(broker.saturating_sub(u32::try_from(added).unwrap_or(u32::MAX)).max(1));
        }
        properties = properties.with(PropertyId::MaximumPacketSize, Value::Number(largest));
        let longest = longest_keep_alive(live);
        let asked = answer.server_keep_alive().unwrap_or(connect.keep_alive);
        if asked == 0 || asked > longest {
            properties = properties.without(PropertyId::ServerKeepAlive);
            properties = properties.with(PropertyId::ServerKeepAlive, Value::Number(u32::from(longest)));
        }
        if self.admission.assigned {
            let id = Value::Text(&self.admission.client_id);
            properties = properties.without(PropertyId::AssignedClientIdentifier);
            properties = properties.with(PropertyId::AssignedClientIdentifier, id);
        }
        Connack { properties, ..answer.clone() }
    }

    /// Why a session that lasts is not begun, if the device has too many already.
    async fn too_many_kept(&self) -> Option<String> {
        let (shared, connect) = (self.caller.shared, self.caller.connect);
        let lasts = match connect.version {
            Version::V311 => !connect.clean_start,
            Version::V5 => connect.properties.number(PropertyId::SessionExpiry).unwrap_or(0) > 0,
        };
        let Admission { client_id, device, .. } = &self.admission;
        if !lasts || shared.kept.waiting(client_id).is_some() {
            return None;
        }
        // While the store does not answer, none that is new comes in anyway.
        let count = shared.knowledge.broker_sessions_of(device.id.clone()).await.ok()?;
        let known = || shared.knowledge.broker_session(client_id.clone());
        if count < MOST_KEPT || known().await.is_ok_and(|session| session.is_some()) {
            return None;
        }
        Some(format!("the broker keeps {count} sessions for the device, which is the most that one may have"))
    }

    /// What is known of the session that the broker may have kept for the client.
    async fn known(&self) -> Result<Option<BrokerSession>, StoreError> {
        let (shared, Admission { client_id, device, .. }) = (self.caller.shared, &self.admission);
        let known = match (may_last(self.caller.connect), shared.kept.waiting(client_id)) {
            (false, _) => None,
            (true, Some(waiting)) => Some(waiting),
            (true, None) => shared.knowledge.broker_session(client_id.clone()).await?,
        };
        // What the broker kept while the device was another owner's is nobody's any more.
        let is_its = |session: &BrokerSession| device.passed.is_none_or(|passed| session.opened > passed);
        Ok(known.filter(|session| session.device == device.id && is_its(session)))
    }

    /// Opens the session at the broker, and gives what the broker has of it, if it goes on with one. A session of which nobody
    /// knows what it is subscribed to is begun anew: what it would bring is not for the guard to guess.
    async fn open(
        &mut self,
        known: Result<Option<BrokerSession>, StoreError>,
    ) -> Result<(AtBroker, Option<Vec<String>>), Refusal> {
        let connect = self.caller.connect;
        // While the store does not answer, each message of such a session is looked at by itself.
        let store_answers = known.is_ok();
        let known = known.ok().flatten();
        let first = self.open_once(connect).await;
        let present = |answered: &AtBroker| {
            answered.as_ref().is_ok_and(|(_, packet)| {
                let frame = split(packet, MAX_CONNECT).ok().flatten();
                frame
                    .and_then(|frame| Connack::parse(&frame, connect.version).ok())
                    .is_some_and(|answer| answer.session_present)
            })
        };
        if !present(&first) || known.is_some() || !store_answers {
            return Ok((first, known.map(|session| session.subscriptions)));
        }
        if let Ok((broker, _)) = first {
            say_goodbye(broker, connect.version).await;
        }
        self.still_admitted().await?;
        let clean = Connect { clean_start: true, ..connect.clone() };
        Ok((self.open_once(&clean).await, None))
    }

    /// Connects to the broker and sends CONNECT: without the client's user name and password, under the checked client
    /// identifier, and with the sender's name on its will.
    async fn open_once(&self, connect: &Connect<'_>) -> AtBroker {
        let (live, Admission { device, given, client_id, .. }) = (&self.caller.live, &self.admission);
        let stream = live.upstream.connect().await.map_err(|error| error.to_string())?;
        let name = &live.settings.guard.sender_property;
        let child = connect.will.as_ref().and_then(|will| {
            let message = will_message(will).ok()?;
            message.decide(&given.rights, &mut policy::NoMeter).ok()?.child.cloned()
        });
        let sender = sender(device.id.as_str(), child.as_ref());
        // A will that waits is the guard's own: the broker would publish it whatever becomes of its sender's right.
        let waits = |will: &Will<'_>| will.properties.number(PropertyId::WillDelay).unwrap_or(0) > 0;
        let will = connect.will.clone().filter(|will| !waits(will)).map(|will| match connect.version {
            Version::V5 if !name.is_empty() => {
                let properties = will.properties.without_user(name);
                Will { properties: properties.with(PropertyId::UserProperty, Value::Pair(name, &sender)), ..will }
            }
            _ => will,
        });
        let upstream = live.upstream.sign_in(Connect { client_id, will, ..connect.clone() });
        let mut broker = Side::new(stream);
        broker.queue(&upstream.to_bytes());
        let answer = answer_of(&mut broker, connect.version).await?;
        Ok((broker, answer))
    }
}

/// Whether a session was opened with the device's own key, and not by a token alone.
pub(super) fn is_proved(credential: &Credential) -> bool {
    !matches!(credential, Credential::Token(_))
}

/// Notes what the broker keeps of a session from now on: all of it, or nothing any more.
fn note_lasting(
    shared: &Shared,
    admission: &Admission,
    subscriptions: &Arc<Subscriptions>,
    (connect, answer): (&Connect<'_>, &Connack<'_>),
    expiry: u32,
) {
    if expiry > 0 {
        let subscriptions = subscriptions.clone();
        let (device, opened) = (admission.device.id.clone(), shared.knowledge.now());
        let lasting = Lasting { device, opened, expiry: Span::from_seconds(expiry), subscriptions };
        shared.kept.opened(&admission.client_id, lasting);
    } else if may_last(connect) || answer.session_present {
        shared.kept.gone(&admission.client_id);
    }
}

/// Whether a session of this kind may have been there before.
fn may_last(connect: &Connect<'_>) -> bool {
    !connect.clean_start
}

/// How long the broker keeps the session when its connection is gone, in seconds (MQTT 5.0 section 3.1.2.11.2). In MQTT 3.1.1 one
/// that is not clean stays for good.
fn expiry(connect: &Connect<'_>, answer: &Connack<'_>) -> u32 {
    match connect.version {
        Version::V311 if connect.clean_start => 0,
        Version::V311 => u32::MAX,
        Version::V5 => {
            let told = answer.properties.number(PropertyId::SessionExpiry);
            told.or(connect.properties.number(PropertyId::SessionExpiry)).unwrap_or(0)
        }
    }
}

fn longest_keep_alive(live: &Live) -> u16 {
    u16::try_from(live.settings.guard.longest_keep_alive.seconds()).unwrap_or(u16::MAX)
}

/// Whether a refusal is about the guard and not about its client: then it is nothing that the client could mend.
fn refuses_the_guard(answer: &Connack<'_>, version: Version) -> bool {
    match version {
        Version::V5 => matches!(
            answer.code,
            reason::BAD_LOGIN | reason::NOT_AUTHORIZED | reason::BAD_AUTHENTICATION_METHOD | reason::BANNED
        ),
        Version::V311 => matches!(answer.code, return_code::BAD_LOGIN | return_code::NOT_AUTHORIZED),
    }
}

/// Ends a session at the broker that nobody has yet; its will is discarded.
async fn say_goodbye(mut broker: Side<BrokerStream>, version: Version) {
    broker.queue(&disconnect(version, reason::SUCCESS, None));
    broker.last_words().await;
    broker.drain().await;
}

/// Waits for the broker's CONNACK.
async fn answer_of(broker: &mut Side<BrokerStream>, version: Version) -> Result<Vec<u8>, String> {
    let answer = tokio::time::timeout(PATIENCE, async {
        broker.flush_all().await?;
        broker.packet(MAX_CONNECT).await
    });
    let len = match answer.await {
        Ok(Ok(len)) => len,
        Ok(Err(interrupted)) => return Err(interrupted.to_string()),
        Err(_) => return Err("it did not answer CONNECT in time".to_owned()),
    };
    let packet: Vec<u8> = broker.input.drain(..len).collect();
    let frame = split(&packet, MAX_CONNECT).ok().flatten().filter(|frame| frame.packet_type == PacketType::Connack);
    match frame.map(|frame| Connack::parse(&frame, version)) {
        Some(Ok(_)) => Ok(packet),
        _ => Err("it answered CONNECT with something else".to_owned()),
    }
}
