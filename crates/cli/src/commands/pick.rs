//! Picking devices by a condition, and the yes that acts on many of them want.

use std::collections::BTreeSet;

use tidy_warden_core::condition::{Condition, Field, Groups};
use tidy_warden_core::id::{DeviceId, LabelName, LabelValue};
use tidy_warden_core::text::nearest;
use tidy_warden_store::{DeviceView, Ending, NameInUse};
use tidy_warden_ward::mass;

use crate::console::{Console, counted};
use crate::edge::condition;
use crate::problem::Problem;
use crate::progress::Progress;
use crate::ward::Ward;

/// How many devices are named before an act on all of them.
const SAMPLE: usize = 5;

/// Walks the devices for which a condition holds; without one, all.
pub(super) fn each(ward: &Ward, text: Option<&str>, visit: &mut dyn FnMut(DeviceView)) -> Result<(), Problem> {
    match resolved(ward, text)? {
        None => ward.store.each_device(visit)?,
        Some(condition) => ward.store.each_device_where(&condition, ward.now(), visit)?,
    }
    Ok(())
}

/// The same in the order of ids, until `visit` says no.
pub(super) fn each_by_id(
    ward: &Ward,
    text: Option<&str>,
    visit: &mut dyn FnMut(DeviceView) -> bool,
) -> Result<(), Problem> {
    let condition = resolved(ward, text)?;
    Ok(ward.store.each_device_by_id(condition.as_ref(), ward.now(), visit)?)
}

/// Walks the credentials of such devices in the order in which they end, until `visit` says no.
pub(super) fn each_by_end(
    ward: &Ward,
    text: Option<&str>,
    visit: &mut dyn FnMut(Ending) -> bool,
) -> Result<(), Problem> {
    let condition = resolved(ward, text)?;
    Ok(ward.store.each_by_end(condition.as_ref(), ward.now(), visit)?)
}

/// A condition whose groups are known.
pub(super) fn resolved(ward: &Ward, text: Option<&str>) -> Result<Option<Condition>, Problem> {
    let Some(text) = text else { return Ok(None) };
    let condition = condition(text)?;
    let groups = ward.groups()?;
    known_names(ward, &condition, &groups)?;
    Ok(Some(condition.resolve(&groups)))
}

/// Refuses a condition that names a label, kind or group that nothing has: it would pick nobody, or with `not` everybody.
pub(super) fn known_names(ward: &Ward, condition: &Condition, groups: &Groups) -> Result<(), Problem> {
    let (mut unknown_group, mut labels, mut kinds) = (None, BTreeSet::new(), BTreeSet::new());
    condition.each_leaf(&mut |leaf| match leaf {
        Condition::Group(group, _) if !groups.contains_key(group) => unknown_group = Some(group.clone()),
        Condition::Text(Field::Named(name), _) => drop(labels.insert(name.clone())),
        _ => {}
    });
    condition.each_equality(&mut |field, value| {
        if *field == Field::Kind {
            kinds.insert(value.to_owned());
        }
    });
    let near = |word: &str, all: &mut dyn Iterator<Item = &str>, list: &str| match nearest(word, all) {
        Some(near) => format!("did you mean `{near}`?"),
        None => format!("{list} shows what there is"),
    };
    if let Some(group) = unknown_group {
        let next = near(group.as_str(), &mut groups.keys().map(|name| name.as_str()), "group list");
        return Err(Problem::not_found(format!("there is no group `{group}`")).next(next));
    }
    if !ward.store.is_used(&NameInUse::Any)? {
        return Ok(());
    }
    for name in labels {
        known_label(ward, &name)?;
    }
    let mut no_label = None;
    condition.each_equality(&mut |field, value| {
        // Only a fact of the ward's own has such values.
        if let Field::Named(name) = field
            && !ward.settings.facts.contains_key(name)
            && value.parse::<LabelValue>().is_err()
        {
            no_label = Some((name.clone(), value.to_owned()));
        }
    });
    if let Some((name, value)) = no_label {
        return Err(Problem::refused(format!("{value:?} cannot be the value of the label `{name}`"))
            .because("values of labels are of lower-case letters, digits, `.` and `-`"));
    }
    for kind in kinds {
        let declared = ward.settings.kinds.keys().any(|known| known.as_str() == kind);
        if !declared && !ward.store.is_used(&NameInUse::Kind(kind.clone()))? {
            let next = near(&kind, &mut ward.settings.kinds.keys().map(|name| name.as_str()), "device list");
            return Err(Problem::not_found(format!("there is no kind `{kind}`")).next(next));
        }
    }
    Ok(())
}

/// Refuses a label that no device has, unless it is a fact of the ward's own.
pub(super) fn known_label(ward: &Ward, name: &LabelName) -> Result<(), Problem> {
    if ward.settings.facts.contains_key(name) || ward.store.is_used(&NameInUse::Label(name.clone()))? {
        return Ok(());
    }
    let known = ward.store.label_names()?;
    let next = match nearest(name.as_str(), known.iter().map(String::as_str)) {
        Some(near) => format!("did you mean `{near}`?"),
        None if known.is_empty() => "no device has any label; device edit ID --label NAME=VALUE sets one".to_owned(),
        None => format!("the labels are: {}", known.iter().take(20).cloned().collect::<Vec<_>>().join(", ")),
    };
    Err(Problem::not_found(format!("no device has a label `{name}`")).next(next))
}

/// The devices for which a condition holds and that are not retired, by id. None is an error: nothing would be done.
pub(super) fn devices(ward: &Ward, text: &str) -> Result<Vec<DeviceView>, Problem> {
    let mut all = Vec::new();
    each(ward, Some(text), &mut |view| {
        if view.device.retired.is_none() {
            all.push(view);
        }
    })?;
    if all.is_empty() {
        return Err(Problem::not_found("there is no such device").because(format!("nothing meets: {text}")));
    }
    all.sort_by(|a, b| a.device.id.cmp(&b.device.id));
    Ok(all)
}

/// Shows how many devices an act is about, and some of them; then wants their number.
pub(super) fn confirm(console: &Console, act: &str, ids: &[DeviceId], given: Option<u64>) -> Result<(), Problem> {
    let sample: Vec<&str> = ids.iter().take(SAMPLE).map(DeviceId::as_str).collect();
    let more = if ids.len() > SAMPLE { ", ..." } else { "" };
    console.note(format!("{act} {}: {}{more}", counted(ids.len(), "device"), sample.join(", ")));
    console.confirm_count(u64::try_from(ids.len()).unwrap_or(u64::MAX), given)
}

/// Does something to devices. More than are changed at once are a job: it tells how far it is, and goes on if it is interrupted.
pub(super) fn act(
    console: &Console,
    ward: &mut Ward,
    act: &mass::MassAct,
    ids: &[DeviceId],
    because: &str,
) -> Result<Result<mass::Outcome, mass::Refused>, Problem> {
    act_with(console, ward, act, &ids.iter().map(mass::Item::from).collect::<Vec<_>>(), because)
}

/// The same where something belongs to each device alone.
pub(super) fn act_with(
    console: &Console,
    ward: &mut Ward,
    act: &mass::MassAct,
    items: &[mass::Item],
    because: &str,
) -> Result<Result<mass::Outcome, mass::Refused>, Problem> {
    let _word = (items.len() > mass::AT_ONCE).then(|| {
        crate::interrupt::word(
            "interrupted; `job list` shows the job, `job resume` goes on with it, `job stop` ends it",
        )
    });
    let mut progress = match items.len() > mass::AT_ONCE {
        true => Progress::of(console, "changed", (u64::try_from(items.len()).unwrap_or(u64::MAX), 0, 0)),
        false => Progress::none(),
    };
    mass::run_with(ward, act, items, Some(because), &mut progress)
}
