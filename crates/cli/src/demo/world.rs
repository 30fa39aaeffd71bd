//! The demo's made-up fleet, as it ships.

/// The kinds, appended to `ward.toml`.
pub(super) const KINDS: &str = include_str!("../../demo/kinds.toml");

/// The devices, as `device import` takes them.
pub(super) const FLEET: &str = include_str!("../../demo/fleet.csv");

/// The policies, by file name.
pub(super) const POLICIES: &[(&str, &str)] = &[
    ("cabin.policy", include_str!("../../demo/policies/cabin.policy")),
    ("control-room.policy", include_str!("../../demo/policies/control-room.policy")),
    ("station.policy", include_str!("../../demo/policies/station.policy")),
    ("tension.policy", include_str!("../../demo/policies/tension.policy")),
    ("turnstile.policy", include_str!("../../demo/policies/turnstile.policy")),
    ("windvane.policy", include_str!("../../demo/policies/windvane.policy")),
];

/// What locks the demo's keys; a passphrase that is known to everybody guards nothing but a demo.
pub(super) const PASSPHRASE: &str = "quill feather rope way";
