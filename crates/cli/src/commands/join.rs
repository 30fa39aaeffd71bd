//! `join`: the other end of the desk, on a device. It knows no ward.

mod key;
mod rekey;

use std::collections::BTreeMap;
use std::path::Path;
use std::time::{Duration, Instant};

use data_encoding::HEXLOWER_PERMISSIVE;
use serde_json::json;
use tidy_warden_core::asking;
use tidy_warden_core::certificate::Certificate;
use tidy_warden_core::fact::{Fact, FactName};
use tidy_warden_core::key::{KeyUri, NewKey};
use tidy_warden_core::request::Request;
use tidy_warden_core::text::nearest;
use tidy_warden_core::time::{Clock, Span};
use tidy_warden_join::{Answer, Desk, JoinError, Place, Proof, hardware};
use tidy_warden_ward::edge;
use tidy_warden_ward::files::{self, Access, PendingFolder};

use self::key::{DeviceKey, Kept, Pins};
use super::Context;
use crate::args::JoinArgs;
use crate::clock::WardClock;
use crate::console::Console;
use crate::edge::parse;
use crate::problem::{Exit, Problem};

/// The largest file that is read here, in octets.
const MAX_FILE: u64 = 1 << 20;

/// The files of an outfit.
const PARTS: [&str; 6] = [key::KEY, key::URI, "device.pem", "chain.pem", "root.pem", "connect.json"];

/// What tells the folder that is filled beside its place apart.
const SUFFIX: &str = "join";

pub(crate) fn run(context: &Context<'_>, args: &JoinArgs) -> Result<Exit, Problem> {
    let console = context.console;
    let facts = facts(args)?;
    if args.facts {
        let told: BTreeMap<&str, &str> = facts.iter().map(|(name, fact)| (name.as_str(), fact.value())).collect();
        let lines: String =
            facts.iter().map(|(name, fact)| format!("{:<8}{}\n", name.as_str(), fact.value())).collect();
        let text =
            if lines.is_empty() { "the hardware tells no serial number and no single address\n" } else { &lines };
        console.show("tidy-warden/hardware/1", json!({ "facts": told }), text)?;
        return Ok(Exit::Done);
    }
    if let (Some(place), Some(file), Some(connect)) = (&args.desk, &args.renew_key, &args.connect) {
        return rekey::run(context, args, (place, file, connect));
    }
    let (Some(place), Some(out)) = (&args.desk, &args.out) else {
        return Err(Problem::usage("join needs the address of a desk and --out DIR"));
    };
    // Only the ward knows what facts it has of its own: a slip of the pen is not heard there.
    for name in facts.keys().filter(|name| matches!(name, FactName::Own(_))) {
        let near = nearest(name.as_str(), FactName::BUILT_IN.iter().map(FactName::as_str));
        let meant = near.map(|near| format!("; did you mean `{near}`?")).unwrap_or_default();
        console.note(format!("`{name}` counts if the ward declares such a fact, and is not heard otherwise{meant}"));
    }
    // What is exchanged is the folder, and not a link to it.
    let whole = if args.renew { std::fs::canonicalize(out).ok() } else { None };
    let out = whole.as_deref().unwrap_or(out);
    let root = root(args, out)?;
    let wait: Span = parse(&args.wait)?;
    let wait = Duration::from_secs(u64::try_from(wait.seconds()).unwrap_or(0));
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build();
    let runtime = runtime.map_err(|error| Problem::failed("cannot begin").because(error))?;
    runtime.block_on(async {
        let desk = match root {
            Root::File(roots) => Desk::new(place.clone(), roots),
            Root::Digest(digest) => {
                Desk::with_digest(place.clone(), digest).await.map_err(|error| unanswered(place, &error))?
            }
        };
        let pins = Pins { console, file: context.pin_file.as_deref() };
        let this = Join { console, args, place, out, desk, pins, until: Instant::now() + wait };
        if args.renew { this.renew().await } else { this.join(&facts).await }
    })
}

/// What the device says of itself: what the call says, and what its hardware says besides, unless that is several of a kind.
fn facts(args: &JoinArgs) -> Result<BTreeMap<FactName, Fact>, Problem> {
    let mut all = edge::stated_facts(&args.fact)?;
    let found = hardware::facts(Path::new("/"));
    for fact in &found {
        let is_only = found.iter().filter(|other| other.name() == fact.name()).count() == 1;
        // An EUI-64 and a MAC address are stated in one place, which has room for one of them.
        let is_beside = *fact.name() == FactName::Mac && all.contains_key(&FactName::Eui64);
        if is_only && !is_beside {
            all.entry(fact.name().clone()).or_insert_with(|| fact.clone());
        }
    }
    Ok(all)
}

/// What the desk must lead to.
enum Root {
    File(Vec<Certificate>),
    Digest([u8; 32]),
}

fn root(args: &JoinArgs, out: &Path) -> Result<Root, Problem> {
    let in_outfit = out.join("root.pem");
    match (&args.root, &args.root_sha256) {
        (Some(path), _) => Ok(Root::File(certificates(path)?)),
        (None, Some(hex)) => {
            let digest = HEXLOWER_PERMISSIVE.decode(hex.replace(':', "").as_bytes()).ok();
            let digest = digest.and_then(|digest| <[u8; 32]>::try_from(digest).ok());
            digest.map(Root::Digest).ok_or_else(|| {
                Problem::usage("--root-sha256 is not SHA-256 in hexadecimal")
                    .next("give 64 digits, as `init` tells them")
            })
        }
        // What was brought with the last certificate.
        (None, None) if args.renew => Ok(Root::File(certificates(&in_outfit)?)),
        (None, None) => Err(Problem::usage("whom to believe is not said: anybody could answer at this address")
            .next("give --root FILE, or --root-sha256 HEX")),
    }
}

fn certificates(path: &Path) -> Result<Vec<Certificate>, Problem> {
    let all = Certificate::read_all(&files::read(path, MAX_FILE)?).ok().filter(|all| !all.is_empty());
    all.ok_or_else(|| Problem::refused(format!("{} holds no certificate", path.display())))
}

fn unanswered(place: &Place, error: &JoinError) -> Problem {
    let failed = |what: &str| Problem::failed(format!("the desk at {place} {what}")).because(error);
    match error {
        JoinError::NoRoot | JoinError::Tls(_) => failed("is not the one that is believed")
            .next("compare the root with what `authority list` tells, where the ward is, and the desk's name and clock with this"),
        _ => failed("did not answer").next("see that it runs and can be reached, then repeat this: the key is kept"),
    }
}

struct Join<'a> {
    console: &'a Console,
    args: &'a JoinArgs,
    place: &'a Place,
    out: &'a Path,
    desk: Desk,
    pins: Pins<'a>,
    until: Instant,
}

impl Join<'_> {
    /// The first certificate.
    async fn join(&self, facts: &BTreeMap<FactName, Fact>) -> Result<Exit, Problem> {
        if self.out.symlink_metadata().is_ok() {
            return Err(Problem::refused(format!("{} is there already", self.out.display()))
                .next("join --renew gets the next certificate for it; or name another folder"));
        }
        let uri: Option<KeyUri> = self
            .args
            .key_uri
            .as_deref()
            .map(str::parse)
            .transpose()
            .map_err(|error| Problem::usage("--key-uri names no key on a token").because(error))?;
        let kept = self.kept(uri.as_ref())?;
        let proof = match (&self.args.user, &self.args.secret_file) {
            (Some(user), Some(path)) => {
                Proof::Secret(user.clone(), files::read_text(path, MAX_FILE)?.trim().to_owned())
            }
            _ => Proof::None,
        };
        let request = Request::stating(facts, &*kept.key.signer).map_err(|error| {
            Problem::refused("no request was made").because(error).next("leave it out, or look with join --facts")
        })?;
        let kind = self.args.kind.as_ref().map(|kind| kind.as_str());
        let digest = kept.digest();
        let mut is_told = false;
        loop {
            let answer = self.desk.ask(kind, &request, &proof, false).await;
            let wait = match answer {
                Ok(Answer::Given(leaf)) => return self.deliver(&kept, &leaf, None).await,
                Ok(Answer::Wait(wait)) => {
                    if !is_told {
                        self.console.note(format!(
                            "waits for a person to say yes, who compares this code of the key:\n    {}",
                            asking::code(&digest)
                        ));
                        is_told = true;
                    }
                    wait
                }
                Ok(Answer::Later(wait, why)) if self.has_time(wait) => {
                    self.console.note(format!("the desk says: {why}; asking again in {} s", wait.as_secs()));
                    wait
                }
                Ok(Answer::Later(_, why)) => {
                    return Err(Problem::failed(format!("the desk at {} is busy", self.place))
                        .because(why)
                        .next("repeat this later: the key is kept"));
                }
                Ok(Answer::TooSoon(why) | Answer::Refused(_, why)) => {
                    return Err(Problem::refused(format!("the desk at {} refused", self.place)).because(why).next(
                        "see in the desk's log why; the key is kept, so that it is the same device that asks again",
                    ));
                }
                // Whoever waits for a person waits through an outage as well.
                Err(error) if is_told && self.has_time(RETRY) => {
                    self.console
                        .warn(format!("the desk does not answer: {error}; asking again in {} s", RETRY.as_secs()));
                    RETRY
                }
                Err(error) => return Err(unanswered(self.place, &error)),
            };
            if !self.has_time(wait) {
                // What is left is used: the answer may come in the last moment.
                let left = self.until.saturating_duration_since(Instant::now());
                if left.is_zero() {
                    return self.still_waiting(&digest);
                }
                tokio::time::sleep(left).await;
                continue;
            }
            tokio::time::sleep(wait).await;
        }
    }

    fn has_time(&self, wait: Duration) -> bool {
        Instant::now() + wait <= self.until
    }

    fn still_waiting(&self, digest: &[u8; 32]) -> Result<Exit, Problem> {
        let value = json!({ "joined": false, "waits": true, "code": asking::code(digest) });
        let note = "still waiting for a person; the key is kept: repeat this to look again";
        self.console.did("tidy-warden/join/1", value, note)?;
        Ok(Exit::Partly)
    }

    /// The key that waits, or a new one. A token may take its time.
    fn kept(&self, uri: Option<&KeyUri>) -> Result<Kept, Problem> {
        Kept::at(self.out, self.new_key()?, uri, self.pins)
    }

    fn new_key(&self) -> Result<NewKey, Problem> {
        let key: NewKey = parse(&self.args.key)?;
        match key {
            NewKey::P256 | NewKey::P384 | NewKey::Ed25519 => Ok(key),
            _ => Err(Problem::usage(format!("a device's key cannot be {}", key.as_str()))
                .next("--key p256, p384 or ed25519")),
        }
    }

    /// Refuses where the folder that is exchanged holds anything of somebody else's, which would be gone with it.
    fn holds_nothing_else(&self) -> Result<(), Problem> {
        let failed = |error: std::io::Error| Problem::file("read", self.out, &error);
        for entry in std::fs::read_dir(self.out).map_err(failed)? {
            let name = entry.map_err(failed)?.file_name();
            if !PARTS.iter().any(|part| name.to_str() == Some(part)) {
                return Err(Problem::refused(format!("the outfit {} was not renewed", self.out.display()))
                    .because(format!(
                        "the folder is put in place anew as a whole, and {} is no part of an outfit",
                        name.display()
                    ))
                    .next("move it elsewhere, then repeat this"));
            }
        }
        Ok(())
    }

    /// The next certificate.
    async fn renew(&self) -> Result<Exit, Problem> {
        let own = certificates(&self.out.join("device.pem"))?;
        self.holds_nothing_else()?;
        let leaf = own.first().ok_or_else(|| Problem::failed("there is no certificate in the outfit"))?;
        let key = DeviceKey::of_outfit(self.out, self.pins)?;
        let next = key.next();
        let mut kept = self.kept(next.as_ref())?;
        if kept.key.is_same(&key) {
            // Its certificate is in place already: somebody was killed before this was removed.
            kept.remove()?;
            kept = self.kept(next.as_ref())?;
        }
        let now = WardClock::System.now();
        if leaf.not_after < now {
            kept.key.forget()?;
            kept.remove()?;
            return Err(Problem::refused("the certificate of the outfit cannot be renewed")
                .because(format!("it ended at {}, and it is {now} by this clock", leaf.not_after))
                .next("move the outfit away and join anew: the ward needs an admission for that, or a person who accepts it"));
        }
        let chain = certificates(&self.out.join("chain.pem"))?;
        let proof = proof(leaf, &chain, &key);
        let request = Request::stating(&BTreeMap::new(), &*kept.key.signer)
            .map_err(|error| Problem::failed("no request was made").because(error))?;
        loop {
            match self.desk.ask(None, &request, &proof, true).await {
                Ok(Answer::Given(new)) => return self.deliver(&kept, &new, Some(&key)).await,
                Ok(Answer::TooSoon(why)) => {
                    // One on a token is no secret that lies about: it waits there for its day.
                    if !kept.key.is_on_token() {
                        kept.remove()?;
                    }
                    let value = json!({ "joined": false, "waits": false, "ends": leaf.not_after });
                    self.console.did("tidy-warden/join/1", value, format!("nothing to do yet: {why}"))?;
                    return Ok(Exit::Done);
                }
                Ok(Answer::Later(wait, _) | Answer::Wait(wait)) if self.has_time(wait) => {
                    tokio::time::sleep(wait).await
                }
                Ok(Answer::Later(_, why)) => {
                    return Err(Problem::failed(format!("the desk at {} is busy", self.place)).because(why));
                }
                Ok(Answer::Wait(_)) => return self.still_waiting(&kept.digest()),
                Ok(Answer::Refused(_, why)) => {
                    return Err(Problem::refused(format!("the desk at {} refused", self.place)).because(why).next(
                        format!("the certificate ends on {}; see in the desk's log why", leaf.not_after.date()),
                    ));
                }
                Err(error) => return Err(unanswered(self.place, &error)),
            }
        }
    }

    /// Writes the outfit of a certificate that was given, and looks first whether it is what was asked for.
    async fn deliver(&self, kept: &Kept, leaf: &[u8], before: Option<&DeviceKey>) -> Result<Exit, Problem> {
        let failed = |why: &dyn std::fmt::Display| {
            Problem::failed("the certificate that the desk gave cannot be used").because(why)
        };
        let leaf = Certificate::from_der(leaf).map_err(|error| failed(&error))?;
        if leaf.public_key != *kept.key.signer.public_key() {
            return Err(failed(&"it is for another key"));
        }
        let unanswered = |error: JoinError| unanswered(self.place, &error);
        let chain = chain_of(&leaf, self.desk.authorities().await.map_err(unanswered)?);
        if chain.is_empty() {
            return Err(failed(&"no authority that the desk tells of has signed it"));
        }
        let roots = self.desk.roots_text().await.map_err(unanswered)?;
        let connect = self.desk.connect(&proof(&leaf, &chain, &kept.key)).await.map_err(unanswered)?;
        let connect = serde_json::to_string_pretty(&connect)
            .map_err(|error| Problem::failed("cannot write connect.json").because(error))?;
        let chain: String = chain.iter().map(Certificate::to_pem).collect();
        let written = |error: std::io::Error| Problem::file("write", self.out, &error);
        // Nobody else works here, so what stands there is of somebody who was killed.
        let _ = std::fs::remove_dir_all(files::partial(self.out, SUFFIX));
        let mut folder = match before {
            Some(_) => PendingFolder::instead(self.out, SUFFIX),
            None => PendingFolder::begin(self.out, SUFFIX),
        }
        .map_err(written)?;
        kept.key.add_to(&folder).map_err(written)?;
        let connect = connect + "\n";
        let public =
            [("device.pem", &leaf.to_pem()), ("chain.pem", &chain), ("root.pem", &roots), ("connect.json", &connect)];
        for (name, text) in public {
            folder.add(name, text.as_bytes(), Access::Public).map_err(written)?;
        }
        folder.sync().map_err(written)?;
        match before {
            Some(_) => folder.exchange().map_err(written)?,
            None => folder.publish().map_err(written)?,
        }
        kept.remove()?;
        // What a newer one has replaced; on a token it would stay for ever.
        if let Some(Err(problem)) = before.map(DeviceKey::forget) {
            self.console.warn(problem.in_one_line());
        }
        let value = json!({
            "joined": true, "waits": false, "serial": leaf.serial.to_string(), "fingerprint": leaf.fingerprint.to_string(), "ends": leaf.not_after,
            "outfit": self.out.display().to_string(),
        });
        let note = format!("{}: good until {}; outfit in {}", leaf.subject_text, leaf.not_after, self.out.display());
        self.console.did("tidy-warden/join/1", value, note)?;
        Ok(Exit::Done)
    }
}

/// After how long to ask a desk again that did not answer.
const RETRY: Duration = Duration::from_secs(10);

fn proof(leaf: &Certificate, chain: &[Certificate], key: &DeviceKey) -> Proof {
    let all = std::iter::once(leaf).chain(chain).map(|each| each.der().to_vec());
    Proof::Certificate(all.collect(), key.signer.clone())
}

/// The authorities that lead from a certificate towards its root, without the root.
fn chain_of(leaf: &Certificate, mut authorities: Vec<Certificate>) -> Vec<Certificate> {
    let mut chain: Vec<Certificate> = Vec::new();
    loop {
        let last = chain.last().unwrap_or(leaf);
        let above = authorities.iter().position(|each| {
            each.subject == last.issuer && each.subject != each.issuer && last.is_signed_by(&each.public_key)
        });
        match above {
            // Each is used once, so this ends.
            Some(at) => chain.push(authorities.swap_remove(at)),
            None => return chain,
        }
    }
}
