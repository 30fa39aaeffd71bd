//! What each thing costs in a ward on this machine: the guards' own deciding code and the store, without sockets and with a clock that
//! is driven. Where a device and a broker would be there are the other ends of pipes, in this process; what they cost is among what is
//! measured.

mod ends;
mod world;

use std::path::Path;
use std::time::Instant;

use tidy_warden_core::certificate::Certificate;
use tidy_warden_core::device::DeviceEdit;
use tidy_warden_core::key::{NewKey, SoftwareKey, sha256};
use tidy_warden_core::request::Request;
use tidy_warden_core::revocation::Reason;
use tidy_warden_core::time::Clock;
use tidy_warden_simulate::certification_request;
use tidy_warden_simulate::plan::{Costs, Habits};
use tidy_warden_store::{Cause, Intended};
use tidy_warden_ward::issue::press::{KeySource, Press};

use crate::console::Console;
use crate::problem::Problem;
use world::World;

/// How many times each of the single things is done.
const HANDSHAKES: usize = 200;
const MESSAGES: usize = 20_000;
const LOOK_UPS: usize = 2_000;
const CHANGES: usize = 200;
const ENROLMENTS: usize = 100;

/// How many clients are on their way in, or wait for an answer, at once.
const AT_ONCE: usize = 64;

/// Every how many seconds of the driven clock a device is revoked.
const REVOKED_EVERY: u32 = 600;

/// What is to be measured.
pub(crate) struct Setup<'a> {
    /// How many devices.
    pub(crate) devices: usize,
    /// How many guards.
    pub(crate) guards: usize,
    /// For how many seconds of the driven clock they go about their day.
    pub(crate) seconds: u32,
    /// What the settings say of the store, if it is not to be a file.
    pub(crate) store: &'a str,
    /// What the devices do.
    pub(crate) habits: Habits,
}

/// What the guards and the store did while the clock was driven.
#[derive(Debug, Default)]
pub(crate) struct Day {
    /// For how many seconds of the driven clock.
    pub(crate) seconds: u32,
    pub(crate) connects: usize,
    pub(crate) messages: usize,
    pub(crate) changes: usize,
    pub(crate) revoked: usize,
    /// Revoked devices that had a session at the end of the second in which they were.
    pub(crate) late: usize,
    /// CPU-seconds of this process: all of it, and what follows from the costs of what was done.
    pub(crate) cpu: f64,
    pub(crate) expected: f64,
    /// CPU-seconds of guards that look at the store every second and write what they counted.
    pub(crate) standing: f64,
}

/// What came of it.
pub(crate) struct Measured {
    pub(crate) engine: String,
    pub(crate) costs: Costs,
    pub(crate) day: Day,
}

/// CPU time of this process, in seconds.
fn cpu() -> f64 {
    let time = rustix::time::clock_gettime(rustix::time::ClockId::ProcessCPUTime);
    seconds(time.tv_sec) + seconds(time.tv_nsec) / 1e9
}

#[expect(clippy::cast_precision_loss, clippy::as_conversions, reason = "a figure for people")]
fn seconds(count: i64) -> f64 {
    count as f64
}

#[expect(clippy::cast_precision_loss, clippy::as_conversions, reason = "a figure for people")]
pub(crate) fn number(count: usize) -> f64 {
    count as f64
}

/// Resident memory of this process, in octets; 0 where the system does not say.
fn memory() -> f64 {
    let told = std::fs::read_to_string("/proc/self/statm").unwrap_or_default();
    let pages: f64 = told.split(' ').nth(1).and_then(|pages| pages.parse().ok()).unwrap_or(0.0);
    pages * number(rustix::param::page_size())
}

/// Builds a ward of its own in `dir`, and measures.
pub(crate) async fn measure(console: &Console, dir: &Path, setup: &Setup<'_>) -> Result<Measured, Problem> {
    console.note(format!("a ward of {} devices for {} guards", setup.devices, setup.guards));
    let (mut world, row) = World::new(console, dir, setup).await?;
    let survey = world.ward.store.survey()?;
    let room = number(usize::try_from(survey.octets).unwrap_or(usize::MAX)) / number(setup.devices);
    console.note("handshakes, sessions, messages");
    let handshake = world.handshakes(HANDSHAKES).await?;
    let (connect, session, usage) = sessions(&mut world).await?;
    let look_up = look_ups(&world)?;
    let (message, count) = messages(&mut world).await?;
    console.note("changes, enrolments");
    let (change, feed) = changes(&mut world).await?;
    let enrolment = enrolments(console, &mut world)?;
    let costs =
        Costs { handshake, connect, look_up, message, session, usage, change, enrolment, row, room, feed, count };
    console.note(format!("{} seconds of an ordinary day", setup.seconds));
    let day = day(&mut world, &costs, setup).await?;
    Ok(Measured { engine: survey.engine, costs, day })
}

/// Opens the sessions of all devices, and once more, as they come back; gives the CPU time of one that does, its memory, and how long
/// writing that it came holds up changes.
async fn sessions(world: &mut World) -> Result<(f64, f64, f64), Problem> {
    let resident = memory();
    open_all(world).await?;
    let session = (memory() - resident).max(0.0) / number(world.devices.len());
    for client in &mut world.clients {
        *client = None;
    }
    // Who comes back after a minute is seen anew.
    for _ in 0..=60 {
        world.clock.advance();
    }
    let (connect, usage) = open_all(world).await?;
    Ok((connect, session, usage))
}

/// Opens the sessions of all devices; gives the CPU time of one, and how long writing that it came holds up changes.
async fn open_all(world: &mut World) -> Result<(f64, f64), Problem> {
    let before = cpu();
    let all: Vec<usize> = (0..world.devices.len()).collect();
    for some in all.chunks(AT_ONCE) {
        let mut begun = Vec::with_capacity(some.len());
        for at in some {
            begun.push((*at, world.begin(*at).await?));
        }
        for (at, mut client) in begun {
            client.connected().await?;
            world.clients[at] = Some(client);
        }
    }
    let began = Instant::now();
    for guard in &mut world.guards {
        guard.keep().await?;
    }
    let kept = began.elapsed().as_secs_f64();
    for guard in &mut world.guards {
        guard.follow().await;
    }
    let count = number(world.devices.len());
    Ok(((cpu() - before) / count, kept / count))
}

/// Asks what a door asks, one question after another; gives how long one takes.
fn look_ups(world: &World) -> Result<f64, Problem> {
    let store = world.ward.guard_store(None)?;
    let mut spent = 0.0;
    for at in 0..LOOK_UPS {
        let (_, leaf) = &world.devices[at * 7 % world.devices.len()];
        let certificate = Certificate::from_der(leaf)
            .map_err(|error| Problem::failed("a simulated certificate does not read back").because(error))?;
        let key = sha256(certificate.public_key.spki());
        let began = Instant::now();
        let found = store.entrance(&certificate.fingerprint, &key)?;
        spent += began.elapsed().as_secs_f64();
        if found.known.is_none() {
            return Err(Problem::failed("a simulated device is not known"));
        }
    }
    Ok(spent / number(LOOK_UPS))
}

/// Passes messages; gives the CPU time of one, and how long writing a device's count holds up other counts.
async fn messages(world: &mut World) -> Result<(f64, f64), Problem> {
    let before = cpu();
    let mut done = 0;
    while done < MESSAGES {
        for from in (0..world.devices.len()).step_by(AT_ONCE) {
            let some = from..(from + AT_ONCE).min(world.devices.len());
            done += world.publish(some).await?;
            if done >= MESSAGES {
                break;
            }
        }
    }
    let each = (cpu() - before) / number(done);
    let began = Instant::now();
    for guard in &world.guards {
        guard.count().await?;
    }
    Ok((each, began.elapsed().as_secs_f64() / number(world.devices.len().min(MESSAGES))))
}

/// Changes one device after another; gives how long one holds up the others, and how long each guard works on it.
async fn changes(world: &mut World) -> Result<(f64, f64), Problem> {
    for guard in &mut world.guards {
        guard.follow().await;
    }
    let began = Instant::now();
    for at in 0..CHANGES {
        world.edit(at)?;
    }
    let each = began.elapsed().as_secs_f64() / number(CHANGES);
    let began = Instant::now();
    for guard in &mut world.guards {
        guard.follow().await;
    }
    let devices = CHANGES.min(world.devices.len()) * world.guards.len();
    Ok((each, began.elapsed().as_secs_f64() / number(devices)))
}

/// Enrols devices that have a certificate anew, by their requests; gives how long the store is at it for one.
fn enrolments(console: &Console, world: &mut World) -> Result<f64, Problem> {
    let failed = |error: &dyn std::fmt::Display| Problem::failed("a simulated device cannot ask").because(error);
    let mint = world.mint(console)?;
    let mut press = Press::new(&mint, world.clock.now());
    let mut spent = 0.0;
    for at in 0..ENROLMENTS.min(world.devices.len()) {
        let device = world.record(at)?;
        let key = SoftwareKey::generate(NewKey::P256).map_err(|error| failed(&error))?;
        let asked = certification_request(&key, "somebody").map_err(|error| failed(&error))?;
        let proven = Request::parse(&asked).and_then(Request::verify_possession).map_err(|error| failed(&error))?;
        let minted = press.mint(&device, KeySource::Proven(proven)).map_err(world::unmade)?;
        let cause = world.cause();
        let note = Intended {
            serial: minted.serial.clone(),
            authority: minted.authority.clone(),
            device: device.id.clone(),
            not_after: minted.not_after,
            place: None,
        };
        let began = Instant::now();
        let store = &mut world.ward.store;
        store.intend(&note, &cause)?;
        let recorded = store.record_issued(&minted.credential(&device.id, true), &cause, &mut || Ok(()))?;
        recorded.map_err(|refusal| Problem::refused("a simulated device was not enrolled").because(refusal))?;
        store.end_intended(&[note], false, &cause)?;
        spent += began.elapsed().as_secs_f64();
    }
    Ok(spent / number(ENROLMENTS.min(world.devices.len())))
}

/// Devices come, speak and are changed as is their habit, second by second of the driven clock.
async fn day(world: &mut World, costs: &Costs, setup: &Setup<'_>) -> Result<Day, Problem> {
    let (habits, fleet) = (&setup.habits, number(world.devices.len()));
    let rates = [
        fleet * habits.connecting / 3600.0,
        fleet * habits.speaking / 60.0,
        fleet * (habits.changing / 86_400.0 + 1.0 / (habits.life_days * 86_400.0)),
    ];
    let mut owed = [0.0; 3];
    let mut turn = 0;
    let mut day = Day { seconds: setup.seconds, ..Day::default() };
    let begun = cpu();
    for second in 1..=setup.seconds {
        world.clock.advance();
        for (owed, rate) in owed.iter_mut().zip(rates) {
            *owed += rate;
        }
        let mut due = |owed: &mut f64| {
            let mut some = Vec::new();
            while *owed >= 1.0 && some.len() < world.devices.len() {
                *owed -= 1.0;
                turn = (turn + 1) % world.devices.len();
                some.push(turn);
            }
            some
        };
        let (connect, speak, change) = (due(&mut owed[0]), due(&mut owed[1]), due(&mut owed[2]));
        for at in connect {
            if world.is_revoked(at) {
                continue;
            }
            world.clients[at] = None;
            let mut client = world.begin(at).await?;
            client.connected().await?;
            world.clients[at] = Some(client);
            day.connects += 1;
        }
        day.messages +=
            world.publish(speak.into_iter().filter(|at| !world.is_revoked(*at)).collect::<Vec<_>>()).await?;
        for at in change {
            world.edit(at)?;
            day.changes += 1;
        }
        let revoked = (second % REVOKED_EVERY == 0).then(|| world.revoke_next()).transpose()?.flatten();
        let standing = cpu();
        for guard in &mut world.guards {
            guard.follow().await;
            guard.keep().await?;
            if second % 2 == 0 {
                guard.count().await?;
            }
        }
        day.standing += cpu() - standing;
        if let Some(at) = revoked {
            day.revoked += 1;
            // Within the second, or not at all.
            if let Some(mut client) = world.clients[at].take() {
                day.late += usize::from(!client.ends().await);
            }
        }
    }
    day.cpu = cpu() - begun;
    day.expected = number(day.connects) * costs.connect + number(day.messages) * costs.message + day.standing;
    Ok(day)
}

impl World {
    /// A change of one device, which ends nothing.
    fn edit(&mut self, at: usize) -> Result<(), Problem> {
        let id = self.devices[at % self.devices.len()].0.clone();
        let value = format!("n{}", self.clock.now().0 + i64::try_from(at).unwrap_or(0));
        let parsed = |error: &dyn std::fmt::Display| Problem::failed("a label cannot be made").because(error);
        let label =
            ("pylon".parse().map_err(|error| parsed(&error))?, Some(value.parse().map_err(|error| parsed(&error))?));
        let edit = DeviceEdit { labels: vec![label], ..DeviceEdit::default() };
        let cause = self.cause();
        match self.ward.store.edit_device(&id, &edit, &cause)? {
            Ok(()) => Ok(()),
            Err(_) => Err(Problem::failed("a simulated device was not changed")),
        }
    }

    /// Revokes the next device in the order of their numbers, and gives it; none is left at the end.
    fn revoke_next(&mut self) -> Result<Option<usize>, Problem> {
        let at = self.revoked;
        let Some((id, _)) = self.devices.get(at) else { return Ok(None) };
        let (id, cause) = (id.clone(), self.cause());
        self.ward.store.revoke_devices(&[id], Reason::CessationOfOperation, &cause)?;
        self.revoked += 1;
        Ok(Some(at))
    }

    fn is_revoked(&self, at: usize) -> bool {
        at < self.revoked
    }

    fn cause(&self) -> Cause {
        Cause { at: self.clock.now(), actor: "simulate".to_owned(), because: "simulate scale".to_owned() }
    }
}
