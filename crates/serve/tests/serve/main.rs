//! What servers are made of, each part by itself.

#![expect(clippy::unwrap_used, reason = "tests fail by panicking")]

mod http;
mod socket;
mod trust;
