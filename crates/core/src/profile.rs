//! Profiles: what the certificates of a kind say, as templates in the settings that are filled for each device.

use std::fmt;
use std::sync::LazyLock;

use const_oid::ObjectIdentifier;

use crate::certificate::{AltName, Attribute, Subject, device_name, is_urn_identifier, mac_urn};
use crate::device::DeviceRecord;
use crate::fact::FactName;
use crate::id::LabelName;

/// Text with `{variable}` parts.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TextTemplate(Vec<Part>);

#[derive(Debug, Clone, PartialEq, Eq)]
enum Part {
    Fixed(String),
    Ward,
    Device,
    Kind,
    Owner,
    Gateway,
    Fact(FactName),
    /// A label, or a fact of the ward's own.
    Named(LabelName),
}

/// A template that cannot be read, in words.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{0}")]
pub struct BadTemplate(pub String);

/// Something that a template needs and a device does not have.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum ProfileError {
    /// A variable without a value.
    #[error("`{name}` is not known of it, and its kind's {part} needs it")]
    Missing {
        /// The variable.
        name: String,
        /// `subject` or `names`.
        part: &'static str,
    },
    /// A value that the attribute or the form of name cannot have.
    #[error("{value:?} cannot stand in {place}")]
    Value {
        /// The value.
        value: String,
        /// The attribute or form of name.
        place: String,
    },
}

impl TextTemplate {
    /// Reads a template; a brace that is meant as itself cannot be written.
    ///
    /// # Errors
    /// A brace without its partner, or a word in braces that names nothing.
    pub fn parse(text: &str) -> Result<Self, BadTemplate> {
        let bad = |why: &str| BadTemplate(format!("{why} in {text:?}"));
        let mut parts = Vec::new();
        let mut rest = text;
        while !rest.is_empty() {
            let (fixed, variable) = match rest.split_once('{') {
                None => (std::mem::take(&mut rest), None),
                Some((fixed, after)) => {
                    let (word, after) = after.split_once('}').ok_or_else(|| bad("`{` without `}`"))?;
                    rest = after;
                    (fixed, Some(word))
                }
            };
            if fixed.contains('}') {
                return Err(bad("`}` without `{`"));
            }
            if !fixed.is_empty() {
                parts.push(Part::Fixed(fixed.to_owned()));
            }
            if let Some(word) = variable {
                parts.push(Part::parse(word).ok_or_else(|| bad(&format!("`{{{word}}}` names nothing")))?);
            }
        }
        Ok(Self(parts))
    }

    fn fill(&self, ward: &str, device: &DeviceRecord, part: &'static str) -> Result<String, ProfileError> {
        let mut out = String::new();
        for each in &self.0 {
            let value = each.value(ward, device);
            out.push_str(value.ok_or_else(|| ProfileError::Missing { name: each.to_string(), part })?);
        }
        Ok(out)
    }

    /// The text, if it is the same for every device.
    #[must_use]
    pub fn fixed(&self) -> Option<&str> {
        match self.0.as_slice() {
            [Part::Fixed(text)] => Some(text),
            _ => None,
        }
    }
}

impl Part {
    fn parse(word: &str) -> Option<Self> {
        Some(match word {
            "ward" => Self::Ward,
            "device" => Self::Device,
            "kind" => Self::Kind,
            "owner" => Self::Owner,
            "gateway" => Self::Gateway,
            word => match FactName::built_in(word) {
                Some(fact) => Self::Fact(fact),
                None => Self::Named(word.parse().ok()?),
            },
        })
    }

    fn value<'d>(&'d self, ward: &'d str, device: &'d DeviceRecord) -> Option<&'d str> {
        match self {
            Self::Fixed(text) => Some(text),
            Self::Ward => Some(ward),
            Self::Device => Some(device.id.as_str()),
            Self::Kind => Some(device.kind.as_str()),
            Self::Owner => device.owner.as_ref().map(|owner| owner.as_str()),
            Self::Gateway => device.gateway.as_ref().map(|gateway| gateway.as_str()),
            Self::Fact(name) => device.facts.get(name).map(|fact| fact.value()),
            Self::Named(name) => device.named(name),
        }
    }
}

impl fmt::Display for Part {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Fixed(text) => f.write_str(text),
            Self::Ward => f.write_str("ward"),
            Self::Device => f.write_str("device"),
            Self::Kind => f.write_str("kind"),
            Self::Owner => f.write_str("owner"),
            Self::Gateway => f.write_str("gateway"),
            Self::Fact(name) => write!(f, "{name}"),
            Self::Named(name) => write!(f, "{name}"),
        }
    }
}

/// One alternative name of a profile. The `urn:dev:` forms are those of RFC 9039 section 4.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum NameTemplate {
    /// `urn:dev:org`: enterprise number and device id.
    Org,
    /// `urn:dev:os`: enterprise number and the fact `serial`.
    Os,
    /// `urn:dev:ops`: enterprise number, kind as the product, and the fact `serial`.
    Ops,
    /// `urn:dev:mac` from the fact `mac`.
    Mac,
    /// `urn:dev:mac` from the fact `eui64`.
    Eui64,
    /// `dns:` and a template.
    Dns(TextTemplate),
    /// `hardware-module`: the kind's `hardware_type` and the fact `serial` (RFC 4108 section 5).
    HardwareModule,
}

impl NameTemplate {
    /// Reads a word of the settings' `names`.
    ///
    /// # Errors
    /// It is none.
    pub fn parse(text: &str) -> Result<Self, BadTemplate> {
        Ok(match text {
            "urn:dev:org" => Self::Org,
            "urn:dev:os" => Self::Os,
            "urn:dev:ops" => Self::Ops,
            "urn:dev:mac" => Self::Mac,
            "urn:dev:eui64" => Self::Eui64,
            "hardware-module" => Self::HardwareModule,
            _ => match text.strip_prefix("dns:") {
                Some(name) => Self::Dns(TextTemplate::parse(name)?),
                None => return Err(BadTemplate(format!("{text:?} is not a form of name"))),
            },
        })
    }

    /// Whether the form needs the ward's enterprise number.
    #[must_use]
    pub fn needs_enterprise_number(&self) -> bool {
        matches!(self, Self::Org | Self::Os | Self::Ops)
    }
}

/// What the certificates of a kind say of their device.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Profile {
    /// `subject`: attributes and their values, in order.
    pub subject: Vec<(Attribute, TextTemplate)>,
    /// `names`; if empty, the name is `urn:dev:org`, else `urn:dev:mac`, else made up.
    pub names: Vec<NameTemplate>,
    /// `hardware_type`: hwType of a hardwareModuleName.
    pub hardware_type: Option<ObjectIdentifier>,
}

static DEFAULT_SUBJECT: LazyLock<Vec<(Attribute, TextTemplate)>> = LazyLock::new(|| {
    vec![
        (Attribute::Organization, TextTemplate(vec![Part::Ward])),
        (Attribute::CommonName, TextTemplate(vec![Part::Device])),
    ]
});

impl Default for Profile {
    fn default() -> Self {
        Self { subject: DEFAULT_SUBJECT.clone(), names: Vec::new(), hardware_type: None }
    }
}

/// The ward that a profile is filled in.
#[derive(Debug, Clone, Copy)]
pub struct InWard<'a> {
    /// Its name, for people.
    pub name: &'a str,
    /// Its URN.
    pub urn: &'a str,
    /// Its enterprise number.
    pub enterprise_number: Option<u32>,
}

/// A profile filled for one device.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Filled {
    /// The subject.
    pub subject: Subject,
    /// The alternative names.
    pub names: Vec<AltName>,
    /// The name that had to be made up, if one had to.
    pub made_up: Option<String>,
}

impl Profile {
    /// Fills the profile for a device.
    ///
    /// # Errors
    /// The device lacks something, or has a value that cannot stand where it should.
    pub fn fill(&self, ward: InWard<'_>, device: &DeviceRecord) -> Result<Filled, ProfileError> {
        let mut attributes = Vec::with_capacity(self.subject.len());
        for (attribute, template) in &self.subject {
            let value = template.fill(ward.name, device, "subject")?;
            if !attribute.takes(&value) {
                return Err(ProfileError::Value { value, place: format!("the subject's {}", attribute.as_str()) });
            }
            attributes.push((*attribute, value));
        }
        let subject = Subject::new(attributes.iter().map(|(attribute, value)| (*attribute, value.as_str())));
        if self.names.is_empty() {
            let name = device_name(ward.urn, ward.enterprise_number, &device.id, device.facts.values());
            let made_up = name.made_up.then(|| name.urn.clone());
            return Ok(Filled { subject, names: vec![AltName::Uri(name.urn)], made_up });
        }
        let names = self.names.iter().map(|name| self.name(name, ward, device)).collect::<Result<_, _>>()?;
        Ok(Filled { subject, names, made_up: None })
    }

    fn name(&self, template: &NameTemplate, ward: InWard<'_>, device: &DeviceRecord) -> Result<AltName, ProfileError> {
        let missing = |name: &str| ProfileError::Missing { name: name.to_owned(), part: "names" };
        let fact = |name: FactName| device.facts.get(&name).ok_or_else(|| missing(name.as_str()));
        let number = || ward.enterprise_number.ok_or_else(|| missing("enterprise_number"));
        let identifier = |text: &str, form: &str| match is_urn_identifier(text) {
            true => Ok(text.to_owned()),
            false => Err(ProfileError::Value { value: text.to_owned(), place: format!("a {form} name") }),
        };
        Ok(match template {
            NameTemplate::Org => AltName::Uri(format!("urn:dev:org:{}-{}", number()?, device.id)),
            NameTemplate::Os => {
                let serial = identifier(fact(FactName::Serial)?.value(), "urn:dev:os")?;
                AltName::Uri(format!("urn:dev:os:{}-{serial}", number()?))
            }
            NameTemplate::Ops => {
                let serial = identifier(fact(FactName::Serial)?.value(), "urn:dev:ops")?;
                // A product has no dash (section 3.2), or it could not be told from the serial.
                let product = device.kind.as_str().replace('-', ".");
                AltName::Uri(format!("urn:dev:ops:{}-{product}-{serial}", number()?))
            }
            NameTemplate::Mac => AltName::Uri(mac_urn(fact(FactName::Mac)?.value())),
            NameTemplate::Eui64 => AltName::Uri(mac_urn(fact(FactName::Eui64)?.value())),
            NameTemplate::Dns(template) => {
                let name = template.fill(ward.name, device, "names")?;
                match AltName::host(&name) {
                    Some(AltName::Dns(name)) => AltName::Dns(name),
                    _ => return Err(ProfileError::Value { value: name, place: "a DNS name".to_owned() }),
                }
            }
            NameTemplate::HardwareModule => AltName::HardwareModule {
                hardware_type: self.hardware_type.ok_or_else(|| missing("hardware_type"))?,
                serial: fact(FactName::Serial)?.value().to_owned(),
            },
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fact::Fact;
    use crate::time::UnixTime;

    fn device() -> DeviceRecord {
        let mut device = DeviceRecord::new("wv-1".parse().unwrap(), "wind-vane".parse().unwrap(), UnixTime(0));
        for (name, value) in
            [(FactName::Serial, "QF-1"), (FactName::Mac, "00:24:be:80:4f:f1"), (FactName::Eui64, "0024beffff804ff1")]
        {
            device.facts.insert(name.clone(), Fact::new(name, value).unwrap());
        }
        device.labels.insert("site".parse().unwrap(), "ossel".parse().unwrap());
        device
    }

    fn filled(subject: &[(Attribute, &str)], names: &[&str]) -> Result<Filled, ProfileError> {
        let profile = Profile {
            subject: subject.iter().map(|(each, text)| (*each, TextTemplate::parse(text).unwrap())).collect(),
            names: names.iter().map(|name| NameTemplate::parse(name).unwrap()).collect(),
            hardware_type: Some(ObjectIdentifier::new_unwrap("1.3.6.1.4.1.32473.1")),
        };
        profile.fill(InWard { name: "Quillfeather", urn: "urn:uuid:1", enterprise_number: Some(32473) }, &device())
    }

    #[test]
    fn every_form_of_name_is_filled() {
        let names =
            ["urn:dev:org", "urn:dev:os", "urn:dev:ops", "urn:dev:mac", "urn:dev:eui64", "dns:{device}.{site}.example"];
        let found = filled(&[(Attribute::CommonName, "{device} at {site}")], &names).unwrap();
        let texts: Vec<String> = found
            .names
            .iter()
            .map(|name| match name {
                AltName::Uri(text) | AltName::Dns(text) => text.clone(),
                other => format!("{other:?}"),
            })
            .collect();
        assert_eq!(
            texts,
            [
                "urn:dev:org:32473-wv-1",
                "urn:dev:os:32473-QF-1",
                "urn:dev:ops:32473-wind.vane-QF-1",
                "urn:dev:mac:0024beffff804ff1",
                "urn:dev:mac:0024beffff804ff1",
                "wv-1.ossel.example"
            ]
        );
        assert_eq!(found.subject, Subject::new([(Attribute::CommonName, "wv-1 at ossel")]));
        let module = filled(&[], &["hardware-module"]).unwrap();
        assert!(matches!(&module.names[..], [AltName::HardwareModule { serial, .. }] if serial == "QF-1"));
    }

    #[test]
    fn what_is_missing_or_does_not_fit_is_told() {
        let error = filled(&[(Attribute::CommonName, "{owner}")], &[]).unwrap_err();
        assert_eq!(error.to_string(), "`owner` is not known of it, and its kind's subject needs it");
        let error = filled(&[(Attribute::Country, "{site}")], &[]).unwrap_err();
        assert_eq!(error.to_string(), "\"ossel\" cannot stand in the subject's C");
        let error = filled(&[], &["dns:{mac}"]).unwrap_err();
        assert!(error.to_string().contains("a DNS name"), "{error}");
        for bad in ["{device", "device}", "{Device}", "{}"] {
            assert!(TextTemplate::parse(bad).is_err(), "{bad}");
        }
        assert!(NameTemplate::parse("urn:dev:none").is_err());
    }

    #[test]
    fn without_names_the_ward_chooses() {
        let found = filled(&[], &[]).unwrap();
        assert_eq!(found.names, [AltName::Uri("urn:dev:org:32473-wv-1".to_owned())]);
        assert_eq!(found.made_up, None);
    }
}
