//! `guard`: runs until it is told to stop.

pub(super) mod live;
mod log;

use std::io::IsTerminal;
use std::net::{Ipv4Addr, SocketAddr};
use std::path::{Path, PathBuf};
use std::time::Duration;

use rustix::process::{Resource, Rlimit, getrlimit, setrlimit};
use tidy_warden_core::key::{Signer, SoftwareKey};
use tidy_warden_core::post::PostRole;
use tidy_warden_core::settings::BrokerAddress;
use tidy_warden_guard::{Config, Event, Guard, GuardError, Instance, Observer, Reload, Sink, Stores};
use tidy_warden_simulate::Broker;
use tidy_warden_store::Changes;
use tidy_warden_ward::post::OpenPost;
use tokio::sync::watch;

use super::Context;
use crate::args::{GuardArgs, LogForm};
use crate::edge::parse;
use crate::log::Log;
use crate::passphrase::{self, Passphrase, Typed};
use crate::problem::{Exit, Problem};
use crate::signals::{self, ready};
use crate::ward::Ward;

/// The socket on which a ward's own user follows what its guard does.
pub(crate) const SOCKET: &str = "guard.sock";

/// The file in which a guard keeps how far it has seen the audit record.
pub(crate) const SEEN: &str = "guard.seen";

/// What helps where that file holds something else.
pub(crate) const UNREADABLE_SEEN: &str =
    "if you are sure that nobody put an older store back, remove that file; it is begun anew";

/// The file in which a guard keeps wills that wait.
const WILLS: &str = "guard.wills";

/// How long a question of a server's to the store may wait for other processes: nobody is to be held up by them.
pub(super) const STORE_PATIENCE: Duration = Duration::from_millis(500);

/// File handles beside those of sessions: the store, listeners, log.
const HANDLES: u64 = 64;

/// Where a guard listens.
pub(crate) struct Places {
    pub(crate) listen: SocketAddr,
    pub(crate) websocket: Option<SocketAddr>,
    pub(crate) metrics: Option<SocketAddr>,
    pub(crate) control: Option<PathBuf>,
    /// Where it keeps how far it has seen the audit record.
    pub(crate) seen: Option<PathBuf>,
    /// Where it keeps wills that wait.
    pub(crate) wills: Option<PathBuf>,
}

impl Places {
    /// One address, and nothing beside it.
    pub(crate) fn only(listen: SocketAddr) -> Self {
        Self { listen, websocket: None, metrics: None, control: None, seen: None, wills: None }
    }

    fn of(ward: &Ward, args: &GuardArgs) -> Result<Self, Problem> {
        let settings = &ward.settings.guard;
        let loopback = SocketAddr::from((Ipv4Addr::LOCALHOST, 8883));
        let places = Self {
            listen: args.listen.or(settings.listen).unwrap_or(loopback),
            websocket: args.listen_websocket.or(settings.listen_websocket),
            metrics: args.metrics.or(settings.metrics),
            control: Some(ward.dir.join(SOCKET)),
            seen: Some(ward.dir.join(SEEN)),
            wills: Some(ward.dir.join(WILLS)),
        };
        stays_inside(ward, "guard", &[Some(places.listen), places.websocket])?;
        Ok(places)
    }
}

/// A server of a rehearsal stays on loopback.
pub(super) fn stays_inside(ward: &Ward, what: &str, listens: &[Option<SocketAddr>]) -> Result<(), Problem> {
    let outside = listens.iter().flatten().find(|each| !each.ip().is_loopback());
    match outside.filter(|_| ward.record.rehearsal) {
        Some(address) => Err(Problem::refused(format!("the {what} of a rehearsal does not listen on {address}"))
            .because("anybody who can set its clock could bring ended credentials back to life")
            .next(format!("choose 127.0.0.1:{}", address.port()))),
        None => Ok(()),
    }
}

/// What a server of this role goes by: the folder of its post, if one is named, or the ward's.
pub(super) fn open_home(
    context: &Context<'_>,
    post: Option<&Path>,
    role: PostRole,
) -> Result<(Ward, Option<OpenPost>), Problem> {
    let Some(dir) = post else { return Ok((context.ward()?, None)) };
    if context.is_ward_named {
        return Err(Problem::usage("a post is run without the ward's folder").next("leave --ward away"));
    }
    let (ward, post) = tidy_warden_ward::post::open(dir)?;
    if post.role != role {
        let (is, not) = (post.role.as_str(), role.as_str());
        return Err(Problem::refused(format!("the post `{}` is a {is}, and no {not}", post.name))
            .next(format!("name a {not}'s folder")));
    }
    Ok((ward, Some(post)))
}

/// Where a guard has its settings, keys and store from: the ward's folder, or a post's.
pub(super) struct Home<'a> {
    context: &'a Context<'a>,
    post: Option<PathBuf>,
    passphrase_file: Option<PathBuf>,
}

impl<'a> Home<'a> {
    fn of(context: &'a Context<'a>, args: &GuardArgs) -> Self {
        Self { context, post: args.post.clone(), passphrase_file: args.post_passphrase_file.clone() }
    }

    fn open(&self) -> Result<(Ward, Option<OpenPost>), Problem> {
        open_home(self.context, self.post.as_deref(), PostRole::Guard)
    }

    /// What opens the guard's own key: that of the ward's folder, or the post's own and no other.
    pub(super) fn passphrase(&self) -> Result<Passphrase, Problem> {
        match &self.post {
            None => self.context.passphrase("the guard's TLS key"),
            Some(_) => passphrase::of_post(self.passphrase_file.as_deref(), Typed::Once, self.context.console),
        }
    }
}

pub(crate) fn run(context: &Context<'_>, args: &GuardArgs) -> Result<Exit, Problem> {
    let home = Home::of(context, args);
    let (ward, post) = home.open()?;
    let places = Places::of(&ward, args)?;
    let given: Option<BrokerAddress> = match &args.broker {
        Some(text) => Some(
            text.parse().map_err(|expected| Problem::usage(format!("`{text}` is not a broker")).because(expected))?,
        ),
        None => None,
    };
    let address = given.clone().or_else(|| ward.settings.guard.broker.clone()).ok_or_else(|| {
        Problem::usage("the guard needs a broker to pass messages to")
            .next("--broker HOST:PORT, --broker builtin, or [guard] broker in ward.toml")
    })?;
    // Before its certificate is read, so that one that comes after it is heard of.
    let servers = match &post {
        Some(post) => post.servers,
        None => Changes::from(ward.store.head()?).shown(),
    };
    let key = live::own_key(&home, &ward)?;
    let form = args.log.unwrap_or(if std::io::stderr().is_terminal() { LogForm::Text } else { LogForm::Json });
    let mut warnings = Vec::new();
    warnings.extend(raise_handles(ward.settings.guard.max_sessions));
    if ward.store.edition(None)?.is_none() {
        warnings.push("no policy edition is adopted, so nobody may connect: policy adopt".to_owned());
    }
    let runtime = tokio::runtime::Runtime::new().map_err(|error| Problem::failed("cannot start").because(error))?;
    let observer = args.observe.as_deref().map(log::observer).transpose()?;
    let log = Log::start(form, ward.clock.clone());
    // In the form of the log: whoever reads it as JSON gets nothing else.
    warnings.into_iter().for_each(|what| log.sink()(Event::Trouble { what }));
    let ended = runtime.block_on(async {
        let inside = if address == BrokerAddress::Builtin { Some(start_broker().await?) } else { None };
        let upstream = live::upstream(&ward, address, inside.as_ref())?;
        let guard = bind(&ward, post.as_ref(), places, upstream, &key, (log.sink(), observer)).await?;
        let adopted = post.as_ref().map(|post| {
            let mut adopted = guard.adopted();
            // Others may have been adopted since this post read its own.
            if *adopted.borrow() != post.settings {
                adopted.mark_changed();
            }
            adopted
        });
        let mut renewed = guard.renewed();
        if *renewed.borrow() != servers {
            renewed.mark_changed();
        }
        let own = (key, ward.settings.any_token_login());
        serve(&home, guard, adopted, (given, inside.as_ref()), own, renewed, log.sink()).await?;
        Ok(Exit::Done)
    });
    // Sessions that did not end in time end here; then nobody writes to the log any more.
    signals::end(runtime);
    log.finish();
    ended
}

/// Runs until a signal says stop; another makes it read its settings anew.
async fn serve(
    home: &Home<'_>,
    guard: Guard,
    mut adopted: Option<watch::Receiver<u32>>,
    (given, inside): (Option<BrokerAddress>, Option<&Broker>),
    (mut key, mut anonymous): (SoftwareKey, bool),
    mut renewed: watch::Receiver<i64>,
    sink: Sink,
) -> Result<(), Problem> {
    let run = |stopped, reloads| async {
        guard.run(ready(stopped), reloads).await;
        Ok(())
    };
    let reload = |changed| match changed {
        // Settings are taken when somebody says so, and not because a certificate is another.
        Some(Anew::Servers) => own_anew(home, &mut key, anonymous),
        None | Some(Anew::Settings) => {
            let config = reload(home, given.as_ref(), inside, &mut key)?;
            anonymous = config.settings.any_token_login();
            Ok(Reload::All(Box::new(config)))
        }
    };
    let changed = async || {
        tokio::select! {
            // To the ward's own folder a person says by a signal that settings were adopted.
            () = heard(adopted.as_mut()) => Anew::Settings,
            () = heard(Some(&mut renewed)) => Anew::Servers,
        }
    };
    signals::serve(run, changed, reload, &|what| sink(Event::Trouble { what })).await
}

/// What is to be taken anew.
#[derive(Debug, Clone, Copy)]
enum Anew {
    /// The settings of all machines.
    Settings,
    /// Perhaps its own certificate; some server's is another.
    Servers,
}

/// The guard's own certificate as it is now, for the key that it has.
fn own_anew(home: &Home<'_>, key: &mut SoftwareKey, anonymous: bool) -> Result<Reload, Problem> {
    let (ward, post) = home.open()?;
    let own = live::own_certificate(&ward, post.as_ref(), "guard")?;
    if *key.public_key() != own.public_key {
        *key = live::own_key(home, &ward)?;
    }
    Ok(Reload::Own(live::tls(&ward, "guard", own, key, anonymous)?))
}

/// Ends when something is told; never if nobody is there to tell it.
async fn heard<T>(told: Option<&mut watch::Receiver<T>>) {
    let is_told = match told {
        Some(told) => told.changed().await.is_ok(),
        None => false,
    };
    if !is_told {
        std::future::pending::<()>().await;
    }
}

fn reload(
    home: &Home<'_>,
    given: Option<&BrokerAddress>,
    inside: Option<&Broker>,
    key: &mut SoftwareKey,
) -> Result<tidy_warden_guard::LiveConfig, Problem> {
    let (ward, post) = home.open()?;
    let address = given.cloned().or_else(|| ward.settings.guard.broker.clone());
    let address = address.ok_or_else(|| Problem::usage("[guard] broker is no longer set in ward.toml"))?;
    let upstream = live::upstream(&ward, address, inside)?;
    if *key.public_key() != live::own_certificate(&ward, post.as_ref(), "guard")?.public_key {
        *key = live::own_key(home, &ward)?;
    }
    live::config(&ward, post.as_ref(), upstream, key)
}

/// Takes as many file handles as the system gives, and says if they are too few: each session needs two.
fn raise_handles(sessions: u32) -> Option<String> {
    let limit = getrlimit(Resource::Nofile);
    // Where raising fails, the check below tells of it.
    let _ = setrlimit(Resource::Nofile, Rlimit { current: limit.maximum, maximum: limit.maximum });
    let wanted = u64::from(sessions) * 2 + HANDLES;
    let current = getrlimit(Resource::Nofile).current.filter(|current| *current < wanted)?;
    let room = current.saturating_sub(HANDLES) / 2;
    Some(format!(
        "the system gives this process {current} file handles, enough for {room} of {sessions} sessions; raise LimitNOFILE \
         (systemd) or ulimit -n to {wanted}, or lower max_sessions"
    ))
}

async fn start_broker() -> Result<Broker, Problem> {
    Broker::start().await.map_err(|error| Problem::failed("cannot start the broker inside").because(error))
}

/// A guard of this ward that listens.
pub(crate) async fn bind(
    ward: &Ward,
    post: Option<&OpenPost>,
    places: Places,
    upstream: tidy_warden_guard::Upstream,
    key: &SoftwareKey,
    (sink, observer): (Sink, Option<Observer>),
) -> Result<Guard, Problem> {
    let config = Config {
        listen: places.listen,
        websocket: places.websocket,
        metrics: places.metrics,
        control: places.control,
        seen: places.seen,
        wills: places.wills,
        live: live::config(ward, post, upstream, key)?,
        instance: Instance {
            name: match post {
                Some(post) => post.name.clone(),
                None => parse(PostRole::Guard.as_str())?,
            },
            actor: if post.is_some() { ward.actor.clone() } else { PostRole::Guard.as_str().to_owned() },
            version: env!("CARGO_PKG_VERSION"),
        },
        clock: std::sync::Arc::new(ward.clock.clone()),
        sink,
        observer,
    };
    let stores = Stores {
        reader: ward.guard_store(Some(STORE_PATIENCE))?,
        follower: ward.guard_store(Some(STORE_PATIENCE))?,
        writer: ward.guard_store(None)?,
    };
    Guard::bind(config, stores).await.map_err(|error| match error {
        GuardError::Store(error) => error.into(),
        GuardError::Listen { .. } => {
            Problem::failed(error.to_string()).next("stop what uses the port, or choose another with --listen")
        }
        GuardError::Seen { .. } => Problem::failed("the guard cannot start").because(error).next(UNREADABLE_SEEN),
        other => Problem::failed("the guard cannot start").because(other),
    })
}

pub(crate) use live::{config, upstream};
