//! `enroll`: certificates for devices, one or a million, and the outfits that carry them.

mod bulk;
mod one;
mod recover;
mod refresh;

pub(crate) use bulk::{go_on, how_to_open, lines_of, place_of_pack};
pub(crate) use recover::recover;
pub(crate) use refresh::run as refresh;

use super::Context;
use crate::args::EnrollArgs;
use crate::problem::{Exit, Problem};

pub(crate) fn run(context: &Context<'_>, args: &EnrollArgs) -> Result<Exit, Problem> {
    if args.resume || args.stop {
        return bulk::resume(context, args);
    }
    match (&args.device, &args.from, &args.out) {
        (None, Some(from), _) => bulk::begin(context, args, from),
        (Some(device), None, Some(out)) if args.csr.is_some() || args.make_key => {
            if args.pack.is_some() {
                return Err(Problem::usage("one device gets an outfit, not a pack").next("--out DIR"));
            }
            one::run(context, args, device, out)
        }
        (Some(_), None, Some(_)) => {
            Err(Problem::usage("where does the key come from?").next("--csr FILE, or --make-key"))
        }
        (Some(_), None, None) => Err(Problem::usage("where does the outfit go?").next("--out DIR")),
        _ => Err(Problem::usage("name a device, or a list of them").next("enroll DEVICE ..., or enroll --from FILE")),
    }
}
