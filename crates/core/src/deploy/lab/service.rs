//! A certificate that comes from an enrollment service: which one, and how control of the names is proved.

use super::raw;
use super::reader::Reader;
use crate::enrollment::challenge::ChallengeType;
use crate::error::{Error, Result};
use crate::vocabulary::name::Name;
use std::net::{IpAddr, SocketAddr};
use std::path::PathBuf;
use std::str::FromStr;

/// Which service, and how control is proved.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Service {
    /// Its directory.
    pub url: String,
    /// By which challenge; None for the first that can be answered.
    pub challenge: Option<ChallengeType>,
    /// The directory of a running web server.
    pub challenge_dir: Option<PathBuf>,
    /// Where to listen for the service.
    pub challenge_listen: Option<String>,
    /// The name server that takes records.
    pub dns_update: Option<SocketAddr>,
    /// The file with the key for it.
    pub dns_key_file: Option<PathBuf>,
    /// The file with its root.
    pub anchor: Option<PathBuf>,
    /// The file with an invitation.
    pub invitation: Option<PathBuf>,
    /// How the service reaches the owner.
    pub contact: Option<String>,
    /// True if its terms are agreed to.
    pub agreed: bool,
    /// A profile of it.
    pub profile: Option<String>,
}

/// The directory of a service.
///
/// Errors: it is not an `https://` URL.
pub fn directory(typed: &str) -> Result<String> {
    let rest = typed.strip_prefix("https://").filter(|r| !r.is_empty() && !r.starts_with('/') && !r.contains(' '));
    rest.map(|_| typed.to_owned()).ok_or_else(|| Error::Word {
        what: "directory of an enrollment service",
        typed: typed.to_owned(),
        accepted: "https://HOST/PATH, as the service's administrator gives it".into(),
    })
}

/// A name server, on port 53 where none is given.
///
/// Errors: it is no address.
pub fn name_server(typed: &str) -> Result<SocketAddr> {
    let bare = typed.trim_matches(['[', ']']);
    let found = typed.parse().or_else(|_| bare.parse().map(|ip: IpAddr| SocketAddr::new(ip, 53)));
    found.map_err(|_| Error::Word {
        what: "name server",
        typed: typed.to_owned(),
        accepted: "an address, or ADDRESS:PORT".into(),
    })
}

/// A mailbox.
///
/// Errors: it is none.
pub fn mailbox(typed: &str) -> Result<String> {
    match Name::from_str(typed)? {
        Name::Mail(mailbox) => Ok(mailbox),
        _ => Err(Error::Word { what: "mailbox", typed: typed.to_owned(), accepted: "user@host".into() }),
    }
}

pub(super) fn read(reader: &Reader<'_>, c: &raw::Certificate) -> Result<Option<Service>> {
    let Some(from) = &c.from else {
        let alone = [
            ("challenge", c.challenge.is_some()),
            ("challenge_dir", c.challenge_dir.is_some()),
            ("challenge_listen", c.challenge_listen.is_some()),
            ("dns_update", c.dns_update.is_some()),
            ("dns_key_file", c.dns_key_file.is_some()),
            ("anchor", c.anchor.is_some()),
            ("invitation", c.invitation.is_some()),
            ("contact", c.contact.is_some()),
            ("agree_to_terms", c.agree_to_terms),
            ("profile", c.profile.is_some()),
        ];
        return match alone.iter().find(|(_, is_there)| *is_there) {
            None => Ok(None),
            Some((key, _)) => Err(reader.of(
                c,
                Error::Contradiction {
                    what: format!("{key} is for a certificate from an enrollment service, and none is named"),
                    why: "without it this lab's own authority issues, and wants no proof".into(),
                    instead: "add from = \"https://…/directory\", or leave it away".into(),
                },
            )),
        };
    };
    let ours = [
        ("issuer", c.issuer.is_some()),
        ("valid_for", c.valid_for.is_some()),
        ("not_before", c.not_before.is_some()),
        ("purpose", !c.purpose.is_empty()),
    ];
    if let Some((key, _)) = ours.iter().find(|(_, is_there)| *is_there) {
        return Err(reader.of(
            c,
            Error::Contradiction {
                what: format!("{key} is for a certificate of this lab's own authority, and from names a service"),
                why: "a service decides that by itself".into(),
                instead: format!("leave {key} away; a service may have profiles: profile = \"short\""),
            },
        ));
    }
    if c.dns_update.is_some() != c.dns_key_file.is_some() {
        return Err(reader.of(
            c,
            Error::Contradiction {
                what: "dns_update and dns_key_file go together".into(),
                why: "a name server takes signed updates".into(),
                instead: "give both, or neither".into(),
            },
        ));
    }
    let path = |p: &Option<PathBuf>| p.as_ref().map(|p| reader.path(p));
    Ok(Some(Service {
        url: reader.value(from, directory)?,
        challenge: reader.optional(&c.challenge, ChallengeType::from_str)?,
        challenge_dir: path(&c.challenge_dir),
        challenge_listen: c.challenge_listen.clone(),
        dns_update: reader.optional(&c.dns_update, name_server)?,
        dns_key_file: path(&c.dns_key_file),
        anchor: path(&c.anchor),
        invitation: path(&c.invitation),
        contact: reader.optional(&c.contact, mailbox)?,
        agreed: c.agree_to_terms,
        profile: c.profile.clone(),
    }))
}

#[cfg(test)]
mod tests {
    use super::super::file;
    use crate::error::Diagnostic;
    use std::path::Path;

    fn read(more: &str) -> Result<super::Service, String> {
        let text = format!("[[certificate]]\nnames = [\"charts.saltmarsh.test\"]\n{more}");
        let lab =
            file::read(&text, "tamga.toml", Path::new("/lab")).map_err(|e| format!("{} {}", e.what(), e.remedy()))?;
        lab.certificates[0].from.clone().ok_or_else(|| "none".into())
    }

    #[test]
    fn a_service_is_read_whole_or_refused() {
        let from = "from = \"https://enroll.saltmarsh.test/directory\"\n";
        let read_one =
            read(&format!("{from}anchor = \"root.pem\"\nchallenge = \"tls-alpn-01\"\nprofile = \"short\"\n"));
        let anchor = read_one.as_ref().map(|s| s.anchor.clone());
        assert_eq!(anchor, Ok(Some("/lab/root.pem".into())));
        for (more, said) in [
            ("profile = \"short\"\n".to_owned(), "add from"),
            (format!("{from}issuer = \"saltmarsh\"\n"), "leave issuer away"),
            (format!("{from}dns_update = \"192.168.7.1\"\n"), "give both"),
            (format!("{from}challenge = \"http-02\"\n"), "http-01"),
        ] {
            let refused = read(&more);
            assert!(refused.as_ref().is_err_and(|e| e.contains(said)), "{more}: {refused:?}");
        }
    }
}
