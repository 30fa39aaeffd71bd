//! Owners at a desk whose clock and store do as a test wants.

use std::collections::BTreeSet;

use data_encoding::BASE64URL_NOPAD;
use hyper::StatusCode;
use hyper::body::Bytes;
use tidy_warden_core::claim::Code;
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::id::{DeviceId, OwnerId};
use tidy_warden_core::key::{Signer, sha256, thumbprint};
use tidy_warden_core::owner::{OwnerRecord, OwnerScope, OwnerTokenTerms, Place, owner_token};
use tidy_warden_core::time::{Span, UnixTime};
use tidy_warden_core::token::TokenSigner;
use tidy_warden_rig::ward::NOW;
use tidy_warden_store::acts::{claim, owner};
use tidy_warden_store::{Cause, OwnerPass, PassKind};
use tidy_warden_ward::claim::{open, openings};
use tidy_warden_ward::clock::SystemRandom;

use super::World;
use crate::answer::Said;
use crate::owner::{Asked, OwnerRequest, audience, found};

const HOUR: i64 = 3_600;
const DAY: Span = Span::from_days(1);

fn id(text: &str) -> DeviceId {
    text.parse().unwrap()
}

fn owner_id(text: &str) -> OwnerId {
    text.parse().unwrap()
}

fn place(text: &str) -> Place {
    let (name, value) = text.split_once('=').unwrap();
    (name.parse().unwrap(), value.parse().unwrap())
}

/// A request that nobody has proved.
pub(super) fn request(method: &str, path: &str) -> OwnerRequest {
    let (path, query) = path.split_once('?').unwrap_or((path, ""));
    let asked = found(path).unwrap_or(Asked::Home);
    OwnerRequest {
        asked,
        is_post: method == "POST",
        is_delete: method == "DELETE",
        query: query.to_owned(),
        cookies: String::new(),
        bearer: None,
        is_cross: false,
        body: Bytes::new(),
        peer: ([198, 51, 100, 7], 4711).into(),
        source: "198.51.100.0/24".into(),
    }
}

/// The value of a header field that a test looks for, all of them joined.
fn field(said: &Said, name: &str) -> String {
    let all: Vec<&str> = said.more.iter().filter(|(known, _)| *known == name).map(|(_, value)| &**value).collect();
    all.join("\n")
}

/// What a browser sends of the cookies that it was given.
fn cookies(said: &Said) -> String {
    let set = field(said, "set-cookie");
    let kept = set.lines().filter(|line| !line.contains("Max-Age=0")).filter_map(|line| line.split(';').next());
    kept.collect::<Vec<_>>().join("; ")
}

pub(super) fn text(said: &Said) -> String {
    String::from_utf8_lossy(&said.body).into_owned()
}

/// The token that the forms of a page carry.
fn form_of(said: &Said) -> String {
    let page = text(said);
    let (_, rest) = page.split_once("name=\"form\" value=\"").unwrap_or_else(|| panic!("no form in {page}"));
    rest.split('"').next().unwrap().to_owned()
}

impl World {
    fn cause(&self) -> Cause {
        self.bench.ward.cause(None)
    }

    fn add_owner(&mut self, name: &str, places: &[&str]) {
        let places = places.iter().map(|text| place(text)).collect();
        let record = OwnerRecord { places, ..OwnerRecord::new(owner_id(name), NOW) };
        let cause = self.cause();
        self.bench.ward.store.decide(|tx| owner::add(tx, &record, &cause)).unwrap().unwrap();
    }

    fn list(&mut self, ids: &[&str]) {
        let cabin = || "cabin".parse().unwrap();
        let devices: Vec<DeviceRecord> = ids.iter().map(|text| DeviceRecord::new(id(text), cabin(), NOW)).collect();
        let cause = self.cause();
        self.bench.ward.store.add_devices(&devices, &cause).unwrap().unwrap();
    }

    /// Opens a device for a day, and gives its code.
    fn opened(&mut self, device: &str) -> Code {
        let ward = &mut self.bench.ward;
        let device = ward.device(&id(device)).unwrap().device;
        let mut made = openings(&ward.settings, &[device], None, (NOW, NOW.plus(DAY)));
        let cause = ward.cause(None);
        open(&mut ward.store, &[made[0].claim.clone()], &cause).unwrap().unwrap();
        made.remove(0).code.unwrap()
    }

    /// A sign-in link as it stands in a letter, good for a day.
    fn link(&mut self, owner: &str, secret: u8) -> String {
        let pass = OwnerPass {
            digest: sha256(&[secret; 32]),
            kind: PassKind::Link,
            owner: owner_id(owner),
            made: NOW,
            ends: NOW.plus(DAY),
            used: None,
        };
        let cause = self.cause();
        self.bench.ward.store.decide(|tx| owner::link(tx, &pass, &cause)).unwrap().unwrap();
        BASE64URL_NOPAD.encode(&[secret; 32])
    }

    fn ask(&self, request: &OwnerRequest) -> Said {
        self.desk.answer_owner(request)
    }

    /// What comes of a link that is opened and used as a browser would; gives the session's cookie.
    fn signed_in(&self, link: &str) -> Result<String, StatusCode> {
        let bare = self.ask(&request("GET", &format!("/owner/sign-in?link={link}")));
        let with_link = OwnerRequest { cookies: cookies(&bare), ..request("GET", "/owner/sign-in") };
        let form = form_of(&self.ask(&with_link));
        let body = format!("form={form}").into();
        let said = self.ask(&OwnerRequest { body, cookies: cookies(&bare), ..request("POST", "/owner/sign-in") });
        match said.status {
            StatusCode::SEE_OTHER => Ok(cookies(&said)),
            other => Err(other),
        }
    }

    /// The cookie of an owner that signed in.
    fn session(&mut self, owner: &str, secret: u8) -> String {
        let link = self.link(owner, secret);
        self.signed_in(&link).unwrap()
    }

    /// A page for whoever has a session.
    fn get(&self, session: &str, path: &str) -> Said {
        self.ask(&OwnerRequest { cookies: session.to_owned(), ..request("GET", path) })
    }

    /// A form of the session's own, sent.
    fn post(&self, session: &str, path: &str, fields: &str) -> Said {
        let form = form_of(&self.get(session, "/claim"));
        let body = format!("form={form}&{fields}").into();
        self.ask(&OwnerRequest { body, cookies: session.to_owned(), ..request("POST", path) })
    }

    fn token(&self, owner: &str, scopes: &[OwnerScope], from: i64) -> String {
        let terms = OwnerTokenTerms {
            owner: &owner_id(owner),
            ward: "urn:uuid:1",
            audience: &audience(&self.desk.live()),
            scopes: &scopes.iter().copied().collect::<BTreeSet<_>>(),
            times: (NOW.plus(Span::from_seconds(u32::try_from(from).unwrap())), NOW.plus(Span::from_days(2))),
        };
        let key = &self.bench.token_key;
        let kid = thumbprint(key.public_key()).unwrap();
        owner_token(&terms, TokenSigner::Private(key), &kid, &mut SystemRandom).unwrap()
    }

    fn api(&self, token: &str, method: &str, path: &str, body: &str) -> Said {
        let bearer = Some(token.to_owned());
        self.ask(&OwnerRequest { bearer, body: body.to_owned().into(), ..request(method, path) })
    }

    fn owner_of(&self, device: &str) -> Option<String> {
        self.bench.ward.device(&id(device)).unwrap().device.owner.map(|owner| owner.to_string())
    }
}

/// Two owners, and a device that either could claim with its code.
fn claimable() -> (World, Code) {
    let mut world = World::new();
    for name in ["mole-west", "saint-ivo"] {
        world.add_owner(name, &["site=mole"]);
    }
    world.list(&["cb-1"]);
    let code = world.opened("cb-1");
    (world, code)
}

const ALL: [OwnerScope; 3] = [OwnerScope::Read, OwnerScope::Claim, OwnerScope::Give];

#[test]
fn what_is_only_looked_at_changes_nothing_whoever_looks() {
    let mut world = World::new();
    world.add_owner("mole-west", &["site=mole"]);
    world.list(&["cb-1", "cb-2"]);
    let code = world.opened("cb-1");
    let link = world.link("mole-west", 1);
    let session = world.session("mole-west", 2);
    let before = world.entries();
    let sticker = format!("/claim?device=cb-1&code={}", *code.grouped());
    let paths = [
        format!("/owner/sign-in?link={link}"),
        "/owner/sign-in".into(),
        sticker,
        "/claim".into(),
        "/owner".into(),
        "/owner?after=cb-1".into(),
        "/owner/offers".into(),
        "/owner/offers?after=cb-1".into(),
        "/owner/devices/cb-1".into(),
        "/owner/devices/cb-2".into(),
        "/owner/style.css".into(),
        "/openapi.json".into(),
    ];
    for path in &paths {
        for who in ["", &session] {
            let said = world.get(who, path);
            assert!(said.status.as_u16() < 500, "{path}: {said:?}");
            assert!(!text(&said).contains(&link) && !field(&said, "location").contains('?'), "{path}");
        }
    }
    assert_eq!((world.entries(), world.owner_of("cb-1")), (before, None));
    assert!(world.signed_in(&link).is_ok(), "the link is as good as it was");
    assert!(world.told().iter().all(|line| !line.contains(&link) && !line.contains(&**code.grouped())));
}

#[test]
fn a_session_is_good_for_an_hour_by_a_clock_that_may_be_put_back() {
    let mut world = World::new();
    world.add_owner("mole-west", &["site=mole"]);
    let link = world.link("mole-west", 1);
    world.at(100);
    let session = world.signed_in(&link).unwrap();
    assert_eq!(world.signed_in(&link), Err(StatusCode::FORBIDDEN), "a link is good once");
    for (at, want) in [
        (100, StatusCode::OK),
        (100 + HOUR, StatusCode::OK),
        (101 + HOUR, StatusCode::SEE_OTHER),
        (99, StatusCode::SEE_OTHER),
        (-HOUR, StatusCode::SEE_OTHER),
        (200, StatusCode::OK),
    ] {
        world.at(at);
        let said = world.get(&session, "/owner");
        assert_eq!(said.status, want, "{at} s after the beginning");
        if want == StatusCode::SEE_OTHER {
            assert_eq!(field(&said, "location"), "/owner/sign-in");
        }
    }
    // A link that was used opens nothing by a clock before that either.
    world.at(50);
    assert_eq!(world.signed_in(&link), Err(StatusCode::FORBIDDEN));
}

#[test]
fn whoever_is_signed_out_or_retired_is_out_with_the_next_request() {
    let (mut world, code) = claimable();
    let (first, second) = (world.link("mole-west", 1), world.link("saint-ivo", 2));
    let (first, second) = (world.signed_in(&first).unwrap(), world.signed_in(&second).unwrap());
    let (tokens, left) =
        (["mole-west", "saint-ivo"].map(|name| world.token(name, &ALL, 0)), world.link("mole-west", 3));
    let claim = format!("{{\"device\":\"cb-1\",\"code\":\"{}\"}}", *code.grouped());
    for token in &tokens {
        assert_eq!(world.api(token, "GET", "/owner/v1/devices", "").status, StatusCode::OK);
    }
    let cause = world.cause();
    world.bench.ward.store.make(|tx| owner::sign_out(tx, &owner_id("mole-west"), &cause)).unwrap();
    world.bench.ward.store.decide(|tx| owner::retire(tx, &owner_id("saint-ivo"), &cause)).unwrap().unwrap();
    for session in [&first, &second] {
        let said = world.get(session, "/owner");
        assert_eq!((said.status, field(&said, "location").as_str()), (StatusCode::SEE_OTHER, "/owner/sign-in"));
        let body = format!("device=cb-1&code={}", *code.grouped()).into();
        let posted = world.ask(&OwnerRequest { cookies: session.clone(), body, ..request("POST", "/claim") });
        assert_eq!(posted.status, StatusCode::SEE_OTHER);
    }
    for token in &tokens {
        assert_eq!(world.api(token, "POST", "/owner/v1/claims", &claim).status, StatusCode::UNAUTHORIZED);
    }
    assert_eq!(world.signed_in(&left), Err(StatusCode::FORBIDDEN));
    assert_eq!(world.owner_of("cb-1"), None);
    // A token that was made since is good, if its owner is there.
    let new = ["mole-west", "saint-ivo"].map(|name| world.token(name, &ALL, 1));
    world.at(1);
    assert_eq!(world.api(&new[1], "POST", "/owner/v1/claims", &claim).status, StatusCode::UNAUTHORIZED);
    assert_eq!(world.api(&new[0], "POST", "/owner/v1/claims", &claim).status, StatusCode::OK);
    assert_eq!(world.owner_of("cb-1").as_deref(), Some("mole-west"));
}

#[test]
fn in_doubt_nobody_claims_signs_in_or_sees_anything() {
    let (mut world, code) = claimable();
    let session = world.session("mole-west", 1);
    let (link, token) = (world.link("mole-west", 2), world.token("mole-west", &ALL, 0));
    let claim = format!("{{\"device\":\"cb-1\",\"code\":\"{}\"}}", *code.grouped());
    // The desk finds that its store goes back in time; and a store says it of itself.
    world.desk.is_behind.store(true, std::sync::atomic::Ordering::Relaxed);
    let (before, away) = (world.entries(), StatusCode::SERVICE_UNAVAILABLE);
    for said in [
        world.get(&session, "/owner"),
        world.get(&session, "/owner/devices/cb-1"),
        world.ask(&OwnerRequest { cookies: session.clone(), ..request("POST", "/claim") }),
        world.api(&token, "GET", "/owner/v1/devices", ""),
        world.api(&token, "POST", "/owner/v1/claims", &claim),
    ] {
        assert_eq!(said.status, away, "{said:?}");
        assert!(said.retry_after.is_some(), "it is told to come again: {said:?}");
        assert!(!text(&said).contains("mole"), "{said:?}");
    }
    assert_eq!(world.signed_in(&link), Err(away));
    assert_eq!((world.entries(), world.owner_of("cb-1")), (before, None));
    world.desk.is_behind.store(false, std::sync::atomic::Ordering::Relaxed);
    assert_eq!(world.get(&session, "/owner").status, StatusCode::OK);
    let cause = world.cause();
    world.bench.ward.store.restored(&serde_json::json!({}), Some("it is of yesterday"), &cause).unwrap();
    world.at(2);
    let new = world.token("mole-west", &ALL, 2);
    assert_eq!(world.get(&session, "/owner").status, away);
    assert_eq!(world.api(&new, "GET", "/owner/v1/devices", "").status, away);
    assert_eq!(world.api(&new, "POST", "/owner/v1/claims", &claim).status, away);
    assert_eq!(world.owner_of("cb-1"), None);
    // When a person has said that it counts, who was signed in before has to sign in again, and the codes of before are none.
    let head = world.bench.ward.store.head().unwrap();
    world.bench.ward.store.give_up(head.number, head.hash, &cause).unwrap();
    assert_eq!(world.get(&session, "/owner").status, StatusCode::SEE_OTHER);
    assert_eq!(world.api(&token, "GET", "/owner/v1/devices", "").status, StatusCode::UNAUTHORIZED);
    assert_eq!(world.signed_in(&link), Err(StatusCode::FORBIDDEN));
    assert_eq!(world.api(&new, "GET", "/owner/v1/devices", "").status, StatusCode::OK);
    assert_eq!(world.api(&new, "POST", "/owner/v1/claims", &claim).status, StatusCode::FORBIDDEN);
    assert_eq!(world.owner_of("cb-1"), None);
}

#[test]
fn an_owner_that_changes_too_much_waits_and_nobody_else_does() {
    let (mut world, code) = claimable();
    let session = world.session("mole-west", 1);
    let other = world.session("saint-ivo", 2);
    let token = world.token("mole-west", &ALL, 0);
    let give_up = || world.api(&token, "POST", "/owner/v1/devices/cb-9/give-up", "");
    let answered = (0..200).map(|_| give_up()).take_while(|said| said.status == StatusCode::NOT_FOUND).count();
    assert!((100..=140).contains(&answered), "{answered} in a minute");
    let before = world.entries();
    let claim = format!("device=cb-1&code={}", *code.grouped());
    for said in [
        give_up(),
        world.api(&token, "DELETE", "/owner/v1/devices/cb-9/hand-over", ""),
        world.post(&session, "/claim", &claim),
        world.post(&session, "/owner/devices/cb-1/give-up", "sure=yes"),
    ] {
        assert_eq!(said.status, StatusCode::TOO_MANY_REQUESTS, "{said:?}");
        assert!((1..=60).contains(&said.retry_after.unwrap()), "{said:?}");
    }
    assert_eq!((world.entries(), world.owner_of("cb-1")), (before, None));
    assert_eq!(world.get(&session, "/owner").status, StatusCode::OK, "it may look");
    assert_eq!(world.post(&other, "/claim", &claim).status, StatusCode::SEE_OTHER);
    assert_eq!(world.owner_of("cb-1").as_deref(), Some("saint-ivo"));
}

#[test]
fn a_form_of_another_session_or_site_does_nothing() {
    let (mut world, code) = claimable();
    let session = world.session("mole-west", 1);
    let other = world.session("saint-ivo", 2);
    let (own, its) = (form_of(&world.get(&session, "/claim")), form_of(&world.get(&other, "/claim")));
    assert_ne!(own, its);
    let before = world.entries();
    let claim = format!("device=cb-1&code={}", *code.grouped());
    let sent = |cookies: &str, body: String, is_cross| {
        let cookies = cookies.to_owned();
        world.ask(&OwnerRequest { cookies, body: body.into(), is_cross, ..request("POST", "/claim") }).status
    };
    for (cookies, body, is_cross, want) in [
        (&*session, format!("form={its}&{claim}"), false, StatusCode::FORBIDDEN),
        (&*session, claim.clone(), false, StatusCode::FORBIDDEN),
        (&*session, format!("form=&{claim}"), false, StatusCode::FORBIDDEN),
        (&*session, format!("form={own}&form={own}&{claim}"), false, StatusCode::FORBIDDEN),
        (&*session, format!("form={own}&{claim}"), true, StatusCode::FORBIDDEN),
        // Two sessions at once are none: which of them was meant is anybody's guess.
        (&*format!("{session}; {other}"), format!("form={own}&{claim}"), false, StatusCode::SEE_OTHER),
        ("", format!("form={own}&{claim}"), false, StatusCode::SEE_OTHER),
    ] {
        assert_eq!(sent(cookies, body.clone(), is_cross), want, "{body}");
    }
    assert_eq!((world.entries(), world.owner_of("cb-1")), (before, None));
    assert_eq!(sent(&session, format!("form={own}&{claim}"), false), StatusCode::SEE_OTHER);
    assert_eq!(world.owner_of("cb-1").as_deref(), Some("mole-west"));
}

#[test]
fn a_desk_at_a_post_does_nothing_for_owners() {
    let (mut world, code) = claimable();
    let (link, token) = (world.link("mole-west", 1), world.token("mole-west", &ALL, 0));
    world.desk.owners = None;
    let before = world.entries();
    assert_eq!(world.signed_in(&link), Err(StatusCode::SERVICE_UNAVAILABLE));
    let claim = format!("{{\"device\":\"cb-1\",\"code\":\"{}\"}}", *code.grouped());
    assert_eq!(world.api(&token, "POST", "/owner/v1/claims", &claim).status, StatusCode::SERVICE_UNAVAILABLE);
    assert_eq!((world.entries(), world.owner_of("cb-1")), (before, None));
}

#[test]
fn every_offer_is_found_however_many_there_are_and_none_that_was_meant_for_another() {
    let mut world = World::new();
    for name in ["mole-west", "saint-ivo"] {
        world.add_owner(name, &["site=mole"]);
    }
    let ids: Vec<String> = (0..230).map(|number| format!("cb-{number:03}")).collect();
    let cabin = || "cabin".parse().unwrap();
    let of_ivo = |text: &String| DeviceRecord {
        owner: Some(owner_id("saint-ivo")),
        ..DeviceRecord::new(id(text), cabin(), NOW)
    };
    let cause = world.cause();
    world.bench.ward.store.add_devices(&ids.iter().map(of_ivo).collect::<Vec<_>>(), &cause).unwrap().unwrap();
    let (ivo, day) = (owner_id("saint-ivo"), NOW.plus(DAY));
    let mut offer = |device: &str, to: &str, ends: UnixTime| {
        let store = &mut world.bench.ward.store;
        store.decide(|tx| claim::offer(tx, &id(device), (Some(&ivo), &owner_id(to)), ends, &cause)).unwrap().unwrap();
    };
    // More than a page has lapsed before the first that has not.
    for (number, device) in ids.iter().enumerate() {
        offer(device, "mole-west", if number < 110 { NOW } else { day });
    }
    // Nobody has this name yet; whoever is given it later is not whom it was offered to.
    offer("cb-229", "late-owner", day);
    world.at(5);
    let late = OwnerRecord::new(owner_id("late-owner"), NOW.plus(Span::from_seconds(5)));
    world.bench.ward.store.decide(|tx| owner::add(tx, &late, &cause)).unwrap().unwrap();

    let token = world.token("mole-west", &ALL, 0);
    let (mut found, mut after, mut pages) = (Vec::new(), String::new(), 0);
    loop {
        let said = world.api(&token, "GET", &format!("/owner/v1/offers?after={after}"), "");
        let value: serde_json::Value = serde_json::from_slice(&said.body).unwrap();
        let some = value["offers"].as_array().unwrap();
        assert!((1..=50).contains(&some.len()), "{value}");
        found.extend(some.iter().map(|offer| offer["device"].as_str().unwrap().to_owned()));
        pages += 1;
        match value["next"].as_str() {
            Some(next) => after = next.to_owned(),
            None => break,
        }
    }
    assert_eq!((found.as_slice(), pages), (&ids[110..229], 3));
    let session = world.session("mole-west", 1);
    let page = text(&world.get(&session, "/owner"));
    assert_eq!(page.matches("Turn cb-").count(), 5, "an owner's own devices are not far below: {page}");
    assert!(page.contains("Take cb-110") && page.contains("href=\"/owner/offers\""), "{page}");
    let (mut path, mut found) = ("/owner/offers".to_owned(), 0);
    loop {
        let page = text(&world.get(&session, &path));
        found += page.matches("Turn cb-").count();
        let Some((_, rest)) = page.split_once("href=\"/owner/offers?after=") else { break };
        path = format!("/owner/offers?after={}", rest.split('"').next().unwrap());
    }
    assert_eq!(found, 119);
    assert!(text(&world.get(&session, "/owner/offers?after=zz")).contains("There are no more."));
    assert!(text(&world.get(&session, "/owner?after=zz")).contains("There are no more."));
    let its = world.session("late-owner", 2);
    let (page, token) = (text(&world.get(&its, "/owner")), world.token("late-owner", &ALL, 5));
    assert!(!page.contains("Offered to you"), "{page}");
    let taken = world.api(&token, "POST", "/owner/v1/devices/cb-229/take", "");
    assert_eq!((taken.status, world.owner_of("cb-229").as_deref()), (StatusCode::NOT_FOUND, Some("saint-ivo")));
}
