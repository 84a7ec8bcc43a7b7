package ssh

import (
	"context"
	"crypto/rand"
	"crypto/x509/pkix"
	"errors"
	"io"
	"net"
	"sync/atomic"
	"testing"
	"time"

	"freshseal/device/links"
	"freshseal/standin"
)

// frozen carries bytes to a box until it is told to carry none, as a firewall
// does that has forgotten the connection.
type frozen struct {
	net.Conn
	now *atomic.Bool
}

func (f frozen) Write(b []byte) (int, error) {
	if f.now.Load() {
		return len(b), nil
	}
	return f.Conn.Write(b)
}

// An idle link that nobody answers on any more is found out and ended, so that
// whoever uses it next learns that it is lost instead of waiting.
func TestASilentLinkIsEnded(t *testing.T) {
	dir := t.TempDir()
	var none *standin.Authority
	certificate, key, err := none.Issue(standin.Wanted{Subject: pkix.Name{CommonName: "Brinewell appliance"},
		Ends: time.Hour}, rand.Reader, time.Now())
	if err != nil {
		t.Fatal(err)
	}
	if err := standin.Lay(dir, certificate, key); err != nil {
		t.Fatal(err)
	}
	box, err := standin.Start(standin.Box{Dir: dir, User: "keeper", Password: "correct horse", Address: "127.20.79.1"})
	if err != nil {
		t.Fatal(err)
	}
	defer box.Close()
	var stop atomic.Bool
	dial := func(ctx context.Context, network, address string) (net.Conn, error) {
		conn, err := (&net.Dialer{}).DialContext(ctx, network, address)
		return frozen{conn, &stop}, err
	}
	link, err := Open(t.Context(), dial, Target{Address: box.SSHAddr, User: "keeper", Password: "correct horse",
		HostKey: box.HostKey()})
	if err != nil {
		t.Fatal(err)
	}
	defer link.Close()
	ended := make(chan struct{})
	go func() {
		link.keepAlive(100 * time.Millisecond)
		close(ended)
	}()
	select {
	case <-ended:
		t.Fatal("a link that is answered on was ended")
	case <-time.After(500 * time.Millisecond):
	}
	if out, err := link.Exec(t.Context(), "webui test", nil); err != nil || out.Exit != 0 {
		t.Fatalf("%+v, %v", out, err)
	}
	stop.Store(true)
	select {
	case <-ended:
	case <-time.After(10 * time.Second):
		t.Fatal("a silent link stays")
	}
	if _, err := link.Exec(t.Context(), "webui test", nil); !errors.Is(err, links.ErrLost) && !errors.Is(err, io.EOF) {
		t.Errorf("what is run on it then: %v", err)
	}
}
