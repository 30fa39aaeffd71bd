//! The guard: terminates device TLS, checks identity and policy, and passes MQTT on to a broker.
//!
//! It is built on `tidy-warden-serve`, which takes a connection to the end of its TLS handshake. One task serves one connection: `listener`
//! begins it, `session` through CONNECT, `relay` moves
//! its octets. What a connection may do is decided by `gate`, a state machine without sockets; who it is by `identity`; what the store
//! knows of it by `knowledge`, and what it goes by while the store is silent by `memory`. Beside
//! the sessions the `follower` watches the store and makes them look again when something changed; `server` starts it all, and
//! its keeper writes what was used and counted. `shared` is what they all share, `live` the part of it that a reload changes.

mod clones;
mod control;
mod errands;
mod event;
mod evidence;
mod floods;
mod follower;
mod gate;
mod health;
mod history;
mod identity;
mod introductions;
mod kept;
mod knowledge;
mod listener;
mod live;
mod makers;
mod meeting;
mod memory;
mod message;
mod meter;
mod metrics;
mod moment;
mod registry;
mod relay;
mod replays;
mod server;
mod session;
mod shared;
mod traffic;
mod unplugged;
mod upstream;
mod watching;
mod websocket;
mod wills;

pub use control::{Answer, Request};
pub use event::{Event, RuleRef, Sink};
pub use knowledge::Stores;
pub use live::{LiveConfig, Reload};
pub use server::{Config, Guard, Instance, SAY};
pub use shared::GuardError;
pub use tidy_warden_serve::seen::{Follows, Head};
pub use tidy_warden_serve::tls::{TlsError, TlsSettings};
pub use unplugged::Unplugged;
pub use upstream::{Bypass, Upstream, UpstreamError, UpstreamPem};
pub use watching::{Observation, Observer};
