use std::path::PathBuf;

use clap::{Args, Subcommand, ValueEnum};

use super::{Because, pair};

#[derive(Debug, Subcommand)]
pub(crate) enum AdmissionCommand {
    /// Let one device come in by itself: whoever proves to be it is listed and given a certificate, once.
    Open(OpenAdmissionArgs),
    /// Open admissions for all devices of a CSV file: all, or none and every reason why.
    Import(ImportAdmissionsArgs),
    /// The admissions of the ward.
    List {
        /// Only those in this state.
        #[arg(long, value_enum)]
        state: Option<StateArg>,
    },
    /// All that is known of an admission.
    Show {
        /// Its name, such as A7.
        admission: String,
    },
    /// Withdraw admissions that were not used.
    Withdraw {
        /// Their names, such as A7.
        #[arg(required = true)]
        admission: Vec<String>,
        /// Do not ask.
        #[arg(long)]
        yes: bool,
        #[command(flatten)]
        because: Because,
    },
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum StateArg {
    /// They can be used.
    Open,
    /// A device enrolled by them.
    Used,
    /// Their time is over.
    Lapsed,
    /// They were withdrawn.
    Withdrawn,
}

/// How long admissions stay open.
#[derive(Debug, Args)]
pub(crate) struct OpenFor {
    /// How long it stays open; by default 30 days.
    #[arg(long = "for", value_name = "LENGTH", conflicts_with = "until")]
    pub(crate) length: Option<String>,
    /// Until when it stays open, in RFC 3339.
    #[arg(long, value_name = "TIME")]
    pub(crate) until: Option<String>,
}

#[derive(Debug, Args)]
pub(crate) struct OpenAdmissionArgs {
    /// The id that the device gets, or has; each fact in braces stands for its value, as in gg-{serial}.
    #[arg(long, value_name = "ID")]
    pub(crate) id: String,
    /// Its kind, declared in ward.toml.
    #[arg(long)]
    pub(crate) kind: String,
    /// A label that it gets; may be repeated.
    #[arg(long, value_name = "NAME=VALUE", value_parser = pair)]
    pub(crate) label: Vec<(String, String)>,
    /// A hardware identifier that it must have: serial, mac, imei, eui64, ek, or one that ward.toml declares; may be repeated.
    #[arg(long, value_name = "NAME=VALUE", value_parser = pair)]
    pub(crate) fact: Vec<(String, String)>,
    /// The device that will speak for it.
    #[arg(long, value_name = "DEVICE")]
    pub(crate) gateway: Option<String>,
    /// Who it will belong to.
    #[arg(long, value_name = "OWNER")]
    pub(crate) owner: Option<String>,
    /// It must show a secret, which is made here, told once and not kept.
    #[arg(long, conflicts_with_all = ["public_key", "certificate"])]
    pub(crate) secret: bool,
    /// Write the secret into this new file, for its owner only, and do not show it.
    #[arg(long, value_name = "FILE", requires = "secret")]
    pub(crate) out: Option<PathBuf>,
    /// It must hold the key of this public key, in PEM or as a JWK.
    #[arg(long, value_name = "FILE", conflicts_with = "certificate")]
    pub(crate) public_key: Option<PathBuf>,
    /// It must show the certificate of a trusted manufacturer that names its facts.
    #[arg(long)]
    pub(crate) certificate: bool,
    #[command(flatten)]
    pub(crate) ends: OpenFor,
    #[command(flatten)]
    pub(crate) because: Because,
}

#[derive(Debug, Args)]
pub(crate) struct ImportAdmissionsArgs {
    /// CSV with a header: id, kind, and any of gateway, owner, label.NAME, fact.NAME, public_key (a file), until. `-` is standard input.
    pub(crate) file: PathBuf,
    /// Make a secret for each, and write the list with a column `secret` into this new file, for its owner only.
    #[arg(long, value_name = "FILE")]
    pub(crate) out: Option<PathBuf>,
    /// Go on with a list that was interrupted.
    #[arg(long)]
    pub(crate) resume: bool,
    #[command(flatten)]
    pub(crate) ends: OpenFor,
    #[command(flatten)]
    pub(crate) because: Because,
}
