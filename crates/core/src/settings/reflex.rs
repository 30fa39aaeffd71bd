//! `[reflexes.NAME]`: what the ward does by itself.

use std::collections::BTreeMap;

use super::key::{Key, Section};
use super::notice::NoticeSettings;
use super::reader::{Reader, Table, span_of};
use crate::condition::{Condition, Use};
use crate::id::ReflexName;
use crate::reflex::{AtMost, Reflex, Then};
use crate::text::Source;

/// The keys of a reflex.
pub(super) const REFLEX: Section = Section {
    head: "[reflexes.NAME]",
    example: "[reflexes.copied-keys]",
    about: "What a desk does by itself when something happens to a device. There is none until one is written.",
    keys: &[WHEN, WHERE, THEN, AT_MOST],
};

const WHEN: Key = Key::example(
    "when",
    "\"clone-sign\"",
    "\"clone-sign\", \"refusals > 100 in 10m\", \"silent > 30d\", \"token-replay\", \"cert.ends within 3d\" or \"unknown-child\"",
    "when it acts; needed",
);
const WHERE: Key = Key::example(
    "where",
    "\"kind = windvane\"",
    "a condition, such as \"kind = windvane\"",
    "about which devices; about all without it",
);
const THEN: Key = Key::example(
    "then",
    "\"hold\"",
    "\"record\", \"notify\", \"hold\", \"revoke\" or \"errand renew\"",
    "what it does; needed. A hold or a revocation needs a clone sign or refusals, errand renew a certificate that ends",
);
const AT_MOST: Key = Key::default(
    "at_most",
    "\"5 in 1h\"",
    "a number and a time, such as \"5 in 1h\"",
    "how often it acts; then it stops and asks. Of what comes from one network no more than half of that",
);

/// The most reflexes of a ward.
const MOST: usize = 50;

impl Reader<'_> {
    pub(super) fn reflexes(&mut self, root: &Table<'_>, notices: &NoticeSettings) -> BTreeMap<ReflexName, Reflex> {
        let named = self.named::<ReflexName>(root, "reflexes", "copied-keys");
        let mut all = BTreeMap::new();
        for (name, table) in named {
            self.only(table, &format!("[reflexes.{name}]"), &REFLEX);
            let when = self.text(table, &WHEN, |text| text.parse().ok());
            let then = self.text(table, &THEN, |text| text.parse().ok());
            let condition =
                self.text(table, &WHERE, |text| Condition::parse(&Source::new("where", text), Use::Picking).ok());
            let at_most: AtMost = self.text(table, &AT_MOST, |text| text.parse().ok()).unwrap_or_default();
            for key in [&WHEN, &THEN] {
                if !table.contains_key(key.name) {
                    let place = span_of(root, &["reflexes", name.as_str()]).unwrap_or(0..0);
                    let expected = format!("expected {} = {}", key.name, key.value.toml());
                    self.complain(place, format!("the reflex `{name}` does not say `{}`", key.name), &expected);
                }
            }
            let (Some(when), Some(then)) = (when, then) else { continue };
            let when: crate::reflex::When = when;
            if then == Then::Notify && notices.target.is_none() {
                let place = span_of(root, &["reflexes", name.as_str(), THEN.name]).unwrap_or(0..0);
                self.complain(
                    place,
                    "there is nobody to tell".to_owned(),
                    "expected url = \"https://...\" under [notices]",
                );
                continue;
            }
            if !when.may_lead_to(then) {
                let place = span_of(root, &["reflexes", name.as_str(), THEN.name]).unwrap_or(0..0);
                let problem = format!("{when} does not lead to {}", then.as_str());
                self.complain(
                    place,
                    problem,
                    "expected then = \"record\": nobody has proved that with the device's key",
                );
                continue;
            }
            all.insert(name, Reflex { when, condition, then, at_most });
        }
        if all.len() > MOST {
            let place = span_of(root, &["reflexes"]).unwrap_or(0..0);
            self.complain(place, format!("there are {} reflexes", all.len()), "expected at most 50");
            all.clear();
        }
        all
    }
}
