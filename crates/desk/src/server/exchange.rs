//! One request and its answer: what is refused before anything is looked up, how bodies are read, and whose turn it is.

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::{Duration, Instant};

use http_body_util::{BodyExt, Full, LengthLimitError, Limited};
use hyper::body::{Bytes, Incoming};
use hyper::header::{
    AUTHORIZATION, CONTENT_LENGTH, CONTENT_TYPE, COOKIE, HOST, HeaderMap, HeaderName, IF_NONE_MATCH, ORIGIN,
    TRANSFER_ENCODING,
};
use hyper::http::request::Parts;
use hyper::{Method, Request, Response, StatusCode};
use tidy_warden_core::admission::Secret;
use tidy_warden_core::est;
use tidy_warden_core::rekey::KEY_REQUEST;
use tidy_warden_serve::source::Source;
use zeroize::Zeroizing;

use super::Counter;
use super::queue::Queue;
use super::response::response;
use crate::Event;
use crate::answer::{Basic, Caller, Said, name_of};
use crate::owner::{self, Asked, OwnerRequest};
use crate::route::{Door, NoRoute, Route, route};
use crate::state::Desk;

/// How long a body may take to come.
const BODY_TIME: Duration = Duration::from_secs(10);

/// When the answer to a proof that does not hold goes out, after the request was there: whatever was looked up is done by then.
const REFUSAL_TIME: Duration = Duration::from_millis(150);

/// Within how long a network may ask as often as `requests_per_source` says.
const MINUTE: Duration = Duration::from_secs(60);

/// The type of what gateways send (RFC 8259).
const JSON: &str = "application/json";

/// The answer to one request.
pub(super) async fn respond(
    counter: &Arc<Counter>,
    door: Door,
    (peer, leaf): (SocketAddr, Option<Arc<[u8]>>),
    request: Request<Incoming>,
) -> Response<Full<Bytes>> {
    let (head, body) = request.into_parts();
    // A body that was not read is no beginning of another request.
    let has_body = head.headers.get(CONTENT_LENGTH).is_some_and(|length| length != "0");
    let route = route(door, &head.method, head.uri.path());
    let asked = route.as_ref().map_or("nothing", name_of);
    let desk = &counter.desk;
    let early = |status: StatusCode, words: &str| {
        desk.metrics.answered(asked, status.as_u16());
        Said::text(status, words)
    };
    let limits = &desk.live().settings.desk;
    let taken = match door {
        Door::Tls => desk.by_source.take(&Source::from(peer.ip()), limits.requests_per_source, MINUTE, Instant::now()),
        // What goes out there is the same for everybody and costs nothing; connections are bounded.
        Door::Plain => Ok(()),
    };
    let mut allow = None;
    let said = match (taken, route) {
        (Err(wait), _) => {
            desk.metrics.answered(asked, 429);
            let because = "its network asks too often".to_owned();
            desk.emit(Event::Refused { asked, status: 429, because, device: None, peer });
            let words = "too many requests from this network";
            Said::later(StatusCode::TOO_MANY_REQUESTS, words, wait.as_secs() + 1)
        }
        (Ok(()), Err(NoRoute::NotFound)) => early(StatusCode::NOT_FOUND, "there is nothing here"),
        (Ok(()), Err(NoRoute::NotAllowed(methods))) => {
            allow = Some(methods);
            early(StatusCode::METHOD_NOT_ALLOWED, &format!("only {methods} is answered here"))
        }
        (Ok(()), Ok(Route::Keygen(kind))) if !desk.live().offers_keys(kind.as_ref()) => {
            early(StatusCode::NOT_FOUND, "there is nothing here")
        }
        (Ok(()), Ok(Route::Window)) if desk.owners.is_none() => early(StatusCode::NOT_FOUND, "there is nothing here"),
        (Ok(()), Ok(Route::Owner(_))) if desk.owners.is_none() => early(StatusCode::NOT_FOUND, "there is nothing here"),
        (Ok(()), Ok(Route::Owner(asked))) => match sent(&asked, &head, body).await {
            Ok(body) => for_owner(counter, owner_request(asked, &head, body, peer)).await,
            Err((status, words)) => early(status, &words),
        },
        (Ok(()), Ok(Route::Key)) if !desk.live().renews_keys() => early(StatusCode::NOT_FOUND, "there is nothing here"),
        (
            Ok(()),
            Ok(
                route @ (Route::Key
                | Route::Enroll(_)
                | Route::Renew(_)
                | Route::Keygen(_)
                | Route::Window
                | Route::Children
                | Route::Child(_)),
            ),
        ) => {
            let kind = match route {
                Route::Children | Route::Window => JSON,
                Route::Key => KEY_REQUEST,
                _ => est::PKCS10,
            };
            match received(&head.headers, (kind, est::MAX_BODY), body).await {
                Ok(body) => decided(counter, route, (peer, leaf), &head.headers, body).await,
                Err((status, words)) => early(status, &words),
            }
        }
        (Ok(()), Ok(route @ Route::Connect)) => {
            decided(counter, route, (peer, leaf), &head.headers, Bytes::new()).await
        }
        (Ok(()), Ok(route)) => desk.answer(&route, &Caller { peer, leaf, basic: None }, &[]),
    };
    let is_known = said.tag.as_ref().is_some_and(|tag| {
        let wanted = head.headers.get_all(IF_NONE_MATCH).iter().filter_map(|value| value.to_str().ok());
        let matches = |one: &str| one == "*" || one.strip_prefix("W/").unwrap_or(one) == tag;
        wanted.flat_map(|value| value.split(',')).any(|one| matches(one.trim()))
    });
    let is_get = matches!(head.method, Method::GET | Method::HEAD);
    let is_chunked = head.headers.contains_key(TRANSFER_ENCODING);
    response(said, allow, is_known && is_get, (has_body, is_chunked))
}

/// The body of a request, which must be of the type `wanted`.
///
/// # Errors
/// Status and words; neither depends on anything but the request.
async fn received(
    headers: &HeaderMap,
    (wanted, most): (&str, usize),
    body: Incoming,
) -> Result<Bytes, (StatusCode, String)> {
    let kind = headers.get(CONTENT_TYPE).and_then(|value| value.to_str().ok()).unwrap_or_default();
    let kind = kind.split(';').next().unwrap_or_default().trim();
    if !kind.eq_ignore_ascii_case(wanted) {
        return Err((StatusCode::UNSUPPORTED_MEDIA_TYPE, format!("Content-Type must be {wanted}")));
    }
    let too_large = (StatusCode::PAYLOAD_TOO_LARGE, format!("at most {most} octets are read"));
    let said: Option<usize> =
        headers.get(CONTENT_LENGTH).and_then(|value| value.to_str().ok()).and_then(|text| text.parse().ok());
    if said.is_some_and(|length| length > most) {
        return Err(too_large);
    }
    match tokio::time::timeout(BODY_TIME, Limited::new(body, most).collect()).await {
        Ok(Ok(body)) => Ok(body.to_bytes()),
        Ok(Err(error)) if error.is::<LengthLimitError>() => Err(too_large),
        Ok(Err(_)) => Err((StatusCode::BAD_REQUEST, "the body was cut off".to_owned())),
        Err(_) => Err((StatusCode::REQUEST_TIMEOUT, "the body did not come in time".to_owned())),
    }
}

/// What an owner sent, if it sent anything.
async fn sent(asked: &Asked, head: &Parts, body: Incoming) -> Result<Bytes, (StatusCode, String)> {
    if head.method != Method::POST {
        return Ok(Bytes::new());
    }
    let is_empty = head.headers.get(CONTENT_LENGTH).is_none_or(|length| length == "0")
        && !head.headers.contains_key(TRANSFER_ENCODING);
    match is_empty {
        true => Ok(Bytes::new()),
        false => received(&head.headers, (asked.body().media_type(), owner::MAX_BODY), body).await,
    }
}

/// A request to the owners' page or interface.
fn owner_request(asked: Asked, head: &Parts, body: Bytes, peer: SocketAddr) -> OwnerRequest {
    let text = |name: &HeaderName| head.headers.get(name).and_then(|value| value.to_str().ok()).unwrap_or_default();
    let cookies = head.headers.get_all(COOKIE).iter().filter_map(|value| value.to_str().ok());
    // Who sent a form is told by the browser (Fetch Metadata), and by older ones with Origin (RFC 6454 section 7).
    let site = text(&HeaderName::from_static("sec-fetch-site"));
    let (origin, host) = (text(&ORIGIN), text(&HOST));
    let is_cross = match (site, origin) {
        ("", "" | "null") => false,
        ("", origin) => origin.strip_prefix("https://") != Some(host),
        (site, _) => !matches!(site, "same-origin" | "none"),
    };
    let bearer = text(&AUTHORIZATION).split_once(' ').filter(|(scheme, _)| scheme.eq_ignore_ascii_case("bearer"));
    let bearer = bearer.map(|(_, token)| token.trim().to_owned()).filter(|token| token.len() <= owner::MAX_BEARER);
    OwnerRequest {
        asked,
        is_post: head.method == Method::POST,
        is_delete: head.method == Method::DELETE,
        query: head.uri.query().unwrap_or_default().to_owned(),
        cookies: cookies.collect::<Vec<_>>().join("; "),
        bearer,
        is_cross,
        body,
        source: Source::from(peer.ip()).to_string(),
        peer,
    }
}

/// Asks for an answer to an owner.
async fn for_owner(counter: &Arc<Counter>, request: OwnerRequest) -> Said {
    answered(counter, &counter.owners, move |desk| desk.answer_owner(&request)).await
}

/// Asks for an answer that may have to wait for the store.
async fn decided(
    counter: &Arc<Counter>,
    route: Route,
    (peer, leaf): (SocketAddr, Option<Arc<[u8]>>),
    headers: &HeaderMap,
    body: Bytes,
) -> Said {
    let caller = Caller { peer, leaf, basic: basic(headers).map(Arc::new) };
    answered(counter, &counter.devices, move |desk| desk.answer(&route, &caller, &body)).await
}

/// Has something answered on a thread that may wait, when it is its turn.
async fn answered(counter: &Arc<Counter>, queue: &Queue, answer: impl FnOnce(&Desk) -> Said + Send + 'static) -> Said {
    let since = tokio::time::Instant::now();
    let Some(mut place) = queue.turn().await else {
        return Said::later(StatusCode::SERVICE_UNAVAILABLE, "there are too many requests at once", 1);
    };
    let desk = counter.desk.clone();
    let said = tokio::task::spawn_blocking(move || answer(&desk)).await;
    place.worked();
    let said = said.unwrap_or_else(|_| {
        counter.desk.trouble("a request could not be answered: a fault of this program");
        Said::text(StatusCode::INTERNAL_SERVER_ERROR, "the request could not be answered")
    });
    if said.is_slow || matches!(said.status, StatusCode::UNAUTHORIZED | StatusCode::ACCEPTED) {
        // All of them at the same time, whatever was looked up.
        tokio::time::sleep_until(since + REFUSAL_TIME).await;
    }
    said
}

/// User name and password of an Authorization field (RFC 7617); `None` if there is none of that form.
fn basic(headers: &HeaderMap) -> Option<Basic> {
    let value = headers.get(AUTHORIZATION)?.to_str().ok()?;
    let (scheme, encoded) = value.split_once(' ')?;
    if !scheme.eq_ignore_ascii_case("basic") || encoded.len() > 512 {
        return None;
    }
    let octets = Zeroizing::new(data_encoding::BASE64.decode(encoded.trim().as_bytes()).ok()?);
    let (user, password) = std::str::from_utf8(&octets).ok()?.split_once(':')?;
    Some(Basic { user: user.to_owned(), secret: Secret::parse(password) })
}

#[cfg(test)]
mod tests {
    use hyper::header::HeaderValue;

    use super::*;

    fn headers(all: &[(HeaderName, &str)]) -> HeaderMap {
        all.iter().map(|(name, value)| (name.clone(), HeaderValue::from_str(value).unwrap())).collect()
    }

    #[test]
    fn a_user_and_a_secret_are_read_or_there_is_none() {
        let secret = "aaaaaaaaaaaaaaaaaaaaaaaaaa";
        let encoded = |text: &str| data_encoding::BASE64.encode(text.as_bytes());
        let read = |value: &str| basic(&headers(&[(AUTHORIZATION, value)]));
        let good = encoded(&format!("wv-9:{secret}"));
        for scheme in ["Basic", "basic", "BASIC"] {
            let basic = read(&format!("{scheme} {good}")).unwrap();
            assert!(basic.user == "wv-9" && basic.secret.is_some());
            assert_eq!(format!("{basic:?}"), "Basic(..)", "nothing of it gets into a log");
        }
        // A colon belongs to the password (RFC 7617 section 2), and this is no secret.
        let odd = read(&format!("Basic {}", encoded("wv-9:a:b"))).unwrap();
        assert!(odd.user == "wv-9" && odd.secret.is_none());
        assert!(read(&format!("Basic {}", encoded(&format!(":{secret}")))).is_some_and(|basic| basic.user.is_empty()));
        let long = format!("Basic {}", encoded(&"a".repeat(600)));
        let bearer = format!("Bearer {good}");
        let bare = encoded("wv-9");
        let bare = format!("Basic {bare}");
        for bad in ["", "Basic", "Basic ", "Basic !!!!", "Basic d3Y", &long, &bearer, &bare, "Basic /////w=="] {
            assert!(read(bad).is_none(), "{bad:?}");
        }
        assert!(basic(&HeaderMap::new()).is_none());
    }
}
