//! What a browser finds in a page, or remembers of a host, after the certificate was accepted.

use super::{Code, Entry, Severity};

pub(super) const ROWS: &[Entry] = &[
    Entry {
        code: Code::MixedContent,
        severity: Severity::Error,
        summary: "the page asks for parts of itself over plain HTTP",
        meaning: "The padlock stays, and yet scripts, frames and connections are blocked; pictures are asked for over HTTPS instead.",
        cause: "An http:// or ws:// address is written into the page, often by an application that does not know that TLS ends before it.",
        remedy: "write https:// or a path without scheme into the page; behind a proxy have the application honor X-Forwarded-Proto",
        by_hand: "The browser's console (F12) lists each part. Serve them over TLS, then change their addresses.",
    },
    Entry {
        code: Code::InsecureForm,
        severity: Severity::Error,
        summary: "a form of the page sends what is typed into it over plain HTTP",
        meaning: "Chromium shows a whole-page warning before it sends the form; without it, anyone on the way could read it.",
        cause: "The form's action is an http:// address, often one that the application made itself behind a proxy.",
        remedy: "write https:// or a path without scheme as the action of the form",
        by_hand: "Search the page's source for action=\"http://.",
    },
    Entry {
        code: Code::SubresourceRefused,
        severity: Severity::Error,
        summary: "the page needs a part from a server that the browser refuses",
        meaning: "The padlock stays, and the part is missing: for parts of a page no browser asks whether to go on.",
        cause: "That server has a certificate of its own, which is expired, of another name, or of a root that is not trusted.",
        remedy: "check that server too: tamga check https://HOST:PORT",
        by_hand: "Open the address of the part in a tab of its own: there the browser says what is wrong.",
    },
    Entry {
        code: Code::HstsRemembered,
        severity: Severity::Note,
        summary: "the browser remembers that this host is asked over HTTPS alone",
        meaning: "http:// becomes https:// on every port of the host, and a warning about its certificate has no button to go on (RFC 6797).",
        cause: "The host, or a domain above it, once sent the Strict-Transport-Security header over HTTPS.",
        remedy: "in Chromium delete the domain at chrome://net-internals/#hsts; in Firefox choose Forget About This Site in the history",
        by_hand: "Let the server send Strict-Transport-Security: max-age=0 over HTTPS, and do not send the header from test hosts.",
    },
];
