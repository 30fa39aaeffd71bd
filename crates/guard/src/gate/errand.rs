//! The ward's own topics: what a device does there goes no further than the guard.

use tidy_warden_core::errand::Place;
use tidy_warden_core::mqtt::{Ack, PacketType, Properties, PropertyId, Publish, Value, Version, reason};
use tidy_warden_core::topic::{TopicFilter, TopicName};

use super::{Close, Gate, Handed, Output};
use crate::Event;
use crate::moment::Moment;

impl Gate {
    /// Whether a filter asks for topics of the ward's own, and if so whether the device may have them.
    pub(super) fn listens_with(&self, text: &str, filter: &TopicFilter, is_shared: bool) -> Option<bool> {
        self.line.reserved.asks_for(&filter.to_string(), "")?;
        Some(!is_shared && self.line.is_own(text) && self.rights.may_listen(filter))
    }

    /// A message on a topic of the ward's own: an answer, or nothing that is passed on. `None` if the topic is another's.
    pub(super) fn own_publish(
        &mut self,
        topic: TopicName<'_>,
        publish: &Publish<'_>,
        out: &mut Output,
    ) -> Option<Result<(), Close>> {
        let place = self.line.reserved.place(topic.as_str())?;
        let answered = match place {
            Place::Window { device } if device == self.device && self.rights.may_answer(topic) => {
                self.line.window(publish.payload, self.now.tick)
            }
            Place::Answer { receiver, device } if receiver == self.device && self.rights.may_answer(topic) => {
                self.line.answer(device, publish.payload, self.now.tick).map_err(str::to_owned)
            }
            _ => Err("a device answers its errands and opens itself on topics of its own, and does nothing else there"
                .to_owned()),
        };
        let Err(why) = answered else {
            self.passed.messages_in += 1;
            self.passed.octets_in += u64::try_from(publish.payload.len()).unwrap_or(0);
            self.acknowledge(publish, out);
            return Some(Ok(()));
        };
        let text = topic.as_str().to_owned();
        out.events.push(Event::refused(Some(&self.device), self.peer, "publish", &text, why.as_str()));
        let counted = self.refused("publish", &text, why.as_str());
        Some(counted.and_then(|()| self.refuse_publish(publish, why, out)))
    }

    /// Tells the client that its message was taken.
    fn acknowledge(&mut self, publish: &Publish<'_>, out: &mut Output) {
        let Some(packet_id) = publish.packet_id else { return };
        let packet_type = if publish.qos == 1 { PacketType::Puback } else { PacketType::Pubrec };
        if publish.qos == 2 {
            self.dropped.insert(packet_id);
        }
        let ack = Ack { packet_type, packet_id, code: reason::SUCCESS };
        out.to_client.extend(ack.to_bytes(self.version, None));
    }

    /// Writes an errand to the client, as a message of QoS 0: whether it came is told by its answer. MQTT 5.0 has the topic of the answer
    /// and the number with it (section 4.10); in 3.1.1 the device knows the topic by the one on which the errand came.
    pub(crate) fn hand(&mut self, now: Moment, errand: &Handed, out: &mut Output) {
        self.at(now);
        let number = errand.number.to_string();
        let mut properties = Properties::default();
        if self.version == Version::V5 {
            let left = u32::try_from(errand.ends.since(now.time).max(1)).unwrap_or(u32::MAX);
            properties = properties
                .with(PropertyId::PayloadFormat, Value::Number(1))
                .with(PropertyId::MessageExpiry, Value::Number(left))
                .with(PropertyId::ContentType, Value::Text("application/jose"))
                .with(PropertyId::ResponseTopic, Value::Text(&errand.answer_topic))
                .with(PropertyId::CorrelationData, Value::Binary(number.as_bytes()));
            if let Some(identifier) = self.errand_identifier {
                properties = properties.with(PropertyId::SubscriptionIdentifier, Value::Number(identifier));
            }
        }
        let publish = Publish {
            dup: false,
            qos: 0,
            retain: false,
            topic: &errand.topic,
            packet_id: None,
            properties,
            payload: errand.text.as_bytes(),
        };
        if publish.encoded_len(self.version) > self.largest_out {
            let what =
                format!("errand {number} is larger than what {} takes; it must allow for larger packets", self.device);
            out.events.push(Event::Trouble { what });
            return;
        }
        self.passed.messages_out += 1;
        self.passed.octets_out += u64::try_from(errand.text.len()).unwrap_or(0);
        publish.append_to(self.version, &mut out.to_client);
    }
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use tidy_warden_core::mqtt::{SubAck, split};
    use tidy_warden_core::settings::OnRefusal;
    use tidy_warden_core::token::Scope;

    use super::super::tests::{broker, client, gate, given, line, manner, now, publish, rights, subscribe};
    use super::super::*;
    use super::*;
    use crate::errands::Told;

    const BOTH: [Version; 2] = [Version::V311, Version::V5];

    /// A policy that gives all that a policy can.
    const ALL: &str = r#"policy all {
      for kind = windvane
      allow publish   "rope/{device}/wind"
      allow publish   "$ward/{device}/#"
      allow publish   "$ward/#"  because "somebody wrote it"
      allow subscribe "$ward/#"  because "somebody wrote it"
      allow subscribe "rope/{device}/settings"
    }"#;

    fn codes(bytes: &[u8], version: Version) -> Vec<u8> {
        let frame = split(bytes, 1000).unwrap().unwrap();
        SubAck::parse(&frame, version).unwrap().codes.to_vec()
    }

    fn handed() -> Handed {
        Handed {
            number: 7,
            topic: "$ward/wv-1/errand/wv-1".into(),
            answer_topic: "$ward/wv-1/answer/wv-1".into(),
            text: "a.b.c".into(),
            ends: tidy_warden_core::time::UnixTime(now().time.0 + 60),
        }
    }

    #[test]
    fn a_device_opens_itself_alone_and_the_broker_hears_nothing_of_it() {
        use tidy_warden_core::claim::Code;
        use tidy_warden_core::errand::Reserved;
        use tidy_warden_core::time::Span;

        use crate::errands::{Errands, Line};

        let code = "E6DA-5872-8HH2A";
        assert!(Code::parse(code).is_ok());
        let payload = format!("{{\"code\":\"{code}\",\"for\":60}}");
        for version in BOTH {
            for (by_token, longest, topic, is_taken) in [
                (false, Some(60), "$ward/wv-1/claim-window", true),
                (true, Some(60), "$ward/wv-1/claim-window", false),
                (false, None, "$ward/wv-1/claim-window", false),
                (false, Some(30), "$ward/wv-1/claim-window", false),
                (false, Some(60), "$ward/wv-2/claim-window", false),
                (false, Some(60), "$ward/wv-1/claim-window/wv-1", false),
            ] {
                let (errands, mut told) = Errands::new();
                let (of, listens) = ("wv-1".parse().unwrap(), (Arc::default(), by_token));
                let mut gate = gate(version, OnRefusal::Refuse);
                gate.line = Line::new(errands, Reserved::default(), of, listens, longest.map(Span::from_seconds));
                let mut out = Output::default();
                gate.set_given(now(), given(rights(ALL)), manner(OnRefusal::Refuse), &mut out);
                let said = Publish { payload: payload.as_bytes(), ..publish(topic, 1, Vec::new()) }.to_bytes(version);
                let (out, _) = client(&mut gate, &said);
                assert!(out.to_broker.is_empty(), "{topic}");
                let heard = matches!(told.try_recv(), Ok(Told::Window(device, _)) if device.as_str() == "wv-1");
                assert_eq!(heard, is_taken, "{version:?} {by_token} {longest:?} {topic}");
                let words = out.events.iter().map(|event| format!("{event}")).collect::<String>();
                assert!(!words.contains("E6DA"), "no code is told: {words}");
                // Not at once again.
                let _ = client(&mut gate, &said);
                assert!(told.try_recv().is_err(), "{topic}");
            }
        }
    }

    #[test]
    fn the_broker_hears_nothing_of_errands() {
        for version in BOTH {
            let mut gate = gate(version, OnRefusal::Refuse);
            let (own, mut told) = line();
            gate.line = own;
            let mut out = Output::default();
            gate.set_given(now(), given(rights(ALL)), manner(OnRefusal::Refuse), &mut out);
            let (out, result) = client(&mut gate, &subscribe(&[("$ward/wv-1/errand/+", 1)], version));
            assert_eq!((codes(&out.to_client, version), out.to_broker.len(), result), (vec![0], 0, Ok(())));
            assert!(matches!(told.try_recv(), Ok(Told::Listens(device)) if device.as_str() == "wv-1"));
            // Beside others, the broker is asked for those alone; another's are refused whatever the policies say.
            let mixed =
                [("rope/wv-1/settings", 0), ("$ward/wv-1/errand/wv-1", 1), ("$ward/wv-2/errand/+", 0), ("$ward/#", 0)];
            let (out, _) = client(&mut gate, &subscribe(&mixed, version));
            let asked = split(&out.to_broker, 1000).unwrap().unwrap();
            let asked = tidy_warden_core::mqtt::Subscribe::parse(&asked, version).unwrap().subscriptions;
            assert_eq!(asked.iter().map(|each| each.filter).collect::<Vec<_>>(), ["rope/wv-1/settings"]);
            let answer = tidy_warden_core::mqtt::suback(version, 9, &[0], None);
            let refused = if version == Version::V5 { 0x87 } else { 0x80 };
            let (out, _) = broker(&mut gate, &answer);
            assert_eq!(codes(&out.to_client, version), [0, 0, refused, refused]);
            // A shared subscription would bring one device's errands to another.
            let (out, _) = client(&mut gate, &subscribe(&[("$share/s/$ward/wv-1/errand/+", 0)], version));
            assert_eq!((codes(&out.to_client, version), out.to_broker.len()), (vec![refused], 0));

            // What a session is subscribed to stays so when policies change, and is known when it goes on.
            let mut out = Output::default();
            gate.set_given(now(), given(rights(ALL)), manner(OnRefusal::Refuse), &mut out);
            assert!(out.events.is_empty() && out.to_broker.is_empty(), "{:?}", out.events);
            let kept = gate.subscriptions().clone();
            assert!(kept.lock().contains_key("$ward/wv-1/errand/+"));
            let mut back = super::super::tests::gate(version, OnRefusal::Refuse);
            let (own, mut told) = line();
            back.line = own;
            back.resume(now(), kept, &mut Output::default());
            assert!(matches!(told.try_recv(), Ok(Told::Listens(_))));

            // Whoever speaks on these topics at the broker is not the guard.
            let (out, _) = broker(&mut gate, &publish("$ward/wv-1/errand/wv-1", 0, Vec::new()).to_bytes(version));
            assert!(out.to_client.is_empty());
            assert!(matches!(&out.events[..], [Event::Withheld { .. }]), "{:?}", out.events);
        }
    }

    #[test]
    fn an_answer_is_taken_and_goes_no_further() {
        for version in BOTH {
            let mut gate = gate(version, OnRefusal::Drop);
            let (own, mut told) = line();
            gate.line = own;
            gate.set_given(now(), given(rights(ALL)), manner(OnRefusal::Drop), &mut Output::default());
            for (qos, answers) in [(0, None), (1, Some(PacketType::Puback)), (2, Some(PacketType::Pubrec))] {
                let (out, result) =
                    client(&mut gate, &publish("$ward/wv-1/answer/cb-7", qos, Vec::new()).to_bytes(version));
                assert_eq!((out.to_broker.len(), out.events.len(), result), (0, 0, Ok(())));
                let said = split(&out.to_client, 1000).unwrap().map(|frame| frame.packet_type);
                assert_eq!(said, answers);
                let Ok(Told::Answer { by, device, text, by_token }) = told.try_recv() else { panic!("it is told") };
                assert_eq!((by.as_str(), &*device, &*text, by_token), ("wv-1", "cb-7", "x", false));
            }
            // The rest of QoS 2 is between the client and the guard.
            let release = Ack { packet_type: PacketType::Pubrel, packet_id: 7, code: 0 }.to_bytes(version, None);
            let (out, _) = client(&mut gate, &release);
            assert_eq!(split(&out.to_client, 99).unwrap().unwrap().packet_type, PacketType::Pubcomp);
            assert!(out.to_broker.is_empty());
            for topic in
                ["$ward/wv-2/answer/wv-1", "$ward/wv-1/errand/wv-1", "$ward/wv-1/answer", "$ward", "$ward/wv-1/x/y"]
            {
                let (out, _) = client(&mut gate, &publish(topic, 1, Vec::new()).to_bytes(version));
                assert!(out.to_broker.is_empty() && told.try_recv().is_err(), "{topic}");
                assert!(
                    matches!(&out.events[..], [Event::Refused { act: "publish", .. }]),
                    "{topic}: {:?}",
                    out.events
                );
            }
        }
    }

    #[test]
    fn an_errand_says_where_its_answer_goes_and_comes_whole_or_not_at_all() {
        for version in BOTH {
            let mut gate = gate(version, OnRefusal::Refuse);
            let mut out = Output::default();
            gate.hand(now(), &handed(), &mut out);
            let frame = split(&out.to_client, 1000).unwrap().unwrap();
            let publish = Publish::parse(&frame, version).unwrap();
            assert_eq!((publish.topic, publish.payload, publish.qos), ("$ward/wv-1/errand/wv-1", &b"a.b.c"[..], 0));
            if version == Version::V5 {
                assert_eq!(publish.properties.text(PropertyId::ResponseTopic), Some("$ward/wv-1/answer/wv-1"));
                assert_eq!(publish.properties.number(PropertyId::MessageExpiry), Some(60));
            }
            gate.largest_out = out.to_client.len() - 1;
            let mut out = Output::default();
            gate.hand(now(), &handed(), &mut out);
            assert!(out.to_client.is_empty() && matches!(&out.events[..], [Event::Trouble { .. }]), "{:?}", out.events);
        }
    }

    #[test]
    fn whoever_answers_without_end_is_refused_and_then_disconnected() {
        let mut gate = gate(Version::V5, OnRefusal::Refuse);
        let (own, mut told) = line();
        gate.line = own;
        let answer = publish("$ward/wv-1/answer/wv-1", 1, Vec::new()).to_bytes(Version::V5);
        let now = now();
        let feed =
            |gate: &mut Gate| gate.client_packet(now, &split(&answer, 1000).unwrap().unwrap(), &mut Output::default());
        for _ in 0..200 {
            assert_eq!(feed(&mut gate), Ok(()));
        }
        assert_eq!(std::iter::from_fn(|| told.try_recv().ok()).count(), 200);
        let closed = (0..1_000).find_map(|_| feed(&mut gate).err());
        assert_eq!(closed, Some(Close::Flood));
        assert!(told.try_recv().is_err(), "and nothing more was told");
    }

    #[test]
    fn a_token_reaches_errands_only_where_its_scope_names_them() {
        let scoped = |scope: &[&str]| {
            let mut gate = gate(Version::V5, OnRefusal::Refuse);
            let (own, told) = line();
            gate.line = own;
            let rights = rights(ALL).narrowed(Arc::new(Scope::parse(scope.iter().copied()).unwrap()));
            gate.set_given(now(), given(rights), manner(OnRefusal::Refuse), &mut Output::default());
            (gate, told)
        };
        let listen = subscribe(&[("$ward/wv-1/errand/+", 0)], Version::V5);
        let answer = publish("$ward/wv-1/answer/wv-1", 1, Vec::new()).to_bytes(Version::V5);
        let (mut gate, mut told) = scoped(&["publish rope/wv-1/wind"]);
        assert_eq!(codes(&client(&mut gate, &listen).0.to_client, Version::V5), [0x87]);
        client(&mut gate, &answer).1.unwrap();
        assert!(told.try_recv().is_err());
        let (mut gate, mut told) = scoped(&["subscribe $ward/wv-1/errand/+", "publish $ward/wv-1/answer/wv-1"]);
        assert_eq!(codes(&client(&mut gate, &listen).0.to_client, Version::V5), [0]);
        client(&mut gate, &answer).1.unwrap();
        assert!(matches!(told.try_recv(), Ok(Told::Listens(_))) && matches!(told.try_recv(), Ok(Told::Answer { .. })));
    }
}
