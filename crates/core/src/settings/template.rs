//! The text of a new `ward.toml`, and the reference of all settings.

use super::claims::CLAIMS;
use super::desk;
use super::due::DUE;
use super::guard::GUARD;
use super::here::POST;
use super::key::{Key, Section, Value};
use super::kind::KIND;
use super::notice::NOTICES;
use super::own::OWN;
use super::reflex::REFLEX;
use super::store::STORE;
use super::ward::{CA, CRL, DESK, ENDPOINTS, ENTERPRISE_NUMBER, Endpoints, HSM, MAKER, MQTT, WARD};
use crate::host::Endpoint;

/// The column at which the template's comments begin, where there is room.
const COLUMN: usize = 34;

/// The longest line of the template.
const WIDTH: usize = 124;

/// The text of a new `ward.toml`. `name` must satisfy [`super::check_ward_name`], `host` [`crate::host::check_host`].
#[must_use]
pub fn new_text(name: &str, host: &str, enterprise_number: Option<u32>, crl: Option<&str>) -> String {
    let Endpoints { mqtt, desk, .. } = Endpoints::at(host);
    let name = name.replace('\\', "\\\\").replace('"', "\\\"");
    let mut text = format!(
        "# The settings of one ward. Every command reads this file; a running guard reads it when it starts.\n\n{}\n",
        WARD.example
    );
    text.push_str(&format!("name = \"{name}\"\n"));
    match enterprise_number {
        Some(number) => text.push_str(&format!("{} = {number}\n", ENTERPRISE_NUMBER.name)),
        None => text.push_str(&offered(&ENTERPRISE_NUMBER, ENTERPRISE_NUMBER.value.toml())),
    }
    text.push_str(&format!("\n{}\n", ENDPOINTS.example));
    for (key, endpoint) in [(&MQTT, &mqtt), (&DESK, &desk)] {
        text.push_str(&line(key, &format!("\"{endpoint}\""), ""));
    }
    match crl {
        Some(url) => {
            text.push_str(&line(&CRL, &format!("\"{url}\""), ""));
            // As the desk has them, beside each other.
            if let Some(beside) = url.strip_suffix("/crl/") {
                text.push_str(&line(&CA, &format!("\"{beside}/ca/\""), ""));
            }
        }
        None => {
            let place = Endpoint { host: host.to_owned(), port: 8080 };
            for (key, path) in [(&CRL, "crl"), (&CA, "ca")] {
                text.push_str(&offered(key, &format!("\"http://{place}/{path}/\"")));
            }
        }
    }
    text.push_str("\n# Below, every key that may be set, with what holds without it, or with an example.\n");
    for section in [KIND, OWN, STORE, HSM, MAKER, GUARD, desk::DESK, CLAIMS, DUE, REFLEX, NOTICES] {
        text.push_str(&format!("#\n# {}    # {}\n", section.example, section.about));
        section.keys.iter().for_each(|key| text.push_str(&offered(key, key.value.toml())));
    }
    text
}

/// A line that sets nothing until its first two characters are taken away.
fn offered(key: &Key, value: &str) -> String {
    line(key, value, "# ")
}

/// A key with its value and, behind it or below, what it is for.
fn line(key: &Key, value: &str, before: &str) -> String {
    let set = format!("{before}{} = {value}", key.name);
    let mut out = set.clone();
    let gap = COLUMN.saturating_sub(set.chars().count()).max(2);
    out.push_str(&" ".repeat(gap));
    let indent = set.chars().count() + gap;
    let (mut at, mut first) = (indent, true);
    for word in key.help.split(' ') {
        let len = word.chars().count() + 1;
        if first {
            out.push('#');
            at += 1;
            first = false;
        } else if at + len > WIDTH {
            out.push_str(&format!("\n#{}#", " ".repeat(COLUMN - 1)));
            at = COLUMN + 1;
        }
        out.push(' ');
        out.push_str(word);
        at += len;
    }
    out.push('\n');
    out
}

/// All settings, as `docs/settings.md` has them.
#[must_use]
pub fn reference() -> String {
    let mut text = "# Settings\n\nEvery key that `ward.toml` may have. This page is made from the tables that the program reads by; a test \
                    holds it to them.\n`settings check` finds every mistake in the file, and what does not fit the ward.\n"
        .to_owned();
    for Section { head, about, keys, .. } in
        [WARD, ENDPOINTS, KIND, OWN, STORE, HSM, MAKER, GUARD, desk::DESK, CLAIMS, DUE, REFLEX, NOTICES, POST]
    {
        text.push_str(&format!("\n## `{head}`\n\n{about}\n\n| key | without it | what it is |\n| --- | --- | --- |\n"));
        for key in keys {
            let default = match key.value {
                Value::Default(value) => format!("`{value}`"),
                Value::Example(_) => "-".to_owned(),
            };
            let example = match key.value {
                Value::Default(_) => String::new(),
                Value::Example(value) => format!(", such as `{value}`"),
            };
            let expected = if key.expected.is_empty() { "a whole number" } else { key.expected };
            // What is expected often ends with an example of its own.
            let example = if expected.contains("such as") { String::new() } else { example };
            text.push_str(&format!("| `{}` | {default} | {}. Expected: {expected}{example} |\n", key.name, key.help));
        }
    }
    text
}
