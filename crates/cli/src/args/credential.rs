use std::path::PathBuf;

use clap::{Args, Subcommand};

use super::Because;

#[derive(Debug, Args)]
#[group(id = "key", required = true, multiple = false, args = ["csr", "make_key"])]
pub(crate) struct EnrollArgs {
    /// The device.
    pub(crate) device: String,
    /// The device's request (PKCS#10, PEM or DER). Only its key is taken, after its signature is checked.
    #[arg(long, value_name = "FILE")]
    pub(crate) csr: Option<PathBuf>,
    /// Make the key here; it leaves in the outfit and is not kept.
    #[arg(long)]
    pub(crate) make_key: bool,
    /// The folder for outfits; the device's own becomes a folder in it.
    #[arg(long, value_name = "DIR")]
    pub(crate) out: PathBuf,
    /// Issue although the device has a certificate; that one may sign in until the new one is used, or its overlap ends.
    #[arg(long)]
    pub(crate) again: bool,
    #[command(flatten)]
    pub(crate) because: Because,
}

#[derive(Debug, Subcommand)]
pub(crate) enum CredentialCommand {
    /// The certificates of the fleet, those that end first at the top.
    List {
        /// Only of devices for which this condition holds.
        #[arg(long = "where", value_name = "CONDITION")]
        condition: Option<String>,
        /// Also those that may not sign in any more.
        #[arg(long)]
        all: bool,
    },
    /// Whose a certificate is, and its state: by serial number, SHA-256 fingerprint, or the certificate itself.
    #[group(id = "which", required = true, multiple = false, args = ["name", "cert"])]
    Show {
        /// The serial number or fingerprint in hexadecimal; colons are passed over.
        name: Option<String>,
        /// A certificate in PEM or DER.
        #[arg(long, value_name = "FILE")]
        cert: Option<PathBuf>,
    },
}

#[derive(Debug, Subcommand)]
pub(crate) enum TokenCommand {
    /// Sign a token for a device and write it, alone, to standard output. It is not kept.
    Issue {
        /// The device; its kind must have token_login = true.
        device: String,
        /// How long it lasts, such as 8h; at most the kind's token_life.
        #[arg(long = "for", value_name = "LENGTH", default_value = "1h")]
        life: String,
        #[command(flatten)]
        because: Because,
    },
    /// Say what a token says, and whether this ward would take it now.
    Read {
        /// The token; without it, standard input is read, which keeps it out of the process list.
        token: Option<String>,
    },
}

#[derive(Debug, Args)]
pub(crate) struct RevokeArgs {
    /// The device.
    pub(crate) device: String,
    /// keyCompromise, affiliationChanged, superseded, cessationOfOperation, privilegeWithdrawn or unspecified.
    #[arg(long)]
    pub(crate) reason: String,
    /// Only the certificate with this serial number or SHA-256 fingerprint; the device stays in.
    #[arg(long, value_name = "HEX")]
    pub(crate) credential: Option<String>,
    /// Do not ask.
    #[arg(long)]
    pub(crate) yes: bool,
    #[command(flatten)]
    pub(crate) because: Because,
}

#[derive(Debug, Args)]
pub(crate) struct CrlArgs {
    /// The file to write; one that exists is replaced.
    #[arg(long, value_name = "FILE")]
    pub(crate) out: PathBuf,
    /// The authority; without it, the devices' authority.
    #[arg(long, value_name = "NAME")]
    pub(crate) authority: Option<String>,
    /// How long it is good, up to its nextUpdate.
    #[arg(long = "for", value_name = "LENGTH", default_value = "7d")]
    pub(crate) life: String,
    /// Write DER, as RFC 5280 section 4.2.1.13 wants it at a distribution point, instead of PEM.
    #[arg(long)]
    pub(crate) der: bool,
}
