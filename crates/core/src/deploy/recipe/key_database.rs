//! Key databases, as mainframes and their gateways have them: each certificate by its label.

use super::act::by_hand;
use super::template::Quote;
use super::{BOTH, Config, Facts, KnownError, Placement, RSA_ONLY, Recipe, Tried, WEB};
use crate::deploy::export::Form;
use crate::finding::Code;

pub(super) const RECIPE: Recipe = Recipe {
    id: "key-database",
    also: &["mainframe", "keyring"],
    title: "A key database of a mainframe: certificates and roots by label",
    facts: Facts {
        port: 992,
        scheme: "",
        keys: RSA_ONLY,
        purposes: BOTH,
        form: Form::Pkcs12,
        chain: "the leaf and its key under one label; intermediates and the root under labels of their own",
        owner: "",
        passphrase: "typed at the import; then the database's own, in its stash file",
        system: None,
        ..WEB
    },
    config: Config {
        path: "{label}-key-database.txt",
        place: Placement::Yours("the labels, for the database and for what is configured by them"),
        quote: Quote::Bare,
        text: r"Before it is made: the form of the database cannot be changed later.
   FIPS form     takes {label}.p12 as Tamga makes it (AES-256, HMAC with SHA-256)
   legacy form   may take triple DES and SHA-1 alone: the export with --legacy
Transfer
   {label}.p12   binary: a transfer as text breaks it
   root.pem      as text, with its line ends and in the machine's own character set; or in DER, binary
Labels
   {label}-root     root.pem, as a trusted authority: first, or the import of the others is refused
   {label}          {label}.p12, the server's certificate and key
   {label}-client   the client's certificate and key, where this side connects to others
?clients    {clients_label}           the root of the clients that may connect: {clients}
Configuration
   it names a label for each direction: as server {label}, as client {label}-client
   a database has one default label: who names none gets that one, which is the wrong certificate
   client authentication is a setting of its own; it trusts every root of the database, so keep public ones out of it
",
    },
    steps: &[
        by_hand(
            "a certificate for the other direction, under a label of its own",
            "tamga issue {first} --purpose client --label {label}-client --key-algorithm rsa3072\ntamga export {label}-client --as pkcs12",
        ),
        by_hand(
            "the root in DER, for a binary transfer",
            "tamga export {root_made} --as der --output {label}-root.der",
        ),
        by_hand(
            "for a database of the legacy form",
            "tamga export {label} --as pkcs12 --legacy --output {made} --new-passphrase-file {made_secret} --yes",
        ),
    ],
    unit: "",
    check: "",
    start: "",
    reload: "# import it under the same label, then restart what names it",
    notices: false,
    proof: ("the list of the database", "label {label}, status trusted, has a private key"),
    faults: &[
        KnownError {
            text: "The certificate is not valid or the password is incorrect",
            code: None,
            why: "the passphrase is wrong, the file was transferred as text, or the database knows only the older encryption",
            remedy: "transfer it binary; for a database of the legacy form: tamga export LABEL --as pkcs12 --legacy",
        },
        KnownError {
            text: "Issuer certificate not found",
            code: Some(Code::IssuerUnknown),
            why: "the root, or an intermediate, is not in the database, or not marked as trusted",
            remedy: "import root.pem first, as a trusted authority",
        },
        KnownError {
            text: "Key label not found",
            code: None,
            why: "the configuration names a label that the database does not have: letters count as they are",
            remedy: "compare the label with the list of the database",
        },
    ],
    tried: Tried::Form("the note was written and read; its PKCS#12 files are read by other programs in tests"),
};
