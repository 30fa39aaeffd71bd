//! A ward without a command line: what the desk and the guard call too.

#![expect(clippy::unwrap_used, reason = "tests fail by panicking")]

mod asking;
mod backup;
mod bulk;
mod claim;
mod files;
mod import;
mod issue;
mod keys;
mod lists;
mod mass;
mod post;
