//! MQTT topic names and filters, and the exact algebra of the sets of topics that filters stand for.
//!
//! A filter stands for all topic names that it matches (MQTT 5.0 section 4.7). The alphabet of levels is unbounded,
//! which makes the algebra simple: put a level that occurs nowhere else for every wildcard of a filter F, and only a
//! filter that has wildcards at those places can match the result. So F, cut to topics of one length, lies in a union
//! exactly if it lies in one member of it; and `#` adds lengths without end, but past the longest filter of the union
//! nothing changes any more. [`uncovered`] rests on this argument and the tests hold it against brute force.

mod filter;
mod set;
mod sets;
pub(crate) mod trie;

pub use filter::{BadFilter, BadTopic, Level, ShareName, TopicFilter, TopicName, split_share};
pub use set::{intersection, overlap, uncovered};
pub use sets::{Piece, TopicSet};
pub use trie::{Exhausted, Missing, Work};
