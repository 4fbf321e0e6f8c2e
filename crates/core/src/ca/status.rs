//! What the status computes: how much of a life is left, what is due, whether a file is what was issued, and the
//! numbers that monitoring systems scrape.

use crate::ca::renew::is_due;
use crate::ca::report::{Authority, Issued};
use crate::pki::cert::Certificate;
use crate::pki::format::pem;
use crate::vocabulary::timestamp::Timestamp;
use std::fmt::Write;

/// Of a hundred parts of a certificate's life so many are left: 100 before it begins, 0 after its end.
///
/// ```
/// use tamga_core::ca::status::part_left;
/// use tamga_core::sample::leaf;
///
/// let (certificate, _) = leaf(&["charts.saltmarsh.test"])?;
/// assert_eq!(part_left(&certificate, certificate.not_before), 100);
/// assert_eq!(part_left(&certificate, certificate.not_after), 0);
/// # Ok::<(), tamga_core::error::Error>(())
/// ```
pub fn part_left(c: &Certificate, now: Timestamp) -> u8 {
    part_of(c.not_before, c.not_after, now)
}

/// The same of a life by its two ends.
pub fn part_of(not_before: Timestamp, not_after: Timestamp, now: Timestamp) -> u8 {
    let whole = (not_after.unix() - not_before.unix()).max(1);
    let left = (not_after.unix() - now.unix()).clamp(0, whole);
    u8::try_from(left.saturating_mul(100) / whole).unwrap_or(100)
}

/// A file that should hold a certificate.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum OnDisk {
    /// It begins with the certificate that was issued.
    AsIssued,
    /// It is not there or cannot be read.
    Missing,
    /// It begins with another certificate: its subject.
    Other(String),
    /// It holds no certificate.
    Unreadable,
}

/// Compares what lies in a file with what was issued. None: the file could not be read.
pub fn on_disk(issued: &Certificate, file: Option<&[u8]>) -> OnDisk {
    let Some(bytes) = file else { return OnDisk::Missing };
    match pem::certificates(bytes).first() {
        Some(der) if der == issued.der() => OnDisk::AsIssued,
        Some(der) => match Certificate::read(der, "the file") {
            Ok(c) => OnDisk::Other(c.subject_words()),
            Err(_) => OnDisk::Unreadable,
        },
        None => OnDisk::Unreadable,
    }
}

/// Every end as a gauge, in the open text format of metrics (OpenMetrics 1.0): seconds since 1970, labelled by what ends.
///
/// Only certificates in use and authorities that still sign are among them. A label is quoted as the format wants it.
pub fn metrics(authorities: &[Authority], in_use: &[Issued], now: Timestamp) -> String {
    let mut out = String::from(
        "# TYPE tamga_certificate_end_seconds gauge\n# UNIT tamga_certificate_end_seconds seconds\n\
         # HELP tamga_certificate_end_seconds When the certificate ends, in seconds since 1970.\n",
    );
    for i in in_use {
        let _ = writeln!(
            out,
            "tamga_certificate_end_seconds{{label=\"{}\",serial=\"{}\"}} {}",
            quoted(&i.label),
            i.certificate.serial,
            i.certificate.not_after.unix()
        );
    }
    out.push_str(
        "# TYPE tamga_authority_end_seconds gauge\n# UNIT tamga_authority_end_seconds seconds\n\
         # HELP tamga_authority_end_seconds When the authority's certificate ends, in seconds since 1970.\n",
    );
    for a in authorities.iter().filter(|a| !a.retired) {
        let end = a.certificate.not_after.unix();
        let _ = writeln!(out, "tamga_authority_end_seconds{{label=\"{}\"}} {end}", quoted(&a.label));
    }
    let due = in_use.iter().filter(|i| is_due(&i.certificate, None, now)).count();
    let _ = write!(
        out,
        "# TYPE tamga_certificates_due gauge\n# HELP tamga_certificates_due Certificates of whose life a third or less is left.\n\
         tamga_certificates_due {due}\n# EOF\n"
    );
    out
}

fn quoted(label: &str) -> String {
    label.replace('\\', "\\\\").replace('"', "\\\"").replace('\n', "\\n")
}
