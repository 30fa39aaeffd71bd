use std::path::PathBuf;

use clap::Args;

#[derive(Debug, Args)]
pub(crate) struct DueArgs {
    /// How far ahead is looked.
    #[arg(long, value_name = "LENGTH", default_value = "60d")]
    pub(crate) within: String,
    /// Count what is due together: `day`, `week`, `what`, `kind`, `authority`, or a label such as `site`.
    #[arg(long, value_name = "WORD")]
    pub(crate) by: Option<String>,
    /// List everything, also what renews by itself, and every line of it.
    #[arg(long, conflicts_with = "by")]
    pub(crate) all: bool,
    /// Also say what the fullest day would bring if renewals were spread over their windows.
    #[arg(long)]
    pub(crate) spread: bool,
    /// Draw ends and renewals into this file, a .svg or a .png; one that exists is replaced.
    #[arg(long, value_name = "FILE")]
    pub(crate) plot: Option<PathBuf>,
    /// Exit 3 if something that needs a person ends within so many days.
    #[arg(long, value_name = "N")]
    pub(crate) max_days: Option<u16>,
}
