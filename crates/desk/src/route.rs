//! What a path is. All that is said here depends on the request alone, never on which devices there are.

use hyper::Method;
use tidy_warden_core::id::{DeviceId, KindName};

use crate::owner::Asked;

/// What is asked for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Route {
    /// `/cacerts` (RFC 7030 section 4.1).
    CaCerts,
    /// `/csrattrs` (section 4.5), of a kind if the path names one.
    CsrAttrs(Option<KindName>),
    /// `/simpleenroll` (section 4.2.1).
    Enroll(Option<KindName>),
    /// `/simplereenroll` (section 4.2.2).
    Renew(Option<KindName>),
    /// `/serverkeygen` (section 4.4).
    Keygen(Option<KindName>),
    /// How the device whose certificate was shown connects.
    Connect,
    /// The next key that a device shares with the ward.
    Key,
    /// Children that a gateway brings in.
    Children,
    /// A certificate for a child, for which its gateway asks.
    Child(DeviceId),
    /// The keys that tokens of the ward are signed with (RFC 7517).
    Keys,
    /// The roots.
    Roots,
    /// An authority's revocation list.
    Crl(String),
    /// An issuing authority's certificate.
    Authority(String),
    /// A device opens itself to be claimed.
    Window,
    /// Something of owners.
    Owner(Asked),
}

/// Whether a request came over TLS.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Door {
    /// Over TLS.
    Tls,
    /// Over plain HTTP, where only what is signed in itself goes out.
    Plain,
}

/// Why a request is answered without a look at who sent it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum NoRoute {
    /// There is nothing.
    NotFound,
    /// There is something, for other methods.
    NotAllowed(&'static str),
}

/// The longest path that is looked at, in octets.
const LONGEST: usize = 256;

/// What a method and a path ask for.
pub(crate) fn route(door: Door, method: &Method, path: &str) -> Result<Route, NoRoute> {
    let route = found(path).filter(|route| door == Door::Tls || is_signed_in_itself(route)).ok_or(NoRoute::NotFound)?;
    let is_post = matches!(
        route,
        Route::Enroll(_)
            | Route::Renew(_)
            | Route::Keygen(_)
            | Route::Key
            | Route::Window
            | Route::Children
            | Route::Child(_)
    );
    if let Route::Owner(asked) = &route {
        let methods = asked.methods();
        return match methods.split(", ").any(|known| known == method.as_str()) {
            true => Ok(route),
            false => Err(NoRoute::NotAllowed(methods)),
        };
    }
    match *method {
        Method::POST if is_post => Ok(route),
        Method::GET | Method::HEAD if !is_post => Ok(route),
        _ => Err(NoRoute::NotAllowed(if is_post { "POST" } else { "GET, HEAD" })),
    }
}

fn is_signed_in_itself(route: &Route) -> bool {
    matches!(route, Route::Crl(_) | Route::Authority(_))
}

fn found(path: &str) -> Option<Route> {
    if path.len() > LONGEST {
        return None;
    }
    match path {
        "/jwks.json" => return Some(Route::Keys),
        "/roots.pem" => return Some(Route::Roots),
        "/connect.json" => return Some(Route::Connect),
        "/key" => return Some(Route::Key),
        "/claim-window" => return Some(Route::Window),
        "/children" => return Some(Route::Children),
        _ => {}
    }
    if let Some(asked) = crate::owner::found(path) {
        return Some(Route::Owner(asked));
    }
    if let Some(name) = path.strip_prefix("/crl/").and_then(|rest| rest.strip_suffix(".crl")) {
        return Some(Route::Crl(name.to_owned()));
    }
    if let Some(name) = path.strip_prefix("/ca/").and_then(|rest| rest.strip_suffix(".cer")) {
        return Some(Route::Authority(name.to_owned()));
    }
    if let Some(name) = path.strip_prefix("/children/").and_then(|rest| rest.strip_suffix("/simpleenroll")) {
        return name.parse().ok().map(Route::Child);
    }
    let rest = path.strip_prefix("/.well-known/est/")?;
    // A label stands before the operation (RFC 7030 section 3.2.2): the kind.
    let (label, operation) = match rest.split_once('/') {
        Some((label, operation)) => (Some(label.parse::<KindName>().ok()?), operation),
        None => (None, rest),
    };
    Some(match operation {
        "cacerts" => Route::CaCerts,
        "csrattrs" => Route::CsrAttrs(label),
        "simpleenroll" => Route::Enroll(label),
        "simplereenroll" => Route::Renew(label),
        "serverkeygen" => Route::Keygen(label),
        _ => return None,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_path_is_one_thing_or_nothing() {
        let get = |path: &str| route(Door::Tls, &Method::GET, path);
        let post = |path: &str| route(Door::Tls, &Method::POST, path);
        let kind = |text: &str| Some(text.parse().unwrap());
        assert_eq!(get("/.well-known/est/cacerts"), Ok(Route::CaCerts));
        assert_eq!(get("/.well-known/est/gauge/cacerts"), Ok(Route::CaCerts));
        assert_eq!(get("/.well-known/est/gauge/csrattrs"), Ok(Route::CsrAttrs(kind("gauge"))));
        assert_eq!(post("/.well-known/est/simpleenroll"), Ok(Route::Enroll(None)));
        assert_eq!(post("/.well-known/est/gauge/simplereenroll"), Ok(Route::Renew(kind("gauge"))));
        assert_eq!(post("/.well-known/est/gauge/serverkeygen"), Ok(Route::Keygen(kind("gauge"))));
        assert_eq!(
            (post("/claim-window"), get("/claim-window")),
            (Ok(Route::Window), Err(NoRoute::NotAllowed("POST")))
        );
        assert_eq!((post("/key"), get("/key")), (Ok(Route::Key), Err(NoRoute::NotAllowed("POST"))));
        assert_eq!((post("/children"), get("/children")), (Ok(Route::Children), Err(NoRoute::NotAllowed("POST"))));
        assert_eq!(post("/children/cb-9/simpleenroll"), Ok(Route::Child("cb-9".parse().unwrap())));
        assert_eq!(get("/children/cb-9/simpleenroll"), Err(NoRoute::NotAllowed("POST")));
        assert_eq!(get("/crl/devices.crl"), Ok(Route::Crl("devices".into())));
        assert_eq!(get("/.well-known/est/simpleenroll"), Err(NoRoute::NotAllowed("POST")));
        assert_eq!(post("/.well-known/est/cacerts"), Err(NoRoute::NotAllowed("GET, HEAD")));
        assert_eq!(route(Door::Tls, &Method::DELETE, "/crl/devices.crl"), Err(NoRoute::NotAllowed("GET, HEAD")));
        let long = format!("/crl/{}.crl", "a".repeat(LONGEST));
        for path in [
            "",
            "/",
            "/.well-known/est",
            "/.well-known/est/",
            "/.well-known/est/A/cacerts",
            "/.well-known/est/a/b/cacerts",
            "/.well-known/est//cacerts",
            "/.well-known/est/cacerts/",
            "//jwks.json",
            "/crl/devices.crl/",
            "/crl/devices",
            "/key/",
            "/key/ts-1",
            "/CRL/devices.crl",
            "/children/",
            "/children/cb-9",
            "/children//simpleenroll",
            "/children/CB/simpleenroll",
            "/children/a/b/simpleenroll",
            &long,
        ] {
            assert_eq!(get(path), Err(NoRoute::NotFound), "{path}");
        }
    }

    #[test]
    fn over_plain_http_only_what_is_signed_in_itself_goes_out() {
        let get = |path: &str| route(Door::Plain, &Method::GET, path);
        assert!(get("/crl/devices.crl").is_ok() && get("/ca/devices.cer").is_ok());
        for path in [
            "/jwks.json",
            "/roots.pem",
            "/connect.json",
            "/key",
            "/children",
            "/children/cb-9/simpleenroll",
            "/.well-known/est/cacerts",
            "/.well-known/est/simpleenroll",
        ] {
            assert_eq!(get(path), Err(NoRoute::NotFound), "{path}");
        }
    }
}
