//! Passphrases: from a file, or asked for on a terminal; never from the command line.

use std::io::IsTerminal;
use std::path::Path;

use zeroize::Zeroizing;

use crate::console::Console;
use crate::files;
use crate::problem::Problem;

/// The longest passphrase file.
const MAX_LEN: u64 = 4096;

pub(crate) use tidy_warden_ward::keys::{Passphrase, strong_enough};

/// Reads a passphrase from a file: all of it, less one line end.
pub(crate) fn from_file(path: &Path, console: &Console) -> Result<Passphrase, Problem> {
    let mut bytes = Zeroizing::new(files::read(path, MAX_LEN)?);
    if bytes.ends_with(b"\n") {
        bytes.pop();
        if bytes.ends_with(b"\r") {
            bytes.pop();
        }
    }
    if bytes.is_empty() {
        return Err(Problem::refused(format!("the passphrase in {} is empty", path.display()))
            .next("write a passphrase of several words into it"));
    }
    if files::is_readable_by_others(path) {
        console.warn(format!("others can read {}; chmod 600 it", path.display()));
    }
    Ok(bytes)
}

/// The PIN of a token: from `file`, else from the terminal; never from the command line.
pub(crate) fn get_pin(file: Option<&Path>, token: &str, console: &Console) -> Result<Passphrase, Problem> {
    if let Some(path) = file {
        return from_file(path, console);
    }
    if !std::io::stdin().is_terminal() {
        return Err(Problem::usage(format!(
            "the PIN of the token `{token}` is needed, and there is no terminal to ask on"
        ))
        .next("give --pin-file FILE, or set TIDY_WARDEN_PIN_FILE"));
    }
    rpassword::prompt_password(format!("PIN of the token {token}: "))
        .map(|text| Zeroizing::new(text.into_bytes()))
        .map_err(|error| Problem::failed("cannot ask for the PIN").because(error))
}

/// Whether a passphrase that is asked for is new, so that it must be typed twice.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Typed {
    /// It opens something.
    Once,
    /// It locks something for the first time.
    Twice,
}

/// The passphrase of a post's own key; none of the ward's is taken for it.
pub(crate) fn of_post(file: Option<&Path>, typed: Typed, console: &Console) -> Result<Passphrase, Problem> {
    if file.is_none() && !std::io::stdin().is_terminal() {
        return Err(Problem::usage(
            "the passphrase of the post's own key is needed, and there is no terminal to ask on",
        )
        .next("give --post-passphrase-file FILE, or set TIDY_WARDEN_POST_PASSPHRASE_FILE"));
    }
    get(file, "the post's own key", typed, console)
}

/// The passphrase for `what`: from `file`, else from the terminal.
pub(crate) fn get(file: Option<&Path>, what: &str, typed: Typed, console: &Console) -> Result<Passphrase, Problem> {
    if let Some(path) = file {
        return from_file(path, console);
    }
    if !std::io::stdin().is_terminal() {
        return Err(Problem::usage(format!("the passphrase for {what} is needed, and there is no terminal to ask on"))
            .next("give --passphrase-file FILE, or set TIDY_WARDEN_PASSPHRASE_FILE"));
    }
    let ask = |question: String| {
        rpassword::prompt_password(question)
            .map(|text| Zeroizing::new(text.into_bytes()))
            .map_err(|error| Problem::failed("cannot ask for the passphrase").because(error))
    };
    let first = ask(format!("Passphrase for {what}: "))?;
    if first.is_empty() {
        return Err(Problem::refused("the passphrase is empty").next("type one of several words"));
    }
    if typed == Typed::Twice && *ask("Once more: ".to_owned())? != *first {
        return Err(Problem::refused("the two passphrases differ").next("start again"));
    }
    Ok(first)
}
