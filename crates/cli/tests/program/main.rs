//! Drives the built program as a person or a script would: on files in a temporary folder, over real sockets, against
//! a real broker and real clients. `scripts/test` installs what these tests need.
#![expect(clippy::unwrap_used, reason = "a test fails by panicking, and the harness prints what led to it")]

mod admission;
mod authority;
mod backup;
mod badday;
mod bulk;
mod children;
mod claims;
mod crash;
mod database;
mod desk;
mod door;
mod due;
mod errand;
mod facts;
mod guard;
mod handover;
mod harness;
mod history;
mod hostile;
mod hsm;
mod input;
mod jobs;
mod life;
mod limits;
mod outfit;
mod pages;
mod pin;
mod policy;
mod post;
mod record;
mod reflex;
mod rehearsal;
mod rekey;
mod rotation;
mod scale;
mod servers;
mod storm;
mod tokens;
mod watching;
mod year;
