//! Variables by which runtimes without a writable store get a root (measured; see each row).

use std::path::{Path, PathBuf};

/// What a variable does to a runtime's own list of roots.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Effect {
    /// It adds to the list.
    Adds,
    /// It stands instead of the list: it must name a bundle with all roots.
    Replaces,
}

/// One variable.
#[derive(Clone, Copy, Debug)]
pub struct Variable {
    /// Its name.
    pub name: &'static str,
    /// What it does.
    pub effect: Effect,
    /// Who reads it.
    pub read_by: &'static str,
}

const fn row(name: &'static str, effect: Effect, read_by: &'static str) -> Variable {
    Variable { name, effect, read_by }
}

/// Every variable that is set, those that add first.
pub const ALL: [Variable; 10] = [
    row("NODE_EXTRA_CA_CERTS", Effect::Adds, "Node.js, npm, Deno, Electron: read once, at the start"),
    row("DENO_CERT", Effect::Adds, "Deno"),
    row("GIT_SSL_CAINFO", Effect::Replaces, "git; where its directory of roots is there too, it adds"),
    row("SSL_CERT_FILE", Effect::Replaces, "OpenSSL, Python's ssl, httpx, Go, rustls, Ruby, PHP streams, cargo"),
    row("REQUESTS_CA_BUNDLE", Effect::Replaces, "Python's requests, pip"),
    row("CURL_CA_BUNDLE", Effect::Replaces, "curl, Python's requests"),
    row("PIP_CERT", Effect::Replaces, "pip"),
    row("AWS_CA_BUNDLE", Effect::Replaces, "botocore and the AWS tools"),
    row(
        "PGSSLROOTCERT",
        Effect::Replaces,
        "psql and what else is made with libpq: it stands instead of ~/.postgresql/root.crt",
    ),
    row("PERL_LWP_SSL_CA_FILE", Effect::Replaces, "Perl's LWP"),
];

crate::words! {
    /// A language in which variables are set.
    pub enum Shell: "shell" {
        /// sh and its kin.
        Sh = "sh" | "bash" | "zsh" | "dash" | "ksh",
        /// fish.
        Fish = "fish",
        /// PowerShell.
        PowerShell = "powershell" | "pwsh",
        /// Windows' command prompt.
        Cmd = "cmd",
        /// Options of a container runtime.
        Container = "container",
    }
}

impl Shell {
    /// The shell that a path such as `/usr/bin/fish` names.
    pub fn known(path: &str) -> Option<Shell> {
        Path::new(path).file_name()?.to_str()?.parse().ok()
    }

    /// One variable set in its language.
    ///
    /// ```
    /// use tamga_core::stores::trust::environment::Shell;
    ///
    /// let line = |shell: &str| shell.parse::<Shell>().map(|s| s.line("ROOTS", "/it's here"));
    /// assert_eq!(line("zsh")?, r"export ROOTS='/it'\''s here'");
    /// assert_eq!(line("pwsh")?, "$env:ROOTS = '/it''s here'");
    /// # Ok::<(), tamga_core::error::Error>(())
    /// ```
    pub fn line(self, name: &str, value: &str) -> String {
        match self {
            Shell::Sh => format!("export {name}='{}'", value.replace('\'', "'\\''")),
            Shell::Fish => format!("set -gx {name} '{}'", value.replace('\\', "\\\\").replace('\'', "\\'")),
            Shell::PowerShell => format!("$env:{name} = '{}'", value.replace('\'', "''")),
            Shell::Cmd => format!("set \"{name}={value}\""),
            Shell::Container => format!("ENV {name}={value}"),
        }
    }
}

/// The files that the variables name, in this directory.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RootFiles {
    /// Our roots alone.
    pub roots: PathBuf,
    /// The system's bundle with our roots behind it.
    pub bundle: PathBuf,
}

impl RootFiles {
    /// In a directory.
    pub fn in_folder(folder: &Path) -> RootFiles {
        RootFiles { roots: folder.join("roots.pem"), bundle: folder.join("bundle.pem") }
    }

    /// What a variable names.
    pub fn of(&self, effect: Effect) -> &Path {
        match effect {
            Effect::Adds => &self.roots,
            Effect::Replaces => &self.bundle,
        }
    }
}

/// The lines that put a root into a container image of the usual families.
pub fn container(mark: &str) -> String {
    format!(
        "# Beside this file: {mark}.crt, from tamga export. Debian, Ubuntu and Alpine:\n\
         COPY {mark}.crt /usr/local/share/ca-certificates/{mark}.crt\n\
         RUN update-ca-certificates\n\
         # Node.js has its own list and needs a variable:\n\
         {}\n",
        Shell::Container.line("NODE_EXTRA_CA_CERTS", &format!("/usr/local/share/ca-certificates/{mark}.crt"))
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::str::FromStr;

    #[test]
    fn values_are_quoted_as_each_shell_wants_them() {
        let line = |s: &str| Shell::from_str(s).unwrap().line("A", "/it's here");
        assert_eq!(line("bash"), "export A='/it'\\''s here'");
        assert_eq!(line("fish"), "set -gx A '/it\\'s here'");
        assert_eq!(line("pwsh"), "$env:A = '/it''s here'");
        assert_eq!(Shell::known("/usr/bin/zsh"), Some(Shell::Sh));
        assert!(Shell::from_str("tcsh").is_err());
        assert!(ALL.iter().take(2).all(|v| v.effect == Effect::Adds));
    }
}
