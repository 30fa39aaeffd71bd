//! What ends or falls due, whether it is renewed by itself or needs a person, and how many renewals each day brings.
//!
//! A certificate is renewed by itself if its kind says so, or if its device was at the desk before: it came in there, or renewed there.
//! Whoever never did may be able to; nobody knows, so a person is asked for. One that is late, whose device is on hold, or that has no
//! desk to go to needs a person too. What is certain is told as such and what is not is told as a need: doubt never reads as "by itself".

mod forecast;
mod judge;
mod summary;
#[cfg(test)]
mod tests;

use std::fmt;

use crate::credential::Origin;
use crate::id::{AuthorityName, KindName};
use crate::time::{Span, UnixTime};

pub use forecast::{Forecast, MOST_DAYS};
pub use judge::{Judge, Successor};
pub use summary::{Bar, By, Group, Summary};

/// How long what has ended is still told of as due.
pub const TOLD_AFTER_END: Span = Span::from_days(30);

/// How long a desk may be silent and still count as one that runs.
pub const DESK_SILENT: Span = Span::from_seconds(3_600);

/// What ends or falls due.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum What {
    /// A device's certificate.
    Certificate,
    /// An HMAC key that a device shares with the ward.
    SharedKey,
    /// A public key that was registered for a device.
    PublicKey,
    /// A key with which the ward signs tokens.
    TokenSigner,
    /// The certificate of a guard, a desk or a post.
    Server,
    /// An authority's certificate.
    Authority,
    /// An authority's revocation list: its nextUpdate (RFC 5280 section 5.1.2.5).
    Crl,
    /// An admission that nobody used.
    Admission,
    /// A device that called, or that its gateway brought in, and that waits for a person.
    Asking,
    /// A device that was opened to be claimed.
    Claim,
    /// A device that is offered to another owner.
    HandOver,
    /// A device on hold at which nobody looked.
    Hold,
}

impl What {
    /// All of them.
    pub const ALL: [Self; 12] = [
        Self::Certificate,
        Self::SharedKey,
        Self::PublicKey,
        Self::TokenSigner,
        Self::Server,
        Self::Authority,
        Self::Crl,
        Self::Admission,
        Self::Asking,
        Self::Claim,
        Self::HandOver,
        Self::Hold,
    ];

    /// The word for it.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Certificate => "certificate",
            Self::SharedKey => "shared-key",
            Self::PublicKey => "public-key",
            Self::TokenSigner => "token-signer",
            Self::Server => "server",
            Self::Authority => "authority",
            Self::Crl => "crl",
            Self::Admission => "admission",
            Self::Asking => "asking",
            Self::Claim => "claim",
            Self::HandOver => "hand-over",
            Self::Hold => "hold",
        }
    }
}

/// What will happen.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Happens {
    /// It is renewed without anybody.
    Itself,
    /// Nothing, unless a person does it.
    Person,
}

impl Happens {
    /// The word for it.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Itself => "renews-by-itself",
            Self::Person => "needs-you",
        }
    }
}

/// Why something is renewed by itself, or needs a person.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Why {
    /// Its device renews it.
    Renews {
        /// From when on, or since when.
        from: UnixTime,
    },
    /// The desk signs the next one in time.
    DeskSigns,
    /// The desk gives it the next one.
    DeskRenews {
        /// From when on, or since when.
        from: UnixTime,
    },
    /// Another authority signs in its place, and nothing that it signed lasts longer than it.
    Replaced,
    /// Not every device was given the root in its place.
    NotKnown,
    /// It is over.
    Ended,
    /// Its device is on hold, and may not renew.
    Held {
        /// Since when.
        since: UnixTime,
    },
    /// Its device should have renewed it.
    Late {
        /// Since when.
        since: UnixTime,
    },
    /// Devices of its kind do not renew by themselves.
    ByHand,
    /// Its device was never at the desk.
    NeverCame,
    /// Nobody is there who would do it.
    NoDesk {
        /// When a desk was seen last.
        seen: Option<UnixTime>,
    },
    /// It was made elsewhere.
    Elsewhere,
    /// Keys of devices' own are replaced by a person.
    Key,
    /// A desk would send the next one, and the device has no registered key that it could be sealed to.
    NoPublicKey,
    /// The next one is there, and was not used yet.
    Follows {
        /// Since when.
        since: UnixTime,
    },
    /// The next one is there for long, and was never used.
    NotTaken {
        /// Since when.
        since: UnixTime,
    },
    /// What it signs is cut short by its own end.
    CutsShort {
        /// From when on, or since when.
        from: UnixTime,
    },
    /// It has signed tokens for long.
    SignsLong {
        /// Since when.
        since: UnixTime,
    },
    /// No token that it signed is good any more.
    SignsNothing,
    /// It lacks what was revoked since, and no desk signs the next one.
    Lacks,
    /// No desk has its key.
    KeyAway,
    /// Desks are not to do it here.
    DeskMayNot,
    /// Its device went from an owner, and has nothing newer yet.
    Passed,
    /// Nobody came by it.
    Unused,
    /// Nobody has taken it.
    Unclaimed,
    /// It waits for a yes or a no.
    Waits,
    /// Nobody has looked at it.
    OnHold {
        /// Since when.
        since: UnixTime,
    },
}

impl Why {
    /// What will happen.
    #[must_use]
    pub fn happens(self) -> Happens {
        match self {
            Self::Renews { .. } | Self::DeskSigns | Self::DeskRenews { .. } | Self::Replaced | Self::Follows { .. } => {
                Happens::Itself
            }
            _ => Happens::Person,
        }
    }
}

impl fmt::Display for Why {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Renews { from } => write!(f, "its device renews it from {} on", from.date()),
            Self::DeskSigns => f.write_str("the desk signs the next one in time"),
            Self::DeskRenews { from } => write!(f, "the desk renews it from {} on", from.date()),
            Self::Replaced => f.write_str("another signs in its place"),
            Self::NotKnown => f.write_str("not every device was given the root in its place"),
            Self::Ended => f.write_str("it is over"),
            Self::Held { since } => write!(f, "its device is on hold since {}, and may not renew", since.date()),
            Self::Late { since } => {
                write!(f, "its device should have renewed it from {} on, and did not", since.date())
            }
            Self::ByHand => f.write_str("devices of its kind do not renew by themselves"),
            Self::NeverCame => f.write_str("its device was never at the desk"),
            Self::NoDesk { seen: Some(seen) } => write!(f, "no desk was seen since {seen}"),
            Self::NoDesk { seen: None } => f.write_str("no desk was ever seen"),
            Self::Elsewhere => f.write_str("it was made elsewhere"),
            Self::Key => f.write_str("keys of devices are replaced by a person"),
            Self::NoPublicKey => {
                f.write_str("the device has no registered P-256 or P-384 key that the next one could be sealed to")
            }
            Self::Follows { since } => write!(f, "the next one is there since {}, and was not used yet", since.date()),
            Self::NotTaken { since } => {
                write!(f, "the next one is there since {}, and its device did not take it", since.date())
            }
            Self::CutsShort { from } => write!(f, "what it signs is cut short from {} on", from.date()),
            Self::SignsLong { since } => write!(f, "it has signed tokens since {}", since.date()),
            Self::SignsNothing => f.write_str("no token that it signed is good then"),
            Self::Lacks => f.write_str("it lacks what was revoked since, and no desk signs the next one"),
            Self::KeyAway => f.write_str("no desk has its key"),
            Self::DeskMayNot => f.write_str("`renew_servers` is false, so that no desk does it"),
            Self::Passed => f.write_str("its device went from an owner, and has nothing newer yet"),
            Self::Unused => f.write_str("nobody came by it"),
            Self::Unclaimed => f.write_str("nobody has taken it"),
            Self::Waits => f.write_str("it waits for a yes or a no"),
            Self::OnHold { since } => write!(f, "on hold since {}, and nobody has looked", since.date()),
        }
    }
}

/// One thing that ends or falls due.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Item {
    /// What it is.
    pub what: What,
    /// Whose it is, or what it is called.
    pub name: String,
    /// What a device's key is called in tokens.
    pub kid: Option<String>,
    /// When it ends, or is to be looked at: the last second in which it is good, if it has one.
    pub ends: UnixTime,
    /// What will happen, and why.
    pub why: Why,
    /// The kind of its device.
    pub kind: Option<KindName>,
    /// Who signed it.
    pub authority: Option<AuthorityName>,
    /// The value of the label that was asked for, of its device.
    pub label: Option<String>,
}

impl Item {
    /// What will happen.
    #[must_use]
    pub fn happens(&self) -> Happens {
        self.why.happens()
    }

    /// Whole days until its end, rounded down; negative if it is over.
    #[must_use]
    pub fn days(&self, now: UnixTime) -> i64 {
        self.ends.since(now).div_euclid(86_400)
    }

    /// What a person can do about it: commands, as they are typed behind the program's name.
    #[must_use]
    pub fn next(&self) -> Option<String> {
        if self.happens() == Happens::Itself {
            return None;
        }
        let name = &self.name;
        let kind = self.kind.as_ref().map_or("NAME", KindName::as_str);
        Some(match (self.what, self.why) {
            (What::Certificate | What::SharedKey, Why::Held { .. }) | (What::Hold, _) => {
                format!("release {name} --because ..., or revoke {name} --because ...")
            }
            (What::Certificate | What::SharedKey, Why::NotTaken { .. }) => {
                format!("errand list --device {name}; device show {name}")
            }
            (What::Certificate, Why::NoDesk { .. }) => "desk".to_owned(),
            (What::Certificate, Why::Elsewhere) => format!("credential pin {name} --cert FILE --again"),
            (What::Certificate, Why::NeverCame) => {
                format!("enroll {name} --csr FILE --again; or, if it does renew: renews = \"device\" in [kinds.{kind}]")
            }
            (What::Certificate, _) => format!("enroll {name} --csr FILE --again"),
            (What::SharedKey, Why::NoDesk { .. }) => "desk".to_owned(),
            (What::SharedKey, Why::NoPublicKey) => {
                format!("key add {name} --public-key FILE, or key rotate {name} --shared --out FILE")
            }
            (What::SharedKey, _) => format!("key rotate {name} --shared --out FILE"),
            (What::PublicKey, _) => format!("key rotate {name} --public-key FILE"),
            (What::TokenSigner, Why::SignsNothing) => format!("token signer retire {name} --because ..."),
            (What::TokenSigner, _) => "token signer add NAME".to_owned(),
            (What::Server, Why::NoDesk { .. }) => format!("desk, or post renew {name}"),
            (What::Server, _) => format!("post renew {name}"),
            (What::Authority, Why::NotKnown) => "authority list; outfit refresh".to_owned(),
            (What::Authority, Why::Elsewhere) => "authority add NAME --trust FILE".to_owned(),
            (What::Authority, _) => format!("authority add NAME --replaces {name}"),
            (What::Crl, _) => format!("crl --authority {name} --out FILE, or desk"),
            (What::Admission, _) => format!("admission show {name}"),
            (What::Claim, _) => format!("claim open {name}"),
            (What::HandOver, _) => format!("claim list; claim hand-over {name} --to OWNER"),
            (What::Asking, _) => format!("device accept {name}, or device refuse {name} --because ..."),
        })
    }
}

/// A device's credentials, as far as their ends go. It is neither out nor retired.
#[derive(Debug, Clone, Copy)]
pub struct DeviceEnds<'a> {
    /// Its id.
    pub id: &'a str,
    /// Its kind.
    pub kind: &'a str,
    /// The value of a label that was asked for.
    pub label: Option<&'a str>,
    /// Since when it is on hold.
    pub held: Option<UnixTime>,
    /// Whether it was at the desk: it came in by an admission, or another credential authorised one that it has or had. Looked up only
    /// where one of its credentials ends before the horizon.
    pub came: bool,
    /// Whether it has a registered public key that something can be sealed to (see [`crate::jwe::can_seal_to`]). Looked up only where a key
    /// that it shares with the ward ends before the horizon.
    pub takes_sealed: bool,
    /// Those of its credentials that are neither revoked nor distrusted, in no order.
    pub credentials: &'a [CredentialEnd<'a>],
}

/// When a credential ends that is neither revoked nor distrusted.
#[derive(Debug, Clone, Copy)]
pub struct CredentialEnd<'a> {
    /// Where it comes from.
    pub origin: Origin,
    /// Who signed it.
    pub authority: Option<&'a AuthorityName>,
    /// The first second of its validity.
    pub begins: UnixTime,
    /// The last second in which it may sign in: that of its overlap, if it was replaced.
    pub ends: UnixTime,
    /// Whether it was replaced.
    pub superseded: bool,
    /// What it is called in tokens, if it is a key of the device's own.
    pub kid: Option<&'a str>,
}
