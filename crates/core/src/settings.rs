//! `ward.toml`: what it may say, with every mistake found in one pass and shown at its place.

use std::collections::BTreeMap;
use std::net::SocketAddr;

use toml::Spanned;
use toml::de::{DeTable, DeValue};

use crate::fact::FactName;
use crate::id::{DeviceId, KindName};
use crate::key::NewKey;
use crate::text::{Source, TextError, nearest};
use crate::time::Span;

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

/// A host name or IP address, and a port.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Endpoint {
    /// Host name or IP address, without brackets.
    pub host: String,
    /// TCP port.
    pub port: u16,
}

impl std::fmt::Display for Endpoint {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        if self.host.contains(':') {
            write!(f, "[{}]:{}", self.host, self.port)
        } else {
            write!(f, "{}:{}", self.host, self.port)
        }
    }
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
    /// `life`: how long a certificate lasts, default 398 days.
    pub life: Span,
    /// `overlap`: how long a credential that was replaced may still sign in, unless its successor is used before.
    pub overlap: Span,
    /// `token_login`: whether a token as MQTT password opens a session, default no.
    pub token_login: bool,
    /// `token_life`: the longest life of a token, default one day.
    pub token_life: Span,
    /// `facts`: those that must be known before a credential is issued.
    pub facts: Vec<FactName>,
}

impl Default for Kind {
    fn default() -> Self {
        Self {
            role: Role::Device,
            key: NewKey::P256,
            life: Span::from_days(398),
            overlap: Span::from_days(7),
            token_login: false,
            token_life: Span::from_days(1),
            facts: Vec::new(),
        }
    }
}

/// What the guard does with a PUBLISH that is denied where the protocol has no code for it (MQTT 3.1.1).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum OnDeniedPublish {
    /// End the connection.
    Close,
    /// Acknowledge it as the QoS asks, pass it to nobody.
    Drop,
}

/// `[guard]`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct GuardSettings {
    /// `listen`: the address that devices connect to, if not given on the command line.
    pub listen: Option<SocketAddr>,
    /// `broker`: `HOST:PORT` of the broker, or `builtin`.
    pub broker: Option<String>,
    /// `max_packet`: the largest MQTT packet taken from a client, in octets, default 256 KiB.
    pub max_packet: u32,
    /// `denied_publish`: `close` (default) or `drop`.
    pub on_denied_publish: OnDeniedPublish,
}

impl Default for GuardSettings {
    fn default() -> Self {
        Self { listen: None, broker: None, max_packet: 256 * 1024, on_denied_publish: OnDeniedPublish::Close }
    }
}

impl Settings {
    /// Reads the text of `ward.toml`.
    ///
    /// # Errors
    /// Every mistake in it: broken TOML, unknown keys (with the nearest known one), values of a wrong form.
    pub fn parse(source: &Source) -> Result<Self, Vec<TextError>> {
        let root = match DeTable::parse(&source.text) {
            Ok(root) => root,
            Err(error) => {
                let range = error.span().unwrap_or(0..0);
                return Err(vec![TextError {
                    place: source.place(range),
                    problem: error.message().lines().next().unwrap_or("this is not TOML").to_owned(),
                    expected: "expected TOML 1.0".to_owned(),
                }]);
            }
        };
        let mut reader = Reader { source, errors: Vec::new() };
        let settings = reader.settings(root.get_ref());
        match settings {
            Some(settings) if reader.errors.is_empty() => Ok(settings),
            _ => Err(reader.errors),
        }
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

    /// Whether any kind lets a token open a session.
    #[must_use]
    pub fn any_token_login(&self) -> bool {
        self.kinds.values().any(|kind| kind.token_login)
    }

    /// Whether `id` could be taken for the name of an endpoint (design decision: a device never may).
    #[must_use]
    pub fn is_endpoint_name(&self, id: &DeviceId) -> bool {
        let host_of_crl = self.endpoints.crl.split(['/', ':']).nth(3).unwrap_or_default();
        [self.endpoints.mqtt.host.as_str(), self.endpoints.desk.host.as_str(), host_of_crl, "localhost"]
            .contains(&id.as_str())
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
}

type Table<'i> = DeTable<'i>;
type Value<'i> = Spanned<DeValue<'i>>;

impl Reader<'_> {
    fn complain(&mut self, range: std::ops::Range<usize>, problem: String, expected: &str) {
        self.errors.push(TextError { place: self.source.place(range), problem, expected: expected.to_owned() });
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
        self.only(root, "ward.toml", &["ward", "endpoints", "kinds", "guard", "desk", "store"]);
        let ward = match self.table(root, "ward") {
            Some(ward) => ward,
            None => {
                self.complain(0..0, "the section [ward] is missing".to_owned(), "expected [ward] with name = \"...\"");
                return None;
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
        let guard = self.guard(root);
        for section in ["desk", "store"] {
            if let Some(table) = self.table(root, section) {
                self.only(table, &format!("[{section}]"), &[]);
            }
        }
        Some(Settings { name: name?, enterprise_number, endpoints, kinds, guard })
    }

    fn endpoints(&mut self, root: &Table<'_>) -> Endpoints {
        let expected = "expected HOST:PORT, such as \"mqtt.example.org:8883\"";
        let mut endpoints = Endpoints::at("localhost");
        if let Some(table) = self.table(root, "endpoints") {
            self.only(table, "[endpoints]", &["mqtt", "desk", "crl"]);
            if let Some(mqtt) = self.text(table, "mqtt", expected, parse_endpoint) {
                endpoints.mqtt = mqtt;
            }
            if let Some(desk) = self.text(table, "desk", expected, parse_endpoint) {
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
        let mut kinds = BTreeMap::new();
        let Some(table) = self.table(root, "kinds") else { return kinds };
        for (key, value) in table {
            let word: &str = key.get_ref();
            let name = match word.parse::<KindName>() {
                Ok(name) => name,
                Err(error) => {
                    self.complain(key.span(), error.to_string(), "expected a name such as `windvane`");
                    continue;
                }
            };
            let DeValue::Table(settings) = value.get_ref() else {
                self.complain(value.span(), format!("`{word}` is not a table"), &format!("expected [kinds.{word}]"));
                continue;
            };
            kinds.insert(name, self.kind(settings, word));
        }
        kinds
    }

    fn kind(&mut self, table: &Table<'_>, word: &str) -> Kind {
        const KNOWN: &[&str] = &["role", "key", "life", "overlap", "token_login", "token_life", "facts"];
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
                .text(table, "key", "expected \"p256\" or \"ed25519\"", |text| {
                    [NewKey::P256, NewKey::Ed25519].into_iter().find(|key| key.as_str() == text)
                })
                .unwrap_or(default.key),
            life: self.text(table, "life", length, least(60)).unwrap_or(default.life),
            overlap: self.text(table, "overlap", length, least(0)).unwrap_or(default.overlap),
            token_login: self.flag(table, "token_login").unwrap_or(default.token_login),
            token_life: self.text(table, "token_life", length, least(1)).unwrap_or(default.token_life),
            facts: self.facts(table).unwrap_or_default(),
        }
    }

    fn facts(&mut self, table: &Table<'_>) -> Option<Vec<FactName>> {
        let value = table.get("facts")?;
        let names: Option<Vec<FactName>> = match value.get_ref() {
            DeValue::Array(items) => items
                .iter()
                .map(|item| match item.get_ref() {
                    DeValue::String(text) => FactName::parse(text).ok(),
                    _ => None,
                })
                .collect(),
            _ => None,
        };
        if names.is_none() {
            self.wrong(value, "facts", "expected a list out of \"serial\", \"mac\", \"imei\", \"eui64\", \"ek\"");
        }
        names
    }

    fn guard(&mut self, root: &Table<'_>) -> GuardSettings {
        let default = GuardSettings::default();
        let Some(table) = self.table(root, "guard") else { return default };
        self.only(table, "[guard]", &["listen", "broker", "max_packet", "denied_publish"]);
        let close_or_drop = |text: &str| match text {
            "close" => Some(OnDeniedPublish::Close),
            "drop" => Some(OnDeniedPublish::Drop),
            _ => None,
        };
        GuardSettings {
            listen: self.text(table, "listen", "expected an IP address and port, such as \"0.0.0.0:8883\"", |text| {
                text.parse().ok()
            }),
            broker: self.text(table, "broker", "expected HOST:PORT or \"builtin\"", |text| {
                (text == "builtin" || parse_endpoint(text).is_some()).then(|| text.to_owned())
            }),
            max_packet: self.number(table, "max_packet", 1024..=268_435_460).unwrap_or(default.max_packet),
            on_denied_publish: self
                .text(table, "denied_publish", "expected \"close\" or \"drop\"", close_or_drop)
                .unwrap_or(default.on_denied_publish),
        }
    }
}

impl Endpoints {
    /// The endpoints of a ward whose services all run on `host`, on the default ports.
    #[must_use]
    pub fn at(host: &str) -> Self {
        let endpoint = |port| Endpoint { host: host.to_owned(), port };
        Self { mqtt: endpoint(8883), desk: endpoint(8843), crl: format!("http://{}/crl/", endpoint(8080)) }
    }
}

/// Whether `name` can name a ward: 1 to 40 printable characters, so that it fits a certificate's names.
#[must_use]
pub fn check_ward_name(name: &str) -> bool {
    (1..=40).contains(&name.chars().count()) && !name.chars().any(char::is_control) && name.trim() == name
}

/// Whether `host` is a DNS host name or an IP address.
#[must_use]
pub fn check_host(host: &str) -> bool {
    let label = |label: &str| {
        (1..=63).contains(&label.len())
            && !label.starts_with('-')
            && !label.ends_with('-')
            && label.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'-')
    };
    host.parse::<std::net::IpAddr>().is_ok() || (host.len() <= 253 && host.split('.').all(label))
}

fn parse_endpoint(text: &str) -> Option<Endpoint> {
    let (host, port) = text.rsplit_once(':')?;
    let host = host.strip_prefix('[').and_then(|rest| rest.strip_suffix(']')).unwrap_or(host);
    let port = port.parse().ok().filter(|port| *port != 0)?;
    check_host(host).then(|| Endpoint { host: host.to_owned(), port })
}

/// Splits `HOST:PORT`; the host is a name or an IP address, in brackets if it is IPv6.
///
/// # Errors
/// Text of another form; the error is what was expected.
pub fn endpoint(text: &str) -> Result<Endpoint, &'static str> {
    parse_endpoint(text).ok_or("expected HOST:PORT, such as 127.0.0.1:1883")
}

/// The text of a new `ward.toml`. `name` must satisfy [`check_ward_name`], `host` [`check_host`].
#[must_use]
pub fn new_text(name: &str, host: &str, enterprise_number: Option<u32>) -> String {
    let Endpoints { mqtt, desk, crl } = Endpoints::at(host);
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
desk = "{desk}"    # where devices and owners reach the desk
crl = "{crl}"    # revocation lists are published under this address

# Declare each kind of device before you add devices of it. Every key is optional; these are the defaults:
#
# [kinds.windvane]
# role = "device"         # or "service": an application on the other end, without hardware facts
# key = "p256"            # keys made here: "p256" or "ed25519"
# life = "398d"           # how long a certificate lasts
# overlap = "7d"          # how long a replaced certificate may still sign in
# token_login = false     # whether a token as MQTT password opens a session
# token_life = "1d"       # the longest life of a token
# facts = []              # facts that must be known before a certificate is issued, such as ["serial"]
#
# [guard]
# listen = "127.0.0.1:8883"
# broker = "127.0.0.1:1883"    # HOST:PORT, plain MQTT, or "builtin"
# max_packet = 262144          # the largest packet taken from a device, in octets
# denied_publish = "close"     # MQTT 3.1.1 has no code for a denied publish: "close" the connection, or "drop" the message
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
    fn a_new_file_reads_back_and_takes_a_kind_at_its_end() {
        let text = new_text("North \"fleet\"", "localhost", None);
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
    fn broken_toml_is_shown_at_its_place() {
        let errors = parse("[ward]\nname = \n").unwrap_err();
        assert!(errors[0].starts_with("ward.toml:2:"), "{}", errors[0]);
    }

    #[test]
    fn endpoints_are_host_and_port() {
        for (text, good) in [
            ("localhost:8883", true),
            ("[::1]:8883", true),
            ("10.0.0.1:1", true),
            ("localhost", false),
            ("localhost:0", false),
            ("a b:1", false),
            ("-a:1", false),
        ] {
            assert_eq!(parse_endpoint(text).is_some(), good, "{text}");
        }
        assert_eq!(parse_endpoint("[::1]:8883").map(|e| e.to_string()).as_deref(), Some("[::1]:8883"));
    }
}
