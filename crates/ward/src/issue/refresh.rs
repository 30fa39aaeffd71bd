//! The public parts of outfits, as settings, authorities and policies are now.

use std::path::Path;

use tidy_warden_core::authority::AuthorityRecord;
use tidy_warden_core::id::AuthorityName;
use tidy_warden_core::time::UnixTime;
use tidy_warden_store::DeviceView;

use super::press::Mint;
use crate::files;
use crate::problem::Problem;

/// Who signed the certificate with which a device signs in longest; `None` if it has none of this ward.
pub fn signed_by(view: &DeviceView, now: UnixTime) -> Option<AuthorityName> {
    let usable = view.credentials.iter().filter(|credential| {
        credential.origin == tidy_warden_core::credential::Origin::Issued && credential.may_sign_in(now).is_ok()
    });
    usable.max_by_key(|credential| credential.usable_until()).and_then(|credential| credential.authority.clone())
}

/// Each file is replaced as a whole: a device that reads meanwhile finds the old one or the new one.
pub fn write(mint: &Mint, view: &DeviceView, authority: &AuthorityRecord, out: &Path) -> Result<(), Problem> {
    let id = &view.device.id;
    let (chain, roots) = mint.chains(authority);
    let connect = serde_json::to_string_pretty(&mint.connect(&view.device))
        .map_err(|error| Problem::failed("cannot write connect.json").because(error))?;
    let folder = out.join(id.as_str());
    std::fs::create_dir_all(&folder).map_err(|error| Problem::file("make", &folder, &error))?;
    for (name, text) in [("chain.pem", chain.as_str()), ("root.pem", roots), ("connect.json", &(connect + "\n"))] {
        let path = folder.join(name);
        if std::fs::read(&path).is_ok_and(|old| old == text.as_bytes()) {
            continue;
        }
        files::replace(&path, text.as_bytes()).map_err(|error| Problem::file("write", &path, &error))?;
    }
    Ok(())
}
