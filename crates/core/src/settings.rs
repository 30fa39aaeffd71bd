//! `ward.toml`: what it may say, with every mistake found in one pass and shown at its place.

use std::collections::BTreeMap;
use std::net::SocketAddr;

use toml::Spanned;
use toml::de::{DeTable, DeValue};

use crate::certificate::Attribute;
use crate::fact::FactName;
use crate::finding::{Finding, Severity};
use crate::host::Endpoint;
use crate::id::{AuthorityName, DeviceId, KindName};
use crate::key::{KeyType, NewKey};
use crate::profile::{NameTemplate, Profile, TextTemplate};
use crate::text::{Place, Source, TextError, nearest};
use crate::time::{Span, UnixTime};

/// The settings of a ward.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Settings {
    /// The ward's name, for people; 1 to 40 printable characters.
    pub name: String,
    /// The IANA private enterprise number that `urn:dev:org:` identifiers use (RFC 9039).
    pub enterprise_number: Option<u32>,
    /// Where devices find the ward.
    pub endpoints: Endpoints,
    /// Declared kinds.
    pub kinds: BTreeMap<KindName, Kind>,
    /// How the guard works.
    pub guard: GuardSettings,
    /// `[hsm] module`: the PKCS#11 library of the tokens that hold authorities' keys.
    pub hsm_module: Option<String>,
    /// `[makers.NAME]`: what the ward knows beside the store of the foreign authority NAME.
    pub makers: BTreeMap<AuthorityName, Maker>,
}

/// What the ward knows beside the store of a foreign authority that it trusts.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Maker {
    /// `crl_file`: its revocation lists, in PEM or DER, relative to the ward. If it is set, no certificate of this authority is
    /// taken without a list that is good at that moment.
    pub crl_file: Option<String>,
}

/// Addresses that devices are given.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Endpoints {
    /// The guard: host and port.
    pub mqtt: Endpoint,
    /// The desk: host and port.
    pub desk: Endpoint,
    /// Where CRLs are published: an `http:` URL that ends with `/`; the authority's name and `.crl` follow.
    pub crl: String,
}

/// What the machines of a kind are to the fleet.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Role {
    /// A machine in the field.
    Device,
    /// An application on the other end: the same credentials and policy, no hardware facts.
    Service,
}

/// The settings that the devices of one kind share. Every key is optional.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Kind {
    /// `role`, default `device`.
    pub role: Role,
    /// `key`: the type of keys made here, default `p256`.
    pub key: NewKey,
    /// `accept`: the types of keys that devices may bring themselves, default all.
    pub accept: Vec<KeyFamily>,
    /// `life`: how long a certificate lasts, default 398 days.
    pub life: Span,
    /// `least_life`: a certificate that would be clipped below this is not issued, default one day.
    pub least_life: Span,
    /// `subject`, `names` and `hardware_type`: what the certificates say.
    pub profile: Profile,
    /// `usage`: whether the devices are also connected to, default no.
    pub server: bool,
    /// `authority`: who signs for this kind, if it is not the ward's first authority for devices.
    pub authority: Option<AuthorityName>,
    /// `overlap`: how long a credential that was replaced may still sign in, unless its successor is used before.
    pub overlap: Span,
    /// `token_login`: whether a token as MQTT password opens a session, default no.
    pub token_login: bool,
    /// `token_life`: the longest life of a token, default one day.
    pub token_life: Span,
    /// `facts`: those that must be known before a credential is issued.
    pub facts: Vec<FactName>,
    /// `carries`: the kinds of devices that one of this kind may speak for, as their gateway.
    pub carries: Vec<KindName>,
    /// `on_refusal`: what the guard does when it refuses a publish or a subscription; if absent, what `[guard]` says.
    pub on_refusal: Option<OnRefusal>,
    /// `clone_watch`: what follows from a sign that somebody else has a device's key, default `record`.
    pub clone_watch: CloneWatch,
}

impl Default for Kind {
    fn default() -> Self {
        Self {
            role: Role::Device,
            key: NewKey::P256,
            accept: KeyFamily::ALL.to_vec(),
            life: Span::from_days(398),
            least_life: Span::from_days(1),
            profile: Profile::default(),
            server: false,
            authority: None,
            overlap: Span::from_days(7),
            token_login: false,
            token_life: Span::from_days(1),
            facts: Vec::new(),
            carries: Vec::new(),
            on_refusal: None,
            clone_watch: CloneWatch::Record,
        }
    }
}

/// Types of keys that devices may bring.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum KeyFamily {
    /// ECDSA on P-256.
    P256,
    /// ECDSA on P-384.
    P384,
    /// Ed25519.
    Ed25519,
    /// RSA with at least 2048 bits.
    Rsa,
}

impl KeyFamily {
    /// All of them.
    pub const ALL: [Self; 4] = [Self::P256, Self::P384, Self::Ed25519, Self::Rsa];

    /// The word that settings use.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::P256 => "p256",
            Self::P384 => "p384",
            Self::Ed25519 => "ed25519",
            Self::Rsa => "rsa",
        }
    }

    fn holds(self, key: KeyType) -> bool {
        matches!(
            (self, key),
            (Self::P256, KeyType::P256)
                | (Self::P384, KeyType::P384)
                | (Self::Ed25519, KeyType::Ed25519)
                | (Self::Rsa, KeyType::Rsa(_))
        )
    }
}

impl Kind {
    /// Whether devices of this kind may bring a key of this type.
    #[must_use]
    pub fn accepts(&self, key: KeyType) -> bool {
        self.accept.iter().any(|family| family.holds(key))
    }
}

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
    fn parse(text: &str) -> Option<Self> {
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
    fn parse(text: &str) -> Option<Self> {
        match text {
            "end" => Some(Self::End),
            "keep" => Some(Self::Keep),
            _ => None,
        }
    }
}

/// What follows from a sign that a device's key is in two places.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum CloneWatch {
    /// Nothing is watched.
    Off,
    /// It is recorded.
    Record,
    /// It is recorded, and the device is put on hold.
    Hold,
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
}

impl Default for GuardSettings {
    fn default() -> Self {
        Self {
            listen: None,
            listen_websocket: None,
            proxy_protocol: false,
            metrics: None,
            broker: None,
            broker_user: None,
            broker_password_file: None,
            broker_ca: None,
            broker_identity: None,
            sender_property: "sender".to_owned(),
            store_patience: Span::from_seconds(30),
            without_store: WithoutStore::End,
            max_packet: 256 * 1024,
            max_sessions: 10_000,
            sessions_per_device: 16,
            sessions_per_source: 5_000,
            longest_keep_alive: Span::from_seconds(3_600),
            on_refusal: OnRefusal::Refuse,
        }
    }
}

/// The most places that are told where the text is not TOML.
const MOST_BROKEN: usize = 100;

impl Settings {
    /// Reads the text of `ward.toml`.
    ///
    /// # Errors
    /// Every mistake in it: broken TOML, unknown keys (with the nearest known one), values of a wrong form.
    pub fn parse(source: &Source) -> Result<Self, Vec<TextError>> {
        match Self::parse_as_far_as_it_goes(source) {
            (Some(settings), errors) if errors.is_empty() => Ok(settings),
            (_, errors) => Err(errors),
        }
    }

    /// Reads the text of `ward.toml` with its mistakes, in whose place stand the defaults: for finding more of them, and for
    /// nothing else.
    #[must_use]
    pub fn parse_as_far_as_it_goes(source: &Source) -> (Option<Self>, Vec<TextError>) {
        let (root, broken) = DeTable::parse_recoverable(&source.text);
        let broken = broken.into_iter().take(MOST_BROKEN).map(|error| TextError {
            place: source.place(error.span().unwrap_or(0..0)),
            problem: error.message().lines().next().unwrap_or("this is not TOML").to_owned(),
            expected: "expected TOML 1.0".to_owned(),
        });
        let mut reader = Reader { source, errors: Vec::new(), broken: broken.collect() };
        let settings = reader.settings(root.get_ref());
        reader.add_broken();
        reader.errors.sort_by_key(|error| (error.place.line, error.place.column));
        (settings, reader.errors)
    }

    /// The settings of a declared kind.
    ///
    /// # Errors
    /// The kind is not declared.
    pub fn kind(&self, name: &KindName) -> Result<&Kind, UnknownKind> {
        self.kinds.get(name).ok_or_else(|| UnknownKind {
            kind: name.clone(),
            nearest: nearest(name.as_str(), self.kinds.keys().map(KindName::as_str)).map(str::to_owned),
        })
    }

    /// Whether a gateway of kind `gateway` may speak for devices of kind `child`.
    #[must_use]
    pub fn carries(&self, gateway: &KindName, child: &KindName) -> bool {
        self.kinds.get(gateway).is_some_and(|kind| kind.carries.contains(child))
    }

    /// What the guard does when it refuses an act of a device of this kind.
    #[must_use]
    pub fn on_refusal(&self, kind: &KindName) -> OnRefusal {
        self.kinds.get(kind).and_then(|kind| kind.on_refusal).unwrap_or(self.guard.on_refusal)
    }

    /// Whether any kind lets a token open a session.
    #[must_use]
    pub fn any_token_login(&self) -> bool {
        self.kinds.values().any(|kind| kind.token_login)
    }

    /// Whether `id` could be taken for the name of an endpoint (design decision: a device never may).
    #[must_use]
    pub fn is_endpoint_name(&self, id: &DeviceId) -> bool {
        self.is_endpoint_host(id.as_str())
    }

    /// Whether a DNS name is that of an endpoint: no device may have it in its certificate.
    #[must_use]
    pub fn is_endpoint_host(&self, name: &str) -> bool {
        let host_of_crl = self.endpoints.crl.split(['/', ':']).nth(3).unwrap_or_default();
        [self.endpoints.mqtt.host.as_str(), self.endpoints.desk.host.as_str(), host_of_crl, "localhost"]
            .iter()
            .any(|host| host.eq_ignore_ascii_case(name))
    }
}

/// A kind that `ward.toml` does not declare.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("the kind `{kind}` is not declared in ward.toml")]
pub struct UnknownKind {
    /// The kind that was named.
    pub kind: KindName,
    /// A declared kind with nearly that name.
    pub nearest: Option<String>,
}

struct Reader<'a> {
    source: &'a Source,
    errors: Vec<TextError>,
    /// Where the text is not TOML. What was read around such a place may not be what was meant.
    broken: Vec<TextError>,
}

type Table<'i> = DeTable<'i>;
type Value<'i> = Spanned<DeValue<'i>>;

impl Reader<'_> {
    fn complain(&mut self, range: std::ops::Range<usize>, problem: String, expected: &str) {
        // What has no place is not there, or was not understood: not worth a word where the text is not TOML.
        if !range.is_empty() || self.broken.is_empty() {
            self.errors.push(TextError { place: self.source.place(range), problem, expected: expected.to_owned() });
        }
    }

    /// Takes the places that are not TOML among the errors, in the place of what else was found in those lines: one for each.
    fn add_broken(&mut self) {
        let broken = std::mem::take(&mut self.broken);
        let mut lines = std::collections::BTreeSet::new();
        self.errors.retain(|error| broken.iter().all(|other| other.place.line != error.place.line));
        self.errors.extend(broken.into_iter().filter(|error| lines.insert(error.place.line)));
    }

    /// Reports every key of `table` that is not in `known`.
    fn only(&mut self, table: &Table<'_>, section: &str, known: &[&str]) {
        for key in table.keys() {
            let word: &str = key.get_ref();
            if !known.contains(&word) {
                let expected = match nearest(word, known.iter().copied()) {
                    Some(near) => format!("did you mean `{near}`?"),
                    None => format!("expected one of: {}", known.join(", ")),
                };
                self.complain(key.span(), format!("`{word}` is not a setting of {section}"), &expected);
            }
        }
    }

    fn table<'t, 'i>(&mut self, parent: &'t Table<'i>, key: &str) -> Option<&'t Table<'i>> {
        let value = parent.get(key)?;
        match value.get_ref() {
            DeValue::Table(table) => Some(table),
            _ => {
                self.complain(value.span(), format!("`{key}` is not a table"), &format!("expected a section [{key}]"));
                None
            }
        }
    }

    /// A text value that `parse` takes; `None` if the key is absent or wrong (which is reported).
    fn text<T>(
        &mut self,
        table: &Table<'_>,
        key: &str,
        expected: &str,
        parse: impl Fn(&str) -> Option<T>,
    ) -> Option<T> {
        let value = table.get(key)?;
        let parsed = match value.get_ref() {
            DeValue::String(text) => parse(text),
            _ => None,
        };
        if parsed.is_none() {
            self.wrong(value, key, expected);
        }
        parsed
    }

    fn number(&mut self, table: &Table<'_>, key: &str, range: std::ops::RangeInclusive<u32>) -> Option<u32> {
        let value = table.get(key)?;
        let number = match value.get_ref() {
            DeValue::Integer(integer) => {
                u32::from_str_radix(integer.as_str(), integer.radix()).ok().filter(|number| range.contains(number))
            }
            _ => None,
        };
        if number.is_none() {
            self.wrong(value, key, &format!("expected a whole number from {} to {}", range.start(), range.end()));
        }
        number
    }

    fn flag(&mut self, table: &Table<'_>, key: &str) -> Option<bool> {
        let value = table.get(key)?;
        if let DeValue::Boolean(flag) = value.get_ref() {
            return Some(*flag);
        }
        self.wrong(value, key, "expected true or false");
        None
    }

    fn wrong(&mut self, value: &Value<'_>, key: &str, expected: &str) {
        self.complain(value.span(), format!("this is not a value for `{key}`"), expected);
    }

    fn settings(&mut self, root: &Table<'_>) -> Option<Settings> {
        self.only(root, "ward.toml", &["ward", "endpoints", "kinds", "guard", "desk", "store", "hsm", "makers"]);
        let ward = match self.table(root, "ward") {
            Some(ward) => ward,
            None => {
                self.complain(0..0, "the section [ward] is missing".to_owned(), "expected [ward] with name = \"...\"");
                &Table::new()
            }
        };
        self.only(ward, "[ward]", &["name", "enterprise_number"]);
        let name = self.text(ward, "name", "expected 1 to 40 printable characters", |text| {
            check_ward_name(text).then(|| text.to_owned())
        });
        if !ward.contains_key("name") {
            self.complain(0..0, "[ward] has no name".to_owned(), "expected name = \"...\"");
        }
        let enterprise_number = self.number(ward, "enterprise_number", 1..=u32::MAX);
        let endpoints = self.endpoints(root);
        let kinds = self.kinds(root);
        if enterprise_number.is_none() {
            self.need_enterprise_number(root, &kinds);
        }
        let guard = self.guard(root);
        for section in ["desk", "store"] {
            if let Some(table) = self.table(root, section) {
                self.only(table, &format!("[{section}]"), &[]);
            }
        }
        let hsm_module = self.table(root, "hsm").and_then(|table| {
            self.only(table, "[hsm]", &["module"]);
            self.text(table, "module", "expected the path of a PKCS#11 library", |text| {
                text.starts_with('/').then(|| text.to_owned())
            })
        });
        let makers = self.makers(root);
        Some(Settings { name: name?, enterprise_number, endpoints, kinds, guard, hsm_module, makers })
    }

    /// The tables of the section `section` by their names, as `parse` takes them; what is wrong is reported.
    fn named<'t, 'i, N: Ord + std::str::FromStr<Err: std::fmt::Display>>(
        &mut self,
        root: &'t Table<'i>,
        section: &str,
        example: &str,
    ) -> Vec<(N, &'t Table<'i>)> {
        let mut found = Vec::new();
        let Some(table) = self.table(root, section) else { return found };
        for (key, value) in table {
            let word: &str = key.get_ref();
            match (word.parse::<N>(), value.get_ref()) {
                (Ok(name), DeValue::Table(settings)) => found.push((name, settings)),
                (Ok(_), _) => {
                    let expected = format!("expected [{section}.{word}]");
                    self.complain(value.span(), format!("`{word}` is not a table"), &expected);
                }
                (Err(error), _) => {
                    self.complain(key.span(), error.to_string(), &format!("expected a name such as `{example}`"));
                }
            }
        }
        found
    }

    fn makers(&mut self, root: &Table<'_>) -> BTreeMap<AuthorityName, Maker> {
        let named = self.named::<AuthorityName>(root, "makers", "anemo-works");
        let read = |(name, table): (AuthorityName, &Table<'_>)| {
            self.only(table, &format!("[makers.{name}]"), &["crl_file"]);
            let crl_file = self.path(table, "crl_file");
            (name, Maker { crl_file })
        };
        named.into_iter().map(read).collect()
    }

    /// The path of a file.
    fn path(&mut self, table: &Table<'_>, key: &str) -> Option<String> {
        self.text(table, key, "expected the path of a file", |text| (!text.is_empty()).then(|| text.to_owned()))
    }

    fn endpoints(&mut self, root: &Table<'_>) -> Endpoints {
        let expected = "expected HOST:PORT, such as \"mqtt.example.org:8883\"";
        let mut endpoints = Endpoints::at("localhost");
        if let Some(table) = self.table(root, "endpoints") {
            self.only(table, "[endpoints]", &["mqtt", "desk", "crl"]);
            if let Some(mqtt) = self.text(table, "mqtt", expected, |text| text.parse().ok()) {
                endpoints.mqtt = mqtt;
            }
            if let Some(desk) = self.text(table, "desk", expected, |text| text.parse().ok()) {
                endpoints.desk = desk;
            }
            let url = |text: &str| {
                let plain = text.chars().all(|c| c.is_ascii_graphic());
                (text.starts_with("http://") && text.len() > 8 && text.ends_with('/') && plain).then(|| text.to_owned())
            };
            if let Some(crl) = self.text(table, "crl", "expected an http:// URL that ends with `/`", url) {
                endpoints.crl = crl;
            }
        }
        endpoints
    }

    fn kinds(&mut self, root: &Table<'_>) -> BTreeMap<KindName, Kind> {
        let named = self.named::<KindName>(root, "kinds", "windvane");
        named.into_iter().map(|(name, table)| (name.clone(), self.kind(table, name.as_str()))).collect()
    }

    /// Complains of names that cannot be made without the ward's enterprise number.
    fn need_enterprise_number(&mut self, root: &Table<'_>, kinds: &BTreeMap<KindName, Kind>) {
        for (name, kind) in kinds {
            if kind.profile.names.iter().any(NameTemplate::needs_enterprise_number)
                && let Some(range) = span_of(root, &["kinds", name.as_str(), "names"])
            {
                let problem = "these names need the ward's enterprise_number".to_owned();
                self.complain(range, problem, "expected enterprise_number = ... in [ward]");
            }
        }
    }

    fn kind(&mut self, table: &Table<'_>, word: &str) -> Kind {
        const KNOWN: &[&str] = &[
            "role",
            "key",
            "accept",
            "life",
            "least_life",
            "subject",
            "names",
            "hardware_type",
            "usage",
            "authority",
            "overlap",
            "token_login",
            "token_life",
            "facts",
            "carries",
            "on_refusal",
            "clone_watch",
        ];
        self.only(table, &format!("[kinds.{word}]"), KNOWN);
        let default = Kind::default();
        let length = "expected a length of time, such as \"90d\" or \"12h\"";
        let least = |least: i64| move |text: &str| text.parse::<Span>().ok().filter(|span| span.seconds() >= least);
        Kind {
            role: self
                .text(table, "role", "expected \"device\" or \"service\"", |text| match text {
                    "device" => Some(Role::Device),
                    "service" => Some(Role::Service),
                    _ => None,
                })
                .unwrap_or(default.role),
            key: self
                .text(table, "key", "expected \"p256\", \"p384\" or \"ed25519\"", |text| {
                    NewKey::FOR_DEVICES.into_iter().find(|key| key.as_str() == text)
                })
                .unwrap_or(default.key),
            accept: self
                .list(table, "accept", "expected a list out of \"p256\", \"p384\", \"ed25519\", \"rsa\"", |text| {
                    KeyFamily::ALL.into_iter().find(|family| family.as_str() == text).ok_or_else(String::new)
                })
                .unwrap_or(default.accept),
            life: self.text(table, "life", length, least(60)).unwrap_or(default.life),
            least_life: self.text(table, "least_life", length, least(0)).unwrap_or(default.least_life),
            profile: self.profile(table, default.profile),
            server: self
                .text(table, "usage", "expected \"client\" or \"client+server\"", |text| match text {
                    "client" => Some(false),
                    "client+server" => Some(true),
                    _ => None,
                })
                .unwrap_or(default.server),
            authority: self.text(table, "authority", "expected the name of an authority", |text| text.parse().ok()),
            overlap: self.overlap(table, default.overlap, default.life),
            token_login: self.flag(table, "token_login").unwrap_or(default.token_login),
            token_life: self.text(table, "token_life", length, least(1)).unwrap_or(default.token_life),
            facts: self.facts(table).unwrap_or_default(),
            carries: self
                .list(table, "carries", "expected a list of kinds, such as [\"windvane\"]", |text| {
                    text.parse::<KindName>().map_err(|error| error.to_string())
                })
                .unwrap_or(default.carries),
            on_refusal: self.text(table, "on_refusal", ON_REFUSAL, OnRefusal::parse),
            clone_watch: self
                .text(table, "clone_watch", "expected \"off\", \"record\" or \"hold\"", |text| match text {
                    "off" => Some(CloneWatch::Off),
                    "record" => Some(CloneWatch::Record),
                    "hold" => Some(CloneWatch::Hold),
                    _ => None,
                })
                .unwrap_or(default.clone_watch),
        }
    }

    /// An overlap longer than the life of what was replaced would change nothing, so nobody means it.
    fn overlap(&mut self, table: &Table<'_>, default: Span, life: Span) -> Span {
        let span = |text: &str| text.parse::<Span>().ok();
        let overlap = self.text(table, "overlap", "expected a length of time, such as \"7d\"", span);
        let life = table.get("life").and_then(|life| life.get_ref().as_str()).and_then(span).unwrap_or(life);
        if let (Some(overlap), Some(value)) = (overlap, table.get("overlap"))
            && overlap > life
        {
            self.complain(
                value.span(),
                format!("the overlap {overlap} is longer than the life {life}"),
                "expected one that is no longer than the life of a certificate",
            );
        }
        overlap.unwrap_or(default)
    }

    /// A list of texts, each of which `parse` takes or complains of; `None` if the key is absent.
    fn list<T>(
        &mut self,
        table: &Table<'_>,
        key: &str,
        expected: &str,
        parse: impl Fn(&str) -> Result<T, String>,
    ) -> Option<Vec<T>> {
        let value = table.get(key)?;
        let DeValue::Array(items) = value.get_ref() else {
            self.wrong(value, key, expected);
            return None;
        };
        let mut found = Vec::new();
        for item in items {
            let parsed = match item.get_ref() {
                DeValue::String(text) => parse(text),
                _ => Err(String::new()),
            };
            match parsed {
                Ok(parsed) => found.push(parsed),
                Err(why) if why.is_empty() => self.wrong(item, key, expected),
                Err(why) => self.complain(item.span(), why, expected),
            }
        }
        Some(found)
    }

    fn facts(&mut self, table: &Table<'_>) -> Option<Vec<FactName>> {
        let expected = "expected a list out of \"serial\", \"mac\", \"imei\", \"eui64\", \"ek\"";
        self.list(table, "facts", expected, |text| FactName::parse(text).map_err(|_| String::new()))
    }

    fn profile(&mut self, table: &Table<'_>, default: Profile) -> Profile {
        let subject = self.list(
            table,
            "subject",
            "expected texts such as \"CN={device}\" with CN, O, OU, L, ST, C or serialNumber",
            |text| {
                let (word, value) = text.split_once('=').ok_or_else(String::new)?;
                let attribute = Attribute::parse(word).ok_or_else(|| format!("`{word}` is not an attribute"))?;
                let template = TextTemplate::parse(value).map_err(|bad| bad.to_string())?;
                match template.fixed() {
                    Some(fixed) if !attribute.takes(fixed) => Err(format!("{fixed:?} cannot be a subject's {word}")),
                    _ => Ok((attribute, template)),
                }
            },
        );
        let names = self.list(
            table,
            "names",
            "expected \"urn:dev:org\", \"urn:dev:os\", \"urn:dev:ops\", \"urn:dev:mac\", \"urn:dev:eui64\", \"dns:NAME\" or \"hardware-module\"",
            |text| NameTemplate::parse(text).map_err(|bad| bad.to_string()),
        );
        let hardware_type = self.text(
            table,
            "hardware_type",
            "expected an object identifier, such as \"1.3.6.1.4.1.32473.1\"",
            |text| const_oid::ObjectIdentifier::new(text).ok(),
        );
        let wants_type = names.as_ref().is_some_and(|names| names.contains(&NameTemplate::HardwareModule));
        if let Some(value) = table.get("names").filter(|_| wants_type && !table.contains_key("hardware_type")) {
            let problem = "\"hardware-module\" needs hardware_type".to_owned();
            self.complain(value.span(), problem, "expected hardware_type = \"1.3.6.1.4.1...\" beside it");
        }
        Profile {
            subject: subject.filter(|subject| !subject.is_empty()).unwrap_or(default.subject),
            names: names.unwrap_or_default(),
            hardware_type,
        }
    }

    fn guard(&mut self, root: &Table<'_>) -> GuardSettings {
        let default = GuardSettings::default();
        let Some(table) = self.table(root, "guard") else { return default };
        const KNOWN: &[&str] = &[
            "listen",
            "listen_websocket",
            "proxy_protocol",
            "metrics",
            "broker",
            "broker_user",
            "broker_password_file",
            "broker_ca",
            "broker_certificate",
            "broker_key",
            "sender_property",
            "store_patience",
            "without_store",
            "max_packet",
            "max_sessions",
            "sessions_per_device",
            "sessions_per_source",
            "longest_keep_alive",
            "on_refusal",
        ];
        self.only(table, "[guard]", KNOWN);
        let address = |reader: &mut Self, key: &str| {
            let expected = "expected an IP address and port, such as \"0.0.0.0:8883\"";
            reader.text(table, key, expected, |text| text.parse::<SocketAddr>().ok())
        };
        let (certificate, key) = (self.path(table, "broker_certificate"), self.path(table, "broker_key"));
        let (broker_password_file, broker_ca) =
            (self.path(table, "broker_password_file"), self.path(table, "broker_ca"));
        for (one, other) in [("broker_certificate", "broker_key"), ("broker_key", "broker_certificate")] {
            if let Some(value) = table.get(one).filter(|_| !table.contains_key(other)) {
                self.complain(value.span(), format!("`{one}` needs `{other}`"), &format!("expected {other} beside it"));
            }
        }
        let broker_user = self.text(table, "broker_user", "expected a user name", |text| {
            (!text.is_empty() && !text.chars().any(char::is_control)).then(|| text.to_owned())
        });
        if let Some(value) = table.get("broker_password_file").filter(|_| !table.contains_key("broker_user")) {
            let problem = "`broker_password_file` needs `broker_user`".to_owned();
            self.complain(value.span(), problem, "expected broker_user = \"...\" beside it");
        }
        GuardSettings {
            listen: address(self, "listen"),
            listen_websocket: address(self, "listen_websocket"),
            proxy_protocol: self.flag(table, "proxy_protocol").unwrap_or(default.proxy_protocol),
            metrics: address(self, "metrics"),
            broker: self.text(table, "broker", BROKER_FORMS, |text| text.parse().ok()),
            broker_user,
            broker_password_file,
            broker_ca,
            broker_identity: certificate.zip(key),
            sender_property: self
                .text(table, "sender_property", "expected at most 64 printable characters", |text| {
                    (text.len() <= 64 && text.chars().all(|c| c.is_ascii_graphic())).then(|| text.to_owned())
                })
                .unwrap_or(default.sender_property),
            store_patience: self
                .text(table, "store_patience", "expected a length of time, such as \"5m\"", |text| text.parse().ok())
                .unwrap_or(default.store_patience),
            without_store: self
                .text(table, "without_store", "expected \"end\" or \"keep\"", WithoutStore::parse)
                .unwrap_or(default.without_store),
            max_packet: self.number(table, "max_packet", 1024..=268_435_460).unwrap_or(default.max_packet),
            max_sessions: self.number(table, "max_sessions", 1..=10_000_000).unwrap_or(default.max_sessions),
            sessions_per_device: self
                .number(table, "sessions_per_device", 1..=10_000_000)
                .unwrap_or(default.sessions_per_device),
            sessions_per_source: self
                .number(table, "sessions_per_source", 1..=10_000_000)
                .unwrap_or(default.sessions_per_source),
            longest_keep_alive: self
                .text(table, "longest_keep_alive", "expected a length from 10s to 18h, such as \"1h\"", |text| {
                    // A keep-alive is 16 bits of seconds (MQTT 5.0 section 3.1.2.10).
                    text.parse::<Span>().ok().filter(|span| (10..=64_800).contains(&span.seconds()))
                })
                .unwrap_or(default.longest_keep_alive),
            on_refusal: self.text(table, "on_refusal", ON_REFUSAL, OnRefusal::parse).unwrap_or(default.on_refusal),
        }
    }
}

const ON_REFUSAL: &str = "expected \"refuse\", \"drop\" or \"disconnect\"";

/// Where the value of a key stands in a table of tables.
fn span_of(root: &Table<'_>, path: &[&str]) -> Option<std::ops::Range<usize>> {
    let (first, rest) = path.split_first()?;
    let value = root.get(*first)?;
    match (value.get_ref(), rest) {
        (_, []) => Some(value.span()),
        (DeValue::Table(table), rest) => span_of(table, rest),
        _ => None,
    }
}

/// The place of a setting's value, such as that of `["kinds", "windvane", "life"]`; of the nearest table around it that
/// is there, or of the text's beginning.
#[must_use]
pub fn place_of(source: &Source, path: &[&str]) -> Place {
    let root = DeTable::parse(&source.text);
    let mut longest = path.len();
    while let (Ok(root), true) = (&root, longest > 0) {
        if let Some(range) = span_of(root.get_ref(), &path[..longest]) {
            return source.place(range);
        }
        longest -= 1;
    }
    source.place(0..0)
}

/// What settings are checked against: one of the ward's authorities for devices.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Signing {
    /// Its name.
    pub name: AuthorityName,
    /// The last second of its certificate.
    pub ends: UnixTime,
    /// The type of its key.
    pub key: KeyType,
    /// Whether it is no longer believed.
    pub retired: bool,
}

/// What settings that read well still get wrong in a ward. `signing_for` gives the authority that signs for a kind at last,
/// if there is one.
pub fn check(
    settings: &Settings,
    source: &Source,
    signing_for: &dyn Fn(&Kind) -> Option<Signing>,
    now: UnixTime,
) -> Vec<Finding> {
    let mut findings = Vec::new();
    for (name, kind) in &settings.kinds {
        let mut complain = |id, severity, key: &str, problem: String, mend: String| {
            let place = Some(place_of(source, &["kinds", name.as_str(), key]));
            findings.push(Finding { id, severity, place, problem, mend });
        };
        for carried in kind.carries.iter().filter(|carried| !settings.kinds.contains_key(*carried)) {
            complain(
                "unknown-kind",
                Severity::Error,
                "carries",
                format!("the kind `{carried}`, which `{name}` is to carry, is not declared"),
                format!("declare it: [kinds.{carried}]"),
            );
        }
        for template in &kind.profile.names {
            if let NameTemplate::Dns(text) = template
                && let Some(fixed) = text.fixed()
            {
                let (id, problem) = match settings.is_endpoint_host(fixed) {
                    true => {
                        ("endpoint-name", format!("`{fixed}` is the name of an endpoint, which no device may have"))
                    }
                    false => ("shared-name", format!("every device of `{name}` would have the same name `{fixed}`")),
                };
                complain(
                    id,
                    Severity::Error,
                    "names",
                    problem,
                    "name the device in it, such as dns:{device}.example.org".to_owned(),
                );
            }
        }
        if kind.profile.names.is_empty()
            && settings.enterprise_number.is_none()
            && !kind.facts.contains(&FactName::Mac)
            && kind.role == Role::Device
        {
            complain(
                "made-up-names",
                Severity::Warning,
                "facts",
                format!("devices of `{name}` without a known mac get made-up names"),
                "set enterprise_number in [ward], or facts = [\"mac\"] here".to_owned(),
            );
        }
        let Some(signing) = signing_for(kind) else {
            let named = kind.authority.as_ref().map(ToString::to_string).unwrap_or_default();
            complain(
                "unknown-authority",
                Severity::Error,
                "authority",
                format!("the ward has no authority `{named}` for devices"),
                format!("authority add {named}, or name one that authority list shows"),
            );
            continue;
        };
        if signing.retired {
            complain(
                "retired-authority",
                Severity::Error,
                "authority",
                format!("the authority `{}` is retired", signing.name),
                "name another, or add one that replaces it".to_owned(),
            );
            continue;
        }
        let left = signing.ends.since(now);
        if kind.life.seconds() > left {
            complain(
                "life-beyond-authority",
                Severity::Warning,
                "life",
                format!("`{}` ends on {}, sooner than this life", signing.name, signing.ends.date()),
                "certificates end with it; shorten life, or add an authority that replaces it".to_owned(),
            );
        }
        if kind.least_life.seconds() > left.max(0) {
            complain(
                "nothing-issued",
                Severity::Error,
                "least_life",
                format!("`{}` ends on {}, so that nothing is issued for `{name}`", signing.name, signing.ends.date()),
                "add an authority that replaces it".to_owned(),
            );
        } else if kind.least_life > kind.life && kind.least_life != Kind::default().least_life {
            complain(
                "least-life-above-life",
                Severity::Error,
                "least_life",
                "least_life is longer than life".to_owned(),
                "make it shorter".to_owned(),
            );
        }
        if !signing.key.is_classical() {
            complain(
                "post-quantum-issuer",
                Severity::Warning,
                "authority",
                format!(
                    "`{}` signs with {}: only what knows that can check certificates of `{name}`",
                    signing.name, signing.key
                ),
                "this guard can; whoever else devices show their certificates to must be able to, as well".to_owned(),
            );
        }
    }
    findings.sort_by_key(|finding| finding.place.as_ref().map(|place| (place.line, place.column)));
    findings
}

impl Endpoints {
    /// The endpoints of a ward whose services all run on `host`, on the default ports.
    #[must_use]
    pub fn at(host: &str) -> Self {
        let endpoint = |port| Endpoint { host: host.to_owned(), port };
        Self { mqtt: endpoint(8883), desk: endpoint(8843), crl: String::new() }
    }
}

/// Whether `name` can name a ward: 1 to 40 printable characters, so that it fits a certificate's names.
#[must_use]
pub fn check_ward_name(name: &str) -> bool {
    (1..=40).contains(&name.chars().count()) && !name.chars().any(char::is_control) && name.trim() == name
}

/// The text of a new `ward.toml`. `name` must satisfy [`check_ward_name`], `host` [`crate::host::check_host`].
#[must_use]
pub fn new_text(name: &str, host: &str, enterprise_number: Option<u32>, crl: Option<&str>) -> String {
    let Endpoints { mqtt, desk, .. } = Endpoints::at(host);
    let crl = match crl {
        Some(url) => format!("crl = \"{url}\""),
        None => format!("# crl = \"http://{}/crl/\"", Endpoint { host: host.to_owned(), port: 8080 }),
    };
    let enterprise = match enterprise_number {
        Some(number) => format!("enterprise_number = {number}\n"),
        None => {
            "# enterprise_number = 32473    # your IANA private enterprise number, for urn:dev:org: names\n".to_owned()
        }
    };
    let name = name.replace('\\', "\\\\").replace('"', "\\\"");
    format!(
        r#"# The settings of one ward. Every command reads this file; a running guard reads it when it starts.

[ward]
name = "{name}"
{enterprise}
[endpoints]
mqtt = "{mqtt}"    # where devices reach the guard
desk = "{desk}"    # where devices will reach the desk, which does not exist yet
{crl}    # where you publish revocation lists; without it certificates name no such place

# Declare each kind of device before you add devices of it. Every key is optional; these are the defaults:
#
# [kinds.windvane]
# role = "device"         # or "service": an application on the other end, without hardware facts
# key = "p256"            # keys made here: "p256", "p384" or "ed25519"
# accept = ["p256", "p384", "ed25519", "rsa"]    # keys that devices may bring
# life = "398d"           # how long a certificate lasts
# least_life = "1d"       # one that would end sooner, because its authority ends, is not issued
# subject = ["O={{ward}}", "CN={{device}}"]    # also {{kind}}, {{gateway}}, names of labels and facts
# names = []              # alternative names: "urn:dev:org", "urn:dev:os", "urn:dev:ops", "urn:dev:mac", "urn:dev:eui64",
#                         # "dns:{{device}}.example.org", "hardware-module" (with hardware_type = "1.3.6.1.4.1...");
#                         # without any, "urn:dev:org", or "urn:dev:mac" if the ward has no enterprise_number
# usage = "client"        # or "client+server"
# authority = "devices"   # who signs
# overlap = "7d"          # how long a replaced certificate may still sign in
# token_login = false     # whether a token as MQTT password opens a session
# token_life = "1d"       # the longest life of a token
# facts = []              # facts that must be known before a certificate is issued, such as ["serial"]
# carries = []            # kinds of devices that one of this kind may speak for, if it is their gateway
#
# [hsm]
# module = "/usr/lib/softhsm/libsofthsm2.so"    # the PKCS#11 library of the tokens that hold authorities' keys
#
# [makers.anemo-works]           # a foreign authority of this name, as `authority add --trust` took it
# crl_file = "anemo-works.crl"    # its revocation lists; without a good one none of its certificates is taken
#
# [guard]
# listen = "127.0.0.1:8883"
# broker = "127.0.0.1:1883"      # HOST:PORT, tls://HOST:PORT, unix:/PATH or "builtin"
# on_refusal = "refuse"          # what happens on a refused publish: "refuse", "drop" or "disconnect"
# store_patience = "30s"         # how long the guard goes by what it knew last while the store does not answer
# without_store = "end"          # then live sessions "end", or "keep" on until their credentials end
# max_packet = 262144            # the largest packet taken from a device, in bytes
# max_sessions = 10000           # the most clients at once
# sessions_per_device = 16       # the most of them for one device
# sessions_per_source = 5000     # the most of them from one network (IPv4 /24, IPv6 /64)
# longest_keep_alive = "1h"      # how long a client may be silent at most
# sender_property = "sender"     # the user property that tells receivers who sent a message
"#
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    fn parse(text: &str) -> Result<Settings, Vec<String>> {
        Settings::parse(&Source::new("ward.toml", text))
            .map_err(|errors| errors.iter().map(ToString::to_string).collect())
    }

    #[test]
    fn a_place_that_is_not_toml_hides_no_other_mistake() {
        let text = "[ward]\nname = \"North\"\nenterprise_number = = 7\n[guard]\nmax_packet = \"big\"\n[kinds.windvane]\nlife = \n\
                    overlap = 7\n[gaurd]\n";
        let errors = Settings::parse(&Source::new("ward.toml", text)).unwrap_err();
        let lines: Vec<usize> = errors.iter().map(|error| error.place.line).collect();
        assert_eq!(lines, [3, 5, 7, 8, 9], "{errors:?}");
        // What may stand in the broken part is not missed.
        let errors = parse("[ward\nname = \"North\"\n").unwrap_err();
        assert!(errors.iter().all(|error| !error.contains("missing")), "{errors:?}");
        assert!(parse("").unwrap_err()[0].contains("the section [ward] is missing"));
    }

    #[test]
    fn every_setting_that_the_template_offers_is_taken() {
        let text = new_text("North", "localhost", None, None);
        let setting = |line: &str| {
            let rest = line.strip_prefix("# ")?;
            let is_table = rest.starts_with('[');
            let is_key =
                rest.split_once(" = ").is_some_and(|(key, _)| key.bytes().all(|b| b.is_ascii_lowercase() || b == b'_'));
            (is_table || is_key).then(|| rest.to_owned())
        };
        let offered: Vec<String> = text.lines().filter_map(setting).collect();
        assert!(offered.len() > 25, "{offered:?}");
        let all: String = text.lines().map(|line| setting(line).unwrap_or_else(|| line.to_owned()) + "\n").collect();
        let settings = parse(&all).unwrap();
        assert_eq!(settings.endpoints.crl, "http://localhost:8080/crl/");
        // What is offered are the defaults.
        let GuardSettings { listen, broker, .. } = settings.guard.clone();
        assert_eq!(settings.guard, GuardSettings { listen, broker, ..GuardSettings::default() });
        assert_eq!(
            parse(&new_text("North", "localhost", None, Some("http://a.example/"))).unwrap().endpoints.crl,
            "http://a.example/"
        );
    }

    #[test]
    fn a_new_file_reads_back_and_takes_a_kind_at_its_end() {
        let text = new_text("North \"fleet\"", "localhost", None, None);
        let settings = parse(&text).unwrap();
        assert_eq!(settings.name, "North \"fleet\"");
        assert_eq!(settings.endpoints, Endpoints::at("localhost"));
        assert!(settings.kinds.is_empty());
        let settings = parse(&format!("{text}\n[kinds.windvane]\ntoken_login = true\n")).unwrap();
        let kind = settings.kind(&"windvane".parse().unwrap()).unwrap();
        assert_eq!(*kind, Kind { token_login: true, ..Kind::default() });
        let error = settings.kind(&"windvain".parse().unwrap()).unwrap_err();
        assert_eq!(error.nearest.as_deref(), Some("windvane"));
    }

    #[test]
    fn every_mistake_is_found_in_one_pass() {
        let errors = parse(
            "[ward]\nname = \"n\"\nenterprise = 1\n[kinds.windvane]\ntoken_lgoin = true\nlife = \"soon\"\n\
             [kinds.Cabin]\n[guard]\nmax_packet = 3\n",
        )
        .unwrap_err();
        assert_eq!(errors.len(), 5, "{errors:#?}");
        let all = errors.join("\n");
        for want in [
            "ward.toml:3:1: `enterprise` is not a setting of [ward]",
            "ward.toml:5:1: `token_lgoin` is not a setting of [kinds.windvane]\n    token_lgoin = true\n    ^^^^^^^^^^^\n    did you mean `token_login`?",
            "ward.toml:6:8: this is not a value for `life`",
            "ward.toml:7:8: the kind \"Cabin\" holds 'C'",
            "ward.toml:9:14: this is not a value for `max_packet`",
        ] {
            assert!(all.contains(want), "missing {want:?} in:\n{all}");
        }
    }

    #[test]
    fn an_overlap_is_no_longer_than_a_life() {
        let with = |kind: &str| parse(&format!("[ward]\nname = \"n\"\n[kinds.windvane]\n{kind}"));
        let error = with("life = \"30d\"\noverlap = \"500d\"\n").unwrap_err().join("");
        assert!(error.contains("the overlap 500d is longer than the life 30d"), "{error}");
        assert!(with("overlap = \"500d\"\n").is_err(), "the life that a kind has by default");
        for good in ["life = \"30d\"\noverlap = \"30d\"\n", "life = \"1d\"\n"] {
            assert!(with(good).is_ok(), "{good}");
        }
    }

    #[test]
    fn profiles_are_read_and_their_mistakes_shown() {
        let settings = parse(
            "[ward]\nname = \"n\"\nenterprise_number = 32473\n[kinds.windvane]\nkey = \"p384\"\n\
             accept = [\"p256\", \"rsa\"]\nsubject = [\"OU={site}\", \"CN={device}\"]\n\
             names = [\"urn:dev:os\", \"hardware-module\"]\nhardware_type = \"1.3.6.1.4.1.32473.1\"\n\
             usage = \"client+server\"\nauthority = \"vanes\"\nleast_life = \"30d\"\n",
        )
        .unwrap();
        let kind = settings.kind(&"windvane".parse().unwrap()).unwrap();
        assert!(kind.accepts(KeyType::Rsa(2048)) && !kind.accepts(KeyType::Ed25519) && kind.server);
        assert_eq!((kind.profile.subject.len(), kind.profile.names.len()), (2, 2));
        let errors = parse(
            "[ward]\nname = \"n\"\n[kinds.windvane]\nkey = \"rsa3072\"\naccept = [\"p256\", \"dsa\"]\n\
             subject = [\"CN={Device}\", \"XY=a\", \"C=Austria\"]\n\
             names = [\"urn:dev:org\", \"urn:dev:none\", \"hardware-module\"]\nusage = \"both\"\n[hsm]\nmodule = \"x\"\n",
        )
        .unwrap_err()
        .join("\n");
        for want in [
            "4:7: this is not a value for `key`",
            "5:19: this is not a value for `accept`",
            "6:12: `{Device}` names nothing",
            "`XY` is not an attribute",
            "\"Austria\" cannot be a subject's C",
            "\"urn:dev:none\" is not a form of name",
            "\"hardware-module\" needs hardware_type",
            "these names need the ward's enterprise_number",
            "8:9: this is not a value for `usage`",
            "10:10: this is not a value for `module`",
        ] {
            assert!(errors.contains(want), "missing {want:?} in:\n{errors}");
        }
    }

    #[test]
    fn settings_are_held_against_the_authorities() {
        let text = "[ward]\nname = \"n\"\n[kinds.windvane]\nlife = \"398d\"\n[kinds.cabin]\nauthority = \"cabins\"\n\
                    [kinds.tension]\nauthority = \"old\"\n[kinds.station]\nauthority = \"pq\"\nleast_life = \"400d\"\n\
                    names = [\"dns:localhost\", \"dns:a.example\"]\n[kinds.turnstile]\nleast_life = \"300d\"\n";
        let source = Source::new("ward.toml", text);
        let settings = Settings::parse(&source).unwrap();
        let signing_for = |kind: &Kind| {
            let name = kind.authority.clone().unwrap_or("devices".parse().unwrap());
            let (key, days, retired) = match name.as_str() {
                "devices" => (KeyType::P256, 200, false),
                "pq" => (KeyType::MlDsa65, 4000, false),
                "old" => (KeyType::P256, 4000, true),
                _ => return None,
            };
            Some(Signing { name, ends: UnixTime(0).plus(Span::from_days(days)), key, retired })
        };
        let found = check(&settings, &source, &signing_for, UnixTime(0));
        let told: Vec<String> = found
            .iter()
            .filter(|finding| finding.id != "made-up-names")
            .map(|finding| format!("{} {}", finding.place.as_ref().map_or(0, |place| place.line), finding.id))
            .collect();
        assert_eq!(
            told,
            [
                "4 life-beyond-authority",
                "6 unknown-authority",
                "8 retired-authority",
                "10 post-quantum-issuer",
                "11 least-life-above-life",
                "12 endpoint-name",
                "12 shared-name",
                "13 life-beyond-authority",
                "14 nothing-issued",
            ]
        );
    }

    #[test]
    fn broken_toml_is_shown_at_its_place() {
        let errors = parse("[ward]\nname = \n").unwrap_err();
        assert!(errors[0].starts_with("ward.toml:2:"), "{}", errors[0]);
    }
}
