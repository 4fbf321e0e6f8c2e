//! The kinds of keys that Tamga makes.

crate::words! {
    /// The kinds of keys that Tamga makes.
    pub enum KeyAlgorithm: "key algorithm" {
        /// ECDSA on P-256 with SHA-256: taken by every client.
        P256 = "p256",
        /// ECDSA on P-384 with SHA-384.
        P384 = "p384",
        /// ECDSA on P-521 with SHA-512: Chromium refuses it for servers.
        P521 = "p521",
        /// Ed25519: no browser takes it for servers.
        Ed25519 = "ed25519",
        /// RSA of 2048 bits with SHA-256.
        Rsa2048 = "rsa2048",
        /// RSA of 3072 bits with SHA-256.
        Rsa3072 = "rsa3072",
        /// RSA of 4096 bits with SHA-256.
        Rsa4096 = "rsa4096",
    }
}

impl KeyAlgorithm {
    /// How many bits an RSA key of this kind has; None for the others.
    pub fn rsa_bits(self) -> Option<usize> {
        match self {
            Self::Rsa2048 => Some(2048),
            Self::Rsa3072 => Some(3072),
            Self::Rsa4096 => Some(4096),
            _ => None,
        }
    }
}
