//! The ids of stores, and whose they are.

use crate::vocabulary::client_id::{Client, Roots};
crate::words! {
    /// A store of the interface. One id may be two stores, of the user and of the machine.
    #[derive(PartialOrd, Ord, Hash)]
    pub enum StoreId: "store" {
        /// The system's anchors, as its own command assembles them.
        System = "system",
        /// A PEM bundle that was named.
        Bundle = "bundle",
        /// The NSS database of Chromium and its kin.
        Chromium = "chromium",
        /// A policy for Chromium and its kin.
        ChromiumPolicy = "chromium-policy",
        /// The databases of Firefox's profiles.
        Firefox = "firefox",
        /// A policy for Firefox.
        FirefoxPolicy = "firefox-policy",
        /// The key stores of JVMs.
        Java = "java",
        /// The login keychain.
        MacosUser = "macos-user",
        /// The system keychain.
        MacosMachine = "macos-machine",
        /// CurrentUser\Root.
        WindowsUser = "windows-user",
        /// LocalMachine\Root.
        WindowsMachine = "windows-machine",
    }
}

impl StoreId {
    /// How our tests prove the store: on a real system, under wine, against a stand-in of the system's command, or by types alone.
    /// README has the same table.
    pub fn proved(self) -> &'static str {
        match self {
            StoreId::System => "run here (Debian); other families against a stand-in",
            StoreId::Java => "run here, judged by a JVM",
            StoreId::ChromiumPolicy | StoreId::FirefoxPolicy => "run here, judged by the browser",
            StoreId::Bundle => "run here",
            StoreId::Chromium | StoreId::Firefox => "run here, judged by the browser",
            StoreId::MacosUser | StoreId::MacosMachine => {
                "against a stand-in; type-checked. Real macOS asks in a dialog"
            }
            StoreId::WindowsUser => "under wine; from WSL against a stand-in. Real Windows asks in a dialog",
            StoreId::WindowsMachine => "under wine; from WSL against a stand-in",
        }
    }
}

crate::words! {
    /// Whose stores are meant.
    #[derive(Default, PartialOrd, Ord)]
    pub enum InScope: "scope" {
        /// The user's own.
        #[default]
        User = "user",
        /// The machine's.
        Machine = "machine",
        /// Both.
        Both = "both",
    }
}

impl InScope {
    /// True if the store that a client usually reads is in this scope: the person's for browsers, the machine's for other programs.
    pub fn has_client(self, client: Client) -> bool {
        match client.roots() {
            Roots::Elsewhere => true,
            Roots::Person => self.has(Scope::User),
            Roots::Machine | Roots::Jvm => self.has(Scope::Machine),
            Roots::Variable => self == InScope::Both,
        }
    }

    /// True if a store of this scope is meant.
    pub fn has(self, scope: Scope) -> bool {
        match self {
            InScope::Both => true,
            InScope::User => scope == Scope::User,
            InScope::Machine => scope == Scope::Machine,
        }
    }
}

crate::words! {
    /// Whose store.
    pub enum Scope: "scope" {
        /// One user's.
        User = "user",
        /// The machine's: it requires root privileges.
        Machine = "machine",
    }
}
