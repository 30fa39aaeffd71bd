//! `[ward]`, `[endpoints]`, `[hsm]` and `[makers.NAME]`: what the ward is called, where it is found, and what it knows beside its
//! store.

use std::collections::BTreeMap;

use super::key::{Key, Section};
use super::reader::{Reader, Table};
use crate::host::Endpoint;
use crate::id::AuthorityName;

/// The keys of `[ward]`.
pub(super) const WARD: Section =
    Section { head: "[ward]", example: "[ward]", about: "What the ward is called.", keys: &[NAME, ENTERPRISE_NUMBER] };

/// The ward's name.
pub(super) const NAME: Key =
    Key::example("name", "\"North fleet\"", "1 to 40 printable characters", "its name, for people; needed");
/// The ward's enterprise number.
pub(super) const ENTERPRISE_NUMBER: Key = Key::example(
    "enterprise_number",
    "32473",
    "",
    "your IANA private enterprise number, for urn:dev:org: names (RFC 9039)",
);

/// The keys of `[endpoints]`.
pub(super) const ENDPOINTS: Section = Section {
    head: "[endpoints]",
    example: "[endpoints]",
    about: "Where devices find the ward.",
    keys: &[MQTT, DESK, CRL, CA],
};

const HOST_AND_PORT: &str = "HOST:PORT, such as \"mqtt.example.org:8883\"";

/// The guard's endpoint.
pub(super) const MQTT: Key = Key::default("mqtt", "\"localhost:8883\"", HOST_AND_PORT, "where devices reach the guard");
/// The desk's endpoint.
pub(super) const DESK: Key = Key::default(
    "desk",
    "\"localhost:8843\"",
    "HOST:PORT, such as \"desk.example.org:8843\"",
    "where devices reach the desk",
);
/// Where revocation lists are.
pub(super) const CRL: Key = Key::example(
    "crl",
    "\"http://localhost:8080/crl/\"",
    "an http:// URL that ends with `/`",
    "where you publish revocation lists; without it certificates name no such place",
);

/// Where the certificates of issuing authorities are.
pub(super) const CA: Key = Key::example(
    "ca",
    "\"http://localhost:8080/ca/\"",
    "an http:// URL that ends with `/`",
    "where you publish issuing authorities' certificates; without it certificates name no such place",
);

/// The keys of `[hsm]`.
pub(super) const HSM: Section = Section { head: "[hsm]", example: "[hsm]", about: "PKCS#11 tokens.", keys: &[MODULE] };

const MODULE: Key = Key::example(
    "module",
    "\"/usr/lib/softhsm/libsofthsm2.so\"",
    "the path of a PKCS#11 library",
    "the PKCS#11 library of the tokens that hold authorities' keys",
);

/// The keys of a maker.
pub(super) const MAKER: Section = Section {
    head: "[makers.NAME]",
    example: "[makers.anemo-works]",
    about: "A foreign authority of this name, as `authority add --trust` took it.",
    keys: &[CRL_FILE],
};

const CRL_FILE: Key = Key::example(
    "crl_file",
    "\"anemo-works.crl\"",
    "the path of a file",
    "its revocation lists, PEM or DER, relative to the ward; without a good one none of its certificates is taken",
);

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
    /// Where the certificates of issuing authorities are published: an `http:` URL that ends with `/`; the authority's name and `.cer`
    /// follow.
    pub ca: String,
}

impl Endpoints {
    /// The endpoints of a ward whose services all run on `host`, on the default ports.
    #[must_use]
    pub fn at(host: &str) -> Self {
        let endpoint = |port| Endpoint { host: host.to_owned(), port };
        Self { mqtt: endpoint(8883), desk: endpoint(8843), crl: String::new(), ca: String::new() }
    }
}

/// Whether `name` can name a ward: 1 to 40 printable characters, so that it fits a certificate's names.
#[must_use]
pub fn check_ward_name(name: &str) -> bool {
    (1..=40).contains(&name.chars().count()) && !name.chars().any(char::is_control) && name.trim() == name
}

impl Reader<'_> {
    pub(super) fn endpoints(&mut self, root: &Table<'_>) -> Endpoints {
        let mut endpoints = Endpoints::at("localhost");
        if let Some(table) = self.section(root, "endpoints", &ENDPOINTS) {
            if let Some(mqtt) = self.text(table, &MQTT, |text| text.parse().ok()) {
                endpoints.mqtt = mqtt;
            }
            if let Some(desk) = self.text(table, &DESK, |text| text.parse().ok()) {
                endpoints.desk = desk;
            }
            let url = |text: &str| {
                let plain = text.chars().all(|c| c.is_ascii_graphic());
                (text.starts_with("http://") && text.len() > 8 && text.ends_with('/') && plain).then(|| text.to_owned())
            };
            if let Some(crl) = self.text(table, &CRL, url) {
                endpoints.crl = crl;
            }
            if let Some(ca) = self.text(table, &CA, url) {
                endpoints.ca = ca;
            }
        }
        endpoints
    }

    pub(super) fn hsm_module(&mut self, root: &Table<'_>) -> Option<String> {
        let table = self.section(root, "hsm", &HSM)?;
        self.text(table, &MODULE, |text| text.starts_with('/').then(|| text.to_owned()))
    }

    pub(super) fn makers(&mut self, root: &Table<'_>) -> BTreeMap<AuthorityName, Maker> {
        let named = self.named::<AuthorityName>(root, "makers", "anemo-works");
        let read = |(name, table): (AuthorityName, &Table<'_>)| {
            self.only(table, &format!("[makers.{name}]"), &MAKER);
            let crl_file = self.path(table, &CRL_FILE);
            (name, Maker { crl_file })
        };
        named.into_iter().map(read).collect()
    }
}
