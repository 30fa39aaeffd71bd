//! Keys: which are taken, how they sign and verify, and how private ones are locked at rest.

mod digest;
mod jwk;
mod public;
mod signer;
mod software;
#[cfg(test)]
mod tests;
mod uri;

pub use digest::{Sha256, sha256, sha384};
pub use jwk::{coordinates, from_members, jwk_members, rsa_parts, thumbprint};
pub use public::{BadKey, BadSignature, FixedScheme, KeyType, PublicKey, ecdsa_signature};
pub use signer::{NewKey, ProvenKey, SignError, Signer, UnknownKeyType};
pub use software::{LockCost, OpenError, SoftwareKey};
pub use uri::{BadKeyUri, KeyUri};
