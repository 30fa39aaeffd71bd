//! Figures for a monitoring system.

use prometheus_client::encoding::EncodeLabelSet;
use prometheus_client::encoding::text::encode;
use prometheus_client::metrics::counter::Counter;
use prometheus_client::metrics::family::Family;
use prometheus_client::metrics::gauge::Gauge;
use prometheus_client::registry::Registry;
use tidy_warden_core::time::UnixTime;

#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
struct Answered {
    asked: &'static str,
    status: u16,
}

/// The figures of one desk.
pub(crate) struct Metrics {
    registry: Registry,
    answers: Family<Answered, Counter>,
    pub(crate) connections: Gauge,
    pub(crate) handshakes_failed: Counter,
    pub(crate) store_answers: Gauge,
    pub(crate) untold: Counter,
    pub(crate) crls: Counter,
    certificate_ends: Gauge,
}

impl Default for Metrics {
    fn default() -> Self {
        let mut registry = Registry::with_prefix("tidy_warden_desk");
        let metrics = Self {
            registry: Registry::default(),
            answers: Family::default(),
            connections: Gauge::default(),
            handshakes_failed: Counter::default(),
            store_answers: Gauge::default(),
            untold: Counter::default(),
            crls: Counter::default(),
            certificate_ends: Gauge::default(),
        };
        registry.register("answers", "Answers, by what was asked for and their status", metrics.answers.clone());
        registry.register("connections", "Connections over HTTPS that are open", metrics.connections.clone());
        registry.register(
            "handshakes_failed",
            "TLS handshakes that were not finished",
            metrics.handshakes_failed.clone(),
        );
        registry.register(
            "store_answers",
            "Whether the store answers, and is the one that was seen",
            metrics.store_answers.clone(),
        );
        registry.register("untold", "Refusals that were counted and not told in the log", metrics.untold.clone());
        registry.register("crls_signed", "Revocation lists that were signed", metrics.crls.clone());
        registry.register(
            "certificate_ends",
            "When its own certificate ends, in seconds since the Unix epoch",
            metrics.certificate_ends.clone(),
        );
        metrics.store_answers.set(1);
        Self { registry, ..metrics }
    }
}

impl Metrics {
    pub(crate) fn answered(&self, asked: &'static str, status: u16) {
        self.answers.get_or_create(&Answered { asked, status }).inc();
    }

    /// When its own certificate ends.
    pub(crate) fn ends(&self, at: Option<UnixTime>) {
        self.certificate_ends.set(at.map_or(0, |at| at.0));
    }

    /// All figures in the OpenMetrics text format.
    pub(crate) fn text(&self) -> String {
        let mut text = String::new();
        // Writing into memory does not fail.
        let _ = encode(&mut text, &self.registry);
        text
    }
}
