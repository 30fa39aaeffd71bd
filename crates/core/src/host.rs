//! Host names, and where a service listens.

/// A host name or IP address, and a port.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Endpoint {
    /// Host name or IP address, without brackets.
    pub host: String,
    /// TCP port.
    pub port: u16,
}

impl std::fmt::Display for Endpoint {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        if self.host.contains(':') {
            write!(f, "[{}]:{}", self.host, self.port)
        } else {
            write!(f, "{}:{}", self.host, self.port)
        }
    }
}

/// Whether `host` is a DNS host name or an IP address.
#[must_use]
pub fn check_host(host: &str) -> bool {
    let label = |label: &str| {
        (1..=63).contains(&label.len())
            && !label.starts_with('-')
            && !label.ends_with('-')
            && label.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'-')
    };
    host.parse::<std::net::IpAddr>().is_ok() || (host.len() <= 253 && host.split('.').all(label))
}

/// What an endpoint looks like.
pub(crate) const ENDPOINT: &str = "expected HOST:PORT, such as 127.0.0.1:1883";

impl std::str::FromStr for Endpoint {
    type Err = &'static str;

    /// Splits `HOST:PORT`; the host is a name or an IP address, in brackets if it is IPv6.
    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let (host, port) = text.rsplit_once(':').ok_or(ENDPOINT)?;
        let host = host.strip_prefix('[').and_then(|rest| rest.strip_suffix(']')).unwrap_or(host);
        let port = port.parse().ok().filter(|port| *port != 0).ok_or(ENDPOINT)?;
        if check_host(host) { Ok(Self { host: host.to_owned(), port }) } else { Err(ENDPOINT) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn endpoints_are_host_and_port() {
        for (text, good) in [
            ("localhost:8883", true),
            ("[::1]:8883", true),
            ("10.0.0.1:1", true),
            ("localhost", false),
            ("localhost:0", false),
            ("a b:1", false),
            ("-a:1", false),
        ] {
            assert_eq!(text.parse::<Endpoint>().is_ok(), good, "{text}");
        }
        assert_eq!("[::1]:8883".parse::<Endpoint>().map(|e| e.to_string()).as_deref(), Ok("[::1]:8883"));
    }
}
