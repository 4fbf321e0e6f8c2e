//! Asking a person: yes or no, and secrets without an echo. Nothing is asked where nobody can answer.

use crate::args::{AuthoritySecretArgs, NewSecretArgs, SecretArgs};
use crate::exit::Result;
use crate::session::Session;
use crate::words::human;
use std::io::IsTerminal;
use std::path::Path;
use tamga_core::error::{Error, Kind, Told};
use tamga_core::finding::Code;
use tamga_core::secret::Passphrase;
use tamga_core::text::Shown;
use zeroize::Zeroizing;

/// True if there is somebody to ask.
pub(crate) fn somebody() -> bool {
    std::io::stdin().is_terminal() && std::io::stderr().is_terminal()
}

/// A question that nobody could be asked.
#[derive(Debug)]
struct Unanswered {
    what: String,
    option: &'static str,
}

impl std::fmt::Display for Unanswered {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&self.what)
    }
}

impl std::error::Error for Unanswered {}

impl Told for Unanswered {
    fn kind(&self) -> Kind {
        Kind::Refused
    }
    fn code(&self) -> &'static str {
        "passphrase-needed"
    }
    fn what(&self) -> String {
        self.what.clone()
    }
    fn why(&self) -> String {
        "there is no terminal to ask at".into()
    }
    fn remedy(&self) -> String {
        format!("give it: {}", self.option)
    }
}

/// Yes by `--yes`, or asked at a terminal; None where nobody can be asked.
pub(crate) fn confirm(session: &Session, question: &str) -> Option<bool> {
    if session.common.yes {
        return Some(true);
    }
    if !somebody() {
        return None;
    }
    human::ask(&format!("{question} [y/N] "));
    let mut line = String::new();
    std::io::stdin().read_line(&mut line).ok()?;
    Some(matches!(line.trim(), "y" | "yes"))
}

impl SecretArgs {
    /// What the options say; None without any.
    pub(crate) fn given(&self) -> Result<Option<Passphrase>> {
        match (&self.passphrase_file, &self.passphrase_env) {
            (Some(file), _) => from_file(file).map(Some),
            (None, Some(variable)) => from_variable(variable).map(Some),
            (None, None) => Ok(None),
        }
    }

    /// What the options say, else asked for.
    ///
    /// Errors: nobody can be asked.
    pub(crate) fn needed(&self, of: &str) -> Result<Passphrase> {
        if let Some(p) = self.given()? {
            return Ok(p);
        }
        if !somebody() {
            return Err(Error::PassphraseNeeded { what: of.to_owned() }.into());
        }
        hidden(&format!("passphrase of {of}: "))
    }
}

impl NewSecretArgs {
    /// The new passphrase; None if the key stays open.
    pub(crate) fn wanted(&self, of: &str) -> Result<Option<Passphrase>> {
        let named = self.new_passphrase_file.is_some() || self.new_passphrase_env.is_some();
        if named || self.encrypt_key { self.needed(of).map(Some) } else { Ok(None) }
    }

    /// The new passphrase, asked for twice where no option says it.
    pub(crate) fn needed(&self, of: &str) -> Result<Passphrase> {
        match (&self.new_passphrase_file, &self.new_passphrase_env) {
            (Some(file), _) => return from_file(file).and_then(some_text),
            (None, Some(variable)) => return from_variable(variable).and_then(some_text),
            (None, None) => {}
        }
        if !somebody() {
            return Err(Unanswered {
                what: format!("a new passphrase is needed for {of}"),
                option: "--new-passphrase-file PATH or --new-passphrase-env VAR",
            }
            .into());
        }
        let first = some_text(hidden(&format!("new passphrase for {of}: "))?)?;
        if hidden("the same once more: ")? != first {
            return Err(Error::Objection {
                code: "passphrase-refused",
                what: "the two passphrases are not the same".into(),
                why: "one of them was mistyped".into(),
                instead: "run the command again".into(),
            }
            .into());
        }
        Ok(first)
    }
}

/// Characters of a passphrase that protects an authority's key, at least.
const SHORTEST: usize = 12;

impl AuthoritySecretArgs {
    /// The new passphrase; None if the key stays open.
    ///
    /// Errors: also one of fewer than 12 characters, unless that was accepted.
    pub(crate) fn wanted(&self, of: &str) -> Result<Option<Passphrase>> {
        self.new.wanted(of)?.map(|p| strong(p, of, &self.accept)).transpose()
    }

    /// The new passphrase, asked for twice where no option says it.
    ///
    /// Errors: also one of fewer than 12 characters, unless that was accepted.
    pub(crate) fn needed(&self, of: &str) -> Result<Passphrase> {
        strong(self.new.needed(of)?, of, &self.accept)
    }
}

/// Refuses a passphrase that is too short for the key of an authority.
pub(crate) fn strong(p: Passphrase, of: &str, accept: &[String]) -> Result<Passphrase> {
    let length = std::str::from_utf8(p.octets()).map_or(p.octets().len(), |text| text.chars().count());
    let code = Code::WeakPassphrase.word();
    if length >= SHORTEST || accept.iter().any(|a| a == code) {
        return Ok(p);
    }
    Err(Error::Objection {
        code,
        what: format!("the new passphrase for {of} has fewer than {SHORTEST} characters"),
        why: "a key that signs for years can be tried against every short passphrase, once its file was copied".into(),
        instead: format!("take four or more random words; or accept it: --accept {code}"),
    }
    .into())
}

fn some_text(p: Passphrase) -> Result<Passphrase> {
    if p.is_empty() {
        return Err(Error::Objection {
            code: "passphrase-refused",
            what: "the new passphrase is empty".into(),
            why: "an empty passphrase protects nothing".into(),
            instead: "give some text, or leave the option away".into(),
        }
        .into());
    }
    Ok(p)
}

fn from_file(file: &Path) -> Result<Passphrase> {
    let bytes = tamga_host::fs::read_named(file)?;
    if tamga_host::access::is_open_to_all(file) {
        let code = Code::PassphraseFileReadable.word();
        human::warn(&format!("{code}: every account of this machine can read {0}; chmod 600 {0}", file.shown()));
    }
    let first: Vec<u8> = bytes.split(|b| *b == b'\n').next().unwrap_or_default().to_vec();
    Ok(Passphrase::from_line(Zeroizing::new([first.as_slice(), b"\n"].concat())))
}

fn from_variable(variable: &str) -> Result<Passphrase> {
    match crate::variables::value(variable) {
        Some(value) => Ok(Passphrase::new(value)),
        None => Err(Error::Objection {
            code: "passphrase-refused",
            what: format!("the variable {variable} is not set"),
            why: "it was named as the place of a passphrase".into(),
            instead: "set it for this command, or name another".into(),
        }
        .into()),
    }
}

fn hidden(question: &str) -> Result<Passphrase> {
    let typed = rpassword::prompt_password(question).map_err(|source| tamga_host::error::Error::File {
        doing: "reading a passphrase from",
        path: "the terminal".into(),
        source,
    })?;
    let typed = Zeroizing::new(typed.into_bytes());
    tamga_host::memory::keep_in_memory(&typed);
    Ok(Passphrase::new(typed))
}
