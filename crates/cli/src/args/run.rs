use std::net::SocketAddr;
use std::path::PathBuf;

use clap::{Args, ValueEnum};

/// The form of log lines.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum LogForm {
    /// For people.
    Text,
    /// One JSON object a line.
    Json,
}

#[derive(Debug, Args)]
pub(crate) struct GuardArgs {
    /// The IP address and port that devices connect to; default: `listen` under `guard` in ward.toml, else 127.0.0.1:8883.
    #[arg(long, value_name = "ADDRESS")]
    pub(crate) listen: Option<SocketAddr>,
    /// An address for MQTT over WebSocket beside it; default: `listen_websocket` under `guard` in ward.toml, else none.
    #[arg(long, value_name = "ADDRESS")]
    pub(crate) listen_websocket: Option<SocketAddr>,
    /// An address for metrics and health over plain HTTP; default: `metrics` under `guard` in ward.toml, else none.
    #[arg(long, value_name = "ADDRESS")]
    pub(crate) metrics: Option<SocketAddr>,
    /// The broker: HOST:PORT, tls://HOST:PORT, unix:/PATH, or `builtin` for a small one inside; default: `broker` under
    /// `guard` in ward.toml.
    #[arg(long, value_name = "BROKER")]
    pub(crate) broker: Option<String>,
    /// Write what devices ask for into this file, each different act once, for `policy draft`. It is added to.
    #[arg(long, value_name = "FILE")]
    pub(crate) observe: Option<PathBuf>,
    /// The form of log lines on standard error; default: text on a terminal, else json.
    #[arg(long, value_enum)]
    pub(crate) log: Option<LogForm>,
}

#[derive(Debug, Args)]
pub(crate) struct DemoArgs {
    /// Keep the ward in DIR, to go on by hand.
    #[arg(long, value_name = "DIR")]
    pub(crate) keep: Option<PathBuf>,
}

#[derive(Debug, Args)]
pub(crate) struct TopicMatchArgs {
    /// A topic filter.
    pub(crate) filter: String,
    /// A topic name.
    pub(crate) topic: String,
}
