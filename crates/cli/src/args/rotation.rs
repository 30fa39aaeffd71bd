use clap::{Args, Subcommand};

use super::Because;

#[derive(Debug, Subcommand)]
pub(crate) enum RotationCommand {
    /// Plan to renew the certificates, or shared keys, of many devices in rounds, and show the plan. Nobody is asked before `rotation start`.
    Prepare(Box<PrepareRotationArgs>),
    /// Begin a rotation that was prepared, or its next round where a person does that.
    Start(SayArgs),
    /// Ask nobody more; who was asked may still renew.
    Stop(SayArgs),
    /// Go on with a rotation that was stopped, where it was.
    Resume(SayArgs),
    /// Where each round is, and which devices did not renew.
    Status {
        /// The rotation.
        rotation: String,
    },
    /// All rotations, the newest first.
    List,
    /// What a rotation is to do, and what it is held to.
    Show {
        /// The rotation.
        rotation: String,
    },
    /// Drive rotations that were started, as a desk does: until the one that is named waits for a person, stops, or is done.
    Run {
        /// The rotation.
        rotation: String,
        /// Do what can be done now, and end.
        #[arg(long)]
        once: bool,
    },
}

#[derive(Debug, Args)]
pub(crate) struct SayArgs {
    /// The rotation.
    pub(crate) rotation: String,
    /// Do not ask.
    #[arg(long)]
    pub(crate) yes: bool,
    #[command(flatten)]
    pub(crate) because: Because,
}

#[derive(Debug, Args)]
pub(crate) struct PrepareRotationArgs {
    /// What it is called from now on.
    pub(crate) rotation: String,
    /// The devices whose certificates, or shared keys, are to be renewed.
    #[arg(long = "where", value_name = "CONDITION", required = true)]
    pub(crate) condition: String,
    /// What is replaced: certificates, or shared-keys. A device fetches its next shared key at the desk or is sent it, as its kind's
    /// renews_keys says.
    #[arg(long = "of", value_name = "WHAT", default_value = "certificates")]
    pub(crate) replaces: String,
    /// Only those whose newest certificate this authority signed: to move them to another, which signs in its place.
    #[arg(long, value_name = "AUTHORITY")]
    pub(crate) signed_by: Option<String>,
    /// Only those whose newest certificate has a key of this type, such as p256: to move them to another.
    #[arg(long, value_name = "TYPE")]
    pub(crate) key_type: Option<String>,
    /// How much of all devices has been asked when each round is over, separated by commas; the last is all.
    #[arg(long, value_name = "SHARES", value_delimiter = ',', default_value = "1%,10%,100%")]
    pub(crate) rounds: Vec<String>,
    /// A round for each value of this label, such as site, in their order; devices without it come last.
    #[arg(long, value_name = "LABEL", conflicts_with = "rounds")]
    pub(crate) by: Option<String>,
    /// A round for each of these groups, separated by commas, in this order; a device is in the round of the first that it is in, and
    /// those in none come last.
    #[arg(long, value_name = "GROUPS", value_delimiter = ',', conflicts_with_all = ["rounds", "by"])]
    pub(crate) by_group: Vec<String>,
    /// Ask no more than so many devices in an hour.
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u64).range(1..))]
    pub(crate) per_hour: Option<u64>,
    /// Ask only between these hours of the day (UTC), such as 8-18; over midnight 22-4.
    #[arg(long, value_name = "FROM-TO")]
    pub(crate) hours: Option<String>,
    /// Ask nobody before this moment, in RFC 3339.
    #[arg(long, value_name = "TIME")]
    pub(crate) not_before: Option<String>,
    /// Ask nobody from this moment on, in RFC 3339: the rotation stops then.
    #[arg(long, value_name = "TIME")]
    pub(crate) until: Option<String>,
    /// How long each device has to renew and to use what it got.
    #[arg(long, value_name = "LENGTH", default_value = "7d")]
    pub(crate) give: String,
    /// Stop if more than this of a round fails or is silent.
    #[arg(long, value_name = "SHARE", default_value = "5%")]
    pub(crate) most_failed: String,
    /// A person begins each round after the first, with `rotation start`.
    #[arg(long)]
    pub(crate) by_hand: bool,
    /// Show the plan, and write nothing down.
    #[arg(long)]
    pub(crate) dry_run: bool,
    #[command(flatten)]
    pub(crate) because: Because,
}
