//! The certificates of guards and desks, here and at posts: each is given the next one ahead of the end of its own.

use serde_json::json;
use tidy_warden_core::certificate::{Certificate, Fingerprint};

use super::{append, unknown};
use crate::{Answer, Cause, PostRecord, StoreError, Tx, View};

/// Why a server was given no other certificate.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum ServerRefusal {
    /// Somebody else renewed it at the same moment.
    #[error("somebody else gave `{name}` another certificate at the same moment")]
    Overtaken {
        /// Whose it is.
        name: String,
    },
    /// It is retired.
    #[error("the post `{name}` is retired")]
    Retired {
        /// The post.
        name: String,
    },
    /// The certificate is for another key: whoever runs the server could not use it.
    #[error("the new certificate of `{name}` is for another key")]
    OtherKey {
        /// Whose it is.
        name: String,
    },
    /// It ends sooner, and nothing speaks for it.
    #[error("the new certificate of `{name}` ends sooner than its own, which the same authority signed")]
    Sooner {
        /// Whose it is.
        name: String,
    },
}

/// A guard, a desk, or a post that is not retired, with its certificate.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ServerRecord {
    /// Its name: `guard` and `desk` for those in the ward's own folder, [`ERRANDS`] and [`VOUCHERS`] for what signs those.
    pub name: String,
    /// Its certificate.
    pub certificate: Certificate,
}

/// The names of those in the ward's own folder.
pub(super) const OWN: [&str; 4] = ["guard", "desk", ERRANDS, VOUCHERS];

/// What the key that signs ownership vouchers is called among them.
pub const VOUCHERS: &str = "vouchers";

/// What the key that signs errands is called among them.
pub const ERRANDS: &str = "errands";

/// All guards and desks, those in the ward's own folder first, then posts that are not retired, by name.
pub fn all(view: &dyn View) -> Result<Vec<ServerRecord>, StoreError> {
    let mut all = Vec::new();
    for name in OWN {
        match view.server_certificate(name) {
            Ok(certificate) => all.push(ServerRecord { name: name.to_owned(), certificate }),
            // A ward of before there were desks, or that has sent no errand.
            Err(StoreError::Unknown { .. }) => {}
            Err(error) => return Err(error),
        }
    }
    let posts = view.posts()?.into_iter().filter(|post| post.retired.is_none());
    all.extend(posts.map(|post| ServerRecord { name: post.name.to_string(), certificate: post.certificate }));
    Ok(all)
}

/// Gives a key that signs errands or vouchers ([`ERRANDS`], [`VOUCHERS`]) its first certificate, in the place of another key's if there was
/// one.
pub fn make(tx: &mut dyn Tx, name: &str, certificate: &Certificate, cause: &Cause) -> Result<(), StoreError> {
    let before = match tx.server_certificate(name) {
        Ok(before) => Some(before),
        Err(StoreError::Unknown { .. }) => None,
        Err(error) => return Err(error),
    };
    let mut detail = json!({
        "serial": certificate.serial.to_string(), "fingerprint": certificate.fingerprint.to_string(),
        "ends": certificate.not_after,
    });
    if let Some(before) = &before {
        detail["before"] = json!(before.serial.to_string());
        tx.put_former_server(name, before)?;
    }
    let change = append(tx, cause, "server.make", name, &detail)?;
    tx.put_server(name, certificate)?;
    tx.put_servers_changed(change)
}

/// Gives a server another certificate for its key, in place of `before`.
///
/// # Errors
/// There is no such server.
pub fn renew(
    tx: &mut dyn Tx,
    name: &str,
    before: &Fingerprint,
    certificate: &Certificate,
    cause: &Cause,
) -> Answer<(), ServerRefusal> {
    let post = tx.posts()?.into_iter().find(|post| post.name.as_str() == name);
    let name = name.to_owned();
    let current = match &post {
        Some(post) if post.retired.is_some() => return Ok(Err(ServerRefusal::Retired { name })),
        Some(post) => post.certificate.clone(),
        None if OWN.contains(&&*name) => tx.server_certificate(&name)?,
        None => return Err(unknown("server", &name)),
    };
    if current.fingerprint != *before {
        return Ok(Err(ServerRefusal::Overtaken { name }));
    }
    if certificate.public_key != current.public_key {
        return Ok(Err(ServerRefusal::OtherKey { name }));
    }
    // One that is not valid yet was made by a clock that was ahead, and serves nobody until then.
    let is_valid = current.not_before <= cause.at;
    if is_valid && certificate.not_after < current.not_after && certificate.issuer == current.issuer {
        return Ok(Err(ServerRefusal::Sooner { name }));
    }
    let detail = json!({
        "serial": certificate.serial.to_string(), "fingerprint": certificate.fingerprint.to_string(),
        "ends": certificate.not_after, "before": current.serial.to_string(),
    });
    let change = append(tx, cause, "server.renew", &name, &detail)?;
    // One that has ended is on no list any more, whatever becomes of its owner.
    for (owner, former) in tx.former_servers()? {
        if owner == name && former.not_after < cause.at {
            tx.drop_former_server(&former.fingerprint)?;
        }
    }
    tx.put_former_server(&name, &current)?;
    tx.put_server(&name, certificate)?;
    if let Some(post) = post {
        tx.put_post(&PostRecord { certificate: certificate.clone(), ..post })?;
    }
    tx.put_servers_changed(change)?;
    Ok(Ok(()))
}
