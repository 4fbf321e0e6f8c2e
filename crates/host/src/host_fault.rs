//! Why another machine cannot be worked on.

use tamga_core::vocabulary::text::harmless;

/// Why another machine cannot be worked on.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum HostFault {
    /// Its host key is not known here: what the program said.
    KeyUnknown(String),
    /// It shows another host key than the one that is known.
    KeyChanged(String),
    /// The account is not let in.
    Denied(String),
    /// It was not reached, or the connection broke.
    Unreached(String),
    /// It did not answer in so many seconds.
    Silent(u64),
    /// The program that leads there cannot be used.
    Program(String),
}

impl HostFault {
    /// What ssh said before it ended: its exit code is 255 whatever happened.
    pub(crate) fn of_words(said: &str) -> HostFault {
        let lines: Vec<String> = said.lines().map(|l| harmless(l.trim())).filter(|l| !l.is_empty()).collect();
        let has = |part: &str| lines.iter().find(|l| l.contains(part)).cloned();
        if let Some(line) = has("IDENTIFICATION HAS CHANGED") {
            return HostFault::KeyChanged(line.trim_matches(['@', ' ']).to_owned());
        }
        if let Some(line) = has("Host key verification failed") {
            return HostFault::KeyUnknown(has("host key is known").unwrap_or(line));
        }
        if let Some(line) = has("Permission denied").or_else(|| has("a password is required")) {
            return HostFault::Denied(line);
        }
        HostFault::Unreached(lines.last().cloned().unwrap_or_else(|| "the connection ended without a word".into()))
    }

    /// The word for programs.
    pub fn code(&self) -> &'static str {
        match self {
            HostFault::KeyUnknown(_) => "host-key-unknown",
            HostFault::KeyChanged(_) => "host-key-changed",
            HostFault::Denied(_) => "host-refused",
            HostFault::Unreached(_) | HostFault::Silent(_) | HostFault::Program(_) => "host-unreached",
        }
    }

    /// Why, in one line.
    pub fn why(&self) -> String {
        match self {
            HostFault::KeyUnknown(said) => format!("its host key is not known here: {said}"),
            HostFault::KeyChanged(_) => "it shows another host key than the one that is known here".into(),
            HostFault::Denied(said) => format!("the account is not let in: {said}"),
            HostFault::Unreached(said) | HostFault::Program(said) => said.clone(),
            HostFault::Silent(seconds) => format!("it did not answer for {seconds} seconds"),
        }
    }

    /// What to do, in one line.
    pub fn remedy(&self) -> &'static str {
        match self {
            HostFault::KeyUnknown(_) => {
                "connect once with ssh by hand, compare the fingerprint with the one on the machine's own screen, and say yes"
            }
            HostFault::KeyChanged(_) => {
                "find out why before anything else: it is another machine, or it was set up again; then ssh-keygen -R HOST"
            }
            HostFault::Denied(_) => "let your ssh key in there, and see that ssh HOST true works without a question",
            HostFault::Unreached(_) | HostFault::Silent(_) => {
                "see that ssh HOST true works from here, then run the same command again"
            }
            HostFault::Program(_) => "see that the program is installed and works by itself",
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_ssh_says_is_recognized() {
        for (said, code) in [
            (
                "No ED25519 host key is known for [127.0.0.1]:2 and you have requested strict checking.\r\nHost key verification failed.\r\n",
                "host-key-unknown",
            ),
            (
                "@@@@\n@    WARNING: REMOTE HOST IDENTIFICATION HAS CHANGED!     @\n@@@\nHost key verification failed.\n",
                "host-key-changed",
            ),
            ("root@h: Permission denied (publickey).\r\n", "host-refused"),
            ("sudo: a password is required\n", "host-refused"),
            ("ssh: connect to host h port 22: Connection refused\r\n", "host-unreached"),
            ("", "host-unreached"),
        ] {
            assert_eq!(HostFault::of_words(said).code(), code, "{said}");
        }
    }
}
