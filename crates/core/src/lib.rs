//! The computation of Tidy Warden: names, topics, policies, certificates, tokens, revocation, audit.
//!
//! Nothing here reads a clock, opens a file or a socket, or prints: time and randomness are arguments, bytes go in
//! and values or bytes come out. (One exception, said where it stands: the crypto library draws the randomness of
//! new keys and of ECDSA signatures itself and cannot be handed any.)
//!
//! Each module uses only modules that stand before it in this order, which a test holds:
//!
//! - order: time text id random finding asn1
//! - order: host database fact key seal jwe share shared topic audit post
//! - order: certificate cms revocation request token credential jws rekey authority device owner claim voucher history rotation enrolment errand notice
//! - order: condition reflex asking introduced profile settings admission est due
//! - order: mqtt outfit pkcs12 policy
//!
//! Where do I find ... what a name may be: [`id`], [`host`], [`fact`]; what a certificate says: [`certificate`], for a kind of
//! devices: [`profile`]; whether a credential may sign in: [`credential`], a device: [`device`]; who is given another: [`enrolment`], who buys devices: [`owner`], and how one finds its owner: [`claim`], [`voucher`]; who comes in by itself: [`admission`], [`asking`], or is brought in by its gateway: [`introduced`]; what ends and who renews it: [`due`]; replacing certificates in rounds: [`rotation`]; what devices are asked to do: [`errand`]; how one asks for its next shared key: [`rekey`]; what happens by itself when a device is in trouble: [`reflex`]; what a web service is told: [`notice`]; what was true of a device at a moment that is over: [`history`]; what a topic filter matches:
//! [`topic`]; what a policy gives: [`policy`]; what `ward.toml` may say:
//! [`settings`]; where a database is: [`database`]; how a stream is sealed to the owner of a key: [`seal`], and a short text in an open format: [`jwe`]; how keys that
//! a device and the ward share are kept: [`shared`]; what a signed token says and who made it: [`token`].

pub mod asn1;
pub mod finding;
pub mod id;
pub mod introduced;
pub mod random;
pub mod text;
pub mod time;

pub mod audit;
pub mod database;
pub mod fact;
pub mod host;
pub mod jwe;
pub mod key;
pub mod post;
pub mod seal;
pub mod share;
pub mod shared;
pub mod topic;

pub mod authority;
pub mod certificate;
pub mod claim;
pub mod cms;
pub mod credential;
pub mod device;
pub mod enrolment;
pub mod errand;
pub mod history;
mod jws;
pub mod notice;
pub mod owner;
pub mod rekey;
pub mod request;
pub mod revocation;
pub mod rotation;
pub mod token;
pub mod voucher;

pub mod admission;
pub mod asking;
pub mod condition;
pub mod due;
pub mod est;
pub mod profile;
pub mod reflex;
pub mod settings;

pub mod mqtt;
pub mod outfit;
pub mod pkcs12;
pub mod policy;
