use clap::{Args, Subcommand};

use super::Because;

#[derive(Debug, Subcommand)]
pub(crate) enum ReflexCommand {
    /// What the ward does by itself, how often it did, and what has stopped.
    List,
    /// Whom each reflex of ward.toml would have acted on within the last 30 days, or would now: try one before it counts.
    Test {
        /// Only this reflex.
        reflex: Option<String>,
    },
    /// Lift the holds that a reflex made and that are still as it made them.
    Undo(NamedReflexArgs),
    /// Have a reflex go on that did as much as it may and stopped.
    Resume(NamedReflexArgs),
}

#[derive(Debug, Args)]
pub(crate) struct NamedReflexArgs {
    /// The reflex.
    pub(crate) reflex: String,
    /// Do not ask.
    #[arg(long)]
    pub(crate) yes: bool,
    #[command(flatten)]
    pub(crate) because: Because,
}
