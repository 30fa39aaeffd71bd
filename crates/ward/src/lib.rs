//! A ward that is open, and what everybody who serves it does with it: the command line now, servers later. Nothing here knows arguments,
//! exit codes or a terminal, and nothing is asked of a person but through [`keys::Openers`].
//!
//! - the ward itself: [`open`] reads its folder, [`place`] says where its store is, [`clock`] is its time, [`keys`] opens its keys, [`relock`] locks them anew, [`files`] reads with a limit and writes
//!   whole or not at all;
//! - what comes in: [`edge`] are names as people write them, [`list`] rows of CSV and JSON Lines, [`import`] devices from them, [`admission`] who may come in by itself, [`asking`] who waits for a yes, [`judge`] certificates of others, [`claim`] owners who claim devices;
//! - work in many changes: [`mass`] does something to many devices, [`lease`] says who works on a job;
//! - what goes out: [`issue`] one certificate and its outfit, [`token`] tokens, [`shared`] what opens the keys that devices share with the ward, [`bulk`] a million of them, [`crl`] the revocation list, [`due`] what ends and who renews it, [`rotation`] certificates that are replaced in rounds, [`errand`] what devices are asked to do, [`reflex`] what the settings want done by itself, [`notice`] what a web service is told of that, [`post`] a folder for a guard on another machine, [`server`] the next certificate of a guard or desk, [`backup`] all of it in one file;
//! - [`problem`] says what failed on what, because of what. Every function here that fails gives one, so its documentation says when it
//!   fails only where that is not plain.

#![allow(clippy::missing_errors_doc, reason = "said once, in the lines above")]

pub mod admission;
pub mod asking;
pub mod backup;
pub mod bulk;
pub mod claim;
pub mod clock;
pub mod crl;
pub mod due;
pub mod edge;
pub mod errand;
pub mod files;
pub mod import;
pub mod issue;
pub mod judge;
pub mod keys;
pub mod lease;
pub mod list;
pub mod mass;
pub mod notice;
pub mod open;
mod own_key;
pub mod place;
pub mod post;
pub mod problem;
pub mod reflex;
pub mod rekey;
pub mod relock;
pub mod rotation;
pub mod server;
pub mod shared;
pub mod token;
pub mod voucher;
