//! X.509 certificates (RFC 5280): issuing, reading, and judging chains.

mod chain;
mod constraint;
mod issue;
mod name;
mod read;
mod serial;

pub use chain::{ChainError, GoodSignatures, Purpose, judge, judge_with};
pub use constraint::{BadBase, Base, Constraints, NameRefused};
pub use issue::{Form, Fresh, IssueError, Issued, Issuer, Places, Template, Usage, renewed_server, self_signed};
pub use name::{AltName, Attribute, DeviceName, Subject, device_name};
pub(crate) use name::{is_urn_identifier, mac_urn};
pub use read::{BadCertificate, Certificate, Fingerprint};
pub(crate) use read::{stated_fact, stated_own};
pub use serial::SerialNumber;

#[cfg(test)]
pub(crate) use issue::tests as tests_support;

#[cfg(test)]
pub(crate) fn tests_support_certificate() -> Certificate {
    issue::tests::ward().root
}

#[cfg(test)]
pub(crate) fn tests_support_ward() -> issue::tests::Ward {
    issue::tests::ward()
}
