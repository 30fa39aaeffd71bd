//! The keys of `[kinds.NAME]`, each with its default and its help.

use crate::settings::guard::ON_REFUSAL;
use crate::settings::key::{Key, Section};

/// The keys of a kind.
pub(in crate::settings) const KIND: Section = Section {
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

pub(super) const ROLE: Key = Key::default(
    "role",
    "\"device\"",
    "\"device\" or \"service\"",
    "what it is to the fleet: a machine, or an application on the other end (\"service\"), without hardware facts",
);
pub(super) const KEY: Key = Key::default(
    "key",
    "\"p256\"",
    "\"p256\", \"p384\" or \"ed25519\"",
    "keys made here: \"p256\", \"p384\" or \"ed25519\"",
);
pub(super) const ACCEPT: Key = Key::default(
    "accept",
    "[\"p256\", \"p384\", \"ed25519\", \"rsa\"]",
    "a list out of \"p256\", \"p384\", \"ed25519\", \"rsa\"",
    "keys that devices may bring",
);
pub(super) const LIFE: Key = Key::default("life", "\"398d\"", LENGTH, "how long a certificate lasts");
pub(super) const LEAST_LIFE: Key = Key::default(
    "least_life",
    "\"1d\"",
    LENGTH,
    "a certificate that would end sooner, because its authority ends, is not issued",
);
pub(super) const SUBJECT: Key = Key::default(
    "subject",
    "[\"O={ward}\", \"CN={device}\"]",
    "texts such as \"CN={device}\" with CN, O, OU, L, ST, C or serialNumber",
    "what certificates say; also with {kind}, {gateway}, names of labels and facts",
);
pub(super) const NAMES: Key = Key::default(
    "names",
    "[]",
    "\"urn:dev:org\", \"urn:dev:os\", \"urn:dev:ops\", \"urn:dev:mac\", \"urn:dev:eui64\", \"dns:NAME\" or \"hardware-module\"",
    "alternative names: \"urn:dev:org\", \"urn:dev:os\", \"urn:dev:ops\", \"urn:dev:mac\", \"urn:dev:eui64\", \
     \"dns:{device}.example.org\", \"hardware-module\"; without any, \"urn:dev:org\", or \"urn:dev:mac\" if the ward has no \
     enterprise_number",
);
pub(super) const HARDWARE_TYPE: Key = Key::example(
    "hardware_type",
    "\"1.3.6.1.4.1.32473.1\"",
    "an object identifier, such as \"1.3.6.1.4.1.32473.1\"",
    "the hwType of \"hardware-module\" (RFC 4108 section 5)",
);
pub(super) const USAGE: Key = Key::default(
    "usage",
    "\"client\"",
    "\"client\" or \"client+server\"",
    "\"client+server\" if the devices are connected to as well",
);
pub(super) const AUTHORITY: Key = Key::example(
    "authority",
    "\"devices\"",
    "the name of an authority",
    "who signs, if it is not the ward's first one for devices",
);
pub(super) const OVERLAP: Key = Key::default(
    "overlap",
    "\"7d\"",
    "a length of time, such as \"7d\"",
    "how long a replaced certificate may still sign in, unless the newer one is used before",
);
pub(super) const RENEW: Key = Key::example(
    "renew",
    "\"30d\"",
    "a length of time, such as \"30d\"",
    "how long before its end a device may renew its certificate by itself; without it a third of its life. Devices begin at different \
     times in the first half of that",
);
pub(super) const RENEWS: Key = Key::example(
    "renews",
    "\"device\"",
    "\"device\", \"errand\" or \"person\"",
    "who renews certificates: the \"device\" by itself at the desk, the device when a desk asks it to over MQTT (\"errand\"), or a \
     \"person\"; without it a device is believed to do so by itself which was at the desk before. `due` goes by it",
);
pub(super) const ERRANDS: Key = Key::example(
    "errands",
    "[\"calibrate\"]",
    "a list of names of lower-case letters, digits, `.` and `-`, other than renew, install, install-key, restart, report and identify",
    "what devices can be asked to do with `errand send`, beside renew, restart, report and identify",
);
pub(super) const TOKEN_LOGIN: Key =
    Key::default("token_login", "false", "true or false", "whether a token as MQTT password opens a session");
pub(super) const TOKEN_LIFE: Key = Key::default(
    "token_life",
    "\"1d\"",
    LENGTH,
    "the longest life of a token that the ward signs with a key of its own",
);
pub(super) const SHARED_KEYS: Key = Key::default(
    "shared_keys",
    "false",
    "true or false",
    "whether such a device may have HMAC keys that it shares with the ward, which keeps them locked: for devices that can do no better",
);
pub(super) const RENEWS_KEYS: Key = Key::default(
    "renews_keys",
    "\"person\"",
    "\"device\", \"errand\" or \"person\"",
    "who replaces such keys before they end: the \"device\", which fetches the next one at the desk; a desk, which sends it over MQTT, \
     sealed to the public key that is registered for the device (\"errand\"); or a \"person\", with `key rotate`",
);
pub(super) const OWN_TOKEN_LIFE: Key = Key::default(
    "own_token_life",
    "\"1h\"",
    LENGTH,
    "the longest life of a token that is signed with a key of the device's own, registered or shared",
);
pub(super) const FACTS: Key = Key::default(
    "facts",
    "[]",
    "a list out of \"serial\", \"mac\", \"imei\", \"eui64\", \"ek\" and the facts that [facts.NAME] declares",
    "facts that must be known before a certificate is issued, such as [\"serial\"]",
);
pub(super) const ADMIT: Key = Key::default(
    "admit",
    "\"secret\"",
    "\"certificate\", \"key\", \"secret\", \"ask\" or \"facts\"",
    "the least that a device must show to enrol by itself: the \"certificate\" of a trusted manufacturer, its registered \"key\", a \
     one-time \"secret\", a person who is asked (\"ask\"), or bare \"facts\", which anybody knows who reads its sticker",
);
pub(super) const IDENTIFY: Key = Key::default(
    "identify",
    "[]",
    "a list out of \"serial\", \"mac\", \"imei\", \"eui64\", \"ek\" and the facts that [facts.NAME] declares",
    "facts that every admission must name, and a device must match all together, such as [\"serial\", \"mac\"]",
);
pub(super) const ID: Key = Key::example(
    "id",
    "\"gg-{serial}\"",
    "a text with facts in braces, such as \"gg-{serial}\"",
    "the id that a device gets which asks and is accepted, if it is given no other; each fact in braces stands for its value",
);
pub(super) const ACCEPT_WITHOUT_CODE: Key = Key::default(
    "accept_without_code",
    "false",
    "true or false",
    "whether a device that asks may be accepted without comparing the code of its key",
);
pub(super) const SERVER_KEYS: Key = Key::default(
    "server_keys",
    "false",
    "true or false",
    "whether the desk may make the first key of such a device and send it (EST serverkeygen), for devices that cannot make one",
);
pub(super) const GATEWAY_ENROLS: Key = Key::default(
    "gateway_enrols",
    "false",
    "true or false",
    "whether the gateway of such a device may fetch its certificate for it: it is believed which key is the child's",
);
pub(super) const CARRIES: Key = Key::default(
    "carries",
    "[]",
    "a list of kinds, such as [\"windvane\"]",
    "kinds of devices that one of this kind may speak for, if it is their gateway",
);
pub(super) const CLAIM: Key = Key::default(
    "claim",
    "\"code\"",
    "\"code\", \"name\" or \"none\"",
    "by what an owner claims such a device once it was opened: a \"code\" from its letter or label, or its \"name\" alone, which anybody \
     knows who sees one; \"none\": nobody claims one",
);
pub(super) const CLAIM_WINDOW: Key = Key::example(
    "claim_window",
    "\"5m\"",
    "a length of time from \"30s\" to \"10m\"",
    "the longest time for which such a device may open itself with a code of its own, when a button is held; without it none may",
);
pub(super) const CLAIM_ROTATE: Key = Key::default(
    "claim_rotate",
    "\"24h\"",
    "a length of time, such as \"24h\", or \"never\"",
    "how long the certificates and keys of its former owner's time are taken after the owner has changed, until then it must have new ones; \
     tokens, shared keys and sessions end at once. \"never\": nothing ends",
);
pub(super) const KIND_ON_REFUSAL: Key =
    Key { value: ON_REFUSAL.value, help: "in the place of what [guard] says", ..ON_REFUSAL };
pub(super) const CLONE_WATCH: Key = Key::default(
    "clone_watch",
    "\"record\"",
    "\"off\", \"record\" or \"hold\"",
    "what follows on a sign that somebody else has a device's key (two addresses in turn within 15 minutes, or a certificate \
     whose successor is in use): \"record\" it, \"hold\" the device too, or \"off\"",
);
