//! Which clients another machine has: asked through a look at it, and run nowhere.

use super::Client;
use crate::plan::ports::Look;
use crate::plan::step::Invocation;

/// What of git speaks HTTPS.
const HELPERS: [&str; 2] = ["/usr/lib/git-core/git-remote-https", "/usr/libexec/git-core/git-remote-https"];

/// True if a client whose store is the machine's, or a JVM's, is installed there.
pub fn is_there(client: Client, look: &dyn Look) -> bool {
    let has = |program: &str| look.program(program).is_some();
    match client {
        Client::Standard => true,
        Client::Curl => has("curl"),
        Client::Python => has("python3"),
        Client::Java => has("java"),
        Client::Go => has("go"),
        Client::Ruby => has("ruby"),
        Client::Php => has("php"),
        Client::Gnutls => has("wget") && has_gnutls(look),
        Client::Git => has("git") && HELPERS.iter().any(|h| is_with_gnutls(look, h)),
        // The others read what is a person's, or what a variable names.
        _ => false,
    }
}

/// True if a helper of git is made with GnuTLS, as Debian makes it.
fn is_with_gnutls(look: &dyn Look, helper: &str) -> bool {
    const LIBRARY: &[u8] = b"libcurl-gnutls.so.";
    look.read(helper.as_ref()).is_some_and(|octets| octets.windows(LIBRARY.len()).any(|w| w == LIBRARY))
}

/// True if wget is made with GnuTLS: others have OpenSSL, or their own.
fn has_gnutls(look: &dyn Look) -> bool {
    let mut asked = Invocation::new("wget", ["--version"]);
    asked.limit_seconds = 10;
    matches!(look.ask(&asked, false), Some(Ok(said)) if String::from_utf8_lossy(&said).contains("ssl/gnutls"))
}
