//! How the service is set up.

use std::collections::BTreeMap;
use std::net::{IpAddr, SocketAddr};
use tamga_core::vocabulary::permit::{Cidr, Permit};
use tamga_core::vocabulary::timestamp::Span;

/// How long an enrolled certificate is valid where nothing is asked for: some clients renew thirty days before the end whatever its life, so
/// a shorter one has them renew for ever.
pub const LIFE: Span = Span::days(90);
/// Of the profile `short`.
pub const SHORT: Span = Span::days(7);
/// The name of the usual profile.
pub const USUAL: &str = "default";
/// The name of the short one.
pub const SHORT_PROFILE: &str = "short";

/// What the service does.
#[derive(Clone, Debug)]
pub struct Settings {
    /// What every URL begins with: `https://HOST` or `https://HOST:PORT`, without a slash at its end.
    pub base: String,
    /// The host's name. CAA records name the service by it (RFC 8659).
    pub host: String,
    /// Which names it certifies, besides what its authority permits; None for all of these.
    pub allow: Option<Permit>,
    /// The life of a certificate of the usual profile.
    pub life: Span,
    /// True if an account needs an invitation.
    pub by_invitation: bool,
    /// Where control is looked for.
    pub look: Look,
}

impl Settings {
    /// The life of a profile; None if there is no such profile.
    pub fn life_of(&self, profile: Option<&str>) -> Option<Span> {
        match profile {
            None | Some(USUAL) => Some(self.life),
            Some(SHORT_PROFILE) => Some(if self.life < SHORT { self.life } else { SHORT }),
            Some(_) => None,
        }
    }
}

/// Where and how control of a name is looked for.
#[derive(Clone, Debug)]
pub struct Look {
    /// Addresses of names, as they were given.
    pub known: BTreeMap<String, Vec<IpAddr>>,
    /// The server that is asked for names and texts; None for the system's resolver.
    pub dns: Option<SocketAddr>,
    /// In which networks hosts are connected to.
    pub networks: Vec<Cidr>,
    /// The port for http-01.
    pub http_port: u16,
    /// The port for tls-alpn-01.
    pub tls_port: u16,
    /// Where the service itself listens: it never connects there.
    pub own: Vec<SocketAddr>,
}
