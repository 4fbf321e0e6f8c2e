//! etcd.

use super::act::{by_hand, look};
use super::template::Quote;
use super::{BOTH, Config, Facts, FileLocation, KnownError, Placement, Recipe, Tried, WEB};
use crate::finding::Code;

pub(super) const RECIPE: Recipe = Recipe {
    id: "etcd",
    also: &[],
    title: "etcd 3.4 and later, for its clients",
    facts: Facts {
        port: 2379,
        // Its own JSON gateway is a client of it, with the same certificate.
        purposes: BOTH,
        owner: "etcd",
        place: FileLocation::Own("/etc/etcd/tls/{label}"),
        passphrase: "not possible: nobody could type it; its file is 0600",
        ..WEB
    },
    config: Config {
        path: "/etc/default/etcd",
        place: Placement::AtEnd,
        quote: Quote::Word,
        text: r"ETCD_CERT_FILE={certificate}
ETCD_KEY_FILE={key}
!bound ETCD_LISTEN_CLIENT_URLS=https://0.0.0.0:{port}
?bound !both ETCD_LISTEN_CLIENT_URLS=https://{goaddress}:{port}
?both ETCD_LISTEN_CLIENT_URLS=https://{goaddress}:{port},https://[::1]:{port}
ETCD_ADVERTISE_CLIENT_URLS=https://{host}:{port}
?clients ETCD_CLIENT_CERT_AUTH=true
?clients ETCD_TRUSTED_CA_FILE={clients}
",
    },
    steps: &[
        look("of two lines with one setting the last one counts", "grep -n ^ETCD_ /etc/default/etcd"),
        by_hand(
            "?clients its JSON gateway shows etcd its own certificate: it works only if that is of the same authority",
            "?clients tamga issue {first} --purpose server --purpose client --issuer {clients_label}",
        ),
        by_hand(
            "programs connect with the root, and by a name of the certificate",
            "etcdctl --endpoints https://{host}:{port} --cacert {root} endpoint health",
        ),
    ],
    unit: "etcd",
    check: "",
    start: "{sudo}systemctl restart etcd",
    reload: "",
    notices: false,
    proof: ("journalctl -u etcd", "serving client requests on"),
    faults: &[
        KnownError {
            text: "C | etcdmain: tls: private key does not match public key",
            code: Some(Code::KeyMismatch),
            why: "key and certificate do not match; it does not start",
            remedy: "tamga match DIR shows which key matches which certificate",
        },
        KnownError {
            text: "C | etcdmain: open … permission denied",
            code: Some(Code::KeyUnreadableByService),
            why: "the account etcd may not read the key",
            remedy: "tamga check DIR --account etcd names the obstacle",
        },
        KnownError {
            text: "remote error: tls: bad certificate",
            code: Some(Code::IssuerUnknown),
            why: "a client does not trust the root, or etcd does not accept the client's certificate",
            remedy: "give the client the root: --cacert root.pem",
        },
    ],
    tried: Tried::Run("etcd 3.4"),
};
