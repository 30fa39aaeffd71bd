//! `[guard]`: how the guard works.

use std::net::SocketAddr;

use toml::de::DeValue;

use super::key::{Key, Section};
use super::reader::{Reader, Table};
use crate::errand::Reserved;
use crate::host::{Endpoint, Network};
use crate::time::Span;

/// The keys of `[guard]`.
pub(super) const GUARD: Section = Section {
    head: "[guard]",
    example: "[guard]",
    about: "How the guard works. Addresses to listen on are read at its start only; all else again on SIGHUP.",
    keys: KEYS,
};

/// Those of them that are about one machine: where it listens, whom it believes, and its way to the broker.
pub(super) const GUARD_HERE: Section = Section { keys: KEYS.split_at(OF_ONE_MACHINE).0, ..GUARD };

/// How many keys are about one machine.
const OF_ONE_MACHINE: usize = 11;

/// Those about one machine first.
const KEYS: &[Key] = &[
    LISTEN,
    LISTEN_WEBSOCKET,
    PROXY_PROTOCOL,
    PROXY_FROM,
    METRICS,
    BROKER,
    BROKER_USER,
    BROKER_PASSWORD_FILE,
    BROKER_CA,
    BROKER_CERTIFICATE,
    BROKER_KEY,
    SENDER_PROPERTY,
    RESERVED_PREFIX,
    STORE_PATIENCE,
    WITHOUT_STORE,
    MAX_PACKET,
    MAX_SESSIONS,
    SESSIONS_PER_DEVICE,
    SESSIONS_PER_SOURCE,
    LONGEST_KEEP_ALIVE,
    ON_REFUSAL,
    TOKEN_SKEW,
    REPLAY_WATCH,
    KEEP_EVENTS,
];

const ADDRESS: &str = "an IP address and port, such as \"0.0.0.0:8883\"";
const FILE: &str = "the path of a file";

const LISTEN: Key = Key::example(
    "listen",
    "\"127.0.0.1:8883\"",
    ADDRESS,
    "the address that devices connect to, if not given to `guard`",
);
const LISTEN_WEBSOCKET: Key = Key::example(
    "listen_websocket",
    "\"127.0.0.1:8884\"",
    ADDRESS,
    "an address for MQTT over WebSocket over TLS beside it",
);
pub(super) const PROXY_PROTOCOL: Key = Key::default(
    "proxy_protocol",
    "false",
    "true or false",
    "whether a load balancer in front tells the clients' addresses (PROXY protocol, version 2)",
);
pub(super) const PROXY_FROM: Key = Key::example(
    "proxy_from",
    "[\"10.0.0.7\"]",
    "a list of IP addresses and networks, such as [\"10.0.0.7\", \"fd00::/8\"]",
    "the load balancers that are believed; a connection from anybody else is closed then",
);
const METRICS: Key = Key::example(
    "metrics",
    "\"127.0.0.1:9900\"",
    ADDRESS,
    "an address for /metrics (OpenMetrics) and /health over plain HTTP",
);
const BROKER: Key = Key::example(
    "broker",
    "\"127.0.0.1:1883\"",
    "HOST:PORT, tls://HOST:PORT, unix:/PATH or builtin",
    "where the broker is",
);
const BROKER_USER: Key =
    Key::example("broker_user", "\"guard\"", "a user name", "the guard's own user name at the broker");
const BROKER_PASSWORD_FILE: Key =
    Key::example("broker_password_file", "\"broker.pw\"", FILE, "a file with its password there, relative to the ward");
const BROKER_CA: Key = Key::example(
    "broker_ca",
    "\"broker-ca.pem\"",
    FILE,
    "the certificates that a broker over TLS must lead to, PEM, relative to the ward",
);
const BROKER_CERTIFICATE: Key = Key::example(
    "broker_certificate",
    "\"broker-guard.pem\"",
    FILE,
    "the guard's own certificate at a broker over TLS, PEM, relative to the ward",
);
const BROKER_KEY: Key = Key::example("broker_key", "\"broker-guard.key\"", FILE, "and its key, PEM");
const SENDER_PROPERTY: Key = Key::default(
    "sender_property",
    "\"sender\"",
    "at most 64 printable characters",
    "the user property that tells receivers who sent a message (MQTT 5.0); empty for none",
);
const RESERVED_PREFIX: Key = Key::default(
    "reserved_prefix",
    "\"$ward\"",
    "one or more topic levels without `+` and `#`, such as \"$ward\"",
    "where the ward's own topics begin, on which errands go; policies give and take nothing below it. Devices must know it: change it \
     before there are any",
);
const STORE_PATIENCE: Key = Key::default(
    "store_patience",
    "\"30s\"",
    "a length of time, such as \"5m\"",
    "how long the guard goes by what it knew last while the store does not answer: the bound on revocation",
);
const WITHOUT_STORE: Key = Key::default(
    "without_store",
    "\"end\"",
    "\"end\" or \"keep\"",
    "then live sessions \"end\", or \"keep\" on until their credentials end",
);
const MAX_PACKET: Key = Key::default("max_packet", "262144", "", "the largest packet taken from a client, in bytes");
const MAX_SESSIONS: Key = Key::default(
    "max_sessions",
    "10000",
    "",
    "the most clients at once; each needs two file handles, which are checked at the start",
);
const SESSIONS_PER_DEVICE: Key = Key::default("sessions_per_device", "16", "", "the most of them for one device");
const SESSIONS_PER_SOURCE: Key =
    Key::default("sessions_per_source", "5000", "", "the most of them from one network (IPv4 /24, IPv6 /64)");
const TOKEN_SKEW: Key = Key::default(
    "token_skew",
    "\"30s\"",
    "a length of time up to \"10m\", such as \"30s\"",
    "how far the iat and nbf of a token may lie in the future, for clocks that differ; its exp is taken as it is",
);
const KEEP_EVENTS: Key = Key::default(
    "keep_events",
    "true",
    "true or false",
    "whether the newest 50 events of each device are kept in the store, for `device events`: about 8 KB for one that comes and goes often",
);
const REPLAY_WATCH: Key = Key::default(
    "replay_watch",
    "false",
    "true or false",
    "whether a token is refused that comes again from another network (IPv4 /24, IPv6 /64) before it ended; each guard goes by what it saw",
);
const LONGEST_KEEP_ALIVE: Key = Key::default(
    "longest_keep_alive",
    "\"1h\"",
    "a length from 10s to 18h, such as \"1h\"",
    "how long a client may be silent at most, whatever it asks for",
);
/// Also a key of each kind.
pub(super) const ON_REFUSAL: Key = Key::default(
    "on_refusal",
    "\"refuse\"",
    "\"refuse\", \"drop\" or \"disconnect\"",
    "what happens on a refused publish: \"refuse\", \"drop\" or \"disconnect\"",
);

/// What the guard does when it refuses a publish or a subscription.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum OnRefusal {
    /// Say so as the protocol can: with its reason code; a message of QoS 0 is dropped, and in MQTT 3.1.1, which has no
    /// code for a refused publish, the connection ends.
    Refuse,
    /// Acknowledge a publish as if it had passed, and pass it to nobody. A subscription is refused with its code.
    Drop,
    /// End the connection, in MQTT 5.0 with the reason code.
    Disconnect,
}

impl OnRefusal {
    pub(super) fn parse(text: &str) -> Option<Self> {
        match text {
            "refuse" => Some(Self::Refuse),
            "drop" => Some(Self::Drop),
            "disconnect" => Some(Self::Disconnect),
            _ => None,
        }
    }
}

/// What becomes of live sessions when nobody has known for too long who is out.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum WithoutStore {
    /// They end.
    End,
    /// They go on until their credentials end; whoever is revoked meanwhile stays connected.
    Keep,
}

impl WithoutStore {
    pub(super) fn parse(text: &str) -> Option<Self> {
        match text {
            "end" => Some(Self::End),
            "keep" => Some(Self::Keep),
            _ => None,
        }
    }
}

/// Where the guard finds the broker.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum BrokerAddress {
    /// `builtin`: a small one inside.
    Builtin,
    /// `HOST:PORT`: plain MQTT over TCP.
    Tcp(Endpoint),
    /// `tls://HOST:PORT`: MQTT over TLS.
    Tls(Endpoint),
    /// `unix:/PATH`: plain MQTT over a Unix socket.
    Unix(String),
}

/// What a broker's address looks like.
pub const BROKER_FORMS: &str = "expected HOST:PORT, tls://HOST:PORT, unix:/PATH or builtin";

impl std::str::FromStr for BrokerAddress {
    type Err = &'static str;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let endpoint = |text: &str| text.parse::<Endpoint>().map_err(|_| BROKER_FORMS);
        if text == "builtin" {
            Ok(Self::Builtin)
        } else if let Some(path) = text.strip_prefix("unix:") {
            path.starts_with('/').then(|| Self::Unix(path.to_owned())).ok_or(BROKER_FORMS)
        } else if let Some(rest) = text.strip_prefix("tls://") {
            endpoint(rest).map(Self::Tls)
        } else {
            endpoint(text).map(Self::Tcp)
        }
    }
}

impl std::fmt::Display for BrokerAddress {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Builtin => f.write_str("builtin"),
            Self::Tcp(endpoint) => write!(f, "{endpoint}"),
            Self::Tls(endpoint) => write!(f, "tls://{endpoint}"),
            Self::Unix(path) => write!(f, "unix:{path}"),
        }
    }
}

/// `[guard]`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct GuardSettings {
    /// `listen`: the address that devices connect to, if not given on the command line.
    pub listen: Option<SocketAddr>,
    /// `listen_websocket`: an address for MQTT over WebSocket over TLS beside it.
    pub listen_websocket: Option<SocketAddr>,
    /// `proxy_protocol`: whether a load balancer stands in front that tells the client's address (PROXY protocol,
    /// version 2), default no.
    pub proxy_protocol: bool,
    /// `proxy_from`: the load balancers that are believed; nobody else may connect then.
    pub proxy_from: Vec<Network>,
    /// `metrics`: an address for metrics and health over plain HTTP.
    pub metrics: Option<SocketAddr>,
    /// `broker`: where the broker is.
    pub broker: Option<BrokerAddress>,
    /// `broker_user`: the guard's own user name at the broker.
    pub broker_user: Option<String>,
    /// `broker_password_file`: a file with the guard's own password at the broker, relative to the ward.
    pub broker_password_file: Option<String>,
    /// `broker_ca`: a PEM file with the certificates that a broker over TLS must lead to, relative to the ward.
    pub broker_ca: Option<String>,
    /// `broker_certificate` and `broker_key`: PEM files of the guard's own certificate at a broker over TLS.
    pub broker_identity: Option<(String, String)>,
    /// `sender_property`: the MQTT 5.0 user property that tells receivers the sender's device, default `sender`; empty for
    /// none.
    pub sender_property: String,
    /// `reserved_prefix`: the ward's own topics, default below `$ward`.
    pub reserved: Reserved,
    /// `store_patience`: how long the guard goes by what it knew last while the store does not answer, default 30 seconds: the
    /// bound on how late a revocation can be.
    pub store_patience: Span,
    /// `without_store`: what becomes of live sessions when that time is over, default `end`.
    pub without_store: WithoutStore,
    /// `max_packet`: the largest MQTT packet taken from a client, in octets, default 256 KiB.
    pub max_packet: u32,
    /// `max_sessions`: the most clients at once, default 10,000.
    pub max_sessions: u32,
    /// `sessions_per_device`: the most of them that one device may have, default 16.
    pub sessions_per_device: u32,
    /// `sessions_per_source`: the most that may come from one network (IPv4 /24, IPv6 /64), default 5,000.
    pub sessions_per_source: u32,
    /// `longest_keep_alive`: how long a client may be silent at most, whatever it asks for, default 1 hour.
    pub longest_keep_alive: Span,
    /// `on_refusal`: what happens on a refusal, for kinds that say nothing of their own; default `refuse`.
    pub on_refusal: OnRefusal,
    /// `token_skew`: how far `iat` and `nbf` of a token may lie in the future, default 30 seconds.
    pub token_skew: Span,
    /// `keep_events`: whether the newest events of each device are kept in the store, default yes.
    pub keep_events: bool,
    /// `replay_watch`: whether a token that comes again from another network before it ended is refused, default no.
    pub replay_watch: bool,
}

impl Default for GuardSettings {
    fn default() -> Self {
        Self {
            listen: None,
            listen_websocket: None,
            proxy_protocol: false,
            proxy_from: Vec::new(),
            metrics: None,
            broker: None,
            broker_user: None,
            broker_password_file: None,
            broker_ca: None,
            broker_identity: None,
            sender_property: "sender".to_owned(),
            reserved: Reserved::default(),
            store_patience: Span::from_seconds(30),
            without_store: WithoutStore::End,
            max_packet: 256 * 1024,
            max_sessions: 10_000,
            sessions_per_device: 16,
            sessions_per_source: 5_000,
            longest_keep_alive: Span::from_seconds(3_600),
            on_refusal: OnRefusal::Refuse,
            token_skew: Span::from_seconds(30),
            keep_events: true,
            replay_watch: false,
        }
    }
}

impl Reader<'_> {
    /// Whether load balancers tell the clients' addresses, and which.
    pub(super) fn proxies(&mut self, table: &Table<'_>) -> (bool, Vec<Network>) {
        self.together(table, &PROXY_FROM, &PROXY_PROTOCOL, "expected proxy_protocol = true beside it");
        if table.get(PROXY_PROTOCOL.name).is_some_and(|value| matches!(value.get_ref(), DeValue::Boolean(true))) {
            let expected = "expected proxy_from = [\"...\"] beside it: whoever else connects could tell any address";
            self.together(table, &PROXY_PROTOCOL, &PROXY_FROM, expected);
        }
        let from = self.list(table, &PROXY_FROM, |text| text.parse().map_err(|_| String::new()));
        (self.flag(table, &PROXY_PROTOCOL).unwrap_or(false), from.unwrap_or_default())
    }
}

impl Reader<'_> {
    pub(super) fn guard(&mut self, root: &Table<'_>) -> GuardSettings {
        let default = GuardSettings::default();
        let Some(table) = self.section(root, "guard", &GUARD) else { return default };
        let address = |reader: &mut Self, key: &Key| reader.text(table, key, |text| text.parse::<SocketAddr>().ok());
        let (certificate, key) = (self.path(table, &BROKER_CERTIFICATE), self.path(table, &BROKER_KEY));
        let (broker_password_file, broker_ca) = (self.path(table, &BROKER_PASSWORD_FILE), self.path(table, &BROKER_CA));
        self.together(table, &BROKER_CERTIFICATE, &BROKER_KEY, "expected broker_key beside it");
        self.together(table, &BROKER_KEY, &BROKER_CERTIFICATE, "expected broker_certificate beside it");
        let broker_user = self.text(table, &BROKER_USER, |text| {
            (!text.is_empty() && !text.chars().any(char::is_control)).then(|| text.to_owned())
        });
        self.together(table, &BROKER_PASSWORD_FILE, &BROKER_USER, "expected broker_user = \"...\" beside it");
        let (proxy_protocol, proxy_from) = self.proxies(table);
        GuardSettings {
            listen: address(self, &LISTEN),
            listen_websocket: address(self, &LISTEN_WEBSOCKET),
            proxy_protocol,
            proxy_from,
            metrics: address(self, &METRICS),
            broker: self.text(table, &BROKER, |text| text.parse().ok()),
            broker_user,
            broker_password_file,
            broker_ca,
            broker_identity: certificate.zip(key),
            sender_property: self
                .text(table, &SENDER_PROPERTY, |text| {
                    (text.len() <= 64 && text.chars().all(|c| c.is_ascii_graphic())).then(|| text.to_owned())
                })
                .unwrap_or(default.sender_property),
            reserved: self.text(table, &RESERVED_PREFIX, |text| Reserved::new(text).ok()).unwrap_or(default.reserved),
            store_patience: self
                .text(table, &STORE_PATIENCE, |text| text.parse().ok())
                .unwrap_or(default.store_patience),
            without_store: self.text(table, &WITHOUT_STORE, WithoutStore::parse).unwrap_or(default.without_store),
            max_packet: self.number(table, &MAX_PACKET, 1024..=268_435_460).unwrap_or(default.max_packet),
            max_sessions: self.number(table, &MAX_SESSIONS, 1..=10_000_000).unwrap_or(default.max_sessions),
            sessions_per_device: self
                .number(table, &SESSIONS_PER_DEVICE, 1..=10_000_000)
                .unwrap_or(default.sessions_per_device),
            sessions_per_source: self
                .number(table, &SESSIONS_PER_SOURCE, 1..=10_000_000)
                .unwrap_or(default.sessions_per_source),
            longest_keep_alive: self
                .text(table, &LONGEST_KEEP_ALIVE, |text| {
                    // A keep-alive is 16 bits of seconds (MQTT 5.0 section 3.1.2.10).
                    text.parse::<Span>().ok().filter(|span| (10..=64_800).contains(&span.seconds()))
                })
                .unwrap_or(default.longest_keep_alive),
            on_refusal: self.text(table, &ON_REFUSAL, OnRefusal::parse).unwrap_or(default.on_refusal),
            token_skew: self
                .text(table, &TOKEN_SKEW, |text| text.parse::<Span>().ok().filter(|span| span.seconds() <= 600))
                .unwrap_or(default.token_skew),
            keep_events: self.flag(table, &KEEP_EVENTS).unwrap_or(default.keep_events),
            replay_watch: self.flag(table, &REPLAY_WATCH).unwrap_or(default.replay_watch),
        }
    }
}
