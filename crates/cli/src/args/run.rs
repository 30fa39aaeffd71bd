use std::net::SocketAddr;
use std::path::PathBuf;

use clap::{Args, Subcommand, ValueEnum};
use tidy_warden_core::id::KindName;
use tidy_warden_join::Place;

/// The form of log lines.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum LogForm {
    /// For people.
    Text,
    /// One JSON object a line.
    Json,
}

#[derive(Debug, Args)]
pub(crate) struct GuardArgs {
    /// The IP address and port that devices connect to; default: `listen` under `guard` in ward.toml, else 127.0.0.1:8883.
    #[arg(long, value_name = "ADDRESS")]
    pub(crate) listen: Option<SocketAddr>,
    /// An address for MQTT over WebSocket beside it; default: `listen_websocket` under `guard` in ward.toml, else none.
    #[arg(long, value_name = "ADDRESS")]
    pub(crate) listen_websocket: Option<SocketAddr>,
    /// An address for metrics and health over plain HTTP; default: `metrics` under `guard` in ward.toml, else none.
    #[arg(long, value_name = "ADDRESS")]
    pub(crate) metrics: Option<SocketAddr>,
    /// The broker: HOST:PORT, tls://HOST:PORT, unix:/PATH, or `builtin` for a small one inside; default: `broker` under
    /// `guard` in ward.toml.
    #[arg(long, value_name = "BROKER")]
    pub(crate) broker: Option<String>,
    /// Run the guard of a post: the folder that `post add` made, on a machine that has nothing else of the ward. TIDY_WARDEN_WARD
    /// and TIDY_WARDEN_PASSPHRASE_FILE are not looked at.
    #[arg(long, value_name = "DIR")]
    pub(crate) post: Option<PathBuf>,
    /// A file with the passphrase of the post's own key; without it the terminal is asked.
    #[arg(long, env = "TIDY_WARDEN_POST_PASSPHRASE_FILE", value_name = "FILE", hide_env_values = true)]
    pub(crate) post_passphrase_file: Option<PathBuf>,
    /// Write what devices ask for into this file, each different act once, for `policy draft`. It is added to.
    #[arg(long, value_name = "FILE")]
    pub(crate) observe: Option<PathBuf>,
    /// The form of log lines on standard error; default: text on a terminal, else json.
    #[arg(long, value_enum)]
    pub(crate) log: Option<LogForm>,
}

#[derive(Debug, Args)]
pub(crate) struct DeskArgs {
    /// The IP address and port for requests over HTTPS; default: `listen` under `desk` in ward.toml, else 127.0.0.1:8843.
    #[arg(long, value_name = "ADDRESS")]
    pub(crate) listen: Option<SocketAddr>,
    /// An address for revocation lists and issuing certificates over plain HTTP; default: `listen_http` under `desk` in ward.toml, else
    /// none.
    #[arg(long, value_name = "ADDRESS")]
    pub(crate) listen_http: Option<SocketAddr>,
    /// An address for metrics and health over plain HTTP; default: `metrics` under `desk` in ward.toml, else none.
    #[arg(long, value_name = "ADDRESS")]
    pub(crate) metrics: Option<SocketAddr>,
    /// A file with the passphrase of the desk's own TLS key, if that is not the one that opens the ward's keys.
    #[arg(long, value_name = "FILE", conflicts_with = "post")]
    pub(crate) tls_passphrase_file: Option<PathBuf>,
    /// Run the desk of a post: the folder that `post add` made, on a machine that has nothing else of the ward. TIDY_WARDEN_WARD
    /// and TIDY_WARDEN_PASSPHRASE_FILE are not looked at.
    #[arg(long, value_name = "DIR")]
    pub(crate) post: Option<PathBuf>,
    /// A file with the passphrase of the post's own keys; without it the terminal is asked.
    #[arg(long, env = "TIDY_WARDEN_POST_PASSPHRASE_FILE", value_name = "FILE", hide_env_values = true)]
    pub(crate) post_passphrase_file: Option<PathBuf>,
    /// The form of log lines on standard error; default: text on a terminal, else json.
    #[arg(long, value_enum)]
    pub(crate) log: Option<LogForm>,
}

#[derive(Debug, Args)]
pub(crate) struct JoinArgs {
    /// The desk: https://HOST:PORT.
    #[arg(required_unless_present = "facts", value_name = "URL")]
    pub(crate) desk: Option<Place>,
    /// The root that the desk must lead to, in PEM.
    #[arg(long, value_name = "FILE")]
    pub(crate) root: Option<PathBuf>,
    /// The same by SHA-256 of its DER in hexadecimal, as `init` and `authority list` tell it; the root itself is taken from the desk.
    #[arg(long, value_name = "HEX", conflicts_with = "root")]
    pub(crate) root_sha256: Option<String>,
    /// The kind of device that this is.
    #[arg(long)]
    pub(crate) kind: Option<KindName>,
    /// A fact of this device; what its hardware says of others is told as well (--facts). Repeat for more.
    #[arg(long, value_name = "NAME=VALUE", value_parser = super::pair)]
    pub(crate) fact: Vec<(String, String)>,
    /// The folder of its outfit, which must not be there yet; the key waits beside it, as DIR.key, until there is a certificate.
    #[arg(long, value_name = "DIR", required_unless_present_any = ["facts", "renew_key"])]
    pub(crate) out: Option<PathBuf>,
    /// The name that goes with a secret: the device's id or the admission's name.
    #[arg(long, value_name = "NAME", requires = "secret_file")]
    pub(crate) user: Option<String>,
    /// A file with the secret of an admission.
    #[arg(long, value_name = "FILE", requires = "user")]
    pub(crate) secret_file: Option<PathBuf>,
    /// The key that is made: p256, p384 or ed25519.
    #[arg(long, value_name = "KEY", default_value = "p256")]
    pub(crate) key: String,
    /// Keep the key on a PKCS#11 token (RFC 7512); it is made there if it is not there yet, and a renewal makes the next one. The PIN comes from
    /// pin-source or --pin-file.
    #[arg(long, value_name = "pkcs11:token=LABEL;object=LABEL?module-path=FILE")]
    pub(crate) key_uri: Option<String>,
    /// How long to wait for a person, or for a desk that is busy; 0s asks once.
    #[arg(long, value_name = "LENGTH", default_value = "10m")]
    pub(crate) wait: String,
    /// Get the next certificate for the outfit in DIR, with a new key, if its time has come. Made to be run daily.
    #[arg(long, conflicts_with_all = ["kind", "fact", "user", "key_uri"])]
    pub(crate) renew: bool,
    /// Get the next of the keys that the device shares with the ward, if its time has come, in the place of the one in this file (a JWK).
    /// Made to be run daily.
    #[arg(long, value_name = "FILE", requires = "connect")]
    #[arg(conflicts_with_all = ["renew", "kind", "fact", "user", "key_uri", "out", "facts", "root_sha256"])]
    pub(crate) renew_key: Option<PathBuf>,
    /// The connect.json of the device's outfit, which says whose device it is.
    #[arg(long, value_name = "FILE", requires = "renew_key")]
    pub(crate) connect: Option<PathBuf>,
    /// Show what the hardware says of itself, and do nothing else.
    #[arg(long, conflicts_with_all = ["desk", "out", "renew"])]
    pub(crate) facts: bool,
}

#[derive(Debug, Args)]
pub(crate) struct ProbeArgs {
    /// The device.
    pub(crate) device: String,
    /// Its outfit, or the folder of all outfits.
    #[arg(long, value_name = "DIR")]
    pub(crate) outfit: PathBuf,
    /// Its private key in PEM, if it was made on the device and so is not in the outfit.
    #[arg(long, value_name = "FILE")]
    pub(crate) key: Option<PathBuf>,
    /// Where to connect, instead of where its outfit says.
    #[arg(long, value_name = "ADDRESS")]
    pub(crate) at: Option<SocketAddr>,
    /// The topic that a message is published to; default: the first that policy gives it.
    #[arg(long, value_name = "TOPIC", conflicts_with = "no_publish")]
    pub(crate) topic: Option<String>,
    /// Publish nothing: the message is a real one, and whoever subscribes gets it.
    #[arg(long)]
    pub(crate) no_publish: bool,
    /// The broker, to try whether it can be reached around the guard; default: `broker` under `guard` in ward.toml.
    #[arg(long, value_name = "BROKER")]
    pub(crate) broker: Option<String>,
}

#[derive(Debug, Args)]
pub(crate) struct WatchArgs {
    /// Only events of devices for which this condition holds.
    #[arg(long = "where", value_name = "CONDITION", conflicts_with_all = ["topic", "send"])]
    pub(crate) condition: Option<String>,
    /// Only events of these kinds, such as refused,cut,connected.
    #[arg(long, value_name = "EVENT", value_delimiter = ',', conflicts_with_all = ["topic", "send"])]
    pub(crate) only: Vec<String>,
    /// See messages on topics that this filter matches, and nothing else. An entry of the audit record tells of it.
    #[arg(long, value_name = "FILTER")]
    pub(crate) topic: Option<String>,
    /// Send one message. An entry of the audit record tells of it.
    #[arg(long, num_args = 2, value_names = ["TOPIC", "PAYLOAD"])]
    pub(crate) send: Option<Vec<String>>,
    /// For how long, such as 30s; default: until Ctrl-C.
    #[arg(long = "for", value_name = "LENGTH")]
    pub(crate) length: Option<String>,
    #[command(flatten)]
    pub(crate) because: super::Because,
}

/// How simulated devices misbehave.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum Misdeed {
    /// Publish and subscribe where they must not.
    WrongTopics,
    /// Show their certificate without having its key.
    StolenKey,
    /// Connect under each other's names.
    DuplicateId,
    /// Subscribe and read nothing.
    SlowReader,
}

#[derive(Debug, Args)]
#[command(args_conflicts_with_subcommands = true, subcommand_negates_reqs = true)]
pub(crate) struct SimulateArgs {
    /// The folder with the devices' outfits, as `enroll --out` writes them.
    #[arg(long, value_name = "DIR", required = true)]
    pub(crate) outfits: Option<PathBuf>,
    /// How many of them take part; default: all.
    #[arg(long, value_name = "N")]
    pub(crate) count: Option<usize>,
    /// For how long, such as 30s or 10m.
    #[arg(long = "for", value_name = "LENGTH", default_value = "30s")]
    pub(crate) length: String,
    /// How often each publishes, such as 1s.
    #[arg(long, value_name = "LENGTH", default_value = "1s")]
    pub(crate) every: String,
    /// Let them misbehave.
    #[arg(long, value_enum, value_name = "HOW")]
    pub(crate) misbehave: Option<Misdeed>,
    /// Where to connect, instead of where their outfits say.
    #[arg(long, value_name = "ADDRESS")]
    pub(crate) at: Option<SocketAddr>,
    #[command(subcommand)]
    pub(crate) command: Option<SimulateCommand>,
}

#[derive(Debug, Subcommand)]
pub(crate) enum SimulateCommand {
    /// Put load on a guard, and on a broker without it for comparison, and measure.
    Load(LoadArgs),
    /// Measure what each thing costs on this machine, without sockets, and work out what 1, 10 and 100 million devices need.
    Scale(ScaleArgs),
}

#[derive(Debug, Args)]
pub(crate) struct ScaleArgs {
    /// Devices of the ward that is made for it, each with a session.
    #[arg(long, value_name = "N", default_value_t = 3000, value_parser = clap::value_parser!(u32).range(300..=200_000))]
    pub(crate) devices: u32,
    /// Guards of that ward.
    #[arg(long, value_name = "N", default_value_t = 3, value_parser = clap::value_parser!(u16).range(1..=100))]
    pub(crate) guards: u16,
    /// For how long of a clock that is driven they go about their day, such as 10m or 1h.
    #[arg(long = "for", value_name = "LENGTH", default_value = "1h")]
    pub(crate) length: String,
    /// An empty database for the ward, such as postgresql:///scale?host=/run/postgresql; default: a file. It is not empty afterwards.
    #[arg(long, value_name = "URL")]
    pub(crate) store: Option<String>,
    /// The share of devices that connect within an hour, in percent.
    #[arg(long, value_name = "PERCENT", default_value_t = 1.0)]
    pub(crate) connecting: f64,
    /// The share of devices that speak within a minute, in percent.
    #[arg(long, value_name = "PERCENT", default_value_t = 10.0)]
    pub(crate) speaking: f64,
}

#[derive(Debug, Args)]
pub(crate) struct LoadArgs {
    /// The folder with the devices' outfits, as `enroll --out` writes them.
    #[arg(long, value_name = "DIR")]
    pub(crate) outfits: PathBuf,
    /// Where the guard is, instead of where the outfits say.
    #[arg(long, value_name = "ADDRESS")]
    pub(crate) at: Option<SocketAddr>,
    /// A broker that takes the same certificates over TLS itself, measured in turn with the guard.
    #[arg(long, value_name = "ADDRESS")]
    pub(crate) direct: Option<SocketAddr>,
    /// How many publish at once.
    #[arg(long, value_name = "N", default_value_t = 50, value_parser = clap::value_parser!(u16).range(1..))]
    pub(crate) publishers: u16,
    /// Messages of each publisher in a round.
    #[arg(long, value_name = "N", default_value_t = 2000, value_parser = clap::value_parser!(u32).range(1..))]
    pub(crate) messages: u32,
    /// Bytes of payload: a number, or one with KiB or MiB.
    #[arg(long, default_value = "100", value_parser = super::size)]
    pub(crate) size: usize,
    /// With QoS 1: how many may wait for their answer at once.
    #[arg(long, value_name = "N", default_value_t = 20, value_parser = clap::value_parser!(u16).range(1..))]
    pub(crate) window: u16,
    /// How many rounds; guard and broker alternate, and the middle one is told.
    #[arg(long, value_name = "N", default_value_t = 5, value_parser = clap::value_parser!(u16).range(1..))]
    pub(crate) rounds: u16,
}

#[derive(Debug, Args)]
pub(crate) struct DemoArgs {
    /// Keep the ward in DIR, to go on by hand.
    #[arg(long, value_name = "DIR")]
    pub(crate) keep: Option<PathBuf>,
}

#[derive(Debug, Args)]
pub(crate) struct TopicMatchArgs {
    /// A topic filter.
    pub(crate) filter: String,
    /// A topic name.
    pub(crate) topic: String,
}
