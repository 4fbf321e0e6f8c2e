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
	return "+"
}
