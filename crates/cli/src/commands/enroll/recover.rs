//! What became of certificates that were about to be signed when a process ended, in words.

use tidy_warden_ward::issue::intended::{self, Recovered};

use crate::console::Console;
use crate::problem::Problem;
use crate::ward::Ward;

/// Ends what was intended by processes that are gone, and tells of it.
pub(crate) fn recover(ward: &mut Ward, console: &Console) -> Result<(), Problem> {
    intended::recover(ward, &mut |recovered| match recovered {
        Recovered::Finished { device, place } => {
            console.note(format!("an interrupted enroll of {device} was finished: {}", place.display()));
        }
        Recovered::Waits { device, beside, place } => console.warn(format!(
            "the outfit of {device} waits in {}, because {} exists already; move that away",
            beside.display(),
            place.display()
        )),
        Recovered::Revoked { lost, removed } => {
            let removed = removed.map(|path| format!("; {} was removed", path.display())).unwrap_or_default();
            console.note(format!(
                "an enroll of {} ended before its certificate {} was recorded: that is revoked now{removed}; publish \
                 the new list with: crl --authority {} --out FILE",
                lost.device, lost.serial, lost.authority
            ));
        }
    })
}
