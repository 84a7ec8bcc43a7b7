// Package daemon starts real servers for tests: each in the foreground, on an address and
// port of its own, and ended with the test.
package daemon

import (
	"bytes"
	"net"
	"os/exec"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"
)

// FreePort finds a TCP port of an address on which nobody listens.
func FreePort(t testing.TB, address string) string {
	t.Helper()
	l, err := net.Listen("tcp", address+":0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	_, port, _ := net.SplitHostPort(l.Addr().String())
	return port
}

// Start starts a server and waits until it listens on a TCP address. It is ended with the
// test or by end, with its whole process group.
func Start(t testing.TB, listens, name string, args ...string) (end func()) {
	t.Helper()
	return start(t, func(string) bool {
		conn, err := net.Dial("tcp", listens)
		if err == nil {
			conn.Close()
		}
		return err == nil
	}, name, args...)
}

// StartSaying starts a server and waits until it says that it is ready, for one that listens on no TCP
// port.
func StartSaying(t testing.TB, ready, name string, args ...string) (end func()) {
	t.Helper()
	return start(t, func(log string) bool { return strings.Contains(log, ready) }, name, args...)
}

// said is what a server has said so far.
type said struct {
	lock sync.Mutex
	text bytes.Buffer
}

func (s *said) Write(p []byte) (int, error) {
	s.lock.Lock()
	defer s.lock.Unlock()
	return s.text.Write(p)
}

func (s *said) String() string {
	s.lock.Lock()
	defer s.lock.Unlock()
	return s.text.String()
}

func start(t testing.TB, ready func(log string) bool, name string, args ...string) (end func()) {
	t.Helper()
	cmd := exec.Command(name, args...)
	var log said
	cmd.Stdout, cmd.Stderr = &log, &log
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGTERM}
	cmd.WaitDelay = 2 * time.Second
	if err := cmd.Start(); err != nil {
		t.Fatalf("starting %s: %v", name, err)
	}
	end = sync.OnceFunc(func() {
		syscall.Kill(-cmd.Process.Pid, syscall.SIGTERM)
		cmd.Wait()
	})
	t.Cleanup(func() {
		end()
		if t.Failed() {
			t.Logf("%s said:\n%s", name, log.String())
		}
	})
	for range 400 {
		if ready(log.String()) {
			return end
		}
		time.Sleep(20 * time.Millisecond)
	}
	t.Fatalf("%s is not ready:\n%s", name, log.String())
	return nil
}
