//! The computation of Tidy Warden: names, topics, policies, certificates, tokens, revocation, audit.
//!
//! Nothing here reads a clock, opens a file or a socket, or prints: time and randomness are arguments, bytes go in
//! and values or bytes come out. (One exception, said where it stands: the crypto library draws the randomness of
//! new keys and of ECDSA signatures itself and cannot be handed any.) Each module uses only modules listed above it.

pub mod asn1;
pub mod finding;
pub mod id;
pub mod random;
pub mod text;
pub mod time;

pub mod audit;
pub mod fact;
pub mod key;
pub mod settings;
pub mod topic;

pub mod certificate;
pub mod credential;
pub mod device;
pub mod request;
pub mod revocation;
pub mod token;

pub mod condition;
pub mod mqtt;
pub mod outfit;
pub mod policy;
