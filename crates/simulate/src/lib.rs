//! Stand-ins that ship with the product: a small broker, devices that behave and devices that do not, and load; so that
//! everything can be tried with nothing installed. All speak real MQTT over real sockets.

mod broker;
mod device;
mod errand;
mod fleet;
pub mod load;
mod login;
mod outfit;
pub mod plan;
mod request;

pub use broker::Broker;
pub use device::{Delivered, Device, Outcome};
pub use fleet::{Doing, Happening, Misdeed, Tell, concrete, run};
pub use login::{ConnectError, Login, Secured, handshake_words};
pub use outfit::{BadOutfit, Outfit, outfits};
pub use request::certification_request;
