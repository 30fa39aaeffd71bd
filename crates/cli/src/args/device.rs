use std::path::PathBuf;

use clap::{Args, Subcommand};

use super::{Because, pair};

#[derive(Debug, Subcommand)]
pub(crate) enum DeviceCommand {
    /// List one device.
    Add(AddArgs),
    /// List all devices of a CSV file: all, or none and every reason why.
    Import(ImportArgs),
    /// The devices of the ward.
    List(ListArgs),
    /// All that is known of a device, and what is missing until it is live.
    Show {
        /// The device.
        device: String,
        /// What was true of it at this moment, in RFC 3339.
        #[arg(long, value_name = "TIME")]
        at: Option<String>,
    },
    /// What happened to a device: what guards noticed of it last, and what was done, the newest last.
    Events {
        /// The device.
        device: String,
        /// No more than the newest so many.
        #[arg(long, value_name = "N", default_value = "50", value_parser = clap::value_parser!(u32).range(1..=100_000))]
        last: u32,
    },
    /// Change labels, facts, gateway or note.
    Edit(EditArgs),
    /// Take a device out of service for good; its id is never used again.
    Retire {
        /// The device.
        device: String,
        /// Do not ask.
        #[arg(long)]
        yes: bool,
        #[command(flatten)]
        because: Because,
    },
    /// Let in a device that called and waits: it gets its certificate when it calls again.
    Accept(AcceptArgs),
    /// Turn away a device that called and waits.
    Refuse(RefuseArgs),
    /// The retained messages at the broker that only this device can have written; with --clear they are taken away.
    Retained(RetainedArgs),
    /// Let a device that was revoked enrol again.
    Reopen {
        /// The device.
        device: String,
        #[command(flatten)]
        because: Because,
    },
}

#[derive(Debug, Args)]
pub(crate) struct RetainedArgs {
    /// The device.
    pub(crate) device: String,
    /// Take them away, so that nobody who subscribes later gets them.
    #[arg(long)]
    pub(crate) clear: bool,
    /// Do not ask.
    #[arg(long, requires = "clear")]
    pub(crate) yes: bool,
    #[command(flatten)]
    pub(crate) because: Because,
}

#[derive(Debug, Args)]
pub(crate) struct AddArgs {
    /// Its id: lower-case letters, digits, `.` and `-`, 1 to 64 characters.
    pub(crate) device: String,
    /// Its kind, declared in ward.toml.
    #[arg(long)]
    pub(crate) kind: String,
    /// A label; may be repeated.
    #[arg(long, value_name = "NAME=VALUE", value_parser = pair)]
    pub(crate) label: Vec<(String, String)>,
    /// A hardware identifier: serial, mac, imei, eui64, ek, or one that ward.toml declares; may be repeated.
    #[arg(long, value_name = "NAME=VALUE", value_parser = pair)]
    pub(crate) fact: Vec<(String, String)>,
    /// The device that speaks for it.
    #[arg(long, value_name = "DEVICE")]
    pub(crate) gateway: Option<String>,
    /// A remark for people, up to 200 characters. No policy can look at it.
    #[arg(long, value_name = "TEXT")]
    pub(crate) note: Option<String>,
    #[command(flatten)]
    pub(crate) because: Because,
}

#[derive(Debug, Args)]
pub(crate) struct ImportArgs {
    /// CSV with a header: id, kind, and any of gateway, note, label.NAME, fact.NAME. `-` is standard input.
    pub(crate) file: PathBuf,
    /// Take the good rows and write the others to FILE, to be fixed and imported again.
    #[arg(long, value_name = "FILE")]
    pub(crate) rejects: Option<PathBuf>,
    #[command(flatten)]
    pub(crate) because: Because,
}

#[derive(Debug, Args)]
pub(crate) struct ListArgs {
    /// Only devices for which this condition holds, such as 'kind = windvane and site in (ossel, brindle)'.
    #[arg(long = "where", value_name = "CONDITION")]
    pub(crate) condition: Option<String>,
    /// Only these columns, in this order: id, kind, state, gateway, owner, groups, created, ends, seen, note, and names of
    /// labels and facts.
    #[arg(long, value_name = "NAMES", value_delimiter = ',')]
    pub(crate) columns: Vec<String>,
}

#[derive(Debug, Args)]
pub(crate) struct EditArgs {
    /// The device.
    #[arg(required_unless_present = "condition")]
    pub(crate) device: Option<String>,
    /// All devices for which this condition holds, instead of one.
    #[arg(long = "where", value_name = "CONDITION", conflicts_with_all = ["device", "fact"])]
    pub(crate) condition: Option<String>,
    /// How many devices you expect that to be; asked for without it. Another number refuses the change.
    #[arg(long, value_name = "N", requires = "condition")]
    pub(crate) count: Option<u64>,
    /// Set a label; NAME= takes it away.
    #[arg(long, value_name = "NAME=VALUE", value_parser = pair)]
    pub(crate) label: Vec<(String, String)>,
    /// Set a fact; NAME= takes it away.
    #[arg(long, value_name = "NAME=VALUE", value_parser = pair)]
    pub(crate) fact: Vec<(String, String)>,
    /// Set the gateway.
    #[arg(long, value_name = "DEVICE", conflicts_with = "no_gateway")]
    pub(crate) gateway: Option<String>,
    /// Take the gateway away.
    #[arg(long)]
    pub(crate) no_gateway: bool,
    /// Set the note, a remark for people.
    #[arg(long, value_name = "TEXT", conflicts_with = "no_note")]
    pub(crate) note: Option<String>,
    /// Take the note away.
    #[arg(long)]
    pub(crate) no_note: bool,
    /// Do not ask if rights change.
    #[arg(long)]
    pub(crate) yes: bool,
    #[command(flatten)]
    pub(crate) because: Because,
}

#[derive(Debug, Args)]
pub(crate) struct AcceptArgs {
    /// The device, as `device list --where 'state = asking'` names it.
    pub(crate) device: String,
    /// The code of its key, as the device itself shows it; asked for without it.
    #[arg(long)]
    pub(crate) code: Option<String>,
    /// The id that it gets.
    #[arg(long = "as", value_name = "NEWID")]
    pub(crate) new_id: Option<String>,
    /// Its kind, if it is not the one that it came as.
    #[arg(long)]
    pub(crate) kind: Option<String>,
    /// A label that it gets; may be repeated.
    #[arg(long, value_name = "NAME=VALUE", value_parser = pair)]
    pub(crate) label: Vec<(String, String)>,
    /// The device that will speak for it.
    #[arg(long, value_name = "DEVICE")]
    pub(crate) gateway: Option<String>,
    /// Do not ask, where its kind lets devices in without a code.
    #[arg(long)]
    pub(crate) yes: bool,
    #[command(flatten)]
    pub(crate) because: Because,
}

#[derive(Debug, Args)]
pub(crate) struct RefuseArgs {
    /// The device, as `device list --where 'state = asking'` names it.
    pub(crate) device: String,
    /// Do not ask.
    #[arg(long)]
    pub(crate) yes: bool,
    #[command(flatten)]
    pub(crate) because: Because,
}
