//! Which clients a machine has, asked through a look at it.

use super::Client;
use crate::plan::ports::{Commands, Look};
use crate::plan::step::Invocation;
use crate::vocabulary::client_id::Roots;
use std::path::PathBuf;

/// What of git speaks HTTPS, below the directory that its program's is in.
pub const HELPERS: [&str; 2] = ["lib/git-core/git-remote-https", "libexec/git-core/git-remote-https"];

/// Where the program of a client is.
pub fn program(client: Client, look: &dyn Commands) -> Option<PathBuf> {
    client.programs().iter().find_map(|name| look.program(name))
}

/// True if another machine has a client whose store is the machine's, or a JVM's. What a person or a variable brings is not looked at there.
pub fn is_there(client: Client, look: &dyn Look) -> bool {
    let is_of_machine = matches!(client.roots(), Roots::Machine | Roots::Jvm);
    match (client, program(client, look)) {
        (Client::Standard, _) => true,
        // Packages of a language's own: finding them takes longer than judging.
        (Client::Bun | Client::Grpc, _) | (_, None) => false,
        (Client::Gnutls, Some(_)) => wget_has_gnutls(look),
        (Client::Git, Some(program)) => {
            let prefix = program.ancestors().nth(2).map(PathBuf::from).unwrap_or_default();
            HELPERS.iter().any(|h| look.read(&prefix.join(h)).is_some_and(|octets| names_gnutls(&octets)))
        }
        _ => is_of_machine,
    }
}

/// True if a helper of git is made with GnuTLS, as Debian makes it: with another library it judges as another client does.
pub fn names_gnutls(helper: &[u8]) -> bool {
    const LIBRARY: &[u8] = b"libcurl-gnutls.so.";
    helper.windows(LIBRARY.len()).any(|w| w == LIBRARY)
}

/// True if wget is made with GnuTLS: others have OpenSSL, or their own.
pub fn wget_has_gnutls(look: &dyn Commands) -> bool {
    let mut asked = Invocation::new("wget", ["--version"]);
    asked.limit_seconds = 10;
    matches!(look.ask(&asked, false), Some(Ok(said)) if String::from_utf8_lossy(&said).contains("ssl/gnutls"))
}
