//! `post`: guards and desks on machines of their own.

use std::collections::BTreeMap;

use serde_json::json;
use tidy_warden_core::id::PostName;
use tidy_warden_core::post::PostRole;
use tidy_warden_core::time::UnixTime;
use tidy_warden_guard::SAY;
use tidy_warden_store::{ERRANDS, PostRecord, PostState, ServerRefusal, VOUCHERS};
use tidy_warden_ward::keys::Openers;
use tidy_warden_ward::post::{self, NewPost, POST};
use tidy_warden_ward::server::{self, Unrenewed, due};

use super::Context;
use crate::args::{AddPostArgs, PostCommand, RoleArg};
use crate::console::Listing;
use crate::edge::parse;
use crate::passphrase::{self, Typed};
use crate::problem::{Exit, Problem};

/// After how many of the times at which it should say how it is an instance counts as silent.
const MISSED: u64 = 3;

pub(crate) fn run(context: &Context<'_>, command: &PostCommand) -> Result<Exit, Problem> {
    match command {
        PostCommand::Add(args) => add(context, args),
        PostCommand::List => list(context),
        PostCommand::Renew { name, because } => renew(context, name.as_deref(), because.text()),
        PostCommand::Retire { name, yes, because } => retire(context, &parse(name)?, *yes, because.text()),
    }
}

fn add(context: &Context<'_>, args: &AddPostArgs) -> Result<Exit, Problem> {
    let console = context.console;
    let mut ward = context.ward()?;
    let passphrase = passphrase::of_post(args.post_passphrase_file.as_deref(), Typed::Twice, console)?;
    let role = match args.role {
        RoleArg::Guard => PostRole::Guard,
        RoleArg::Desk => PostRole::Desk,
    };
    let new = NewPost { name: parse(&args.name)?, role, host: &args.host, out: &args.out, passphrase: &passphrase };
    let cause = ward.cause(args.because.text());
    let adopted_before = ward.store.adopted_settings()?.is_some();
    let added = post::add(&mut ward, &new, &context.secrets(), &cause)?;
    if !adopted_before {
        console.note("adopted ward.toml as the settings of all machines; what changes there counts when it is adopted: settings adopt");
    }
    let dir = args.out.display();
    let certificate = &added.certificate;
    let value = json!({
        "name": added.name, "role": role.as_str(), "host": added.host, "login": added.login, "dir": dir.to_string(),
        "serial": certificate.serial.to_string(), "ends": certificate.not_after,
    });
    let text = format!(
        "post         {}\nrole         {}\nhost         {}\nlogin        {}\ncertificate  {}, ends {}\nfolder       {dir}\n",
        added.name,
        role.as_str(),
        added.host,
        added.login,
        certificate.serial,
        certificate.not_after.date(),
    );
    console.show("tidy-warden/post/1", value, &text)?;
    console.note(format!(
        "next: give it its role in the database: store roles --out roles.sql, then: psql -d {} -f roles.sql\n      \
         bring {dir} to its machine, set [{1}] in its {POST}, and run it there:\n      \
         tidy-warden {1} --post {dir} --post-passphrase-file FILE",
        database(&ward),
        role.as_str(),
    ));
    if role == PostRole::Desk {
        console.warn(format!(
            "{dir}/keys has the keys of the authorities that sign for devices, locked with the post's passphrase: whoever takes over its \
             machine can certify devices, until these authorities are retired"
        ));
    }
    Ok(Exit::Done)
}

/// The name of the ward's database.
fn database(ward: &crate::ward::Ward) -> String {
    ward.settings.store.database.as_ref().map(|address| address.database.clone()).unwrap_or_default()
}

/// How an instance is, in a word.
fn state(post: Option<&PostRecord>, said: Option<&PostState>, now: UnixTime) -> &'static str {
    let silent = i64::try_from(SAY.as_secs() * MISSED).unwrap_or(i64::MAX);
    match (post, said) {
        (Some(post), _) if post.retired.is_some() => "retired",
        (_, None) => "never seen",
        (_, Some(said)) if now.since(said.seen) > silent => "silent",
        _ => "up",
    }
}

/// How long ago, for people.
pub(super) fn ago(seconds: i64) -> String {
    match seconds {
        ..=1 => "now".to_owned(),
        2..=119 => format!("{seconds} s ago"),
        120..=7_199 => format!("{} min ago", seconds / 60),
        _ => format!("{} h ago", seconds / 3_600),
    }
}

fn list(context: &Context<'_>) -> Result<Exit, Problem> {
    let ward = context.ward()?;
    let now = ward.now();
    let (posts, states, head) = ward.store.view(|view| Ok((view.posts()?, view.post_states()?, view.head()?)))?;
    let (servers, authorities) = (ward.store.servers()?, ward.store.authorities()?);
    let mut all: BTreeMap<PostName, (Option<PostRecord>, Option<PostState>)> = BTreeMap::new();
    for post in posts {
        let name = post.name.clone();
        all.entry(name).or_default().0 = Some(post);
    }
    for said in states {
        let name = said.name.clone();
        all.entry(name).or_default().1 = Some(said);
    }
    // Those of the ward's own folder have a certificate from the beginning.
    for server in servers.iter().filter(|server| ![ERRANDS, VOUCHERS].contains(&server.name.as_str())) {
        all.entry(parse(&server.name)?).or_default();
    }
    let (mut items, mut rows) = (Vec::new(), Vec::new());
    for (name, (post, said)) in &all {
        let state = state(post.as_ref(), said.as_ref(), now);
        // Those that work in the ward's own folder have no record; their names say what they are.
        let role = post.as_ref().map_or(name.as_str(), |post| post.role.as_str());
        let certificate = servers.iter().find(|server| server.name == name.as_str()).map(|server| &server.certificate);
        let certificate = certificate.or(post.as_ref().map(|post| &post.certificate));
        let is_due = certificate.is_some_and(|own| server::is_due(own, &authorities, now)) && state != "retired";
        let behind = said.as_ref().map(|said| head.number.saturating_sub(said.change));
        items.push(json!({
            "name": name, "role": role, "state": state, "host": post.as_ref().map(|post| &post.host),
            "login": post.as_ref().map(|post| &post.login), "ends": certificate.map(|own| own.not_after),
            "renewal_due": is_due,
            "retired": post.as_ref().and_then(|post| post.retired), "version": said.as_ref().map(|said| &said.version),
            "address": said.as_ref().map(|said| &said.address), "edition": said.as_ref().map(|said| said.edition),
            "change": said.as_ref().map(|said| said.change), "behind": behind,
            "sessions": said.as_ref().map(|said| said.sessions), "since": said.as_ref().map(|said| said.since),
            "seen": said.as_ref().map(|said| said.seen),
        }));
        let told = |tell: &dyn Fn(&PostState) -> String| said.as_ref().map_or_else(|| "-".to_owned(), tell);
        rows.push(vec![
            name.to_string(),
            role.to_owned(),
            state.to_owned(),
            told(&|said| said.address.clone()),
            told(&|said| said.version.clone()),
            told(&|said| said.edition.to_string()),
            told(&|said| match head.number.saturating_sub(said.change) {
                ..=0 => said.change.to_string(),
                behind => format!("{} ({behind} behind)", said.change),
            }),
            told(&|said| said.sessions.to_string()),
            told(&|said| said.since.to_string()),
            told(&|said| ago(now.since(said.seen))),
            certificate.map_or_else(
                || "-".to_owned(),
                |own| format!("{}{}", own.not_after.date(), if is_due { ", due" } else { "" }),
            ),
        ]);
    }
    let columns =
        ["name", "role", "state", "address", "version", "edition", "change", "sessions", "since", "seen", "ends"];
    context.console.list(Listing {
        schema: "tidy-warden/posts/1",
        key: "posts",
        items,
        columns: columns.map(str::to_owned).to_vec(),
        rows,
        empty: "the ward has no guard, no desk and no post",
    })?;
    Ok(Exit::Done)
}

fn renew(context: &Context<'_>, name: Option<&str>, because: Option<&str>) -> Result<Exit, Problem> {
    let console = context.console;
    let mut ward = context.ward()?;
    let (authorities, now) = (ward.store.authorities()?, ward.now());
    let mut wanted = ward.store.servers()?;
    match name {
        Some(name) => {
            wanted.retain(|server| server.name == name);
            if wanted.is_empty() {
                return Err(Problem::not_found(format!("there is no guard, desk or post `{name}` that is in use"))
                    .next("post list shows those that there are"));
            }
        }
        None => wanted.retain(|server| server::is_due(&server.certificate, &authorities, now)),
    }
    let (mut items, mut text, mut failed) = (Vec::new(), String::new(), Vec::new());
    if !wanted.is_empty() {
        let service = ward.service()?;
        let signer = context.secrets().signer(&ward, &service)?;
        let cause = ward.cause(because);
        let settings = ward.settings.clone();
        for server in &wanted {
            let next = server::renew(&mut ward.store, &settings, (&service, &*signer), server, name.is_some(), &cause);
            let next = match next.map_err(|error| unrenewed(&server.name, error)) {
                Ok(next) => next,
                // The others get theirs all the same.
                Err(problem) if wanted.len() > 1 => {
                    failed.push(problem.in_one_line());
                    continue;
                }
                Err(problem) => return Err(problem),
            };
            items.push(json!({
                "name": server.name, "serial": next.serial.to_string(), "ends": next.not_after, "due": due(&next),
            }));
            text.push_str(&format!(
                "gave {} its next certificate {}, which ends {}\n",
                server.name,
                next.serial,
                next.not_after.date()
            ));
        }
    }
    let none = "no certificate of a guard, desk or post is due";
    let text = if wanted.is_empty() { format!("{none}\n") } else { text };
    console.show("tidy-warden/posts-renewed/1", json!({ "posts": items, "failed": failed }), &text)?;
    if !items.is_empty() {
        console.note("a guard or desk that runs shows it within seconds, and keeps its sessions");
    }
    failed.iter().for_each(|why| console.note(why));
    Ok(if failed.is_empty() { Exit::Done } else { Exit::Partly })
}

/// Why a server has no next certificate, and what helps.
fn unrenewed(name: &str, why: Unrenewed) -> Problem {
    let refused =
        |why: &dyn std::fmt::Display| Problem::refused(format!("`{name}` has no next certificate")).because(why);
    match why {
        Unrenewed::Store(error) => error.into(),
        Unrenewed::AuthorityEnds { .. } => refused(&why),
        Unrenewed::Refused(ServerRefusal::Overtaken { .. }) => refused(&why).next("look at post list"),
        other => refused(&other),
    }
}

fn retire(context: &Context<'_>, name: &PostName, yes: bool, because: Option<&str>) -> Result<Exit, Problem> {
    let console = context.console;
    let mut ward = context.ward()?;
    let posts = ward.store.posts()?;
    let post = posts.iter().find(|post| post.name == *name).ok_or_else(|| {
        Problem::not_found(format!("there is no post `{name}`")).next("post list shows those that there are")
    })?;
    console.note(format!(
        "{name} ({}, {}) can do nothing more on this ward; its certificate {} goes on the revocation list\nwhoever has its folder \
         has read what it could read: the fleet's devices, certificates and policies",
        post.role.as_str(),
        post.host,
        post.certificate.serial
    ));
    if post.role == PostRole::Desk {
        console.warn(
            "its folder has the keys of the authorities that sign for devices: if anybody may have had it with its passphrase, replace them \
             (authority add NAME --replaces OLD, then authority retire OLD)",
        );
    }
    console.confirm(&format!("Retire {name}?"), yes)?;
    let because = console.reason(because)?;
    let cause = ward.cause(Some(&because));
    let retired = ward.store.retire_post(name, &cause)?.map_err(|refusal| Problem::refused(refusal.to_string()))?;
    let value = json!({ "name": name, "serial": retired.certificate.serial.to_string(), "retired": retired.retired });
    console.did("tidy-warden/post-retired/1", value, format!("retired {name}"))?;
    console.note(format!(
        "next: end its role in the database: store roles --out roles.sql, then: psql -d {} -f roles.sql\n      \
         publish the list of the authority for services: crl --authority service --out service.crl.pem",
        database(&ward)
    ));
    Ok(Exit::Done)
}
