//! Names and the limits on them.

use super::{Code, Entry, Severity};

pub(super) const ROWS: &[Entry] = &[
    Entry {
        code: Code::NameNotCovered,
        severity: Severity::Error,
        summary: "the certificate does not name the host that was asked for",
        meaning: "Clients compare the host in the address with the subject alternative names, and with nothing else.",
        cause: "The client asked for a name or address that is not among the subject alternative names; a common name does not count.",
        remedy: "tamga renew LABEL --add NAME, or tamga issue NAME",
        by_hand: "List every name and address that people type as subject alternative names.",
    },
    Entry {
        code: Code::AddressAsDnsName,
        severity: Severity::Warning,
        summary: "the certificate has an IP address as a DNS name",
        meaning: "Nearly every client compares addresses with iPAddress entries only and never finds this one.",
        cause: "The address was entered as a name.",
        remedy: "tamga issue ADDRESS makes it an iPAddress entry",
        by_hand: "Write IP:ADDRESS instead of DNS:ADDRESS in the list of alternative names.",
    },
    Entry {
        code: Code::NameNotJudged,
        severity: Severity::Note,
        summary: "no host name was given, so names were not compared",
        meaning: "A file does not say which name clients will ask for; clients that always compare a name give no verdict.",
        cause: "A file was checked without --name.",
        remedy: "add --name NAME",
        by_hand: "Compare the names in the certificate with what people will type.",
    },
    Entry {
        code: Code::PublicName,
        severity: Severity::Note,
        summary: "this is a public name or address: visitors without your root will be warned",
        meaning: "Only machines that trust your root accept it; nobody else's does.",
        cause: "A private authority certified a name of the public Internet.",
        remedy: "for the public use a public authority; for tests use a name under .test or .home.arpa",
        by_hand: "Rename the host, or get a publicly trusted certificate for it.",
    },
    Entry {
        code: Code::IpConstraintUnsupported,
        severity: Severity::Warning,
        summary: "this client knows no limits of addresses, and refuses every address under an authority that has some",
        meaning: "Bun and gRPC (BoringSSL) refuse a certificate that names an address if an authority above it limits addresses.",
        cause: "RFC 5280 section 4.2.1.10 has a client refuse limits that it cannot process; a root made by Tamga limits addresses.",
        remedy: "issue a certificate without addresses for these clients: tamga issue HOST --label LABEL",
        by_hand: "Serve these clients a certificate with DNS names alone, or use an authority that does not limit addresses.",
    },
    Entry {
        code: Code::ConstraintViolated,
        severity: Severity::Error,
        summary: "a name is outside the name constraints of its authority",
        meaning: "One name outside the constraints, and clients refuse the whole certificate, for its other names too.",
        cause: "The authority was made for other names, or its key was used outside Tamga.",
        remedy: "tamga authority permit LABEL NAME, or tamga authority create LABEL --permit NAME",
        by_hand: "Use another authority, or drop the name.",
    },
];
