//! What a device makes before it is enrolled.

use tidy_warden_core::certificate::Subject;
use tidy_warden_core::key::{SignError, SoftwareKey};
use tidy_warden_core::request::Request;

/// A PKCS#10 request (RFC 2986) in DER, as a device with `key` would make it.
///
/// # Errors
/// The key cannot sign.
pub fn certification_request(key: &SoftwareKey, common_name: &str) -> Result<Vec<u8>, SignError> {
    Request::sign(&Subject::of("Quillfeather", common_name), key)
}
