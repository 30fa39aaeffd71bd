//! Who works on a job: this process, told apart from every other that ever ran.

use std::path::Path;

use tidy_warden_core::time::{Span, UnixTime};
use tidy_warden_store::{Cause, JobRecord, JobRefusal, Lease};

use crate::open::Ward;
use crate::problem::Problem;

/// How long a job is nobody else's without a sign of life of whoever works on it. Each batch moves it on.
const LENGTH: Span = Span::from_seconds(60);

/// A process, as a lease names it: `pid NUMBER of HOST (TICKS)`, where the ticks say when it began.
fn named(host: &str, pid: u32, began: u64) -> String {
    format!("pid {pid} of {host} ({began})")
}

/// When a process began, in ticks since the system did; `None` if there is none of that number, or only what is left of one that ended
/// and that nobody asked for yet.
fn began(pid: u32) -> Option<u64> {
    began_by(&std::fs::read_to_string(Path::new("/proc").join(pid.to_string()).join("stat")).ok()?)
}

/// The same, from `/proc/PID/stat`: its third field is the state, its 22nd the beginning (proc_pid_stat(5)).
fn began_by(stat: &str) -> Option<u64> {
    // The second field is the program's name in parentheses, which may hold anything.
    let mut rest = stat.rsplit_once(')')?.1.split_whitespace();
    let is_over = matches!(rest.next()?, "Z" | "X" | "x");
    rest.nth(18)?.parse().ok().filter(|_| !is_over)
}

fn host() -> String {
    rustix::system::uname().nodename().to_string_lossy().into_owned()
}

/// This process.
#[must_use]
pub fn holder() -> String {
    let pid = std::process::id();
    named(&host(), pid, began(pid).unwrap_or(0))
}

/// A lease of this process from `now` on.
#[must_use]
pub fn from(now: UnixTime) -> Lease {
    Lease { holder: holder(), until: now.plus(LENGTH) }
}

/// Whether a holder is a process of this machine that is gone. Of other machines nobody knows.
#[must_use]
pub fn is_gone(holder: &str) -> bool {
    let parts = || {
        let (pid, rest) = holder.strip_prefix("pid ")?.split_once(" of ")?;
        let (host, ticks) = rest.strip_suffix(')')?.rsplit_once(" (")?;
        Some((pid.parse::<u32>().ok()?, host, ticks.parse::<u64>().ok()?))
    };
    // Where not even this process is to be seen, nobody can be known to be gone.
    let sees = began(std::process::id()).is_some();
    sees && parts().is_some_and(|(pid, on, ticks)| on == host() && began(pid) != Some(ticks))
}

/// Takes a job that has not ended: this process works on it from now on. Whoever goes on acts, for the reason that was given first.
///
/// # Errors
/// There is none of that number, or another process works on it.
pub fn take(ward: &mut Ward, number: u32) -> Result<(JobRecord, Cause), Problem> {
    let now = ward.cause(None);
    let job = ward.store.take_job(number, &from(now.at), &is_gone, &now)?.map_err(|why| refusal(&why))?;
    let cause = Cause { because: job.because.clone(), ..now };
    Ok((job, cause))
}

/// What a job keeps of itself cannot be read or written.
pub fn damaged(error: impl std::fmt::Display) -> Problem {
    Problem::failed("the job cannot be read").because(error)
}

/// A refusal to begin or take a job, with what to do about it.
#[must_use]
pub fn refusal(refusal: &JobRefusal) -> Problem {
    let (what, next) = match refusal {
        JobRefusal::Same { job } => ("it is being done already", format!("job show {job}, then job resume {job}")),
        JobRefusal::Another { .. } => {
            let next = "enroll --resume goes on with it; enroll --stop ends it where it stands";
            ("another bulk run is not finished", next.to_owned())
        }
        JobRefusal::Over { job } => {
            return Problem::not_found(format!("there is no job {job} to go on with")).next("job list");
        }
        JobRefusal::Held { .. } => ("somebody works on it", "wait until that is done, or stop that process".to_owned()),
        _ => ("nothing was begun", "job list shows what is not ended; end some: job stop NUMBER".to_owned()),
    };
    Problem::refused(what).because(refusal).next(next)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn who_is_gone_is_known_of_this_machine_alone() {
        let me = holder();
        assert!(!is_gone(&me), "{me}");
        let (host, pid) = (host(), std::process::id());
        assert!(is_gone(&named(&host, pid, 1)), "another process had this number before");
        assert!(is_gone(&named(&host, 4_000_000_000, 1)));
        let stat =
            |state| format!("7 (a ) b) {state} 1 7 7 0 -1 4194304 9 0 0 0 1 2 0 0 20 0 1 0 2869125 17 5 18446744");
        assert_eq!(began_by(&stat("S")), Some(2_869_125));
        assert_eq!(began_by(&stat("Z")), None, "it ended, and its parent did not ask for it");
        assert!(!is_gone(&named("elsewhere", 4_000_000_000, 1)));
        for rubbish in ["", "pid", "pid x of y (1)", "desk-1"] {
            assert!(!is_gone(rubbish), "{rubbish:?}");
        }
    }
}
