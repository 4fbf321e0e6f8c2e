//! curl with OpenSSL. Measured with curl 7.88 and OpenSSL 3.0 on Debian 12.

/// A line of curl's as it is shown and compared: without the version of its library.
pub fn said(line: &str) -> String {
    match line.split_once("OpenSSL/") {
        // `(35) OpenSSL/3.0.19: error:…`, `(56) OpenSSL SSL_read: OpenSSL/3.0.19: error:…`
        Some((before, rest)) => {
            let number = before.split(' ').next().unwrap_or_default();
            format!("{number} {}", rest.split_once(": ").map_or(rest, |(_, words)| words))
        }
        None => line.to_owned(),
    }
}
