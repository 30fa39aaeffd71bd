//! Reads `[kinds.NAME]`, and complains of what is wrong in it.

use std::collections::BTreeMap;

use super::keys::{
    ACCEPT, ACCEPT_WITHOUT_CODE, ADMIT, AUTHORITY, CARRIES, CLAIM, CLAIM_ROTATE, CLAIM_WINDOW, CLONE_WATCH, ERRANDS,
    FACTS, GATEWAY_ENROLS, HARDWARE_TYPE, ID, IDENTIFY, KEY, KIND, KIND_ON_REFUSAL, LEAST_LIFE, LIFE, NAMES, OVERLAP,
    OWN_TOKEN_LIFE, RENEW, RENEWS, RENEWS_KEYS, ROLE, SERVER_KEYS, SHARED_KEYS, SUBJECT, TOKEN_LIFE, TOKEN_LOGIN,
    USAGE,
};
use super::{Admit, CloneWatch, KeyFamily, Kind, Renews, Role};
use crate::certificate::Attribute;
use crate::claim::{ClaimBy, LONGEST_WINDOW};
use crate::errand::Purpose;
use crate::fact::FactName;
use crate::id::{KindName, LabelName};
use crate::key::NewKey;
use crate::profile::{NameTemplate, Profile, TextTemplate};
use crate::settings::guard::OnRefusal;
use crate::settings::own::{OwnFact, is_unique};
use crate::settings::reader::{Reader, Table, span_of};
use crate::time::Span;

/// Whether a text has a fact in braces, and nothing else in braces.
fn is_pattern(text: &str, is_fact: &dyn Fn(&FactName) -> bool) -> bool {
    let mut parts = text.split('{');
    let first = parts.next().is_some_and(|first| !first.contains('}'));
    let mut count = 0;
    let closed = parts.all(|part| {
        count += 1;
        part.split_once('}')
            .is_some_and(|(name, rest)| FactName::parse(name).is_ok_and(|name| is_fact(&name)) && !rest.contains('}'))
    });
    first && closed && count > 0 && text.len() <= 128
}

impl Reader<'_> {
    pub(in crate::settings) fn kinds(
        &mut self,
        root: &Table<'_>,
        facts: &BTreeMap<LabelName, OwnFact>,
    ) -> BTreeMap<KindName, Kind> {
        let named = self.named::<KindName>(root, "kinds", "windvane");
        named.into_iter().map(|(name, table)| (name.clone(), self.kind(table, name.as_str(), facts))).collect()
    }

    /// Complains of names that cannot be made without the ward's enterprise number.
    pub(in crate::settings) fn need_enterprise_number(&mut self, root: &Table<'_>, kinds: &BTreeMap<KindName, Kind>) {
        for (name, kind) in kinds {
            if kind.profile.names.iter().any(NameTemplate::needs_enterprise_number)
                && let Some(range) = span_of(root, &["kinds", name.as_str(), "names"])
            {
                let problem = "these names need the ward's enterprise_number".to_owned();
                self.complain(range, problem, "expected enterprise_number = ... in [ward]");
            }
        }
    }

    fn kind(&mut self, table: &Table<'_>, word: &str, facts: &BTreeMap<LabelName, OwnFact>) -> Kind {
        self.only(table, &format!("[kinds.{word}]"), &KIND);
        let default = Kind::default();
        let least = |least: i64| move |text: &str| text.parse::<Span>().ok().filter(|span| span.seconds() >= least);
        let role = |text: &str| match text {
            "device" => Some(Role::Device),
            "service" => Some(Role::Service),
            _ => None,
        };
        let server = |text: &str| match text {
            "client" => Some(false),
            "client+server" => Some(true),
            _ => None,
        };
        let renews = |text: &str| match text {
            "device" => Some(Renews::Device),
            "errand" => Some(Renews::Errand),
            "person" => Some(Renews::Person),
            _ => None,
        };
        let own_errand = |text: &str| match text.parse::<Purpose>() {
            Ok(own @ Purpose::Own(_)) => Ok(own),
            _ => Err(String::new()),
        };
        let watch = |text: &str| match text {
            "off" => Some(CloneWatch::Off),
            "record" => Some(CloneWatch::Record),
            "hold" => Some(CloneWatch::Hold),
            _ => None,
        };
        let claim =
            |text: &str| [ClaimBy::Code, ClaimBy::Name, ClaimBy::Nobody].into_iter().find(|by| by.as_str() == text);
        let window = |text: &str| least(30)(text).filter(|span| *span <= LONGEST_WINDOW);
        let rotate = |text: &str| if text == "never" { Some(None) } else { least(0)(text).map(Some) };
        let new_key = |text: &str| NewKey::FOR_DEVICES.into_iter().find(|key| key.as_str() == text);
        let family =
            |text: &str| KeyFamily::ALL.into_iter().find(|family| family.as_str() == text).ok_or_else(String::new);
        let admit = |text: &str| Admit::ALL.into_iter().find(|admit| admit.as_str() == text);
        let carried = |text: &str| text.parse::<KindName>().map_err(|error| error.to_string());
        let is_fact = |name: &FactName| match name {
            FactName::Own(name) => facts.contains_key(name),
            _ => true,
        };
        let fact = |text: &str| FactName::parse(text).ok().filter(is_fact).ok_or_else(String::new);
        Kind {
            role: self.text(table, &ROLE, role).unwrap_or(default.role),
            key: self.text(table, &KEY, new_key).unwrap_or(default.key),
            accept: self.list(table, &ACCEPT, family).unwrap_or(default.accept),
            life: self.text(table, &LIFE, least(60)).unwrap_or(default.life),
            least_life: self.text(table, &LEAST_LIFE, least(0)).unwrap_or(default.least_life),
            profile: self.profile(table, default.profile),
            server: self.text(table, &USAGE, server).unwrap_or(default.server),
            authority: self.text(table, &AUTHORITY, |text| text.parse().ok()),
            overlap: self.overlap(table, default.overlap, default.life),
            renew: self.text(table, &RENEW, least(60)),
            renews: self.text(table, &RENEWS, renews),
            errands: self.list(table, &ERRANDS, own_errand).unwrap_or_default().into_iter().collect(),
            token_login: self.flag(table, &TOKEN_LOGIN).unwrap_or(default.token_login),
            token_life: self.text(table, &TOKEN_LIFE, least(1)).unwrap_or(default.token_life),
            shared_keys: self.flag(table, &SHARED_KEYS).unwrap_or(default.shared_keys),
            renews_keys: self.text(table, &RENEWS_KEYS, renews).unwrap_or(default.renews_keys),
            own_token_life: self.text(table, &OWN_TOKEN_LIFE, least(1)).unwrap_or(default.own_token_life),
            facts: self.list(table, &FACTS, fact).unwrap_or_default(),
            admit: self.text(table, &ADMIT, admit).unwrap_or(default.admit),
            identify: self.identify(table, fact, facts),
            id: self.text(table, &ID, |text| is_pattern(text, &is_fact).then(|| text.to_owned())),
            accept_without_code: self.flag(table, &ACCEPT_WITHOUT_CODE).unwrap_or(default.accept_without_code),
            server_keys: self.flag(table, &SERVER_KEYS).unwrap_or(default.server_keys),
            gateway_enrols: self.flag(table, &GATEWAY_ENROLS).unwrap_or(default.gateway_enrols),
            carries: self.list(table, &CARRIES, carried).unwrap_or(default.carries),
            claim: self.text(table, &CLAIM, claim).unwrap_or(default.claim),
            claim_window: self.text(table, &CLAIM_WINDOW, window),
            claim_rotate: self.text(table, &CLAIM_ROTATE, rotate).unwrap_or(default.claim_rotate),
            on_refusal: self.text(table, &KIND_ON_REFUSAL, OnRefusal::parse),
            clone_watch: self.text(table, &CLONE_WATCH, watch).unwrap_or(default.clone_watch),
        }
    }

    /// Facts that devices may share identify none of them by themselves.
    fn identify(
        &mut self,
        table: &Table<'_>,
        fact: impl Fn(&str) -> Result<FactName, String>,
        facts: &BTreeMap<LabelName, OwnFact>,
    ) -> Vec<FactName> {
        let identify = self.list(table, &IDENTIFY, fact).unwrap_or_default();
        if !identify.is_empty()
            && !identify.iter().any(|name| is_unique(facts, name))
            && let Some(value) = table.get(IDENTIFY.name)
        {
            let problem = "devices may share all of these facts".to_owned();
            self.complain(value.span(), problem, "expected one at least that no two devices share");
        }
        identify
    }

    /// An overlap longer than the life of what was replaced would change nothing, so nobody means it.
    fn overlap(&mut self, table: &Table<'_>, default: Span, life: Span) -> Span {
        let span = |text: &str| text.parse::<Span>().ok();
        let overlap = self.text(table, &OVERLAP, span);
        let life = table.get(LIFE.name).and_then(|life| life.get_ref().as_str()).and_then(span).unwrap_or(life);
        if let (Some(overlap), Some(value)) = (overlap, table.get(OVERLAP.name))
            && overlap > life
        {
            self.complain(
                value.span(),
                format!("the overlap {overlap} is longer than the life {life}"),
                "expected one that is no longer than the life of a certificate",
            );
        }
        overlap.unwrap_or(default)
    }

    fn profile(&mut self, table: &Table<'_>, default: Profile) -> Profile {
        let subject = self.list(table, &SUBJECT, |text| {
            let (word, value) = text.split_once('=').ok_or_else(String::new)?;
            let attribute = Attribute::parse(word).ok_or_else(|| format!("`{word}` is not an attribute"))?;
            let template = TextTemplate::parse(value).map_err(|bad| bad.to_string())?;
            match template.fixed() {
                Some(fixed) if !attribute.takes(fixed) => Err(format!("{fixed:?} cannot be a subject's {word}")),
                _ => Ok((attribute, template)),
            }
        });
        let names = self.list(table, &NAMES, |text| NameTemplate::parse(text).map_err(|bad| bad.to_string()));
        let hardware_type = self.text(table, &HARDWARE_TYPE, |text| const_oid::ObjectIdentifier::new(text).ok());
        let wants_type = names.as_ref().is_some_and(|names| names.contains(&NameTemplate::HardwareModule));
        if let Some(value) = table.get(NAMES.name).filter(|_| wants_type && !table.contains_key(HARDWARE_TYPE.name)) {
            let problem = "\"hardware-module\" needs hardware_type".to_owned();
            self.complain(value.span(), problem, "expected hardware_type = \"1.3.6.1.4.1...\" beside it");
        }
        Profile {
            subject: subject.filter(|subject| !subject.is_empty()).unwrap_or(default.subject),
            names: names.unwrap_or_default(),
            hardware_type,
        }
    }
}
