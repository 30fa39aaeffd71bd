//! What the desk does, as events for a log: one line each, as text or as JSON. No secret, no request and no key is in any of them.

use std::fmt;
use std::net::SocketAddr;
use std::sync::Arc;

use serde::Serialize;
use tidy_warden_core::text::printable;

/// Where events go.
pub type Sink = Arc<dyn Fn(Event) + Send + Sync>;

/// Something that happened.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(tag = "event", rename_all = "kebab-case")]
pub enum Event {
    /// The desk takes connections.
    Listening {
        /// Over HTTPS.
        address: SocketAddr,
        /// Over plain HTTP.
        #[serde(skip_serializing_if = "Option::is_none")]
        http: Option<SocketAddr>,
        /// Figures and health.
        #[serde(skip_serializing_if = "Option::is_none")]
        metrics: Option<SocketAddr>,
    },
    /// A device enrolled by an admission.
    Enrolled {
        /// The device.
        device: String,
        /// The admission.
        admission: String,
        /// What proved it.
        proof: &'static str,
        /// The serial number of its certificate.
        serial: String,
        /// Where it called from.
        peer: SocketAddr,
    },
    /// A device got its next certificate.
    Renewed {
        /// The device.
        device: String,
        /// The serial number of its next certificate.
        serial: String,
        /// Where it called from.
        peer: SocketAddr,
    },
    /// A device got the key that it shares with the ward next.
    KeyRenewed {
        /// The device.
        device: String,
        /// What the key is called.
        kid: String,
        /// Where it called from.
        peer: SocketAddr,
    },
    /// Devices whose time has come were sent the keys that they share with the ward next, by errands.
    SentKeys {
        /// How many.
        count: u64,
    },
    /// Devices of a rotation were asked to renew, or it came to another state or round.
    Rotation {
        /// Its name.
        rotation: String,
        /// Where it is.
        state: &'static str,
        /// The round, from 1.
        round: usize,
        /// How many were asked.
        asked: u64,
        /// Why it stopped.
        #[serde(skip_serializing_if = "Option::is_none")]
        because: Option<String>,
    },
    /// A device's answer to an errand was looked at.
    Errand {
        /// The device.
        device: String,
        /// The errand's number.
        errand: i64,
        /// What it was for.
        purpose: String,
        /// `done`, `refused` by the device, or `failed`: the answer was not taken.
        state: &'static str,
        /// The certificate that was made for it.
        #[serde(skip_serializing_if = "Option::is_none")]
        serial: Option<String>,
        /// Why it was not done.
        #[serde(skip_serializing_if = "Option::is_none")]
        because: Option<String>,
    },
    /// A reflex did something about a device.
    Reflex {
        /// Its name.
        reflex: String,
        /// The device.
        device: String,
        /// What it did.
        act: &'static str,
        /// Why.
        evidence: String,
    },
    /// A notice was not taken by the web service of the settings.
    NoticeNotTaken {
        /// Its id.
        notice: String,
        /// How often it was sent.
        tries: u32,
        /// Why.
        because: String,
    },
    /// A reflex left what came from networks that had caused enough.
    ReflexLeft {
        /// Its name.
        reflex: String,
        /// How many devices.
        count: u64,
    },
    /// A reflex did as much as it may, and waits for a person.
    ReflexStopped {
        /// Its name.
        reflex: String,
        /// Why.
        because: String,
    },
    /// Devices whose time to renew has come were asked to, by errands.
    AskedToRenew {
        /// How many.
        count: u64,
    },
    /// A device asked again for what it had been given, and was given the same.
    Repeated {
        /// The device.
        device: String,
        /// Where it called from.
        peer: SocketAddr,
    },
    /// A device that nobody announced called, and waits for a person.
    Asking {
        /// Its id until it is given another.
        device: String,
        /// The kind that it came as.
        kind: String,
        /// The code of its key.
        code: String,
        /// Where it called from.
        peer: SocketAddr,
    },
    /// A child of which a guard at a post told was listed, since its kind wants no person.
    TookIn {
        /// The gateway.
        device: String,
        /// The child.
        child: String,
        /// The kind that it came as.
        kind: String,
    },
    /// A gateway fetched a certificate for its child.
    EnrolledChild {
        /// The child.
        device: String,
        /// Its gateway.
        gateway: String,
        /// The certificate's serial number.
        serial: String,
        /// Where the gateway called from.
        peer: SocketAddr,
    },
    /// A gateway brought in a child, or was not let.
    Introduced {
        /// The gateway.
        device: String,
        /// The child.
        child: String,
        /// The kind that it came as.
        kind: String,
        /// `waits` for a person, `accepted` because its kind wants no more, or `refused`.
        state: &'static str,
        /// Why it was refused.
        #[serde(skip_serializing_if = "Option::is_none")]
        because: Option<String>,
        /// Where the gateway called from.
        peer: SocketAddr,
    },
    /// Somebody was refused.
    Refused {
        /// What was asked for.
        asked: &'static str,
        /// The status of the answer (RFC 9110 section 15).
        status: u16,
        /// Why; the caller may have been told less.
        because: String,
        /// The device that it is about, if one is known.
        #[serde(skip_serializing_if = "Option::is_none")]
        device: Option<String>,
        /// Where it called from.
        peer: SocketAddr,
    },
    /// A device opened itself to be claimed.
    ClaimWindow {
        /// The device.
        device: String,
        /// Its last second.
        ends: String,
        /// Where it called from.
        peer: SocketAddr,
    },
    /// A handshake was not finished.
    TlsRefused {
        /// Why.
        because: String,
        /// Where it came from.
        peer: SocketAddr,
    },
    /// A revocation list was signed.
    Crl {
        /// Whose.
        authority: String,
        /// Its CRL number.
        number: u64,
        /// How many certificates it lists.
        entries: usize,
    },
    /// A guard, desk or post was given its next certificate.
    ServerRenewed {
        /// Its name.
        server: String,
        /// The serial number of the certificate.
        serial: String,
        /// When that ends.
        ends: String,
        /// From when on the one after it is due.
        next: String,
    },
    /// Something that a person should look at.
    Trouble {
        /// What.
        what: String,
    },
    /// The desk stops.
    Stopping,
}

impl fmt::Display for Event {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Listening { address, http, metrics } => {
                write!(f, "listening on {address}")?;
                http.map_or(Ok(()), |http| write!(f, ", for lists on http://{http}"))?;
                metrics.map_or(Ok(()), |metrics| write!(f, ", for figures on http://{metrics}"))
            }
            Self::Enrolled { device, admission, proof, serial, peer } => {
                write!(f, "enrolled {device} by {admission}, proved by {proof}: {serial} (from {peer})")
            }
            Self::Renewed { device, serial, peer } => write!(f, "renewed {device}: {serial} (from {peer})"),
            Self::KeyRenewed { device, kid, peer } => write!(f, "gave {device} its next key: {kid} (from {peer})"),
            Self::SentKeys { count } => write!(f, "sent {count} their next keys, whose time has come"),
            Self::Rotation { rotation, state, round, asked, because } => {
                write!(f, "rotation {rotation}, round {round}: asked {asked}; it is {state}")?;
                because.as_ref().map_or(Ok(()), |because| write!(f, ": {because}"))
            }
            Self::Errand { device, errand, purpose, state, serial, because } => {
                write!(f, "errand {errand} to {device}: {purpose} {state}")?;
                serial.as_ref().map_or(Ok(()), |serial| write!(f, ", certificate {serial}"))?;
                because.as_ref().map_or(Ok(()), |because| write!(f, ": {because}"))
            }
            Self::Reflex { reflex, device, act, evidence } => write!(f, "reflex {reflex}: {act} {device}: {evidence}"),
            Self::NoticeNotTaken { notice, tries, because } => {
                write!(f, "notice {notice} was not taken, tried {tries} times: {because}")
            }
            Self::ReflexLeft { reflex, count } => {
                write!(
                    f,
                    "reflex {reflex} left {count} alone: what came from their networks had caused enough; see reflex test {reflex}"
                )
            }
            Self::ReflexStopped { reflex, because } => {
                write!(f, "reflex {reflex} stopped: {because}; look at it: reflex list, then reflex resume {reflex}")
            }
            Self::AskedToRenew { count } => write!(f, "asked {count} to renew, whose time has come"),
            Self::Repeated { device, peer } => {
                write!(f, "told {device} once more what it was given (from {peer})")
            }
            Self::Asking { device, kind, code, peer } => {
                write!(f, "{device} asks to be let in as a {kind}, code {code} (from {peer})")
            }
            Self::TookIn { device, child, kind } => write!(f, "listed {child}, a {kind} that {device} brought in"),
            Self::EnrolledChild { device, gateway, serial, peer } => {
                write!(f, "enrolled {device} for its gateway {gateway}: {serial} (from {peer})")
            }
            Self::Introduced { device, child, kind, state, because, peer } => {
                let because = because.as_deref().map(|because| format!(", {because}")).unwrap_or_default();
                write!(f, "{device} brings in {child} as a {kind}: {state}{because} (from {peer})")
            }
            Self::Refused { asked, status, because, device, peer } => {
                let device = device.as_deref().map(|device| format!(" of {device}")).unwrap_or_default();
                write!(f, "refused {asked}{device} with {status}: {} (from {peer})", printable(because))
            }
            Self::ClaimWindow { device, ends, peer } => {
                write!(f, "{device} opened itself to be claimed until {ends} (from {peer})")
            }
            Self::TlsRefused { because, peer } => {
                write!(f, "no TLS with {peer}: {}", printable(because))
            }
            Self::Crl { authority, number, entries } => {
                write!(f, "signed CRL {number} of {authority}: {entries} revoked")
            }
            Self::ServerRenewed { server, serial, ends, next } => {
                write!(f, "gave {server} its next certificate: {serial}, ends {ends}, the one after it is due {next}")
            }
            Self::Trouble { what } => write!(f, "trouble: {}", printable(what)),
            Self::Stopping => f.write_str("stopping"),
        }
    }
}
