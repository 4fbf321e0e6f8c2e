//! For which system a recipe's steps are.

use super::windows::VARIANTS;
use super::{GENERAL, Recipe};
use crate::error::{Error, Result};
use crate::vocabulary::word::Word;

/// A system on which servers run.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum System {
    /// Linux, and what is like it.
    Linux,
    /// Windows: its paths, its services, PowerShell.
    Windows,
}

impl System {
    /// The one that this program was made for.
    pub const HERE: System = if cfg!(windows) { System::Windows } else { System::Linux };

    /// Its name.
    pub fn name(self) -> &'static str {
        match self {
            System::Linux => "Linux",
            System::Windows => "Windows",
        }
    }
}

impl Word for System {
    const KIND: &'static str = "system";
    const VALUES: &'static [System] = &[System::Linux, System::Windows];

    fn word(self) -> &'static str {
        match self {
            System::Linux => "linux",
            System::Windows => "windows",
        }
    }
}

impl Recipe {
    /// The recipe of this server for a system, and the system for which its steps are written.
    /// `asked`: None for this system, or the only one that it knows.
    ///
    /// Errors: there is none for that system.
    ///
    /// ```
    /// use tamga_core::deploy::recipe::{System, find};
    ///
    /// let (nginx, system) = find("nginx")?.on(Some(System::Windows))?;
    /// assert!(nginx.config.path.starts_with("C:/") && system == System::Windows);
    /// assert!(find("iis")?.on(Some(System::Linux)).is_err());
    /// # Ok::<(), tamga_core::error::Error>(())
    /// ```
    pub fn on(&'static self, asked: Option<System>) -> Result<(&'static Recipe, System)> {
        let wanted = asked.unwrap_or(System::HERE);
        let knows = |s: System| match self.facts.system {
            Some(own) if own == s => Some(self),
            None => Some(self),
            Some(_) => VARIANTS.iter().copied().find(|v| v.id == self.id && v.facts.system == Some(s)),
        };
        match (knows(wanted), asked, self.facts.system) {
            (Some(found), ..) => Ok((found, wanted)),
            (None, None, Some(own)) => Ok((self, own)),
            _ => Err(Error::Contradiction {
                what: format!("there is no recipe for {} on {}", self.id, wanted.name()),
                why: format!("its steps are known for {} only", self.facts.system.unwrap_or(wanted).name()),
                instead: format!("tamga recipe {} LABEL says what any server wants", GENERAL.id),
            }),
        }
    }
}
