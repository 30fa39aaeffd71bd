//! `watch`: what the guard of a ward does, as it happens; and the operator's own look at messages.

use std::collections::HashMap;
use std::time::Duration;

use serde_json::json;
use tidy_warden_core::condition::{Candidate, Condition};
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::text::{nearest, printable};
use tidy_warden_core::time::Span;
use tidy_warden_core::topic::{TopicFilter, TopicName};
use tidy_warden_guard::{Answer, Event, Request};
use tokio::io::{AsyncBufReadExt, AsyncWriteExt, BufReader, Lines};
use tokio::net::UnixStream;
use tokio::net::unix::OwnedReadHalf;
use tokio::time::Instant;

use super::{Context, guard, pick};
use crate::args::WatchArgs;
use crate::edge::{condition, parse};
use crate::problem::{Exit, Problem};
use crate::ward::{Ward, actor};

/// The longest event that is shown on one line.
const SHORT: usize = 100;

/// How long what a condition said of a device is believed.
const BELIEVED: Duration = Duration::from_secs(2);

pub(crate) fn run(context: &Context<'_>, args: &WatchArgs) -> Result<Exit, Problem> {
    let console = context.console;
    if !console.is_for_lines() {
        return Err(Problem::usage("watch goes on and on, which is no document")
            .next("--format jsonl gives one JSON object for each line"));
    }
    let ward = context.ward()?;
    for name in &args.only {
        if !Event::NAMES.contains(&name.as_str()) {
            let near = nearest(name, Event::NAMES).map(|near| format!("did you mean `{near}`?"));
            return Err(Problem::usage(format!("there is no event `{name}`"))
                .next(near.unwrap_or_else(|| format!("the events are: {}", Event::NAMES.join(", ")))));
        }
    }
    let length = args.length.as_deref().map(parse::<Span>).transpose()?;
    let length = length.map(|span| Duration::from_secs(u64::try_from(span.seconds()).unwrap_or(0)));
    let request = request(console, args)?;
    let runtime = tokio::runtime::Runtime::new().map_err(|error| Problem::failed("cannot start").because(error))?;
    let picked = match &args.condition {
        Some(text) => {
            let (condition, groups) = (condition(text)?, ward.groups()?);
            pick::known_names(&ward, &condition, &groups)?;
            Some(condition.resolve(&groups))
        }
        None => None,
    };
    let filter = Picker { ward: &ward, condition: picked, only: args.only.clone(), believed: HashMap::new() };
    runtime.block_on(async {
        let lines = ask(&ward, &request).await?;
        let until = length.map(|length| Instant::now() + length);
        follow(context, lines, filter, until).await
    })
}

/// What is asked of the guard. Looking at messages is an act that the audit record shows.
fn request(console: &crate::console::Console, args: &WatchArgs) -> Result<Request, Problem> {
    let send = match args.send.as_deref() {
        Some([topic, payload]) => {
            TopicName::parse(topic)
                .map_err(|error| Problem::usage(format!("`{topic}` is not a topic")).because(error))?;
            Some((topic.clone(), payload.clone()))
        }
        _ => None,
    };
    if args.topic.is_none() && send.is_none() {
        return Ok(Request::Events);
    }
    if let Some(filter) = &args.topic {
        let parsed = filter.parse::<TopicFilter>();
        parsed.map_err(|error| Problem::usage(format!("`{filter}` is not a topic filter")).because(error))?;
    }
    let because = console.reason(args.because.text())?;
    Ok(Request::Messages { filter: args.topic.clone(), send, actor: actor(), because })
}

/// Connects to the guard's socket and asks.
pub(super) async fn ask(ward: &Ward, request: &Request) -> Result<Lines<BufReader<OwnedReadHalf>>, Problem> {
    let path = ward.dir.join(guard::SOCKET);
    let nobody = |error: std::io::Error| {
        Problem::failed("no guard of this ward answers")
            .because(format!("{}: {error}", path.display()))
            .next("start it: guard --broker HOST:PORT; watch works on the guard's own machine and under its user")
    };
    let stream = UnixStream::connect(&path).await.map_err(nobody)?;
    let (reader, mut writer) = stream.into_split();
    let mut line = serde_json::to_string(request).map_err(|error| Problem::failed("cannot ask").because(error))?;
    line.push('\n');
    writer.write_all(line.as_bytes()).await.map_err(nobody)?;
    // The guard takes a closed side for the end.
    writer.forget();
    Ok(BufReader::new(reader).lines())
}

/// Which events are shown.
struct Picker<'w> {
    ward: &'w Ward,
    condition: Option<Condition>,
    only: Vec<String>,
    believed: HashMap<String, (Instant, bool)>,
}

impl Picker<'_> {
    fn wants(&mut self, device: Option<&str>, event: &serde_json::Value) -> Result<bool, Problem> {
        let kind = event["event"].as_str().unwrap_or_default();
        if !self.only.is_empty() && !self.only.iter().any(|each| each == kind) {
            return Ok(false);
        }
        let Some(condition) = &self.condition else { return Ok(true) };
        let Some(device) = device else { return Ok(false) };
        if let Some((_, holds)) = self.believed.get(device).filter(|(since, _)| since.elapsed() < BELIEVED) {
            return Ok(*holds);
        }
        let Ok(id) = device.parse::<DeviceId>() else { return Ok(false) };
        let view = self.ward.store.devices(std::slice::from_ref(&id))?.pop().flatten();
        let now = self.ward.now();
        let holds = view.is_some_and(|view| condition.holds(&Candidate::at(&view.device, &view.credentials, now)));
        self.believed.insert(device.to_owned(), (Instant::now(), holds));
        Ok(holds)
    }
}

/// Shows answers until the time is over, somebody interrupts, or the guard ends.
async fn follow(
    context: &Context<'_>,
    mut lines: Lines<BufReader<OwnedReadHalf>>,
    mut picker: Picker<'_>,
    until: Option<Instant>,
) -> Result<Exit, Problem> {
    let console = context.console;
    let broken = |error: std::io::Error| Problem::failed("the guard is gone").because(error);
    let interrupted = tokio::signal::ctrl_c();
    let mut interrupted = std::pin::pin!(interrupted);
    loop {
        let over = async {
            match until {
                Some(until) => tokio::time::sleep_until(until).await,
                None => std::future::pending().await,
            }
        };
        let line = tokio::select! {
            line = lines.next_line() => line.map_err(broken)?,
            () = over => return Ok(Exit::Done),
            _ = &mut interrupted => return Ok(Exit::Done),
        };
        let Some(line) = line else {
            console.note("the guard ended it");
            return Ok(Exit::Done);
        };
        let answer: Answer = serde_json::from_str(&line)
            .map_err(|error| Problem::failed("the guard's answer cannot be read").because(error))?;
        let plain = console.is_for_people();
        match answer {
            Answer::Begun { entry: Some(entry) } => console.note(format!("entry {entry} of the audit record")),
            Answer::Begun { entry: None } => console.note("watching; Ctrl-C ends it"),
            Answer::Event { time, device, text, event } => {
                if picker.wants(device.as_deref(), &event)? {
                    let mut value = json!({ "time": time });
                    if let (Some(value), Some(event)) = (value.as_object_mut(), event.as_object()) {
                        value.extend(event.clone());
                    }
                    let why = value["why"].as_str().unwrap_or_default();
                    // A reason is often longer than the line has room for.
                    let text = match text.strip_suffix(why).and_then(|act| act.strip_suffix(": ")) {
                        Some(act) if text.len() > SHORT => format!("{act}\n    {why}"),
                        _ => text,
                    };
                    console.write(&if plain { format!("{time}  {text}\n") } else { format!("{value}\n") })?;
                }
            }
            Answer::Lost { count } => console.warn(format!("{count} events came faster than they could be shown")),
            Answer::Message { time, topic, payload, size, retain, sender } => {
                let value = json!({
                    "time": time, "topic": topic, "payload": payload, "size": size, "retain": retain, "sender": sender,
                });
                let from = sender.map_or_else(|| "sender not proved".to_owned(), |sender| format!("from {sender}"));
                let kept = if retain { ", retained" } else { "" };
                // What could steer the terminal is shown as what it is.
                let shown = printable(&payload);
                let text = format!("{time}  {topic}  ({from}, {size} bytes{kept})\n    {shown}\n");
                console.write(&if plain { text } else { format!("{value}\n") })?;
            }
            // That is an answer to other questions.
            Answer::Done { .. } => {}
            Answer::Sent { code: 0 } => console.note("sent, and taken by the broker"),
            Answer::Sent { code: 0x10 } => console.note("sent; nobody subscribes to that topic now"),
            Answer::Sent { code } => {
                return Err(Problem::refused("the message was not taken").because(format!("PUBACK 0x{code:02x}")));
            }
            Answer::Failed { why } => return Err(Problem::failed("the guard could not do it").because(why)),
        }
    }
}
