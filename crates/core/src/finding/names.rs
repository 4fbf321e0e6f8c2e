//! Names and the limits on them.

use super::{Code, Entry, Severity};

pub(super) const ROWS: &[Entry] = &[
    Entry {
        code: Code::NameNotCovered,
        severity: Severity::Error,
        summary: "the certificate does not name the host that was asked for",
        meaning: "Clients compare the host in the address with the subject alternative names, and with nothing else.",
        cause: "The site is visited under another name or address than it was certified for, or only the common name was filled in.",
        remedy: "issue a certificate that names it: tamga issue NAME",
        by_hand: "List every name and address that visitors type as subject alternative names.",
    },
    Entry {
        code: Code::AddressAsDnsName,
        severity: Severity::Warning,
        summary: "an IP address stands in the certificate as a DNS name",
        meaning: "Nearly every client compares addresses with iPAddress entries alone; this one is never found.",
        cause: "The address was typed where a name was asked for.",
        remedy: "tamga issue ADDRESS writes it as an address",
        by_hand: "Write IP:ADDRESS instead of DNS:ADDRESS in the list of alternative names.",
    },
    Entry {
        code: Code::NameNotJudged,
        severity: Severity::Note,
        summary: "no host name was given, so names were not compared",
        meaning: "Files alone do not say under which name they will be visited; clients that always compare a name give no verdict.",
        cause: "A file was checked without --name.",
        remedy: "add --name NAME",
        by_hand: "Compare the names in the certificate with what visitors will type.",
    },
    Entry {
        code: Code::PublicName,
        severity: Severity::Note,
        summary: "this is a public name or address: visitors without your root will be warned",
        meaning: "A private authority helps only those machines that trust its root; strangers do not.",
        cause: "A name of the public Internet was certified by a private authority.",
        remedy: "for strangers use a public authority; for tests prefer a name under .test or .home.arpa",
        by_hand: "Rename the host, or get a publicly trusted certificate for it.",
    },
    Entry {
        code: Code::ConstraintViolated,
        severity: Severity::Error,
        summary: "a name lies outside what its authority may certify",
        meaning: "The root limits itself to certain names. One name outside, and clients refuse the whole certificate, also for its other names.",
        cause: "The authority was made for other names, or somebody signed with its key by other means.",
        remedy: "make an authority that may: tamga authority create LABEL --permit NAME",
        by_hand: "Use another authority, or leave the name away.",
    },
];
