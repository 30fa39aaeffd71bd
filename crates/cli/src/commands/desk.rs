//! `desk`: runs until it is told to stop.

use std::io::IsTerminal;
use std::net::{Ipv4Addr, SocketAddr};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use tidy_warden_core::authority::{AuthorityRecord, AuthorityRole};
use tidy_warden_core::key::{PublicKey, Signer, SoftwareKey};
use tidy_warden_core::post::PostRole;
use tidy_warden_core::settings::{Kind, Renews, Settings};
use tidy_warden_core::shared::DataKey;
use tidy_warden_desk::server::{Config, Server};
use tidy_warden_desk::{DeskError, Event, LiveConfig, Reading, Sink, Stores};
use tidy_warden_ward::errand::ErrandSigner;
use tidy_warden_ward::post::OpenPost;

use super::Context;
use super::guard::{STORE_PATIENCE, live, open_home, stays_inside};
use crate::args::{DeskArgs, LogForm};
use crate::edge::parse;
use crate::keys::{Openers, Secrets};
use crate::log::Log;
use crate::passphrase::{self, Passphrase, Typed};
use crate::problem::{Exit, Problem};
use crate::signals::{self, ready};
use crate::ward::Ward;

/// The name of the desk's key and certificate, and the account under which its changes are recorded.
pub(crate) const DESK: &str = "desk";

/// The file in which a desk keeps how far it has seen the audit record.
pub(crate) const SEEN: &str = "desk.seen";

/// How many questions to the store there may be at once.
const READERS: usize = 4;

/// The path under which lists are given out.
const LISTS: &str = "/crl/";

/// The path under which issuing authorities' certificates are given out.
const AUTHORITIES: &str = "/ca/";

/// What was opened before.
struct Known {
    signers: Vec<(AuthorityRecord, Arc<dyn Signer>)>,
    /// The key that signs errands.
    errands: Option<Arc<dyn Signer>>,
    /// The key that signs notices.
    notices: Option<Arc<dyn Signer>>,
    /// What opens the keys that devices share with the ward.
    data_key: Option<DataKey>,
}

impl From<&LiveConfig> for Known {
    fn from(live: &LiveConfig) -> Self {
        Self {
            signers: live.signers().to_vec(),
            errands: live.errand_key(),
            notices: live.notice_key(),
            data_key: live.data_key(),
        }
    }
}

/// Opens what was not opened before: who is told to take its settings anew need not ask anybody for a passphrase again.
struct Reopened<'a> {
    known: &'a Known,
    secrets: Secrets<'a>,
    /// Whether there is a file to read the passphrase from.
    has_file: bool,
}

impl Openers for Reopened<'_> {
    fn passphrase(&self, what: &str) -> Result<&Passphrase, Problem> {
        match self.has_file {
            true => self.secrets.passphrase(what),
            false => Err(Problem::refused(format!("{what} cannot be opened while the desk runs"))
                .because("the passphrase was typed, used once and forgotten")
                .next("stop the desk and start it again, or start it with --passphrase-file")),
        }
    }

    fn root_passphrase(&self, name: &str) -> Result<&Passphrase, Problem> {
        self.secrets.root_passphrase(name)
    }

    fn pin(&self, token: &str) -> Result<&Passphrase, Problem> {
        self.secrets.pin(token)
    }

    fn key_file(&self) -> Option<&Path> {
        None
    }

    fn known_for_notices(&self) -> Option<Arc<dyn Signer>> {
        self.known.notices.clone()
    }

    fn known_data_key(&self) -> Option<DataKey> {
        self.known.data_key.clone()
    }

    fn known(&self, key: &PublicKey) -> Option<Arc<dyn Signer>> {
        self.known.errands.clone().filter(|known| known.public_key() == key)
    }

    fn signer(&self, ward: &Ward, authority: &AuthorityRecord) -> Result<Arc<dyn Signer>, Problem> {
        let is_same = |(_, signer): &&(AuthorityRecord, Arc<dyn Signer>)| {
            *signer.public_key() == authority.certificate.public_key
        };
        match self.known.signers.iter().find(is_same) {
            Some((_, signer)) => Ok(signer.clone()),
            None => {
                self.passphrase(&format!("the key of `{}`", authority.name))?;
                self.secrets.signer(ward, authority)
            }
        }
    }
}

/// Where a desk has what it goes by from.
struct Home<'a> {
    context: &'a Context<'a>,
    args: &'a DeskArgs,
}

impl Home<'_> {
    fn open(&self) -> Result<(Ward, Option<OpenPost>), Problem> {
        open_home(self.context, self.args.post.as_deref(), PostRole::Desk)
    }

    /// The file with what opens this desk's keys: the ward's passphrase, or the post's own and no other.
    fn passphrase_file(&self) -> Option<&Path> {
        match &self.args.post {
            None => self.context.passphrase_path(),
            Some(_) => self.args.post_passphrase_file.as_deref(),
        }
    }

    fn secrets(&self) -> Secrets<'_> {
        Secrets::new(self.context.console, self.passphrase_file(), self.context.pin_file.as_deref())
    }

    /// The desk's own key. The passphrase is used once and forgotten.
    fn own_key(&self, ward: &Ward, secrets: &dyn Openers) -> Result<SoftwareKey, Problem> {
        match &self.args.tls_passphrase_file {
            Some(file) => {
                let passphrase = passphrase::get(Some(file), "the desk's TLS key", Typed::Once, self.context.console)?;
                ward.key(DESK, &passphrase)
            }
            None => ward
                .key(DESK, secrets.passphrase("the desk's TLS key")?)
                .map_err(|problem| problem.or_next("if it has a passphrase of its own: --tls-passphrase-file FILE")),
        }
    }

    /// What the desk goes by now; what was opened before stays open.
    fn reload(&self, key: &mut SoftwareKey, known: &Known) -> Result<LiveConfig, Problem> {
        let (ward, post) = self.open()?;
        let has_file = self.passphrase_file().is_some();
        let secrets = Reopened { known, secrets: self.secrets(), has_file };
        if *key.public_key() != live::own_certificate(&ward, post.as_ref(), DESK)?.public_key {
            *key = self.own_key(&ward, &secrets)?;
        }
        config(&ward, post.as_ref(), key, &secrets)
    }
}

/// What a desk of this ward goes by.
pub(crate) fn config(
    ward: &Ward,
    post: Option<&OpenPost>,
    key: &SoftwareKey,
    secrets: &dyn Openers,
) -> Result<LiveConfig, Problem> {
    let own = live::own_certificate(ward, post, DESK)?;
    LiveConfig::of(ward, secrets, live::tls(ward, DESK, own, key, true)?, post.is_some())
}

/// Where a desk listens, and where it keeps how far it has seen the record.
pub(crate) struct Places {
    pub(crate) listen: SocketAddr,
    pub(crate) listen_http: Option<SocketAddr>,
    pub(crate) metrics: Option<SocketAddr>,
    pub(crate) seen: Option<PathBuf>,
}

/// A desk of this ward that listens.
pub(crate) async fn bind(
    ward: &Ward,
    post: Option<&OpenPost>,
    places: Places,
    live: LiveConfig,
    sink: Sink,
) -> Result<Server, Problem> {
    let Places { listen, listen_http, metrics, seen } = places;
    let stores = Stores {
        readers: (0..READERS).map(|_| ward.desk_reader(Some(STORE_PATIENCE))).collect::<Result<_, _>>()?,
        follower: ward.desk_reader(Some(STORE_PATIENCE))?,
        acts: ward.desk_acts()?,
        lists: ward.another_store()?,
        rotations: post.is_none().then(|| ward.another_store()).transpose()?,
        errands: post.is_none().then(|| ward.another_store()).transpose()?,
        reflexes: post.is_none().then(|| ward.another_store()).transpose()?,
        notices: post.is_none().then(|| ward.another_store()).transpose()?,
        owners: post.is_none().then(|| ward.another_store()).transpose()?,
    };
    let (name, actor) = match post {
        Some(post) => (post.name.clone(), ward.actor.clone()),
        None => (parse(DESK)?, DESK.to_owned()),
    };
    let (clock, version) = (Arc::new(ward.clock.clone()), env!("CARGO_PKG_VERSION"));
    let config = Config { listen, listen_http, metrics, seen, live, name, version, actor, clock, sink };
    Server::bind(config, stores).await.map_err(|error| match error {
        DeskError::Store(error) => error.into(),
        DeskError::Listen { .. } => {
            Problem::failed(error.to_string()).next("stop what uses the port, or choose another with --listen")
        }
        other => Problem::failed("the desk cannot start").because(other),
    })
}

pub(crate) fn run(context: &Context<'_>, args: &DeskArgs) -> Result<Exit, Problem> {
    let home = Home { context, args };
    let (mut ward, post) = home.open()?;
    let settings = ward.settings.desk.clone();
    let listen = args.listen.or(settings.listen).unwrap_or(SocketAddr::from((Ipv4Addr::LOCALHOST, 8843)));
    let listen_http = args.listen_http.or(settings.listen_http);
    stays_inside(&ward, DESK, &[Some(listen), listen_http])?;
    let secrets = home.secrets();
    let key = home.own_key(&ward, &secrets)?;
    // Devices that renew when they are asked need somebody who asks.
    let by_errand = |kind: &Kind| kind.renews == Some(Renews::Errand) || kind.renews_keys == Renews::Errand;
    let asks = ward.settings.kinds.values().any(by_errand);
    if asks && post.is_none() {
        ErrandSigner::open(&mut ward, &secrets)?;
    }
    let live = config(&ward, post.as_ref(), &key, &secrets)?;
    let form = args.log.unwrap_or(if std::io::stderr().is_terminal() { LogForm::Text } else { LogForm::Json });
    let log = Log::start(form, ward.clock.clone());
    // In the form of the log: whoever reads it as JSON gets nothing else.
    let warnings = elsewhere(&ward.settings, listen, listen_http).into_iter().chain(unbounded(live.signers()));
    warnings.for_each(|what| log.sink()(Event::Trouble { what }));
    let known = Known::from(&live);
    let metrics = args.metrics.or(settings.metrics);
    let places = Places { listen, listen_http, metrics, seen: Some(ward.dir.join(SEEN)) };
    let runtime = tokio::runtime::Runtime::new().map_err(|error| Problem::failed("cannot start").because(error))?;
    let ended = runtime.block_on(async {
        let server = bind(&ward, post.as_ref(), places, live, log.sink()).await?;
        serve(&home, server, key, known, log.sink()).await
    });
    signals::end(runtime);
    log.finish();
    ended.map(|()| Exit::Done)
}

/// Runs until a signal says stop; another, or a change of authorities or policies, makes it read all that it goes by anew.
async fn serve(
    home: &Home<'_>,
    server: Server,
    mut key: SoftwareKey,
    mut known: Known,
    sink: Sink,
) -> Result<(), Problem> {
    let mut wants = server.wants();
    let run = |stopped, reloads| async {
        let ended = server.run(ready(stopped), reloads).await;
        ended.map_err(|error| Problem::failed("the desk stopped").because(error))
    };
    let reload = |_: Option<()>| {
        let config = home.reload(&mut key, &known)?;
        known = Known::from(&config);
        Ok(config)
    };
    signals::serve(run, async || wanted(&mut wants).await, reload, &|what| sink(Event::Trouble { what })).await
}

/// Authorities or policies changed. A desk that is gone wants nothing.
async fn wanted(wants: &mut tokio::sync::watch::Receiver<Reading>) {
    if wants.changed().await.is_err() {
        std::future::pending::<()>().await;
    }
}

/// That the authority for services, whose key the desk holds, is held to no hosts.
fn unbounded(signers: &[(AuthorityRecord, Arc<dyn Signer>)]) -> Option<String> {
    let (service, _) = signers.iter().rfind(|(authority, _)| authority.role == AuthorityRole::Service)?;
    service.certificate.constraints.is_none().then(|| {
        format!(
            "the desk holds the key of `{}`, which can sign for any host: authority add NAME --service --permit dns:HOST --replaces {0}, or \
             renew_servers = false under [desk]",
            service.name
        )
    })
}

/// Addresses that certificates and people are told, and that are not what is listened on.
pub(super) fn elsewhere(settings: &Settings, listen: SocketAddr, listen_http: Option<SocketAddr>) -> Vec<String> {
    let mut all = Vec::new();
    let endpoints = &settings.endpoints;
    if endpoints.desk.port != listen.port() {
        all.push(format!(
            "devices are told to come to {}, and the desk listens on port {}: desk under [endpoints], if nothing stands between",
            endpoints.desk,
            listen.port()
        ));
    }
    for (what, key, told, path) in [
        ("revocation lists", "crl", endpoints.crl.as_str(), LISTS),
        ("issuing authorities' certificates", "ca", endpoints.ca.as_str(), AUTHORITIES),
    ] {
        match (listen_http, told) {
            (None, "") => {}
            (None, url) => all.push(format!(
                "certificates name {url} as the place of {what}, which this desk does not serve: listen_http under [desk]"
            )),
            (Some(address), "") => all.push(format!(
                "certificates name no place of {what}, and the desk has them at http://HOST:{}{path}: {key} under [endpoints]",
                address.port()
            )),
            (Some(address), url) => {
                let rest = url.strip_prefix("http://").unwrap_or(url);
                let (host, its) = rest.find('/').map_or((rest, ""), |at| rest.split_at(at));
                let port = host.rsplit_once(':').and_then(|(_, port)| port.parse().ok()).unwrap_or(80u16);
                if its != path || port != address.port() {
                    all.push(format!(
                        "certificates name {url} as the place of {what}, and the desk has them at http://HOST:{}{path}: {key} under \
                         [endpoints], if nothing stands between",
                        address.port()
                    ));
                }
            }
        }
    }
    all
}

#[cfg(test)]
mod tests {
    use tidy_warden_core::text::Source;

    use super::*;

    #[test]
    fn addresses_that_are_told_and_not_served_are_found() {
        let settings = |crl: &str, port: u16| {
            let ca = crl.replace("/crl/", "/ca/");
            let crl = if crl.is_empty() { String::new() } else { format!("crl = \"{crl}\"\nca = \"{ca}\"\n") };
            let text = format!("[ward]\nname = \"n\"\n[endpoints]\ndesk = \"desk.example:{port}\"\n{crl}");
            Settings::parse(&Source::new("ward.toml", &text)).unwrap()
        };
        let at = |port: u16| SocketAddr::from((Ipv4Addr::LOCALHOST, port));
        let found =
            |crl: &str, port: u16, plain: Option<u16>| elsewhere(&settings(crl, port), at(8843), plain.map(at)).len();
        assert_eq!(found("http://a.example:8080/crl/", 8843, Some(8080)), 0);
        assert_eq!(found("http://a.example/crl/", 8843, Some(80)), 0);
        assert_eq!(found("", 8843, None), 0);
        assert_eq!(found("http://a.example:8080/lists/", 8843, Some(8080)), 2);
        assert_eq!(found("http://a.example/crl/", 8843, Some(8080)), 2);
        assert_eq!(found("http://a.example/crl/", 8843, None), 2);
        assert_eq!(found("", 443, Some(8080)), 3);
    }
}
