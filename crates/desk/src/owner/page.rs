//! The page for people: HTML from the server, which works without scripts.

use std::collections::BTreeMap;
use std::sync::PoisonError;

use askama::Template;
use data_encoding::BASE64URL_NOPAD;
use hyper::StatusCode;
use tidy_warden_core::key::sha256;
use tidy_warden_core::owner::{OwnerRecord, Place};
use tidy_warden_core::random;
use tidy_warden_core::time::{Span, UnixTime};
use tidy_warden_store::PassKind;
use tidy_warden_store::acts::owner;
use tidy_warden_ward::clock::SystemRandom;
use zeroize::Zeroizing;

use super::acts::{NotDone, Offered, Owned};
use super::cookie::{self, Sealed};
use super::route::{Act, Asked};
use super::{OwnerRequest, after, is_locked, value};
use crate::answer::{STORE_WAIT, Said};
use crate::state::{Desk, Live};

/// How long a session lasts, and nothing makes it longer.
const SESSION: Span = Span::from_seconds(3_600);

/// How many offers stand above an owner's devices; all of them have a page of their own.
const OFFERS_AT_HOME: usize = 5;

/// What stands around every page.
struct Frame {
    ward: String,
    owner: Option<String>,
    /// What its forms carry.
    form: String,
    said: Option<String>,
    wrong: Option<String>,
}

/// A label of places among whose values the owner has to choose.
struct Choice {
    name: String,
    values: Vec<String>,
}

struct Shown {
    id: String,
    kind: String,
    state: &'static str,
    place: String,
    seen: String,
    since: String,
    offered: Option<ShownOffer>,
}

struct ShownOffer {
    to: String,
    ends: String,
}

/// What is offered to whoever looks.
struct Incoming {
    id: String,
    kind: String,
    from: String,
    ends: String,
}

impl Incoming {
    fn of(Offered { id, kind, from, ends }: Offered) -> Self {
        Self { id: id.to_string(), kind, from: from.to_string(), ends: time(Some(ends), "") }
    }
}

/// A state in words for whoever owns the device.
fn state(word: &str) -> &'static str {
    match word {
        "listed" => "not set up yet",
        "issued" | "equipped" => "set up, has not connected yet",
        "live" => "in use",
        "ended" => "has to be set up again",
        "held" => "on hold",
        _ => "out of service",
    }
}

#[derive(Template)]
#[template(path = "sign-in.html")]
struct SignInPage {
    frame: Frame,
    has_link: bool,
}

#[derive(Template)]
#[template(path = "claim.html")]
struct ClaimPage {
    frame: Frame,
    device: String,
    code: String,
    choices: Vec<Choice>,
}

#[derive(Template)]
#[template(path = "home.html")]
struct HomePage {
    frame: Frame,
    devices: Vec<Shown>,
    offers: Vec<Incoming>,
    has_more_offers: bool,
    choices: Vec<Choice>,
    more: Option<String>,
    /// Whether these are the first of the devices.
    is_first: bool,
}

#[derive(Template)]
#[template(path = "offers.html")]
struct OffersPage {
    frame: Frame,
    offers: Vec<Incoming>,
    choices: Vec<Choice>,
    more: Option<String>,
    /// Whether these are the first of them.
    is_first: bool,
}

#[derive(Template)]
#[template(path = "device.html")]
struct DevicePage {
    frame: Frame,
    device: Shown,
}

#[derive(Template)]
#[template(path = "words.html")]
struct WordsPage {
    frame: Frame,
    title: &'static str,
    words: String,
}

/// Who has signed in.
struct SignedIn {
    owner: OwnerRecord,
    secret: Zeroizing<[u8; 32]>,
}

fn time(at: Option<UnixTime>, never: &str) -> String {
    at.map_or_else(|| never.to_owned(), |at| at.to_string().replace('T', " ").replace('Z', " UTC"))
}

impl Shown {
    fn of(device: Owned) -> Self {
        let place: Vec<String> = device.place.iter().map(|(name, value)| format!("{name} {value}")).collect();
        Self {
            id: device.id.to_string(),
            kind: device.kind,
            state: state(device.state),
            place: if place.is_empty() { "none".to_owned() } else { place.join(", ") },
            seen: time(device.seen, "never"),
            since: time(device.since, "not recorded"),
            offered: device.offered.map(|(to, ends)| ShownOffer { to: to.to_string(), ends: time(Some(ends), "") }),
        }
    }
}

/// The labels among whose values an owner has to choose: those that have several.
fn choices(owner: &OwnerRecord) -> Vec<Choice> {
    let mut all: BTreeMap<String, Vec<String>> = BTreeMap::new();
    for (name, value) in &owner.places {
        all.entry(name.to_string()).or_default().push(value.to_string());
    }
    all.into_iter().filter(|(_, values)| values.len() > 1).map(|(name, values)| Choice { name, values }).collect()
}

/// The places that a form names; `None` if one is no label with a value.
fn wanted(form: &[u8]) -> Option<Vec<Place>> {
    let named = form_urlencoded::parse(form).filter_map(|(name, value)| {
        name.strip_prefix("place.").map(|name| Some((name.parse().ok()?, value.parse().ok()?)))
    });
    named.take(super::MOST_CHOICES + 1).collect()
}

fn rendered(status: StatusCode, page: &impl Template) -> Said {
    match page.render() {
        Ok(text) => Said::page(status, text),
        Err(_) => Said::text(StatusCode::INTERNAL_SERVER_ERROR, "the page could not be made"),
    }
}

impl Desk {
    /// Answers for a page.
    pub(super) fn page(&self, live: &Live, request: &OwnerRequest, asked: &Asked) -> Said {
        if let Asked::Style = asked {
            return Said::style(include_str!("../../templates/style.css"));
        }
        if request.is_post && request.is_cross {
            self.owner_refused(request, StatusCode::FORBIDDEN, "another site sent the form", None);
            return self.words(live, StatusCode::FORBIDDEN, "Not done", "This form was sent from another site.");
        }
        match asked {
            Asked::SignIn if request.is_post => self.sign_in(live, request),
            Asked::SignIn => self.sign_in_page(live, request),
            Asked::Claim if !request.is_post && !request.query.is_empty() => self.remember_claim(request),
            _ => match self.who(request) {
                Err(error) => self.doubt(live, request, &error),
                Ok(None) if *asked == Asked::Claim && !request.is_post => self.claim_page(live, request, None, None),
                Ok(None) => Said::redirect("/owner/sign-in"),
                Ok(Some(who)) if request.is_post => self.posted(live, request, asked, &who),
                Ok(Some(who)) => self.shown(live, request, asked, &who),
            },
        }
    }

    /// Who sent a request, by its session.
    fn who(&self, request: &OwnerRequest) -> Result<Option<SignedIn>, String> {
        let Some(secret) = cookie::secret(&request.cookies).map(Zeroizing::new) else { return Ok(None) };
        let (digest, now) = (sha256(&*secret), self.now());
        let found = self.ask(|reader| {
            reader.view(|view| Ok((owner::signed_in(view, &digest, PassKind::Session, now)?, view.head()?.doubt)))
        });
        let (found, doubt) = found.map_err(|error| error.to_string())?;
        if doubt.is_some() || self.is_in_doubt() {
            return Err("the store is in doubt".to_owned());
        }
        Ok(found.map(|(owner, _)| SignedIn { owner, secret }))
    }

    fn frame(&self, live: &Live, request: &OwnerRequest, who: Option<&SignedIn>, wrong: Option<String>) -> Frame {
        let said = self.sealer.open(Sealed::Note, &request.cookies).map(|said| said.to_string());
        Frame {
            ward: live.settings.name.clone(),
            owner: who.map(|who| who.owner.id.to_string()),
            form: who.map(|who| cookie::form_token(&*who.secret)).unwrap_or_default(),
            said: said.filter(|_| wrong.is_none()),
            wrong,
        }
    }

    fn words(&self, live: &Live, status: StatusCode, title: &'static str, words: &str) -> Said {
        let ward = live.settings.name.clone();
        let frame = Frame { ward, owner: None, form: String::new(), said: None, wrong: None };
        rendered(status, &WordsPage { frame, title, words: words.to_owned() })
    }

    fn doubt(&self, live: &Live, request: &OwnerRequest, because: &str) -> Said {
        self.owner_refused(request, StatusCode::SERVICE_UNAVAILABLE, because, None);
        let words = "The ward does not answer. Come again later.";
        self.words(live, StatusCode::SERVICE_UNAVAILABLE, "Not now", words).again_in(Some(STORE_WAIT))
    }

    /// A redirect to a page that says something.
    fn told(&self, place: &str, words: &str) -> Said {
        let said = Said::redirect(place);
        match self.sealer.seal(Sealed::Note, words) {
            Some(note) => said.with("set-cookie", note),
            None => said,
        }
    }

    /// A link was opened: it goes into a cookie for a moment, and out of the address. Nothing is changed by that.
    fn sign_in_page(&self, live: &Live, request: &OwnerRequest) -> Said {
        if !request.query.is_empty() {
            let said = Said::redirect("/owner/sign-in");
            let link = value(request.query.as_bytes(), "link").filter(|link| link.len() == 43);
            return match link.and_then(|link| self.sealer.seal(Sealed::Link, &link)) {
                Some(link) => said.with("set-cookie", link),
                None => said.with("set-cookie", cookie::forget(Sealed::Link)),
            };
        }
        let link = self.sealer.open(Sealed::Link, &request.cookies);
        let mut frame = self.frame(live, request, None, None);
        frame.form = link.as_ref().map(|link| cookie::form_token(link.as_bytes())).unwrap_or_default();
        rendered(StatusCode::OK, &SignInPage { frame, has_link: link.is_some() })
    }

    fn sign_in(&self, live: &Live, request: &OwnerRequest) -> Said {
        let failed = |why: &str| {
            self.owner_refused(request, StatusCode::FORBIDDEN, why, None);
            let words = "This link was used, or it has ended. Ask for another.".to_owned();
            let frame = self.frame(live, request, None, Some(words));
            rendered(StatusCode::FORBIDDEN, &SignInPage { frame, has_link: false })
                .with("set-cookie", cookie::forget(Sealed::Link))
                .slow()
        };
        let Some(link) = self.sealer.open(Sealed::Link, &request.cookies) else { return failed("it has no link") };
        let form = value(&request.body, "form").unwrap_or_default();
        if !cookie::is_same(&form, &cookie::form_token(link.as_bytes())) {
            return failed("its form is not one of this page");
        }
        let octets: Option<[u8; 32]> =
            BASE64URL_NOPAD.decode(link.as_bytes()).ok().and_then(|octets| octets.try_into().ok());
        let Some(octets) = octets.map(Zeroizing::new) else { return failed("its link is none") };
        let Some(store) = &self.owners else { return self.doubt(live, request, "this desk is at a post") };
        if self.is_in_doubt() {
            return self.doubt(live, request, "the store is in doubt");
        }
        let secret = Zeroizing::new(random::bytes::<32>(&mut SystemRandom));
        let (link, session) = (sha256(&*octets), sha256(&*secret));
        // Whoever has no link makes no change: nothing waits for it.
        match self.ask(|reader| reader.view(|view| owner::signed_in(view, &link, PassKind::Link, self.now()))) {
            Err(error) => return self.doubt(live, request, &error.to_string()),
            Ok(None) => return failed("its link is not good"),
            Ok(Some(_)) => {}
        }
        let cause = self.cause("signed in by a link".to_owned());
        let opened = store
            .lock()
            .unwrap_or_else(PoisonError::into_inner)
            .make(|tx| owner::sign_in(tx, &link, &session, SESSION, &cause));
        match opened {
            Err(error) => self.doubt(live, request, &error.to_string()),
            Ok(None) => failed("its link is not good"),
            Ok(Some(_)) => {
                // What a sticker said before somebody had to sign in is where they wanted to go.
                let next =
                    if self.sealer.open(Sealed::Claim, &request.cookies).is_some() { "/claim" } else { "/owner" };
                Said::redirect(next)
                    .with("set-cookie", cookie::session(&secret, SESSION.seconds()))
                    .with("set-cookie", cookie::forget(Sealed::Link))
            }
        }
    }

    /// A sticker was scanned: what it says goes into a cookie for a moment, and out of the address. Nothing is changed by that.
    fn remember_claim(&self, request: &OwnerRequest) -> Said {
        let read = |name| value(request.query.as_bytes(), name).filter(|value: &String| value.len() <= 64);
        let said = Said::redirect("/claim");
        let (device, code) = (read("device").unwrap_or_default(), read("code").unwrap_or_default());
        match self.sealer.seal(Sealed::Claim, &format!("{device}\n{code}")) {
            Some(claim) => said.with("set-cookie", claim),
            None => said,
        }
    }

    fn claim_page(
        &self,
        live: &Live,
        request: &OwnerRequest,
        who: Option<&SignedIn>,
        wrong: Option<(StatusCode, String, String)>,
    ) -> Said {
        let remembered = self.sealer.open(Sealed::Claim, &request.cookies);
        let (device, code) = remembered.as_deref().and_then(|text| text.split_once('\n')).unwrap_or_default();
        let (status, device, code, wrong) = match wrong {
            // A code is typed again; what stood on the label does not come back by itself.
            Some((status, words, device)) => (status, device, String::new(), Some(words)),
            None => (StatusCode::OK, device.to_owned(), code.to_owned(), None),
        };
        let choices = who.map(|who| choices(&who.owner)).unwrap_or_default();
        let is_slow = status == StatusCode::FORBIDDEN;
        let page = ClaimPage { frame: self.frame(live, request, who, wrong), device, code, choices };
        let said = rendered(status, &page);
        if is_slow { said.slow() } else { said }
    }

    /// A page that shows something.
    fn shown(&self, live: &Live, request: &OwnerRequest, asked: &Asked, who: &SignedIn) -> Said {
        match asked {
            Asked::Claim => self.claim_page(live, request, Some(who), None),
            Asked::Device(id) => match self.device_of(&who.owner, id) {
                Ok(device) => {
                    let frame = self.frame(live, request, Some(who), None);
                    rendered(StatusCode::OK, &DevicePage { frame, device: Shown::of(device) })
                        .with("set-cookie", cookie::forget(Sealed::Note))
                }
                Err(why) => self.not_done(live, request, who, &why),
            },
            Asked::Offers => self.offers(live, request, who, &after(request)),
            _ => self.home(live, request, who, &after(request), None),
        }
    }

    fn home(
        &self,
        live: &Live,
        request: &OwnerRequest,
        who: &SignedIn,
        after: &str,
        wrong: Option<(StatusCode, String)>,
    ) -> Said {
        let found = self.devices_of(&who.owner, after).and_then(|found| Ok((found, self.offers_to(&who.owner, "")?)));
        let ((devices, has_more), (mut offers, more_offers)) = match found {
            Ok(found) => found,
            Err(error) => return self.doubt(live, request, &error.to_string()),
        };
        let more = devices.last().map(|last| last.id.to_string()).filter(|_| has_more);
        let devices = devices.into_iter().map(Shown::of).collect();
        let has_more_offers = more_offers.is_some() || offers.len() > OFFERS_AT_HOME;
        offers.truncate(OFFERS_AT_HOME);
        let offers = offers.into_iter().map(Incoming::of).collect();
        let (status, wrong) = wrong.map_or((StatusCode::OK, None), |(status, wrong)| (status, Some(wrong)));
        let frame = self.frame(live, request, Some(who), wrong);
        let (choices, is_first) = (choices(&who.owner), after.is_empty());
        rendered(status, &HomePage { frame, devices, offers, has_more_offers, choices, more, is_first })
            .with("set-cookie", cookie::forget(Sealed::Note))
    }

    /// All that is offered to the owner, some at a time.
    fn offers(&self, live: &Live, request: &OwnerRequest, who: &SignedIn, after: &str) -> Said {
        let (offers, next) = match self.offers_to(&who.owner, after) {
            Ok(found) => found,
            Err(error) => return self.doubt(live, request, &error.to_string()),
        };
        let offers = offers.into_iter().map(Incoming::of).collect();
        let (frame, choices) = (self.frame(live, request, Some(who), None), choices(&who.owner));
        let (more, is_first) = (next.map(|next| next.to_string()), after.is_empty());
        rendered(StatusCode::OK, &OffersPage { frame, offers, choices, more, is_first })
    }

    /// What is told of something that was not done.
    fn not_done(&self, live: &Live, request: &OwnerRequest, who: &SignedIn, why: &NotDone) -> Said {
        if let NotDone::Doubt(because) = why {
            return self.doubt(live, request, because);
        }
        let status = why.status();
        self.owner_refused(request, status, &format!("owner {}: {why}", who.owner.id), None);
        self.home(live, request, who, "", Some((status, sentence(&why.to_string())))).again_in(why.retry_after())
    }

    /// Does what a form wants.
    fn posted(&self, live: &Live, request: &OwnerRequest, asked: &Asked, who: &SignedIn) -> Said {
        let form = value(&request.body, "form").unwrap_or_default();
        if !cookie::is_same(&form, &cookie::form_token(&*who.secret)) {
            self.owner_refused(request, StatusCode::FORBIDDEN, "its form is not one of this page", None);
            let words = "This form is not of your session. Load the page again.";
            return self.words(live, StatusCode::FORBIDDEN, "Not done", words);
        }
        let Some(wanted) = wanted(&request.body) else {
            return self.words(live, StatusCode::BAD_REQUEST, "Not done", "A place in this form is none.");
        };
        match asked {
            Asked::SignOut => self.sign_out(live, request, who),
            Asked::Claim => self.claimed(live, request, who, &wanted),
            Asked::Act(id, act) => {
                if *act == Act::GiveUp && value(&request.body, "sure").as_deref() != Some("yes") {
                    let why = NotDone::Refused("it was not given up: you did not say that you are sure".to_owned());
                    return self.not_done(live, request, who, &why);
                }
                let to = value(&request.body, "to");
                match self.act_for(live, &who.owner, (id, *act), (to.as_deref(), &wanted)) {
                    Ok(()) => match act {
                        Act::GiveUp => self.told("/owner", &format!("You gave {id} up.")),
                        Act::HandOver => self.told(&format!("/owner/devices/{id}"), "It is offered."),
                        Act::Take => self.told("/owner", &format!("{id} is yours now.")),
                        Act::DropOffer => self.told("/owner", &format!("{id} is not offered any more.")),
                    },
                    Err(why) => self.not_done(live, request, who, &why),
                }
            }
            _ => self.words(live, StatusCode::NOT_FOUND, "Nothing here", "There is nothing here."),
        }
    }

    fn claimed(&self, live: &Live, request: &OwnerRequest, who: &SignedIn, wanted: &[Place]) -> Said {
        let device = value(&request.body, "device").unwrap_or_default();
        let code = Zeroizing::new(value(&request.body, "code").unwrap_or_default());
        match self.claim_for(live, request, &who.owner, (&device, Some(&code), wanted)) {
            Ok(id) => self
                .told(&format!("/owner/devices/{id}"), &format!("{id} is yours now."))
                .with("set-cookie", cookie::forget(Sealed::Claim)),
            Err(NotDone::Doubt(because)) => self.doubt(live, request, &because),
            Err(why) => {
                let status = why.status();
                let locked = if is_locked(self, live, &who.owner) { ", who is not heard any more" } else { "" };
                self.owner_refused(request, status, &format!("owner {}{locked}: {why}", who.owner.id), None);
                let short = device.chars().take(64).collect();
                self.claim_page(live, request, Some(who), Some((status, sentence(&why.to_string()), short)))
                    .again_in(why.retry_after())
            }
        }
    }

    fn sign_out(&self, live: &Live, request: &OwnerRequest, who: &SignedIn) -> Said {
        let Some(store) = &self.owners else { return self.doubt(live, request, "this desk is at a post") };
        let digest = sha256(&*who.secret);
        let mut store = store.lock().unwrap_or_else(PoisonError::into_inner);
        match store.make(|tx| tx.drop_owner_pass(&digest)) {
            Ok(()) => self.told("/owner/sign-in", "You are signed out.").with("set-cookie", cookie::no_session()),
            Err(error) => self.doubt(live, request, &error.to_string()),
        }
    }
}

/// A message with a capital letter and a full stop.
fn sentence(words: &str) -> String {
    let mut chars = words.chars();
    let first = chars.next().map(|first| first.to_uppercase().to_string()).unwrap_or_default();
    let stop = if words.ends_with(['.', '!', '?']) { "" } else { "." };
    format!("{first}{}{stop}", chars.as_str())
}
