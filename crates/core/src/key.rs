//! Keys: which are taken, how they sign and verify, and how private ones are locked at rest.

mod digest;
mod public;
mod signer;
mod software;
#[cfg(test)]
mod tests;
mod uri;

pub use digest::{Sha256, sha256, sha384};
pub use public::{BadKey, BadSignature, KeyType, PublicKey, ecdsa_signature};
pub use signer::{NewKey, ProvenKey, SignError, Signer, UnknownKeyType};
pub use software::{LockCost, OpenError, SoftwareKey};
pub use uri::{BadKeyUri, KeyUri};
