//! lighttpd.

use super::act::{look, run};
use super::template::Quote;
use super::{Config, Facts, FileLocation, KnownError, Placement, Recipe, Tried, WEB};
use crate::deploy::export::Form;
use crate::finding::Code;

pub(super) const RECIPE: Recipe = Recipe {
    id: "lighttpd",
    also: &["lighty"],
    title: "lighttpd 1.4.56 and later, with lighttpd-mod-openssl",
    facts: Facts {
        form: Form::CombinedPem,
        place: FileLocation::Own("/etc/lighttpd/tls"),
        passphrase: "not possible: the key must not be encrypted; its file is 0600",
        ..WEB
    },
    config: Config {
        path: "/etc/lighttpd/conf-enabled/90-{label}.conf",
        place: Placement::Whole,
        quote: Quote::Inside,
        // No check of clients: with a list of their issuers, 1.4.69 also builds the chain of its own certificate from that list, and fails.
        text: r#"server.modules += ( "mod_openssl" )
ssl.pemfile = "{store}"
ssl.openssl.ssl-conf-cmd = ( "MinProtocol" => "TLSv{minimum}" )
?bound $SERVER["socket"] == "{listen}{port}" { ssl.engine = "enable" }
?both $SERVER["socket"] == "[::1]:{port}" { ssl.engine = "enable" }
!bound $SERVER["socket"] == ":{port}" { ssl.engine = "enable" }
!bound $SERVER["socket"] == "[::]:{port}" { ssl.engine = "enable" }
?otherplain !bound $SERVER["socket"] == ":{plain}" { }
?otherplain ?bound $SERVER["socket"] == "{listen}{plain}" { }
?redirect $HTTP["scheme"] == "http" {
?redirect     url.redirect-code = 307
?redirect     $HTTP["host"] =~ "^(\[[0-9a-fA-F:]+\]|[^:]+)" {
?redirect         url.redirect = ( "" => "https://%1{at}${url.path}${qsa}" )
?redirect     } else $HTTP["host"] =~ "" {
?redirect         url.redirect = ( "" => "https://{first}{at}${url.path}${qsa}" )
?redirect     }
?redirect }
"#,
    },
    steps: &[
        run(
            "make sure that its module for TLS is installed: a package of its own",
            "test -e /usr/lib/lighttpd/mod_openssl.so",
        ),
        look(
            "find what else answers on this port",
            "{sudo}grep -rnE 'socket|ssl\\.' /etc/lighttpd/conf-enabled /etc/lighttpd/lighttpd.conf",
        ),
    ],
    unit: "lighttpd",
    check: "{sudo}lighttpd -tt -f /etc/lighttpd/lighttpd.conf",
    start: "",
    reload: "{sudo}systemctl restart lighttpd",
    notices: false,
    proof: ("/var/log/lighttpd/error.log", "server started (lighttpd/"),
    faults: &[
        KnownError {
            text: "Initialization of plugins failed. Going down",
            code: None,
            why: "a module refused its settings: the line before says which, most often the key of another certificate",
            remedy: "tamga explain with the line before it",
        },
        KnownError {
            text: "SSL:Private key does not match the certificate public key",
            code: Some(Code::KeyMismatch),
            why: "key and certificate do not match",
            remedy: "tamga match DIR shows which key matches which certificate",
        },
        KnownError {
            text: "dlopen() failed for: …mod_openssl.so",
            code: None,
            why: "the module for TLS is not installed",
            remedy: "apt-get install lighttpd-mod-openssl",
        },
        KnownError {
            text: "SSL: BIO_read_filename … Permission denied",
            code: Some(Code::KeyUnreadableByService),
            why: "at a reload it reads the key as www-data, and ends; besides, it waits for silent connections before it takes up anything",
            remedy: "systemctl restart lighttpd",
        },
    ],
    tried: Tried::Run("lighttpd 1.4.69"),
};
