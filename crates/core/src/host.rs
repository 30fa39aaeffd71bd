//! Host names, networks, and where a service listens.

use std::net::IpAddr;

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

/// The IP addresses that begin alike: `10.0.0.0/8`, or a single one.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Network {
    address: IpAddr,
    /// How many of its first bits count.
    bits: u8,
}

/// What a network looks like.
pub(crate) const NETWORK: &str = "expected an IP address, or a network such as 10.0.0.0/8";

/// An address as 128 bits that stand at the left, with how many there are. IPv4 within IPv6 is IPv4 (RFC 4291 section 2.5.5.2).
fn left_bits(address: IpAddr) -> (u128, u8) {
    match address.to_canonical() {
        IpAddr::V4(v4) => (u128::from(v4.to_bits()) << 96, 32),
        IpAddr::V6(v6) => (v6.to_bits(), 128),
    }
}

impl Network {
    /// Whether an address is of this network.
    #[must_use]
    pub fn contains(&self, address: IpAddr) -> bool {
        let ((own, family), (other, other_family)) = (left_bits(self.address), left_bits(address));
        let differ = (own ^ other).leading_zeros();
        family == other_family && differ >= u32::from(self.bits)
    }
}

impl std::fmt::Display for Network {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self.bits == left_bits(self.address).1 {
            true => self.address.fmt(f),
            false => write!(f, "{}/{}", self.address, self.bits),
        }
    }
}

impl std::str::FromStr for Network {
    type Err = &'static str;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let (address, bits) = text.split_once('/').map_or((text, None), |(address, bits)| (address, Some(bits)));
        let address = address.parse::<IpAddr>().map_err(|_| NETWORK)?.to_canonical();
        let (all, most) = left_bits(address);
        let bits = bits.map_or(Ok(most), |bits| bits.parse::<u8>().map_err(|_| NETWORK))?;
        // Bits behind those that count would be a slip of the pen: 10.0.0.1/8 may have meant one address.
        let is_clean = u32::from(bits) >= 128 - all.trailing_zeros().min(128);
        if bits <= most && is_clean { Ok(Self { address, bits }) } else { Err(NETWORK) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_network_is_the_addresses_that_begin_alike() {
        let within = |network: &str, address: &str| {
            network.parse::<Network>().unwrap().contains(address.parse::<IpAddr>().unwrap())
        };
        for (network, inside, outside) in [
            ("10.0.0.0/8", "10.255.0.1", "11.0.0.1"),
            ("10.0.0.1", "10.0.0.1", "10.0.0.2"),
            ("10.0.0.0/31", "::ffff:10.0.0.1", "10.0.0.2"),
            ("0.0.0.0/0", "255.0.0.1", "::1"),
            ("2001:db8::/32", "2001:db8:1::1", "2001:db9::1"),
            ("::1", "::1", "::2"),
            ("::/0", "2001:db8::1", "10.0.0.1"),
        ] {
            assert!(within(network, inside), "{network} {inside}");
            assert!(!within(network, outside), "{network} {outside}");
            assert_eq!(network.parse::<Network>().unwrap().to_string(), network);
        }
        for bad in
            ["", "10.0.0.1/8", "10.0.0.0/33", "10.0.0.0/-1", "10.0.0", "::/129", "::1/0", "localhost", "10.0.0.0/"]
        {
            assert!(bad.parse::<Network>().is_err(), "{bad}");
        }
    }

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
