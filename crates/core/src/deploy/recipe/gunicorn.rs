//! gunicorn, for Python's web applications.

use super::act::by_hand;
use super::template::Quote;
use super::{Config, Facts, KnownError, Placement, Recipe, Tried, WEB};
use crate::finding::Code;

pub(super) const RECIPE: Recipe = Recipe {
    id: "gunicorn",
    also: &["wsgi", "django"],
    title: "gunicorn 20 and later, for Python's web applications",
    facts: Facts { port: 8443, owner: "", passphrase: "not possible: nobody could type it; its file is 0600", ..WEB },
    config: Config {
        path: "gunicorn.conf.py",
        place: Placement::Yours("in the application's directory"),
        quote: Quote::Inside,
        text: r#"!both bind = "{listen6}{port}"
?both bind = ["{listen}{port}", "[::1]:{port}"]
certfile = "{certificate}"
keyfile = "{key}"
?clients ca_certs = "{clients}"
?clients cert_reqs = 2
# With threads: a client that is silent keeps nobody else waiting.
worker_class = "gthread"
threads = 16
"#,
    },
    steps: &[by_hand("put a web server in front of it where others than you visit it", "tamga recipe nginx {label}")],
    unit: "",
    check: "gunicorn --check-config -c gunicorn.conf.py application:app",
    start: "gunicorn -c gunicorn.conf.py application:app",
    reload: "",
    notices: false,
    proof: ("what it prints", "Listening at: … :{port}"),
    faults: &[
        KnownError {
            text: "ssl.SSLError: [X509: KEY_VALUES_MISMATCH] key values mismatch",
            code: Some(Code::KeyMismatch),
            why: "key and certificate do not match; it starts all the same, and no client gets an answer",
            remedy: "tamga match DIR shows which key matches which certificate",
        },
        KnownError {
            text: "Invalid value for certfile: …",
            code: None,
            why: "the file is not there, or the account may not read it",
            remedy: "tamga show LABEL says where the files are; write the recipe again",
        },
    ],
    tried: Tried::Run("gunicorn 20.1"),
};
