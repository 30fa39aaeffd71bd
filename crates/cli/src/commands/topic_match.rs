//! `topic-match`: lets others test the matcher. Exit 0 matches, 1 does not, 2 invalid.

use tidy_warden_core::topic::{TopicFilter, TopicName};

use crate::args::TopicMatchArgs;
use crate::problem::Exit;

pub(crate) fn run(args: &TopicMatchArgs) -> Exit {
    match (args.filter.parse::<TopicFilter>(), TopicName::parse(&args.topic)) {
        (Ok(filter), Ok(topic)) if filter.matches(topic) => Exit::Done,
        (Ok(_), Ok(_)) => Exit::Failed,
        _ => Exit::Usage,
    }
}
