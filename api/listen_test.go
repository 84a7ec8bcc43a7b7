package api

import (
	"net"
	"testing"
)

// An address that holds all of its connections keeps nobody else out, and gets a
// place again for each one that it gives back.
func TestAnAddressHasItsShareOfConnections(t *testing.T) {
	inner, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	l := &bounded{Listener: inner, most: 3}
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
