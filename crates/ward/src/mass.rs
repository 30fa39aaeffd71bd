//! Acts on many devices: a few in one change, more as a job in batches, so that nobody who writes meanwhile waits for all of it, and what
//! is killed goes on where it was.

use serde::{Deserialize, Serialize};
use serde_json::json;
use tidy_warden_core::claim::{CodeDigest, OpenClaim, OpenedBy, may_be_opened};
use tidy_warden_core::device::{AddRefusal, DeviceEdit, Note};
use tidy_warden_core::fact::{Fact, FactName};
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::key::sha256;
use tidy_warden_core::revocation::Reason;
use tidy_warden_core::settings::Settings;
use tidy_warden_core::time::UnixTime;
use tidy_warden_store::acts::{claim, device, revoke};
use tidy_warden_store::{Cause, JobKind, JobRecord, JobRefusal, NewJob, StoreError, Tx};

use crate::bulk::Watch;
use crate::claim::by_rules;
use crate::lease::{self, damaged};
use crate::open::Ward;
use crate::problem::Problem;

/// How many devices are changed in one transaction. A thousand revocations hold up others for about a tenth of a second.
pub const AT_ONCE: usize = 1000;

/// What is done with each device.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum MassAct {
    /// It is put on hold.
    Hold,
    /// Its hold is lifted.
    Release,
    /// All its credentials are revoked, and it is out.
    Revoke(Reason),
    /// It is changed.
    Edit(DeviceEdit),
    /// It can be claimed from `opened` to `ends`. One that was opened or claimed since, has an owner or may not be here is left as it is.
    Open {
        /// When its code was made.
        opened: UnixTime,
        /// The last second in which it can be claimed.
        ends: UnixTime,
    },
    /// It is nobody's. One that is so already is left as it is.
    GiveUp,
}

/// A device, and what belongs to it alone.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Item {
    /// The device.
    pub device: DeviceId,
    /// What is kept of the code by which it is claimed, where it is opened and has one.
    pub code: Option<CodeDigest>,
}

impl From<&DeviceId> for Item {
    fn from(device: &DeviceId) -> Self {
        Self { device: device.clone(), code: None }
    }
}

impl Item {
    /// As a line of a job: the id, and salt and digest of the code in hexadecimal if there is one.
    fn line(&self) -> String {
        let hex = |octets: &[u8]| data_encoding::HEXLOWER.encode(octets);
        match &self.code {
            None => self.device.to_string(),
            Some(code) => format!("{} {} {}", self.device, hex(&code.salt), hex(&code.digest)),
        }
    }

    fn read(line: &str) -> Result<Self, Problem> {
        let (device, code) = line.split_once(' ').map_or((line, None), |(device, code)| (device, Some(code)));
        let hex = |text: &str| data_encoding::HEXLOWER.decode(text.as_bytes()).ok();
        let parsed = |text: &str| {
            let (salt, digest) = text.split_once(' ')?;
            Some(CodeDigest { salt: hex(salt)?.try_into().ok()?, digest: hex(digest)?.try_into().ok()? })
        };
        let code = code.map(|text| parsed(text).ok_or_else(|| damaged("a code in it is none"))).transpose()?;
        Ok(Self { device: device.parse().map_err(damaged)?, code })
    }
}

/// What came of it.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Outcome {
    /// The number of the job, if it took one.
    pub job: Option<u32>,
    /// The devices for which it changed anything, as far as this process did it.
    pub changed: Vec<DeviceId>,
    /// For how many it changed anything, all told.
    pub count: u64,
    /// How many credentials it ended.
    pub ended: u64,
    /// Whether one of them belongs on a CRL of the ward.
    pub listed: bool,
}

/// Why nothing of it was done: the first device that cannot be changed so.
pub type Refused = (DeviceId, Vec<AddRefusal>);

/// A plan as the store keeps it.
#[derive(Debug, Serialize, Deserialize)]
struct Plan {
    act: String,
    count: usize,
    list_sha256: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    reason: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    edit: Option<EditForm>,
    /// From when to when devices can be claimed, in seconds since the Unix epoch.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    open: Option<(i64, i64)>,
}

/// An edit in texts: labels and facts by name, with nothing for those that are taken away.
#[derive(Debug, Default, Serialize, Deserialize)]
struct EditForm {
    labels: Vec<(String, Option<String>)>,
    facts: Vec<(String, Option<String>)>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    gateway: Option<Option<String>>,
    /// A text, or an empty one where the note is taken away.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    note: Option<String>,
}

/// How far a job is.
#[derive(Debug, Clone, Copy, Default, Serialize, Deserialize)]
struct Position {
    /// The parts that are done.
    parts: u32,
    devices: u64,
    changed: u64,
    ended: u64,
    listed: bool,
}

impl EditForm {
    fn of(edit: &DeviceEdit) -> Self {
        let fact = |fact: &Result<Fact, FactName>| match fact {
            Ok(fact) => (fact.name().to_string(), Some(fact.value().to_owned())),
            Err(name) => (name.to_string(), None),
        };
        Self {
            labels: edit
                .labels
                .iter()
                .map(|(name, value)| (name.to_string(), value.as_ref().map(ToString::to_string)))
                .collect(),
            facts: edit.facts.iter().map(fact).collect(),
            gateway: edit.gateway.as_ref().map(|gateway| gateway.as_ref().map(ToString::to_string)),
            note: edit.note.as_ref().map(|note| note.as_ref().map(ToString::to_string).unwrap_or_default()),
        }
    }

    fn read(self) -> Result<DeviceEdit, Problem> {
        let mut edit = DeviceEdit::default();
        for (name, value) in self.labels {
            let value = value.map(|value| value.parse().map_err(damaged)).transpose()?;
            edit.labels.push((name.parse().map_err(damaged)?, value));
        }
        for (name, value) in self.facts {
            let name = FactName::parse(&name).map_err(damaged)?;
            edit.facts.push(match value {
                Some(value) => Ok(Fact::new(name, &value).map_err(damaged)?),
                None => Err(name),
            });
        }
        let gateway = |id: String| id.parse::<DeviceId>().map_err(damaged);
        edit.gateway = self.gateway.map(|id| id.map(gateway).transpose()).transpose()?;
        let note = |text: String| text.parse::<Note>().map_err(damaged);
        edit.note = self.note.map(|text| (!text.is_empty()).then(|| note(text)).transpose()).transpose()?;
        Ok(edit)
    }
}

impl MassAct {
    fn kind(&self) -> JobKind {
        match self {
            Self::Hold => JobKind::Hold,
            Self::Release => JobKind::Release,
            Self::Revoke(_) => JobKind::Revoke,
            Self::Edit(_) => JobKind::Edit,
            Self::Open { .. } => JobKind::Open,
            Self::GiveUp => JobKind::GiveUp,
        }
    }

    fn plan(&self, count: usize, list: &str) -> Plan {
        Plan {
            act: self.kind().as_str().to_owned(),
            count,
            list_sha256: data_encoding::HEXLOWER.encode(&sha256(list.as_bytes())),
            reason: if let Self::Revoke(reason) = self { Some(reason.as_str().to_owned()) } else { None },
            edit: if let Self::Edit(edit) = self { Some(EditForm::of(edit)) } else { None },
            open: if let Self::Open { opened, ends } = self { Some((opened.0, ends.0)) } else { None },
        }
    }

    fn of(job: &JobRecord, plan: Plan) -> Result<Self, Problem> {
        let missing = || damaged("its plan lacks what it is to do");
        Ok(match job.kind {
            JobKind::Hold => Self::Hold,
            JobKind::Release => Self::Release,
            JobKind::Revoke => Self::Revoke(plan.reason.ok_or_else(missing)?.parse().map_err(damaged)?),
            JobKind::Edit => Self::Edit(plan.edit.ok_or_else(missing)?.read()?),
            JobKind::Open => {
                let (opened, ends) = plan.open.ok_or_else(missing)?;
                Self::Open { opened: UnixTime(opened), ends: UnixTime(ends) }
            }
            JobKind::GiveUp => Self::GiveUp,
            JobKind::Enroll | JobKind::Import | JobKind::Keys | JobKind::Rotate => return Err(missing()),
        })
    }

    /// Does it to some devices, inside a change.
    fn apply(
        &self,
        tx: &mut dyn Tx,
        items: &[Item],
        settings: &Settings,
        cause: &Cause,
    ) -> Result<Result<Outcome, Refused>, StoreError> {
        let count = |number: usize| u64::try_from(number).unwrap_or(u64::MAX);
        let ids: &[DeviceId] = &items.iter().map(|item| item.device.clone()).collect::<Vec<_>>();
        let mut outcome = Outcome::default();
        match self {
            Self::Hold => outcome.changed = device::set_hold(tx, ids, true, cause)?,
            Self::Release => outcome.changed = device::set_hold(tx, ids, false, cause)?,
            Self::Open { opened, ends } => outcome.changed = open(tx, items, (*opened, *ends), cause)?,
            Self::GiveUp => {
                for id in ids {
                    let given = by_rules(settings, |rules| claim::give_up(tx, id, None, rules, cause))?;
                    outcome.changed.extend(given.ok().map(|passed| passed.after.id));
                }
            }
            Self::Revoke(reason) => {
                let ended = revoke::revoke_devices(tx, ids, *reason, cause)?;
                outcome.ended = count(ended.len());
                outcome.listed = ended.iter().any(|each| each.listed);
                outcome.changed = ids.to_vec();
            }
            Self::Edit(edit) => match device::edit_many(tx, ids, edit, cause)? {
                Ok(()) => outcome.changed = ids.to_vec(),
                Err(refused) => return Ok(Err(refused)),
            },
        }
        outcome.count = count(outcome.changed.len());
        Ok(Ok(outcome))
    }
}

/// Opens those of some devices that nobody opened or claimed since their codes were made, and that can be; says which.
fn open(
    tx: &mut dyn Tx,
    items: &[Item],
    (opened, ends): (UnixTime, UnixTime),
    cause: &Cause,
) -> Result<Vec<DeviceId>, StoreError> {
    let ids: Vec<DeviceId> = items.iter().map(|item| item.device.clone()).collect();
    let mut claims = Vec::new();
    for (item, found) in items.iter().zip(tx.devices(&ids)?) {
        let Some(found) = found.filter(|found| may_be_opened(&found.device).is_ok()) else { continue };
        let id = &found.device.id;
        // A job that goes on late brings no code back that was replaced, or that an owner has used.
        let is_newer = tx.claim(id, OpenedBy::Person)?.is_some_and(|known| known.opened > opened);
        let was_owned = tx.ownerships(id, 1)?.pop().is_some_and(|last| last.began >= opened);
        if !is_newer && !was_owned {
            let (device, by) = (id.clone(), OpenedBy::Person);
            claims.push(OpenClaim { device, by, code: item.code, opened, ends });
        }
    }
    if claims.is_empty() {
        return Ok(Vec::new());
    }
    match claim::open(tx, &claims, cause)? {
        Ok(()) => Ok(claims.into_iter().map(|claim| claim.device).collect()),
        // They were looked at a moment ago, in this very change.
        Err(_) => Err(StoreError::Damaged { detail: "a device that can be opened was not".to_owned() }),
    }
}

/// Does `act` to devices: to all of them, or, if one of them cannot be changed so, to none. What is killed after some batches is a job
/// that goes on with [`resume`]; whoever is told to do the very same meanwhile does it once.
///
/// # Errors
/// Another process does the same.
pub fn run(
    ward: &mut Ward,
    act: &MassAct,
    ids: &[DeviceId],
    because: Option<&str>,
    watch: &mut dyn Watch,
) -> Result<Result<Outcome, Refused>, Problem> {
    run_with(ward, act, &ids.iter().map(Item::from).collect::<Vec<_>>(), because, watch)
}

/// The same where something belongs to each device alone.
///
/// # Errors
/// Another process does the same.
pub fn run_with(
    ward: &mut Ward,
    act: &MassAct,
    items: &[Item],
    because: Option<&str>,
    watch: &mut dyn Watch,
) -> Result<Result<Outcome, Refused>, Problem> {
    let (cause, settings) = (ward.cause(because), ward.settings.clone());
    if items.len() <= AT_ONCE {
        return Ok(ward.store.decide(|tx| act.apply(tx, items, &settings, &cause))?);
    }
    if matches!(act, MassAct::Edit(_)) {
        // Tried first and undone, so that one that cannot be changed is not found when half of them are.
        for some in items.chunks(AT_ONCE) {
            let tried = ward.store.decide(|tx| Ok(Err::<(), _>(act.apply(tx, some, &settings, &cause)?.err())))?;
            if let Err(Some(refused)) = tried {
                return Ok(Err(refused));
            }
        }
    }
    let parts: Vec<String> =
        items.chunks(AT_ONCE).map(|some| some.iter().map(Item::line).collect::<Vec<_>>().join("\n")).collect();
    let plan = serde_json::to_string(&act.plan(items.len(), &parts.join("\n"))).map_err(damaged)?;
    let position = serde_json::to_string(&Position::default()).map_err(damaged)?;
    let subject = format!("{} of {} devices", act.kind().as_str(), items.len());
    let new = NewJob {
        kind: act.kind(),
        digest: sha256(plan.as_bytes()),
        plan: &plan,
        position: &position,
        parts: &parts,
        subject: &subject,
    };
    match ward.store.begin_job(&new, &lease::from(ward.now()), &cause)? {
        Ok(number) => drive(ward, number, act, Position::default(), &cause, watch),
        Err(JobRefusal::Same { job }) => resume(ward, job, watch),
        Err(refusal) => Err(lease::refusal(&refusal)),
    }
}

/// Takes a job, and reads what it is to do.
fn taken(ward: &mut Ward, number: u32) -> Result<(JobRecord, MassAct, Position, Cause), Problem> {
    let (job, cause) = lease::take(ward, number)?;
    let act = MassAct::of(&job, serde_json::from_str(&job.plan).map_err(damaged)?)?;
    let position = serde_json::from_str(&job.position).map_err(damaged)?;
    Ok((job, act, position, cause))
}

/// Goes on with a job.
///
/// # Errors
/// There is none of that number, or another process works on it.
pub fn resume(ward: &mut Ward, number: u32, watch: &mut dyn Watch) -> Result<Result<Outcome, Refused>, Problem> {
    let (job, act, position, cause) = taken(ward, number)?;
    drive(ward, job.number, &act, position, &cause, watch)
}

/// Ends a job where it stands.
///
/// # Errors
/// There is none of that number, or another process works on it.
pub fn stop(ward: &mut Ward, number: u32) -> Result<Outcome, Problem> {
    let (job, _, position, cause) = taken(ward, number)?;
    end(ward, job.number, position, true, &cause)?;
    Ok(position.outcome(number, Vec::new()))
}

impl Position {
    fn outcome(self, number: u32, changed: Vec<DeviceId>) -> Outcome {
        Outcome { job: Some(number), changed, count: self.changed, ended: self.ended, listed: self.listed }
    }
}

fn end(ward: &mut Ward, number: u32, position: Position, stopped: bool, cause: &Cause) -> Result<(), Problem> {
    let detail = json!({
        "devices": position.devices, "changed": position.changed, "ended": position.ended, "stopped": stopped,
    });
    Ok(ward.store.end_job(number, &lease::holder(), detail, stopped, cause)?)
}

/// Does part after part until there is none.
fn drive(
    ward: &mut Ward,
    number: u32,
    act: &MassAct,
    mut position: Position,
    cause: &Cause,
    watch: &mut dyn Watch,
) -> Result<Result<Outcome, Refused>, Problem> {
    let mut changed = Vec::new();
    let settings = ward.settings.clone();
    let again = |problem: Problem| problem.or_next(&format!("then: job resume {number}"));
    while let Some(part) = ward.store.job_part(number, position.parts).map_err(|error| again(error.into()))? {
        let items = part.lines().map(Item::read).collect::<Result<Vec<Item>, _>>()?;
        let cause = Cause { at: ward.now(), ..cause.clone() };
        let before = position;
        let batch = ward.store.job_batch(number, &lease::from(cause.at), |tx| {
            let outcome = match act.apply(tx, &items, &settings, &cause)? {
                Ok(outcome) => outcome,
                Err(refused) => return Ok(Err(refused)),
            };
            let after = Position {
                parts: before.parts + 1,
                devices: before.devices + u64::try_from(items.len()).unwrap_or(0),
                changed: before.changed + outcome.count,
                ended: before.ended + outcome.ended,
                listed: before.listed || outcome.listed,
            };
            let text = serde_json::to_string(&after)
                .map_err(|error| StoreError::Damaged { detail: format!("a job's position: {error}") })?;
            Ok(Ok(((outcome, after), text)))
        });
        match batch.map_err(|error| again(error.into()))? {
            Ok((outcome, after)) => {
                changed.extend(outcome.changed);
                position = after;
            }
            Err((id, refusals)) => {
                if position.parts == 0 {
                    end(ward, number, position, true, &cause)?;
                    return Ok(Err((id, refusals)));
                }
                let why = refusals.first().map(ToString::to_string).unwrap_or_default();
                return Err(Problem::refused(format!("job {number} stopped at `{id}`"))
                    .because(format!("it changed meanwhile: {why}"))
                    .next(format!(
                        "mend that, then: job resume {number}; or end it where it stands: job stop {number}"
                    )));
            }
        }
        watch.reached(position.devices, position.changed, 0);
    }
    watch.finish();
    end(ward, number, position, false, cause).map_err(again)?;
    Ok(Ok(position.outcome(number, changed)))
}
