//! Posts, and the settings that all of them go by.

use serde_json::json;
use tidy_warden_core::id::PostName;

use super::own::{self, Declared, FactClash};
use super::{append, hex, unknown};
use crate::{AdoptedSettings, Answer, Cause, PostRecord, Tx};

/// The most posts of a ward, retired ones among them.
const MOST: usize = 1_000;

/// Why a post was not added or retired.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum PostRefusal {
    /// Its name was given before.
    #[error("there is a post `{name}` already, or there was one")]
    Exists {
        /// The name.
        name: PostName,
    },
    /// There are too many.
    #[error("a ward has at most {MOST} posts, and this one has had that many")]
    TooMany,
    /// It is retired.
    #[error("the post `{name}` is retired already")]
    Retired {
        /// The name.
        name: PostName,
    },
}

/// Adds a post.
pub fn add(tx: &mut dyn Tx, post: &PostRecord, cause: &Cause) -> Answer<(), PostRefusal> {
    let all = tx.posts()?;
    // What is in the ward's own folder has a certificate by its name, too.
    let is_own = super::server::OWN.contains(&post.name.as_str());
    if is_own || all.iter().any(|known| known.name == post.name) {
        return Ok(Err(PostRefusal::Exists { name: post.name.clone() }));
    }
    if all.len() >= MOST {
        return Ok(Err(PostRefusal::TooMany));
    }
    let certificate = &post.certificate;
    let detail = json!({
        "role": post.role.as_str(), "host": post.host, "login": post.login, "serial": certificate.serial.to_string(),
        "fingerprint": certificate.fingerprint.to_string(), "ends": certificate.not_after,
    });
    append(tx, cause, "post.add", post.name.as_str(), &detail)?;
    tx.put_post(post)?;
    Ok(Ok(()))
}

/// Retires a post for good; gives what it was.
///
/// # Errors
/// There is none of that name.
pub fn retire(tx: &mut dyn Tx, name: &PostName, cause: &Cause) -> Answer<PostRecord, PostRefusal> {
    let found = tx.posts()?.into_iter().find(|post| post.name == *name);
    let post = found.ok_or_else(|| unknown("post", name))?;
    if post.retired.is_some() {
        return Ok(Err(PostRefusal::Retired { name: name.clone() }));
    }
    let detail = json!({ "serial": post.certificate.serial.to_string() });
    let change = append(tx, cause, "post.retire", name.as_str(), &detail)?;
    // Its certificates go on the next CRLs of whoever signed them.
    let mut issuers: Vec<_> = tx.former_servers()?.into_iter().filter(|(owner, _)| owner == name.as_str()).collect();
    issuers.push((name.to_string(), post.certificate.clone()));
    for authority in tx.authorities()? {
        if issuers.iter().any(|(_, certificate)| certificate.issuer == authority.certificate.subject) {
            tx.put_crl_lacks(&authority.name, change)?;
        }
    }
    let after = PostRecord { retired: Some(cause.at), verifier: String::new(), ..post };
    tx.put_post(&after)?;
    tx.drop_key_wrap(name.as_str())?;
    Ok(Ok(after))
}

/// Adopts settings for all machines; says whether this was done: not if another edition was adopted meanwhile, so that its number is
/// taken, nor if what it declares of facts cannot be. `difference` is a JSON object that says what changed.
pub fn adopt_settings(
    tx: &mut dyn Tx,
    settings: &AdoptedSettings,
    declared: Declared<'_>,
    difference: &serde_json::Value,
    cause: &Cause,
) -> Answer<bool, Vec<FactClash>> {
    let newest = tx.adopted_settings()?.map_or(0, |newest| newest.number);
    if settings.number != newest + 1 {
        return Ok(Ok(false));
    }
    if let Err(clashes) = own::declare(tx, declared, cause.at)? {
        return Ok(Err(clashes));
    }
    let mut detail = difference.clone();
    detail["signature"] = hex(&settings.signature).into();
    append(tx, cause, "settings.adopt", &format!("edition {}", settings.number), &detail)?;
    tx.insert_settings(settings)?;
    Ok(Ok(true))
}
