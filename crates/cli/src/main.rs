//! `tidy-warden`: credentials and policies for a fleet of devices.

mod args;
mod clock;
mod commands;
mod console;
mod demo;
mod edge;
mod files;
mod keys;
mod list;
mod passphrase;
mod problem;
mod progress;
mod ward;

use std::process::ExitCode;

/// Bulk work makes and drops many small pieces on several threads, which the system's allocator is slow at.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

use clap::Parser;

fn main() -> ExitCode {
    let cli = args::Cli::parse();
    let console = console::Console::new(cli.format, cli.quiet);
    match commands::run(cli, &console) {
        Ok(exit) => exit.into(),
        Err(problem) => {
            problem.print();
            problem.exit().into()
        }
    }
}
