//! Where passphrases come from: a file, an environment variable, or a person.

use crate::env::Env;
use crate::failure::Result;
use std::path::{Path, PathBuf};
use tamga_core::error::Error;
use tamga_core::finding::Code;
use tamga_core::vocabulary::secret::Passphrase;
use tamga_core::vocabulary::text::Shown;
use zeroize::Zeroizing;

/// Lower bound on the characters of a passphrase that protects an authority's key.
const SHORTEST: usize = 12;

/// Opens a secret that exists.
#[derive(Clone, Debug, Default)]
pub struct Secret {
    /// The file whose first line is the passphrase.
    pub file: Option<PathBuf>,
    /// The environment variable that holds it.
    pub variable: Option<String>,
}

/// Protects a new secret.
#[derive(Clone, Debug, Default)]
pub struct NewSecret {
    /// Encrypt it even if no passphrase is named: one is asked for.
    pub encrypt: bool,
    /// The file whose first line is the passphrase.
    pub file: Option<PathBuf>,
    /// The environment variable that holds it.
    pub variable: Option<String>,
}

/// Protects a new secret of an authority.
#[derive(Clone, Debug, Default)]
pub struct AuthoritySecret {
    /// Where the passphrase comes from.
    pub new: NewSecret,
    /// True if one of fewer than 12 characters was accepted.
    pub accept_weak: bool,
}

impl Secret {
    /// True if the caller said where the passphrase is.
    pub fn is_named(&self) -> bool {
        self.file.is_some() || self.variable.is_some()
    }

    /// The passphrase that was named; None if none was.
    ///
    /// Errors: the file or variable cannot be read.
    pub fn given(&self, env: &Env) -> Result<Option<Passphrase>> {
        match (&self.file, &self.variable) {
            (Some(file), _) => from_file(env, file).map(Some),
            (None, Some(variable)) => from_variable(env, variable).map(Some),
            (None, None) => Ok(None),
        }
    }

    /// The passphrase that was named, else asked for. `of` is what it opens.
    ///
    /// Errors: also that nobody can be asked.
    pub fn needed(&self, env: &Env, of: &str) -> Result<Passphrase> {
        if let Some(p) = self.given(env)? {
            return Ok(p);
        }
        if !env.caller.is_present() {
            return Err(Error::PassphraseNeeded { what: of.to_owned() }.into());
        }
        env.caller.passphrase(&format!("passphrase of {of}: "))
    }
}

/// A passphrase that was mistyped may be typed again this often.
const RETYPED: usize = 2;

impl Secret {
    /// Opens something with the passphrase that was named, else with one that is asked for, and returns both. `of` is what it opens.
    ///
    /// Errors: as for [`Secret::needed`]; a passphrase that is wrong, at a terminal after the third time.
    pub fn open<T>(
        &self,
        env: &Env,
        of: &str,
        open: impl Fn(&Passphrase) -> std::result::Result<T, Error>,
    ) -> Result<(T, Passphrase)> {
        let mut left = if self.is_named() { 0 } else { RETYPED };
        loop {
            let passphrase = self.needed(env, of)?;
            match open(&passphrase) {
                Err(Error::PassphraseWrong { .. }) if left > 0 => {
                    left -= 1;
                    env.caller.warn("this passphrase is wrong; try again");
                }
                opened => return Ok((opened?, passphrase)),
            }
        }
    }
}

impl NewSecret {
    /// True if the secret is to be encrypted.
    pub fn is_wanted(&self) -> bool {
        self.encrypt || self.file.is_some() || self.variable.is_some()
    }

    /// The new passphrase; None if the key stays unencrypted.
    ///
    /// Errors: as for [`NewSecret::needed`].
    pub fn wanted(&self, env: &Env, of: &str) -> Result<Option<Passphrase>> {
        if self.is_wanted() { self.needed(env, of).map(Some) } else { Ok(None) }
    }

    /// The new passphrase, asked for twice where none was named.
    ///
    /// Errors: nobody can be asked; it is empty; the two are not the same; the file or variable cannot be read.
    pub fn needed(&self, env: &Env, of: &str) -> Result<Passphrase> {
        match (&self.file, &self.variable) {
            (Some(file), _) => return from_file(env, file).and_then(some_text),
            (None, Some(variable)) => return from_variable(env, variable).and_then(some_text),
            (None, None) => {}
        }
        if !env.caller.is_present() {
            return Err(Error::Objection {
                code: "passphrase-needed",
                what: format!("a new passphrase is needed for {of}"),
                why: "there is no terminal to ask at".into(),
                instead: "give it: --new-passphrase-file PATH or --new-passphrase-env VAR".into(),
            }
            .into());
        }
        let first = some_text(env.caller.passphrase(&format!("new passphrase for {of}: "))?)?;
        if env.caller.passphrase("the same once more: ")? != first {
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

impl AuthoritySecret {
    /// The new passphrase; None if the key stays unencrypted.
    ///
    /// Errors: as for [`AuthoritySecret::needed`].
    pub fn wanted(&self, env: &Env, of: &str) -> Result<Option<Passphrase>> {
        self.new.wanted(env, of)?.map(|p| self.strong(p, of)).transpose()
    }

    /// The new passphrase, asked for twice where none was named.
    ///
    /// Errors: as for [`NewSecret::needed`]; also one of fewer than 12 characters, unless that was accepted.
    pub fn needed(&self, env: &Env, of: &str) -> Result<Passphrase> {
        self.strong(self.new.needed(env, of)?, of)
    }

    fn strong(&self, p: Passphrase, of: &str) -> Result<Passphrase> {
        let length = std::str::from_utf8(p.octets()).map_or(p.octets().len(), |text| text.chars().count());
        if length >= SHORTEST || self.accept_weak {
            return Ok(p);
        }
        let code = Code::WeakPassphrase.word();
        Err(Error::Objection {
            code,
            what: format!("the new passphrase for {of} has fewer than {SHORTEST} characters"),
            why: "a key that signs for years can be tried against every short passphrase, once its file was copied"
                .into(),
            instead: format!("take four or more random words; or accept it: --accept {code}"),
        }
        .into())
    }
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

fn from_file(env: &Env, file: &Path) -> Result<Passphrase> {
    let bytes = env.disk().read_named(file)?;
    if tamga_host::access::is_open_to_all(file) {
        let code = Code::PassphraseFileReadable.word();
        env.caller.warn(&format!("{code}: every account of this machine can read {0}; chmod 600 {0}", file.shown()));
    }
    let first: Vec<u8> = bytes.split(|b| *b == b'\n').next().unwrap_or_default().to_vec();
    Ok(Passphrase::from_line(Zeroizing::new([first.as_slice(), b"\n"].concat())))
}

fn from_variable(env: &Env, variable: &str) -> Result<Passphrase> {
    match env.caller.variable(variable) {
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
