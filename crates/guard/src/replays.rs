//! Tokens that were shown before: one that comes again from elsewhere, before it ended, is in two hands. What one guard saw, no other guard
//! knows, and none after it was started anew.

use std::collections::HashMap;
use std::sync::{Mutex, PoisonError};

use tidy_warden_core::id::DeviceId;
use tidy_warden_core::key::sha256;
use tidy_warden_core::time::UnixTime;
use tidy_warden_core::token::{TokenName, VerifiedToken};
use tidy_warden_serve::source::Source;

/// How many tokens of one device are remembered at once. Who makes a token for each connection, each good for an hour, has one for
/// every 14 seconds.
const MOST_OF_ONE: usize = 256;

/// How many are remembered in all, about 64 octets each; a limit on memory.
const MOST: usize = 1_000_000;

/// All that have ended are looked for at most so often while there is no room, in seconds: a look takes as long as there are many.
const BETWEEN_LOOKS: i64 = 10;

/// Why a token that is good opens nothing here.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub(crate) enum Replay {
    #[error("its token was shown before, from {0}, and has not ended since")]
    Elsewhere(Source),
    #[error("it has shown {MOST_OF_ONE} tokens that have not ended yet, and no more of one device are watched")]
    Share,
    #[error("this guard watches {MOST} tokens that have not ended yet, and no more")]
    Full,
}

/// A token that was shown.
#[derive(Debug, Clone, Copy)]
struct Seen {
    /// The first half of the digest of what names it.
    name: [u8; 16],
    from: Source,
    ends: UnixTime,
}

#[derive(Debug)]
struct Watched {
    of: HashMap<DeviceId, Vec<Seen>>,
    /// How many there are.
    count: usize,
    /// When all that had ended were forgotten last.
    looked: UnixTime,
}

impl Default for Watched {
    fn default() -> Self {
        Self { of: HashMap::new(), count: 0, looked: UnixTime(0) }
    }
}

/// The tokens that opened something here and have not ended.
#[derive(Debug, Default)]
pub(crate) struct Replays(Mutex<Watched>);

/// What names a token: its key and its `jti`, or what was signed, never its octets, which can be spelled in more than one way.
fn name(token: &VerifiedToken) -> [u8; 16] {
    let digest = match &token.name {
        TokenName::Id(jti) => sha256(&[token.kid.as_bytes(), &[0], jti.as_bytes()].concat()),
        TokenName::Digest(digest) => sha256(&[token.kid.as_bytes(), &[1], digest].concat()),
    };
    let mut first = [0; 16];
    first.copy_from_slice(&digest[..16]);
    first
}

impl Replays {
    /// Notes that a token is shown which is good in all else. One that is bound needs no watch: it opens nothing in another hand.
    ///
    /// # Errors
    /// It was shown from elsewhere before, or there is no room to remember it.
    pub(crate) fn note(&self, token: &VerifiedToken, from: Source, now: UnixTime) -> Result<(), Replay> {
        self.note_among(token, from, now, MOST)
    }

    fn note_among(&self, token: &VerifiedToken, from: Source, now: UnixTime, most: usize) -> Result<(), Replay> {
        if token.bound.is_some() {
            return Ok(());
        }
        let name = name(token);
        let mut guard = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let watched = &mut *guard;
        if let Some(own) = watched.of.get_mut(&token.device) {
            let before = own.len();
            own.retain(|seen| now < seen.ends);
            watched.count -= before - own.len();
            if let Some(seen) = own.iter().find(|seen| seen.name == name) {
                return if seen.from == from { Ok(()) } else { Err(Replay::Elsewhere(seen.from)) };
            }
            if own.len() >= MOST_OF_ONE {
                return Err(Replay::Share);
            }
        }
        if watched.count >= most {
            watched.forget(now);
        }
        if watched.count >= most {
            return Err(Replay::Full);
        }
        watched.of.entry(token.device.clone()).or_default().push(Seen { name, from, ends: token.ends });
        watched.count += 1;
        Ok(())
    }
}

impl Watched {
    /// Forgets all that have ended, now and then.
    fn forget(&mut self, now: UnixTime) {
        // A clock that was set back waits for nothing.
        if (self.looked.0..self.looked.0 + BETWEEN_LOOKS).contains(&now.0) {
            return;
        }
        self.looked = now;
        self.of.retain(|_, own| {
            own.retain(|seen| now < seen.ends);
            !own.is_empty()
        });
        self.count = self.of.values().map(Vec::len).sum();
    }
}

#[cfg(test)]
mod tests {
    use std::net::IpAddr;

    use tidy_warden_core::token::Bound;

    use super::*;

    fn token(device: &str, jti: Option<&str>, ends: i64) -> VerifiedToken {
        VerifiedToken {
            device: device.parse().unwrap(),
            kid: "k".into(),
            is_wards: false,
            issued_at: UnixTime(0),
            ends: UnixTime(ends),
            name: jti.map_or(TokenName::Digest([7; 32]), |jti| TokenName::Id(jti.into())),
            bound: None,
            scope: None,
        }
    }

    fn from(address: &str) -> Source {
        address.parse::<IpAddr>().unwrap().into()
    }

    #[test]
    fn a_token_from_elsewhere_is_refused_until_it_ended_and_from_the_same_place_it_is_not() {
        let (replays, here, there) = (Replays::default(), from("10.0.0.1"), from("10.0.1.1"));
        for jti in [Some("a"), None] {
            let token = token("tg-1", jti, 60);
            assert_eq!(replays.note(&token, here, UnixTime(1)), Ok(()));
            assert_eq!(replays.note(&token, from("10.0.0.77"), UnixTime(2)), Ok(()), "the same network");
            assert_eq!(replays.note(&token, there, UnixTime(3)), Err(Replay::Elsewhere(here)));
            assert_eq!(replays.note(&token, here, UnixTime(4)), Ok(()), "who had it first goes on");
        }
        // Nobody is refused for another's token of the same name, nor for one that was signed with another key.
        assert_eq!(replays.note(&token("tg-2", Some("a"), 60), there, UnixTime(5)), Ok(()));
        let other_key = VerifiedToken { kid: "l".into(), ..token("tg-1", Some("a"), 60) };
        assert_eq!(replays.note(&other_key, there, UnixTime(5)), Ok(()));
        assert_eq!(
            replays.note(&token("tg-1", Some("a"), 90), there, UnixTime(60)),
            Ok(()),
            "what had ended is forgotten"
        );
    }

    #[test]
    fn a_bound_token_needs_no_watch() {
        let replays = Replays::default();
        let bound = VerifiedToken { bound: Some(Bound::KeyName("k".into())), ..token("tg-1", Some("a"), 60) };
        assert_eq!(replays.note(&bound, from("10.0.0.1"), UnixTime(1)), Ok(()));
        assert_eq!(replays.note(&bound, from("10.0.1.1"), UnixTime(1)), Ok(()));
        assert_eq!(replays.0.lock().unwrap().count, 0);
    }

    #[test]
    fn who_has_shown_too_many_is_refused_and_nobody_else() {
        let (replays, here) = (Replays::default(), from("10.0.0.1"));
        let jti = |n: usize| token("tg-1", Some(&n.to_string()), 60 + i64::try_from(n).unwrap());
        for n in 0..MOST_OF_ONE {
            assert_eq!(replays.note(&jti(n), here, UnixTime(1)), Ok(()));
        }
        assert_eq!(replays.note(&jti(MOST_OF_ONE), here, UnixTime(1)), Err(Replay::Share));
        assert_eq!(replays.note(&jti(3), here, UnixTime(1)), Ok(()), "one that is known goes on");
        assert_eq!(replays.note(&token("tg-2", Some("a"), 60), here, UnixTime(1)), Ok(()));
        assert_eq!(replays.note(&jti(MOST_OF_ONE), here, UnixTime(60)), Ok(()), "the first has ended");
    }

    #[test]
    fn without_room_new_ones_are_refused_until_some_have_ended() {
        let (replays, here) = (Replays::default(), from("10.0.0.1"));
        let note =
            |device: &str, ends, now| replays.note_among(&token(device, Some("a"), ends), here, UnixTime(now), 2);
        assert_eq!(note("tg-1", 60, 1), Ok(()));
        assert_eq!(note("tg-2", 90, 1), Ok(()));
        assert_eq!(note("tg-3", 90, 30), Err(Replay::Full));
        assert_eq!(note("tg-1", 60, 31), Ok(()), "one that is known goes on");
        assert_eq!(note("tg-3", 90, 61), Ok(()), "tg-1's has ended");
        assert_eq!(note("tg-4", 120, 65), Err(Replay::Full), "it is not looked for at each one");
        assert_eq!(note("tg-4", 120, 20), Err(Replay::Full), "a clock that was set back");
        assert_eq!(replays.0.lock().unwrap().count, 2);
        assert_eq!(note("tg-4", 120, 95), Ok(()));
        assert_eq!(replays.0.lock().unwrap().count, 1, "and what ended is gone");
    }
}
