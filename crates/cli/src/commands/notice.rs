//! `notice`: what a web service is told.

use serde_json::json;
use tidy_warden_core::key::thumbprint;
use tidy_warden_core::notice::NoticeRecord;
use tidy_warden_core::token::key_set;
use tidy_warden_ward::notice;

use super::Context;
use crate::args::NoticeCommand;
use crate::console::Listing;
use crate::problem::{Exit, Problem};

pub(crate) fn run(context: &Context<'_>, command: &NoticeCommand) -> Result<Exit, Problem> {
    match command {
        NoticeCommand::List { last } => list(context, *last),
        NoticeCommand::Test => test(context),
        NoticeCommand::Key => key(context),
    }
}

fn state(notice: &NoticeRecord) -> &'static str {
    match (notice.taken, notice.due, notice.tries) {
        (Some(_), ..) => "taken",
        (None, None, _) => "failed",
        (None, Some(_), 0) => "waiting",
        (None, Some(_), _) => "tried",
    }
}

fn list(context: &Context<'_>, last: usize) -> Result<Exit, Problem> {
    let ward = context.ward()?;
    let all = ward.store.notices(i64::MAX, last)?;
    let row = |notice: &NoticeRecord| {
        vec![
            notice.number.to_string(),
            state(notice).to_owned(),
            notice.at.to_string(),
            notice.tries.to_string(),
            notice.failed.clone().unwrap_or_else(|| "-".to_owned()),
            notice.body.chars().take(100).collect(),
        ]
    };
    let describe = |notice: &NoticeRecord| {
        json!({
            "number": notice.number, "id": notice.id, "state": state(notice), "at": notice.at, "tries": notice.tries,
            "due": notice.due, "taken": notice.taken, "because": notice.failed,
            "body": serde_json::from_str::<serde_json::Value>(&notice.body).ok(),
        })
    };
    context.console.list(Listing {
        schema: "tidy-warden/notices/1",
        key: "notices",
        items: all.iter().map(describe).collect(),
        columns: ["notice", "state", "made", "tries", "because", "says"].map(str::to_owned).to_vec(),
        rows: all.iter().map(row).collect(),
        empty: "no notices; a reflex with then = \"notify\" makes them, and notice test one for trying",
    })?;
    Ok(Exit::Done)
}

fn test(context: &Context<'_>) -> Result<Exit, Problem> {
    let mut ward = context.ward()?;
    let Some(target) = &ward.settings.notices.target else {
        return Err(Problem::refused("there is nobody to tell")
            .because("ward.toml has no address")
            .next("url = \"https://...\" under [notices]"));
    };
    let url = target.url.clone();
    let (urn, cause) = (ward.record.urn.clone(), ward.cause(None));
    match notice::try_it(&mut ward.store, &urn, &cause)? {
        true => {
            let said = json!({ "url": url });
            context.console.did(
                "tidy-warden/notice-test/1",
                said,
                format!("a desk tells {url}; see what comes of it: notice list"),
            )?;
            Ok(Exit::Done)
        }
        false => Err(Problem::refused("there is no room for more notices").next("notice list")),
    }
}

fn key(context: &Context<'_>) -> Result<Exit, Problem> {
    let ward = context.ward()?;
    let key = notice::key(&ward, &context.secrets())?;
    let set: serde_json::Value = serde_json::from_str(&key_set(&[key.public_key()]))
        .map_err(|error| Problem::failed("the key cannot be written").because(error))?;
    let text = format!("{}\n", set["keys"][0]);
    let value = json!({ "keyid": thumbprint(key.public_key()), "jwk": set["keys"][0] });
    context.console.show("tidy-warden/notice-key/1", value, &text)?;
    Ok(Exit::Done)
}
