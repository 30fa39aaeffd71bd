//! Policies: rules on connect, publish and subscribe, as text; checked, adopted as numbered editions, and decided by.
//!
//! Default is no; a deny beats every allow; an act is allowed if one allow admits it within that rule's own limits.
//! The grammar stands in `docs/policies.md`.

mod check;
mod decide;
mod edition;
mod pattern;
mod read;
mod rule;
mod sole;
mod write;

pub use check::check;
pub use decide::{BoundRule, Decision, Delivery, Denial, Granted, Meter, NoMeter, Publish, Rights};
pub use edition::{Edition, PolicyFile, digest};
pub use pattern::{Missing, Pattern, PatternLevel, Variable};
pub use read::read_file;
pub use rule::{Act, ClientIdForm, Effect, Expect, ExpectDevice, Limits, Policy, Rate, Rule, RulePlace, Sole, Target};
