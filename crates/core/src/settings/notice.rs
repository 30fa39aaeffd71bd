//! `[notices]`: where the ward tells of what it does by itself.

use super::key::{Key, Section};
use super::reader::{Reader, Table};
use crate::notice::Target;

/// The keys of `[notices]`.
pub(super) const NOTICES: Section = Section {
    head: "[notices]",
    example: "[notices]",
    about: "A web service that is told of things, as signed JSON over HTTPS (RFC 9421); a desk sends it.",
    keys: &[URL, CA, ALLOW_PRIVATE],
};

const URL: Key = Key::example(
    "url",
    "\"https://ops.example.org/ward\"",
    "an address such as \"https://ops.example.org/ward\"",
    "where to; needed for `notify`. http:// goes to the machine itself alone",
);
const CA: Key = Key::example(
    "ca",
    "\"ops-ca.pem\"",
    "the path of a file",
    "the roots that its certificate is held against, PEM, relative to the ward; without it those of the system",
);
const ALLOW_PRIVATE: Key = Key::default(
    "allow_private",
    "false",
    "true or false",
    "whether it may be on this machine or in a private network: else nothing is sent to such an address, whatever its name says",
);

/// `[notices]`.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct NoticeSettings {
    /// `url`: where to.
    pub target: Option<Target>,
    /// `ca`: the roots that its certificate is held against.
    pub ca: Option<String>,
    /// `allow_private`: whether it may be in a private network.
    pub allow_private: bool,
}

impl Reader<'_> {
    pub(super) fn notices(&mut self, root: &Table<'_>) -> NoticeSettings {
        let Some(table) = self.section(root, "notices", &NOTICES) else { return NoticeSettings::default() };
        NoticeSettings {
            target: self.text(table, &URL, |text| Target::parse(text).ok()),
            ca: self.path(table, &CA),
            allow_private: self.flag(table, &ALLOW_PRIVATE).unwrap_or(false),
        }
    }
}
