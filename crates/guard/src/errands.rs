//! Errands on their way: to the sessions of the devices that listen for them, and back as answers.
//!
//! The broker sees neither. A device subscribes to its filter of the ward's own topics (see [`tidy_warden_core::errand::Reserved`]); the
//! gate grants that by itself and tells of it here. What is open for the device is handed to its newest session that listens, and again,
//! ever more seldom, until it is answered or over. What is answered is noted in the store; nothing is decided of it here.

use std::collections::{HashMap, HashSet, VecDeque};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use tidy_warden_core::certificate::{Certificate, Fingerprint};
use tidy_warden_core::claim::{OpenClaim, Window};
use tidy_warden_core::errand::{Brought, ErrandRecord, MAX_ANSWER, Reserved, number_of, wait_after, whole};
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::time::{Span, UnixTime};
use tidy_warden_store::StoreError;
use tokio::sync::mpsc;

use crate::Event;
use crate::shared::Shared;

/// How much may wait of what gates tell; what finds no room is told again by the device, or looked for when the errand is due again.
const WAITING: usize = 4_096;

/// How often it is looked whether something is due, or new.
const TICK: Duration = Duration::from_millis(250);

/// The most errands that are read for one receiver at once: its own and its children's.
const OF_RECEIVER: usize = 200;

/// How many receivers are looked up at once, and how many new errands are read at once.
const LOOKED_UP: usize = 64;
const NEW: usize = 1_000;

/// How many answers wait for a store that takes nothing; beyond that they are left out, and their errands handed over again.
const MOST_ANSWERS: usize = 1_000;

/// After how long a receiver that listens anew is looked up again.
const LOOK_UP_AGAIN: Duration = Duration::from_secs(1);

/// After how long a receiver is looked up again because of an answer to something that is not open.
const ASK_AGAIN: Duration = Duration::from_secs(10);

/// How many answers one session may give within how long: a gateway has many children, and each has few errands.
const MOST_ANSWERS_OF_SESSION: u32 = 200;
const ANSWERS_WITHIN: Duration = Duration::from_secs(10);

/// How often a device may open itself to be claimed; its code costs some milliseconds.
const OPENED_AGAIN: Duration = Duration::from_secs(5);

/// How many windows wait for their digests, and how many of those are made in one go.
const MOST_WINDOWS: usize = 1_000;
const WINDOWS_AT_ONCE: usize = 8;

/// An errand as it goes to a session.
#[derive(Debug)]
pub(crate) struct Handed {
    pub(crate) number: i64,
    pub(crate) topic: String,
    pub(crate) answer_topic: String,
    pub(crate) text: String,
    pub(crate) ends: UnixTime,
}

/// What gates tell.
#[derive(Debug)]
pub(crate) enum Told {
    /// A session of a device listens from now on.
    Listens(DeviceId),
    /// A session of `by` answers for `device`.
    Answer {
        by: DeviceId,
        device: String,
        text: String,
        /// Whether a token opened the session: then it says nothing of credentials.
        by_token: bool,
    },
    /// A device opens itself to be claimed.
    Window(DeviceId, Window),
}

/// Where gates tell of them; nowhere in a gate that stands alone.
#[derive(Debug, Clone, Default)]
pub(crate) struct Errands(Option<mpsc::Sender<Told>>);

impl Errands {
    /// A way, and its end.
    pub(crate) fn new() -> (Self, mpsc::Receiver<Told>) {
        let (sender, receiver) = mpsc::channel(WAITING);
        (Self(Some(sender)), receiver)
    }

    fn tell(&self, told: Told) {
        if let Some(sender) = &self.0 {
            let _ = sender.try_send(told);
        }
    }
}

/// One session's end of it.
#[derive(Debug, Clone)]
pub(crate) struct Line {
    errands: Errands,
    pub(crate) reserved: Reserved,
    device: DeviceId,
    listens: Arc<AtomicBool>,
    by_token: bool,
    /// The longest window for which devices of its kind may open themselves, if they may, and when this one did last.
    longest_window: Option<Span>,
    opened: Option<Instant>,
    /// Since when its answers are counted, and how many came.
    since: Instant,
    answers: u32,
}

impl Line {
    pub(crate) fn new(
        errands: Errands,
        reserved: Reserved,
        device: DeviceId,
        (listens, by_token): (Arc<AtomicBool>, bool),
        longest_window: Option<Span>,
    ) -> Self {
        let since = Instant::now();
        Self { errands, reserved, device, listens, by_token, longest_window, opened: None, since, answers: 0 }
    }

    /// Its device opens itself to be claimed. A session that a token opened does not: who has a token may have no more than that.
    pub(crate) fn window(&mut self, payload: &[u8], now: Instant) -> Result<(), String> {
        if self.by_token {
            return Err("a session that a token opened does not open its device".to_owned());
        }
        if self.opened.is_some_and(|at| now.saturating_duration_since(at) < OPENED_AGAIN) {
            return Err("it opened itself a moment ago".to_owned());
        }
        let window = Window::read(payload, self.longest_window).map_err(|bad| bad.to_string())?;
        self.opened = Some(now);
        self.errands.tell(Told::Window(self.device.clone(), window));
        Ok(())
    }

    /// Whether a filter is the one that the device listens on.
    pub(crate) fn is_own(&self, filter: &str) -> bool {
        self.reserved.asks_for(filter, self.device.as_str()) == Some(true)
    }

    /// Its session listens from now on, or does not any more.
    pub(crate) fn listens(&self, listens: bool) {
        self.listens.store(listens, Ordering::Release);
        if listens {
            self.errands.tell(Told::Listens(self.device.clone()));
        }
    }

    /// What its session answered for `device`; whoever answers more than an answer can be, or more often than anybody asks, is told.
    pub(crate) fn answer(&mut self, device: &str, payload: &[u8], now: Instant) -> Result<(), &'static str> {
        if now.saturating_duration_since(self.since) >= ANSWERS_WITHIN {
            (self.since, self.answers) = (now, 0);
        }
        self.answers += 1;
        if self.answers > MOST_ANSWERS_OF_SESSION {
            return Err("it answers more often than it is asked");
        }
        let text = std::str::from_utf8(payload).map_err(|_| "an answer to an errand is text")?;
        if text.len() > MAX_ANSWER {
            return Err("the answer to an errand is too long");
        }
        let (by, device, text) = (self.device.clone(), device.to_owned(), text.to_owned());
        self.errands.tell(Told::Answer { by, device, text, by_token: self.by_token });
        Ok(())
    }
}

/// An open errand on this guard's list.
struct Pending {
    record: ErrandRecord,
    receiver: DeviceId,
    tries: u32,
    due: Instant,
}

/// Carries errands as long as the guard runs.
pub(crate) struct Carrier {
    shared: Arc<Shared>,
    /// Those that a session here may take, by number.
    pending: HashMap<i64, Pending>,
    /// Up to which number all were looked at, and how far the record was then.
    seen_at: Option<(i64, i64)>,
    /// What signs errands, and the ward's URN.
    signers: HashMap<Fingerprint, Vec<Certificate>>,
    urn: String,
    handed: Vec<(i64, UnixTime)>,
    answers: Vec<(i64, Brought)>,
    /// Receivers that were looked up because of an answer, and when.
    asked: HashMap<DeviceId, Instant>,
    /// Receivers that are to be looked up, and when each was last.
    listening: HashSet<DeviceId>,
    looked_up: HashMap<DeviceId, Instant>,
    /// Devices that open themselves, the newest window of each.
    windows: HashMap<DeviceId, Window>,
    /// Those whose digests were made, and that are not written yet.
    opened: Vec<OpenClaim>,
    /// Answers that nobody could look at yet.
    told: VecDeque<(DeviceId, String, String, bool)>,
    troubled: bool,
}

impl Carrier {
    pub(crate) fn new(shared: Arc<Shared>) -> Self {
        Self {
            shared,
            pending: HashMap::new(),
            seen_at: None,
            signers: HashMap::new(),
            urn: String::new(),
            handed: Vec::new(),
            answers: Vec::new(),
            asked: HashMap::new(),
            listening: HashSet::new(),
            looked_up: HashMap::new(),
            windows: HashMap::new(),
            opened: Vec::new(),
            told: VecDeque::new(),
            troubled: false,
        }
    }

    /// Goes on as long as the guard.
    pub(crate) async fn carry(mut self, mut told: mpsc::Receiver<Told>) {
        let mut tick = tokio::time::interval(TICK);
        tick.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
        loop {
            let mut some = Vec::new();
            tokio::select! {
                count = told.recv_many(&mut some, LOOKED_UP) => if count == 0 { return },
                _ = tick.tick() => {}
            }
            self.round(some).await;
        }
    }

    async fn round(&mut self, told: Vec<Told>) {
        for each in told {
            match each {
                Told::Listens(device) => drop(self.listening.insert(device)),
                // What finds no room is told again: its errand is handed over anew.
                Told::Answer { .. } if self.told.len() >= MOST_ANSWERS => {}
                // What finds no room is opened again by whoever holds the button.
                Told::Window(device, window) => {
                    if self.windows.len() < MOST_WINDOWS || self.windows.contains_key(&device) {
                        self.windows.insert(device, window);
                    }
                }
                Told::Answer { by, device, text, by_token } => self.told.push_back((by, device, text, by_token)),
            }
        }
        // Nothing goes out by a store that is in doubt; whoever listens or answers meanwhile waits.
        let result = match self.shared.knowledge.doubt() {
            Some(_) => Ok(()),
            None => self.look().await,
        };
        match result.and(self.write().await) {
            Ok(()) => self.troubled = false,
            Err(error) => {
                if !std::mem::replace(&mut self.troubled, true) {
                    let what = format!("errands are not carried: {error}; it is tried again");
                    self.shared.emit(Event::Trouble { what });
                }
            }
        }
    }

    async fn look(&mut self) -> Result<(), StoreError> {
        let now = Instant::now();
        self.asked.retain(|_, at| now.duration_since(*at) < ASK_AGAIN);
        self.looked_up.retain(|_, at| now.duration_since(*at) < LOOK_UP_AGAIN);
        for (by, _, text, _) in &self.told {
            // Who answers what is not known here may have been handed it elsewhere, or before this guard began.
            let is_known = number_of(text).is_ok_and(|number| self.pending.contains_key(&number));
            if !is_known && !self.asked.contains_key(by) {
                self.asked.insert(by.clone(), now);
                self.listening.insert(by.clone());
            }
        }
        // Whoever subscribes again and again is looked up once in a while.
        let ready = self.listening.iter().filter(|receiver| !self.looked_up.contains_key(*receiver));
        let receivers: Vec<DeviceId> = ready.take(LOOKED_UP).cloned().collect();
        if !receivers.is_empty() {
            let time = self.shared.knowledge.now();
            let found = self.shared.knowledge.open_errands(receivers.clone(), time, OF_RECEIVER).await?;
            for (receiver, records) in receivers.into_iter().zip(found) {
                self.listening.remove(&receiver);
                records.into_iter().for_each(|record| self.take(record, &receiver, now));
                self.looked_up.insert(receiver, now);
            }
        }
        for (by, device, text, by_token) in std::mem::take(&mut self.told) {
            self.answered(by, &device, text, by_token);
        }
        self.open_windows().await;
        self.new_ones(now).await?;
        self.hand_over(now).await
    }

    /// Makes the digests of some windows, which takes milliseconds each, beside everything else.
    async fn open_windows(&mut self) {
        let some: Vec<DeviceId> = self.windows.keys().take(WINDOWS_AT_ONCE).cloned().collect();
        if some.is_empty() || self.opened.len() >= MOST_WINDOWS {
            return;
        }
        let windows: Vec<_> = some.into_iter().filter_map(|id| self.windows.remove_entry(&id)).collect();
        let now = self.shared.knowledge.now();
        let made = tokio::task::spawn_blocking(move || {
            let digest = |(device, window): &(DeviceId, Window)| {
                let mut salt = [0; 16];
                // Without randomness nothing is opened.
                aws_lc_rs::rand::fill(&mut salt).ok()?;
                Some(window.opened(device, salt, now))
            };
            windows.iter().filter_map(digest).collect::<Vec<_>>()
        });
        let made = made.await.unwrap_or_default();
        for claim in &made {
            self.shared.emit(Event::ClaimWindow { device: claim.device.to_string(), ends: claim.ends.to_string() });
        }
        self.opened.extend(made);
    }

    /// Puts an errand on the list, to be handed over at once; again, if its receiver has just begun to listen.
    fn take(&mut self, record: ErrandRecord, receiver: &DeviceId, now: Instant) {
        let (number, receiver) = (record.errand.number, receiver.clone());
        let known = self.pending.get(&number);
        // Who listens itself needs no gateway for it.
        if known.is_some_and(|known| known.receiver != receiver && known.receiver == record.errand.device)
            && self.shared.registry.listening().contains(&record.errand.device)
        {
            return;
        }
        let tries = known.map_or(0, |known| known.tries);
        self.pending.insert(number, Pending { record, receiver, tries, due: now });
    }

    /// Looks for errands that were sent since.
    async fn new_ones(&mut self, now: Instant) -> Result<(), StoreError> {
        let head = self.shared.knowledge.seen().number;
        let Some((at, number)) = self.seen_at else {
            self.seen_at = Some((head, self.shared.knowledge.last_errand().await?));
            return Ok(());
        };
        if at == head {
            return Ok(());
        }
        let found = self.shared.knowledge.errands_after(number, NEW).await?;
        let full = found.len() == NEW;
        let last = match found.last() {
            Some((record, _)) => record.errand.number,
            // A store that was put back has fewer than there were.
            None => self.shared.knowledge.last_errand().await?.min(number),
        };
        let listens = if found.is_empty() { HashSet::new() } else { self.shared.registry.listening() };
        for (record, gateway) in found {
            let own = Some(record.errand.device.clone());
            let receiver = [own, gateway].into_iter().flatten().find(|receiver| listens.contains(receiver));
            if let Some(receiver) = receiver {
                self.take(record, &receiver, now);
            }
        }
        // Where more came than were read, the rest is read with the next look.
        self.seen_at = Some((if full { at } else { head }, last));
        Ok(())
    }

    /// Hands over what is due, to sessions that listen. What nobody here listens for any more is looked for when somebody does.
    async fn hand_over(&mut self, now: Instant) -> Result<(), StoreError> {
        let mut due: Vec<i64> =
            self.pending.iter().filter(|(_, each)| each.due <= now).map(|(number, _)| *number).collect();
        due.sort_unstable();
        due.truncate(NEW);
        let again: Vec<i64> = due.iter().copied().filter(|number| self.pending[number].tries > 0).collect();
        if !again.is_empty() {
            // Somebody may have answered elsewhere.
            for (number, is_open) in self.shared.knowledge.open_of(again).await? {
                if !is_open {
                    self.pending.remove(&number);
                }
            }
        }
        let time = self.shared.knowledge.now();
        for number in due {
            let Some(pending) = self.pending.get(&number) else { continue };
            if pending.record.errand.ends < time {
                self.pending.remove(&number);
                continue;
            }
            let (record, receiver) = (pending.record.clone(), pending.receiver.clone());
            let handed = self.handed(&record, &receiver).await?;
            let Some(pending) = self.pending.get_mut(&number) else { continue };
            let errand = &pending.record.errand;
            let Some(handed) = handed else {
                let what = format!(
                    "errand {number} for `{}` is signed with a key that is not the ward's any more",
                    errand.device
                );
                self.shared.emit(Event::Trouble { what });
                self.pending.remove(&number);
                continue;
            };
            if !self.shared.registry.hand(&pending.receiver, Arc::new(handed), errand.purpose.is_about_credentials()) {
                self.pending.remove(&number);
                continue;
            }
            pending.tries = pending.tries.saturating_add(1);
            pending.due = now + Duration::from_secs(u64::try_from(wait_after(pending.tries).seconds()).unwrap_or(60));
            self.handed.push((number, time));
            if pending.tries == 1 {
                let (device, to) = (errand.device.to_string(), pending.receiver.to_string());
                self.shared.emit(Event::ErrandHanded {
                    device,
                    errand: number,
                    purpose: errand.purpose.to_string(),
                    to,
                });
            }
        }
        Ok(())
    }

    /// An errand as it goes to a receiver; `None` if nobody knows who signed it.
    async fn handed(&mut self, record: &ErrandRecord, receiver: &DeviceId) -> Result<Option<Handed>, StoreError> {
        if !self.signers.contains_key(&record.signer) {
            let (urn, chains) = self.shared.knowledge.errand_signers().await?;
            self.urn = urn;
            self.signers = chains.into_iter().filter_map(|chain| Some((chain.first()?.fingerprint, chain))).collect();
        }
        let Some(chain) = self.signers.get(&record.signer) else { return Ok(None) };
        let chain: Vec<&Certificate> = chain.iter().collect();
        let Some(text) = whole(&record.errand, &self.urn, &chain, &record.signature) else { return Ok(None) };
        let reserved = &self.shared.live().settings.guard.reserved;
        Ok(Some(Handed {
            number: record.errand.number,
            topic: reserved.errand(receiver, &record.errand.device),
            answer_topic: reserved.answer(receiver, &record.errand.device),
            text,
            ends: record.errand.ends,
        }))
    }

    /// Notes an answer, if it is to something that is open, by whom it was asked of.
    fn answered(&mut self, by: DeviceId, device: &str, text: String, by_token: bool) {
        let pending = number_of(&text).map_err(|bad| bad.to_string()).and_then(|number| {
            // Whoever is neither the device nor the gateway that it was handed to says nothing for it.
            let is_its = |pending: &&Pending| {
                let of = &pending.record.errand.device;
                of.as_str() == device && (by == *of || by == pending.receiver)
            };
            let found = self.pending.get(&number).filter(is_its);
            found.ok_or_else(|| format!("errand {number} is not open, or not one of `{device}`"))
        });
        let why = match pending {
            Ok(pending) if by_token && pending.record.errand.purpose.is_about_credentials() => {
                "a session that a token opened says nothing of credentials".to_owned()
            }
            Ok(pending) if self.answers.len() < MOST_ANSWERS => {
                let (number, purpose) = (pending.record.errand.number, pending.record.errand.purpose.to_string());
                let at = self.shared.knowledge.now();
                self.shared.emit(Event::ErrandAnswered {
                    device: device.to_owned(),
                    errand: number,
                    purpose,
                    by: by.to_string(),
                });
                self.answers.push((number, Brought { at, by, text }));
                self.pending.remove(&number);
                return;
            }
            Ok(_) => "the store takes no answers now; the errand is handed over again".to_owned(),
            Err(why) => why,
        };
        self.shared.emit(Event::ErrandNotAnswered { device: by.to_string(), why });
    }

    /// Writes what was handed over and answered.
    async fn write(&mut self) -> Result<(), StoreError> {
        if !self.opened.is_empty() {
            let opened = std::mem::take(&mut self.opened);
            let written = self.shared.knowledge.note_windows(opened.clone()).await;
            written.inspect_err(|_| self.opened = opened)?;
        }
        if self.handed.is_empty() && self.answers.is_empty() {
            return Ok(());
        }
        let (handed, answers) = (std::mem::take(&mut self.handed), std::mem::take(&mut self.answers));
        let written = self.shared.knowledge.note_errands(handed, answers.clone()).await;
        // How often something was handed over is of less weight than an answer.
        written.inspect_err(|_| self.answers = answers)
    }
}
