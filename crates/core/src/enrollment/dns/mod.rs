//! DNS as messages: questions and their answers (RFC 1035), updates (RFC 2136) and their signatures (RFC 8945). For dns-01, and for labs whose
//! names the machine's own resolver does not know. No socket is touched here.

pub mod answer;
pub mod name;
pub mod question;
pub mod tsig;
pub mod update;

/// Upper bound on a message over UDP that does not fragment, in octets.
pub const UDP_LIMIT: u16 = 1232;

crate::words! {
    /// A type of record that is asked for.
    #[derive(PartialOrd, Ord, Hash)]
    pub enum RecordType: "record type" {
        /// An IPv4 address.
        A = "A",
        /// Another name for the same.
        Cname = "CNAME",
        /// The start of a zone: which server is its first.
        Soa = "SOA",
        /// Texts.
        Txt = "TXT",
        /// An IPv6 address.
        Aaaa = "AAAA",
        /// Who may certify the name (RFC 8659).
        Caa = "CAA",
    }
}

impl RecordType {
    /// Its number in the registry.
    pub const fn number(self) -> u16 {
        match self {
            RecordType::A => 1,
            RecordType::Cname => 5,
            RecordType::Soa => 6,
            RecordType::Txt => 16,
            RecordType::Aaaa => 28,
            RecordType::Caa => 257,
        }
    }
}

/// The class of the Internet.
pub(super) const INTERNET: u16 = 1;
/// Any class: an update that deletes (RFC 2136 section 2.5.2).
pub(super) const ANY: u16 = 255;
/// No class: an update that deletes one record (RFC 2136 section 2.5.4).
pub(super) const NONE: u16 = 254;
