//! `simulate scale`: what each thing costs on this machine, and what fleets need by that.

use serde_json::{Value, json};
use tidy_warden_simulate::plan::{BROKER, Costs, Habits, Limit, Machine, Needs, needs};

use super::length;
use crate::args::ScaleArgs;
use crate::commands::init::in_database;
use crate::console::{Console, table};
use crate::problem::{Exit, Problem};
use crate::scale::{Day, Measured, Setup, measure};
use crate::scratch::Scratch;

/// The fleets that are worked out.
const FLEETS: [f64; 3] = [1e6, 1e7, 1e8];

/// The longest day, in seconds of the driven clock.
const LONGEST: u32 = 7 * 86_400;

pub(super) async fn run(console: &Console, args: &ScaleArgs) -> Result<Exit, Problem> {
    let seconds = u32::try_from(length(&args.length)?.as_secs()).ok().filter(|seconds| *seconds <= LONGEST);
    let Some(seconds) = seconds else {
        return Err(Problem::usage(format!("{} is too long for a simulation", args.length)).next("at most 7d"));
    };
    let store = args.store.as_deref().map(in_database).transpose()?.unwrap_or_default();
    for (given, name) in [(args.connecting, "--connecting"), (args.speaking, "--speaking")] {
        if !(0.0..=100.0).contains(&given) {
            return Err(Problem::usage(format!("{name} is a share in percent")).next(format!("{name} 10")));
        }
    }
    let habits = Habits { connecting: args.connecting / 100.0, speaking: args.speaking / 100.0, ..Habits::default() };
    let place = Scratch::new("scale")?;
    let setup = Setup {
        devices: usize::try_from(args.devices).unwrap_or(usize::MAX),
        guards: args.guards.into(),
        seconds,
        store: &store,
        habits,
    };
    let measured = measure(console, &place.dir, &setup).await?;
    let fleets = FLEETS.map(|devices| needs(devices, &measured.costs, &habits, &Machine::default(), BROKER));
    show(console, &setup, &measured, &fleets)?;
    match measured.day.late {
        0 => Ok(Exit::Done),
        late => Err(Problem::failed(format!("{late} revoked devices kept their sessions"))
            .because("a guard did not follow the store")),
    }
}

/// A whole number, in groups of three digits.
fn whole(value: f64) -> String {
    let digits = format!("{value:.0}");
    let mut text = String::new();
    for (at, digit) in digits.chars().enumerate() {
        if at > 0 && (digits.len() - at).is_multiple_of(3) {
            text.push(',');
        }
        text.push(digit);
    }
    text
}

/// Figures that say as much as they can: three digits. None is negative.
fn figure(value: f64) -> String {
    match value {
        size if size >= 100.0 => whole(value),
        size if size >= 10.0 => format!("{value:.1}"),
        size if size >= 1.0 => format!("{value:.2}"),
        size if size >= 0.001 => format!("{value:.3}"),
        size if size > 0.0 => "under 0.001".to_owned(),
        _ => "0".to_owned(),
    }
}

fn micros(seconds: f64) -> String {
    format!("{} us", figure(seconds * 1e6))
}

fn gib(octets: f64) -> String {
    format!("{} GiB", figure(octets / f64::from(1 << 30)))
}

fn percent(share: f64) -> String {
    format!("{} %", figure(share * 100.0))
}

fn costs_table(costs: &Costs) -> String {
    let rows = [
        ("a full handshake, the guard's side", micros(costs.handshake), "CPU"),
        ("a connect behind it, with both its ends", micros(costs.connect), "CPU"),
        ("a look-up for a connect", micros(costs.look_up), "a connection to the store"),
        ("a message of 100 bytes, answered, with both its ends", micros(costs.message), "CPU"),
        ("a session, with both its ends", format!("{} KiB", figure(costs.session / 1024.0)), "memory"),
        ("the use of a credential, as it is written", micros(costs.usage), "the lock of changes"),
        ("a change of one device", micros(costs.change), "the lock of changes"),
        ("an enrolment of one device", micros(costs.enrolment), "the lock of changes"),
        ("a device among many that are enrolled", micros(costs.row), "CPU"),
        ("a device in the store", format!("{} KiB", figure(costs.room / 1024.0)), "room"),
        ("a change, at each guard", micros(costs.feed), "the guard's follower"),
        ("a device's count, as it is written", micros(costs.count), "the lock of counts"),
    ];
    let rows: Vec<Vec<String>> =
        rows.into_iter().map(|(what, each, of)| vec![what.to_owned(), each, of.to_owned()]).collect();
    table(&["cost".into(), "each".into(), "of".into()], &rows)
}

fn day_text(day: &Day) -> String {
    let each = f64::from(day.seconds.max(1));
    let late =
        if day.late == 0 { "none of which had a session a second later" } else { "of which some kept a session" };
    format!(
        "{} s of a driven clock: {} connects, {} messages, {} changes, {} devices revoked, {late}\n\
         {} s of CPU, {} of a core; by the costs above it would be {} s, {} s of which guards take that look at the store every second\n",
        day.seconds,
        day.connects,
        day.messages,
        day.changes,
        day.revoked,
        figure(day.cpu),
        percent(day.cpu / each),
        figure(day.expected),
        figure(day.standing),
    )
}

fn first(limit: Limit) -> &'static str {
    match limit {
        Limit::Changes => "the lock of changes",
        Limit::Counts => "the lock of counts",
        Limit::Feed => "the feed of changes",
        Limit::Broker => "one broker",
    }
}

fn plan_table(fleets: &[Needs]) -> String {
    type Of = fn(&Needs) -> String;
    let rows: [(&str, Of); 16] = [
        ("connects a second", |needs| figure(needs.connects)),
        ("messages a second", |needs| figure(needs.messages)),
        ("enrolments a second", |needs| figure(needs.enrolments)),
        ("other changes a second", |needs| figure(needs.changes)),
        ("cores of guards, on an ordinary day", |needs| figure(needs.cores)),
        ("cores of guards, all back within 15 minutes", |needs| figure(needs.cores_back)),
        ("connections to the store for that, for look-ups", |needs| figure(needs.look_ups_back)),
        ("memory of sessions", |needs| gib(needs.memory)),
        ("machines of 2 cores and 24 GiB for guards", |needs| whole(needs.machines)),
        ("room of the store", |needs| gib(needs.room)),
        ("the lock of changes is taken for", |needs| percent(needs.change_lock)),
        ("the same, all back within 15 minutes", |needs| percent(needs.change_lock_back)),
        ("the lock of counts is taken for", |needs| percent(needs.count_lock)),
        ("each guard's follower is busy for", |needs| percent(needs.feed)),
        ("one broker (50,000 messages a second) is full to", |needs| percent(needs.broker)),
        ("what is fullest", |needs| first(needs.first.0).to_owned()),
    ];
    let of = |(what, of): (&str, Of)| std::iter::once(what.to_owned()).chain(fleets.iter().map(of)).collect();
    let rows: Vec<Vec<String>> = rows.into_iter().map(of).collect();
    let title = |needs: &Needs| format!("{} devices", figure(needs.devices));
    let columns: Vec<String> = std::iter::once("on paper".to_owned()).chain(fleets.iter().map(title)).collect();
    table(&columns, &rows)
}

fn show(console: &Console, setup: &Setup<'_>, measured: &Measured, fleets: &[Needs]) -> Result<(), Problem> {
    let Measured { engine, costs, day } = measured;
    let cores = std::thread::available_parallelism().map_or(1, usize::from);
    let text = format!(
        "{engine}, {} devices, {} guards, {cores} cores\n\n{}\n{}\n{}",
        setup.devices,
        setup.guards,
        costs_table(costs),
        day_text(day),
        plan_table(fleets)
    );
    let value = json!({
        "engine": engine, "devices": setup.devices, "guards": setup.guards, "cores": cores,
        "costs": {
            "handshake_us": costs.handshake * 1e6, "connect_us": costs.connect * 1e6, "look_up_us": costs.look_up * 1e6, "message_us": costs.message * 1e6,
            "session_octets": costs.session, "usage_us": costs.usage * 1e6, "change_us": costs.change * 1e6, "enrolment_us": costs.enrolment * 1e6,
            "row_us": costs.row * 1e6, "room_octets": costs.room, "feed_us": costs.feed * 1e6, "count_us": costs.count * 1e6,
        },
        "day": {
            "seconds": day.seconds, "connects": day.connects, "messages": day.messages, "changes": day.changes,
            "revoked": day.revoked, "late": day.late, "cpu_seconds": day.cpu, "expected_seconds": day.expected,
            "standing_seconds": day.standing,
        },
        "plan": fleets.iter().map(plan_json).collect::<Vec<_>>(),
    });
    console.show("tidy-warden/scale/1", value, &text)
}

fn plan_json(needs: &Needs) -> Value {
    json!({
        "devices": needs.devices, "connects": needs.connects, "messages": needs.messages, "enrolments": needs.enrolments,
        "changes": needs.changes, "cores": needs.cores, "cores_back": needs.cores_back, "look_ups_back": needs.look_ups_back, "memory_octets": needs.memory,
        "machines": needs.machines, "room_octets": needs.room, "change_lock": needs.change_lock, "change_lock_back": needs.change_lock_back,
        "count_lock": needs.count_lock, "feed": needs.feed, "broker": needs.broker, "fullest": needs.first.0.as_str(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn figures_have_three_digits() {
        let all = [0.0, 0.000_123_4, 0.0567, 1.234, 12.34, 123.4, 1_234.0, 1e6, 123_456_789.0];
        let told = ["0", "under 0.001", "0.057", "1.23", "12.3", "123", "1,234", "1,000,000", "123,456,789"];
        assert_eq!(all.map(figure), told.map(str::to_owned));
    }
}
