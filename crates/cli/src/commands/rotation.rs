//! `rotation`: certificates or shared keys of many devices renewed in rounds, each judged before the next begins.

use std::collections::BTreeMap;
use std::time::Duration;

use serde_json::{Value, json};
use tidy_warden_core::condition::{Candidate, Condition};
use tidy_warden_core::credential::CredentialRecord;
use tidy_warden_core::id::{DeviceId, GroupName, KindName, LabelName};
use tidy_warden_core::key::sha256;
use tidy_warden_core::rotation::{
    Counts, MOST_ROUNDS, Replaces, Share, Standing, State, Terms, given, over_by, rounds,
};
use tidy_warden_core::settings::{Kind, Renews};
use tidy_warden_core::time::{Span, UnixTime};
use tidy_warden_store::DeviceView;
use tidy_warden_ward::errand::{Asks, ErrandSigner};
use tidy_warden_ward::rekey::can_be_sent;
use tidy_warden_ward::rotation::{self, Rotation, Round, Word};
use tidy_warden_ward::shared;

use super::{Context, pick};
use crate::args::{PrepareRotationArgs, RotationCommand, SayArgs};
use crate::console::{Listing, counted, table};
use crate::edge::parse;
use crate::problem::{Exit, Problem};
use crate::ward::Ward;

/// How often a rotation is looked at while it is driven.
const TICK: Duration = Duration::from_secs(5);

/// How many devices that did not renew are told.
const TROUBLED: usize = 20;

pub(crate) fn run(context: &Context<'_>, command: &RotationCommand) -> Result<Exit, Problem> {
    match command {
        RotationCommand::Prepare(args) => prepare(context, args),
        RotationCommand::Start(args) => say(context, args, Word::Start),
        RotationCommand::Stop(args) => say(context, args, Word::Stop),
        RotationCommand::Resume(args) => say(context, args, Word::Resume),
        RotationCommand::Status { rotation } => status(context, rotation),
        RotationCommand::List => list(context),
        RotationCommand::Show { rotation } => show(context, rotation),
        RotationCommand::Run { rotation, once } => drive(context, rotation, *once),
    }
}

/// Hours of the day, such as 8-18.
fn hours(text: &str) -> Result<(u8, u8), Problem> {
    let hour = |text: &str| text.trim().parse::<u8>().ok().filter(|hour| *hour <= 24);
    let both = text.split_once('-').and_then(|(from, to)| Some((hour(from)?, hour(to)?)));
    let both = both.filter(|(from, to)| from % 24 != to % 24 && *from < 24);
    both.ok_or_else(|| {
        Problem::usage(format!("{text:?} are no hours of the day")).next("--hours 8-18, or over midnight 22-4")
    })
}

fn terms(ward: &Ward, args: &PrepareRotationArgs, picked: &Picked) -> Result<Terms, Problem> {
    let shares: Vec<Share> = args.rounds.iter().map(|text| parse(text)).collect::<Result<_, _>>()?;
    let moment = |text: &Option<String>| text.as_deref().map(parse::<UnixTime>).transpose();
    let (not_before, until) = (moment(&args.not_before)?, moment(&args.until)?);
    if let Some(until) = until.filter(|until| *until <= ward.now() || not_before.is_some_and(|first| *until <= first)) {
        return Err(Problem::refused(format!("nobody could be asked until {until}")).next("a later --until"));
    }
    Ok(Terms {
        rounds: match picked.by {
            Some(_) => by_part(picked)?,
            None => rounds(&shares, u64::try_from(picked.ids.len()).unwrap_or(u64::MAX))
                .map_err(|why| Problem::usage("these are no rounds").because(why).next("--rounds 1%,10%,100%"))?,
        },
        per_hour: args.per_hour,
        hours: args.hours.as_deref().map(hours).transpose()?,
        not_before,
        until,
        give: given(parse::<Span>(&args.give)?),
        most_failed: parse(&args.most_failed)?,
        by_hand: args.by_hand,
    })
}

/// A round for each value of a label, or each group.
fn by_part(picked: &Picked) -> Result<Vec<u64>, Problem> {
    match picked.parts.len() <= MOST_ROUNDS {
        true => Ok(picked.parts.values().copied().collect()),
        false => Err(Problem::refused(format!("this would be {} rounds", picked.parts.len()))
            .because(format!("a rotation has at most {MOST_ROUNDS} rounds"))
            .next("--rounds 1%,10%,100%, another label, or fewer groups")),
    }
}

/// What the devices of a round have in common, with where it comes in the order of rounds.
type Part = (usize, String);

/// What devices have in common that are of none of them; they come last.
fn none_of_them() -> Part {
    (usize::MAX, "-".to_owned())
}

/// By what rounds are made, if not by shares.
enum By {
    /// A round for each value of this label.
    Label(LabelName),
    /// A round for each of these groups, in this order.
    Groups(Vec<(String, Condition)>),
}

impl By {
    fn read(ward: &Ward, args: &PrepareRotationArgs) -> Result<Option<Self>, Problem> {
        if let Some(label) = &args.by {
            return parse(label).map(|label| Some(Self::Label(label)));
        }
        let known = ward.groups()?;
        let mut groups: Vec<(String, Condition)> = Vec::new();
        for name in &args.by_group {
            let group = Condition::Group(parse::<GroupName>(name)?, None);
            if groups.iter().any(|(before, _)| before == name) {
                return Err(Problem::usage(format!("the group `{name}` is named twice")));
            }
            pick::known_names(ward, &group, &known)?;
            groups.push((name.clone(), group.resolve(&known)));
        }
        Ok((!groups.is_empty()).then_some(Self::Groups(groups)))
    }

    /// What stands over the column.
    fn title(&self) -> &str {
        match self {
            Self::Label(label) => label.as_str(),
            Self::Groups(_) => "group",
        }
    }

    fn part(&self, view: &DeviceView, now: UnixTime) -> Part {
        let found = match self {
            Self::Label(label) => view.device.labels.get(label).map(|value| (0, value.to_string())),
            Self::Groups(groups) => {
                let of = Candidate::at(&view.device, &view.credentials, now);
                let place = groups.iter().position(|(_, group)| group.holds(&of));
                place.map(|place| (place, groups[place].0.clone()))
            }
        };
        found.unwrap_or_else(none_of_them)
    }
}

/// Devices that can renew, in the order in which they are asked, and how many cannot and why.
struct Picked {
    ids: Vec<DeviceId>,
    left_out: BTreeMap<&'static str, u64>,
    /// How many of those nobody but a person can do anything for, and why.
    needs_you: BTreeMap<&'static str, u64>,
    /// By what rounds are made, if not by shares, and how many are in each.
    by: Option<By>,
    parts: BTreeMap<Part, u64>,
    /// Of those that are asked, how many are of kinds whose certificates a person renews.
    by_person: BTreeMap<KindName, u64>,
}

/// Why a device gets its next shared key from nobody but a person, if that is so.
fn by_hand(kind: Option<&Kind>, view: &DeviceView, now: UnixTime) -> Option<&'static str> {
    let kind = kind.filter(|kind| kind.shared_keys);
    match kind.map_or(Renews::Person, |kind| kind.renews_keys) {
        Renews::Device => None,
        Renews::Errand if can_be_sent(view, now) => None,
        Renews::Errand => Some(
            "without a registered P-256 or P-384 key that the next one could be sealed to, or with several shared keys",
        ),
        Renews::Person => Some("of kinds whose shared keys a person replaces (renews_keys under [kinds.NAME])"),
    }
}

fn picked(ward: &Ward, args: &PrepareRotationArgs, replaces: Replaces) -> Result<Picked, Problem> {
    let (name, condition) = (&args.rotation, &args.condition);
    let signed_by = args.signed_by.as_deref().map(|name| ward.named_authority(&parse(name)?)).transpose()?;
    let is_wanted = |newest: &CredentialRecord| {
        let by = signed_by.as_ref().is_none_or(|authority| newest.authority.as_ref() == Some(&authority.name));
        by && args.key_type.as_ref().is_none_or(|wanted| *wanted == newest.key_type)
    };
    let now = ward.now();
    let by = By::read(ward, args)?;
    let (mut ids, mut parts) = (Vec::new(), BTreeMap::new());
    let (mut left_out, mut by_person, mut needs_you) = (BTreeMap::new(), BTreeMap::new(), BTreeMap::new());
    pick::each(ward, Some(condition), &mut |view| {
        // The newest first, as everywhere.
        let newest = view.credentials.iter().find(|each| each.origin == replaces.origin() && each.is_good(now));
        let why = match (view.device.barred(), newest, replaces) {
            (Some(_), _, _) => Some("on hold, out or retired"),
            (None, None, Replaces::Certificates) => Some("without a certificate of the ward's to renew with"),
            (None, None, Replaces::SharedKeys) => Some("without a key that it shares with the ward"),
            (None, Some(newest), _) if !is_wanted(newest) => Some("with a newest certificate that is not meant"),
            (None, Some(_), _) => None,
        };
        let kind = ward.settings.kinds.get(&view.device.kind);
        let by_hand = match (why, replaces) {
            (None, Replaces::SharedKeys) => by_hand(kind, &view, now),
            _ => None,
        };
        match (why, by_hand) {
            (Some(why), _) => *left_out.entry(why).or_default() += 1,
            (None, Some(why)) => *needs_you.entry(why).or_default() += 1,
            (None, None) => {
                let is_by_person = kind.is_some_and(|kind| kind.renews == Some(Renews::Person));
                if is_by_person && replaces == Replaces::Certificates {
                    *by_person.entry(view.device.kind.clone()).or_default() += 1;
                }
                let of = by.as_ref().map_or_else(none_of_them, |by| by.part(&view, now));
                *parts.entry(of.clone()).or_default() += 1;
                // Within that in no order of their names, so that the first few are not all of one site.
                ids.push((of, sha256(format!("{name}\0{}", view.device.id).as_bytes()), view.device.id));
            }
        }
    })?;
    ids.sort_unstable();
    Ok(Picked { ids: ids.into_iter().map(|(_, _, id)| id).collect(), by, parts, left_out, needs_you, by_person })
}

fn prepare(context: &Context<'_>, args: &PrepareRotationArgs) -> Result<Exit, Problem> {
    let console = context.console;
    let mut ward = context.ward()?;
    // As everything is named here.
    parse::<KindName>(&args.rotation)?;
    let replaces: Replaces = args.replaces.parse().map_err(|expected| {
        Problem::usage(format!("{:?} is nothing that a rotation replaces: {expected}", args.replaces))
    })?;
    if replaces == Replaces::SharedKeys && (args.signed_by.is_some() || args.key_type.is_some()) {
        return Err(Problem::usage("--signed-by and --key-type are about certificates")
            .next("leave them out with --of shared-keys"));
    }
    let picked = picked(&ward, args, replaces)?;
    for (why, count) in &picked.left_out {
        let count = counted(usize::try_from(*count).unwrap_or(usize::MAX), "device");
        console.note(format!("left out: {count} {why}"));
    }
    for (why, count) in &picked.needs_you {
        let count = counted(usize::try_from(*count).unwrap_or(usize::MAX), "device");
        console.warn(format!("left out, and in need of you: {count} {why}; key rotate DEVICE --shared --out FILE"));
    }
    if picked.ids.is_empty() {
        return Err(
            Problem::not_found("there is no device to renew").because(format!("of those with {}", args.condition))
        );
    }
    let terms = terms(&ward, args, &picked)?;
    for (kind, count) in &picked.by_person {
        console.warn(format!(
            "{count} are of the kind `{kind}`, whose certificates a person renews: they will not come by themselves"
        ));
    }
    let over_by = over_by(&terms, ward.now());
    let of = |at: usize| {
        let part = picked.by.as_ref().and_then(|_| picked.parts.keys().nth(at));
        part.map(|(_, name)| name.clone())
    };
    if let Some(By::Groups(groups)) = &picked.by {
        // They are in none of these groups, or in one that stands before.
        let is_empty = |name: &str| !picked.parts.keys().any(|(_, part)| part == name);
        for (name, _) in groups.iter().filter(|(name, _)| is_empty(name)) {
            console.note(format!("no round for the group `{name}`: nobody is left for it"));
        }
    }
    let plan: Vec<Value> = terms
        .rounds
        .iter()
        .enumerate()
        .map(|(at, devices)| json!({ "number": at + 1, "devices": devices, "of": of(at) }))
        .collect();
    let value = json!({
        "rotation": args.rotation, "devices": picked.ids.len(), "rounds": plan, "over_by": over_by, "dry_run": args.dry_run,
        "left_out": picked.left_out.values().sum::<u64>(), "needs_you": picked.needs_you.values().sum::<u64>(),
        "replaces": replaces.as_str(),
    });
    let row = |(at, devices): (usize, &u64)| {
        [vec![(at + 1).to_string(), devices.to_string()], of(at).into_iter().collect()].concat()
    };
    let rows: Vec<Vec<String>> = terms.rounds.iter().enumerate().map(row).collect();
    let title = picked.by.as_ref().map(|by| by.title().to_owned());
    let columns: Vec<String> = ["number", "devices"].iter().map(|title| (*title).to_owned()).chain(title).collect();
    let text = format!(
        "{}\n{} in all; each has {} to renew and to use what it got\nif every round is good it is over by {over_by}, and sooner if devices take less\n",
        table(&columns, &rows),
        counted(picked.ids.len(), "device"),
        length(terms.give),
    );
    if !args.dry_run {
        let cause = ward.cause(args.because.text());
        rotation::prepare(&mut ward.store, (&args.rotation, &args.condition, replaces), &picked.ids, terms, &cause)?;
    }
    console.show("tidy-warden/rotation-plan/1", value, &text)?;
    console.note(match args.dry_run {
        true => "nothing was written down".to_owned(),
        false => format!("nobody was asked yet: rotation start {}", args.rotation),
    });
    Ok(Exit::Done)
}

/// A length in words, where it is a whole number of seconds that a span can have.
fn length(seconds: i64) -> String {
    u32::try_from(seconds).map_or_else(|_| format!("{seconds} s"), |seconds| Span::from_seconds(seconds).to_string())
}

fn say(context: &Context<'_>, args: &SayArgs, word: Word) -> Result<Exit, Problem> {
    let mut ward = context.ward()?;
    let rotation = rotation::named(&*ward.store, &args.rotation)?;
    let name = &args.rotation;
    let question = match word {
        Word::Start | Word::Resume => {
            let left = rotation.plan.count.saturating_sub(rotation.position.devices);
            format!(
                "Ask {} of `{name}` to renew, round by round?",
                counted(usize::try_from(left).unwrap_or(usize::MAX), "device")
            )
        }
        Word::Stop => format!("Ask nobody more of `{name}`?"),
    };
    context.console.confirm(&question, args.yes)?;
    let cause = ward.cause(args.because.text());
    let rotation = rotation::say(&mut ward.store, name, word, &cause)?;
    let state = rotation.state();
    let note = match word {
        Word::Stop => format!("stopped `{name}`: nobody more is asked; rotation resume {name} goes on"),
        _ => format!("`{name}` runs: a desk drives it, or: rotation run {name}"),
    };
    context.console.did("tidy-warden/rotation-said/1", json!({ "rotation": name, "state": state.as_str() }), note)?;
    Ok(Exit::Done)
}

fn counts_json(counts: &Counts) -> Value {
    json!({
        "waiting": counts.waiting, "asked": counts.asked, "renewed": counts.renewed, "confirmed": counts.confirmed,
        "overdue": counts.overdue, "failed": counts.failed,
    })
}

fn round_json(round: &Round) -> Value {
    let mut value = json!({ "number": round.number, "state": round.state, "devices": round.devices });
    if let (Some(value), Value::Object(counts)) = (value.as_object_mut(), counts_json(&round.counts)) {
        value.extend(counts);
    }
    value
}

fn describe(rotation: &Rotation) -> Value {
    json!({
        "rotation": rotation.plan.name, "state": rotation.state().as_str(), "condition": rotation.plan.condition,
        "replaces": rotation.plan.replaces.as_str(),
        "devices": rotation.plan.count, "because": rotation.job.because, "prepared": rotation.job.begun,
        "actor": rotation.job.actor, "ended": rotation.job.ended, "why": rotation.position.progress.why,
        "run": rotation.job.number,
    })
}

fn why(standing: Standing) -> &'static str {
    match standing {
        Standing::Failed(why) => why.as_str(),
        _ => "it had time, and did not renew or did not use what it got",
    }
}

fn status(context: &Context<'_>, name: &str) -> Result<Exit, Problem> {
    let ward = context.ward()?;
    let (rotation, troubled) = rotation::status(&*ward.store, name, TROUBLED, ward.now())?;
    let rounds = rotation.rounds();
    let mut value = describe(&rotation);
    value["rounds"] = rounds.iter().map(round_json).collect();
    value["troubled"] = troubled
        .iter()
        .map(|(id, standing)| json!({ "device": id, "state": standing.as_str(), "why": why(*standing) }))
        .collect();
    let state = rotation.state();
    let mut text = format!("rotation    {name}\nstate       {}\n", state.as_str());
    if let Some(why) = &rotation.position.progress.why {
        text.push_str(&format!("because     {why}\n"));
    }
    let row = |round: &Round| {
        let Counts { waiting, asked, renewed, confirmed, overdue, failed } = round.counts;
        let mut cells = vec![round.number.to_string(), round.state.to_owned(), round.devices.to_string()];
        cells.extend([waiting, asked, renewed, confirmed, overdue, failed].map(|count| count.to_string()));
        cells
    };
    let columns = ["number", "state", "devices", "waiting", "asked", "renewed", "confirmed", "overdue", "failed"]
        .map(str::to_owned);
    text.push_str(&format!("\n{}", table(&columns, &rounds.iter().map(row).collect::<Vec<_>>())));
    if !troubled.is_empty() {
        let rows: Vec<Vec<String>> = troubled
            .iter()
            .map(|(id, standing)| vec![id.to_string(), standing.as_str().to_owned(), why(*standing).to_owned()])
            .collect();
        text.push_str(&format!("\n{}", table(&["device", "state", "why"].map(str::to_owned), &rows)));
    }
    context.console.show("tidy-warden/rotation/1", value, &text)?;
    match state {
        State::Prepared | State::WaitsForYou => context.console.note(format!("rotation start {name} goes on")),
        State::Stopped if rotation.job.ended.is_none() => {
            context
                .console
                .note(format!("rotation resume {name} goes on; job stop {} ends it for good", rotation.job.number));
        }
        _ => {}
    }
    Ok(Exit::Done)
}

fn list(context: &Context<'_>) -> Result<Exit, Problem> {
    let ward = context.ward()?;
    let all = rotation::all(&*ward.store)?;
    let row = |rotation: &Rotation| {
        vec![
            rotation.plan.name.clone(),
            rotation.state().as_str().to_owned(),
            format!(
                "{} of {}",
                (rotation.position.progress.round + 1).min(rotation.plan.terms.rounds.len()),
                rotation.plan.terms.rounds.len()
            ),
            format!("{} of {}", rotation.position.devices, rotation.plan.count),
            rotation.job.begun.to_string(),
            rotation.job.because.clone(),
        ]
    };
    context.console.list(Listing {
        schema: "tidy-warden/rotations/1",
        key: "rotations",
        items: all.iter().map(describe).collect(),
        columns: ["rotation", "state", "round", "asked", "prepared", "because"].map(str::to_owned).to_vec(),
        rows: all.iter().map(row).collect(),
        empty: "no rotations; rotation prepare NAME --where CONDITION makes one",
    })?;
    Ok(Exit::Done)
}

fn show(context: &Context<'_>, name: &str) -> Result<Exit, Problem> {
    let ward = context.ward()?;
    let rotation = rotation::named(&*ward.store, name)?;
    let terms = &rotation.plan.terms;
    let mut value = describe(&rotation);
    value["terms"] = json!({
        "rounds": terms.rounds, "per_hour": terms.per_hour, "hours": terms.hours.map(|(from, to)| format!("{from}-{to}")),
        "not_before": terms.not_before, "until": terms.until, "give_seconds": terms.give,
        "most_failed": terms.most_failed, "by_hand": terms.by_hand,
    });
    let maybe = |text: Option<String>| text.unwrap_or_else(|| "-".to_owned());
    let rounds: Vec<String> = terms.rounds.iter().map(ToString::to_string).collect();
    let text = format!(
        "rotation     {name}\nstate        {}\ndevices      {} with {}\nreplaces     {}\nrounds       {}\nan hour      {}\nhours        {}\n\
         not before   {}\nuntil        {}\neach has     {}\nmay fail     {} of a round\nnext round   {}\nprepared     {} by {}\nbecause      {}\n",
        rotation.state().as_str(),
        rotation.plan.count,
        rotation.plan.condition,
        rotation.plan.replaces.as_str(),
        rounds.join(", "),
        maybe(terms.per_hour.map(|most| format!("at most {most}"))),
        maybe(terms.hours.map(|(from, to)| format!("{from} to {to} UTC"))),
        maybe(terms.not_before.map(|at| at.to_string())),
        maybe(terms.until.map(|at| at.to_string())),
        length(terms.give),
        terms.most_failed,
        if terms.by_hand { "by hand" } else { "by itself" },
        rotation.job.begun,
        rotation.job.actor,
        if rotation.job.because.is_empty() { "-" } else { &rotation.job.because },
    );
    context.console.show("tidy-warden/rotation/1", value, &text)?;
    Ok(Exit::Done)
}

fn drive(context: &Context<'_>, name: &str, once: bool) -> Result<Exit, Problem> {
    let mut ward = context.ward()?;
    let rotation = rotation::named(&*ward.store, name)?;
    let (number, replaces) = (rotation.job.number, rotation.plan.replaces);
    // Without such kinds nobody is asked for a passphrase.
    let secrets = context.secrets();
    let by_errand = ward.settings.kinds.values().any(|kind| Asks::is_by_errand(kind, replaces));
    let signer = by_errand.then(|| ErrandSigner::open(&mut ward, &secrets)).transpose()?;
    let data = match replaces {
        Replaces::SharedKeys if by_errand => shared::data_key(&ward, &secrets)?,
        _ => None,
    };
    loop {
        let cause = ward.cause(None);
        let asks = Asks::new(&ward.settings, signer.as_ref(), data.as_ref());
        let done = rotation::drive(&mut ward.store, number, &asks, &cause)?;
        if done.is_anothers {
            context.console.note("another process drives it at this moment");
        }
        if done.asked > 0 {
            context
                .console
                .note(format!("asked {}", counted(usize::try_from(done.asked).unwrap_or(usize::MAX), "device")));
        }
        let rotation = rotation::named(&*ward.store, name)?;
        let state = rotation.state();
        if state != State::Running || once {
            let note = match &rotation.position.progress.why {
                Some(why) => format!("`{name}` is {}: {why}", state.as_str()),
                None => format!("`{name}` is {}", state.as_str()),
            };
            context.console.did(
                "tidy-warden/rotation-said/1",
                json!({ "rotation": name, "state": state.as_str() }),
                note,
            )?;
            return Ok(if state == State::Stopped { Exit::Refused } else { Exit::Done });
        }
        std::thread::sleep(TICK);
    }
}

/// Ends a rotation that was stopped, for `job stop`.
pub(super) fn end(context: &Context<'_>, ward: &mut Ward, name: &str) -> Result<Exit, Problem> {
    let cause = ward.cause(None);
    rotation::end(&mut ward.store, name, &cause)?;
    context.console.did(
        "tidy-warden/rotation-said/1",
        json!({ "rotation": name, "state": "stopped" }),
        format!("ended `{name}` where it stood"),
    )?;
    Ok(Exit::Done)
}
