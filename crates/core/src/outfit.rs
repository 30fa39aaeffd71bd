//! The outfit's description: `connect.json`, all that a device must know to connect beside its keys and certificates.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

/// The version of the fields below.
pub const SCHEMA: &str = "tidy-warden/connect/1";

/// Where a device gets its errands, and answers them.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Errands {
    /// The filter that it subscribes to; a gateway gets those of its children by it too.
    pub listen: String,
    /// The topic on which it answers its own. An answer to an errand that came on `.../errand/ID` goes to `.../answer/ID`.
    pub answer: String,
    /// The ward's URN, which each errand names as its issuer.
    pub ward: String,
}

/// How a device connects. It holds no secret.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Connect {
    /// [`SCHEMA`].
    pub schema: String,
    /// The device's id.
    pub device: String,
    /// Host name or IP address of the guard; the name that its certificate must have.
    pub host: String,
    /// TCP port of the guard (MQTT over TLS).
    pub port: u16,
    /// The MQTT client identifier to use.
    pub client_id: String,
    /// The MQTT user name, needed only where a token is the password.
    pub user_name: String,
    /// Topic filters that the adopted policies let it publish to.
    pub publish: Vec<String>,
    /// The highest QoS for those of them that are allowed below QoS 2 only.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub publish_qos: BTreeMap<String, u8>,
    /// Topic filters that the adopted policies let it subscribe to.
    pub subscribe: Vec<String>,
    /// How it gets its errands; an outfit of before there were any says nothing of them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub errands: Option<Errands>,
    /// SHA-256 of the root certificate's DER, lower-case hexadecimal, to compare with `root.pem`.
    pub root_fingerprint: String,
}
