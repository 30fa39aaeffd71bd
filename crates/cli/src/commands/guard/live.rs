//! What the guard takes from the ward, at its start and at each reload.

use std::path::PathBuf;

use tidy_warden_core::authority::{AuthorityRecord, AuthorityRole};
use tidy_warden_core::certificate::Certificate;
use tidy_warden_core::key::{Signer, SoftwareKey};
use tidy_warden_core::settings::BrokerAddress;
use tidy_warden_guard::{LiveConfig, TlsSettings, Upstream, UpstreamPem};
use tidy_warden_simulate::Broker;
use tidy_warden_ward::post::OpenPost;

use super::Home;
use crate::files;
use crate::problem::Problem;
use crate::ward::{MAX_TEXT, Ward};

/// The way to the broker, with the guard's own credentials there. `inside` is the one that runs in this process.
pub(crate) fn upstream(ward: &Ward, address: BrokerAddress, inside: Option<&Broker>) -> Result<Upstream, Problem> {
    let failed = |error| {
        Problem::failed(format!("the broker at {address} cannot be used"))
            .because(error)
            .next("see broker_ca, broker_certificate and broker_key under [guard] in ward.toml")
    };
    if let (BrokerAddress::Builtin, Some(inside)) = (&address, inside) {
        let place = BrokerAddress::Tcp(tidy_warden_core::host::Endpoint {
            host: inside.address().ip().to_string(),
            port: inside.address().port(),
        });
        return Upstream::new(place, Some(inside.login()), None).map_err(failed);
    }
    if address == BrokerAddress::Builtin {
        return Err(Problem::refused("the broker inside cannot be begun while the guard runs")
            .because("it was started with another broker")
            .next("stop the guard and start it again"));
    }
    let settings = &ward.settings.guard;
    // Paths are relative to the ward.
    let place = |name: &str| -> PathBuf { ward.dir.join(name) };
    let login = match (&settings.broker_user, &settings.broker_password_file) {
        (None, _) => None,
        (Some(user), None) => Some((user.clone(), Vec::new())),
        (Some(user), Some(file)) => {
            let path = place(file);
            let mut password = files::read(&path, 4096)?;
            while password.ends_with(b"\n") || password.ends_with(b"\r") {
                password.pop();
            }
            Some((user.clone(), password))
        }
    };
    let read = |name: &String| files::read(&place(name), MAX_TEXT);
    let authorities = settings.broker_ca.as_ref().map(read).transpose()?;
    let identity = match &settings.broker_identity {
        Some((certificate, key)) => Some((read(certificate)?, read(key)?)),
        None => None,
    };
    let pem = authorities.as_ref().map(|authorities| UpstreamPem {
        authorities,
        identity: identity.as_ref().map(|(certificate, key)| (certificate.as_slice(), key.as_slice())),
    });
    Upstream::new(address.clone(), login, pem).map_err(failed)
}

/// The guard's own key. The passphrase is asked for, used once and forgotten: it may open more than this key.
pub(super) fn own_key(home: &Home<'_>, ward: &Ward) -> Result<SoftwareKey, Problem> {
    let passphrase = home.passphrase()?;
    ward.key("guard", &passphrase)
}

/// The own certificate of the server `name`: the post's, or the one that the ward has under that name.
pub(in crate::commands) fn own_certificate(
    ward: &Ward,
    post: Option<&OpenPost>,
    name: &str,
) -> Result<Certificate, Problem> {
    match post {
        Some(post) => Ok(post.certificate.clone()),
        None => Ok(ward.store.server_certificate(name)?),
    }
}

/// All that the guard may take anew while it runs; `key` must be that of its certificate.
pub(crate) fn config(
    ward: &Ward,
    post: Option<&OpenPost>,
    upstream: Upstream,
    key: &SoftwareKey,
) -> Result<LiveConfig, Problem> {
    let own = own_certificate(ward, post, "guard")?;
    let tls = tls(ward, "guard", own, key, ward.settings.any_token_login())?;
    Ok(LiveConfig {
        tls,
        settings: ward.settings.clone(),
        parties: ward.parties(),
        own_key: std::sync::Arc::new(again(key)?),
        upstream,
        maker_files: ward.maker_files(),
    })
}

/// The same key once more: who keeps it does not have the one that was opened.
fn again(key: &SoftwareKey) -> Result<SoftwareKey, Problem> {
    let failed = |error: &dyn std::fmt::Display| Problem::failed("the guard's key cannot be used").because(error);
    let pkcs8 = key.to_pkcs8().map_err(|error| failed(&error))?;
    SoftwareKey::from_pkcs8(&pkcs8).map_err(|error| failed(&error))
}

/// What the server `name` shows of itself; `key` must be that of its certificate.
pub(in crate::commands) fn tls(
    ward: &Ward,
    name: &str,
    own: Certificate,
    key: &SoftwareKey,
    allow_anonymous: bool,
) -> Result<TlsSettings, Problem> {
    // Who knows only an old root finds the way to it over the new one's cross-certificate.
    let all = ward.store.authorities()?;
    let ours = |each: &&AuthorityRecord| each.role != AuthorityRole::Foreign;
    let crosses: Vec<Certificate> = all.iter().filter(ours).flat_map(|each| each.crossed.clone()).collect();
    // Also where it is believed no more: until the server has its next certificate, this one is what it has.
    let services = all.iter().filter(|each| each.role == AuthorityRole::Service).map(|each| each.certificate.clone());
    let above = services.filter(|service| service.subject == own.issuer);
    if *key.public_key() != own.public_key {
        return Err(Problem::refused(format!("the {name} cannot use its key"))
            .because(format!("it does not belong to the {name}'s certificate"))
            .next(format!("put keys/{name}.key back from a copy of the ward")));
    }
    let pkcs8 =
        key.to_pkcs8().map_err(|error| Problem::failed(format!("the {name}'s key cannot be used")).because(error))?;
    Ok(TlsSettings {
        chain: std::iter::once(own.clone()).chain(above).chain(crosses).collect(),
        key: pkcs8.to_vec().into(),
        allow_anonymous,
    })
}
