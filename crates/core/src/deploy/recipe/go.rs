//! Go.

use super::template::Quote;
use super::{Config, Facts, KnownError, Placement, Recipe, Tried, WEB};
use crate::finding::Code;

pub(super) const RECIPE: Recipe = Recipe {
    id: "go",
    also: &["golang"],
    title: "Go 1.20 and later, with net/http",
    facts: Facts {
        port: 8443,
        owner: "",
        passphrase: "not possible: crypto/tls reads unencrypted keys only, so the file is 0600",
        system: None,
        ..WEB
    },
    config: Config {
        path: "main.go",
        place: Placement::Yours("in the application's directory"),
        quote: Quote::Inside,
        text: r#"package main

import (
	"crypto/tls"
?clients 	"crypto/x509"
	"fmt"
	"log"
	"net/http"
?clients 	"os"
)

func main() {
	// Read at every handshake: a renewed certificate is served without a restart.
	identity := func(*tls.ClientHelloInfo) (*tls.Certificate, error) {
		pair, err := tls.LoadX509KeyPair("{certificate}", "{key}")
		return &pair, err
	}
	if _, err := identity(nil); err != nil {
		log.Fatal(err)
	}
	http.HandleFunc("/", func(w http.ResponseWriter, _ *http.Request) { fmt.Fprintln(w, "served over HTTPS") })
	config := &tls.Config{GetCertificate: identity, MinVersion: tls.VersionTLS1{minor}}
?clients 	roots := x509.NewCertPool()
?clients 	pem, err := os.ReadFile("{clients}")
?clients 	if err != nil || !roots.AppendCertsFromPEM(pem) {
?clients 		log.Fatal("no root of the clients: ", err)
?clients 	}
?clients 	config.ClientCAs, config.ClientAuth = roots, tls.RequireAndVerifyClientCert
?redirect 	go func() {
?redirect 		log.Fatal(http.ListenAndServe("{goaddress}:{plain}", http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
?redirect 			http.Redirect(w, r, "https://{first}{at}"+r.URL.RequestURI(), http.StatusTemporaryRedirect)
?redirect 		})))
?redirect 	}()
	log.Print("https on port {port}")
	server := &http.Server{Addr: "{goaddress}:{port}", TLSConfig: config}
	log.Fatal(server.ListenAndServeTLS("", ""))
}
"#,
    },
    steps: &[],
    unit: "",
    check: "go vet main.go",
    start: "go run main.go",
    reload: "",
    notices: false,
    proof: ("what it prints", "https on port {port}"),
    faults: &[
        KnownError {
            text: "tls: private key does not match public key",
            code: Some(Code::KeyMismatch),
            why: "key and certificate do not match",
            remedy: "tamga match DIR shows which key matches which certificate",
        },
        KnownError {
            text: "tls: failed to find any PEM data in",
            code: None,
            why: "the file is empty or not PEM",
            remedy: "tamga show FILE says what it is",
        },
        KnownError {
            text: "x509: certificate signed by unknown authority",
            code: Some(Code::IssuerUnknown),
            why: "a Go client does not trust the root",
            remedy: "trust the root in the system's store, or SSL_CERT_FILE with a file that has it",
        },
        KnownError {
            text: "x509: certificate relies on legacy Common Name field",
            code: Some(Code::NamesMissing),
            why: "the name is only in the common name",
            remedy: "tamga issue NAME puts it into the subject alternative name",
        },
        KnownError {
            text: "remote error: tls: unknown certificate",
            code: Some(Code::IssuerUnknown),
            why: "a client refused the certificate: most often it does not trust the root",
            remedy: "tamga check https://HOST:PORT says which client and why",
        },
    ],
    tried: Tried::Run("Go 1.19"),
};
