//! `[kinds.NAME]`: what the devices of one kind share.

use std::collections::{BTreeMap, BTreeSet};

use super::guard::{ON_REFUSAL, OnRefusal};
use super::key::{Key, Section};
use super::own::{OwnFact, is_unique};
use super::reader::{Reader, Table, span_of};
use crate::certificate::Attribute;
use crate::claim::{ClaimBy, LONGEST_WINDOW};
use crate::errand::Purpose;
use crate::fact::FactName;
use crate::id::{AuthorityName, KindName, LabelName};
use crate::key::{KeyType, NewKey};
use crate::profile::{NameTemplate, Profile, TextTemplate};
use crate::time::Span;

/// The keys of a kind.
pub(super) const KIND: Section = Section {
    head: "[kinds.NAME]",
    example: "[kinds.windvane]",
    about: "Declare each kind of device before you add devices of it. Every key is optional.",
    keys: &[
        ROLE,
        KEY,
        ACCEPT,
        LIFE,
        LEAST_LIFE,
        SUBJECT,
        NAMES,
        HARDWARE_TYPE,
        USAGE,
        AUTHORITY,
        OVERLAP,
        RENEW,
        RENEWS,
        ERRANDS,
        TOKEN_LOGIN,
        TOKEN_LIFE,
        SHARED_KEYS,
        RENEWS_KEYS,
        OWN_TOKEN_LIFE,
        FACTS,
        ADMIT,
        IDENTIFY,
        ID,
        ACCEPT_WITHOUT_CODE,
        SERVER_KEYS,
        GATEWAY_ENROLS,
        CARRIES,
        CLAIM,
        CLAIM_WINDOW,
        CLAIM_ROTATE,
        KIND_ON_REFUSAL,
        CLONE_WATCH,
    ],
};

const LENGTH: &str = "a length of time, such as \"90d\" or \"12h\"";

const ROLE: Key = Key::default(
    "role",
    "\"device\"",
    "\"device\" or \"service\"",
    "what it is to the fleet: a machine, or an application on the other end (\"service\"), without hardware facts",
);
const KEY: Key = Key::default(
    "key",
    "\"p256\"",
    "\"p256\", \"p384\" or \"ed25519\"",
    "keys made here: \"p256\", \"p384\" or \"ed25519\"",
);
const ACCEPT: Key = Key::default(
    "accept",
    "[\"p256\", \"p384\", \"ed25519\", \"rsa\"]",
    "a list out of \"p256\", \"p384\", \"ed25519\", \"rsa\"",
    "keys that devices may bring",
);
const LIFE: Key = Key::default("life", "\"398d\"", LENGTH, "how long a certificate lasts");
const LEAST_LIFE: Key = Key::default(
    "least_life",
    "\"1d\"",
    LENGTH,
    "a certificate that would end sooner, because its authority ends, is not issued",
);
const SUBJECT: Key = Key::default(
    "subject",
    "[\"O={ward}\", \"CN={device}\"]",
    "texts such as \"CN={device}\" with CN, O, OU, L, ST, C or serialNumber",
    "what certificates say; also with {kind}, {gateway}, names of labels and facts",
);
const NAMES: Key = Key::default(
    "names",
    "[]",
    "\"urn:dev:org\", \"urn:dev:os\", \"urn:dev:ops\", \"urn:dev:mac\", \"urn:dev:eui64\", \"dns:NAME\" or \"hardware-module\"",
    "alternative names: \"urn:dev:org\", \"urn:dev:os\", \"urn:dev:ops\", \"urn:dev:mac\", \"urn:dev:eui64\", \
     \"dns:{device}.example.org\", \"hardware-module\"; without any, \"urn:dev:org\", or \"urn:dev:mac\" if the ward has no \
     enterprise_number",
);
const HARDWARE_TYPE: Key = Key::example(
    "hardware_type",
    "\"1.3.6.1.4.1.32473.1\"",
    "an object identifier, such as \"1.3.6.1.4.1.32473.1\"",
    "the hwType of \"hardware-module\" (RFC 4108 section 5)",
);
const USAGE: Key = Key::default(
    "usage",
    "\"client\"",
    "\"client\" or \"client+server\"",
    "\"client+server\" if the devices are connected to as well",
);
const AUTHORITY: Key = Key::example(
    "authority",
    "\"devices\"",
    "the name of an authority",
    "who signs, if it is not the ward's first one for devices",
);
const OVERLAP: Key = Key::default(
    "overlap",
    "\"7d\"",
    "a length of time, such as \"7d\"",
    "how long a replaced certificate may still sign in, unless the newer one is used before",
);
const RENEW: Key = Key::example(
    "renew",
    "\"30d\"",
    "a length of time, such as \"30d\"",
    "how long before its end a device may renew its certificate by itself; without it a third of its life. Devices begin at different \
     times in the first half of that",
);
const RENEWS: Key = Key::example(
    "renews",
    "\"device\"",
    "\"device\", \"errand\" or \"person\"",
    "who renews certificates: the \"device\" by itself at the desk, the device when a desk asks it to over MQTT (\"errand\"), or a \
     \"person\"; without it a device is believed to do so by itself which was at the desk before. `due` goes by it",
);
const ERRANDS: Key = Key::example(
    "errands",
    "[\"calibrate\"]",
    "a list of names of lower-case letters, digits, `.` and `-`, other than renew, install, install-key, restart, report and identify",
    "what devices can be asked to do with `errand send`, beside renew, restart, report and identify",
);
const TOKEN_LOGIN: Key =
    Key::default("token_login", "false", "true or false", "whether a token as MQTT password opens a session");
const TOKEN_LIFE: Key = Key::default(
    "token_life",
    "\"1d\"",
    LENGTH,
    "the longest life of a token that the ward signs with a key of its own",
);
const SHARED_KEYS: Key = Key::default(
    "shared_keys",
    "false",
    "true or false",
    "whether such a device may have HMAC keys that it shares with the ward, which keeps them locked: for devices that can do no better",
);
const RENEWS_KEYS: Key = Key::default(
    "renews_keys",
    "\"person\"",
    "\"device\", \"errand\" or \"person\"",
    "who replaces such keys before they end: the \"device\", which fetches the next one at the desk; a desk, which sends it over MQTT, \
     sealed to the public key that is registered for the device (\"errand\"); or a \"person\", with `key rotate`",
);
const OWN_TOKEN_LIFE: Key = Key::default(
    "own_token_life",
    "\"1h\"",
    LENGTH,
    "the longest life of a token that is signed with a key of the device's own, registered or shared",
);
const FACTS: Key = Key::default(
    "facts",
    "[]",
    "a list out of \"serial\", \"mac\", \"imei\", \"eui64\", \"ek\" and the facts that [facts.NAME] declares",
    "facts that must be known before a certificate is issued, such as [\"serial\"]",
);
const ADMIT: Key = Key::default(
    "admit",
    "\"secret\"",
    "\"certificate\", \"key\", \"secret\", \"ask\" or \"facts\"",
    "the least that a device must show to enrol by itself: the \"certificate\" of a trusted manufacturer, its registered \"key\", a \
     one-time \"secret\", a person who is asked (\"ask\"), or bare \"facts\", which anybody knows who reads its sticker",
);
const IDENTIFY: Key = Key::default(
    "identify",
    "[]",
    "a list out of \"serial\", \"mac\", \"imei\", \"eui64\", \"ek\" and the facts that [facts.NAME] declares",
    "facts that every admission must name, and a device must match all together, such as [\"serial\", \"mac\"]",
);
const ID: Key = Key::example(
    "id",
    "\"gg-{serial}\"",
    "a text with facts in braces, such as \"gg-{serial}\"",
    "the id that a device gets which asks and is accepted, if it is given no other; each fact in braces stands for its value",
);
const ACCEPT_WITHOUT_CODE: Key = Key::default(
    "accept_without_code",
    "false",
    "true or false",
    "whether a device that asks may be accepted without comparing the code of its key",
);
const SERVER_KEYS: Key = Key::default(
    "server_keys",
    "false",
    "true or false",
    "whether the desk may make the first key of such a device and send it (EST serverkeygen), for devices that cannot make one",
);
const GATEWAY_ENROLS: Key = Key::default(
    "gateway_enrols",
    "false",
    "true or false",
    "whether the gateway of such a device may fetch its certificate for it: it is believed which key is the child's",
);
const CARRIES: Key = Key::default(
    "carries",
    "[]",
    "a list of kinds, such as [\"windvane\"]",
    "kinds of devices that one of this kind may speak for, if it is their gateway",
);
const CLAIM: Key = Key::default(
    "claim",
    "\"code\"",
    "\"code\", \"name\" or \"none\"",
    "by what an owner claims such a device once it was opened: a \"code\" from its letter or label, or its \"name\" alone, which anybody \
     knows who sees one; \"none\": nobody claims one",
);
const CLAIM_WINDOW: Key = Key::example(
    "claim_window",
    "\"5m\"",
    "a length of time from \"30s\" to \"10m\"",
    "the longest time for which such a device may open itself with a code of its own, when a button is held; without it none may",
);
const CLAIM_ROTATE: Key = Key::default(
    "claim_rotate",
    "\"24h\"",
    "a length of time, such as \"24h\", or \"never\"",
    "how long the certificates and keys of its former owner's time are taken after the owner has changed, until then it must have new ones; \
     tokens, shared keys and sessions end at once. \"never\": nothing ends",
);
const KIND_ON_REFUSAL: Key = Key { value: ON_REFUSAL.value, help: "in the place of what [guard] says", ..ON_REFUSAL };
const CLONE_WATCH: Key = Key::default(
    "clone_watch",
    "\"record\"",
    "\"off\", \"record\" or \"hold\"",
    "what follows on a sign that somebody else has a device's key (two addresses in turn within 15 minutes, or a certificate \
     whose successor is in use): \"record\" it, \"hold\" the device too, or \"off\"",
);

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
    /// `renew`: how long before its end a certificate may be renewed by its device; a third of its life if absent.
    pub renew: Option<Span>,
    /// `renews`: who renews certificates; if absent, a device that was at the desk before does so.
    pub renews: Option<Renews>,
    /// `errands`: what its devices can be asked to do beside what all can.
    pub errands: BTreeSet<Purpose>,
    /// `token_login`: whether a token as MQTT password opens a session, default no.
    pub token_login: bool,
    /// `token_life`: the longest life of a token that the ward signs with a key of its own, default one day.
    pub token_life: Span,
    /// `shared_keys`: whether such a device may have keys that it shares with the ward, default no.
    pub shared_keys: bool,
    /// `renews_keys`: who replaces those keys before they end, default a person.
    pub renews_keys: Renews,
    /// `own_token_life`: the longest life of a token signed with a key of the device's own, default one hour.
    pub own_token_life: Span,
    /// `facts`: those that must be known before a credential is issued.
    pub facts: Vec<FactName>,
    /// `admit`: the least that a device must show to enrol by itself, default a secret.
    pub admit: Admit,
    /// `identify`: the facts that every admission must name.
    pub identify: Vec<FactName>,
    /// `id`: the id that a device gets which asks and is accepted, if it is given no other.
    pub id: Option<String>,
    /// `accept_without_code`: whether one may be accepted without comparing the code of its key, default no.
    pub accept_without_code: bool,
    /// `server_keys`: whether the desk may make the first key of such a device, default no.
    pub server_keys: bool,
    /// `gateway_enrols`: whether its gateway may fetch certificates for such a device, default no.
    pub gateway_enrols: bool,
    /// `carries`: the kinds of devices that one of this kind may speak for, as their gateway.
    pub carries: Vec<KindName>,
    /// `claim`: by what devices are claimed, default a code.
    pub claim: ClaimBy,
    /// `claim_window`: the longest time for which a device may open itself; none may if absent.
    pub claim_window: Option<Span>,
    /// `claim_rotate`: how long what it signs in with is taken after its owner has changed, default a day; if absent nothing ends.
    pub claim_rotate: Option<Span>,
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
            renew: None,
            renews: None,
            errands: BTreeSet::new(),
            token_login: false,
            token_life: Span::from_days(1),
            shared_keys: false,
            renews_keys: Renews::Person,
            own_token_life: Span::from_seconds(3_600),
            facts: Vec::new(),
            admit: Admit::Secret,
            identify: Vec::new(),
            id: None,
            accept_without_code: false,
            server_keys: false,
            gateway_enrols: false,
            carries: Vec::new(),
            claim: ClaimBy::Code,
            claim_window: None,
            claim_rotate: Some(Span::from_days(1)),
            on_refusal: None,
            clone_watch: CloneWatch::Record,
        }
    }
}

/// Who renews certificates, or keys that devices share with the ward.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Renews {
    /// The device, at the desk.
    Device,
    /// The device, when it is asked over MQTT; or a desk, that sends a key over MQTT.
    Errand,
    /// A person, with `enroll` or `key rotate`.
    Person,
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

/// What a device shows to enrol by itself, from the weakest to the strongest.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Admit {
    /// Bare facts: whoever reads the sticker knows them.
    Facts,
    /// Nothing; a person looks at it and says yes.
    Ask,
    /// A secret that is good once.
    Secret,
    /// The key that was registered for it.
    Key,
    /// The certificate of a manufacturer that is believed.
    Certificate,
}

impl Admit {
    /// All of them, the weakest first.
    pub const ALL: [Self; 5] = [Self::Facts, Self::Ask, Self::Secret, Self::Key, Self::Certificate];

    /// The word that settings use.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Facts => "facts",
            Self::Ask => "ask",
            Self::Secret => "secret",
            Self::Key => "key",
            Self::Certificate => "certificate",
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

/// Whether a text has a fact in braces, and nothing else in braces.
fn is_pattern(text: &str, is_fact: &dyn Fn(&FactName) -> bool) -> bool {
    let mut parts = text.split('{');
    let first = parts.next().is_some_and(|first| !first.contains('}'));
    let mut count = 0;
    let closed = parts.all(|part| {
        count += 1;
        part.split_once('}')
            .is_some_and(|(name, rest)| FactName::parse(name).is_ok_and(|name| is_fact(&name)) && !rest.contains('}'))
    });
    first && closed && count > 0 && text.len() <= 128
}

impl Reader<'_> {
    pub(super) fn kinds(&mut self, root: &Table<'_>, facts: &BTreeMap<LabelName, OwnFact>) -> BTreeMap<KindName, Kind> {
        let named = self.named::<KindName>(root, "kinds", "windvane");
        named.into_iter().map(|(name, table)| (name.clone(), self.kind(table, name.as_str(), facts))).collect()
    }

    /// Complains of names that cannot be made without the ward's enterprise number.
    pub(super) fn need_enterprise_number(&mut self, root: &Table<'_>, kinds: &BTreeMap<KindName, Kind>) {
        for (name, kind) in kinds {
            if kind.profile.names.iter().any(NameTemplate::needs_enterprise_number)
                && let Some(range) = span_of(root, &["kinds", name.as_str(), "names"])
            {
                let problem = "these names need the ward's enterprise_number".to_owned();
                self.complain(range, problem, "expected enterprise_number = ... in [ward]");
            }
        }
    }

    fn kind(&mut self, table: &Table<'_>, word: &str, facts: &BTreeMap<LabelName, OwnFact>) -> Kind {
        self.only(table, &format!("[kinds.{word}]"), &KIND);
        let default = Kind::default();
        let least = |least: i64| move |text: &str| text.parse::<Span>().ok().filter(|span| span.seconds() >= least);
        let role = |text: &str| match text {
            "device" => Some(Role::Device),
            "service" => Some(Role::Service),
            _ => None,
        };
        let server = |text: &str| match text {
            "client" => Some(false),
            "client+server" => Some(true),
            _ => None,
        };
        let renews = |text: &str| match text {
            "device" => Some(Renews::Device),
            "errand" => Some(Renews::Errand),
            "person" => Some(Renews::Person),
            _ => None,
        };
        let own_errand = |text: &str| match text.parse::<Purpose>() {
            Ok(own @ Purpose::Own(_)) => Ok(own),
            _ => Err(String::new()),
        };
        let watch = |text: &str| match text {
            "off" => Some(CloneWatch::Off),
            "record" => Some(CloneWatch::Record),
            "hold" => Some(CloneWatch::Hold),
            _ => None,
        };
        let claim =
            |text: &str| [ClaimBy::Code, ClaimBy::Name, ClaimBy::Nobody].into_iter().find(|by| by.as_str() == text);
        let window = |text: &str| least(30)(text).filter(|span| *span <= LONGEST_WINDOW);
        let rotate = |text: &str| if text == "never" { Some(None) } else { least(0)(text).map(Some) };
        let new_key = |text: &str| NewKey::FOR_DEVICES.into_iter().find(|key| key.as_str() == text);
        let family =
            |text: &str| KeyFamily::ALL.into_iter().find(|family| family.as_str() == text).ok_or_else(String::new);
        let admit = |text: &str| Admit::ALL.into_iter().find(|admit| admit.as_str() == text);
        let carried = |text: &str| text.parse::<KindName>().map_err(|error| error.to_string());
        let is_fact = |name: &FactName| match name {
            FactName::Own(name) => facts.contains_key(name),
            _ => true,
        };
        let fact = |text: &str| FactName::parse(text).ok().filter(is_fact).ok_or_else(String::new);
        Kind {
            role: self.text(table, &ROLE, role).unwrap_or(default.role),
            key: self.text(table, &KEY, new_key).unwrap_or(default.key),
            accept: self.list(table, &ACCEPT, family).unwrap_or(default.accept),
            life: self.text(table, &LIFE, least(60)).unwrap_or(default.life),
            least_life: self.text(table, &LEAST_LIFE, least(0)).unwrap_or(default.least_life),
            profile: self.profile(table, default.profile),
            server: self.text(table, &USAGE, server).unwrap_or(default.server),
            authority: self.text(table, &AUTHORITY, |text| text.parse().ok()),
            overlap: self.overlap(table, default.overlap, default.life),
            renew: self.text(table, &RENEW, least(60)),
            renews: self.text(table, &RENEWS, renews),
            errands: self.list(table, &ERRANDS, own_errand).unwrap_or_default().into_iter().collect(),
            token_login: self.flag(table, &TOKEN_LOGIN).unwrap_or(default.token_login),
            token_life: self.text(table, &TOKEN_LIFE, least(1)).unwrap_or(default.token_life),
            shared_keys: self.flag(table, &SHARED_KEYS).unwrap_or(default.shared_keys),
            renews_keys: self.text(table, &RENEWS_KEYS, renews).unwrap_or(default.renews_keys),
            own_token_life: self.text(table, &OWN_TOKEN_LIFE, least(1)).unwrap_or(default.own_token_life),
            facts: self.list(table, &FACTS, fact).unwrap_or_default(),
            admit: self.text(table, &ADMIT, admit).unwrap_or(default.admit),
            identify: self.identify(table, fact, facts),
            id: self.text(table, &ID, |text| is_pattern(text, &is_fact).then(|| text.to_owned())),
            accept_without_code: self.flag(table, &ACCEPT_WITHOUT_CODE).unwrap_or(default.accept_without_code),
            server_keys: self.flag(table, &SERVER_KEYS).unwrap_or(default.server_keys),
            gateway_enrols: self.flag(table, &GATEWAY_ENROLS).unwrap_or(default.gateway_enrols),
            carries: self.list(table, &CARRIES, carried).unwrap_or(default.carries),
            claim: self.text(table, &CLAIM, claim).unwrap_or(default.claim),
            claim_window: self.text(table, &CLAIM_WINDOW, window),
            claim_rotate: self.text(table, &CLAIM_ROTATE, rotate).unwrap_or(default.claim_rotate),
            on_refusal: self.text(table, &KIND_ON_REFUSAL, OnRefusal::parse),
            clone_watch: self.text(table, &CLONE_WATCH, watch).unwrap_or(default.clone_watch),
        }
    }

    /// Facts that devices may share identify none of them by themselves.
    fn identify(
        &mut self,
        table: &Table<'_>,
        fact: impl Fn(&str) -> Result<FactName, String>,
        facts: &BTreeMap<LabelName, OwnFact>,
    ) -> Vec<FactName> {
        let identify = self.list(table, &IDENTIFY, fact).unwrap_or_default();
        if !identify.is_empty()
            && !identify.iter().any(|name| is_unique(facts, name))
            && let Some(value) = table.get(IDENTIFY.name)
        {
            let problem = "devices may share all of these facts".to_owned();
            self.complain(value.span(), problem, "expected one at least that no two devices share");
        }
        identify
    }

    /// An overlap longer than the life of what was replaced would change nothing, so nobody means it.
    fn overlap(&mut self, table: &Table<'_>, default: Span, life: Span) -> Span {
        let span = |text: &str| text.parse::<Span>().ok();
        let overlap = self.text(table, &OVERLAP, span);
        let life = table.get(LIFE.name).and_then(|life| life.get_ref().as_str()).and_then(span).unwrap_or(life);
        if let (Some(overlap), Some(value)) = (overlap, table.get(OVERLAP.name))
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

    fn profile(&mut self, table: &Table<'_>, default: Profile) -> Profile {
        let subject = self.list(table, &SUBJECT, |text| {
            let (word, value) = text.split_once('=').ok_or_else(String::new)?;
            let attribute = Attribute::parse(word).ok_or_else(|| format!("`{word}` is not an attribute"))?;
            let template = TextTemplate::parse(value).map_err(|bad| bad.to_string())?;
            match template.fixed() {
                Some(fixed) if !attribute.takes(fixed) => Err(format!("{fixed:?} cannot be a subject's {word}")),
                _ => Ok((attribute, template)),
            }
        });
        let names = self.list(table, &NAMES, |text| NameTemplate::parse(text).map_err(|bad| bad.to_string()));
        let hardware_type = self.text(table, &HARDWARE_TYPE, |text| const_oid::ObjectIdentifier::new(text).ok());
        let wants_type = names.as_ref().is_some_and(|names| names.contains(&NameTemplate::HardwareModule));
        if let Some(value) = table.get(NAMES.name).filter(|_| wants_type && !table.contains_key(HARDWARE_TYPE.name)) {
            let problem = "\"hardware-module\" needs hardware_type".to_owned();
            self.complain(value.span(), problem, "expected hardware_type = \"1.3.6.1.4.1...\" beside it");
        }
        Profile {
            subject: subject.filter(|subject| !subject.is_empty()).unwrap_or(default.subject),
            names: names.unwrap_or_default(),
            hardware_type,
        }
    }
}
