//! One run: a guard with one client and one broker, both played here, and what is true in the store all the while.

use std::pin::Pin;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::task::{Context, Poll, Wake, Waker};

use tidy_warden_core::device::DeviceEdit;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::mqtt::{
    Ack, Connack, Connect, PacketType, Properties, PropertyId, Publish, Subscribe, Subscription, Unsubscribe, Value,
    Version, disconnect, reason, split, suback,
};
use tidy_warden_core::revocation::Reason;
use tidy_warden_serve::listener::Connection;
use tidy_warden_serve::openings::Openings;
use tidy_warden_serve::pool::Seat;
use tidy_warden_serve::seen::Head;
use tidy_warden_serve::trust::TrustHolder;
use tidy_warden_store::{GuardStore, MemoryStore, OperatorStore};
use tokio::io::{AsyncRead, AsyncWrite, DuplexStream, ReadBuf};
use tokio::sync::mpsc::{UnboundedReceiver, unbounded_channel};

use super::world::{DEVICE, Script, Scripted, Still, World, cause, issue, policies};
use crate::follower::{Follower, Position, end_exhausted};
use crate::knowledge::{Following, Knowledge};
use crate::session::serve;
use crate::shared::{Shared, Versions};

/// Something that happens.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Event {
    // In the store.
    Adopt,
    Label,
    Hold,
    Release,
    Revoke,
    Admit,
    Supersede,
    // To the store.
    Lost,
    Back,
    // In the guard: its follower looks; one question of a client that is coming in, or its answer, or the broker's, goes through.
    Follow,
    Step,
    // At the client.
    Connect,
    ConnectOld,
    Resume,
    Publish,
    Subscribe,
    Deliver,
    Disconnect,
}

impl Event {
    pub(super) const ALL: [Self; 18] = [
        Self::Adopt,
        Self::Label,
        Self::Hold,
        Self::Release,
        Self::Revoke,
        Self::Admit,
        Self::Supersede,
        Self::Lost,
        Self::Back,
        Self::Follow,
        Self::Step,
        Self::Connect,
        Self::ConnectOld,
        Self::Resume,
        Self::Publish,
        Self::Subscribe,
        Self::Deliver,
        Self::Disconnect,
    ];

    pub(super) fn is_change(self) -> bool {
        self <= Self::Supersede
    }
}

/// What is true of the device in the store.
#[derive(Debug, Clone, Copy, Default)]
struct Truth {
    out: bool,
    held: bool,
    /// Certificates before this one may not sign in.
    first: usize,
    /// How many it has.
    issued: usize,
    second_edition: bool,
    elsewhere: bool,
}

impl Truth {
    fn session(self, shown: usize) -> bool {
        let nowhere = self.second_edition && self.elsewhere;
        !(self.out || self.held || shown < self.first || nowhere)
    }

    fn publish(self, shown: usize) -> bool {
        self.session(shown) && !self.second_edition && !self.elsewhere
    }

    fn subscribe(self, shown: usize) -> bool {
        self.session(shown) && !self.elsewhere
    }
}

struct Woken(AtomicBool);

impl Wake for Woken {
    fn wake(self: Arc<Self>) {
        self.0.store(true, Ordering::Relaxed);
    }
}

/// One end of a connection, played here.
struct End {
    stream: DuplexStream,
    input: Vec<u8>,
    over: bool,
}

impl End {
    fn new(stream: DuplexStream) -> Self {
        Self { stream, input: Vec::new(), over: false }
    }

    fn write(&mut self, bytes: &[u8]) {
        let mut cx = Context::from_waker(Waker::noop());
        // The other side may be gone: what is written is lost then, as on a wire.
        let _ = Pin::new(&mut self.stream).poll_write(&mut cx, bytes);
    }

    /// The next packet that came, as its type and its octets.
    fn packet(&mut self) -> Option<(PacketType, Vec<u8>)> {
        let mut cx = Context::from_waker(Waker::noop());
        let mut room = [0; 4096];
        while !self.over {
            let mut into = ReadBuf::new(&mut room);
            match Pin::new(&mut self.stream).poll_read(&mut cx, &mut into) {
                Poll::Ready(Ok(())) if into.filled().is_empty() => self.over = true,
                Poll::Ready(Ok(())) => self.input.extend_from_slice(into.filled()),
                Poll::Ready(Err(_)) => self.over = true,
                Poll::Pending => break,
            }
        }
        let frame = split(&self.input, 1 << 20).unwrap()?;
        let (kind, whole) = (frame.packet_type, frame.whole.to_vec());
        self.input.drain(..whole.len());
        Some((kind, whole))
    }
}

type Task = Pin<Box<dyn Future<Output = ()> + Send>>;

pub(super) struct Run<'w> {
    world: &'w World,
    shared: Arc<Shared>,
    follower: Option<Follower>,
    script: Arc<Script>,
    store: MemoryStore,
    operator: OperatorStore,
    guard: GuardStore,
    reached: UnboundedReceiver<DuplexStream>,
    openings: Arc<Openings>,
    session: Option<Task>,
    woken: Arc<Woken>,
    client: Option<End>,
    broker: Option<End>,
    /// Whether the client's session is there: it got a good CONNACK, and no goodbye.
    live: bool,
    /// Whether a CONNECT is on its way through the guard.
    opening: bool,
    /// Whether the broker waits to be let through too.
    stepwise: bool,
    /// The broker's CONNACK, until it is let through.
    answer: Option<Vec<u8>>,
    /// Whether the broker keeps a session for the client.
    kept: bool,
    /// The certificate that the client showed.
    shown: usize,
    /// What was true, from the beginning.
    truth: Vec<Truth>,
    /// What of it the guard has seen.
    seen: usize,
    /// Whether the store was silent since the follower heard of it last: until then it may not be asked.
    unheard: bool,
    exhausted: bool,
    /// What the two ends got since the last look.
    at_client: Vec<(PacketType, u8)>,
    at_broker: Vec<PacketType>,
    packet_id: u16,
}

impl<'w> Run<'w> {
    pub(super) fn new(world: &'w World) -> Self {
        let (store, script) = (world.model.fork(), Arc::new(Script::default()));
        // The follower and what is written have a script of their own, which holds nothing up.
        let beside = Arc::new(Scripted(script.clone()));
        let guard = || GuardStore::new(Box::new(store.another()));
        let seat = || Seat::driven(guard(), beside.clone());
        let feed = Seat::driven(Following::new(guard().feed().unwrap()), beside.clone());
        let changes = guard().changed_since(0).unwrap();
        let seen = Head { number: changes.to, hash: changes.head };
        let knowledge = Knowledge::with([seat(), seat(), seat()], feed, Arc::new(Still), seen);
        let (inside, reached) = unbounded_channel();
        let mut live = world.live.clone();
        live.upstream.inside = Some(inside);
        let trust = Arc::new(TrustHolder::default());
        trust.set(world.trust.clone());
        let shared = Arc::new(Shared::new(knowledge, live, Arc::new(Still), trust, Arc::new(|_| {}), None));
        let versions = Versions::from(&changes);
        let run = Self {
            world,
            follower: Some(Follower::new(
                shared.clone(),
                Position { change: changes.to, versions, tokens: changes.tokens, behind: false },
            )),
            shared,
            script,
            store: store.another(),
            operator: OperatorStore::new(Box::new(store.another())),
            guard: guard(),
            reached,
            openings: Arc::default(),
            session: None,
            woken: Arc::new(Woken(AtomicBool::new(false))),
            client: None,
            broker: None,
            live: false,
            opening: false,
            stepwise: false,
            answer: None,
            kept: false,
            shown: 0,
            truth: vec![Truth { issued: 1, ..Truth::default() }],
            seen: 0,
            unheard: false,
            exhausted: false,
            at_client: Vec::new(),
            at_broker: Vec::new(),
            packet_id: 0,
        };
        let shared = run.shared.clone();
        now(async move { shared.take(versions).await.unwrap() });
        run
    }

    fn last(&self) -> Truth {
        *self.truth.last().unwrap()
    }

    fn lost(&self) -> bool {
        self.script.lost.load(Ordering::Relaxed)
    }

    /// Whether something can happen as things are, and would tell anything.
    pub(super) fn possible(&self, event: Event) -> bool {
        let truth = self.last();
        let away = !self.live && !self.opening;
        match event {
            Event::Adopt | Event::Label | Event::Follow => true,
            Event::Hold => !truth.held && !truth.out,
            Event::Release => truth.held,
            Event::Revoke => !truth.out,
            Event::Admit => truth.out && !truth.held && truth.issued < self.world.certificates.len(),
            Event::Supersede => !truth.out && !truth.held && truth.issued < self.world.certificates.len(),
            Event::Lost => !self.lost(),
            Event::Back => self.lost(),
            Event::Step => self.opening && (self.script.waits() || self.answer.is_some()),
            Event::Connect => away,
            Event::ConnectOld => away && truth.issued > 1,
            Event::Resume => away && self.kept,
            Event::Publish | Event::Subscribe | Event::Deliver | Event::Disconnect => self.live,
        }
    }

    /// Whether a client's CONNECT goes through the guard one step at a time.
    pub(super) fn set_stepwise(&mut self, stepwise: bool) {
        self.stepwise = stepwise;
        self.script.hold(stepwise);
    }

    /// The store was silent for so long that sessions end although nothing was taken from them.
    pub(super) fn expect_ends(&mut self) {
        self.exhausted = true;
    }

    /// Looks whether the store was silent for too long, as is done beside the follower.
    pub(super) fn watch_silence(&mut self) {
        end_exhausted(&self.shared, &mut None);
        self.settle();
    }

    /// Whether the broker has a session for the client from before the guard was there.
    pub(super) fn keep_at_broker(&mut self, kept: bool) {
        self.kept |= kept;
    }

    pub(super) fn is_live(&self) -> bool {
        self.live
    }

    /// Whether a client waits for its CONNACK.
    pub(super) fn is_opening(&self) -> bool {
        self.opening
    }

    /// The store as it is, to be put back later.
    pub(super) fn backup(&self) -> (MemoryStore, usize) {
        (self.store.fork(), self.truth.len())
    }

    /// Puts a store back: what happened since did not.
    pub(super) fn put_back(&mut self, (store, length): &(MemoryStore, usize)) {
        self.store.put_back(store);
        let then = self.truth[*length - 1];
        self.truth.push(then);
    }

    /// A person says that the older store counts.
    pub(super) fn accept(&mut self) {
        let seen = self.shared.knowledge.seen();
        self.operator.give_up(seen.number, seen.hash, &cause()).unwrap();
    }

    /// Takes other settings of the device's kind.
    pub(super) fn reload(&mut self, more: &str) {
        self.shared.set_live(self.world.config(more)).unwrap();
    }

    /// The code of the answer to a message of QoS 1 that no policy allows; `None` if there is none.
    pub(super) fn refused_publish(&mut self) -> Option<u8> {
        let publish = self.publish("ossel/wv-2/up", 1);
        self.client.as_mut()?.write(&publish);
        self.settle();
        self.at_broker.clear();
        let told = std::mem::take(&mut self.at_client);
        told.into_iter().find(|(kind, _)| *kind == PacketType::Puback).map(|(_, code)| code)
    }

    /// Makes something happen that is not held against what is true; says whether the client has a session then.
    pub(super) fn try_out(&mut self, event: Event) -> bool {
        self.start(event);
        self.settle();
        self.at_client.clear();
        self.at_broker.clear();
        self.live
    }

    /// Makes something happen, and checks what comes of it. The error says what should not have been.
    pub(super) fn happen(&mut self, event: Event) -> Result<(), String> {
        self.start(event);
        self.settle();
        self.check(event)
    }

    fn start(&mut self, event: Event) {
        match event {
            Event::Lost | Event::Back => {
                self.unheard = true;
                self.script.lost.store(event == Event::Lost, Ordering::Relaxed);
            }
            Event::Follow => {
                self.follow();
                if !self.lost() {
                    (self.seen, self.unheard) = (self.truth.len() - 1, false);
                }
            }
            Event::Step => match self.answer.take() {
                Some(answer) => self.broker.iter_mut().for_each(|broker| broker.write(&answer)),
                None => self.script.step(),
            },
            Event::Connect | Event::ConnectOld | Event::Resume => self.connect(event),
            Event::Publish => {
                let publish = self.publish("ossel/wv-1/up", 1);
                self.client.as_mut().unwrap().write(&publish);
            }
            Event::Subscribe => {
                self.packet_id += 1;
                let subscription = Subscription { filter: "ossel/wv-1/down", options: 0 };
                let (packet_id, properties) = (self.packet_id, Properties::default());
                let subscribe = Subscribe { packet_id, properties, subscriptions: vec![subscription] };
                self.client.as_mut().unwrap().write(&subscribe.to_bytes(Version::V5));
            }
            Event::Deliver => {
                let publish = self.publish("ossel/wv-1/down", 0);
                self.broker.as_mut().unwrap().write(&publish);
            }
            Event::Disconnect => {
                self.client.as_mut().unwrap().write(&disconnect(Version::V5, reason::SUCCESS, None));
            }
            change => {
                let after = self.change(change);
                self.truth.push(after);
            }
        }
    }

    fn publish(&mut self, topic: &str, qos: u8) -> Vec<u8> {
        self.packet_id += 1;
        let (packet_id, properties) = ((qos > 0).then_some(self.packet_id), Properties::default());
        Publish { dup: false, qos, retain: false, topic, packet_id, properties, payload: b"x" }.to_bytes(Version::V5)
    }

    /// Changes the store; gives what is true then.
    fn change(&mut self, event: Event) -> Truth {
        let (mut truth, id) = (self.last(), DEVICE.parse::<DeviceId>().unwrap());
        let ids = std::slice::from_ref(&id);
        match event {
            Event::Adopt => {
                truth.second_edition = !truth.second_edition;
                self.operator.adopt(&policies(truth.second_edition), &cause()).unwrap();
            }
            Event::Label => {
                truth.elsewhere = !truth.elsewhere;
                let site = if truth.elsewhere { "brindle" } else { "ossel" };
                let labels = vec![("site".parse().unwrap(), Some(site.parse().unwrap()))];
                let edit = DeviceEdit { labels, ..DeviceEdit::default() };
                self.operator.edit_device(&id, &edit, &cause()).unwrap().unwrap();
            }
            Event::Hold | Event::Release => {
                truth.held = event == Event::Hold;
                self.operator.set_hold(ids, truth.held, &cause()).unwrap();
            }
            Event::Revoke => {
                (truth.out, truth.first) = (true, truth.issued);
                self.operator.revoke_devices(ids, Reason::CessationOfOperation, &cause()).unwrap();
            }
            Event::Admit => {
                truth.out = false;
                self.operator.reopen_device(&id, &cause()).unwrap();
                issue(&mut self.operator, &self.world.certificates[truth.issued]);
                truth.issued += 1;
            }
            Event::Supersede => {
                issue(&mut self.operator, &self.world.certificates[truth.issued]);
                let used = self.world.certificates[truth.issued].fingerprint;
                self.guard.record_uses(&[(id, Some(used))], &cause()).unwrap();
                (truth.first, truth.issued) = (truth.issued, truth.issued + 1);
            }
            other => unreachable!("{other:?} is no change of the store"),
        }
        truth
    }

    /// One round of the follower. It is done before anything else happens.
    fn follow(&mut self) {
        let mut follower = self.follower.take().unwrap();
        self.script.hold(false);
        self.follower = Some(now(async move {
            follower.round().await;
            follower
        }));
        end_exhausted(&self.shared, &mut None);
        self.script.hold(self.stepwise);
    }

    fn connect(&mut self, event: Event) {
        let issued = self.last().issued;
        self.shown = if event == Event::ConnectOld { issued - 2 } else { issued - 1 };
        let (near, far) = tokio::io::duplex(16 * 1024);
        let connection = Connection {
            peer: "127.0.0.1:1".parse().unwrap(),
            leaf: Some(self.world.certificates[self.shown].der().into()),
            resumed: false,
            came: tokio::time::Instant::now(),
            opening: self.openings.enter(10),
        };
        let connect = Connect {
            version: Version::V5,
            clean_start: event != Event::Resume,
            keep_alive: 0,
            client_id: DEVICE,
            will: None,
            user_name: None,
            password: None,
            properties: Properties::default().with(PropertyId::SessionExpiry, Value::Number(300)),
        };
        let mut client = End::new(far);
        client.write(&connect.to_bytes());
        self.client = Some(client);
        self.broker = None;
        self.opening = true;
        self.session = Some(Box::pin(serve(self.shared.clone(), near, connection)));
        self.woken.0.store(true, Ordering::Relaxed);
    }

    /// Lets everything go on until nothing moves.
    fn settle(&mut self) {
        let waker = Waker::from(self.woken.clone());
        loop {
            let mut moved = self.woken.0.swap(false, Ordering::Relaxed);
            if moved
                && let Some(session) = &mut self.session
                && session.as_mut().poll(&mut Context::from_waker(&waker)).is_ready()
            {
                self.session = None;
            }
            while let Ok(stream) = self.reached.try_recv() {
                self.broker = Some(End::new(stream));
                moved = true;
            }
            while let Some((kind, packet)) = self.broker.as_mut().and_then(End::packet) {
                self.play_broker(kind, &packet);
                moved = true;
            }
            while let Some((kind, packet)) = self.client.as_mut().and_then(End::packet) {
                let frame = split(&packet, 1 << 20).unwrap().unwrap();
                let code = match kind {
                    PacketType::Connack => Connack::parse(&frame, Version::V5).unwrap().code,
                    PacketType::Puback => Ack::parse(&frame, Version::V5).unwrap().code,
                    PacketType::Suback => *packet.last().unwrap(),
                    _ => 0,
                };
                self.at_client.push((kind, code));
                moved = true;
            }
            for end in [&mut self.client, &mut self.broker] {
                if end.take_if(|end| end.over).is_some() {
                    moved = true;
                }
            }
            if !moved && !self.woken.0.load(Ordering::Relaxed) {
                break;
            }
        }
        for (kind, code) in &self.at_client {
            match kind {
                PacketType::Connack => (self.live, self.opening) = (*code == reason::SUCCESS, false),
                PacketType::Disconnect => self.live = false,
                _ => {}
            }
        }
        if self.client.is_none() {
            (self.live, self.opening) = (false, false);
        }
    }

    /// What a broker says to a packet.
    fn play_broker(&mut self, kind: PacketType, packet: &[u8]) {
        self.at_broker.push(kind);
        let frame = split(packet, 1 << 20).unwrap().unwrap();
        let answer = match kind {
            PacketType::Connect => {
                let clean = Connect::parse(&frame).unwrap().clean_start;
                let session_present = self.kept && !clean;
                self.kept = true;
                let properties = Properties::default();
                let connack = Connack { session_present, code: reason::SUCCESS, properties }.to_bytes(Version::V5);
                if self.stepwise {
                    self.answer = Some(connack);
                    return;
                }
                connack
            }
            PacketType::Publish => {
                let packet_id = Publish::parse(&frame, Version::V5).unwrap().packet_id.unwrap();
                let ack = Ack { packet_type: PacketType::Puback, packet_id, code: reason::SUCCESS };
                ack.to_bytes(Version::V5, None)
            }
            PacketType::Subscribe => {
                let packet_id = Subscribe::parse(&frame, Version::V5).unwrap().packet_id;
                suback(Version::V5, packet_id, &[0], None)
            }
            PacketType::Unsubscribe => {
                let [high, low] = Unsubscribe::parse(&frame, Version::V5).unwrap().packet_id.to_be_bytes();
                // UNSUBACK, no properties, success (MQTT 5.0 section 3.11).
                vec![0xb0, 4, high, low, 0, 0]
            }
            _ => return,
        };
        self.broker.as_mut().unwrap().write(&answer);
    }

    /// Holds what came of an event against what was true. What the guard has not seen yet it need not go by; what it has seen, it must.
    fn check(&mut self, event: Event) -> Result<(), String> {
        let (shown, unheard) = (self.shown, self.unheard);
        let (at_client, at_broker) = (std::mem::take(&mut self.at_client), std::mem::take(&mut self.at_broker));
        let told =
            |wanted: PacketType| at_client.iter().filter(|(kind, _)| *kind == wanted).map(|(_, code)| *code).next();
        let since = &self.truth[self.seen..];
        let judge = |what: &str, done: bool, right: &dyn Fn(Truth) -> bool| {
            if done && !since.iter().any(|truth| right(*truth)) {
                return Err(format!(
                    "{what} was let through, and since what the guard has seen nothing gave it: {since:?}"
                ));
            }
            if !done && since.iter().all(|truth| right(*truth)) {
                return Err(format!("{what} was not let through, and everything gives it: {since:?}"));
            }
            Ok(())
        };
        if at_broker.contains(&PacketType::Connect) && !since.iter().any(|truth| truth.session(shown)) {
            return Err(format!("the broker was told of a client that may not be: {since:?}"));
        }
        if let Some(code) = told(PacketType::Connack) {
            let done = code == reason::SUCCESS;
            // Whether somebody new comes in while the store is silent depends on what is remembered of it.
            match unheard {
                true if !done => {}
                _ => judge("a CONNECT", done, &|truth| truth.session(shown))?,
            }
        }
        match event {
            Event::Publish => {
                judge("a PUBLISH", at_broker.contains(&PacketType::Publish), &|truth| truth.publish(shown))?;
            }
            Event::Subscribe => {
                judge("a SUBSCRIBE", at_broker.contains(&PacketType::Subscribe), &|truth| truth.subscribe(shown))?;
            }
            Event::Deliver => {
                judge("a message", told(PacketType::Publish).is_some(), &|truth| truth.subscribe(shown))?;
            }
            _ => {}
        }
        if self.live && !since.iter().any(|truth| truth.session(shown)) {
            return Err(format!("a session goes on that nothing gives: {since:?}"));
        }
        let ended = told(PacketType::Disconnect).is_some();
        if ended && !self.exhausted && since.iter().all(|truth| truth.session(shown)) {
            return Err(format!("a session was cut that everything gives: {since:?}"));
        }
        // A client that came in by asking the store saw what is true now.
        if told(PacketType::Connack).is_some() && !unheard && !self.stepwise {
            self.seen = self.truth.len() - 1;
        }
        Ok(())
    }
}

/// Runs what nothing holds up.
fn now<T>(future: impl Future<Output = T>) -> T {
    let mut future = std::pin::pin!(future);
    let mut cx = Context::from_waker(Waker::noop());
    match future.as_mut().poll(&mut cx) {
        Poll::Ready(done) => done,
        Poll::Pending => panic!("something waits that nobody holds up"),
    }
}
