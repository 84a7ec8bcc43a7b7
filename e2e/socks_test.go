package e2e

import (
	"net"
	"strings"
	"sync/atomic"
	"testing"

	"freshseal/standin"
)

// socks is a proxy that counts what it opens.
func socks(t *testing.T) (port string, opened *atomic.Int32) {
	t.Helper()
	opened = &atomic.Int32{}
	proxy, err := standin.StartSocks("127.20.80.1", 0, func(address string) (net.Conn, error) {
		opened.Add(1)
		return net.Dial("tcp", address)
	})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { proxy.Close() })
	_, port, _ = net.SplitHostPort(proxy.Addr)
	return port, opened
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
