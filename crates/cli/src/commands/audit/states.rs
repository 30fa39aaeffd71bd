//! The ward's tables against what the audit record says of them.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use tidy_warden_core::admission::{AdmissionEnd, AdmissionName, AdmissionRecord};
use tidy_warden_core::asking::MOST_REMEMBERED;
use tidy_warden_core::audit::{DeviceStanding, Replay};
use tidy_warden_core::certificate::{Certificate, Fingerprint, SerialNumber};
use tidy_warden_core::credential::BlockSource;
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::id::{DeviceId, OwnerId};
use tidy_warden_core::key::{Sha256, sha256};
use tidy_warden_core::policy;
use tidy_warden_core::time::UnixTime;
use tidy_warden_store::View;

use crate::edge::condition;
use crate::problem::Problem;

/// How many devices are looked up at once.
const AT_ONCE: usize = 1000;

/// Every row that does not follow from the record, in words.
pub(in crate::commands) fn differing(view: &dyn View, now: UnixTime, replay: &Replay) -> Result<Vec<String>, Problem> {
    let mut all = Vec::new();
    devices(view, now, replay, &mut all)?;
    revocations(view, replay, &mut all)?;
    credentials(view, replay, &mut all)?;
    editions(view, replay, &mut all)?;
    let brought = admissions(view, replay, &mut all)?;
    owners(view, now, replay, &brought, &mut all)?;
    waiting(view, replay, &mut all)?;
    let mut blocked = 0u64;
    view.each_blocked_key(&mut |key| blocked += u64::from(key.source != BlockSource::Revoked))?;
    if blocked != replay.blocked {
        all.push(format!("blocked keys: {blocked} stand here, and the record blocks {}", replay.blocked));
    }
    let authorities = view.authorities()?;
    let found = authorities.iter().map(|each| (each.name.as_str(), &each.certificate, each.retired.is_some()));
    certified("authority", "trusted", found, &replay.authorities, &mut all);
    posts(view, replay, &mut all)?;
    tokens(view, now, replay, &mut all)?;
    if let Some(said) = &replay.settings {
        let text = view.settings_text()?;
        if data_encoding::HEXLOWER.encode(&sha256(text.as_bytes())) != *said {
            all.push("settings: the copy of ward.toml is not the one that the record notes".to_owned());
        }
    }
    Ok(all)
}

/// What has a certificate and may be retired: each row against what the record says of it, and what is gone.
fn certified<'f>(
    what: &str,
    in_use: &str,
    found: impl Iterator<Item = (&'f str, &'f Certificate, bool)>,
    said: &BTreeMap<String, (String, bool)>,
    all: &mut Vec<String>,
) {
    let mut here = BTreeSet::new();
    for (name, certificate, is_retired) in found {
        here.insert(name);
        match said.get(name) {
            None => all.push(format!("{what} `{name}`: the record does not add it")),
            Some((fingerprint, _)) if *fingerprint != certificate.fingerprint.to_string() => {
                all.push(format!("{what} `{name}`: its certificate is not the one that the record adds"));
            }
            Some((_, retired)) if *retired != is_retired => {
                let (is, said) = if *retired { (in_use, "retires it") } else { ("retired", "does not retire it") };
                all.push(format!("{what} `{name}`: it is {is} here, and the record {said}"));
            }
            Some(_) => {}
        }
    }
    for name in said.keys().filter(|name| !here.contains(name.as_str())) {
        all.push(format!("{what} `{name}`: it stands in the record, and is gone here"));
    }
}

/// Those that called and wait for a person, and children that gateways brought in.
fn waiting(view: &dyn View, replay: &Replay, all: &mut Vec<String>) -> Result<(), Problem> {
    let limit = usize::try_from(MOST_REMEMBERED).unwrap_or(usize::MAX);
    for asking in view.all_asking(limit.saturating_add(1))? {
        let id = asking.id().map(|id| id.to_string()).unwrap_or_default();
        match replay.asked.get(&id) {
            None => all.push(format!("`{id}`: it waits here, and the record does not say that it called")),
            Some(refused) if *refused != asking.refused.is_some() => {
                all.push(format!("`{id}`: whether it was refused is not what the record says"));
            }
            Some(_) => {}
        }
    }
    for (child, said) in &replay.introduced {
        let Ok(child) = child.parse::<DeviceId>() else { continue };
        let found = view.introduced(&child)?.map_or("gone", |found| found.state.as_str());
        if found != said {
            all.push(format!("child `{child}`: it is {found} here, and {said} by the record"));
        }
    }
    for child in view.waiting_children(usize::MAX)? {
        if !replay.introduced.contains_key(child.child.as_str()) {
            all.push(format!("child `{}`: it waits here, and the record does not bring it in", child.child));
        }
    }
    Ok(())
}

/// Posts, and the settings that they go by.
fn posts(view: &dyn View, replay: &Replay, all: &mut Vec<String>) -> Result<(), Problem> {
    let posts = view.posts()?;
    let found = posts.iter().map(|each| (each.name.as_str(), &each.certificate, each.retired.is_some()));
    certified("post", "in use", found, &replay.posts, all);
    for (name, fingerprint) in &replay.servers {
        if view.server_certificate(name)?.fingerprint.to_string() != *fingerprint {
            all.push(format!("`{name}`: its certificate is not the one that the record gives it"));
        }
    }
    let found = view.adopted_settings()?;
    let found = found.map(|found| (found.number, data_encoding::HEXLOWER.encode(&sha256(found.text.as_bytes()))));
    if found != replay.adopted {
        all.push("settings: the adopted ones are not those that the record notes".to_owned());
    }
    Ok(())
}

/// Keys that sign tokens, and tokens that are blocked.
fn tokens(view: &dyn View, now: UnixTime, replay: &Replay, all: &mut Vec<String>) -> Result<(), Problem> {
    let found = view.token_signers()?;
    for (name, (kid, retired)) in &replay.signers {
        match found.iter().find(|each| each.name == *name) {
            None => all.push(format!("key for tokens `{name}`: it stands in the record, and is gone here")),
            Some(each) if each.kid() != *kid => {
                all.push(format!("key for tokens `{name}`: it is not the one that the record adds"));
            }
            Some(each) if each.retired.is_some() != *retired => {
                all.push(format!("key for tokens `{name}`: whether it is retired is not what the record says"));
            }
            Some(_) => {}
        }
    }
    // Every ward begins with one that no entry adds.
    let first = view.ward()?.token_key;
    for each in found.iter().filter(|each| each.key != first && !replay.signers.contains_key(&each.name)) {
        all.push(format!("key for tokens `{}`: the record does not add it", each.name));
    }
    let mut named: Vec<[u8; 32]> = Vec::new();
    for (name, _) in replay.blocks.iter().filter(|(_, until)| **until > now) {
        let octets: Option<[u8; 32]> =
            data_encoding::HEXLOWER.decode(name.as_bytes()).ok().and_then(|octets| octets.try_into().ok());
        named.extend(octets);
    }
    named.sort_unstable();
    let mut missing = 0;
    for some in named.chunks(AT_ONCE) {
        missing += some.len() - view.token_blocks_of(some)?.len();
    }
    if missing > 0 {
        all.push(format!("blocked tokens: {missing} of those that the record blocks are gone here"));
    }
    Ok(())
}

fn standing(device: &DeviceRecord) -> DeviceStanding {
    DeviceStanding { out: device.out.is_some(), held: device.held.is_some(), retired: device.retired.is_some() }
}

fn words(standing: DeviceStanding) -> String {
    let named = [(standing.out, "out"), (standing.held, "on hold"), (standing.retired, "retired")];
    let named: Vec<&str> = named.iter().filter(|(is, _)| *is).map(|(_, word)| *word).collect();
    if named.is_empty() { "none of out, on hold, retired".to_owned() } else { named.join(" and ") }
}

fn devices(view: &dyn View, now: UnixTime, replay: &Replay, all: &mut Vec<String>) -> Result<(), Problem> {
    let mut gone = Vec::new();
    let mut tell = |device: &DeviceRecord, said: DeviceStanding| {
        let found = standing(device);
        if found != said {
            all.push(format!("device `{}`: it is {} here, and {} by the record", device.id, words(found), words(said)));
        }
    };
    let mut named: Vec<(&String, &DeviceStanding)> = replay.devices.iter().collect();
    named.sort_by_key(|(id, _)| *id);
    for some in named.chunks(AT_ONCE) {
        let ids: Vec<DeviceId> = some.iter().filter_map(|(id, _)| id.parse().ok()).collect();
        for (id, found) in ids.iter().zip(view.devices(&ids)?) {
            match found {
                Some(view) => tell(&view.device, replay.devices.get(id.as_str()).copied().unwrap_or_default()),
                None => gone.push(format!("device `{id}`: it stands in the record, and is gone here")),
            }
        }
    }
    // The other way round: what stands in the table and not in the record.
    let barred = condition("state in (out, held, retired)")?;
    view.each_device_where(&barred, now, &mut |view| {
        if !replay.devices.contains_key(view.device.id.as_str()) {
            tell(&view.device, DeviceStanding::default());
        }
    })?;
    all.append(&mut gone);
    Ok(())
}

/// The owners with which devices came in by their admissions.
type Brought = HashMap<DeviceId, BTreeSet<OwnerId>>;

/// Devices that are another's than the record says, or somebody's of whom it says nothing.
fn owners(
    view: &dyn View,
    now: UnixTime,
    replay: &Replay,
    brought: &Brought,
    all: &mut Vec<String>,
) -> Result<(), Problem> {
    let told = |owner: Option<&str>| owner.map_or_else(|| "nobody's".to_owned(), |owner| format!("{owner}'s"));
    let mut tell = |device: &DeviceId, here: Option<&str>, said: Option<&str>| {
        all.push(format!("device `{device}`: it is {} here, and {} by the record", told(here), told(said)));
    };
    let mut owned: Vec<(&String, &Option<String>)> = replay.owners.iter().collect();
    owned.sort_unstable();
    for some in owned.chunks(AT_ONCE) {
        let ids: Vec<DeviceId> = some.iter().filter_map(|(id, _)| id.parse().ok()).collect();
        for found in view.devices(&ids)?.into_iter().flatten() {
            let (here, said) = (found.device.owner.as_ref().map(|owner| owner.as_str()), &replay.owners);
            let said = said.get(found.device.id.as_str()).and_then(Option::as_deref);
            if here != said {
                tell(&found.device.id, here, said);
            }
        }
    }
    // The other way round: whoever has a device without having claimed it, and without its admission having named it.
    view.each_device_where(&condition("owner known")?, now, &mut |found| {
        let device = &found.device;
        let Some(owner) = &device.owner else { return };
        let is_brought = || brought.get(&device.id).is_some_and(|owners| owners.contains(owner));
        if !replay.owners.contains_key(device.id.as_str()) && !is_brought() {
            tell(&device.id, Some(owner.as_str()), None);
        }
    })?;
    Ok(())
}

fn revocations(view: &dyn View, replay: &Replay, all: &mut Vec<String>) -> Result<(), Problem> {
    let mut named: Vec<(&String, &i64)> = replay.revoked.iter().collect();
    named.sort();
    for (name, entry) in named {
        let serial = data_encoding::HEXLOWER.decode(name.as_bytes()).ok();
        let serial = serial.and_then(|octets| SerialNumber::from_octets(&octets));
        let mut fingerprints = match &serial {
            Some(serial) => view.fingerprints_of(serial)?,
            None => Vec::new(),
        };
        // A bare key is named by its fingerprint.
        let octets: Option<[u8; 32]> =
            data_encoding::HEXLOWER.decode(name.as_bytes()).ok().and_then(|octets| octets.try_into().ok());
        fingerprints.extend(octets.map(Fingerprint));
        let found = view.status_many(&fingerprints)?;
        let revoked = found.into_iter().flatten().any(|(record, _)| record.revoked.is_some());
        if !revoked {
            all.push(format!("certificate {name}: entry {entry} revokes it, and it is not revoked here"));
        }
    }
    Ok(())
}

/// Certificates that were put in, taken out or exchanged past the record.
fn credentials(view: &dyn View, replay: &Replay, all: &mut Vec<String>) -> Result<(), Problem> {
    struct Found {
        count: u64,
        fingerprints: Vec<u8>,
        one: String,
    }
    let mut found: HashMap<i64, Found> = HashMap::new();
    let mut unknown = 0u64;
    view.each_recorded(&mut |entry, fingerprint| match entry {
        None => unknown += 1,
        Some(entry) => {
            let of =
                found.entry(entry).or_insert_with(|| Found { count: 0, fingerprints: Vec::new(), one: String::new() });
            of.count += 1;
            of.fingerprints.extend_from_slice(&fingerprint.0);
            of.one = fingerprint.to_string();
        }
    })?;
    if unknown > 0 && !replay.recorded.is_empty() && !replay.unnamed {
        all.push(format!("certificates: {unknown} of them name no entry of the record"));
    }
    let mut told: BTreeMap<i64, String> = BTreeMap::new();
    for (entry, (count, said)) in &replay.recorded {
        let Some(of) = found.remove(entry) else {
            if *count > 0 && unknown == 0 {
                told.insert(*entry, format!("entry {entry}: the certificates that it records are gone"));
            }
            continue;
        };
        let digest = data_encoding::HEXLOWER.encode(&sha256(&of.fingerprints));
        if of.count != *count || (of.one != *said && digest != *said) {
            told.insert(*entry, format!("entry {entry}: it records other certificates than those that name it"));
        }
    }
    for entry in found.into_keys() {
        told.insert(entry, format!("entry {entry}: certificates name it, and it records none"));
    }
    all.extend(told.into_values());
    Ok(())
}

/// Admissions that were put in, changed, taken away or opened once more past the record; gives the owners that used ones named.
fn admissions(view: &dyn View, replay: &Replay, all: &mut Vec<String>) -> Result<Brought, Problem> {
    let mut brought = Brought::new();
    let mut after = AdmissionName(0);
    let mut said = replay.admissions.iter();
    // What an entry opened, as far as its rows were seen: its number, the last of them, the digest that it notes, and that so far.
    let mut open: Option<(i64, u64, &str, Sha256)> = None;
    let opens_others = |entry: i64| format!("entry {entry}: it opens other admissions than those that stand here");
    loop {
        let page = view.admissions(after, AT_ONCE)?;
        for each in &page {
            after = each.name;
            let number = u64::from(each.name.0);
            if let (Some(owner), Some(AdmissionEnd::Used { .. })) = (&each.device.owner, &each.end) {
                brought.entry(each.device.id.clone()).or_default().insert(owner.clone());
            }
            if open.is_none() {
                open = said.next().map(|(entry, (first, count, digest))| {
                    (
                        *entry,
                        u64::from(*first).saturating_add(*count).saturating_sub(1),
                        digest.as_str(),
                        Sha256::default(),
                    )
                });
            }
            match open.take() {
                Some((entry, last, digest, mut so_far)) if number <= last => {
                    ended(each, entry, replay, all);
                    so_far.update(format!("{}\n", each.described()).as_bytes());
                    if number < last {
                        open = Some((entry, last, digest, so_far));
                    } else if data_encoding::HEXLOWER.encode(&so_far.finish()) != digest {
                        all.push(opens_others(entry));
                    }
                }
                other => {
                    all.push(format!("admission {}: the record does not open it", each.name));
                    open = other;
                }
            }
        }
        if page.len() < AT_ONCE {
            break;
        }
    }
    all.extend(open.map(|(entry, ..)| opens_others(entry)));
    all.extend(said.map(|(entry, _)| format!("entry {entry}: the admissions that it opens are gone")));
    Ok(brought)
}

/// How an admission ended, against what the record says of it.
fn ended(admission: &AdmissionRecord, opened: i64, replay: &Replay, all: &mut Vec<String>) {
    let name = admission.name.to_string();
    let of_device = replay.withdrawn_of.get(admission.device.id.as_str()).copied().unwrap_or_default();
    let is_withdrawn = of_device.max(replay.withdrawn_all) > opened;
    let said = match replay.admission_ends.get(&name) {
        Some((word, fingerprint)) => Some((*word, fingerprint.as_str())),
        None => is_withdrawn.then_some(("withdrawn", "")),
    };
    let fingerprint = match admission.end {
        Some(AdmissionEnd::Used { credential, .. }) => credential.to_string(),
        _ => String::new(),
    };
    let found = admission.end.map(|end| (end.as_str(), fingerprint.as_str()));
    if found != said {
        let word = |end: Option<(&'static str, &str)>| end.map_or("pending", |(word, _)| word);
        all.push(match (word(found), word(said)) {
            (same, other) if same == other => {
                format!("admission {name}: another certificate was given for it by the record")
            }
            (found, said) => format!("admission {name}: it is {found} here, and {said} by the record"),
        });
    }
}

fn editions(view: &dyn View, replay: &Replay, all: &mut Vec<String>) -> Result<(), Problem> {
    let stored = view.editions()?;
    for edition in &stored {
        let number = edition.number;
        let noted = data_encoding::HEXLOWER.encode(&edition.digest);
        match replay.editions.get(&number) {
            None => all.push(format!("edition {number}: the record does not adopt it")),
            Some(said) if *said != noted => {
                all.push(format!("edition {number}: its digest is not the one that was adopted"));
            }
            Some(_) => match view.edition(Some(number)) {
                Ok(Some(record)) if policy::digest(&record.files) == edition.digest => {}
                _ => all.push(format!("edition {number}: its text is not the one that was adopted")),
            },
        }
    }
    for number in replay.editions.keys() {
        if !stored.iter().any(|edition| edition.number == *number) {
            all.push(format!("edition {number}: the record adopts it, and it is gone"));
        }
    }
    Ok(())
}
