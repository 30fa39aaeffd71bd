//! Hears what is new in the store: authorities, revocations, and that it is another store than was seen.

use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use tidy_warden_core::id::PostName;
use tidy_warden_core::time::UnixTime;
use tidy_warden_serve::own::EndWatch;
use tidy_warden_serve::seen::{self, Follows};
use tidy_warden_serve::trust::Trust;
use tidy_warden_store::{DeskReader, Feed, Head, OperatorStore, PostState, StoreError, Tally};
use tokio::sync::watch;

use crate::servers::LOOK;
use crate::state::{Desk, Reading};
use crate::{inbox, lists, servers};

/// How long a change may stay unheard of.
const WAIT: Duration = Duration::from_millis(500);

/// How often whoever cannot ask the store tries again, and how often that is told.
const AGAIN: Duration = Duration::from_secs(1);
const TELL_AGAIN: Duration = Duration::from_secs(60);

/// How often it says how it is, as a guard does.
const SAY: Duration = Duration::from_secs(5);

/// How often how far the record was seen is kept at most.
const KEEP_SEEN: Duration = Duration::from_secs(2);

/// What follows the store.
pub(crate) struct Follower {
    pub(crate) desk: Arc<Desk>,
    pub(crate) reader: DeskReader,
    pub(crate) lists: OperatorStore,
    /// Tells whoever can open keys and read policies that there is something new.
    pub(crate) wants: watch::Sender<Reading>,
    /// How far the record was seen.
    pub(crate) seen: seen::Head,
    /// Where that is kept.
    pub(crate) seen_file: Option<PathBuf>,
    /// When it was looked last whether a server needs another certificate.
    pub(crate) servers_seen: Option<Instant>,
    pub(crate) own: EndWatch,
    pub(crate) says: Says,
    pub(crate) stop: Arc<AtomicBool>,
}

/// What a desk says of itself, beside what changes.
pub(crate) struct Says {
    pub(crate) name: PostName,
    pub(crate) version: &'static str,
    pub(crate) address: String,
    pub(crate) since: UnixTime,
    /// When it did last.
    pub(crate) said: Option<Instant>,
}

impl Follower {
    /// Goes on until it is told to stop.
    pub(crate) fn follow(mut self) {
        let mut feed: Option<Box<dyn Feed>> = None;
        let mut told: Option<Instant> = None;
        let mut saved = Instant::now();
        let mut since = -1;
        while !self.stop.load(Ordering::Relaxed) {
            let heard = self.hear(&mut feed, since);
            match heard.and_then(|head| self.look(&head).map(|()| head)) {
                Ok(head) => {
                    since = head.number;
                    let is_behind = self.desk.is_behind.load(Ordering::Relaxed);
                    self.desk.metrics.store_answers.set(i64::from(!is_behind));
                    if told.take().is_some() {
                        self.desk.trouble("the store answers again");
                    }
                    if !is_behind && saved.elapsed() >= KEEP_SEEN {
                        saved = Instant::now();
                        self.save();
                    }
                }
                Err(error) => {
                    self.desk.metrics.store_answers.set(0);
                    if told.is_none_or(|told| told.elapsed() >= TELL_AGAIN) {
                        told = Some(Instant::now());
                        self.desk.trouble(format!("the store does not answer, and nobody is let in: {error}"));
                    }
                    feed = None;
                    // It may be another one by now, or there again.
                    let _ = self.reader.reopen();
                    std::thread::sleep(AGAIN);
                }
            }
        }
        self.save();
    }

    fn hear(&self, feed: &mut Option<Box<dyn Feed>>, since: i64) -> Result<Head, StoreError> {
        let mut open = match feed.take() {
            Some(open) => open,
            None => self.reader.feed()?,
        };
        let head = open.wait(since, WAIT)?;
        *feed = Some(open);
        match head.moved {
            Some(move_to) => Err(StoreError::Moved { move_to }),
            None => Ok(head),
        }
    }

    fn look(&mut self, head: &Head) -> Result<(), StoreError> {
        let desk = self.desk.clone();
        let follows = self.follows(head)?;
        let is_behind = matches!(follows, Follows::Behind(_));
        if desk.is_behind.swap(is_behind, Ordering::Relaxed) != is_behind {
            desk.trouble(match follows {
                Follows::Behind(what) => format!(
                    "ALARM: the store is older than what was seen of it: {what}; admissions that were used and revocations may be \
                     missing. Nobody is let in until a person says `store accept`"
                ),
                Follows::Accepted => "the older store was accepted; devices may come in".to_owned(),
                Follows::On => "the store is the one that was seen before".to_owned(),
            });
        }
        if is_behind {
            return Ok(());
        }
        self.seen = seen::Head { number: head.number, hash: head.hash };
        self.say(head)?;
        let trust = desk.trust.now();
        if trust.authorities != head.authorities {
            let next = self.reader.view(|view| Trust::read(view, head.authorities, &trust))?;
            desk.trust.set(next);
        }
        let live = desk.live();
        let now = Reading::from(head);
        if live.read != now {
            self.wants.send_if_modified(|wanted| std::mem::replace(wanted, now) != now);
        }
        if live.read.authorities == head.authorities {
            let took = lists::keep(&desk, &live, &mut self.lists);
            if self.servers_seen.is_none_or(|seen| seen.elapsed() >= LOOK) {
                servers::keep(&desk, &live, &mut self.lists)?;
                inbox::keep(&desk, &live, &self.reader)?;
                self.servers_seen = Some(Instant::now());
            }
            // A list of a million takes its time; it is not signed without end while a fleet is revoked.
            std::thread::sleep(took * 2);
        }
        if let Some(ends) = live.own_ends
            && let Some(what) = self.own.look("desk", ends, desk.now())
        {
            desk.trouble(what);
        }
        Ok(())
    }

    /// Says how it is, now and then, for whoever lists guards and desks.
    fn say(&mut self, head: &Head) -> Result<(), StoreError> {
        if self.says.said.is_some_and(|said| said.elapsed() < SAY) {
            return Ok(());
        }
        self.says.said = Some(Instant::now());
        let Says { name, version, address, since, .. } = &self.says;
        let state = PostState {
            name: name.clone(),
            version: (*version).to_owned(),
            address: address.clone(),
            edition: head.edition,
            change: head.number,
            sessions: u64::try_from(self.desk.metrics.connections.get()).unwrap_or(0),
            since: *since,
            seen: self.desk.now(),
        };
        self.lists.tally(&Tally::Post(&state))
    }

    /// How the store's record stands to what was seen of it.
    fn follows(&self, head: &Head) -> Result<Follows, StoreError> {
        let seen = self.seen;
        let there = match head.number == seen.number {
            true => Some(head.hash),
            false => self.reader.entry_hash(seen.number)?,
        };
        Ok(seen.followed_by(head.number, there, head.given_up))
    }

    fn save(&self) {
        if let Some(path) = &self.seen_file
            && self.seen.number > 0
            && let Err(error) = self.seen.save(path)
        {
            self.desk
                .trouble(format!("{}, where the desk keeps how far it has seen the record: {error}", path.display()));
        }
    }
}
