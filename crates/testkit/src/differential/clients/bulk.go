// Go. In: lines `number TAB host TAB address TAB port TAB directory of PEM files`. Out: `number TAB + | -words | !words`.
package main

import (
	"bufio"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"time"
)

func main() {
	file, err := os.Open(os.Args[1])
	if err != nil {
		panic(err)
	}
	lines := bufio.NewScanner(file)
	for lines.Scan() {
		p := strings.Split(lines.Text(), "\t")
		fmt.Printf("%s\t%s\n", p[0], strings.Join(strings.Fields(one(p[1], p[2], p[3], p[4])), " "))
	}
}

func one(host, address, port, roots string) (said string) {
	// A panic would end the program; here it is the answer.
	defer func() {
		if e := recover(); e != nil {
			said = "-panic: " + fmt.Sprint(e)
		}
	}()
	pool := x509.NewCertPool()
	names, _ := filepath.Glob(roots + "/*.pem")
	for _, name := range names {
		pem, _ := os.ReadFile(name)
		pool.AppendCertsFromPEM(pem)
	}
	c, err := net.DialTimeout("tcp", net.JoinHostPort(address, port), 15*time.Second)
	if err != nil {
		return "!" + err.Error()
	}
	defer c.Close()
	c.SetDeadline(time.Now().Add(15 * time.Second))
	t := tls.Client(c, &tls.Config{ServerName: host, RootCAs: pool})
	if err := t.Handshake(); err != nil {
		return "-" + err.Error()
	}
	t.Write([]byte("GET / HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\n"))
	if n, err := t.Read(make([]byte, 4096)); n == 0 && err != nil {
		return "-" + err.Error()
	}
	return "+"
}
