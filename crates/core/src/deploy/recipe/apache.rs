//! Apache's HTTP server.

use super::act::{by_hand, look, run};
use super::template::Quote;
use super::{Config, Facts, KnownError, Placement, Recipe, Tried, WEB};
use crate::finding::Code;

pub(super) const RECIPE: Recipe = Recipe {
    id: "apache",
    also: &["httpd", "apache2"],
    title: "Apache HTTP server 2.4",
    facts: Facts {
        passphrase: "from a program that prints it (SSLPassPhraseDialog exec:…, for the whole server)",
        ..WEB
    },
    config: Config {
        path: "/etc/apache2/sites-available/{label}.conf",
        place: Placement::Whole,
        quote: Quote::Word,
        text: r"?newport Listen {listen}{port} https
?newport ?both Listen [::1]:{port} https
<VirtualHost {listen}{port}{also}>
    ServerName {first}
?aliases     ServerAlias {aliases}
    DocumentRoot {site}
    Protocols h2 http/1.1
    SSLEngine on
    SSLCertificateFile {certificate}
    SSLCertificateKeyFile {key}
!only13     SSLProtocol -all +TLSv1.2 +TLSv1.3
?only13     SSLProtocol -all +TLSv1.3
?clients     SSLCACertificateFile {clients}
?clients     SSLVerifyClient require
?clients     SSLVerifyDepth 3
</VirtualHost>
?newplain Listen {listen}{plain}
?newplain ?both Listen [::1]:{plain}
?redirect <VirtualHost {listen}{plain}{also_plain}>
?redirect     ServerName {first}
?aliases ?redirect     ServerAlias {aliases}
?redirect     Redirect 307 / https://{first}{at}/
?redirect </VirtualHost>
",
    },
    steps: &[
        run("enable the modules and the site", "{sudo}a2enmod ssl http2\n{sudo}a2ensite {label}"),
        look(
            "find what else answers on this port: without a matching name, the first file in alphabetical order wins",
            "{sudo}grep -rnE 'VirtualHost|ServerName|SSLCertificate' /etc/apache2/sites-enabled",
        ),
        by_hand(
            "?bound in /etc/apache2/ports.conf, which listens everywhere: nobody else needs to reach it",
            "!newport ?bound Listen {listen}{port}",
        ),
        by_hand("disable the package's sites if nobody needs them", "{sudo}a2dissite 000-default default-ssl"),
    ],
    unit: "apache2",
    check: "{sudo}apache2ctl -t",
    start: "",
    reload: "{sudo}apache2ctl -k graceful",
    notices: false,
    proof: ("/var/log/apache2/error.log", "configured -- resuming normal operations"),
    faults: &[
        KnownError {
            text: "SSLProtocol: Illegal protocol",
            code: None,
            why: "a version is written in another way than Apache does, or its OpenSSL does not have it",
            remedy: "write the line as in the recipe: SSLProtocol -all +TLSv1.2 +TLSv1.3",
        },
        KnownError {
            text: "AH02565: Certificate and private key … do not match",
            code: Some(Code::KeyMismatch),
            why: "the key does not match the first certificate in the file",
            remedy: "tamga match DIR shows which key matches which certificate",
        },
        KnownError {
            text: "AH02572: Failed to configure at least one certificate and key",
            code: None,
            why: "SSLEngine is on and no certificate is named for this host",
            remedy: "name SSLCertificateFile and SSLCertificateKeyFile inside this VirtualHost",
        },
        KnownError {
            text: "AH00020: Configuration Failed, exiting",
            code: None,
            why: "a key that does not match its certificate at a reload stops the whole server",
            remedy: "fix the pair (the line before names it), then start the server again",
        },
        KnownError {
            text: "Invalid command 'SSLEngine'",
            code: None,
            why: "the ssl module is not enabled",
            remedy: "a2enmod ssl, then restart",
        },
        KnownError {
            text: "SSLCertificateFile: file … does not exist or is empty",
            code: None,
            why: "the path is wrong, or the directory was moved",
            remedy: "tamga show LABEL says where the files are; write the recipe again",
        },
        KnownError {
            text: "mod_ssl (Pass Phrase Dialog)",
            code: Some(Code::KeyAsksPassphrase),
            why: "the key is encrypted, and nobody can type the passphrase at a restart",
            remedy: "SSLPassPhraseDialog exec:/path/to/program in ssl.conf",
        },
        KnownError {
            text: "AH00072: make_sock: could not bind to address",
            code: None,
            why: "another program holds the port, or Listen is in two files",
            remedy: "ss -ltnp and grep -rn Listen /etc/apache2",
        },
        KnownError {
            text: "You're speaking plain HTTP to an SSL-enabled server port",
            code: Some(Code::PlainHttpOnTlsPort),
            why: "somebody typed http:// with the port of HTTPS",
            remedy: "type https://, or send people there: tamga recipe apache LABEL --redirect",
        },
    ],
    tried: Tried::Run("Apache 2.4"),
};
