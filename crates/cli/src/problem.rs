//! Errors as people read them: what failed on what, because of what, what to do next. And the exit codes.

use std::fmt;
use std::io::Write;
use std::process::ExitCode;

use tidy_warden_core::text::TextError;
use tidy_warden_store::StoreError;

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

/// An error, told once, at the end.
#[derive(Debug, Clone)]
pub(crate) struct Problem {
    exit: Exit,
    what: String,
    because: Option<String>,
    next: Option<String>,
    /// Whether it is that nothing more can be written.
    no_room: bool,
}

impl Problem {
    pub(crate) fn new(exit: Exit, what: impl Into<String>) -> Self {
        Self { exit, what: what.into(), because: None, next: None, no_room: false }
    }

    /// It failed.
    pub(crate) fn failed(what: impl Into<String>) -> Self {
        Self::new(Exit::Failed, what)
    }

    /// A rule or check refused.
    pub(crate) fn refused(what: impl Into<String>) -> Self {
        Self::new(Exit::Refused, what)
    }

    /// The call cannot be taken.
    pub(crate) fn usage(what: impl Into<String>) -> Self {
        Self::new(Exit::Usage, what)
    }

    /// Nothing of that name.
    pub(crate) fn not_found(what: impl Into<String>) -> Self {
        Self::new(Exit::NotFound, what)
    }

    /// Adds the cause.
    pub(crate) fn because(mut self, cause: impl fmt::Display) -> Self {
        self.because = Some(cause.to_string());
        self
    }

    /// Adds the next step.
    pub(crate) fn next(mut self, next: impl Into<String>) -> Self {
        self.next = Some(next.into());
        self
    }

    /// What failed and why, for a log line.
    pub(crate) fn in_one_line(&self) -> String {
        let joined = |text: &str| text.lines().map(str::trim).collect::<Vec<_>>().join(" ");
        match &self.because {
            Some(because) => format!("{}: {}", joined(&self.what), joined(because)),
            None => joined(&self.what),
        }
    }

    /// Adds the next step to those that are given already.
    pub(crate) fn or_next(self, next: &str) -> Self {
        let next = match &self.next {
            Some(first) => format!("{first}; {next}"),
            None => next.to_owned(),
        };
        Self { next: Some(next), ..self }
    }

    /// What failed and because of what, for a list of many.
    pub(crate) fn one_line(&self) -> String {
        match &self.because {
            Some(because) => format!("{}: {because}", self.what),
            None => self.what.clone(),
        }
    }

    /// Whether it is that nothing more can be written: a full disk, most likely.
    pub(crate) fn is_no_room(&self) -> bool {
        self.no_room
    }

    pub(crate) fn exit(&self) -> Exit {
        self.exit
    }

    /// A file could not be read or written.
    pub(crate) fn file(act: &str, path: &std::path::Path, error: &std::io::Error) -> Self {
        use std::io::ErrorKind;
        let problem = Self::failed(format!("cannot {act} {}", path.display()));
        match error.kind() {
            ErrorKind::NotFound => Self { exit: Exit::NotFound, ..problem.because("it does not exist") },
            ErrorKind::PermissionDenied => problem.because("permission denied"),
            ErrorKind::AlreadyExists => Self { exit: Exit::Refused, ..problem.because("it exists already") },
            ErrorKind::StorageFull => Self { no_room: true, ..problem.because("the disk is full") },
            ErrorKind::InvalidData => problem.because("it is not UTF-8 text"),
            ErrorKind::IsADirectory => problem.because("it is a folder"),
            ErrorKind::NotADirectory => problem.because("part of its path is not a folder"),
            _ => problem.because(error),
        }
    }

    /// Every mistake in a text file.
    pub(crate) fn text(what: impl Into<String>, errors: &[TextError]) -> Self {
        let all: Vec<String> = errors.iter().map(ToString::to_string).collect();
        Self::refused(what).because(all.join("\n"))
    }

    /// Writes it to standard error.
    pub(crate) fn print(&self) {
        let mut text = format!("error: {}\n", self.what);
        if let Some(because) = &self.because {
            let lines = because.contains('\n');
            text.push_str(if lines { "because:\n" } else { "because: " });
            text.push_str(because);
            text.push('\n');
        }
        if let Some(next) = &self.next {
            text.push_str(&format!("try: {next}\n"));
        }
        // Standard error may be closed; there is no other place to complain.
        let _ = std::io::stderr().write_all(text.as_bytes());
    }
}

impl From<StoreError> for Problem {
    fn from(error: StoreError) -> Self {
        let problem = Self::failed("the ward's store refused").because(&error);
        match error {
            StoreError::Newer { .. } => Self { what: "this ward's store cannot be opened".into(), ..problem }
                .next("use the version of tidy-warden that wrote it, or a newer one"),
            StoreError::Busy => problem.next("wait until the other command is done, then repeat this one"),
            StoreError::Unwritable { .. } => {
                Self { no_room: true, ..problem }.next("free space, or correct the permissions of the ward's folder")
            }
            StoreError::Unknown { what, name } => {
                Self::not_found(format!("there is no {what} `{name}`")).next(match what {
                    "device" => "see `device list`, or list it with `device add`",
                    _ => "see `authority list`",
                })
            }
            StoreError::Absent { path } => Self::not_found("there is no ward here")
                .because(format!("{path} does not exist"))
                .next("name the ward's folder with --ward or TIDY_WARDEN_WARD, or make one: init"),
            StoreError::Delivery(error) => {
                Self::failed("the result could not be written, so nothing was recorded").because(error)
            }
            _ => problem,
        }
    }
}
