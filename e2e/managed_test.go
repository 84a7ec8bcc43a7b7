package e2e

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"net"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"freshseal/standin"
	"freshseal/standin/daemon"
)

// managed is a manager that signs for its hosts, and how it is asked to.
type managed struct {
	family string
	kind   standin.Kind
	renews string // how the call that renews begins, as the manager sees it
	tells  string // what of the other calls is a moment to try
	atOnce bool   // it has renewed when the call ends: one that a broken line took along has done nothing
}

// start starts the manager, and adds the host under it.
func (m managed) start(t *testing.T, host *standin.Running, watch standin.Watch) (add func(*server)) {
	t.Helper()
	box := standin.Box{Kind: m.kind, Restart: 200 * time.Millisecond, Hosts: func(string) *standin.Running {
		return host
	}, Watch: watch}
	address, port, _ := net.SplitHostPort(host.TLSAddr)
	if m.kind == standin.HostManager {
		manager := webKind(t, box)
		at, link, _ := net.SplitHostPort(manager.TLSAddr)
		pin := sha256.Sum256(leafAt(t, manager.TLSAddr))
		return func(s *server) {
			s.okWith(manager.WebPassword, "device", "add", name, "--address", address, "--slot", "web="+port,
				"--family", m.family, "--setting", "host="+name,
				"--link-address", at, "--port", link, "--user", manager.WebUser, "--password-file", "-", "--pin",
				hex.EncodeToString(pin[:]))
		}
	}
	manager := kind(t, box)
	at, link, _ := net.SplitHostPort(manager.SSHAddr)
	return func(s *server) {
		s.okWith(manager.Password, "device", "add", name, "--address", address, "--slot", "web="+port, "--family",
			m.family, "--setting", "host="+name,
			"--link-address", at, "--port", link, "--user", manager.User, "--password-file", "-", "--pin",
			manager.HostKey())
	}
}

// The service is killed at moments of a renewal by a manager. Nothing is renewed twice by itself:
// if nobody knows whether it was done, a person looks and says so, and it goes on to the proof.
func TestARenewalByAManagerMayBeKilled(t *testing.T) {
	t.Parallel()
	for _, m := range []managed{
		{"host-under-manager", standin.MenuManager, "hostwarden renew", "hostwarden", true},
		{"host-by-manager-api", standin.HostManager, "POST /api/hosts/" + name + "/renewals", "/api/hosts/", false},
	} {
		tried := 0
		for at, what := range m.renewal(t, -1, false) {
			for _, lost := range []bool{false, true} {
				if !strings.Contains(what, m.tells) || lost && strings.HasPrefix(what, "true") || !every(at) {
					continue
				}
				tried++
				t.Run(fmt.Sprint(at, m.family, shorten(what), lost), func(t *testing.T) {
					t.Parallel()
					m.renewal(t, at, lost)
				})
			}
		}
		if tried == 0 {
			t.Errorf("%s: no moment was tried", m.family)
		}
	}
}

// renewal lets a manager renew its host, and kills the service at one moment; lost: before what
// is asked came to the manager. It returns what the manager was asked.
func (m managed) renewal(t *testing.T, at int, lost bool) []string {
	t.Helper()
	k := &killer{at: at, before: lost}
	var renewed atomic.Int32
	host := kindAt(t, standin.Box{}, "127.20.81.3", 0)
	served := leafAt(t, host.TLSAddr)
	add := m.start(t, host, func(what string, done bool) bool {
		carry := k.watch(what, done)
		if now := leafAt(t, host.TLSAddr); done && strings.HasPrefix(what, m.renews) &&
			(!m.atOnce || !bytes.Equal(now, served)) {
			renewed.Add(1)
			served = now
		}
		return carry
	})
	before := leafAt(t, host.TLSAddr)
	listen := "127.0.0.1:" + daemon.FreePort(t, "127.0.0.1")
	s := startAt(t, "serve", t.TempDir(), listen)
	s.login()
	add(s)
	k.kill = s.kill
	k.arm(true)
	s.run("", "replace", name+"/web", "--one-way")
	if at < 0 {
		s.await("r1", "sealed")
		k.arm(false)
		return k.seen
	}
	select {
	case <-s.gone:
	case <-time.After(20 * time.Second):
		t.Fatal("this moment did not come")
	}
	again := startAt(t, "serve", s.dir, listen)
	again.config = s.config
	if state := again.rests("r1", "sealed", "held"); state == "held" {
		said := "repeat"
		for i := 0; i < 30 && said == "repeat" && !lost; i++ { // whoever looks waits for the task of the manager
			time.Sleep(100 * time.Millisecond)
			if !bytes.Equal(leafAt(t, host.TLSAddr), before) {
				said = "done"
			}
		}
		again.ok("replacement", "resume", "r1", "--step", said)
		again.rests("r1", "sealed")
	}
	k.arm(false)
	if n := renewed.Load(); n != 1 || bytes.Equal(leafAt(t, host.TLSAddr), before) {
		t.Errorf("it was renewed %d times", n)
	}
	return nil
}
