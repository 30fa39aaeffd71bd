use super::*;
use crate::settings::Settings;
use crate::text::Source;

const DAY: i64 = 86_400;

fn at(day: i64) -> UnixTime {
    UnixTime(day * DAY)
}

/// Kinds that say all that a kind can say about who renews.
fn settings() -> Settings {
    let text = "[ward]\nname = \"Quillfeather Ropeways\"\nenterprise_number = 32473\n\
                [kinds.windvane]\nlife = \"90d\"\nrenew = \"30d\"\n\
                [kinds.cabin]\nlife = \"90d\"\nrenew = \"30d\"\nrenews = \"device\"\n\
                [kinds.tension]\nlife = \"90d\"\nrenews = \"person\"\n";
    Settings::parse(&Source { name: "ward.toml".into(), text: text.into() }).unwrap()
}

/// Now is day 100, the horizon day 160; a desk is there.
fn judge(settings: &Settings) -> Judge<'_> {
    Judge { settings, now: at(100), until: at(160), desk: Some(at(100)) }
}

fn certificate(ends: i64) -> CredentialEnd<'static> {
    CredentialEnd {
        origin: Origin::Issued,
        authority: None,
        begins: at(ends - 90),
        ends: at(ends),
        superseded: false,
        kid: None,
    }
}

fn device<'a>(kind: &'a str, came: bool, credentials: &'a [CredentialEnd<'a>]) -> DeviceEnds<'a> {
    DeviceEnds { id: "wv-1", kind, label: Some("ossel"), held: None, came, takes_sealed: false, credentials }
}

fn judged(judge: &Judge<'_>, device: &DeviceEnds<'_>) -> (Vec<(What, i64, Why)>, u64) {
    let mut forecast = Forecast::new(judge.now, judge.until);
    let mut found = Vec::new();
    judge.device(device, &mut forecast, &mut |item| {
        assert_eq!((item.name.as_str(), item.label.as_deref()), ("wv-1", Some("ossel")));
        assert_eq!(item.next().is_some(), item.happens() == Happens::Person, "whoever is needed is told what to do");
        found.push((item.what, item.ends.0.div_euclid(DAY), item.why));
    });
    (found, forecast.total())
}

#[test]
fn a_certificate_renews_by_itself_only_where_somebody_knows_that_it_does() {
    let settings = settings();
    let all = judge(&settings);
    let gone = Judge { desk: Some(at(99)), ..all };
    let never = Judge { desk: None, ..all };
    // wv-1 may renew within a day and a half of the opening of its window.
    let opens = crate::enrolment::renewal_opens(at(50), at(140), Some(Span::from_days(30)), &"wv-1".parse().unwrap());
    assert!((at(110)..at(125)).contains(&opens), "{opens}");
    let renews = Why::Renews { from: opens };
    let soon = [certificate(140)];
    for (judge, kind, came, why) in [
        (&all, "windvane", true, renews),
        (&all, "windvane", false, Why::NeverCame),
        (&all, "cabin", false, renews),
        (&all, "tension", true, Why::ByHand),
        (&all, "unknown", false, Why::NeverCame),
        (&gone, "windvane", true, Why::NoDesk { seen: Some(at(99)) }),
        (&never, "cabin", false, Why::NoDesk { seen: None }),
        (&never, "windvane", false, Why::NeverCame),
    ] {
        let (found, renewals) = judged(judge, &device(kind, came, &soon));
        assert_eq!(found, [(What::Certificate, 140, why)], "{kind} {came}");
        assert_eq!(renewals, u64::from(kind != "tension"), "whoever may come is expected, {kind}");
    }
}

#[test]
fn who_did_not_renew_in_time_needs_a_person() {
    let settings = settings();
    let whole = certificate(140);
    let opens =
        crate::enrolment::renewal_opens(whole.begins, whole.ends, Some(Span::from_days(30)), &"wv-1".parse().unwrap());
    let half = UnixTime(opens.0 + (whole.ends.0 - opens.0) / 2);
    for (now, why) in [
        (opens, Why::Renews { from: opens }),
        (UnixTime(half.0 - 1), Why::Renews { from: opens }),
        (half, Why::Late { since: opens }),
        (whole.ends, Why::Late { since: opens }),
        (UnixTime(whole.ends.0 + 1), Why::Ended),
        (whole.ends.plus(TOLD_AFTER_END), Why::Ended),
    ] {
        let judge = Judge { now, until: now.plus(Span::from_days(60)), desk: Some(now), ..judge(&settings) };
        let (found, _) = judged(&judge, &device("windvane", true, &[whole]));
        assert_eq!(found, [(What::Certificate, 140, why)], "at {now}");
    }
    let later = whole.ends.plus(TOLD_AFTER_END).plus(Span::from_seconds(1));
    let judge = Judge { now: later, until: later.plus(Span::from_days(60)), ..judge(&settings) };
    assert_eq!(judged(&judge, &device("windvane", true, &[whole])), (vec![], 0), "long ago is no news");
}

#[test]
fn what_was_replaced_ends_as_it_should_and_only_the_latest_counts() {
    let settings = settings();
    let judge = judge(&settings);
    let replaced = CredentialEnd { superseded: true, ..certificate(110) };
    let pinned = CredentialEnd { origin: Origin::Pinned, ..certificate(150) };
    let foreign = CredentialEnd { origin: Origin::Foreign, ..certificate(120) };
    let told = |all: &[CredentialEnd<'_>]| judged(&judge, &device("windvane", true, all)).0;
    assert_eq!(told(&[CredentialEnd { ends: at(99), ..replaced }, certificate(190)]), [], "the next one was used");
    // What was replaced goes on until the next one is used: for as long as that may take, it comes by itself.
    let follows = |since| CredentialEnd { begins: at(since), ..certificate(190) };
    let (soon, never) = (Why::Follows { since: at(92) }, Why::NotTaken { since: at(91) });
    assert_eq!(told(&[replaced, follows(92)]), [(What::Certificate, 110, soon)]);
    assert_eq!(told(&[follows(92), replaced]), [(What::Certificate, 110, soon)]);
    assert_eq!(told(&[follows(91), replaced]), [(What::Certificate, 110, never)]);
    // What was sent is not waited for until the last day.
    let text = "[ward]\nname = \"n\"\n[kinds.windvane]\nrenews = \"errand\"\n";
    let sent = Settings::parse(&Source { name: "ward.toml".into(), text: text.into() }).unwrap();
    let judge = Judge { settings: &sent, ..judge };
    let told = |all: &[CredentialEnd<'_>]| judged(&judge, &device("windvane", true, all)).0;
    let soon = CredentialEnd { ends: at(104), ..replaced };
    let (follows, never) = (follows(97), Why::NotTaken { since: at(95) });
    assert_eq!(told(&[soon, follows]), [(What::Certificate, 104, Why::Follows { since: at(97) })]);
    let follows = CredentialEnd { begins: at(95), ..follows };
    assert_eq!(told(&[soon, follows]), [(What::Certificate, 104, never)]);
    assert_eq!(told(&[replaced]).len(), 1, "its successor was revoked, say");
    assert_eq!(told(&[pinned]), [(What::Certificate, 150, Why::Elsewhere)]);
    assert_eq!(told(&[foreign]), [], "a maker's certificate introduces a device, and is no credential of its own");
    assert_eq!(told(&[certificate(161)]), [], "behind the horizon");
    assert_eq!(told(&[certificate(160)]).len(), 1);
}

#[test]
fn keys_are_told_of_one_by_one() {
    let settings = settings();
    let judge = judge(&settings);
    let key = |origin, kid, ends| CredentialEnd { origin, kid: Some(kid), ..certificate(ends) };
    let (public, shared) = (key(Origin::Key, "a", 120), key(Origin::Shared, "b", 130));
    let told = |all: &[CredentialEnd<'_>]| judged(&judge, &device("windvane", true, all)).0;
    assert_eq!(told(&[public, shared]), [(What::PublicKey, 120, Why::Key), (What::SharedKey, 130, Why::Key)]);
    let replaced = CredentialEnd { superseded: true, ..public };
    let next = CredentialEnd { begins: at(60), ..key(Origin::Key, "c", 300) };
    let follows = Why::NotTaken { since: next.begins };
    assert_eq!(told(&[replaced, next]), [(What::PublicKey, 120, follows)], "the next one was not used");
    assert_eq!(told(&[CredentialEnd { ends: at(99), ..replaced }, next]), [], "and now it was");
    let over = key(Origin::Key, "c", 95);
    assert_eq!(told(&[over]), [(What::PublicKey, 95, Why::Ended)]);
    assert_eq!(told(&[over, key(Origin::Key, "d", 400)]), [], "another goes on");
}

#[test]
fn shared_keys_are_replaced_by_themselves_where_the_kind_says_so_and_it_can_be() {
    let text = "[ward]\nname = \"n\"\n[kinds.windvane]\nshared_keys = true\nrenew = \"30d\"\nrenews_keys = \"device\"\n\
                [kinds.tension]\nshared_keys = true\nrenew = \"30d\"\nrenews_keys = \"errand\"\n";
    let settings = Settings::parse(&Source { name: "ward.toml".into(), text: text.into() }).unwrap();
    let all = judge(&settings);
    let key = CredentialEnd { origin: Origin::Shared, kid: Some("b"), ..certificate(140) };
    let opens =
        crate::enrolment::renewal_opens(key.begins, key.ends, Some(Span::from_days(30)), &"wv-1".parse().unwrap());
    let late = Judge { now: UnixTime(opens.0 + key.ends.since(opens) / 2), ..all };
    let late = Judge { desk: Some(late.now), ..late };
    for (judge, kind, takes_sealed, why) in [
        (&all, "windvane", false, Why::Renews { from: opens }),
        (&all, "tension", true, Why::Renews { from: opens }),
        (&all, "tension", false, Why::NoPublicKey),
        (&all, "cabin", true, Why::Key),
        (&late, "windvane", false, Why::Late { since: opens }),
        (&Judge { desk: None, ..all }, "tension", true, Why::NoDesk { seen: None }),
    ] {
        let device = DeviceEnds { takes_sealed, ..device(kind, true, std::slice::from_ref(&key)) };
        assert_eq!(judged(judge, &device).0, [(What::SharedKey, 140, why)], "{kind} {takes_sealed}");
    }
    let replaced = CredentialEnd { superseded: true, ..key };
    let told = judged(&all, &device("windvane", true, std::slice::from_ref(&replaced))).0;
    assert_eq!(told, [(What::SharedKey, 140, Why::Key)], "what was made in its place was ended");
    let other = CredentialEnd { kid: Some("c"), ends: at(400), ..key };
    let told = judged(&all, &DeviceEnds { takes_sealed: true, ..device("tension", true, &[key, other]) }).0;
    assert_eq!(told, [(What::SharedKey, 140, Why::Key)], "which of two would be replaced?");
    // Sent long ago, and never used: the old one goes on, and its end is told.
    let replaced = CredentialEnd { superseded: true, ..key };
    let next = CredentialEnd { begins: at(60), ends: at(400), ..key };
    let told = judged(&all, &device("tension", true, &[replaced, next])).0;
    assert_eq!(told, [(What::SharedKey, 140, Why::NotTaken { since: at(60) })]);
    let held = DeviceEnds { held: Some(at(99)), ..device("windvane", true, std::slice::from_ref(&key)) };
    assert_eq!(judged(&all, &held).0[0], (What::SharedKey, 140, Why::Held { since: at(99) }));
}

#[test]
fn a_hold_is_to_be_looked_at_and_holds_up_what_would_renew() {
    let settings = settings();
    let judge = judge(&settings);
    let soon = [certificate(140)];
    for (since, tells) in [(40, true), (95, true), (146, true), (147, false)] {
        let held = DeviceEnds { held: Some(at(since)), ..device("windvane", true, &soon) };
        let (found, renewals) = judged(&judge, &held);
        let mut wanted = vec![(What::Certificate, 140, Why::Held { since: at(since) })];
        wanted.extend(tells.then_some((What::Hold, since + 14, Why::OnHold { since: at(since) })));
        assert_eq!((found, renewals), (wanted, 0), "since day {since}");
    }
    let bare = DeviceEnds { held: Some(at(90)), ..device("windvane", false, &[]) };
    assert_eq!(judged(&judge, &bare).0, [(What::Hold, 104, Why::OnHold { since: at(90) })]);
}

#[test]
fn short_lives_come_back_again_and_again() {
    let settings = settings();
    let judge = judge(&settings);
    let short = [CredentialEnd { begins: at(80), ..certificate(110) }];
    // Of 90 days each next one, and a window of 30: within 60 days there is one more at the most.
    let (_, renewals) = judged(&judge, &device("cabin", true, &short));
    assert_eq!(renewals, 1);
    let far = Judge { until: at(100 + 365), ..judge };
    let (_, renewals) = judged(&far, &device("cabin", true, &short));
    assert!((5..=6).contains(&renewals), "{renewals} in a year, each 60 to 75 days after the one before");
}

#[test]
fn every_word_is_its_own() {
    let words: std::collections::BTreeSet<_> = What::ALL.iter().map(|what| what.as_str()).collect();
    assert_eq!(words.len(), What::ALL.len());
}
