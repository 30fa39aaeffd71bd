//! Figures for a monitoring system.

use std::time::Duration;

use prometheus_client::encoding::EncodeLabelSet;
use prometheus_client::metrics::counter::Counter;
use prometheus_client::metrics::family::Family;
use prometheus_client::metrics::gauge::Gauge;
use prometheus_client::metrics::histogram::{Histogram, exponential_buckets};
use prometheus_client::registry::{Registry, Unit};

use crate::traffic::Passed;

#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
pub(crate) struct Direction {
    direction: &'static str,
}

#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
pub(crate) struct ActLabel {
    act: &'static str,
}

#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
pub(crate) struct Handshake {
    result: &'static str,
}

/// The figures of one guard.
pub(crate) struct Metrics {
    registry: Registry,
    pub(crate) sessions: Gauge,
    pub(crate) edition: Gauge,
    pub(crate) store_answers: Gauge,
    pub(crate) broker_answers: Gauge,
    pub(crate) bypass_open: Gauge,
    pub(crate) certificate_ends: Gauge,
    handshakes: Family<Handshake, Counter>,
    opening_seconds: Histogram,
    messages: Family<Direction, Counter>,
    octets: Family<Direction, Counter>,
    refusals: Family<ActLabel, Counter>,
    pub(crate) withheld: Counter,
    pub(crate) cuts: Counter,
    pub(crate) clone_signs: Counter,
    pub(crate) lost_events: Counter,
}

impl Default for Metrics {
    fn default() -> Self {
        let mut registry = Registry::with_prefix("tidy_warden_guard");
        let metrics = Self {
            sessions: Gauge::default(),
            edition: Gauge::default(),
            store_answers: Gauge::default(),
            broker_answers: Gauge::default(),
            bypass_open: Gauge::default(),
            certificate_ends: Gauge::default(),
            handshakes: Family::default(),
            // From half a millisecond to 8 seconds.
            opening_seconds: Histogram::new(exponential_buckets(0.0005, 2.0, 15)),
            messages: Family::default(),
            octets: Family::default(),
            refusals: Family::default(),
            withheld: Counter::default(),
            cuts: Counter::default(),
            clone_signs: Counter::default(),
            lost_events: Counter::default(),
            registry: Registry::default(),
        };
        registry.register("sessions", "Clients that are connected", metrics.sessions.clone());
        registry.register("edition", "The policy edition that decides, 0 for none", metrics.edition.clone());
        registry.register("store_answers", "1 while the store answers", metrics.store_answers.clone());
        registry.register(
            "broker_answers",
            "1 if the last connection to the broker was made",
            metrics.broker_answers.clone(),
        );
        registry.register(
            "certificate_ends",
            "When its own certificate ends, in seconds since the Unix epoch",
            metrics.certificate_ends.clone(),
        );
        registry.register(
            "bypass_open",
            "1 if the broker let in who showed nothing, when that was tried last",
            metrics.bypass_open.clone(),
        );
        registry.register("handshakes", "TLS handshakes by their result", metrics.handshakes.clone());
        registry.register_with_unit(
            "opening",
            "From accepting a connection to its CONNACK",
            Unit::Seconds,
            metrics.opening_seconds.clone(),
        );
        registry.register(
            "messages",
            "Messages that were passed on, from devices and to them",
            metrics.messages.clone(),
        );
        registry.register_with_unit("payload", "Their payloads", Unit::Bytes, metrics.octets.clone());
        registry.register("refusals", "Acts that were refused", metrics.refusals.clone());
        registry.register("withheld", "Messages to devices that were withheld", metrics.withheld.clone());
        registry.register(
            "cuts",
            "Sessions that were cut, because their right to be there ended",
            metrics.cuts.clone(),
        );
        registry.register("clone_signs", "Signs that somebody else has a device's key", metrics.clone_signs.clone());
        registry.register("lost_events", "Events that watchers were too slow for", metrics.lost_events.clone());
        metrics.store_answers.set(1);
        Self { registry, ..metrics }
    }
}

impl Metrics {
    pub(crate) fn handshake(&self, result: &'static str) {
        self.handshakes.get_or_create(&Handshake { result }).inc();
    }

    pub(crate) fn opened(&self, took: Duration) {
        self.opening_seconds.observe(took.as_secs_f64());
    }

    pub(crate) fn passed(&self, passed: Passed) {
        for (direction, messages, octets) in
            [("in", passed.messages_in, passed.octets_in), ("out", passed.messages_out, passed.octets_out)]
        {
            if messages > 0 {
                self.messages.get_or_create(&Direction { direction }).inc_by(messages);
                self.octets.get_or_create(&Direction { direction }).inc_by(octets);
            }
        }
    }

    pub(crate) fn refused(&self, act: &'static str) {
        self.refusals.get_or_create(&ActLabel { act }).inc();
    }

    /// All figures in the OpenMetrics text format.
    pub(crate) fn text(&self) -> String {
        let mut text = String::new();
        // Writing into a text does not fail.
        let _ = prometheus_client::encoding::text::encode(&mut text, &self.registry);
        text
    }
}
