//! InfluxDB 1.

use super::act::{by_hand, look};
use super::template::Quote;
use super::{Config, Facts, FileLocation, KnownError, Placement, Recipe, Tried, WEB};
use crate::finding::Code;

pub(super) const RECIPE: Recipe = Recipe {
    id: "influxdb",
    also: &[],
    title: "InfluxDB 1, a database of measurements",
    facts: Facts {
        port: 8086,
        owner: "influxdb",
        place: FileLocation::Own("/etc/influxdb/tls/{label}"),
        passphrase: "not possible: nobody could type it; its file is 0600",
        ..WEB
    },
    config: Config {
        path: "/etc/default/influxdb",
        place: Placement::AtEnd,
        quote: Quote::Word,
        text: r"INFLUXDB_HTTP_HTTPS_ENABLED=true
INFLUXDB_HTTP_HTTPS_CERTIFICATE={certificate}
INFLUXDB_HTTP_HTTPS_PRIVATE_KEY={key}
?otherport INFLUXDB_HTTP_BIND_ADDRESS={goaddress}:{port}
",
    },
    steps: &[
        look(
            "its variables take precedence over section http of its file",
            "{sudo}grep -n https /etc/influxdb/influxdb.conf",
        ),
        by_hand(
            "programs connect by https, with the root and a name of the certificate",
            "curl --cacert {root} https://{host}:{port}/ping",
        ),
    ],
    unit: "influxdb",
    check: "",
    start: "",
    reload: "{sudo}systemctl restart influxdb",
    notices: false,
    proof: ("journalctl -u influxdb", "Listening on HTTP … https=true"),
    faults: &[
        KnownError {
            text: "run: open server: open service: tls: private key does not match public key",
            code: Some(Code::KeyMismatch),
            why: "key and certificate do not match; it does not start",
            remedy: "tamga match DIR shows which key matches which certificate",
        },
        KnownError {
            text: "run: open server: open service: open … permission denied",
            code: Some(Code::KeyUnreadableByService),
            why: "the account influxdb may not read the key",
            remedy: "tamga check DIR --account influxdb names the obstacle",
        },
    ],
    tried: Tried::Run("InfluxDB 1.6"),
};
