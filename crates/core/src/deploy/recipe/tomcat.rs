//! Apache Tomcat.

use super::act::{by_hand, look};
use super::template::Quote;
use super::{COMMON, Config, Facts, FileLocation, KnownError, Placement, Recipe, Tried, WEB};
use crate::deploy::export::Form;
use crate::finding::Code;

pub(super) const RECIPE: Recipe = Recipe {
    id: "tomcat",
    also: &["tomcat9", "tomcat10"],
    title: "Tomcat 9 and later",
    facts: Facts {
        port: 8443,
        keys: COMMON,
        owner: "tomcat",
        mode: 0o600,
        place: FileLocation::Own("/etc/tomcat10/tls/{label}"),
        clients: Form::Pkcs12,
        passphrase: "plain text in server.xml (certificateKeyPassword): better an unencrypted key in a 0600 file",
        ..WEB
    },
    config: Config {
        path: "/etc/tomcat10/server.xml",
        place: Placement::Within("inside <Service name=\"Catalina\">"),
        quote: Quote::Xml,
        text: r#"!bound <Connector port="{port}" protocol="org.apache.coyote.http11.Http11NioProtocol"
?bound <Connector port="{port}" address="{address}" protocol="org.apache.coyote.http11.Http11NioProtocol"
           SSLEnabled="true" scheme="https" secure="true" maxThreads="150">
  <UpgradeProtocol className="org.apache.coyote.http2.Http2Protocol"/>
!only13 !clients   <SSLHostConfig protocols="TLSv1.2+TLSv1.3">
!only13 ?clients   <SSLHostConfig protocols="TLSv1.2+TLSv1.3" certificateVerification="required" truststoreFile="{clients}" truststoreType="PKCS12" truststorePassword="changeit">
?only13 !clients   <SSLHostConfig protocols="TLSv1.3">
?only13 ?clients   <SSLHostConfig protocols="TLSv1.3" certificateVerification="required" truststoreFile="{clients}" truststoreType="PKCS12" truststorePassword="changeit">
    <Certificate certificateFile="{certificate}" certificateKeyFile="{key}"/>
  </SSLHostConfig>
</Connector>
"#,
    },
    steps: &[
        look(
            "remove an older Connector for this port: two cannot share it",
            "{sudo}grep -n 'SSLEnabled' /etc/tomcat10/server.xml",
        ),
        by_hand(
            "?redirect to redirect plain HTTP to HTTPS (302), put this into web.xml, and redirectPort=\"{port}\" into the plain Connector",
            "?redirect <security-constraint><web-resource-collection><web-resource-name>all</web-resource-name><url-pattern>/*</url-pattern></web-resource-collection><user-data-constraint><transport-guarantee>CONFIDENTIAL</transport-guarantee></user-data-constraint></security-constraint>",
        ),
    ],
    unit: "",
    check: "{as_tomcat}env CATALINA_BASE=/var/lib/tomcat10 /usr/share/tomcat10/bin/configtest.sh",
    start: "",
    reload: "{sudo}systemctl restart tomcat10",
    notices: false,
    proof: (
        "journalctl -u tomcat10 (or the newest /var/log/tomcat10/catalina.*.log)",
        "Starting ProtocolHandler [\"https-jsse-nio-{port}\"]",
    ),
    faults: &[
        KnownError {
            text: "Failed to load keystore type … with path … due to",
            code: None,
            why: "the file is missing, is not a PKCS#12 store, or the passphrase is wrong",
            remedy: "use the PEM files as in the recipe, or tamga show FILE to see what the store holds",
        },
        KnownError {
            text: "No key found for alias",
            code: None,
            why: "the key has another alias in the store",
            remedy: "tamga show FILE names the aliases; tamga export LABEL --as pkcs12 --alias NAME sets one",
        },
        KnownError {
            text: "Cannot store non-PrivateKeys",
            code: None,
            why: "a trust store was named where a key store is expected",
            remedy: "tamga export LABEL --as pkcs12 with the certificate's label, not the root's",
        },
        KnownError {
            text: "java.io.FileNotFoundException … (Permission denied)",
            code: Some(Code::KeyUnreadableByService),
            why: "the account tomcat cannot read the file, or a directory above it",
            remedy: "tamga check DIR --account tomcat names the obstacle",
        },
    ],
    tried: Tried::Run("Tomcat 10.1"),
};
