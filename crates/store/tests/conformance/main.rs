//! What every store must do, run on each engine: the SQLite file, the PostgreSQL database, and the model in memory.

#![expect(clippy::unwrap_used, reason = "a test fails by panicking")]

mod admissions;
mod authorities;
mod bench;
mod claims;
mod conditions;
mod copy;
mod credentials;
mod database;
mod devices;
mod feed;
mod file;
mod introduced;
mod jobs;
mod model;
mod own;
mod plans;
mod policy;
mod renewals;
mod revocation;
mod rights;
mod servers;
mod together;
mod traffic;
mod upgrade;
