//! What reflexes may act on, as this guard noticed it: put together by device, kind and network until it is written.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use tidy_warden_core::id::DeviceId;
use tidy_warden_core::reflex::{Evidence, Noticed};
use tidy_warden_core::time::UnixTime;
use tidy_warden_serve::source::Source;

/// How many kinds of things wait to be written; a limit on memory. What finds no room is left out.
const MOST: usize = 5_000;

/// How many pieces are written at once: whoever is refused most often goes first.
const AT_ONCE: usize = 50;

/// How long refusals of somebody are put together once some were written.
const SELDOM: Duration = Duration::from_secs(30);

/// Fewer refusals than this between two times of writing are not worth a piece.
const FEWEST_REFUSALS: u32 = 5;

/// What is put together: what was proved and what was not are never one.
type Of = (DeviceId, Noticed, Source, bool);

/// One kind of thing that was noticed.
#[derive(Debug)]
struct Noted {
    at: UnixTime,
    count: u32,
    text: String,
}

/// What waits to be written.
#[derive(Debug, Default)]
pub(crate) struct EvidenceBook(Mutex<Book>);

#[derive(Debug, Default)]
struct Book {
    all: HashMap<Of, Noted>,
    /// When refusals of somebody were written last.
    written: HashMap<Of, Instant>,
}

impl EvidenceBook {
    fn lock(&self) -> std::sync::MutexGuard<'_, Book> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn note(&self, of: Of, at: UnixTime, text: &str) {
        let all = &mut self.lock().all;
        if all.len() >= MOST && !all.contains_key(&of) {
            return;
        }
        let noted = all.entry(of).or_insert_with(|| Noted { at, count: 0, text: text.to_owned() });
        noted.count = noted.count.saturating_add(1);
        noted.at = at;
    }

    /// Takes what is to be written. Refusals that are too few stay and are counted on, and so do those of somebody of whom some were
    /// written a short while ago.
    pub(crate) fn take(&self, now: Instant) -> Vec<Evidence> {
        let Book { all, written } = &mut *self.lock();
        written.retain(|_, at| now.saturating_duration_since(*at) < SELDOM);
        let is_ready = |of: &Of, noted: &Noted| {
            of.1 != Noticed::Refusals || noted.count >= FEWEST_REFUSALS && !written.contains_key(of)
        };
        let ready = all.iter().filter(|(of, noted)| is_ready(of, noted));
        let mut ready: Vec<(Of, u32)> = ready.map(|(of, noted)| (of.clone(), noted.count)).collect();
        ready.sort_by_key(|(of, count)| (of.1 == Noticed::Refusals, std::cmp::Reverse(*count)));
        ready.truncate(AT_ONCE);
        let refusals = ready.iter().filter(|(of, _)| of.1 == Noticed::Refusals);
        written.extend(refusals.map(|(of, _)| (of.clone(), now)));
        let taken = ready.into_iter().filter_map(|(of, _)| all.remove_entry(&of));
        taken
            .map(|((device, what, source, is_proved), noted)| {
                let Noted { at, count, text } = noted;
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
        self.book.note((self.device.clone(), what, self.source, self.is_proved), at, text);
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
        let now = Instant::now();
        assert_eq!(book.take(now), [], "too few");
        own.note(Noticed::Refusals, UnixTime(9), "publish b");
        own.note(Noticed::CloneSign, UnixTime(9), "two places");
        (0..7).for_each(|at| token.note(Noticed::Refusals, UnixTime(at), "publish c"));
        let all = book.take(now);
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
        assert_eq!(book.take(now), []);
        // What somebody with a token of it does beside takes nothing away from what was proved, and comes a while later.
        (0..5).for_each(|at| own.note(Noticed::Refusals, UnixTime(at), "publish"));
        (0..5).for_each(|at| notices(&book, "wv-1", false).note(Noticed::Refusals, UnixTime(at), "publish"));
        let proved = |all: &[Evidence]| all.iter().map(|each| (each.count, each.is_proved)).collect::<Vec<_>>();
        assert_eq!(proved(&book.take(now)), [(5, false)], "of the other some were written just now");
        assert_eq!(proved(&book.take(now + SELDOM)), [(5, true)]);
        // However many there are, the memory has a bound.
        for number in 0..MOST + 10 {
            notices(&book, &format!("wv-{number}"), true).note(Noticed::UnknownChild, UnixTime(1), "cb-1");
        }
        let mut count = 0;
        loop {
            let some = book.take(now + SELDOM);
            assert!(some.len() <= AT_ONCE);
            if some.is_empty() {
                break;
            }
            count += some.len();
        }
        assert_eq!(count, MOST);
    }
}
