package api

import (
	"fmt"
	"net"
	"strings"
	"testing"
)

// An address that holds all of its connections keeps nobody else out, and gets a
// place again for each one that it gives back.
func TestAnAddressHasItsShareOfConnections(t *testing.T) {
	inner, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	l := &bounded{Listener: inner, known: func(string) bool { return false }}
	for range maxConnectionsPerAddress - 3 {
		l.enter("127.0.0.1")
	}
	defer l.Close()
	taken := make(chan net.Conn, 10)
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				close(taken)
				return
			}
			taken <- conn
		}
	}()
	dial := func(from string) net.Conn {
		t.Helper()
		d := net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(from)}}
		conn, err := d.DialContext(t.Context(), "tcp", inner.Addr().String())
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { conn.Close() })
		return conn
	}
	for range 3 {
		dial("127.0.0.1")
	}
	served := []net.Conn{<-taken, <-taken, <-taken}
	if n, err := dial("127.0.0.1").Read(make([]byte, 1)); err == nil {
		t.Errorf("the fourth is served: %d bytes", n)
	}
	dial("127.0.0.2")
	if other := <-taken; other.RemoteAddr().(*net.TCPAddr).IP.String() != "127.0.0.2" {
		t.Errorf("taken from %s", other.RemoteAddr())
	}
	for range 2 { // closing twice gives one place back
		served[0].Close()
	}
	dial("127.0.0.1")
	<-taken
	if _, err := dial("127.0.0.1").Read(make([]byte, 1)); err == nil {
		t.Error("closing twice gave two places")
	}
}

// Neither one network of IPv6, however many addresses it has, nor many networks of strangers take all places: those
// from which somebody signed in get in.
func TestNobodyIsShutOutByANetwork(t *testing.T) {
	l := &bounded{known: func(from string) bool {
		return from == "192.0.2.7" || strings.HasPrefix(from, "2001:db8:7:")
	}}
	fill := func(address func(i int) string) (let int) {
		for i := range maxConnections {
			if l.enter(address(i)) {
				let++
			}
		}
		return let
	}
	for _, network := range []struct {
		of   string
		let  int
		each func(i int) string
	}{
		{"one address of IPv4", maxConnectionsPerAddress, func(int) string { return "198.51.100.1" }},
		{"a /64", maxConnectionsPerAddress, func(i int) string { return fmt.Sprintf("2001:db8:1:1::%x", i) }},
		{"a /48", maxConnectionsPerSite, func(i int) string { return fmt.Sprintf("2001:db8:2:%x::1", i) }},
		{"all networks of strangers",
			maxConnections - roomForKnown - 2*maxConnectionsPerAddress - maxConnectionsPerSite,
			func(i int) string { return fmt.Sprintf("203.0.%d.%d", i/200, i%200) }},
	} {
		if let := fill(network.each); let != network.let {
			t.Errorf("%s has %d places, want %d", network.of, let, network.let)
		}
	}
	if l.enter("198.51.100.77") || !l.enter("192.0.2.7") || !l.enter("2001:db8:7:1::1") {
		t.Error("there is room for a stranger, or none for who is known")
	}
	for range 3 {
		l.leave("203.0.0.1") // closed: those who are known took two
	}
	if !l.enter("198.51.100.77") {
		t.Error("a place that was given back is not given again")
	}
	if fill(func(int) string { return "192.0.2.7" }) != maxConnectionsPerAddress-1 {
		t.Error("who is known has more than a share")
	}
}
