use std::path::PathBuf;

use clap::{Args, Subcommand, ValueEnum};

use super::Because;

#[derive(Debug, Args)]
#[command(override_usage = "tidy-warden enroll <DEVICE> (--csr FILE | --make-key) --out DIR\n       \
    tidy-warden enroll --from FILE (--pack FILE [--pack-for CERT] | --out DIR)\n       tidy-warden enroll (--resume | --stop)")]
pub(crate) struct EnrollArgs {
    /// The device.
    #[arg(conflicts_with_all = ["from", "resume", "stop"])]
    pub(crate) device: Option<String>,
    /// The device's request (PKCS#10, PEM or DER). Only its key is taken, after its signature is checked.
    #[arg(long, value_name = "FILE", conflicts_with_all = ["make_key", "from", "resume", "stop"])]
    pub(crate) csr: Option<PathBuf>,
    /// Make the key here; it leaves in the outfit and is not kept.
    #[arg(long, conflicts_with_all = ["from", "resume", "stop"])]
    pub(crate) make_key: bool,
    /// The folder for outfits; each device's own becomes a folder in it.
    #[arg(long, value_name = "DIR", conflicts_with_all = ["resume", "stop"])]
    pub(crate) out: Option<PathBuf>,
    /// Many at once: a list in CSV (id,kind,label.NAME,fact.NAME,csr,...) or JSON Lines; `-` is standard input. Devices
    /// that are not listed are. Where no request is given (a file, PEM, or DER in base64), the key is made here.
    #[arg(long, value_name = "FILE", help_heading = BULK)]
    pub(crate) from: Option<PathBuf>,
    /// Put all outfits into one new file, a compressed archive (.tar.zst) with a document each and a manifest.
    #[arg(long, value_name = "FILE", requires = "from", conflicts_with = "out", help_heading = BULK)]
    pub(crate) pack: Option<PathBuf>,
    /// Encrypt the pack to the owner of this certificate (RSA, p256 or p384), PEM or DER, so that nobody else reads it (CMS, RFC 5083); may
    /// stand several times. What does not fit one batch goes into FILE.2, FILE.3 and so on, each of which opens alone.
    #[arg(long, value_name = "CERT", requires = "pack", help_heading = BULK)]
    pub(crate) pack_for: Vec<PathBuf>,
    /// Where refused rows go; without it, beside the list. They can be fixed and given again.
    #[arg(long, value_name = "FILE", requires = "from", help_heading = BULK)]
    pub(crate) rejects: Option<PathBuf>,
    /// Go on with a run that was interrupted.
    #[arg(long, conflicts_with = "stop", help_heading = BULK)]
    pub(crate) resume: bool,
    /// End a run that was interrupted where it stands; its pack is closed.
    #[arg(long, help_heading = BULK)]
    pub(crate) stop: bool,
    /// Rows that are signed, written and recorded together: 4096, or 20000 with --pack-for, if nothing is said.
    #[arg(long, value_name = "ROWS", value_parser = batch_size, help_heading = BULK)]
    pub(crate) batch: Option<usize>,
    /// Do not ask.
    #[arg(long, help_heading = BULK)]
    pub(crate) yes: bool,
    /// Issue although the device has a certificate; that one may sign in until the new one is used, or its overlap ends.
    #[arg(long)]
    pub(crate) again: bool,
    #[command(flatten)]
    pub(crate) because: Because,
}

/// The heading of options for many devices.
const BULK: &str = "Many devices";

fn batch_size(text: &str) -> Result<usize, String> {
    text.parse().ok().filter(|rows| (1..=20_000).contains(rows)).ok_or_else(|| "expected 1 to 20000".to_owned())
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
    /// Bind certificates or keys that were not made here to their devices.
    Pin(PinArgs),
    /// Whose a certificate is, and its state: by serial number, SHA-256 fingerprint, a fact of the device, or the
    /// certificate itself.
    #[command(group(clap::ArgGroup::new("which").required(true).args(["name", "cert", "fact"])))]
    Show {
        /// The serial number or fingerprint in hexadecimal; colons are passed over.
        name: Option<String>,
        /// A certificate in PEM or DER.
        #[arg(long, value_name = "FILE")]
        cert: Option<PathBuf>,
        /// The newest credential of the device that has this fact.
        #[arg(long, value_name = "NAME=VALUE", value_parser = super::pair)]
        fact: Option<(String, String)>,
        /// What was true of it at this moment, in RFC 3339: whether it was good then.
        #[arg(long, value_name = "TIME")]
        at: Option<String>,
    },
}

#[derive(Debug, Args)]
#[command(override_usage = "tidy-warden credential pin <DEVICE> (--cert FILE | --public-key FILE)\n       \
    tidy-warden credential pin --from FILE")]
pub(crate) struct PinArgs {
    /// The device.
    #[arg(conflicts_with = "from")]
    pub(crate) device: Option<String>,
    /// A self-signed or foreign certificate, in PEM or DER.
    #[arg(long, value_name = "FILE", conflicts_with_all = ["public_key", "from"])]
    pub(crate) cert: Option<PathBuf>,
    /// A bare public key: SubjectPublicKeyInfo in PEM, or a JWK. Any certificate that carries it stands for the device.
    #[arg(long, value_name = "FILE", conflicts_with = "from")]
    pub(crate) public_key: Option<PathBuf>,
    /// Take over a fleet that is in the field: a list in CSV (id,kind,label.NAME,fact.NAME,cert,public_key,until) or JSON
    /// Lines, all of it or nothing; `-` is standard input.
    #[arg(long, value_name = "FILE")]
    pub(crate) from: Option<PathBuf>,
    /// When it ends, in RFC 3339; without it, with the certificate, or after the life that the kind gives.
    #[arg(long, value_name = "TIME")]
    pub(crate) until: Option<String>,
    /// Although the device has a credential, which ends when this one is used, or its overlap is over.
    #[arg(long)]
    pub(crate) again: bool,
    /// Do not ask.
    #[arg(long)]
    pub(crate) yes: bool,
    #[command(flatten)]
    pub(crate) because: Because,
}

#[derive(Debug, Args)]
pub(crate) struct HoldArgs {
    /// The device.
    #[arg(required_unless_present = "condition")]
    pub(crate) device: Option<String>,
    /// All devices for which this condition holds, instead of one; those that are out or retired stay as they are.
    #[arg(long = "where", value_name = "CONDITION", conflicts_with_all = ["device", "yes"])]
    pub(crate) condition: Option<String>,
    /// How many devices you expect that to be; asked for without it. Another number refuses it whole.
    #[arg(long, value_name = "N", requires = "condition")]
    pub(crate) count: Option<u64>,
    /// Do not ask.
    #[arg(long)]
    pub(crate) yes: bool,
    #[command(flatten)]
    pub(crate) because: Because,
}

#[derive(Debug, Args)]
pub(crate) struct RevokeArgs {
    /// The device.
    #[arg(required_unless_present = "condition")]
    pub(crate) device: Option<String>,
    /// All devices for which this condition holds, instead of one.
    #[arg(long = "where", value_name = "CONDITION", conflicts_with_all = ["device", "credential", "yes"])]
    pub(crate) condition: Option<String>,
    /// How many devices you expect that to be; asked for without it. Another number refuses it whole.
    #[arg(long, value_name = "N", requires = "condition")]
    pub(crate) count: Option<u64>,
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
    /// The authority; without it, the only one for devices, or the only one whose list is waiting.
    #[arg(long, value_name = "NAME")]
    pub(crate) authority: Option<String>,
    /// How long it is good, up to its nextUpdate.
    #[arg(long = "for", value_name = "LENGTH", default_value = "7d")]
    pub(crate) life: String,
    /// The file of the authority's key, if that is kept away from the ward.
    #[arg(long, value_name = "FILE")]
    pub(crate) root_key: Option<PathBuf>,
    /// The passphrase file of the root's key, if that is not locked as the ward's other keys are.
    #[arg(long, value_name = "FILE")]
    pub(crate) root_passphrase_file: Option<PathBuf>,
    /// Write DER, as RFC 5280 section 4.2.1.13 wants it at a distribution point, instead of PEM.
    #[arg(long)]
    pub(crate) der: bool,
    #[command(flatten)]
    pub(crate) because: Because,
}

#[derive(Debug, Subcommand)]
pub(crate) enum OutfitCommand {
    /// Write connect.json, chain.pem and root.pem of devices that have a certificate. Keys and certificates stay as they are.
    Refresh(RefreshArgs),
    /// Show all that one needs to type for a device to connect, in one place.
    Show(Box<ShowOutfitArgs>),
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum OutfitForm {
    /// Host, port, client identifier, user name, topics, the root's fingerprint, and which file is what.
    Card,
    /// Options for the clients of mosquitto, and a bridge block for a local broker.
    Mosquitto,
    /// C constants for a microcontroller, with the root in them.
    Header,
    /// Variables for a shell or a service manager.
    Env,
    /// The connect.json of an outfit, for a device that has no certificate and so no outfit.
    Connect,
    /// Its key and certificates in one locked file (PKCS#12), for programs that want it so; into --out, with --outfit for the key.
    P12,
}

#[derive(Debug, Args)]
pub(crate) struct ShowOutfitArgs {
    /// The device.
    pub(crate) device: String,
    /// The form.
    #[arg(long = "as", value_enum, default_value = "card")]
    pub(crate) form: OutfitForm,
    /// Its outfit, or the folder of all outfits; for what needs its private key.
    #[arg(long, value_name = "DIR")]
    pub(crate) outfit: Option<PathBuf>,
    /// Make a token that lasts so long, as part of it.
    #[arg(long, value_name = "LENGTH")]
    pub(crate) token: Option<String>,
    /// Write it into this file, which only its owner can read and must not exist.
    #[arg(long, value_name = "FILE")]
    pub(crate) out: Option<PathBuf>,
    /// A file with the passphrase of the file that --as p12 writes; without it the terminal is asked.
    #[arg(long, env = "TIDY_WARDEN_P12_PASSPHRASE_FILE", value_name = "FILE", hide_env_values = true)]
    pub(crate) p12_passphrase_file: Option<PathBuf>,
    #[command(flatten)]
    pub(crate) because: Because,
}

#[derive(Debug, Args)]
pub(crate) struct RefreshArgs {
    /// The device.
    #[arg(required_unless_present = "condition")]
    pub(crate) device: Option<String>,
    /// All devices for which this condition holds, instead of one; those without a usable certificate are left out.
    #[arg(long = "where", value_name = "CONDITION", conflicts_with = "device")]
    pub(crate) condition: Option<String>,
    /// The folder with the outfits: DIR/DEVICE gets the files, and is made where it is not there.
    #[arg(long, value_name = "DIR")]
    pub(crate) out: PathBuf,
}
