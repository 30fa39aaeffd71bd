//! One decision for every message that a device asks to be published, now or as its will.

use tidy_warden_core::mqtt::{Properties, PropertyId, Value};
use tidy_warden_core::policy::{self, Admitted, Delivery, Denial, Meter, Rights};
use tidy_warden_core::topic::TopicName;

/// A message as it is asked for.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Message<'a> {
    pub(crate) act: policy::Publish<'a>,
    /// Where answers are to go (MQTT 5.0 section 3.3.2.3.5).
    response: Option<&'a str>,
}

/// Why a message is refused.
#[derive(Debug)]
pub(crate) enum Refused {
    Denied(Denial),
    /// Its response topic is not one that its sender may subscribe to.
    Response(String),
    /// Its response topic is no topic.
    BadResponse(String),
}

/// What of the properties receivers get: its octets count as the payload's do, or a limit on size would bound nothing.
fn carried(properties: &Properties<'_>) -> usize {
    let of = |property: &tidy_warden_core::mqtt::Property<'_>| match (property.id, property.value) {
        (PropertyId::UserProperty, Value::Pair(name, value)) => name.len() + value.len(),
        (PropertyId::ContentType | PropertyId::ResponseTopic, Value::Text(text)) => text.len(),
        (PropertyId::CorrelationData, Value::Binary(data)) => data.len(),
        _ => 0,
    };
    properties.iter().map(of).sum()
}

impl<'a> Message<'a> {
    pub(crate) fn new(
        topic: TopicName<'a>,
        qos: u8,
        retain: bool,
        payload: &[u8],
        properties: &Properties<'a>,
    ) -> Self {
        let act = policy::Publish { topic, qos, retain, size: payload.len() + carried(properties) };
        Self { act, response: properties.text(PropertyId::ResponseTopic) }
    }

    /// What is decided of it, kept for later.
    pub(crate) fn kept(topic: TopicName<'a>, qos: u8, retain: bool, size: usize, response: Option<&'a str>) -> Self {
        Self { act: policy::Publish { topic, qos, retain, size }, response }
    }

    pub(crate) fn response(&self) -> Option<&'a str> {
        self.response
    }

    /// Decides; the rate of the rule that admits it is charged to `meter`.
    pub(crate) fn decide<'r>(&self, rights: &'r Rights, meter: &mut dyn Meter) -> Result<Admitted<'r>, Refused> {
        if let Some(text) = self.response {
            let topic = TopicName::parse(text).map_err(|error| Refused::BadResponse(error.to_string()))?;
            // Answers go there in the sender's name.
            if rights.deliver(topic) != Delivery::Deliver {
                // Unless the message itself is the one that may not be: that is the better reason.
                rights.publish(self.act, &mut policy::NoMeter).map_err(Refused::Denied)?;
                return Err(Refused::Response(text.to_owned()));
            }
        }
        rights.publish(self.act, meter).map_err(Refused::Denied)
    }
}

impl std::fmt::Display for Refused {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Denied(denial) => write!(f, "{denial}"),
            Self::Response(topic) => {
                write!(f, "the response topic {topic:?} is not one that the device may subscribe to")
            }
            Self::BadResponse(why) => write!(f, "response topic: {why}"),
        }
    }
}
