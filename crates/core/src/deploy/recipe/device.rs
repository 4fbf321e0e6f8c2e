//! A device: a printer, a camera, a gauge, a management controller.

use super::act::by_hand;
use super::template::Quote;
use super::{Config, Facts, KnownError, Placement, Recipe, Tried, WEB};
use crate::deploy::export::Form;
use crate::finding::Code;
use crate::pki::key::KeyAlgorithm;

pub(super) const RECIPE: Recipe = Recipe {
    id: "device",
    also: &["printer", "camera", "controller"],
    title: "A device with a web page, by PKCS#12 or by its own request",
    facts: Facts {
        keys: &[KeyAlgorithm::Rsa2048, KeyAlgorithm::Rsa3072, KeyAlgorithm::P256],
        form: Form::Pkcs12,
        chain: "in the key store; many devices take the leaf alone, so a root without intermediates suits them",
        owner: "",
        passphrase: "typed into its page at the upload; many allow letters and digits only, at most 32",
        system: None,
        ..WEB
    },
    config: Config {
        path: "{label}-device.txt",
        place: Placement::Yours("the steps at the device"),
        quote: Quote::Bare,
        text: r"{first}: its own page, security or certificates
A  with a key store
   1  upload {label}.p12, with the passphrase from {label}.p12.passphrase
   2  choose it for HTTPS, save, restart the device
B  with the device's own request: the key never leaves it
   1  let it make a request (CSR): RSA 2048, common name {first}
   2  tamga sign request.csr {hosts}
   3  upload root.pem into its list of trusted authorities: many devices refuse a certificate whose authority they do not know
   4  upload certificate.pem among its own certificates, beside the request
   5  choose it for the web service, and for the management or platform service too, which has a choice of its own
   6  save, restart the device
Its clock must be right, or every certificate is expired or not valid yet.
What tamga check https://{first}{at} says then:
   not-the-issued-certificate   the device still shows the one that it came with: step 2 of A, step 5 of B
   issuer-unknown               it shows the right one; this machine lacks the root: tamga trust add
",
    },
    steps: &[
        by_hand(
            "for old devices that support only the older key store encryption",
            "tamga export {label} --as pkcs12 --legacy --output {made} --new-passphrase-file {made_secret} --yes",
        ),
        by_hand(
            "a device that is reached by its address needs the address in the certificate",
            "tamga renew {label} --add 192.168.7.20",
        ),
    ],
    unit: "",
    check: "",
    start: "",
    reload: "# restart the device at its page",
    notices: false,
    proof: ("its page, read over HTTPS", "the fingerprint that tamga export {label} --as fingerprint prints"),
    faults: &[
        KnownError {
            text: "invalid certificate format",
            code: None,
            why: "the device supports only the older encryption, or wants the leaf alone",
            remedy: "tamga export LABEL --as pkcs12 --legacy",
        },
        KnownError {
            text: "certificate is not yet valid",
            code: Some(Code::NotYetValid),
            why: "the device's clock is behind: after a loss of power many begin in 1970",
            remedy: "set its clock, or give it a time server",
        },
        KnownError {
            text: "private key does not match",
            code: Some(Code::KeyMismatch),
            why: "the device made a new request after the one that was signed",
            remedy: "sign its latest request: tamga sign request.csr",
        },
    ],
    tried: Tried::Form(
        "a program played the device: its request was signed, its certificate chosen and the root installed, one after the other",
    ),
};
