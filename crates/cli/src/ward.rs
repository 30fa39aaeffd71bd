//! The ward as the command line opens it.

use std::path::Path;

use tidy_warden_core::settings::Settings;
pub(crate) use tidy_warden_ward::open::{
    KEYS, MAX_TEXT, POLICIES, SETTINGS, Urls, Ward, policy_files, policy_paths, read_settings_text,
};

pub(crate) use tidy_warden_ward::place::{STORE, StorePlace};

pub(crate) use crate::actor::actor;
use crate::problem::Problem;

/// Opens the ward in `dir` for whoever runs this.
pub(crate) fn open(dir: &Path) -> Result<Ward, Problem> {
    Ward::open(dir, actor())
}

/// The ward in `dir` as it would be with `settings`.
pub(crate) fn imagined(dir: &Path, settings: Settings) -> Result<Ward, Problem> {
    Ward::imagined(dir, settings, actor())
}
