//! `passphrase share` and `passphrase combine`: a passphrase of the roots that only several people have together.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

use serde_json::json;
use tidy_warden_core::share::{self, BadShare, MAX_TEXT, Share};
use tidy_warden_ward::clock::SystemRandom;
use tidy_warden_ward::keys::Passphrase;
use tidy_warden_ward::relock::{self, Opens};
use zeroize::Zeroizing;

use super::whose;
use crate::args::{KeysOf, SharePassphraseArgs};
use crate::commands::Context;
use crate::console::counted;
use crate::files::{self, Access, PendingFolder};
use crate::problem::{Exit, Problem};
use crate::ward::Ward;

/// What the folder that is being written is told apart by.
const SUFFIX: &str = "shares";

fn refused() -> Problem {
    Problem::refused("the passphrase was not shared")
}

pub(super) fn share(context: &Context<'_>, args: &SharePassphraseArgs) -> Result<Exit, Problem> {
    let console = context.console;
    let mut ward = context.ward()?;
    if args.out.symlink_metadata().is_ok() {
        return Err(refused()
            .because(format!("{} exists already", args.out.display()))
            .next("name another folder: --out DIR"));
    }
    let (secret, shares) =
        share::split(args.need, args.people, &mut SystemRandom).map_err(|why| Problem::usage(why.to_string()))?;
    // What the people will have is tried before anything is locked with it.
    let least = usize::from(args.need);
    for some in [&shares[..least], &shares[shares.len() - least..]] {
        let read: Result<Vec<Share>, BadShare> = some.iter().map(|each| each.to_text().parse()).collect();
        if read.and_then(|read| share::combine(&read)).as_ref() != Ok(&secret) {
            return Err(Problem::failed("the passphrase was not shared").because("its shares do not give it again"));
        }
    }
    let new: Passphrase = Zeroizing::new(secret.as_bytes().to_vec());
    let old = context.passphrase("the roots' keys as they are")?;
    let (only, wanted) = roots(&ward, &old)?;
    let question = format!("Lock {} anew, so that {} of {} people open it?", wanted.join(", "), args.need, args.people);
    console.confirm(&question, args.yes)?;
    // First the shares, then the lock that they open: the other way round a moment could be the end of the root.
    hand_out(&ward, args, &shares, &wanted)?;
    let set = shares.first().map(Share::set_name).unwrap_or_default();
    let cause = ward.cause(args.because.text());
    let (dir, cost) = (ward.dir.clone(), ward.lock_cost());
    let store = &mut ward.store;
    let relocked = relock::change(&dir, (&old, &new), Some(&only), cost, &mut |names| {
        let detail = json!({ "keys": names, "need": args.need, "people": args.people, "set": set });
        store.record_note("passphrase.share", "the roots' keys", &detail.to_string(), &cause)?;
        Ok(())
    });
    let done = relocked
        .map_err(|problem| problem.or_next(&format!("remove {}: its shares open nothing", args.out.display())))?;
    let text = format!(
        "locked   {}: {}\nshares   {} in {}\nneeded   {}\nset      {set}\n",
        counted(done.opened.len(), "key"),
        done.opened.join(", "),
        args.people,
        args.out.display(),
        args.need
    );
    let value = json!({
        "keys": done.opened, "people": args.people, "need": args.need, "set": set, "folder": args.out.display().to_string(),
    });
    console.show("tidy-warden/passphrase-shared/1", value, &text)?;
    console.note(
        "give each person one file, and remove the folder; with too few of them left the root cannot sign any more",
    );
    console.note("to use it: passphrase combine --share FILE ... --out root.txt, then --root-passphrase-file root.txt");
    console.note("whoever has a copy of the ward from before opens it with the old one: take copies and backups anew");
    Ok(Exit::Done)
}

/// The names of the roots' keys that are here, and of those of them that the passphrase opens.
fn roots(ward: &Ward, passphrase: &Passphrase) -> Result<(BTreeSet<String>, Vec<String>), Problem> {
    let Opens { opened, closed } = relock::opens(&ward.dir, passphrase)?;
    let mut only = BTreeSet::new();
    for name in opened.iter().chain(&closed) {
        if whose(ward, name)? == KeysOf::Root {
            only.insert(name.clone());
        }
    }
    let wanted: Vec<String> = opened.into_iter().filter(|name| only.contains(name)).collect();
    match wanted.is_empty() {
        true => Err(refused()
            .because("this passphrase opens no root's key in the ward")
            .next("--passphrase-file FILE with the root's own; a root that is kept away is not in the ward")),
        false => Ok((only, wanted)),
    }
}

/// Writes a file for each person.
fn hand_out(ward: &Ward, args: &SharePassphraseArgs, shares: &[Share], keys: &[String]) -> Result<(), Problem> {
    let failed = |error: std::io::Error| Problem::file("write", &args.out, &error);
    // What a process left there that was killed opens nothing.
    match std::fs::remove_dir_all(files::partial(&args.out, SUFFIX)) {
        Err(error) if error.kind() != std::io::ErrorKind::NotFound => return Err(failed(error)),
        _ => {}
    }
    let mut folder = PendingFolder::begin(&args.out, SUFFIX).map_err(failed)?;
    for share in shares {
        let text = Zeroizing::new(format!(
            "# Share {number} of {people} of the passphrase of {keys} of {ward}; any {need} of them open it.\n\
             # Set {set}. Keep it where nobody else finds it.\n{share}\n",
            number = share.number(),
            people = args.people,
            keys = keys.join(", "),
            ward = tidy_warden_core::text::printable(&ward.settings.name),
            need = args.need,
            set = share.set_name(),
            share = *share.to_text()
        ));
        let file = format!("share-{}-of-{}.txt", share.number(), args.people);
        folder.add(&file, text.as_bytes(), Access::Secret).map_err(failed)?;
    }
    folder.sync().and_then(|()| folder.publish()).map_err(failed)
}

pub(super) fn combine(context: &Context<'_>, shares: &[PathBuf], out: &Path) -> Result<Exit, Problem> {
    let mut read: Vec<Share> = Vec::new();
    for path in shares {
        let limit = u64::try_from(MAX_TEXT).unwrap_or(u64::MAX);
        let text = Zeroizing::new(files::read_text(path, limit)?);
        let refused = |why: BadShare| Problem::refused(format!("{} cannot be used", path.display())).because(why);
        read.push(text.parse().map_err(|why| refused(why).next("compare it with what its owner has"))?);
    }
    let secret = share::combine(&read).map_err(|why| {
        let problem = Problem::refused("the shares do not give the passphrase").because(&why);
        match why {
            BadShare::TooFew { .. } => problem.next("ask more of the people for theirs: --share FILE"),
            _ => problem.next("the lines above each share say which belong together"),
        }
    })?;
    let text = Zeroizing::new([secret.as_bytes(), b"\n"].concat());
    files::create(out, &text, Access::Secret).map_err(|error| Problem::file("write", out, &error))?;
    context.console.did(
        "tidy-warden/passphrase-combined/1",
        json!({ "file": out.display().to_string(), "shares": read.len() }),
        format!("wrote {}: the passphrase that was shared; remove it when it was used", out.display()),
    )?;
    Ok(Exit::Done)
}
