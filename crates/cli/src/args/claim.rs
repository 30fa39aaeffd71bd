use std::path::PathBuf;

use clap::{Args, Subcommand, ValueEnum};

use super::{Because, pair};

#[derive(Debug, Subcommand)]
pub(crate) enum OwnerCommand {
    /// Add an owner: who buys devices and claims them.
    Add(AddOwnerArgs),
    /// Change the contact or the places of an owner.
    Edit(EditOwnerArgs),
    /// All owners.
    List,
    /// An owner: its places, its devices, what is offered to it.
    Show {
        /// The owner.
        owner: String,
    },
    /// Make a personal link by which an owner signs in at the desk's page, once.
    Link {
        /// The owner.
        owner: String,
        /// How long the link is good.
        #[arg(long = "for", value_name = "LENGTH", default_value = "7d")]
        length: String,
        /// Write it into this file, which only its owner can read and must not exist, and do not show it.
        #[arg(long, value_name = "FILE")]
        out: Option<PathBuf>,
        #[command(flatten)]
        because: Because,
    },
    /// Make a token by which a program acts for an owner at the desk's interface, described in its /openapi.json.
    Token {
        /// The owner.
        owner: String,
        /// How long it is good.
        #[arg(long = "for", value_name = "LENGTH", default_value = "1d")]
        length: String,
        /// What for: devices:read, devices:claim, devices:give; may be repeated.
        #[arg(long, value_name = "SCOPE", required = true)]
        scope: Vec<String>,
        /// Write it into this file, which only its owner can read and must not exist, and do not show it.
        #[arg(long, value_name = "FILE")]
        out: Option<PathBuf>,
        #[command(flatten)]
        because: Because,
    },
    /// End all links, sessions and tokens of an owner.
    SignOut(NamedOwnerArgs),
    /// Let an owner try claim codes again that gave too many wrong ones.
    Unlock(NamedOwnerArgs),
    /// Retire an owner that has no devices: its contact is erased, its name stands in the histories of devices.
    Retire(NamedOwnerArgs),
}

#[derive(Debug, Args)]
pub(crate) struct NamedOwnerArgs {
    /// The owner.
    pub(crate) owner: String,
    /// Do not ask.
    #[arg(long)]
    pub(crate) yes: bool,
    #[command(flatten)]
    pub(crate) because: Because,
}

#[derive(Debug, Args)]
pub(crate) struct AddOwnerArgs {
    /// Its name: what the field `owner` of its devices says.
    pub(crate) owner: String,
    /// How people reach it; the audit record has no more of it than a keyed digest, and `owner retire` erases it.
    #[arg(long, value_name = "TEXT")]
    pub(crate) contact: Option<String>,
    /// A label that stands for a place where it may put its devices, such as site=ossel; may be repeated.
    #[arg(long, value_name = "NAME=VALUE", value_parser = pair)]
    pub(crate) place: Vec<(String, String)>,
    #[command(flatten)]
    pub(crate) because: Because,
}

#[derive(Debug, Args)]
pub(crate) struct EditOwnerArgs {
    /// The owner.
    pub(crate) owner: String,
    /// Another contact.
    #[arg(long, value_name = "TEXT")]
    pub(crate) contact: Option<String>,
    /// Erase the contact.
    #[arg(long, conflicts_with = "contact")]
    pub(crate) no_contact: bool,
    /// One place more; may be repeated.
    #[arg(long, value_name = "NAME=VALUE", value_parser = pair)]
    pub(crate) place: Vec<(String, String)>,
    /// One place less: devices that are there stay there; may be repeated.
    #[arg(long, value_name = "NAME=VALUE", value_parser = pair)]
    pub(crate) no_place: Vec<(String, String)>,
    #[command(flatten)]
    pub(crate) because: Because,
}

#[derive(Debug, Subcommand)]
pub(crate) enum ClaimCommand {
    /// Open devices to be claimed, each with a code that is told this once.
    Open(OpenClaimArgs),
    /// Nobody can claim a device any more until it is opened again.
    Close {
        /// The device.
        device: String,
        #[command(flatten)]
        because: Because,
    },
    /// Print stickers with QR codes: one as PNG or SVG, or sheets of many as PDF.
    Print(PrintArgs),
    /// Have an owner take a device: with its code, or because its owner hands it over.
    Take(TakeArgs),
    /// Devices that can be claimed, or are offered to another owner.
    List,
    /// Give devices up: they are nobody's then, and their places go with their owners.
    GiveUp(GiveUpArgs),
    /// Offer a device to another owner, who takes it with `claim take`, or does not.
    HandOver(HandOverArgs),
    /// Write an ownership voucher (RFC 8366): by it a device without a network to the ward knows whose it is.
    Voucher(VoucherArgs),
    /// Say what a device makes of a voucher that it is shown: exit 0 or 3. It needs no ward.
    CheckVoucher(CheckVoucherArgs),
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum VoucherFormArg {
    /// JSON in CMS signed-data, in DER (RFC 8366 section 5.4).
    Cms,
    /// JSON in a JWS (RFC 7515); this form is ours.
    Jws,
}

#[derive(Debug, Args)]
pub(crate) struct VoucherArgs {
    /// The device.
    pub(crate) device: String,
    /// Its owner.
    #[arg(long, value_name = "OWNER")]
    pub(crate) owner: String,
    /// The certificate by which the device knows its owner, PEM or DER.
    #[arg(long, value_name = "FILE")]
    pub(crate) owner_cert: PathBuf,
    /// The file to write, which must not exist.
    #[arg(long, value_name = "FILE")]
    pub(crate) out: PathBuf,
    /// How it is written.
    #[arg(long, value_enum, default_value = "cms")]
    pub(crate) form: VoucherFormArg,
    /// How long it is good, for devices with a clock; 30 days if nothing is said.
    #[arg(long = "for", value_name = "LENGTH", conflicts_with = "nonce")]
    pub(crate) length: Option<String>,
    /// The random octets with which the device asked, 8 to 32 in hexadecimal; it has no end then.
    #[arg(long, value_name = "HEX")]
    pub(crate) nonce: Option<String>,
    #[command(flatten)]
    pub(crate) because: Because,
}

#[derive(Debug, Args)]
pub(crate) struct CheckVoucherArgs {
    /// The voucher.
    pub(crate) file: PathBuf,
    /// The root that the device believes.
    #[arg(long, value_name = "FILE", required_unless_present = "outfit")]
    pub(crate) root: Option<PathBuf>,
    /// Be the device with this outfit: its root, and its id as the serial number if none is given.
    #[arg(long, value_name = "DIR", conflicts_with = "root")]
    pub(crate) outfit: Option<PathBuf>,
    /// The serial number of the device.
    #[arg(long, value_name = "TEXT")]
    pub(crate) serial: Option<String>,
    /// The certificate of the owner that the device meets.
    #[arg(long, value_name = "FILE")]
    pub(crate) owner_cert: Option<PathBuf>,
    /// The random octets with which the device asked, in hexadecimal.
    #[arg(long, value_name = "HEX")]
    pub(crate) nonce: Option<String>,
    /// The device has no clock: only a nonce makes a voucher fresh.
    #[arg(long)]
    pub(crate) without_clock: bool,
}

#[derive(Debug, Args)]
pub(crate) struct OpenClaimArgs {
    /// The device.
    #[arg(required_unless_present = "condition")]
    pub(crate) device: Option<String>,
    /// Every device that meets this condition.
    #[arg(long = "where", value_name = "CONDITION", conflicts_with_all = ["device", "code_file"], requires = "out")]
    pub(crate) condition: Option<String>,
    /// How many devices that are; a yes in scripts.
    #[arg(long, value_name = "N", requires = "condition")]
    pub(crate) count: Option<u64>,
    /// Where the code comes from: `auto` makes one.
    #[arg(long, value_name = "auto", value_parser = ["auto"], default_value = "auto")]
    pub(crate) code: String,
    /// The code is in this file.
    #[arg(long, value_name = "FILE")]
    pub(crate) code_file: Option<PathBuf>,
    /// How long it can be claimed.
    #[arg(long = "for", value_name = "LENGTH", default_value = "30d")]
    pub(crate) length: String,
    /// Write the code, or for many a CSV with id, code, ends and link, into this file, which only its owner can read and must not exist.
    #[arg(long, value_name = "FILE")]
    pub(crate) out: Option<PathBuf>,
    #[command(flatten)]
    pub(crate) because: Because,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum PaperArg {
    /// 210 by 297 mm.
    A4,
    /// 8.5 by 11 inches.
    Letter,
}

#[derive(Debug, Args)]
pub(crate) struct PrintArgs {
    /// The device.
    #[arg(required_unless_present = "from", requires = "out")]
    pub(crate) device: Option<String>,
    /// Its code is in this file.
    #[arg(long, value_name = "FILE", requires = "device")]
    pub(crate) code_file: Option<PathBuf>,
    /// The file of the sticker, which must not exist: .png or .svg.
    #[arg(long, value_name = "FILE", requires = "device")]
    pub(crate) out: Option<PathBuf>,
    /// All of a CSV with id, code and ends, as `claim open --where --out` writes it.
    #[arg(long, value_name = "FILE", conflicts_with = "device", requires = "sheet")]
    pub(crate) from: Option<PathBuf>,
    /// The file of the sheets, which must not exist, as PDF with marks where to cut.
    #[arg(long, value_name = "FILE", requires = "from")]
    pub(crate) sheet: Option<PathBuf>,
    /// The paper of the sheets.
    #[arg(long, value_enum, default_value = "a4")]
    pub(crate) paper: PaperArg,
}

#[derive(Debug, Args)]
pub(crate) struct TakeArgs {
    /// The device.
    pub(crate) device: String,
    /// The owner.
    #[arg(long, value_name = "OWNER")]
    pub(crate) owner: String,
    /// The code; others on this machine may see it: better in a file.
    #[arg(long, value_name = "CODE", conflicts_with = "code_file")]
    pub(crate) code: Option<String>,
    /// The code is in this file.
    #[arg(long, value_name = "FILE")]
    pub(crate) code_file: Option<PathBuf>,
    /// Where the owner puts it, out of its places; needed only if it has several; may be repeated.
    #[arg(long, value_name = "NAME=VALUE", value_parser = pair)]
    pub(crate) place: Vec<(String, String)>,
    /// Do not ask.
    #[arg(long)]
    pub(crate) yes: bool,
    #[command(flatten)]
    pub(crate) because: Because,
}

#[derive(Debug, Args)]
pub(crate) struct GiveUpArgs {
    /// The device.
    #[arg(required_unless_present = "condition")]
    pub(crate) device: Option<String>,
    /// Every device that meets this condition and has an owner.
    #[arg(long = "where", value_name = "CONDITION", conflicts_with = "device")]
    pub(crate) condition: Option<String>,
    /// How many devices that are; a yes in scripts.
    #[arg(long, value_name = "N", requires = "condition")]
    pub(crate) count: Option<u64>,
    /// Do not ask.
    #[arg(long, conflicts_with = "condition")]
    pub(crate) yes: bool,
    #[command(flatten)]
    pub(crate) because: Because,
}

#[derive(Debug, Args)]
pub(crate) struct HandOverArgs {
    /// The device.
    pub(crate) device: String,
    /// To whom.
    #[arg(long, value_name = "OWNER", required_unless_present = "withdraw")]
    pub(crate) to: Option<String>,
    /// How long that owner can take it; without it as `offer` under `[claims]` says.
    #[arg(long = "for", value_name = "LENGTH", requires = "to")]
    pub(crate) length: Option<String>,
    /// Take the offer back.
    #[arg(long, conflicts_with = "to")]
    pub(crate) withdraw: bool,
    /// Do not ask.
    #[arg(long)]
    pub(crate) yes: bool,
    #[command(flatten)]
    pub(crate) because: Because,
}
