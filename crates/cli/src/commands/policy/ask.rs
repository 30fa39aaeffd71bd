//! `policy ask`: one device, one act.

use serde_json::json;
use tidy_warden_core::errand::Place as ErrandPlace;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::policy::{Denial, Granted, NoMeter, Publish, Rights};
use tidy_warden_core::topic::{ShareName, TopicFilter, TopicName, split_share};

use super::Context;
use crate::args::{AskArgs, AskedAct};
use crate::edge::parse;
use crate::problem::{Exit, Problem};
use crate::ward::Ward;

/// An act that is asked about, checked.
enum Asked<'a> {
    Connect(&'a str),
    Publish(Publish<'a>),
    Subscribe(Option<ShareName>, TopicFilter, u8),
}

/// Decides what is asked, using nothing up.
fn decide(rights: &Rights, asked: &Asked<'_>) -> Result<Granted, Denial> {
    match asked {
        Asked::Connect(client_id) => rights.connect(client_id),
        Asked::Publish(act) => {
            rights.publish(*act, &mut NoMeter).map(|admitted| Granted { rule: admitted.rule.clone(), qos: act.qos })
        }
        Asked::Subscribe(share, filter, qos) => rights.subscribe(filter, *qos, share.as_deref()),
    }
}

fn asked(args: &AskArgs) -> Result<Asked<'_>, Problem> {
    let subject = |what: &str| {
        let given = args.subject.as_deref();
        given.ok_or_else(|| Problem::usage(format!("{what} is missing")).next("see policy ask --help"))
    };
    Ok(match args.act {
        AskedAct::Connect => {
            let given = args.subject.as_ref().or(args.client_id.as_ref());
            // An empty one becomes the device's id.
            Asked::Connect(given.filter(|given| !given.is_empty()).unwrap_or(&args.device))
        }
        AskedAct::Publish => {
            let topic = TopicName::parse(subject("the topic")?).map_err(|error| Problem::refused(error.to_string()))?;
            Asked::Publish(Publish { topic, qos: args.qos, retain: args.retain, size: args.size })
        }
        AskedAct::Subscribe => {
            let (share, filter) =
                split_share(subject("the topic filter")?).map_err(|error| Problem::refused(error.to_string()))?;
            Asked::Subscribe(share, filter, args.qos)
        }
    })
}

/// Whether an act is one that the guard itself lets the device do, on the ward's own topics.
fn is_own(ward: &Ward, id: &DeviceId, asked: &Asked<'_>) -> bool {
    let reserved = &ward.settings.guard.reserved;
    match asked {
        Asked::Publish(act) => {
            matches!(reserved.place(act.topic.as_str()), Some(ErrandPlace::Answer { receiver, .. }) if receiver == id.as_str())
        }
        Asked::Subscribe(None, filter, _) => reserved.asks_for(&filter.to_string(), id.as_str()) == Some(true),
        _ => false,
    }
}

pub(super) fn ask(context: &Context<'_>, args: &AskArgs) -> Result<Exit, Problem> {
    let ward = context.ward()?;
    let view = ward.device(&parse(&args.device)?)?;
    let asked = asked(args)?;
    let edition = if args.draft { Some(ward.draft()?) } else { ward.edition()? };
    let mut brought_in = None;
    let decision = match &edition {
        Some(edition) => {
            let rights = ward.rights(edition, &view.device)?;
            if let Asked::Publish(act) = &asked {
                let unknown = rights.unknown_child(act.topic);
                brought_in = unknown.map(|unknown| (unknown.child, unknown.by.clone()));
            }
            let connected = args.client_id.as_deref().map_or(Ok(()), |id| rights.connect(id).map(|_| ()));
            connected.and_then(|()| decide(&rights, &asked))
        }
        None => Err(Denial::NoEdition),
    };
    let barred = view.device.barred();
    let number = edition.as_ref().map_or(0, |edition| edition.number);
    let rule = match &decision {
        Ok(granted) => Some(&granted.rule),
        Err(denial) => denial.rule(),
    };
    let by = match (args.draft, number) {
        (true, _) => "the draft in policies/".to_owned(),
        (false, number) => format!("edition {number}"),
    };
    let is_own = is_own(&ward, &view.device.id, &asked);
    let allowed = (decision.is_ok() || is_own) && barred.is_none();
    let mut text = if allowed { "allowed\n".to_owned() } else { "denied\n".to_owned() };
    if let Some(barred) = barred {
        let if_not = if decision.is_ok() { "allow" } else { "deny" };
        text.push_str(&format!("  because {barred}; if it were not, policy would {if_not} it:\n"));
    }
    if let Some(rule) = rule {
        text.push_str(&format!("  by {}\n     {rule}\n", rule.at));
    }
    if is_own {
        text.push_str(
            "  by the guard itself: it is the device's own among the ward's topics, and policies are not asked\n",
        );
    }
    let why = match &decision {
        _ if is_own => None,
        Ok(_) => None,
        Err(denial) if rule.is_some() => denial.detail(),
        Err(denial) => Some(denial.to_string()),
    };
    if let Some(why) = why {
        text.push_str(&format!("  because {why}\n"));
    }
    let brought_in = brought_in.filter(|_| decision.is_err() && barred.is_none());
    if let Some((child, by)) = &brought_in {
        text.push_str(&format!("  `{child}` would be brought in as a {} by {}\n     {by}\n", by.kind, by.at));
    }
    if let (Ok(granted), Asked::Subscribe(_, _, wanted)) = (&decision, &asked)
        && granted.qos < *wanted
    {
        text.push_str(&format!("  at qos {}, not {wanted}\n", granted.qos));
    }
    if edition.is_some() && !is_own {
        text.push_str(&format!("  decided by {by}\n"));
    }
    let value = json!({
        "device": view.device.id, "allowed": allowed, "edition": number, "draft": args.draft,
        "barred": barred.map(|barred| barred.to_string()), "policy_allows": decision.is_ok(),
        "because": barred.map(|barred| barred.to_string()).or(decision.as_ref().err().filter(|_| !is_own).map(ToString::to_string)),
        "reserved": is_own,
        "brings_in": brought_in.as_ref().map(|(child, by)| json!({ "child": child, "kind": by.kind, "most": by.most })),
        "qos": decision.as_ref().ok().map(|granted| granted.qos),
        "rule": rule.map(|rule| json!({
            "policy": rule.at.policy, "file": rule.at.place.file, "line": rule.at.place.line,
            "column": rule.at.place.column, "text": rule.to_string(),
        })),
    });
    context.console.show("tidy-warden/policy-answer/1", value, &text)?;
    Ok(if allowed { Exit::Done } else { Exit::Refused })
}
