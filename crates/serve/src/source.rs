//! Where connections come from: networks that are counted as one.

use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

/// A network that one party usually has whole: of IPv4 the first 24 bits of an address, of IPv6 the first 64.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Source(IpAddr);

impl From<IpAddr> for Source {
    fn from(address: IpAddr) -> Self {
        let v4 = |address: Ipv4Addr| IpAddr::V4(Ipv4Addr::from_bits(address.to_bits() & 0xffff_ff00));
        Self(match address {
            IpAddr::V4(address) => v4(address),
            IpAddr::V6(address) => match address.to_ipv4_mapped() {
                Some(address) => v4(address),
                None => IpAddr::V6(Ipv6Addr::from_bits(address.to_bits() >> 64 << 64)),
            },
        })
    }
}

impl std::fmt::Display for Source {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self.0 {
            IpAddr::V4(address) => write!(f, "{address}/24"),
            IpAddr::V6(address) => write!(f, "{address}/64"),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn addresses_of_one_network_are_one_source() {
        let source = |text: &str| Source::from(text.parse::<IpAddr>().unwrap()).to_string();
        for (address, network) in [
            ("192.0.2.77", "192.0.2.0/24"),
            ("::ffff:192.0.2.9", "192.0.2.0/24"),
            ("2001:db8:1:2:3:4:5:6", "2001:db8:1:2::/64"),
        ] {
            assert_eq!(source(address), network);
        }
    }
}
