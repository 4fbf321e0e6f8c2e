//! Whether the root is trusted, and whether this is the certificate that was meant.

use super::{Code, Entry, Severity};

pub(super) const ROWS: &[Entry] = &[
    Entry {
        code: Code::IssuerUnknown,
        severity: Severity::Error,
        summary: "the root that signed this certificate is in no store that this client reads",
        meaning: "The client cannot trace the certificate to a root it trusts, so it warns or refuses, whatever the certificate says.",
        cause: "The root was never put into this client's store, or into another one: browsers on Linux do not read the system's store, and curl does not read the browsers'.",
        remedy: "tamga trust add",
        by_hand: "Put root.pem into the store that this client reads, and restart the client if it was running.",
    },
    Entry {
        code: Code::SelfSignedLeaf,
        severity: Severity::Error,
        summary: "the certificate signed itself and is not trusted by itself",
        meaning: "Nobody vouches for it: every client warns until exactly this certificate is trusted, and again after each renewal.",
        cause: "It was made without an authority, or it is the default certificate that a server package made when it was installed.",
        remedy: "tamga setup NAME makes an authority once; certificates under it need no further trust",
        by_hand: "Configure the server with a certificate of an authority that is trusted here, and reload it.",
    },
    Entry {
        code: Code::NotTheIssuedCertificate,
        severity: Severity::Error,
        summary: "the server shows another certificate than the one that was issued for this name",
        meaning: "The new certificate exists, but this server does not use it: what visitors see is another one.",
        cause: "The server was not reloaded, its configuration points to other files, or another virtual host with a default certificate answers.",
        remedy: "point the server to the files of the issued certificate and reload it",
        by_hand: "Compare the path in the server's configuration with the folder named here; search for a second file with the same directive.",
    },
    Entry {
        code: Code::OlderRootTrusted,
        severity: Severity::Error,
        summary: "a root of the same name but with another key is trusted instead",
        meaning: "The store holds an earlier root. It looks right in every list, but the signature does not fit its key.",
        cause: "The authority was made anew and only the old root stayed in the store.",
        remedy: "tamga trust add puts the present root in; tamga trust remove takes the older one out",
        by_hand: "Compare the SHA-256 fingerprints, not the names; remove the older root and add the present one.",
    },
    Entry {
        code: Code::VerificationOff,
        severity: Severity::Warning,
        summary: "a setting switches certificate verification off",
        meaning: "This client accepts anything, also an attacker's certificate. That it does not warn proves nothing.",
        cause: "Somebody silenced a warning once with a line such as \"insecure\" in a settings file and forgot it.",
        remedy: "remove the setting named here; with the root trusted it is not needed",
        by_hand: "Delete the line from the file, or unset the variable.",
    },
    Entry {
        code: Code::TrustOverridden,
        severity: Severity::Note,
        summary: "an environment variable redirects where this client looks for roots",
        meaning: "Whoever runs this client with other variables, for example as a service, may get another answer.",
        cause: "A shell profile, an image or a build tool set the variable.",
        remedy: "see that the file it names holds the root, or unset it",
        by_hand: "Search the shell's start files for the variable.",
    },
    Entry {
        code: Code::PredictionDiffers,
        severity: Severity::Warning,
        summary: "the client did otherwise than its rules as Tamga knows them",
        meaning: "What the client really did counts. Tamga's table of this client is wrong for its version, or a setting is not known to Tamga.",
        cause: "A new version of the client, a setting outside the places that Tamga reads, or a fault in Tamga.",
        remedy: "please report it with the output of the same command under --verbose",
        by_hand: "Trust the observed verdict.",
    },
];
