//! MongoDB.

use super::act::{look, run};
use super::template::Quote;
use super::{BOTH, COMMON, Config, Facts, FileLocation, KnownError, Placement, Recipe, Tried, WEB};
use crate::deploy::export::Form;
use crate::finding::Code;

pub(super) const RECIPE: Recipe = Recipe {
    id: "mongodb",
    also: &["mongo", "mongod"],
    title: "MongoDB 5 and later, alone or as a member of a replica set",
    facts: Facts {
        port: 27017,
        scheme: "",
        keys: COMMON,
        purposes: BOTH,
        form: Form::CombinedPem,
        owner: "mongodb",
        mode: 0o600,
        place: FileLocation::Own("/etc/mongodb-tls"),
        passphrase: "plain text in mongod.conf (certificateKeyFilePassword): better an unencrypted key in a 0600 file",
        ..WEB
    },
    config: Config {
        path: "/etc/mongod.conf",
        place: Placement::Within("section net"),
        quote: Quote::Inside,
        text: r#"net:
  port: {port}
!bound   bindIp: "::,0.0.0.0"
?bound   bindIp: "{addresses_comma}"
?v6   ipv6: true
  tls:
    mode: requireTLS
    certificateKeyFile: "{store}"
!clients     CAFile: "{root_own}"
?clients     CAFile: "{clients}"
!clients     allowConnectionsWithoutCertificates: true
?only13     disabledProtocols: "TLS1_0,TLS1_1,TLS1_2"
!only13     disabledProtocols: "TLS1_0,TLS1_1"
"#,
    },
    steps: &[
        run(
            "install the root beside it: members and mongod itself verify with it",
            "{sudo}install -m 0644 {folder}/root.pem {root_own}",
        ),
        look(
            "members of a replica set are clients of each other: the certificate needs both purposes",
            "tamga show {label}",
        ),
    ],
    unit: "",
    check: "",
    start: "{sudo}systemctl restart mongod",
    reload: "?clients {sudo}systemctl restart mongod\n!clients mongosh --tls --tlsCAFile {root_own} --host {host} --port {port} --eval 'db.adminCommand({ rotateCertificates: 1 })'",
    notices: false,
    proof: (
        "/var/log/mongodb/mongod.log",
        "\"msg\":\"Waiting for connections\",\"attr\":{\"port\":{port},\"ssl\":\"on\"}",
    ),
    faults: &[
        KnownError {
            text: "cannot read certificate file",
            code: Some(Code::KeyUnreadableByService),
            why: "the account mongodb cannot read it, or it is not there",
            remedy: "tamga check DIR --account mongodb names the obstacle",
        },
        KnownError {
            text: "Failed to initialize OpenSSL … key values mismatch",
            code: Some(Code::KeyMismatch),
            why: "key and certificate in the file do not match",
            remedy: "export it again: tamga export LABEL --as combined-pem",
        },
        KnownError {
            text: "The server certificate does not match the remote host name",
            code: Some(Code::NameNotCovered),
            why: "members find each other by the names of the replica set: each must be in the certificate",
            remedy: "tamga renew LABEL --add NAME",
        },
        KnownError {
            text: "unsupported certificate purpose",
            code: Some(Code::PurposeMissing),
            why: "members need a certificate for clients too",
            remedy: "tamga issue NAME --for mongodb",
        },
    ],
    tried: Tried::Form("the section was read by a YAML parser"),
};
