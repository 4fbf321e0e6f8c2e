//! What a certificate is asked for: a DNS name, perhaps with a wildcard, or an address (RFC 8555 section 9.7.7, RFC 8738).

use crate::vocabulary::name::Name;
use crate::vocabulary::text::harmless;
use serde::Serialize;
use serde_json::Value;
use std::str::FromStr;

/// Why something is no identifier: one sentence.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum NoIdentifier {
    /// It is of a kind that is not certified here.
    Kind(String),
    /// It is not written as one.
    Form(String),
}

/// A name that is to be certified.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Identifier {
    /// A DNS name in lower case; with `*.` for a wildcard.
    Dns(String),
    /// An address.
    Ip(std::net::IpAddr),
}

impl Identifier {
    /// The one of an object in a request.
    ///
    /// Errors: another kind; what is no name or address, or an address that is not written as RFC 8738 section 3 says.
    pub fn parse(value: &Value) -> Result<Identifier, NoIdentifier> {
        let text = |member: &str| value.get(member).and_then(Value::as_str);
        let (Some(kind), Some(typed)) = (text("type"), text("value")) else {
            return Err(NoIdentifier::Form("an identifier has a type and a value, both strings".into()));
        };
        match kind {
            "dns" => Identifier::dns(typed),
            "ip" => {
                let address: Option<std::net::IpAddr> = typed.parse().ok();
                // RFC 8738 section 3: as RFC 1123 and RFC 5952 write them, so there is one form.
                let written = address.map(|a| a.to_string()).filter(|w| w == typed);
                match (address, written) {
                    (Some(a), Some(_)) => Ok(Identifier::Ip(a)),
                    (Some(a), None) => {
                        Err(NoIdentifier::Form(format!("the address {} is written {a} here", harmless(typed))))
                    }
                    (None, _) => Err(NoIdentifier::Form(format!("{} is no address", harmless(typed)))),
                }
            }
            other => Err(NoIdentifier::Kind(format!(
                "identifiers of the type {} are not certified here: use dns or ip",
                harmless(other)
            ))),
        }
    }

    fn dns(typed: &str) -> Result<Identifier, NoIdentifier> {
        let lower = typed.to_ascii_lowercase();
        let refused = |why: String| NoIdentifier::Form(format!("{} is no DNS name: {why}", harmless(typed)));
        match Name::from_str(&lower) {
            Ok(Name::Ip(a)) => Err(refused(format!(
                "it is an address, whose type is ip (RFC 8738): {{\"type\":\"ip\",\"value\":\"{a}\"}}"
            ))),
            // A name that is typed may become another one; what a client signs is what is meant.
            Ok(Name::Dns(name)) if name == lower => Ok(Identifier::Dns(name)),
            Ok(_) => Err(refused("it is not written as certificates write it".into())),
            Err(e) => Err(refused(crate::error::Diagnostic::why(&e))),
        }
    }

    /// As the vocabulary has it.
    pub fn name(&self) -> Name {
        match self {
            Identifier::Dns(name) => Name::Dns(name.clone()),
            Identifier::Ip(a) => Name::Ip(*a),
        }
    }

    /// Of a name; None for one that is neither a DNS name nor an address.
    pub fn of(name: &Name) -> Option<Identifier> {
        match name {
            Name::Dns(name) => Some(Identifier::Dns(name.to_ascii_lowercase())),
            Name::Ip(a) => Some(Identifier::Ip(*a)),
            _ => None,
        }
    }

    /// True for `*.` and a name.
    pub fn is_wildcard(&self) -> bool {
        matches!(self, Identifier::Dns(name) if name.starts_with("*."))
    }

    /// What is proved: of a wildcard the name below it (RFC 8555 section 7.1.3).
    pub fn base(&self) -> Identifier {
        match self {
            Identifier::Dns(name) => Identifier::Dns(name.strip_prefix("*.").unwrap_or(name).to_owned()),
            Identifier::Ip(a) => Identifier::Ip(*a),
        }
    }

    /// Its type and value as a request writes them.
    pub fn parts(&self) -> (&'static str, String) {
        match self {
            Identifier::Dns(name) => ("dns", name.clone()),
            Identifier::Ip(a) => ("ip", a.to_string()),
        }
    }
}

impl std::fmt::Display for Identifier {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&self.parts().1)
    }
}

impl Serialize for Identifier {
    fn serialize<S: serde::Serializer>(&self, s: S) -> Result<S::Ok, S::Error> {
        use serde::ser::SerializeStruct;
        let (kind, value) = self.parts();
        let mut out = s.serialize_struct("Identifier", 2)?;
        out.serialize_field("type", kind)?;
        out.serialize_field("value", &value)?;
        out.end()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn parsed(kind: &str, value: &str) -> Result<String, &'static str> {
        let object = serde_json::json!({ "type": kind, "value": value });
        Identifier::parse(&object).map(|i| i.to_string()).map_err(|no| match no {
            NoIdentifier::Kind(_) => "kind",
            NoIdentifier::Form(_) => "form",
        })
    }

    #[test]
    fn a_name_is_taken_as_it_is_or_refused() {
        assert_eq!(parsed("dns", "Charts.Saltmarsh.TEST"), Ok("charts.saltmarsh.test".into()));
        assert_eq!(parsed("dns", "*.buoys.saltmarsh.test"), Ok("*.buoys.saltmarsh.test".into()));
        assert_eq!(parsed("ip", "192.168.7.7"), Ok("192.168.7.7".into()));
        assert_eq!(parsed("ip", "fd00::7"), Ok("fd00::7".into()));
        for (kind, value) in [
            ("dns", "127.0.0.1"),
            ("dns", "https://charts.saltmarsh.test"),
            ("dns", "a b"),
            ("dns", ""),
            ("dns", "charts.*.test"),
            ("dns", "charts..test"),
            ("ip", "192.168.7.07"),
            ("ip", "FD00::7"),
            ("ip", "charts.saltmarsh.test"),
        ] {
            assert_eq!(parsed(kind, value), Err("form"), "{kind} {value}");
        }
        assert_eq!(parsed("email", "a@saltmarsh.test"), Err("kind"));
    }
}
