use clap::{Args, Subcommand};

use super::Because;

#[derive(Debug, Subcommand)]
pub(crate) enum ErrandCommand {
    /// Ask a device to do something: renew, restart, report, identify, or what its kind declares.
    ///
    /// It is signed, handed over when the device is there, and again until it is answered. Exits 0 with the answer, 1 if none came in time, 3
    /// if the device refused.
    Send(SendErrandArgs),
    /// What was asked, of whom, and what came of it, the newest first.
    List(ListErrandsArgs),
    /// One errand, and its answer.
    Show {
        /// Its number.
        number: i64,
    },
}

#[derive(Debug, Args)]
pub(crate) struct SendErrandArgs {
    /// The device.
    pub(crate) device: String,
    /// What it is to do.
    pub(crate) purpose: String,
    /// More about it: a JSON object.
    #[arg(value_name = "JSON")]
    pub(crate) detail: Option<String>,
    /// How long the device has.
    #[arg(long = "for", value_name = "TIME", default_value = "7d")]
    pub(crate) life: String,
    /// Wait for the answer, but no longer than this.
    #[arg(long, value_name = "TIME")]
    pub(crate) wait: Option<String>,
    #[command(flatten)]
    pub(crate) because: Because,
}

#[derive(Debug, Args)]
pub(crate) struct ListErrandsArgs {
    /// Only those of one device.
    #[arg(long, value_name = "DEVICE")]
    pub(crate) device: Option<String>,
    /// Only those that nobody answered yet and that are not over.
    #[arg(long)]
    pub(crate) open: bool,
    /// How many at the most.
    #[arg(long, value_name = "N", default_value_t = 50)]
    pub(crate) last: usize,
}
