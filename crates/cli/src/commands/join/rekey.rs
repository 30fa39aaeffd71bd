//! The next key that a device shares with its ward, in the place of the present one.

use std::path::Path;
use std::time::Instant;

use serde_json::{Value, json};
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::outfit::Connect;
use tidy_warden_core::rekey::request_text;
use tidy_warden_core::shared::SharedKey;
use tidy_warden_core::time::{Clock, Span};
use tidy_warden_join::{Answer, Desk, Place};
use tidy_warden_ward::clock::SystemRandom;
use tidy_warden_ward::files;
use zeroize::Zeroizing;

use super::{MAX_FILE, certificates, unanswered};
use crate::args::JoinArgs;
use crate::clock::WardClock;
use crate::commands::Context;
use crate::edge::parse;
use crate::problem::{Exit, Problem};

/// The largest key file, in octets.
const MAX_KEY: u64 = 4 * 1024;

/// A key and what it is called.
struct Named {
    key: SharedKey,
    kid: String,
}

fn read(text: &str) -> Result<Named, String> {
    let key = SharedKey::from_jwk(text).map_err(|error| error.to_string())?;
    let value: Value = serde_json::from_str(text).map_err(|error| error.to_string())?;
    match value.get("kid").and_then(Value::as_str) {
        Some(kid) => Ok(Named { key, kid: kid.to_owned() }),
        None => Err("it does not say what the key is called (kid)".to_owned()),
    }
}

pub(super) fn run(
    context: &Context<'_>,
    args: &JoinArgs,
    (place, file, connect): (&Place, &Path, &Path),
) -> Result<Exit, Problem> {
    // What is replaced is the file, and not a link to it.
    let whole = std::fs::canonicalize(file).map_err(|error| Problem::file("read", file, &error))?;
    let text = Zeroizing::new(files::read_text(&whole, MAX_KEY)?);
    let own =
        read(&text).map_err(|why| Problem::refused(format!("{} is no shared key", file.display())).because(why))?;
    let unread = |why: &dyn std::fmt::Display| {
        Problem::refused(format!("{} does not say whose device it is", connect.display()))
            .because(why)
            .next("name the connect.json of an outfit; without one, where the ward is: outfit show DEVICE --as connect --out FILE")
    };
    let told: Connect = serde_json::from_slice(&files::read(connect, MAX_FILE)?).map_err(|error| unread(&error))?;
    let device: DeviceId = told.device.parse().map_err(|error| unread(&error))?;
    let ward = told.errands.ok_or_else(|| unread(&"it names no ward: it is of before there were errands"))?.ward;
    let beside = connect.with_file_name("root.pem");
    let desk = Desk::new(place.clone(), certificates(args.root.as_deref().unwrap_or(&beside))?);
    let (clock, wait): (WardClock, Span) = (WardClock::of(true)?, parse(&args.wait)?);
    let until = Instant::now() + std::time::Duration::from_secs(u64::try_from(wait.seconds()).unwrap_or(0));
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build();
    let runtime = runtime.map_err(|error| Problem::failed("cannot begin").because(error))?;
    let answer = runtime.block_on(async {
        loop {
            // Each is good for a short time. A device of a rehearsal has the clock of that; whoever sets another is refused by the desk.
            let now = clock.now();
            let request = request_text((&device, &ward), (&own.key, &own.kid), now, &mut SystemRandom);
            match desk.next_key(request).await {
                Ok(Answer::Later(wait, _) | Answer::Wait(wait)) if Instant::now() + wait <= until => {
                    tokio::time::sleep(wait).await;
                }
                other => break other,
            }
        }
    });
    let refused = || Problem::refused(format!("the desk at {place} refused"));
    let jwk = match answer.map_err(|error| unanswered(place, &error))? {
        Answer::Given(jwk) => Zeroizing::new(jwk),
        Answer::TooSoon(why) => {
            let value = json!({ "replaced": false, "kid": own.kid });
            context.console.did("tidy-warden/key-renewed/1", value, format!("nothing to do yet: {why}"))?;
            return Ok(Exit::Done);
        }
        Answer::Later(_, why) => return Err(Problem::failed(format!("the desk at {place} is busy")).because(why)),
        Answer::Wait(_) => return Err(refused().because("it says to wait for a person, which nobody does for a key")),
        Answer::Refused(404, _) => {
            return Err(refused()
                .because("devices replace no keys there")
                .next("where the ward is: renews_keys = \"device\" for the kind in ward.toml, and its own desk"));
        }
        Answer::Refused(_, why) => {
            return Err(refused().because(why).next("see in the desk's log why; the key in the file goes on as it is"));
        }
    };
    let unusable = |why: &dyn std::fmt::Display| {
        Problem::failed(format!("what the desk at {place} answered cannot be used")).because(why)
    };
    let text = std::str::from_utf8(&jwk).map_err(|error| unusable(&error))?;
    let next = read(text).map_err(|why| unusable(&why))?;
    if next.kid == own.kid || next.key == own.key {
        return Err(unusable(&"it is the key that was shown"));
    }
    files::replace_secret(&whole, &jwk).map_err(|error| Problem::file("write", file, &error))?;
    let value = json!({ "replaced": true, "kid": next.kid, "before": own.kid });
    let note = format!("{}: the key {} in the place of {}", file.display(), next.kid, own.kid);
    context.console.did("tidy-warden/key-renewed/1", value, note)?;
    Ok(Exit::Done)
}
