//! `tidy-warden`: credentials and policies for a fleet of devices.

mod actor;
mod args;
mod commands;
mod console;
mod demo;
mod interrupt;
mod keys;
mod log;
mod paint;
mod passphrase;
mod problem;
mod progress;
mod reserve;
mod scale;
mod scratch;
mod signals;
mod stream;
mod ward;

use std::process::ExitCode;

use rustix::process::{DumpableBehavior, Resource, Rlimit};
use tidy_warden_ward::{clock, edge, files, list};

/// Bulk work makes and drops many small pieces on several threads, which the system's allocator is slow at.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// Keeps what is in memory out of core files and away from other processes of the same account: passphrases and keys are there.
fn guard_memory() {
    // Where the system refuses, the program works all the same.
    let _ = rustix::process::setrlimit(Resource::Core, Rlimit { current: Some(0), maximum: Some(0) });
    let _ = rustix::process::set_dumpable_behavior(DumpableBehavior::NotDumpable);
}

fn main() -> ExitCode {
    guard_memory();
    let cli = match args::from_command_line() {
        Ok(cli) => cli,
        Err(error) => return args::wrong_call(&error, std::env::args()),
    };
    let console = console::Console::new(cli.format, cli.quiet);
    match commands::run(cli, &console) {
        Ok(exit) => exit.into(),
        Err(problem) => problem::print(&problem).into(),
    }
}
