//! `ward.toml`: what it may say, with every mistake found in one pass and shown at its place.
//!
//! Each section has a table of its keys; a new key is added there, and to the section's struct and reading.

mod check;
mod claims;
mod desk;
mod due;
mod guard;
mod here;
mod key;
mod kind;
mod notice;
mod own;
mod reader;
mod reflex;
mod store;
mod template;
#[cfg(test)]
mod tests;
mod ward;

use std::collections::BTreeMap;

use toml::de::DeTable;

use crate::id::{AuthorityName, DeviceId, KindName, LabelName, ReflexName};
use crate::profile::NameTemplate;
use crate::reflex::Reflex;
use crate::text::{Place, Source, TextError, nearest};

pub use check::{Signing, check};
pub use claims::ClaimSettings;
pub use desk::DeskSettings;
pub use due::DueSettings;
pub use guard::{BROKER_FORMS, BrokerAddress, GuardSettings, OnRefusal, WithoutStore};
pub use here::{Here, PostFile, adopted_octets};
pub use kind::{Admit, CloneWatch, KeyFamily, Kind, Renews, Role};
pub use notice::NoticeSettings;
pub use own::OwnFact;
pub use store::StoreSettings;
pub use template::{new_text, reference};
pub use ward::{Endpoints, Maker, check_ward_name};

use reader::{Reader, Table, span_of};

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
    /// Declared facts of the ward's own.
    pub facts: BTreeMap<LabelName, OwnFact>,
    /// How the guard works.
    pub guard: GuardSettings,
    /// How the desk works.
    pub desk: DeskSettings,
    /// `[claims]`: how owners claim devices.
    pub claims: ClaimSettings,
    /// When a person is asked for.
    pub due: DueSettings,
    /// `[reflexes.NAME]`: what the ward does by itself.
    pub reflexes: BTreeMap<ReflexName, Reflex>,
    /// `[notices]`: where it tells of that.
    pub notices: NoticeSettings,
    /// Where the ward keeps what it knows.
    pub store: StoreSettings,
    /// `[hsm] module`: the PKCS#11 library of the tokens that hold authorities' keys.
    pub hsm_module: Option<String>,
    /// `[makers.NAME]`: what the ward knows beside the store of the foreign authority NAME.
    pub makers: BTreeMap<AuthorityName, Maker>,
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

    /// Whether a device may have this id, which is well-formed.
    ///
    /// # Errors
    /// Why not.
    pub fn may_name(&self, id: &DeviceId) -> Result<(), &'static str> {
        if id.as_str().starts_with(crate::asking::PREFIX) {
            return Err("those that wait for a person are named so");
        }
        if self.is_endpoint_name(id) { Err("an endpoint of the ward has this name") } else { Ok(()) }
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
        let host_of = |url: &'_ str| url.split(['/', ':']).nth(3).unwrap_or_default().to_owned();
        let (crl, ca) = (host_of(&self.endpoints.crl), host_of(&self.endpoints.ca));
        [self.endpoints.mqtt.host.as_str(), self.endpoints.desk.host.as_str(), &crl, &ca, "localhost"]
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

impl Reader<'_> {
    fn settings(&mut self, root: &Table<'_>) -> Option<Settings> {
        self.only_these(
            root,
            "ward.toml",
            &[
                "ward",
                "endpoints",
                "kinds",
                "facts",
                "guard",
                "desk",
                "claims",
                "due",
                "reflexes",
                "notices",
                "store",
                "hsm",
                "makers",
            ],
        );
        let empty = Table::new();
        let ward = match self.section(root, "ward", &ward::WARD) {
            Some(ward) => ward,
            None => {
                self.complain(0..0, "the section [ward] is missing".to_owned(), "expected [ward] with name = \"...\"");
                &empty
            }
        };
        let name = self.text(ward, &ward::NAME, |text| check_ward_name(text).then(|| text.to_owned()));
        if !ward.contains_key(ward::NAME.name) && root.contains_key("ward") {
            self.complain(0..0, "[ward] has no name".to_owned(), "expected name = \"...\"");
        }
        let enterprise_number = self.number(ward, &ward::ENTERPRISE_NUMBER, 1..=u32::MAX);
        let endpoints = self.endpoints(root);
        let facts = self.own_facts(root);
        let kinds = self.kinds(root, &facts);
        if enterprise_number.is_none() {
            self.need_enterprise_number(root, &kinds);
        }
        let guard = self.guard(root);
        let desk = self.desk(root);
        let claims = self.claims(root);
        let due = self.due(root);
        let notices = self.notices(root);
        let reflexes = self.reflexes(root, &notices);
        let store = self.store(root);
        let hsm_module = self.hsm_module(root);
        let makers = self.makers(root);
        Some(Settings {
            name: name?,
            enterprise_number,
            endpoints,
            kinds,
            facts,
            guard,
            desk,
            claims,
            due,
            reflexes,
            notices,
            store,
            hsm_module,
            makers,
        })
    }
}

/// The place of a setting's value, such as that of `["kinds", "windvane", "life"]`; of the nearest table around it that
/// is there, or of the text's beginning.
#[must_use]
pub fn place_of(source: &Source, path: &[&str]) -> Place {
    let (root, _) = DeTable::parse_recoverable(&source.text);
    let mut longest = path.len();
    while longest > 0 {
        if let Some(range) = span_of(root.get_ref(), &path[..longest]) {
            return source.place(range);
        }
        longest -= 1;
    }
    source.place(0..0)
}
