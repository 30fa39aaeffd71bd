//! Policies: rules on connect, publish and subscribe, as text; checked, adopted as numbered editions, and decided by.
//!
//! Default is no; a deny beats every allow; an act is allowed if one allow admits it within that rule's own limits.
//! The grammar stands in `docs/policies.md`.

#[cfg(test)]
mod brute;
mod check;
mod compare;
mod cover;
mod decide;
mod denial;
mod draft;
mod edition;
mod fleet;
mod introduce;
mod item;
mod layout;
mod pattern;
mod reach;
mod read;
mod rule;
mod sole;
mod table;
#[cfg(test)]
mod tests;
mod write;

pub use crate::topic::Missing;
pub use check::{Checked, Household, Proved, check};
pub use compare::{Changed, ChangedAlike, Comparison, Grants, compare};
pub use decide::{Admitted, Decision, Delivery, Granted, Meter, NoMeter, Publish, Rights};
pub use denial::Denial;
pub use draft::{Draft, Observed, Outlier, draft};
pub use edition::{Edition, PolicyFile, digest};
pub use fleet::{Fleet, FleetRow, Pair};
pub use introduce::Unknown;
pub use layout::layout;
pub use pattern::{Pattern, PatternLevel, Speaker, Variable};
pub use reach::{Reach, ReachedBy, Reaching, filter_texts, fleet_for, reach};
pub use read::{parse_size, read_file};
pub use rule::{
    Act, ClientIdForm, Effect, Expect, ExpectDevice, Introduce, Limits, Policy, Rate, Rule, RulePlace, Sole, Target,
};
