//! `[desk]`: how the desk works.

use std::net::SocketAddr;

use super::guard::{PROXY_FROM, PROXY_PROTOCOL};
use super::key::{Key, Section};
use super::reader::{Reader, Table};
use crate::host::Network;
use crate::time::Span;

/// The keys of `[desk]`.
pub(super) const DESK: Section = Section {
    head: "[desk]",
    example: "[desk]",
    about: "How the desk works. Addresses to listen on are read at its start only; all else again on SIGHUP.",
    keys: KEYS,
};

/// Those of them that are about one machine.
pub(super) const DESK_HERE: Section = Section { keys: KEYS.split_at(OF_ONE_MACHINE).0, ..DESK };

/// How many keys are about one machine.
const OF_ONE_MACHINE: usize = 5;

/// Those about one machine first.
const KEYS: &[Key] = &[
    LISTEN,
    LISTEN_HTTP,
    METRICS,
    PROXY_PROTOCOL,
    PROXY_FROM,
    MAX_CONNECTIONS,
    REQUESTS_PER_SOURCE,
    REQUESTS_PER_DEVICE,
    CRL_LIFE,
    RENEW_SERVERS,
];

const LISTEN: Key = Key::example(
    "listen",
    "\"127.0.0.1:8843\"",
    "an IP address and port, such as \"0.0.0.0:8843\"",
    "the address for requests over HTTPS, if not given to `desk`",
);
const LISTEN_HTTP: Key = Key::example(
    "listen_http",
    "\"127.0.0.1:8080\"",
    "an IP address and port, such as \"0.0.0.0:8080\"",
    "an address for what is signed in itself over plain HTTP: revocation lists and issuing certificates",
);
const METRICS: Key = Key::example(
    "metrics",
    "\"127.0.0.1:9901\"",
    "an IP address and port, such as \"127.0.0.1:9901\"",
    "an address for /metrics (OpenMetrics) and /health over plain HTTP",
);
const MAX_CONNECTIONS: Key = Key::default("max_connections", "5000", "", "the most connections over HTTPS at once");
const REQUESTS_PER_SOURCE: Key = Key::default(
    "requests_per_source",
    "600",
    "",
    "how many requests a minute are answered to one network (IPv4 /24, IPv6 /64); more are told to come later",
);
const REQUESTS_PER_DEVICE: Key = Key::default(
    "requests_per_device",
    "30",
    "",
    "how many certificates a device may ask for in an hour, counted once it has proved to be that device",
);
const CRL_LIFE: Key = Key::default(
    "crl_life",
    "\"7d\"",
    "a length of time, such as \"7d\"",
    "how long the revocation lists that the desk signs are good for; it signs the next when half of that is over, and after a change",
);
const RENEW_SERVERS: Key = Key::default(
    "renew_servers",
    "true",
    "true or false",
    "whether the desk gives guards, desks and posts their next certificates, a third of the life ahead of the end; it holds the key of \
     the authority for services then, and signs that authority's list too",
);

/// `[desk]`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DeskSettings {
    /// `listen`: the address for requests over HTTPS, if not given on the command line.
    pub listen: Option<SocketAddr>,
    /// `listen_http`: an address for what is signed in itself, over plain HTTP.
    pub listen_http: Option<SocketAddr>,
    /// `metrics`: an address for metrics and health over plain HTTP.
    pub metrics: Option<SocketAddr>,
    /// `proxy_protocol`: whether a load balancer stands in front of the HTTPS listener that tells the clients' addresses.
    pub proxy_protocol: bool,
    /// `proxy_from`: the load balancers that are believed; nobody else may connect there then.
    pub proxy_from: Vec<Network>,
    /// `max_connections`: the most connections over HTTPS at once, default 5,000.
    pub max_connections: u32,
    /// `requests_per_source`: how many requests a minute one network (IPv4 /24, IPv6 /64) may make, default 600.
    pub requests_per_source: u32,
    /// `requests_per_device`: how many certificates a proved device may ask for in an hour, default 30.
    pub requests_per_device: u32,
    /// `crl_life`: how long the desk's revocation lists are good for, default 7 days.
    pub crl_life: Span,
    /// `renew_servers`: whether the desk gives guards, desks and posts their next certificates, default true.
    pub renew_servers: bool,
}

impl Default for DeskSettings {
    fn default() -> Self {
        Self {
            listen: None,
            listen_http: None,
            metrics: None,
            proxy_protocol: false,
            proxy_from: Vec::new(),
            max_connections: 5_000,
            requests_per_source: 600,
            requests_per_device: 30,
            crl_life: Span::from_days(7),
            renew_servers: true,
        }
    }
}

impl Reader<'_> {
    pub(super) fn desk(&mut self, root: &Table<'_>) -> DeskSettings {
        let default = DeskSettings::default();
        let Some(table) = self.section(root, "desk", &DESK) else { return default };
        let address = |reader: &mut Self, key: &Key| reader.text(table, key, |text| text.parse::<SocketAddr>().ok());
        let (proxy_protocol, proxy_from) = self.proxies(table);
        let life = |text: &str| text.parse::<Span>().ok().filter(|life| life.seconds() >= 600);
        DeskSettings {
            listen: address(self, &LISTEN),
            listen_http: address(self, &LISTEN_HTTP),
            metrics: address(self, &METRICS),
            proxy_protocol,
            proxy_from,
            max_connections: self.number(table, &MAX_CONNECTIONS, 1..=1_000_000).unwrap_or(default.max_connections),
            requests_per_source: self
                .number(table, &REQUESTS_PER_SOURCE, 1..=10_000_000)
                .unwrap_or(default.requests_per_source),
            requests_per_device: self
                .number(table, &REQUESTS_PER_DEVICE, 1..=10_000_000)
                .unwrap_or(default.requests_per_device),
            crl_life: self.text(table, &CRL_LIFE, life).unwrap_or(default.crl_life),
            renew_servers: self.flag(table, &RENEW_SERVERS).unwrap_or(default.renew_servers),
        }
    }
}
