//! Figures for a monitoring system.

use prometheus_client::encoding::EncodeLabelSet;
use prometheus_client::encoding::text::encode;
use prometheus_client::metrics::counter::Counter;
use prometheus_client::metrics::family::Family;
use prometheus_client::metrics::gauge::Gauge;
use prometheus_client::registry::Registry;
use tidy_warden_core::time::UnixTime;

use crate::due::Counted;

#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
struct Answered {
    asked: &'static str,
    status: u16,
}

#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
struct Due {
    what: &'static str,
    happens: &'static str,
}

#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
struct Signer {
    authority: String,
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
    due: Family<Due, Gauge>,
    next_end: Family<Due, Gauge>,
    crl_this_update: Family<Signer, Gauge>,
    crl_next_update: Family<Signer, Gauge>,
    waiting_callers: Gauge,
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
            due: Family::default(),
            next_end: Family::default(),
            crl_this_update: Family::default(),
            crl_next_update: Family::default(),
            waiting_callers: Gauge::default(),
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
        registry.register(
            "due",
            "How much ends or falls due within 30 days, by what it is and what will happen",
            metrics.due.clone(),
        );
        registry.register(
            "next_end",
            "When the first of it ends, in seconds since the Unix epoch",
            metrics.next_end.clone(),
        );
        registry.register(
            "crl_this_update",
            "When an authority's newest revocation list was signed, in seconds since the Unix epoch",
            metrics.crl_this_update.clone(),
        );
        registry.register(
            "crl_next_update",
            "Until when it is good, in seconds since the Unix epoch",
            metrics.crl_next_update.clone(),
        );
        registry.register(
            "waiting_callers",
            "Devices that called, or that their gateways brought in, and that wait for a person",
            metrics.waiting_callers.clone(),
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

    /// What is due. What was told before and is no more is not told any longer.
    pub(crate) fn due(&self, counted: &Counted) {
        self.due.clear();
        self.next_end.clear();
        for ((what, happens), (count, first)) in &counted.due {
            let labels = Due { what: what.as_str(), happens: happens.as_str() };
            self.due.get_or_create(&labels).set(*count);
            self.next_end.get_or_create(&labels).set(first.0);
        }
        self.crl_this_update.clear();
        self.crl_next_update.clear();
        for (authority, at, until) in &counted.lists {
            let labels = Signer { authority: authority.clone() };
            let set = |family: &Family<Signer, Gauge>, time: &Option<UnixTime>| {
                if let Some(time) = time {
                    family.get_or_create(&labels).set(time.0);
                }
            };
            set(&self.crl_this_update, at);
            set(&self.crl_next_update, until);
        }
        self.waiting_callers.set(counted.waiting);
    }

    /// All figures in the OpenMetrics text format.
    pub(crate) fn text(&self) -> String {
        let mut text = String::new();
        // Writing into memory does not fail.
        let _ = encode(&mut text, &self.registry);
        text
    }
}
