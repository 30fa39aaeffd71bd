//! What is missing until a device is live, in words and with the command that mends it.

use tidy_warden_core::device::{Barred, Gap};
use tidy_warden_core::id::DeviceId;

/// One sentence for a gap of the device `id`.
pub(super) fn told(id: &DeviceId, gap: &Gap) -> String {
    let again = || format!("`enroll {id} --csr FILE` or `enroll {id} --make-key`");
    match gap {
        Gap::Barred(Barred::Retired(_)) => "it is retired for good; list its replacement under a new id".to_owned(),
        Gap::Barred(Barred::Out(_)) => {
            format!("it was revoked; `device reopen {id} --because ...` lets it enrol again")
        }
        Gap::Barred(Barred::Held(since)) => format!("it is on hold since {since}; `release {id}` lifts that"),
        Gap::Fact(fact) => format!("its kind wants the fact `{fact}`: `device edit {id} --fact {fact}=...`"),
        Gap::NoCredential => format!("it has no certificate: {}", again()),
        Gap::AuthorityRetired(authority) => {
            let authority = authority.as_ref().map(|name| format!(" `{name}`")).unwrap_or_default();
            format!("the authority{authority} of its certificate was retired: {}", again())
        }
        Gap::Revoked => format!("its certificate was revoked: {}", again()),
        Gap::Ended(at) => format!("its certificate ended on {}: {}", at.date(), again()),
        Gap::TokenMeanwhile => format!("until then it can sign in by token: `token issue {id}`"),
        Gap::NoEdition => "no policy edition is adopted: `policy adopt`".to_owned(),
        Gap::NoConnect => format!("no adopted policy lets it connect: `policy ask {id} connect`"),
        Gap::NotWritten => "its outfit was not written yet".to_owned(),
        Gap::NotUsed => "it has not connected with its certificate yet".to_owned(),
        // What a later version of the library tells is better told badly than not at all.
        other => format!("{other:?}"),
    }
}
