//! Children that a gateway may bring in: which one a message would, where nobody has listed it.

use std::sync::Arc;

use crate::device::DeviceRecord;
use crate::id::DeviceId;
use crate::settings::Settings;
use crate::topic::{Level, Missing, TopicFilter, TopicName, intersection};

use super::pattern::PatternLevel;
use super::{Act, Edition, Introduce, Pattern, Rights, Variable};

/// A child that nobody has listed, as a message of its gateway names it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Unknown<'a> {
    /// The gateway.
    pub gateway: &'a DeviceId,
    /// The child.
    pub child: DeviceId,
    /// By which right it would be brought in.
    pub by: &'a Introduce,
}

/// Where a message would name a child of a kind that may be brought in.
#[derive(Debug)]
pub(super) struct Door {
    by: Introduce,
    /// Any level where the child's id stands.
    filter: TopicFilter,
    /// Those levels.
    places: Vec<usize>,
}

/// A rule's topics for a child that is not there yet: of this kind, behind `gateway` and with its labels.
fn door(gateway: &DeviceRecord, by: &Introduce, pattern: &Pattern) -> Option<Door> {
    let child = |place: &(usize, &PatternLevel)| *place.1 == PatternLevel::Variable(Variable::Child);
    let places: Vec<usize> = pattern.levels.iter().enumerate().filter(child).map(|(at, _)| at).collect();
    // Values put in where the child is; there any level is one.
    let bound = pattern.bind(Missing::Nothing, |variable| match variable {
        Variable::Device | Variable::Gateway => Some(gateway.id.as_str()),
        Variable::Child => Some("x"),
        Variable::Kind => Some(by.kind.as_str()),
        Variable::Owner => None,
        Variable::Label(name) => gateway.labels.get(name).map(|value| value.as_str()),
    })?;
    let level = |(at, level): (usize, &Level)| if places.contains(&at) { Level::Any } else { level.clone() };
    let filter = TopicFilter::from_levels(bound.levels().iter().enumerate().map(level).collect(), bound.is_open());
    Some(Door { by: by.clone(), filter, places })
}

impl Edition {
    /// The rights to bring in children that the edition gives a device, whatever it may do for them.
    #[must_use]
    pub fn introduces(&self, device: &DeviceRecord, settings: &Settings) -> Vec<Introduce> {
        let table = self.table(&self.selecting(device));
        let all = table.policies.iter().flat_map(|policy| &policy.introduces);
        all.filter(|by| settings.carries(&device.kind, &by.kind)).cloned().collect()
    }

    pub(super) fn doors(&self, device: &DeviceRecord, settings: &Settings) -> Option<Arc<[Door]>> {
        let table = self.table(&self.selecting(device));
        // Nobody stands behind a device that stands behind one.
        if table.for_children.is_empty() || device.gateway.is_some() {
            return None;
        }
        let rules = || table.for_children.iter().map(|number| table.rule(*number));
        let publish =
            || rules().filter(|rule| rule.target.act() == Act::Publish).filter_map(|rule| rule.target.pattern());
        let mut all = Vec::new();
        for by in self.introduces(device, settings) {
            all.extend(publish().filter_map(|pattern| door(device, &by, pattern)));
        }
        (!all.is_empty()).then(|| all.into())
    }
}

impl Rights {
    /// The child that a message on this topic names, if it is none that the device speaks for and the edition lets the device bring it
    /// in. Whether there is such a device elsewhere, or was, is not known here.
    #[must_use]
    pub fn unknown_child(&self, topic: TopicName<'_>) -> Option<Unknown<'_>> {
        let levels: Vec<&str> = topic.as_str().split('/').collect();
        self.doors().iter().find_map(|door| {
            if !door.filter.matches(topic) {
                return None;
            }
            let mut names = door.places.iter().map(|at| levels.get(*at).copied());
            let name = names.next()??;
            if !names.all(|other| other == Some(name)) {
                return None;
            }
            let child: DeviceId = name.parse().ok()?;
            let gateway = self.device();
            (child != *gateway && !self.speaks_for(&child)).then_some(Unknown { gateway, child, by: &door.by })
        })
    }

    /// The rights by which messages of the device may bring in children that could publish to some topic of `filter`, each with the
    /// topics of one such message; any level stands where the child's id would.
    pub fn introduces_into(&self, filter: &TopicFilter) -> impl Iterator<Item = (&Introduce, TopicFilter)> {
        self.doors().iter().filter_map(|door| Some((&door.by, intersection(filter, &door.filter)?)))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::policy::check;
    use crate::policy::tests::{edition, fleet_of};
    use crate::text::Source;
    use crate::time::UnixTime;

    fn settings() -> Settings {
        let text = crate::settings::new_text("q", "localhost", None, None)
            + "[kinds.cabin]\n[kinds.windvane]\n[kinds.station]\ncarries = [\"cabin\"]\n";
        Settings::parse(&Source::new("ward.toml", &text)).unwrap()
    }

    fn device(id: &str, kind: &str) -> DeviceRecord {
        let mut device = DeviceRecord::new(id.parse().unwrap(), kind.parse().unwrap(), UnixTime(0));
        device.labels.insert("site".parse().unwrap(), "ossel".parse().unwrap());
        device
    }

    const TEXT: &str = "policy hub {
        for kind = station
        allow connect as \"{device}\"
        allow publish \"rope/{site}/{device}/cabins/{child}/door\" for children
        allow publish \"by-kind/{kind}/{child}/{child}/#\" for children
        allow publish \"owned/{owner}/{child}\" for children
        allow subscribe \"to/{child}/settings\" for children
        allow introduce kind cabin at most 60 because \"cabins are hung in at night\" }";

    fn found(edition: &Edition, gateway: &DeviceRecord, children: &[DeviceRecord], topic: &str) -> Option<String> {
        let rights = edition.rights_with(gateway, children, &settings());
        let unknown = rights.unknown_child(TopicName::parse(topic).unwrap())?;
        assert_eq!(*unknown.gateway, gateway.id);
        Some(format!("{} {} {}", unknown.child, unknown.by.kind, unknown.by.most))
    }

    #[test]
    fn a_message_names_a_child_where_a_rule_for_children_would_admit_it() {
        let (edition, gateway) = (edition(TEXT), device("st-1", "station"));
        let at = |topic: &str| found(&edition, &gateway, &[], topic);
        assert_eq!(at("rope/ossel/st-1/cabins/cb-9/door").as_deref(), Some("cb-9 cabin 60"));
        assert_eq!(at("by-kind/cabin/cb-9/cb-9/any/thing").as_deref(), Some("cb-9 cabin 60"));
        for topic in [
            "rope/ossel/st-1/cabins/cb-9/window",
            "rope/ossel/st-2/cabins/cb-9/door",
            "rope/brindle/st-1/cabins/cb-9/door",
            "rope/ossel/st-1/cabins/CB-9/door",
            "rope/ossel/st-1/cabins//door",
            "rope/ossel/st-1/cabins/st-1/door",
            "by-kind/cabin/cb-9/cb-8/x",
            "by-kind/gate/cb-9/cb-9/x",
            "owned/x/cb-9",
            "to/cb-9/settings",
        ] {
            assert_eq!(at(topic), None, "{topic}");
        }
        // Who is known is not brought in; neither is anybody behind a device without that right, or behind one that is behind another.
        let mut known = device("cb-9", "cabin");
        known.gateway = Some(gateway.id.clone());
        assert_eq!(found(&edition, &gateway, &[known], "rope/ossel/st-1/cabins/cb-9/door"), None);
        let mut behind = gateway.clone();
        behind.gateway = Some("st-0".parse().unwrap());
        assert_eq!(found(&edition, &behind, &[], "rope/ossel/st-1/cabins/cb-9/door"), None);
        let vane = device("wv-1", "windvane");
        assert_eq!(found(&edition, &vane, &[], "rope/ossel/wv-1/cabins/cb-9/door"), None);
        let rights = edition.rights_with(&gateway, &[], &settings());
        let into = |filter: &str| -> Vec<String> {
            let filter = filter.parse().unwrap();
            rights.introduces_into(&filter).map(|(by, topics)| format!("{} {topics}", by.kind)).collect()
        };
        assert_eq!(into("rope/ossel/#"), ["cabin rope/ossel/st-1/cabins/+/door"]);
        assert_eq!(into("rope/+/+/cabins/cb-9/+"), ["cabin rope/ossel/st-1/cabins/cb-9/door"]);
        assert_eq!(into("rope/brindle/#"), Vec::<String>::new());
    }

    #[test]
    fn what_is_wrong_with_such_a_right_is_found() {
        let ids = |text: &str| {
            let edition = edition(text);
            let fleet = fleet_of(&edition, &[]);
            let found = check(&fleet, &settings(), &Default::default(), &Default::default()).findings;
            found.into_iter().map(|finding| finding.id).collect::<Vec<_>>()
        };
        assert_eq!(ids(TEXT), Vec::<&str>::new());
        let with = |line: &str| TEXT.replace("allow introduce kind cabin at most 60", line);
        assert_eq!(ids(&with("allow introduce kind cabbin at most 60")), ["unknown-kind"]);
        assert_eq!(ids(&with("allow introduce kind windvane at most 60")), ["introduces-nobody"]);
        let twice = with("allow introduce kind cabin at most 6 allow introduce kind cabin at most 60");
        assert_eq!(ids(&twice), ["introduces-twice"]);
        let mute = "policy hub { for kind = station allow introduce kind cabin at most 60 }";
        assert_eq!(ids(mute), ["introduces-nobody"]);
    }

    #[test]
    fn it_reads_as_it_stands_or_is_refused_with_what_was_expected() {
        use crate::policy::read_file;
        let policy = |line: &str| format!("policy p {{ for kind = station\n{line} }}");
        for (line, expected) in [
            ("deny introduce kind cabin at most 6", "take this line out"),
            ("allow introduce cabin at most 6", "expected `kind`"),
            ("allow introduce kind Cabin at most 6", "expected a kind"),
            ("allow introduce kind cabin", "expected `at most`"),
            ("allow introduce kind cabin at most", "expected a number"),
            ("allow introduce kind cabin at most 0", "from 1 to 10000"),
            ("allow introduce kind cabin at most 10001", "from 1 to 10000"),
            ("allow introduce kind cabin at most 6 qos <= 1", "expected `allow`"),
        ] {
            let errors = read_file(&Source::new("p", &policy(line))).unwrap_err();
            assert!(errors[0].to_string().contains(expected), "{line}: {}", errors[0]);
        }
    }
}
