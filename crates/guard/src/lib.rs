//! The guard: terminates device TLS, checks identity and policy, and passes MQTT on to a broker.
//!
//! One task serves one connection. `listener` takes it to the end of its handshake, `session` through CONNECT, `relay` moves
//! its octets. What a connection may do is decided by `gate`, a state machine without sockets; who it is by `identity`. Beside
//! the sessions run the tasks in `server`: the follower watches the store and makes sessions look again when something
//! changed, the keeper writes what was used and counted.

mod clones;
mod control;
mod event;
mod gate;
mod identity;
mod late;
mod listener;
mod meter;
mod metrics;
mod outside;
mod registry;
mod relay;
mod server;
mod session;
mod shared;
mod tls;
mod traffic;
mod upstream;
mod watching;
mod websocket;

pub use control::{Answer, Request};
pub use event::{Event, RuleRef, Sink};
pub use server::{Config, Guard, LiveConfig};
pub use shared::GuardError;
pub use tls::{TlsError, TlsSettings};
pub use upstream::{Bypass, Upstream, UpstreamError, UpstreamPem};
pub use watching::{Observation, Observer};
