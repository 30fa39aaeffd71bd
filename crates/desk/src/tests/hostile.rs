//! Whatever is sent to the owners' page and interface, nothing breaks, and who has proved nothing changes nothing.

use proptest::prelude::*;
use proptest::test_runner::TestRunner;

use super::World;
use super::owner::{request, text};
use crate::owner::OwnerRequest;

/// Texts that mean something here, between such as mean nothing.
fn word() -> impl Strategy<Value = String> {
    prop_oneof![
        Just("__Host-owner".to_owned()),
        Just("__Host-owner-link".to_owned()),
        Just("__Host-owner-claim".to_owned()),
        Just("__Host-owner-note".to_owned()),
        Just("BwcHBwcHBwcHBwcHBwcHBwcHBwcHBwcHBwcHBwcHBwc".to_owned()),
        Just("form".to_owned()),
        Just("device".to_owned()),
        Just("code".to_owned()),
        Just("link".to_owned()),
        Just("place.site".to_owned()),
        Just("cb-1".to_owned()),
        Just("%00%ff\r\nx: y".to_owned()),
        Just("eyJhbGciOiJFUzI1NiIsInR5cCI6Im93bmVyK2p3dCJ9".to_owned()),
        "[ -~]{0,40}",
        "\\PC{0,20}",
    ]
}

fn joined(between: &'static str, pairs: &'static str) -> impl Strategy<Value = String> {
    let one = (word(), word()).prop_map(move |(name, value)| format!("{name}{pairs}{value}"));
    proptest::collection::vec(one, 0..5).prop_map(move |all| all.join(between))
}

/// What is asked for, from where, with which query, cookies, body and bearer token. Requests themselves are not shown to anybody: they hold
/// secrets.
type Sent = ((&'static str, &'static str, bool), String, String, Vec<u8>, Option<String>);

fn any_sent() -> impl Strategy<Value = Sent> {
    let path = prop_oneof![
        Just("/owner"),
        Just("/owner/offers"),
        Just("/owner/sign-in"),
        Just("/owner/sign-out"),
        Just("/claim"),
        Just("/owner/devices/cb-1"),
        Just("/owner/devices/cb-1/give-up"),
        Just("/owner/devices/cb-1/hand-over"),
        Just("/owner/devices/cb-1/take"),
        Just("/owner/devices/cb-1/drop-offer"),
        Just("/owner/v1/devices"),
        Just("/owner/v1/claims"),
        Just("/owner/v1/devices/cb-1/take"),
        Just("/openapi.json"),
    ];
    let method = prop_oneof![Just("GET"), Just("POST"), Just("DELETE")];
    let form = joined("&", "=").prop_map(String::into_bytes);
    let body = prop_oneof![form, proptest::collection::vec(any::<u8>(), 0..200)];
    let bearer = proptest::option::of(joined(".", "."));
    ((path, method, any::<bool>()), joined("&", "="), joined("; ", "="), body, bearer)
}

#[test]
fn whoever_has_proved_nothing_changes_nothing_and_gets_an_answer() {
    let world = World::new();
    let before = world.entries();
    let mut runner = TestRunner::new(ProptestConfig { cases: 2_000, failure_persistence: None, ..Default::default() });
    let answered = runner.run(&any_sent(), |((path, method, is_cross), query, cookies, body, bearer)| {
        let body = body.into();
        let request = OwnerRequest { query, cookies, bearer, is_cross, body, ..request(method, path) };
        let said = world.desk.answer_owner(&request);
        prop_assert!(said.status.as_u16() < 500, "{said:?}");
        // No field of an answer can be ended by what was sent.
        for (name, value) in &said.more {
            prop_assert!(!value.contains(['\r', '\n', '\0']), "{name}: {value:?}");
        }
        prop_assert!(!text(&said).contains("<script"), "{said:?}");
        Ok(())
    });
    answered.unwrap();
    assert_eq!(world.entries(), before);
}
