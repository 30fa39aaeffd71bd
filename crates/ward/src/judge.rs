//! Whether the certificates of a path were revoked, by lists that somebody brings.

use tidy_warden_core::certificate::Certificate;
use tidy_warden_core::revocation::Crl;
use tidy_warden_core::time::UnixTime;

/// What was found out about revocation.
#[derive(Debug, Default)]
pub struct Revocation {
    /// Why the chain is refused, if it is.
    pub refused: Option<String>,
    /// What else there is to say, in lines.
    pub notes: Vec<String>,
}

/// Looks every certificate of a path up in the list of the one above it. A leaf that no good list covers is refused: doubt
/// denies. An authority that none covers is only told, since lists of roots are often kept elsewhere.
pub fn check(path: &[&Certificate], crls: &[Crl], at: UnixTime) -> Revocation {
    let mut found = Revocation::default();
    for (place, pair) in path.windows(2).enumerate() {
        let [below, issuer] = pair else { continue };
        let mut why = "no list of its issuer is among those given".to_owned();
        let mut covered = None;
        for crl in crls.iter().filter(|crl| crl.issuer == issuer.subject) {
            match crl.judge(issuer, at) {
                Ok(()) if covered.is_none_or(|other: &Crl| other.this_update <= crl.this_update) => covered = Some(crl),
                Ok(()) => {}
                Err(error) => why = format!("the list of its issuer is of no use: {error}"),
            }
        }
        let name = &below.subject_text;
        match covered.map(|crl| (crl, crl.find(&below.serial))) {
            Some((_, Some(listed))) => {
                let reason = listed.reason.map(|reason| format!(" ({reason})")).unwrap_or_default();
                found.refused.get_or_insert(format!("`{name}` was revoked at {}{reason}", listed.at));
            }
            Some((crl, None)) => {
                let number = crl.number.map_or_else(String::new, |number| format!(" number {number}"));
                found.notes.push(format!("`{name}` is not on its issuer's list{number} of {}", crl.this_update));
            }
            None if place == 0 => {
                found.refused.get_or_insert(format!("whether `{name}` was revoked is not known: {why}"));
            }
            None => found.notes.push(format!("`{name}` was not looked up: {why}")),
        }
    }
    found
}
