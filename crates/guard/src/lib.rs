//! The guard: terminates device TLS, checks identity and policy, and passes MQTT on to a broker.
//!
//! One task serves one connection. What a connection may do is decided by `gate`, a state machine without sockets;
//! who it is by `identity`; the follower in `server` watches the store and makes sessions look again when something
//! changed.

mod event;
mod gate;
mod identity;
mod meter;
mod outside;
mod registry;
mod relay;
mod server;
mod session;
mod shared;
mod tls;
mod watching;

pub use event::{Event, RuleRef, Sink};
pub use server::{Config, Guard};
pub use shared::GuardError;
pub use tls::{TlsError, TlsSettings};
pub use watching::{Observation, Observer};
