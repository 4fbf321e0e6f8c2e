//! Signing a request that was made elsewhere: what it asks for, judged against the authority; what is honoured and what not.

use crate::ca::authority::request::trustworthy;
use crate::ca::issue::distinct;
use crate::ca::report::Authority;
use crate::error::{Error, Result};
use crate::finding::{Code, Finding};
use crate::pki::cert::csr::Csr;
use crate::pki::cert::extensions::GeneralName;
use crate::pki::cert::subject;
use crate::vocabulary::name::{self, Name};
use crate::vocabulary::purpose::{ANY, Purpose, usage_words};
use std::str::FromStr;

/// What will be certified.
#[derive(Debug)]
pub struct Plan {
    /// The names.
    pub names: Vec<Name>,
    /// The purposes.
    pub purposes: Vec<Purpose>,
    /// What is not honoured, corrected, or left out.
    pub findings: Vec<Finding>,
}

/// Extensions whose wish is either honoured or said not to be.
const HANDLED: [&str; 5] = ["2.5.29.17", "2.5.29.19", "2.5.29.15", "2.5.29.37", "2.5.29.14"];

/// Judges a request. `typed` are the names given on the command line, which then count instead of the request's;
/// `purposes` likewise.
///
/// Errors: a bad signature, a weak key, a name that may not be certified, no name at all.
pub fn plan(
    csr: &Csr,
    typed: &[Name],
    purposes: Option<Vec<Purpose>>,
    issuer: &Authority,
    accepted: &[Code],
) -> Result<Plan> {
    trustworthy(csr, accepted.contains(&Code::WeakKey))?;
    let mut findings = Vec::new();
    if crate::pki::signature::is_weak(&csr.algorithm.oid) {
        findings.push(
            Finding::new(Code::WeakSignature, csr.subject_words())
                .with_summary("the request itself is signed with an old hash; the certificate will not be")
                .with_remedy("nothing: a request's signature only proves that its maker has the key")
                .as_note(),
        );
    }
    let asked = names_of(csr, &mut findings)?;
    let names = match typed.is_empty() {
        true => asked,
        false => {
            let missing: Vec<String> = asked.iter().filter(|n| !typed.contains(n)).map(ToString::to_string).collect();
            if !missing.is_empty() {
                findings.push(
                    Finding::new(Code::NamesMissing, missing.join(", "))
                        .with_summary(format!(
                            "the request asks for {} as well, which you did not name",
                            missing.join(", ")
                        ))
                        .with_remedy("leave the names away to certify what the request asks for"),
                );
            }
            typed.to_vec()
        }
    };
    if names.is_empty() {
        return Err(Error::NamesNeeded { what: format!("the request of {}", csr.subject_words()) });
    }
    let purposes = match purposes {
        Some(purposes) => purposes,
        None => purposes_of(csr, issuer, &mut findings),
    };
    said_about_extensions(csr, &mut findings);
    Ok(Plan { names: distinct(names), purposes, findings })
}

fn not_honoured(about: impl Into<String>, summary: impl Into<String>, remedy: impl Into<String>) -> Finding {
    Finding::new(Code::NotHonoured, about).with_summary(summary).with_remedy(remedy)
}

/// The names asked for: addresses that stand as DNS names are corrected; where there are none, the common name counts.
fn names_of(csr: &Csr, findings: &mut Vec<Finding>) -> Result<Vec<Name>> {
    let mut out = Vec::new();
    for general in csr.wishes.names.iter().flatten() {
        let name = match general {
            GeneralName::Dns(text) | GeneralName::Mail(text) => Name::from_str(text)?,
            GeneralName::Uri(text) => Name::from_str(text)?,
            GeneralName::Ip(octets) => Name::Ip(name::ip(octets).ok_or_else(|| Error::Name {
                typed: general.words(),
                why: "an address in the request has neither 4 nor 16 octets".into(),
                instead: "name the address on the command line".into(),
            })?),
            GeneralName::Directory(_) | GeneralName::Other => {
                findings.push(not_honoured(
                    general.words(),
                    format!("the name {} is of a kind that is not certified here", general.words()),
                    "nothing, unless the service needs it",
                ));
                continue;
            }
        };
        if matches!((general, &name), (GeneralName::Dns(_), Name::Ip(_))) {
            findings.push(
                Finding::new(Code::AddressAsDnsName, name.to_string())
                    .with_summary(format!(
                        "the request has the address {name} as a DNS name; it is written as an address"
                    ))
                    .with_remedy("nothing: the certificate is right")
                    .as_note(),
            );
        }
        out.push(name);
    }
    if out.is_empty()
        && let Some(common) = subject::common_name(&csr.subject)
        && let Ok(name) = Name::from_str(&common)
        && (name.is_host() || matches!(name, Name::Mail(_)))
    {
        findings.push(
            Finding::new(Code::CommonNameUnlisted, name.to_string())
                .with_summary(format!(
                    "the request has no alternative names; its common name {name} is taken as the name"
                ))
                .with_remedy("nothing; or name others: tamga sign CSR NAME…"),
        );
        out.push(name);
    }
    Ok(out)
}

fn purposes_of(csr: &Csr, issuer: &Authority, findings: &mut Vec<Finding>) -> Vec<Purpose> {
    let fallback = || issuer.purposes.first().map_or(vec![Purpose::Server], |p| vec![*p]);
    let Some(asked) = &csr.wishes.purposes else { return fallback() };
    let mut out = Vec::new();
    for oid in asked {
        match Purpose::ALL.into_iter().find(|p| p.oid() == *oid) {
            Some(p) if issuer.purposes.contains(&p) => out.push(p),
            _ if *oid == ANY => {}
            _ => findings.push(not_honoured(
                usage_words(oid),
                format!("the purpose {} is not one that {} may issue for", usage_words(oid), issuer.label),
                "use an authority created for it: tamga authority create LABEL --purpose LIST",
            )),
        }
    }
    if out.is_empty() { fallback() } else { out }
}

fn said_about_extensions(csr: &Csr, findings: &mut Vec<Finding>) {
    if csr.wishes.basic.is_some_and(|b| b.ca) {
        findings.push(not_honoured(
            csr.subject_words(),
            "the request asks to be an authority; a certificate that cannot sign is made",
            "for an intermediate: tamga authority sign CSR",
        ));
    }
    if csr.wishes.usage.is_some_and(|u| u.key_cert_sign || u.crl_sign) && !csr.wishes.basic.is_some_and(|b| b.ca) {
        findings.push(not_honoured(
            csr.subject_words(),
            "the key usage to sign certificates is not given",
            "for an intermediate: tamga authority sign CSR",
        ));
    }
    for e in csr.wishes.all.iter().filter(|e| !HANDLED.contains(&e.extn_id.to_string().as_str())) {
        findings.push(not_honoured(
            e.extn_id.to_string(),
            format!("the extension {} that it asks for is left out", e.extn_id),
            "nothing, unless the service needs it",
        ));
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ca::authority::create::{self, Request};
    use crate::ca::request::{Wanted, make};
    use crate::pki::key::{KeyAlgorithm, PrivateKey};
    use crate::test_entropy::Counted;
    use crate::vocabulary::label::Label;
    use crate::vocabulary::timestamp::Timestamp;
    use crate::{ca::receive, pki::cert::subject::Subject};

    fn names(list: &[&str]) -> Vec<Name> {
        list.iter().map(|n| Name::from_str(n).unwrap()).collect()
    }

    fn request(list: &[&str], purposes: &[Purpose]) -> Csr {
        let e = Counted::default();
        let key = PrivateKey::generate(KeyAlgorithm::P256, &e).unwrap();
        let subject = Subject { common_name: Some("gauge-7.saltmarsh.test".into()), ..Subject::default() };
        let subject = Some(subject.to_der().unwrap());
        let wanted = Wanted { names: names(list), purposes: purposes.to_vec(), subject, folder: "x".into() };
        make(&wanted, &key, None, b"", &e).unwrap().0
    }

    fn authority() -> Authority {
        let e = Counted::from(3);
        let key = PrivateKey::generate(KeyAlgorithm::P256, &e).unwrap();
        let r = Request::plain(Label::from_str("saltmarsh").unwrap());
        create::root(&r, &key, "x".into(), Timestamp::from_unix(1_700_000_000), &e).unwrap().authority
    }

    #[test]
    fn names_come_from_the_request_the_line_or_the_common_name() {
        let a = authority();
        let both = request(&["charts.saltmarsh.test", "10.0.0.7"], &[Purpose::Server]);
        assert_eq!(plan(&both, &[], None, &a, &[]).unwrap().names, names(&["charts.saltmarsh.test", "10.0.0.7"]));
        let typed = names(&["charts.saltmarsh.test"]);
        let p = plan(&both, &typed, None, &a, &[]).unwrap();
        assert_eq!((p.names, p.findings[0].code), (typed, Code::NamesMissing));
        let mut bare = request(&[], &[Purpose::Server]);
        bare.wishes.names = None;
        let p = plan(&bare, &[], None, &a, &[]).unwrap();
        assert_eq!((p.names, p.findings[0].code), (names(&["gauge-7.saltmarsh.test"]), Code::CommonNameUnlisted));
    }

    #[test]
    fn purposes_are_given_only_as_far_as_the_authority_has_them() {
        let a = authority();
        let p = plan(&request(&["x.test"], &[Purpose::Client, Purpose::Code]), &[], None, &a, &[]).unwrap();
        assert_eq!(p.purposes, [Purpose::Client]);
        assert!(p.findings.iter().any(|f| f.code == Code::NotHonoured && f.about == "code"));
    }

    #[test]
    fn a_certificate_of_another_key_is_not_received() {
        let (ours, now) = (request(&["x.test"], &[Purpose::Server]), Timestamp::from_unix(1_700_000_000));
        let foreign = authority().certificate;
        assert!(receive::receive("x", &ours, &[foreign], &[], &[], now).is_err());
        assert!(receive::receive("x", &ours, &[], &[], &[], now).is_err());
    }
}
