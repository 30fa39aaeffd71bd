//! What a path below the owners' page and interface is. All that is said here depends on the request alone.

use tidy_warden_core::id::DeviceId;

/// What is asked for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Asked {
    /// `/owner/style.css`
    Style,
    /// `/owner/sign-in`: the page behind a link; a POST signs in.
    SignIn,
    /// `/owner/sign-out`
    SignOut,
    /// `/claim`: the page behind a sticker; a POST claims.
    Claim,
    /// `/owner`: the owner's devices.
    Home,
    /// `/owner/offers`: what is offered to the owner.
    Offers,
    /// `/owner/devices/ID`
    Device(DeviceId),
    /// `/owner/devices/ID/ACT`
    Act(DeviceId, Act),
    /// Below `/owner/v1`.
    Api(Api),
    /// `/openapi.json`
    OpenApi,
}

/// What an owner does with a device.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Act {
    /// It is nobody's then.
    GiveUp,
    /// It is offered to another owner; or, with DELETE, to nobody any more.
    HandOver,
    /// It takes one that is offered to it.
    Take,
    /// It turns an offer down, or takes its own back.
    DropOffer,
}

/// What a program asks for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Api {
    /// `/owner/v1/devices`
    Devices,
    /// `/owner/v1/devices/ID`
    Device(DeviceId),
    /// `/owner/v1/devices/ID/ACT`
    Act(DeviceId, Act),
    /// `/owner/v1/claims`
    Claims,
    /// `/owner/v1/offers`
    Offers,
    /// `/owner/v1/places`
    Places,
}

/// The form of a body.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Body {
    /// `application/x-www-form-urlencoded`, as a browser sends it.
    Form,
    /// `application/json`
    Json,
}

impl Body {
    pub(crate) fn media_type(self) -> &'static str {
        match self {
            Self::Form => "application/x-www-form-urlencoded",
            Self::Json => "application/json",
        }
    }
}

impl Asked {
    /// The methods with which it can be asked for.
    pub(crate) fn methods(&self) -> &'static str {
        match self {
            Self::Style | Self::Home | Self::Offers | Self::Device(_) | Self::OpenApi => "GET, HEAD",
            Self::SignIn | Self::Claim => "GET, HEAD, POST",
            Self::SignOut | Self::Act(..) => "POST",
            Self::Api(Api::Devices | Api::Device(_) | Api::Offers | Api::Places) => "GET, HEAD",
            Self::Api(Api::Act(_, Act::HandOver)) => "POST, DELETE",
            Self::Api(Api::Claims | Api::Act(..)) => "POST",
        }
    }

    /// The form of what is sent with a POST.
    pub(crate) fn body(&self) -> Body {
        if matches!(self, Self::Api(_)) { Body::Json } else { Body::Form }
    }
}

fn act(word: &str) -> Option<Act> {
    Some(match word {
        "give-up" => Act::GiveUp,
        "hand-over" => Act::HandOver,
        "take" => Act::Take,
        _ => return None,
    })
}

/// What a path is, if it is one of these.
pub(crate) fn found(path: &str) -> Option<Asked> {
    match path {
        "/claim" => return Some(Asked::Claim),
        "/owner" => return Some(Asked::Home),
        "/openapi.json" => return Some(Asked::OpenApi),
        _ => {}
    }
    let rest = path.strip_prefix("/owner/")?;
    match rest {
        "style.css" => return Some(Asked::Style),
        "offers" => return Some(Asked::Offers),
        "sign-in" => return Some(Asked::SignIn),
        "sign-out" => return Some(Asked::SignOut),
        _ => {}
    }
    if let Some(rest) = rest.strip_prefix("v1/") {
        let api = match rest {
            "devices" => Api::Devices,
            "claims" => Api::Claims,
            "offers" => Api::Offers,
            "places" => Api::Places,
            other => match other.strip_prefix("devices/")?.split_once('/') {
                None => Api::Device(other.strip_prefix("devices/")?.parse().ok()?),
                Some((id, word)) => Api::Act(id.parse().ok()?, act(word)?),
            },
        };
        return Some(Asked::Api(api));
    }
    let rest = rest.strip_prefix("devices/")?;
    match rest.split_once('/') {
        None => rest.parse().ok().map(Asked::Device),
        Some((id, "drop-offer")) => id.parse().ok().map(|id| Asked::Act(id, Act::DropOffer)),
        Some((id, word)) => Some(Asked::Act(id.parse().ok()?, act(word)?)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_path_is_one_thing_or_nothing() {
        let id = |text: &str| text.parse::<DeviceId>().unwrap();
        for (path, want) in [
            ("/owner", Some(Asked::Home)),
            ("/owner/offers", Some(Asked::Offers)),
            ("/owner/offers/", None),
            ("/claim", Some(Asked::Claim)),
            ("/owner/sign-in", Some(Asked::SignIn)),
            ("/owner/devices/gg-1", Some(Asked::Device(id("gg-1")))),
            ("/owner/devices/gg-1/give-up", Some(Asked::Act(id("gg-1"), Act::GiveUp))),
            ("/owner/devices/gg-1/drop-offer", Some(Asked::Act(id("gg-1"), Act::DropOffer))),
            ("/owner/v1/devices", Some(Asked::Api(Api::Devices))),
            ("/owner/v1/devices/gg-1", Some(Asked::Api(Api::Device(id("gg-1"))))),
            ("/owner/v1/devices/gg-1/take", Some(Asked::Api(Api::Act(id("gg-1"), Act::Take)))),
            ("/openapi.json", Some(Asked::OpenApi)),
            ("/owner/", None),
            ("/owner/devices/", None),
            ("/owner/devices/..", None),
            ("/owner/devices/../../x", None),
            ("/owner/devices/GG-1", None),
            ("/owner/devices/gg-1/", None),
            ("/owner/devices/gg-1/give-up/x", None),
            ("/owner/devices/%2e%2e", None),
            ("/owner/v1/devices/gg-1/drop-offer", None),
            ("/owner/v1/", None),
            ("/owner/v2/devices", None),
            ("/claim/", None),
            ("/Owner", None),
        ] {
            assert_eq!(found(path), want, "{path}");
        }
    }
}
