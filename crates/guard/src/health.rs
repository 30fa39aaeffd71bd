//! What the guard says over plain HTTP: its figures, and whether it does all its work.

use std::sync::Arc;

use tidy_warden_serve::http::{Pages, Said, StatusCode};

use crate::shared::Shared;

/// What is said where there is nothing.
pub(crate) const NOTHING: &str = "there are /metrics and /health here\n";

/// What is said on each path.
pub(crate) fn pages(shared: Arc<Shared>) -> Arc<Pages> {
    Arc::new(move |path| match path {
        "/metrics" => {
            let kind = "application/openmetrics-text; version=1.0.0; charset=utf-8";
            Some((StatusCode::OK, kind, shared.metrics.text()))
        }
        "/health" => Some(health(&shared)),
        _ => None,
    })
}

/// Whether the guard does all its work, and what of it does not go.
fn health(shared: &Shared) -> Said {
    let edition = shared.metrics.edition.get();
    let (store, broker) = (shared.metrics.store_answers.get() == 1, shared.metrics.broker_answers.get() == 1);
    let value = serde_json::json!({
        "well": store && broker, "edition": edition, "store_answers": store, "broker_answers": broker,
        "sessions": shared.metrics.sessions.get(),
    });
    let status = if store && broker { StatusCode::OK } else { StatusCode::SERVICE_UNAVAILABLE };
    (status, "application/json", format!("{value}\n"))
}
