//! What a token may do: AIF-MQTT (RFC 9431 section 3, over RFC 9237), which only ever narrows what policies give.

use std::fmt;

use super::value::{Name, Value};
use crate::topic::{TopicFilter, TopicName, uncovered};

/// The most filters, and the most client identifiers, of one scope.
pub const MAX_SCOPE: usize = 64;

/// The claim that names client identifiers. AIF-MQTT has no word for connecting, so this stands beside it and is ours.
pub(super) const CLIENT_IDS: &str = "client_ids";

/// What a token may do, of what the policies give its device.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Default)]
pub struct Scope {
    publish: Vec<TopicFilter>,
    subscribe: Vec<TopicFilter>,
    client_ids: Vec<String>,
    is_understood: bool,
}

/// A text that is no part of a scope.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum BadScope {
    /// It is none of the acts.
    #[error("{0:?} is not `publish FILTER`, `subscribe FILTER` or `connect as CLIENT-ID`")]
    Act(String),
    /// Its filter is none.
    #[error("{text:?}: {why}")]
    Filter {
        /// The filter.
        text: String,
        /// What is wrong with it.
        why: String,
    },
    /// A subscription that is shared: AIF-MQTT names topics, and a share is a name of a group.
    #[error("{0:?} is a shared subscription, which a scope cannot name: name its topics")]
    Share(String),
    /// A client identifier that is none.
    #[error("{0:?} is not a client identifier of 1 to 200 printable characters")]
    ClientId(String),
    /// More than are taken.
    #[error("a scope has at most {MAX_SCOPE} parts")]
    TooMany,
}

/// One part of a scope that goes beyond what the policies give.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Wider {
    /// The part, as it is written.
    pub part: String,
    /// A topic or client identifier in it that the policies do not give.
    pub example: String,
}

impl Scope {
    /// A scope from the words of the policies: `publish FILTER`, `subscribe FILTER`, `connect as CLIENT-ID`; quotes may stand around the
    /// filter.
    ///
    /// # Errors
    /// A part that is none.
    pub fn parse<'t>(parts: impl IntoIterator<Item = &'t str>) -> Result<Self, BadScope> {
        let mut scope = Self { is_understood: true, ..Self::default() };
        for (at, part) in parts.into_iter().enumerate() {
            if at == MAX_SCOPE {
                return Err(BadScope::TooMany);
            }
            let bad = || BadScope::Act(part.to_owned());
            let (act, rest) = part.trim().split_once(char::is_whitespace).ok_or_else(bad)?;
            let rest = rest.trim();
            match act {
                "publish" => scope.publish.push(filter(unquoted(rest))?),
                "subscribe" => scope.subscribe.push(filter(unquoted(rest))?),
                "connect" => {
                    let id = rest.strip_prefix("as").filter(|id| id.starts_with([' ', '\t', '"'])).ok_or_else(bad)?;
                    let id = unquoted(id.trim());
                    if !is_client_id(id) {
                        return Err(BadScope::ClientId(id.to_owned()));
                    }
                    scope.client_ids.push(id.to_owned());
                }
                _ => return Err(bad()),
            }
        }
        Ok(scope)
    }

    /// Whether it was understood; one that was not gives nothing.
    #[must_use]
    pub fn is_understood(&self) -> bool {
        self.is_understood
    }

    /// Where it may publish.
    #[must_use]
    pub fn publish(&self) -> &[TopicFilter] {
        &self.publish
    }

    /// What it may subscribe to.
    #[must_use]
    pub fn subscribe(&self) -> &[TopicFilter] {
        &self.subscribe
    }

    /// The client identifiers that it names.
    #[must_use]
    pub fn client_ids(&self) -> &[String] {
        &self.client_ids
    }

    /// Whether a message may be published to a topic.
    #[must_use]
    pub fn allows_publish(&self, topic: TopicName<'_>) -> bool {
        self.publish.iter().any(|filter| filter.matches(topic))
    }

    /// Whether a message on a topic may be delivered.
    #[must_use]
    pub fn allows_delivery(&self, topic: TopicName<'_>) -> bool {
        self.subscribe.iter().any(|filter| filter.matches(topic))
    }

    /// Whether every topic that `filter` can match is in the scope.
    ///
    /// # Errors
    /// A topic that is not.
    pub fn covers(&self, filter: &TopicFilter) -> Result<(), String> {
        match uncovered(filter, &self.subscribe) {
            None => Ok(()),
            Some(topic) => Err(topic),
        }
    }

    /// Whether a session of the device may have this client identifier: one that the scope names, or one of the device's that is not
    /// its main one, so that no token for an errand takes the session of its device over.
    #[must_use]
    pub fn allows_client_id(&self, client_id: &str, device: &str) -> bool {
        let is_other = client_id.strip_prefix(device).is_some_and(|rest| rest.starts_with(':'));
        is_other && self.is_understood || self.client_ids.iter().any(|named| named == client_id)
    }

    /// The claims that say it, with AIF-MQTT as `array` puts it.
    pub(super) fn to_claims(&self, wrapped: bool) -> Vec<(Name, Value)> {
        let text = |text: &str| Value::Text(text.to_owned());
        let mut filters: Vec<(&TopicFilter, Vec<Value>)> = Vec::new();
        for (side, word) in [(&self.publish, "pub"), (&self.subscribe, "sub")] {
            for filter in side {
                match filters.iter_mut().find(|(known, _)| *known == filter) {
                    Some((_, acts)) if acts.contains(&text(word)) => {}
                    Some((_, acts)) => acts.push(text(word)),
                    None => filters.push((filter, vec![text(word)])),
                }
            }
        }
        let pair = |(filter, acts): (&TopicFilter, Vec<Value>)| {
            Value::Array(vec![Value::Text(filter.to_string()), Value::Array(acts)])
        };
        let aif = Value::Array(filters.into_iter().map(pair).collect());
        let mut claims = match wrapped {
            // RFC 9200 section 5.8.1: a scope in CBOR is a text or a byte string; AIF goes into the latter.
            true => vec![(Name::Number(9), Value::Bytes(aif.to_cbor()))],
            false => vec![(Name::of("scope"), aif)],
        };
        if !self.client_ids.is_empty() {
            let ids = self.client_ids.iter().map(|id| text(id)).collect();
            claims.push((Name::of(CLIENT_IDS), Value::Array(ids)));
        }
        claims
    }

    /// What a token's claims say; a scope that is not AIF-MQTT gives nothing.
    pub(super) fn from_claims(scope: &Value, client_ids: Option<&Value>) -> Self {
        Self::understood(scope, client_ids).unwrap_or_default()
    }

    fn understood(scope: &Value, client_ids: Option<&Value>) -> Option<Self> {
        let unwrapped;
        let aif = match scope {
            Value::Bytes(octets) => {
                unwrapped = Value::from_cbor(octets).ok()?;
                unwrapped.array()?
            }
            other => other.array()?,
        };
        let mut read = Self { is_understood: true, ..Self::default() };
        if aif.len() > MAX_SCOPE {
            return None;
        }
        for pair in aif {
            let [topics, acts] = pair.array()? else { return None };
            let (topics, acts) = (filter(topics.text()?).ok()?, acts.array()?);
            if acts.is_empty() || acts.len() > 2 {
                return None;
            }
            for act in acts {
                match act.text()? {
                    "pub" => read.publish.push(topics.clone()),
                    "sub" => read.subscribe.push(topics.clone()),
                    _ => return None,
                }
            }
        }
        let ids = client_ids.map_or(Some(&[][..]), Value::array)?;
        if ids.len() > MAX_SCOPE {
            return None;
        }
        for id in ids {
            read.client_ids.push(id.text().filter(|id| is_client_id(id))?.to_owned());
        }
        Some(read)
    }
}

fn unquoted(text: &str) -> &str {
    text.strip_prefix('"').and_then(|text| text.strip_suffix('"')).unwrap_or(text)
}

fn is_client_id(text: &str) -> bool {
    (1..=200).contains(&text.len()) && text.bytes().all(|octet| octet.is_ascii_graphic())
}

fn filter(text: &str) -> Result<TopicFilter, BadScope> {
    if text == "$share" || text.starts_with("$share/") {
        return Err(BadScope::Share(text.to_owned()));
    }
    text.parse()
        .map_err(|why: crate::topic::BadFilter| BadScope::Filter { text: text.to_owned(), why: why.to_string() })
}

impl fmt::Display for Scope {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if !self.is_understood {
            return f.write_str("nothing: its scope is not understood");
        }
        let publish = self.publish.iter().map(|filter| format!("publish {filter}"));
        let subscribe = self.subscribe.iter().map(|filter| format!("subscribe {filter}"));
        let connect = self.client_ids.iter().map(|id| format!("connect as {id}"));
        let all: Vec<String> = publish.chain(subscribe).chain(connect).collect();
        f.write_str(if all.is_empty() { "nothing" } else { "" })?;
        f.write_str(&all.join(", "))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_scope_is_written_as_rfc_9431_has_it_and_reads_back() {
        let parts = ["publish rope/ossel/ts-1/count", "subscribe \"rope/ossel/ts-1/#\"", "publish rope/ossel/ts-1/#"];
        let scope = Scope::parse(parts).unwrap();
        let claims = Value::Map(scope.to_claims(false));
        assert_eq!(
            claims.to_json().to_string(),
            r##"{"scope":[["rope/ossel/ts-1/count",["pub"]],["rope/ossel/ts-1/#",["pub","sub"]]]}"##
        );
        for wrapped in [false, true] {
            let scope = Scope::parse(parts.into_iter().chain(["connect as ts-1"])).unwrap();
            let claims = Value::Map(scope.to_claims(wrapped));
            let read = Scope::from_claims(claims.member("scope", Some(9)).unwrap(), claims.member(CLIENT_IDS, None));
            assert!(read.is_understood());
            let sorted = |filters: &[TopicFilter]| {
                let mut all = filters.to_vec();
                all.sort();
                all
            };
            assert_eq!(sorted(read.publish()), sorted(scope.publish()));
            assert_eq!((read.subscribe(), read.client_ids()), (scope.subscribe(), scope.client_ids()));
        }
        assert_eq!(scope.covers(&"rope/ossel/ts-1/a".parse().unwrap()), Ok(()));
        assert!(scope.covers(&"rope/ossel/+/a".parse().unwrap()).is_err());
        assert!(!scope.allows_publish(TopicName::parse("rope/ossel/ts-2/count").unwrap()));
    }

    #[test]
    fn a_scope_that_is_not_understood_gives_nothing() {
        let read = |json: &str| {
            let value = Value::from_json(json.as_bytes()).unwrap();
            Scope::from_claims(value.member("scope", None).unwrap(), value.member(CLIENT_IDS, None))
        };
        for json in [
            r#"{"scope":"publish a"}"#,
            r#"{"scope":null}"#,
            r#"{"scope":[["a",["pub","read"]]]}"#,
            r#"{"scope":[["a",[]]]}"#,
            r#"{"scope":[["a","pub"]]}"#,
            r#"{"scope":[["a/#/b",["pub"]]]}"#,
            r#"{"scope":[["$share/g/a",["sub"]]]}"#,
            r#"{"scope":[["a",["pub"]],7]}"#,
            r#"{"scope":[["a",["pub"]]],"client_ids":"ts-1"}"#,
        ] {
            let scope = read(json);
            assert!(!scope.is_understood() && scope.publish().is_empty() && scope.subscribe().is_empty(), "{json}");
            assert!(!scope.allows_client_id("ts-1:a", "ts-1"), "{json}");
        }
        let empty = read(r#"{"scope":[]}"#);
        assert!(empty.is_understood() && !empty.allows_publish(TopicName::parse("a").unwrap()));
        for bad in [
            "read a",
            "publish",
            "publish a/#/b",
            "connect ts-1",
            "connect as",
            "connect as \u{7}",
            "subscribe $share/a/b",
        ] {
            assert!(Scope::parse([bad]).is_err(), "{bad}");
        }
        assert_eq!(Scope::parse(vec!["publish a"; MAX_SCOPE + 1]), Err(BadScope::TooMany));
    }

    #[test]
    fn a_token_for_an_errand_does_not_take_over_the_session_of_its_device() {
        let scope = Scope::parse(["publish a"]).unwrap();
        for (id, taken) in [("ts-1", false), ("ts-1:a", true), ("ts-10:a", false), ("ts-2:a", false), ("", false)] {
            assert_eq!(scope.allows_client_id(id, "ts-1"), taken, "{id}");
        }
        assert!(Scope::parse(["connect as ts-1"]).unwrap().allows_client_id("ts-1", "ts-1"));
    }
}
