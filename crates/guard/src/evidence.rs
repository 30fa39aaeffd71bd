//! What reflexes may act on, as this guard noticed it: put together by device, kind and network until it is written.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};

use tidy_warden_core::id::DeviceId;
use tidy_warden_core::reflex::{Evidence, Noticed};
use tidy_warden_core::time::UnixTime;
use tidy_warden_serve::source::Source;

/// How many kinds of things wait to be written; a limit on memory. What finds no room is left out.
const MOST: usize = 5_000;

/// How many pieces are written at once: whoever is refused most often goes first.
const AT_ONCE: usize = 200;

/// Fewer refusals than this between two times of writing are not worth a piece.
const FEWEST_REFUSALS: u32 = 5;

type Of = (DeviceId, Noticed, Source);

/// One kind of thing that was noticed.
#[derive(Debug)]
struct Noted {
    at: UnixTime,
    count: u32,
    is_proved: bool,
    text: String,
}

/// What waits to be written.
#[derive(Debug, Default)]
pub(crate) struct EvidenceBook(Mutex<HashMap<Of, Noted>>);

impl EvidenceBook {
    fn lock(&self) -> std::sync::MutexGuard<'_, HashMap<Of, Noted>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn note(&self, of: Of, at: UnixTime, is_proved: bool, text: &str) {
        let mut all = self.lock();
        if all.len() >= MOST && !all.contains_key(&of) {
            return;
        }
        let noted = all.entry(of).or_insert_with(|| Noted { at, count: 0, is_proved, text: text.to_owned() });
        noted.count = noted.count.saturating_add(1);
        noted.at = at;
        // What was proved in part counts as far as it was: not at all.
        noted.is_proved &= is_proved;
    }

    /// Takes what is to be written. Refusals that are too few stay, and are counted on.
    pub(crate) fn take(&self) -> Vec<Evidence> {
        let mut all = self.lock();
        let mut ready: Vec<(Of, u32)> = all
            .iter()
            .filter(|((_, what, _), noted)| *what != Noticed::Refusals || noted.count >= FEWEST_REFUSALS)
            .map(|(of, noted)| (of.clone(), noted.count))
            .collect();
        ready.sort_by_key(|((_, what, _), count)| (*what == Noticed::Refusals, std::cmp::Reverse(*count)));
        ready.truncate(AT_ONCE);
        let taken = ready.into_iter().filter_map(|(of, _)| all.remove_entry(&of));
        taken
            .map(|((device, what, source), noted)| {
                let Noted { at, count, is_proved, text } = noted;
                Evidence { device, at, what, count, source: source.to_string(), is_proved, text }
            })
            .collect()
    }
}

/// One session's way to the book, or that of a connection.
#[derive(Debug, Clone)]
pub(crate) struct Notices {
    pub(crate) book: Arc<EvidenceBook>,
    pub(crate) device: DeviceId,
    pub(crate) source: Source,
    /// Whether it was opened with the device's certificate: a token is a string that others may have.
    pub(crate) is_proved: bool,
}

impl Notices {
    pub(crate) fn note(&self, what: Noticed, at: UnixTime, text: &str) {
        self.book.note((self.device.clone(), what, self.source), at, self.is_proved, text);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn notices(book: &Arc<EvidenceBook>, device: &str, is_proved: bool) -> Notices {
        let source = Source::from("192.0.2.7".parse::<std::net::IpAddr>().unwrap());
        Notices { book: book.clone(), device: device.parse().unwrap(), source, is_proved }
    }

    #[test]
    fn what_is_alike_is_one_piece_and_a_token_proves_nothing() {
        let book = Arc::new(EvidenceBook::default());
        let (own, token) = (notices(&book, "wv-1", true), notices(&book, "wv-2", false));
        (0..4).for_each(|at| own.note(Noticed::Refusals, UnixTime(at), "publish a"));
        assert_eq!(book.take(), [], "too few");
        own.note(Noticed::Refusals, UnixTime(9), "publish b");
        own.note(Noticed::CloneSign, UnixTime(9), "two places");
        (0..7).for_each(|at| token.note(Noticed::Refusals, UnixTime(at), "publish c"));
        let all = book.take();
        let told: Vec<_> =
            all.iter().map(|each| (each.device.as_str(), each.what, each.count, each.is_proved)).collect();
        assert_eq!(
            told,
            [
                ("wv-1", Noticed::CloneSign, 1, true),
                ("wv-2", Noticed::Refusals, 7, false),
                ("wv-1", Noticed::Refusals, 5, true),
            ]
        );
        assert_eq!((all[2].at, all[2].source.as_str()), (UnixTime(9), "192.0.2.0/24"));
        assert_eq!(book.take(), []);
        // Of one device from one network, what a token did takes away what was proved beside it.
        (0..5).for_each(|at| own.note(Noticed::Refusals, UnixTime(at), "publish"));
        notices(&book, "wv-1", false).note(Noticed::Refusals, UnixTime(5), "publish");
        assert!(!book.take()[0].is_proved);
        // However many there are, the memory has a bound.
        for number in 0..MOST + 10 {
            notices(&book, &format!("wv-{number}"), true).note(Noticed::UnknownChild, UnixTime(1), "cb-1");
        }
        let mut count = 0;
        loop {
            let some = book.take();
            assert!(some.len() <= AT_ONCE);
            if some.is_empty() {
                break;
            }
            count += some.len();
        }
        assert_eq!(count, MOST);
    }
}
