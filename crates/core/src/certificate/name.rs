//! Names in certificates: subjects, and the alternative names that identify a device.

use std::net::IpAddr;

use const_oid::ObjectIdentifier;
use const_oid::db::rfc4519::{
    COMMON_NAME, COUNTRY_NAME, DESCRIPTION, LOCALITY_NAME, ORGANIZATION_NAME, ORGANIZATIONAL_UNIT_NAME, SERIAL_NUMBER,
    ST,
};

use crate::asn1;
use crate::fact::{Fact, FactName};
use crate::id::{DeviceId, uuid_urn};
use crate::key::sha256;

/// id-on-hardwareModuleName (RFC 4108 section 5).
pub(super) const HARDWARE_MODULE_NAME: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.6.1.5.5.7.8.4");

/// Attributes that a subject may have (RFC 5280 section 4.1.2.4 and appendix A.1, with its upper bounds).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Attribute {
    /// `CN`, at most 64 characters.
    CommonName,
    /// `O`, at most 64.
    Organization,
    /// `OU`, at most 64.
    OrganizationalUnit,
    /// `L`, at most 128.
    Locality,
    /// `ST`, at most 128.
    State,
    /// `C`, two capital letters.
    Country,
    /// `serialNumber`, at most 64 characters of PrintableString: where IEEE 802.1AR puts the machine's serial number.
    SerialNumber,
    /// `description`, at most 129: where `NAME=VALUE` states a fact of the ward's own.
    Description,
}

impl Attribute {
    const ALL: [Self; 8] = [
        Self::CommonName,
        Self::Organization,
        Self::OrganizationalUnit,
        Self::Locality,
        Self::State,
        Self::Country,
        Self::SerialNumber,
        Self::Description,
    ];

    /// The short name that settings use (RFC 4519 section 2).
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::CommonName => "CN",
            Self::Organization => "O",
            Self::OrganizationalUnit => "OU",
            Self::Locality => "L",
            Self::State => "ST",
            Self::Country => "C",
            Self::SerialNumber => "serialNumber",
            Self::Description => "description",
        }
    }

    /// The attribute with a short name.
    #[must_use]
    pub fn parse(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|attribute| attribute.as_str() == word)
    }

    /// Whether the attribute can have this value.
    #[must_use]
    pub fn takes(self, value: &str) -> bool {
        let printable = |c: char| c.is_ascii_alphanumeric() || " '()+,-./:=?".contains(c);
        let count = value.chars().count();
        match self {
            Self::Country => count == 2 && value.chars().all(|c| c.is_ascii_uppercase()),
            Self::SerialNumber => (1..=64).contains(&count) && value.chars().all(printable),
            Self::Description => (1..=129).contains(&count) && !value.chars().any(char::is_control),
            Self::Locality | Self::State => (1..=128).contains(&count) && !value.chars().any(char::is_control),
            _ => (1..=64).contains(&count) && !value.chars().any(char::is_control),
        }
    }

    fn to_der(self, value: &str) -> Vec<u8> {
        let oid = match self {
            Self::CommonName => COMMON_NAME,
            Self::Organization => ORGANIZATION_NAME,
            Self::OrganizationalUnit => ORGANIZATIONAL_UNIT_NAME,
            Self::Locality => LOCALITY_NAME,
            Self::State => ST,
            Self::Country => COUNTRY_NAME,
            Self::SerialNumber => SERIAL_NUMBER,
            Self::Description => DESCRIPTION,
        };
        let text = match self {
            Self::Country | Self::SerialNumber => asn1::printable(value),
            _ => asn1::utf8(value),
        };
        asn1::set_of_one(&asn1::sequence(&[&asn1::oid(oid), &text]))
    }
}

/// The subject of a certificate, a Name (RFC 5280 section 4.1.2.4) in DER.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Subject(Vec<u8>);

impl Subject {
    /// One attribute in each RDN, in the order given. Values must be such as [`Attribute::takes`].
    #[must_use]
    pub fn new<'t>(attributes: impl IntoIterator<Item = (Attribute, &'t str)>) -> Self {
        let parts: Vec<u8> = attributes.into_iter().flat_map(|(attribute, value)| attribute.to_der(value)).collect();
        Self(asn1::sequence(&[&parts]))
    }

    /// An organisation and a common name.
    #[must_use]
    pub fn of(organization: &str, common_name: &str) -> Self {
        Self::new([(Attribute::Organization, organization), (Attribute::CommonName, common_name)])
    }

    /// A Name in DER, as it stands in a certificate that was read.
    #[must_use]
    pub fn from_der(name: Vec<u8>) -> Self {
        Self(name)
    }

    /// The Name in DER.
    #[must_use]
    pub fn der(&self) -> &[u8] {
        &self.0
    }
}

/// A subject alternative name (RFC 5280 section 4.2.1.6).
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum AltName {
    /// uniformResourceIdentifier.
    Uri(String),
    /// dNSName.
    Dns(String),
    /// iPAddress.
    Ip(IpAddr),
    /// otherName with a hardwareModuleName (RFC 4108 section 5): what IEEE 802.1AR puts into an IDevID.
    HardwareModule {
        /// hwType: names the maker's type of hardware.
        hardware_type: ObjectIdentifier,
        /// hwSerialNum.
        serial: String,
    },
}

impl AltName {
    /// A host's name or address; `None` if it is neither.
    #[must_use]
    pub fn host(host: &str) -> Option<Self> {
        match host.parse::<IpAddr>() {
            Ok(address) => Some(Self::Ip(address)),
            Err(_) => crate::host::check_host(host).then(|| Self::Dns(host.to_owned())),
        }
    }

    pub(crate) fn to_der(&self) -> Vec<u8> {
        match self {
            Self::Dns(name) => asn1::context_primitive(2, name.as_bytes()),
            Self::Uri(uri) => asn1::context_primitive(6, uri.as_bytes()),
            Self::Ip(IpAddr::V4(address)) => asn1::context_primitive(7, &address.octets()),
            Self::Ip(IpAddr::V6(address)) => asn1::context_primitive(7, &address.octets()),
            Self::HardwareModule { hardware_type, serial } => {
                let name = asn1::sequence(&[&asn1::oid(*hardware_type), &asn1::octet_string(serial.as_bytes())]);
                let value = asn1::context_constructed(0, &name);
                asn1::context_constructed(0, &[asn1::oid(HARDWARE_MODULE_NAME), value].concat())
            }
        }
    }
}

/// The name of a device in a certificate's SAN, a URN (RFC 9039 or RFC 9562).
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DeviceName {
    /// The URN.
    pub urn: String,
    /// Whether it had to be made up, because the ward has no enterprise number and the device no known MAC address.
    pub made_up: bool,
}

/// The URN of a device: `urn:dev:org:` with the ward's enterprise number (RFC 9039 section 4.3), else `urn:dev:mac:`
/// if the MAC is known (section 4.1), else a `urn:uuid:` (version 8, RFC 9562 section 5.8) made from the ward's and the
/// device's names, so that it never changes.
#[must_use]
pub fn device_name<'f>(
    ward: &str,
    enterprise_number: Option<u32>,
    device: &DeviceId,
    facts: impl IntoIterator<Item = &'f Fact>,
) -> DeviceName {
    if let Some(number) = enterprise_number {
        return DeviceName { urn: format!("urn:dev:org:{number}-{device}"), made_up: false };
    }
    if let Some(mac) = facts.into_iter().find(|fact| *fact.name() == FactName::Mac) {
        return DeviceName { urn: mac_urn(mac.value()), made_up: false };
    }
    let mut octets = [0u8; 16];
    octets.copy_from_slice(&sha256(format!("{ward}\0{device}").as_bytes())[..16]);
    DeviceName { urn: uuid_urn(octets, 8), made_up: true }
}

/// `urn:dev:mac:` (RFC 9039 section 4.1) of a MAC-48, which becomes an EUI-64 by `ffff` in its middle, or of an EUI-64.
pub(crate) fn mac_urn(pairs: &str) -> String {
    let digits: String = pairs.chars().filter(|c| *c != ':').collect();
    match digits.split_at_checked(6) {
        Some((maker, rest)) if digits.len() == 12 => format!("urn:dev:mac:{maker}ffff{rest}"),
        _ => format!("urn:dev:mac:{digits}"),
    }
}

/// Whether `text` can stand as an identifier in a `urn:dev:` name (RFC 9039 section 3.2, `1*devunreserved`).
#[must_use]
pub(crate) fn is_urn_identifier(text: &str) -> bool {
    !text.is_empty() && text.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'.' || b == b'-')
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_follow_rfc_9039() {
        let id: DeviceId = "wv-1".parse().unwrap();
        let mac = [Fact::new(FactName::Mac, "00-24-be-80-4f-f1").unwrap()];
        assert_eq!(device_name("q", Some(32473), &id, &mac).urn, "urn:dev:org:32473-wv-1");
        // The example of RFC 9039 section 4.1.
        assert_eq!(device_name("q", None, &id, &mac).urn, "urn:dev:mac:0024beffff804ff1");
        assert_eq!(mac_urn("00:24:be:ff:fe:80:4f:f1"), "urn:dev:mac:0024befffe804ff1");
        let made_up = device_name("q", None, &id, []);
        assert!(made_up.made_up && made_up.urn.starts_with("urn:uuid:") && made_up.urn.len() == 45, "{made_up:?}");
        assert_eq!(made_up, device_name("q", None, &id, []));
        assert_ne!(made_up, device_name("r", None, &id, []));
    }

    #[test]
    fn attributes_have_upper_bounds() {
        for (attribute, value, good) in [
            (Attribute::CommonName, "wv-1", true),
            (Attribute::CommonName, "", false),
            (Attribute::Organization, "Mount Össel", true),
            (Attribute::Organization, "a\u{0}b", false),
            (Attribute::Country, "AT", true),
            (Attribute::Country, "at", false),
            (Attribute::SerialNumber, "QF-17/4", true),
            (Attribute::SerialNumber, "QF_17", false),
        ] {
            assert_eq!(attribute.takes(value), good, "{attribute:?} {value:?}");
        }
        let long = "x".repeat(65);
        assert!(!Attribute::OrganizationalUnit.takes(&long) && Attribute::Locality.takes(&long));
    }
}
