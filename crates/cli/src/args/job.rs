use clap::Subcommand;

#[derive(Debug, Subcommand)]
pub(crate) enum JobCommand {
    /// Jobs that have not ended; with --all also the newest of those that have.
    List {
        /// Those that have ended, too.
        #[arg(long)]
        all: bool,
    },
    /// What a job is to do, how far it is, and who works on it.
    Show {
        /// Its number.
        number: u32,
    },
    /// Go on with a job that was interrupted.
    Resume {
        /// Its number.
        number: u32,
    },
    /// End a job where it stands; what it did stays.
    Stop {
        /// Its number.
        number: u32,
        /// Do not ask.
        #[arg(long)]
        yes: bool,
    },
}
