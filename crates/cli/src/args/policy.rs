use std::path::PathBuf;

use clap::{Args, Subcommand, ValueEnum};

use super::Because;

#[derive(Debug, Subcommand)]
pub(crate) enum PolicyCommand {
    /// Find every mistake in the policies, prove their claims, and run their tests against the fleet.
    Check(CheckArgs),
    /// Whether a device may do something, and which rule decides. Exit 0 allowed, 3 denied.
    Ask(AskArgs),
    /// Who may publish to, and who may receive, any topic that a filter matches.
    Reach(ReachArgs),
    /// Which devices gain and which lose what between two editions or folders.
    Compare(CompareArgs),
    /// Make the policies of the folder the ones that decide, after showing what changes; or try them first.
    Adopt(AdoptArgs),
    /// The adopted editions.
    Editions,
    /// Bring policy files into the one layout; comments stay.
    Format(FormatArgs),
    /// Propose the narrowest policies from a log of what devices do.
    Draft(DraftArgs),
    /// What the policies on trial would decide otherwise, by rule and device.
    Trial(TrialArgs),
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
pub(crate) struct ReachArgs {
    /// A topic filter, such as 'rope/+/+/brake'.
    pub(crate) filter: String,
    /// Answer from the folder instead of the adopted edition.
    #[arg(long)]
    pub(crate) draft: bool,
}

#[derive(Debug, Args)]
pub(crate) struct CompareArgs {
    /// The number of an edition, `draft` for the ward's folder, `none`, or another folder.
    pub(crate) old: String,
    /// What it is compared with.
    pub(crate) new: String,
}

#[derive(Debug, Args)]
pub(crate) struct AdoptArgs {
    /// Do not ask.
    #[arg(long)]
    pub(crate) yes: bool,
    /// In place of a yes: how many devices you expect to get other rights. Another number refuses it.
    #[arg(long, value_name = "N", conflicts_with = "yes")]
    pub(crate) count: Option<u64>,
    /// Only try the policies for so long, such as 7d: the current edition goes on deciding, and a guard records what
    /// would be decided otherwise.
    #[arg(long, value_name = "LENGTH", conflicts_with_all = ["count", "edition"])]
    pub(crate) trial: Option<String>,
    /// Go back to the text of this edition instead of taking the folder's.
    #[arg(long, value_name = "NUMBER")]
    pub(crate) edition: Option<u32>,
    #[command(flatten)]
    pub(crate) because: Because,
}

#[derive(Debug, Args)]
pub(crate) struct FormatArgs {
    /// The files; by default all of the ward's.
    pub(crate) files: Vec<PathBuf>,
    /// Write nothing; exit 3 if a file has another layout.
    #[arg(long)]
    pub(crate) check: bool,
}

#[derive(Debug, Args)]
pub(crate) struct DraftArgs {
    /// JSON Lines with device, act and subject, as `guard --observe` writes them; `-` is standard input.
    #[arg(long, value_name = "FILE")]
    pub(crate) from: PathBuf,
}

#[derive(Debug, Args)]
pub(crate) struct TrialArgs {
    /// End the trial.
    #[arg(long)]
    pub(crate) end: bool,
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
    /// The client identifier under which it is connected; that is decided first.
    #[arg(long, value_name = "ID")]
    pub(crate) client_id: Option<String>,
    /// The QoS.
    #[arg(long, default_value_t = 0, value_parser = clap::value_parser!(u8).range(0..=2))]
    pub(crate) qos: u8,
    /// The message is to be retained.
    #[arg(long)]
    pub(crate) retain: bool,
    /// Bytes of payload: a number, or one with KiB or MiB.
    #[arg(long, default_value = "0", value_parser = super::size)]
    pub(crate) size: usize,
    /// Answer from the folder instead of the adopted edition.
    #[arg(long)]
    pub(crate) draft: bool,
}
