//! `token`: makes, reads, judges and blocks tokens that stand for a device.

mod block;
pub(crate) mod issue;
mod read;
mod signer;
mod verify;

use std::path::Path;

use tidy_warden_core::token::MAX_LEN;

use super::Context;
use crate::args::TokenCommand;
use crate::files;
use crate::problem::{Exit, Problem};

pub(crate) fn run(context: &Context<'_>, command: TokenCommand) -> Result<Exit, Problem> {
    match command {
        TokenCommand::Issue(args) => issue::run(context, &args),
        TokenCommand::Read(args) => read::run(context, &args),
        TokenCommand::Verify(args) => verify::run(context, &args),
        TokenCommand::Block(args) => block::run(context, &args),
        TokenCommand::Blocked => block::list(context),
        TokenCommand::Signer(command) => signer::run(context, &command),
    }
}

/// A token from a file or from standard input; a line end behind one that is text is no part of it.
fn token(file: Option<&Path>, on_the_command_line: Option<&str>, command: &str) -> Result<Vec<u8>, Problem> {
    if on_the_command_line.is_some() {
        return Err(Problem::usage("a token does not belong on the command line")
            .because("whoever lists the processes of this machine sees it, and shells keep it")
            .next(format!("tidy-warden token {command} < token.txt, or --file token.txt")));
    }
    // Two octets more: a line end is not part of the token.
    let limit = u64::try_from(MAX_LEN).unwrap_or(u64::MAX) + 2;
    let mut octets = match file {
        Some(path) if path.as_os_str() != "-" => files::read(path, limit)?,
        _ => files::read_input_octets(limit)?,
    };
    if octets.first().is_some_and(|first| *first < 0x80) {
        for end in [b'\n', b'\r'] {
            if octets.last() == Some(&end) {
                octets.pop();
            }
        }
    }
    Ok(octets)
}

/// What a token says is anybody's text: nothing of it reaches a terminal as a control character, and nothing of it fills one.
fn plain(text: &str) -> String {
    let short: String = text.chars().take(200).collect();
    let cut = if short.len() < text.len() { "..." } else { "" };
    short.replace(char::is_control, "?") + cut
}
