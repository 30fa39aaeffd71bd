//! Reflexes at work: what guards noticed and what the record says is looked at, step by step, and what the settings want is done.

use tidy_warden_core::condition::{Candidate, Condition};
use tidy_warden_core::credential::{CredentialRecord, Origin};
use tidy_warden_core::errand::Purpose;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::reflex::{Evidence, Hit, KEPT, Noticed, Progress, Reflex, Then, When};
use tidy_warden_core::revocation::Reason;
use tidy_warden_core::time::{Span, UnixTime};
use tidy_warden_store::acts::reflex::{self, Done, Planned, Working};
use tidy_warden_store::{Cause, DeviceView, OperatorStore, StoreError, Tx, View, resolvable};

use crate::errand::ErrandSigner;
use crate::notice;
use crate::problem::Problem;

/// How many pieces of evidence, and how many devices, are looked at in one go.
const LOOKED: usize = 500;

/// How long nothing more is done about a device that a reflex has just acted on: one incident is one act.
const ONE_INCIDENT: i64 = 3_600;

/// What a reflex did, for whoever tells of it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Acted {
    /// The reflex.
    pub reflex: String,
    /// What it does.
    pub then: Then,
    /// What came of it.
    pub done: Done,
}

/// What a reflex would do next.
struct Plan {
    from: Option<i64>,
    to: i64,
    acts: Vec<Planned>,
}

/// Puts the rules of groups in the place of their names.
fn resolved(view: &dyn View, condition: Option<&Condition>) -> Result<Option<Condition>, Problem> {
    let Some(condition) = condition else { return Ok(None) };
    Ok(Some(condition.resolve(&resolvable(&view.groups()?)?)))
}

/// Whether a reflex is about a device.
fn is_about(view: &DeviceView, condition: Option<&Condition>, now: UnixTime) -> bool {
    condition.is_none_or(|condition| condition.holds(&Candidate::at(&view.device, &view.credentials, now)))
}

/// Looks once for one reflex; `None` while it is stopped.
fn plan(view: &dyn View, name: &str, reflex: &Reflex, now: UnixTime) -> Result<Option<Plan>, Problem> {
    let progress = view.reflex_progress(name)?;
    if progress.as_ref().is_some_and(|progress| progress.stopped.is_some()) {
        return Ok(None);
    }
    let condition = resolved(view, reflex.condition.as_ref())?;
    let from = progress.map(|progress| progress.position);
    let Some(what) = reflex.when.noticed() else {
        return walk(view, (name, reflex), condition, from, now).map(Some);
    };
    // One that is new looks at what happens from now on.
    let Some(position) = from else {
        return Ok(Some(Plan { from, to: view.last_evidence()?, acts: Vec::new() }));
    };
    let found = view.evidence_after(position, LOOKED)?;
    let to = found.last().map_or(position, |(number, _)| *number);
    let mut acts: Vec<Planned> = Vec::new();
    for (number, evidence) in found.into_iter().filter(|(_, evidence)| evidence.what == what) {
        if acts.iter().any(|planned| planned.device == evidence.device) {
            continue;
        }
        let is_hit =
            counts(view, reflex, &evidence, now)? && !is_same_incident(view, name, &evidence.device, evidence.at)?;
        let Some(device) = view.devices(std::slice::from_ref(&evidence.device))?.pop().flatten() else { continue };
        if is_hit && wants(&device, reflex.then) && is_about(&device, condition.as_ref(), now) {
            acts.push(planned(reflex, &evidence, number));
        }
    }
    Ok(Some(Plan { from, to, acts }))
}

fn planned(reflex: &Reflex, evidence: &Evidence, position: i64) -> Planned {
    let words = match reflex.when {
        When::Refusals { .. } => reflex.when.to_string(),
        _ => evidence.what.as_str().to_owned(),
    };
    Planned {
        device: evidence.device.clone(),
        evidence: format!("{words}: {}", evidence.text),
        source: evidence.source.clone(),
        position,
        reason: match evidence.what {
            Noticed::CloneSign => Reason::KeyCompromise,
            _ => Reason::PrivilegeWithdrawn,
        },
    }
}

/// Whether evidence is enough for what a reflex does.
fn counts(view: &dyn View, reflex: &Reflex, evidence: &Evidence, now: UnixTime) -> Result<bool, StoreError> {
    match reflex.when {
        // Only what was proved is counted.
        When::Refusals { most, within } => {
            let since = UnixTime(now.0 - within.seconds());
            Ok(view.count_evidence(&evidence.device, Noticed::Refusals, since)? > u64::from(most))
        }
        _ => Ok(evidence.is_proved || reflex.then.is_harmless()),
    }
}

/// Whether a reflex acted on a device so shortly before that this belongs to it.
fn is_same_incident(view: &dyn View, name: &str, device: &DeviceId, at: UnixTime) -> Result<bool, StoreError> {
    Ok(view.last_hit(name, device)?.is_some_and(|hit| hit.undone.is_none() && at.0 - hit.at.0 < ONE_INCIDENT))
}

/// Whether there is anything to do about a device.
fn wants(view: &DeviceView, then: Then) -> bool {
    match then {
        Then::Record | Then::Notify => true,
        Then::Hold | Then::Renew => view.device.barred().is_none(),
        Then::Revoke => view.device.out.is_none() && view.device.retired.is_none(),
    }
}

/// Looks at the next devices for a reflex that goes by the record.
fn walk(
    view: &dyn View,
    (name, reflex): (&str, &Reflex),
    condition: Option<Condition>,
    from: Option<i64>,
    now: UnixTime,
) -> Result<Plan, Problem> {
    let after = from.unwrap_or(0);
    let text = match reflex.when {
        When::Silent(longer) => format!("seen before {longer} ago"),
        When::Ends(within) => format!("cert.ends within {within}"),
        _ => return Ok(Plan { from, to: after, acts: Vec::new() }),
    };
    let mut parts = vec![crate::edge::condition(&text)?];
    parts.extend(condition);
    let page = view.page(Some(&Condition::All(parts)), now, after, LOOKED)?;
    let mut acts = Vec::new();
    for device in page.devices {
        if device.device.barred().is_some() {
            continue;
        }
        let evidence = match reflex.when {
            When::Silent(_) => match device.device.seen {
                Some(seen) => format!("not seen since {seen}"),
                None => continue,
            },
            _ => match last(&device.credentials, now) {
                Some(last) => format!("certificate {} ends at {}", last.name(), last.not_after),
                None => continue,
            },
        };
        // It is told once for each time that it fell silent, and for each certificate.
        let is_told = view.last_hit(name, &device.device.id)?.is_some_and(|hit| hit.evidence == evidence);
        if !is_told {
            let (device, source, position) = (device.device.id, String::new(), after + 1);
            acts.push(Planned { device, evidence, source, position, reason: Reason::Unspecified });
        }
    }
    Ok(Plan { from, to: page.next.unwrap_or(0), acts })
}

/// The certificate of a device that ends last of those that are good.
fn last(credentials: &[CredentialRecord], now: UnixTime) -> Option<&CredentialRecord> {
    let good = credentials.iter().filter(|each| each.origin == Origin::Issued && each.is_good(now));
    good.max_by_key(|each| each.not_after)
}

/// Looks once for each reflex, and does what is to be done. `signer` signs errands, where there is something to sign them with.
pub fn look<'r>(
    store: &mut OperatorStore,
    reflexes: impl IntoIterator<Item = (&'r str, &'r Reflex)>,
    signer: Option<&ErrandSigner>,
    cause: &Cause,
) -> Result<Vec<Acted>, Problem> {
    let mut all = Vec::new();
    for (name, reflex) in reflexes {
        let Some(Plan { from, to, acts }) = plan(&**store, name, reflex, cause.at)? else { continue };
        if acts.is_empty() && from == Some(to) {
            continue;
        }
        let working = Working { name, then: reflex.then, at_most: reflex.at_most };
        let mut renew = |tx: &mut dyn Tx, device: &DeviceId, cause: &Cause| -> Result<bool, StoreError> {
            let Some(signer) = signer else { return Ok(false) };
            Ok(signer.send_in(tx, device, Purpose::Renew, RENEW_WITHIN, cause)?.is_ok())
        };
        let urn = store.ward()?.urn;
        let tell =
            |device: &DeviceId, evidence: &str, at: UnixTime| notice::of_reflex(&urn, name, device, evidence, at);
        let done = store.decide(|tx| reflex::act(tx, working, (from, to), &acts, (&mut renew, Some(&tell)), cause))?;
        // Who was overtaken looks again.
        if let Ok(done) = done
            && done != Done::default()
        {
            all.push(Acted { reflex: name.to_owned(), then: reflex.then, done });
        }
    }
    Ok(all)
}

/// How long a device has that a reflex asks to renew.
const RENEW_WITHIN: Span = Span::from_days(7);

/// Whom a reflex would have acted on.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WouldHit {
    /// The device.
    pub device: DeviceId,
    /// When first.
    pub at: UnixTime,
    /// How often.
    pub times: u64,
    /// Why, the first time.
    pub evidence: String,
}

/// How many devices are told, of those that a reflex would have acted on.
const MOST_TOLD: usize = 1_000;

/// Whom a reflex would have acted on within the last 30 days had it been there, by what is kept of what guards noticed; for one that goes by
/// the record, whom it would act on now. Limits are not looked at: how many there are is what a person wants to know.
pub fn test(view: &dyn View, reflex: &Reflex, now: UnixTime) -> Result<Vec<WouldHit>, Problem> {
    let condition = resolved(view, reflex.condition.as_ref())?;
    let mut all: Vec<WouldHit> = Vec::new();
    let Some(what) = reflex.when.noticed() else {
        let mut after = Some(0);
        while let Some(from) = after {
            let plan = walk(view, ("", reflex), condition.clone(), Some(from), now)?;
            after = (plan.to > 0).then_some(plan.to);
            all.extend(plan.acts.into_iter().map(|act| WouldHit {
                device: act.device,
                at: now,
                times: 1,
                evidence: act.evidence,
            }));
            if all.len() >= MOST_TOLD {
                break;
            }
        }
        all.truncate(MOST_TOLD);
        return Ok(all);
    };
    let mut after = 0;
    // What each device did lately, for sums.
    let mut lately: std::collections::BTreeMap<DeviceId, Vec<(UnixTime, u32)>> = std::collections::BTreeMap::new();
    loop {
        let found = view.evidence_after(after, LOOKED)?;
        let Some((number, _)) = found.last() else { return Ok(all) };
        after = *number;
        for (_, evidence) in found {
            let is_old = now.0 - evidence.at.0 > KEPT.seconds();
            if evidence.what != what || is_old || !(evidence.is_proved || reflex.then.is_harmless()) {
                continue;
            }
            if let When::Refusals { most, within } = reflex.when {
                let of_one = lately.entry(evidence.device.clone()).or_default();
                of_one.push((evidence.at, evidence.count));
                of_one.retain(|(at, _)| evidence.at.0 - at.0 <= within.seconds());
                if !evidence.is_proved
                    || of_one.iter().map(|(_, count)| u64::from(*count)).sum::<u64>() <= u64::from(most)
                {
                    continue;
                }
            }
            if let Some(known) = all.iter_mut().find(|known| known.device == evidence.device) {
                known.times += 1;
                continue;
            }
            let Some(device) = view.devices(std::slice::from_ref(&evidence.device))?.pop().flatten() else { continue };
            if is_about(&device, condition.as_ref(), now) {
                let Planned { device, evidence: words, .. } = planned(reflex, &evidence, 0);
                all.push(WouldHit { device, at: evidence.at, times: 1, evidence: words });
            }
        }
        if all.len() >= MOST_TOLD {
            return Ok(all);
        }
    }
}

/// How many acts are taken back in one change.
const UNDONE: usize = 200;

/// Lifts the holds that a reflex made and that are still as it made them; gives the devices that were released.
pub fn undo(store: &mut OperatorStore, name: &str, cause: &Cause) -> Result<Vec<DeviceId>, Problem> {
    let (mut released, mut before) = (Vec::new(), i64::MAX);
    loop {
        let hits: Vec<Hit> = store.hits(Some(name), before, UNDONE)?;
        let Some(last) = hits.last() else { return Ok(released) };
        before = last.number;
        released.extend(store.make(|tx| reflex::undo(tx, &hits, cause))?);
    }
}

/// Has a reflex that stopped go on; says whether it had.
pub fn resume(store: &mut OperatorStore, name: &str, cause: &Cause) -> Result<bool, Problem> {
    Ok(store.make(|tx| reflex::resume(tx, name, cause))?)
}

/// How far a reflex is, if a desk has ever looked for it, and how often it acted within its time.
pub fn standing(
    view: &dyn View,
    name: &str,
    reflex: &Reflex,
    now: UnixTime,
) -> Result<(Option<Progress>, u64), StoreError> {
    let since = UnixTime(now.0 - reflex.at_most.within.seconds());
    Ok((view.reflex_progress(name)?, view.count_hits(name, "", since)?.0))
}

/// How many pieces of evidence are kept at the most, and how many are forgotten in one go.
const MOST_KEPT: i64 = 1_000_000;
const FORGOTTEN: usize = 20_000;

/// Forgets what guards noticed long ago.
pub fn forget(store: &mut OperatorStore, now: UnixTime) -> Result<usize, StoreError> {
    let below = store.last_evidence()? - MOST_KEPT;
    store.make(|tx| tx.drop_evidence(now.minus(KEPT), below, FORGOTTEN))
}
