//! The command line as types. No work is done here.

mod admission;
mod claim;
mod credential;
mod device;
mod due;
mod errand;
mod examples;
mod group;
mod job;
mod notice;
mod policy;
mod post;
mod reflex;
mod rotation;
mod run;
mod store;
mod token;

use std::path::PathBuf;
use std::process::ExitCode;

use clap::{Args, CommandFactory, FromArgMatches, Parser, Subcommand};

pub(crate) use admission::{AdmissionCommand, ImportAdmissionsArgs, OpenAdmissionArgs, OpenFor, StateArg};
pub(crate) use claim::{
    AddOwnerArgs, CheckVoucherArgs, ClaimCommand, EditOwnerArgs, GiveUpArgs, HandOverArgs, NamedOwnerArgs,
    OpenClaimArgs, OwnerCommand, PaperArg, PrintArgs, TakeArgs, VoucherArgs, VoucherFormArg,
};
pub(crate) use credential::{
    CredentialCommand, CrlArgs, EnrollArgs, HoldArgs, OutfitCommand, OutfitForm, PinArgs, RefreshArgs, RevokeArgs,
    ShowOutfitArgs,
};
pub(crate) use device::{AcceptArgs, AddArgs, DeviceCommand, EditArgs, ImportArgs, ListArgs, RefuseArgs, RetainedArgs};
pub(crate) use due::DueArgs;
pub(crate) use errand::{ErrandCommand, ListErrandsArgs, SendErrandArgs};
pub(crate) use group::{GroupCommand, MakeGroupArgs};
pub(crate) use job::JobCommand;
pub(crate) use notice::NoticeCommand;
pub(crate) use policy::{
    AdoptArgs, AskArgs, AskedAct, CheckArgs, CompareArgs, DraftArgs, FormatArgs, PolicyCommand, ReachArgs, TrialArgs,
};
pub(crate) use post::{AddPostArgs, PostCommand, RoleArg};
pub(crate) use reflex::{NamedReflexArgs, ReflexCommand};
pub(crate) use rotation::{PrepareRotationArgs, RotationCommand, SayArgs};
pub(crate) use run::{
    DemoArgs, DeskArgs, GuardArgs, JoinArgs, LoadArgs, LogForm, Misdeed, ProbeArgs, ScaleArgs, SimulateArgs,
    SimulateCommand, TopicMatchArgs, WatchArgs,
};
pub(crate) use store::StoreCommand;
pub(crate) use token::{
    AddKeyArgs, BlockArgs, BlockTokenArgs, IssueArgs, KeyCommand, KeyMaterial, ReadArgs, RotateKeyArgs, SignerCommand,
    TokenCommand, TokenForm, VerifyArgs,
};

use crate::console::Format;

/// The commands in the groups and the order of the work, which the generated list cannot show.
const COMMANDS: &str = "\
prepare
  init       make a ward: settings, authorities, store, a place for policies
  authority  add and see certificate authorities, hand their certificates out, judge chains
  settings   check ward.toml; adopt it for all machines
  passphrase change what opens the ward's keys; see which keys it opens
register
  device     list devices and keep what is known of them
  group      put devices under one name, by rule or by list
  admission  let devices come in by themselves, each once: open, see and withdraw permissions
credentials
  enroll     give a device its certificate: from its request (CSR), or with a key made here
  outfit     show what a device needs to connect; write the public parts of outfits anew
  credential see the certificates of the fleet and whose one is, and bind others to devices
  key        give devices keys of their own for tokens; block keys that must never be accepted
  token      make, read, judge and block tokens that stand for a device
policy
  policy     check, compare, adopt and question policies; draft them from what happens
run
  guard      stand between the devices and the MQTT broker and let pass what policy allows
  desk       let devices enrol and renew by themselves over HTTPS, and give out revocation lists
  join       on a device: make its key and get its certificate from a desk, or the next one
  post       guards and desks on machines of their own: add, see and retire them
  probe      walk a device's whole way, from its outfit to an answered message, and say where it ends
  watch      see what the guard does as it happens, or messages
claim
  owner      who buys devices: add and see owners, their places, links by which they sign in
  claim      devices find their owners: open them with codes, take them, give them up, hand them over
keep true
  due        see what ends or falls due: what renews by itself, and what needs you
  rotation   renew certificates or shared keys of many devices in rounds, each judged before the next
  errand     ask a device to do something, over MQTT: renew, restart, report, identify, or what its kind knows
  reflex     what the ward does by itself: see it, try it on the last 30 days, take it back
  notice     what a web service was told: see it, try it, show the key that signs it
  hold       suspend a device, everywhere and at once, until it is released
  release    lift a hold
  revoke     end a device's certificates and tokens, everywhere and at once
  crl        sign and write an authority's current certificate revocation list
see
  job        see, go on with or end long work that was interrupted
  audit      read the audit record and prove that it is whole
  store      see the store as a whole; accept one that was put back from a backup
try
  simulate   be a fleet: publish, answer, misbehave; or put load on a guard and measure
  demo       see a device's whole life in a made-up fleet, with nothing installed

Exit codes: 0 done or yes, 1 failed, 2 usage, 3 refused or no, 4 not found, 5 done in part.";

/// The heading of options that every command takes.
const EVERYWHERE: &str = "For every command";

const TEMPLATE: &str = "{about-with-newline}\n{usage-heading} {usage}{after-help}\n\nOptions:\n{options}";

/// Credentials and policies for a fleet of devices: who each one is, what it may say, and that it is out when it is lost.
#[derive(Debug, Parser)]
#[command(name = "tidy-warden", version, after_help = COMMANDS, help_template = TEMPLATE)]
pub(crate) struct Cli {
    /// The ward's folder.
    #[arg(
        long,
        global = true,
        env = "TIDY_WARDEN_WARD",
        default_value = ".",
        value_name = "DIR",
        hide_env_values = true,
        help_heading = EVERYWHERE
    )]
    pub(crate) ward: PathBuf,
    /// The form of results on standard output.
    #[arg(long, global = true, value_enum, default_value = "table", help_heading = EVERYWHERE)]
    pub(crate) format: Format,
    /// Leave out notes on standard error.
    #[arg(long, global = true, help_heading = EVERYWHERE)]
    pub(crate) quiet: bool,
    /// A file with the passphrase that opens the ward's keys; without it the terminal is asked.
    #[arg(long, global = true, env = "TIDY_WARDEN_PASSPHRASE_FILE", value_name = "FILE", hide_env_values = true, help_heading = EVERYWHERE)]
    pub(crate) passphrase_file: Option<PathBuf>,
    /// A file with the PIN of the PKCS#11 token that holds an authority's key; without it the terminal is asked.
    #[arg(long, global = true, env = "TIDY_WARDEN_PIN_FILE", value_name = "FILE", hide_env_values = true, help_heading = EVERYWHERE)]
    pub(crate) pin_file: Option<PathBuf>,
    /// Whether the call itself says so, and not its environment.
    #[arg(skip)]
    pub(crate) is_ward_named: bool,
    #[command(subcommand)]
    pub(crate) command: Command,
}

/// How far a record was seen: the number of an entry, and its hash.
fn seen(text: &str) -> Result<(i64, [u8; 32]), String> {
    let parsed = text.split_once(':').and_then(|(number, hash)| {
        let hash = data_encoding::HEXLOWER_PERMISSIVE.decode(hash.as_bytes()).ok()?;
        Some((number.parse().ok().filter(|number| *number > 0)?, hash.try_into().ok()?))
    });
    parsed.ok_or_else(|| "expected NUMBER:HASH, as the log of a guard has it".to_owned())
}

/// A size as policies write it.
fn size(text: &str) -> Result<usize, String> {
    let size = tidy_warden_core::policy::parse_size(text).and_then(|size| usize::try_from(size).ok());
    size.ok_or_else(|| "expected a size such as 200, 2KiB or 1MiB, at most 256MiB".to_owned())
}

#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Make a ward: settings, authorities, store, a place for policies.
    Init(InitArgs),
    /// Add and see certificate authorities, hand their certificates out, judge chains.
    #[command(subcommand)]
    Authority(AuthorityCommand),
    /// Check ward.toml; adopt it for all machines.
    #[command(subcommand)]
    Settings(SettingsCommand),
    /// Change the passphrase of the ward's keys; see which keys it opens.
    #[command(subcommand)]
    Passphrase(PassphraseCommand),
    /// List devices and keep what is known of them.
    #[command(subcommand)]
    Device(DeviceCommand),
    /// Put devices under one name, by rule or by list.
    #[command(subcommand)]
    Group(GroupCommand),
    /// Let devices come in by themselves, each once: open, see and withdraw permissions.
    #[command(subcommand)]
    Admission(AdmissionCommand),
    /// Give a device its certificate: from its request (CSR), or with a key made here.
    #[command(alias = "enrol")]
    Enroll(Box<EnrollArgs>),
    /// Show what a device needs to connect; write the public parts of outfits anew when topics or authorities change.
    #[command(subcommand)]
    Outfit(OutfitCommand),
    /// See the certificates of the fleet and whose one is, and bind others to devices.
    #[command(subcommand)]
    Credential(CredentialCommand),
    /// Give devices keys of their own to sign tokens with; block keys that must never be accepted.
    #[command(subcommand)]
    Key(KeyCommand),
    /// Make, read, judge and block tokens that stand for a device.
    #[command(subcommand)]
    Token(TokenCommand),
    /// Check, compare, adopt and question policies; draft them from what happens.
    #[command(subcommand)]
    Policy(PolicyCommand),
    /// Stand between the devices and the MQTT broker and let pass what policy allows.
    Guard(Box<GuardArgs>),
    /// Let devices enrol and renew by themselves over HTTPS (EST), and give out revocation lists.
    Desk(DeskArgs),
    /// On a device: make its key, get its certificate from a desk over EST, and renew it. It needs no ward.
    Join(Box<JoinArgs>),
    /// Guards and desks on machines of their own.
    #[command(subcommand)]
    Post(PostCommand),
    /// Walk a device's whole way, from its outfit to an answered message, and say where it ends.
    Probe(ProbeArgs),
    /// See what the guard does as it happens, or messages.
    Watch(WatchArgs),
    /// Who buys devices and claims them.
    #[command(subcommand)]
    Owner(OwnerCommand),
    /// How devices find their owners: opened with a code, taken, given up, handed over.
    #[command(subcommand)]
    Claim(ClaimCommand),
    /// See what ends or falls due within some time: what renews by itself, and what needs you.
    ///
    /// Certificates and keys of devices, certificates of guards and desks, authorities, revocation lists, keys that sign tokens, admissions,
    /// devices that wait for a yes, and holds at which nobody looked.
    Due(DueArgs),
    /// Renew the certificates of many devices in rounds, each judged before the next begins.
    #[command(subcommand)]
    Rotation(RotationCommand),
    /// Ask single devices to do something, over MQTT, and hear what they answer.
    #[command(subcommand)]
    Errand(ErrandCommand),
    /// See what the ward does by itself when something happens to a device, try it, and take it back.
    #[command(subcommand)]
    Reflex(ReflexCommand),
    /// See what a web service was told, try it, and show the key by which it checks that.
    #[command(subcommand)]
    Notice(NoticeCommand),
    /// Suspend a device, everywhere and at once, until it is released.
    Hold(HoldArgs),
    /// Lift a hold.
    Release(HoldArgs),
    /// End a device's certificates and tokens, everywhere and at once.
    Revoke(RevokeArgs),
    /// Sign and write an authority's current certificate revocation list.
    Crl(CrlArgs),
    /// See, go on with or end long work that was interrupted.
    #[command(subcommand)]
    Job(JobCommand),
    /// Read the audit record and prove that it is whole.
    #[command(subcommand)]
    Audit(AuditCommand),
    /// See the store as a whole; accept one that was put back from a backup.
    #[command(subcommand)]
    Store(StoreCommand),
    /// Be a fleet: publish, answer, misbehave; or put load on a guard and measure.
    Simulate(SimulateArgs),
    /// See a device's whole life in a made-up fleet, with nothing installed.
    Demo(DemoArgs),
    #[command(hide = true)]
    TopicMatch(TopicMatchArgs),
}

#[derive(Debug, Args)]
pub(crate) struct InitArgs {
    /// The ward's name, for people: 1 to 40 characters.
    #[arg(long)]
    pub(crate) name: String,
    /// The host name or IP address at which devices reach the guard.
    #[arg(long)]
    pub(crate) host: Option<String>,
    /// The http:// address, ending in `/`, under which you will publish revocation lists; it goes into every certificate.
    #[arg(long, value_name = "URL")]
    pub(crate) crl: Option<String>,
    /// Your IANA private enterprise number, for urn:dev:org: names.
    #[arg(long, value_name = "NUMBER", value_parser = clap::value_parser!(u32).range(1..))]
    pub(crate) enterprise_number: Option<u32>,
    /// Keep what the ward knows in this PostgreSQL database, which must be there and empty, and not in a file of the ward's folder.
    #[arg(long, value_name = "postgresql://...")]
    pub(crate) store: Option<String>,
    /// A file with the password of the role in that database; without it PGPASSFILE is looked into.
    #[arg(long, value_name = "FILE", requires = "store")]
    pub(crate) store_password_file: Option<PathBuf>,
    /// A passphrase file for the root's key alone.
    #[arg(long, value_name = "FILE")]
    pub(crate) root_passphrase_file: Option<PathBuf>,
    /// Write the root's key into this folder and not into the ward, to be kept away from it.
    #[arg(long, value_name = "DIR")]
    pub(crate) root_offline: Option<PathBuf>,
    /// A passphrase file for the guard's own TLS key alone.
    #[arg(long, value_name = "FILE")]
    pub(crate) guard_passphrase_file: Option<PathBuf>,
    /// A ward for rehearsals: its clock can be set, its guard stays on loopback, its keys are locked at little cost, and its certificates say so.
    #[arg(long)]
    pub(crate) rehearsal: bool,
}

#[derive(Debug, Subcommand)]
pub(crate) enum AuthorityCommand {
    /// All authorities.
    List,
    /// Add an authority: one that signs devices, a new root, or a foreign one whose certificates are taken.
    Add(Box<AddAuthorityArgs>),
    /// Stop trusting an authority: the guard refuses whatever leads only to it, within a second.
    Retire {
        /// The authority.
        authority: String,
        /// Although devices depend on it.
        #[arg(long)]
        anyway: bool,
        /// Do not ask.
        #[arg(long)]
        yes: bool,
        #[command(flatten)]
        because: Because,
    },
    /// Say whether a certificate leads to a root, by the rules of RFC 5280, and if not, why: exit 0 or 3.
    Judge(JudgeArgs),
    /// What a person compares: subject, key, fingerprint, ends, and how many certificates it signed.
    Show {
        /// The authority, as `authority list` names it.
        authority: String,
        /// Of a root: list the devices that are not known to have it.
        #[arg(long)]
        missing: bool,
    },
    /// Write root.pem and issuing.pem (all issuing certificates) into a folder, or the keys that sign tokens into a file.
    Export {
        /// The folder; made if it does not exist.
        #[arg(long, value_name = "DIR", required_unless_present = "jwks")]
        out: Option<PathBuf>,
        /// The file for the keys that tokens are verified with, as a JWK set (RFC 7517); one that exists is replaced.
        #[arg(long, value_name = "FILE")]
        jwks: Option<PathBuf>,
    },
}

#[derive(Debug, Args)]
pub(crate) struct AddAuthorityArgs {
    /// Its name in the ward.
    pub(crate) authority: String,
    /// The type of its key: p256, p384, ed25519, rsa3072 or ml-dsa-65.
    #[arg(long, value_name = "TYPE", default_value = "p256")]
    pub(crate) key: String,
    /// How long its certificate lasts; by default 10 years, a root 20.
    #[arg(long, value_name = "LENGTH")]
    pub(crate) life: Option<String>,
    /// How many authorities may stand below it.
    #[arg(long, value_name = "N", default_value = "0")]
    pub(crate) path_length: u8,
    /// Names that its certificates may have: dns:NAME, uri:HOST, email:HOST, ip:ADDRESS/BITS. May stand several times.
    #[arg(long, value_name = "NAMES")]
    pub(crate) permit: Vec<String>,
    /// Names that they may not have.
    #[arg(long, value_name = "NAMES")]
    pub(crate) exclude: Vec<String>,
    /// Keep its key on the PKCS#11 token with this label, under the authority's name.
    #[arg(long, value_name = "LABEL")]
    pub(crate) token: Option<String>,
    /// The root that signs it; by default the newest.
    #[arg(long, value_name = "NAME")]
    pub(crate) root: Option<String>,
    /// The file of the root's key, if that is kept away from the ward.
    #[arg(long, value_name = "FILE")]
    pub(crate) root_key: Option<PathBuf>,
    /// The passphrase file of the root's key, if that is not locked as the ward's other keys are.
    #[arg(long, value_name = "FILE")]
    pub(crate) root_passphrase_file: Option<PathBuf>,
    /// From now on it signs in the place of this one, whose certificates stay good.
    #[arg(long, value_name = "NAME")]
    pub(crate) replaces: Option<String>,
    /// It signs guards and desks, and no devices; --permit dns:HOST holds it to their hosts.
    #[arg(long, conflicts_with_all = ["new_root", "request", "answer", "cert", "trust"])]
    pub(crate) service: bool,
    /// It is a new root; the ward's root and it sign each other.
    #[arg(long, conflicts_with_all = ["replaces", "permit", "exclude", "root", "request", "answer", "cert", "trust"])]
    pub(crate) new_root: bool,
    /// Make its key and write a request for an outside root into this file.
    #[arg(long, value_name = "FILE", conflicts_with_all = ["answer", "cert", "trust"])]
    pub(crate) request: Option<PathBuf>,
    /// Take the outside root's answer to the request: the certificate, and those up to the root.
    #[arg(long, value_name = "FILE", conflicts_with_all = ["cert", "trust"])]
    pub(crate) answer: Option<PathBuf>,
    /// Bring in an authority that exists: its certificate, and those up to its root.
    #[arg(long, value_name = "FILE", requires = "locked_key", conflicts_with = "trust")]
    pub(crate) cert: Option<PathBuf>,
    /// The locked key of the authority that is brought in (PKCS#8 with a passphrase).
    #[arg(long, value_name = "FILE", requires = "cert")]
    pub(crate) locked_key: Option<PathBuf>,
    /// The passphrase file of that key, if it is not that of the ward.
    #[arg(long, value_name = "FILE", requires = "locked_key")]
    pub(crate) locked_key_passphrase_file: Option<PathBuf>,
    /// Take the certificates of a foreign authority, such as a manufacturer's: its certificate, and those below it.
    #[arg(long, value_name = "FILE", requires = "kinds", requires = "fact")]
    pub(crate) trust: Option<PathBuf>,
    /// The kinds whose devices may show its certificates, separated by commas.
    #[arg(long, value_name = "KINDS", value_delimiter = ',', requires = "trust")]
    pub(crate) kinds: Vec<String>,
    /// The facts that it may vouch for, separated by commas: the first tells which device it is, and what the certificate says of all of
    /// them must be what the ward knows.
    #[arg(long, value_name = "FACTS", value_delimiter = ',', requires = "trust")]
    pub(crate) fact: Vec<String>,
    #[command(flatten)]
    pub(crate) because: Because,
}

#[derive(Debug, Args)]
pub(crate) struct JudgeArgs {
    /// The certificate to be judged, in PEM or DER.
    pub(crate) leaf: PathBuf,
    /// The roots that are believed.
    #[arg(long, value_name = "FILE")]
    pub(crate) root: PathBuf,
    /// Certificates that may stand between.
    #[arg(long, value_name = "FILE")]
    pub(crate) chain: Option<PathBuf>,
    /// Revocation lists; then the certificate must be covered by one that is good.
    #[arg(long, value_name = "FILE")]
    pub(crate) crl: Option<PathBuf>,
    /// The moment to be judged, in RFC 3339; without it, now.
    #[arg(long, value_name = "TIME")]
    pub(crate) at: Option<String>,
    /// What the certificate is shown for.
    #[arg(long, value_enum, default_value = "client")]
    pub(crate) purpose: PurposeArg,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
pub(crate) enum PurposeArg {
    /// To connect.
    Client,
    /// To be connected to.
    Server,
    /// Whatever it says itself.
    Any,
}

#[derive(Debug, Subcommand)]
pub(crate) enum SettingsCommand {
    /// Find every mistake in ward.toml in one pass.
    Check,
    /// Make ward.toml, as it is here, count for all machines that work on this ward's database.
    ///
    /// What is about one machine (addresses, paths, where the store is, the way to the broker) stays with each. Guards at posts take what was
    /// adopted within seconds. A ward in a file goes by its ward.toml as it is.
    Adopt {
        /// Do not ask.
        #[arg(long)]
        yes: bool,
        #[command(flatten)]
        because: Because,
    },
}

#[derive(Debug, Subcommand)]
pub(crate) enum PassphraseCommand {
    /// Lock anew all keys that the passphrase opens, under another one: all at one moment, whatever happens.
    Change(ChangePassphraseArgs),
    /// Say which of the ward's keys the passphrase opens.
    Show,
    /// Lock the roots' keys anew under a passphrase that nobody has alone: several people get a share each, and some of them together have it.
    Share(SharePassphraseArgs),
    /// Put shares together into the passphrase that was shared. It needs no ward.
    Combine {
        /// A share; as many as are needed.
        #[arg(long = "share", value_name = "FILE", required = true)]
        shares: Vec<PathBuf>,
        /// The file for the passphrase, which only its owner can read; remove it when it was used.
        #[arg(long, value_name = "FILE")]
        out: PathBuf,
    },
}

#[derive(Debug, Args)]
pub(crate) struct SharePassphraseArgs {
    /// How many people get a share.
    #[arg(long, value_name = "N")]
    pub(crate) people: u8,
    /// How many of them are needed.
    #[arg(long, value_name = "K")]
    pub(crate) need: u8,
    /// The folder to make, with a file for each of them.
    #[arg(long, value_name = "DIR")]
    pub(crate) out: PathBuf,
    /// Do not ask.
    #[arg(long)]
    pub(crate) yes: bool,
    #[command(flatten)]
    pub(crate) because: Because,
}

#[derive(Debug, Args)]
pub(crate) struct ChangePassphraseArgs {
    /// A file with the new passphrase; without it the terminal is asked.
    #[arg(long, value_name = "FILE")]
    pub(crate) new_passphrase_file: Option<PathBuf>,
    /// Only the keys of these; the others keep the passphrase that they have. May stand several times.
    #[arg(long = "of", value_name = "WHOSE", value_enum, conflicts_with = "post")]
    pub(crate) of: Vec<KeysOf>,
    /// The keys of a post, in the folder that `post add` made; without the ward, where the post is.
    #[arg(long, value_name = "DIR")]
    pub(crate) post: Option<PathBuf>,
    /// A file with the post's passphrase as it is; without it the terminal is asked.
    #[arg(long, env = "TIDY_WARDEN_POST_PASSPHRASE_FILE", value_name = "FILE", hide_env_values = true)]
    pub(crate) post_passphrase_file: Option<PathBuf>,
    /// Do not ask.
    #[arg(long)]
    pub(crate) yes: bool,
    #[command(flatten)]
    pub(crate) because: Because,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
pub(crate) enum KeysOf {
    /// Those that sign for devices, servers, tokens and settings, and the one of shared keys.
    Ward,
    /// The roots'.
    Root,
    /// The guard's in the ward's folder.
    Guard,
    /// The desk's in the ward's folder.
    Desk,
}

#[derive(Debug, Subcommand)]
pub(crate) enum AuditCommand {
    /// Entries, newest last.
    Log {
        /// Only the last N entries.
        #[arg(long, value_name = "N")]
        last: Option<i64>,
        /// Only entries about this subject, such as a device's id.
        #[arg(long, value_name = "NAME")]
        subject: Option<String>,
    },
    /// Check that no entry was changed, removed or put elsewhere, and that the ward's tables hold what the record says.
    Verify {
        /// A signed head that was kept elsewhere: finds a record that was cut off, put back or written anew, too.
        #[arg(long, value_name = "FILE")]
        head: Option<PathBuf>,
    },
    /// Write a signed head of the record, to be kept where whoever can write to the store cannot.
    Head {
        /// The file to write; one that exists is replaced.
        #[arg(long, value_name = "FILE")]
        out: PathBuf,
    },
}

/// The written reason of a change.
#[derive(Debug, Args)]
pub(crate) struct Because {
    /// Why; kept in the audit record.
    #[arg(long, value_name = "TEXT")]
    pub(crate) because: Option<String>,
}

impl Because {
    pub(crate) fn text(&self) -> Option<&str> {
        self.because.as_deref()
    }
}

/// Splits `NAME=VALUE`.
pub(crate) fn pair(text: &str) -> Result<(String, String), String> {
    match text.split_once('=') {
        Some((name, value)) if !name.is_empty() => Ok((name.to_owned(), value.to_owned())),
        _ => Err("expected NAME=VALUE".to_owned()),
    }
}

/// The command line of this process.
///
/// # Errors
/// It is none, or help was asked for.
pub(crate) fn from_command_line() -> Result<Cli, clap::Error> {
    let matches = examples::with_examples(Cli::command()).try_get_matches()?;
    let is_ward_named = matches.value_source("ward") == Some(clap::parser::ValueSource::CommandLine);
    Ok(Cli { is_ward_named, ..Cli::from_arg_matches(&matches)? })
}

/// Says what is wrong with a call, or prints the help that was asked for.
pub(crate) fn wrong_call(error: &clap::Error, typed: impl IntoIterator<Item = String>) -> ExitCode {
    if error.kind() != clap::error::ErrorKind::MissingRequiredArgument {
        error.exit();
    }
    let typed: Vec<String> = typed.into_iter().collect();
    let mut text = error.render().to_string();
    // What came from the environment is no part of the call.
    for (name, value) in
        [("--ward", "DIR"), ("--passphrase-file", "FILE"), ("--pin-file", "FILE"), ("--post-passphrase-file", "FILE")]
    {
        if !typed.iter().any(|word| word == name || word.starts_with(&format!("{name}="))) {
            text = text.replace(&format!(" {name} <{value}>"), "");
        }
    }
    // A closed standard error takes no word.
    let _ = std::io::Write::write_all(&mut std::io::stderr(), text.as_bytes());
    ExitCode::from(2)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_command_line_is_consistent_and_its_help_names_every_command() {
        let command = Cli::command();
        command.clone().debug_assert();
        let shown: Vec<&str> =
            COMMANDS.lines().filter_map(|line| line.strip_prefix("  ")?.split_whitespace().next()).collect();
        let known: Vec<&str> =
            command.get_subcommands().filter(|each| !each.is_hide_set()).map(clap::Command::get_name).collect();
        assert_eq!(shown, known);
    }
}
