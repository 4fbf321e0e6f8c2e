//! Asking a person at a terminal: yes or no, and secrets without an echo. Nothing is asked where nobody can answer.

use crate::args::{AuthoritySecretArgs, Common, Format, NewSecretArgs, SecretArgs};
use crate::exit::Result;
use crate::words::{
    human,
    progress::{Drawn, Screen},
};
use std::io::IsTerminal;
use std::sync::atomic::{AtomicBool, Ordering};
use tamga_app::interact::{Interact, Progress, Question, Task};
use tamga_app::secret::{AuthoritySecret, NewSecret, Secret};
use tamga_core::vocabulary::secret::Passphrase;
use tamga_core::vocabulary::text::Shown;
use zeroize::Zeroizing;

/// The person at the terminal, as far as there is one.
pub(crate) struct Terminal {
    yes: bool,
    quiet: bool,
    screen: Screen,
    /// True if something was asked.
    asked: AtomicBool,
}

impl Drop for Terminal {
    fn drop(&mut self) {
        if self.asked.load(Ordering::Relaxed) {
            tamga_host::platform::forget_typed_ahead();
        }
    }
}

impl Terminal {
    pub(crate) fn new(common: &Common) -> Terminal {
        let draws = !common.quiet && common.format == Format::Text;
        Terminal { yes: common.yes, quiet: common.quiet, screen: Screen::new(draws), asked: AtomicBool::new(false) }
    }
}

/// True if there is somebody to ask.
pub(crate) fn somebody() -> bool {
    std::io::stdin().is_terminal() && std::io::stderr().is_terminal()
}

impl Interact for Terminal {
    fn is_present(&self) -> bool {
        somebody()
    }

    fn confirm(&self, question: Question<'_>) -> Option<bool> {
        if self.yes {
            return Some(true);
        }
        if !somebody() {
            return None;
        }
        let text = match question {
            Question::ReplaceFile(path) => format!("{} exists: replace it", path.shown()),
            Question::Sign => "sign this".into(),
            Question::Other(text) => text.trim_end_matches('?').to_owned(),
            _ => "go on".into(),
        };
        self.asked.store(true, Ordering::Relaxed);
        let mut line = String::new();
        let read = self.screen.aside(|| {
            human::ask(&format!("{text}? [y/N] "));
            std::io::stdin().read_line(&mut line)
        });
        read.ok()?;
        Some(matches!(line.trim(), "y" | "yes"))
    }

    fn passphrase(&self, prompt: &str) -> Result<Passphrase> {
        self.asked.store(true, Ordering::Relaxed);
        let typed = self.screen.aside(|| rpassword::prompt_password(prompt)).map_err(|source| {
            tamga_host::error::Error::File { doing: "reading a passphrase from", path: "the terminal".into(), source }
        })?;
        let typed = Zeroizing::new(typed.into_bytes());
        tamga_host::memory::keep_in_memory(&typed);
        Ok(Passphrase::new(typed))
    }

    fn variable(&self, name: &str) -> Option<Zeroizing<Vec<u8>>> {
        crate::variables::value(name)
    }

    fn note(&self, line: &str) {
        if !self.quiet {
            self.screen.aside(|| human::note(line));
        }
    }

    fn warn(&self, line: &str) {
        self.screen.aside(|| human::warn(line));
    }

    fn progress(&self, task: Task<'_>) -> Box<dyn Progress> {
        Box::new(Drawn::new(&self.screen, task))
    }
}

impl From<&SecretArgs> for Secret {
    fn from(a: &SecretArgs) -> Secret {
        Secret { file: a.passphrase_file.clone(), variable: a.passphrase_env.clone() }
    }
}

impl From<SecretArgs> for Secret {
    fn from(a: SecretArgs) -> Secret {
        Secret { file: a.passphrase_file, variable: a.passphrase_env }
    }
}

impl From<NewSecretArgs> for NewSecret {
    fn from(a: NewSecretArgs) -> NewSecret {
        NewSecret { encrypt: a.encrypt_key, file: a.new_passphrase_file, variable: a.new_passphrase_env }
    }
}

impl From<AuthoritySecretArgs> for AuthoritySecret {
    fn from(a: AuthoritySecretArgs) -> AuthoritySecret {
        AuthoritySecret { new: a.new.into(), accept_weak: !a.accept.is_empty() }
    }
}
