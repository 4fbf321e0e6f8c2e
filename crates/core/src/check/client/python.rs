//! Python's ssl module with OpenSSL. Measured with Python 3.11 and OpenSSL 3.0 on Debian 12.

/// An error of Python's as it is shown and compared: without the line of its own source.
pub fn said(words: &str) -> String {
    words.split(" (_ssl.c:").next().unwrap_or(words).to_owned()
}
