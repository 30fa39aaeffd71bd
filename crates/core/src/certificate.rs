//! X.509 certificates (RFC 5280): issuing, reading, and judging chains.

mod chain;
mod issue;
mod read;
mod serial;

pub use chain::{ChainError, Purpose, judge};
pub use issue::{DeviceName, IssueError, Issued, Issuer, Subject, Template, Usage, device_names, self_signed};
pub use read::{BadCertificate, Certificate, Fingerprint};
pub use serial::SerialNumber;

#[cfg(test)]
pub(crate) fn tests_support_certificate() -> Certificate {
    issue::tests::ward().root
}

#[cfg(test)]
pub(crate) fn tests_support_ward() -> issue::tests::Ward {
    issue::tests::ward()
}
