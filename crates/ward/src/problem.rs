//! Errors as people read them: what failed on what, because of what, what to do next.

use std::fmt;

use tidy_warden_core::text::{TextError, printable, printable_lines};
use tidy_warden_store::StoreError;

/// What kind of problem it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    /// It failed: a file, a socket, a wrong passphrase.
    Failed,
    /// What was asked for cannot be taken.
    Call,
    /// A rule or a check refused.
    Refused,
    /// What was named is not there.
    NotFound,
}

/// An error, told once, at the end. What to do next is said in commands, for whoever sits at the command line.
#[derive(Debug, Clone)]
pub struct Problem {
    kind: Kind,
    what: String,
    because: Option<String>,
    next: Option<String>,
    /// Whether it is that nothing more can be written.
    no_room: bool,
}

impl Problem {
    /// One of a kind.
    pub fn new(kind: Kind, what: impl Into<String>) -> Self {
        Self { kind, what: what.into(), because: None, next: None, no_room: false }
    }

    /// It failed.
    pub fn failed(what: impl Into<String>) -> Self {
        Self::new(Kind::Failed, what)
    }

    /// A rule or check refused.
    pub fn refused(what: impl Into<String>) -> Self {
        Self::new(Kind::Refused, what)
    }

    /// The call cannot be taken.
    pub fn usage(what: impl Into<String>) -> Self {
        Self::new(Kind::Call, what)
    }

    /// Nothing of that name.
    pub fn not_found(what: impl Into<String>) -> Self {
        Self::new(Kind::NotFound, what)
    }

    /// Adds the cause.
    pub fn because(mut self, cause: impl fmt::Display) -> Self {
        self.because = Some(cause.to_string());
        self
    }

    /// Adds the next step.
    pub fn next(mut self, next: impl Into<String>) -> Self {
        self.next = Some(next.into());
        self
    }

    /// What failed and because of what, for a log line or a list of many.
    pub fn in_one_line(&self) -> String {
        let joined = |text: &str| text.lines().map(str::trim).collect::<Vec<_>>().join(" ");
        let text = match &self.because {
            Some(because) => format!("{}: {}", joined(&self.what), joined(because)),
            None => joined(&self.what),
        };
        printable(&text).into_owned()
    }

    /// Adds the next step to those that are given already.
    pub fn or_next(self, next: &str) -> Self {
        let next = match &self.next {
            Some(first) => format!("{first}; {next}"),
            None => next.to_owned(),
        };
        Self { next: Some(next), ..self }
    }

    /// Whether it is that nothing more can be written: a full disk, most likely.
    pub fn is_no_room(&self) -> bool {
        self.no_room
    }

    /// What kind of problem it is.
    #[must_use]
    pub fn kind(&self) -> Kind {
        self.kind
    }

    /// A file could not be read or written.
    pub fn file(act: &str, path: &std::path::Path, error: &std::io::Error) -> Self {
        use std::io::ErrorKind;
        let problem = Self::failed(format!("cannot {act} {}", path.display()));
        match error.kind() {
            ErrorKind::NotFound => Self { kind: Kind::NotFound, ..problem.because("it does not exist") },
            ErrorKind::PermissionDenied => problem.because("permission denied"),
            ErrorKind::AlreadyExists => Self { kind: Kind::Refused, ..problem.because("it exists already") },
            ErrorKind::StorageFull => Self { no_room: true, ..problem.because("the disk is full") },
            ErrorKind::InvalidData => problem.because("it is not UTF-8 text"),
            ErrorKind::IsADirectory => problem.because("it is a folder"),
            ErrorKind::NotADirectory => problem.because("part of its path is not a folder"),
            _ => problem.because(error),
        }
    }

    /// Every mistake in a text file.
    pub fn text(what: impl Into<String>, errors: &[TextError]) -> Self {
        let all: Vec<String> = errors.iter().map(ToString::to_string).collect();
        Self::refused(what).because(all.join("\n"))
    }

    /// All of it, for standard error. What would steer a terminal is written out, wherever it came from.
    #[must_use]
    pub fn text_for_people(&self) -> String {
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
        printable_lines(&text)
    }
}

impl From<StoreError> for Problem {
    fn from(error: StoreError) -> Self {
        let problem = Self::failed("the ward's store refused").because(&error);
        match error {
            StoreError::Newer { .. } => Self { what: "this ward's store cannot be opened".into(), ..problem }
                .next("use the version of tidy-warden that wrote it, or a newer one"),
            StoreError::Older { .. } => Self { what: "this ward's store cannot be opened".into(), ..problem }
                .next("run any command on the ward as the role that owns the tables; what its other programs of the older version do ends then"),
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
            StoreError::TakenOver { job } => Self::refused("this is not this process's work any more")
                .because(format!("job {job} was taken over by another process, or was ended"))
                .next(format!("job show {job}")),
            StoreError::Absent { path } => Self::not_found("there is no ward here")
                .because(format!("{path} does not exist"))
                .next("name the ward's folder with --ward or TIDY_WARDEN_WARD, or make one: init"),
            StoreError::Away { .. } => problem.next("see that the database runs, then repeat this"),
            StoreError::Uncertain { .. } => Self {
                what: "nobody can tell whether this was done".into(),
                ..problem.next("see whether it was, with `audit list`, before you repeat it")
            },
            StoreError::Forbidden { .. } => {
                problem.next("give the role in the database what it needs: docs/store.md, Rights")
            }
            StoreError::Clock { .. } => problem.next("set the clock right: what it says goes into certificates"),
            StoreError::Moved { ref move_to } => match move_to.is_done {
                true => Self::refused("nothing is changed at the old place of a ward")
                    .because(&error)
                    .next("name its new place in ward.toml under [store]"),
                false => Self::refused("nothing is changed while a ward moves")
                    .because(&error)
                    .next("wait, or go on with it: store copy --to PLACE, or give it up: store copy --stop"),
            },
            StoreError::Unfinished { .. } => {
                problem.next("go on with it where the ward was: store copy --to PLACE; or take it away")
            }
            StoreError::Delivery(error) => {
                Self::failed("the result could not be written, so nothing was recorded").because(error)
            }
            _ => problem,
        }
    }
}
