//! Certificates for devices, and the outfits that carry them.

pub mod intended;
pub mod one;
pub mod press;
pub mod refresh;
