//! Stand-ins that ship with the product: a small broker and a device, so that everything can be tried with nothing
//! installed. Both speak real MQTT over real sockets.

mod broker;
mod device;
mod request;

pub use broker::Broker;
pub use device::{ConnectError, Delivered, Device, Login, Outcome};
pub use request::certification_request;
