package e2e

import (
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"strings"
	"sync/atomic"
	"testing"

	"freshseal/standin"
)

// socks is a SOCKS5 proxy (RFC 1928) without sign-in that counts what it opens.
func socks(t *testing.T) (port string, opened *atomic.Int32) {
	t.Helper()
	l, err := net.Listen("tcp", "127.20.80.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	opened = &atomic.Int32{}
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				serveSocks(conn, opened)
			}()
		}
	}()
	_, port, _ = net.SplitHostPort(l.Addr().String())
	return port, opened
}

func serveSocks(conn net.Conn, opened *atomic.Int32) {
	hello := make([]byte, 2)
	if _, err := io.ReadFull(conn, hello); err != nil {
		return
	}
	io.CopyN(io.Discard, conn, int64(hello[1]))
	conn.Write([]byte{5, 0})
	ask := make([]byte, 10) // version, connect, 0, IPv4, address, port
	if _, err := io.ReadFull(conn, ask); err != nil || ask[3] != 1 {
		return
	}
	to, err := net.Dial("tcp", net.JoinHostPort(net.IP(ask[4:8]).String(), fmt.Sprint(binary.BigEndian.Uint16(ask[8:]))))
	if err != nil {
		conn.Write([]byte{5, 5, 0, 1, 0, 0, 0, 0, 0, 0})
		return
	}
	defer to.Close()
	opened.Add(1)
	conn.Write([]byte{5, 0, 0, 1, 0, 0, 0, 0, 0, 0})
	go io.Copy(to, conn)
	io.Copy(conn, to)
}

func TestABoxBehindAProxy(t *testing.T) {
	t.Parallel()
	port, opened := socks(t)
	box := simulated(t, standin.Box{})
	s := start(t, "serve", t.TempDir())
	s.login()
	s.ok("site", "add", "Saltmere", "--socks", "127.20.80.1", "--port", port)
	s.fails(1, "already exists", "site", "add", "Saltmere", "--socks", "127.20.80.1", "--port", port)
	s.addSimulated(name, box, "correct horse")
	s.ok("device", "edit", name, "--site", "Saltmere")
	if out := s.ok("replace", name+"/web", "--signer", "bench", "--watch"); !strings.HasSuffix(out, "r1: sealed\n") {
		t.Error(out)
	}
	if n := opened.Load(); n < 3 {
		t.Errorf("only %d connections went through the proxy", n)
	}
}
