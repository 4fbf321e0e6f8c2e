//! A message gateway that signs and encrypts what it exchanges with a partner.

use super::act::by_hand;
use super::template::Quote;
use super::{BOTH, Config, Facts, KnownError, Placement, RSA_ONLY, Recipe, Tried, WEB};
use crate::deploy::export::Form;
use crate::finding::Code;

pub(super) const RECIPE: Recipe = Recipe {
    id: "gateway",
    also: &["as2", "as4"],
    title: "A message gateway that signs and encrypts with a partner",
    facts: Facts {
        keys: RSA_ONLY,
        purposes: BOTH,
        form: Form::Pkcs12,
        chain: "in the key store, with intermediates; the partner gets the certificate alone",
        owner: "",
        passphrase: "typed into its console, which stores it",
        system: None,
        ..WEB
    },
    config: Config {
        path: "{label}-partner.txt",
        place: Placement::Yours("a note to send to the partner with the certificate"),
        quote: Quote::Bare,
        text: r"Certificate for signing, encryption and TLS of {first}
Host and port:        {host}:{port}
Key:                  RSA, for digitalSignature and keyEncipherment
Compare by telephone: the SHA-256 that  tamga export {label} --as fingerprint  prints
Then import:          {label}.cer as partner certificate, for signatures and for encryption
Root, for TLS:        root.pem
In time before the end: a new certificate is sent; both are valid side by side until the day that was agreed upon.
",
    },
    steps: &[
        by_hand("send this to the partner, never the key", "tamga export {label} --as der --output {label}.cer"),
        by_hand("import this in the gateway's console, as key for signing and for decryption", "{made}"),
        by_hand("check the partner's certificate before you import it", "tamga show partner.cer"),
        by_hand(
            "for gateways that support only the older key store encryption",
            "tamga export {label} --as pkcs12 --legacy --output {made} --new-passphrase-file {made_secret} --yes",
        ),
    ],
    unit: "",
    check: "",
    start: "# in its console: activate the key for both directions",
    reload: "tamga export {label} --as der --output {label}.cer --yes\n# send it, and on the agreed day activate the new key; keep the old one for decryption until then",
    notices: false,
    // RFC 4130 §7.4.3.
    proof: (
        "the receipts (MDN), after a first message in each direction",
        "Disposition: automatic-action/MDN-sent-automatically; processed",
    ),
    faults: &[
        KnownError {
            text: "decryption-failed",
            code: Some(Code::KeyMismatch),
            why: "the partner encrypted for another certificate: most often the one before the renewal",
            remedy: "tamga show LABEL and the partner's console must show the same SHA-256",
        },
        KnownError {
            text: "authentication-failed",
            code: Some(Code::KeyMismatch),
            why: "the signature was made with a key that this side does not have",
            remedy: "send the partner the new certificate: tamga export LABEL --as der",
        },
        KnownError {
            text: "Failed to decrypt the payload",
            code: Some(Code::KeyMismatch),
            why: "the partner encrypted for another certificate: most often the one before the renewal",
            remedy: "tamga show LABEL and the partner's console must show the same SHA-256",
        },
        KnownError {
            text: "Failed to verify message signature",
            code: Some(Code::KeyMismatch),
            why: "the signature was made with another key than that of the certificate that this side holds",
            remedy: "send the partner the new certificate: tamga export LABEL --as der",
        },
        KnownError {
            text: "unexpected-processing-error … certificate expired",
            code: Some(Code::Expired),
            why: "a partner still holds the old certificate",
            remedy: "send the renewed one in time: tamga list --due 60d",
        },
    ],
    tried: Tried::Run("pyas2lib 1.4: messages signed, encrypted and acknowledged in both directions"),
};
