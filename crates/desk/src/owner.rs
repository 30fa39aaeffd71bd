//! Owners at the desk: a page for people, and the same acts for programs.
//!
//! - `route` says what a path is, by the request alone;
//! - `cookie` seals what goes to a browser and comes back;
//! - `acts` does what an owner wants, whoever asks for it;
//! - `page` says it in HTML, `api` in JSON as `openapi.json` has it.
//!
//! An owner sees its own devices and what is offered to it, and nothing else: what is another's, and what there is not, gives one answer. No
//! code, link or token is in a log or in an address for longer than the one request that brings it.

mod acts;
mod api;
mod cookie;
mod page;
mod route;

use std::net::SocketAddr;

use hyper::StatusCode;
use hyper::body::Bytes;
use tidy_warden_core::claim::Scope;
use tidy_warden_core::owner::{MAX_TOKEN, OwnerRecord};

pub(crate) use cookie::Sealer;
pub(crate) use route::{Asked, found};

use crate::Event;
use crate::answer::Said;
use crate::state::{Desk, Live};

/// The largest body that is read, in octets.
pub(crate) const MAX_BODY: usize = 8 * 1024;

/// The most places that one request names.
const MOST_CHOICES: usize = 32;

/// A request of an owner, or of somebody who is none.
pub(crate) struct OwnerRequest {
    pub(crate) asked: Asked,
    pub(crate) is_post: bool,
    pub(crate) is_delete: bool,
    /// What stands behind the `?`.
    pub(crate) query: String,
    /// The Cookie fields.
    pub(crate) cookies: String,
    /// The bearer token of the Authorization field (RFC 6750 section 2.1).
    pub(crate) bearer: Option<String>,
    /// Whether a page of somebody else's sent it (Sec-Fetch-Site, or Origin where that is not known).
    pub(crate) is_cross: bool,
    pub(crate) body: Bytes,
    pub(crate) peer: SocketAddr,
    /// The network that it comes from.
    pub(crate) source: String,
}

/// A value of a form or a query, by its name; `None` if it is not there, or there twice.
fn value(text: &[u8], name: &str) -> Option<String> {
    let mut found =
        form_urlencoded::parse(text).filter(|(known, _)| known == name).map(|(_, value)| value.into_owned());
    found.next().filter(|_| found.next().is_none())
}

/// Behind which id a list goes on.
fn after(request: &OwnerRequest) -> String {
    value(request.query.as_bytes(), "after").filter(|after| after.len() <= 64).unwrap_or_default()
}

impl Desk {
    /// Answers a request to an owner's page or interface.
    pub(crate) fn answer_owner(&self, request: &OwnerRequest) -> Said {
        let live = self.live();
        let (asked, said) = match &request.asked {
            Asked::OpenApi => ("openapi", api::document()),
            Asked::Api(path) => ("owner-api", self.api(&live, request, path)),
            page => ("owner-page", self.page(&live, request, page)),
        };
        self.metrics.answered(asked, said.status.as_u16());
        said
    }

    /// Tells why an owner was refused; neither codes nor links are among what is told.
    fn owner_refused(&self, request: &OwnerRequest, status: StatusCode, because: &str, device: Option<String>) {
        let asked = if matches!(request.asked, Asked::Api(_)) { "owner-api" } else { "owner-page" };
        let because = because.to_owned();
        self.emit(Event::Refused { asked, status: status.as_u16(), because, device, peer: request.peer });
    }
}

/// The address of the interface for programs, which is whom their tokens are for.
pub(crate) fn audience(live: &Live) -> String {
    tidy_warden_ward::claim::owner_audience(&live.settings)
}

/// The longest Authorization field that is looked at.
pub(crate) const MAX_BEARER: usize = MAX_TOKEN + 16;

/// Whether an owner is not heard any more, for the log.
fn is_locked(desk: &Desk, live: &Live, owner: &OwnerRecord) -> bool {
    let tries = desk.ask(|reader| reader.view(|view| view.tries(Scope::Owner, owner.id.as_str())));
    let now = desk.now();
    tries.ok().flatten().is_some_and(|tries| tries.is_locked(Scope::Owner, live.settings.claims.tries, now))
}
