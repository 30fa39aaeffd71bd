//! Rotations of a ward: prepared by a person, driven by a desk or a command, step by step, so that whoever is killed is followed by another
//! and nobody is asked twice.
//!
//! A rotation is a job that waits for days between its steps. Its parts are the devices, in the order in which they are asked; each part
//! belongs to one round. What was counted of a part is kept with its position, and looked at again until nothing more comes of it.

use std::collections::BTreeSet;

use serde::{Deserialize, Serialize};
use serde_json::json;
use tidy_warden_core::due::CredentialEnd;
use tidy_warden_core::id::{AuthorityName, DeviceId};
use tidy_warden_core::key::sha256;
use tidy_warden_core::rotation::{Counts, Progress, Replaces, Standing, State, Step, Terms, step};
use tidy_warden_core::time::{Span, UnixTime};
use tidy_warden_store::acts::rotation;
use tidy_warden_store::{Cause, JobKind, JobRecord, JobRefusal, NewJob, OperatorStore, StoreError, View};

use crate::errand::Asks;
use crate::lease::{self, damaged};
use crate::problem::Problem;

/// How many devices are in one part: those that are asked in one change.
pub const AT_ONCE: usize = 1_000;

/// How many parts are looked at in one step, and asked: a step takes a few seconds at the most.
const LOOKED: usize = 50;
const ASKED: usize = 20;

/// More parts than this that wait are not looked at more often than every so many seconds.
const FEW: usize = 10;
const REST: i64 = 60;

/// The most parts: what is known of each is written down with every step.
const MOST_PARTS: usize = 20_000;

/// How many rotations are looked through.
const LISTED: usize = 1_000;

/// What a rotation is to do.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Plan {
    /// What it is called.
    pub name: String,
    /// The condition that picked the devices when it was prepared.
    pub condition: String,
    /// What it replaces.
    #[serde(default)]
    pub replaces: Replaces,
    /// How many devices it is about.
    pub count: u64,
    /// SHA-256 over their ids, in hexadecimal.
    pub list_sha256: String,
    /// How many devices are in one part at the most.
    pub part: u64,
    /// What it is held to.
    pub terms: Terms,
}

/// How far a rotation is.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct Position {
    /// How many devices were asked, as everywhere in lists of jobs.
    pub devices: u64,
    /// Where it is.
    pub progress: Progress,
    /// Its parts, in their order; those that were not asked are not among them.
    pub parts: Vec<Part>,
}

/// What is known of a part that was asked.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Part {
    /// When.
    asked: i64,
    /// When it was looked at last.
    looked: i64,
    /// What was counted then.
    counts: Counts,
}

impl Part {
    fn is_final(&self) -> bool {
        self.counts.open() == 0
    }
}

/// A rotation.
#[derive(Debug, Clone)]
pub struct Rotation {
    /// Its job.
    pub job: JobRecord,
    /// What it is to do.
    pub plan: Plan,
    /// How far it is.
    pub position: Position,
}

/// A round, for people.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Round {
    /// From 1.
    pub number: usize,
    /// A word: `waiting`, `running`, `good`, or `bad`.
    pub state: &'static str,
    /// How many devices it has.
    pub devices: u64,
    /// Where they are.
    pub counts: Counts,
}

/// A device that did not renew, and why.
pub type Troubled = (DeviceId, Standing);

impl Rotation {
    fn read(job: JobRecord) -> Result<Self, Problem> {
        let plan = serde_json::from_str(&job.plan).map_err(damaged)?;
        let position = serde_json::from_str(&job.position).map_err(damaged)?;
        Ok(Self { job, plan, position })
    }

    /// Where it is. One that ended before it was done is stopped for good.
    #[must_use]
    pub fn state(&self) -> State {
        match self.job.ended {
            Some(_) if self.job.stopped => State::Stopped,
            Some(_) => State::Done,
            None => self.position.progress.state,
        }
    }

    /// How many parts each round has.
    fn parts_of(&self, devices: u64) -> usize {
        usize::try_from(devices.div_ceil(self.plan.part.max(1))).unwrap_or(usize::MAX)
    }

    /// The places of a round's parts.
    fn places(&self, round: usize) -> std::ops::Range<usize> {
        let rounds = &self.plan.terms.rounds;
        let first: usize = rounds.iter().take(round).map(|devices| self.parts_of(*devices)).sum();
        first..first + rounds.get(round).map_or(0, |devices| self.parts_of(*devices))
    }

    /// How many devices a part of a round has.
    fn size(&self, round: usize, place: usize) -> u64 {
        let devices = self.plan.terms.rounds.get(round).copied().unwrap_or(0);
        let before = u64::try_from(place - self.places(round).start).unwrap_or(0) * self.plan.part;
        devices.saturating_sub(before).min(self.plan.part)
    }

    /// What was counted last of a round.
    fn counts(&self, round: usize) -> Counts {
        let mut all = Counts::default();
        let mut known = 0;
        for place in self.places(round) {
            if let Some(part) = self.position.parts.get(place) {
                all.sum(&part.counts);
                known += self.size(round, place);
            }
        }
        all.waiting += self.plan.terms.rounds.get(round).copied().unwrap_or(0).saturating_sub(known);
        all
    }

    /// Its rounds, by what was counted last.
    #[must_use]
    pub fn rounds(&self) -> Vec<Round> {
        let present = self.position.progress.round;
        let terms = &self.plan.terms;
        let state = |round: usize, devices: u64, counts: &Counts| {
            let is_bad = terms.most_failed.is_exceeded(counts.bad(), devices);
            match (round.cmp(&present), self.state()) {
                _ if is_bad => "bad",
                (std::cmp::Ordering::Less, _) | (_, State::Done) => "good",
                (std::cmp::Ordering::Equal, State::WaitsForYou) => "good",
                (std::cmp::Ordering::Equal, State::Running) => "running",
                (std::cmp::Ordering::Equal, State::Stopped) if counts.waiting < devices => "stopped",
                _ => "waiting",
            }
        };
        let rounds = terms.rounds.iter().enumerate();
        rounds
            .map(|(round, devices)| {
                let counts = self.counts(round);
                Round { number: round + 1, state: state(round, *devices, &counts), devices: *devices, counts }
            })
            .collect()
    }
}

/// All rotations, the newest first.
pub fn all(store: &dyn View) -> Result<Vec<Rotation>, Problem> {
    // One that runs is found however many jobs came after it.
    let mut jobs = store.jobs(true, LISTED)?;
    let open: BTreeSet<u32> = jobs.iter().map(|job| job.number).collect();
    jobs.extend(store.jobs(false, LISTED)?.into_iter().filter(|job| !open.contains(&job.number)));
    jobs.sort_by_key(|job| std::cmp::Reverse(job.number));
    jobs.into_iter().filter(|job| job.kind == JobKind::Rotate).map(Rotation::read).collect()
}

/// A rotation by its job, if that is there and is one.
pub fn numbered(store: &dyn View, number: u32) -> Result<Option<Rotation>, Problem> {
    store.job(number)?.filter(|job| job.kind == JobKind::Rotate).map(Rotation::read).transpose()
}

/// A rotation by its name.
pub fn named(store: &dyn View, name: &str) -> Result<Rotation, Problem> {
    let found = all(store)?.into_iter().find(|rotation| rotation.plan.name == name);
    found.ok_or_else(|| Problem::not_found(format!("there is no rotation `{name}`")).next("rotation list"))
}

/// Writes a rotation of `ids` down, which stand in the order in which they are asked.
pub fn prepare(
    store: &mut OperatorStore,
    (name, condition, replaces): (&str, &str, Replaces),
    ids: &[DeviceId],
    terms: Terms,
    cause: &Cause,
) -> Result<u32, Problem> {
    if all(&**store)?.iter().any(|rotation| rotation.plan.name == name) {
        return Err(Problem::refused(format!("there is a rotation `{name}` already"))
            .next(format!("rotation status {name}, or choose another name")));
    }
    // No part is larger than what may be asked in an hour, so that one fits each.
    let most = terms.per_hour.and_then(|most| usize::try_from(most).ok()).unwrap_or(AT_ONCE);
    let part = AT_ONCE.min(most).max(1);
    let mut parts = Vec::new();
    let mut left = ids;
    for devices in &terms.rounds {
        let (of_round, rest) = left.split_at(usize::try_from(*devices).unwrap_or(usize::MAX).min(left.len()));
        left = rest;
        parts
            .extend(of_round.chunks(part).map(|some| some.iter().map(DeviceId::as_str).collect::<Vec<_>>().join("\n")));
    }
    if parts.len() > MOST_PARTS {
        return Err(Problem::refused(format!("`{name}` would take {} steps", parts.len()))
            .because(format!(
                "no rotation has more than {MOST_PARTS}, and each asks no more than may be asked in an hour"
            ))
            .next("ask more in an hour, or fewer devices"));
    }
    let plan = Plan {
        name: name.to_owned(),
        condition: condition.to_owned(),
        replaces,
        count: u64::try_from(ids.len()).unwrap_or(u64::MAX),
        list_sha256: data_encoding::HEXLOWER.encode(&sha256(parts.join("\n").as_bytes())),
        part: u64::try_from(part).unwrap_or(1),
        terms,
    };
    let plan = serde_json::to_string(&plan).map_err(damaged)?;
    let position = serde_json::to_string(&Position::default()).map_err(damaged)?;
    let new = NewJob {
        kind: JobKind::Rotate,
        digest: sha256(plan.as_bytes()),
        plan: &plan,
        position: &position,
        parts: &parts,
        subject: name,
    };
    let prepared = store.decide(|tx| rotation::prepare(tx, &new, &lease::from(cause.at), cause))?;
    prepared.map_err(|refusal| lease::refusal(&refusal))
}

/// What a person says of a rotation.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Word {
    /// Begin it, or its next round.
    Start,
    /// Go on, although it was stopped.
    Resume,
    /// Ask nobody more.
    Stop,
}

/// Does what a person says.
pub fn say(store: &mut OperatorStore, name: &str, word: Word, cause: &Cause) -> Result<Rotation, Problem> {
    let rotation = named(&**store, name)?;
    let act = match word {
        Word::Start => "rotation.start",
        Word::Resume => "rotation.resume",
        Word::Stop => "rotation.stop",
    };
    let mut change = |position: &str| -> Result<String, Problem> {
        let mut rotation = Rotation { position: serde_json::from_str(position).map_err(damaged)?, ..rotation.clone() };
        // As it was counted when it stopped: whoever has it go on has seen that.
        let seen = rotation.counts(rotation.position.progress.round).bad();
        let progress = &mut rotation.position.progress;
        let refused = |why: &str, next: String| Err(Problem::refused(why.to_owned()).next(next));
        match (word, progress.state) {
            (Word::Start, State::Prepared) => {}
            (Word::Start, State::WaitsForYou) => progress.next_round(),
            (Word::Start, State::Stopped) => {
                return refused("it was stopped", format!("rotation status {name}; then: rotation resume {name}"));
            }
            (Word::Start, _) => return refused("it runs already", format!("rotation status {name}")),
            (Word::Resume, State::Stopped) => (progress.why, progress.forgiven) = (None, seen),
            (Word::Resume, _) => return refused("it was not stopped", format!("rotation status {name}")),
            (Word::Stop, State::Stopped) => {
                return refused("it was stopped already", format!("rotation status {name}"));
            }
            (Word::Stop, _) => progress.why = Some("a person stopped it".to_owned()),
        }
        progress.state = if word == Word::Stop { State::Stopped } else { State::Running };
        serde_json::to_string(&rotation.position).map_err(damaged)
    };
    match store.decide(|tx| rotation::say(tx, rotation.job.number, (act, name), &mut change, cause))?? {
        true => named(&**store, name),
        false => Err(Problem::refused(format!("the rotation `{name}` has ended"))
            .next(format!("prepare another: rotation status {name} shows what came of it"))),
    }
}

/// What came of a look at a rotation.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Done {
    /// How many devices were asked.
    pub asked: u64,
    /// Whether its state is another than before, or another round began.
    pub is_news: bool,
    /// Whether another process has it.
    pub is_anothers: bool,
}

/// Drives a rotation for a few seconds at the most: looks at devices that were asked, judges, asks more, as far as its terms let it now.
/// Who drives it meanwhile elsewhere keeps it.
pub fn drive(store: &mut OperatorStore, number: u32, asks: &Asks<'_>, cause: &Cause) -> Result<Done, Problem> {
    let lease = lease::from(cause.at);
    let open = numbered(&**store, number)?.filter(|rotation| rotation.job.ended.is_none());
    let state = open.map(|rotation| rotation.state());
    // One that was done when its driver was killed is not ended yet.
    if !matches!(state, Some(State::Running | State::Done)) {
        return Ok(Done::default());
    }
    let job = match store.take_job(number, &lease, &lease::is_gone, cause)? {
        Ok(job) => job,
        Err(JobRefusal::Held { .. }) => return Ok(Done { is_anothers: true, ..Done::default() }),
        Err(JobRefusal::Over { .. }) => return Ok(Done::default()),
        Err(refusal) => return Err(lease::refusal(&refusal)),
    };
    let mut rotation = Rotation::read(job)?;
    let mut done = Done::default();
    if rotation.state() == State::Done {
        finish(store, &rotation, false, cause)?;
        return Ok(Done { is_news: true, ..done });
    }
    let mut looked = look(&**store, &mut rotation, cause.at)?;
    for _ in 0..ASKED {
        let terms = &rotation.plan.terms;
        let round = rotation.position.progress.round;
        let mut next = step(terms, &rotation.position.progress, &rotation.counts(round), cause.at);
        let mut ask = None;
        if let Step::Ask(most) = next {
            let place = rotation.position.parts.len();
            let size = rotation.size(round, place);
            match size <= most {
                true => ask = Some((place, size)),
                // The rest of this hour is too little for a part.
                false => next = Step::Wait,
            }
        }
        if next == Step::Wait && !looked {
            break;
        }
        looked = false;
        let part = match ask {
            Some((place, size)) => Some((part(&**store, number, place)?, size)),
            None => None,
        };
        let by_errand = match &part {
            Some((ids, _)) => asks.of(&**store, ids, rotation.plan.replaces)?,
            None => Vec::new(),
        };
        let give = Span::from_seconds(u32::try_from(rotation.plan.terms.give).unwrap_or(u32::MAX));
        let (before, mut after) = (rotation.position.progress.clone(), rotation.position.clone());
        if let Some((_, size)) = &part {
            after.progress.asked(*size, cause.at);
            after.devices += size;
            let counts = Counts { asked: *size, ..Counts::default() };
            after.parts.push(Part { asked: cause.at.0, looked: cause.at.0, counts });
            done.asked += size;
        }
        match &next {
            Step::NextRound => after.progress.next_round(),
            Step::Pause => after.progress.state = State::WaitsForYou,
            Step::Stop(why) => (after.progress.state, after.progress.why) = (State::Stopped, Some(why.clone())),
            Step::Done => after.progress.state = State::Done,
            Step::Ask(_) | Step::Wait => {}
        }
        let text = serde_json::to_string(&after).map_err(damaged)?;
        let (name, replaces) = (rotation.plan.name.clone(), rotation.plan.replaces);
        let batch = store.job_batch(number, &lease, |tx| {
            if let Some((ids, _)) = &part {
                rotation::ask(tx, (&name, replaces), round, ids, cause)?;
                asks.ask(tx, &by_errand, replaces, (give, cause))?;
            }
            if let Step::Stop(why) = &next {
                let detail = json!({ "run": number, "because": why });
                tidy_warden_store::acts::record::note(tx, "rotation.stop", &name, &detail.to_string(), cause)?;
            }
            Ok(Ok::<_, std::convert::Infallible>(((), text)))
        });
        match batch {
            Ok(_) => {}
            // A person said something meanwhile, or another took it: nothing of this batch stays.
            Err(StoreError::TakenOver { .. }) => {
                return Ok(Done { asked: done.asked - part.map_or(0, |(_, size)| size), ..done });
            }
            Err(error) => return Err(error.into()),
        }
        done.is_news |= (after.progress.state, after.progress.round) != (before.state, before.round);
        rotation.position = after;
        if rotation.position.progress.state == State::Done {
            finish(store, &rotation, false, cause)?;
            break;
        }
        if rotation.position.progress.state != State::Running {
            break;
        }
    }
    Ok(done)
}

/// Ends a rotation for good, where it stands.
pub fn end(store: &mut OperatorStore, name: &str, cause: &Cause) -> Result<(), Problem> {
    let rotation = named(&**store, name)?;
    if rotation.state() != State::Stopped && rotation.state() != State::Prepared {
        return Err(
            Problem::refused(format!("the rotation `{name}` is not stopped")).next(format!("rotation stop {name}"))
        );
    }
    let (number, lease) = (rotation.job.number, lease::from(cause.at));
    // Nobody drives one that is stopped, and whoever did has its lease for a minute still.
    let taken = store.decide(|tx| rotation::take_over(tx, number, &lease))?;
    taken.map_err(|refusal| lease::refusal(&refusal))?;
    finish(store, &rotation, true, cause)
}

/// Ends a job that this process has.
fn finish(store: &mut OperatorStore, rotation: &Rotation, stopped: bool, cause: &Cause) -> Result<(), Problem> {
    let detail = json!({ "name": rotation.plan.name, "devices": rotation.position.devices, "stopped": stopped });
    Ok(store.end_job(rotation.job.number, &lease::holder(), detail, stopped, cause)?)
}

/// The devices of a part.
fn part(store: &dyn View, number: u32, place: usize) -> Result<Vec<DeviceId>, Problem> {
    let place = u32::try_from(place).map_err(damaged)?;
    let text = store.job_part(number, place)?.ok_or_else(|| damaged(format!("part {place} is not there")))?;
    text.lines().map(|id| id.parse().map_err(damaged)).collect()
}

/// Looks at the parts of the present round of which something may still come, those first that were not looked at for longest. Says
/// whether anything was counted otherwise than before.
fn look(store: &dyn View, rotation: &mut Rotation, now: UnixTime) -> Result<bool, Problem> {
    let places = rotation.places(rotation.position.progress.round);
    let asked = rotation.position.parts.len();
    let mut open: Vec<usize> =
        places.filter(|place| *place < asked && !rotation.position.parts[*place].is_final()).collect();
    open.sort_by_key(|place| rotation.position.parts[*place].looked);
    // Devices have days: where there are many of them each is not looked at every few seconds.
    let rest = if open.len() > FEW { REST } else { 0 };
    open.retain(|place| now.0 - rotation.position.parts[*place].looked >= rest);
    let mut is_other = false;
    for place in open.into_iter().take(LOOKED) {
        let known = rotation.position.parts[place];
        let counts = recount(store, rotation, place, now, &mut |_, _| {})?;
        is_other |= counts != known.counts;
        rotation.position.parts[place] = Part { looked: now.0, counts, ..known };
    }
    Ok(is_other)
}

/// Counts a part that was asked anew, and gives where each of its devices is.
fn recount(
    store: &dyn View,
    rotation: &Rotation,
    place: usize,
    now: UnixTime,
    visit: &mut dyn FnMut(&DeviceId, Standing),
) -> Result<Counts, Problem> {
    let (asked, give) = (UnixTime(rotation.position.parts[place].asked), rotation.plan.terms.give);
    let ids = part(store, rotation.job.number, place)?;
    let mut counts = Counts::default();
    for (id, view) in ids.iter().zip(store.devices(&ids)?) {
        let view = view.ok_or_else(|| damaged(format!("`{id}` is not listed")))?;
        let replaces = rotation.plan.replaces;
        let standing = Standing::of(&view.device, &view.credentials, replaces, Some(asked), (give, now));
        counts.add(standing);
        visit(id, standing);
    }
    Ok(counts)
}

/// How many devices could not sign in any more if an authority were not believed, and the first `most` of them: those whose every
/// certificate that is good now is its. Devices that may not sign in anyway are not among them.
pub fn leaning_on(
    view: &dyn View,
    authority: &AuthorityName,
    most: usize,
    now: UnixTime,
) -> Result<(u64, Vec<String>), StoreError> {
    let (mut count, mut some) = (0, Vec::new());
    view.each_ending(now, None, &mut |device| {
        let is_good = |each: &&CredentialEnd<'_>| each.begins <= now && each.ends >= now && !each.origin.is_key();
        let mut good = device.credentials.iter().filter(is_good).peekable();
        if device.held.is_none() && good.peek().is_some() && good.all(|each| each.authority == Some(authority)) {
            count += 1;
            if some.len() < most {
                some.push(device.id.to_owned());
            }
        }
        Ok(())
    })?;
    Ok((count, some))
}

/// A rotation as it is now, counted anew as far as that can be done soon, and up to `most` devices that did not renew.
pub fn status(store: &dyn View, name: &str, most: usize, now: UnixTime) -> Result<(Rotation, Vec<Troubled>), Problem> {
    let mut rotation = named(store, name)?;
    let mut troubled = Vec::new();
    if rotation.job.ended.is_some() {
        return Ok((rotation, troubled));
    }
    for place in 0..rotation.position.parts.len().min(LOOKED) {
        let counted = recount(store, &rotation, place, now, &mut |id, standing| {
            if troubled.len() < most && matches!(standing, Standing::Overdue | Standing::Failed(_)) {
                troubled.push((id.clone(), standing));
            }
        });
        match counted {
            Ok(counts) => rotation.position.parts[place].counts = counts,
            Err(problem) => {
                // Whoever drives it may have ended it between two looks, and its parts went with it.
                let ended = named(store, name)?;
                return if ended.job.ended.is_some() { Ok((ended, Vec::new())) } else { Err(problem) };
            }
        }
    }
    Ok((rotation, troubled))
}
