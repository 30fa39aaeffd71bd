use std::path::PathBuf;

use clap::{Args, Subcommand};

use super::Because;

#[derive(Debug, Subcommand)]
pub(crate) enum GroupCommand {
    /// Make a group: by rule, or of devices that are named.
    Make(MakeGroupArgs),
    /// All groups.
    List,
    /// A group and its devices.
    Show {
        /// The group.
        group: String,
    },
    /// Drop a group; its devices stay. One that the adopted policies name is not dropped.
    Drop {
        /// The group.
        group: String,
        /// Do not ask.
        #[arg(long)]
        yes: bool,
        #[command(flatten)]
        because: Because,
    },
}

#[derive(Debug, Args)]
pub(crate) struct MakeGroupArgs {
    /// Its name.
    pub(crate) group: String,
    /// By rule: every device that meets this condition, now and later.
    #[arg(long = "where", value_name = "CONDITION", conflicts_with_all = ["device", "from"])]
    pub(crate) condition: Option<String>,
    /// A device; may be repeated.
    #[arg(long, value_name = "DEVICE")]
    pub(crate) device: Vec<String>,
    /// A file with one id a line; `-` is standard input.
    #[arg(long, value_name = "FILE")]
    pub(crate) from: Option<PathBuf>,
    /// Give a group that is there this rule or these devices instead of its own.
    #[arg(long)]
    pub(crate) replace: bool,
    /// Do not ask if rights change.
    #[arg(long)]
    pub(crate) yes: bool,
    #[command(flatten)]
    pub(crate) because: Because,
}
