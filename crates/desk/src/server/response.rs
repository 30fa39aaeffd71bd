//! What is said, as HTTP says it: status, header fields, body.

use http_body_util::Full;
use hyper::body::Bytes;
use hyper::header::{
    ALLOW, CACHE_CONTROL, CONNECTION, CONTENT_TYPE, ETAG, HeaderName, HeaderValue, RETRY_AFTER, WWW_AUTHENTICATE,
};
use hyper::{Response, StatusCode};
use tidy_warden_core::est;

use crate::answer::Said;

/// The response that says `said`, with the methods to `allow`. Who has it already (`is_known`) gets no body.
pub(super) fn response(
    said: Said,
    allow: Option<&'static str>,
    is_known: bool,
    (has_body, is_chunked): (bool, bool),
) -> Response<Full<Bytes>> {
    let Said { status, kind, body, retry_after, tag, fresh_for, more, is_slow: _ } = said;
    let mut response = Response::new(Full::new(if is_known { Bytes::new() } else { body }));
    *response.status_mut() = if is_known { StatusCode::NOT_MODIFIED } else { status };
    let headers = response.headers_mut();
    let mut put = |name: HeaderName, value: &str| {
        // All of these are texts of this program's own.
        if let Ok(value) = HeaderValue::from_str(value) {
            headers.insert(name, value);
        }
    };
    if !is_known && status != StatusCode::NO_CONTENT {
        put(CONTENT_TYPE, kind);
    }
    if kind == est::CERTS_ONLY || kind == est::CSR_ATTRS {
        put(HeaderName::from_static("content-transfer-encoding"), "base64");
    }
    if let Some(tag) = &tag {
        put(ETAG, tag);
    }
    match fresh_for {
        Some(seconds) => put(CACHE_CONTROL, &format!("max-age={seconds}, must-revalidate")),
        None => put(CACHE_CONTROL, "no-store"),
    }
    if let Some(seconds) = retry_after {
        put(RETRY_AFTER, &seconds.to_string());
    }
    if let Some(methods) = allow {
        put(ALLOW, methods);
    }
    for (name, value) in &more {
        // Cookies may be several.
        if let (Ok(name), Ok(value)) = (HeaderName::try_from(*name), HeaderValue::from_str(value)) {
            headers.append(name, value);
        }
    }
    let mut put = |name: HeaderName, value: &str| {
        if let Ok(value) = HeaderValue::from_str(value) {
            headers.insert(name, value);
        }
    };
    if status == StatusCode::UNAUTHORIZED && more.is_empty() {
        put(WWW_AUTHENTICATE, "Basic realm=\"enrolment\", charset=\"UTF-8\"");
    }
    if is_chunked || has_body && !status.is_success() {
        put(CONNECTION, "close");
    }
    response
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_answer_says_how_long_it_may_be_kept_and_when_to_come_again() {
        let field = |response: &Response<Full<Bytes>>, name: HeaderName| {
            response.headers().get(name).map(|value| value.to_str().unwrap().to_owned())
        };
        let refused = response(Said::unproved(), None, false, (true, false));
        assert_eq!(refused.status(), StatusCode::UNAUTHORIZED);
        assert!(field(&refused, WWW_AUTHENTICATE).is_some_and(|value| value.starts_with("Basic realm=")));
        assert_eq!(field(&refused, CACHE_CONTROL).as_deref(), Some("no-store"));
        assert_eq!(field(&refused, CONNECTION).as_deref(), Some("close"), "its body may not have been read");

        let later = Said::later(StatusCode::SERVICE_UNAVAILABLE, "words", 9);
        let later = response(later, None, false, (false, false));
        assert_eq!((field(&later, RETRY_AFTER).as_deref(), field(&later, CONNECTION)), (Some("9"), None));

        let list = Said { tag: Some("\"t\"".into()), fresh_for: Some(60), ..Said::text(StatusCode::OK, "list") };
        let whole = response(list.clone(), None, false, (false, false));
        assert_eq!(field(&whole, ETAG).as_deref(), Some("\"t\""));
        assert_eq!(field(&whole, CACHE_CONTROL).as_deref(), Some("max-age=60, must-revalidate"));
        let known = response(list.clone(), None, true, (false, false));
        assert_eq!(known.status(), StatusCode::NOT_MODIFIED);
        assert_eq!((field(&known, ETAG).as_deref(), field(&known, CONTENT_TYPE)), (Some("\"t\""), None));
        assert_eq!(hyper::body::Body::size_hint(known.body()).exact(), Some(0), "as it is had already");
        // Behind chunks nothing is read any more, whatever was said.
        assert!(field(&response(list, None, false, (true, true)), CONNECTION).is_some());

        let none = Said { status: StatusCode::NO_CONTENT, ..Said::text(StatusCode::OK, "") };
        assert_eq!(field(&response(none, None, false, (false, false)), CONTENT_TYPE), None);
        let wrong = Said::text(StatusCode::METHOD_NOT_ALLOWED, "words");
        assert_eq!(
            field(&response(wrong, Some("GET, HEAD"), false, (false, false)), ALLOW).as_deref(),
            Some("GET, HEAD")
        );
    }
}
