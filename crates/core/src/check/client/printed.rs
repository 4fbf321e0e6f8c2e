//! What programs print, as it is shown and compared: without addresses, paths and moments, which differ from run to run.

/// Of Ruby's message (Net::HTTP, 3.1) what stands after the state.
pub fn ruby(message: &str) -> String {
    let words = message.rsplit_once("state=").map_or(message, |(_, rest)| rest.split_once(": ").map_or(rest, |r| r.1));
    words.trim().trim_start_matches("SSL_read: ").to_owned()
}

/// Of PHP's warnings (streams, 8.2) the one about the name, or the first of OpenSSL's.
pub fn php(warnings: &str) -> String {
    let own = ["Peer certificate CN=", "Peer certificate subjectAltName", "Unable to locate peer certificate CN"];
    let line = |l: &str| {
        let own = own.iter().find_map(|o| l.find(o));
        own.or_else(|| l.find("error:")).map(|at| l[at..].trim().to_owned())
    };
    warnings.lines().find_map(line).unwrap_or_else(|| warnings.trim().to_owned())
}

/// Of psql's message (libpq 15) what stands after the server.
pub fn psql(message: &str) -> String {
    let first = message.lines().find(|l| !l.trim().is_empty()).unwrap_or_default();
    first.split_once(" failed: ").map_or(first, |(_, rest)| rest).trim().to_owned()
}

/// Of git's message (2.39 with libcurl-gnutls 7.88) what stands after the address, without the files that it names.
pub fn git(message: &str) -> String {
    let line = message.lines().find(|l| l.starts_with("fatal: ")).unwrap_or_default();
    let words = line.split_once("': ").map_or(line, |(_, rest)| rest);
    let words = words.split(" CAfile: ").next().unwrap_or(words);
    // Its number says which of many ways of not being readable.
    let words = if words.starts_with("server cert verify failed: ") { "server cert verify failed" } else { words };
    match (words.find("subject name ("), words.find(") does not match")) {
        (Some(from), Some(to)) if from < to => format!("{}{}", &words[..from + 12], &words[to + 1..]),
        _ => words.trim().to_owned(),
    }
}

/// Of Deno's message (2.9) the kind of fault.
pub fn deno(message: &str) -> String {
    let words = message.split_once("invalid peer certificate: ").map_or(message, |(_, rest)| rest);
    for known in ["certificate expired", "certificate not valid yet", "certificate not valid for name"] {
        if words.starts_with(known) {
            return known.to_owned();
        }
    }
    let words = words.split(", allows").next().unwrap_or(words);
    words.split(" {").next().unwrap_or(words).trim().to_owned()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_program_is_understood() {
        let ruby_says = "SSL_connect returned=1 errno=0 peeraddr=127.0.0.1:4433 state=error: certificate verify failed (certificate has expired)";
        assert_eq!(ruby(ruby_says), "certificate verify failed (certificate has expired)");
        let php_says = "stream_socket_client(): SSL operation failed with code 1. OpenSSL Error messages:\nerror:0A000086:SSL routines::certificate verify failed\nstream_socket_client(): Failed to enable crypto";
        assert_eq!(php(php_says), "error:0A000086:SSL routines::certificate verify failed");
        assert_eq!(
            php("stream_socket_client(): Peer certificate CN=`a' did not match expected CN=`b'"),
            "Peer certificate CN=`a' did not match expected CN=`b'"
        );
        let psql_says = "psql: error: connection to server at \"a\" (127.0.0.1), port 1 failed: SSL error: certificate verify failed\n";
        assert_eq!(psql(psql_says), "SSL error: certificate verify failed");
        let git_says = "fatal: unable to access 'https://a:1/x.git/': server certificate verification failed. CAfile: none CRLfile: none\n";
        assert_eq!(git(git_says), "server certificate verification failed.");
        let name = "fatal: unable to access 'https://a:1/': SSL: certificate subject name (b) does not match target host name 'a'\n";
        assert_eq!(git(name), "SSL: certificate subject name does not match target host name 'a'");
        assert_eq!(
            deno("invalid peer certificate: certificate expired: verification time 1 (UNIX)"),
            "certificate expired"
        );
        assert_eq!(deno("invalid peer certificate: UnknownIssuer"), "UnknownIssuer");
    }

    #[test]
    fn nothing_that_is_printed_makes_it_panic() {
        for text in
            ["", "state=", "fatal: ", "subject name () does not match", "invalid peer certificate: ", "\u{fe0f}error:"]
        {
            for read in [ruby, php, psql, git, deno] {
                read(text);
            }
        }
    }
}
