//! A simulated device's certification request (PKCS#10, RFC 2986).

use tidy_warden_core::asn1;
use tidy_warden_core::certificate::Subject;
use tidy_warden_core::key::{SignError, Signer, SoftwareKey};

/// A request for `key` in DER, signed with it. It names `common_name`, which an authority is free to ignore.
///
/// # Errors
/// The key cannot sign.
pub fn certification_request(key: &SoftwareKey, common_name: &str) -> Result<Vec<u8>, SignError> {
    let info = asn1::sequence(&[
        &asn1::unsigned(&[]), // version 1 is written as 0
        &Subject { organization: "Quillfeather", common_name }.to_der(),
        key.public_key().spki(),
        &asn1::context_constructed(0, &[]),
    ]);
    let signature = key.sign(&info)?;
    Ok(asn1::sequence(&[&info, &key.algorithm(), &asn1::bit_string(&signature)]))
}
