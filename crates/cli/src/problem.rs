//! How the program ends, and what it says then.

use std::io::Write;
use std::process::ExitCode;

use tidy_warden_ward::problem::Kind;
pub(crate) use tidy_warden_ward::problem::Problem;

/// How the program ends.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Exit {
    /// Done, or the answer is yes.
    Done,
    /// It failed: a file, a socket, a wrong passphrase.
    Failed,
    /// The call cannot be taken.
    Usage,
    /// A rule or a check refused, or the answer is no.
    Refused,
    /// What was named is not there.
    NotFound,
    /// Done in part.
    Partly,
}

impl From<Exit> for ExitCode {
    fn from(exit: Exit) -> Self {
        Self::from(match exit {
            Exit::Done => 0,
            Exit::Failed => 1,
            Exit::Usage => 2,
            Exit::Refused => 3,
            Exit::NotFound => 4,
            Exit::Partly => 5,
        })
    }
}

/// Writes a problem to standard error; gives how the program ends because of it.
pub(crate) fn print(problem: &Problem) -> Exit {
    // Standard error may be closed; there is no other place to complain.
    let _ = std::io::stderr().write_all(problem.text_for_people().as_bytes());
    match problem.kind() {
        Kind::Failed => Exit::Failed,
        Kind::Call => Exit::Usage,
        Kind::Refused => Exit::Refused,
        Kind::NotFound => Exit::NotFound,
    }
}
