//! `demo`: a device's whole life in a made-up fleet, with the real commands' code and real sockets.
//!
//! Every line that it prints was checked before it was printed; the first claim that does not hold ends the demo with an
//! error and a non-zero exit code.

mod claim;
mod desk;
mod errand;
mod gate;
mod steps;
mod world;

use std::path::Path;

use crate::args::DemoArgs;
use crate::console::Console;
use crate::problem::{Exit, Problem};
use crate::scratch::Scratch;

pub(crate) fn run(console: &Console, args: &DemoArgs) -> Result<Exit, Problem> {
    let place = match &args.keep {
        Some(dir) if dir.exists() => {
            return Err(
                Problem::refused(format!("{} exists already", dir.display())).next("name a new folder for --keep")
            );
        }
        Some(dir) => Scratch::kept(dir.clone())?,
        None => Scratch::new("demo")?,
    };
    let story = Story { console };
    console.write("Quillfeather Ropeways: one wind vane's life, from its listing to its theft\n\n")?;
    let runtime = tokio::runtime::Runtime::new().map_err(|error| Problem::failed("cannot start").because(error))?;
    runtime.block_on(steps::all(&story, &place.dir))?;
    console.write(&farewell(args.keep.as_deref()))?;
    Ok(Exit::Done)
}

fn farewell(kept: Option<&Path>) -> String {
    match kept {
        None => "\nEvery line above was checked as it happened. Keep the ward and go on by hand: tidy-warden demo --keep DIR\n".to_owned(),
        Some(dir) => {
            let dir = dir.display();
            format!(
                "\nEvery line above was checked as it happened. Go on by hand:\n\n    \
                 export TIDY_WARDEN_WARD={dir}/ward TIDY_WARDEN_PASSPHRASE_FILE={dir}/passphrase.txt\n    \
                 tidy-warden device list\n    \
                 tidy-warden device show wv-0417\n    \
                 tidy-warden policy ask cr-ossel subscribe 'rope/#'\n    \
                 tidy-warden enroll wv-0416 --make-key --out {dir}/outfits\n    \
                 tidy-warden guard --broker builtin\n    \
                 tidy-warden audit log\n"
            )
        }
    }
}

/// Tells the story line by line.
struct Story<'a> {
    console: &'a Console,
}

impl Story<'_> {
    /// Tells what happened, if it did.
    fn tell(&self, stage: &str, line: &str) -> Result<(), Problem> {
        self.console.write(&format!("{stage:<13}{line}\n"))
    }

    /// Goes on only if a claim holds.
    fn claim(&self, holds: bool, claim: &str) -> Result<(), Problem> {
        if holds {
            return Ok(());
        }
        Err(Problem::failed("the demo's story does not hold")
            .because(format!("this was to be true and is not: {claim}")))
    }
}
