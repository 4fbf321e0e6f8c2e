//! Spring Boot, with PEM files.

use super::act::{by_hand, look};
use super::template::Quote;
use super::{COMMON, Config, Facts, KnownError, Placement, Recipe, Tried, WEB};
use crate::finding::Code;

pub(super) const RECIPE: Recipe = Recipe {
    id: "spring",
    also: &["spring-boot"],
    title: "Spring Boot 3.2 and later, with the PEM files themselves",
    facts: Facts {
        port: 8443,
        keys: COMMON,
        owner: "",
        passphrase: "private-key-password: ${NAME}, from the environment",
        ..WEB
    },
    config: Config {
        path: "config/application.yml",
        place: Placement::Yours(
            "beside the application, not in its sources: a file there is in every build and in version control",
        ),
        quote: Quote::Inside,
        text: r#"server:
  port: {port}
?bound   address: "{address}"
  ssl:
    bundle: "{label}"
?clients     client-auth: need
!only13     enabled-protocols: [TLSv1.2, TLSv1.3]
?only13     enabled-protocols: [TLSv1.3]
spring:
  ssl:
    bundle:
      pem:
        "[{label}]":
          reload-on-update: true
          keystore:
            certificate: "file:{certificate}"
            private-key: "file:{key}"
?clients           truststore:
?clients             certificate: "file:{clients}"
"#,
    },
    steps: &[
        look(
            "look for other settings: a profile's file, an argument or a variable takes precedence",
            "grep -rn 'ssl' --include='application*' .",
        ),
        by_hand(
            "before 3.1 it reads a key store instead, and its passphrase from the environment",
            "tamga recipe jvm {label}",
        ),
        by_hand(
            "?redirect plain HTTP to HTTPS: a second connector, in a class with @Configuration (org.apache.catalina, org.apache.tomcat)",
            r#"?redirect @Bean
?redirect WebServerFactoryCustomizer<TomcatServletWebServerFactory> plainToHttps() {
?redirect     return factory -> {
?redirect         Connector plain = new Connector();
?redirect         plain.setPort({plain});
?redirect ?bound         plain.setProperty("address", "{address}");
?redirect         plain.setRedirectPort({port});
?redirect         factory.addAdditionalTomcatConnectors(plain);
?redirect         factory.addContextCustomizers(context -> {
?redirect             SecurityCollection everything = new SecurityCollection();
?redirect             everything.addPattern("/*");
?redirect             SecurityConstraint onlyByTls = new SecurityConstraint();
?redirect             onlyByTls.setUserConstraint("CONFIDENTIAL");
?redirect             onlyByTls.addCollection(everything);
?redirect             context.addConstraint(onlyByTls);
?redirect         });
?redirect     };
?redirect }"#,
        ),
    ],
    unit: "",
    check: "",
    start: "java -jar application.jar",
    reload: "",
    notices: false,
    proof: ("the application's log", "Tomcat started on port {port} (https)"),
    faults: &[
        KnownError {
            text: "SSL bundle name '…' cannot be found",
            code: None,
            why: "the name under server.ssl.bundle is not one under spring.ssl.bundle.pem",
            remedy: "write the file again: tamga recipe spring LABEL --output config/application.yml",
        },
        KnownError {
            text: "Private key in keystore doesn't match any of the certificates",
            code: Some(Code::KeyMismatch),
            why: "key and certificate do not match",
            remedy: "tamga match DIR shows which key matches which certificate",
        },
    ],
    tried: Tried::Form("the file was read by a YAML parser; the redirect was run by an embedded Tomcat 10"),
};
