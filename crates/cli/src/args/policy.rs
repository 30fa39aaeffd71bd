use std::path::PathBuf;

use clap::{Args, Subcommand, ValueEnum};

use super::Because;

#[derive(Debug, Subcommand)]
pub(crate) enum PolicyCommand {
    /// Find every mistake in the policies, and run their tests against the fleet.
    Check(CheckArgs),
    /// Make the policies of the folder the ones that decide.
    Adopt(AdoptArgs),
    /// Whether a device may do something, and which rule decides. Exit 0 allowed, 3 denied.
    Ask(AskArgs),
    /// The adopted editions.
    Editions,
}

#[derive(Debug, Args)]
pub(crate) struct CheckArgs {
    /// A folder other than the ward's.
    #[arg(long, value_name = "DIR")]
    pub(crate) policies: Option<PathBuf>,
    /// Treat warnings as errors.
    #[arg(long)]
    pub(crate) strict: bool,
}

#[derive(Debug, Args)]
pub(crate) struct AdoptArgs {
    /// Do not ask.
    #[arg(long)]
    pub(crate) yes: bool,
    #[command(flatten)]
    pub(crate) because: Because,
}

/// What is asked about.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum AskedAct {
    /// Opening a session.
    Connect,
    /// Sending a message.
    Publish,
    /// Asking for messages.
    Subscribe,
}

#[derive(Debug, Args)]
pub(crate) struct AskArgs {
    /// The device.
    pub(crate) device: String,
    /// What it would do.
    #[arg(value_enum)]
    pub(crate) act: AskedAct,
    /// The topic, topic filter or client identifier; for connect the device's id if it is left out.
    pub(crate) subject: Option<String>,
    /// The QoS.
    #[arg(long, default_value_t = 0, value_parser = clap::value_parser!(u8).range(0..=2))]
    pub(crate) qos: u8,
    /// The message is to be retained.
    #[arg(long)]
    pub(crate) retain: bool,
    /// Octets of payload.
    #[arg(long, default_value_t = 0)]
    pub(crate) size: usize,
    /// Answer from the folder instead of the adopted edition.
    #[arg(long)]
    pub(crate) draft: bool,
}
