//! The follower: asks the store for what is new, and makes the sessions concerned look again.

use std::collections::HashSet;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Duration;

use tidy_warden_core::id::DeviceId;
use tidy_warden_core::time::UnixTime;
use tidy_warden_serve::seen::Follows;
use tidy_warden_store::{Changes, StoreError};
use tokio::time::Instant;

use crate::Event;
use crate::identity::Credential;
use crate::registry::Concerned;
use crate::shared::{Shared, Versions};

/// How often the store is asked for what is new if it does not say by itself, and how often at most.
const FOLLOW: Duration = Duration::from_millis(100);
const LEAST: Duration = Duration::from_millis(20);

/// How many sessions are looked up at once when their devices changed.
const LOOKED_UP: usize = 256;

/// How often sessions that must end for want of a store are told so.
const TELL_AGAIN: Duration = Duration::from_secs(1);

/// How far the follower has come.
pub(crate) struct Position {
    /// Up to which change number everything was dealt with, in the store as it is.
    pub(crate) change: i64,
    /// The policies that were taken last.
    pub(crate) versions: Versions,
    /// The change number at which keys that sign tokens, or what is blocked of nobody knows whom, changed last.
    pub(crate) tokens: i64,
    /// Whether the store was found to be older than what was seen of it.
    pub(crate) behind: bool,
}

/// Asks the store for what is new, and makes the sessions concerned look again.
pub(crate) struct Follower {
    shared: Arc<Shared>,
    at: Position,
    /// Whether the store did not answer the last time.
    troubled: bool,
    /// Whether everybody is to be looked at, because nobody knows who is concerned.
    everybody: bool,
}

impl Follower {
    pub(crate) fn new(shared: Arc<Shared>, at: Position) -> Self {
        let everybody = at.behind;
        Self { shared, at, troubled: false, everybody }
    }

    /// Goes on as long as the guard.
    pub(crate) async fn follow(mut self) {
        let shared = self.shared.clone();
        let follow = async {
            loop {
                tokio::time::sleep(LEAST).await;
                self.shared.knowledge.wait(FOLLOW - LEAST).await;
                self.round().await;
            }
        };
        tokio::join!(follow, watch_silence(shared));
    }

    /// Deals with all that is new.
    pub(crate) async fn round(&mut self) {
        let shared = self.shared.clone();
        let now = shared.knowledge.now();
        let Some(mut changes) = self.ask(now).await else { return };
        match shared.knowledge.compare(&changes) {
            Follows::On => {
                if std::mem::replace(&mut self.at.behind, false) {
                    self.another_store("the store is the one that was seen before");
                }
            }
            Follows::Accepted => {
                self.another_store("the older store was accepted; devices may connect");
                self.at.behind = false;
            }
            Follows::Behind(what) => {
                if !std::mem::replace(&mut self.at.behind, true) {
                    let what = format!(
                        "ALARM: the store is older than what was seen of it: {what}; revocations may be missing. Nobody new \
                         may connect until a person says `store accept`"
                    );
                    shared.emit(Event::Trouble { what: shared.without_store(&what) });
                    self.everybody = true;
                    self.at.change = 0;
                }
                // What changes in the older store still counts against those who are there.
                match shared.knowledge.changed_since(self.at.change).await {
                    Ok(since) => changes = since,
                    Err(_) => return,
                }
            }
        }
        shared.metrics.store_answers.set(i64::from(!self.at.behind));
        let everybody = self.everybody || std::mem::replace(&mut self.at.tokens, changes.tokens) != changes.tokens;
        let changed: Option<HashSet<DeviceId>> = match (everybody, changes.devices.take()) {
            (false, Some(devices)) => Some(devices.into_iter().collect()),
            _ => None,
        };
        let forgotten = shared.knowledge.forget(changed.as_ref(), changes.to);
        self.at.change = changes.to;
        self.everybody = false;
        // The policies and authorities of a store that is behind are those of yesterday; what is known from today stays.
        let anew = !self.at.behind && self.take_policies(&changes, now).await;
        if !self.at.behind {
            let news = |known: &mut u32| std::mem::replace(known, changes.settings) != changes.settings;
            shared.adopted.send_if_modified(news);
            let servers = changes.shown();
            let news = |known: &mut i64| std::mem::replace(known, servers) != servers;
            shared.servers.send_if_modified(news);
        }
        look_up(&shared, now, changed.as_ref()).await;
        if !self.at.behind && changed.as_ref().is_none_or(|changed| !changed.is_empty()) {
            shared.clear_broker.store(true, Ordering::Relaxed);
        }
        if anew {
            shared.registry.recheck_all();
        }
        if !forgotten.is_empty() {
            shared.knowledge.remember(forgotten, &shared.live().settings).await;
        }
    }

    /// What is new; `None` if the store does not say.
    async fn ask(&mut self, now: UnixTime) -> Option<Changes> {
        let shared = self.shared.clone();
        let seen = shared.knowledge.seen();
        // A store that is behind is compared with what was seen of it each time: it may be put right by putting back the other.
        let mut answer = shared.knowledge.changed_since(seen.number).await;
        if matches!(answer, Err(StoreError::Replaced { .. } | StoreError::Absent { .. } | StoreError::Damaged { .. }))
            && shared.knowledge.reopen().await.is_ok()
        {
            self.another_store("the store was replaced, and is opened anew");
            answer = shared.knowledge.changed_since(seen.number).await;
        }
        match answer {
            Ok(changes) => {
                if std::mem::replace(&mut self.troubled, false) {
                    shared.emit(Event::Trouble { what: "the store answers again".to_owned() });
                    self.everybody = true;
                }
                Some(changes)
            }
            Err(error) => {
                shared.metrics.store_answers.set(0);
                if !std::mem::replace(&mut self.troubled, true) {
                    let what = match error {
                        StoreError::Moved { .. } => format!(
                            "{error}. Nobody new may connect here until this guard is started with the ward's new place"
                        ),
                        _ => format!("the store does not answer: {error}"),
                    };
                    shared.emit(Event::Trouble { what: shared.without_store(&what) });
                }
                // Sessions whose credential ended find that out by themselves.
                shared.registry.wake_ended(now);
                None
            }
        }
    }

    /// Goes on with a store whose numbers may be smaller than those of the one before: all that it says counts, for everybody.
    fn another_store(&mut self, what: &str) {
        self.shared.emit(Event::Trouble { what: what.to_owned() });
        self.shared.forget_store();
        self.at.versions = Versions::default();
        self.everybody = true;
    }

    /// Takes keys, authorities and policies that are new; says whether everybody must look at what policies give.
    async fn take_policies(&mut self, changes: &Changes, now: UnixTime) -> bool {
        let shared = &self.shared;
        take_bound(shared).await;
        take_trust(shared, changes.authorities).await;
        take_signers(shared, changes.tokens).await;
        // A session that was quicker may have taken the new policies already; then the others must hear of them still.
        let versions = Versions::from(changes);
        let taken = shared.take(versions).await;
        let mut anew = versions != self.at.versions || matches!(taken, Ok(true));
        match taken {
            Err(error) if anew => shared.emit(Event::Trouble { what: error.to_string() }),
            Ok(_) if versions.edition != self.at.versions.edition => {
                shared.emit(Event::Edition { number: versions.edition });
            }
            _ => {}
        }
        self.at.versions = versions;
        shared.metrics.edition.set(i64::from(versions.edition));
        if shared.trial_is_over(now) {
            shared.end_trial();
            anew = true;
        }
        anew
    }
}

/// Takes the keys that were bound since.
async fn take_bound(shared: &Shared) {
    let before = shared.trust.now();
    match shared.knowledge.bound(before.clone()).await {
        Ok(None) => {}
        Ok(Some(trust)) => drop(shared.trust.replace(&before, trust)),
        Err(error) => shared.emit(Event::Trouble { what: format!("the bound keys cannot be read: {error}") }),
    }
}

/// Takes other keys that sign tokens, if there are any. Sessions that they opened are looked at.
pub(crate) async fn take_signers(shared: &Shared, tokens: i64) {
    let own = shared.live().own_key.clone();
    if let Err(error) = shared.knowledge.take_signers(own, tokens).await {
        shared.emit(Event::Trouble { what: format!("the keys for tokens cannot be read: {error}") });
    }
}

/// Takes other authorities, if there are any. Sessions whose authority is gone look again.
pub(crate) async fn take_trust(shared: &Shared, authorities: i64) {
    let before = shared.trust.now();
    if before.authorities >= authorities {
        return;
    }
    match shared.knowledge.trust(before.clone(), authorities).await {
        Ok(trust) => {
            if shared.trust.replace(&before, trust) {
                shared.emit(Event::Authorities);
                shared.registry.recheck_all();
            }
        }
        // Tried again in a moment, for what is missing still differs.
        Err(error) => shared.emit(Event::Trouble { what: format!("the authorities cannot be read: {error}") }),
    }
}

/// Looks whether the store has been silent for too long, also while the follower waits for an answer that will not come.
async fn watch_silence(shared: Arc<Shared>) {
    let mut told = None;
    loop {
        tokio::time::sleep(FOLLOW).await;
        end_exhausted(&shared, &mut told);
    }
}

/// Makes sessions end that went on without a store for as long as they may.
pub(crate) fn end_exhausted(shared: &Shared, told: &mut Option<Instant>) {
    let settings = shared.live().settings.clone();
    if shared.knowledge.exhausted(&settings).is_none() || told.is_some_and(|told| told.elapsed() < TELL_AGAIN) {
        return;
    }
    *told = Some(Instant::now());
    shared.registry.recheck_all();
}

/// Reads the credentials of all sessions whose devices changed, many at once, and hands each what it says; `None` stands for
/// all devices.
pub(crate) async fn look_up(shared: &Arc<Shared>, now: UnixTime, changed: Option<&HashSet<DeviceId>>) {
    let concerned = shared.registry.concerned(now, |device| changed.is_none_or(|changed| changed.contains(device)));
    let settings = shared.live().settings.clone();
    for some in concerned.chunks(LOOKED_UP) {
        let credentials: Vec<Credential> = some.iter().map(|each| each.credential.clone()).collect();
        match shared.knowledge.admit_many(credentials, settings.clone()).await {
            Ok(verdicts) => some.iter().zip(verdicts).for_each(|(each, verdict)| each.tell(verdict)),
            // A change that was not looked at must not be lost.
            Err(_) => some.iter().for_each(Concerned::owed),
        }
    }
}
