//! placeholder
use crate::args::DemoArgs;
use crate::console::Console;
use crate::problem::{Exit, Problem};
pub(crate) fn run(_console: &Console, _args: &DemoArgs) -> Result<Exit, Problem> {
    Ok(Exit::Done)
}
