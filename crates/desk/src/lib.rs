//! The desk: devices come to it by themselves, prove what they are, and get a certificate or the next one, over EST (RFC 7030, RFC 8951);
//! and whoever checks certificates fetches revocation lists and issuing certificates from it.
//!
//! - [`server`] has the sockets: TLS, HTTP with its limits, and how long a request may take;
//! - `route` says what a path is, before anybody is asked who it is;
//! - `answer` decides, with the store and no socket: `Desk::answer` takes what was asked and gives what is said;
//! - `owner` is the page and the interface of owners;
//! - `lists` keeps revocation lists fresh, `servers` the certificates of guards, desks and posts; `follow` hears of changes in the store.
//!
//! What a caller can learn about which devices exist: nothing. Whatever is wrong with a proof, the answer is the same, after the same
//! time; the log has the reason.

mod answer;
mod beside;
mod due;
mod errands;
mod event;
mod follow;
mod inbox;
mod lists;
mod metrics;
mod notices;
mod owner;
mod reflexes;
mod rotations;
mod route;
pub mod server;
mod servers;
mod state;
#[cfg(test)]
mod tests;
mod turn;

pub use event::{Event, Sink};
pub use state::{Desk, DeskError, LiveConfig, Reading, Stores};
