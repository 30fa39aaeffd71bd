//! What tests stand on. Nothing of this is in the product.

#![expect(clippy::unwrap_used, reason = "a test fails by panicking")]

mod cluster;
#[cfg(feature = "ward")]
pub mod ward;
mod wire;

pub use cluster::Cluster;
pub use wire::Wire;
