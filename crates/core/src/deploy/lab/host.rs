//! A machine beyond this one: how it is reached.

use super::raw;
use super::reader::Reader;
use crate::error::{Error, Result};
use crate::vocabulary::text::Shown;
use std::fmt;
use std::path::{Path, PathBuf};
use std::str::FromStr;

/// A machine beyond this one.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Host {
    /// What it is called here.
    pub name: HostName,
    /// How it is reached.
    pub reach: Reach,
    /// True if root's rights are taken there by `sudo -n`.
    pub sudo: bool,
}

/// The name of a machine as it is typed and shown. It never begins with `-`, so that no program takes it for an option.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct HostName(String);

/// Way to a machine.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Reach {
    /// By ssh.
    Ssh {
        /// The account there; None for what the settings of ssh say.
        user: Option<HostName>,
        /// The machine, or its name in the settings of ssh.
        machine: HostName,
        /// Its port; None for what the settings of ssh say.
        port: Option<u16>,
        /// A settings file of ssh instead of the person's own.
        config: Option<PathBuf>,
    },
    /// In a running container.
    Container(HostName),
    /// In the file system of an image that does not run.
    Image(PathBuf),
    /// On this machine.
    Local,
}

/// How long ssh tries to connect.
const CONNECT_SECONDS: u8 = 10;

impl HostName {
    /// Its text.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl fmt::Display for HostName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

impl FromStr for HostName {
    type Err = Error;

    fn from_str(typed: &str) -> Result<HostName> {
        let plain = |c: char| c.is_ascii_alphanumeric() || "._-:%".contains(c);
        let why = match typed {
            "" => "it is empty",
            _ if typed.starts_with('-') => "ssh would take it for an option",
            _ if typed.len() > 255 => "it has more than 255 characters",
            _ if !typed.chars().all(plain) => "only letters, digits and . _ - : % are taken",
            _ => return Ok(HostName(typed.to_owned())),
        };
        Err(Error::Contradiction {
            what: format!("the machine {} cannot be reached by this name", typed.shown()),
            why: why.into(),
            instead: "name it as ssh knows it: --on ssh://root@charts.saltmarsh.test".into(),
        })
    }
}

impl Host {
    /// One that is typed without a file: `ssh://[USER@]HOST[:PORT]`, `container:NAME`; and as the ledger remembers it, with `?config=FILE` and
    /// `&sudo` after it. None for another word, which may be a name in `tamga.toml`.
    ///
    /// Errors: a part that cannot be used.
    ///
    /// ```
    /// use tamga_core::deploy::lab::host::Host;
    ///
    /// let host = Host::of_address("ssh://root@charts.saltmarsh.test:2222")?.unwrap();
    /// assert_eq!(host.address(), "ssh://root@charts.saltmarsh.test:2222");
    /// assert!(Host::of_address("charts")?.is_none());
    /// assert!(Host::of_address("ssh://-oProxyCommand=x").is_err());
    /// # Ok::<(), tamga_core::error::Error>(())
    /// ```
    pub fn of_address(typed: &str) -> Result<Option<Host>> {
        if let Some(name) = typed.strip_prefix("container:") {
            let name: HostName = name.parse()?;
            return Ok(Some(Host { reach: Reach::Container(name.clone()), name, sudo: false }));
        }
        if let Some(path) = typed.strip_prefix("image:") {
            let name = HostName("image".into());
            return Ok(Some(Host { name, reach: Reach::Image(path.into()), sudo: false }));
        }
        if typed == "local:" {
            return Ok(Some(Host { name: HostName("local".into()), reach: Reach::Local, sudo: false }));
        }
        let Some(rest) = typed.strip_prefix("ssh://") else { return Ok(None) };
        let (rest, query) = rest.split_once('?').unwrap_or((rest, ""));
        let mut host = Host::of_destination(rest.trim_end_matches('/'))?;
        for setting in query.split('&').filter(|s| !s.is_empty()) {
            match (setting.split_once('='), &mut host.reach) {
                (Some(("config", path)), Reach::Ssh { config, .. }) => {
                    *config = Some(path.replace("%26", "&").replace("%25", "%").into())
                }
                (None, _) if setting == "sudo" => host.sudo = true,
                _ => {
                    return Err(Error::Contradiction {
                        what: format!("{} has a part that is not known", typed.shown()),
                        why: format!("{} is not taken after a ?", setting.shown()),
                        instead: "describe the machine as [[host]] in tamga.toml, and name it: --on NAME".into(),
                    });
                }
            }
        }
        Ok(Some(host))
    }

    /// One by ssh: `[USER@]HOST[:PORT]`, an IPv6 address in brackets.
    ///
    /// Errors: a part that cannot be used.
    pub fn of_destination(typed: &str) -> Result<Host> {
        let (user, rest) = match typed.split_once('@') {
            Some((user, rest)) => (Some(user.parse()?), rest),
            None => (None, typed),
        };
        let (machine, port) = match (rest.strip_prefix('['), rest.split_once(':')) {
            (Some(rest), _) => {
                let (address, after) = rest.split_once(']').unwrap_or((rest, ""));
                (address, after.strip_prefix(':'))
            }
            (None, Some((machine, port))) if !port.contains(':') => (machine, Some(port)),
            _ => (rest, None),
        };
        let number = |p: &str| {
            p.parse::<u16>().map_err(|_| Error::Word {
                what: "port",
                typed: p.to_owned(),
                accepted: "1 to 65535".into(),
            })
        };
        let machine: HostName = machine.parse()?;
        let reach = Reach::Ssh { user, machine: machine.clone(), port: port.map(number).transpose()?, config: None };
        Ok(Host { name: machine, reach, sudo: false })
    }

    /// What the ledger remembers, and [`Host::of_address`] reads.
    pub fn address(&self) -> String {
        match &self.reach {
            Reach::Ssh { user, machine, port, config } => {
                let mut text = String::from("ssh://");
                text.extend(user.iter().map(|u| format!("{u}@")));
                text += &if machine.0.contains(':') { format!("[{machine}]") } else { machine.to_string() };
                text.extend(port.iter().map(|p| format!(":{p}")));
                let settings = config
                    .iter()
                    .map(|c| format!("config={}", c.to_string_lossy().replace('%', "%25").replace('&', "%26")));
                let settings: Vec<String> = settings.chain(self.sudo.then(|| "sudo".to_owned())).collect();
                if settings.is_empty() { text } else { format!("{text}?{}", settings.join("&")) }
            }
            Reach::Container(name) => format!("container:{name}"),
            Reach::Image(path) => format!("image:{}", path.to_string_lossy()),
            Reach::Local => "local:".into(),
        }
    }

    /// The program, with its arguments, that starts a shell there; None where none is needed.
    ///
    /// The host's key is always verified, whatever the settings of ssh say, and nobody is asked for anything.
    pub fn shell(&self) -> Option<Vec<String>> {
        let shell = if self.sudo { "exec sudo -n sh" } else { "exec sh" };
        let mut words: Vec<String> = Vec::new();
        let mut say = |all: &[&str]| words.extend(all.iter().map(|w| (*w).to_owned()));
        match &self.reach {
            Reach::Ssh { user, machine, port, config } => {
                say(&["ssh", "-T", "-o", "BatchMode=yes", "-o", "StrictHostKeyChecking=yes"]);
                say(&["-o", &format!("ConnectTimeout={CONNECT_SECONDS}"), "-o", "ServerAliveInterval=15"]);
                if let Some(path) = config {
                    say(&["-F", &path.to_string_lossy()]);
                }
                if let Some(port) = port {
                    say(&["-p", &port.to_string()]);
                }
                if let Some(user) = user {
                    say(&["-l", user.as_str()]);
                }
                say(&["--", machine.as_str(), shell]);
            }
            Reach::Container(name) => {
                say(&["docker", "exec", "-i", name.as_str()]);
                say(if self.sudo { &["sudo", "-n", "sh"] } else { &["sh"] });
            }
            Reach::Image(_) | Reach::Local => return None,
        }
        Some(words)
    }

    /// What to do where root's rights are missing there.
    pub fn rights_remedy(&self) -> String {
        let machine = match &self.reach {
            Reach::Ssh { machine, .. } => machine.as_str(),
            _ => self.name.as_str(),
        };
        format!(
            "log in there as root (ssh = \"root@{machine}\"), or let the account use sudo without a password, and say sudo = true"
        )
    }
}

/// The way that a `[[host]]` of the file says: exactly one of them.
///
/// Errors: none, or several.
pub(super) fn reach(
    name: &HostName,
    ssh: Option<&str>,
    config: Option<PathBuf>,
    container: Option<&str>,
    image: Option<&Path>,
    local: bool,
) -> Result<Reach> {
    let several = || Error::Contradiction {
        what: format!("the host {name} is not reached in exactly one way"),
        why: "each has one of ssh, container, image and local".into(),
        instead: format!("write: [[host]] name = \"{name}\" ssh = \"root@{name}\""),
    };
    let mut reach = match (ssh, container, image, local) {
        (Some(ssh), None, None, false) => Host::of_destination(ssh)?.reach,
        (None, Some(container), None, false) => Reach::Container(container.parse()?),
        (None, None, Some(image), false) => Reach::Image(image.to_owned()),
        (None, None, None, true) => Reach::Local,
        _ => return Err(several()),
    };
    match (&mut reach, config) {
        (Reach::Ssh { config, .. }, named) => *config = named,
        (_, Some(_)) => return Err(several()),
        _ => {}
    }
    Ok(reach)
}

impl Reader<'_> {
    /// A `[[host]]` of the file.
    pub(super) fn host(&self, h: &raw::Host, before: &[Host]) -> Result<Host> {
        let name: HostName = self.value(&h.name, str::parse)?;
        let at = |e| self.at(h.name.span().start, e);
        if before.iter().any(|b| b.name == name) {
            return Err(at(Error::LabelTaken {
                label: name.to_string(),
                by: "another [[host]] further up in the file".into(),
                instead: "give it another: name = \"…\"".into(),
            }));
        }
        let text = |t: &'_ Option<raw::Text>| t.as_ref().map(|t| t.get_ref().clone());
        let image = h.image.as_ref().map(|i| self.path(i));
        let config = h.ssh_config.as_ref().map(|c| self.path(c));
        let reach =
            reach(&name, text(&h.ssh).as_deref(), config, text(&h.container).as_deref(), image.as_deref(), h.local);
        Ok(Host { reach: reach.map_err(at)?, name, sudo: h.sudo })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn names_that_programs_would_take_for_something_else_are_refused() {
        for typed in [
            "ssh://-oProxyCommand=id",
            "ssh://-l@host",
            "ssh://a;b",
            "ssh://$(id)",
            "ssh://",
            "ssh://a b",
            "ssh://h:99999",
            "container:-v",
            "ssh://h?x=1",
        ] {
            assert!(Host::of_address(typed).is_err(), "{typed}");
        }
        for typed in [
            "ssh://charts",
            "ssh://lab@charts:22",
            "ssh://[fd00::2]:22?config=/x/y&sudo",
            "container:web",
            "image:/srv/x",
            "local:",
        ] {
            assert_eq!(Host::of_address(typed).unwrap().unwrap().address(), typed);
        }
        let words = Host::of_address("ssh://root@charts:2200").unwrap().unwrap().shell().unwrap().join(" ");
        assert!(
            words.ends_with("-p 2200 -l root -- charts exec sh") && words.contains("StrictHostKeyChecking=yes"),
            "{words}"
        );
    }

    proptest! {
        #[test]
        fn an_address_never_becomes_an_option(text in "\\PC{0,40}") {
            if let Ok(Some(host)) = Host::of_address(&format!("ssh://{text}")) {
                let words = host.shell().unwrap();
                let at = words.iter().position(|w| w == "--").unwrap();
                prop_assert_eq!(words.len(), at + 3);
                prop_assert!(!words[at + 1].starts_with('-'));
            }
        }
    }
}
