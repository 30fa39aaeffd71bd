//! How findings are told.

use tidy_warden_core::finding::{Finding, Severity};

/// How many findings are of a severity.
pub(super) fn count(findings: &[Finding], severity: Severity) -> usize {
    findings.iter().filter(|finding| finding.severity == severity).count()
}

/// A finding with its place, for people.
pub(super) fn finding_text(finding: &Finding) -> String {
    let severity = if finding.severity == Severity::Error { "error" } else { "warning" };
    let why = finding.why().map_or_else(String::new, |why| format!("    why: {why}\n"));
    match &finding.place {
        Some(place) => format!(
            "{place}: {severity} {}: {}\n{}\n{why}    fix: {}\n",
            finding.id,
            finding.problem,
            place.excerpt(),
            finding.mend
        ),
        None => format!("{severity} {}: {}\n{why}    fix: {}\n", finding.id, finding.problem, finding.mend),
    }
}
