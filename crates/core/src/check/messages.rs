//! What the texts mean that TLS libraries write into logs and onto screens. The recipes hold what servers write besides.
//!
//! A text is compared in lower case, with `_` and `-` as blanks, so that a symbol and its sentence are the same text.

use crate::finding::Code;

crate::words! {
    /// A TLS library, or a program that has texts of its own.
    pub enum Library: "library" {
        /// OpenSSL and LibreSSL: curl, nginx, Apache, Python, Ruby, PHP, PostgreSQL.
        OpenSsl = "openssl",
        /// BoringSSL and the network stack of Chromium.
        Chromium = "chromium",
        /// NSS: Firefox, Thunderbird.
        Nss = "nss",
        /// GnuTLS: wget, git on Debian.
        Gnutls = "gnutls",
        /// Node.js.
        Node = "node",
        /// The JVM's own (JSSE).
        Java = "java",
        /// Go's crypto/tls and crypto/x509.
        Go = "go",
        /// rustls and webpki.
        Rustls = "rustls",
        /// Windows (SChannel) and .NET.
        Schannel = "schannel",
        /// macOS and iOS.
        SecureTransport = "secure-transport",
        /// The operating system, in the words of any runtime.
        System = "system",
    }
}

/// A text that was recognized.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Message {
    /// Who writes it.
    pub library: Library,
    /// The text, as it is compared.
    pub text: &'static str,
    /// The finding that it comes to.
    pub code: Code,
    /// What it means, in a sentence; None where the finding's own summary says it.
    pub says: Option<&'static str>,
}

/// The table: library, text, finding, and what it means, one row a line.
fn rows() -> impl Iterator<Item = Message> {
    include_str!("messages.tsv").lines().filter(|l| !l.starts_with('#')).filter_map(|line| {
        let mut cells = line.split('\t');
        let (library, text, code) = (cells.next()?, cells.next()?, cells.next()?);
        let (library, code) = (library.parse().ok()?, code.parse().ok()?);
        Some(Message { library, text, code, says: cells.next() })
    })
}

/// A line as it is compared: lower case, `_` and `-` as blanks, blanks once.
fn plain(text: &str) -> String {
    // A line of a log is no novel: what is longer is cut.
    let lower: String = text.chars().take(8192).flat_map(char::to_lowercase).collect();
    lower.replace(['_', '-', '’'], " ").split_whitespace().collect::<Vec<_>>().join(" ")
}

/// What libraries mean by a line: the longest text that is in it; a shorter one only where it says something else about the same
/// line, at another place of it.
///
/// ```
/// use tamga_core::check::messages::{Library, recognize};
/// use tamga_core::finding::Code;
///
/// let found = recognize("error:0A000418:SSL routines::tlsv1 alert unknown ca");
/// assert_eq!((found[0].library, found[0].code), (Library::OpenSsl, Code::IssuerUnknown));
/// assert!(recognize("all is well with the tide").is_empty());
/// ```
pub fn recognize(line: &str) -> Vec<Message> {
    let line = plain(line);
    let mut found: Vec<(usize, Message)> = Vec::new();
    found.extend(rows().filter_map(|m| Some((line.find(m.text)?, m))));
    found.sort_by_key(|(at, m)| (std::cmp::Reverse(m.text.len()), *at));
    let mut out: Vec<(usize, Message)> = Vec::new();
    for (at, m) in found {
        let is_inside = |(from, other): &(usize, Message)| at < from + other.text.len() && *from < at + m.text.len();
        if !out.iter().any(|o| is_inside(o) || o.1.code == m.code) {
            out.push((at, m));
        }
    }
    if let Some(m) = unreadable_key(&line).filter(|m| !out.iter().any(|o| o.1.code == m.code)) {
        out.push((0, m));
    }
    // "Verify failed" only announces the reason.
    let is_general = |m: &Message| ["certificate verify failed", "remote certificate is invalid"].contains(&m.text);
    let is_alone = out.len() == 1;
    out.into_iter().map(|(_, m)| m).filter(|m| is_alone || !is_general(m)).collect()
}

/// What a system says when an account may not open a file: C's own words, those of runtimes, and translations of `strerror(EACCES)`.
const DENIED: [&str; 12] = [
    "permission denied",
    "eacces",
    "access is denied",
    "accessdeniedexception",
    "unauthorizedaccessexception",
    "keine berechtigung",
    "permission non accordée",
    "permiso denegado",
    "permesso negato",
    "permissão negada",
    "отказано в доступе",
    "erişim engellendi",
];

/// How the names of files with a key are written, as a line is compared.
const KEY_FILES: [&str; 8] = ["private key.pem", ".key", "combined.pem", ".p12", ".pfx", ".jks", "keystore", "key.pem"];

/// A service that may not open its key says so in the words of its runtime and the system's language: both are in one line.
fn unreadable_key(line: &str) -> Option<Message> {
    let text = DENIED.into_iter().find(|d| line.contains(d))?;
    // `.key` is an ending, `.keyring` another one.
    let ends = |at: usize| !line[at..].starts_with(char::is_alphanumeric);
    let is_named = |file: &str| line.match_indices(file).any(|(at, file)| ends(at + file.len()));
    KEY_FILES.into_iter().any(is_named).then_some(Message {
        library: Library::System,
        text,
        code: Code::KeyUnreadableByService,
        says: None,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::finding::Code::*;
    use std::collections::HashSet;

    #[test]
    fn every_text_is_recognized_by_itself_and_is_there_once() {
        let mut seen = HashSet::new();
        let lines = include_str!("messages.tsv").lines().filter(|l| !l.starts_with('#')).count();
        assert_eq!(rows().count(), lines, "a line of the table has an unknown library or finding");
        for m in rows() {
            assert_eq!(m.text, plain(m.text), "a text is written as it is compared");
            assert!(seen.insert(m.text), "{} is there twice", m.text);
            assert_eq!(recognize(m.text)[0].code, m.code, "{}: {}", m.library, m.text);
        }
    }

    #[test]
    fn a_key_that_may_not_be_opened_is_recognized_in_any_words() {
        for line in [
            "PermissionError: [Errno 13] Permission denied: '/etc/tide/private-key.pem'",
            "Error: EACCES: permission denied, open '/etc/tide/private-key.pem'",
            "open /etc/tide/private-key.pem: permission denied",
            "java.io.FileNotFoundException: /etc/tide/charts.p12 (Permission denied)",
            "java.nio.file.AccessDeniedException: /etc/tide/charts.jks",
            "System.UnauthorizedAccessException: Access to the path 'C:\\tide\\charts.pfx' is denied.",
            "/etc/tide/private-key.pem: Keine Berechtigung",
            "impossible d'ouvrir « /etc/tide/private-key.pem » : Permission non accordée",
        ] {
            assert_eq!(recognize(line).first().map(|m| m.code), Some(KeyUnreadableByService), "{line}");
        }
        // Another file is another matter.
        assert!(recognize("open /var/log/tide.log: permission denied").is_empty());
        assert!(recognize("open /usr/share/tide.keyring: permission denied").is_empty());
        assert!(recognize("read /etc/tide/private-key.pem").is_empty());
    }

    #[test]
    fn the_reason_counts_and_not_what_announces_it() {
        let one = |line: &str| recognize(line).iter().map(|m| m.code).collect::<Vec<_>>();
        assert_eq!(one("certificate verify failed: self-signed certificate in certificate chain"), [IssuerUnknown]);
        assert_eq!(one("certificate verify failed: certificate has expired"), [Expired]);
        assert_eq!(one("SSL certificate problem: self signed certificate"), [SelfSignedLeaf]);
        assert_eq!(one("WRONG_VERSION_NUMBER"), [PlainHttpOnTlsPort]);
        assert_eq!(one("ERR_SSL_PROTOCOL_ERROR"), [PlainHttpOnTlsPort]);
        assert_eq!(one("x509: certificate signed by unknown authority"), [IssuerUnknown]);
    }
}
