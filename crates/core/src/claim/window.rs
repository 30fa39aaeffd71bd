//! What a device sends to open itself to be claimed: over MQTT on a topic of the ward's own, or over HTTPS to the desk.

use serde::Deserialize;
use zeroize::Zeroizing;

use super::code::{BadCode, Code};
use super::{LONGEST_WINDOW, OpenClaim, OpenedBy};
use crate::id::DeviceId;
use crate::time::{Span, UnixTime};

/// The largest that is looked at, in octets.
pub const MAX_WINDOW: usize = 512;

/// The shortest window, in seconds: shorter than anybody needs to type a code is of no use.
const SHORTEST_WINDOW: i64 = 10;

/// How many different characters a code has at least; of random ones of the shortest form one in some thousands has fewer.
const LEAST_DISTINCT: usize = 5;

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Form<'t> {
    #[serde(borrow)]
    code: std::borrow::Cow<'t, str>,
    /// In seconds.
    #[serde(rename = "for")]
    length: u32,
}

/// Why a device did not open itself.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum BadWindow {
    /// Another form.
    #[error("a window is a JSON object with `code` and `for`, in seconds, of at most {MAX_WINDOW} octets")]
    Form,
    /// Its code is none: what has fewer than 40 random bits is none either.
    #[error("the code of the window: {0}")]
    Code(BadCode),
    /// Its code cannot be one of random characters.
    #[error("the code of the window has fewer than {LEAST_DISTINCT} different characters, which no random one has")]
    Weak,
    /// Devices of its kind open themselves for so long at the most.
    #[error("a device of this kind opens itself for {SHORTEST_WINDOW} s to {0}")]
    Length(Span),
    /// Devices of its kind do not open themselves.
    #[error("devices of this kind do not open themselves (claim_window)")]
    NotAllowed,
}

/// What a device said.
#[derive(Debug)]
pub struct Window {
    /// The code that it shows.
    pub code: Code,
    /// How long that holds.
    pub length: Span,
}

impl Window {
    /// Reads what a device sent, whose kind allows windows of at most `longest`.
    ///
    /// # Errors
    /// Why it is not taken; nothing of the code is told.
    pub fn read(octets: &[u8], longest: Option<Span>) -> Result<Self, BadWindow> {
        let longest = longest.ok_or(BadWindow::NotAllowed)?.min(LONGEST_WINDOW);
        if octets.len() > MAX_WINDOW {
            return Err(BadWindow::Form);
        }
        let form: Form<'_> = serde_json::from_slice(octets).map_err(|_| BadWindow::Form)?;
        let text = Zeroizing::new(form.code.into_owned());
        let code = Code::parse(&text).map_err(BadWindow::Code)?;
        if code.distinct() < LEAST_DISTINCT {
            return Err(BadWindow::Weak);
        }
        let length = Span::from_seconds(form.length);
        match (SHORTEST_WINDOW..=longest.seconds()).contains(&length.seconds()) {
            true => Ok(Self { code, length }),
            false => Err(BadWindow::Length(longest)),
        }
    }

    /// What is kept of it.
    #[must_use]
    pub fn opened(&self, device: &DeviceId, salt: [u8; 16], now: UnixTime) -> OpenClaim {
        OpenClaim {
            device: device.clone(),
            by: OpenedBy::Device,
            code: Some(self.code.digest(salt)),
            opened: now,
            ends: now.plus(self.length),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::random::Counted;

    #[test]
    fn a_window_is_as_long_as_its_kind_allows_and_has_a_code_that_is_one() {
        let code = Code::new(&mut Counted(1)).grouped().to_string();
        let minute = Some(Span::from_seconds(60));
        let read = |text: &str, longest| Window::read(text.as_bytes(), longest).map(|window| window.length.seconds());
        let text = |length: &str| format!(r#"{{"code":"{code}","for":{length}}}"#);
        assert_eq!(read(&text("60"), minute), Ok(60));
        assert_eq!(read(&text("601"), Some(Span::from_days(1))), Err(BadWindow::Length(LONGEST_WINDOW)));
        for (bad, want) in [
            (text("61"), BadWindow::Length(Span::from_seconds(60))),
            (text("9"), BadWindow::Length(Span::from_seconds(60))),
            (text("-1"), BadWindow::Form),
            (text("\"60\""), BadWindow::Form),
            (text("60,\"more\":1"), BadWindow::Form),
            (text(&format!("60{}", " ".repeat(500))), BadWindow::Form),
            (r#"{"code":"123456","for":60}"#.to_owned(), BadWindow::Code(BadCode::Character('1'))),
            (r#"{"code":"234567","for":60}"#.to_owned(), BadWindow::Code(BadCode::Length)),
            (r#"{"code":"2222222222","for":60}"#.to_owned(), BadWindow::Weak),
            (String::new(), BadWindow::Form),
        ] {
            assert_eq!(read(&bad, minute), Err(want), "{bad}");
        }
        assert_eq!(read(&text("60"), None), Err(BadWindow::NotAllowed));
        let open = Window::read(text("60").as_bytes(), minute).unwrap();
        let claim = open.opened(&"gg-1".parse().unwrap(), [1; 16], UnixTime(100));
        assert_eq!((claim.by, claim.ends), (OpenedBy::Device, UnixTime(160)));
        assert!(claim.code.unwrap().is_same(&Code::parse(&code).unwrap().digest([1; 16])));
    }
}
