// In: address, port, host, again and again. Out: a line each: "+", or "-" and what Go says, or "!" if nobody was met.
package main

import (
	"crypto/tls"
	"fmt"
	"net"
	"os"
	"strings"
	"time"
)

func main() {
	for a := os.Args[1:]; len(a) >= 3; a = a[3:] {
		fmt.Println(strings.ReplaceAll(one(a[0], a[1], a[2]), "\n", " "))
	}
}

func one(address, port, host string) string {
	c, err := net.DialTimeout("tcp", net.JoinHostPort(address, port), 15*time.Second)
	if err != nil {
		return "!" + err.Error()
	}
	defer c.Close()
	c.SetDeadline(time.Now().Add(15 * time.Second))
	t := tls.Client(c, &tls.Config{ServerName: host})
	if err := t.Handshake(); err != nil {
		return "-" + err.Error()
	}
	// A server of TLS 1.3 says only now that it wants a client certificate; what else it says is not about certificates.
	t.SetDeadline(time.Now().Add(2 * time.Second))
	t.Write([]byte("GET / HTTP/1.1\r\nHost: " + host + "\r\nConnection: close\r\n\r\n"))
	if _, err := t.Read(make([]byte, 1)); err != nil && strings.Contains(err.Error(), "remote error: tls") {
		return "-" + err.Error()
	}
	return "+"
}
