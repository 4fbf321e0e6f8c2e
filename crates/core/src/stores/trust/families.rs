//! Families of systems whose store is an anchor directory and one command: what differs is paths.

use crate::plan::ports::Files;
use crate::plan::ports::Look;
use std::path::Path;

/// One family.
#[derive(Debug)]
pub struct Family {
    /// Its name.
    pub name: &'static str,
    /// Where anchors go.
    pub anchors: &'static str,
    /// The ending that they must have.
    pub ending: &'static str,
    /// The command that takes them up.
    pub command: &'static str,
    /// Its arguments.
    pub arguments: &'static [&'static str],
    /// The bundle that it makes.
    pub bundle: &'static str,
}

/// Those that are not like Debian, distinguished by their anchor directory and command together.
pub const ALL: [Family; 4] = [
    Family {
        name: "Fedora, RHEL, CentOS, Amazon Linux",
        anchors: "/etc/pki/ca-trust/source/anchors",
        ending: "pem",
        command: "update-ca-trust",
        arguments: &["extract"],
        bundle: "/etc/pki/ca-trust/extracted/pem/tls-ca-bundle.pem",
    },
    Family {
        name: "openSUSE, SLES",
        anchors: "/etc/pki/trust/anchors",
        ending: "pem",
        command: "update-ca-certificates",
        arguments: &[],
        bundle: "/var/lib/ca-certificates/ca-bundle.pem",
    },
    Family {
        name: "Arch Linux",
        anchors: "/etc/ca-certificates/trust-source/anchors",
        ending: "crt",
        command: "update-ca-trust",
        arguments: &[],
        bundle: "/etc/ca-certificates/extracted/tls-ca-bundle.pem",
    },
    // Alpine, Gentoo and Void have Debian's paths; theirs is a program without hooks.
    Family {
        name: "Alpine, Gentoo, Void",
        anchors: "/usr/local/share/ca-certificates",
        ending: "crt",
        command: "update-ca-certificates",
        arguments: &[],
        bundle: "/etc/ssl/certs/ca-certificates.crt",
    },
];

/// The family of this system; None for Debian's, whose traps have a file of their own.
pub fn of(look: &dyn Look) -> Option<&'static Family> {
    let like_debian =
        look.exists(Path::new("/etc/ca-certificates/update.d")) || look.exists(Path::new("/etc/debian_version"));
    let other = |f: &&Family| look.exists(Path::new(f.anchors)) && look.program(f.command).is_some();
    let mut found = ALL.iter().take(3).find(other);
    let small = ["/etc/alpine-release", "/etc/gentoo-release", "/etc/void-release"];
    if found.is_none() && !like_debian && small.iter().any(|f| look.exists(Path::new(f))) {
        found = Some(&ALL[3]);
    }
    found
}

/// True where the system's files are made from a declaration, and a change by hand would be lost.
pub fn is_declared(look: &dyn Files) -> bool {
    ["/etc/NIXOS", "/run/current-system/configuration-name", "/etc/guix"].iter().any(|f| look.exists(Path::new(f)))
}
