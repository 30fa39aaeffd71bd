//! Name constraints (RFC 5280 section 4.2.1.10): the names that may stand below an authority.

use std::fmt;
use std::net::IpAddr;

use const_oid::ObjectIdentifier;
use const_oid::db::rfc3280::EMAIL_ADDRESS;
use der::{Decode, Encode, Tagged};
use x509_cert::ext::pkix::name::GeneralName;
use x509_cert::name::{Name, RelativeDistinguishedName};

use super::Certificate;
use crate::asn1;

/// The base of a subtree of names.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Base {
    /// A DNS name and all names below it.
    Dns(String),
    /// A mailbox, all mailboxes of a host, or (with a leading dot) of all hosts below a name.
    Email(String),
    /// The host of a URI, or (with a leading dot) all hosts below a name.
    Uri(String),
    /// An address and a mask of the same length.
    Ip {
        /// Network octets, 4 or 16.
        network: Vec<u8>,
        /// Mask octets, as many.
        mask: Vec<u8>,
    },
    /// The beginning of a distinguished name.
    Directory(Name),
    /// A form of name that is not processed; it forbids every name of its form.
    Unprocessed(NameForm),
}

/// The form of a name.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum NameForm {
    /// dNSName.
    Dns,
    /// rfc822Name.
    Email,
    /// uniformResourceIdentifier.
    Uri,
    /// iPAddress.
    Ip,
    /// directoryName and the subject.
    Directory,
    /// otherName of a type.
    Other(ObjectIdentifier),
    /// registeredID.
    RegisteredId,
    /// ediPartyName.
    EdiParty,
}

/// What may stand below an authority: nothing in `excluded`, and of each form that `permitted` names only what is there.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Constraints {
    /// permittedSubtrees.
    pub permitted: Vec<Base>,
    /// excludedSubtrees.
    pub excluded: Vec<Base>,
}

/// Text that is not the base of a subtree.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("`{0}` is not a constraint; expected dns:NAME, uri:HOST, email:HOST or ip:ADDRESS/BITS")]
pub struct BadBase(pub String);

impl std::str::FromStr for Base {
    type Err = BadBase;

    /// Reads `dns:NAME`, `uri:HOST`, `email:HOST` (a leading dot takes in what is below) or `ip:ADDRESS/BITS`.
    fn from_str(text: &str) -> Result<Self, BadBase> {
        let bad = || BadBase(text.to_owned());
        let (form, value) = text.split_once(':').ok_or_else(bad)?;
        let host = || {
            let plain = value.strip_prefix('.').unwrap_or(value);
            let good = crate::host::check_host(plain) && plain.parse::<IpAddr>().is_err();
            good.then(|| value.to_ascii_lowercase()).ok_or_else(bad)
        };
        match form {
            "dns" if !value.starts_with('.') => host().map(Self::Dns),
            "uri" => host().map(Self::Uri),
            "email" => host().map(Self::Email),
            "ip" => network(value).ok_or_else(bad),
            _ => Err(bad()),
        }
    }
}

fn network(text: &str) -> Option<Base> {
    let (address, bits) = text.split_once('/')?;
    let octets = match address.parse::<IpAddr>().ok()? {
        IpAddr::V4(address) => address.octets().to_vec(),
        IpAddr::V6(address) => address.octets().to_vec(),
    };
    let bits: usize = bits.parse().ok().filter(|bits| *bits <= octets.len() * 8)?;
    let mask: Vec<u8> = (0..octets.len())
        .map(|at| {
            let ones = bits.saturating_sub(at * 8).min(8);
            u8::try_from(0xff00u16 >> ones & 0xff).unwrap_or(0)
        })
        .collect();
    let network = octets.iter().zip(&mask).map(|(octet, mask)| octet & mask).collect();
    Some(Base::Ip { network, mask })
}

impl fmt::Display for Base {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Dns(name) => write!(f, "dns:{name}"),
            Self::Email(name) => write!(f, "email:{name}"),
            Self::Uri(name) => write!(f, "uri:{name}"),
            Self::Ip { network, mask } => {
                let bits: u32 = mask.iter().map(|octet| octet.count_ones()).sum();
                write!(f, "{}/{bits}", super::read::ip_text(network).replacen("IP", "ip", 1))
            }
            Self::Directory(name) => write!(f, "dir:{name}"),
            Self::Unprocessed(form) => write!(f, "{form:?}"),
        }
    }
}

/// Why a certificate's names break a constraint.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
#[expect(missing_docs, reason = "the texts say what the fields are")]
pub enum NameRefused {
    /// The name lies in an excluded subtree.
    #[error("the name {name} lies in {base}, which is excluded")]
    Excluded {
        name: String,
        /// The subtree.
        base: String,
    },
    /// The name lies in none of the permitted subtrees of its form.
    #[error("the name {name} lies in none of what is permitted: {permitted}")]
    NotPermitted {
        name: String,
        /// The subtrees of its form.
        permitted: String,
    },
}

impl Constraints {
    /// Reads the extension's value.
    ///
    /// # Errors
    /// It is malformed, or has a minimum or maximum, which section 4.2.1.10 rules out.
    pub(super) fn from_der(value: &[u8]) -> Result<Self, der::Error> {
        let parsed = x509_cert::ext::pkix::NameConstraints::from_der(value)?;
        let bases = |subtrees: Option<x509_cert::ext::pkix::constraints::name::GeneralSubtrees>| {
            subtrees
                .unwrap_or_default()
                .into_iter()
                .map(|subtree| {
                    if subtree.minimum != 0 || subtree.maximum.is_some() {
                        return Err(der::Tag::Integer.value_error().into());
                    }
                    base(&subtree.base)
                })
                .collect::<Result<Vec<Base>, der::Error>>()
        };
        let read = Self { permitted: bases(parsed.permitted_subtrees)?, excluded: bases(parsed.excluded_subtrees)? };
        if read.permitted.is_empty() && read.excluded.is_empty() {
            return Err(der::Tag::Sequence.length_error().into());
        }
        Ok(read)
    }

    /// The extension's value in DER.
    pub(super) fn to_der(&self) -> Vec<u8> {
        let trees = |number: u8, bases: &[Base]| {
            if bases.is_empty() {
                return Vec::new();
            }
            let subtrees: Vec<u8> = bases.iter().flat_map(|base| asn1::sequence(&[&general_name(base)])).collect();
            asn1::context_constructed(number, &subtrees)
        };
        asn1::sequence(&[&trees(0, &self.permitted), &trees(1, &self.excluded)])
    }

    /// Judges all names of a certificate that stands below.
    ///
    /// # Errors
    /// The first name that may not stand there.
    pub fn check(&self, certificate: &Certificate) -> Result<(), NameRefused> {
        let mut names = certificate.names.clone();
        let subject = Name::from_der(&certificate.subject).unwrap_or_default();
        // An address in the subject counts as a mailbox if there is none among the alternative names.
        if !names.iter().any(|name| matches!(name, GeneralName::Rfc822Name(_))) {
            for attribute in subject.iter_rdn().flat_map(|rdn| rdn.iter()).filter(|each| each.oid == EMAIL_ADDRESS) {
                if let Ok(text) = der::asn1::Ia5String::new(attribute.value.value()) {
                    names.push(GeneralName::Rfc822Name(text));
                }
            }
        }
        if !subject.is_empty() {
            names.push(GeneralName::DirectoryName(subject));
        }
        names.iter().try_for_each(|name| self.check_name(name))
    }

    fn check_name(&self, name: &GeneralName) -> Result<(), NameRefused> {
        let form = form_of(name);
        let shown = || super::read::name_text(name);
        if let Some(base) = self.excluded.iter().find(|base| base.form() == form && base.may_hold(name)) {
            return Err(NameRefused::Excluded { name: shown(), base: base.to_string() });
        }
        let mut permitted = self.permitted.iter().filter(|base| base.form() == form).peekable();
        if permitted.peek().is_none() || permitted.any(|base| base.holds(name)) {
            return Ok(());
        }
        let bases: Vec<String> =
            self.permitted.iter().filter(|base| base.form() == form).map(ToString::to_string).collect();
        Err(NameRefused::NotPermitted { name: shown(), permitted: bases.join(", ") })
    }
}

impl Base {
    fn form(&self) -> NameForm {
        match self {
            Self::Dns(_) => NameForm::Dns,
            Self::Email(_) => NameForm::Email,
            Self::Uri(_) => NameForm::Uri,
            Self::Ip { .. } => NameForm::Ip,
            Self::Directory(_) => NameForm::Directory,
            Self::Unprocessed(form) => *form,
        }
    }

    /// Whether `name`, of the same form, lies in this subtree.
    fn holds(&self, name: &GeneralName) -> bool {
        match (self, name) {
            (Self::Dns(base), GeneralName::DnsName(name)) => within(name.as_str(), base),
            (Self::Email(base), GeneralName::Rfc822Name(mail)) => mailbox_within(mail.as_str(), base),
            (Self::Uri(base), GeneralName::UniformResourceIdentifier(uri)) => {
                uri_host(uri.as_str()).is_some_and(|host| host_within(&host, base))
            }
            (Self::Ip { network, mask }, GeneralName::IpAddress(address)) => {
                let octets = address.as_bytes();
                octets.len() == network.len()
                    && octets.iter().zip(mask).zip(network).all(|((octet, mask), want)| octet & mask == *want & mask)
            }
            (Self::Directory(base), GeneralName::DirectoryName(name)) => {
                let mut rdns = name.iter_rdn();
                base.iter_rdn().all(|want| rdns.next().is_some_and(|have| same_rdn(want, have)))
            }
            _ => false,
        }
    }

    /// Whether `name`, of the same form, could lie in this subtree: what cannot be told is taken to lie in it, such as a
    /// URI without a host (section 4.2.1.10: such a certificate must be rejected).
    fn may_hold(&self, name: &GeneralName) -> bool {
        match (self, name) {
            (Self::Unprocessed(_), _) => true,
            (Self::Uri(_), GeneralName::UniformResourceIdentifier(uri)) if uri_host(uri.as_str()).is_none() => true,
            (Self::Dns(_), GeneralName::DnsName(name)) if !is_host_text(name.as_str().trim_start_matches("*.")) => true,
            // A wildcard stands for every name one label below: the subtree may lie there.
            (Self::Dns(base), GeneralName::DnsName(name)) if name.as_str().starts_with("*.") => {
                within(name.as_str(), base) || within(base, name.as_str().trim_start_matches("*."))
            }
            (Self::Email(_), GeneralName::Rfc822Name(mail)) => {
                let host = mail.as_str().rsplit_once('@').map(|(_, host)| host);
                !host.is_some_and(is_host_text) || self.holds(name)
            }
            // What is written in an alphabet that is not compared here may be the same name.
            (Self::Directory(base), GeneralName::DirectoryName(name)) if is_odd(name) || is_odd(base) => true,
            _ => self.holds(name),
        }
    }
}

fn base(name: &GeneralName) -> Result<Base, der::Error> {
    Ok(match name {
        GeneralName::DnsName(name) => Base::Dns(name.as_str().to_owned()),
        GeneralName::Rfc822Name(mail) => Base::Email(mail.as_str().to_owned()),
        GeneralName::UniformResourceIdentifier(host) => Base::Uri(host.as_str().to_owned()),
        GeneralName::IpAddress(octets) => {
            let octets = octets.as_bytes();
            if octets.len() != 8 && octets.len() != 32 {
                return Err(der::Tag::OctetString.length_error().into());
            }
            let (network, mask) = octets.split_at(octets.len() / 2);
            Base::Ip { network: network.to_vec(), mask: mask.to_vec() }
        }
        GeneralName::DirectoryName(name) => Base::Directory(name.clone()),
        other => Base::Unprocessed(form_of(other)),
    })
}

fn general_name(base: &Base) -> Vec<u8> {
    match base {
        Base::Email(name) => asn1::context_primitive(1, name.as_bytes()),
        Base::Dns(name) => asn1::context_primitive(2, name.as_bytes()),
        Base::Directory(name) => asn1::context_constructed(4, &name.to_der().unwrap_or_default()),
        Base::Uri(name) => asn1::context_primitive(6, name.as_bytes()),
        Base::Ip { network, mask } => asn1::context_primitive(7, &[network.as_slice(), mask].concat()),
        Base::Unprocessed(_) => Vec::new(),
    }
}

fn form_of(name: &GeneralName) -> NameForm {
    match name {
        GeneralName::DnsName(_) => NameForm::Dns,
        GeneralName::Rfc822Name(_) => NameForm::Email,
        GeneralName::UniformResourceIdentifier(_) => NameForm::Uri,
        GeneralName::IpAddress(_) => NameForm::Ip,
        GeneralName::DirectoryName(_) => NameForm::Directory,
        GeneralName::OtherName(other) => NameForm::Other(other.type_id),
        GeneralName::RegisteredId(_) => NameForm::RegisteredId,
        GeneralName::EdiPartyName(_) => NameForm::EdiParty,
    }
}

/// Whether `name` is `base` or below it, label by label. An empty base holds everything.
fn within(name: &str, base: &str) -> bool {
    let base = base.strip_prefix('.').unwrap_or(base);
    // A trailing dot names the root of the tree, which every name has.
    let (name, base) = (name.strip_suffix('.').unwrap_or(name), base.strip_suffix('.').unwrap_or(base));
    if base.is_empty() || name.eq_ignore_ascii_case(base) {
        return true;
    }
    let cut = name.len().checked_sub(base.len());
    cut.is_some_and(|cut| {
        name.is_char_boundary(cut) && name[cut..].eq_ignore_ascii_case(base) && name[..cut].ends_with('.')
    })
}

/// A host against a base that names one host, or with a leading dot all below it and not itself.
fn host_within(host: &str, base: &str) -> bool {
    let (host, base) = (host.strip_suffix('.').unwrap_or(host), base.strip_suffix('.').unwrap_or(base));
    match base.strip_prefix('.') {
        Some(domain) => within(host, domain) && !host.eq_ignore_ascii_case(domain),
        None => host.eq_ignore_ascii_case(base),
    }
}

fn mailbox_within(mail: &str, base: &str) -> bool {
    let Some((local, host)) = mail.rsplit_once('@') else { return false };
    match base.rsplit_once('@') {
        Some((want, domain)) => want == local && host.eq_ignore_ascii_case(domain),
        None => host_within(host, base),
    }
}

/// Whether a text is written as host names are, so that it can be compared as one.
fn is_host_text(text: &str) -> bool {
    !text.is_empty() && text.bytes().all(|byte| byte.is_ascii_alphanumeric() || matches!(byte, b'.' | b'-' | b'_'))
}

/// Whether a name has a value in an alphabet that is not compared here.
fn is_odd(name: &Name) -> bool {
    use der::Tag::{BmpString, TeletexString};
    let odd = |value: &der::Any| {
        matches!(value.tag(), BmpString | TeletexString) || std::str::from_utf8(value.value()).is_err()
    };
    name.iter_rdn().flat_map(|rdn| rdn.iter()).any(|attribute| odd(&attribute.value))
}

/// The host of a URI's authority component, if it has one that is a name (RFC 3986 section 3.2).
fn uri_host(uri: &str) -> Option<String> {
    let (_, rest) = uri.split_once("://")?;
    let authority = rest.split(['/', '?', '#']).next()?;
    // What some readers take for the end of the authority, and escapes that they resolve, are not for guessing.
    if authority.contains(['\\', '%']) {
        return None;
    }
    let host = authority.rsplit('@').next()?;
    let host = host.split(':').next()?;
    let is_name = is_host_text(host) && host.parse::<IpAddr>().is_err();
    is_name.then(|| host.to_ascii_lowercase())
}

/// Whether two RDNs have the same attributes; text is compared without regard to case and runs of blanks (section 7.1).
fn same_rdn(a: &RelativeDistinguishedName, b: &RelativeDistinguishedName) -> bool {
    use der::Tag::{BmpString, Ia5String, PrintableString, TeletexString, Utf8String};
    let same_value = |a: &der::Any, b: &der::Any| {
        let is_text = |any: &der::Any| matches!(any.tag(), PrintableString | Utf8String | Ia5String);
        let is_odd = |any: &der::Any| matches!(any.tag(), BmpString | TeletexString);
        match (std::str::from_utf8(a.value()), std::str::from_utf8(b.value())) {
            (Ok(x), Ok(y)) if is_text(a) && is_text(b) => {
                let folded = |text: &str| text.split_whitespace().map(str::to_lowercase).collect::<Vec<_>>();
                folded(x) == folded(y)
            }
            _ if is_odd(a) != is_odd(b) => false,
            _ => a == b,
        }
    };
    a.len() == b.len()
        && a.iter().all(|want| b.iter().any(|have| want.oid == have.oid && same_value(&want.value, &have.value)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn subtrees_hold_what_section_4_2_1_10_says() {
        for (name, base, want) in [
            ("host.example", "host.example", true),
            ("www.Host.Example", "host.example", true),
            ("badhost.example", "host.example", false),
            ("example", "host.example", false),
            ("anything", "", true),
            ("host.example.", "host.example", true),
            ("www.host.example.", "host.example.", true),
        ] {
            assert_eq!(within(name, base), want, "{name} in {base}");
        }
        for (host, base, want) in [
            ("host.example", "host.example", true),
            ("www.host.example", "host.example", false),
            ("www.host.example", ".host.example", true),
            ("host.example", ".host.example", false),
        ] {
            assert_eq!(host_within(host, base), want, "{host} in {base}");
        }
        assert!(mailbox_within("ann@rope.example", "rope.example"));
        assert!(mailbox_within("ann@rope.example", "ann@Rope.example"));
        assert!(!mailbox_within("ann@rope.example", "bob@rope.example"));
        assert!(!mailbox_within("ann@sub.rope.example", "rope.example"));
        for (uri, want) in [
            ("https://ann@Rope.example:1/x", Some("rope.example")),
            ("urn:dev:org:32473-wv-1", None),
            ("https://10.0.0.1/", None),
            ("https://[::1]/", None),
            ("https://b%61d.example/", None),
            ("https://bad.example\\@good.example/", None),
            ("https://bad.example./", Some("bad.example.")),
        ] {
            assert_eq!(uri_host(uri).as_deref(), want, "{uri}");
        }
    }

    fn certified(names: &[crate::certificate::AltName]) -> Certificate {
        use crate::certificate::issue::tests::{template, ward};
        use crate::certificate::{Issuer, Subject, Usage};
        use crate::key::{NewKey, SoftwareKey};
        let ward = ward();
        let key = SoftwareKey::generate(NewKey::P256).unwrap().proven();
        let subject = Subject::of("Quillfeather", "wv-1");
        let issuer = Issuer { certificate: &ward.issuing, signer: &ward.key };
        template(&key, &subject, names, Usage::Client, 30).issue(issuer).unwrap().certificate
    }

    #[test]
    fn every_form_is_judged_by_itself() {
        use crate::certificate::AltName;
        let uri = |text: &str| AltName::Uri(text.to_owned());
        let host = |text: &str| AltName::host(text).unwrap();
        for (permitted, excluded, names, good) in [
            // What no constraint speaks of is free.
            ("dns:rope.example", "", vec![uri("urn:dev:org:32473-wv-1")], true),
            ("ip:10.0.0.0/8", "", vec![host("10.1.2.3"), host("rope.example")], true),
            ("ip:10.0.0.0/8", "", vec![host("11.1.2.3")], false),
            ("ip:10.0.0.0/8", "", vec![host("fd00::1")], false),
            ("", "ip:10.9.0.0/16", vec![host("10.9.1.1")], false),
            ("", "ip:10.9.0.0/16", vec![host("10.8.1.1")], true),
            // Every name of a form must lie within, not only one.
            ("dns:rope.example", "", vec![host("a.rope.example"), host("rope.example.org")], false),
            // A URI without a host cannot be judged, so it is refused wherever URIs are constrained.
            ("uri:.rope.example", "", vec![uri("urn:dev:org:32473-wv-1")], false),
            ("", "uri:.rope.example", vec![uri("urn:dev:org:32473-wv-1")], false),
            ("uri:.rope.example", "", vec![uri("https://a.rope.example/x")], true),
            ("uri:.rope.example", "", vec![uri("https://rope.example/x")], false),
        ] {
            let bases = |text: &str| text.split_whitespace().map(|base| base.parse().unwrap()).collect();
            let constraints = Constraints { permitted: bases(permitted), excluded: bases(excluded) };
            let found = constraints.check(&certified(&names));
            assert_eq!(found.is_ok(), good, "{permitted} {excluded} {names:?}: {found:?}");
        }
    }

    #[test]
    fn directory_names_are_compared_without_case_and_from_their_beginning() {
        let name = |organization: &str| {
            let subject =
                crate::certificate::Subject::new([(crate::certificate::Attribute::Organization, organization)]);
            Base::Directory(Name::from_der(subject.der()).unwrap())
        };
        for (organization, good) in [("Quillfeather", true), ("  quillFEATHER ", true), ("Quill", false)] {
            let constraints = Constraints { permitted: vec![name(organization)], excluded: Vec::new() };
            assert_eq!(constraints.check(&certified(&[])).is_ok(), good, "{organization}");
            let constraints = Constraints { permitted: Vec::new(), excluded: vec![name(organization)] };
            assert_eq!(constraints.check(&certified(&[])).is_err(), good, "{organization}");
            assert_eq!(Constraints::from_der(&constraints.to_der()).unwrap(), constraints);
        }
    }

    #[test]
    fn what_cannot_be_compared_is_taken_to_be_excluded() {
        let dns = |text: &str| GeneralName::DnsName(der::asn1::Ia5String::new(text).unwrap());
        let uri = |text: &str| GeneralName::UniformResourceIdentifier(der::asn1::Ia5String::new(text).unwrap());
        let excluded = |base: &str| Constraints { permitted: Vec::new(), excluded: vec![base.parse().unwrap()] };
        for (base, name, good) in [
            ("dns:a.bad.example", dns("*.bad.example"), false),
            ("dns:bad.example", dns("*.bad.example"), false),
            ("dns:a.bad.example", dns("*.good.example"), true),
            ("dns:bad.example", dns("bad.example."), false),
            ("dns:bad.example", dns("b%61d.example"), false),
            ("uri:bad.example", uri("https://b%61d.example/"), false),
            ("uri:bad.example", uri("https://bad.example\\@good.example/"), false),
            ("uri:bad.example", uri("https://bad.example./"), false),
            ("uri:bad.example", uri("https://good.example/a%20b"), true),
        ] {
            assert_eq!(excluded(base).check_name(&name).is_ok(), good, "{base} {name:?}");
        }
        // The same organization in UTF-16, which is not compared.
        let subject = crate::certificate::Subject::new([(crate::certificate::Attribute::Organization, "Bad")]);
        let plain = Name::from_der(subject.der()).unwrap();
        let mut der_bytes = subject.der().to_vec();
        let at = der_bytes.windows(3).position(|window| window == b"Bad").unwrap();
        der_bytes[at - 2] = 0x14;
        let odd = GeneralName::DirectoryName(Name::from_der(&der_bytes).unwrap());
        let constraints = Constraints { permitted: Vec::new(), excluded: vec![Base::Directory(plain.clone())] };
        assert!(constraints.check_name(&odd).is_err());
        let constraints = Constraints { permitted: vec![Base::Directory(plain)], excluded: Vec::new() };
        assert!(constraints.check_name(&odd).is_err(), "nor is it permitted");
    }

    #[test]
    fn a_form_that_is_not_processed_forbids_its_names() {
        let constraints =
            Constraints { permitted: vec![Base::Unprocessed(NameForm::RegisteredId)], excluded: Vec::new() };
        assert_eq!(constraints.check(&certified(&[])), Ok(()));
        let oid = GeneralName::RegisteredId(EMAIL_ADDRESS);
        assert!(constraints.check_name(&oid).is_err());
        assert!(Constraints::from_der(&crate::asn1::sequence(&[])).is_err(), "an empty extension says nothing");
    }

    #[test]
    fn bases_read_and_print_alike() {
        for text in ["dns:rope.example", "uri:.rope.example", "email:rope.example", "ip:10.1.0.0/16", "ip:fd00::/8"] {
            let base: Base = text.parse().unwrap();
            assert_eq!(base.to_string(), text);
            let constraints = Constraints { permitted: vec![base.clone()], excluded: vec![base] };
            assert_eq!(Constraints::from_der(&constraints.to_der()).unwrap(), constraints);
        }
        assert_eq!("ip:10.1.2.3/16".parse::<Base>().unwrap().to_string(), "ip:10.1.0.0/16");
        for bad in ["rope.example", "dns:", "dns:a b", "ip:10.0.0.0", "ip:10.0.0.0/33", "dir:x"] {
            assert!(bad.parse::<Base>().is_err(), "{bad}");
        }
    }
}
