// A server that gets its certificate in the first handshake, by Go's extended library.
//
// autocert DIRECTORY ROOT PORT CACHE NAME
package main

import (
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"net/http"
	"os"

	"golang.org/x/crypto/acme"
	"golang.org/x/crypto/acme/autocert"
)

func main() {
	directory, root, port, cache, name := os.Args[1], os.Args[2], os.Args[3], os.Args[4], os.Args[5]
	pool := x509.NewCertPool()
	pem, err := os.ReadFile(root)
	if err != nil {
		panic(err)
	}
	pool.AppendCertsFromPEM(pem)
	transport := &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool}}
	manager := &autocert.Manager{
		Prompt:     autocert.AcceptTOS,
		Cache:      autocert.DirCache(cache),
		HostPolicy: autocert.HostWhitelist(name),
		Client:     &acme.Client{DirectoryURL: directory, HTTPClient: &http.Client{Transport: transport}},
	}
	server := &http.Server{
		Addr:      "127.0.0.1:" + port,
		TLSConfig: manager.TLSConfig(),
		Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			fmt.Fprint(w, "enrolled ")
		}),
	}
	panic(server.ListenAndServeTLS("", ""))
}
