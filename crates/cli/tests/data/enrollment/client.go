// A client of an enrollment service by Go's extended library: what it is told to do it does, one line of output a step.
//
// client DIRECTORY ROOT HTTP-PORT TLS-PORT NAME…
package main

import (
	"context"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"fmt"
	"net"
	"net/http"
	"os"
	"time"

	"golang.org/x/crypto/acme"
)

func check(step string, err error) {
	if err != nil {
		fmt.Printf("%s: failed: %v\n", step, err)
		os.Exit(1)
	}
	fmt.Printf("%s: done\n", step)
}

func key() *ecdsa.PrivateKey {
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		panic(err)
	}
	return k
}

func main() {
	directory, root, httpPort, tlsPort, names := os.Args[1], os.Args[2], os.Args[3], os.Args[4], os.Args[5:]
	pool := x509.NewCertPool()
	pem, err := os.ReadFile(root)
	check("root", err)
	pool.AppendCertsFromPEM(pem)
	transport := &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool}}
	ctx, cancel := context.WithTimeout(context.Background(), 60*time.Second)
	defer cancel()
	accountKey := key()
	client := &acme.Client{Key: accountKey, DirectoryURL: directory, HTTPClient: &http.Client{Transport: transport}}
	account := &acme.Account{Contact: []string{"mailto:lab-operator@saltmarsh.test"}}
	if id := os.Getenv("KEY_ID"); id != "" {
		secret, err := hex.DecodeString(os.Getenv("KEY_HEX"))
		check("invitation", err)
		account.ExternalAccountBinding = &acme.ExternalAccountBinding{KID: id, Key: secret}
	}
	_, err = client.Register(ctx, account, acme.AcceptTOS)
	check("register", err)

	answers := map[string]string{}
	listener, err := net.Listen("tcp", "127.0.0.1:"+httpPort)
	check("listen", err)
	go http.Serve(listener, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if body, ok := answers[r.URL.Path]; ok {
			fmt.Fprint(w, body)
			return
		}
		http.NotFound(w, r)
	}))
	proofs := map[string]*tls.Certificate{}
	tlsListener, err := tls.Listen("tcp", "127.0.0.1:"+tlsPort, &tls.Config{
		NextProtos: []string{acme.ALPNProto},
		GetCertificate: func(h *tls.ClientHelloInfo) (*tls.Certificate, error) {
			if c, ok := proofs[h.ServerName]; ok {
				return c, nil
			}
			return nil, fmt.Errorf("no certificate for %s", h.ServerName)
		},
	})
	check("listen-tls", err)
	go func() {
		for {
			c, err := tlsListener.Accept()
			if err != nil {
				return
			}
			go func() { c.(*tls.Conn).Handshake(); c.Close() }()
		}
	}()

	get := func(how string, names []string) ([][]byte, *ecdsa.PrivateKey) {
		ids := []acme.AuthzID{}
		request := &x509.CertificateRequest{}
		for _, n := range names {
			if ip := net.ParseIP(n); ip != nil {
				ids = append(ids, acme.AuthzID{Type: "ip", Value: n})
				request.IPAddresses = append(request.IPAddresses, ip)
			} else {
				ids = append(ids, acme.AuthzID{Type: "dns", Value: n})
				request.DNSNames = append(request.DNSNames, n)
			}
		}
		order, err := client.AuthorizeOrder(ctx, ids)
		check("order", err)
		for _, url := range order.AuthzURLs {
			authz, err := client.GetAuthorization(ctx, url)
			check("authorization", err)
			if authz.Status == acme.StatusValid {
				continue
			}
			var chosen *acme.Challenge
			for _, c := range authz.Challenges {
				if c.Type == how {
					chosen = c
				}
			}
			if chosen == nil {
				fmt.Println("no challenge of type", how)
				os.Exit(1)
			}
			switch how {
			case "http-01":
				body, err := client.HTTP01ChallengeResponse(chosen.Token)
				check("response", err)
				answers[client.HTTP01ChallengePath(chosen.Token)] = body
			case "tls-alpn-01":
				c, err := client.TLSALPN01ChallengeCert(chosen.Token, authz.Identifier.Value)
				check("response", err)
				proofs[authz.Identifier.Value] = &c
			}
			_, err = client.Accept(ctx, chosen)
			check("accept", err)
			_, err = client.WaitAuthorization(ctx, url)
			check("wait-authorization", err)
		}
		order, err = client.WaitOrder(ctx, order.URI)
		check("wait-order", err)
		leaf := key()
		csr, err := x509.CreateCertificateRequest(rand.Reader, request, leaf)
		check("csr", err)
		chain, _, err := client.CreateOrderCert(ctx, order.FinalizeURL, csr, true)
		check("certificate", err)
		parsed, err := x509.ParseCertificate(chain[0])
		check("parse", err)
		between := x509.NewCertPool()
		for _, der := range chain[1:] {
			c, err := x509.ParseCertificate(der)
			check("parse-intermediate", err)
			between.AddCert(c)
		}
		for _, n := range names {
			_, err = parsed.Verify(x509.VerifyOptions{Roots: pool, Intermediates: between, DNSName: n})
			check("verify "+n, err)
		}
		return chain, leaf
	}

	first, firstKey := get("http-01", names)
	second, _ := get("tls-alpn-01", names[:1])
	check("revoke-by-account", client.RevokeCert(ctx, nil, second[0], acme.CRLReasonSuperseded))
	check("revoke-by-key", client.RevokeCert(ctx, crypto.Signer(firstKey), first[0], acme.CRLReasonKeyCompromise))
	if err := client.RevokeCert(ctx, nil, first[0], acme.CRLReasonUnspecified); err != nil {
		fmt.Println("revoke-again: failed:", err)
		os.Exit(1)
	}
	fmt.Println("revoke-again: done")
	check("key-change", client.AccountKeyRollover(ctx, key()))
	get("http-01", []string{"127.0.0.1"})
	check("deactivate", client.DeactivateReg(ctx))
	_, err = client.GetReg(ctx, "")
	if err == nil {
		fmt.Println("after-deactivation: the account is still there")
		os.Exit(1)
	}
	fmt.Println("after-deactivation: refused")
}
