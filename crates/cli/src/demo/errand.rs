//! An errand: a device is asked to start anew, checks who asks, and answers.

use std::net::SocketAddr;
use std::time::{Duration, Instant};

use tidy_warden_core::errand::{Outcome, Purpose, State, answer_text, read};
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::time::Span;
use tidy_warden_simulate::Login;
use tidy_warden_ward::errand::{self, ErrandSigner};

use super::Story;
use super::steps::broken;
use crate::edge::parse;
use crate::keys::Secrets;
use crate::passphrase::Passphrase;
use crate::problem::Problem;
use crate::ward::Ward;

/// How long it may take in all.
const PATIENCE: Duration = Duration::from_secs(10);

/// How often the guard's note of the answer is looked for.
const LOOK: Duration = Duration::from_millis(50);

pub(super) async fn restart(
    story: &Story<'_>,
    ward: &mut Ward,
    passphrase: &Passphrase,
    (address, login, name): (SocketAddr, &Login, &str),
) -> Result<(), Problem> {
    let secrets = Secrets::known(story.console, passphrase);
    let id: DeviceId = parse(name)?;
    let signer = ErrandSigner::open(ward, &secrets)?;
    let new = signer.new_errand(&id, Purpose::Restart, "{}".to_owned(), (ward.now(), Span::from_days(7)));
    let cause = ward.cause(Some("its clock is behind"));
    let number = errand::send(&mut ward.store, &signer, &new, &cause)?;
    // It was sent while the device was away.
    let mut device = login.connect(address).await.map_err(broken)?;
    let reserved = ward.settings.guard.reserved.clone();
    let listens = device.subscribe(&reserved.filter(name)).await.map_err(broken)?;
    let came = device.message(PATIENCE).await.map_err(broken)?;
    let came = came.filter(|_| listens.is_ok()).ok_or_else(|| Problem::failed("no errand came"))?;
    let roots = [ward.root()?];
    let text = String::from_utf8_lossy(&came.payload).into_owned();
    let asked = read(&text, &id, &roots, Some(&ward.record.urn), ward.now());
    let asked = asked.map_err(|bad| Problem::failed("the errand is not believed").because(bad))?;
    story.claim(asked.errand.number == number, "the errand that came is the one that was sent")?;
    let answer = answer_text(number, Outcome::Done, None, None);
    let topic = reserved.answer(&id, &id);
    let taken = device.publish(&topic, answer.as_bytes()).await.map_err(broken)?;
    story.claim(taken.is_ok(), "the answer is taken")?;
    let begun = Instant::now();
    loop {
        let cause = ward.cause(None);
        errand::settle(&mut ward.store, None, &cause)?;
        let done = ward.store.errand(number)?.is_some_and(|record| record.state == State::Done);
        if done {
            break;
        }
        story.claim(begun.elapsed() < PATIENCE, "the answer is recorded")?;
        tokio::time::sleep(LOOK).await;
    }
    device.goodbye().await;
    story.tell(
        "errand",
        &format!("{name} was away when it was asked to restart: the guard hands that over, past the broker; it checks the signature and answers"),
    )
}
