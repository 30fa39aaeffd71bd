//! `device retained`: what a device left at the broker for everybody who subscribes later.

use serde_json::json;
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::policy::{self, Edition, Fleet};
use tidy_warden_core::topic::TopicFilter;
use tidy_warden_guard::{Answer, Request};
use tokio::io::{BufReader, Lines};
use tokio::net::unix::OwnedReadHalf;

use crate::args::RetainedArgs;
use crate::commands::{Context, watch};
use crate::console::{Listing, counted};
use crate::edge::parse;
use crate::problem::{Exit, Problem};
use crate::ward::{Ward, actor};

/// A retained message that only one device can have written.
struct Left {
    topic: String,
    /// Octets of its payload.
    size: usize,
    /// How that is known.
    because: &'static str,
}

/// A retained message as the guard tells it: topic, octets of payload, proved sender.
type Told = (String, usize, Option<String>);

pub(super) fn run(context: &Context<'_>, args: &RetainedArgs) -> Result<Exit, Problem> {
    let console = context.console;
    let ward = context.ward()?;
    let id: DeviceId = parse(&args.device)?;
    let device = ward.device(&id)?.device;
    let edition = ward.edition()?.ok_or_else(|| {
        Problem::not_found("no policy edition is adopted, so it is not known what the device could write")
            .next("policy adopt")
    })?;
    let because = console.reason(args.because.text())?;
    let (filters, left_out) = filters(&ward, &edition, &device)?;
    let runtime = tokio::runtime::Runtime::new().map_err(|error| Problem::failed("cannot start").because(error))?;
    let request = Request::Retained { filters, actor: actor(), because: because.clone() };
    let (told, _) = runtime.block_on(answers(&ward, &request))?;
    let left = only_of(&ward, &edition, &device, &told)?;
    let others = told.len() - left.len();
    if !args.clear || console.is_for_people() {
        list(context, &left)?;
    }
    if others > 0 {
        let what = if others == 1 { "message that others may have" } else { "messages that others may have" };
        console.note(format!("{others} more retained {what} written on topics that {id} may publish to"));
    }
    if left_out > 0 {
        console.warn(format!("{} of its filters were not asked about; there are too many", left_out));
    }
    if !args.clear {
        if !left.is_empty() {
            console.note(format!("take them away: device retained {id} --clear"));
        }
        return Ok(Exit::Done);
    }
    let topics: Vec<String> = left.into_iter().map(|each| each.topic).collect();
    if topics.is_empty() && console.is_for_people() {
        return Ok(Exit::Done);
    }
    let mut cleared = 0;
    if !topics.is_empty() {
        let question = format!("Take {} of {id} away from the broker?", counted(topics.len(), "retained message"));
        console.confirm(&question, args.yes)?;
        for some in topics.chunks(Request::MOST) {
            let (device, because) = (id.to_string(), because.clone());
            let request = Request::Clear { topics: some.to_vec(), device, actor: actor(), because };
            cleared += runtime.block_on(answers(&ward, &request))?.1;
        }
    }
    let note = format!("took {} of {id} away", counted(cleared, "retained message"));
    console.did("tidy-warden/retained-cleared/1", json!({ "device": id, "topics": topics }), note)?;
    Ok(Exit::Done)
}

/// The filters that the device may publish to, itself and for its children, whether or not it may do so at this moment; and
/// how many were too many.
fn filters(ward: &Ward, edition: &Edition, device: &DeviceRecord) -> Result<(Vec<String>, usize), Problem> {
    let rights = ward.rights(edition, device)?;
    let own = rights.publish_filters().map(|filter| filter.to_string());
    let for_children = rights.child_publish_filters().map(ToString::to_string);
    let mut all: Vec<String> = own.chain(for_children).collect();
    all.sort();
    all.dedup();
    let left_out = all.len().saturating_sub(Request::MOST);
    all.truncate(Request::MOST);
    Ok((all, left_out))
}

/// Asks the guard; gives the messages it tells, and the number that it ends with.
async fn answers(ward: &Ward, request: &Request) -> Result<(Vec<Told>, usize), Problem> {
    let mut lines: Lines<BufReader<OwnedReadHalf>> = watch::ask(ward, request).await?;
    let mut told = Vec::new();
    let gone = || Problem::failed("the guard ended before it had answered").next("see its log");
    while let Some(line) = lines.next_line().await.map_err(|error| gone().because(error))? {
        let answer: Answer = serde_json::from_str(&line)
            .map_err(|error| Problem::failed("the guard's answer cannot be read").because(error))?;
        match answer {
            Answer::Message { topic, size, sender, .. } => told.push((topic, size, sender)),
            Answer::Done { count } => return Ok((told, count)),
            Answer::Failed { why } => return Err(Problem::failed("the guard could not do it").because(why)),
            _ => {}
        }
    }
    Err(gone())
}

/// Those that only `device` can have written: the guard proved that it did, or nobody else may publish there, now or when
/// devices that are out come back.
fn only_of(ward: &Ward, edition: &Edition, device: &DeviceRecord, told: &[Told]) -> Result<Vec<Left>, Problem> {
    let unproved: Vec<TopicFilter> =
        told.iter().filter(|(_, _, sender)| sender.is_none()).filter_map(|(topic, ..)| topic.parse().ok()).collect();
    let mut fleet = Fleet::new(&[edition], unproved.iter().flat_map(policy::filter_texts));
    if !unproved.is_empty() {
        ward.fill(&mut fleet)?;
    }
    let nobody_else = |topic: &str| {
        topic.parse().is_ok_and(|filter: TopicFilter| {
            let found = policy::reach(&fleet, &ward.settings, &filter);
            let mut who = found.publish.iter().flat_map(|by| &by.samples);
            found.publishers == 1 && who.all(|each| each.device == device.id.as_str())
        })
    };
    let left = told.iter().filter_map(|(topic, size, sender)| {
        let because = match sender {
            Some(sender) if sender == device.id.as_str() => "the guard saw it send it",
            Some(_) => return None,
            None if nobody_else(topic) => "nobody else may publish there",
            None => return None,
        };
        Some(Left { topic: topic.clone(), size: *size, because })
    });
    let mut left: Vec<Left> = left.collect();
    left.sort_by(|one, other| one.topic.cmp(&other.topic));
    Ok(left)
}

fn list(context: &Context<'_>, left: &[Left]) -> Result<(), Problem> {
    context.console.list(Listing {
        schema: "tidy-warden/retained/1",
        key: "messages",
        items: left
            .iter()
            .map(|each| json!({ "topic": each.topic, "size": each.size, "because": each.because }))
            .collect(),
        columns: ["topic", "bytes", "because"].map(str::to_owned).to_vec(),
        rows: left
            .iter()
            .map(|each| vec![each.topic.clone(), each.size.to_string(), each.because.to_owned()])
            .collect(),
        empty: "the broker has no retained message that only it can have written",
    })
}
