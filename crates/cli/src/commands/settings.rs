//! `settings check`: every mistake in ward.toml in one pass.

use serde_json::json;

use super::Context;
use crate::problem::{Exit, Problem};
use crate::ward::{SETTINGS, read_settings};

pub(crate) fn run(context: &Context<'_>) -> Result<Exit, Problem> {
    let (settings, _) = read_settings(&context.dir)?;
    let kinds: Vec<_> = settings.kinds.keys().map(ToString::to_string).collect();
    let text = match kinds.len() {
        0 => format!("{SETTINGS} is in order; no kind is declared yet\n"),
        _ => format!("{SETTINGS} is in order; kinds: {}\n", kinds.join(", ")),
    };
    context.console.show("tidy-warden/settings/1", json!({ "name": settings.name, "kinds": kinds }), &text)?;
    Ok(Exit::Done)
}
