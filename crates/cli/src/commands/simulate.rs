//! `simulate`: devices that behave and devices that do not, load, and what fleets need.

mod scale;

use std::collections::BTreeMap;
use std::net::{SocketAddr, ToSocketAddrs};
use std::path::Path;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use serde_json::{Value, json};
use tidy_warden_core::time::Span;
use tidy_warden_simulate::load::{Passed, Plan, Publisher, publish};
use tidy_warden_simulate::{BadOutfit, Doing, Happening, Outfit, Tell, outfits};
use tokio::time::Instant;

use crate::args::{LoadArgs, Misdeed, SimulateArgs, SimulateCommand};
use crate::console::{Console, counted, table};
use crate::edge::parse;
use crate::problem::{Exit, Problem};

pub(crate) fn run(console: &Console, args: &SimulateArgs) -> Result<Exit, Problem> {
    let runtime = tokio::runtime::Runtime::new().map_err(|error| Problem::failed("cannot start").because(error))?;
    match (&args.command, &args.outfits) {
        (Some(SimulateCommand::Load(args)), _) => runtime.block_on(load(console, args)),
        (Some(SimulateCommand::Scale(args)), _) => runtime.block_on(scale::run(console, args)),
        (None, Some(folder)) => runtime.block_on(fleet(console, args, folder)),
        (None, None) => Err(Problem::usage("the devices need their outfits").next("--outfits DIR")),
    }
}

/// An outfit that is of no use, told.
pub(super) fn bad_outfit(error: &BadOutfit) -> Problem {
    let problem = match error {
        BadOutfit::Io { .. } => Problem::failed("an outfit cannot be read"),
        _ => Problem::refused("an outfit is of no use"),
    };
    problem.because(error).next("enroll ID --make-key --out DIR writes one")
}

fn read(folder: &Path, count: Option<usize>) -> Result<Vec<Outfit>, Problem> {
    let mut all = outfits(folder).map_err(|error| bad_outfit(&error))?;
    all.retain(|outfit| outfit.key.is_some());
    if all.is_empty() {
        return Err(Problem::not_found(format!("there is no outfit with a key in {}", folder.display()))
            .next("enroll ID --make-key --out DIR writes one"));
    }
    first(all, count, folder)
}

/// The first `count` of them.
fn first(mut all: Vec<Outfit>, count: Option<usize>, folder: &Path) -> Result<Vec<Outfit>, Problem> {
    if let Some(count) = count {
        if count > all.len() {
            let have = counted(all.len(), "outfit");
            return Err(Problem::refused(format!("there are not {count} devices"))
                .because(format!("{} holds {have} with a key", folder.display())));
        }
        all.truncate(count);
    }
    Ok(all)
}

/// Where outfits say that the guard is.
pub(super) fn place_of(outfit: &Outfit) -> Result<SocketAddr, Problem> {
    let (host, port) = (outfit.connect.host.as_str(), outfit.connect.port);
    let unknown = || Problem::failed(format!("the name `{host}` leads nowhere"));
    let mut found = (host, port).to_socket_addrs().map_err(|error| unknown().because(error))?;
    found.next().ok_or_else(unknown)
}

fn length(text: &str) -> Result<Duration, Problem> {
    let span: Span = parse(text)?;
    Ok(Duration::from_secs(u64::try_from(span.seconds()).unwrap_or(0)))
}

/// What devices did, counted; and the refusals, each different one once.
#[derive(Default)]
struct Diary {
    connected: usize,
    published: usize,
    answered: usize,
    ended: usize,
    refused: BTreeMap<(String, String), usize>,
    not_connected: BTreeMap<String, usize>,
}

impl Diary {
    fn note(&mut self, act: Happening) {
        match act {
            Happening::Connected => self.connected += 1,
            Happening::Published(_) => self.published += 1,
            Happening::Answered(_) | Happening::Errand(_) => self.answered += 1,
            Happening::Ended(_) => self.ended += 1,
            Happening::Refused(what, why) => *self.refused.entry((what, why)).or_default() += 1,
            Happening::NotConnected(why) => *self.not_connected.entry(why).or_default() += 1,
        }
    }
}

async fn fleet(console: &Console, args: &SimulateArgs, folder: &Path) -> Result<Exit, Problem> {
    let all = read(folder, args.count)?;
    let (length, every) = (length(&args.length)?, length(&args.every)?);
    let misdeed = args.misbehave.map(|misdeed| match misdeed {
        Misdeed::WrongTopics => tidy_warden_simulate::Misdeed::WrongTopics,
        Misdeed::StolenKey => tidy_warden_simulate::Misdeed::StolenKey,
        Misdeed::DuplicateId => tidy_warden_simulate::Misdeed::DuplicateId,
        Misdeed::SlowReader => tidy_warden_simulate::Misdeed::SlowReader,
    });
    console.note(format!("{} for {}s", counted(all.len(), "device"), length.as_secs()));
    let diary: Arc<Mutex<Diary>> = Arc::default();
    let written = diary.clone();
    let tell: Tell = Arc::new(move |_, act| {
        written.lock().unwrap_or_else(PoisonError::into_inner).note(act);
    });
    let until = Instant::now() + length;
    let mut running = tokio::task::JoinSet::new();
    for (at, outfit) in all.iter().enumerate() {
        let other = Arc::new(all[(at + 1) % all.len()].connect.clone());
        let address = args.at.map_or_else(|| place_of(outfit), Ok)?;
        let doing = Doing { address, every, until, misdeed, other };
        let (outfit, tell) = (outfit.clone(), tell.clone());
        running.spawn(async move {
            let result = tidy_warden_simulate::run(&outfit, &doing, &tell).await;
            result.map_err(|error| (outfit.connect.device.clone(), error.to_string()))
        });
    }
    let stopped = tokio::signal::ctrl_c();
    let mut stopped = std::pin::pin!(stopped);
    loop {
        tokio::select! {
            done = running.join_next() => match done {
                None => break,
                Some(Ok(Err((device, why)))) => {
                    return Err(Problem::refused(format!("`{device}` cannot begin")).because(why));
                }
                Some(_) => {}
            },
            _ = &mut stopped => break,
        }
    }
    running.shutdown().await;
    let diary = diary.lock().unwrap_or_else(PoisonError::into_inner);
    let refusals: Vec<Value> =
        diary.refused.iter().map(|((what, why), count)| json!({ "what": what, "why": why, "count": count })).collect();
    let failures: Vec<Value> =
        diary.not_connected.iter().map(|(why, count)| json!({ "why": why, "count": count })).collect();
    let value = json!({
        "devices": all.len(), "connected": diary.connected, "published": diary.published, "answered": diary.answered,
        "ended": diary.ended, "refused": refusals, "not_connected": failures,
    });
    let mut text = format!(
        "connected   {}\npublished   {}\nanswered    {}\nlost        {}\n",
        diary.connected, diary.published, diary.answered, diary.ended
    );
    for (why, count) in &diary.not_connected {
        text.push_str(&format!("could not connect: {} ({why})\n", counted(*count, "time")));
    }
    for ((what, why), count) in &diary.refused {
        text.push_str(&format!("refused     {count} x {what}\n            {why}\n"));
    }
    console.show("tidy-warden/simulated/1", value, &text)?;
    Ok(Exit::Done)
}

/// What one kind of load came to: rates of the rounds, and the middle of the times to an answer.
struct Figure {
    what: String,
    guard: Rounds,
    direct: Option<Rounds>,
}

#[derive(Default)]
struct Rounds {
    rates: Vec<f64>,
    middles: Vec<f64>,
    lates: Vec<f64>,
}

impl Rounds {
    fn add(&mut self, passed: &Passed) {
        self.rates.push(passed.rate());
        let micros = |percent| passed.percentile(percent).map(|time| time.as_secs_f64() * 1e6);
        self.middles.extend(micros(50));
        self.lates.extend(micros(99));
    }
}

/// The middle of some figures, with the lowest and the highest.
fn middle(all: &[f64]) -> Option<(f64, f64, f64)> {
    let mut sorted = all.to_vec();
    sorted.sort_by(f64::total_cmp);
    Some((*sorted.get(sorted.len() / 2)?, *sorted.first()?, *sorted.last()?))
}

async fn load(console: &Console, args: &LoadArgs) -> Result<Exit, Problem> {
    let mut all = read(&args.outfits, None)?;
    // Readings with QoS 1 are what is measured too.
    let quiet = |outfit: &Outfit| {
        let first = outfit.connect.publish.first();
        first.is_none_or(|filter| outfit.connect.publish_qos.get(filter) == Some(&0))
    };
    let before = all.len();
    all.retain(|outfit| !quiet(outfit));
    if all.is_empty() {
        return Err(Problem::refused(format!("no device of {} may publish with QoS 1", args.outfits.display()))
            .next("policy adopt, then outfit refresh tells the outfits"));
    }
    if all.len() < before {
        console.note(format!(
            "left out: {} that may publish nothing, or not with QoS 1",
            counted(before - all.len(), "device")
        ));
    }
    let all = first(all, Some(usize::from(args.publishers)), &args.outfits)?;
    let guard = match args.at {
        Some(at) => at,
        None => place_of(&all[0])?,
    };
    let publishers = all
        .iter()
        .map(|outfit| -> Result<Publisher, Problem> {
            let login = outfit.login().map_err(|error| Problem::refused("an outfit is of no use").because(error))?;
            let filter = outfit.connect.publish.first().map_or("", String::as_str);
            Ok((login, tidy_warden_simulate::concrete(filter)))
        })
        .collect::<Result<Vec<_>, _>>()?;
    let mut figures = Vec::new();
    let few = &publishers[..1];
    for (what, publishers, qos, window, share) in [
        (format!("QoS 0, {}", counted(publishers.len(), "publisher")), &publishers[..], 0, 1, 1),
        (
            format!("QoS 1, {}, window {}", counted(publishers.len(), "publisher"), args.window),
            &publishers[..],
            1,
            args.window,
            1,
        ),
        ("QoS 1, one at a time".to_owned(), few, 1, 1, 2),
    ] {
        let plan = Plan { qos, size: args.size, messages: args.messages.div_ceil(share), window };
        let mut figure = Figure { what, guard: Rounds::default(), direct: args.direct.map(|_| Rounds::default()) };
        for round in 0..args.rounds {
            // Whoever begins changes, so that a machine that slows down or speeds up favours neither.
            let direct_first = round % 2 == 0;
            let mut turns = vec![(true, guard)];
            if let Some(direct) = args.direct {
                turns.insert(if direct_first { 0 } else { 1 }, (false, direct));
            }
            for (is_guard, address) in turns {
                let passed = publish(publishers, address, plan).await.map_err(|error| {
                    let whom = if is_guard { "the guard" } else { "the broker" };
                    Problem::failed(format!("the load on {whom} at {address} broke off")).because(error)
                })?;
                match (is_guard, &mut figure.direct) {
                    (false, Some(direct)) => direct.add(&passed),
                    _ => figure.guard.add(&passed),
                }
            }
        }
        console.note(format!("{}: done", figure.what));
        figures.push(figure);
    }
    show(console, args, &figures)
}

fn show(console: &Console, args: &LoadArgs, figures: &[Figure]) -> Result<Exit, Problem> {
    let columns =
        ["load", "guard", "broker alone", "ratio", "answer p50 / p99", "broker alone", "added"].map(str::to_owned);
    let number = |found: Option<(f64, f64, f64)>| {
        found.map_or_else(|| "-".to_owned(), |(middle, low, high)| format!("{middle:.0}/s [{low:.0}..{high:.0}]"))
    };
    let times = |rounds: &Rounds| match (middle(&rounds.middles), middle(&rounds.lates)) {
        (Some((p50, ..)), Some((p99, ..))) => format!("{p50:.0} / {p99:.0} us"),
        _ => "-".to_owned(),
    };
    let mut rows = Vec::new();
    let mut values = Vec::new();
    for figure in figures {
        // Rounds side by side: each with the one that ran next to it.
        let pairs = |of: fn(&Rounds) -> &Vec<f64>| -> Vec<(f64, f64)> {
            let direct = figure.direct.as_ref().map(of).into_iter().flatten();
            of(&figure.guard).iter().copied().zip(direct.copied()).collect()
        };
        let ratios: Vec<f64> =
            pairs(|rounds| &rounds.rates).into_iter().map(|(guard, direct)| guard / direct).collect();
        let added: Vec<f64> =
            pairs(|rounds| &rounds.middles).into_iter().map(|(guard, direct)| guard - direct).collect();
        rows.push(vec![
            figure.what.clone(),
            number(middle(&figure.guard.rates)),
            number(figure.direct.as_ref().and_then(|direct| middle(&direct.rates))),
            middle(&ratios).map_or_else(|| "-".to_owned(), |(m, low, high)| format!("{m:.2} [{low:.2}..{high:.2}]")),
            times(&figure.guard),
            figure.direct.as_ref().map_or_else(|| "-".to_owned(), times),
            middle(&added).map_or_else(|| "-".to_owned(), |(m, ..)| format!("{m:.0} us")),
        ]);
        let plain = |found: Option<(f64, f64, f64)>| found.map(|(middle, ..)| middle);
        values.push(json!({
            "load": figure.what, "guard_rates": figure.guard.rates,
            "direct_rates": figure.direct.as_ref().map(|direct| &direct.rates), "ratio": plain(middle(&ratios)),
            "guard_answer_us": plain(middle(&figure.guard.middles)), "guard_answer_p99_us": plain(middle(&figure.guard.lates)),
            "direct_answer_us": figure.direct.as_ref().and_then(|direct| plain(middle(&direct.middles))),
            "added_us": plain(middle(&added)),
        }));
    }
    let value = json!({
        "publishers": args.publishers, "messages": args.messages, "size": args.size, "rounds": args.rounds,
        "figures": values,
    });
    console.show("tidy-warden/load/1", value, &table(&columns, &rows))?;
    Ok(Exit::Done)
}
