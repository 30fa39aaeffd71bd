//! Room on the disk that only acts use which must not wait: revoking, holding, and the list that says so.

use std::fs::{self, OpenOptions};
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;

use rustix::fs::{FallocateFlags, fallocate};

use crate::console::Console;
use crate::problem::Problem;

/// The file that holds the room.
const FILE: &str = "ward.db.reserve";

/// How much, in bytes: a revocation of thousands of devices, and its list.
const ROOM: u64 = 4 * 1024 * 1024;

/// Makes sure that there is a reserve, if the disk has room for it.
pub(crate) fn keep(dir: &Path) {
    let path = dir.join(FILE);
    let Ok(file) = OpenOptions::new().write(true).create_new(true).mode(0o600).open(&path) else { return };
    if fallocate(&file, FallocateFlags::empty(), 0, ROOM).is_err() {
        // Without room for it, or on a file system that cannot set it aside, there is none.
        let _ = fs::remove_file(&path);
    }
}

/// Does what must not wait; if nothing more can be written, gives up the reserve and tries once more.
pub(crate) fn urgent<T>(dir: &Path, console: &Console, act: impl Fn() -> Result<T, Problem>) -> Result<T, Problem> {
    let problem = match act() {
        Err(problem) if problem.is_no_room() => problem,
        done => return done,
    };
    if fs::remove_file(dir.join(FILE)).is_err() {
        return Err(problem.or_next("the reserve for this is used up already"));
    }
    console.warn(format!(
        "the disk of {} is full; the reserve that is kept for this was given up, and it is tried again: free space now",
        dir.display()
    ));
    act()
}
