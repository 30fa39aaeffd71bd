//! Notices: they are made, taken by whoever sends them, and end.

use tidy_warden_core::notice::{MAX_BODY, MOST_WAITING, NoticeRecord, TRIED_FOR, wait_after};
use tidy_warden_core::time::{Span, UnixTime};

use crate::{StoreError, Tx};

/// How long whoever took a notice has to send it; then another may.
const TAKEN_FOR: Span = Span::from_seconds(120);

/// Has a web service told; says whether there was room.
pub fn put(tx: &mut dyn Tx, id: String, body: String, now: UnixTime) -> Result<bool, StoreError> {
    if body.len() > MAX_BODY || tx.count_waiting_notices()? >= MOST_WAITING {
        return Ok(false);
    }
    tx.put_notice(&NoticeRecord { number: 0, id, at: now, body, tries: 0, due: Some(now), taken: None, failed: None })?;
    Ok(true)
}

/// Takes the next that is to be sent now: nobody else sends it for two minutes.
pub fn take(tx: &mut dyn Tx, now: UnixTime) -> Result<Option<NoticeRecord>, StoreError> {
    let Some(mut notice) = tx.due_notices(now, 1)?.pop() else { return Ok(None) };
    notice.tries = notice.tries.saturating_add(1);
    notice.due = Some(now.plus(TAKEN_FOR));
    tx.put_notice(&notice)?;
    Ok(Some(notice))
}

/// What became of one that was sent.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Sent {
    /// It was taken.
    Taken,
    /// It was not, and is sent again.
    Again(String),
    /// It was not, and sending it again is of no use.
    Never(String),
}

/// Notes what became of a notice that was taken to be sent, unless somebody else took it since.
pub fn settle(tx: &mut dyn Tx, notice: &NoticeRecord, sent: &Sent, now: UnixTime) -> Result<(), StoreError> {
    if tx.notices(notice.number.saturating_add(1), 1)?.first() != Some(notice) {
        return Ok(());
    }
    let is_over = now.since(notice.at) > TRIED_FOR.seconds();
    let after = match sent {
        Sent::Taken => NoticeRecord { due: None, taken: Some(now), failed: None, ..notice.clone() },
        Sent::Again(why) if !is_over => {
            let due = Some(now.plus(wait_after(notice.tries)));
            NoticeRecord { due, failed: Some(why.clone()), ..notice.clone() }
        }
        Sent::Again(why) | Sent::Never(why) => NoticeRecord { due: None, failed: Some(why.clone()), ..notice.clone() },
    };
    tx.put_notice(&after)
}
