//! What every server of Tidy Warden is made of. The guard and the desk are built on it.
//!
//! - a connection: `listener` takes it through PROXY protocol and TLS ([`tls`]), [`openings`] bounds how many are on that way, [`buckets`] how much each may ask for,
//!   [`source`] says which networks count as one; [`http`] answers small questions in plain HTTP, [`strict`] refuses requests that could be read in two ways, [`socket`] local ones;
//! - who is there: [`trust`] is a picture of the authorities in memory, so that a handshake never waits for a store; [`lists`] are the
//!   revocation lists of foreign authorities;
//! - the store: [`pool`] asks it on threads that may wait, [`seen`] remembers how far its record was seen, to notice one that was put
//!   back; [`mod@file`] writes what must outlive a process; [`own`] tells of a server's own certificate that ends soon.
//!
//! Nothing here knows MQTT, or what a device may do.

pub mod buckets;
pub mod file;
pub mod http;
pub mod listener;
pub mod lists;
pub mod openings;
pub mod own;
pub mod pool;
pub mod seen;
pub mod socket;
pub mod source;
pub mod strict;
pub mod tls;
pub mod trust;
